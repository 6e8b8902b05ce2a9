//! Clips with known truth: two lamp posts stand before the wing, or a lamp stand in the corner of the hall, while visitors cross and light
//! trembles and drifts; the same moments without what stands there.

use crate::crowds::Crowd;
use crate::set::DemoError;
use crate::shoot::{Hold, Order, Shoot, Sight, empty_frame, frame_size};
use evanu_core::geometry::Size;
use evanu_core::pixel::Raster;
use evanu_core::pixel::distance::distances_within;
use evanu_core::pixel::flood::parts;
use evanu_core::random::Random;
use evanu_media::clip::{ClipInfo, Colour, Layout, Matrix, Yuv, write_y4m};
use evanu_media::{Format, MediaError, Output, write, write_grey};
use std::convert::Infallible;
use std::io::BufWriter;
use std::path::Path;

/// What a clip shows and how it is taken.
#[derive(Debug, Clone, Copy)]
pub struct ClipKind {
    /// Its name on the command line.
    pub name: &'static str,
    /// With what is to go, and without it.
    pub(crate) sights: (Sight, Sight),
    crowd: Crowd,
    hold: Hold,
    /// Seconds between two frames, 25 of which are shown in a second: visitors of the forecourt hurry.
    interval: f64,
    /// Stops of light that are lost from the first frame to the last.
    fading: f64,
    /// Stops by which frames differ at random.
    flicker: f64,
    /// How far leaves move.
    breeze: f64,
    /// What chance begins with, and how many frames there are, when nothing else is asked for.
    pub seed: u64,
    /// See `seed`.
    pub frames: usize,
}

const POSTS: ClipKind = ClipKind {
    name: "clip",
    sights: (Sight::PutUp, Sight::Forecourt),
    crowd: Crowd::Forecourt,
    hold: Hold::Tripod(None),
    interval: 0.12,
    fading: 0.0,
    flicker: 0.07,
    breeze: 0.0,
    seed: 20260601,
    frames: 150,
};
pub(crate) const HALL: ClipKind = ClipKind {
    name: "hall",
    sights: (Sight::HallWithStand, Sight::Hall),
    crowd: Crowd::Hall,
    interval: 0.04,
    fading: 0.15,
    flicker: 0.02,
    seed: 7,
    frames: 250,
    ..POSTS
};
pub(crate) const HALL_BY_HAND: ClipKind =
    ClipKind { name: "hall-by-hand", hold: Hold::Hands, seed: 9, frames: 75, ..HALL };
pub(crate) const LEAVES: ClipKind = ClipKind {
    name: "leaves",
    sights: (Sight::Forecourt, Sight::Forecourt),
    crowd: Crowd::Leaving(6.0),
    interval: 0.04,
    flicker: 0.01,
    breeze: 0.007,
    seed: 5,
    frames: 150,
    ..POSTS
};

/// All kinds; those after the first three are sample sets.
pub const CLIPS: [ClipKind; 6] = [
    POSTS,
    ClipKind { name: "clip-fading", fading: 0.3, ..POSTS },
    ClipKind { name: "clip-shaken", hold: Hold::Hands, ..POSTS },
    HALL,
    HALL_BY_HAND,
    LEAVES,
];

impl ClipKind {
    /// How its frames are taken of a sight.
    pub(crate) fn order(&self, seed: u64, width: u32, frames: usize, sight: Sight) -> Order {
        Order {
            sight,
            hold: self.hold,
            interval: self.interval,
            dusk: self.fading,
            flicker: self.flicker,
            breeze: self.breeze,
            pitch: if self.crowd == Crowd::Hall { 0.0 } else { 0.105 },
            ..Order::by_hand(seed, width, frames, self.crowd)
        }
    }
}

/// What is wanted of a clip.
#[derive(Debug, Clone, Copy)]
pub struct ClipOrder {
    /// What it shows.
    pub kind: ClipKind,
    /// Settles everything that is left to chance.
    pub seed: u64,
    /// Width of a frame.
    pub width: u32,
    /// Number of frames.
    pub frames: usize,
}

