//! Folders of this computer: bringing their pictures in, copied or left where they are, and finding originals that are somewhere
//! else now. Only regular files are opened, and no folder of the kernel's or of devices; folders below are looked into to a depth, as
//! many files, and for as long, as a person waits.

use super::Assets;
use super::originals::{fingerprint, holds};
use crate::error::StudioError;
use crate::model::{FolderInfo, RelinkInfo};
use crate::sets::FrameRow;
use evanu_media::{MediaError, path_of, path_text};
use rayon::prelude::*;
use std::collections::HashSet;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Files that a folder may hold, and folders below it that are looked into for lost originals.
const MOST_FILES: usize = 5000;
const DEEPEST: usize = 6;
const LONGEST: Duration = Duration::from_secs(10);

fn hidden(path: &Path) -> bool {
    path.file_name().is_some_and(|n| n.to_string_lossy().starts_with('.'))
}

/// Whether a folder shows the kernel or devices instead of files.
fn is_of_the_system(folder: &Path) -> bool {
    let place = folder.canonicalize().unwrap_or_else(|_| folder.to_owned());
    place.starts_with("/dev") && !place.starts_with("/dev/shm") || is_of_the_kernel(&place)
}

/// By the magic numbers of `statfs(2)`: proc, sysfs, cgroups, debugfs, tracefs, securityfs, bpf, devpts, configfs, pstore, efivarfs, mqueue.
#[cfg(target_os = "linux")]
fn is_of_the_kernel(place: &Path) -> bool {
    const KERNEL: [rustix::fs::FsWord; 13] = [
        0x9fa0,
        0x6265_6572,
        0x27_e0eb,
        0x6367_7270,
        0x6462_6720,
        0x7472_6163,
        0x7363_6673,
        0xcafe_4a11,
        0x1cd1,
        0x6265_6570,
        0x6165_676c,
        0xde5e_81e4,
        0x1980_0202,
    ];
    rustix::fs::statfs(place).is_ok_and(|fs| KERNEL.contains(&fs.f_type))
}

#[cfg(not(target_os = "linux"))]
fn is_of_the_kernel(_: &Path) -> bool {
    false
}

/// Whether a file without content, or one that may not be opened, is named as pictures are.
fn is_named_so(path: &Path) -> bool {
    const ENDINGS: [&str; 16] = [
        "jpg", "jpeg", "png", "tif", "tiff", "webp", "heic", "heif", "avif", "jxl", "exr", "dng", "nef",
        "cr2", "cr3", "arw",
    ];
    let ending = path.extension().map(|e| e.to_string_lossy().to_ascii_lowercase());
    ending.is_some_and(|e| ENDINGS.contains(&e.as_str()))
}

