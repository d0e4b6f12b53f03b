//! The frames of a run: a file for each system and frame, or one for a whole frame.

use super::{FRAMES, RunFolder, number_of, systems_in, whole::note_whole};
use crate::codec::{self, encode_with};
use crate::files::write_whole;
use crate::table::Table;
use crate::{Frame, Header, Measured, Parts, RunError};
use shot::{SystemId, fingerprint::combined};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

const EXTENSION: &str = "brframe";

/// A file of a frame, or of a system's part of one.
pub(super) struct FrameFile {
    pub number: u32,
    pub path: PathBuf,
}

/// A file that is read.
struct OpenFile {
    system: Option<SystemId>,
    path: PathBuf,
    file: File,
    table: Table,
}

impl RunFolder {
    /// The folder of a system's frames; without a system, that of whole frames.
    fn frames_of(&self, system: Option<SystemId>) -> PathBuf {
        let frames = self.path.join(FRAMES);
        system.map_or_else(|| frames.clone(), |system| frames.join(system.to_string()))
    }

    pub(crate) fn frame_path(&self, system: Option<SystemId>, number: u32) -> PathBuf {
        self.frames_of(system).join(format!("{number:05}.{EXTENSION}"))
    }

    /// The systems of which the run has frames.
    pub fn systems(&self) -> Vec<SystemId> {
        systems_in(&self.path.join(FRAMES))
    }

    /// Writes a whole frame, in place of an older one of its number.
    ///
    /// # Errors
    /// [`RunError::Io`]; the older frame is then still there.
    pub fn write(&self, frame: &Frame) -> Result<(), RunError> {
        self.write_file(None, frame)
    }

    /// Writes a system's part of a frame, in place of an older one.
    ///
    /// # Errors
    /// [`RunError::Io`]; the older part is then still there.
    pub fn write_part(&self, system: SystemId, frame: &Frame) -> Result<(), RunError> {
        self.write_file(Some(system), frame)?;
        // A whole frame of an earlier build is superseded.
        let _ = fs::remove_file(self.frame_path(None, frame.number));
        Ok(())
    }

    fn write_file(&self, system: Option<SystemId>, frame: &Frame) -> Result<(), RunError> {
        let folder = self.frames_of(system);
        fs::create_dir_all(&folder).map_err(|source| RunError::Io { path: folder, source })?;
        // A run of an earlier build has no folder for topologies.
        if !frame.meshes.is_empty() {
            Self::create(&self.path)?;
            self.topologies().write(frame)?;
        }
        let path = self.frame_path(system, frame.number);
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
        self.read_parts(number, &self.systems(), &Parts::All, frame)
    }

    /// Reads some parts of a frame, of these systems; only their bytes are read.
    ///
    /// # Errors
    /// [`RunError`] as of [`RunFolder::read_into`].
    pub fn read_parts(
        &self,
        number: u32,
        systems: &[SystemId],
        parts: &Parts,
        frame: &mut Frame,
    ) -> Result<(), RunError> {
        let files = self.open_frame(number, systems)?;
        let topologies = self.topologies();
        let topology = |hash| topologies.get(hash).map_err(|_| codec::UNKNOWN_TOPOLOGY);
        let mut spare = codec::Spare::of(frame);
        for OpenFile { path, file, table, .. } in &files {
            codec::unpack(table, parts, frame, &mut spare, |block| table.block(file, block), topology)
                .map_err(|source| RunError::Frame { path: path.clone(), source })?;
        }
        frame.set_header(&whole_header(&files));
        Ok(())
    }

    /// Measurements of all frames that are there, by number, from the heads of their files:
    /// each head is read once. Frames with a damaged head are left out.
    pub fn measurements(&self) -> BTreeMap<u32, Measured> {
        let of = |system| {
            files_in(&self.frames_of(system)).into_iter().filter_map(|(_, path)| {
                let table = table_of(&path)?;
                Some((table.header.number, codec::measured(&table).ok()?))
            })
        };
        let mut frames: BTreeMap<u32, Measured> = BTreeMap::new();
        for (number, measured) in self.systems().into_iter().map(Some).flat_map(of) {
            frames.entry(number).or_default().add(measured);
        }
        for (number, measured) in of(None) {
            frames.entry(number).or_insert(measured);
        }
        frames
    }

