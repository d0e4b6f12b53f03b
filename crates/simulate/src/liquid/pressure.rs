//! Pressure: the velocities on the faces are made free of divergence where there is liquid.
//!
//! Solids leave a part of each face open, as in the variational form of C. Batty, F. Bertails and R. Bridson, *A fast variational
//! framework for accurate solid-fluid coupling*, 2007; at the surface the pressure is that of the air, 0, at the place between two
//! cells' centres where the surface lies (F. Gibou et al., *A second-order-accurate symmetric discretization of the Poisson equation
//! on irregular domains*, 2002). With q the pressure times Δt / (ρ Δx), which is a speed, and open parts α, each liquid cell has
//! Σ α (q − q') / θ = −Σ ± (α u + (1 − α) u_solid), solved by conjugate gradients.

use super::solids::OpenFaces;
use super::transfer::Faces;
use geometry::tiles::{CELLS, Tiles, local};
use glam::IVec3;
use rayon::prelude::*;

/// Marks a neighbour that is not liquid.
const AIR: u32 = u32::MAX;
/// The least θ.
const LEAST_FRACTION: f32 = 0.05;
/// The remaining divergence, as a part of that at first.
const TOLERANCE: f64 = 1e-4;
/// Most iterations.
const MAX_ITERATIONS: u32 = 600;
/// Particles in a full cell.
const FULL: f32 = 8.0;
/// Part of what is too dense that is spread in a step, and the most of a cell's volume.
const SPREAD: f32 = 0.25;
const MOST_SPREAD: f32 = 0.1;
/// Cells of a block of sums.
const BLOCK: usize = 4_096;

/// A liquid cell's equation.
struct Row {
    /// The cells below and above along each axis.
    neighbours: [u32; 6],
    /// α / θ of the faces to them.
    factors: [f32; 6],
    diagonal: f32,
}

/// How the solution went.
#[derive(Clone, Copy, Debug, Default)]
pub struct Solved {
    /// Liquid cells.
    pub cells: usize,
    /// Iterations taken.
    pub iterations: u32,
    /// The divergence that is left, as a part of that at first; no unit.
    pub residual: f64,
}

/// Makes `faces` free of divergence in a step of `dt` seconds. Faces without liquid on either side keep their velocities.
pub(super) fn project(tiles: &Tiles, faces: &mut Faces, solids: &OpenFaces, dt: f32) -> Solved {
    let n = tiles.cells();
    let liquid = |cell: usize| faces.distance[cell] < 0.0;
    let mut number = vec![AIR; n];
    let mut cells: Vec<u32> = Vec::new();
    for cell in (0..n).filter(|cell| liquid(*cell)) {
        number[cell] = cells.len() as u32;
        cells.push(cell as u32);
    }
    let row = |&cell: &u32| {
        let cell = cell as usize;
        let (tile, at) = (cell / CELLS, local(cell % CELLS));
        let mut row = Row { neighbours: [AIR; 6], factors: [0.0; 6], diagonal: 0.0 };
        let mut out = 0.0;
        for side in 0..6 {
            let (axis, above) = (side / 2, side % 2 == 1);
            let step = if above { IVec3::AXES[axis] } else { -IVec3::AXES[axis] };
            // All cells around liquid have tiles.
            let Some(other) = tiles.cell(tile, at + step) else { continue };
            let face = if above { other } else { cell };
            let (open, sign) = (solids.open[axis][face], if above { 1.0 } else { -1.0 });
            out +=
                sign * (open * faces.velocities[axis][face] + (1.0 - open) * solids.velocities[axis][face]);
            let way = if liquid(other) {
                1.0
            } else {
                surface_fraction(faces.distance[cell], faces.distance[other])
            };
            row.neighbours[side] = number[other];
            row.factors[side] = open / way;
            row.diagonal += open / way;
        }
        // Where there are too many particles they are spread.
        let too_dense = (faces.density[cell] / FULL - 1.0).max(0.0);
        out -= (SPREAD * too_dense).min(MOST_SPREAD) * tiles.cell_m / dt;
        (row, -out)
    };
    let (rows, right): (Vec<Row>, Vec<f32>) = cells.par_iter().with_min_len(256).map(row).unzip();
    let mut q = vec![0.0f32; rows.len()];
    let (iterations, residual) = solve(&rows, &right, &mut q);
    let pressure = |cell: usize| match number[cell] {
        AIR => 0.0,
        number => q[number as usize],
    };
    let distance = &faces.distance;
    for axis in 0..3 {
        let old = &faces.velocities[axis];
        let of = |cell: usize| {
            let at = local(cell % CELLS);
            let below = tiles.cell(cell / CELLS, at - IVec3::AXES[axis])?;
            if !liquid(cell) && !liquid(below) {
                return None;
            }
            let way = if liquid(cell) && liquid(below) {
                1.0
            } else {
                let (inside, outside) = if liquid(cell) { (cell, below) } else { (below, cell) };
                surface_fraction(distance[inside], distance[outside])
            };
            // A closed face moves with the solid.
            if solids.open[axis][cell] <= 0.0 {
                return Some(solids.velocities[axis][cell]);
            }
            Some(old[cell] - (pressure(cell) - pressure(below)) / way)
        };
        let new: Vec<Option<f32>> = (0..n).into_par_iter().with_min_len(CELLS).map(of).collect();
        faces.velocities[axis] = new.iter().zip(old).map(|(new, old)| new.unwrap_or(*old)).collect();
        faces.known[axis] = new.iter().map(Option::is_some).collect();
    }
    Solved { cells: rows.len(), iterations, residual }
}

