//! The aligned samples of several frames over one block, and what a method makes of them.

use super::average::Average;
use super::detail::Detail;
use super::plate::{Plate, black};
use crate::combine::consensus::{LabelMap, LayerData};
use crate::combine::{Method, Network, Row, combine};
use crate::evidence::{PlateRow, Support, agrees, plate_row};
use crate::geometry::Grid;
use crate::noise::NoiseModel;
use std::collections::HashMap;
use std::ops::Range;

/// No difference.
const MIDDLE: u16 = 30_583;

/// What a method averages, where it rests on a choice.
pub(super) fn averaged(method: Method, choice: Option<&LabelMap>) -> Option<(&LabelMap, &[u64])> {
    match (method, choice) {
        (Method::Consensus, Some(choice)) => Some((choice, &choice.inliers)),
        (Method::Everybody, Some(choice)) => Some((choice, &choice.crowd)),
        _ => None,
    }
}

/// Several frames over one block.
pub struct Stack {
    grid: Grid,
    layers: Vec<LayerData>,
    /// Which of the set's frames the layers are.
    frames: Vec<usize>,
    /// Which of the layers gives an average its detail, and how much it counts at each pixel.
    detail: Option<(usize, Vec<f32>)>,
}

impl Stack {
    /// These frames' layers over pixels; `detail` comes with its place among them.
    pub fn new(
        grid: Grid,
        frames: &[usize],
        layers: Vec<LayerData>,
        detail: Option<(usize, Detail)>,
    ) -> Self {
        let detail = detail.map(|(k, detail)| (k, detail.into_weights()));
        Self { grid, layers, frames: frames.to_vec(), detail }
    }

    /// The pixels of the block.
    pub fn grid(&self) -> &Grid {
        &self.grid
    }

    /// The samples of one of the set's frames, when it is among the stack's.
    pub fn layer(&self, frame: usize) -> Option<&LayerData> {
        self.frames.iter().position(|&f| f == frame).map(|i| &self.layers[i])
    }

    /// Columns and rows.
    fn sides(&self) -> (usize, usize) {
        (self.grid.rect.width as usize, self.grid.rect.height as usize)
    }

    /// All rows, all columns.
    fn whole(&self) -> (Range<usize>, Range<usize>) {
        let (w, h) = self.sides();
        (0..h, 0..w)
    }

    /// Runs of columns of a row that the same layers cover, with those layers.
    fn runs(&self, row: usize) -> Vec<(usize, usize, Vec<usize>)> {
        let mut cuts = vec![0, self.grid.rect.width];
        cuts.extend(self.layers.iter().flat_map(|l| [l.spans[row].0, l.spans[row].1]));
        cuts.sort_unstable();
        cuts.dedup();
        let covering = |x: u32| {
            (0..self.layers.len())
                .filter(|&i| (self.layers[i].spans[row].0..self.layers[i].spans[row].1).contains(&x))
                .collect()
        };
        cuts.windows(2).map(|c| (c[0] as usize, c[1] as usize, covering(c[0]))).collect()
    }

