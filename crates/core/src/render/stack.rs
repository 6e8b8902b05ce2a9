//! The aligned samples of several frames over one block, and what is made of them.

use super::Tables;
use super::average::Average;
use super::detail::Detail;
use crate::combine::consensus::{LabelMap, LayerData};
use crate::combine::{Method, Network, Row, combine};
use crate::evidence::{PlateRow, Support, agrees, plate_row};
use crate::geometry::{Point, Rect, Size, Surface, Warp};
use crate::noise::NoiseModel;
use crate::patch::{self, PlacedPatch, Source};
use crate::pixel::resample::{Sink, resample_rows};
use crate::pixel::tone::append_roots;
use crate::pixel::{FrameSource, Raster, SourceError};
use std::collections::HashMap;
use std::ops::Range;

/// White, as the square of its root code.
const WHITE: f32 = 65535.0 * 65535.0;
/// No difference.
const MIDDLE: u16 = 30_583;

/// How a frame's light is matched to the reference.
#[derive(Debug, Clone, Copy)]
pub struct Tone<'a> {
    /// Multiplies stored light, by channel.
    pub gain: [f32; 3],
    /// Further stops over the reference.
    pub field: Option<&'a Surface>,
}

impl Default for Tone<'_> {
    fn default() -> Self {
        Self { gain: [1.0; 3], field: None }
    }
}

/// How a stack becomes a plate.
#[derive(Debug, Clone, Copy)]
pub struct Way<'a> {
    /// The method.
    pub method: Method,
    /// What the consensus chose, where it is asked for.
    pub choice: Option<&'a LabelMap>,
    /// The patches laid over what the method gives.
    pub patches: &'a [PlacedPatch],
}

/// What a method averages, where it rests on a choice.
pub fn averaged(method: Method, choice: Option<&LabelMap>) -> Option<(&LabelMap, &[u64])> {
    match (method, choice) {
        (Method::Consensus, Some(choice)) => Some((choice, &choice.inliers)),
        (Method::Everybody, Some(choice)) => Some((choice, &choice.crowd)),
        _ => None,
    }
}

/// A plate of this size, encoded.
pub fn encoded(size: Size, [r, g, b]: &Plate, [tr, tg, tb]: &Tables) -> Raster {
    let mut out = Raster::new(size);
    for (i, o) in out.data.chunks_exact_mut(3).enumerate() {
        o[0] = tr[usize::from(r[i])];
        o[1] = tg[usize::from(g[i])];
        o[2] = tb[usize::from(b[i])];
    }
    out
}

/// How much brighter the first colour is than the second, in stops.
fn stops(first: [f32; 3], second: [f32; 3]) -> f32 {
    /// Light below which nothing is told, in squared root codes: a thousandth of white.
    const DARK: f32 = 4.3e6;
    ((first.iter().sum::<f32>() / 3.0 + DARK) / (second.iter().sum::<f32>() / 3.0 + DARK)).log2()
}

/// Resamples a block of a frame, row by row, and brightens it by as many stops as a field of the reference says; `to_frame` maps output
/// pixels to pixels of `level`. The sink gets linear light; returned are the columns that each row covers.
///
/// # Errors
/// When the frame cannot be read.
pub fn resampled(
    source: &dyn FrameSource,
    level: u32,
    to_frame: Warp<'_>,
    field: Option<&Surface>,
    block: Rect,
    sink: Sink<'_>,
) -> Result<Vec<(u32, u32)>, SourceError> {
    let Some(field) = field else { return resample_rows(source, level, to_frame, block, sink) };
    resample_rows(source, level, to_frame, block, &mut |row, from, mut run| {
        let y = (block.y + row as i64) as f64;
        let at = |x: usize| Point::new((block.x + (from + x) as i64) as f64, y);
        for x in 0..run[0].len() {
            let gain = field.at(to_frame.reference(at(x))).exp2() as f32;
            run.iter_mut().for_each(|channel| channel[x] *= gain);
        }
        sink(row, from, run);
    })
}

