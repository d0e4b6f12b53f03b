//! Multigrid: the preconditioner of the linear system of a mesh.
//!
//! Each level is a choice of the points of the level below, no two of them neighbours. A displacement there is carried
//! to the level below by weights that give back linear functions of the positions at rest (moving least squares,
//! P. Lancaster and K. Salkauskas, 1981), so that a uniform strain costs on each level as much as it should; the
//! matrices of the levels are the Galerkin products Pᵀ A P. One V-cycle is the preconditioner. Its smoother is the
//! Chebyshev polynomial of the fourth kind (J. Lottes, *Optimal polynomial smoothers for multigrid V-cycles*, 2022),
//! which needs products only and is the same for any number of threads.

use super::blocks::{CHUNK, Matrix, Rows, scalar, whole};
use super::dense::Dense;
use glam::{Mat3A, Mat4, Vec3, Vec3A, Vec4};
use rayon::prelude::*;

/// Below so many points a level is solved directly.
const DIRECT: usize = 64;
/// The most that can be solved directly.
const MOST_DIRECT: usize = 256;
/// Order of the smoother.
const ORDER: u32 = 1;
/// Its order on the last level, where that is too large to be solved directly.
const LAST_ORDER: u32 = 12;
/// Points from which another takes its displacement at most.
const PARENTS: usize = 4;

/// Weights between two levels: for each row, the points of the other level.
#[derive(Debug)]
struct Weights {
    rows: Rows,
    values: Vec<f32>,
}

impl Weights {
    fn of_lists(lists: &[Vec<(u32, f32)>]) -> Self {
        let (mut starts, mut columns, mut values) = (vec![0], Vec::new(), Vec::new());
        for list in lists {
            columns.extend(list.iter().map(|(point, _)| *point));
            values.extend(list.iter().map(|(_, weight)| *weight));
            starts.push(columns.len() as u32);
        }
        Self { rows: Rows { starts, columns }, values }
    }

    fn transposed(&self, count: usize) -> Self {
        let mut lists = vec![Vec::new(); count];
        for row in 0..self.rows.len() {
            self.of(row).for_each(|(point, weight)| lists[point as usize].push((row as u32, weight)));
        }
        Self::of_lists(&lists)
    }

    fn of(&self, row: usize) -> impl Iterator<Item = (u32, f32)> {
        let range = self.rows.row(row);
        self.rows.columns[range.clone()].iter().copied().zip(self.values[range].iter().copied())
    }

    fn sum(&self, row: usize, x: &[Vec3A]) -> Vec3A {
        self.of(row).fold(Vec3A::ZERO, |sum, (point, weight)| sum + x[point as usize] * weight)
    }
}

/// A level above the first.
#[derive(Debug)]
struct Level {
    /// For each point of the level below, those of this one.
    parents: Weights,
    children: Weights,
    rows: Rows,
    halves: Vec<u32>,
    /// For each entry of the upper half, the entries of the level below of which it is the sum, and their weights.
    terms: Weights,
    /// What bending of stiffness 1 adds to each of those; empty on the levels whose level below has it in its blocks.
    scalars: Vec<f32>,
}

/// The levels above a matrix, by where its entries are.
#[derive(Debug)]
pub(super) struct Levels {
    levels: Vec<Level>,
}

impl Levels {
    /// Of the positions at rest, the rows of the blocks, and the numbers of bending at rows of their own.
    pub fn new(rest: &[Vec3], near: &Rows, bent: &Rows, bending: &[f64]) -> Self {
        let mut levels: Vec<Level> = Vec::new();
        let mut at: Vec<Vec3> = rest.to_vec();
        loop {
            let below = levels.last().map_or(near, |level| &level.rows);
            if at.len() <= DIRECT {
                break;
            }
            let chosen = independent(below);
            if chosen.len() * 10 > at.len() * 8 {
                break;
            }
            let bent = levels.is_empty().then_some((bent, bending));
            let level = Level::new(&at, below, bent, &chosen);
            at = chosen.iter().map(|&point| at[point as usize]).collect();
            levels.push(level);
        }
        Self { levels }
    }
}

