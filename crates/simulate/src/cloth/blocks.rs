//! A symmetric matrix of 3 × 3 blocks over the points of a sheet, and its product with a vector.

use glam::{Mat3, Vec3};
use rayon::prelude::*;

/// Where the blocks are: row by row, the columns ascending, the diagonal among them.
#[derive(Clone, Debug, Default)]
pub(super) struct Rows {
    pub starts: Vec<u32>,
    pub columns: Vec<u32>,
}

impl Rows {
    /// Of the pairs that have a block, each given once in any order; every diagonal is there.
    pub fn new(points: usize, pairs: impl Iterator<Item = [u32; 2]>) -> Self {
        let mut rows: Vec<Vec<u32>> = (0..points as u32).map(|i| vec![i]).collect();
        for [a, b] in pairs {
            rows[a as usize].push(b);
            rows[b as usize].push(a);
        }
        let (mut starts, mut columns) = (vec![0], Vec::new());
        for mut row in rows {
            row.sort_unstable();
            row.dedup();
            columns.extend(row);
            starts.push(columns.len() as u32);
        }
        Self { starts, columns }
    }

    /// The entries of a row.
    #[inline]
    pub fn row(&self, row: usize) -> std::ops::Range<usize> {
        self.starts[row] as usize..self.starts[row + 1] as usize
    }

    /// Where the block of a pair is.
    pub fn entry(&self, row: u32, column: u32) -> usize {
        let range = self.row(row as usize);
        let at = self.columns[range.clone()].binary_search(&column).expect("the pair has a block");
        range.start + at
    }

    /// Whether a pair has a block.
    pub fn has(&self, row: u32, column: u32) -> bool {
        self.columns[self.row(row as usize)].binary_search(&column).is_ok()
    }

    /// Number of rows.
    pub fn len(&self) -> usize {
        self.starts.len() - 1
    }
}

/// Rows that a thread takes at once.
pub(super) const CHUNK: usize = 1_024;

/// Adds blocks times `x` to `out`: one sum a row, whatever the number of threads.
pub(super) fn multiply(rows: &Rows, blocks: &[Mat3], x: &[Vec3], out: &mut [Vec3]) {
    out.par_chunks_mut(CHUNK).enumerate().for_each(|(chunk, out)| {
        for (i, out) in out.iter_mut().enumerate() {
            let range = rows.row(chunk * CHUNK + i);
            let each = rows.columns[range.clone()].iter().zip(&blocks[range]);
            *out = each.fold(*out, |sum, (&column, block)| sum + *block * x[column as usize]);
        }
    });
}

/// Adds numbers times `x` to `out`, as [`multiply`].
pub(super) fn multiply_scalars(rows: &Rows, values: &[f32], x: &[Vec3], out: &mut [Vec3]) {
    out.par_chunks_mut(CHUNK).enumerate().for_each(|(chunk, out)| {
        for (i, out) in out.iter_mut().enumerate() {
            let range = rows.row(chunk * CHUNK + i);
            let each = rows.columns[range.clone()].iter().zip(&values[range]);
            *out = each.fold(*out, |sum, (&column, value)| sum + *value * x[column as usize]);
        }
    });
}
