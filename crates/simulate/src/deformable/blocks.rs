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
    /// Of the pairs that have a block, each given once or more in any order; every diagonal is there.
    pub fn new(points: usize, pairs: impl Iterator<Item = [u32; 2]> + Clone) -> Self {
        let both = pairs.flat_map(|[a, b]| [(a, b), (b, a)]);
        Self::grouped(points, (0..points as u32).map(|i| (i, i)).chain(both)).sorted()
    }

    /// Of columns, each with its row, in the order in which they come.
    pub fn grouped(rows: usize, entries: impl Iterator<Item = (u32, u32)> + Clone) -> Self {
        let mut starts = vec![0u32; rows + 1];
        entries.clone().for_each(|(row, _)| starts[row as usize + 1] += 1);
        for row in 0..rows {
            starts[row + 1] += starts[row];
        }
        let (mut next, mut columns) = (starts.clone(), vec![0; starts[rows] as usize]);
        for (row, column) in entries {
            let at = &mut next[row as usize];
            columns[*at as usize] = column;
            *at += 1;
        }
        Self { starts, columns }
    }

    /// Of the columns of each row, in any order and perhaps more than once.
    pub fn of_lists(rows: &[Vec<u32>]) -> Self {
        let columns = rows.concat();
        Self { starts: starts(rows.iter().map(Vec::len)), columns }.sorted()
    }

    /// The same with the columns ascending, each once.
    fn sorted(mut self) -> Self {
        let mut rows: Vec<&mut [u32]> = Vec::with_capacity(self.len());
        let mut rest = self.columns.as_mut_slice();
        for row in self.starts.windows(2) {
            let (own, after) = rest.split_at_mut((row[1] - row[0]) as usize);
            rows.push(own);
            rest = after;
        }
        let chunks = rows.par_chunks_mut(CHUNK).map(|rows| {
            let (mut counts, mut columns) = (Vec::with_capacity(rows.len()), Vec::new());
            for row in rows {
                row.sort_unstable();
                let before = columns.len();
                columns.extend(row.chunk_by(|a, b| a == b).map(|same| same[0]));
                counts.push(columns.len() - before);
            }
            (counts, columns)
        });
        let (counts, columns): (Vec<Vec<usize>>, Vec<Vec<u32>>) = chunks.unzip();
        Self { starts: starts(counts.into_iter().flatten()), columns: columns.concat() }
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
        // Rows ascend, so that each meets the columns of any other in their order.
        let mut next = self.starts.clone();
        let mirror = |column: &u32| {
            let at = &mut next[*column as usize];
            *at += 1;
            *at - 1
        };
        self.columns.iter().map(mirror).collect()
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

/// Where each row starts, from their numbers of entries.
pub(super) fn starts(counts: impl Iterator<Item = usize>) -> Vec<u32> {
    let mut sum = 0;
    let ends = counts.map(|count| {
        sum += count as u32;
        sum
    });
    std::iter::once(0).chain(ends).collect()
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_ascend_whatever_the_order_of_pairs_and_entries_are_mirrored() {
        let rows = Rows::new(5, [[3, 1], [0, 3], [1, 3], [4, 0], [2, 4]].into_iter());
        let lists: Vec<&[u32]> = (0..5).map(|row| rows.of(row)).collect();
        assert_eq!(lists, [&[0, 3, 4][..], &[1, 3], &[2, 4], &[0, 1, 3], &[0, 2, 4]]);
        for row in 0..5 {
            for entry in rows.row(row) {
                let column = rows.columns[entry];
                assert_eq!(rows.mirrored()[entry] as usize, rows.entry(column, row as u32));
            }
        }
        let again = Rows::of_lists(&[vec![3, 0, 4, 3], vec![], vec![1]]);
        assert_eq!((again.of(0), again.of(1), again.of(2)), (&[0, 3, 4][..], &[][..], &[1][..]));
        let grouped = Rows::grouped(3, [(2, 7), (0, 9), (2, 5)].into_iter());
        assert_eq!((grouped.of(0), grouped.of(1), grouped.of(2)), (&[9][..], &[][..], &[7, 5][..]));
    }
}
