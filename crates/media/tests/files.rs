//! Pictures through files and back: every format and depth, profiles, upright, tiles, and damaged files.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::{FrameSource, Raster, Samples};
use evanu_media::{
    CameraData, FORMATS, Format, Output, Reader, TiledFrame, decode, decode_bytes, open_asset, write,
    write_light,
};
use moxcms::ColorProfile;
use proptest::prelude::*;
use std::convert::Infallible;
use std::io::Cursor;
use std::path::Path;

/// A smooth picture with a few hard edges.
fn picture(size: Size, seed: u16) -> Raster {
    let mut raster = Raster::new(size);
    for y in 0..size.height {
        for x in 0..size.width {
            let at = 3 * (y * size.width + x) as usize;
            let step = if (x / 9 + y / 7) % 2 == 0 { 9000 } else { 0 };
            for c in 0..3u32 {
                let v = x * 311 * (c + 1) + y * 173 + u32::from(seed) * 37 + step;
                raster.data[at + c as usize] = (v % 65536) as u16;
            }
        }
    }
    raster
}

fn written(raster: &Raster, format: Format, name: &str) -> (tempfile::TempDir, std::path::PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(name);
    let output = Output { format, size: raster.size, camera: None };
    let rows = raster.size.width as usize * 3;
    write::<std::convert::Infallible>(&path, &output, |band: Rect| {
        let mut part = Raster::new(band.size());
        part.data.copy_from_slice(&raster.data[band.y as usize * rows..][..band.height as usize * rows]);
        Ok(part)
    })
    .unwrap();
    (folder, path)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn lossless_formats_keep_every_code(width in 1u32..90, height in 1u32..420, seed in any::<u16>()) {
        let raster = picture(Size::new(width, height), seed);
        for (name, sixteen) in [("a.png", false), ("b.png", true), ("a.tif", false), ("b.tif", true)] {
            let format = Format::by_extension(Path::new(name), sixteen).unwrap();
            let (_folder, path) = written(&raster, format, name);
            let back = decode(&path).unwrap();
            prop_assert_eq!(back.size, raster.size);
            let same = match back.samples {
                Samples::Eight(d) => !sixteen && d == raster.to_u8(),
                Samples::Sixteen(d) => sixteen && d == raster.data,
                Samples::Wide(_) => false,
            };
            prop_assert!(same, "{} of {} × {}", name, width, height);
        }
    }

    #[test]
    fn tiles_are_the_decoded_picture(width in 1u32..700, height in 1u32..600, cut in any::<[u16; 4]>()) {
        let raster = picture(Size::new(width, height), cut[0]);
        let (folder, path) = written(&raster, Format::Tiff { sixteen: true }, "frame.tif");
        let store = folder.path().join("frame.tiles");
        let size = Reader::Here(FORMATS).read_picture(&path, &store).unwrap().size;
        prop_assert_eq!(size, raster.size);
        let tiled = TiledFrame::open(&store).unwrap();
        let part = |v: u16, n: u32| u32::from(v) * n / 65536;
        let (x, y) = (part(cut[0], width), part(cut[1], height));
        let region = Rect::new(i64::from(x), i64::from(y), 1 + part(cut[2], width - x), 1 + part(cut[3], height - y));
        let Samples::Sixteen(read) = tiled.read(0, region).unwrap() else { panic!("sixteen bits stay sixteen bits") };
        for row in 0..region.height {
            let from = 3 * ((y + row) * width + x) as usize;
            let n = 3 * region.width as usize;
            prop_assert!(read[row as usize * n..][..n] == raster.data[from..][..n], "row {} of {:?}", row, region);
        }
        // Every level is readable to its last pixel.
        for level in 0..tiled.levels() {
            prop_assert!(tiled.read(level, size.at_level(level).rect()).is_ok());
        }
    }

    #[test]
    fn a_damaged_file_is_an_error_and_never_a_panic(at in any::<prop::sample::Index>(), value in any::<u8>(), keep in 0.0..1.0f64) {
        let raster = picture(Size::new(40, 30), 5);
        for (name, format) in [
            ("a.png", Format::Png { sixteen: false }),
            ("a.tif", Format::Tiff { sixteen: false }),
            ("a.jpg", Format::Jpeg { quality: 90 }),
        ] {
            let (_folder, path) = written(&raster, format, name);
            let mut bytes = std::fs::read(&path).unwrap();
            let k = at.index(bytes.len());
            bytes[k] = value;
            if let Ok(d) = decode_bytes(&path, &bytes) {
                prop_assert!(d.size.pixels() > 0);
            }
            bytes.truncate((keep * bytes.len() as f64) as usize);
            let told = decode_bytes(&path, &bytes).map(|_| ()).map_err(|e| e.to_string());
            prop_assert!(told.is_ok() || told.unwrap_err().contains(name));
        }
    }
}

