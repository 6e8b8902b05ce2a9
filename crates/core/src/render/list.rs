//! The one list of stages that makes the pixels of a view: combine, patches, touches; then they are finished and encoded.
//!
//! Screen tiles, exports, float light, comparing and origin all go through [`Stages`]; nothing composes pixels by itself. The finish of
//! today is a curve a channel ([`Develop`](crate::develop::Develop)), which is one with the encoding.

use super::combine::Combine;
use super::compare::{Agreement, Difference};
use super::error::RenderError;
use super::patches::Lay;
use super::plate::{Plate, TALL, Tables, black, rows_of};
use super::samples::Samples;
use super::scene::{Scene, View};
use super::stage::{Below, Frames, Stage, touches};
use crate::combine::Method;
use crate::combine::consensus::LabelMap;
use crate::geometry::{Grid, Rect};
use crate::patch::{PlacedPatch, Source};
use std::collections::BTreeSet;

/// The stages of a view, in order.
pub struct Stages<'a> {
    /// The frames that are combined.
    pub(super) frames: Vec<usize>,
    pub(super) view: View,
    /// Rows of the blocks that it is made in.
    pub(super) rows: i64,
    /// The area of the view in its own full-size pixels.
    canvas: Rect,
    list: Vec<Box<dyn Stage + 'a>>,
    /// Whether what they make is light, to be finished; otherwise codes that are shown as they are.
    light: bool,
}

impl<'a> Scene<'a> {
    /// The stages that make a view. Another method is compared without patches.
    ///
    /// # Errors
    /// When no frame takes part, or a method rests on a consensus that has not been decided for the frames in use.
    pub fn stages(&self, view: View) -> Result<Stages<'a>, RenderError> {
        let frames = match view {
            View::Frame(i) | View::Shot(i) => vec![i],
            View::Difference(i) => vec![self.reference(), i],
            View::Plate | View::By(_) | View::Agreement => self.used(),
        };
        if frames.is_empty() {
            return Err(RenderError::NoFrames);
        }
        let (method, patches, touches): (Method, &'a [PlacedPatch], &'a [&'a dyn Stage]) = match view {
            View::By(method) => (method, &[], &[]),
            View::Plate | View::Agreement => (self.recipe.method, self.patches, self.touches),
            _ => (Method::Mean, &[], &[]),
        };
        let choice = self.choice(method, patches)?;
        let count = frames.len();
        let mut list: Vec<Box<dyn Stage + 'a>> = Vec::new();
        let (mut rows, mut light) = (rows_of(count), true);
        if let View::Difference(_) = view {
            list.push(Box::new(Difference));
            light = false;
        } else {
            let combine = Combine { scene: *self, view, frames: frames.clone(), method, choice };
            if combine.streams() && patches.is_empty() && touches.is_empty() && view != View::Agreement {
                rows = TALL;
            }
            list.push(Box::new(combine));
            list.extend(patches.iter().map(|patch| Box::new(Lay { patch, choice }) as Box<dyn Stage>));
            list.extend(touches.iter().map(|&stage| Box::new(stage) as Box<dyn Stage>));
        }
        if view == View::Agreement {
            list.push(Box::new(Agreement));
            light = false;
        }
        let canvas = match view {
            View::Shot(i) => self.sources[i].size().rect(),
            _ => self.canvas(),
        };
        Ok(Stages { frames, view, rows, canvas, list, light })
    }

