//! What the consensus leaves open, in words, and where pixels of the plate come from.

use crate::Studio;
use crate::error::StudioError;
use crate::model::{DoubtInfo, OriginInfo};
use crate::views::Loaded;
use evanu_core::combine::Method;
use evanu_core::evidence::doubts::{Doubt, Reason};
use evanu_core::geometry::{Point, Rect};

impl Studio {
    /// The doubts of a set, largest first; none when the plate is not made by consensus.
    ///
    /// # Errors
    /// When the frames are not ready.
    pub fn doubts(&self, set: i64) -> Result<Vec<DoubtInfo>, StudioError> {
        let loaded = self.loaded(set)?;
        if loaded.recipe.method != Method::Consensus {
            return Ok(Vec::new());
        }
        let canvas = loaded.with(|s| s.canvas());
        let numbers = self.numbers(set)?;
        let one = |(doubt, settled): (&Doubt, &Option<evanu_core::recipe::Settled>)| {
            let inside = doubt.bbox.intersect(canvas);
            DoubtInfo {
                place: Rect { x: inside.x - canvas.x, y: inside.y - canvas.y, ..inside }.into(),
                bbox: doubt.bbox.into(),
                reason: reason(doubt, &numbers),
                confidence: doubt.confidence,
                stories: doubt.stories.clone(),
                settled: settled.is_some(),
                frame: settled.and_then(|s| s.frame),
            }
        };
        Ok(loaded
            .plan
            .doubts
            .iter()
            .zip(&loaded.settled)
            .filter(|(d, _)| !d.bbox.intersect(canvas).is_empty())
            .map(one)
            .collect())
    }

    /// The numbers that frames are shown with, by their index.
    fn numbers(&self, set: i64) -> Result<Vec<usize>, StudioError> {
        let rows = self.frame_rows(set)?;
        let mut numbers = vec![0; rows.len()];
        for (n, index) in rows.iter().enumerate().filter_map(|(n, r)| r.index.map(|i| (n, i))) {
            if let Some(number) = numbers.get_mut(index) {
                *number = n + 1;
            }
        }
        Ok(numbers)
    }
}

impl Loaded {
    /// Where a place of the plate comes from, in plate pixels.
    pub fn origin(&self, x: f64, y: f64) -> Option<OriginInfo> {
        let choice = self.plan.choice.as_ref().filter(|_| self.recipe.method == Method::Consensus)?;
        let canvas = self.with(|s| s.canvas());
        let place = Point::new(x + canvas.x as f64, y + canvas.y as f64);
        let side = f64::from(1u32 << choice.level);
        let (column, row) = (((place.x + 0.5) / side).floor(), ((place.y + 0.5) / side).floor());
        if column < 0.0 || row < 0.0 || column as u32 >= choice.size.width || row as u32 >= choice.size.height
        {
            return None;
        }
        let pixel = row as usize * choice.size.width as usize + column as usize;
        let moments = |frames: &[usize]| {
            let mut all: Vec<u32> = frames.iter().map(|&i| self.plan.frames[i].moment).collect();
            all.sort_unstable();
            all.dedup();
            all.len()
        };
        let mut frames: Vec<usize> =
            (0..choice.frames.len()).filter(|&k| choice.holds(pixel, k)).map(|k| choice.frames[k]).collect();
        frames.sort_unstable();
        let there: Vec<usize> = choice
            .frames
            .iter()
            .copied()
            .filter(|&i| self.plan.frames[i].to_frame().covers(place, self.plan.frames[i].size))
            .collect();
        Some(OriginInfo { agree: moments(&frames), moments: moments(&there), frames })
    }
}

fn reason(doubt: &Doubt, numbers: &[usize]) -> String {
    let count = |n: usize| if n == 1 { "one frame".to_owned() } else { format!("{n} frames") };
    let best = doubt.stories.first().map_or(0, Vec::len);
    let first = doubt.stories.first().and_then(|s| s.first()).and_then(|&i| numbers.get(i));
    let number = first.map_or(String::new(), |n| format!(" {n}"));
    match doubt.reason {
        Reason::Alone => format!("Only frame{number} shows what is proposed here."),
        Reason::Compete => {
            let other = doubt.stories.get(1).map_or(0, Vec::len);
            format!("Two stories compete: {} against {}.", count(best), count(other))
        }
        Reason::Torn => {
            "Nothing joins its surroundings here: perhaps no frame shows this place clear. Another frame would help, or a \
             place taken by hand."
                .to_owned()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reasons_name_frames_as_they_are_shown() {
        let doubt = |reason| Doubt {
            bbox: Rect::new(0, 0, 4, 4),
            pixels: vec![0],
            reason,
            confidence: 0.5,
            stories: vec![vec![2], vec![0, 1]],
        };
        let numbers = [4, 1, 3];
        assert_eq!(reason(&doubt(Reason::Alone), &numbers), "Only frame 3 shows what is proposed here.");
        assert_eq!(
            reason(&doubt(Reason::Compete), &numbers),
            "Two stories compete: one frame against 2 frames."
        );
        assert!(reason(&doubt(Reason::Torn), &numbers).contains("no frame shows this place clear"));
    }
}