    fn row(&self, layer: usize, row: usize, from: usize, to: usize) -> Row<'_> {
        let at = row * self.sides().0;
        std::array::from_fn(|c| &self.layers[layer].planes[c][at + from..at + to])
    }

    /// The layers by a method; black where none reaches.
    pub fn by(&self, method: Method, choice: Option<&LabelMap>) -> Plate {
        if let Some((choice, held)) = averaged(method, choice) {
            let detail = self.detail.as_ref().filter(|_| method == Method::Consensus);
            return self.chosen(choice, held, self.whole(), detail);
        }
        let (w, h) = self.sides();
        let mut out = black(self.grid.size());
        let mut networks: HashMap<usize, Network> = HashMap::new();
        for row in 0..h {
            for (from, to, layers) in self.runs(row).into_iter().filter(|r| !r.2.is_empty()) {
                let network =
                    networks.entry(layers.len()).or_insert_with(|| Network::new(method, layers.len()));
                let rows: Vec<Row<'_>> = layers.iter().map(|&i| self.row(i, row, from, to)).collect();
                let [r, g, b] = &mut out;
                let (i, j) = (row * w + from, row * w + to);
                combine(method, network, &rows, [&mut r[i..j], &mut g[i..j], &mut b[i..j]]);
            }
        }
        out
    }

    /// The average of the frames that a choice holds; rows and columns beyond those that are asked for stay black.
    pub fn chosen(
        &self,
        choice: &LabelMap,
        held: &[u64],
        area: (Range<usize>, Range<usize>),
        detail: Option<&(usize, Vec<f32>)>,
    ) -> Plate {
        let spans: Vec<&[(u32, u32)]> = self.layers.iter().map(|l| &l.spans[..]).collect();
        let (rows, w) = (area.0.clone(), self.sides().0);
        let mut average = Average::new((choice, held), &self.frames, &spans, &self.grid, area);
        let layers = average.layers();
        for y in rows {
            layers.iter().for_each(|&k| average.add(k, y, self.row(k, y, 0, w)));
            if let Some((k, weights)) = detail {
                average.keep(*k, y, self.row(*k, y, 0, w), &weights[y * w..][..w]);
            }
        }
        average.plate()
    }

    /// How the second layer differs from the first, doubled, around middle grey; grey where either does not reach.
    pub fn difference(&self) -> Plate {
        let (w, h) = self.sides();
        let mut out = [0; 3].map(|_| vec![MIDDLE; w * h]);
        let [first, second] = &self.layers[..] else { return out };
        for y in 0..h {
            let span = |l: &LayerData| l.spans[y];
            let (from, to) = (span(first).0.max(span(second).0), span(first).1.min(span(second).1));
            for i in (from..to.max(from)).map(|x| y * w + x as usize) {
                for (c, plane) in out.iter_mut().enumerate() {
                    let d = i32::from(second.planes[c][i]) - i32::from(first.planes[c][i]);
                    plane[i] = (i32::from(MIDDLE) + 2 * d).clamp(0, 65535) as u16;
                }
            }
        }
        out
    }

    /// For each pixel of a part of the block, the share of the frames there that show the same as a plate over all of it; and the same
    /// in figures.
    pub fn agreement(&self, plate: &Plate, part: &Grid, noise: &NoiseModel) -> (Vec<f64>, Support) {
        let (w, _) = self.sides();
        let (left, top) =
            ((part.rect.x - self.grid.rect.x) as usize, (part.rect.y - self.grid.rect.y) as usize);
        let mut shares = Vec::with_capacity(part.size().pixels() as usize);
        let mut support = Support::default();
        let mut same = vec![false; w];
        for row in top..top + part.rect.height as usize {
            let plate = self.plate_row(plate, row, noise);
            let mut counts = vec![(0u32, 0u32); w];
            for (i, layer) in self.layers.iter().enumerate() {
                agrees(self.row(i, row, 0, w), &plate, &mut same);
                for x in layer.spans[row].0 as usize..layer.spans[row].1 as usize {
                    counts[x].0 += u32::from(same[x]);
                    counts[x].1 += 1;
                }
            }
            for &(agreed, seen) in &counts[left..left + part.rect.width as usize] {
                let share = f64::from(agreed) / f64::from(seen.max(1));
                shares.push(share);
                // Nobody says anything of what no frame reaches.
                if seen == 0 {
                    continue;
                }
                support.agreed += share;
                support.unsupported += u64::from(2 * agreed <= seen && self.layers.len() > 1);
                support.pixels += 1;
            }
        }
        (shares, support)
    }

    /// Share of the block in which each layer shows the same as a plate; `None` where a layer covers none of it.
    pub fn shares(&self, plate: &Plate, noise: &NoiseModel) -> Vec<Option<f32>> {
        let (w, h) = self.sides();
        let mut sums = vec![(0u32, 0u32); self.layers.len()];
        let mut same = vec![false; w];
        for row in 0..h {
            let line = self.plate_row(plate, row, noise);
            for (i, layer) in self.layers.iter().enumerate() {
                agrees(self.row(i, row, 0, w), &line, &mut same);
                let (a, b) = (layer.spans[row].0 as usize, layer.spans[row].1 as usize);
                sums[i].0 += same[a..b].iter().filter(|s| **s).count() as u32;
                sums[i].1 += (b - a) as u32;
            }
        }
        sums.iter().map(|&(s, n)| (n > 0).then(|| s as f32 / n as f32)).collect()
    }

    /// For each pixel, whether a layer over this stack's block reaches it and shows something else than a plate.
    pub fn unlike(&self, layer: &LayerData, plate: &Plate, noise: &NoiseModel) -> Vec<bool> {
        let (w, h) = self.sides();
        let mut out = vec![false; w * h];
        for (row, line) in out.chunks_exact_mut(w.max(1)).enumerate() {
            let own = std::array::from_fn(|c| &layer.planes[c][row * w..][..w]);
            agrees(own, &self.plate_row(plate, row, noise), line);
            let (from, to) = layer.spans[row];
            for (x, v) in line.iter_mut().enumerate() {
                *v = !*v && (from..to).contains(&(x as u32));
            }
        }
        out
    }

    fn plate_row<'a>(&self, plate: &'a Plate, row: usize, noise: &NoiseModel) -> PlateRow<'a> {
        let (w, h) = self.sides();
        let line = |y: usize| -> Row<'a> { std::array::from_fn(|c| &plate[c][y * w..][..w]) };
        plate_row(
            line(row),
            line(row.saturating_sub(1)),
            line((row + 1).min(h - 1)),
            noise,
            self.grid.shrink(),
        )
    }
}