#[test]
fn jpeg_is_near_and_nearer_with_more_quality() {
    // Without the hard edges, which no quality keeps.
    let mut raster = Raster::new(Size::new(160, 120));
    for (i, v) in raster.data.iter_mut().enumerate() {
        *v = (8000 + (i / 3 % 160) * 250 + (i / 480) * 90) as u16;
    }
    let worst = |quality: u8| {
        let (_folder, path) = written(&raster, Format::Jpeg { quality }, "a.jpg");
        let Samples::Eight(d) = decode(&path).unwrap().samples else { panic!("JPEG has eight bits") };
        d.iter().zip(raster.to_u8()).map(|(a, b)| a.abs_diff(b)).max().unwrap()
    };
    assert!(worst(95) <= 4, "{}", worst(95));
    assert!(worst(30) > worst(95));
}

/// A picture of one colour whose numbers mean a wider space, as PNG with eight or sixteen bits, or as TIFF.
fn wide(format: &str) -> Vec<u8> {
    let icc = ColorProfile::new_display_p3().encode().unwrap();
    let rgb16 = [30_000u16, 50_000, 20_000];
    let mut out = Cursor::new(Vec::new());
    match format {
        "tif" => {
            let mut tiff = tiff::encoder::TiffEncoder::new(&mut out).unwrap();
            let mut image = tiff.new_image::<tiff::encoder::colortype::RGB16>(24, 16).unwrap();
            image.encoder().write_tag(tiff::tags::Tag::IccProfile, icc.as_slice()).unwrap();
            image.write_data(&rgb16.repeat(24 * 16)).unwrap();
        }
        depth => {
            let mut info = png::Info::with_size(24, 16);
            info.color_type = png::ColorType::Rgb;
            info.icc_profile = Some(icc.into());
            let (bits, data) = match depth {
                "png8" => (png::BitDepth::Eight, rgb16.map(|v| (v / 257) as u8).repeat(24 * 16)),
                _ => (png::BitDepth::Sixteen, rgb16.map(u16::to_be_bytes).concat().repeat(24 * 16)),
            };
            info.bit_depth = bits;
            let mut writer = png::Encoder::with_info(&mut out, info).unwrap().write_header().unwrap();
            writer.write_image_data(&data).unwrap();
        }
    }
    out.into_inner()
}

#[test]
fn a_wider_profile_is_converted_to_the_working_space() {
    // Display P3 to sRGB by the matrices of SMPTE EG 432-1 and IEC 61966-2-1, worked out in linear light.
    let linear =
        [30_000.0, 50_000.0, 20_000.0].map(|v: f64| evanu_core::pixel::tone::to_linear(v / 65_535.0));
    let matrix = [[1.2249, -0.2247, 0.0], [-0.0420, 1.0419, 0.0], [-0.0197, -0.0786, 1.0979]];
    let expected = matrix.map(|row| {
        65_535.0 * evanu_core::pixel::tone::to_code((0..3).map(|c| row[c] * linear[c]).sum::<f64>())
    });
    for format in ["png8", "png16", "tif"] {
        let decoded = decode_bytes(Path::new("wide"), &wide(format)).unwrap();
        let first: Vec<f64> = match decoded.samples {
            Samples::Eight(_) | Samples::Wide(_) => panic!("{format}: a conversion needs sixteen bits"),
            Samples::Sixteen(d) => d[..3].iter().map(|&v| f64::from(v)).collect(),
        };
        for c in 0..3 {
            assert!((first[c] - expected[c]).abs() < 350.0, "{format}: {first:?} instead of {expected:?}");
        }
    }
}

#[test]
fn compressed_and_grey_tiffs_are_read() {
    use tiff::encoder::{Compression, TiffEncoder, colortype};
    let codes: Vec<u8> = (0..60 * 40).map(|i| (i * 7 % 251) as u8).collect();
    for (name, compression) in [
        ("none", Compression::Uncompressed),
        ("LZW", Compression::Lzw),
        ("deflate", Compression::Deflate(Default::default())),
        ("packbits", Compression::Packbits),
    ] {
        let mut out = Cursor::new(Vec::new());
        let mut tiff = TiffEncoder::new(&mut out).unwrap().with_compression(compression);
        tiff.write_image::<colortype::Gray8>(60, 40, &codes).unwrap();
        let back = decode_bytes(Path::new("grey.tif"), out.get_ref()).unwrap();
        let Samples::Eight(d) = back.samples else { panic!("eight bits stay eight bits") };
        assert!(d.chunks_exact(3).zip(&codes).all(|(p, v)| p == [*v; 3]), "{name}");
    }
}

