//! A photographer's hands and camera: frames of a place with visitors, and the truth beside them.
//!
//! When the camera only turns, as hands do over some seconds, frames are related by exact homographies. The empty
//! place is rendered once on a wider grid (light, share of sunlight, distance); a frame takes it through its
//! homography and adds figures and their shadows by tracing only where they can be. When the camera also
//! moves, near ground shifts against the horizon, and each frame has a place of its own, rendered from where the
//! camera then was. Then come the lens (vignetting), the exposure (gain), the sensor (noise that grows with light) and eight bits.

use crate::backdrop::{Backdrop, exposure};
use crate::camera::Camera;
use crate::crowds::{Crowd, crowd};
use crate::figures::{self, Mover, Posed};
use crate::flare;
use crate::forecourt::{forecourt, foreground, put_up};
use crate::hall::{hall, stand};
use crate::place::Place;
use crate::telescope::telescope;
use crate::texture::noise;
use crate::trace::Ray;
use evanu_core::geometry::{Homography, Point, Rect, Size};
use evanu_core::pixel::resample::resample;
use evanu_core::pixel::{MemoryFrame, Raster, tone};
use evanu_core::random::Random;
use glam::{Mat3, Vec3};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::sync::OnceLock;

/// Seconds between frames by hand.
pub const INTERVAL: f64 = 3.4;
/// Focal length in frame widths.
const FOCAL: f64 = 0.80;
/// How much wider than a frame the rendered place is, on each side, in frame widths.
const MARGIN: f64 = 0.045;
/// Eye height in metres.
const EYE: f32 = 1.62;
/// Light lost in the corners.
const VIGNETTING: f32 = 0.16;

/// What is photographed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sight {
    /// The forecourt.
    Forecourt,
    /// The forecourt from behind a bicycle, a cone and a lamp post near the camera.
    Layers,
    /// The forecourt with lamp posts, a cable and a poster put up that never move.
    PutUp,
    /// The entrance hall.
    Hall,
    /// The same with a lamp stand in its corner.
    HallWithStand,
    /// A brass telescope on a table, lit by a large sheet; in each frame a dark card keeps the light off another part of it.
    Telescope,
}

/// How the camera is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hold {
    /// In the hands, which turn it a little from frame to frame.
    Hands,
    /// On a tripod, which somebody may have bumped before one of the frames.
    Tripod(Option<usize>),
}

/// What is wanted.
#[derive(Debug, Clone, Copy)]
pub struct Order {
    /// Settles everything that is left to chance.
    pub seed: u64,
    /// Width of a frame in pixels; the height is two thirds of it.
    pub width: u32,
    /// Number of frames.
    pub frames: usize,
    /// Who is there.
    pub crowd: Crowd,
    /// What is photographed.
    pub sight: Sight,
    /// How the camera is held.
    pub hold: Hold,
    /// Where the camera is, in metres: to the right, up, ahead.
    pub eye: Vec3,
    /// How far to the right the camera looks, in radians.
    pub yaw: f64,
    /// How far up the camera looks, in radians.
    pub pitch: f64,
    /// How far the camera moves between frames, in metres (one standard deviation each way); 0 when it only turns.
    pub sway: f64,
    /// Seconds between frames.
    pub interval: f64,
    /// How fast the clouds drift, as a share of their own size a second; 0 when they stand.
    pub wind: f64,
    /// How many stops of light are lost from the first frame to the last, which also gets warmer.
    pub dusk: f64,
    /// By how many stops all frames are exposed more than the forecourt is.
    pub over: f64,
    /// The brightest place is reflected between the lenses.
    pub flare: bool,
    /// By how many stops frames differ at random, up and down.
    pub flicker: f64,
    /// How far leaves move, as a share of the frame's width; 0 when there is no breeze.
    pub breeze: f64,
}

