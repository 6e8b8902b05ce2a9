//! `evanu clean`: frames in, plate out; the contract is in `docs/formats.md`.

use crate::files::{check_output, read_moments, read_one, scratch, write_whole};
use crate::tell::Step;
use evanu_core::combine::Method;
use evanu_core::evidence::Support;
use evanu_core::geometry::Rect;
use evanu_core::pixel::{Depth, FrameSource};
use evanu_core::plan::Decision;
use evanu_core::prepare;
use evanu_core::recipe::{Align, Canvas, Matching, Recipe};
use evanu_core::render::{Scene, View, origin};
use evanu_media::clip::is_clip;
use evanu_media::{
    CameraData, FORMATS, Format, MediaError, Output, Reader, TiledFrame, recognised, write, write_grey,
    write_light,
};
use rayon::prelude::*;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Instant;
use strum::VariantNames;

/// Options of `evanu clean`.
#[derive(clap::Args)]
pub(crate) struct Args {
    /// Files, one folder, or one clip
    #[arg(required = true)]
    frames: Vec<PathBuf>,
    /// Where the plate goes; .tif, .png, .jpg or .exr
    #[arg(long)]
    out: PathBuf,
    /// auto, off, shift, rigid, similarity or perspective
    #[arg(long, default_value = "auto", value_parser = align)]
    align: Align,
    /// Index of the frame whose grid the plate keeps, from 0, or auto
    #[arg(long, default_value = "auto")]
    reference: String,
    /// auto, consensus, median, mean, clipped, everybody, darkest, lightest or rank:P
    #[arg(long, default_value = "auto", value_parser = way)]
    method: Way,
    /// reference, common, or whole: all that any frame shows
    #[arg(long, default_value = "reference", value_parser = one_of::<Canvas>)]
    canvas: Canvas,
    /// auto, on or off
    #[arg(long, default_value = "auto", value_parser = one_of::<Matching>)]
    match_exposure: Matching,
    /// Write what was found out as JSON
    #[arg(long)]
    report: Option<PathBuf>,
    /// Write how many frames agree at each place as a grey PNG
    #[arg(long)]
    agreement: Option<PathBuf>,
    /// Write which frames each place comes from as a PNG of numbers; for the consensus
    #[arg(long)]
    origin: Option<PathBuf>,
}

/// The method wished for, or that Evanu may choose.
#[derive(Debug, Clone, Copy)]
enum Way {
    Auto,
    By(Method),
}

fn way(s: &str) -> Result<Way, String> {
    if s == "auto" { Ok(Way::Auto) } else { s.parse().map(Way::By) }
}

/// How frames are aligned; what is still to come is told apart from what there is not.
fn align(word: &str) -> Result<Align, String> {
    match word {
        "sphere" => Err(format!("sphere is not yet available; {}", words_of::<Align>())),
        _ => one_of(word),
    }
}

/// One of a few words, told with all of them.
fn one_of<T: FromStr + VariantNames>(word: &str) -> Result<T, String> {
    word.parse().map_err(|_| words_of::<T>())
}

/// What may be used.
fn words_of<T: VariantNames>() -> String {
    match T::VARIANTS {
        [first @ .., last] => format!("use {} or {last}", first.join(", ")),
        [] => "there is nothing to choose from".into(),
    }
}

#[derive(Serialize)]
struct Report<'a> {
    version: u32,
    reference: usize,
    method: String,
    /// Why this method, when Evanu chose it.
    method_reason: Option<&'static str>,
    canvas: CanvasReport,
    frames: Vec<FrameReport<'a>>,
    doubts: Vec<DoubtReport>,
    agreement: AgreementReport,
    seconds: Seconds,
}

#[derive(Serialize)]
struct CanvasReport {
    x: i64,
    y: i64,
    width: u32,
    height: u32,
}

#[derive(Serialize)]
struct FrameReport<'a> {
    path: String,
    used: bool,
    reason: Option<&'a str>,
    transform: [f64; 9],
    residual_px: Option<f64>,
    gain: [f32; 3],
}

#[derive(Serialize)]
struct DoubtReport {
    /// Left, top, width and height in reference pixels.
    bbox: [i64; 4],
    settled: bool,
    confidence: f32,
    /// Index of the frame that is proposed.
    frame: Option<usize>,
}

