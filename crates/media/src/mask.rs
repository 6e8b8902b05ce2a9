//! Masks: which pixels of a picture are meant, as a black and white PNG of its size.

use crate::error::MediaError;
use evanu_core::geometry::Size;
use std::path::Path;

/// Which pixels are meant, by rows.
#[derive(Debug, Clone)]
pub struct Mask {
    /// Columns and rows.
    pub size: Size,
    /// White ones.
    pub set: Vec<bool>,
}

/// Reads the mask of a picture of this size; from middle grey on it is white.
///
/// # Errors
/// When it is no PNG, damaged, of another size, in colour, or lets something through: the error names the file, the reason and the way out.
pub fn read_mask(path: &Path, picture: Size) -> Result<Mask, MediaError> {
    let way = "save it as a black and white PNG without transparency";
    let bad =
        |e: png::DecodingError| MediaError::new(path, format!("it cannot be read as a mask ({e})"), way);
    if !std::fs::metadata(path).map_err(|e| MediaError::reading(path, &e))?.is_file() {
        return Err(MediaError::new(path, "it is no regular file", "name a PNG"));
    }
    let file = std::fs::File::open(path).map_err(|e| MediaError::reading(path, &e))?;
    let mut decoder = png::Decoder::new(std::io::BufReader::new(file));
    decoder.set_transformations(png::Transformations::EXPAND | png::Transformations::STRIP_16);
    let mut reader = decoder.read_info().map_err(bad)?;
    let (width, height) = reader.info().size();
    // Before any room is made for it.
    if (width, height) != (picture.width, picture.height) {
        let why = format!(
            "it has {width} × {height} pixels and the picture has {} × {}",
            picture.width, picture.height
        );
        return Err(MediaError::new(path, why, "make the mask as large as the picture"));
    }
    let bytes = reader.output_buffer_size().ok_or_else(|| MediaError::new(path, "it is too large", way))?;
    let mut data = vec![0; bytes];
    let info = reader.next_frame(&mut data).map_err(bad)?;
    let channels = info.color_type.samples();
    let mut set = Vec::with_capacity(width as usize * height as usize);
    for pixel in data[..info.buffer_size()].chunks_exact(channels) {
        let (colour, alpha) = match *pixel {
            [v] => ([v; 3], 255),
            [v, a] => ([v; 3], a),
            [r, g, b] => ([r, g, b], 255),
            [r, g, b, a] => ([r, g, b], a),
            _ => return Err(MediaError::new(path, "it has no channels that are known", way)),
        };
        if alpha != 255 {
            return Err(MediaError::new(
                path,
                "it is transparent in places, and a mask is black and white",
                way,
            ));
        }
        if colour.iter().any(|v| v.abs_diff(colour[0]) > GREY) {
            return Err(MediaError::new(path, "it is in colour, and a mask is black and white", way));
        }
        set.push(colour[1] >= 128);
    }
    Ok(Mask { size: Size::new(width, height), set })
}

/// Channels that differ by no more are grey.
const GREY: u8 = 8;
