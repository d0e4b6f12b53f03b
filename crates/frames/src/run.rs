//! A run on disk: a folder with a manifest and a file a frame.

use crate::codec::{self, encode_with};
use crate::files::{link_or_copy, remove_parts, sync_folder, temporary, write_whole};
use crate::table::Table;
use crate::topology_files::{FOLDER as TOPOLOGIES, TopologyFolder};
use crate::{Frame, Header, Measured, Parts, RunError};
use geometry::Topology;
use glam::Vec3;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use shot::{Id, Shot, fingerprint::Fingerprint};
use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File, Metadata, TryLockError};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

/// The folders of a run.
const FOLDERS: [&str; 3] = ["frames", "checkpoints", TOPOLOGIES];

/// The inputs that a run was computed from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Manifest {
    /// Version of the run folder's layout.
    pub version: u32,
    /// The shot as it was when the newest frame was computed.
    pub shot: Shot,
    /// The elements that frames speak of.
    pub elements: Vec<ManifestElement>,
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

/// A body's path along the run, for plots.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Track {
    /// Frames, rising.
    pub frames: Vec<u32>,
    /// Height above the origin, metres.
    pub height_m: Vec<f32>,
    /// Speed, m/s.
    pub speed_m_s: Vec<f32>,
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
        FOLDERS.iter().for_each(|folder| remove_parts(&self.path.join(folder)));
        self.topologies().drop_unused(self.numbers().into_iter().map(|number| self.frame_path(number)));
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

    fn frame_path(&self, number: u32) -> PathBuf {
        self.path.join("frames").join(format!("{number:05}.brframe"))
    }

    fn checkpoint_path(&self, number: u32) -> PathBuf {
        self.path.join("checkpoints").join(format!("{number:05}.brstate"))
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

    /// Writes a frame, in place of an older one of its number.
    ///
    /// # Errors
    /// [`RunError::Io`]; the older frame is then still there.
    pub fn write(&self, frame: &Frame) -> Result<(), RunError> {
        // A run of an earlier build has no folder for topologies.
        if !frame.meshes.is_empty() {
            Self::create(&self.path)?;
            self.topologies().write(frame)?;
        }
        let path = self.frame_path(frame.number);
        write_whole(&path, &encode_with(frame, false))?;
        if let Ok(data) = path.metadata() {
            note_whole(&path, &data);
        }
        Ok(())
    }

    /// Reads a frame.
    ///
    /// # Errors
    /// [`RunError`] if it is not there or damaged.
    pub fn read(&self, number: u32) -> Result<Frame, RunError> {
        let mut frame = Frame::default();
        self.read_into(number, &mut frame)?;
        Ok(frame)
    }

    /// Reads a frame into the memory of another; see [`crate::decode_into`].
    ///
    /// # Errors
    /// [`RunError`] if it is not there or damaged; what is in `frame` is then of no use.
    pub fn read_into(&self, number: u32, frame: &mut Frame) -> Result<(), RunError> {
        self.read_parts(number, Parts::All, frame)
    }

    /// Reads some parts of a frame; only their bytes of the file are read.
    ///
    /// # Errors
    /// [`RunError`] as of [`RunFolder::read_into`].
    pub fn read_parts(&self, number: u32, parts: Parts, frame: &mut Frame) -> Result<(), RunError> {
        let path = self.frame_path(number);
        let fault = |source| RunError::Frame { path: path.clone(), source };
        let file = self.open_frame(number)?;
        let table = Table::read(&file).map_err(fault)?;
        let topologies = self.topologies();
        let topology = |hash| topologies.get(hash).map_err(|_| codec::UNKNOWN_TOPOLOGY);
        codec::unpack(&table, parts, frame, |block| table.block(&file, block), topology).map_err(fault)
    }

    /// Measurements of a frame, from the head of its file.
    ///
    /// # Errors
    /// [`RunError`] if it is not there, or its head is damaged.
    pub fn measured(&self, number: u32) -> Result<Measured, RunError> {
        let fault = |source| RunError::Frame { path: self.frame_path(number), source };
        codec::measured(&Table::read(&self.open_frame(number)?).map_err(fault)?).map_err(fault)
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

    fn open_frame(&self, number: u32) -> Result<File, RunError> {
        let path = self.frame_path(number);
        File::open(&path).map_err(|source| match source.kind() {
            io::ErrorKind::NotFound => RunError::Missing { frame: number },
            _ => RunError::Io { path, source },
        })
    }

    /// The headers of all frames that are there, by number. A file that is not
    /// a frame, or is shorter or longer than its table says, counts as missing;
    /// its blocks are not looked at.
    pub fn headers(&self) -> BTreeMap<u32, Header> {
        let entries = fs::read_dir(self.path.join("frames")).into_iter().flatten().flatten();
        entries
            .filter(|entry| entry.path().extension().is_some_and(|e| e == "brframe"))
            .filter_map(|entry| header_of(&entry.path()))
            .map(|header| (header.number, header))
            .collect()
    }

    /// Numbers of all frame files, whole or not.
    fn numbers(&self) -> Vec<u32> {
        let entries = fs::read_dir(self.path.join("frames")).into_iter().flatten().flatten();
        entries
            .filter_map(|entry| entry.file_name().to_str()?.strip_suffix(".brframe")?.parse().ok())
            .collect()
    }

    /// The header of a frame, if that is there.
    pub fn header(&self, number: u32) -> Option<Header> {
        header_of(&self.frame_path(number))
    }

    /// Writes a solver state that computing can go on from after `number`.
    ///
    /// # Errors
    /// [`RunError::Io`].
    pub fn write_checkpoint(&self, number: u32, of: Fingerprint, state: &[u8]) -> Result<(), RunError> {
        let mut bytes = of.0.to_vec();
        bytes.extend(zstd::bulk::compress(state, 1).expect("compression into memory does not fail"));
        bytes.extend(crc32fast::hash(&bytes).to_le_bytes());
        write_whole(&self.checkpoint_path(number), &bytes)
    }

    /// Removes a frame's file if that is damaged, so that the frame counts as
    /// missing and is computed again.
    pub fn drop_if_damaged(&self, number: u32) -> bool {
        let path = self.frame_path(number);
        let Ok(file) = File::open(&path) else { return false };
        let whole =
            |table: &Table| table.check(&file).is_ok() && self.topologies().has_those_of(table, &file);
        let damaged = !Table::read(&file).is_ok_and(|table| whole(&table));
        damaged && fs::remove_file(&path).is_ok()
    }

    /// Removes all frames of a range whose files are damaged, and tells how many.
    /// Files that were found whole before, and have not been written to since, are not read again.
    pub fn drop_damaged(&self, frames: std::ops::RangeInclusive<u32>) -> usize {
        let numbers: Vec<u32> = self.numbers().into_iter().filter(|number| frames.contains(number)).collect();
        let damaged = |&&number: &&u32| {
            let path = self.frame_path(number);
            let Ok(data) = path.metadata() else { return false };
            if known_whole(&path, &data) {
                return false;
            }
            if self.drop_if_damaged(number) {
                return true;
            }
            note_whole(&path, &data);
            false
        };
        numbers.par_iter().filter(damaged).count()
    }

    /// The states at or before `number` that were computed from what
    /// `fingerprint` gives for their frames, the latest first. Each is read as it is asked for.
    pub fn checkpoints(
        &self,
        number: u32,
        fingerprint: impl Fn(u32) -> Option<Fingerprint>,
    ) -> impl Iterator<Item = (u32, Vec<u8>)> {
        let mut numbers = self.checkpoint_numbers();
        numbers.retain(|&at| at <= number);
        numbers.into_iter().rev().filter_map(move |at| {
            let bytes = fs::read(self.checkpoint_path(at)).ok()?;
            let (body, sum) = bytes.split_last_chunk::<4>()?;
            let (of, packed) = body.split_first_chunk::<16>()?;
            if Some(Fingerprint(*of)) != fingerprint(at) || crc32fast::hash(body) != u32::from_le_bytes(*sum)
            {
                return None;
            }
            Some((at, zstd::stream::decode_all(packed).ok()?))
        })
    }

    /// Numbers of the frames that have a state, rising.
    pub fn checkpoint_numbers(&self) -> Vec<u32> {
        let entries = fs::read_dir(self.path.join("checkpoints")).into_iter().flatten().flatten();
        let mut numbers: Vec<u32> = entries
            .filter_map(|entry| entry.file_name().to_str()?.strip_suffix(".brstate")?.parse().ok())
            .collect();
        numbers.sort_unstable();
        numbers
    }

    /// Drops the state of a frame.
    pub fn drop_checkpoint(&self, number: u32) {
        // A state that stays is only larger, not wrong: its fingerprint decides.
        let _ = fs::remove_file(self.checkpoint_path(number));
    }

    /// Drops all frames and states.
    ///
    /// # Errors
    /// [`RunError::InUse`] while a bake writes to it; [`RunError::Io`].
    pub fn clear(&self) -> Result<(), RunError> {
        let _lock = self.lock()?;
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

    /// Makes a run of the same frames at `path`, where nothing may be. Frames
    /// are shared, not copied: a frame's file is never changed, only replaced.
    /// The new run is there whole or not at all.
    ///
    /// # Errors
    /// [`RunError::Io`].
    pub fn keep_as(&self, path: &Path) -> Result<Self, RunError> {
        self.keep_with(path, |_| {})
    }

    /// As [`RunFolder::keep_as`], with changes of the manifest.
    ///
    /// # Errors
    /// [`RunError::Io`].
    pub fn keep_with(&self, path: &Path, change: impl FnOnce(&mut Manifest)) -> Result<Self, RunError> {
        let io_error = |path: &Path| {
            let path = path.to_owned();
            move |source| RunError::Io { path, source }
        };
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent).map_err(io_error(parent))?;
        }
        let aside = temporary(path, "new");
        let build = || {
            let kept = Self::create(&aside)?;
            // A frame's topologies are written before it, so those of all frames
            // that are linked first are there.
            let shared = [("frames", "brframe"), (TOPOLOGIES, "brtopology")];
            let entries = |folder: &str, of: &'static str| {
                let all = fs::read_dir(self.path.join(folder)).into_iter().flatten().flatten();
                all.filter(move |e| e.path().extension().is_some_and(|e| e == of)).collect::<Vec<_>>()
            };
            for (folder, entry) in shared
                .iter()
                .flat_map(|(folder, of)| entries(folder, of).into_iter().map(move |e| (folder, e)))
            {
                let to = aside.join(folder).join(entry.file_name());
                match link_or_copy(&entry.path(), &to) {
                    // The run was cleared meanwhile.
                    Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                    linked => linked.map_err(io_error(&to))?,
                }
            }
            let mut manifest = self.manifest()?;
            change(&mut manifest);
            kept.write_manifest(&manifest)?;
            for folder in [aside.join("frames"), aside.join(TOPOLOGIES), aside.clone()] {
                sync_folder(&folder).map_err(io_error(&folder))?;
            }
            // A rename replaces an empty folder without a word.
            if path.exists() {
                return Err(io_error(path)(io::ErrorKind::AlreadyExists.into()));
            }
            fs::rename(&aside, path).map_err(io_error(path))?;
            path.parent().map_or(Ok(()), sync_folder).map_err(io_error(path))
        };
        match build() {
            Ok(()) => Ok(Self::at(path)),
            Err(error) => {
                let _ = fs::remove_dir_all(&aside);
                Err(error)
            }
        }
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

    /// Bytes on disk: frames, and states to go on from.
    pub fn size(&self) -> (u64, u64) {
        let sum = |folder: &str| {
            let entries = fs::read_dir(self.path.join(folder)).into_iter().flatten().flatten();
            entries.filter_map(|entry| entry.metadata().ok()).map(|data| data.len()).sum()
        };
        (sum("frames") + sum(TOPOLOGIES), sum("checkpoints"))
    }

    /// A body's height and speed over all frames that are there.
    pub fn track(&self, element: Id, copy: usize) -> Track {
        let mut track = Track::default();
        let mut frame = Frame::default();
        for number in self.headers().into_keys() {
            if self.read_into(number, &mut frame).is_err() {
                continue;
            }
            let Some(bodies) = frame.bodies.get(&element).filter(|bodies| copy < bodies.len()) else {
                continue;
            };
            track.frames.push(number);
            track.height_m.push(bodies.positions[copy].y);
            track.speed_m_s.push(bodies.velocities[copy].length());
        }
        track
    }
}

