//! What is brought in at once: from a folder of this computer, told apart into sets by view, moved between sets; and
//! originals that are somewhere else now.

use crate::error::StudioError;
use crate::model::{Event, FolderInfo, FrameRow, FrameState, RelinkInfo, RunKind};
use crate::runs::Work;
use crate::sets::now;
use crate::{Recipe, Studio};
use evanu_core::pixel::FrameSource;
use evanu_core::register::views;
use evanu_media::{MediaError, TiledFrame, kind_of};
use rayon::prelude::*;
use rusqlite::{OptionalExtension, Transaction, params};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A pause this long, in seconds, and this many times the usual one, begins another set of the same view.
const PAUSE: (f64, f64) = (30.0 * 60.0, 20.0);
/// Files that a folder may hold, and folders below it that are looked into for lost originals.
const MOST_FILES: usize = 5000;
const DEEPEST: usize = 6;

/// Whether a file begins like a picture; an unreadable one may be.
fn is_picture(path: &Path) -> bool {
    let mut head = [0u8; 16];
    let read = std::fs::File::open(path).and_then(|mut f| f.read(&mut head));
    read.map_or(true, |n| n == 0 || kind_of(&head[..n]).is_some())
}

fn hidden(path: &Path) -> bool {
    path.file_name().is_some_and(|n| n.to_string_lossy().starts_with('.'))
}

fn listing(folder: &Path) -> Result<Vec<PathBuf>, StudioError> {
    let read = std::fs::read_dir(folder).map_err(|e| match e.kind() {
        std::io::ErrorKind::NotADirectory => {
            StudioError::from(MediaError::new(folder, "it is no folder", "name the folder it is in"))
        }
        _ => MediaError::reading(folder, &e).into(),
    })?;
    let mut all: Vec<PathBuf> =
        read.flatten().map(|e| e.path()).filter(|p| !hidden(p)).take(4 * MOST_FILES).collect();
    all.sort();
    Ok(all)
}

/// A file's hash and length, read piece by piece.
fn fingerprint(path: &Path) -> Result<(String, u64), MediaError> {
    let failed = |e: std::io::Error| MediaError::reading(path, &e);
    let mut file = std::fs::File::open(path).map_err(failed)?;
    let mut hasher = blake3::Hasher::new();
    let length = std::io::copy(&mut file, &mut hasher).map_err(failed)?;
    Ok((hasher.finalize().to_hex().to_string(), length))
}

