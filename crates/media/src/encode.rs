//! Encoding JPEG, PNG, TIFF and OpenEXR band by band, with the sRGB profile and camera data, whole or not at all.
//!
//! The next band is rendered while the last is encoded; no more than two are in memory (OpenEXR holds all, in half
//! floats).

use crate::camera::CameraData;
use crate::error::MediaError;
use crate::exr;
use crate::read::profile::SRGB;
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::Raster;
use jpeg_encoder::{ColorType, Encoder, ImageBuffer, JpegColorType, SamplingFactor, rgb_to_ycbcr};
use std::cell::RefCell;
use std::fs::File;
use std::io::{BufWriter, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::mpsc::{Receiver, sync_channel};

/// A file format with its settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Quality 1..=100; full colour resolution from 90 on.
    Jpeg {
        /// Quality 1..=100.
        quality: u8,
    },
    /// Lossless.
    Png {
        /// Sixteen bits a channel instead of eight.
        sixteen: bool,
    },
    /// Uncompressed strips.
    Tiff {
        /// Sixteen bits a channel instead of eight.
        sixteen: bool,
    },
    /// Linear light in half floats, beyond white too; written by [`write_light`].
    Exr,
}

impl Format {
    /// The format that a file name's extension asks for.
    ///
    /// # Errors
    /// When there is no such format; the error names those that are.
    pub fn by_extension(path: &Path, sixteen: bool) -> Result<Self, MediaError> {
        let ext = path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
        match ext.as_str() {
            "jpg" | "jpeg" => Ok(Self::Jpeg { quality: 95 }),
            "png" => Ok(Self::Png { sixteen }),
            "tif" | "tiff" => Ok(Self::Tiff { sixteen }),
            "exr" => Ok(Self::Exr),
            _ => Err(MediaError::new(path, "its extension names no format", "use .tif, .png, .jpg or .exr")),
        }
    }
}

/// What to write.
pub struct Output<'a> {
    /// File format.
    pub format: Format,
    /// Size in pixels.
    pub size: Size,
    /// Camera data of the reference frame, kept in the file.
    pub camera: Option<&'a CameraData>,
}

