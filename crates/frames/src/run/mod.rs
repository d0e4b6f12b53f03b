//! A run on disk: a folder with a manifest and, for each system, a file a frame.

mod checkpoints;
mod damage;
mod frame_files;
mod keep;
mod track;
mod whole;

use crate::RunError;
use crate::files::{remove_parts, write_whole};
use crate::topology_files::{FOLDER as TOPOLOGIES, TopologyFolder};
use geometry::Topology;
use glam::Vec3;
use serde::{Deserialize, Serialize};
use shot::{Id, Shot, SystemId, fingerprint::Fingerprint};
use std::fs::{self, File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
pub use track::Track;

/// The folder of the frames: in a folder a system, or whole beside those.
const FRAMES: &str = "frames";
/// The folder of the saved states, in a folder a system.
const CHECKPOINTS: &str = "checkpoints";
/// The folders of a run.
const FOLDERS: [&str; 3] = [FRAMES, CHECKPOINTS, TOPOLOGIES];
/// Finished frames that are kept because they take long.
const FINISHED: &str = "finished";

/// The inputs that a run was computed from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Manifest {
    /// Version of the run folder's layout.
    pub version: u32,
    /// The shot as it was when the newest frame was computed.
    pub shot: Shot,
    /// The elements that frames speak of.
    pub elements: Vec<ManifestElement>,
    /// What the processor could do that computed the newest frame: frames of processors that differ in
    /// this may differ in their last bits.
    #[serde(default)]
    pub instruction_set: String,
}

impl Manifest {
    /// Of a run that is computed here.
    pub fn new(shot: Shot, elements: Vec<ManifestElement>) -> Self {
        Self { version: 1, shot, elements, instruction_set: instruction_set() }
    }
}

/// The processor's architecture, with the extensions that kernels may choose at run time.
pub fn instruction_set() -> String {
    let mut name = std::env::consts::ARCH.to_owned();
    #[cfg(target_arch = "x86_64")]
    for (extension, has) in [
        ("avx", is_x86_feature_detected!("avx")),
        ("avx2", is_x86_feature_detected!("avx2")),
        ("fma", is_x86_feature_detected!("fma")),
    ] {
        if has {
            name = format!("{name} {extension}");
        }
    }
    name
}

/// An element that frames speak of.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ManifestElement {
    /// Its id in the frames.
    pub id: Id,
    /// Its name.
    pub name: String,
    /// Its number of bodies; 0 for particles.
    pub bodies: usize,
    /// Mass of one body, kg; 0 for particles.
    pub mass_kg: f32,
    /// Centre of mass of a body against its origin, m.
    #[serde(default)]
    pub centre_m: Vec3,
}

/// Keeps other bakes out of a run folder until it is dropped.
#[derive(Debug)]
pub struct RunLock {
    _file: File,
}

/// A run's folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunFolder {
    path: PathBuf,
}

