//! The run that makes a set ready: reading every frame into its pyramid, then the plan.

use super::Jobs;
use crate::assets::Pyramid;
use crate::error::StudioError;
use crate::model::Event;
use crate::queue::Work;
use crate::scenes::keys::plan_key;
use crate::sets::FrameRow;
use crate::store::lock;
use evanu_core::pixel::FrameSource;
use evanu_core::prepare;
use std::sync::{Arc, Mutex};

impl Jobs {
    /// Reads and aligns; what is already there is not done again.
    pub(super) fn prepare(&self, work: &Work) -> Result<Option<String>, StudioError> {
        let set = work.set;
        work.step("Reading frames");
        self.assets.read_frames(set, &|share| work.at(share))?;
        self.tell_views_apart(work)?;
        self.sets.join_ready(set)?;
        self.scenes.forget(set);
        self.store.tell(Event::Set { id: set });
        let rows: Vec<FrameRow> = self.sets.joined(set)?;
        if rows.is_empty() {
            return Err(StudioError::Invalid(format!(
                "none of these files could be read; add photographs as {}",
                evanu_media::READS
            )));
        }
        let stored = self.sets.in_force(set)?.recipe;
        let key = plan_key(&rows, &stored);
        work.step("Aligning frames");
        // Who asks the moment the plan is there does not wait for the decision.
        let drafting = Mutex::new(self.scenes.drafting(set, None));
        if self.sets.plan(set, &key)?.is_none() {
            let open: Vec<Arc<Pyramid>> =
                rows.iter().map(|f| self.assets.pyramid(f)).collect::<Result<_, _>>()?;
            let sources: Vec<&dyn FrameSource> = open.iter().map(|f| &**f as &dyn FrameSource).collect();
            let clocks: Vec<Option<f64>> = rows.iter().map(|f| f.camera.seconds()).collect();
            let frames: Vec<_> = rows.iter().map(|r| r.id).collect();
            let recipe = stored.at_hand(&frames);
            let early = |plan| match self.scenes.show_early(set, &stored, &rows, plan) {
                Ok(shown) => *lock(&drafting) = shown,
                Err(e) => tracing::warn!("set {set} cannot be shown before it is aligned: {e}"),
            };
            let planned = || prepare::plan_early(&recipe, &sources, &clocks, &early, &|share| work.at(share));
            let plan = self.assets.background().install(planned)?;
            self.sets.keep_plan(set, &key, &serde_json::to_string(&plan)?)?;
        }
        work.step("Combining");
        self.scenes.close(set);
        self.scenes.decide(set)?;
        self.scenes.make_cover(set);
        self.store.tell(Event::Set { id: set });
        if self.clips.of(set)?.is_some() {
            work.step("Looking at the clip");
            self.clips.look(set, &|share| work.at(share))?;
            self.store.tell(Event::Set { id: set });
        }
        Ok(None)
    }
}
