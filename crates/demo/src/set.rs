//! The sample sets by name: writing the shipped frames, and rendering any of them at any size with its truth.

use crate::dng::write_dng;
use crate::figures::Crowd;
use crate::shoot::{Order, PITCH, Shoot, Shot, frame_size};
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::{FrameSource, Raster, Samples};
use evanu_media::{CameraData, Format, MediaError, Output, WriteError, write, write_grey};
use serde::{Deserialize, Serialize};
use std::convert::Infallible;
use std::path::Path;

/// A sample set that ships with the program.
#[derive(Clone, Copy)]
pub struct SetInfo {
    /// Name on the command line and of its folder.
    pub name: &'static str,
    /// Name on the screen.
    pub title: &'static str,
    /// Frames: file name and content.
    pub frames: &'static [(&'static str, &'static [u8])],
    seed: u64,
    /// Camera raw.
    raw: bool,
}

macro_rules! frames {
    ($folder:literal $ending:literal: $($name:literal)*) => {
        &[$((concat!($name, $ending), include_bytes!(concat!("../samples/", $folder, "/", $name, $ending)))),*]
    };
}

/// All shipped sets.
pub const SETS: [SetInfo; 2] = [
    SetInfo {
        name: "forecourt",
        title: "Forecourt, by hand",
        frames: frames!("forecourt" ".jpg":
            "frame-01" "frame-02" "frame-03" "frame-04" "frame-05" "frame-06"
            "frame-07" "frame-08" "frame-09" "frame-10" "frame-11" "frame-12"),
        seed: 20260516,
        raw: false,
    },
    SetInfo {
        name: "forecourt-raw",
        title: "Forecourt, raw",
        frames: frames!("forecourt-raw" ".dng": "frame-01" "frame-02" "frame-03" "frame-04" "frame-05"),
        seed: 20260517,
        raw: true,
    },
];

/// Share of the light that the raw set's sensor was given: a good stop less than a picture needs.
const UNDER: f32 = 0.45;

/// Why a set could not be written.
#[derive(Debug, thiserror::Error)]
pub enum DemoError {
    /// A file could not be written or read.
    #[error(transparent)]
    Media(#[from] MediaError),
    /// There is no such set.
    #[error("there is no sample set \"{0}\"; there are: forecourt, forecourt-raw")]
    Unknown(String),
    /// The truth beside a set is damaged.
    #[error("{0}")]
    Truth(String),
}

impl From<WriteError<Infallible>> for DemoError {
    fn from(e: WriteError<Infallible>) -> Self {
        match e {
            WriteError::Media(e) => Self::Media(e),
            WriteError::Pixels(never) => match never {},
        }
    }
}

/// What is true about a rendered set: how each frame was taken. The empty place stands beside it as `place.tif`.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Truth {
    /// Size of every frame.
    pub size: Size,
    /// One entry a frame, in the order of file names.
    pub shots: Vec<Shot>,
}

/// Writes the shipped frames into one folder a set; files that are already there stay as they are.
///
/// # Errors
/// When a file cannot be written.
pub fn write_samples(folder: &Path) -> Result<(), DemoError> {
    for set in &SETS {
        let target = folder.join(set.name);
        std::fs::create_dir_all(&target).map_err(|e| MediaError::writing(&target, &e))?;
        for (name, bytes) in set.frames {
            let path = target.join(name);
            if !path.exists() {
                let part = target.join(format!(".{name}.part"));
                std::fs::write(&part, bytes)
                    .and_then(|()| std::fs::rename(&part, &path))
                    .map_err(|e| MediaError::writing(&path, &e))?;
            }
        }
    }
    Ok(())
}

/// Renders a set at another size into `folder`, with the truth in its subfolder `truth`.
///
/// # Errors
/// When there is no such set or a file cannot be written.
pub fn render(
    name: &str,
    width: u32,
    frames: usize,
    folder: &Path,
    tell: &dyn Fn(String),
) -> Result<(), DemoError> {
    let set = SETS.iter().find(|s| s.name == name).ok_or_else(|| DemoError::Unknown(name.into()))?;
    let truth = folder.join("truth");
    std::fs::create_dir_all(&truth).map_err(|e| MediaError::writing(&truth, &e))?;
    tell(format!("rendering the empty place, {width} px wide"));
    let shoot = Shoot::new(Order {
        seed: set.seed,
        width,
        frames,
        crowd: Crowd::Forecourt,
        sway: 0.0,
        pitch: PITCH,
        wind: 0.0,
    });
    let size = frame_size(width);
    let place = truth.join("place.tif");
    let camera = None;
    let output = Output { format: Format::Tiff { sixteen: true }, size: shoot.wide, camera };
    write(&place, &output, |r| Ok::<_, Infallible>(cut_place(&shoot, r)))?;
    let text = serde_json::to_string_pretty(&Truth { size, shots: shoot.shots.clone() })
        .map_err(|e| DemoError::Truth(e.to_string()))?;
    let path = truth.join("truth.json");
    std::fs::write(&path, text).map_err(|e| MediaError::writing(&path, &e))?;
    for k in 0..frames {
        tell(format!("rendering frame {} of {frames}", k + 1));
        let camera = camera_data(&shoot.shots[k]);
        if set.raw {
            let path = folder.join(format!("frame-{:02}.dng", k + 1));
            let failed = |e: tiff::TiffError| DemoError::Truth(format!("{}: {e}", path.display()));
            let mut file = std::fs::File::create(&path).map_err(|e| MediaError::writing(&path, &e))?;
            write_dng(&mut file, size, &shoot.mosaic(k, UNDER), &camera).map_err(failed)?;
            continue;
        }
        let frame = shoot.frame(k);
        let output = Output { format: Format::Jpeg { quality: 91 }, size, camera: Some(&camera) };
        let file = folder.join(format!("frame-{:02}.jpg", k + 1));
        write(&file, &output, |r| Ok::<_, Infallible>(cut(&frame.picture, r)))?;
        let mask = truth.join(format!("occupied-{:02}.png", k + 1));
        let white = |o: bool| if o { [65535u16; 3] } else { [0; 3] };
        let picture = Raster { size, data: frame.occupied.iter().flat_map(|&o| white(o)).collect() };
        write_grey(&mask, size, |r| Ok::<_, Infallible>(cut(&picture, r)))?;
    }
    Ok(())
}

fn cut(picture: &Raster, r: Rect) -> Raster {
    let w = 3 * picture.size.width as usize;
    let rows = r.y as usize * w..r.bottom() as usize * w;
    Raster { size: r.size(), data: picture.data[rows].to_vec() }
}

fn cut_place(shoot: &Shoot, r: Rect) -> Raster {
    match shoot.place(0).read(0, r) {
        Ok(Samples::Sixteen(data)) => Raster { size: r.size(), data },
        _ => Raster::new(r.size()),
    }
}

/// What the invented camera writes.
fn camera_data(shot: &Shot) -> CameraData {
    let ms = (shot.time * 1000.0).round() as u64;
    let (s, ms) = (ms / 1000, ms % 1000);
    CameraData {
        time: Some(format!("2026-05-16T14:{:02}:{:02}.{ms:03}", 31 + (7 + s) / 60, (7 + s) % 60)),
        exposure_s: Some(1.0 / 250.0),
        aperture: Some(8.0),
        iso: Some(200),
        focal_mm: Some(29.0),
        camera: Some("Hilltop One".into()),
        orientation: 1,
        block: None,
    }
    .with_block()
}