/// Points of which no two share an entry and next to which every other point lies.
fn independent(rows: &Rows) -> Vec<u32> {
    let mut taken = vec![false; rows.len()];
    let mut chosen = Vec::new();
    for point in 0..rows.len() {
        if !taken[point] {
            chosen.push(point as u32);
            rows.of(point).iter().for_each(|&other| taken[other as usize] = true);
        }
    }
    chosen
}

impl Level {
    fn new(at: &[Vec3], below: &Rows, bent: Option<(&Rows, &[f64])>, chosen: &[u32]) -> Self {
        const NONE: u32 = u32::MAX;
        let mut number = vec![NONE; at.len()];
        chosen.iter().enumerate().for_each(|(i, &point)| number[point as usize] = i as u32);
        let parents: Vec<Vec<(u32, f32)>> = (0..at.len())
            .into_par_iter()
            .map(|point| {
                if number[point] != NONE {
                    return vec![(number[point], 1.0)];
                }
                let around = below.of(point).iter().flat_map(|&near| below.of(near as usize));
                let mut around: Vec<u32> = around.copied().filter(|&p| number[p as usize] != NONE).collect();
                around.sort_unstable();
                around.dedup();
                let weights = linear(at[point], &around, at);
                weights.into_iter().map(|(p, weight)| (number[p as usize], weight)).collect()
            })
            .collect();
        let parents = Weights::of_lists(&parents);
        let children = parents.transposed(chosen.len());
        // The entries Pᵀ A P, row by row.
        let columns = |pattern: &Rows, row: usize| -> Vec<u32> {
            let near = children.of(row).flat_map(|(child, _)| pattern.of(child as usize).to_vec());
            let mut near: Vec<u32> = near.collect();
            near.sort_unstable();
            near.dedup();
            let mut all: Vec<u32> = near.iter().flat_map(|&p| parents.rows.of(p as usize)).copied().collect();
            all.sort_unstable();
            all.dedup();
            all
        };
        let lists = (0..chosen.len()).into_par_iter().map(|row| {
            let mut list = columns(below, row);
            if let Some((bent, _)) = bent {
                list.extend(columns(bent, row));
            }
            list
        });
        let rows = Rows::of_lists(lists.collect());
        let mut scalars = Vec::new();
        if let Some((bent, values)) = bent {
            let each = (0..chosen.len()).into_par_iter().map(|row| {
                let mut sums = vec![0.0f64; rows.of(row).len()];
                for (child, weight) in children.of(row) {
                    for entry in bent.row(child as usize) {
                        let (other, value) = (bent.columns[entry] as usize, values[entry]);
                        for (parent, other_weight) in parents.of(other) {
                            let place = rows.of(row).binary_search(&parent).expect("the pair has an entry");
                            sums[place] += f64::from(weight) * f64::from(other_weight) * value;
                        }
                    }
                }
                sums.into_iter().map(|sum| sum as f32).collect::<Vec<f32>>()
            });
            scalars = each.collect::<Vec<_>>().concat();
        }
        let terms: Vec<Vec<Vec<(u32, f32)>>> = (0..chosen.len())
            .into_par_iter()
            .map(|row| {
                let mut lists = vec![Vec::new(); rows.of(row).len()];
                for (child, weight) in children.of(row) {
                    for entry in below.row(child as usize) {
                        for (parent, other) in parents.of(below.columns[entry] as usize) {
                            let place = rows.of(row).binary_search(&parent).expect("it has an entry");
                            lists[place].push((entry as u32, weight * other));
                        }
                    }
                }
                let upper = rows.of(row).partition_point(|&column| (column as usize) < row);
                lists.split_off(upper)
            })
            .collect();
        let terms = Weights::of_lists(&terms.concat());
        let halves = rows.halves();
        scalars = (rows.columns.iter().zip(&halves).zip(scalars))
            .filter_map(|((_, half), value)| (half % 2 == 0).then_some(value))
            .collect();
        Self { parents, children, rows, halves, terms, scalars }
    }