/// Why a file could not be written: its own trouble, or that of whoever supplies the pixels.
#[derive(Debug, thiserror::Error)]
pub enum WriteError<E> {
    /// The file.
    #[error(transparent)]
    Media(#[from] MediaError),
    /// The supplier.
    #[error(transparent)]
    Pixels(E),
}

/// Rows in a band.
const BAND: u32 = 192;

/// Writes a picture whose bands `render` supplies, from top to bottom.
///
/// The file appears under its name only when it is whole; an older one stays until then.
///
/// # Errors
/// When the file cannot be written or a band cannot be rendered.
pub fn write<E: Send>(
    path: &Path,
    output: &Output<'_>,
    mut render: impl FnMut(Rect) -> Result<Raster, E> + Send,
) -> Result<(), WriteError<E>> {
    if matches!(output.format, Format::Jpeg { .. }) && output.size.width.max(output.size.height) > 65_500 {
        return Err(MediaError::new(
            path,
            "JPEG holds no more than 65 500 pixels a side",
            "use .tif or .png",
        )
        .into());
    }
    let io = |e: std::io::Error| MediaError::writing(path, &e);
    let mut file = beside(path).map_err(io)?;
    let (send, receive) = sync_channel::<Raster>(1);
    let failed: Option<E> = std::thread::scope(|scope| {
        let producer = scope.spawn(move || {
            let mut y = 0;
            while y < output.size.height {
                let rows = BAND.min(output.size.height - y);
                match render(Rect::new(0, i64::from(y), output.size.width, rows)) {
                    Ok(band) => {
                        if send.send(band).is_err() {
                            return None; // the encoder gave up and tells why
                        }
                        y += rows;
                    }
                    Err(e) => return Some(e),
                }
            }
            None
        });
        let bands = Bands { receive, size: output.size };
        let encoded =
            encode(BufWriter::with_capacity(1 << 20, Settled::new(file.as_file_mut())), output, bands);
        match producer.join() {
            Ok(Some(e)) => Ok(Some(e)),
            Ok(None) => encoded.map(|()| None).map_err(io),
            Err(panic) => std::panic::resume_unwind(panic),
        }
    })?;
    if let Some(e) = failed {
        return Err(WriteError::Pixels(e));
    }
    file.as_file().sync_data().map_err(io)?;
    file.persist(path).map_err(|e| io(e.error))?;
    Ok(())
}

/// Writes linear light, interleaved, whose bands `render` supplies from top to bottom, as OpenEXR.
///
/// # Errors
/// When the file cannot be written or a band cannot be rendered.
pub fn write_light<E>(
    path: &Path,
    size: Size,
    camera: Option<&CameraData>,
    mut render: impl FnMut(Rect) -> Result<Vec<f32>, E>,
) -> Result<(), WriteError<E>> {
    let mut light = Vec::with_capacity(3 * size.pixels() as usize);
    for y in (0..size.height).step_by(BAND as usize) {
        let band = Rect::new(0, i64::from(y), size.width, BAND.min(size.height - y));
        light.extend(render(band).map_err(WriteError::Pixels)?.into_iter().map(exr::f16::from_f32));
    }
    whole(path, |to| exr::encode(to, size, &light, camera))?;
    Ok(())
}

/// Writes a file beside its name and gives it this when it is whole.
pub(crate) fn whole(
    path: &Path,
    write: impl FnOnce(BufWriter<Settled<'_>>) -> std::io::Result<()>,
) -> Result<(), MediaError> {
    let io = |e: std::io::Error| MediaError::writing(path, &e);
    let mut file = beside(path).map_err(io)?;
    write(BufWriter::with_capacity(1 << 20, Settled::new(file.as_file_mut()))).map_err(io)?;
    file.as_file().sync_data().map_err(io)?;
    file.persist(path).map_err(|e| io(e.error))?;
    Ok(())
}

/// A temporary file in the folder of `path`.
fn beside(path: &Path) -> std::io::Result<tempfile::NamedTempFile> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut builder = tempfile::Builder::new();
    builder.prefix(".evanu-");
    #[cfg(unix)]
    builder.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o644));
    builder.tempfile_in(folder)
}

/// A file that is brought to the disk piece by piece, while the next band is made, so that little is left to wait for at its end.
pub(crate) struct Settled<'a> {
    file: &'a mut File,
    /// Bytes that were written since.
    open: usize,
}

impl<'a> Settled<'a> {
    fn new(file: &'a mut File) -> Self {
        Self { file, open: 0 }
    }
}

impl Write for Settled<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        /// Bytes of a piece.
        const PIECE: usize = 16 << 20;
        let written = self.file.write(bytes)?;
        self.open += written;
        if self.open >= PIECE {
            self.open = 0;
            self.file.sync_data()?;
        }
        Ok(written)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.file.flush()
    }
}

impl Seek for Settled<'_> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        self.file.seek(to)
    }
}

/// Bands as they come from the renderer.
struct Bands {
    receive: Receiver<Raster>,
    size: Size,
}

impl Bands {
    fn next(&self) -> std::io::Result<Raster> {
        self.receive.recv().map_err(|_| std::io::Error::other("rendering stopped"))
    }

    fn count(&self) -> u32 {
        self.size.height.div_ceil(BAND)
    }
}

