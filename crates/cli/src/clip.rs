//! `evanu clip`: a clip whose area is covered by what is behind; the contract is in `docs/formats.md`.

use crate::files::{check_output, read_moments, scratch, write_whole};
use crate::tell::Step;
use evanu_core::clip::{Area, Cover, Planes, Told};
use evanu_core::geometry::Size;
use evanu_core::pixel::{FrameSource, Samples};
use evanu_core::prepare;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use evanu_media::clip::{ClipInfo, ClipReader, ClipWriter, Codec, Yuv, probe, seconds_of_frames, write_y4m};
use evanu_media::{Format, Output, Reader, read_mask, write};
use serde::Serialize;
use std::path::{Path, PathBuf};

/// Options of `evanu clip`.
#[derive(clap::Args)]
pub(crate) struct Args {
    /// The clip
    input: PathBuf,
    /// Where the finished clip goes; .mp4, .mov, .mkv, .webm, .avi or .y4m. Without an area: where the plate goes; .png, .tif or .jpg
    #[arg(long)]
    out: PathBuf,
    /// What is to be covered, white in a black PNG of the clip's size
    #[arg(long)]
    area: Option<PathBuf>,
    /// A picture of what is behind, of the clip's size; without it, it is taken from the clip's own time
    #[arg(long)]
    plate: Option<PathBuf>,
    /// Where that picture is laid, white in a black PNG; without it, the area
    #[arg(long)]
    patch_mask: Option<PathBuf>,
    /// A folder for the patch alone, a PNG with transparency for each frame
    #[arg(long)]
    overlay: Option<PathBuf>,
    /// From when on it is covered: seconds, or minutes:seconds
    #[arg(long, value_parser = time)]
    from: Option<f64>,
    /// Until when; to the last frame without it
    #[arg(long, value_parser = time)]
    to: Option<f64>,
    /// Write what was found out as JSON
    #[arg(long)]
    report: Option<PathBuf>,
}

/// Frames that tell what the area looks like, and memory that they may take together.
const SAMPLES: usize = 41;
const SAMPLE_BYTES: usize = 400 << 20;
/// Share of the area from which on somebody touches it.
const CONTACT: f64 = 0.002;
/// Frames between two that belong to one crossing.
const CROSSING: usize = 5;
/// Width of the border that fades, in pixels.
const SOFT: f32 = 2.0;

#[derive(Serialize)]
struct Report {
    version: u32,
    size: [u32; 2],
    frames: usize,
    seconds: f64,
    codec: String,
    /// Share of the picture that is covered.
    covered: f64,
    /// Left, top, width and height.
    area: Option<[u32; 4]>,
    each: Vec<FrameReport>,
    /// Crossings, the one that covers most first.
    contacts: Vec<Contact>,
    warnings: Vec<String>,
}

#[derive(Serialize)]
struct FrameReport {
    seconds: f64,
    #[serde(flatten)]
    told: Told,
}

#[derive(Serialize)]
struct Contact {
    from: String,
    to: String,
    first: usize,
    last: usize,
    /// Most of the area that is covered in one frame.
    most: f64,
}

fn time(word: &str) -> Result<f64, String> {
    let parts: Option<Vec<f64>> =
        word.split(':').map(|p| p.parse().ok().filter(|v: &f64| *v >= 0.0)).collect();
    match parts.as_deref() {
        Some([s]) => Ok(*s),
        Some([m, s]) => Ok(60.0 * m + s),
        Some([h, m, s]) => Ok(3600.0 * h + 60.0 * m + s),
        _ => Err("use seconds, as 12.5, or minutes and seconds, as 1:02.5".into()),
    }
}

/// As people write it.
fn clock(seconds: f64) -> String {
    format!("{:02}:{:05.2}", (seconds / 60.0) as u32, seconds % 60.0)
}

