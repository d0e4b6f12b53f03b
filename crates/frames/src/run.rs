//! A run on disk: a folder with a manifest and a file a frame.

use crate::{DecodeError, Frame, Header, Measured, decode_into, encode, read_header, read_measured};
use serde::{Deserialize, Serialize};
use shot::{Fingerprint, Id, Shot};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use thiserror::Error;

/// What a run was computed from.
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
}

/// Why a run folder could not be read or written.
#[derive(Debug, Error)]
pub enum RunError {
    /// The file system refused.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// What it said.
        source: io::Error,
    },
    /// A frame's file is not one, or is damaged.
    #[error("{path}: {source}")]
    Frame {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        source: DecodeError,
    },
    /// The manifest cannot be read.
    #[error("{path}: not a run's manifest: {message}")]
    Manifest {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        message: String,
    },
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
    /// Opens the folder, making it if it is not there.
    ///
    /// # Errors
    /// [`RunError::Io`] if it cannot be made.
    pub fn create(path: impl Into<PathBuf>) -> Result<Self, RunError> {
        let path = path.into();
        for folder in [path.join("frames"), path.join("checkpoints")] {
            fs::create_dir_all(&folder).map_err(|source| RunError::Io { path: folder, source })?;
        }
        Ok(Self { path })
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

    /// Where it is.
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
        write_whole(&self.frame_path(frame.number), &encode(frame))
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

    /// Reads a frame into the memory of another; see [`decode_into`].
    ///
    /// # Errors
    /// [`RunError`] if it is not there or damaged; what is in `frame` is then of no use.
    pub fn read_into(&self, number: u32, frame: &mut Frame) -> Result<(), RunError> {
        let path = self.frame_path(number);
        decode_into(&read_whole(&path)?, frame).map_err(|source| RunError::Frame { path, source })
    }

    /// What was measured at a frame, without unpacking what is in it.
    ///
    /// # Errors
    /// [`RunError`] if it is not there or damaged.
    pub fn measured(&self, number: u32) -> Result<Measured, RunError> {
        let path = self.frame_path(number);
        read_measured(&read_whole(&path)?).map_err(|source| RunError::Frame { path, source })
    }

    /// The headers of all frames that are there, by number. A file that is not
    /// a frame counts as missing.
    pub fn headers(&self) -> BTreeMap<u32, Header> {
        let entries = fs::read_dir(self.path.join("frames")).into_iter().flatten().flatten();
        entries
            .filter(|entry| entry.path().extension().is_some_and(|e| e == "brframe"))
            .filter_map(|entry| header_of(&entry.path()))
            .map(|header| (header.number, header))
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

    /// The latest state at or before `number` that was computed from what
    /// `fingerprint` gives for its frame.
    pub fn checkpoint(
        &self,
        number: u32,
        fingerprint: impl Fn(u32) -> Option<Fingerprint>,
    ) -> Option<(u32, Vec<u8>)> {
        let mut numbers = self.checkpoint_numbers();
        numbers.retain(|&at| at <= number);
        numbers.into_iter().rev().find_map(|at| {
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
    /// [`RunError::Io`].
    pub fn clear(&self) -> Result<(), RunError> {
        for folder in ["frames", "checkpoints"] {
            let path = self.path.join(folder);
            fs::remove_dir_all(&path)
                .and_then(|()| fs::create_dir_all(&path))
                .map_err(|source| RunError::Io { path, source })?;
        }
        Ok(())
    }

    /// Makes a run of the same frames at `path`. Frames are shared, not
    /// copied: a frame's file is never changed, only replaced.
    ///
    /// # Errors
    /// [`RunError::Io`].
    pub fn keep_as(&self, path: &Path) -> Result<Self, RunError> {
        let kept = Self::create(path)?;
        let entries = fs::read_dir(self.path.join("frames")).into_iter().flatten().flatten();
        for entry in entries.filter(|e| e.path().extension().is_some_and(|e| e == "brframe")) {
            let to = path.join("frames").join(entry.file_name());
            fs::hard_link(entry.path(), &to)
                .or_else(|_| fs::copy(entry.path(), &to).map(|_| ()))
                .map_err(|source| RunError::Io { path: to, source })?;
        }
        kept.write_manifest(&self.manifest()?)?;
        Ok(kept)
    }

    /// Bytes on disk: frames, and states to go on from.
    pub fn size(&self) -> (u64, u64) {
        let sum = |folder: &str| {
            let entries = fs::read_dir(self.path.join(folder)).into_iter().flatten().flatten();
            entries.filter_map(|entry| entry.metadata().ok()).map(|data| data.len()).sum()
        };
        (sum("frames"), sum("checkpoints"))
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
            track.height_m.push(bodies.places[copy].y);
            track.speed_m_s.push(bodies.velocities[copy].length());
        }
        track
    }
}

fn header_of(path: &Path) -> Option<Header> {
    let mut bytes = [0; 48];
    File::open(path).ok()?.read_exact(&mut bytes).ok()?;
    read_header(&bytes).ok()
}

fn read_whole(path: &Path) -> Result<Vec<u8>, RunError> {
    fs::read(path).map_err(|source| RunError::Io { path: path.to_owned(), source })
}

/// Writes a file under a temporary name and renames it, so that a reader sees
/// the old bytes or the new ones, whatever happens.
///
/// # Errors
/// [`RunError::Io`]; the old file is then as it was.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), RunError> {
    let temporary = path.with_extension("part");
    let write = || {
        let mut file = File::create(&temporary)?;
        file.write_all(bytes)?;
        drop(file);
        fs::rename(&temporary, path)
    };
    write().map_err(|source| {
        let _ = fs::remove_file(&temporary);
        RunError::Io { path: path.to_owned(), source }
    })
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
        assert_eq!(run.checkpoint(30, |at| Some(of(at as u8 / 10))), Some((20, b"twenty".to_vec())));
        assert_eq!(run.checkpoint(30, |_| Some(of(1))), Some((10, b"ten".to_vec())));
        assert_eq!(run.checkpoint(9, |_| Some(of(1))), None);
    }

    #[test]
    fn a_torn_frame_counts_as_missing() {
        let (_dir, run) = folder();
        run.write(&Frame::new(3, 0.0)).unwrap();
        fs::write(run.frame_path(4), b"BRFR").unwrap();
        assert_eq!(run.headers().into_keys().collect::<Vec<_>>(), [3]);
        assert!(matches!(run.read(4), Err(RunError::Frame { .. })));
    }
}
