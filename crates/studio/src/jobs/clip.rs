//! The runs of clips: the patch laid on all frames to be looked at, and finished files.

use super::Jobs;
use super::export::file_name;
use crate::error::StudioError;
use crate::model::{ClipFile, Event};
use crate::queue::Work;
use evanu_media::MediaError;

impl Jobs {
    pub(super) fn lay_clip(&self, work: &Work) -> Result<Option<String>, StudioError> {
        work.step("Laying the patch on every frame");
        self.clips.lay(work.set, &|share| work.at(share))?;
        self.store.tell(Event::Set { id: work.set });
        Ok(None)
    }

    pub(super) fn export_clip(&self, work: &Work) -> Result<Option<String>, StudioError> {
        let file: ClipFile = serde_json::from_str(&work.request)?;
        let title = self.sets.check(work.set)?;
        let name = file_name(&title, &self.clips.ending(work.set, file)?);
        let folder = self.store.path(&["exports", &work.run.to_string()]);
        std::fs::create_dir_all(&folder).map_err(|e| MediaError::writing(&folder, &e))?;
        work.step("Writing the clip");
        self.clips.write(work.set, (file, &folder.join(&name)), &|share| work.at(share))?;
        Ok(Some(name))
    }
}
