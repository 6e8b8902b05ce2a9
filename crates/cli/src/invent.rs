//! `evanu invent`: an area of a picture made up from what is around it; the contract is in `docs/formats.md`.

use crate::files::{check_output, read_one, scratch, write_whole};
use crate::tell::Step;
use evanu_core::fill::{Area, Ground, Hint, Wish, areas, hints, invent, search_area};
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::tone::{CODE_OF_ROOT, LINEAR_OF_U8, LINEAR_OF_U16, linear_of_root, root};
use evanu_core::pixel::{Depth, FrameSource, Raster, Samples};
use evanu_media::{
    CameraData, Format, Mask, Output, Reader, TiledFrame, read_mask, rewrite_light, write, write_light,
};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::time::Instant;

/// Options of `evanu invent`.
#[derive(clap::Args)]
pub(crate) struct Args {
    /// The picture
    picture: PathBuf,
    /// A PNG of its size: white is made up
    #[arg(long)]
    mask: PathBuf,
    /// Where the result goes; .tif, .png, .jpg or .exr. Further variants get -2, -3 … before the extension
    #[arg(long)]
    out: PathBuf,
    /// How many variants
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..=16))]
    variants: u8,
    /// Where chance begins: the same seed gives the same result
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Write what was made up as JSON
    #[arg(long)]
    report: Option<PathBuf>,
}

/// Share of a picture that must be left.
const LEFT: f64 = 0.15;

#[derive(Serialize)]
struct Report {
    version: u32,
    picture: String,
    mask: String,
    width: u32,
    height: u32,
    seed: u64,
    invented: Invented,
    areas: Vec<AreaReport>,
    variants: Vec<VariantReport>,
    seconds: f64,
}

#[derive(Serialize)]
struct Invented {
    pixels: u64,
    /// Of the picture.
    share: f64,
}

#[derive(Serialize)]
struct AreaReport {
    /// Left, top, width and height.
    bbox: [i64; 4],
    pixels: usize,
    /// What will be hard, and what helps.
    hints: Vec<Hint>,
}

#[derive(Serialize)]
struct VariantReport {
    path: String,
    /// How unlike its surroundings, for comparing these variants.
    energy: f32,
}

/// An area that was made up.
struct Made {
    search: Rect,
    hole: Vec<bool>,
    /// By variants.
    planes: Vec<[Vec<u16>; 3]>,
    energies: Vec<f32>,
    hints: Vec<Hint>,
}

/// Runs the command.
pub(crate) fn run(args: Args) -> Result<(), String> {
    let begin = Instant::now();
    let outs: Vec<PathBuf> = (1..=args.variants).map(|k| numbered(&args.out, k)).collect();
    let inputs = [args.picture.clone(), args.mask.clone()];
    for out in outs.iter().chain(&args.report) {
        check_output(out, &inputs)?;
    }
    Format::by_extension(&args.out, false).map_err(|e| e.to_string())?;
    let folder = scratch()?;
    let (picture, camera) = read_one(&Reader::apart(), &args.picture, &folder.path().join("picture"))
        .map_err(|e| e.to_string())?;
    let size = picture.size();
    let mask = read_mask(&args.mask, size).map_err(|e| e.to_string())?;
    let pixels = check(&args, &mask, size)?;
    let areas = areas(&mask.set, size);
    let step = Step::new("invent");
    let mut made = Vec::new();
    for (k, area) in areas.iter().enumerate() {
        let watch = |share: f32| {
            step.at((k as f32 + share) / areas.len() as f32);
            Ok(())
        };
        made.push(make(&args, &picture, &mask, area, &watch)?);
    }
    drop(step);
    let step = Step::new("write");
    for (k, out) in outs.iter().enumerate() {
        put(&args.picture, out, (&picture, &camera), &made, k)?;
        step.at((k + 1) as f32 / outs.len() as f32);
    }
    drop(step);
    for hint in made.iter().flat_map(|m| &m.hints) {
        eprintln!("{}", hint.words());
    }
    if pixels == 0 {
        eprintln!("{}: the mask is black: nothing was made up", args.mask.display());
    }
    if let Some(path) = &args.report {
        let energy = |k: usize| made.iter().map(|m| m.energies[k]).sum::<f32>() / made.len().max(1) as f32;
        let report = Report {
            version: 1,
            picture: evanu_media::path_text(&args.picture),
            mask: evanu_media::path_text(&args.mask),
            width: size.width,
            height: size.height,
            seed: args.seed,
            invented: Invented { pixels, share: pixels as f64 / size.pixels() as f64 },
            areas: areas
                .iter()
                .zip(&made)
                .map(|(area, made)| AreaReport {
                    bbox: [area.bbox.x, area.bbox.y, area.bbox.width.into(), area.bbox.height.into()],
                    pixels: area.pixels,
                    hints: made.hints.clone(),
                })
                .collect(),
            variants: outs
                .iter()
                .enumerate()
                .map(|(k, out)| VariantReport { path: evanu_media::path_text(out), energy: energy(k) })
                .collect(),
            seconds: begin.elapsed().as_secs_f64(),
        };
        let text = serde_json::to_string_pretty(&report).map_err(|e| e.to_string())?;
        write_whole(path, text.as_bytes())?;
    }
    for out in outs {
        println!("{}", out.display());
    }
    Ok(())
}

