//! Frames as they are, each with its time, for a program that encodes them: uncompressed video in Matroska (RFC 9559).
//!
//! A bare stream of frames has no times, and a clip's frames need not follow at one pace.

use super::{Layout, y4m};
use evanu_core::geometry::Size;
use std::io::{Result, Write};

/// Nanoseconds that times are counted in.
const SCALE: u64 = 1_000;

/// What is written before the first frame.
pub(super) fn begin(out: &mut dyn Write, size: Size, layout: Layout) -> Result<()> {
    let head = [
        number(0x4286, 1),
        number(0x42F7, 1),
        number(0x42F2, 4),
        number(0x42F3, 8),
        element(0x4282, b"matroska"),
        number(0x4287, 4),
        number(0x4285, 2),
    ];
    out.write_all(&element(0x1A45_DFA3, &head.concat()))?;
    // A segment of unknown length.
    out.write_all(&[0x18, 0x53, 0x80, 0x67, 0x01, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF])?;
    let about = [number(0x2A_D7B1, SCALE), element(0x4D80, b"evanu"), element(0x5741, b"evanu")];
    out.write_all(&element(0x1549_A966, &about.concat()))?;
    let video = [
        number(0xB0, size.width.into()),
        number(0xBA, size.height.into()),
        element(0x2E_B524, &four(layout)),
    ];
    let track = [
        number(0xD7, 1),
        number(0x73C5, 1),
        number(0x83, 1),
        element(0x86, b"V_UNCOMPRESSED"),
        element(0xE0, &video.concat()),
    ];
    out.write_all(&element(0x1654_AE6B, &element(0xAE, &track.concat())))
}

/// One frame, at a time in microseconds.
pub(super) fn frame(out: &mut dyn Write, planes: &[Vec<u16>; 3], bits: u8, time: u64) -> Result<()> {
    let data: Vec<u8> = planes.iter().flat_map(|plane| y4m::bytes(plane, bits)).collect();
    let time = number(0xE7, time);
    // A block: its track, no time beside the cluster's, a key frame.
    let block = head(0xA3, data.len() + 4);
    out.write_all(&head(0x1F43_B675, time.len() + block.len() + 4 + data.len()))?;
    out.write_all(&time)?;
    out.write_all(&block)?;
    out.write_all(&[0x81, 0, 0, 0x80])?;
    out.write_all(&data)
}

/// The four letters that a layout is known by.
fn four(layout: Layout) -> [u8; 4] {
    let Layout { bits, across, down, grey } = layout;
    match (bits, grey, across, down) {
        (8, true, ..) => *b"Y800",
        (8, _, 0, 0) => *b"444P",
        (8, _, 1, 0) => *b"Y42B",
        (8, _, 2, 0) => *b"Y41B",
        (8, ..) => *b"I420",
        (bits, true, ..) => [b'Y', b'1', 0, bits],
        (bits, _, 0, 0) => [b'Y', b'3', 0, bits],
        (bits, _, 1, 0) => [b'Y', b'3', 10, bits],
        (bits, ..) => [b'Y', b'3', 11, bits],
    }
}

fn head(id: u32, length: usize) -> Vec<u8> {
    let mut out: Vec<u8> = id.to_be_bytes().into_iter().skip_while(|b| *b == 0).collect();
    out.push(0x01);
    out.extend(&(length as u64).to_be_bytes()[1..]);
    out
}

fn element(id: u32, data: &[u8]) -> Vec<u8> {
    [head(id, data.len()), data.to_vec()].concat()
}

fn number(id: u32, value: u64) -> Vec<u8> {
    element(id, &value.to_be_bytes())
}
