//! Clips as they are written by another program: read in their own samples, with their times, and written again.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::pixel::Samples;
use evanu_media::clip::{Clip, ClipReader, ClipWriter, Codec, Yuv, probe, seconds_of_frames};
use evanu_media::{FORMATS, open_asset};
use std::path::Path;
use std::process::Command;

fn ffmpeg(arguments: &[&str], out: &Path) {
    let done = Command::new("ffmpeg").args(["-v", "error", "-y"]).args(arguments).arg(out).output().unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}

/// A test picture that moves, with a tone.
const MOVING: [&str; 9] = [
    "-f",
    "lavfi",
    "-i",
    "testsrc2=size=128x96:rate=25:duration=1.2",
    "-f",
    "lavfi",
    "-i",
    "sine=duration=1.2",
    "-shortest",
];

fn sums(path: &Path, what: &str) -> String {
    let done = Command::new("ffmpeg")
        .args(["-v", "error", "-i"])
        .arg(path)
        .args(["-map", what, "-c", "copy", "-f", "md5", "-"])
        .output()
        .unwrap();
    String::from_utf8(done.stdout).unwrap()
}

#[test]
fn what_nobody_changes_goes_through_a_matrix_of_layouts_rates_and_ranges_to_the_byte() {
    let folder = tempfile::tempdir().unwrap();
    for (k, (pixels, range, rate)) in [
        ("yuv420p", "tv", "25"),
        ("yuv420p", "pc", "30000/1001"),
        ("yuv422p10le", "tv", "50"),
        ("yuv444p", "tv", "24000/1001"),
        ("yuv444p12le", "pc", "60"),
        ("gray", "pc", "10"),
    ]
    .into_iter()
    .enumerate()
    {
        let from = folder.path().join(format!("{k}.mkv"));
        let filter = format!("fps={rate}");
        let more = [
            "-vf",
            &filter,
            "-pix_fmt",
            pixels,
            "-color_range",
            range,
            "-c:v",
            "ffv1",
            "-level",
            "3",
            "-colorspace",
            "bt709",
            "-c:a",
            "flac",
        ];
        ffmpeg(&[&MOVING[..], &more].concat(), &from);
        let info = probe(&from).unwrap();
        assert!(info.sound && info.codec == "ffv1" && info.colour.full == (range == "pc"), "{info:?}");
        let times = seconds_of_frames(&from, &info).unwrap();
        let frames: Vec<Yuv> = ClipReader::open(&from, &info).unwrap().map(Result::unwrap).collect();
        assert_eq!(frames.len(), times.len());
        let to = folder.path().join(format!("{k}-again.mkv"));
        let mut writer = ClipWriter::create(&to, &from, &info, Codec::Like).unwrap();
        frames.iter().zip(&times).for_each(|(frame, at)| writer.push(frame, *at).unwrap());
        writer.finish().unwrap();
        let again = probe(&to).unwrap();
        assert_eq!(
            (again.size, again.layout, again.colour, again.tags.clone()),
            (info.size, info.layout, info.colour, info.tags.clone()),
            "{pixels}"
        );
        let read: Vec<Yuv> = ClipReader::open(&to, &again).unwrap().map(Result::unwrap).collect();
        assert!(read == frames, "{pixels} {range} {rate}");
        let late = times
            .iter()
            .zip(seconds_of_frames(&to, &probe(&to).unwrap()).unwrap())
            .map(|(a, b)| (a - b).abs())
            .fold(0.0, f64::max);
        assert!(late < 1e-3, "{late}");
        assert_eq!(sums(&from, "0:a"), sums(&to, "0:a"), "the sound is another");
    }
}

#[test]
fn times_that_are_uneven_stay_so_and_a_clip_that_is_turned_stays_turned() {
    let folder = tempfile::tempdir().unwrap();
    let from = folder.path().join("uneven.mp4");
    let uneven = [
        "-vf",
        "settb=1/1000,setpts='(N+0.4*mod(N,3))/25/TB'",
        "-fps_mode",
        "passthrough",
        "-c:v",
        "libx264",
        "-pix_fmt",
        "yuv420p",
        "-enc_time_base",
        "1:1000",
        "-video_track_timescale",
        "90000",
        "-c:a",
        "aac",
    ];
    let flat = folder.path().join("flat.mp4");
    ffmpeg(&[&MOVING[..], &uneven].concat(), &flat);
    ffmpeg(&["-i", flat.to_str().unwrap(), "-c", "copy", "-metadata:s:v:0", "rotate=90"], &from);
    std::fs::remove_file(flat).unwrap();
    let info = probe(&from).unwrap();
    assert_eq!((info.rotation, info.scale), (270, 90_000));
    let times = seconds_of_frames(&from, &info).unwrap();
    assert!(
        times.windows(3).any(|t| ((t[2] - t[1]) - (t[1] - t[0])).abs() > 0.01),
        "they are even: {times:?}"
    );
    let to = folder.path().join("again.mp4");
    let mut writer = ClipWriter::create(&to, &from, &info, Codec::Like).unwrap();
    for (frame, at) in ClipReader::open(&from, &info).unwrap().zip(&times) {
        writer.push(&frame.unwrap(), *at).unwrap();
    }
    writer.finish().unwrap();
    assert_eq!(probe(&to).unwrap().rotation, 270);
    let again = seconds_of_frames(&to, &probe(&to).unwrap()).unwrap();
    assert_eq!(times.len(), again.len());
    assert!(times.iter().zip(again).all(|(a, b)| (a - b).abs() < 2e-5));
    assert_eq!(sums(&from, "0:a"), sums(&to, "0:a"));
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2, "something half is left");
}