impl Studio {
    /// A folder of this computer: its folders, and how many pictures are in it. Without a path, the home folder.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn folder(&self, path: Option<&str>) -> Result<FolderInfo, StudioError> {
        let home = || std::env::var_os("HOME").map_or_else(|| PathBuf::from("/"), PathBuf::from);
        let path = path.filter(|p| !p.trim().is_empty()).map_or_else(home, |p| PathBuf::from(p.trim()));
        let path = path.canonicalize().map_err(|e| MediaError::reading(&path, &e))?;
        let (folders, files): (Vec<PathBuf>, Vec<PathBuf>) =
            listing(&path)?.into_iter().partition(|p| p.is_dir());
        let name = |p: &PathBuf| p.file_name().map(|n| n.to_string_lossy().into_owned());
        Ok(FolderInfo {
            path: path.display().to_string(),
            parent: path.parent().map(|p| p.display().to_string()),
            folders: folders.iter().filter_map(name).collect(),
            pictures: files.iter().filter(|f| f.is_file() && is_picture(f)).count(),
        })
    }

    /// Adds the pictures of a folder of this computer to a set: copied, or left where they are. Returns how many.
    ///
    /// # Errors
    /// When the folder cannot be read or holds no picture, or the set does not exist.
    pub fn add_folder(&self, set: i64, path: &str, copy: bool) -> Result<usize, StudioError> {
        self.check_set(set)?;
        let folder = PathBuf::from(path);
        let files: Vec<PathBuf> =
            listing(&folder)?.into_iter().filter(|p| p.is_file() && is_picture(p)).collect();
        if files.is_empty() {
            let reads = evanu_media::READS;
            return Err(MediaError::new(
                &folder,
                "there are no pictures in this folder",
                format!("choose one with {reads}"),
            )
            .into());
        }
        if files.len() > MOST_FILES {
            let reason = format!("it holds {} pictures, more than {MOST_FILES}", files.len());
            return Err(MediaError::new(&folder, reason, "bring it in in parts").into());
        }
        let contents: Vec<_> = files.par_iter().map(|p| fingerprint(p)).collect();
        for (path, content) in files.iter().zip(&contents) {
            let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            let (hash, bytes) = match content {
                Ok(content) => content,
                // One file that may not be read keeps no other from coming in; it is told like a damaged one.
                Err(e) => {
                    self.db().execute(
                        "INSERT INTO frames (set_id, name, hash, state, reason) VALUES (?1, ?2, '', 'failed', ?3)",
                        params![set, name, e.to_string()],
                    )?;
                    continue;
                }
            };
            let source = if copy {
                let target = self.path(&["originals", hash]);
                if !target.exists() {
                    let part = self.path(&["originals", &format!(".incoming-{hash}")]);
                    std::fs::copy(path, &part)
                        .and_then(|_| std::fs::rename(&part, &target))
                        .map_err(|e| MediaError::writing(&target, &e))?;
                }
                None
            } else {
                Some(path.display().to_string())
            };
            self.add_row(set, &name, hash, source.as_deref(), *bytes)?;
        }
        Ok(files.len())
    }

    /// Notes a file that has come in, unless the set already has it.
    pub(crate) fn add_row(
        &self,
        set: i64,
        name: &str,
        hash: &str,
        source: Option<&str>,
        bytes: u64,
    ) -> Result<(), StudioError> {
        let db = self.db();
        let known: Option<i64> = db
            .query_row(
                "SELECT id FROM frames WHERE set_id = ?1 AND hash = ?2 AND name = ?3",
                params![set, hash, name],
                |r| r.get(0),
            )
            .optional()?;
        if known.is_none() {
            db.execute(
                "INSERT INTO frames (set_id, name, hash, state, source, bytes) VALUES (?1, ?2, ?3, 'reading', ?4, ?5)",
                params![set, name, hash, source, bytes as i64],
            )?;
        }
        Ok(())
    }

    /// Where a frame's original is.
    pub(crate) fn original(&self, frame: &FrameRow) -> PathBuf {
        frame.source.as_ref().map_or_else(|| self.path(&["originals", &frame.hash]), PathBuf::from)
    }

    /// Looks for the lost originals of a set in a folder and the folders below it. Those of other sets that are found on
    /// the way are linked too, but not counted.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn relink(&self, set: i64, folder: &str) -> Result<RelinkInfo, StudioError> {
        self.check_set(set)?;
        let mut lost: Vec<(i64, FrameRow)> = Vec::new();
        for id in self.set_ids()? {
            let rows = self.frame_rows(id)?.into_iter().filter(|f| !self.original(f).exists());
            lost.extend(rows.map(|f| (id, f)));
        }
        let mut open = vec![(PathBuf::from(folder), 0)];
        let mut files: Vec<(PathBuf, u64)> = Vec::new();
        listing(Path::new(folder))?; // an unreadable folder is told, those below it are passed over
        while let Some((folder, depth)) = open.pop() {
            for path in listing(&folder).unwrap_or_default() {
                if path.is_dir() && depth < DEEPEST {
                    open.push((path, depth + 1));
                } else if let Some(m) = path.metadata().ok().filter(std::fs::Metadata::is_file) {
                    files.push((path, m.len()));
                }
            }
            if files.len() > 20 * MOST_FILES {
                break;
            }
        }
        let mut found = 0;
        for (owner, frame) in &lost {
            // The content decides; its length says which files are worth reading.
            let same = files
                .iter()
                .filter(|(_, length)| *length == frame.bytes)
                .find(|(path, _)| fingerprint(path).is_ok_and(|(hash, _)| hash == frame.hash));
            if let Some((path, _)) = same {
                self.db().execute(
                    "UPDATE frames SET source = ?2, state = CASE WHEN state = 'failed' THEN 'reading' ELSE state END, reason = NULL WHERE id = ?1",
                    params![frame.id, path.display().to_string()],
                )?;
                found += usize::from(*owner == set);
            }
        }
        let mut owners: Vec<i64> = lost.iter().map(|(owner, _)| *owner).collect();
        owners.dedup();
        for owner in owners {
            if self.frame_rows(owner)?.iter().any(|f| f.state == FrameState::Reading) {
                self.prepare_set(owner)?;
            }
            self.tell(Event::Set { id: owner });
        }
        let missing = lost.iter().filter(|(owner, _)| *owner == set).count() - found;
        Ok(RelinkInfo { found, missing })
    }

    /// Moves frames to another set, or to a new one; what is left of their set keeps its decisions. A set that loses its
    /// last frame is deleted. Returns the set they are in now.
    ///
    /// # Errors
    /// When a set or a frame does not exist.
    pub fn move_frames(&self, set: i64, frames: &[i64], to: Option<i64>) -> Result<i64, StudioError> {
        let name = self.check_set(set)?;
        let rows = self.frame_rows(set)?;
        if frames.is_empty() || !frames.iter().all(|id| rows.iter().any(|r| r.id == *id)) {
            return Err(StudioError::NotFound("these frames are not in this set; look again".into()));
        }
        if to == Some(set) {
            return Err(StudioError::Invalid("the frames are in this set already".into()));
        }
        let target = match to {
            Some(to) => {
                self.check_set(to)?;
                to
            }
            None => self.create_set(&format!("{name}, part"))?,
        };
        {
            let mut db = self.db();
            let t = db.transaction()?;
            for id in frames {
                take_out(&t, set, *id)?;
                t.execute("UPDATE frames SET set_id = ?2, place = NULL WHERE id = ?1", params![id, target])?;
            }
            // The same file twice in a set would vote twice.
            t.execute(
                "DELETE FROM frames WHERE set_id = ?1 AND id NOT IN (SELECT min(id) FROM frames WHERE set_id = ?1 GROUP BY hash, name)",
                params![target],
            )?;
            t.commit()?;
        }
        self.forget(set);
        self.forget(target);
        if self.frame_rows(set)?.is_empty() {
            self.delete_set(set, true)?;
        } else {
            self.prepare_set(set)?;
        }
        self.prepare_set(target)?;
        Ok(target)
    }

    /// Tells the views of a newly read shoot apart: groups of two and more become sets of their own, and a single
    /// frame stays with the set that is nearest in time, which sets it aside with the reason. Says what was done.
    pub(crate) fn sort_shoot(&self, work: &Work<'_>) -> Result<(), StudioError> {
        let set = work.set;
        let wanted: bool =
            self.db().query_row("SELECT sorted = 0 FROM sets WHERE id = ?1", params![set], |r| r.get(0))?;
        let rows: Vec<FrameRow> =
            self.frame_rows(set)?.into_iter().filter(|f| f.state == FrameState::Ready).collect();
        if !wanted {
            return Ok(());
        }
        let mut groups: Vec<Vec<usize>> = vec![(0..rows.len()).collect()];
        if rows.len() > 2 {
            work.step("Telling views apart");
            let open: Vec<Arc<TiledFrame>> =
                rows.iter().map(|f| self.pyramid(f)).collect::<Result<_, _>>()?;
            let sources: Vec<&dyn FrameSource> = open.iter().map(|f| &**f as &dyn FrameSource).collect();
            let numbers = views(&sources, &|share| work.at(share))?;
            let clocks: Vec<Option<f64>> = rows.iter().map(|f| f.camera.seconds()).collect();
            groups = by_view_and_time(&numbers, &clocks);
        }
        // The largest stays; the others move out in order of time.
        let main = (0..groups.len()).max_by_key(|&g| (groups[g].len(), std::cmp::Reverse(g))).unwrap_or(0);
        let name = self.check_set(set)?;
        let of = groups.len();
        let mut made = Vec::new();
        for (k, group) in groups.iter().enumerate().filter(|(k, _)| *k != main) {
            let title: String = format!("{name}, view {} of {of}", k + 1).chars().take(120).collect();
            let new = self.create_set(&title)?;
            let mut db = self.db();
            let t = db.transaction()?;
            for &i in group {
                // Its owner may have moved it meanwhile.
                t.execute(
                    "UPDATE frames SET set_id = ?2 WHERE id = ?1 AND set_id = ?3",
                    params![rows[i].id, new, set],
                )?;
            }
            t.commit()?;
            made.push(new);
        }
        if of > 1 {
            let note = format!("This shoot holds {of} views, told apart by what they show and when");
            let db = self.db();
            db.execute(
                "UPDATE sets SET name = ?2, note = ?3 WHERE id = ?1",
                params![set, format!("{name}, view {} of {of}", main + 1), note],
            )?;
            for id in &made {
                db.execute("UPDATE sets SET note = ?2 WHERE id = ?1", params![id, note])?;
            }
        }
        self.db().execute("UPDATE sets SET sorted = 1 WHERE id = ?1", params![set])?;
        for id in made {
            self.enqueue(id, RunKind::Prepare, "{}")?;
        }
        self.tell(Event::Sets);
        Ok(())
    }

    /// Makes an empty set whose frames, once read, are told apart by view.
    ///
    /// # Errors
    /// When the name is empty or the database cannot be written.
    pub fn create_shoot(&self, name: &str) -> Result<i64, StudioError> {
        let id = self.create_set(name)?;
        self.db().execute("UPDATE sets SET sorted = 0, created = ?2 WHERE id = ?1", params![id, now()])?;
        Ok(id)
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

/// Takes a frame out of its set's recipes, so that the others keep their places' meaning.
fn take_out(t: &Transaction<'_>, set: i64, frame: i64) -> Result<(), StudioError> {
    let place: Option<i64> =
        t.query_row("SELECT place FROM frames WHERE id = ?1", params![frame], |r| r.get(0))?;
    let Some(place) = place else { return Ok(()) };
    let recipes: Vec<(i64, String)> = {
        let mut query = t.prepare("SELECT seq, recipe FROM recipes WHERE set_id = ?1")?;
        query.query_map(params![set], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<Result<_, _>>()?
    };
    for (seq, text) in recipes {
        let recipe: Recipe = serde_json::from_str(&text)?;
        t.execute(
            "UPDATE recipes SET recipe = ?3 WHERE set_id = ?1 AND seq = ?2",
            params![set, seq, serde_json::to_string(&recipe.without(place as usize))?],
        )?;
    }
    t.execute("UPDATE frames SET place = place - 1 WHERE set_id = ?1 AND place > ?2", params![set, place])?;
    Ok(())
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
