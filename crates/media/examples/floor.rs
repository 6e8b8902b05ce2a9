//! The floor of the measurements: decode all files with all cores and encode one as a 16-bit TIFF, nothing else.

use evanu_core::geometry::Rect;
use evanu_core::pixel::{Raster, Samples};
use evanu_media::{Format, Output, decode, write};
use rayon::prelude::*;
use std::path::PathBuf;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut args = std::env::args_os().skip(1).map(PathBuf::from);
    let out = args.next().ok_or("usage: floor OUT.tif FRAMES...")?;
    let frames: Vec<PathBuf> = args.collect();
    let first = decode(frames.first().ok_or("no frames")?)?;
    frames[1..].par_iter().try_for_each(|f| decode(f).map(|_| ()))?;
    let Samples::Eight(codes) = first.samples else { return Err("eight-bit frames are expected".into()) };
    let wide = 3 * first.size.width as usize;
    let band = |r: Rect| {
        let rows = &codes[r.y as usize * wide..r.bottom() as usize * wide];
        Ok::<_, std::convert::Infallible>(Raster {
            size: r.size(),
            data: rows.iter().map(|&v| u16::from(v) * 257).collect(),
        })
    };
    write(&out, &Output { format: Format::Tiff { sixteen: true }, size: first.size, camera: None }, band)?;
    Ok(())
}