    /// The matrix of this level from the blocks of the one below.
    fn project(&self, below: &[Mat3A], bend: f32, upper: &mut Vec<Mat3A>, blocks: &mut Vec<Mat3A>) {
        blocks.resize(self.rows.columns.len(), Mat3A::ZERO);
        let entries = (0..self.terms.rows.len()).into_par_iter().with_min_len(CHUNK);
        let sum = |entry: usize| {
            let bending = self.scalars.get(entry).map_or(Mat3A::ZERO, |value| scalar(bend * value));
            self.terms.of(entry).fold(bending, |sum, (of, weight)| sum + below[of as usize] * weight)
        };
        entries.map(sum).collect_into_vec(upper);
        whole(&self.halves, upper, blocks);
    }
}

/// Weights of points around `x` that sum to 1 and give back linear functions, those of the nearest greatest.
fn linear(x: Vec3, around: &[u32], at: &[Vec3]) -> Vec<(u32, f32)> {
    let mut near: Vec<(f32, u32)> = around.iter().map(|&p| (at[p as usize].distance(x), p)).collect();
    near.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
    near.truncate(PARENTS);
    let Some(size) = near.iter().map(|(distance, _)| *distance).reduce(f32::max) else { return Vec::new() };
    let size = size.max(1e-20);
    let basis = |p: u32| {
        let d = (at[p as usize] - x) / size;
        Vec4::new(1.0, d.x, d.y, d.z)
    };
    let closeness = |distance: f32| 1.0 / (distance / size).max(1e-3).powi(4);
    // What is not determined, as the derivative across a plane, is left out by the small numbers on the diagonal.
    let mut moments = Mat4::from_diagonal(Vec4::new(0.0, 1e-3, 1e-3, 1e-3));
    for (distance, p) in &near {
        let (b, by) = (basis(*p), closeness(*distance));
        moments += Mat4::from_cols(b * b.x, b * b.y, b * b.z, b * b.w) * by;
    }
    let first = moments.inverse() * Vec4::X;
    let mut weights: Vec<(u32, f32)> =
        near.iter().map(|(distance, p)| (*p, closeness(*distance) * basis(*p).dot(first))).collect();
    weights.retain(|(_, weight)| weight.abs() > 0.04);
    let sum: f32 = weights.iter().map(|(_, weight)| weight).sum();
    if sum <= 0.1 || sum.is_nan() {
        return near.first().map(|(_, p)| (*p, 1.0)).into_iter().collect();
    }
    weights.iter_mut().for_each(|(_, weight)| *weight /= sum);
    weights
}

