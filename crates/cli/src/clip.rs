//! `evanu clip`: a clip whose area is covered by what is behind; the contract is in `docs/formats.md`.

use crate::files::{check_output, read_moments, scratch, write_whole};
use crate::tell::Step;
use evanu_core::clip::{Crossing, Moved, Repair, Told, changed, crossings, moves_far};
use evanu_core::pixel::{FrameSource, Samples};
use evanu_core::prepare;
use evanu_core::recipe::Recipe;
use evanu_core::render::{Scene, View};
use evanu_media::clip::{
    Clip, ClipArea, ClipInfo, ClipReader, ClipWriter, Codec, Seen, Survey, Wanted, Y4mWriter, Yuv, as_coded,
    probe, softened,
};
use evanu_media::{Format, MediaError, Output, Reader, read_mask, write};
use serde::Serialize;
use std::ops::RangeInclusive;
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
    /// Where that picture is laid, white in a black PNG; without it, the area, and without that where it was changed
    #[arg(long)]
    patch_mask: Option<PathBuf>,
    /// The patch alone, with transparency: a folder of PNGs, a .mov (ProRes 4444) or a .webm (VP9)
    #[arg(long)]
    overlay: Option<PathBuf>,
    /// Take what is behind from the same clip so many seconds later (earlier below none), where something lives there
    #[arg(long, allow_hyphen_values = true)]
    later: Option<f64>,
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