/// Runs the command.
pub(crate) fn run(args: &Args) -> Result<(), String> {
    let mut inputs = vec![args.input.clone()];
    inputs.extend([&args.area, &args.plate, &args.patch_mask].into_iter().flatten().cloned());
    for out in [Some(&args.out), args.report.as_ref()].into_iter().flatten() {
        check_output(out, &inputs)?;
    }
    let info = probe(&args.input).map_err(|e| e.to_string())?;
    let mut warnings = Vec::new();
    if info.is_hdr() {
        warnings.push("its light is coded for brighter screens: it is covered in its own codes, the plate shows them as they are".into());
    }
    let mask = match args.patch_mask.as_ref().or(args.area.as_ref()) {
        Some(path) => read_mask(path, info.size).map_err(|e| e.to_string())?.set,
        None if args.plate.is_some() => {
            return Err("--plate needs --patch-mask or --area: where is it to be laid?".into());
        }
        None => return plate_alone(args, &info),
    };
    let soft = softened(&mask, info.size);
    let halved = if info.layout.grey { (0, 0) } else { (info.layout.across, info.layout.down) };
    let area = Area::new(&soft, info.size, halved)
        .ok_or("the mask is black: nothing is to be covered; paint white what is to go")?;
    let times = times(&args.input, &info)?;
    let (from, to) = (args.from.unwrap_or(0.0), args.to.unwrap_or(f64::INFINITY));
    if from >= to {
        return Err(format!("--from {from} --to {to}: it ends before it begins"));
    }
    let seen = seen(args, &info, &area, (&times, from, to))?;
    let picture = match &args.plate {
        Some(path) => picture(path, &info)?,
        None => from_time(&args.input, &info)?.1,
    };
    let behind = behind(&picture, &info, &area);
    let covered = soft.iter().map(|v| f64::from(*v)).sum::<f64>() / soft.len() as f64;
    let part = area.part;
    let cover = Cover::new(area, &seen, behind, (info.colour.centers(info.layout.bits), info.layout.most()));
    drop(seen);
    let each = lay(args, &info, &cover, (&times, from, to))?;
    let contacts = contacts(&each);
    if let Some(moved) = moved(&each) {
        warnings.push(moved);
    }
    for contact in &contacts {
        eprintln!(
            "{} to {}: somebody crosses, up to {:.1} % of the area",
            contact.from,
            contact.to,
            100.0 * contact.most
        );
    }
    warnings.iter().for_each(|w| eprintln!("{w}"));
    if let Some(path) = &args.report {
        let report = Report {
            version: 1,
            size: [info.size.width, info.size.height],
            frames: each.len(),
            seconds: each.last().map_or(0.0, |f| f.seconds),
            codec: info.codec.clone(),
            covered,
            area: Some([part.x as u32, part.y as u32, part.width, part.height]),
            each,
            contacts,
            warnings,
        };
        let text = serde_json::to_string_pretty(&report).map_err(|e| e.to_string())?;
        write_whole(path, text.as_bytes())?;
    }
    println!("{}", args.out.display());
    Ok(())
}

/// The times of all frames.
fn times(path: &Path, info: &ClipInfo) -> Result<Vec<f64>, String> {
    if info.codec == "rawvideo" && path.extension().is_some_and(|e| e == "y4m") {
        let pace = f64::from(info.rate.1) / f64::from(info.rate.0);
        return Ok((0..info.frames).map(|k| k as f64 * pace).collect());
    }
    seconds_of_frames(path).map_err(|e| e.to_string())
}

/// A time for a frame, also where the file tells fewer than it holds.
fn time_of(times: &[f64], k: usize, info: &ClipInfo) -> f64 {
    let pace = f64::from(info.rate.1) / f64::from(info.rate.0);
    let last = times.last().copied().unwrap_or(0.0);
    times.get(k).copied().unwrap_or(last + pace * (k + 1 - times.len().min(k + 1)) as f64)
}

