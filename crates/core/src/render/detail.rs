//! Detail that an average loses, given back from the reference.
//!
//! Where the picture is steep, frames differ by more than noise: each was sampled elsewhere, was resampled, and fits to a
//! fraction of a pixel only. There the reference, which is not resampled, is nearer to the place than the average of all;
//! where the picture is flat the average is, by its smaller noise. Each pixel is the mean of both that leaves the least
//! error by local statistics (Lee 1980): the reference counts `α = κ²g² / (κ²g² + σ²)`, with g its gradient, σ its noise
//! and κ what the set's frames differ by for their gradients ([`NoiseModel::slip`]). Files that were rounded hard have their
//! noise where there is texture; they slip by less than that tells, and are averaged. What is chosen is not touched: the
//! reference counts only where it is among the frames that are averaged. Cost: a dozen operations a sample.

use crate::combine::Row;
use crate::combine::consensus::LayerData;
use crate::geometry::Rect;
use crate::noise::{NoiseModel, texture_noise};
use crate::pixel::gradient::add_squares;

/// The reference over a block, and how much it counts at each pixel, 0..=1.
pub struct Detail {
    /// The block with up to a pixel more around it, of rows of `width`.
    wide: LayerData,
    width: usize,
    /// The block within.
    inner: Rect,
    weights: Vec<f32>,
}

impl Detail {
    /// Of the reference over a block with up to a pixel more around it, of rows of `width`; `inner` is the block within. `shrink` is
    /// how many full-size pixels go into one along a side.
    pub fn new(wide: LayerData, width: u32, inner: Rect, noise: &NoiseModel, shrink: f32) -> Self {
        let (w, from, n) = (width as usize, inner.x as usize, inner.width as usize);
        let last = wide.spans.len() - 1;
        let line = |y: usize| -> Row<'_> { std::array::from_fn(|c| &wide.planes[c][y * w..][..w]) };
        let mut weights = vec![0.0; inner.size().pixels() as usize];
        let (mut square, mut variance) = (vec![0.0f32; w], vec![0.0f32; n]);
        for (y, weights) in (inner.y as usize..inner.bottom() as usize).zip(weights.chunks_exact_mut(n)) {
            let (up, own, down) = (line(y.saturating_sub(1)), line(y), line((y + 1).min(last)));
            square.fill(0.0);
            (0..3).for_each(|c| add_squares([up[c], own[c], down[c]], &mut square));
            for (variance, code) in variance.iter_mut().zip(&own[1][from..from + n]) {
                *variance = (noise.sigma_at(*code) / shrink).powi(2);
            }
            vector::weigh(&square[from..from + n], &variance, noise, weights);
        }
        Self { wide, width: w, inner, weights }
    }

    /// Root codes of a row of the block.
    pub fn row(&self, y: usize) -> Row<'_> {
        let from = (self.inner.y as usize + y) * self.width + self.inner.x as usize;
        self.wide.planes.each_ref().map(|plane| &plane[from..][..self.inner.width as usize])
    }

    /// How much the pixels of a row count.
    pub fn weights(&self, y: usize) -> &[f32] {
        let n = self.inner.width as usize;
        &self.weights[y * n..][..n]
    }

    /// How much all pixels count, row by row, where the reference's samples are kept elsewhere.
    pub fn into_weights(self) -> Vec<f32> {
        self.weights
    }
}

#[allow(unsafe_code)] // the dispatch to the processor's vector width is the macro's
mod vector {
    use super::{NoiseModel, texture_noise};

    /// How much pixels count, from their squared gradients and their noise's variances.
    #[multiversion::multiversion(targets("x86_64+avx2+fma"))]
    pub(super) fn weigh(square: &[f32], variance: &[f32], noise: &NoiseModel, out: &mut [f32]) {
        let (slip, texture) = (noise.slip * noise.slip, noise.texture);
        for ((weight, square), variance) in out.iter_mut().zip(square).zip(variance) {
            let steep = square / (3.0 * variance);
            let slipped = slip * steep;
            *weight = slipped / (slipped + texture_noise(texture, steep));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::{Rect, Size};

    #[test]
    fn the_reference_counts_where_it_is_steep_and_blocks_join_without_a_step() {
        let size = Size::new(40, 24);
        let plane: Vec<u16> = (0..40 * 24)
            .map(|i| if i % 40 < 20 { 20_000 } else { 20_000 + 2_000 * (i % 2) as u16 * 5 })
            .collect();
        let wide = LayerData { planes: [plane.clone(), plane.clone(), plane], spans: vec![(0, 40); 24] };
        let noise = NoiseModel { sigma: vec![300.0; crate::noise::BINS], slip: 0.1, texture: 0.0 };
        let whole = Detail::new(wide.clone(), 40, size.rect(), &noise, 1.0);
        for y in 0..24 {
            let (flat, steep) = whole.weights(y).split_at(20);
            assert!(flat[..19].iter().all(|w| *w == 0.0), "{flat:?}");
            assert!(steep[..1].iter().all(|w| *w > 0.5), "{steep:?}");
        }
        // Of a part with a pixel around it: the same.
        let part = Rect::new(15, 5, 12, 9);
        let cut = |plane: &Vec<u16>| (4..15).flat_map(|y| plane[40 * y + 14..40 * y + 28].to_vec()).collect();
        let around = LayerData { planes: wide.planes.each_ref().map(cut), spans: vec![(0, 14); 11] };
        let inner = Detail::new(around, 14, Rect::new(1, 1, part.width, part.height), &noise, 1.0);
        for y in 0..9 {
            assert_eq!(inner.weights(y), &whole.weights(y + 5)[15..27]);
            assert_eq!(inner.row(y), whole.row(y + 5).map(|row| &row[15..27]));
        }
    }
}