#[test]
fn webp_keeps_every_code_its_profile_and_camera_data() {
    let raster = picture(Size::new(70, 50), 9);
    let mut out = Vec::new();
    let mut writer = image_webp::WebPEncoder::new(&mut out);
    let camera = include_bytes!("../../demo/samples/forecourt/frame-01.jpg");
    let exif = exif_block(camera);
    writer.set_exif_metadata(exif);
    writer.encode(&raster.to_u8(), 70, 50, image_webp::ColorType::Rgb8).unwrap();
    let back = decode_bytes(Path::new("a.webp"), &out).unwrap();
    assert!(back.samples == Samples::Eight(raster.to_u8()));
    assert_eq!((back.camera.camera.as_deref(), back.camera.iso), (Some("Hilltop One"), Some(200)));

    let mut wide = Vec::new();
    let mut writer = image_webp::WebPEncoder::new(&mut wide);
    writer.set_icc_profile(ColorProfile::new_display_p3().encode().unwrap());
    writer.encode(&[117, 195, 78].repeat(60), 10, 6, image_webp::ColorType::Rgb8).unwrap();
    let Samples::Sixteen(d) = decode_bytes(Path::new("wide.webp"), &wide).unwrap().samples else {
        panic!("a conversion needs more than eight bits")
    };
    assert!((f64::from(d[0]) / 257.0 - 87.0).abs() < 1.5, "{:?}", &d[..3]);
}

/// The camera data of a JPEG, as its first application block holds them.
fn exif_block(jpeg: &[u8]) -> Vec<u8> {
    let at = jpeg.windows(6).position(|w| w == b"Exif\0\0").unwrap();
    let length = usize::from(u16::from_be_bytes([jpeg[at - 2], jpeg[at - 1]]));
    jpeg[at + 6..at + length - 2].to_vec()
}

#[test]
fn light_beyond_white_survives_a_float_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("light.exr");
    let size = Size::new(40, 30);
    let value = |i: usize| [0.0, 0.002, 0.18, 1.0, 3.5, 12.0][i % 6] as f32;
    let row = |r: Rect| -> Result<Vec<f32>, Infallible> {
        let first = 3 * (r.y as usize * 40);
        Ok((first..first + 3 * r.size().pixels() as usize).map(value).collect())
    };
    let camera = CameraData { exposure_s: Some(0.01), iso: Some(400), ..CameraData::default() };
    write_light(&path, size, Some(&camera), row).unwrap();
    let back = decode(&path).unwrap();
    assert_eq!((back.size, back.headroom), (size, 12.0));
    assert_eq!(
        (back.camera.iso, back.camera.exposure_s.map(|v| (v * 1e4).round())),
        (Some(400), Some(100.0))
    );
    let Samples::Wide(codes) = back.samples else { panic!("floats are kept beyond white") };
    for (i, &code) in codes.iter().enumerate() {
        let light = evanu_core::pixel::tone::linear_of_root(code) * 12.0;
        // A half float has eleven bits, a root code steps of a 2000th at 0.002 of twelve.
        assert!((light - value(i)).abs() <= 0.004 * value(i) + 1e-6, "{light} instead of {}", value(i));
    }
}

#[test]
fn a_float_file_that_lies_about_itself_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("cut.exr");
    let row = |r: Rect| -> Result<Vec<f32>, Infallible> { Ok(vec![0.5; 3 * r.size().pixels() as usize]) };
    write_light(&path, Size::new(200, 150), None, row).unwrap();
    let whole = std::fs::read(&path).unwrap();
    for cut in [9, whole.len() / 3, whole.len() - 5] {
        let e = decode_bytes(Path::new("cut.exr"), &whole[..cut]).err().expect("a cut file was taken");
        assert!(e.to_string().starts_with("cut.exr: "), "{e}");
    }
}