fn encode<W: Write + Seek>(mut to: W, output: &Output<'_>, bands: Bands) -> std::io::Result<()> {
    let block = output.camera.and_then(|c| c.block.as_deref());
    match output.format {
        Format::Jpeg { quality } => {
            let mut encoder = Encoder::new(&mut to, quality.clamp(1, 100));
            let full = quality >= 90;
            encoder.set_sampling_factor(if full { SamplingFactor::F_1_1 } else { SamplingFactor::F_2_2 });
            let error = std::io::Error::other;
            encoder.add_icc_profile(&SRGB).map_err(error)?;
            if let Some(block) = block.filter(|b| b.len() < 60_000) {
                encoder.add_exif_metadata(block).map_err(error)?;
            }
            let picture = JpegRows { bands, current: RefCell::new((0, None)), failed: RefCell::new(None) };
            encode_rows(encoder, &picture)?;
        }
        Format::Png { sixteen } => {
            let mut info = png::Info::with_size(output.size.width, output.size.height);
            info.color_type = png::ColorType::Rgb;
            info.bit_depth = if sixteen { png::BitDepth::Sixteen } else { png::BitDepth::Eight };
            info.icc_profile = Some(SRGB.as_slice().into());
            info.exif_metadata = block.map(Into::into);
            let mut encoder = png::Encoder::with_info(&mut to, info)?;
            encoder.set_compression(png::Compression::Fast);
            let mut writer = encoder.write_header()?;
            let mut stream = writer.stream_writer_with_size(1 << 18)?;
            for _ in 0..bands.count() {
                let band = bands.next()?;
                if sixteen {
                    let bytes: Vec<u8> = band.data.iter().flat_map(|v| v.to_be_bytes()).collect();
                    stream.write_all(&bytes)?;
                } else {
                    stream.write_all(&band.to_u8())?;
                }
            }
            stream.finish()?;
        }
        Format::Exr => return Err(std::io::Error::other("light is written by write_light")),
        Format::Tiff { sixteen } => {
            let error = |e: tiff::TiffError| match e {
                tiff::TiffError::IoError(e) => e,
                other => std::io::Error::other(other),
            };
            if sixteen {
                tiff_rows::<tiff::encoder::colortype::RGB16>(&mut to, output, &bands, |b| b.data)
                    .map_err(error)?;
            } else {
                tiff_rows::<tiff::encoder::colortype::RGB8>(&mut to, output, &bands, |b| b.to_u8())
                    .map_err(error)?;
            }
        }
    }
    to.flush()
}

fn tiff_rows<C: tiff::encoder::colortype::ColorType>(
    to: impl Write + Seek,
    output: &Output<'_>,
    bands: &Bands,
    samples: impl Fn(Raster) -> Vec<C::Inner>,
) -> tiff::TiffResult<()>
where
    [C::Inner]: tiff::encoder::TiffValue,
{
    use tiff::tags::Tag;
    let stopped = tiff::TiffError::IoError;
    let mut encoder = tiff::encoder::TiffEncoder::new(to)?;
    let fields = output.camera.map(CameraData::fields).unwrap_or_default();
    let inner: Vec<_> = fields.iter().filter(|f| f.tag.context() == exif::Context::Exif).collect();
    let exif_at = if inner.is_empty() {
        None
    } else {
        let mut directory = encoder.extra_directory()?;
        for f in inner {
            tiff_field(&mut directory, f)?;
        }
        Some(directory.finish_with_offsets()?)
    };
    let mut image = encoder.new_image::<C>(output.size.width, output.size.height)?;
    image.rows_per_strip(BAND)?;
    image.encoder().write_tag(Tag::IccProfile, SRGB.as_slice())?;
    image.encoder().write_tag(Tag::Orientation, 1u16)?;
    let top = |f: &&exif::Field| {
        f.tag.context() == exif::Context::Tiff
            && ![
                exif::Tag::Orientation,
                exif::Tag::XResolution,
                exif::Tag::YResolution,
                exif::Tag::ResolutionUnit,
            ]
            .contains(&f.tag)
    };
    for f in fields.iter().filter(top) {
        tiff_field(image.encoder(), f)?;
    }
    if let Some(at) = exif_at {
        image.encoder().write_tag(Tag::ExifDirectory, at.offset)?;
    }
    for _ in 0..bands.count() {
        image.write_strip(&samples(bands.next().map_err(stopped)?))?;
    }
    image.finish()
}

