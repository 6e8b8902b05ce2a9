//! OpenEXR out: linear light in half floats.

use crate::camera::CameraData;
use evanu_core::geometry::Size;
pub(crate) use exr::prelude::f16;
use exr::prelude::*;

/// Writes interleaved linear light as half floats to `to`.
pub(crate) fn encode(
    to: impl std::io::Write + std::io::Seek,
    size: Size,
    light: &[f16],
    from: Option<&CameraData>,
) -> std::io::Result<()> {
    let width = size.width as usize;
    let pixels = |at: Vec2<usize>| {
        let i = 3 * (at.y() * width + at.x());
        (light[i], light[i + 1], light[i + 2])
    };
    let mut attributes = LayerAttributes::named("plate");
    if let Some(c) = from {
        attributes.exposure = c.exposure_s.map(|v| v as f32);
        attributes.aperture = c.aperture.map(|v| v as f32);
        attributes.iso_speed = c.iso.map(|v| v as f32);
        attributes.owner = c.camera.as_deref().and_then(Text::new_or_none);
        let stamp =
            c.time.as_deref().map(|t| t.split('.').next().unwrap_or(t).replace('-', ":").replace('T', " "));
        attributes.capture_date = stamp.as_deref().and_then(Text::new_or_none);
    }
    let encoding = Encoding { compression: Compression::ZIP16, ..Encoding::FAST_LOSSLESS };
    let layer =
        Layer::new((width, size.height as usize), attributes, encoding, SpecificChannels::rgb(pixels));
    let mut image = Image::from_layer(layer);
    image.attributes.chromaticities = Some(attribute::Chromaticities {
        red: Vec2(0.64, 0.33),
        green: Vec2(0.3, 0.6),
        blue: Vec2(0.15, 0.06),
        white: Vec2(0.3127, 0.329),
    });
    image.write().to_buffered(to).map_err(std::io::Error::other)
}