impl Order {
    /// Frames by hand, by a camera that only turns, of the forecourt from where the sample set was taken.
    pub fn by_hand(seed: u64, width: u32, frames: usize, crowd: Crowd) -> Self {
        let (sight, hold) = (Sight::Forecourt, Hold::Hands);
        let eye = Vec3::new(0.0, EYE, 0.0);
        let (yaw, pitch, interval) = (0.0, 0.105, INTERVAL);
        Self {
            seed,
            width,
            frames,
            crowd,
            sight,
            hold,
            eye,
            yaw,
            pitch,
            sway: 0.0,
            interval,
            wind: 0.0,
            dusk: 0.0,
            over: 0.0,
            flare: false,
            flicker: 0.07,
            breeze: 0.0,
        }
    }
}

/// How one frame was taken.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Shot {
    /// Frame to place coordinates.
    pub to_place: Homography,
    /// Multiplies the light.
    pub gain: f32,
    /// Multiplies red, green and blue of it.
    #[serde(default = "neutral")]
    pub white: [f32; 3],
    /// Seconds after the first frame.
    pub time: f64,
}

/// The empty place as rendered, and how its frames were taken.
pub struct Shoot {
    /// What was wanted.
    pub order: Order,
    /// Size of the wider grid.
    pub wide: Size,
    /// One entry a frame.
    pub shots: Vec<Shot>,
    /// One, or one a frame where things are elsewhere in each.
    models: Vec<Place>,
    /// What the place follows from; visitors may follow from another seed later.
    seed: u64,
    /// Where it is seen from: one spot for all frames when the camera only turns, else one a frame. Rendered when first asked for.
    spots: Vec<(Vec3, OnceLock<Backdrop>)>,
    turns: Vec<Mat3>,
    movers: Vec<Mover>,
}

/// One frame: what the sensor saw, and where something stood or cast a shadow.
pub struct Frame {
    /// Eight-bit sRGB codes in 16 bits a channel.
    pub picture: Raster,
    /// For each pixel, whether a figure or a shadow covers any of it.
    pub occupied: Vec<bool>,
}

/// Size of a frame of a given width.
pub fn frame_size(width: u32) -> Size {
    Size::new(width, (f64::from(width) * 2.0 / 3.0).round() as u32)
}

fn lens(size: Size, focal: f64) -> Homography {
    let (cx, cy) = ((f64::from(size.width) - 1.0) / 2.0, (f64::from(size.height) - 1.0) / 2.0);
    Homography::new([focal, 0.0, cx, 0.0, focal, cy, 0.0, 0.0, 1.0])
}

fn rotation(yaw: f64, pitch: f64, roll: f64) -> Homography {
    let ((sy, cy), (sp, cp), (sr, cr)) = (yaw.sin_cos(), pitch.sin_cos(), roll.sin_cos());
    let y = Homography([cy, 0.0, sy, 0.0, 1.0, 0.0, -sy, 0.0, cy]);
    let p = Homography([1.0, 0.0, 0.0, 0.0, cp, -sp, 0.0, sp, cp]);
    let r = Homography([cr, -sr, 0.0, sr, cr, 0.0, 0.0, 0.0, 1.0]);
    y.after(&p).after(&r)
}

impl Shoot {
    /// Settles how the place is and how its frames are taken; renders nothing yet.
    pub fn new(order: Order) -> Self {
        let size = frame_size(order.width);
        let margin = (MARGIN * f64::from(order.width)).round() as u32;
        let wide = Size::new(size.width + 2 * margin, size.height + 2 * margin);
        let models = match order.sight {
            Sight::Forecourt => vec![Place::new(forecourt(order.seed))],
            Sight::Layers => {
                vec![Place::new([forecourt(order.seed), foreground(order.seed)].concat())]
            }
            Sight::PutUp => vec![Place::new([forecourt(order.seed), put_up()].concat())],
            Sight::Hall => vec![Place::new(hall())],
            Sight::HallWithStand => vec![Place::new([hall(), stand()].concat())],
            Sight::Telescope => (0..order.frames).map(|k| Place::new(telescope(k, order.frames))).collect(),
        };
        let mut drift = Random::new(order.seed ^ 0x5A4A);
        let mut spot = |k: usize| {
            let mut step = || if k > 0 { (order.sway * drift.normal()) as f32 } else { 0.0 };
            (order.eye + Vec3::new(step(), 0.5 * step(), 0.5 * step()), OnceLock::new())
        };
        let apart = order.sway > 0.0 || models.len() > 1;
        let spots = (0..if apart { order.frames } else { 1 }).map(&mut spot).collect();
        let (seed, shots, turns, movers) = (order.seed, Vec::new(), Vec::new(), Vec::new());
        let mut shoot = Self { order, wide, shots, models, seed, spots, turns, movers };
        shoot.take(order.seed, order.frames, order.crowd);
        shoot
    }

