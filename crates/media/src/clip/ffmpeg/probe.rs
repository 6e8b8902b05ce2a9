//! What a clip is, as `ffprobe` tells it.

use super::{command, failed, opening, said};
use crate::clip::y4m::{self, Y4mReader};
use crate::clip::{ClipInfo, Colour, Layout, Matrix, check_size};
use crate::error::MediaError;
use crate::read::AssetFormat;
use evanu_core::geometry::Size;
use serde_json::Value;
use std::io::Read;
use std::path::Path;

/// What a clip is.
///
/// # Errors
/// When it cannot be read, holds no picture that moves, or holds one that Evanu does not take.
pub fn probe(path: &Path) -> Result<ClipInfo, MediaError> {
    let mut head = [0; 16];
    let mut file = std::fs::File::open(path).map_err(|e| MediaError::reading(path, &e))?;
    let read = file.read(&mut head).map_err(|e| MediaError::reading(path, &e))?;
    if read == 0 {
        return Err(MediaError::new(path, "it is empty", "copy it again"));
    }
    if y4m::FORMAT.recognises(&head[..read]) {
        let mut info = Y4mReader::open(path)?.info;
        let length = std::fs::metadata(path).map_or(0, |m| m.len());
        let samples: u64 = (0..3).map(|k| info.layout.plane(info.size, k).pixels()).sum();
        info.frames = length / (samples * if info.layout.bits > 8 { 2 } else { 1 } + 6).max(1);
        info.seconds = Some(info.frames as f64 * f64::from(info.rate.1) / f64::from(info.rate.0));
        return Ok(info);
    }
    let mut command = command("ffprobe");
    command.args(["-v", "error", "-of", "json", "-show_streams", "-show_format"]).args(opening(path));
    let told: Value = serde_json::from_slice(&said(path, command)?)
        .map_err(|e| failed(path, &format!("it is told about in another way than was expected: {e}")))?;
    of_words(path, &told)
}

fn of_words(path: &Path, told: &Value) -> Result<ClipInfo, MediaError> {
    let none = Vec::new();
    let streams = told["streams"].as_array().unwrap_or(&none);
    let is = |s: &Value, kind: &str| s["codec_type"] == kind && s["disposition"]["attached_pic"] != 1;
    let sound = streams.iter().any(|s| is(s, "audio"));
    let Some(video) = streams.iter().find(|s| is(s, "video")) else {
        let reason = if sound { "it holds sound only" } else { "it holds no picture that moves" };
        return Err(MediaError::new(path, reason, "choose a clip"));
    };
    let text = |v: &Value| v.as_str().unwrap_or("").to_owned();
    let side = |name: &str| video[name].as_u64().and_then(|v| u32::try_from(v).ok()).unwrap_or(0);
    let size = Size::new(side("width"), side("height"));
    check_size(path, size)?;
    let fraction = |v: &Value| -> Option<(u32, u32)> {
        let (a, b) = v.as_str()?.split_once('/')?;
        let (a, b) = (a.parse().ok()?, b.parse().ok()?);
        (a > 0 && b > 0).then_some((a, b))
    };
    let sane = |r: &(u32, u32)| (0.1..=1000.0).contains(&(f64::from(r.0) / f64::from(r.1)));
    let rate =
        fraction(&video["avg_frame_rate"]).filter(sane).or(fraction(&video["r_frame_rate"]).filter(sane));
    let Some(rate) = rate else {
        return Err(MediaError::new(
            path,
            format!("it has {} frames a second, which is no rate of a clip", text(&video["r_frame_rate"])),
            "export it anew at 24 to 60 frames a second",
        ));
    };
    let pixels = text(&video["pix_fmt"]);
    let Some((layout, full)) = Layout::of_name(&pixels) else {
        return Err(MediaError::new(
            path,
            format!("its pixels lie as {pixels}, which Evanu does not take"),
            "convert it to yuv420p, yuv422p or yuv444p of 8 to 16 bits",
        ));
    };
    let number = |v: &Value| v.as_str().and_then(|s| s.parse::<f64>().ok());
    let seconds =
        number(&video["duration"]).or_else(|| number(&told["format"]["duration"])).filter(|s| *s > 0.0);
    let pace = f64::from(rate.0) / f64::from(rate.1);
    let frames = number(&video["nb_frames"]).or(seconds.map(|s| s * pace)).unwrap_or(0.0).max(0.0);
    let turned =
        video["side_data_list"].as_array().and_then(|l| l.iter().find_map(|s| s["rotation"].as_i64()));
    let scale = fraction(&video["time_base"]).filter(|t| t.0 == 1).map_or(90_000, |t| t.1);
    Ok(ClipInfo {
        size,
        rate,
        frames: frames.round() as u64,
        seconds,
        layout,
        colour: Colour {
            matrix: Matrix::of(&text(&video["color_space"]), size),
            full: full || video["color_range"] == "pc",
        },
        rotation: (-turned.unwrap_or(0) as i32).rem_euclid(360),
        codec: text(&video["codec_name"]),
        bits_a_second: number(&video["bit_rate"]).map(|b| b as u64),
        sound,
        tags: ["color_space", "color_primaries", "color_transfer"].map(|k| text(&video[k])),
        scale,
    })
}

/// The times of all frames, in order, in seconds; fewer where the file is cut.
///
/// # Errors
/// When it cannot be read.
pub fn seconds_of_frames(path: &Path, info: &ClipInfo) -> Result<Vec<f64>, MediaError> {
    if info.is_y4m(path) {
        return Ok((0..info.frames as usize).map(|k| info.second(&[], k)).collect());
    }
    let mut command = command("ffprobe");
    command
        .args(["-v", "error", "-select_streams", "v:0", "-show_entries", "packet=pts_time", "-of", "csv=p=0"])
        .args(opening(path));
    let text = said(path, command)?;
    let text = String::from_utf8_lossy(&text);
    let mut all: Vec<f64> = text.lines().filter_map(|l| l.trim_end_matches(',').parse().ok()).collect();
    all.sort_by(f64::total_cmp);
    Ok(all)
}