    /// The files of a frame: of these systems, or where there is none, of the whole frame.
    fn open_frame(&self, number: u32, systems: &[SystemId]) -> Result<Vec<OpenFile>, RunError> {
        let mut files = Vec::new();
        for &system in systems {
            files.extend(self.open_file(Some(system), number)?);
        }
        if files.is_empty() {
            files.extend(self.open_file(None, number)?);
        }
        if files.is_empty() { Err(RunError::Missing { frame: number }) } else { Ok(files) }
    }

    fn open_file(&self, system: Option<SystemId>, number: u32) -> Result<Option<OpenFile>, RunError> {
        let path = self.frame_path(system, number);
        let file = match File::open(&path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(source) => return Err(RunError::Io { path, source }),
        };
        match Table::read(&file) {
            Ok(table) => Ok(Some(OpenFile { system, path, file, table })),
            Err(source) => Err(RunError::Frame { path, source }),
        }
    }

    /// The headers of all frames that are there, by number. A file that is not
    /// a frame, or is shorter or longer than its table says, counts as missing;
    /// its blocks are not looked at.
    pub fn headers(&self) -> BTreeMap<u32, Header> {
        let mut frames: BTreeMap<u32, Vec<(SystemId, Header)>> = BTreeMap::new();
        for system in self.systems() {
            for (number, header) in self.headers_in(Some(system)) {
                frames.entry(number).or_default().push((system, header));
            }
        }
        let mut headers = self.headers_in(None);
        headers.extend(frames.into_iter().map(|(number, parts)| (number, join(&parts))));
        headers
    }

    /// The headers of a system's part of all frames that are there, by number.
    pub fn headers_of(&self, system: SystemId) -> BTreeMap<u32, Header> {
        self.headers_in(Some(system))
    }

    fn headers_in(&self, system: Option<SystemId>) -> BTreeMap<u32, Header> {
        let files = files_in(&self.frames_of(system)).into_iter();
        files.filter_map(|(_, path)| header_of(&path)).map(|header| (header.number, header)).collect()
    }

    /// The header of a frame of these systems, if one is there.
    pub fn header_among(&self, number: u32, systems: &[SystemId]) -> Option<Header> {
        let of = |&system: &SystemId| Some((system, header_of(&self.frame_path(Some(system), number))?));
        let parts: Vec<(SystemId, Header)> = systems.iter().filter_map(of).collect();
        if parts.is_empty() { header_of(&self.frame_path(None, number)) } else { Some(join(&parts)) }
    }

    /// The header of a frame, if that is there.
    pub fn header(&self, number: u32) -> Option<Header> {
        self.header_among(number, &self.systems())
    }

    /// All frame files, whole or not.
    pub(super) fn frame_files(&self) -> Vec<FrameFile> {
        let of_systems = self.systems().into_iter().map(Some);
        let file = |system| {
            let files = files_in(&self.frames_of(system)).into_iter();
            files.map(|(number, path)| FrameFile { number, path })
        };
        std::iter::once(None).chain(of_systems).flat_map(file).collect()
    }

    /// Drops a system's part of a frame.
    pub fn drop_part(&self, system: SystemId, number: u32) {
        // A part that stays is found stale.
        let _ = fs::remove_file(self.frame_path(Some(system), number));
    }
}

/// The frame files of a folder, with their numbers.
fn files_in(folder: &Path) -> Vec<(u32, PathBuf)> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    entries.filter_map(|entry| Some((number_of(&entry.path(), EXTENSION)?, entry.path()))).collect()
}

/// The header of a frame's file, if its head is whole and its length as that says.
fn header_of(path: &Path) -> Option<Header> {
    table_of(path).map(|table| table.header)
}

/// The head of a frame's file.
fn table_of(path: &Path) -> Option<Table> {
    Table::read(&File::open(path).ok()?).ok()
}

