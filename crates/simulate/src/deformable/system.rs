//! The linear system of a Newton step, and its solution.
//!
//! The matrix is H = (α/Δt)² M + K + B Q + …: inertia, the second derivatives of triangles and cells as 3 × 3 blocks, and
//! the constant matrix of bending. It is solved by conjugate gradients (M. Hestenes and E. Stiefel, 1952) with a
//! multigrid V-cycle as preconditioner (`multigrid.rs`).

use super::active_contacts::ActiveContacts;
use super::blocks::{CHUNK, Rows, mirror_upper};
use super::cell::CellDerivatives;
use super::cell_quadrature::{PAIRS, pair};
use super::discretization::Discretization;
use super::levels::Levels;
use super::low_rank::LowRank;
use super::matrix::Matrix;
use super::membrane::Stiffness;
use super::multigrid::{Multigrid, dot};
use glam::{DVec3, Mat3A, Vec3, Vec3A};
use rayon::prelude::*;
use std::ops::Range;

/// Gradients and second derivatives of a triangle's energy.
pub(super) type TriangleDerivatives = ([DVec3; 3], Stiffness);

/// Marks an entry that is not on the diagonal.
const OFF: u32 = u32::MAX;

/// Where the matrices have entries, and what they are sums of.
pub(super) struct Structure {
    /// Pairs of nodes of a triangle or a cell.
    pub near: Rows,
    mirrored: Vec<u32>,
    halves: Vec<u32>,
    /// For each entry of the upper half of `near`, the blocks of which it is the sum: nine times the triangle, three times
    /// the corner of the row, and the corner of the column; after those of all triangles, the blocks of the cells.
    terms: Rows,
    /// The row of each entry of the upper half on the diagonal; [`OFF`] of others.
    on_diagonal: Vec<u32>,
    /// For each node, the corners that lie there: three times the triangle and the corner; after all triangles, eight
    /// times the cell and the corner.
    corners: Rows,
    triangles: usize,
    /// Pairs of nodes of a triangle and across its edges.
    pub bent: Rows,
    /// The matrix of bending of stiffness 1, at those.
    pub bending: Vec<f64>,
    /// The same in single precision, times the stiffness at hand.
    pub bending_scaled: Vec<f32>,
    pub levels: Levels,
    /// Factors of the bending energy of each triangle; empty: all are 1.
    pub bend_factors: Vec<f64>,
}

/// The matrix of bending of stiffness 1 at the entries of `bent`, with factors of each triangle; none: all are 1.
fn bending_of(discretization: &Discretization, bent: &Rows, factors: &[f64]) -> Vec<f64> {
    let bends = &discretization.bends;
    // For each node, six times the triangles that bend with it and its place among their points.
    let entries = (bends.iter().zip(0..))
        .flat_map(|(bend, triangle)| bend.points.into_iter().zip(6 * triangle..6 * triangle + 6));
    let bent_by = Rows::grouped(bent.len(), entries);
    let of_row = |row: usize| {
        let columns = bent.of(row);
        let mut sums = vec![0.0; columns.len()];
        for (triangle, i) in bent_by.of(row).iter().map(|at| (*at as usize / 6, *at as usize % 6)) {
            let (bend, factor) = (&bends[triangle], factors.get(triangle).copied().unwrap_or(1.0));
            for (j, b) in bend.points.iter().enumerate() {
                let product: f64 = bend.weights.iter().map(|weights| weights[i] * weights[j]).sum();
                sums[columns.binary_search(b).expect("the pair has an entry")] += factor * product;
            }
        }
        sums
    };
    (0..bent.len()).into_par_iter().with_min_len(CHUNK).flat_map_iter(of_row).collect()
}