    /// Another time at the same place: other visitors, other hands. For a camera that only turns.
    pub fn again(&mut self, seed: u64, frames: usize, crowd: Crowd) {
        self.order = Order { seed, frames, crowd, ..self.order };
        self.take(seed, frames, crowd);
    }

    fn take(&mut self, seed: u64, frames: usize, who: Crowd) {
        let focal = FOCAL * f64::from(self.order.width);
        let mut random = Random::new(seed ^ 0x5407);
        let from_wide = lens(self.wide, focal);
        let to_frame = lens(frame_size(self.order.width), focal).inverse().unwrap_or(Homography::IDENTITY);
        (self.shots, self.turns) = (Vec::new(), Vec::new());
        for k in 0..frames {
            let (steady, bumped) = match self.order.hold {
                Hold::Hands => (1.0, false),
                Hold::Tripod(bumped) => (0.004, bumped == Some(k)),
            };
            let mut hand =
                |amount: f64| steady * (amount * random.normal()).clamp(-2.0 * amount, 2.0 * amount);
            let (yaw, pitch, roll) = (hand(0.0065), hand(0.005), hand(0.0045));
            let bump = if bumped { rotation(0.016, -0.011, 0.013) } else { Homography::IDENTITY };
            let turn = bump.after(&rotation(yaw, pitch, roll));
            let to_place = from_wide.after(&turn).after(&to_frame);
            let later = k as f64 / (frames.max(2) - 1) as f64;
            let gain = (random.within(-self.order.flicker, self.order.flicker) - later * self.order.dusk
                + self.order.over)
                .exp2() as f32;
            let warmer = (later * self.order.dusk) as f32;
            let white = [1.0 + 0.10 * warmer, 1.0, 1.0 - 0.12 * warmer];
            // Nobody presses at even times; of a clip's frames the camera does.
            let uneven = 0.4 * f64::from(u8::from(k > 0 && self.order.interval >= 1.0));
            let time = self.order.interval * k as f64 + random.within(-1.0, 1.0) * uneven;
            self.shots.push(Shot { to_place, gain, white, time });
            let m = turn.0.map(|v| v as f32);
            self.turns.push(Mat3::from_cols_array(&[m[0], m[3], m[6], m[1], m[4], m[7], m[2], m[5], m[8]]));
        }
        self.movers = crowd(seed, who);
    }

    /// The empty place on the wider grid, as seen from where frame `index` was taken.
    pub fn place(&self, index: usize) -> &MemoryFrame {
        &self.backdrop(index).light
    }

    fn backdrop(&self, index: usize) -> &Backdrop {
        let (eye, backdrop) = self.spot(index);
        let focal = FOCAL * f64::from(self.order.width);
        let (seed, same) = (self.seed, self.models.len() > 1);
        let view = (&self.base(), *eye);
        backdrop.get_or_init(|| Backdrop::new(self.model(index), (seed, same), view, (self.wide, focal)))
    }

    fn model(&self, index: usize) -> &Place {
        &self.models[index.min(self.models.len() - 1)]
    }

    /// How the camera looks before it is turned from frame to frame.
    fn base(&self) -> Mat3 {
        Mat3::from_rotation_y(self.order.yaw as f32) * Mat3::from_rotation_x(self.order.pitch as f32)
    }

    fn spot(&self, index: usize) -> &(Vec3, OnceLock<Backdrop>) {
        &self.spots[index.min(self.spots.len() - 1)]
    }

    fn eye(&self, index: usize) -> Vec3 {
        self.spot(index).0
    }

