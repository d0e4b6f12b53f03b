//! Multigrid: the preconditioner of the linear system of a mesh.
//!
//! One V-cycle over the levels (`levels.rs`) is the preconditioner. Its smoother is the Chebyshev polynomial of the fourth
//! kind (J. Lottes, *Optimal polynomial smoothers for multigrid V-cycles*, 2022), which needs products only and is the same
//! for any number of threads.

use super::blocks::CHUNK;
use super::dense::Dense;
use super::levels::Levels;
use super::matrix::Matrix;
use glam::{Mat3A, Vec3A};
use rayon::prelude::*;

/// The most that can be solved directly.
const MOST_DIRECT: usize = 256;
/// Order of the smoother.
const ORDER: u32 = 1;
/// Its order on the last level, where that is too large to be solved directly.
const LAST_ORDER: u32 = 12;

/// The vectors of a level.
#[derive(Clone, Default)]
struct Vectors {
    /// The right-hand side, then the residual.
    residual: Vec<Vec3A>,
    x: Vec<Vec3A>,
    step: Vec<Vec3A>,
    next: Vec<Vec3A>,
    /// Forces of springs, in a product.
    forces: Vec<Vec3A>,
    /// Inverses of the blocks on the diagonal.
    inverse: Vec<Mat3A>,
    /// The greatest eigenvalue of the matrix, scaled by those.
    max_eigenvalue: f32,
}

impl Vectors {
    fn resize(&mut self, n: usize) {
        for list in [&mut self.residual, &mut self.x, &mut self.step, &mut self.next] {
            list.resize(n, Vec3A::ZERO);
        }
        self.inverse.resize(n, Mat3A::ZERO);
    }

    fn invert_diagonal(&mut self, matrix: &Matrix) {
        self.resize(matrix.rows.len());
        self.inverse.par_iter_mut().enumerate().with_min_len(CHUNK).for_each(|(row, inverse)| {
            let held = matrix.held.get(row).is_some_and(|held| *held);
            let block = if held { Mat3A::ZERO } else { matrix.diagonal(row) };
            let made = block.inverse();
            *inverse = if made.is_finite() { made } else { Mat3A::ZERO };
        });
    }

    /// Estimates the greatest eigenvalue by the power method.
    fn estimate_max_eigenvalue(&mut self, matrix: &Matrix) {
        const ROUNDS: u32 = 8;
        const MARGIN: f32 = 1.15;
        let number = |i: usize, salt: u32| {
            let hash = (i as u32 ^ (salt << 24)).wrapping_mul(0x9E37_79B9);
            (((hash ^ (hash >> 15)).wrapping_mul(0x85EB_CA6B) >> 8) as f32) / (1 << 23) as f32 - 1.0
        };
        let start = |i| Vec3A::new(number(i, 0), number(i, 1), number(i, 2));
        self.step.iter_mut().enumerate().for_each(|(i, step)| *step = start(i));
        self.max_eigenvalue = 1.0;
        for _ in 0..ROUNDS {
            matrix.prepare(&self.step, &mut self.forces);
            let (step, inverse, forces) = (&self.step, &self.inverse, &self.forces);
            self.next.par_chunks_mut(CHUNK).enumerate().for_each(|(chunk, next)| {
                for (i, next) in next.iter_mut().enumerate() {
                    let row = chunk * CHUNK + i;
                    *next = inverse[row] * matrix.row(row, step, forces);
                }
            });
            let norm = dot(&self.next, &self.next).sqrt() as f32;
            if norm <= 0.0 || norm.is_nan() {
                break;
            }
            self.max_eigenvalue = norm / dot(&self.step, &self.step).sqrt().max(1e-30) as f32;
            self.next.iter_mut().for_each(|next| *next /= norm);
            std::mem::swap(&mut self.step, &mut self.next);
        }
        self.max_eigenvalue = (self.max_eigenvalue * MARGIN).max(1.0);
    }

    /// Begins at x = 0 with the right-hand side in `b`.
    fn begin(&mut self, b: impl Fn(usize) -> Vec3A + Sync) {
        let Self { residual, x, step, inverse, max_eigenvalue, .. } = self;
        let first = 4.0 / (3.0 * *max_eigenvalue);
        let parts = (x.par_iter_mut().zip(residual.par_iter_mut()).zip(step.par_iter_mut()))
            .zip(&*inverse)
            .enumerate()
            .with_min_len(CHUNK);
        parts.for_each(|(point, (((x, residual), step), inverse))| {
            *x = Vec3A::ZERO;
            *residual = b(point);
            *step = *inverse * *residual * first;
        });
    }

