//! Run folders of an earlier layout.

use crate::codec::from_earlier;
use crate::files::{link_or_copy, write_whole};
use crate::{RunError, RunFolder};
use std::collections::HashMap;
use std::fs::{self, File};
use std::io::Read;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;

/// Writes the frame files of an earlier layout in these folders anew, in the
/// present one. Nothing is lost: blocks are taken over as they are, a file that
/// is damaged stays as it is, and one that several runs share stays shared.
/// `progress` is told files done and all; it may be killed and begun again.
///
/// # Errors
/// [`RunError::Io`]; the file at hand is then as it was.
pub fn upgrade(runs: &[RunFolder], progress: &mut dyn FnMut(usize, usize)) -> Result<(), RunError> {
    let earlier: Vec<PathBuf> = runs.iter().flat_map(earlier_files).collect();
    // By the file that was: where it is now.
    let mut written: HashMap<(u64, u64), PathBuf> = HashMap::new();
    for (done, path) in earlier.iter().enumerate() {
        let io = |source| RunError::Io { path: path.clone(), source };
        let data = path.metadata().map_err(io)?;
        let file = (data.dev(), data.ino());
        if let Some(shared) = written.get(&file) {
            let beside = path.with_extension("part");
            // A leftover of an upgrade that was killed.
            let _ = fs::remove_file(&beside);
            link_or_copy(shared, &beside).and_then(|()| fs::rename(&beside, path)).map_err(io)?;
        } else if let Some(bytes) = from_earlier(&fs::read(path).map_err(io)?) {
            write_whole(path, &bytes)?;
            written.insert(file, path.clone());
        }
        progress(done + 1, earlier.len());
    }
    Ok(())
}

/// The frame files of a run that begin as those of the earlier layout do.
fn earlier_files(run: &RunFolder) -> Vec<PathBuf> {
    let entries = fs::read_dir(run.path().join("frames")).into_iter().flatten().flatten();
    let mut paths: Vec<PathBuf> = entries.map(|entry| entry.path()).collect();
    paths.retain(|path| {
        let mut magic = [0; 8];
        let read = File::open(path).and_then(|mut file| file.read_exact(&mut magic));
        read.is_ok() && &magic == b"BRFRAME1"
    });
    paths.sort();
    paths
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::earlier;
    use crate::{Bodies, Frame};
    use glam::{Quat, Vec3};
    use shot::Id;

    fn frame(number: u32) -> Frame {
        let mut frame = Frame::new(number, 0.0);
        let mut bodies = Bodies::default();
        bodies.push(Vec3::splat(number as f32), Quat::IDENTITY, Vec3::X, Vec3::Y);
        frame.bodies.insert(Id(3), bodies);
        frame
    }

    #[test]
    fn runs_of_the_earlier_layout_are_written_anew_and_stay_shared() {
        let dir = tempfile::tempdir().unwrap();
        let runs = ["a", "b"].map(|name| RunFolder::create(dir.path().join(name)).unwrap());
        let path = |run: usize, number: u32| runs[run].path().join(format!("frames/{number:05}.brframe"));
        for number in 1..=3 {
            fs::write(path(0, number), earlier(&frame(number))).unwrap();
        }
        // A kept run shares two of them; one is damaged.
        for number in 1..=2 {
            fs::hard_link(path(0, number), path(1, number)).unwrap();
        }
        let mut damaged = earlier(&frame(4));
        damaged[100] ^= 1;
        fs::write(path(1, 4), &damaged).unwrap();
        assert!(runs[0].read(1).is_err());
        let mut told = Vec::new();
        upgrade(&runs, &mut |done, all| told.push((done, all))).unwrap();
        assert_eq!((told.len(), told.last()), (6, Some(&(6, 6))));
        for (run, number) in [(0, 1), (0, 2), (0, 3), (1, 1), (1, 2)] {
            assert_eq!(runs[run].read(number).unwrap(), frame(number));
        }
        assert_eq!(path(0, 2).metadata().unwrap().ino(), path(1, 2).metadata().unwrap().ino());
        // What cannot be read is left, and counts as missing.
        assert_eq!(fs::read(path(1, 4)).unwrap(), damaged);
        assert_eq!(runs[1].headers().into_keys().collect::<Vec<_>>(), [1, 2]);
        // A second time there is nothing left to do.
        told.clear();
        upgrade(&runs[..1], &mut |done, all| told.push((done, all))).unwrap();
        assert!(told.is_empty());
    }
}