/// The area in frames of all of the time.
fn seen(
    args: &Args,
    info: &ClipInfo,
    area: &Area,
    (times, from, to): (&[f64], f64, f64),
) -> Result<Vec<Planes>, String> {
    let within: Vec<usize> =
        (0..times.len().max(1)).filter(|&k| (from..=to).contains(&time_of(times, k, info))).collect();
    let one = 4 * area.part.size().pixels() as usize;
    let most = (SAMPLE_BYTES / one.max(1)).clamp(5, SAMPLES);
    let step = within.len().div_ceil(most).max(1);
    let wanted: Vec<usize> = within.into_iter().step_by(step).collect();
    let step = Step::new("look");
    let mut samples = Vec::new();
    let last = wanted.last().copied().unwrap_or(0);
    for (k, frame) in ClipReader::open(&args.input, info).map_err(|e| e.to_string())?.enumerate() {
        if k > last {
            break;
        }
        let Yuv { planes } = match frame {
            Ok(frame) => frame,
            // What is lost is told where it is written.
            Err(_) if !samples.is_empty() => break,
            Err(e) => return Err(e.to_string()),
        };
        if wanted.binary_search(&k).is_ok() {
            samples.push(area.cut(&planes, info.size));
        }
        step.at(k as f32 / last.max(1) as f32);
    }
    if samples.is_empty() {
        return Err(format!("{}: no frame lies between --from and --to", args.input.display()));
    }
    Ok(samples)
}

/// The mask with a border that fades outwards, so that all of what is white is covered.
fn softened(mask: &[bool], size: Size) -> Vec<f32> {
    let w = size.width as usize;
    let near = evanu_core::pixel::distance::distances_within(mask, w, SOFT.ceil() as usize);
    near.into_iter()
        .map(|d| (1.0 - d / (SOFT + 1.0)).max(0.0))
        .map(|v| if v.is_finite() { v } else { 0.0 })
        .collect()
}

/// A picture of the clip's size, red, green and blue from 0 to 1.
fn picture(path: &Path, info: &ClipInfo) -> Result<Vec<f32>, String> {
    let decoded = evanu_media::decode(path).map_err(|e| e.to_string())?;
    let turned = matches!(info.rotation, 90 | 270);
    let (w, h) = (info.size.width, info.size.height);
    let shown = if turned { Size::new(h, w) } else { info.size };
    if decoded.size != shown {
        return Err(format!(
            "{}: it has {} × {} pixels and the clip has {} × {}; give it the size of the clip",
            path.display(),
            decoded.size.width,
            decoded.size.height,
            shown.width,
            shown.height
        ));
    }
    let values = match decoded.samples {
        Samples::Eight(data) => data.into_iter().map(|v| f32::from(v) / 255.0).collect(),
        Samples::Sixteen(data) => data.into_iter().map(|v| f32::from(v) / 65535.0).collect(),
        Samples::Wide(_) => {
            return Err(format!("{}: its light goes beyond white; save it as TIFF or PNG", path.display()));
        }
    };
    Ok(as_coded(values, shown, info.rotation))
}

/// A picture as it is shown, turned back to how the clip is coded.
fn as_coded(values: Vec<f32>, shown: Size, rotation: i32) -> Vec<f32> {
    if rotation == 0 {
        return values;
    }
    let (w, h) = (shown.width as usize, shown.height as usize);
    let (cw, ch) = if matches!(rotation, 90 | 270) { (h, w) } else { (w, h) };
    let mut out = Vec::with_capacity(values.len());
    for y in 0..ch {
        for x in 0..cw {
            // Clockwise by the rotation, a coded pixel is shown at:
            let (u, v) = match rotation {
                90 => (w - 1 - y, x),
                180 => (w - 1 - x, h - 1 - y),
                _ => (y, h - 1 - x),
            };
            out.extend_from_slice(&values[3 * (v * w + u)..][..3]);
        }
    }
    out
}