    /// Moves x by `step` and takes the further steps of the polynomial of this order. With `after` the residual is that
    /// of the smoothed x at the end. `from` is 1 if `step` is the polynomial's first step, and 0 if it is another
    /// displacement, after which the polynomial begins.
    fn smooth(&mut self, matrix: &Matrix, from: u32, after: bool, order: u32) {
        for i in from..=order {
            let last = i == order;
            if last && !after {
                self.x.iter_mut().zip(&self.step).for_each(|(x, step)| *x += *step);
                break;
            }
            let i = i as f32;
            let keep = ((2.0 * i - 1.0) / (2.0 * i + 3.0)).max(0.0);
            let add = (8.0 * i + 4.0) / ((2.0 * i + 3.0) * self.max_eigenvalue);
            matrix.prepare(&self.step, &mut self.forces);
            let (step, inverse, forces) = (&self.step, &self.inverse, &self.forces);
            let parts = (self.x.par_chunks_mut(CHUNK))
                .zip(self.residual.par_chunks_mut(CHUNK))
                .zip(self.next.par_chunks_mut(CHUNK))
                .enumerate();
            parts.for_each(|(chunk, ((x, residual), next))| {
                for k in 0..x.len() {
                    let row = chunk * CHUNK + k;
                    x[k] += step[row];
                    residual[k] -= matrix.row(row, step, forces);
                    next[k] = step[row] * keep + inverse[row] * residual[k] * add;
                }
            });
            std::mem::swap(&mut self.step, &mut self.next);
        }
    }
}

/// A preconditioner for a matrix.
#[derive(Clone, Default)]
pub(super) struct Multigrid {
    blocks: Vec<Vec<Mat3A>>,
    upper: Vec<Mat3A>,
    vectors: Vec<Vectors>,
    direct: Option<Dense>,
}

impl Multigrid {
    /// Takes a matrix in whose springs alone have changed.
    pub fn update_springs(&mut self, matrix: &Matrix) {
        // The blocks of the springs on the diagonal are such that the greatest eigenvalue does not grow.
        if let Some(vectors) = self.vectors.first_mut() {
            vectors.invert_diagonal(matrix);
        }
    }

    /// Takes a matrix in; `anew`: also finds the greatest eigenvalues. The blocks of held points are 0.
    pub fn update(&mut self, levels: &Levels, matrix: &Matrix, bend: &[f64], anew: bool) {
        let count = levels.levels.len();
        self.blocks.resize_with(count, Vec::new);
        self.vectors.resize_with(count + 1, Vectors::default);
        for (i, level) in levels.levels.iter().enumerate() {
            let (below, own) = self.blocks.split_at_mut(i);
            let below = below.last().map_or(matrix.blocks, |blocks| blocks);
            level.project(below, bend, &mut self.upper, &mut own[0]);
        }
        for (i, vectors) in self.vectors.iter_mut().enumerate() {
            let matrix = Matrix { touches: None, ..matrix_of(levels, &self.blocks, matrix, i) };
            vectors.invert_diagonal(&matrix);
            if anew {
                vectors.estimate_max_eigenvalue(&matrix);
            }
        }
        self.update_springs(matrix);
        let last = matrix_of(levels, &self.blocks, matrix, count);
        self.direct = (last.rows.len() <= MOST_DIRECT).then(|| Dense::new(&last));
    }

    /// One V-cycle for the right-hand side `b`.
    pub fn apply(&mut self, levels: &Levels, matrix: &Matrix, b: &[Vec3A]) -> &[Vec3A] {
        self.vectors[0].begin(|point| b[point]);
        self.cycle(levels, matrix, 0);
        &self.vectors[0].x
    }

    fn cycle(&mut self, levels: &Levels, matrix: &Matrix, i: usize) {
        let own = matrix_of(levels, &self.blocks, matrix, i);
        let Some(level) = levels.levels.get(i) else {
            let vectors = &mut self.vectors[i];
            match &self.direct {
                Some(direct) => direct.solve(&vectors.residual, &mut vectors.x),
                None => vectors.smooth(&own, 1, false, LAST_ORDER),
            }
            return;
        };
        let (low, high) = self.vectors.split_at_mut(i + 1);
        let vectors = &mut low[i];
        vectors.smooth(&own, 1, true, ORDER);
        let residual = &vectors.residual;
        high[0].begin(|point| level.children.sum(point, residual));
        self.cycle(levels, matrix, i + 1);
        let own = matrix_of(levels, &self.blocks, matrix, i);
        let (low, high) = self.vectors.split_at_mut(i + 1);
        let (vectors, above) = (&mut low[i], &high[0].x);
        vectors.step.par_iter_mut().enumerate().with_min_len(CHUNK).for_each(|(point, step)| {
            let free = !own.held.get(point).is_some_and(|held| *held);
            *step = if free { level.parents.sum(point, above) } else { Vec3A::ZERO };
        });
        vectors.smooth(&own, 0, false, ORDER);
    }
}