/// The name of a variant.
fn numbered(out: &Path, k: u8) -> PathBuf {
    if k == 1 {
        return out.to_owned();
    }
    let mut name = out.file_stem().unwrap_or_default().to_owned();
    name.push(format!("-{k}"));
    if let Some(extension) = out.extension() {
        name.push(".");
        name.push(extension);
    }
    out.with_file_name(name)
}

/// How many pixels a mask means, when enough of the picture is left.
fn check(args: &Args, mask: &Mask, size: Size) -> Result<u64, String> {
    let pixels = mask.set.iter().filter(|s| **s).count() as u64;
    let left = 1.0 - pixels as f64 / size.pixels() as f64;
    if left < LEFT {
        return Err(format!(
            "{}: it leaves {:.1} % of the picture, and {:.0} % are needed to make up the rest from; make the white area smaller",
            args.mask.display(),
            100.0 * left,
            100.0 * LEFT
        ));
    }
    Ok(pixels)
}

fn make(
    args: &Args,
    picture: &TiledFrame,
    mask: &Mask,
    area: &Area,
    watch: evanu_core::progress::ProgressFn<'_>,
) -> Result<Made, String> {
    let whole = picture.size().rect();
    let search = search_area(area.bbox, whole);
    let planes = roots(picture, search)?;
    let width = mask.size.width as usize;
    let pixels = search.size().pixels() as usize;
    let at = |p: usize| {
        let (x, y) = (p % search.width as usize, p / search.width as usize);
        (search.y as usize + y) * width + search.x as usize + x
    };
    let hole = area.within(search, mask.size.width);
    let void: Vec<bool> = (0..pixels).map(|p| mask.set[at(p)] && !hole[p]).collect();
    let ground = Ground { size: search.size(), planes: &planes, hole: &hole, barred: &[], void: &void };
    let wish = Wish { seed: args.seed, variants: args.variants.into() };
    let filled = invent(&ground, &wish, watch).map_err(|e| format!("{}: {e}", args.mask.display()))?;
    Ok(Made {
        search,
        hints: hints(&ground),
        energies: filled.iter().map(|f| f.energy).collect(),
        planes: filled.into_iter().map(|f| f.planes).collect(),
        hole,
    })
}

