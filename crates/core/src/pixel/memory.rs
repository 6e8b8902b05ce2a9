//! A frame that lives in memory: for tests and small pictures.

use super::{Depth, FrameSource, Samples, SourceError, halve};
use crate::geometry::{Rect, Size};

/// A pyramid held in memory.
#[derive(Debug, Clone)]
pub struct MemoryFrame {
    levels: Vec<(Size, Samples)>,
    headroom: f32,
}

impl MemoryFrame {
    /// Builds the pyramid down to one pixel; `samples` must hold `3 * width * height` values.
    pub fn new(size: Size, samples: Samples) -> Self {
        let mut levels = vec![(size, samples)];
        while let Some((s, p)) = levels.last().filter(|(s, _)| s.pixels() > 1) {
            let next = halve(*s, p);
            levels.push((s.at_level(1), next));
        }
        Self { levels, headroom: 1.0 }
    }

    /// The same samples, full ones standing for this much light.
    pub fn with_headroom(self, headroom: f32) -> Self {
        Self { headroom, ..self }
    }
}

impl FrameSource for MemoryFrame {
    fn size(&self) -> Size {
        self.levels[0].0
    }

    fn levels(&self) -> u32 {
        self.levels.len() as u32
    }

    fn depth(&self) -> Depth {
        self.levels[0].1.depth()
    }

    fn headroom(&self) -> f32 {
        self.headroom
    }

    fn read(&self, level: u32, region: Rect) -> Result<Samples, SourceError> {
        let (size, samples) = &self.levels[level as usize];
        fn cut<T: Copy>(data: &[T], width: usize, r: Rect) -> Vec<T> {
            (r.y..r.bottom())
                .flat_map(|y| &data[3 * (y as usize * width + r.x as usize)..][..3 * r.width as usize])
                .copied()
                .collect()
        }
        if region.intersect(size.rect()) != region {
            return Err(SourceError(format!("region {region:?} lies outside {size:?}")));
        }
        let w = size.width as usize;
        Ok(match samples {
            Samples::Eight(d) => Samples::Eight(cut(d, w, region)),
            Samples::Sixteen(d) => Samples::Sixteen(cut(d, w, region)),
            Samples::Wide(d) => Samples::Wide(cut(d, w, region)),
        })
    }
}
