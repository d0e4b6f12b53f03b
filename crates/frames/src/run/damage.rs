//! Frame files that are damaged.

use super::{RunFolder, frame_files::FrameFile};
use crate::table::Table;
use rayon::prelude::*;
use std::collections::HashMap;
use std::fs::{self, File, Metadata};
use std::ops::RangeInclusive;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{LazyLock, Mutex, PoisonError};

impl RunFolder {
    /// Removes a frame's file if that is damaged, so that the frame counts as
    /// missing and is computed again.
    pub(crate) fn drop_if_damaged(&self, path: &Path) -> bool {
        let Ok(file) = File::open(path) else { return false };
        let whole =
            |table: &Table| table.check(&file).is_ok() && self.topologies().has_those_of(table, &file);
        let damaged = !Table::read(&file).is_ok_and(|table| whole(&table));
        damaged && fs::remove_file(path).is_ok()
    }

    /// Removes the files of a range of frames that are damaged, and tells how many.
    /// Files that were found whole before, and have not been written to since, are not read again.
    pub fn drop_damaged(&self, frames: RangeInclusive<u32>) -> usize {
        let files: Vec<_> =
            self.frame_files().into_iter().filter(|file| frames.contains(&file.number)).collect();
        let damaged = |file: &&FrameFile| {
            let path = &file.path;
            let Ok(data) = path.metadata() else { return false };
            if known_whole(path, &data) {
                return false;
            }
            if self.drop_if_damaged(path) {
                return true;
            }
            note_whole(path, &data);
            false
        };
        files.par_iter().filter(damaged).count()
    }
}

/// Identity of a state of a file: device, inode, length, time of the last change.
type Stamp = (u64, u64, u64, i64, i64);

/// Files that were read and found whole.
static WHOLE: LazyLock<Mutex<HashMap<PathBuf, Stamp>>> = LazyLock::new(Mutex::default);
/// Entries of the cache; a full cache is emptied.
const REMEMBERED: usize = 200_000;

fn stamp(data: &Metadata) -> Stamp {
    (data.dev(), data.ino(), data.len(), data.ctime(), data.ctime_nsec())
}

fn known_whole(path: &Path, data: &Metadata) -> bool {
    WHOLE.lock().unwrap_or_else(PoisonError::into_inner).get(path) == Some(&stamp(data))
}

pub(super) fn note_whole(path: &Path, data: &Metadata) {
    let mut whole = WHOLE.lock().unwrap_or_else(PoisonError::into_inner);
    if whole.len() >= REMEMBERED {
        whole.clear();
    }
    whole.insert(path.to_owned(), stamp(data));
}
