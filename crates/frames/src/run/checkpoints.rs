//! The saved states of a run, from which computing goes on: a file for each system and frame.

use super::{CHECKPOINTS, RunFolder, number_of};
use crate::RunError;
use crate::files::write_by;
use shot::{SystemId, fingerprint::Fingerprint};
use std::fs;
use std::io::{self, BufWriter, Write};
use std::path::PathBuf;

const EXTENSION: &str = "brstate";

impl RunFolder {
    fn checkpoints_of(&self, system: SystemId) -> PathBuf {
        self.path.join(CHECKPOINTS).join(system.to_string())
    }

    fn checkpoint_path(&self, system: SystemId, number: u32) -> PathBuf {
        self.checkpoints_of(system).join(format!("{number:05}.{EXTENSION}"))
    }

    /// Writes a system's state that computing can go on from after `number`; `state` gives its bytes, which are packed as they come.
    ///
    /// # Errors
    /// [`RunError::Io`].
    pub fn write_checkpoint(
        &self,
        system: SystemId,
        number: u32,
        of: Fingerprint,
        state: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> Result<(), RunError> {
        let folder = self.checkpoints_of(system);
        fs::create_dir_all(&folder).map_err(|source| RunError::Io { path: folder, source })?;
        write_by(&self.checkpoint_path(system, number), |file| {
            let mut file = Summed { file: BufWriter::new(file), sum: crc32fast::Hasher::new() };
            file.write_all(&of.0)?;
            let mut packed = zstd::Encoder::new(&mut file, 1)?;
            state(&mut packed)?;
            packed.finish()?;
            let sum = file.sum.finalize();
            file.file.write_all(&sum.to_le_bytes())?;
            file.file.flush()
        })
    }

    /// The state of a system after `number`, if it was computed from what has the fingerprint.
    pub fn checkpoint(&self, system: SystemId, number: u32, of: Fingerprint) -> Option<Vec<u8>> {
        let bytes = fs::read(self.checkpoint_path(system, number)).ok()?;
        let (body, sum) = bytes.split_last_chunk::<4>()?;
        let (print, packed) = body.split_first_chunk::<16>()?;
        if *print != of.0 || crc32fast::hash(body) != u32::from_le_bytes(*sum) {
            return None;
        }
        zstd::stream::decode_all(packed).ok()
    }

    /// Numbers of the frames after which a system has a state, rising.
    pub fn checkpoint_numbers(&self, system: SystemId) -> Vec<u32> {
        let entries = fs::read_dir(self.checkpoints_of(system)).into_iter().flatten().flatten();
        let mut numbers: Vec<u32> = entries.filter_map(|entry| number_of(&entry.path(), EXTENSION)).collect();
        numbers.sort_unstable();
        numbers
    }

    /// Drops the state of a system after a frame.
    pub fn drop_checkpoint(&self, system: SystemId, number: u32) {
        // A state that stays only takes room: its fingerprint decides.
        let _ = fs::remove_file(self.checkpoint_path(system, number));
    }

    /// Drops all frames and states of the systems that are not named.
    pub fn keep_only(&self, systems: &[SystemId]) {
        for folder in [super::FRAMES, CHECKPOINTS].map(|folder| self.path.join(folder)) {
            for system in super::systems_in(&folder).iter().filter(|system| !systems.contains(system)) {
                // What stays only takes room: readers name the systems of their shot.
                let _ = fs::remove_dir_all(folder.join(system.to_string()));
            }
        }
    }
}

/// What is written, with its CRC-32.
struct Summed<W> {
    file: W,
    sum: crc32fast::Hasher,
}

impl<W: Write> Write for Summed<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.sum.update(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_state_counts_only_for_the_fingerprint_it_was_made_from() {
        let dir = tempfile::tempdir().unwrap();
        let run = RunFolder::create(dir.path()).unwrap();
        let of = |n: u8| Fingerprint([n; 16]);
        run.write_checkpoint(SystemId::Solids, 20, of(2), |out| out.write_all(b"twenty")).unwrap();
        run.write_checkpoint(SystemId::Solids, 10, of(1), |out| out.write_all(b"ten")).unwrap();
        assert_eq!(run.checkpoint_numbers(SystemId::Solids), [10, 20]);
        assert_eq!(run.checkpoint(SystemId::Solids, 10, of(1)), Some(b"ten".to_vec()));
        assert_eq!(run.checkpoint(SystemId::Solids, 20, of(1)), None);
        assert_eq!(run.checkpoint(SystemId::Solids, 30, of(1)), None);
        assert_eq!(run.checkpoint(SystemId::Particles(shot::Id(3)), 10, of(1)), None);
    }
}
