//! The linear system of a Newton step of a sheet, and its solution.
//!
//! The matrix is H = (α/Δt)² M + K + B Q + …: inertia, the membrane's second derivatives as 3 × 3 blocks, and the
//! constant matrix of bending. It is solved by conjugate gradients (M. Hestenes and E. Stiefel, 1952). The preconditioner
//! is a Cholesky factor of H from the start of the frame. It is kept for the frame's steps, and the frame of each
//! point is turned with the point's surroundings since, so that the factor still fits a sheet that swings and folds.

use super::blocks::{Rows, multiply, multiply_scalars};
use super::cholesky::{Factor, Pattern, Symbolic, ordered};
use super::ordering::nested_dissection;
use super::sheet::Sheet;
use glam::{Mat3, Vec3};

/// Where the matrices of a sheet have entries, and in which order its points are eliminated.
pub(super) struct Structure {
    /// Pairs of points of a triangle.
    pub near: Rows,
    /// For each triangle, the places of its blocks 00, 11, 22, 01, 12, 20 in `near`.
    pub of_triangles: Vec<[u32; 6]>,
    /// Pairs of points of a triangle and across its edges.
    pub bent: Rows,
    /// The matrix of bending of stiffness 1, at those.
    pub bending: Vec<f64>,
    /// The same in single precision, times the stiffness at hand.
    pub bending_scaled: Vec<f32>,
    /// For each point, its place in the order of elimination.
    rank: Vec<u32>,
    pattern: Pattern,
    symbolic: Symbolic,
}

impl Structure {
    pub fn new(sheet: &Sheet) -> Self {
        let n = sheet.len();
        let of_triangle = |t: &super::membrane::Triangle| {
            let [a, b, c] = t.points;
            [[a, b], [b, c], [c, a]]
        };
        let near = Rows::new(n, sheet.triangles.iter().flat_map(of_triangle));
        let place = |a: u32, b: u32| near.entry(a, b) as u32;
        let of_triangles = (sheet.triangles.iter().map(|t| t.points))
            .map(|[a, b, c]| [place(a, a), place(b, b), place(c, c), place(a, b), place(b, c), place(c, a)])
            .collect();
        let pairs = |points: [u32; 6]| {
            let pairs = (0..6).flat_map(move |i| (i + 1..6).map(move |j| [points[i], points[j]]));
            pairs.filter(|[a, b]| a != b)
        };
        let bent = Rows::new(n, sheet.bends.iter().flat_map(|bend| pairs(bend.points)));
        let mut bending = vec![0.0; bent.columns.len()];
        for bend in &sheet.bends {
            for (i, a) in bend.points.iter().enumerate() {
                for (j, b) in bend.points.iter().enumerate() {
                    let product: f64 = bend.weights.iter().map(|weights| weights[i] * weights[j]).sum();
                    bending[bent.entry(*a, *b)] += product;
                }
            }
        }
        let neighbours: Vec<Vec<u32>> = (0..n)
            .map(|i| near.columns[near.row(i)].iter().copied().filter(|other| *other != i as u32).collect())
            .collect();
        let order = nested_dissection(&sheet.rest, &neighbours);
        let mut rank = vec![0u32; n];
        order.iter().enumerate().for_each(|(i, &p)| rank[p as usize] = i as u32);
        let mut pattern = Pattern::default();
        for &p in &order {
            let own = rank[p as usize];
            let later = neighbours[p as usize].iter().map(|&other| rank[other as usize]);
            let mut rows: Vec<u32> = std::iter::once(own).chain(later.filter(|rank| *rank > own)).collect();
            rows.sort_unstable();
            pattern.columns.push(rows);
        }
        let symbolic = Symbolic::new(&pattern);
        let bending_scaled = vec![0.0; bending.len()];
        Self { near, of_triangles, bent, bending, bending_scaled, rank, pattern, symbolic }
    }

    /// The factor of the matrix of `blocks` and bending. Of bending the pairs that are no edge are left out, and
    /// made up for on the diagonal, so that it stays definite.
    pub fn factor(&self, blocks: &[Mat3], held: &[bool]) -> Option<Factor> {
        let mut values: Vec<Vec<Mat3>> =
            self.pattern.columns.iter().map(|rows| vec![Mat3::ZERO; rows.len()]).collect();
        let scalar = |value: f32| Mat3::from_diagonal(Vec3::splat(value));
        let mut add = |a: u32, b: u32, block: Mat3| {
            let (a, b) = (self.rank[a as usize], self.rank[b as usize]);
            // `block` is that of row a and column b.
            let (column, row, block) = if a >= b { (b, a, block) } else { (a, b, block.transpose()) };
            let at = self.pattern.columns[column as usize].binary_search(&row);
            values[column as usize][at.expect("the pair is in the pattern")] += block;
        };
        for (row, held) in held.iter().enumerate() {
            let own = row as u32;
            for entry in self.near.row(row).filter(|entry| self.near.columns[*entry] <= own) {
                add(own, self.near.columns[entry], blocks[entry]);
            }
            if *held {
                // As if of great mass.
                add(own, own, scalar(1e5 * blocks[self.near.entry(own, own)].x_axis.x.abs().max(1e-6)));
            }
            for entry in self.bent.row(row).filter(|entry| self.bent.columns[*entry] <= own) {
                let (other, value) = (self.bent.columns[entry], self.bending_scaled[entry]);
                if self.near.has(own, other) {
                    add(own, other, scalar(value));
                } else {
                    add(own, own, scalar(value.abs()));
                    add(other, other, scalar(value.abs()));
                }
            }
        }
        self.symbolic.factor(&self.pattern, &values)
    }
}