fn whole_header(files: &[OpenFile]) -> Header {
    let of = |file: &OpenFile| Some((file.system?, file.table.header));
    let parts: Vec<(SystemId, Header)> = files.iter().filter_map(of).collect();
    if parts.is_empty() { files[0].table.header } else { join(&parts) }
}

/// The header of a frame from those of its parts, of which there is at least one.
fn join(parts: &[(SystemId, Header)]) -> Header {
    Header {
        fingerprint: combined(parts.iter().map(|(system, header)| (*system, header.fingerprint))),
        revision: parts.iter().map(|(_, header)| header.revision).max().unwrap_or(0),
        ..parts[0].1
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Bodies, Frames, Particles, RunFrames, Turnover};
    use glam::{Quat, Vec3};
    use shot::{Id, fingerprint::Fingerprint};

    const SPARKS: SystemId = SystemId::Particles(Id(7));

    fn solids(number: u32) -> Frame {
        let mut bodies = Bodies::default();
        bodies.push(Vec3::splat(number as f32), Quat::IDENTITY, Vec3::X, Vec3::ZERO);
        let mut frame = Frame::new(number, 0.5);
        frame.bodies.insert(Id(3), bodies);
        frame.measured.contacts = 2;
        (frame.fingerprint, frame.revision) = (Fingerprint([1; 16]), 4);
        frame
    }

    fn sparks(number: u32) -> Frame {
        let mut frame = Frame::new(number, 0.5);
        frame.particles.insert(Id(7), Particles::default());
        frame.measured.turnover.insert(Id(7), Turnover { alive: 0, born: 2, gone: 2 });
        (frame.fingerprint, frame.revision) = (Fingerprint([2; 16]), 9);
        frame
    }

    fn run() -> (tempfile::TempDir, RunFolder) {
        let dir = tempfile::tempdir().unwrap();
        let run = RunFolder::create(dir.path().join("run")).unwrap();
        (dir, run)
    }

    #[test]
    fn a_frame_is_read_from_the_parts_of_its_systems() {
        let (_dir, run) = run();
        run.write_part(SystemId::Solids, &solids(1)).unwrap();
        let alone = run.header(1).unwrap().fingerprint;
        run.write_part(SPARKS, &sparks(1)).unwrap();
        assert_eq!(run.systems(), [SystemId::Solids, SPARKS]);
        let frame = run.read(1).unwrap();
        assert_eq!((frame.bodies.len(), frame.particles.len(), frame.revision), (1, 1, 9));
        assert_eq!((frame.measured.contacts, frame.measured.turnover.len()), (2, 1));
        assert_eq!(run.measurements(), BTreeMap::from([(1, frame.measured.clone())]));
        assert_eq!(frame.fingerprint, run.headers()[&1].fingerprint);
        assert_ne!(frame.fingerprint, alone);
        // Who names the systems reads no others.
        let mut part = Frame::default();
        run.read_parts(1, &[SystemId::Solids], &Parts::All, &mut part).unwrap();
        assert_eq!((part.particles.len(), part.fingerprint), (0, alone));
        run.drop_part(SPARKS, 1);
        assert_eq!(run.header(1).unwrap().fingerprint, alone);
    }

    #[test]
    fn a_whole_frame_counts_where_no_system_has_one() {
        let (_dir, run) = run();
        let mut whole = solids(1);
        whole.add(sparks(1));
        for number in [2, 1] {
            whole.number = number;
            run.write(&whole).unwrap();
        }
        assert_eq!(run.read(1).unwrap(), whole);
        run.write_part(SystemId::Solids, &solids(1)).unwrap();
        assert!(run.read(1).unwrap().particles.is_empty(), "the whole frame is superseded");
        let of = RunFrames::new(run.clone(), 1..=2);
        assert_eq!(of.fingerprint(2), Some(whole.fingerprint));
        assert_eq!(of.frame(2).unwrap().particles.len(), 1);
        assert_eq!(run.headers().into_keys().collect::<Vec<_>>(), [1, 2]);
    }

    #[test]
    fn a_kept_run_has_the_parts_of_all_systems_and_shares_them() {
        let (dir, run) = run();
        run.write_manifest(&super::super::Manifest::new(shot::Shot::empty("S"), vec![])).unwrap();
        run.write_part(SystemId::Solids, &solids(1)).unwrap();
        run.write_part(SPARKS, &sparks(1)).unwrap();
        run.write_checkpoint(SPARKS, 1, Fingerprint([2; 16]), |out| out.write_all(b"state")).unwrap();
        let kept = run.keep_as(&dir.path().join("kept")).unwrap();
        assert_eq!(kept.read(1).unwrap(), run.read(1).unwrap());
        assert_eq!((kept.size().0, kept.size().1), (run.size().0, 0));
        // A system that the shot has lost goes with its frames and states.
        run.keep_only(&[SystemId::Solids]);
        assert_eq!((run.systems(), run.size().1), (vec![SystemId::Solids], 0));
        assert_eq!(kept.systems().len(), 2);
    }

    #[test]
    fn a_damaged_part_is_found_and_the_others_stay() {
        let (_dir, run) = run();
        run.write_part(SystemId::Solids, &solids(1)).unwrap();
        run.write_part(SPARKS, &sparks(1)).unwrap();
        let path = run.frame_path(Some(SPARKS), 1);
        let mut bytes = fs::read(&path).unwrap();
        *bytes.last_mut().unwrap() ^= 1;
        fs::write(&path, bytes).unwrap();
        assert!(matches!(run.read(1), Err(RunError::Frame { path: of, .. }) if of == path));
        assert_eq!(run.drop_damaged(1..=1), 1);
        assert_eq!((run.headers_of(SPARKS).len(), run.headers_of(SystemId::Solids).len()), (0, 1));
    }

    #[test]
    fn a_run_takes_the_frames_of_another_in_place_of_its_own() {
        let (dir, run) = run();
        let manifest = |name: &str| super::super::Manifest::new(shot::Shot::empty(name), vec![]);
        run.write_manifest(&manifest("Old")).unwrap();
        run.write_part(SystemId::Solids, &solids(1)).unwrap();
        run.write_checkpoint(SPARKS, 1, Fingerprint([2; 16]), |out| out.write_all(b"state")).unwrap();
        run.finished().write(&solids(1)).unwrap();
        let other = RunFolder::create(dir.path().join("other")).unwrap();
        other.write_manifest(&manifest("New")).unwrap();
        other.write_part(SystemId::Solids, &solids(2)).unwrap();
        other.write_part(SPARKS, &sparks(3)).unwrap();
        let (frames, path) =
            ((2..=3).map(|n| other.read(n).unwrap()).collect::<Vec<_>>(), other.path().to_owned());
        run.replace_with(other).unwrap();
        assert_eq!(run.headers().into_keys().collect::<Vec<_>>(), [2, 3]);
        assert_eq!((2..=3).map(|n| run.read(n).unwrap()).collect::<Vec<_>>(), frames);
        assert_eq!((run.manifest().unwrap().shot.name.as_str(), run.size().1), ("New", 0));
        assert!(!path.exists() && run.finished().headers().is_empty());
        // While a bake writes to it, nothing is taken.
        let other = RunFolder::create(dir.path().join("third")).unwrap();
        other.write_manifest(&manifest("Third")).unwrap();
        let _lock = run.lock().unwrap();
        assert!(matches!(run.replace_with(other), Err(RunError::InUse { .. })));
        assert_eq!(run.headers().len(), 2);
    }

    #[test]
    fn a_frame_is_parted_by_elements() {
        let mut frame = solids(1);
        frame.particles = sparks(1).particles;
        frame.measured.contacts = 3;
        frame.measured.turnover.insert(Id(7), Turnover { alive: 1, born: 1, gone: 0 });
        let bodies: Vec<Id> = frame.bodies.keys().copied().collect();
        let part = frame.part_of(&bodies);
        assert_eq!((part.bodies.len(), part.particles.len(), part.measured.contacts), (1, 0, 3));
        assert!(part.measured.turnover.is_empty());
        let part = frame.part_of(&[Id(7)]);
        assert_eq!((part.bodies.len(), part.particles.len(), part.measured.contacts), (0, 1, 0));
        assert_eq!((part.measured.turnover.len(), part.fingerprint), (1, frame.fingerprint));
    }
}