/// The samples of a frame over a block, made as [`resampled`] does.
///
/// # Errors
/// When the frame cannot be read.
pub fn layer(
    source: &dyn FrameSource,
    level: u32,
    to_frame: Warp<'_>,
    tone: Tone<'_>,
    block: Rect,
) -> Result<LayerData, SourceError> {
    let (w, n) = (block.width as usize, block.size().pixels() as usize);
    let mut planes = [0; 3].map(|_| Vec::with_capacity(n));
    let spans = resampled(source, level, to_frame, tone.field, block, &mut |row, from, run| {
        for ((plane, light), gain) in planes.iter_mut().zip(run).zip(tone.gain) {
            plane.resize(row * w + from, 0);
            append_roots(light, gain, plane);
        }
    })?;
    planes.iter_mut().for_each(|plane| plane.resize(n, 0));
    Ok(LayerData { planes, spans })
}

/// Several frames over one block.
pub struct Stack {
    size: Size,
    block: Rect,
    layers: Vec<LayerData>,
    /// Which of the set's frames the layers are.
    frames: Vec<usize>,
    /// Where the block's first pixel lies in the reference, and how many of its pixels one is along a side.
    place: (Point, f64),
    /// Which of the layers gives an average its detail, and how much it counts at each pixel.
    detail: Option<(usize, Vec<f32>)>,
}

/// Layers of patches whose frame takes no part otherwise, or that have a geometry of their own; by place in the way's patches.
pub type Extras = Vec<(usize, LayerData)>;

/// A combined block: planar root codes.
pub type Plate = [Vec<u16>; 3];

impl Stack {
    /// These frames' layers over a block, whose first pixel lies at `place` in the reference and is as many of its pixels along a
    /// side; `detail` comes with its place among them.
    pub fn new(
        (block, place): (Rect, (Point, f64)),
        frames: &[usize],
        layers: Vec<LayerData>,
        detail: Option<(usize, Detail)>,
    ) -> Self {
        let detail = detail.map(|(k, detail)| (k, detail.into_weights()));
        Self { size: block.size(), block, layers, frames: frames.to_vec(), place, detail }
    }

    /// The block, in pixels of the canvas.
    pub fn block(&self) -> Rect {
        self.block
    }

    /// The layers by a method, as one layer that reaches everywhere.
    pub fn by_method(&self, method: Method, choice: Option<&LabelMap>) -> LayerData {
        let spans = vec![(0, self.size.width); self.size.height as usize];
        LayerData { planes: self.by(method, choice), spans }
    }

    /// The combined layers with the patches, as one layer that reaches everywhere.
    pub fn laid(&self, way: Way<'_>, extras: &Extras) -> LayerData {
        let spans = vec![(0, self.size.width); self.size.height as usize];
        LayerData { planes: self.plate(way, extras), spans }
    }

    /// The samples of one of the set's frames, when it is among the stack's.
    pub fn layer(&self, frame: usize) -> Option<&LayerData> {
        self.frames.iter().position(|&f| f == frame).map(|i| &self.layers[i])
    }

    /// All rows, all columns.
    fn whole(&self) -> (Range<usize>, Range<usize>) {
        (0..self.size.height as usize, 0..self.size.width as usize)
    }

    /// Runs of columns of a row that the same layers cover, with those layers.
    fn runs(&self, row: usize) -> Vec<(usize, usize, Vec<usize>)> {
        let mut cuts = vec![0, self.size.width];
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
        let at = row * self.size.width as usize;
        std::array::from_fn(|c| &self.layers[layer].planes[c][at + from..at + to])
    }

    /// Combines the layers and lays the patches; black where no frame reaches.
    pub fn plate(&self, way: Way<'_>, extras: &Extras) -> Plate {
        let mut out = self.bare(way);
        self.lay_all(&mut out, way, extras);
        out
    }

    /// Combines the layers without patches; black where no frame reaches.
    pub fn bare(&self, way: Way<'_>) -> Plate {
        self.by(way.method, way.choice)
    }

    /// Lays the patches over a plate; `extras` are counted as they are in the way.
    pub fn lay_all(&self, plate: &mut Plate, way: Way<'_>, extras: &Extras) {
        for (k, patch) in way.patches.iter().enumerate() {
            let extra = extras.iter().find(|(i, _)| *i == k).map(|(_, layer)| layer);
            self.lay(plate, patch, extra, way.choice);
        }
    }

    /// Where the block lies in the reference: its first pixel and one past its last.
    pub fn extent(&self) -> (Point, Point) {
        (self.place.0, super::samples::end(self.size, self.place))
    }

