//! A small matrix solved directly, by its Cholesky factor.

use super::blocks::scalar;
use super::matrix::Matrix;
use glam::{Mat3A, Vec3A};

/// The lower factor, row by row.
#[derive(Clone)]
pub(super) struct Dense {
    size: usize,
    factor: Vec<f64>,
}

impl Dense {
    /// Of a symmetric matrix. A row whose pivot vanishes is left out of the solution.
    pub fn new(matrix: &Matrix) -> Self {
        let size = 3 * matrix.rows.len();
        let mut factor = vec![0.0f64; size * size];
        let held = |point: usize| matrix.held.get(point).is_some_and(|held| *held);
        let mut add = |row: usize, column: u32, block: Mat3A| {
            let column = column as usize;
            if held(row) || held(column) {
                return;
            }
            for (i, value) in block.to_cols_array().into_iter().enumerate() {
                factor[(3 * row + i % 3) * size + 3 * column + i / 3] += f64::from(value);
            }
        };
        for row in 0..matrix.rows.len() {
            let blocks = &matrix.blocks[matrix.rows.row(row)];
            matrix.rows.of(row).iter().zip(blocks).for_each(|(&column, block)| add(row, column, *block));
            if let Some((rows, values)) = matrix.scalars {
                let values = &values[rows.row(row)];
                rows.of(row).iter().zip(values).for_each(|(&column, value)| add(row, column, scalar(*value)));
            }
        }
        for i in 0..size {
            let own = factor[i * size + i];
            for j in 0..=i {
                let (upper, lower) = factor.split_at_mut(i * size);
                let (row, other) =
                    if i == j { (&lower[..j], &lower[..j]) } else { (&lower[..j], &upper[j * size..][..j]) };
                let left = lower[j] - product(row, other);
                lower[j] = if i == j {
                    if left > 1e-9 * own && left > 0.0 { left.sqrt() } else { f64::INFINITY }
                } else {
                    left / upper[j * size + j]
                };
            }
        }
        Self { size, factor }
    }

    pub fn solve(&self, b: &[Vec3A], x: &mut [Vec3A]) {
        let n = self.size;
        let mut y: Vec<f64> = b.iter().flat_map(|b| b.to_array().map(f64::from)).collect();
        for i in 0..n {
            let row = &self.factor[i * n..][..i];
            y[i] = (y[i] - product(row, &y[..i])) / self.factor[i * n + i];
        }
        for i in (0..n).rev() {
            y[i] /= self.factor[i * n + i];
            let (row, own) = (&self.factor[i * n..][..i], y[i]);
            y[..i].iter_mut().zip(row).for_each(|(y, factor)| *y -= factor * own);
        }
        for (x, y) in x.iter_mut().zip(y.chunks(3)) {
            *x = Vec3A::new(y[0] as f32, y[1] as f32, y[2] as f32);
        }
    }
}

fn product(a: &[f64], b: &[f64]) -> f64 {
    let mut sums = [0.0; 4];
    for (a, b) in a.chunks(4).zip(b.chunks(4)) {
        sums.iter_mut().zip(a).zip(b).for_each(|((sum, a), b)| *sum += a * b);
    }
    sums.iter().sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deformable::blocks::Rows;
    use glam::Vec3;

    /// A chain of points with springs of different stiffness along different axes.
    fn chain(points: u32) -> (Rows, Vec<Mat3A>) {
        let rows = Rows::new(points as usize, (1..points).map(|i| [i - 1, i]));
        let mut blocks = vec![Mat3A::ZERO; rows.columns.len()];
        for i in 0..points {
            blocks[rows.entry(i, i)] += scalar(1.0);
        }
        for i in 1..points {
            let spring = Mat3A::from_diagonal(Vec3::new(1.0, 2.0, 3.0 + i as f32));
            for (a, b) in [(i, i), (i - 1, i - 1)] {
                blocks[rows.entry(a, b)] += spring;
            }
            for (a, b) in [(i, i - 1), (i - 1, i)] {
                blocks[rows.entry(a, b)] -= spring;
            }
        }
        (rows, blocks)
    }

    #[test]
    fn the_solution_times_the_matrix_is_the_right_hand_side() {
        let (rows, blocks) = chain(9);
        let matrix = Matrix { rows: &rows, blocks: &blocks, scalars: None, touches: None, held: &[] };
        let b: Vec<Vec3A> = (0..9).map(|i| Vec3A::new(1.0, i as f32, -2.0 * i as f32)).collect();
        let mut x = vec![Vec3A::ZERO; 9];
        Dense::new(&matrix).solve(&b, &mut x);
        for (row, b) in b.iter().enumerate() {
            assert!((matrix.row(row, &x, &[]) - *b).length() < 1e-4);
        }
    }

    #[test]
    fn held_points_do_not_move() {
        let (rows, blocks) = chain(5);
        let held = [true, false, false, false, true];
        let matrix = Matrix { rows: &rows, blocks: &blocks, scalars: None, touches: None, held: &held };
        let mut x = vec![Vec3A::ONE; 5];
        Dense::new(&matrix).solve(&[Vec3A::X; 5], &mut x);
        assert_eq!((x[0], x[4]), (Vec3A::ZERO, Vec3A::ZERO));
        assert!(x[2].x > 0.0);
    }
}
