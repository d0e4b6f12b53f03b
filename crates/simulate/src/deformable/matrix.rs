//! The matrix of the linear system: its product with a vector, row by row.

use super::active_contacts::ActiveContacts;
use super::blocks::{Rows, scalar};
use glam::{Mat3A, Vec3A};

/// A symmetric matrix: blocks, and numbers that stand for themselves times the identity.
#[derive(Clone, Copy)]
pub(super) struct Matrix<'a> {
    pub rows: &'a Rows,
    pub blocks: &'a [Mat3A],
    /// Numbers at rows of their own.
    pub scalars: Option<(&'a Rows, &'a [f32])>,
    /// Springs between points that have no blocks.
    pub touches: Option<&'a ActiveContacts>,
    /// Points whose rows are 0; may be empty.
    pub held: &'a [bool],
}

impl Matrix<'_> {
    /// Prepares the product with `x`: the forces of the springs.
    pub fn prepare(&self, x: &[Vec3A], forces: &mut Vec<Vec3A>) {
        if let Some(touches) = self.touches {
            touches.multiply(x, forces);
        }
    }

    /// A row of the product with `x`, for which `forces` are prepared.
    #[inline]
    pub fn row(&self, row: usize, x: &[Vec3A], forces: &[Vec3A]) -> Vec3A {
        if self.held.get(row).is_some_and(|held| *held) {
            return Vec3A::ZERO;
        }
        let mut sums = [Vec3A::ZERO; 2];
        if let Some(touches) = self.touches {
            sums[0] = touches.sum(row, forces);
        }
        let range = self.rows.row(row);
        let (columns, blocks) = (&self.rows.columns[range.clone()], &self.blocks[range]);
        let mut pairs = columns.chunks_exact(2).zip(blocks.chunks_exact(2));
        for (columns, blocks) in &mut pairs {
            for k in 0..2 {
                sums[k] += blocks[k] * x[columns[k] as usize];
            }
        }
        if columns.len() % 2 == 1 {
            sums[0] += blocks[columns.len() - 1] * x[columns[columns.len() - 1] as usize];
        }
        let Some((rows, values)) = self.scalars else { return sums[0] + sums[1] };
        let range = rows.row(row);
        let (columns, values) = (&rows.columns[range.clone()], &values[range]);
        let pairs = columns.chunks_exact(2).zip(values.chunks_exact(2));
        for (columns, values) in pairs {
            for k in 0..2 {
                sums[k] += x[columns[k] as usize] * values[k];
            }
        }
        if columns.len() % 2 == 1 {
            sums[0] += x[columns[columns.len() - 1] as usize] * values[columns.len() - 1];
        }
        sums[0] + sums[1]
    }

    /// The block of a row on the diagonal, with the numbers.
    pub fn diagonal(&self, row: usize) -> Mat3A {
        let own = row as u32;
        let springs = self.touches.map_or(Mat3A::ZERO, |touches| touches.diagonal(row));
        let block = self.blocks[self.rows.entry(own, own)] + springs;
        match self.scalars {
            Some((rows, values)) => block + scalar(values[rows.entry(own, own)]),
            None => block,
        }
    }
}