    /// What the consensus chose, where a method or a patch rests on it.
    fn choice(&self, method: Method, patches: &[PlacedPatch]) -> Result<Option<&'a LabelMap>, RenderError> {
        let rests = |m: Method| matches!(m, Method::Consensus | Method::Everybody);
        let patched = patches.iter().any(|l| matches!(l.source, Source::Method(m) if rests(m)));
        if !rests(method) && !patched {
            return Ok(None);
        }
        let decided = self.label_map.filter(|c| {
            let mut frames = c.frames.clone();
            frames.sort_unstable();
            frames == self.used()
        });
        decided.map(Some).ok_or(RenderError::Undecided)
    }

    /// The codes that the light of a view becomes: the development, and for wide samples their headroom.
    pub(super) fn tables(&self, view: View) -> Tables {
        let headroom = match view {
            View::Shot(i) => self.sources[i].headroom(),
            _ => self.sources[self.reference()].headroom(),
        };
        self.recipe.develop.tables(headroom)
    }
}

impl<'a> Stages<'a> {
    /// The stages, in order.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &(dyn Stage + 'a)> {
        self.list.iter().map(|stage| &**stage)
    }

    /// The pixels of the whole view at a level.
    fn whole(&self, level: u32) -> Rect {
        self.canvas.size().at_level(level).rect()
    }

    /// The codes that what they make becomes; `None` when it is codes already.
    pub(super) fn finish(&self, scene: &Scene<'_>) -> Option<Tables> {
        self.light.then(|| scene.tables(self.view))
    }

    /// The pixels that all stages make.
    pub(super) fn made(&self, grid: &Grid, samples: &Samples<'_, '_>) -> Result<Plate, RenderError> {
        self.made_by(self.list.len(), grid, samples)
    }

    /// The pixels that the first `count` stages make.
    pub(super) fn made_by(
        &self,
        count: usize,
        grid: &Grid,
        samples: &Samples<'_, '_>,
    ) -> Result<Plate, RenderError> {
        match (0..count).rev().find(|&k| touches(&*self.list[k], grid)) {
            Some(k) => self.made_over(k, grid, None, samples),
            None => Ok(black(grid.size())),
        }
    }

    /// The pixels that stage `k` makes; those right below may be there already.
    pub(super) fn made_over(
        &self,
        k: usize,
        grid: &Grid,
        mut there: Option<Plate>,
        samples: &Samples<'_, '_>,
    ) -> Result<Plate, RenderError> {
        let stage = self.get(k);
        let needs = stage.needs(grid, self.whole(grid.level));
        if stage.reads_frames() {
            needs.iter().for_each(|need| samples.want(need));
        }
        let made = |need: &Grid| {
            let plate = match there.take_if(|_| need == grid) {
                Some(plate) => plate,
                None => self.made_by(k, need, samples)?,
            };
            Ok(Below { grid: *need, plate })
        };
        let below = needs.iter().map(made).collect::<Result<_, RenderError>>()?;
        stage.apply(grid, below, samples as &dyn Frames)
    }

    /// A stage by its place.
    pub(super) fn get(&self, k: usize) -> &(dyn Stage + 'a) {
        &*self.list[k]
    }

    /// What pixels depend on: the names of the stages that reach them, or others that these need for them.
    pub fn names(&self, grid: &Grid) -> Vec<String> {
        let mut all = BTreeSet::new();
        self.reaching(self.list.len(), grid, &mut all);
        all.into_iter().map(|k| self.list[k].name()).collect()
    }

    /// The names of the stages whose pixels stage `k` sees for others than those that it makes itself; none when it changes each pixel
    /// by itself.
    pub(super) fn seen_by(&self, k: usize, grid: &Grid) -> Vec<String> {
        let mut all = BTreeSet::new();
        for need in self.list[k].needs(grid, self.whole(grid.level)).iter().filter(|need| *need != grid) {
            self.reaching(k, need, &mut all);
        }
        all.into_iter().map(|k| self.list[k].name()).collect()
    }

    fn reaching(&self, count: usize, grid: &Grid, all: &mut BTreeSet<usize>) {
        let Some(k) = (0..count).rev().find(|&k| touches(&*self.list[k], grid)) else { return };
        all.insert(k);
        for need in self.list[k].needs(grid, self.whole(grid.level)) {
            self.reaching(k, &need, all);
        }
    }
}