    /// The ray through a pixel of a frame.
    fn ray(&self, index: usize, p: Point) -> Ray {
        let size = frame_size(self.order.width);
        let focal = FOCAL * f64::from(self.order.width);
        let u = (p.x - (f64::from(size.width) - 1.0) / 2.0) / focal;
        let v = (p.y - (f64::from(size.height) - 1.0) / 2.0) / focal;
        let seen = self.camera(index) * Vec3::new(u as f32, v as f32, 1.0);
        let direction = Vec3::new(seen.x, -seen.y, seen.z).normalize();
        Ray { origin: self.eye(index), direction }
    }

    fn camera(&self, index: usize) -> Mat3 {
        self.base() * self.turns[index]
    }

    /// Where frame `to` shows what frame `from` shows at `p`; `None` where something hides it there.
    pub fn same_place(&self, from: usize, p: Point, to: usize) -> Option<Point> {
        let random = &mut Random::new(1);
        let ray = self.ray(from, p);
        let distance = self.model(from).see(&ray, random).distance;
        let size = frame_size(self.order.width);
        let focal = FOCAL * f64::from(self.order.width);
        let eye = self.eye(to);
        // The sky is the same from everywhere.
        let towards = if distance < 900.0 { ray.at(distance) - eye } else { ray.direction };
        let q = self.camera(to).transpose() * Vec3::new(towards.x, -towards.y, towards.z);
        if distance < 900.0 {
            let again = Ray { origin: eye, direction: towards.normalize() };
            let seen = self.model(to).see(&again, random).distance;
            if seen < 0.99 * towards.length() {
                return None;
            }
        }
        let at = |v: f32, n: u32| f64::from(v / q.z) * focal + (f64::from(n) - 1.0) / 2.0;
        Some(Point::new(at(q.x, size.width), at(q.y, size.height)))
    }

    /// Renders frame `index` (from 0) with visitors, lens, gain, noise and rounding to eight bits.
    pub fn frame(&self, index: usize) -> Frame {
        let size = frame_size(self.order.width);
        let (light, occupied) = self.light(index);
        let mut noise = Random::new(self.order.seed ^ 0xF11A ^ ((index as u64) << 32));
        let mut picture = Raster::new(size);
        for (o, v) in picture.data.chunks_exact_mut(3).zip(&light) {
            for (o, clean) in o.iter_mut().zip(v.to_array()) {
                let seen = noisy(clean, &mut noise);
                let code = (tone::to_code(f64::from(seen.clamp(0.0, 1.0))) * 255.0).round();
                *o = code as u16 * 257;
            }
        }
        Frame { picture, occupied }
    }

    /// The same as a camera's own file has it.
    pub fn photograph(&self, index: usize, camera: &Camera) -> Frame {
        let (light, occupied) = self.light(index);
        let seed = self.order.seed ^ 0xF11A ^ ((index as u64) << 32);
        Frame { picture: camera.picture(&light, frame_size(self.order.width), seed), occupied }
    }

    /// The same as a raw sensor sees it: its mosaic of red, green, green, blue, 0..=1. `share` of the light fills it:
    /// below one, what is white in a picture is still below the sensor's end.
    pub fn mosaic(&self, index: usize, share: f32) -> Vec<f32> {
        let w = frame_size(self.order.width).width as usize;
        let (light, _) = self.light(index);
        let mut noise = Random::new(self.order.seed ^ 0xD16 ^ ((index as u64) << 32));
        let colour = |i: usize| [[0, 1], [1, 2]][i / w % 2][i % w % 2];
        let one =
            |(i, v): (usize, &Vec3)| noisy(share * crate::dng::sensor(v.to_array())[colour(i)], &mut noise);
        light.iter().enumerate().map(one).collect()
    }

