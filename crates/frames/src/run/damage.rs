//! Frame files that are damaged.

use super::whole::{known_whole, note_whole};
use super::{RunFolder, frame_files::FrameFile};
use crate::table::Table;
use rayon::prelude::*;
use std::fs::{self, File};
use std::ops::RangeInclusive;
use std::path::Path;

impl RunFolder {
    /// Removes a frame's file if that is damaged, so that the frame counts as
    /// missing and is computed again.
    pub(crate) fn drop_if_damaged(&self, path: &Path) -> bool {
        let Ok(file) = File::open(path) else { return false };
        let whole =
            |table: &Table| table.check(&file).is_ok() && self.topologies().has_those_of(table, &file);
        let damaged = !Table::read(&file).is_ok_and(|table| whole(&table));
        damaged && fs::remove_file(path).is_ok()
    }

    /// Removes the files of a range of frames that are damaged, and tells how many.
    /// Files that were found whole before, and have not been written to since, are not read again.
    pub fn drop_damaged(&self, frames: RangeInclusive<u32>) -> usize {
        let files: Vec<_> =
            self.frame_files().into_iter().filter(|file| frames.contains(&file.number)).collect();
        let damaged = |file: &&FrameFile| {
            let path = &file.path;
            let Ok(data) = path.metadata() else { return false };
            if known_whole(path, &data) {
                return false;
            }
            if self.drop_if_damaged(path) {
                return true;
            }
            note_whole(path, &data);
            false
        };
        files.par_iter().filter(damaged).count()
    }
}