/// Codes that a pixel of the empty place must differ by to be of the posts, and pixels around that are covered too.
const OTHER: f32 = 7.0 * 257.0;
/// Fewer such pixels are chance in rendering.
const SPECK: usize = 60;
const AROUND: usize = 3;

/// Renders `in.y4m`, `truth.y4m` (the same without what is to go), `plate.png` (the first frame's place without anybody), `mask.png` (what is to go and
/// its shadow), `sound.wav` and `occupied.y4m` (white where somebody or a shadow is).
///
/// # Errors
/// When they cannot be written.
pub fn render_clip(order: ClipOrder, folder: &Path, tell: &dyn Fn(String)) -> Result<(), DemoError> {
    std::fs::create_dir_all(folder).map_err(|e| MediaError::writing(folder, &e))?;
    let kind = order.kind;
    let shoot = |sight| Shoot::new(kind.order(order.seed, order.width, order.frames, sight));
    let (with, without) = (shoot(kind.sights.0), shoot(kind.sights.1));
    // The middle of a frame, sixteen to nine.
    let whole = frame_size(order.width);
    let size = Size::new(whole.width & !1, (whole.width * 9 / 16).min(whole.height) & !1);
    let layout = Layout { bits: 8, across: 1, down: 1, grey: false };
    let colour = Colour { matrix: Matrix::BT709, full: false };
    let info = ClipInfo {
        size,
        rate: (25, 1),
        frames: order.frames as u64,
        seconds: None,
        layout,
        colour,
        rotation: 0,
        codec: "rawvideo".into(),
        bits_a_second: None,
        sound: false,
        tags: ["bt709".into(), "bt709".into(), "bt709".into()],
        scale: 25,
    };
    let even = |picture: &Raster| -> Raster {
        let (w, wide) = (size.width as usize, picture.size.width as usize);
        let first = (picture.size.height - size.height) as usize / 2;
        let rows = (first..first + size.height as usize)
            .flat_map(|y| picture.data[3 * y * wide..][..3 * w].iter().copied());
        Raster { size, data: rows.collect() }
    };
    let coded = |picture: &Raster| -> Yuv {
        let values: Vec<f32> = even(picture).data.iter().map(|v| f32::from(*v) / 65535.0).collect();
        let planes = colour.planes(&values, size, layout);
        Yuv { planes: planes.map(|p| p.into_iter().map(|v| v.round().clamp(0.0, 255.0) as u16).collect()) }
    };
    let stream = |name: &str, frame: &dyn Fn(usize) -> Yuv| -> Result<(), DemoError> {
        let path = folder.join(name);
        let failed = |e: std::io::Error| MediaError::writing(&path, &e);
        let mut out = BufWriter::new(std::fs::File::create(&path).map_err(failed)?);
        let mut all = (0..order.frames).map(|k| {
            tell(format!("{name}: frame {} of {}", k + 1, order.frames));
            frame(k)
        });
        Ok(write_y4m(&mut out, &info, &mut all).map_err(failed)?)
    };
    stream("in.y4m", &|k| coded(&with.frame(k).picture))?;
    let occupied = std::cell::RefCell::new(Vec::new());
    stream("truth.y4m", &|k| {
        let frame = without.frame(k);
        let code = |o: &bool| if *o { 65535u16 } else { 0 };
        let white = frame.occupied.iter().flat_map(|o| [code(o); 3]).collect();
        occupied.borrow_mut().push(coded(&Raster { size: frame.picture.size, data: white }));
        coded(&frame.picture)
    })?;
    let occupied = occupied.into_inner();
    stream("occupied.y4m", &|k| occupied[k].clone())?;
    let empty = |shoot: &Shoot| even(&empty_frame(shoot.place(0), &shoot.shots[0], frame_size(order.width)));
    let (posts, clear) = (empty(&with), empty(&without));
    let (w, h) = (size.width as usize, size.height as usize);
    // Means over three by three: what is left to chance in rendering is calmer there.
    let off = |x: usize, y: usize, c: usize| -> f32 {
        let at = |x: usize, y: usize| {
            let p = 3 * (y.min(h - 1) * w + x.min(w - 1)) + c;
            f32::from(posts.data[p]) - f32::from(clear.data[p])
        };
        (0..9).map(|k| at((x + k % 3).saturating_sub(1), (y + k / 3).saturating_sub(1))).sum::<f32>() / 9.0
    };
    let mut open: Vec<bool> =
        (0..w * h).map(|p| (0..3).any(|c| off(p % w, p / w, c).abs() > OTHER)).collect();
    let mut other = vec![false; w * h];
    for part in parts(&mut open, w, 0..w * h, 2) {
        if part.len() >= SPECK {
            part.iter().for_each(|&p| other[p] = true);
        }
    }
    let near = distances_within(&other, size.width as usize, AROUND);
    let white = |d: &f32| if d.is_finite() { [65535u16; 3] } else { [0; 3] };
    let mask = Raster { size, data: near.iter().flat_map(white).collect() };
    let band = |of: &Raster, r: evanu_core::geometry::Rect| -> Result<Raster, Infallible> {
        let from = 3 * r.y as usize * of.size.width as usize;
        Ok(Raster { size: r.size(), data: of.data[from..from + 3 * r.size().pixels() as usize].to_vec() })
    };
    let path = folder.join("sound.wav");
    std::fs::write(&path, sound(order.seed, order.frames)).map_err(|e| MediaError::writing(&path, &e))?;
    write_grey(&folder.join("mask.png"), size, |r| band(&mask, r))?;
    let output = Output { format: Format::Png { sixteen: true }, size, camera: None };
    write(&folder.join("plate.png"), &output, |r| band(&clear, r))?;
    Ok(())
}