fn tiff_field<W: Write + Seek, K: tiff::encoder::TiffKind>(
    directory: &mut tiff::encoder::DirectoryEncoder<'_, W, K>,
    field: &exif::Field,
) -> tiff::TiffResult<()> {
    use exif::Value as V;
    use tiff::encoder::Rational;
    let tag = tiff::tags::Tag::Unknown(field.tag.number());
    match &field.value {
        V::Ascii(v) => {
            let text: Vec<u8> =
                v.iter().flat_map(|s| s.iter().copied().chain([0])).filter(u8::is_ascii).collect();
            let text = String::from_utf8_lossy(&text).trim_end_matches('\0').to_owned();
            directory.write_tag(tag, text.as_str())
        }
        V::Byte(v) | V::Undefined(v, _) => directory.write_tag(tag, v.as_slice()),
        V::Short(v) => directory.write_tag(tag, v.as_slice()),
        V::Long(v) => directory.write_tag(tag, v.as_slice()),
        V::Rational(v) => {
            let v: Vec<Rational> = v.iter().map(|r| Rational { n: r.num, d: r.denom }).collect();
            directory.write_tag(tag, v.as_slice())
        }
        V::SRational(v) => {
            let v: Vec<_> = v.iter().map(|r| tiff::encoder::SRational { n: r.num, d: r.denom }).collect();
            directory.write_tag(tag, v.as_slice())
        }
        _ => Ok(()),
    }
}

/// Rows in the order the JPEG encoder asks for them, which is from top to bottom.
struct JpegRows {
    bands: Bands,
    current: RefCell<(u32, Option<Vec<u8>>)>,
    failed: RefCell<Option<std::io::Error>>,
}

impl ImageBuffer for &JpegRows {
    fn get_jpeg_color_type(&self) -> JpegColorType {
        JpegColorType::Ycbcr
    }

    fn width(&self) -> u16 {
        self.bands.size.width as u16
    }

    fn height(&self) -> u16 {
        self.bands.size.height as u16
    }

    fn fill_buffers(&self, y: u16, buffers: &mut [Vec<u8>; 4]) {
        let y = u32::from(y);
        let mut current = self.current.borrow_mut();
        if self.failed.borrow().is_none() && (current.1.is_none() || y >= current.0 + BAND) {
            match self.bands.next() {
                Ok(band) => *current = (y / BAND * BAND, Some(band.to_u8())),
                Err(e) => *self.failed.borrow_mut() = Some(e),
            }
        }
        let width = self.bands.size.width as usize;
        let row = current.1.as_deref().and_then(|b| b.get(3 * width * (y - current.0) as usize..));
        for x in 0..width {
            let (l, cb, cr) = match row.and_then(|r| r.get(3 * x..3 * x + 3)) {
                Some(p) => rgb_to_ycbcr(p[0], p[1], p[2]),
                None => (0, 128, 128),
            };
            buffers[0].push(l);
            buffers[1].push(cb);
            buffers[2].push(cr);
        }
    }
}

fn encode_rows<W: jpeg_encoder::JfifWrite>(encoder: Encoder<W>, rows: &JpegRows) -> std::io::Result<()> {
    encoder.encode_image(rows).map_err(|e| match e {
        jpeg_encoder::EncodingError::IoError(e) => e,
        other => std::io::Error::other(other),
    })?;
    rows.failed.borrow_mut().take().map_or(Ok(()), Err)
}

/// A small picture as JPEG bytes, for the screen.
///
/// # Errors
/// When the encoder refuses the size.
pub fn encode_jpeg(raster: &Raster, quality: u8) -> std::io::Result<Vec<u8>> {
    let mut out = Vec::new();
    let mut encoder = Encoder::new(&mut out, quality);
    encoder.set_sampling_factor(SamplingFactor::F_1_1);
    let (w, h) = (raster.size.width as u16, raster.size.height as u16);
    encoder.encode(&raster.to_u8(), w, h, ColorType::Rgb).map_err(std::io::Error::other)?;
    Ok(out)
}