    /// Lays a patch over the plate; where its frame does not reach, the plate stays.
    fn lay(
        &self,
        plate: &mut Plate,
        patch: &PlacedPatch,
        extra: Option<&LayerData>,
        choice: Option<&LabelMap>,
    ) {
        let up = self.place.1;
        let (w, h) = (self.size.width as usize, self.size.height as usize);
        let (from, to) = self.extent();
        if !patch.fit.mask.touches(from, to) {
            return;
        }
        let layer = extra.or_else(|| patch.source.frame().and_then(|frame| self.layer(frame)));
        let weights = |y| patch.fit.mask.row(Point::new(from.x, from.y + up * y as f64), up, w);
        let rows: Vec<(usize, Vec<f32>)> = (0..h).filter_map(|y| Some((y, weights(y)?))).collect();
        let (Some((first, _)), Some((last, _))) = (rows.first(), rows.last()) else { return };
        let columns = rows.iter().fold((w, 0), |(left, right), (_, weights)| {
            let (from, to) = (weights.iter().position(|v| *v > 0.0), weights.iter().rposition(|v| *v > 0.0));
            (left.min(from.unwrap_or(w)), right.max(to.map_or(0, |x| x + 1)))
        });
        let covered = (*first..*last + 1, columns.0..columns.1);
        let mut combined = None;
        for (y, weights) in rows {
            let (row, span): (Row<'_>, _) = match (patch.source, layer, &patch.fit.together) {
                (Source::Method(method), ..) => {
                    let other = &*combined.get_or_insert_with(|| self.by(method, choice));
                    (std::array::from_fn(|c| &other[c][y * w..][..w]), (0, w as u32))
                }
                (_, Some(layer), Some(with)) => {
                    let other = &*combined
                        .get_or_insert_with(|| self.chosen(with, &with.inliers, covered.clone(), None));
                    (std::array::from_fn(|c| &other[c][y * w..][..w]), layer.spans[y])
                }
                (_, Some(layer), None) => {
                    (std::array::from_fn(|c| &layer.planes[c][y * w..][..w]), layer.spans[y])
                }
                (_, None, _) => continue,
            };
            let tone = patch.fit.tone.as_ref().map(|t| [0, 1, 2].map(|c| t[c].row(from.y + up * y as f64)));
            for x in span.0 as usize..(span.1 as usize).min(w) {
                if weights[x] <= 0.0 {
                    continue;
                }
                let light = |v: u16| f32::from(v).powi(2);
                let old = [0, 1, 2].map(|c| light(plate[c][y * w + x]));
                let mut new = [0, 1, 2].map(|c| light(row[c][x]));
                if let Some(tone) = &tone {
                    let at = from.x + up * x as f64;
                    (0..3).for_each(|c| new[c] = (new[c] * tone[c].get(at)).min(WHITE));
                }
                let share = match patch.source {
                    Source::HighlightSuppressed(_) => {
                        weights[x] * (1.0 - patch::calmed(stops(new, old), patch.strength))
                    }
                    _ => weights[x] * patch.strength,
                };
                for c in 0..3 {
                    plate[c][y * w + x] = ((old[c] + share * (new[c] - old[c])).sqrt() + 0.5) as u16;
                }
            }
        }
    }

