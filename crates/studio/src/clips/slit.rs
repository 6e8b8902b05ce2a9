//! A line of pixels across the patch in each frame: beside each other they show over time what pumps, pops in, or ends too early.

use crate::model::AreaInfo;
use evanu_core::clip::Area;
use evanu_core::geometry::{Rect, Size};
use evanu_media::clip::{Clip, Yuv};

/// The line, and what each frame shows there.
pub(super) struct Slit {
    /// Where it lies, in pixels of the clip as it is shown.
    pub place: AreaInfo,
    /// The same in brightness as it is coded: each sample by its rows' mean.
    samples: Vec<[usize; 3]>,
    /// One of so many frames.
    every: usize,
    columns: Vec<Vec<u8>>,
    bits: u8,
}

impl Slit {
    /// Columns at most.
    const MOST: usize = 1600;
    /// Pixels beside the area that are shown with it.
    const BESIDE: u32 = 24;

    /// Across the shorter side of an area.
    pub(super) fn of(area: &Area, clip: &Clip) -> Self {
        let info = &clip.info;
        let weights = area.weights();
        let pw = area.part.width as usize;
        let covered: Vec<(usize, usize)> =
            (0..weights.len()).filter(|&p| weights[p] > 0.5).map(|p| (p % pw, p / pw)).collect();
        let side = |of: &dyn Fn(&(usize, usize)) -> usize| {
            let low = covered.iter().map(of).min().unwrap_or(0);
            let high = covered.iter().map(of).max().unwrap_or(0);
            (low as u32, high as u32 + 1)
        };
        let ((x0, x1), (y0, y1)) = (side(&|c| c.0), side(&|c| c.1));
        let place = if x1 - x0 <= y1 - y0 {
            // Where it is widest of all rows near the middle.
            let near = (y0 + y1) / 2;
            let beside = x0.saturating_sub(Self::BESIDE);
            Rect::new(i64::from(beside), i64::from(near.max(1)) - 1, x1 - beside + Self::BESIDE, 3)
        } else {
            let near = (x0 + x1) / 2;
            let beside = y0.saturating_sub(Self::BESIDE);
            Rect::new(i64::from(near.max(1)) - 1, i64::from(beside), 3, y1 - beside + Self::BESIDE)
        };
        let place = Rect::new(place.x + area.part.x, place.y + area.part.y, place.width, place.height)
            .intersect(info.size.rect());
        let w = info.size.width as usize;
        let samples = if place.width >= place.height {
            (place.x..place.right())
                .map(|x| [0, 1, 2].map(|d| ((place.y + d).min(place.bottom() - 1)) as usize * w + x as usize))
                .collect()
        } else {
            (place.y..place.bottom())
                .map(|y| [0, 1, 2].map(|d| y as usize * w + ((place.x + d).min(place.right() - 1)) as usize))
                .collect()
        };
        Self {
            place: shown_box(place, clip),
            samples,
            every: clip.count().div_ceil(Self::MOST).max(1),
            columns: Vec::new(),
            bits: info.layout.bits,
        }
    }

    pub(super) fn push(&mut self, k: usize, frame: &Yuv) {
        if k.is_multiple_of(self.every) {
            let code = |at: &[usize; 3]| {
                let sum: u32 = at.iter().map(|&p| u32::from(frame.planes[0][p])).sum();
                ((sum / 3) >> (self.bits - 8)) as u8
            };
            self.columns.push(self.samples.iter().map(code).collect());
        }
    }

    /// A column a frame, time to the right.
    pub(super) fn png(&self) -> std::io::Result<Vec<u8>> {
        let size = Size::new(self.columns.len() as u32, self.samples.len() as u32);
        let data: Vec<u8> =
            (0..self.samples.len()).flat_map(|y| self.columns.iter().map(move |column| column[y])).collect();
        evanu_media::encode_grey_png(size, &data)
    }
}

/// A box of the clip as it is coded, as it is shown.
fn shown_box(r: Rect, clip: &Clip) -> AreaInfo {
    let size = clip.info.size;
    let (w, h) = (i64::from(size.width), i64::from(size.height));
    let turned = match clip.info.rotation {
        90 => Rect::new(h - r.bottom(), r.x, r.height, r.width),
        180 => Rect::new(w - r.right(), h - r.bottom(), r.width, r.height),
        270 => Rect::new(r.y, w - r.right(), r.height, r.width),
        _ => r,
    };
    turned.into()
}
