//! Where symmetric matrices of 3 × 3 blocks over points have entries.

use glam::Mat3A;
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
        Self::of_lists(rows)
    }

    /// Of the columns of each row, in any order and perhaps more than once.
    pub fn of_lists(rows: Vec<Vec<u32>>) -> Self {
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

    /// The columns of a row.
    pub fn of(&self, row: usize) -> &[u32] {
        &self.columns[self.row(row)]
    }

    /// Where the block of a pair is.
    pub fn entry(&self, row: u32, column: u32) -> usize {
        let range = self.row(row as usize);
        let at = self.columns[range.clone()].binary_search(&column).expect("the pair has a block");
        range.start + at
    }

    /// For each entry, that of row and column exchanged.
    pub fn mirrored(&self) -> Vec<u32> {
        let pairs = (0..self.len()).flat_map(|row| self.of(row).iter().map(move |&column| (row, column)));
        pairs.map(|(row, column)| self.entry(column, row as u32) as u32).collect()
    }

    /// For each entry, its place in a list of those of the upper half, doubled, and 1 if it is in the lower half.
    pub fn halves(&self) -> Vec<u32> {
        let upper = |row: usize| self.row(row).filter(move |&entry| self.columns[entry] as usize >= row);
        let mut place = vec![0; self.columns.len()];
        (0..self.len()).flat_map(upper).zip(0..).for_each(|(entry, at)| place[entry] = 2 * at);
        for (entry, other) in self.mirrored().into_iter().enumerate() {
            place[entry] = place[entry].max(place[other as usize] | u32::from((other as usize) < entry));
        }
        place
    }

    /// Number of rows.
    pub fn len(&self) -> usize {
        self.starts.len() - 1
    }
}

/// The whole of a symmetric matrix from its upper half: `halves` are those of its rows.
pub(super) fn mirror_upper(halves: &[u32], upper: &[Mat3A], blocks: &mut [Mat3A]) {
    blocks.par_iter_mut().zip(halves).with_min_len(4 * CHUNK).for_each(|(block, &half)| {
        let of = upper[half as usize / 2];
        *block = if half % 2 == 1 { of.transpose() } else { of };
    });
}

/// Rows that a thread takes at once.
pub(super) const CHUNK: usize = 512;

/// A number times the identity.
pub(super) fn scalar(value: f32) -> Mat3A {
    Mat3A::from_diagonal(glam::Vec3::splat(value))
}
