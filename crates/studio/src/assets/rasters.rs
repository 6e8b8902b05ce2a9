//! Pixels that were made once and must never change, such as an area that was filled in: kept by content among the originals, as
//! files of an open format, and read through a pyramid as frames are.

use super::{Assets, Pyramid};
use crate::error::StudioError;
use evanu_core::geometry::{Rect, Size};
use evanu_core::pixel::{FrameSource, Raster, Samples};
use evanu_media::{Format, MediaError, Output, TiledFrame, WriteError, write};
use rusqlite::params;
use std::convert::Infallible;
use std::sync::Arc;

impl Assets {
    /// Keeps pixels for a set, as long as the set lives, and returns the name of their content: what a recipe names them by.
    ///
    /// # Errors
    /// When the set does not exist or the disk cannot be written.
    pub fn keep_raster(&self, set: i64, pixels: &Raster) -> Result<String, StudioError> {
        self.0.sets.check(set)?;
        let folder = self.0.store.path(&["originals"]);
        let part = tempfile::Builder::new()
            .prefix(".raster-")
            .tempfile_in(&folder)
            .map_err(|e| MediaError::writing(&folder, &e))?
            .into_temp_path();
        let output = Output { format: Format::Png { sixteen: true }, size: pixels.size, camera: None };
        let row = 3 * pixels.size.width as usize;
        let band = |band: Rect| {
            let data = pixels.data[band.y as usize * row..][..band.height as usize * row].to_vec();
            Ok::<_, Infallible>(Raster { size: band.size(), data })
        };
        write(&part, &output, band).map_err(|e| match e {
            WriteError::Media(e) => e,
            WriteError::Pixels(never) => match never {},
        })?;
        let bytes = std::fs::read(&part).map_err(|e| MediaError::reading(&part, &e))?;
        let name = blake3::hash(&bytes).to_hex().to_string();
        let target = self.0.store.path(&["originals", &name]);
        if !target.exists() {
            part.persist(&target).map_err(|e| MediaError::writing(&target, &e.error))?;
        }
        self.0
            .store
            .db()
            .execute("INSERT OR IGNORE INTO rasters (set_id, hash) VALUES (?1, ?2)", params![set, name])?;
        Ok(name)
    }

    /// A picture that came in by itself, which is no frame: its size and samples, decoded as frames are.
    ///
    /// # Errors
    /// When it cannot be read as a picture.
    pub(crate) fn read_still(&self, name: &str, bytes: &[u8]) -> Result<(Size, Samples), StudioError> {
        let folder = self.0.store.path(&["originals"]);
        let failed = |e: std::io::Error| MediaError::writing(&folder, &e);
        let scratch = tempfile::Builder::new().prefix(".still-").tempdir_in(&folder).map_err(failed)?;
        let (file, pyramid) = (scratch.path().join("still"), scratch.path().join("pyramid"));
        std::fs::write(&file, bytes).map_err(failed)?;
        // Told by the name that its owner knows.
        let named = |e: MediaError| MediaError { path: name.into(), ..e };
        self.0.reader.read_picture(&file, &pyramid).map_err(named)?;
        let frame = TiledFrame::open(&pyramid)?;
        let samples = frame.read(0, frame.size().rect()).map_err(|e| StudioError::Storage(e.to_string()))?;
        Ok((frame.size(), samples))
    }

    /// Pixels that were kept, by the name of their content; the same ones for ever.
    ///
    /// # Errors
    /// When none are kept under the name, or the disk cannot be read.
    pub fn raster(&self, name: &str) -> Result<Arc<Pyramid>, StudioError> {
        let known: bool = self.0.store.reading()?.query_row(
            "SELECT EXISTS (SELECT 1 FROM rasters WHERE hash = ?1)",
            [name],
            |r| r.get(0),
        )?;
        if !known {
            return Err(StudioError::NotFound(format!("no pixels are kept under the name \"{name}\"")));
        }
        let original = self.0.store.path(&["originals", name]);
        self.opened(name, move |assets, pyramid| {
            assets.0.reader.read_picture(&original, pyramid)?;
            Ok(())
        })
    }
}
