//! Files that were read and found whole, so that they are not read again for that.

use std::collections::HashMap;
use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{LazyLock, Mutex, PoisonError};

/// Identity of a state of a file: device, inode, length, time of the last change.
type Stamp = (u64, u64, u64, i64, i64);

/// Files that were read and found whole.
static WHOLE: LazyLock<Mutex<HashMap<PathBuf, Stamp>>> = LazyLock::new(Mutex::default);
/// Entries of the cache; a full cache is emptied.
const REMEMBERED: usize = 200_000;

fn stamp(data: &Metadata) -> Stamp {
    (data.dev(), data.ino(), data.len(), data.ctime(), data.ctime_nsec())
}

pub(super) fn known_whole(path: &Path, data: &Metadata) -> bool {
    WHOLE.lock().unwrap_or_else(PoisonError::into_inner).get(path) == Some(&stamp(data))
}

pub(super) fn note_whole(path: &Path, data: &Metadata) {
    let mut whole = WHOLE.lock().unwrap_or_else(PoisonError::into_inner);
    if whole.len() >= REMEMBERED {
        whole.clear();
    }
    whole.insert(path.to_owned(), stamp(data));
}