/// The matrix of a level.
fn matrix_of<'a>(levels: &'a Levels, blocks: &'a [Vec<Mat3A>], matrix: &Matrix<'a>, i: usize) -> Matrix<'a> {
    match i.checked_sub(1) {
        None => *matrix,
        Some(i) => Matrix {
            rows: &levels.levels[i].rows,
            blocks: &blocks[i],
            scalars: None,
            touches: None,
            held: &[],
        },
    }
}

/// A sum that does not depend on the number of threads.
pub(super) fn dot(a: &[Vec3A], b: &[Vec3A]) -> f64 {
    const BLOCK: usize = 4_096;
    let of = |(a, b): (&[Vec3A], &[Vec3A])| {
        let mut sums = [0.0f64; 4];
        for (a, b) in a.chunks(4).zip(b.chunks(4)) {
            for ((sum, a), b) in sums.iter_mut().zip(a).zip(b) {
                *sum += f64::from(a.dot(*b));
            }
        }
        sums.iter().sum::<f64>()
    };
    let blocks: Vec<f64> = a.par_chunks(BLOCK).zip(b.par_chunks(BLOCK)).with_min_len(2).map(of).collect();
    blocks.iter().sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deformable::blocks::scalar;
    use crate::deformable::discretization::Discretization;
    use crate::deformable::sheet::sheet;
    use crate::deformable::system::Structure;
    use geometry::{Mesh, primitive};
    use rstest::rstest;
    use shot::Shape;

    fn number(i: usize) -> f32 {
        let hash = (i as u32).wrapping_mul(0x9E37_79B9);
        ((hash ^ (hash >> 15)).wrapping_mul(0x85EB_CA6B) >> 8) as f32 / (1 << 23) as f32 - 1.0
    }

    /// Blocks of springs along the edges of a sheet that is folded like a bellows, with the inertia of its points.
    fn folded(sheet: &Discretization, structure: &Structure) -> Vec<Mat3A> {
        let at = |p: u32| {
            let rest = sheet.rest[p as usize].as_vec3();
            Vec3A::new(0.3 * rest.x, 0.2 * (12.0 * rest.x).sin(), rest.z)
        };
        let rows = &structure.near;
        let mut blocks = vec![Mat3A::ZERO; rows.columns.len()];
        for row in 0..rows.len() as u32 {
            blocks[rows.entry(row, row)] += scalar(1e-3);
            for &other in rows.of(row as usize).iter().filter(|other| **other > row) {
                let n = (at(row) - at(other)).normalize();
                let spring = Mat3A::from_cols(n * n.x, n * n.y, n * n.z);
                for (a, b) in [(row, row), (other, other)] {
                    blocks[rows.entry(a, b)] += spring;
                }
                for (a, b) in [(row, other), (other, row)] {
                    blocks[rows.entry(a, b)] -= spring;
                }
            }
        }
        blocks
    }

    #[rstest]
    fn a_cycle_is_symmetric_and_definite(#[values(0.1, 0.04, 0.02)] edge_m: f32) {
        let shape = Shape::plane(1.0, 1.0);
        let mesh = Mesh::refined(&shape, primitive::plane(1.0, 1.0), edge_m, 100_000).unwrap();
        let (sheet, _, _) = sheet(&mesh);
        let all = 0..sheet.len();
        let structure = Structure::new(&sheet, std::slice::from_ref(&all));
        let blocks = folded(&sheet, &structure);
        let held: Vec<bool> = sheet.rest.iter().map(|p| p.x < -0.499).collect();
        let mut blocks = blocks;
        structure.leave_out(&held, &mut blocks);
        let matrix =
            Matrix { rows: &structure.near, blocks: &blocks, scalars: None, touches: None, held: &held };
        let mut multigrid = Multigrid::default();
        multigrid.update(&structure.levels, &matrix, &[0.0], true);
        let n = sheet.len();
        let b: Vec<Vec3A> = (0..n)
            .map(|i| if held[i] { Vec3A::ZERO } else { Vec3A::new(number(i), number(i + n), 0.1) })
            .collect();
        let c: Vec<Vec3A> =
            b.iter().enumerate().map(|(i, b)| Vec3A::new(b.y, b.x * number(7 * i), b.z)).collect();
        let first = dot(multigrid.apply(&structure.levels, &matrix, &b), &c);
        let second = dot(multigrid.apply(&structure.levels, &matrix, &c), &b);
        assert!((first - second).abs() < 1e-3 * first.abs().max(second.abs()), "{first} and {second}");
        assert!(dot(multigrid.apply(&structure.levels, &matrix, &b), &b) > 0.0);
    }
}
