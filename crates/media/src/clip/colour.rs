//! From brightness and colour differences to red, green and blue, and back.

use super::{Layout, Yuv};
use evanu_core::geometry::Size;
use evanu_core::pixel::Samples;

/// How much red and blue weigh in brightness.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Matrix {
    red: f32,
    blue: f32,
}

impl Matrix {
    /// ITU-R BT.601.
    pub const BT601: Self = Self { red: 0.299, blue: 0.114 };
    /// ITU-R BT.709.
    pub const BT709: Self = Self { red: 0.2126, blue: 0.0722 };
    /// ITU-R BT.2020.
    pub const BT2020: Self = Self { red: 0.2627, blue: 0.0593 };

    /// By ffmpeg's word; where none is told, small pictures are of the older kind.
    pub(super) fn of(word: &str, size: Size) -> Self {
        match word {
            "bt709" => Self::BT709,
            "bt2020nc" | "bt2020c" => Self::BT2020,
            "smpte170m" | "bt470bg" | "fcc" => Self::BT601,
            _ if size.height >= 720 => Self::BT709,
            _ => Self::BT601,
        }
    }
}

/// What a clip's samples mean.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Colour {
    /// How colours weigh.
    pub matrix: Matrix,
    /// Whether codes go from nothing to all, or leave room at both ends.
    pub full: bool,
}

impl Colour {
    /// Black, and what white and the widest colour difference are above it and above their middle.
    fn scale(self, bits: u8) -> (f32, f32, f32, f32) {
        let one = f32::from(1u16 << (bits - 8));
        let middle = 128.0 * one;
        if self.full {
            let most = ((1u32 << bits) - 1) as f32;
            (0.0, most, middle, most)
        } else {
            (16.0 * one, 219.0 * one, middle, 224.0 * one)
        }
    }

    /// The codes of black, and of no colour in either difference.
    pub fn centers(self, bits: u8) -> [f64; 3] {
        let (black, _, middle, _) = self.scale(bits);
        [black, middle, middle].map(f64::from)
    }

    /// A picture of a frame: eight bits for eight, sixteen for more. Colour differences lie, across, where every second pixel does and,
    /// down, between two rows, as cameras write them; between them is what lies between.
    pub fn picture(self, frame: &Yuv, size: Size, layout: Layout) -> Samples {
        let (w, h) = (size.width as usize, size.height as usize);
        let (black, white, middle, wide) = self.scale(layout.bits);
        let chroma = layout.chroma(size);
        let (cw, ch) = (chroma.width as usize, chroma.height as usize);
        let Matrix { red, blue } = self.matrix;
        let green = 1.0 - red - blue;
        let between = |v: f32, n: usize| {
            let v = v.clamp(0.0, (n - 1) as f32);
            (v as usize, (v as usize + 1).min(n - 1), v.fract())
        };
        let columns: Vec<_> =
            (0..w).map(|x| between(x as f32 / f32::from(1u16 << layout.across), cw.max(1))).collect();
        let mut out = Vec::with_capacity(3 * w * h);
        for y in 0..h {
            let down = f32::from(1u16 << layout.down);
            let (top, low, part) = between((y as f32 + 0.5) / down - 0.5, ch.max(1));
            for (x, &(left, right, share)) in columns.iter().enumerate() {
                let bright = (f32::from(frame.planes[0][y * w + x]) - black) / white;
                let difference = |plane: &[u16]| {
                    let at = |x: usize, y: usize| f32::from(plane[y * cw + x]);
                    let row = |y: usize| at(left, y) + share * (at(right, y) - at(left, y));
                    (row(top) + part * (row(low) - row(top)) - middle) / wide
                };
                let (cb, cr) = if layout.grey {
                    (0.0, 0.0)
                } else {
                    (difference(&frame.planes[1]), difference(&frame.planes[2]))
                };
                let r = bright + 2.0 * (1.0 - red) * cr;
                let b = bright + 2.0 * (1.0 - blue) * cb;
                let g = (bright - red * r - blue * b) / green;
                out.extend([r, g, b]);
            }
        }
        if layout.bits > 8 {
            Samples::Sixteen(
                out.into_iter().map(|v| (65535.0 * v).round().clamp(0.0, 65535.0) as u16).collect(),
            )
        } else {
            Samples::Eight(out.into_iter().map(|v| (255.0 * v).round().clamp(0.0, 255.0) as u8).collect())
        }
    }

    /// A picture, red, green and blue from 0 to 1, as a frame, its values between codes.
    pub fn planes(self, picture: &[f32], size: Size, layout: Layout) -> [Vec<f32>; 3] {
        let (w, h) = (size.width as usize, size.height as usize);
        let (black, white, middle, wide) = self.scale(layout.bits);
        let Matrix { red, blue } = self.matrix;
        let bright = |p: usize| {
            let [r, g, b] = [0, 1, 2].map(|c| picture[3 * p + c]);
            red * r + (1.0 - red - blue) * g + blue * b
        };
        let y: Vec<f32> = (0..w * h).map(bright).collect();
        let chroma = layout.chroma(size);
        let difference = |c: usize, weight: f32| -> Vec<f32> {
            let mut out = Vec::with_capacity(chroma.pixels() as usize);
            for v in 0..chroma.height as usize {
                for u in 0..chroma.width as usize {
                    // Across a quarter, a half and a quarter around where it lies; down the rows it stands for.
                    let (mut sum, mut count) = (0.0, 0.0);
                    let across: &[(i64, f32)] =
                        if layout.across == 1 { &[(-1, 0.25), (0, 0.5), (1, 0.25)] } else { &[(0, 1.0)] };
                    for row in (v << layout.down)..((v + 1) << layout.down).min(h) {
                        for &(off, share) in across {
                            let x = ((u << layout.across) as i64 + off).clamp(0, w as i64 - 1) as usize;
                            let p = row * w + x;
                            sum += share * (picture[3 * p + c] - y[p]) / (2.0 * (1.0 - weight));
                            count += share;
                        }
                    }
                    out.push(middle + wide * sum / count);
                }
            }
            out
        };
        let (cb, cr) = (difference(2, blue), difference(0, red));
        [y.into_iter().map(|v| black + white * v).collect(), cb, cr]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_smooth_picture_comes_back_from_a_frame(
            full: bool, bits in prop::sample::select(vec![8u8, 10, 12]), shape in 0usize..3, c in prop::array::uniform3(0.1..0.9f32)
        ) {
            let layout = Layout { bits, across: (shape > 0).into(), down: (shape > 1).into(), grey: false };
            let size = Size::new(24, 18);
            for matrix in [Matrix::BT601, Matrix::BT709, Matrix::BT2020] {
                let colour = Colour { matrix, full };
                let picture: Vec<f32> = (0..24 * 18).flat_map(|p| c.map(|v| v + 0.002 * (p % 24) as f32)).collect();
                let planes = colour.planes(&picture, size, layout);
                let frame = Yuv { planes: planes.map(|p| p.into_iter().map(|v| v.round() as u16).collect()) };
                let most = if bits > 8 { 65535.0 } else { 255.0 };
                let back: Vec<f32> = match colour.picture(&frame, size, layout) {
                    Samples::Eight(data) => data.into_iter().map(f32::from).collect(),
                    Samples::Sixteen(data) => data.into_iter().map(f32::from).collect(),
                    Samples::Wide(_) => panic!("codes are wanted"),
                };
                let step = 3.0 / f32::from(1u16 << bits.min(15));
                for (a, b) in picture.iter().zip(back) {
                    prop_assert!((a - b / most).abs() < step, "{a} {}", b / most);
                }
            }
        }
    }
}