    /// Light on the sensor in frame `index`, with visitors, lens and gain, and where something stood or cast a shadow.
    fn light(&self, index: usize) -> (Vec<Vec3>, Vec<bool>) {
        let size = frame_size(self.order.width);
        let shot = &self.shots[index];
        let mut light = empty_light(self.place(index), shot, size);
        if self.order.wind > 0.0 {
            self.drift(index, &mut light);
        }
        if self.order.breeze > 0.0 {
            self.rustle(shot, &mut light);
        }
        let figures: Vec<Posed> = self.movers.iter().filter_map(|m| m.at(shot.time as f32)).collect();
        self.shine(index, &figures, &mut light);
        let busy = self.busy(&figures, index, size);
        let focal = (FOCAL * f64::from(self.order.width)) as f32;
        let camera = self.camera(index);
        let (eye, back, place) = (self.eye(index), self.backdrop(index), self.model(index));
        let w = size.width as usize;
        let occupied: Vec<Vec<bool>> = light
            .par_chunks_mut(w)
            .enumerate()
            .map(|(y, row)| {
                let mut random = Random::new(self.order.seed ^ ((index as u64) << 40) ^ ((y as u64) << 8));
                let mut taken = vec![false; w];
                for (x, px) in row.iter_mut().enumerate() {
                    let near = &busy[(y / TILE) * w.div_ceil(TILE) + x / TILE];
                    if near.is_empty() {
                        continue;
                    }
                    let q = shot.to_place.apply(Point::new(x as f64, y as f64));
                    let at = on_grid(self.wide, q);
                    let (colour, cover, shadow) = self.trace(
                        (near, place),
                        (&camera, eye, back),
                        (size, focal),
                        (x, y),
                        at,
                        &mut random,
                    );
                    taken[x] = cover > 0.02 || shadow > 0.03;
                    *px = (*px * (1.0 - shadow)).lerp(colour, cover);
                }
                taken
            })
            .collect();
        if self.order.flare {
            flare::add(&mut light, size);
        }
        for (i, v) in light.iter_mut().enumerate() {
            *v *= falloff(i % w, i / w, size) * shot.gain * Vec3::from(shot.white);
        }
        (light, occupied.concat())
    }

    /// Where nothing but sky is seen, the sky as it is when frame `index` is taken.
    fn drift(&self, index: usize, light: &mut [Vec3]) {
        let (shot, back, w) =
            (&self.shots[index], self.backdrop(index), frame_size(self.order.width).width as usize);
        let drift = (self.order.wind * shot.time) as f32;
        light.par_iter_mut().enumerate().for_each(|(i, px)| {
            let p = Point::new((i % w) as f64, (i / w) as f64);
            let at = on_grid(self.wide, shot.to_place.apply(p));
            if back.distance[at].is_infinite() {
                *px = self.model(index).sky(self.ray(index, p).direction, drift).map(exposure);
            }
        });
    }

    /// Moves what is as green as leaves, each place in its own way.
    fn rustle(&self, shot: &Shot, light: &mut [Vec3]) {
        let size = frame_size(self.order.width);
        let (w, h, still) = (size.width as usize, size.height as usize, light.to_vec());
        let far = (self.order.breeze * f64::from(self.order.width)) as f32;
        let unit = 110.0 / self.order.width as f32;
        light.par_iter_mut().enumerate().for_each(|(i, px)| {
            // Painted doors are as blue as they are green.
            let over = |other: f32, by: f32| ((px.y / other.max(1e-4) - by) * 8.0).clamp(0.0, 1.0);
            let leafy = over(px.x, 1.04) * over(px.z, 1.35);
            if leafy <= 0.0 {
                return;
            }
            let (x, y) = ((i % w) as f32, (i / w) as f32);
            let sway = |k: f32| noise(Vec3::new(unit * x, unit * y + 40.0 * k, 1.7 * shot.time as f32)) - 0.5;
            let u = (x + 2.0 * far * leafy * sway(0.0)).clamp(0.0, w as f32 - 1.001);
            let v = (y + far * leafy * sway(1.0)).clamp(0.0, h as f32 - 1.001);
            let at = |a: usize, b: usize| still[b * w + a];
            let (a, b) = (u as usize, v as usize);
            let row = |b: usize| at(a, b).lerp(at(a + 1, b), u.fract());
            *px = row(b).lerp(row(b + 1), v.fract());
        });
    }