impl Structure {
    /// Of all nodes; `parts` are those of the elements.
    pub fn new(discretization: &Discretization, parts: &[Range<usize>]) -> Self {
        let n = discretization.len();
        let triangles = || discretization.triangles.iter().map(|t| t.points);
        let of_triangles = triangles().flat_map(|[a, b, c]| [[a, b], [b, c], [c, a]]);
        let of_cells = discretization.cells.iter().flat_map(|cell| {
            (0..8).flat_map(move |i| (i + 1..8).map(move |k| [cell.nodes[i], cell.nodes[k]]))
        });
        let near = Rows::new(n, of_triangles.chain(of_cells));
        let halves = near.halves();
        let place = |row: u32, column: u32| halves[near.entry(row, column)] / 2;
        let mut on_diagonal = vec![OFF; (near.columns.len() + n) / 2];
        (0..n as u32).for_each(|point| on_diagonal[place(point, point) as usize] = point);
        let (mut terms, mut corners) = (Vec::new(), Vec::new());
        for (triangle, points) in (0..).zip(triangles()) {
            for (i, row) in (0..).zip(points) {
                corners.push((row, 3 * triangle + i));
                for (j, column) in (0..).zip(points).filter(|(_, column)| *column >= row) {
                    terms.push((place(row, column), 9 * triangle + 3 * i + j));
                }
            }
        }
        let count = discretization.triangles.len();
        for (cell, nodes) in discretization.cells.iter().map(|cell| cell.nodes).enumerate() {
            for i in 0..8 {
                corners.push((nodes[i], (3 * count + 8 * cell + i) as u32));
                for k in i..8 {
                    terms.push((place(nodes[i], nodes[k]), (9 * count + PAIRS * cell + pair(i, k)) as u32));
                }
            }
        }
        let pairs = |points: [u32; 6]| {
            let pairs = (0..6).flat_map(move |i| (i + 1..6).map(move |j| [points[i], points[j]]));
            pairs.filter(|[a, b]| a != b)
        };
        let bent = Rows::new(n, discretization.bends.iter().flat_map(|bend| pairs(bend.points)));
        let bending = bending_of(discretization, &bent, &[]);
        let rest: Vec<Vec3> = discretization.rest.iter().map(|p| p.as_vec3()).collect();
        let mut part_of = vec![0u16; n];
        parts.iter().zip(0..).for_each(|(nodes, part)| part_of[nodes.clone()].fill(part));
        let levels = Levels::new(&rest, &near, &bent, &bending, &part_of);
        let bending_scaled = vec![0.0; bending.len()];
        Self {
            mirrored: near.mirrored(),
            halves,
            near,
            terms: Rows::grouped(on_diagonal.len(), terms.into_iter()),
            on_diagonal,
            corners: Rows::grouped(n, corners.into_iter()),
            triangles: count,
            bent,
            bending,
            bending_scaled,
            levels,
            bend_factors: Vec::new(),
        }
    }

    /// Takes factors of the bending energy of each triangle; none: all are 1.
    pub fn weigh_bending(&mut self, discretization: &Discretization, factors: Vec<f64>) {
        if factors != self.bend_factors {
            self.bending = bending_of(discretization, &self.bent, &factors);
            self.levels.take_bending(&self.bent, &self.bending);
            self.bend_factors = factors;
        }
    }

    /// Takes the stiffness of bending of each element, N m.
    pub fn scale_bending(&mut self, parts: &[Range<usize>], stiffness: &[f64]) {
        for (nodes, stiffness) in parts.iter().zip(stiffness) {
            let entries = self.bent.starts[nodes.start] as usize..self.bent.starts[nodes.end] as usize;
            let scaled = self.bending_scaled[entries.clone()].iter_mut().zip(&self.bending[entries]);
            scaled.for_each(|(scaled, value)| *scaled = (stiffness * value) as f32);
        }
    }

    /// Sums what the triangles and cells give: for each node the gradient, and for each pair of nodes a block; `own` is
    /// added to those on the diagonal.
    pub fn gather(
        &self,
        triangles: &[TriangleDerivatives],
        cells: &[CellDerivatives],
        own: &[Mat3A],
        gradient: &mut [DVec3],
        upper: &mut Vec<Mat3A>,
        blocks: &mut [Mat3A],
    ) {
        gradient.par_iter_mut().enumerate().with_min_len(CHUNK).for_each(|(point, sum)| {
            let corners = self.corners.of(point).iter().map(|at| *at as usize);
            *sum += corners.fold(DVec3::ZERO, |sum, at| match at.checked_sub(3 * self.triangles) {
                None => sum + triangles[at / 3].0[at % 3],
                Some(at) => sum + cells[at / 8].gradient[at % 8],
            });
        });
        let block = |entry: usize| {
            let start = own.get(self.on_diagonal[entry] as usize).copied().unwrap_or(Mat3A::ZERO);
            self.terms.of(entry).iter().fold(start, |sum, &term| {
                let term = term as usize;
                match term.checked_sub(9 * self.triangles) {
                    None => sum + triangles[term / 9].1.block(term / 3 % 3, term % 3),
                    Some(term) => sum + cells[term / PAIRS].blocks[term % PAIRS],
                }
            })
        };
        (0..self.on_diagonal.len()).into_par_iter().with_min_len(CHUNK).map(block).collect_into_vec(upper);
        mirror_upper(&self.halves, upper, blocks);
    }

