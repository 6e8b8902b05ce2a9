//! Telling the views of a newly read shoot apart: groups of two and more become sets of their own, and a single frame stays
//! with the set that is nearest in time, which sets it aside with the reason.

use super::Jobs;
use crate::assets::Pyramid;
use crate::error::StudioError;
use crate::model::{Event, FrameState, RunKind};
use crate::queue::Work;
use crate::sets::FrameRow;
use evanu_core::pixel::FrameSource;
use evanu_core::recipe::FrameId;
use evanu_core::register::views;
use std::sync::Arc;

/// A pause this long, in seconds, and this many times the usual one, begins another set of the same view.
const PAUSE: (f64, f64) = (30.0 * 60.0, 20.0);

impl Jobs {
    /// Tells a shoot's views apart, once; says what was done.
    pub(super) fn tell_views_apart(&self, work: &Work) -> Result<(), StudioError> {
        let set = work.set;
        if !self.sets.is_unsorted(set)? {
            return Ok(());
        }
        let rows: Vec<FrameRow> =
            self.sets.frames(set)?.into_iter().filter(|f| f.state == FrameState::Ready).collect();
        let mut groups: Vec<Vec<usize>> = vec![(0..rows.len()).collect()];
        if rows.len() > 2 {
            work.step("Telling views apart");
            let open: Vec<Arc<Pyramid>> =
                rows.iter().map(|f| self.assets.pyramid(f)).collect::<Result<_, _>>()?;
            let sources: Vec<&dyn FrameSource> = open.iter().map(|f| &**f as &dyn FrameSource).collect();
            let numbers = views(&sources, &|share| work.at(share))?;
            let clocks: Vec<Option<f64>> = rows.iter().map(|f| f.camera.seconds()).collect();
            groups = by_view_and_time(&numbers, &clocks);
        }
        // The largest stays; the others move out in order of time.
        let main = (0..groups.len()).max_by_key(|&g| (groups[g].len(), std::cmp::Reverse(g))).unwrap_or(0);
        let name = self.sets.check(set)?;
        let of = groups.len();
        let title =
            |k: usize| format!("{name}, view {} of {of}", k + 1).chars().take(120).collect::<String>();
        let note = format!("This shoot holds {of} views, told apart by what they show and when");
        let mut made = Vec::new();
        for (k, group) in groups.iter().enumerate().filter(|(k, _)| *k != main) {
            let new = self.sets.create(&title(k))?;
            let frames: Vec<FrameId> = group.iter().map(|&i| rows[i].id).collect();
            self.sets.hand_over(set, &frames, new)?;
            self.sets.sorted(new, &title(k), Some(&note))?;
            made.push(new);
        }
        match of {
            0 | 1 => self.sets.sorted(set, &name, None)?,
            _ => self.sets.sorted(set, &title(main), Some(&note))?,
        }
        for id in made {
            self.queue.enqueue(id, RunKind::Prepare, "{}")?;
        }
        self.store.tell(Event::Sets);
        Ok(())
    }
}

/// Groups frames in order of time by view, and parts them at long pauses. Single ones join the group whose frames are
/// nearest in the order of time.
fn by_view_and_time(views: &[usize], clocks: &[Option<f64>]) -> Vec<Vec<usize>> {
    let mut groups: Vec<Vec<usize>> = Vec::new();
    for view in 0..views.iter().map(|v| v + 1).max().unwrap_or(0) {
        let members: Vec<usize> = (0..views.len()).filter(|&i| views[i] == view).collect();
        let gap = |w: &[usize]| clocks[w[0]].zip(clocks[w[1]]).map(|(a, b)| b - a);
        let mut gaps: Vec<f64> = members.windows(2).filter_map(gap).collect();
        gaps.sort_unstable_by(f64::total_cmp);
        let usual = gaps.get(gaps.len() / 2).copied().unwrap_or(0.0);
        let mut group = Vec::new();
        for (k, &i) in members.iter().enumerate() {
            if k > 0 && gap(&members[k - 1..=k]).is_some_and(|g| g > PAUSE.0 && g > PAUSE.1 * usual) {
                groups.push(std::mem::take(&mut group));
            }
            group.push(i);
        }
        groups.push(group);
    }
    let (mut whole, single): (Vec<Vec<usize>>, Vec<Vec<usize>>) =
        groups.into_iter().partition(|g| g.len() > 1);
    if whole.is_empty() {
        return vec![(0..views.len()).collect()];
    }
    for i in single.into_iter().flatten() {
        let far = |g: &Vec<usize>| g.iter().map(|&j| i.abs_diff(j)).min().unwrap_or(usize::MAX);
        if let Some(nearest) = whole.iter_mut().min_by_key(|g| far(g)) {
            nearest.push(i);
        }
    }
    whole.iter_mut().for_each(|g| g.sort_unstable());
    whole.sort_by_key(|g| g[0]);
    whole
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn views_and_long_pauses_part_and_single_frames_stay_with_their_neighbours() {
        let clock = |s: &[f64]| s.iter().map(|v| Some(*v)).collect::<Vec<_>>();
        // Two views one after the other, with an odd frame in the second.
        let parts =
            by_view_and_time(&[0, 0, 0, 1, 2, 1, 1], &clock(&[0.0, 3.0, 6.0, 90.0, 93.0, 96.0, 99.0]));
        assert_eq!(parts, [vec![0, 1, 2], vec![3, 4, 5, 6]]);
        // The same view in the morning and in the evening.
        let parts = by_view_and_time(&[0, 0, 0, 0], &clock(&[0.0, 4.0, 40_000.0, 40_004.0]));
        assert_eq!(parts, [vec![0, 1], vec![2, 3]]);
        // A tripod series every ten minutes is one.
        let parts = by_view_and_time(&[0; 4], &clock(&[0.0, 600.0, 1200.0, 1800.0]));
        assert_eq!(parts, [vec![0, 1, 2, 3]]);
        // Without clocks only the view counts; nothing but single frames stays together.
        assert_eq!(by_view_and_time(&[0, 1, 0, 1], &[None; 4]), [vec![0, 2], vec![1, 3]]);
        assert_eq!(by_view_and_time(&[0, 1, 2], &[None; 3]), [vec![0, 1, 2]]);
    }
}