    /// Adds what the lamps among the figures throw on the place.
    fn shine(&self, index: usize, figures: &[Posed], light: &mut [Vec3]) {
        if !figures.iter().any(Posed::is_lamp) {
            return;
        }
        let (shot, back, w) =
            (&self.shots[index], self.backdrop(index), frame_size(self.order.width).width as usize);
        light.par_iter_mut().enumerate().for_each(|(i, px)| {
            let p = Point::new((i % w) as f64, (i / w) as f64);
            let at = on_grid(self.wide, shot.to_place.apply(p));
            if back.distance[at] < 40.0 {
                let spot = self.ray(index, p).at(back.distance[at] - 0.02);
                *px += *px
                    * figures::lamplight(figures, spot)
                    * (1.0 - 0.7 * f32::from(back.sunlit[at]) / 255.0);
            }
        });
    }

    /// Light at a pixel from figures: their colour, how much of the pixel they cover, how much they darken it.
    fn trace(
        &self,
        (figures, place): (&[Posed], &Place),
        (camera, eye, back): (&Mat3, Vec3, &Backdrop),
        (size, focal): (Size, f32),
        (x, y): (usize, usize),
        at: usize,
        random: &mut Random,
    ) -> (Vec3, f32, f32) {
        // Larger pictures have smaller pixels: fewer rays each do.
        let rays: u32 = if self.order.width > 2500 { 2 } else { 8 };
        let (mut colour, mut hits, mut dark) = (Vec3::ZERO, 0.0f32, 0.0f32);
        let (sunlit, distance) = (f32::from(back.sunlit[at]) / 255.0, back.distance[at]);
        for _ in 0..rays {
            let (jx, jy) = (random.within(-0.6, 0.6) as f32, random.within(-0.6, 0.6) as f32);
            let u = (x as f32 + jx - (size.width as f32 - 1.0) / 2.0) / focal;
            let v = (y as f32 + jy - (size.height as f32 - 1.0) / 2.0) / focal;
            let seen = *camera * Vec3::new(u, v, 1.0);
            let ray = Ray { origin: eye, direction: Vec3::new(seen.x, -seen.y, seen.z).normalize() };
            if let Some(c) = figures::nearest(figures, place, &ray, distance.min(300.0), random) {
                colour += c.map(exposure);
                hits += 1.0;
            } else if distance < 100.0 {
                let p = ray.at(distance - 0.02);
                let sun = Ray { origin: p, direction: place.towards_sun(random) };
                if sunlit > 0.02 && figures::shaded(figures, &sun) {
                    dark += sunlit;
                }
                let contact: f32 = figures.iter().map(|f| f.contact(p)).fold(0.0, f32::max);
                dark += contact * (1.0 - sunlit);
            }
        }
        let free = rays as f32 - hits;
        (colour / hits.max(1.0), hits / rays as f32, if free > 0.0 { dark / free } else { 0.0 })
    }

    /// For each tile of the frame, the figures that may touch it or cast a shadow there.
    fn busy(&self, figures: &[Posed], index: usize, size: Size) -> Vec<Vec<Posed>> {
        let across = (size.width as usize).div_ceil(TILE);
        let down = (size.height as usize).div_ceil(TILE);
        let mut busy: Vec<Vec<Posed>> = vec![Vec::new(); across * down];
        let (camera, eye) = (self.camera(index), self.eye(index));
        let focal = (FOCAL * f64::from(self.order.width)) as f32;
        for f in figures {
            let mut touched = vec![false; across * down];
            let (c, r) = f.ball();
            for k in 0..=8 {
                let p = c - self.model(index).sun * (k as f32 * 0.45);
                let d = Vec3::new(p.x, p.y.max(0.0), p.z) - eye;
                let q = camera.transpose() * Vec3::new(d.x, -d.y, d.z);
                if q.z < 0.5 {
                    continue;
                }
                let middle = (
                    q.x / q.z * focal + size.width as f32 / 2.0,
                    q.y / q.z * focal + size.height as f32 / 2.0,
                );
                let reach = r * 1.15 / q.z * focal + 4.0;
                let range = |m: f32, n: usize| {
                    let tile = |v: f32| (v / TILE as f32).floor().clamp(0.0, n as f32) as usize;
                    tile(m - reach)..(tile(m + reach) + 1).min(n)
                };
                for ty in range(middle.1, down) {
                    range(middle.0, across).for_each(|tx| touched[ty * across + tx] = true);
                }
            }
            busy.iter_mut().zip(touched).filter(|(_, t)| *t).for_each(|(near, _)| near.push(*f));
        }
        busy
    }
}