#[derive(Serialize)]
struct AgreementReport {
    mean: f64,
    unsupported_fraction: f64,
}

#[derive(Serialize, Default)]
struct Seconds {
    decode: f64,
    align: f64,
    combine: f64,
    encode: f64,
    total: f64,
}

/// A frame as it came in: read into a pyramid, or why not.
struct Taken {
    path: PathBuf,
    frame: Result<(TiledFrame, CameraData), String>,
}

/// Runs the command.
pub(crate) fn run(args: Args) -> Result<(), String> {
    let begin = Instant::now();
    let mut seconds = Seconds::default();
    let paths = gather(&args.frames)?;
    let outputs: Vec<&PathBuf> =
        [Some(&args.out), args.report.as_ref(), args.agreement.as_ref(), args.origin.as_ref()]
            .into_iter()
            .flatten()
            .collect();
    if let (Some(path), Way::By(method)) = (&args.origin, args.method)
        && method != Method::Consensus
    {
        return Err(format!(
            "{}: only the consensus knows which frames each place comes from; leave --origin out or use --method consensus",
            path.display()
        ));
    }
    for out in &outputs {
        check_output(out, &paths)?;
    }
    Format::by_extension(&args.out, false).map_err(|e| e.to_string())?;
    let wanted = match args.reference.as_str() {
        "auto" => None,
        n => Some(n),
    };
    let number = |n: &str, count: usize| {
        n.parse::<usize>()
            .ok()
            .filter(|&n| n < count)
            .ok_or_else(|| format!("--reference {n}: there is no such frame; use auto or 0 to {}", count - 1))
    };
    let clips = paths.iter().any(|p| is_clip(p));
    // Told before anything is read, where that is known.
    if let Some(n) = wanted.filter(|_| !clips) {
        number(n, paths.len())?;
    }
    let taken = read_all(&paths, args.frames.len() == 1 && args.frames[0].is_dir())?;
    let wanted = wanted.map(|n| number(n, taken.len())).transpose()?;
    seconds.decode = begin.elapsed().as_secs_f64();

    let good: Vec<usize> = (0..taken.len()).filter(|&i| taken[i].frame.is_ok()).collect();
    let frames: Vec<&(TiledFrame, CameraData)> = taken.iter().filter_map(|t| t.frame.as_ref().ok()).collect();
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| &f.0 as &dyn FrameSource).collect();
    let reference = match wanted {
        None => None,
        Some(w) => Some(good.iter().position(|&g| g == w).ok_or_else(|| match &taken[w].frame {
            Err(e) => format!("--reference {w}: {e}"),
            Ok(_) => format!("--reference {w}: there is no such frame"),
        })?),
    };
    let recipe = Recipe {
        align: args.align,
        reference,
        match_exposure: args.match_exposure,
        method: if let Way::By(method) = args.method { method } else { Method::Consensus },
        canvas: args.canvas,
        ..Recipe::new()
    };
    let begin_align = Instant::now();
    let step = Step::new("align");
    let clocks: Vec<Option<f64>> = frames.iter().map(|f| f.1.seconds()).collect();
    let plan = prepare::plan(&recipe, &sources, &clocks, &|s| {
        step.at(s);
        Ok(())
    })
    .map_err(|e| e.to_string())?;
    drop(step);
    seconds.align = begin_align.elapsed().as_secs_f64();
    for (k, frame) in plan.alignment.frames.iter().enumerate() {
        if let Some(reason) = &frame.misfit {
            eprintln!("{}: set aside: {reason}", taken[good[k]].path.display());
        }
    }
    let chosen = matches!(args.method, Way::Auto).then(|| prepare::why_consensus(&plan));
    if let Some(reason) = chosen {
        eprintln!("method: consensus; {reason}");
    }
    let scene = Scene::new(&recipe, &plan, &sources);
    let mut decision = None;
    if matches!(recipe.method, Method::Consensus | Method::Everybody) {
        let begin = Instant::now();
        let step = Step::new("decide");
        decision = Some(prepare::decide(&scene).map_err(|e| e.to_string())?);
        step.at(1.0);
        drop(step);
        seconds.combine = begin.elapsed().as_secs_f64();
    }
    let label_map = decision.as_ref().map(|decision| &decision.label_map);
    let scene = Scene { label_map, ..scene };
    let used = scene.used();
    if used.len() == 1 {
        eprintln!(
            "only one frame takes part: the plate is {} as it was shot",
            taken[good[used[0]]].path.display()
        );
    }
    write_plate(&args, &scene, &frames[plan.alignment.reference].1, &mut seconds)?;
    if let Some(path) = &args.agreement {
        let canvas = scene.canvas().size();
        write_grey(path, canvas, |r| scene.render(View::Agreement, r, 0)).map_err(|e| e.to_string())?;
    }
    if let (Some(path), Some(choice)) = (&args.origin, label_map) {
        let stages = scene.stages(View::Plate).map_err(|e| e.to_string())?;
        let picture = origin::picture(choice, &origin::origins(choice, &plan.survey.moments(), &stages));
        let bytes = evanu_media::encode_png(&picture).map_err(|e| e.to_string())?;
        write_whole(path, &bytes)?;
    }
    if let Some(path) = &args.report {
        let support = support(&scene)?;
        seconds.total = begin.elapsed().as_secs_f64();
        let report = Report {
            method_reason: chosen,
            ..report(&taken, &good, (&scene, decision.as_ref()), support, seconds)
        };
        let text = serde_json::to_string_pretty(&report).map_err(|e| e.to_string())?;
        write_whole(path, text.as_bytes())?;
    }
    // Whatever room their files took is given back by the kernel, file by file.
    taken.into_par_iter().for_each(drop);
    println!("{}", args.out.display());
    Ok(())
}