/// θ: the fraction of the way from the centre of a liquid cell to that of a cell outside at which the surface lies.
fn surface_fraction(inside: f32, outside: f32) -> f32 {
    (inside / (inside - outside)).clamp(LEAST_FRACTION, 1.0)
}

fn dot(a: &[f32], b: &[f32]) -> f64 {
    let block = |(a, b): (&[f32], &[f32])| {
        let mut sums = [0.0f64; 8];
        for (a, b) in a.chunks(8).zip(b.chunks(8)) {
            for ((sum, a), b) in sums.iter_mut().zip(a).zip(b) {
                *sum += f64::from(*a) * f64::from(*b);
            }
        }
        sums.iter().sum::<f64>()
    };
    let blocks: Vec<f64> = a.par_chunks(BLOCK).zip(b.par_chunks(BLOCK)).map(block).collect();
    blocks.iter().sum()
}

/// Conjugate gradients, preconditioned by the diagonal; gives iterations and what is left of the right-hand side.
fn solve(rows: &[Row], right: &[f32], q: &mut [f32]) -> (u32, f64) {
    let multiply = |x: &[f32], y: &mut Vec<f32>| {
        let each = rows.par_iter().zip(x).with_min_len(BLOCK).map(|(row, own)| {
            let mut sum = row.diagonal * own;
            for (neighbour, factor) in row.neighbours.iter().zip(&row.factors) {
                if *neighbour != AIR {
                    sum -= factor * x[*neighbour as usize];
                }
            }
            sum
        });
        each.collect_into_vec(y);
    };
    let solved = |residual: &[f32]| -> Vec<f32> {
        rows.iter()
            .zip(residual)
            .map(|(row, r)| if row.diagonal > 0.0 { r / row.diagonal } else { 0.0 })
            .collect()
    };
    // A cell that is closed all around has no pressure.
    let mut residual: Vec<f32> =
        rows.iter().zip(right).map(|(row, b)| if row.diagonal > 0.0 { *b } else { 0.0 }).collect();
    let first = dot(&residual, &residual);
    let mut direction = solved(&residual);
    let mut norm = dot(&residual, &direction);
    let mut image = Vec::new();
    let mut left = 1.0;
    for iteration in 0..MAX_ITERATIONS {
        if norm <= 0.0 || left <= TOLERANCE {
            return (iteration, if first > 0.0 { left } else { 0.0 });
        }
        multiply(&direction, &mut image);
        let curvature = dot(&direction, &image);
        if curvature <= 0.0 || !curvature.is_finite() {
            return (iteration, left);
        }
        let length = (norm / curvature) as f32;
        for i in 0..q.len() {
            q[i] += length * direction[i];
            residual[i] -= length * image[i];
        }
        left = (dot(&residual, &residual) / first).sqrt();
        let next = solved(&residual);
        let norm_after = dot(&residual, &next);
        let back = (norm_after / norm) as f32;
        direction.iter_mut().zip(&next).for_each(|(d, z)| *d = *z + back * *d);
        norm = norm_after;
    }
    (MAX_ITERATIONS, left)
}

/// Gives faces without liquid beside them the mean of those around that have one, so often.
pub(super) fn extrapolate(tiles: &Tiles, faces: &mut Faces, rounds: u32) {
    for axis in 0..3 {
        for _ in 0..rounds {
            let (velocities, known) = (&faces.velocities[axis], &faces.known[axis]);
            let of = |cell: usize| {
                if known[cell] {
                    return (velocities[cell], true);
                }
                let (tile, at) = (cell / CELLS, local(cell % CELLS));
                let (mut sum, mut count) = (0.0, 0);
                for step in IVec3::AXES.into_iter().flat_map(|axis| [axis, -axis]) {
                    if let Some(other) = tiles.cell(tile, at + step).filter(|other| known[*other]) {
                        (sum, count) = (sum + velocities[other], count + 1);
                    }
                }
                if count > 0 { (sum / count as f32, true) } else { (0.0, false) }
            };
            let all = (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(of);
            (faces.velocities[axis], faces.known[axis]) = all.unzip();
        }
    }
}