fn listing(folder: &Path) -> Result<Vec<PathBuf>, StudioError> {
    if is_of_the_system(folder) {
        let told =
            MediaError::new(folder, "it is a folder of the system, without pictures", "choose another one");
        return Err(told.into());
    }
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

impl Assets {
    /// Whether a file begins like one that can be read; the name decides for one that is empty or may not be opened, which is told
    /// when it is brought in.
    fn is_asset(&self, path: &Path) -> bool {
        let mut head = [0u8; 16];
        match std::fs::File::open(path).and_then(|mut f| f.read(&mut head)) {
            Ok(0) | Err(_) => is_named_so(path),
            Ok(n) => self.0.reader.recognises(&head[..n]),
        }
    }

    /// A folder of this computer: its folders, and how many pictures are in it. Without a path, the home folder.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn folder(&self, path: Option<&str>) -> Result<FolderInfo, StudioError> {
        let home = || std::env::var_os("HOME").map_or_else(|| PathBuf::from("/"), PathBuf::from);
        let path = path.filter(|p| !p.trim().is_empty()).map_or_else(home, |p| path_of(p.trim()));
        let path = path.canonicalize().map_err(|e| MediaError::reading(&path, &e))?;
        let (folders, files): (Vec<PathBuf>, Vec<PathBuf>) =
            listing(&path)?.into_iter().partition(|p| p.is_dir());
        let name = |p: &PathBuf| p.file_name().map(|n| path_text(Path::new(n)));
        Ok(FolderInfo {
            path: path_text(&path),
            parent: path.parent().map(path_text),
            folders: folders.iter().filter_map(name).collect(),
            pictures: files.iter().filter(|f| f.is_file() && self.is_asset(f)).count(),
        })
    }

    /// Adds the pictures of a folder of this computer to a set: copied, or left where they are. Returns how many.
    ///
    /// # Errors
    /// When the folder cannot be read or holds no picture, or the set does not exist.
    pub fn add_folder(&self, set: i64, path: &str, copy: bool) -> Result<usize, StudioError> {
        self.0.sets.check(set)?;
        let folder = path_of(path);
        let files: Vec<PathBuf> =
            listing(&folder)?.into_iter().filter(|p| p.is_file() && self.is_asset(p)).collect();
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
            let name = path.file_name().map(|n| path_text(Path::new(n))).unwrap_or_default();
            let (hash, bytes) = match content {
                Ok(content) => content,
                // One file that may not be read keeps no other from coming in; it is told like a damaged one.
                Err(e) => {
                    self.0.sets.add_unreadable(set, &name, &e.to_string())?;
                    continue;
                }
            };
            let source = if copy {
                let target = self.0.store.path(&["originals", hash]);
                if !holds(&target, hash) {
                    let part = self.0.store.path(&["originals", &format!(".incoming-{hash}")]);
                    std::fs::copy(path, &part)
                        .and_then(|_| std::fs::rename(&part, &target))
                        .map_err(|e| MediaError::writing(&target, &e))?;
                    self.0.sets.content_again(hash)?;
                }
                None
            } else {
                Some(path_text(path))
            };
            self.0.sets.add_frame(set, &name, hash, source.as_deref(), *bytes)?;
        }
        Ok(files.len())
    }

    /// Looks for the lost originals of all sets in a folder and the folders below it. Returns how many of this set were found
    /// and how many are still missing, and the sets whose frames were lost.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub(crate) fn find_originals(
        &self,
        set: i64,
        folder: &str,
    ) -> Result<(RelinkInfo, Vec<i64>), StudioError> {
        self.0.sets.check(set)?;
        let mut lost: Vec<(i64, FrameRow)> = Vec::new();
        for row in self.0.sets.rows()? {
            let rows = self.0.sets.frames(row.id)?.into_iter().filter(|f| !self.original(f).exists());
            lost.extend(rows.map(|f| (row.id, f)));
        }
        let mut open = vec![(path_of(folder), 0)];
        let mut files: Vec<(PathBuf, u64)> = Vec::new();
        listing(&path_of(folder))?; // an unreadable folder is told, those below it are passed over
        let begin = Instant::now();
        let mut seen = HashSet::new();
        while let Some((folder, depth)) = open.pop() {
            // Links may lead in a circle.
            if !folder.canonicalize().is_ok_and(|place| seen.insert(place)) {
                continue;
            }
            for path in listing(&folder).unwrap_or_default() {
                if path.is_dir() && depth < DEEPEST {
                    open.push((path, depth + 1));
                } else if let Some(m) = path.metadata().ok().filter(std::fs::Metadata::is_file) {
                    files.push((path, m.len()));
                }
            }
            if files.len() > 20 * MOST_FILES || begin.elapsed() > LONGEST {
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
                self.0.sets.frame_found(frame.row, &path_text(path))?;
                found += usize::from(*owner == set);
            }
        }
        let mut owners: Vec<i64> = lost.iter().map(|(owner, _)| *owner).collect();
        owners.dedup();
        let missing = lost.iter().filter(|(owner, _)| *owner == set).count() - found;
        Ok((RelinkInfo { found, missing }, owners))
    }
}
