//! A run that is put aside: its frames are shared with the run that goes on.

use super::{FRAMES, Manifest, RunFolder};
use crate::RunError;
use crate::files::{link_or_copy, sync_folder, temporary};
use std::collections::BTreeSet;
use std::path::Path;
use std::{fs, io};

impl RunFolder {
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
            let frames = self.frame_files().into_iter().map(|file| file.path);
            let mut folders = BTreeSet::new();
            for from in frames.chain(self.topologies().files()) {
                let to = aside.join(from.strip_prefix(&self.path).expect("it is of the run"));
                let folder = to.parent().expect("a file is in a folder").to_owned();
                fs::create_dir_all(&folder).map_err(io_error(&folder))?;
                folders.insert(folder);
                match link_or_copy(&from, &to) {
                    // The run was cleared meanwhile.
                    Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                    linked => linked.map_err(io_error(&to))?,
                }
            }
            let mut manifest = self.manifest()?;
            change(&mut manifest);
            kept.write_manifest(&manifest)?;
            folders.extend([aside.join(FRAMES), aside.clone()]);
            for folder in folders {
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

    /// Takes the frames of another run in place of its own, and removes the other run. A process
    /// that ends meanwhile leaves a run with fewer frames.
    ///
    /// # Errors
    /// [`RunError::InUse`] while a bake writes to it; [`RunError::Io`].
    pub fn replace_with(&self, other: Self) -> Result<(), RunError> {
        let manifest = other.manifest()?;
        self.clear()?;
        let _lock = self.lock()?;
        let mut folders = BTreeSet::new();
        // A frame's topologies are there before it.
        let frames = other.frame_files().into_iter().map(|file| file.path);
        for from in other.topologies().files().into_iter().chain(frames) {
            let to = self.path.join(from.strip_prefix(&other.path).expect("it is of the run"));
            let folder = to.parent().expect("a file is in a folder").to_owned();
            let moved = fs::create_dir_all(&folder).and_then(|()| fs::rename(&from, &to));
            moved.map_err(|source| RunError::Io { path: to, source })?;
            folders.insert(folder);
        }
        for path in folders {
            sync_folder(&path).map_err(|source| RunError::Io { path: path.clone(), source })?;
        }
        self.write_manifest(&manifest)?;
        other.remove()
    }
}
