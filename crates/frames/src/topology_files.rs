//! The topologies of a run: a file each, named by its hash, which the meshes of
//! many frames share.

use crate::files::write_whole;
use crate::table::{Block, Codec, ReadAt, Table};
use crate::{DecodeError, Frame, RunError, codec, meshes, topologies};
use geometry::Topology;
use shot::fingerprint::Fingerprint;
use std::collections::HashSet;
use std::fs::{self, File};
use std::io;
use std::path::PathBuf;
use std::sync::Arc;

/// Name of the folder.
pub(crate) const FOLDER: &str = "topologies";

const EXTENSION: &str = "brtopology";

/// The topologies of one run.
#[derive(Clone, Debug)]
pub(crate) struct TopologyFolder(PathBuf);

impl TopologyFolder {
    pub fn at(path: PathBuf) -> Self {
        Self(path)
    }

    fn file(&self, hash: Fingerprint) -> PathBuf {
        self.0.join(format!("{hash}.{EXTENSION}"))
    }

    /// All files.
    pub fn files(&self) -> Vec<PathBuf> {
        let entries = fs::read_dir(&self.0).into_iter().flatten().flatten();
        let paths = entries.map(|entry| entry.path());
        paths.filter(|path| path.extension().is_some_and(|extension| extension == EXTENSION)).collect()
    }

    /// Writes the topologies of a frame's meshes that are not there yet.
    pub fn write(&self, frame: &Frame) -> Result<(), RunError> {
        for mesh in frame.meshes.values() {
            let path = self.file(mesh.topology.hash());
            if !path.exists() {
                write_whole(&path, &topologies::encode(&mesh.topology))?;
            }
        }
        Ok(())
    }

    /// A topology, from its file unless it is in use.
    pub fn get(&self, hash: Fingerprint) -> Result<Arc<Topology>, RunError> {
        topologies::shared(hash, || self.load(hash))
    }

    fn load(&self, hash: Fingerprint) -> Result<Arc<Topology>, RunError> {
        let path = self.file(hash);
        let fault = |source| RunError::Frame { path: path.clone(), source };
        let bytes = fs::read(&path).map_err(|source| match source.kind() {
            io::ErrorKind::NotFound => fault(codec::UNKNOWN_TOPOLOGY),
            _ => RunError::Io { path: path.clone(), source },
        })?;
        let topology = topologies::decode(&bytes).map_err(fault)?;
        if topology.hash() == hash { Ok(Arc::new(topology)) } else { Err(fault(DecodeError::Damaged)) }
    }

    /// Whether the topologies of a frame's meshes are there and whole. A damaged
    /// one is removed, so that it is written anew.
    pub fn has_those_of(&self, table: &Table, file: &impl ReadAt) -> bool {
        hashes(table, file).all(|hash| {
            hash.is_ok_and(|hash| {
                let whole = self.load(hash).is_ok();
                if !whole {
                    let _ = fs::remove_file(self.file(hash));
                }
                whole
            })
        })
    }

    /// Removes the topologies that none of these frame files has any more.
    pub fn drop_unused(&self, frames: impl Iterator<Item = PathBuf>) {
        let entries: Vec<_> = fs::read_dir(&self.0).into_iter().flatten().flatten().collect();
        if entries.is_empty() {
            return;
        }
        let mut used = HashSet::new();
        for path in frames {
            let Ok(file) = File::open(path) else { continue };
            let Ok(table) = Table::read(&file) else { continue };
            used.extend(hashes(&table, &file).flatten().map(|hash| self.file(hash)));
        }
        for entry in entries.iter().filter(|entry| !used.contains(&entry.path())) {
            let _ = fs::remove_file(entry.path());
        }
    }
}

/// The hashes of the topologies that a frame's meshes have.
fn hashes<'a>(
    table: &'a Table,
    file: &'a impl ReadAt,
) -> impl Iterator<Item = Result<Fingerprint, DecodeError>> + 'a {
    let meshes = table.blocks.iter().filter(|block: &&Block| block.codec == Codec::Mesh);
    meshes.map(|block| Ok(Fingerprint(table.start::<{ meshes::HASH }>(file, block)?)))
}

#[cfg(test)]
mod tests {
    use crate::{Frame, MeshState, RunFolder};
    use geometry::{Topology, primitive};
    use glam::Vec3;
    use shot::{Id, Shot};
    use std::fs;
    use std::sync::Arc;

    fn frame(number: u32, around: usize) -> Frame {
        let mesh = primitive::torus(1.0, 0.3, around);
        let velocities = vec![Vec3::Y; mesh.positions.len()];
        let topology = Arc::new(Topology::of(&mesh));
        let state = MeshState { topology, positions: mesh.positions, velocities, attributes: Vec::new() };
        let mut frame = Frame::new(number, 0.0);
        frame.meshes.insert(Id(5), state);
        frame
    }

    fn run() -> (tempfile::TempDir, RunFolder) {
        let dir = tempfile::tempdir().unwrap();
        let run = RunFolder::create(dir.path().join("run")).unwrap();
        let shot = Shot::empty("S");
        run.write_manifest(&crate::Manifest::new(shot, vec![])).unwrap();
        (dir, run)
    }

    fn topologies(run: &RunFolder) -> Vec<std::path::PathBuf> {
        let entries = fs::read_dir(run.path().join(super::FOLDER)).into_iter().flatten().flatten();
        entries.map(|entry| entry.path()).collect()
    }

    #[test]
    fn frames_of_one_topology_share_its_file_and_a_kept_run_has_it() {
        let (dir, run) = run();
        for number in 1..=3 {
            run.write(&frame(number, 16)).unwrap();
        }
        assert_eq!(topologies(&run).len(), 1);
        let kept = run.keep_as(&dir.path().join("kept")).unwrap();
        run.clear().unwrap();
        assert!(topologies(&run).is_empty());
        let back = kept.read(2).unwrap();
        assert_eq!(back.meshes[&Id(5)].topology, frame(2, 16).meshes[&Id(5)].topology);
    }

    #[test]
    fn topologies_that_no_frame_has_are_dropped_when_the_next_bake_begins() {
        let (_dir, run) = run();
        run.write(&frame(1, 16)).unwrap();
        run.write(&frame(1, 20)).unwrap();
        assert_eq!(topologies(&run).len(), 2);
        drop(run.lock().unwrap());
        assert_eq!(topologies(&run).len(), 1);
        assert!(run.read(1).is_ok());
    }

    #[test]
    fn a_frame_without_its_topology_is_found_and_dropped_with_it() {
        let (_dir, run) = run();
        // A topology that no other test has in use.
        run.write(&frame(1, 28)).unwrap();
        let path = topologies(&run).pop().unwrap();
        let mut bytes = fs::read(&path).unwrap();
        bytes[40] ^= 1;
        fs::write(&path, bytes).unwrap();
        assert!(run.drop_if_damaged(&run.frame_path(None, 1)));
        assert!(topologies(&run).is_empty());
        assert!(run.header(1).is_none());
        run.write(&frame(1, 28)).unwrap();
        assert!(run.read(1).is_ok());
    }
}