/// Steps on stone over a quiet murmur, as long as so many frames: one channel of 16 bits at 48 kHz.
fn sound(seed: u64, frames: usize) -> Vec<u8> {
    const RATE: usize = 48_000;
    let count = frames * RATE / 25;
    let mut random = Random::new(seed ^ 0x50D);
    let steps: Vec<(usize, f64)> = (0..count / (RATE * 11 / 20) + 1)
        .map(|k| {
            ((k as f64 * 0.55 * RATE as f64 + random.within(0.0, 2000.0)) as usize, random.within(0.3, 1.0))
        })
        .collect();
    let (mut murmur, mut step) = (0.0, 0.0);
    let mut out = Vec::with_capacity(44 + 2 * count);
    let four = |v: usize| (v as u32).to_le_bytes();
    out.extend_from_slice(b"RIFF");
    out.extend_from_slice(&four(36 + 2 * count));
    out.extend_from_slice(b"WAVEfmt ");
    out.extend_from_slice(&four(16));
    out.extend_from_slice(&[1, 0, 1, 0]);
    out.extend_from_slice(&four(RATE));
    out.extend_from_slice(&four(2 * RATE));
    out.extend_from_slice(&[2, 0, 16, 0]);
    out.extend_from_slice(b"data");
    out.extend_from_slice(&four(2 * count));
    for k in 0..count {
        murmur = 0.995 * murmur + 0.02 * random.normal();
        let strike: f64 = steps
            .iter()
            .filter(|(at, _)| (*at..at + RATE / 8).contains(&k))
            .map(|(at, loud)| loud * (-((k - at) as f64) / 900.0).exp())
            .sum();
        step = 0.8 * step + 0.2 * random.normal() * strike;
        let value = 6000.0 * (0.25 * murmur + step);
        out.extend_from_slice(&(value.clamp(-32_000.0, 32_000.0) as i16).to_le_bytes());
    }
    out
}