/// The plate out of the clip's own time, as it is shown, and as the clip is coded.
fn from_time(path: &Path, info: &ClipInfo) -> Result<(evanu_core::pixel::Raster, Vec<f32>), String> {
    let scratch = scratch()?;
    let step = Step::new("read");
    let frames = read_moments(&Reader::apart(), path, scratch.path()).map_err(|e| e.to_string())?;
    step.at(1.0);
    drop(step);
    if frames.len() < 2 {
        return Err(format!(
            "{}: one frame alone shows nothing behind; name a picture of that with --plate",
            path.display()
        ));
    }
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| &f.0 as &dyn FrameSource).collect();
    let recipe = Recipe::new();
    let step = Step::new("align");
    let plan = prepare::plan(&recipe, &sources, &[], &|share| {
        step.at(share);
        Ok(())
    })
    .map_err(|e| e.to_string())?;
    drop(step);
    let scene = Scene::new(&recipe, &plan, &sources);
    let decision = prepare::decide(&scene).map_err(|e| e.to_string())?;
    let scene = scene.decided(&decision);
    let plate = scene.render(View::Plate, scene.canvas().size().rect(), 0).map_err(|e| e.to_string())?;
    let values = plate.data.iter().map(|v| f32::from(*v) / 65535.0).collect();
    let size = plate.size;
    Ok((plate, as_coded(values, size, info.rotation)))
}

/// Without an area: the plate, and what it would cover.
fn plate_alone(args: &Args, info: &ClipInfo) -> Result<(), String> {
    let format = Format::by_extension(&args.out, true)
        .map_err(|e| format!("{e}; without --area or --plate the plate is written, which is a picture"))?;
    let (plate, coded) = from_time(&args.input, info)?;
    let first = ClipReader::open(&args.input, info).map_err(|e| e.to_string())?.next();
    if let Some(Ok(frame)) = first {
        let planes = info.colour.planes(&coded, info.size, info.layout);
        let step = f32::from(1u16 << (info.layout.bits - 8));
        let off = |p: &usize| (f32::from(frame.planes[0][*p]) - planes[0][*p]).abs() > 12.0 * step;
        let n = planes[0].len();
        let other = (0..n).filter(off).count();
        eprintln!("it would cover {:.1} % of the first frame", 100.0 * other as f64 / n as f64);
    }
    let whole = plate.size;
    let data = plate.data;
    write(&args.out, &Output { format, size: whole, camera: None }, |r| {
        let from = 3 * r.y as usize * whole.width as usize;
        let band = data[from..from + 3 * r.size().pixels() as usize].to_vec();
        Ok::<_, evanu_core::render::RenderError>(evanu_core::pixel::Raster { size: r.size(), data: band })
    })
    .map_err(|e| e.to_string())?;
    println!("{}", args.out.display());
    Ok(())
}

/// What is behind, in the clip's samples, over the area's part.
fn behind(picture: &[f32], info: &ClipInfo, area: &Area) -> [Vec<f32>; 3] {
    let (w, part) = (info.size.width as usize, area.part);
    let rows = part.y as usize..part.bottom() as usize;
    let cut: Vec<f32> = rows
        .flat_map(|y| picture[3 * (y * w + part.x as usize)..][..3 * part.width as usize].iter().copied())
        .collect();
    let mut planes = info.colour.planes(&cut, part.size(), info.layout);
    if info.layout.grey {
        planes[1].clear();
        planes[2].clear();
    }
    planes
}

