//! The sample sets by name: writing the shipped frames, and rendering any of them at any size with its truth.

use crate::clip::{ClipKind, ClipOrder, HALL, HALL_BY_HAND, LEAVES, render_clip};
use crate::crowds::Crowd;
use crate::dng::write_dng;
use crate::shoot::{Hold, Order, Shoot, Shot, Sight, frame_size};
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::{FrameSource, Raster, Samples};
use evanu_media::{CameraData, Format, MediaError, Output, WriteError, write, write_grey};
use glam::Vec3;
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
    /// What there is to see in it.
    pub says: &'static str,
    /// Frames: file name and content.
    pub frames: &'static [(&'static str, &'static [u8])],
    /// How it is taken: for a width and a number of frames.
    order: fn(u32, usize) -> Order,
    /// Hour and minute of the first frame.
    clock: (u64, u64),
    /// Camera raw.
    raw: bool,
    /// What kind of clip it is; `None` for photographs.
    pub clip: Option<ClipKind>,
}

macro_rules! frames {
    ($folder:literal $ending:literal: $($name:literal)*) => {
        &[$((concat!($name, $ending), include_bytes!(concat!("../samples/", $folder, "/", $name, $ending)))),*]
    };
}

/// All shipped sets.
pub const SETS: [SetInfo; 11] = [
    SetInfo {
        name: "forecourt",
        title: "Forecourt, by hand",
        says: "visitors and a van pass within forty seconds",
        frames: frames!("forecourt" ".jpg":
            "frame-01" "frame-02" "frame-03" "frame-04" "frame-05" "frame-06"
            "frame-07" "frame-08" "frame-09" "frame-10" "frame-11" "frame-12"),
        order: |width, frames| Order::by_hand(20260516, width, frames, Crowd::Forecourt),
        clock: (14, 31),
        raw: false,
        clip: None,
    },
    SetInfo {
        name: "put-up",
        title: "Posts, a cable and a flare",
        says: "what was put up never moves: for the line Retouch",
        frames: frames!("put-up" ".jpg": "frame-01" "frame-02" "frame-03" "frame-04" "frame-05"),
        order: |width, frames| Order {
            sight: Sight::PutUp,
            flare: true,
            ..Order::by_hand(20260523, width, frames, Crowd::Few)
        },
        clock: (13, 2),
        raw: false,
        clip: None,
    },
    SetInfo {
        name: "queue",
        title: "Queue at the door",
        says: "behind the queue most is clear in one or two frames only, and frame 6 was bumped",
        frames: frames!("queue" ".jpg":
            "frame-01" "frame-02" "frame-03" "frame-04" "frame-05" "frame-06" "frame-07" "frame-08" "frame-09"),
        order: |width, frames| Order {
            hold: Hold::Tripod(Some(5)),
            eye: Vec3::new(-0.6, 1.62, 6.5),
            yaw: 0.06,
            pitch: 0.10,
            interval: 20.0,
            ..Order::by_hand(20260518, width, frames, Crowd::Queue)
        },
        clock: (15, 10),
        raw: false,
        clip: None,
    },
    SetInfo {
        name: "assistant",
        title: "Assistant left and right",
        says: "two frames on a tripod, somebody elsewhere in each",
        frames: frames!("assistant" ".jpg":
            "frame-01" "frame-02"),
        order: |width, frames| Order {
            hold: Hold::Tripod(None),
            interval: 40.0,
            ..Order::by_hand(20260519, width, frames, Crowd::Assistant)
        },
        clock: (9, 12),
        raw: false,
        clip: None,
    },
    SetInfo {
        name: "portrait",
        title: "Portrait with lamp",
        says: "two frames, the second without the lamp and its light",
        frames: frames!("portrait" ".jpg":
            "frame-01" "frame-02"),
        order: |width, frames| Order {
            hold: Hold::Tripod(None),
            yaw: -0.05,
            pitch: -0.03,
            interval: 30.0,
            ..Order::by_hand(20260520, width, frames, Crowd::Portrait)
        },
        clock: (9, 40),
        raw: false,
        clip: None,
    },
    SetInfo {
        name: "clouds",
        title: "Clouds and fading light",
        says: "the sky moves and belongs, the light goes",
        frames: frames!("clouds" ".jpg":
            "frame-01" "frame-02" "frame-03" "frame-04" "frame-05" "frame-06" "frame-07" "frame-08" "frame-09" "frame-10"),
        order: |width, frames| Order {
            hold: Hold::Tripod(None),
            pitch: 0.20,
            interval: 4.0,
            wind: 0.018,
            dusk: 0.9,
            ..Order::by_hand(20260521, width, frames, Crowd::Few)
        },
        clock: (18, 5),
        raw: false,
        clip: None,
    },
    SetInfo {
        name: "telescope",
        title: "Brass telescope",
        says: "a dark card keeps another reflection away in each frame",
        frames: frames!("telescope" ".jpg":
            "frame-01" "frame-02" "frame-03" "frame-04" "frame-05" "frame-06" "frame-07" "frame-08" "frame-09" "frame-10" "frame-11" "frame-12" "frame-13" "frame-14"),
        order: |width, frames| Order {
            sight: Sight::Telescope,
            hold: Hold::Tripod(None),
            eye: Vec3::new(0.05, 1.52, 0.45),
            pitch: -0.24,
            over: 0.13,
            interval: 15.0,
            ..Order::by_hand(20260522, width, frames, Crowd::Nobody)
        },
        clock: (11, 20),
        raw: false,
        clip: None,
    },
    SetInfo {
        name: "forecourt-raw",
        title: "Forecourt, raw",
        says: "the same as camera raw, five frames",
        frames: frames!("forecourt-raw" ".dng": "frame-01" "frame-02" "frame-03" "frame-04" "frame-05"),
        order: |width, frames| Order::by_hand(20260517, width, frames, Crowd::Forecourt),
        clock: (14, 31),
        raw: true,
        clip: None,
    },
    SetInfo {
        name: "hall",
        title: "Hall clip",
        says: "ten seconds: a lamp stand in the corner, people before and behind it",
        frames: frames!("hall" ".mp4": "hall"),
        order: |width, frames| HALL.order(HALL.seed, width, frames, HALL.sights.0),
        clock: (0, 0),
        raw: false,
        clip: Some(HALL),
    },
    SetInfo {
        name: "hall-by-hand",
        title: "Hall clip, by hand",
        says: "three seconds: the same corner from a camera that trembles",
        frames: frames!("hall-by-hand" ".mp4": "hall-by-hand"),
        order: |width, frames| HALL_BY_HAND.order(HALL_BY_HAND.seed, width, frames, HALL_BY_HAND.sights.0),
        clock: (0, 0),
        raw: false,
        clip: Some(HALL_BY_HAND),
    },
    SetInfo {
        name: "leaves",
        title: "Shrub in the breeze, clip",
        says: "six seconds: somebody before leaves that move, who walks away",
        frames: frames!("leaves" ".mp4": "leaves"),
        order: |width, frames| LEAVES.order(LEAVES.seed, width, frames, LEAVES.sights.0),
        clock: (0, 0),
        raw: false,
        clip: Some(LEAVES),
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
    #[error("there is no sample set \"{0}\"; there are: {names}", names = SETS.map(|s| s.name).join(", "))]
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

/// Renders a set at another size, and with as many frames as it has or another number, into `folder`, with the truth in its subfolder `truth`.
///
/// # Errors
/// When there is no such set or a file cannot be written.
pub fn render(
    name: &str,
    width: u32,
    frames: Option<usize>,
    folder: &Path,
    tell: &dyn Fn(String),
) -> Result<(), DemoError> {
    let set = SETS.iter().find(|s| s.name == name).ok_or_else(|| DemoError::Unknown(name.into()))?;
    if let Some(kind) = set.clip {
        let order = ClipOrder { kind, seed: kind.seed, width, frames: frames.unwrap_or(kind.frames) };
        return render_clip(order, folder, tell);
    }
    let truth = folder.join("truth");
    std::fs::create_dir_all(&truth).map_err(|e| MediaError::writing(&truth, &e))?;
    tell(format!("rendering the empty place, {width} px wide"));
    let frames = frames.unwrap_or(set.frames.len());
    let shoot = Shoot::new((set.order)(width, frames));
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
        let camera = camera_data(&shoot.shots[k], set.clock);
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
fn camera_data(shot: &Shot, (hour, minute): (u64, u64)) -> CameraData {
    let ms = (shot.time * 1000.0).round() as u64;
    let (s, ms) = (ms / 1000, ms % 1000);
    CameraData {
        time: Some(format!("2026-05-16T{hour:02}:{:02}:{:02}.{ms:03}", minute + (7 + s) / 60, (7 + s) % 60)),
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
