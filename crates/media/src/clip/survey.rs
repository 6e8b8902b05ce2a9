//! A clip looked at once from end to end: where shots begin, how each frame differs from the first of its shot, and some frames kept.

use super::{ClipInfo, ClipReader, Yuv, seconds_of_frames};
use crate::error::MediaError;
use evanu_core::clip::{Moved, Remark, Small, remarks};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// A clip with the times of its frames.
#[derive(Debug, Clone)]
pub struct Clip {
    /// The file.
    pub path: PathBuf,
    /// What is known of it.
    pub info: ClipInfo,
    /// The times of all frames in seconds, as far as the file tells them.
    pub seconds: Vec<f64>,
}

impl Clip {
    /// Opens one.
    ///
    /// # Errors
    /// When it cannot be read as a clip.
    pub fn open(path: &Path) -> Result<Self, MediaError> {
        let info = super::probe(path)?;
        let seconds = seconds_of_frames(path, &info)?;
        Ok(Self { path: path.to_owned(), info, seconds })
    }

    /// The time of a frame.
    pub fn second(&self, k: usize) -> f64 {
        self.info.second(&self.seconds, k)
    }

    /// The frame that is shown at a time: the last that is not later.
    pub fn at(&self, seconds: f64) -> usize {
        self.seconds.partition_point(|s| *s <= seconds + 1e-6).saturating_sub(1)
    }

    /// How many frames there are, as far as the file tells.
    pub fn count(&self) -> usize {
        if self.seconds.is_empty() { self.info.frames as usize } else { self.seconds.len() }
    }

    /// One frame, decoded from the last before it that stands alone.
    ///
    /// # Errors
    /// When it cannot be read or is not there.
    pub fn frame(&self, k: usize) -> Result<Yuv, MediaError> {
        let beyond = || MediaError::new(&self.path, format!("it has no frame {k}"), "choose an earlier one");
        ClipReader::open_at(&self.path, &self.info, self.second(k))?.next().ok_or_else(beyond)?
    }
}

/// What looking at a clip found.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Survey {
    /// Frames that could be read.
    pub frames: usize,
    /// The first frame of each shot.
    pub shots: Vec<usize>,
    /// How each frame differs from the first of its shot.
    pub each: Vec<Moved>,
    /// Why the frames after these could not be read.
    pub stopped: Option<String>,
}

impl Survey {
    /// Longest clip, in seconds, of which every frame is looked at.
    pub const LONGEST: f64 = 20.0 * 60.0;

    /// Looks at every frame; `keep` hears of each, and of the share that is done. An error of it ends this.
    ///
    /// # Errors
    /// When not one frame can be read, and that of `keep`.
    pub fn of<E: From<MediaError>>(
        clip: &Clip,
        keep: &mut dyn FnMut(usize, &Yuv, f32) -> Result<(), E>,
    ) -> Result<Self, E> {
        let info = &clip.info;
        let range = (info.colour.centers(info.layout.bits), info.layout.most());
        let mut found = Self { frames: 0, shots: Vec::new(), each: Vec::new(), stopped: None };
        let (mut first, mut last): (Option<Small>, Option<Small>) = (None, None);
        for frame in ClipReader::open(&clip.path, info)? {
            let frame = match frame {
                Ok(frame) => frame,
                Err(e) if found.frames > 0 => {
                    found.stopped = Some(e.to_string());
                    break;
                }
                Err(e) => return Err(e.into()),
            };
            let small = Small::of(&frame.planes, info.size, range);
            if last.as_ref().is_none_or(|last| last.cut_before(&small)) {
                found.shots.push(found.frames);
                first = Some(small.clone());
            }
            let scale = f64::from(info.size.width) / f64::from(small.size.width.max(1));
            found.each.push(Moved::of(first.as_ref().unwrap_or(&small), &small, scale));
            last = Some(small);
            keep(found.frames, &frame, (found.frames + 1) as f32 / clip.count().max(1) as f32)?;
            found.frames += 1;
        }
        Ok(found)
    }

    /// First and last frame of the shot that a frame belongs to.
    pub fn shot(&self, frame: usize) -> (usize, usize) {
        let next = self.shots.partition_point(|s| *s <= frame);
        let first = self.shots.get(next.saturating_sub(1)).copied().unwrap_or(0);
        (first, self.shots.get(next).copied().unwrap_or(self.frames).saturating_sub(1))
    }

    /// What matters about the frames from one to another, which counts; frames as in the clip.
    pub fn remarks(&self, (first, last): (usize, usize)) -> Vec<Remark> {
        let part = self.each.get(first..(last + 1).min(self.each.len())).unwrap_or_default();
        remarks(part).into_iter().map(|r| r.later(first)).collect()
    }
}