    /// Adds the gradient of bending of the nodes of an element, as of a sheet that is flat at rest.
    pub fn add_bending(&self, nodes: Range<usize>, stiffness: f64, x: &[DVec3], gradient: &mut [DVec3]) {
        let each = gradient[nodes.clone()].par_iter_mut().zip(nodes).with_min_len(CHUNK);
        each.for_each(|(sum, point)| {
            let values = &self.bending[self.bent.row(point)];
            // Differences, as the sum of a row is 0 and positions may be large.
            let each = self.bent.of(point).iter().zip(values);
            let pull = each.fold(DVec3::ZERO, |sum, (&p, value)| sum + (x[p as usize] - x[point]) * *value);
            *sum += pull * stiffness;
        });
    }

    /// Leaves held nodes out of a matrix.
    pub fn leave_out(&self, held: &[bool], blocks: &mut [Mat3A]) {
        for row in (0..held.len()).filter(|row| held[*row]) {
            for entry in self.near.row(row) {
                blocks[entry] = Mat3A::ZERO;
                blocks[self.mirrored[entry] as usize] = Mat3A::ZERO;
            }
        }
    }

    /// The matrix of blocks, bending and touching pairs, without held nodes.
    pub fn matrix<'a>(
        &'a self,
        blocks: &'a [Mat3A],
        touches: &'a ActiveContacts,
        held: &'a [bool],
    ) -> Matrix<'a> {
        let touches = (!touches.list.is_empty()).then_some(touches);
        Matrix { rows: &self.near, blocks, scalars: Some((&self.bent, &self.bending_scaled)), touches, held }
    }
}

/// Room to work in.
#[derive(Clone, Default)]
pub(super) struct Workspace {
    pub multigrid: Multigrid,
    residual: Vec<Vec3A>,
    direction: Vec<Vec3A>,
    image: Vec<Vec3A>,
    forces: Vec<Vec3A>,
}

/// Size of the error of each element, in the norm of the preconditioner and against that at the start of the step, at which
/// the solution is good enough: the next Newton step or time step corrects what is left.
pub(super) const TOLERANCE: f64 = 0.03;
/// Most iterations.
const MAX_ITERATIONS: u32 = 60;

impl Workspace {
    /// Solves H x = b from x = 0; H is the matrix and the terms of low rank. `first` are the squared sizes of the elements' errors
    /// at the start of the step's first solution, at least `least`; those of the solution are `tolerance` times as large.
    pub fn solve(
        &mut self,
        levels: &Levels,
        matrix: &Matrix,
        low_rank: &[LowRank],
        b: &[Vec3A],
        x: &mut [Vec3A],
        parts: &[Range<usize>],
        tolerance: f64,
        least: &[f64],
        first: &mut Vec<f64>,
    ) {
        let Self { multigrid, residual, direction, image, forces } = self;
        image.resize(b.len(), Vec3A::ZERO);
        x.fill(Vec3A::ZERO);
        residual.clear();
        residual.extend_from_slice(b);
        let solved = multigrid.apply(levels, matrix, residual);
        direction.clear();
        direction.extend_from_slice(solved);
        let squares = |a: &[Vec3A], b: &[Vec3A]| -> Vec<f64> {
            parts.iter().map(|part| dot(&a[part.clone()], &b[part.clone()])).collect()
        };
        let mut norms = squares(residual, solved);
        if first.is_empty() {
            first.extend(norms.iter().zip(least).map(|(norm, least)| norm.max(*least)));
        }
        let mut norm: f64 = norms.iter().sum();
        for _ in 0..MAX_ITERATIONS {
            let small = |(norm, first): (&f64, &f64)| *norm <= tolerance * tolerance * first;
            // Without a finite residual there is no solution either.
            if norms.iter().zip(&*first).all(small) || norm <= 0.0 || norm.is_nan() {
                return;
            }
            matrix.prepare(direction, forces);
            image.par_chunks_mut(CHUNK).enumerate().for_each(|(chunk, image)| {
                for (k, image) in image.iter_mut().enumerate() {
                    *image = matrix.row(chunk * CHUNK + k, direction, forces);
                }
            });
            low_rank.iter().for_each(|term| term.multiply(direction, image));
            let curvature = dot(direction, image);
            if curvature <= 0.0 || curvature.is_nan() {
                return;
            }
            let length = (norm / curvature) as f32;
            (x.par_iter_mut().zip(&mut *residual).zip(&*direction).zip(&*image).with_min_len(4 * CHUNK))
                .for_each(|(((x, residual), direction), image)| {
                    *x += *direction * length;
                    *residual -= *image * length;
                });
            let solved = multigrid.apply(levels, matrix, residual);
            norms = squares(residual, solved);
            let next: f64 = norms.iter().sum();
            let back = (next / norm) as f32;
            direction
                .par_iter_mut()
                .zip(solved)
                .with_min_len(4 * CHUNK)
                .for_each(|(d, z)| *d = *z + *d * back);
            norm = next;
        }
    }
}
