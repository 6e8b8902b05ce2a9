//! The first stage: the frames of a view, combined by a method.

use super::average::Average;
use super::error::RenderError;
use super::plate::Plate;
use super::samples::{Placement, resampled};
use super::scene::{Scene, View};
use super::stack::averaged;
use super::stage::{Below, Frames, Stage};
use crate::combine::Method;
use crate::combine::consensus::LabelMap;
use crate::geometry::{Grid, Rect};
use crate::pixel::resample::reach;

/// The frames of a view, combined.
pub(super) struct Combine<'a> {
    pub scene: Scene<'a>,
    pub view: View,
    pub frames: Vec<usize>,
    pub method: Method,
    /// What the consensus chose, for a method that rests on it.
    pub choice: Option<&'a LabelMap>,
}

impl Combine<'_> {
    /// Whether it needs no samples of all frames at once.
    pub(super) fn streams(&self) -> bool {
        averaged(self.method, self.choice).is_some()
    }

    /// The average of the frames over pixels, frame by frame, without keeping their samples.
    fn average(&self, grid: &Grid, choice: (&LabelMap, &[u64])) -> Result<Plate, RenderError> {
        let (scene, block) = (&self.scene, grid.rect);
        let placed: Vec<Placement<'_>> =
            self.frames.iter().map(|&i| scene.placement(self.view, i, grid.level)).collect();
        let reach = |(&i, placed): (&usize, &Placement<'_>)| {
            reach(scene.sources[i].size().at_level(placed.level), &placed.sampling, block)
        };
        let spans: Vec<Vec<(u32, u32)>> = self.frames.iter().zip(&placed).map(reach).collect();
        let spans: Vec<&[(u32, u32)]> = spans.iter().map(Vec::as_slice).collect();
        let whole = (0..block.height as usize, 0..block.width as usize);
        let mut average = Average::new(choice, &self.frames, &spans, grid, whole);
        let detail = match self.method {
            Method::Consensus => scene.detail(&self.frames, grid)?,
            _ => None,
        };
        let rows = 0..block.height as usize;
        for k in average.layers() {
            // What gives the detail is there in root codes, which count as its light would.
            if let Some((_, detail)) = detail.as_ref().filter(|(own, _)| *own == k) {
                rows.clone().for_each(|y| average.add(k, y, detail.row(y)));
                continue;
            }
            let gain = placed[k].tone.gain;
            resampled(scene.sources[self.frames[k]], &placed[k], block, &mut |row, from, run| {
                average.add_light(k, (row, from), run.map(|r| &*r), gain);
            })?;
        }
        if let Some((k, detail)) = detail {
            rows.for_each(|y| average.keep(k, y, detail.row(y), detail.weights(y)));
        }
        Ok(average.plate())
    }
}

impl Stage for Combine<'_> {
    fn name(&self) -> String {
        self.scene.name.to_owned()
    }

    fn needs(&self, _grid: &Grid, _whole: Rect) -> Vec<Grid> {
        Vec::new()
    }

    fn apply(&self, grid: &Grid, _below: Vec<Below>, frames: &dyn Frames) -> Result<Plate, RenderError> {
        match averaged(self.method, self.choice).filter(|_| !frames.are_wanted(grid)) {
            Some(choice) => self.average(grid, choice),
            None => Ok(frames.over(grid)?.by(self.method, self.choice)),
        }
    }
}