/// Writes the clip, each frame with the patch.
fn lay(
    args: &Args,
    info: &ClipInfo,
    cover: &Cover,
    (times, from, to): (&[f64], f64, f64),
) -> Result<Vec<FrameReport>, String> {
    let plain = args.out.extension().is_some_and(|e| e.eq_ignore_ascii_case("y4m"));
    let failed = |e: evanu_media::MediaError| e.to_string();
    if let Some(folder) = &args.overlay {
        std::fs::create_dir_all(folder)
            .map_err(|e| evanu_media::MediaError::writing(folder, &e).to_string())?;
    }
    let mut each = Vec::new();
    let step = Step::new("cover");
    let count = times.len().max(1);
    let mut stopped: Option<String> = None;
    let reader = ClipReader::open(&args.input, info).map_err(failed)?;
    let mut frames = reader.enumerate().map_while(|(k, frame)| {
        let mut frame = match frame {
            Ok(frame) => frame,
            Err(e) => {
                stopped = Some(e.to_string());
                return None;
            }
        };
        let seconds = time_of(times, k, info);
        let mut told = Told { gain: 1.0, contact: 0.0, shift: [0.0; 2], around: 0.0 };
        if (from..=to).contains(&seconds) {
            let mut part = cover.area().cut(&frame.planes, info.size);
            told = cover.lay(&mut part);
            cover.area().put(&part, &mut frame.planes, info.size);
        }
        step.at((k as f32 / count as f32).min(1.0));
        Some((frame, FrameReport { seconds, told }))
    });
    if plain {
        let unwritable = |e: std::io::Error| evanu_media::MediaError::writing(&args.out, &e).to_string();
        let part = args.out.with_extension("part");
        let file = std::fs::File::create(&part).map_err(unwritable)?;
        let mut out = std::io::BufWriter::new(file);
        write_y4m(
            &mut out,
            info,
            &mut frames.by_ref().map(|(frame, told)| {
                each.push(told);
                frame
            }),
        )
        .and_then(|()| std::io::Write::flush(&mut out))
        .and_then(|()| std::fs::rename(&part, &args.out))
        .map_err(unwritable)?;
    } else {
        let mut writer = ClipWriter::create(&args.out, &args.input, info, Codec::Like).map_err(failed)?;
        for (frame, told) in frames.by_ref() {
            writer.push(&frame, told.seconds).map_err(failed)?;
            if let Some(folder) = &args.overlay {
                overlay(folder, each.len(), &frame, (info, cover)).map_err(failed)?;
            }
            each.push(told);
        }
        writer.finish().map_err(failed)?;
    }
    drop(frames);
    if each.is_empty() {
        return Err(stopped.unwrap_or_else(|| format!("{}: it holds no frame", args.input.display())));
    }
    if let Some(why) = stopped {
        eprintln!("{why}: {} frames are whole and written", each.len());
    }
    Ok(each)
}

/// The patch of a frame alone.
fn overlay(
    folder: &Path,
    k: usize,
    frame: &Yuv,
    (info, cover): (&ClipInfo, &Cover),
) -> Result<(), evanu_media::MediaError> {
    let samples = info.colour.picture(frame, info.size, info.layout);
    let path = folder.join(format!("{k:06}.png"));
    let part = cover.area().part;
    let mut alpha = vec![0u8; info.size.pixels() as usize];
    for (p, weight) in cover.area().weights().iter().enumerate() {
        let (x, y) = (p % part.width as usize, p / part.width as usize);
        alpha[(y + part.y as usize) * info.size.width as usize + x + part.x as usize] =
            (255.0 * weight) as u8;
    }
    evanu_media::write_transparent_png(&path, info.size, &samples, &alpha)
}

/// What is to be said where the camera does not stand still.
fn moved(each: &[FrameReport]) -> Option<String> {
    /// Deviations from which on it moves, in so large a share of the frames.
    const MOVES: f64 = 4.0;
    const SHARE: f64 = 0.2;
    let first = each.iter().find(|f| f.told.around > MOVES)?;
    let moving = each.iter().filter(|f| f.told.around > MOVES).count();
    (moving as f64 > SHARE * each.len() as f64).then(|| {
        format!(
            "what is around the area differs from what it usually is, as at {}: the camera moves farther than is followed, or the view changes",
            clock(first.seconds)
        )
    })
}

/// When somebody touches the area, the worst first.
fn contacts(each: &[FrameReport]) -> Vec<Contact> {
    let touched: Vec<usize> = (0..each.len()).filter(|&k| each[k].told.contact > CONTACT).collect();
    let mut found: Vec<Contact> = touched
        .chunk_by(|a, b| b - a <= CROSSING)
        .map(|run| {
            let (first, last) = (run[0], run[run.len() - 1]);
            let most = run.iter().map(|&k| each[k].told.contact).fold(0.0, f64::max);
            Contact { from: clock(each[first].seconds), to: clock(each[last].seconds), first, last, most }
        })
        .collect();
    found.sort_by(|a, b| b.most.total_cmp(&a.most));
    found
}
