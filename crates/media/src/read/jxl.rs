//! JPEG XL (ISO/IEC 18181), by the crate `jxl-oxide`; of a moving one the first picture. Twelve megapixels take about half a second on
//! two cores. What turns the picture is its code's word, not its camera data's.

use super::PictureFormat;
use super::coded::CodePoints;
use super::picture::{Decoded, Stored, check_size, damaged};
use crate::error::MediaError;
use evanu_core::pixel::Samples;
use jxl_oxide::{FrameBufferSample, JxlImage, PixelFormat, Render};
use std::io::Cursor;
use std::path::Path;

/// Its place in the list of what can be read.
pub(super) static FORMAT: PictureFormat = PictureFormat {
    recognises: |head| {
        matches!(head, [0xFF, 0x0A, ..] | [0, 0, 0, 0x0C, b'J', b'X', b'L', b' ', 0x0D, 0x0A, 0x87, 0x0A, ..])
    },
    decode,
};

fn decode(path: &Path, bytes: &[u8]) -> Result<Decoded, MediaError> {
    let bad = |e: Box<dyn std::error::Error + Send + Sync>| damaged(path, &e.to_string());
    let image = JxlImage::builder().read(Cursor::new(bytes)).map_err(bad)?;
    let size = check_size(path, u64::from(image.width()), u64::from(image.height()))?;
    if matches!(image.pixel_format(), PixelFormat::Cmyk | PixelFormat::Cmyka) {
        return Err(MediaError::new(path, "its colours are stored for printing", "export it as RGB"));
    }
    // Whatever turns the picture is in its code; its camera data would turn it once more.
    let exif = image.aux_boxes().first_exif().ok().and_then(|found| found.has_data().then(|| found.unwrap()));
    let exif =
        exif.and_then(|raw| raw.payload().get(raw.tiff_header_offset() as usize..).map(<[u8]>::to_vec));
    if !image.is_loading_done() {
        return Err(damaged(path, "its end is missing"));
    }
    let render = image.render_frame(0).map_err(bad)?;
    let channels = render.stream_no_alpha().channels() as usize;
    let points = image.rendered_cicp().map(|[primaries, transfer, ..]| CodePoints { primaries, transfer });
    let light = points.is_some_and(CodePoints::is_light);
    let metadata = &image.image_header().metadata;
    let eight = metadata.bit_depth.bits_per_sample() <= 8 && !metadata.xyb_encoded && !light;
    let count = size.pixels() as usize * channels;
    let samples = match eight {
        true => Samples::Eight(samples(&render, count)),
        false => Samples::Sixteen(samples(&render, count)),
    };
    let stored = Stored { size, channels, samples, icc: None, exif };
    match points {
        Some(points) => points.decoded(path, stored),
        None => Decoded::of_upright(path, Stored { icc: Some(image.rendered_icc()), ..stored }),
    }
}

fn samples<T: FrameBufferSample + Clone + Default>(render: &Render, count: usize) -> Vec<T> {
    let mut out = vec![T::default(); count];
    render.stream_no_alpha().write_to_buffer(&mut out);
    out
}