#[test]
fn as_frames_of_a_set_a_clip_gives_moments_of_all_of_it_in_its_own_colours() {
    let folder = tempfile::tempdir().unwrap();
    let grey = folder.path().join("grey.mp4");
    ffmpeg(
        &[
            "-f",
            "lavfi",
            "-i",
            "color=0x804020:size=64x48:rate=50:duration=4",
            "-vf",
            "scale=out_color_matrix=bt709:out_range=tv",
            "-colorspace",
            "bt709",
            "-color_range",
            "tv",
            "-c:v",
            "libx264",
            "-qp",
            "0",
            "-pix_fmt",
            "yuv444p",
        ],
        &grey,
    );
    let frames: Vec<_> = open_asset(FORMATS, &grey).unwrap().map(Result::unwrap).collect();
    assert!((40..=48).contains(&frames.len()), "{}", frames.len());
    for frame in &frames {
        assert_eq!((frame.size.width, frame.size.height), (64, 48));
        let Samples::Eight(data) = &frame.samples else { panic!("eight bits") };
        assert!(
            data.chunks(3)
                .all(|p| p[0].abs_diff(0x80) <= 2 && p[1].abs_diff(0x40) <= 2 && p[2].abs_diff(0x20) <= 2),
            "{:?}",
            &data[..3]
        );
    }
    // The same without the other program.
    let plain = folder.path().join("plain.y4m");
    ffmpeg(&["-i", grey.to_str().unwrap(), "-pix_fmt", "yuv420p", "-t", "0.1"], &plain);
    assert_eq!(open_asset(FORMATS, &plain).unwrap().filter(Result::is_ok).count(), 5);
}

#[test]
fn what_is_no_clip_or_only_half_of_one_is_told_by_name_and_reason() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    ffmpeg(&["-f", "lavfi", "-i", "sine=duration=1", "-c:a", "aac"], &at("sound.mp4"));
    std::fs::write(at("empty.mp4"), b"").unwrap();
    std::fs::write(at("noise.mkv"), [&[0x1A, 0x45, 0xDF, 0xA3][..], &[7; 4000]].concat()).unwrap();
    // A list that names other files is none.
    std::fs::write(at("list.mp4"), "#EXTM3U\n#EXTINF:1,\nfile:///etc/passwd\n").unwrap();
    ffmpeg(
        &[&MOVING[..4], &["-c:v", "libx264", "-pix_fmt", "rgb24", "-c:v", "png"]].concat(),
        &at("rgb.mkv"),
    );
    for (name, words) in [
        ("sound.mp4", "sound only"),
        ("empty.mp4", "empty"),
        ("noise.mkv", "cannot be read as a clip"),
        ("list.mp4", "cannot be read as a clip"),
        ("rgb.mkv", "lie as rgb24"),
        ("none.mp4", "no such file"),
    ] {
        let error = probe(&at(name)).unwrap_err().to_string();
        assert!(error.contains(words) && error.contains(name), "{error}");
    }
    // Cut off: the frames before come, then what is lost is said or they end.
    ffmpeg(&[&MOVING[..4], &["-c:v", "mjpeg", "-pix_fmt", "yuvj420p"]].concat(), &at("whole.mkv"));
    let bytes = std::fs::read(at("whole.mkv")).unwrap();
    std::fs::write(at("cut.mkv"), &bytes[..bytes.len() * 6 / 10]).unwrap();
    let info = probe(&at("cut.mkv")).unwrap();
    let whole = ClipReader::open(&at("cut.mkv"), &info).unwrap().filter(Result::is_ok).count();
    assert!((10..28).contains(&whole), "{whole}");
    let unnamed =
        ClipWriter::create(&at("a.txt"), &at("whole.mkv"), &probe(&at("whole.mkv")).unwrap(), Codec::Like);
    assert!(unnamed.err().unwrap().to_string().contains("ends as no clip"));
}