const TILE: usize = 16;

fn neutral() -> [f32; 3] {
    [1.0; 3]
}

/// The pixel of a grid nearest to a point.
fn on_grid(size: Size, p: Point) -> usize {
    let on = |v: f64, n: u32| v.round().clamp(0.0, f64::from(n) - 1.0) as usize;
    on(p.y, size.height) * size.width as usize + on(p.x, size.width)
}

/// Light with the sensor's noise.
pub(crate) fn noisy(clean: f32, noise: &mut Random) -> f32 {
    clean + noise_variance(clean).sqrt() * noise.normal() as f32
}

/// Variance of the sensor's noise at a light, 0..=1 for white: what is read out, and what grows with light.
pub fn noise_variance(light: f32) -> f32 {
    2.2e-7 + 1.1e-4 * light.max(0.0)
}

/// Share of light that the lens lets through at a pixel.
fn falloff(x: usize, y: usize, size: Size) -> f32 {
    let (dx, dy) = (x as f32 - size.width as f32 / 2.0, y as f32 - size.height as f32 / 2.0);
    let r2 = (dx * dx + dy * dy) * 4.0
        / (size.width as f32 * size.width as f32 + size.height as f32 * size.height as f32);
    1.0 - VIGNETTING * r2
}

/// Light of the empty place on a frame's grid, before lens and exposure.
fn empty_light(place: &MemoryFrame, shot: &Shot, size: Size) -> Vec<Vec3> {
    let bands: Vec<u32> = (0..size.height.div_ceil(64)).collect();
    let parts: Vec<Vec<Vec3>> = bands
        .par_iter()
        .map(|&b| {
            let region = Rect::new(0, i64::from(b) * 64, size.width, 64).intersect(size.rect());
            // A place in memory can always be read.
            let Ok(p) = resample(place, 0, &shot.to_place, region) else { return Vec::new() };
            (0..p.planes[0].len())
                .map(|i| Vec3::new(p.planes[0][i], p.planes[1][i], p.planes[2][i]))
                .collect()
        })
        .collect();
    parts.concat()
}

/// The truth of a frame: the empty place through the same lens and exposure, without noise, 16-bit codes.
pub fn empty_frame(place: &MemoryFrame, shot: &Shot, size: Size) -> Raster {
    let code = |v: f32| tone::CODE_OF_ROOT[usize::from(tone::root(v))];
    let light = exposed(place, shot, size);
    Raster { size, data: light.iter().flat_map(|v| v.to_array().map(code)).collect() }
}

/// The same as a camera shows it.
pub fn empty_photograph(place: &MemoryFrame, shot: &Shot, size: Size, camera: &Camera) -> Raster {
    camera.clean(&exposed(place, shot, size), size)
}

/// Light of the empty place on the sensor.
fn exposed(place: &MemoryFrame, shot: &Shot, size: Size) -> Vec<Vec3> {
    let w = size.width as usize;
    let mut light = empty_light(place, shot, size);
    for (i, v) in light.iter_mut().enumerate() {
        *v *= falloff(i % w, i / w, size) * shot.gain * Vec3::from(shot.white);
    }
    light
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shoot_is_the_same_every_time_and_its_truth_fits() {
        let order = Order::by_hand(3, 96, 2, Crowd::Forecourt);
        let (a, b) = (Shoot::new(order), Shoot::new(order));
        assert_eq!(a.frame(1).picture, b.frame(1).picture);
        // Where nobody stands, the frame is the truth up to its noise.
        let (frame, truth) = (a.frame(1), empty_frame(a.place(1), &a.shots[1], frame_size(96)));
        let free = (0..frame.occupied.len()).filter(|&i| !frame.occupied[i]);
        let off: Vec<f64> =
            free.map(|i| f64::from(frame.picture.data[3 * i].abs_diff(truth.data[3 * i])) / 257.0).collect();
        assert!(off.iter().sum::<f64>() / (off.len() as f64) < 6.0);
        let taken = frame.occupied.iter().filter(|o| **o).count();
        assert!(taken > 20 && taken < frame.occupied.len() / 2, "{taken}");
    }
}
