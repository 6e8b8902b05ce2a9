//! Small whole pictures: a finished RGB region and a plane of one value.

use crate::geometry::Size;

/// A finished region: interleaved RGB, sRGB-encoded, 0..=65535, row by row without gaps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Raster {
    /// Columns and rows.
    pub size: Size,
    /// `3 * width * height` samples.
    pub data: Vec<u16>,
}

impl Raster {
    /// A black region.
    pub fn new(size: Size) -> Self {
        Self { size, data: vec![0; 3 * size.pixels() as usize] }
    }

    /// One pixel; panics outside the region.
    pub fn pixel(&self, x: u32, y: u32) -> [u16; 3] {
        let i = 3 * (y as usize * self.size.width as usize + x as usize);
        [self.data[i], self.data[i + 1], self.data[i + 2]]
    }

    /// The same region in eight bits, rounded to nearest.
    pub fn to_u8(&self) -> Vec<u8> {
        self.data.iter().map(|&v| to_u8(v)).collect()
    }
}

/// Rounds a 16-bit code to eight bits, so that `257 * v` comes back as `v`.
pub(crate) fn to_u8(v: u16) -> u8 {
    ((u32::from(v) + 128) / 257) as u8
}

/// One value a pixel, row by row without gaps.
#[derive(Debug, Clone, PartialEq)]
pub struct Plane {
    /// Columns and rows.
    pub size: Size,
    /// `width * height` values.
    pub data: Vec<f32>,
}

impl Plane {
    /// A plane of zeros.
    pub fn new(size: Size) -> Self {
        Self { size, data: vec![0.0; size.pixels() as usize] }
    }

    /// Value at a pixel; coordinates outside are clamped to the border.
    #[inline]
    pub fn at(&self, x: i64, y: i64) -> f32 {
        let x = x.clamp(0, i64::from(self.size.width) - 1) as usize;
        let y = y.clamp(0, i64::from(self.size.height) - 1) as usize;
        self.data[y * self.size.width as usize + x]
    }

    /// One row; panics below the last.
    pub fn row(&self, y: u32) -> &[f32] {
        let w = self.size.width as usize;
        &self.data[y as usize * w..][..w]
    }

    /// Bilinear interpolation, clamped at the border.
    #[inline]
    pub fn sample(&self, x: f64, y: f64) -> f32 {
        let (fx, fy) = (x.floor(), y.floor());
        let (u, v) = ((x - fx) as f32, (y - fy) as f32);
        let (x, y) = (fx as i64, fy as i64);
        let top = self.at(x, y) * (1.0 - u) + self.at(x + 1, y) * u;
        let low = self.at(x, y + 1) * (1.0 - u) + self.at(x + 1, y + 1) * u;
        top * (1.0 - v) + low * v
    }

    /// Blurred with the binomial kernel 1 4 6 4 1 (σ = 1 px) in both directions.
    pub fn blurred(&self) -> Self {
        const K: [f32; 5] = [0.0625, 0.25, 0.375, 0.25, 0.0625];
        let (w, h) = (self.size.width as usize, self.size.height);
        let mut across = Self::new(self.size);
        for y in 0..h {
            let (row, out) = (self.row(y), &mut across.data[y as usize * w..][..w]);
            for (o, v) in out.iter_mut().skip(2).zip(row.windows(5)) {
                *o = K[0] * (v[0] + v[4]) + K[1] * (v[1] + v[3]) + K[2] * v[2];
            }
            for x in (0..w).filter(|&x| x < 2 || x + 2 >= w) {
                out[x] = (0..5).map(|k| K[k] * self.at(x as i64 + k as i64 - 2, i64::from(y))).sum();
            }
        }
        let mut out = Self::new(self.size);
        for y in 0..h {
            let line = |d: i64| across.row((i64::from(y) + d).clamp(0, i64::from(h) - 1) as u32);
            let (a, b, c, d, e) = (line(-2), line(-1), line(0), line(1), line(2));
            for (x, o) in out.data[y as usize * w..][..w].iter_mut().enumerate() {
                *o = K[0] * (a[x] + e[x]) + K[1] * (b[x] + d[x]) + K[2] * c[x];
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn eight_bits_survive_the_way_through_sixteen() {
        for v in 0..=255u8 {
            assert_eq!(to_u8(u16::from(v) * 257), v);
        }
    }

    #[test]
    fn a_blur_keeps_a_flat_plane_and_its_mean() {
        let mut p = Plane { size: Size::new(9, 9), data: vec![3.0; 81] };
        assert!(p.blurred().data.iter().all(|v| (v - 3.0).abs() < 1e-6));
        p.data[40] = 84.0;
        assert!((p.blurred().data.iter().sum::<f32>() - p.data.iter().sum::<f32>()).abs() < 1e-3);
    }
}