#[test]
fn any_frame_is_found_by_its_number_whatever_it_takes_to_decode_it() {
    let folder = tempfile::tempdir().unwrap();
    for (name, codec) in [
        ("a.mp4", &["-c:v", "libx264", "-g", "12", "-pix_fmt", "yuv420p", "-c:a", "aac"][..]),
        ("b.webm", &["-c:v", "libvpx-vp9", "-g", "9", "-pix_fmt", "yuv420p", "-an"]),
        ("c.y4m", &["-pix_fmt", "yuv422p", "-an"]),
    ] {
        let path = folder.path().join(name);
        ffmpeg(&[&MOVING[..], codec].concat(), &path);
        let clip = Clip::open(&path).unwrap();
        let all: Vec<Yuv> = ClipReader::open(&path, &clip.info).unwrap().map(Result::unwrap).collect();
        assert_eq!(all.len(), clip.count(), "{name}");
        for k in [0, 1, 7, 11, 12, all.len() - 1] {
            assert!(clip.frame(k).unwrap() == all[k], "{name}: frame {k} is another");
            assert_eq!(clip.at(clip.second(k)), k, "{name}");
        }
        assert!(clip.frame(all.len() + 5).is_err());
    }
}

#[test]
fn an_overlay_is_opaque_where_it_is_and_clear_elsewhere() {
    let folder = tempfile::tempdir().unwrap();
    let from = folder.path().join("from.mp4");
    ffmpeg(&[&MOVING[..], &["-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "aac"]].concat(), &from);
    let clip = Clip::open(&from).unwrap();
    let (w, n) = (clip.info.size.width as usize, clip.info.size.pixels() as usize);
    let shares: Vec<u8> = (0..n).map(|p| if p % w < w / 2 { 255 } else { 0 }).collect();
    for (name, alpha) in [("o.mov", "alphaextract"), ("o.webm", "alphaextract")] {
        let to = folder.path().join(name);
        let mut writer = ClipWriter::create(&to, &from, &clip.info, Codec::Overlay).unwrap();
        for (k, frame) in ClipReader::open(&from, &clip.info).unwrap().enumerate() {
            let pair = (&frame.unwrap(), &clip.info.opacity(&shares));
            writer.push_pair(pair, clip.info.size, clip.second(k)).unwrap();
        }
        writer.finish().unwrap();
        let raw = folder.path().join(format!("{name}.raw"));
        // The decoder that knows transparency.
        let decoder: &[&str] = if name.ends_with("webm") { &["-c:v", "libvpx-vp9"] } else { &[] };
        let path = to.to_str().unwrap();
        let words =
            [decoder, &["-i", path, "-vf", alpha, "-frames:v", "1", "-pix_fmt", "gray", "-f", "rawvideo"]];
        ffmpeg(&words.concat(), &raw);
        let seen = std::fs::read(&raw).unwrap();
        assert_eq!(seen.len(), n, "{name}");
        let at = |x: usize, y: usize| seen[y * w + x];
        assert!(at(8, 8) >= 254 && at(w - 8, 8) <= 1, "{name}: {} {}", at(8, 8), at(w - 8, 8));
        let count = seconds_of_frames(&to, &probe(&to).unwrap()).unwrap().len();
        assert_eq!(count, clip.count(), "{name}");
    }
    let refused = ClipWriter::create(&folder.path().join("o.mp4"), &from, &clip.info, Codec::Overlay);
    assert!(refused.err().is_some_and(|e| e.to_string().contains("transparency")));
}

#[test]
fn pairs_are_shown_upright_one_above_the_other_with_sound() {
    let folder = tempfile::tempdir().unwrap();
    let (flat, from) = (folder.path().join("flat.mp4"), folder.path().join("from.mp4"));
    ffmpeg(&[&MOVING[..], &["-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "aac"]].concat(), &flat);
    ffmpeg(&["-i", flat.to_str().unwrap(), "-c", "copy", "-metadata:s:v:0", "rotate=90"], &from);
    let clip = Clip::open(&from).unwrap();
    let to = folder.path().join("pairs.mp4");
    let mut writer = ClipWriter::create(&to, &from, &clip.info, Codec::Pairs(1280)).unwrap();
    for (k, frame) in ClipReader::open(&from, &clip.info).unwrap().enumerate() {
        let frame = frame.unwrap();
        writer.push_pair((&frame, &frame), clip.info.size, clip.second(k)).unwrap();
    }
    writer.finish().unwrap();
    let made = probe(&to).unwrap();
    let shown = clip.info.shown();
    assert_eq!((made.size.width, made.size.height), (shown.width & !1, 2 * (shown.height & !1)));
    assert!(made.sound && made.rotation == 0);
    assert_eq!(seconds_of_frames(&to, &made).unwrap().len(), clip.count());
}