impl RunFolder {
    /// The folder at a path; if nothing is there, a run without frames.
    pub fn at(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into() }
    }

    /// Opens the folder, making it if it is not there.
    ///
    /// # Errors
    /// [`RunError::Io`] if it cannot be made.
    pub fn create(path: impl Into<PathBuf>) -> Result<Self, RunError> {
        let run = Self::at(path);
        for folder in FOLDERS.map(|folder| run.path.join(folder)) {
            fs::create_dir_all(&folder).map_err(|source| RunError::Io { path: folder, source })?;
        }
        Ok(run)
    }

    /// Makes the folder if it is not there, and keeps all other writers out of
    /// it, also those of other processes.
    ///
    /// # Errors
    /// [`RunError::InUse`] if another holds it, [`RunError::Io`] if it cannot be written.
    pub fn lock(&self) -> Result<RunLock, RunError> {
        Self::create(&self.path)?;
        let path = self.path.join("lock");
        let open = File::options().create(true).truncate(false).write(true).open(&path);
        let file = open.map_err(|source| RunError::Io { path: path.clone(), source })?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(RunError::InUse { path: self.path.clone() }),
            Err(TryLockError::Error(source)) => return Err(RunError::Io { path, source }),
        }
        remove_parts(&self.path);
        for folder in FOLDERS.map(|folder| self.path.join(folder)) {
            remove_parts(&folder);
            systems_in(&folder).iter().for_each(|system| remove_parts(&folder.join(system.to_string())));
        }
        self.topologies().drop_unused(self.frame_files().into_iter().map(|file| file.path));
        Ok(RunLock { _file: file })
    }

    /// Opens a folder that is there.
    ///
    /// # Errors
    /// [`RunError::Manifest`] if it holds no run.
    pub fn open(path: impl Into<PathBuf>) -> Result<Self, RunError> {
        let folder = Self { path: path.into() };
        folder.manifest()?;
        Ok(folder)
    }

    /// Folder of the run.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Writes the manifest.
    ///
    /// # Errors
    /// [`RunError::Io`].
    pub fn write_manifest(&self, manifest: &Manifest) -> Result<(), RunError> {
        let text = serde_json::to_string_pretty(manifest).expect("a manifest serialises");
        write_whole(&self.path.join("run.json"), text.as_bytes())
    }

    /// Reads the manifest.
    ///
    /// # Errors
    /// [`RunError::Io`] or [`RunError::Manifest`].
    pub fn manifest(&self) -> Result<Manifest, RunError> {
        let path = self.path.join("run.json");
        let bytes = read_whole(&path)?;
        let fail = |message: String| RunError::Manifest { path: path.clone(), message };
        let mut value: serde_json::Value =
            serde_json::from_slice(&bytes).map_err(|error| fail(error.to_string()))?;
        // The shot may be of an older version than this build writes.
        let shot =
            shot::read(value["shot"].to_string().as_bytes()).map_err(|error| fail(error.to_string()))?;
        value["shot"] = serde_json::to_value(shot).expect("a shot serialises");
        serde_json::from_value(value).map_err(|error| fail(error.to_string()))
    }

    /// Drops all frames and states.
    ///
    /// # Errors
    /// [`RunError::InUse`] while a bake writes to it; [`RunError::Io`].
    pub fn clear(&self) -> Result<(), RunError> {
        let _lock = self.lock()?;
        self.finished().remove()?;
        for folder in FOLDERS {
            let path = self.path.join(folder);
            // A run of an earlier build has no topologies.
            let removed = if path.exists() { fs::remove_dir_all(&path) } else { Ok(()) };
            removed
                .and_then(|()| fs::create_dir_all(&path))
                .map_err(|source| RunError::Io { path, source })?;
        }
        Ok(())
    }

    /// The run of finished frames that are kept beside this one, because they take long.
    #[must_use]
    pub fn finished(&self) -> Self {
        Self::at(self.path.join(FINISHED))
    }

    /// Removes the run with all its files.
    ///
    /// # Errors
    /// [`RunError::Io`]; a part of it may be gone then.
    pub fn remove(&self) -> Result<(), RunError> {
        match fs::remove_dir_all(&self.path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            removed => removed.map_err(|source| RunError::Io { path: self.path.clone(), source }),
        }
    }

    /// Bytes on disk: frames with the finished ones that are kept, and states to go on from.
    pub fn size(&self) -> (u64, u64) {
        let files = |folder: &Path| -> u64 {
            let entries = fs::read_dir(folder).into_iter().flatten().flatten();
            let data = entries.filter_map(|entry| entry.metadata().ok()).filter(|data| data.is_file());
            data.map(|data| data.len()).sum()
        };
        let sum = |folder: &str| {
            let folder = self.path.join(folder);
            let of_systems = systems_in(&folder).into_iter().map(|system| folder.join(system.to_string()));
            files(&folder) + of_systems.map(|folder| files(&folder)).sum::<u64>()
        };
        let finished = self.path.join(FINISHED);
        let kept = if finished.exists() { Self::at(finished).size().0 } else { 0 };
        (sum(FRAMES) + sum(TOPOLOGIES) + kept, sum(CHECKPOINTS))
    }

    fn topologies(&self) -> TopologyFolder {
        TopologyFolder::at(self.path.join(TOPOLOGIES))
    }

    /// A topology that meshes of the run have.
    ///
    /// # Errors
    /// [`RunError`] if its file is not there or damaged.
    pub fn topology(&self, hash: Fingerprint) -> Result<Arc<Topology>, RunError> {
        self.topologies().get(hash)
    }
}