fn write_plate(
    args: &Args,
    scene: &Scene<'_>,
    camera: &CameraData,
    seconds: &mut Seconds,
) -> Result<(), String> {
    let size = scene.canvas().size();
    if matches!(Format::by_extension(&args.out, true), Ok(Format::Exr)) {
        let step = Step::new("combine");
        let begin = Instant::now();
        write_light(&args.out, size, Some(camera), |r| {
            step.at(r.bottom() as f32 / size.height as f32);
            scene.light(r)
        })
        .map_err(|e| e.to_string())?;
        seconds.combine += begin.elapsed().as_secs_f64();
        return Ok(());
    }
    let deep = scene.sources.iter().any(|s| s.depth() != Depth::Eight);
    let sixteen = deep || scene.used().len() > 2;
    let tif = matches!(Format::by_extension(&args.out, true), Ok(Format::Tiff { .. }));
    let format = Format::by_extension(&args.out, sixteen && (tif || deep)).map_err(|e| e.to_string())?;
    let spent = AtomicU64::new(0);
    let step = Step::new("combine");
    let begin = Instant::now();
    write(&args.out, &Output { format, size, camera: Some(camera) }, |r| {
        let begin = Instant::now();
        let band = scene.render(View::Plate, r, 0);
        spent.fetch_add(begin.elapsed().as_micros() as u64, Ordering::Relaxed);
        step.at(r.bottom() as f32 / size.height as f32);
        band
    })
    .map_err(|e| e.to_string())?;
    let combining = spent.load(Ordering::Relaxed) as f64 / 1e6;
    seconds.combine += combining;
    // Encoding runs beside combining; what it adds is what is left of the wall time.
    seconds.encode = (begin.elapsed().as_secs_f64() - combining).max(0.0);
    Ok(())
}

/// Agreement figures, measured on at most two megapixels.
fn support(scene: &Scene<'_>) -> Result<Support, String> {
    let size = scene.canvas().size();
    let level = (0..16).find(|&k| size.at_level(k).pixels() <= 2_000_000).unwrap_or(0);
    scene.support(size.at_level(level).rect(), level).map_err(|e| e.to_string())
}