    /// The layers by a method; black where none reaches.
    fn by(&self, method: Method, choice: Option<&LabelMap>) -> Plate {
        if let Some((choice, held)) = averaged(method, choice) {
            let detail = self.detail.as_ref().filter(|_| method == Method::Consensus);
            return self.chosen(choice, held, self.whole(), detail);
        }
        let (w, h) = (self.size.width as usize, self.size.height as usize);
        let mut out = [vec![0; w * h], vec![0; w * h], vec![0; w * h]];
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
    fn chosen(
        &self,
        choice: &LabelMap,
        held: &[u64],
        area: (Range<usize>, Range<usize>),
        detail: Option<&(usize, Vec<f32>)>,
    ) -> Plate {
        let spans: Vec<&[(u32, u32)]> = self.layers.iter().map(|l| &l.spans[..]).collect();
        let (rows, w) = (area.0.clone(), self.size.width as usize);
        let mut average = Average::new((choice, held), &self.frames, &spans, (self.size, self.place), area);
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
    pub fn difference(&self) -> Raster {
        let mut out = Raster::new(self.size);
        out.data.fill(MIDDLE);
        let [first, second] = &self.layers[..] else { return out };
        let w = self.size.width as usize;
        for y in 0..self.size.height as usize {
            let span = |l: &LayerData| l.spans[y];
            let (from, to) = (span(first).0.max(span(second).0), span(first).1.min(span(second).1));
            for x in from..to.max(from) {
                let i = y * w + x as usize;
                for c in 0..3 {
                    let d = i32::from(second.planes[c][i]) - i32::from(first.planes[c][i]);
                    out.data[3 * i + c] = (i32::from(MIDDLE) + 2 * d).clamp(0, 65535) as u16;
                }
            }
        }
        out
    }

    /// Agreement over `inner` as a grey picture and as figures; `self` reaches one pixel farther where it can.
    pub fn agreement(
        &self,
        inner: Rect,
        (way, extras): (Way<'_>, &Extras),
        noise: &NoiseModel,
        shrink: f32,
    ) -> (Raster, Support) {
        let plate = self.plate(way, extras);
        let mut out = Raster::new(inner.size());
        let mut support = Support::default();
        let (x0, x1) = (inner.x as usize, inner.right() as usize);
        let mut same = vec![false; self.size.width as usize];
        for y in 0..inner.height as usize {
            let row = y + inner.y as usize;
            let plate = self.plate_row(&plate, row, noise, shrink);
            let mut counts = vec![(0u32, 0u32); self.size.width as usize];
            for (i, layer) in self.layers.iter().enumerate() {
                agrees(self.row(i, row, 0, self.size.width as usize), &plate, &mut same);
                for x in layer.spans[row].0 as usize..layer.spans[row].1 as usize {
                    counts[x].0 += u32::from(same[x]);
                    counts[x].1 += 1;
                }
            }
            let line = &mut out.data[3 * y * inner.width as usize..][..3 * inner.width as usize];
            for (o, &(agreed, seen)) in line.chunks_exact_mut(3).zip(&counts[x0..x1]) {
                let share = f64::from(agreed) / f64::from(seen.max(1));
                o.fill((share * 65535.0).round() as u16);
                support.agreed += share;
                support.unsupported += u64::from(2 * agreed <= seen && self.layers.len() > 1);
                support.pixels += 1;
            }
        }
        (out, support)
    }

    /// Share of the block in which each layer shows the same as `plate`'s combination; `None` where a layer
    /// covers none of it.
    pub fn shares(
        &self,
        plate: &Self,
        (way, extras): (Way<'_>, &Extras),
        noise: &NoiseModel,
        shrink: f32,
    ) -> Vec<Option<f32>> {
        let combined = plate.plate(way, extras);
        let mut sums = vec![(0u32, 0u32); self.layers.len()];
        let mut same = vec![false; self.size.width as usize];
        for row in 0..self.size.height as usize {
            let line = plate.plate_row(&combined, row, noise, shrink);
            for (i, layer) in self.layers.iter().enumerate() {
                agrees(self.row(i, row, 0, self.size.width as usize), &line, &mut same);
                let (a, b) = (layer.spans[row].0 as usize, layer.spans[row].1 as usize);
                sums[i].0 += same[a..b].iter().filter(|s| **s).count() as u32;
                sums[i].1 += (b - a) as u32;
            }
        }
        sums.iter().map(|&(s, n)| (n > 0).then(|| s as f32 / n as f32)).collect()
    }

    /// For each pixel, whether a layer over this stack's block reaches it and shows something else than what was combined.
    pub fn unlike(
        &self,
        layer: &LayerData,
        combined: &LayerData,
        noise: &NoiseModel,
        shrink: f32,
    ) -> Vec<bool> {
        let w = self.size.width as usize;
        let mut out = vec![false; w * self.size.height as usize];
        for (row, line) in out.chunks_exact_mut(w.max(1)).enumerate() {
            let own = std::array::from_fn(|c| &layer.planes[c][row * w..][..w]);
            agrees(own, &self.plate_row(&combined.planes, row, noise, shrink), line);
            let (from, to) = layer.spans[row];
            for (x, v) in line.iter_mut().enumerate() {
                *v = !*v && (from..to).contains(&(x as u32));
            }
        }
        out
    }

    fn plate_row<'a>(&self, plate: &'a Plate, row: usize, noise: &NoiseModel, shrink: f32) -> PlateRow<'a> {
        let w = self.size.width as usize;
        let line = |y: usize| -> Row<'a> { std::array::from_fn(|c| &plate[c][y * w..][..w]) };
        let last = self.size.height as usize - 1;
        plate_row(line(row), line(row.saturating_sub(1)), line((row + 1).min(last)), noise, shrink)
    }
}
