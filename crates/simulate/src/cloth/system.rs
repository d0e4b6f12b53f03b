//! The linear system of a Newton step of a sheet, and its solution.
//!
//! The matrix is H = (α/Δt)² M + K + B Q + …: inertia, the membrane's second derivatives as 3 × 3 blocks, and the
//! constant matrix of bending. It is solved by conjugate gradients (M. Hestenes and E. Stiefel, 1952) with a multigrid
//! V-cycle as preconditioner (`multigrid.rs`).

use super::blocks::{CHUNK, Matrix, Rows};
use super::multigrid::{Levels, Multigrid, dot, in_rows};
use super::sheet::Sheet;
use glam::{DVec3, Mat3, Mat3A, Vec3A};
use rayon::prelude::*;

/// Gradients and second derivatives of a triangle's energy.
pub(super) type OfTriangle = ([DVec3; 3], [Mat3; 6]);

/// Where the matrices of a sheet have entries, and what they are sums of.
pub(super) struct Structure {
    /// Pairs of points of a triangle.
    pub near: Rows,
    mirrored: Vec<u32>,
    /// For each entry of the upper half of `near`, the triangles' blocks of which it is the sum: six times the
    /// triangle and the place of the block, doubled, and 1 if the block is transposed.
    terms: Rows,
    /// For each point, the corners that lie there: three times the triangle and the corner.
    corners: Rows,
    /// Pairs of points of a triangle and across its edges.
    pub bent: Rows,
    /// The matrix of bending of stiffness 1, at those.
    pub bending: Vec<f64>,
    /// The same in single precision, times the stiffness at hand.
    pub bending_scaled: Vec<f32>,
    pub levels: Levels,
}

impl Structure {
    pub fn new(sheet: &Sheet) -> Self {
        let n = sheet.len();
        let triangles = || sheet.triangles.iter().map(|t| t.points);
        let near = Rows::new(n, triangles().flat_map(|[a, b, c]| [[a, b], [b, c], [c, a]]));
        let mut terms = vec![Vec::new(); near.columns.len()];
        let mut corners = vec![Vec::new(); n];
        for (triangle, [a, b, c]) in triangles().enumerate() {
            let triangle = triangle as u32;
            for (place, [row, column]) in
                [[a, a], [b, b], [c, c], [a, b], [b, c], [c, a]].into_iter().enumerate()
            {
                let block = 2 * (6 * triangle + place as u32);
                let (entry, transposed) = if row <= column {
                    (near.entry(row, column), 0)
                } else {
                    (near.entry(column, row), 1)
                };
                terms[entry].push(block + transposed);
            }
            [a, b, c].iter().zip(0..).for_each(|(p, corner)| corners[*p as usize].push(3 * triangle + corner));
        }
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
        let levels = Levels::new(&sheet.rest, &near, &bent, &bending);
        let bending_scaled = vec![0.0; bending.len()];
        Self {
            mirrored: near.mirrored(),
            near,
            terms: Rows::of_lists(terms),
            corners: Rows::of_lists(corners),
            bent,
            bending,
            bending_scaled,
            levels,
        }
    }

    /// Sums what the triangles give, for each point and each pair of points.
    pub fn gather(&self, each: &[OfTriangle], gradient: &mut [DVec3], blocks: &mut [Mat3A]) {
        gradient.par_iter_mut().enumerate().with_min_len(CHUNK).for_each(|(point, sum)| {
            let corners = self.corners.of(point).iter();
            *sum = corners.fold(DVec3::ZERO, |sum, &at| sum + each[at as usize / 3].0[at as usize % 3]);
        });
        in_rows(&self.near, blocks, |row, entry, block| {
            if self.near.columns[entry] as usize >= row {
                let sum = self.terms.of(entry).iter().fold(Mat3::ZERO, |sum, &term| {
                    let (triangle, place) = (term as usize / 12, term as usize % 12);
                    let block = each[triangle].1[place / 2];
                    sum + if place % 2 == 1 { block.transpose() } else { block }
                });
                *block = sum.into();
            }
        });
        self.mirror(blocks);
    }

    /// Fills the lower half of a matrix with the upper.
    fn mirror(&self, blocks: &mut [Mat3A]) {
        for row in 0..self.near.len() {
            for entry in self.near.row(row).take_while(|entry| (self.near.columns[*entry] as usize) < row) {
                blocks[entry] = blocks[self.mirrored[entry] as usize].transpose();
            }
        }
    }

    /// Leaves held points out of a matrix.
    pub fn leave_out(&self, held: &[bool], blocks: &mut [Mat3A]) {
        for row in (0..held.len()).filter(|row| held[*row]) {
            for entry in self.near.row(row) {
                blocks[entry] = Mat3A::ZERO;
                blocks[self.mirrored[entry] as usize] = Mat3A::ZERO;
            }
        }
    }

    /// The matrix of blocks and bending, without held points.
    pub fn matrix<'a>(&'a self, blocks: &'a [Mat3A], held: &'a [bool]) -> Matrix<'a> {
        Matrix { rows: &self.near, blocks, scalars: Some((&self.bent, &self.bending_scaled)), held }
    }
}

/// Room to work in.
#[derive(Default)]
pub(super) struct Workspace {
    pub multigrid: Multigrid,
    residual: Vec<Vec3A>,
    direction: Vec<Vec3A>,
    image: Vec<Vec3A>,
    solved: Vec<Vec3A>,
}

/// Size of the error, in the norm of the preconditioner and against that at first, at which the solution is good enough:
/// the next Newton step or time step corrects what is left.
const TOLERANCE: f64 = 0.03;
/// Most iterations.
const MAX_ITERATIONS: u32 = 60;

impl Workspace {
    /// Solves H x = b from x = 0; gives the number of iterations.
    pub fn solve(&mut self, levels: &Levels, matrix: &Matrix, b: &[Vec3A], x: &mut [Vec3A]) -> u32 {
        let Self { multigrid, residual, direction, image, solved } = self;
        for list in [&mut *residual, direction, image, solved] {
            list.resize(b.len(), Vec3A::ZERO);
        }
        x.fill(Vec3A::ZERO);
        residual.copy_from_slice(b);
        multigrid.apply(levels, matrix, residual, solved);
        direction.copy_from_slice(solved);
        let mut norm = dot(residual, solved);
        let enough = TOLERANCE * TOLERANCE * norm;
        for iteration in 1..=MAX_ITERATIONS {
            image.par_chunks_mut(CHUNK).enumerate().for_each(|(chunk, image)| {
                for (k, image) in image.iter_mut().enumerate() {
                    *image = matrix.row(chunk * CHUNK + k, direction);
                }
            });
            let curvature = dot(direction, image);
            if curvature <= 0.0 || curvature.is_nan() {
                return iteration;
            }
            let length = (norm / curvature) as f32;
            for i in 0..b.len() {
                x[i] += direction[i] * length;
                residual[i] -= image[i] * length;
            }
            if iteration == MAX_ITERATIONS {
                break;
            }
            multigrid.apply(levels, matrix, residual, solved);
            let next = dot(residual, solved);
            // Without a finite residual there is no solution either.
            if next <= enough || next.is_nan() {
                return iteration;
            }
            let back = (next / norm) as f32;
            direction.iter_mut().zip(&*solved).for_each(|(d, z)| *d = *z + *d * back);
            norm = next;
        }
        MAX_ITERATIONS
    }
}