/// A part of a picture as root codes.
fn roots(picture: &TiledFrame, part: Rect) -> Result<[Vec<u16>; 3], String> {
    let samples = picture.read(0, part).map_err(|e| e.to_string())?;
    let plane = |c: usize| -> Vec<u16> {
        match &samples {
            Samples::Eight(v) => {
                v.iter().skip(c).step_by(3).map(|v| root(LINEAR_OF_U8[usize::from(*v)])).collect()
            }
            Samples::Sixteen(v) => {
                v.iter().skip(c).step_by(3).map(|v| root(LINEAR_OF_U16[usize::from(*v)])).collect()
            }
            Samples::Wide(v) => v.iter().skip(c).step_by(3).copied().collect(),
        }
    };
    Ok([plane(0), plane(1), plane(2)])
}

/// Writes a variant: what was made up, and for all other pixels the picture's own samples.
fn put(
    from: &Path,
    out: &Path,
    (picture, camera): (&TiledFrame, &CameraData),
    made: &[Made],
    variant: usize,
) -> Result<(), String> {
    let size = picture.size();
    let headroom = picture.headroom();
    let invented = |x: i64, y: i64| -> Option<[u16; 3]> {
        made.iter().find_map(|m| {
            let (x, y) = (x - m.search.x, y - m.search.y);
            let inside = x >= 0 && y >= 0 && x < i64::from(m.search.width) && y < i64::from(m.search.height);
            let p = inside.then(|| y as usize * m.search.width as usize + x as usize)?;
            m.hole[p].then(|| [0, 1, 2].map(|c| m.planes[variant][c][p]))
        })
    };
    let light = |codes: [u16; 3]| codes.map(|v| headroom * linear_of_root(v));
    let exr = matches!(Format::by_extension(out, true), Ok(Format::Exr));
    let was_exr =
        picture.depth() == Depth::Wide && matches!(Format::by_extension(from, true), Ok(Format::Exr));
    if exr && was_exr {
        return rewrite_light(from, out, &|x, y| invented(x.into(), y.into()).map(light))
            .map_err(|e| e.to_string());
    }
    let samples = |band: Rect| picture.read(0, band).map_err(|e| e.to_string());
    let places = |band: Rect| {
        (0..i64::from(band.height))
            .flat_map(move |y| (0..i64::from(band.width)).map(move |x| (band.x + x, band.y + y)))
    };
    if exr {
        return write_light(out, size, Some(camera), |band| {
            let samples = samples(band)?;
            let own = |p: usize| -> [f32; 3] {
                [0, 1, 2].map(|c| match &samples {
                    Samples::Eight(v) => LINEAR_OF_U8[usize::from(v[3 * p + c])],
                    Samples::Sixteen(v) => LINEAR_OF_U16[usize::from(v[3 * p + c])],
                    Samples::Wide(v) => headroom * linear_of_root(v[3 * p + c]),
                })
            };
            Ok::<_, String>(
                places(band)
                    .enumerate()
                    .flat_map(|(p, (x, y))| invented(x, y).map_or_else(|| own(p), light))
                    .collect(),
            )
        })
        .map_err(|e| e.to_string());
    }
    let sixteen = picture.depth() != Depth::Eight;
    let format = Format::by_extension(out, sixteen).map_err(|e| e.to_string())?;
    let code = |v: u16| {
        if headroom == 1.0 {
            CODE_OF_ROOT[usize::from(v)]
        } else {
            CODE_OF_ROOT[usize::from(root(headroom * linear_of_root(v)))]
        }
    };
    write(out, &Output { format, size, camera: Some(camera) }, |band| {
        let samples = samples(band)?;
        let own = |i: usize| match &samples {
            Samples::Eight(v) => 257 * u16::from(v[i]),
            Samples::Sixteen(v) => v[i],
            Samples::Wide(v) => code(v[i]),
        };
        let mut raster = Raster::new(band.size());
        for (p, (x, y)) in places(band).enumerate() {
            let pixel =
                invented(x, y).map_or_else(|| [0, 1, 2].map(|c| own(3 * p + c)), |codes| codes.map(code));
            raster.data[3 * p..3 * p + 3].copy_from_slice(&pixel);
        }
        Ok::<_, String>(raster)
    })
    .map_err(|e| e.to_string())
}
