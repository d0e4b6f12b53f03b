//! Files that are whole or absent, whatever happens while they are written.

use crate::RunError;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

/// Extension of files that are being written.
const PART: &str = "part";

/// A name beside `path` that no other writer uses, in this process or another.
pub(crate) fn temporary(path: &Path, extension: &str) -> PathBuf {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    let count = NEXT.fetch_add(1, Ordering::Relaxed);
    let name = path.file_name().unwrap_or(OsStr::new("file")).to_string_lossy();
    path.with_file_name(format!(".{name}.{}-{count}.{extension}", std::process::id()))
}

/// Writes a file under a temporary name, syncs it, and renames it, so that a
/// reader sees the old bytes or the new ones, also after a power cut. A link at
/// `path` is replaced, not followed.
///
/// # Errors
/// [`RunError::Io`]; the old file is then as it was.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), RunError> {
    write_by(path, |file| file.write_all(bytes))
}

/// As [`write_whole`], of a file that is never whole in memory: `content` writes it.
///
/// # Errors
/// [`RunError::Io`]; the old file is then as it was.
pub(crate) fn write_by(
    path: &Path,
    content: impl FnOnce(&mut File) -> io::Result<()>,
) -> Result<(), RunError> {
    write_to(path, content, |temporary| File::create_new(temporary))
}

fn write_to(
    path: &Path,
    content: impl FnOnce(&mut File) -> io::Result<()>,
    create: impl Fn(&Path) -> io::Result<File>,
) -> Result<(), RunError> {
    let temporary = temporary(path, PART);
    let write = || {
        let mut file = create(&temporary)?;
        content(&mut file)?;
        file.sync_data()?;
        drop(file);
        fs::rename(&temporary, path)
    };
    write().map_err(|source| {
        let _ = fs::remove_file(&temporary);
        RunError::Io { path: path.to_owned(), source }
    })
}

/// Copies a file to a name that is not taken, as a hard link if possible.
pub(crate) fn link_or_copy(from: &Path, to: &Path) -> io::Result<()> {
    match fs::hard_link(from, to) {
        Ok(()) => Ok(()),
        // A name that is taken may be a link to the same bytes: writing to it
        // would empty both.
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Err(error),
        Err(_) => {
            let mut file = File::create_new(to)?;
            io::copy(&mut File::open(from)?, &mut file)?;
            file.sync_data()
        }
    }
}

/// Makes the names in a folder durable.
pub(crate) fn sync_folder(path: &Path) -> io::Result<()> {
    File::open(path)?.sync_all()
}

/// Removes what writers that were killed left in a folder. No writer may be at work in it.
pub(crate) fn remove_parts(folder: &Path) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        if entry.path().extension().is_some_and(|extension| extension == PART) {
            // A leftover takes room, and does no other harm.
            let _ = fs::remove_file(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_writers_of_one_file_never_meet_and_leave_nothing_behind() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("picture.png");
        std::thread::scope(|scope| {
            for writer in 0..8u8 {
                let path = &path;
                scope.spawn(move || {
                    for _ in 0..50 {
                        write_whole(path, &[writer; 1000]).unwrap();
                        let bytes = fs::read(path).unwrap();
                        assert!(bytes.len() == 1000 && bytes.iter().all(|b| *b == bytes[0]));
                    }
                });
            }
        });
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1);
    }

    #[test]
    fn a_full_disk_leaves_the_old_file_as_it_was() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("kept.png");
        write_whole(&path, b"old").unwrap();
        // A device that is always full stands in for the disk.
        let full = |_: &Path| File::options().write(true).open("/dev/full");
        let error = write_to(&path, |file| file.write_all(b"new"), full).unwrap_err().to_string();
        assert!(error.contains("kept.png") && error.contains("No space left"), "{error}");
        assert_eq!(fs::read(&path).unwrap(), b"old");
    }

    #[test]
    fn a_link_in_the_place_of_a_file_is_replaced() {
        let dir = tempfile::tempdir().unwrap();
        let (other, path) = (dir.path().join("other"), dir.path().join("file"));
        fs::write(&other, b"other").unwrap();
        std::os::unix::fs::symlink(&other, &path).unwrap();
        write_whole(&path, b"own").unwrap();
        assert_eq!(
            (fs::read(&other).unwrap(), fs::read(&path).unwrap()),
            (b"other".to_vec(), b"own".to_vec())
        );
    }

    #[test]
    fn a_name_that_is_taken_is_never_written_to() {
        let dir = tempfile::tempdir().unwrap();
        let (from, to) = (dir.path().join("from"), dir.path().join("to"));
        fs::write(&from, b"frame").unwrap();
        link_or_copy(&from, &to).unwrap();
        assert_eq!(link_or_copy(&from, &to).unwrap_err().kind(), io::ErrorKind::AlreadyExists);
        assert_eq!(fs::read(&from).unwrap(), b"frame");
    }
}
