//! The run that writes the plate to a file.

use super::Jobs;
use crate::error::StudioError;
use crate::model::{RunKind, RunState};
use crate::queue::Work;
use evanu_core::render::View;
use evanu_media::{CameraData, Format, MediaError, Output, write, write_light};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use utoipa::ToSchema;

/// File formats on offer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ExportFormat {
    /// Eight bits, smaller.
    Jpeg,
    /// Eight bits, lossless.
    Png,
    /// Sixteen bits, lossless.
    Tiff,
    /// Linear light in half floats; what lies beyond white is kept. Always full size.
    Exr,
}

/// What is to be written.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
pub struct ExportRequest {
    /// File format.
    pub format: ExportFormat,
    /// 0 is full size, 1 half, 2 a quarter, and so on.
    pub level: u32,
    /// JPEG quality, 1..=100.
    pub quality: u8,
}

impl Jobs {
    /// Queues writing the plate; the run's message is the file's name when it is done.
    ///
    /// # Errors
    /// When the plate is not ready or the request is out of range.
    pub(crate) fn start_export(&self, set: i64, request: &ExportRequest) -> Result<i64, StudioError> {
        self.sets.check(set)?;
        self.scenes.loaded(set)?;
        if !(1..=100).contains(&request.quality) {
            return Err(StudioError::Invalid("quality goes from 1 to 100".into()));
        }
        if request.level > 6 {
            return Err(StudioError::Invalid("the smallest size is a sixty-fourth".into()));
        }
        self.queue.enqueue(set, RunKind::Export, &serde_json::to_string(request)?)
    }

    /// The file that an export wrote, and its name.
    ///
    /// # Errors
    /// When the run wrote none.
    pub(crate) fn exported(&self, run: i64) -> Result<(PathBuf, String), StudioError> {
        let info = self.queue.run(run)?;
        let name = info.message.filter(|_| {
            matches!(info.kind, RunKind::Export | RunKind::ClipExport) && info.state == RunState::Done
        });
        let name = name.ok_or_else(|| StudioError::NotFound("this run wrote no file".into()))?;
        Ok((self.store.path(&["exports", &run.to_string(), &name]), name))
    }

    pub(super) fn export(&self, work: &Work) -> Result<Option<String>, StudioError> {
        let request: ExportRequest = serde_json::from_str(&work.request)?;
        let loaded = self.scenes.loaded(work.set)?;
        let title = self.sets.check(work.set)?;
        let (format, extension) = match request.format {
            ExportFormat::Jpeg => (Format::Jpeg { quality: request.quality }, "jpg"),
            ExportFormat::Png => (Format::Png { sixteen: false }, "png"),
            ExportFormat::Tiff => (Format::Tiff { sixteen: true }, "tif"),
            ExportFormat::Exr => (Format::Exr, "exr"),
        };
        let name = file_name(&title, &format!("-plate.{extension}"));
        let folder = self.store.path(&["exports", &work.run.to_string()]);
        std::fs::create_dir_all(&folder).map_err(|e| MediaError::writing(&folder, &e))?;
        work.step("Writing the plate");
        loaded.with(|scene| {
            let size = scene.size(View::Plate).at_level(request.level);
            let reference = self.sets.joined(work.set)?.into_iter().nth(loaded.plan.alignment.reference);
            let camera = match reference {
                Some(frame) => {
                    let block = Some(self.assets.exif(&frame)?).filter(|block| !block.is_empty());
                    Some(CameraData { block, ..frame.camera })
                }
                None => None,
            };
            let camera = camera.as_ref();
            if request.format == ExportFormat::Exr {
                write_light(&folder.join(&name), scene.canvas().size(), camera, |band| {
                    let light = scene.light(band)?;
                    work.at(band.bottom() as f32 / size.height as f32).map_err(|_| StudioError::Cancelled)?;
                    Ok::<_, StudioError>(light)
                })?;
                return Ok(Some(name.clone()));
            }
            let output = Output { format, size, camera };
            write(&folder.join(&name), &output, |band| {
                let raster = scene.render(View::Plate, band, request.level)?;
                work.at(band.bottom() as f32 / size.height as f32).map_err(|_| StudioError::Cancelled)?;
                Ok::<_, StudioError>(raster)
            })?;
            Ok(Some(name.clone()))
        })
    }
}

/// A file's name from that of its set and what it ends with.
pub(super) fn file_name(title: &str, ending: &str) -> String {
    let safe: String = title.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    let words: Vec<&str> = safe.split('-').filter(|w| !w.is_empty()).collect();
    format!("{}{ending}", cut(&words.join("-").to_lowercase()))
}

/// As much of a name, in whole characters, as a file system holds beside what is added to it.
fn cut(name: &str) -> &str {
    const BYTES: usize = 200;
    &name[..name.floor_char_boundary(BYTES)]
}

#[cfg(test)]
mod tests {
    use super::cut;

    #[test]
    fn names_are_cut_between_characters() {
        assert_eq!(cut("forecourt"), "forecourt");
        let wide = "\u{1F3DB}".repeat(120);
        assert_eq!(cut(&wide), "\u{1F3DB}".repeat(50));
        assert_eq!(cut(&format!("a{wide}")).len(), 197);
    }
}