/// The vectors of a level.
#[derive(Default)]
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
    greatest: f32,
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
    fn find_greatest(&mut self, matrix: &Matrix) {
        const ROUNDS: u32 = 8;
        const MARGIN: f32 = 1.15;
        let number = |i: usize, salt: u32| {
            let hash = (i as u32 ^ (salt << 24)).wrapping_mul(0x9E37_79B9);
            (((hash ^ (hash >> 15)).wrapping_mul(0x85EB_CA6B) >> 8) as f32) / (1 << 23) as f32 - 1.0
        };
        let start = |i| Vec3A::new(number(i, 0), number(i, 1), number(i, 2));
        self.step.iter_mut().enumerate().for_each(|(i, step)| *step = start(i));
        self.greatest = 1.0;
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
            self.greatest = norm / dot(&self.step, &self.step).sqrt().max(1e-30) as f32;
            self.next.iter_mut().for_each(|next| *next /= norm);
            std::mem::swap(&mut self.step, &mut self.next);
        }
        self.greatest = (self.greatest * MARGIN).max(1.0);
    }

    /// Begins at x = 0 with the right-hand side in `b`.
    fn begin(&mut self, b: impl Fn(usize) -> Vec3A + Sync) {
        let Self { residual, x, step, inverse, greatest, .. } = self;
        let first = 4.0 / (3.0 * *greatest);
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
            let add = (8.0 * i + 4.0) / ((2.0 * i + 3.0) * self.greatest);
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
#[derive(Default)]
pub(super) struct Multigrid {
    blocks: Vec<Vec<Mat3A>>,
    upper: Vec<Mat3A>,
    vectors: Vec<Vectors>,
    direct: Option<Dense>,
}

impl Multigrid {
    /// Takes a matrix in whose springs alone have changed.
    pub fn update_springs(&mut self, matrix: &Matrix) {
        // A spring between so many points adds no greater eigenvalue.
        const POINTS: f32 = 4.0;
        let Some(vectors) = self.vectors.first_mut() else { return };
        vectors.invert_diagonal(matrix);
        if matrix.touches.is_some_and(|touches| !touches.list.is_empty()) {
            vectors.greatest = vectors.greatest.max(POINTS);
        }
    }

    /// Takes a matrix in; `anew`: also finds the greatest eigenvalues. The blocks of held points are 0.
    pub fn update(&mut self, levels: &Levels, matrix: &Matrix, bend: f32, anew: bool) {
        let count = levels.levels.len();
        self.blocks.resize_with(count, Vec::new);
        self.vectors.resize_with(count + 1, Vectors::default);
        for (i, level) in levels.levels.iter().enumerate() {
            let (below, own) = self.blocks.split_at_mut(i);
            let below = below.last().map_or(matrix.blocks, |blocks| blocks);
            level.project(below, bend, &mut self.upper, &mut own[0]);
        }
        for (i, vectors) in self.vectors.iter_mut().enumerate() {
            let matrix = matrix_of(levels, &self.blocks, matrix, i);
            vectors.invert_diagonal(&matrix);
            if anew {
                vectors.find_greatest(&matrix);
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
    a.chunks(BLOCK).zip(b.chunks(BLOCK)).map(of).sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cloth::sheet::Sheet;
    use crate::cloth::system::Structure;
    use geometry::{Mesh, primitive};
    use rstest::rstest;
    use shot::Shape;

    fn number(i: usize) -> f32 {
        let hash = (i as u32).wrapping_mul(0x9E37_79B9);
        ((hash ^ (hash >> 15)).wrapping_mul(0x85EB_CA6B) >> 8) as f32 / (1 << 23) as f32 - 1.0
    }

    #[test]
    fn weights_give_back_linear_functions() {
        let at: Vec<Vec3> = (0..12).map(|i| Vec3::new(number(3 * i), 0.0, number(3 * i + 1))).collect();
        let around: Vec<u32> = (0..12).collect();
        for seed in 0..20 {
            let x = Vec3::new(0.3 * number(100 + seed), 0.0, 0.3 * number(200 + seed));
            let weights = linear(x, &around, &at);
            let sum = weights.iter().fold(Vec3::ZERO, |sum, (p, weight)| sum + at[*p as usize] * *weight);
            assert!(weights.len() <= PARENTS);
            assert!((weights.iter().map(|(_, weight)| weight).sum::<f32>() - 1.0).abs() < 1e-5);
            // What is left out of small weights is missing.
            assert!(sum.distance(x) < 0.1, "{sum} for {x}");
        }
    }

    /// Blocks of springs along the edges of a sheet that is folded like a bellows, with the inertia of its points.
    fn folded(sheet: &Sheet, structure: &Structure) -> Vec<Mat3A> {
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
        let sheet = Sheet::new(&mesh, 1);
        let structure = Structure::new(&sheet);
        let blocks = folded(&sheet, &structure);
        let held: Vec<bool> = sheet.rest.iter().map(|p| p.x < -0.499).collect();
        let mut blocks = blocks;
        structure.leave_out(&held, &mut blocks);
        let matrix =
            Matrix { rows: &structure.near, blocks: &blocks, scalars: None, touches: None, held: &held };
        let mut multigrid = Multigrid::default();
        multigrid.update(&structure.levels, &matrix, 0.0, true);
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