/// The systems that have a folder of their own in a folder.
fn systems_in(folder: &Path) -> Vec<SystemId> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut systems: Vec<SystemId> =
        entries.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect();
    systems.sort_unstable();
    systems
}

/// The number that a file is named by, if it has the extension.
fn number_of(file: &Path, extension: &str) -> Option<u32> {
    file.file_name()?.to_str()?.strip_suffix(extension)?.strip_suffix('.')?.parse().ok()
}

fn read_whole(path: &Path) -> Result<Vec<u8>, RunError> {
    fs::read(path).map_err(|source| RunError::Io { path: path.to_owned(), source })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Frame;

    fn folder() -> (tempfile::TempDir, RunFolder) {
        let dir = tempfile::tempdir().unwrap();
        let run = RunFolder::create(dir.path().join("run")).unwrap();
        run.write_manifest(&Manifest::new(Shot::empty("S"), vec![])).unwrap();
        (dir, run)
    }

    #[test]
    fn a_kept_run_stays_when_the_current_one_is_overwritten() {
        let (dir, run) = folder();
        run.write(&Frame::new(1, 0.0)).unwrap();
        let kept = run.keep_as(&dir.path().join("kept")).unwrap();
        run.write(&Frame::new(1, 9.0)).unwrap();
        assert_eq!((kept.read(1).unwrap().time_s, run.read(1).unwrap().time_s), (0.0, 9.0));
    }

    #[test]
    fn a_torn_frame_counts_as_missing() {
        let (_dir, run) = folder();
        run.write(&Frame::new(3, 0.0)).unwrap();
        fs::write(run.frame_path(None, 4), b"BRFR").unwrap();
        // One byte less, one more, and only the first bytes of a whole frame.
        let whole = crate::encode(&Frame::new(5, 0.0));
        fs::write(run.frame_path(None, 5), &whole[..whole.len() - 1]).unwrap();
        fs::write(run.frame_path(None, 6), [&whole[..], &[0]].concat()).unwrap();
        fs::write(run.frame_path(None, 7), &whole[..48]).unwrap();
        assert_eq!(run.headers().into_keys().collect::<Vec<_>>(), [3]);
        assert!(matches!(run.read(4), Err(RunError::Frame { .. })));
    }

    #[test]
    fn a_changed_frame_is_found_and_dropped() {
        let (_dir, run) = folder();
        for number in 1..=3 {
            let mut frame = Frame::new(number, 0.0);
            frame.bodies.insert(Id(1), crate::Bodies::default());
            run.write(&frame).unwrap();
        }
        let mut bytes = fs::read(run.frame_path(None, 2)).unwrap();
        let last = bytes.len() - 6;
        bytes[last] ^= 1;
        fs::write(run.frame_path(None, 2), bytes).unwrap();
        assert_eq!(run.headers().len(), 3);
        assert_eq!(run.drop_damaged(3..=9), 0);
        assert_eq!(run.drop_damaged(1..=9), 1);
        assert_eq!(run.headers().into_keys().collect::<Vec<_>>(), [1, 3]);
    }

    #[test]
    fn a_run_that_is_kept_twice_under_one_name_keeps_the_first() {
        let (dir, run) = folder();
        run.write(&Frame::new(1, 0.5)).unwrap();
        let to = dir.path().join("kept");
        run.keep_as(&to).unwrap();
        assert!(run.keep_as(&to).is_err());
        assert_eq!(RunFolder::at(&to).read(1).unwrap().time_s, 0.5);
        assert_eq!(run.read(1).unwrap().time_s, 0.5);
        // Nothing of the second try is left.
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2);
    }

    #[test]
    fn one_writer_at_a_time() {
        let (_dir, run) = folder();
        let lock = run.lock().unwrap();
        assert!(matches!(run.lock(), Err(RunError::InUse { .. })));
        assert!(matches!(run.clear(), Err(RunError::InUse { .. })));
        drop(lock);
        run.clear().unwrap();
    }

    #[test]
    fn what_a_killed_writer_left_goes_with_the_next_lock() {
        let (_dir, run) = folder();
        let part = run.path().join("frames").join(".00004.brframe.1-2.part");
        fs::write(&part, b"half").unwrap();
        run.lock().unwrap();
        assert!(!part.exists());
    }
}