/// The system at hand.
pub(super) struct System<'a> {
    pub structure: &'a Structure,
    pub factor: &'a Factor,
    /// At the pairs of points of a triangle.
    pub blocks: &'a [Mat3],
    /// For each point, the rotation of its surroundings since the factor was made.
    pub turns: &'a [Mat3],
    /// Points that do not move.
    pub held: &'a [bool],
}

/// Room to work in.
#[derive(Default)]
pub(super) struct Workspace {
    residual: Vec<Vec3>,
    direction: Vec<Vec3>,
    image: Vec<Vec3>,
    solved: Vec<Vec3>,
    numbers: Vec<f32>,
    room: Vec<f32>,
}

/// Relative size of the residual at which the solution is good enough: the next Newton step or time step corrects
/// what is left.
const TOLERANCE: f64 = 2e-3;
/// Most iterations.
const MAX_ITERATIONS: u32 = 60;

impl System<'_> {
    /// Solves H x = b from x = 0; gives the number of iterations.
    pub fn solve(&self, b: &[Vec3], x: &mut [Vec3], work: &mut Workspace) -> u32 {
        let n = b.len();
        let Workspace { residual, direction, image, solved, numbers, room } = work;
        for list in [&mut *residual, direction, image, solved] {
            list.resize(n, Vec3::ZERO);
        }
        numbers.resize(3 * n, 0.0);
        x.fill(Vec3::ZERO);
        residual.copy_from_slice(b);
        self.precondition(residual, solved, numbers, room);
        direction.copy_from_slice(solved);
        let mut norm = dot(residual, solved);
        let enough = TOLERANCE * TOLERANCE * dot(b, b);
        for iteration in 0..MAX_ITERATIONS {
            self.multiply(direction, image);
            let curvature = dot(direction, image);
            if curvature <= 0.0 || curvature.is_nan() {
                return iteration + 1;
            }
            let length = (norm / curvature) as f32;
            for i in 0..n {
                x[i] += direction[i] * length;
                residual[i] -= image[i] * length;
            }
            // Without a finite residual there is no solution either.
            let left = dot(residual, residual);
            if left <= enough || left.is_nan() {
                return iteration + 1;
            }
            self.precondition(residual, solved, numbers, room);
            let next = dot(residual, solved);
            let back = (next / norm) as f32;
            direction.iter_mut().zip(&*solved).for_each(|(d, z)| *d = *z + *d * back);
            norm = next;
        }
        MAX_ITERATIONS
    }

    fn multiply(&self, x: &[Vec3], out: &mut [Vec3]) {
        out.fill(Vec3::ZERO);
        multiply(&self.structure.near, self.blocks, x, out);
        multiply_scalars(&self.structure.bent, &self.structure.bending_scaled, x, out);
        out.iter_mut().zip(self.held).filter(|(_, held)| **held).for_each(|(out, _)| *out = Vec3::ZERO);
    }

    fn precondition(&self, residual: &[Vec3], out: &mut [Vec3], numbers: &mut [f32], room: &mut Vec<f32>) {
        let Structure { rank, symbolic, .. } = self.structure;
        for ((out, turn), r) in out.iter_mut().zip(self.turns).zip(residual) {
            *out = turn.transpose() * *r;
        }
        ordered(rank, out, numbers);
        symbolic.solve(self.factor, numbers, room);
        for (i, out) in out.iter_mut().enumerate() {
            let solved = Vec3::from_slice(&numbers[3 * rank[i] as usize..][..3]);
            *out = if self.held[i] { Vec3::ZERO } else { self.turns[i] * solved };
        }
    }
}

/// A sum that does not depend on the number of threads.
fn dot(a: &[Vec3], b: &[Vec3]) -> f64 {
    const LANES: usize = 4;
    let mut sums = [0.0f64; LANES];
    for (a, b) in a.chunks(LANES).zip(b.chunks(LANES)) {
        for ((sum, a), b) in sums.iter_mut().zip(a).zip(b) {
            *sum += f64::from(a.dot(*b));
        }
    }
    sums.iter().sum()
}