/// The header of a frame's file, if its head is whole and its length as that says.
fn header_of(path: &Path) -> Option<Header> {
    Table::read(&File::open(path).ok()?).ok().map(|table| table.header)
}

fn read_whole(path: &Path) -> Result<Vec<u8>, RunError> {
    fs::read(path).map_err(|source| RunError::Io { path: path.to_owned(), source })
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

fn note_whole(path: &Path, data: &Metadata) {
    let mut whole = WHOLE.lock().unwrap_or_else(PoisonError::into_inner);
    if whole.len() >= REMEMBERED {
        whole.clear();
    }
    whole.insert(path.to_owned(), stamp(data));
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder() -> (tempfile::TempDir, RunFolder) {
        let dir = tempfile::tempdir().unwrap();
        let run = RunFolder::create(dir.path().join("run")).unwrap();
        run.write_manifest(&Manifest { version: 1, shot: Shot::empty("S"), elements: vec![] }).unwrap();
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
    fn a_state_counts_only_for_the_fingerprint_it_was_made_from() {
        let (_dir, run) = folder();
        let of = |n: u8| Fingerprint([n; 16]);
        run.write_checkpoint(10, of(1), b"ten").unwrap();
        run.write_checkpoint(20, of(2), b"twenty").unwrap();
        let latest =
            |number, print: &dyn Fn(u32) -> Option<Fingerprint>| run.checkpoints(number, print).next();
        assert_eq!(latest(30, &|at| Some(of(at as u8 / 10))), Some((20, b"twenty".to_vec())));
        assert_eq!(latest(30, &|_| Some(of(1))), Some((10, b"ten".to_vec())));
        assert_eq!(latest(9, &|_| Some(of(1))), None);
        let all = run.checkpoints(30, |at| Some(of(at as u8 / 10))).map(|(at, _)| at);
        assert_eq!(all.collect::<Vec<_>>(), [20, 10]);
    }

    #[test]
    fn a_torn_frame_counts_as_missing() {
        let (_dir, run) = folder();
        run.write(&Frame::new(3, 0.0)).unwrap();
        fs::write(run.frame_path(4), b"BRFR").unwrap();
        // One byte less, one more, and only the first bytes of a whole frame.
        let whole = crate::encode(&Frame::new(5, 0.0));
        fs::write(run.frame_path(5), &whole[..whole.len() - 1]).unwrap();
        fs::write(run.frame_path(6), [&whole[..], &[0]].concat()).unwrap();
        fs::write(run.frame_path(7), &whole[..48]).unwrap();
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
        let mut bytes = fs::read(run.frame_path(2)).unwrap();
        let last = bytes.len() - 6;
        bytes[last] ^= 1;
        fs::write(run.frame_path(2), bytes).unwrap();
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