#[derive(Serialize)]
struct Report {
    version: u32,
    size: [u32; 2],
    frames: usize,
    seconds: f64,
    codec: String,
    /// Share of the picture that is covered.
    covered: f64,
    /// Left, top, width and height of what is looked at for each area.
    areas: Vec<[u32; 4]>,
    /// The first frame of each shot.
    shots: Vec<usize>,
    /// How each frame differs from the first of its shot.
    moved: Vec<Moved>,
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
    #[serde(flatten)]
    crossing: Crossing,
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
        // Only what was changed in it is taken.
        None => match &args.plate {
            Some(path) => changed_in(path, &args.input, &info)?,
            None => return plate_alone(args, &info),
        },
    };
    let clip = Clip::open(&args.input).map_err(|e| e.to_string())?;
    let mask = softened(&mask, info.size);
    let covered = mask.iter().map(|v| f64::from(*v)).sum::<f64>() / mask.len() as f64;
    let areas =
        clip.areas(&[Wanted { mask, later: args.later, sometimes: args.plate.is_none(), picture: 0 }]);
    if areas.is_empty() {
        return Err("the mask is black: nothing is to be covered; paint white what is to go".into());
    }
    let range = range(args, &clip)?;
    let (survey, seen) = look(&clip, &areas, range.clone())?;
    let picture = match &args.plate {
        Some(path) => picture(path, &info)?,
        None => from_time(&args.input, &info)?.1,
    };
    let parts: Vec<[u32; 4]> =
        areas.iter().map(|a| a.area.part).map(|r| [r.x as u32, r.y as u32, r.width, r.height]).collect();
    let repair = clip.repair(areas, &[picture], &seen);
    drop(seen);
    let each = lay(args, &clip, &repair, range)?;
    let told: Vec<Told> = each.iter().map(|f| f.told).collect();
    let at = |k: usize| clock(clip.second(k));
    let contacts: Vec<Contact> = crossings(&told)
        .into_iter()
        .map(|crossing| Contact { from: at(crossing.first), to: at(crossing.last), crossing })
        .collect();
    if let Some(k) = moves_far(&told) {
        warnings.push(format!(
            "what is around the area differs from what it usually is, as at {}: the camera moves farther than is followed, or the view changes",
            at(k)
        ));
    }
    for (first, last) in survey.shots.iter().map(|&first| survey.shot(first)) {
        if survey.shots.len() > 1 && survey.frames > 0 {
            warnings.push(format!("a shot goes from {} to {}", at(first), at(last)));
        }
        warnings.extend(survey.remarks((first, last)).into_iter().map(|r| r.words(at)));
    }
    for Contact { from, to, crossing } in &contacts {
        eprintln!("{from} to {to}: somebody crosses, up to {:.1} % of the area", 100.0 * crossing.most);
    }
    warnings.iter().for_each(|w| eprintln!("{w}"));
    if let Some(path) = &args.report {
        let report = Report {
            version: 2,
            size: [info.size.width, info.size.height],
            frames: each.len(),
            seconds: each.last().map_or(0.0, |f| f.seconds),
            codec: info.codec.clone(),
            covered,
            areas: parts,
            shots: survey.shots,
            moved: survey.each,
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

/// The frames between the times that are named.
fn range(args: &Args, clip: &Clip) -> Result<RangeInclusive<usize>, String> {
    let (from, to) = (args.from.unwrap_or(0.0), args.to.unwrap_or(f64::INFINITY));
    if from >= to {
        return Err(format!("--from {from} --to {to}: it ends before it begins"));
    }
    let count = clip.count().max(1);
    let first = (0..count).find(|&k| clip.second(k) >= from - 1e-6);
    let last = (0..count).rev().find(|&k| clip.second(k) <= to + 1e-6);
    match (first, last) {
        // To the very last frame, also where the file holds more than it tells.
        (Some(first), Some(last)) if first <= last => {
            Ok(first..=if args.to.is_none() { usize::MAX } else { last })
        }
        _ => Err(format!("{}: no frame lies between --from and --to", args.input.display())),
    }
}

/// Looks at all frames, and keeps what areas look like in some.
fn look(clip: &Clip, areas: &[ClipArea], range: RangeInclusive<usize>) -> Result<(Survey, Seen), String> {
    let last = (*range.end()).min(clip.count().max(1) - 1);
    let wanted = clip.sampled(*range.start()..=last, areas);
    let step = Step::new("look");
    let mut seen = Seen::default();
    let mut keep = |k: usize, frame: &Yuv, share: f32| {
        step.at(share.min(1.0));
        if wanted.binary_search(&k).is_ok() {
            seen.push(k, frame, (areas, clip.info.size));
        }
        Ok::<_, MediaError>(())
    };
    let survey = Survey::of(clip, &mut keep).map_err(|e| e.to_string())?;
    if seen.numbers.is_empty() {
        return Err(format!("{}: no frame lies between --from and --to", clip.path.display()));
    }
    Ok((survey, seen))
}

/// A picture of the clip's size, red, green and blue from 0 to 1.
fn picture(path: &Path, info: &ClipInfo) -> Result<Vec<f32>, String> {
    let decoded = evanu_media::decode(path).map_err(|e| e.to_string())?;
    let shown = info.shown();
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

/// Where a still differs from what the clip's own time shows behind.
fn changed_in(still: &Path, clip: &Path, info: &ClipInfo) -> Result<Vec<bool>, String> {
    let back = picture(still, info)?;
    let (_, own) = from_time(clip, info)?;
    let found = changed(&own, &back, info.size);
    let count = found.iter().filter(|f| **f).count();
    if count == 0 {
        return Err(format!(
            "{}: nothing was changed in it beside what the clip shows; name where it is to be laid with --patch-mask",
            still.display()
        ));
    }
    eprintln!("{:.2} % of it was changed, and is laid", 100.0 * count as f64 / found.len() as f64);
    Ok(found)
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

/// Writes the clip, each frame with the patch.
fn lay(
    args: &Args,
    clip: &Clip,
    repair: &Repair,
    range: RangeInclusive<usize>,
) -> Result<Vec<FrameReport>, String> {
    let plain = args.out.extension().is_some_and(|e| e.eq_ignore_ascii_case("y4m"));
    let mut overlay = args.overlay.as_ref().map(|path| Overlay::begin(path, clip, repair)).transpose()?;
    let mut out = if plain {
        Out::Plain(Y4mWriter::create(&args.out, &clip.info).map_err(|e| e.to_string())?)
    } else {
        Out::Coded(
            ClipWriter::create(&args.out, &clip.path, &clip.info, Codec::Like).map_err(|e| e.to_string())?,
        )
    };
    let mut each = Vec::new();
    let step = Step::new("cover");
    let count = clip.count().max(1) as f32;
    let mut take = |k: usize, _: &Yuv, frame: &Yuv, told: Told| -> Result<(), MediaError> {
        let seconds = clip.second(k);
        match &mut out {
            Out::Plain(out) => out.push(frame)?,
            Out::Coded(out) => out.push(frame, seconds)?,
        }
        if let Some(overlay) = &mut overlay {
            overlay.push(k, frame, clip)?;
        }
        step.at((k as f32 / count).min(1.0));
        each.push(FrameReport { seconds, told });
        Ok(())
    };
    let stopped = clip
        .lay(repair, (0..=usize::MAX, &|k| range.contains(&k)), &[], &mut take)
        .map_err(|e| e.to_string())?;
    match out {
        Out::Plain(out) => out.finish(),
        Out::Coded(out) => out.finish(),
    }
    .and_then(|()| overlay.map_or(Ok(()), Overlay::finish))
    .map_err(|e| e.to_string())?;
    if let Some(why) = stopped {
        eprintln!("{why}: {} frames are whole and written", each.len());
    }
    Ok(each)
}

/// Where finished frames go.
enum Out {
    Plain(Y4mWriter),
    Coded(ClipWriter),
}

/// The patch alone: pictures in a folder, or a clip with transparency.
enum Overlay {
    Folder(PathBuf, Vec<u8>),
    Clip(Box<ClipWriter>, Vec<u8>),
}

impl Overlay {
    fn begin(path: &Path, clip: &Clip, repair: &Repair) -> Result<Self, String> {
        let size = clip.info.size;
        let mut alpha = vec![0u8; size.pixels() as usize];
        for area in repair.areas() {
            for (p, weight) in area.weights().iter().enumerate() {
                let (x, y) = (p % area.part.width as usize, p / area.part.width as usize);
                let at = (y + area.part.y as usize) * size.width as usize + x + area.part.x as usize;
                alpha[at] = alpha[at].max((255.0 * weight) as u8);
            }
        }
        if path.extension().is_some() {
            let writer = ClipWriter::create(path, &clip.path, &clip.info, Codec::Overlay);
            return Ok(Self::Clip(Box::new(writer.map_err(|e| e.to_string())?), alpha));
        }
        std::fs::create_dir_all(path).map_err(|e| MediaError::writing(path, &e).to_string())?;
        Ok(Self::Folder(path.to_owned(), alpha))
    }

    fn push(&mut self, k: usize, frame: &Yuv, clip: &Clip) -> Result<(), MediaError> {
        let info = &clip.info;
        match self {
            Self::Folder(folder, alpha) => {
                let samples = info.colour.picture(frame, info.size, info.layout);
                let path = folder.join(format!("{k:06}.png"));
                evanu_media::write_transparent_png(&path, info.size, &samples, alpha)
            }
            Self::Clip(writer, alpha) => {
                writer.push_pair((frame, &info.opacity(alpha)), info.size, clip.second(k))
            }
        }
    }

    fn finish(self) -> Result<(), MediaError> {
        match self {
            Self::Folder(..) => Ok(()),
            Self::Clip(writer, _) => writer.finish(),
        }
    }
}
