//! What measuring programs render, kept between runs in the folder that `CACHE` names.

use evanu_core::pixel::{Raster, tone};
use evanu_core::random::Random;
use evanu_demo::{Camera, Frame, Shoot, empty_frame, empty_photograph, frame_size, noise_variance};

/// Bytes that take long to make, from the cache where they are there already.
fn cached(name: &str, make: impl FnOnce() -> Vec<u8>) -> Vec<u8> {
    let Ok(folder) = std::env::var("CACHE") else { return make() };
    let path = std::path::Path::new(&folder).join(name);
    std::fs::read(&path).unwrap_or_else(|_| {
        let bytes = make();
        if let Err(e) = std::fs::write(&path, &bytes) {
            eprintln!("{}: {e}", path.display());
        }
        bytes
    })
}

/// The camera of a shoot, where `CAMERA` asks for one.
fn camera(shoot: &Shoot) -> Option<Camera> {
    std::env::var_os("CAMERA").map(|_| Camera::by_chance(shoot.order.seed))
}

/// A frame of the shoot: three bytes a pixel, then for each whether anything stands there.
pub(crate) fn rendered(kind: &str, shoot: &Shoot, k: usize) -> Frame {
    let size = frame_size(shoot.order.width);
    let camera = camera(shoot);
    let by = if camera.is_some() { "camera-" } else { "" };
    let bytes = cached(&format!("{by}{kind}-{}-{}-{k}", shoot.order.seed, size.width), || {
        let frame = camera.map_or_else(|| shoot.frame(k), |camera| shoot.photograph(k, &camera));
        let codes = frame.picture.data.iter().map(|v| (v / 257) as u8);
        codes.chain(frame.occupied.iter().map(|o| u8::from(*o))).collect()
    });
    let (codes, occupied) = bytes.split_at(3 * size.pixels() as usize);
    let mut data: Vec<u16> = codes.iter().map(|v| u16::from(*v) * 257).collect();
    if let Some(times) = std::env::var("NOISE").ok().and_then(|times| times.parse::<f64>().ok()) {
        add_noise(&mut data, times, shoot.order.seed ^ ((k as u64) << 20));
    }
    Frame { picture: Raster { size, data }, occupied: occupied.iter().map(|o| *o > 0).collect() }
}

/// Makes the sensor's noise so many times as strong.
fn add_noise(codes: &mut [u16], times: f64, seed: u64) {
    let mut random = Random::new(seed);
    for code in codes {
        let light = tone::to_linear(f64::from(*code) / 65535.0);
        let more = ((times * times - 1.0).max(0.0) * f64::from(noise_variance(light as f32))).sqrt()
            * random.normal();
        *code = (tone::to_code((light + more).clamp(0.0, 1.0)) * 255.0).round() as u16 * 257;
    }
}

#[allow(dead_code)] // not all of the programs that share this score
/// The empty place as the shoot's frame `k` would show it.
pub(crate) fn empty(kind: &str, shoot: &Shoot, k: usize) -> Raster {
    let size = frame_size(shoot.order.width);
    let camera = camera(shoot);
    let by = if camera.is_some() { "camera-" } else { "" };
    let bytes = cached(&format!("{by}{kind}-{}-{}-{k}-empty", shoot.order.seed, size.width), || {
        let (place, shot) = (shoot.place(k), &shoot.shots[k]);
        let truth = camera.map_or_else(
            || empty_frame(place, shot, size),
            |camera| empty_photograph(place, shot, size, &camera),
        );
        truth.data.iter().flat_map(|v| v.to_le_bytes()).collect()
    });
    Raster { size, data: bytes.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect() }
}