#[test]
fn a_jpeg_with_something_after_its_end_is_read_and_a_cut_one_is_told() {
    let picture = picture(Size::new(120, 90), 7);
    let (_folder, path) = written(&picture, Format::Jpeg { quality: 90 }, "a.jpg");
    let whole = std::fs::read(&path).unwrap();
    let decoded = decode(&path).unwrap();
    // What telephones append: padding and a clip, more than half of the file and without an end of a JPEG in it.
    let mut longer = whole.clone();
    longer.extend(vec![0u8; 200_000]);
    std::fs::write(&path, &longer).unwrap();
    assert!(decode(&path).unwrap().samples == decoded.samples);
    std::fs::write(&path, &whole[..whole.len() - 40]).unwrap();
    let e = decode(&path).err().unwrap().to_string();
    assert!(e.contains("its end is missing"), "{e}");
}

#[cfg(unix)]
#[test]
fn a_pipe_is_refused_and_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("pipe.jpg");
    assert!(std::process::Command::new("mkfifo").arg(&path).status().unwrap().success());
    let e = open_asset(FORMATS, &path).err().unwrap().to_string();
    assert!(e.contains("pipe.jpg") && e.contains("no regular file"), "{e}");
    assert!(decode(&path).is_err());
}

/// A file of `tests/samples`: ramps of 96 × 64 made up for these tests and written by other encoders than ours (x265, libaom, libjxl).
fn sample(name: &str) -> evanu_media::Decoded {
    decode(&Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples").join(name)).unwrap()
}

#[test]
fn what_telephones_write_is_read_upright_with_its_camera_data() {
    for (name, allowed, camera) in [
        // Stored turned by a quarter; its camera data say so once more.
        ("turned.heic", 4, Some("Made up")),
        ("ramp.avif", 6, Some("Made up")),
        ("ramp.jxl", 0, None),
        ("lossy.jxl", 6, Some("Made up")),
    ] {
        let read = sample(name);
        assert_eq!((read.size, read.camera.orientation), (Size::new(96, 64), 1), "{name}");
        assert_eq!(read.camera.camera.as_deref(), camera, "{name}");
        let code: Vec<i32> = match read.samples {
            Samples::Eight(d) => d.iter().map(|v| i32::from(*v)).collect(),
            Samples::Sixteen(d) => d.iter().map(|v| (i32::from(*v) + 128) / 257).collect(),
            Samples::Wide(_) => panic!("{name} holds no light beyond white"),
        };
        for (i, p) in code.chunks_exact(3).enumerate() {
            let (x, y) = (i as i32 % 96, i as i32 / 96);
            let apart = [p[0] - 40 - x, p[1] - 60 - 2 * y, p[2] - 200 + x].map(i32::abs);
            assert!(apart.iter().all(|d| *d <= allowed), "{name} at {x}, {y}: {p:?}");
        }
    }
    assert!(sample("turned.heic").camera.time.as_deref() == Some("2026-05-16T14:31:00"));
}

#[test]
fn light_beyond_white_is_kept_of_ten_bits() {
    // BT.2020 and PQ: green at white beside graphics, red from none to the right and blue to below.
    let read = sample("pq.heic");
    assert!(read.headroom > 3.0, "{}", read.headroom);
    let Samples::Wide(roots) = read.samples else { panic!("light stays light") };
    let light = |x: usize, y: usize| -> [f32; 3] {
        std::array::from_fn(|c| (f32::from(roots[3 * (y * 96 + x) + c]) / 65535.0).powi(2) * read.headroom)
    };
    // By BT.2020's matrix to BT.709, 1.1329 of green and nothing but traces of the others where these are dark.
    let [r, g, b] = light(1, 1);
    assert!(r < 0.05 && (g - 1.13).abs() < 0.08 && b < 0.05, "{r} {g} {b}");
    assert!(light(94, 1)[0] > 4.0 && light(1, 62)[2] > 4.0, "{:?} {:?}", light(94, 1), light(1, 62));
}

#[test]
fn damaged_files_of_telephones_are_told_and_never_a_panic() {
    let folder = tempfile::tempdir().unwrap();
    for name in ["turned.heic", "ramp.avif", "ramp.jxl", "lossy.jxl", "pq.heic"] {
        let whole =
            std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples").join(name)).unwrap();
        for cut in [13, 60, whole.len() / 2, whole.len() - 9] {
            let path = folder.path().join(name);
            std::fs::write(&path, &whole[..cut]).unwrap();
            if let Err(e) = decode(&path) {
                assert!(e.to_string().contains(name) && e.to_string().contains("; "), "{e}");
            } else {
                assert!(cut > 60, "{name} cut at {cut} was taken");
            }
        }
        for at in (12..whole.len()).step_by(7) {
            let mut bytes = whole.clone();
            bytes[at] ^= 0x55;
            let _ = decode_bytes(Path::new(name), &bytes);
        }
    }
}