fn report<'a>(
    taken: &'a [Taken],
    good: &[usize],
    (scene, decision): (&Scene<'a>, Option<&Decision>),
    support: Support,
    seconds: Seconds,
) -> Report<'a> {
    let area: Rect = scene.canvas();
    let frames = taken.iter().enumerate().map(|(i, t)| {
        let index = good.iter().position(|&g| g == i);
        let plan = index.map(|k| &scene.plan.alignment.frames[k]);
        let gain = index.map_or([1.0; 3], |k| scene.plan.tones.frames[k].gain);
        FrameReport {
            path: evanu_media::path_text(&t.path),
            used: plan.is_some_and(|p| p.misfit.is_none()),
            reason: match (&t.frame, plan) {
                (Err(e), _) => Some(e),
                (_, p) => p.and_then(|p| p.misfit.as_deref()),
            },
            transform: plan.map_or(evanu_core::geometry::Homography::IDENTITY, |p| p.transform).0,
            residual_px: plan.and_then(|p| p.residual_px),
            gain: if scene.matched() { gain } else { [1.0; 3] },
        }
    });
    Report {
        version: 1,
        reference: good[scene.reference()],
        method: scene.recipe.method.to_string(),
        method_reason: None,
        canvas: CanvasReport { x: area.x, y: area.y, width: area.width, height: area.height },
        frames: frames.collect(),
        doubts: decision
            .iter()
            .flat_map(|decision| &decision.doubts)
            .map(|d| DoubtReport {
                bbox: [d.bbox.x, d.bbox.y, i64::from(d.bbox.width), i64::from(d.bbox.height)],
                settled: d.settled,
                confidence: d.confidence,
                frame: d.stories.first().and_then(|s| s.first()).map(|&k| good[k]),
            })
            .collect(),
        agreement: AgreementReport {
            mean: support.mean(),
            unsupported_fraction: support.unsupported_fraction(),
        },
        seconds,
    }
}

/// The files meant: those named, or all in one folder, by name. Hidden files and folders are not meant.
fn gather(named: &[PathBuf]) -> Result<Vec<PathBuf>, String> {
    let [folder] = named else { return Ok(named.to_vec()) };
    if !folder.is_dir() {
        return Ok(named.to_vec());
    }
    let listing = std::fs::read_dir(folder).map_err(|e| {
        format!("{}: the folder cannot be read ({e}); check its permissions", folder.display())
    })?;
    let hidden = |p: &Path| p.file_name().is_some_and(|n| n.to_string_lossy().starts_with('.'));
    let mut files: Vec<PathBuf> =
        listing.flatten().map(|e| e.path()).filter(|p| p.is_file() && !hidden(p)).collect();
    files.sort();
    let mut frames = Vec::new();
    for file in files {
        let mut head = [0u8; 16];
        let read =
            std::fs::File::open(&file).and_then(|mut f| std::io::Read::read(&mut f, &mut head)).unwrap_or(0);
        if read == 0 || recognised(FORMATS, &head[..read]) {
            frames.push(file);
        } else {
            eprintln!("{}: passed over: not a picture Evanu can read", file.display());
        }
    }
    if frames.is_empty() {
        return Err(format!(
            "{}: there are no pictures in this folder; name one with files as {}",
            folder.display(),
            evanu_media::READS
        ));
    }
    Ok(frames)
}

/// Reads every frame into a pyramid. A file that was named must be good; in a folder a bad one is set aside.
fn read_all(paths: &[PathBuf], folder: bool) -> Result<Vec<Taken>, String> {
    let scratch = scratch()?;
    let step = Step::new("read");
    let done = AtomicUsize::new(0);
    let reader = Reader::apart();
    let read = |(i, path): (usize, &PathBuf)| -> Vec<Taken> {
        let taken = |frame: Result<_, MediaError>| Taken {
            path: path.clone(),
            frame: frame.map_err(|e| e.to_string()),
        };
        let all = if is_clip(path) {
            let folder = scratch.path().join(format!("clip-{i}"));
            let made = std::fs::create_dir(&folder).map_err(|e| MediaError::writing(&folder, &e));
            match made.and_then(|()| read_moments(&reader, path, &folder)) {
                Ok(frames) => frames.into_iter().map(|frame| taken(Ok(frame))).collect(),
                Err(e) => vec![taken(Err(e))],
            }
        } else {
            vec![taken(read_one(&reader, path, &scratch.path().join(format!("{i}"))))]
        };
        step.at((done.fetch_add(1, Ordering::Relaxed) + 1) as f32 / paths.len() as f32);
        all
    };
    let taken: Vec<Taken> = paths.par_iter().enumerate().flat_map_iter(read).collect();
    drop(step);
    let bad: Vec<&String> = taken.iter().filter_map(|t| t.frame.as_ref().err()).collect();
    match bad.first() {
        Some(e) if !folder || bad.len() == taken.len() => return Err((*e).clone()),
        _ => bad.iter().for_each(|e| eprintln!("set aside: {e}")),
    }
    Ok(taken)
}