/// A small picture as 8-bit PNG bytes.
///
/// # Errors
/// When the encoder refuses the size.
pub fn encode_png(raster: &Raster) -> std::io::Result<Vec<u8>> {
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, raster.size.width, raster.size.height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_compression(png::Compression::Fast);
    encoder.write_header()?.write_image_data(&raster.to_u8())?;
    Ok(out)
}

/// Writes a picture with transparency as a PNG, of eight bits or of sixteen as its samples are.
///
/// # Errors
/// When it cannot be written.
pub fn write_transparent_png(
    path: &Path,
    size: Size,
    samples: &evanu_core::pixel::Samples,
    alpha: &[u8],
) -> Result<(), MediaError> {
    use evanu_core::pixel::Samples;
    let (depth, data): (_, Vec<u8>) = match samples {
        Samples::Eight(data) => {
            let pixel = |(p, a): (&[u8], &u8)| [p[0], p[1], p[2], *a];
            (png::BitDepth::Eight, data.chunks_exact(3).zip(alpha).flat_map(pixel).collect())
        }
        Samples::Sixteen(data) | Samples::Wide(data) => {
            let pixel = |(p, a): (&[u16], &u8)| [p[0], p[1], p[2], 257 * u16::from(*a)];
            let all = data.chunks_exact(3).zip(alpha).flat_map(pixel);
            (png::BitDepth::Sixteen, all.flat_map(u16::to_be_bytes).collect())
        }
    };
    let failed = |e: std::io::Error| MediaError::writing(path, &e);
    let file = std::fs::File::create(path).map_err(failed)?;
    let mut encoder = png::Encoder::new(std::io::BufWriter::new(file), size.width, size.height);
    encoder.set_color(png::ColorType::Rgba);
    encoder.set_depth(depth);
    encoder.set_compression(png::Compression::Fast);
    let mut writer = encoder.write_header().map_err(|e| failed(e.into()))?;
    writer.write_image_data(&data).and_then(|()| writer.finish()).map_err(|e| failed(e.into()))
}

/// A grey 8-bit picture as PNG.
///
/// # Errors
/// When there are not as many samples as pixels.
pub fn encode_grey_png(size: Size, samples: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, size.width, size.height);
    encoder.set_color(png::ColorType::Grayscale);
    encoder.set_compression(png::Compression::Fast);
    encoder.write_header()?.write_image_data(samples)?;
    Ok(out)
}

/// Writes a grey 8-bit PNG whose bands `render` supplies (the red channel is taken).
///
/// # Errors
/// See [`write`].
pub fn write_grey<E: Send>(
    path: &Path,
    size: Size,
    mut render: impl FnMut(Rect) -> Result<Raster, E> + Send,
) -> Result<(), WriteError<E>> {
    let io = |e: std::io::Error| MediaError::writing(path, &e);
    let mut file = beside(path).map_err(io)?;
    let mut encoder = png::Encoder::new(BufWriter::new(file.as_file_mut()), size.width, size.height);
    encoder.set_color(png::ColorType::Grayscale);
    encoder.set_compression(png::Compression::Fast);
    let mut writer = encoder.write_header().map_err(|e| io(e.into()))?;
    let mut stream = writer.stream_writer().map_err(|e| io(e.into()))?;
    let mut y = 0;
    while y < size.height {
        let rows = BAND.min(size.height - y);
        let band = render(Rect::new(0, i64::from(y), size.width, rows)).map_err(WriteError::Pixels)?;
        let grey: Vec<u8> = band.to_u8().chunks_exact(3).map(|p| p[0]).collect();
        stream.write_all(&grey).map_err(io)?;
        y += rows;
    }
    stream.finish().map_err(|e| io(e.into()))?;
    writer.finish().map_err(|e| io(e.into()))?;
    file.persist(path).map_err(|e| io(e.error))?;
    Ok(())
}
