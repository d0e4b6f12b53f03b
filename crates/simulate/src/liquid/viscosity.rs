//! Viscosity: the velocities on the faces diffuse, implicitly, by the whole stress of a viscous liquid, so that its surface turns and
//! folds as it should (C. Batty and R. Bridson, *Accurate viscous free surfaces for buckling, coiling, and rotating liquids*, 2008).
//!
//! For the velocity u along axis a at a face, with μ̂ = μ Δt / (ρ Δx²) and weights w of liquid at the centres of cells and at
//! edges: V u − μ̂ (2 Δ_a (w Δ_a u) + Σ_b Δ_b (w (Δ_b u + Δ_a v_b))) = V u_old. Where solids close faces the velocities are theirs.

use super::conjugate_gradients::{Convergence, by_diagonal, conjugate_gradients};
use super::solids::CutCells;
use super::transfer::Faces;
use super::volume_fraction::VolumeFraction;
use geometry::tiles::{CELLS, Tiles, local};
use glam::IVec3;
use rayon::prelude::*;

/// Marks a face that is no unknown.
const FIXED: u32 = u32::MAX;
/// Marks a face in the air.
const AIR: u32 = u32::MAX - 1;
/// The remaining force, as a part of that at first.
const TOLERANCE: f64 = 1e-4;
/// The least volume of liquid at a face, in cells.
const LEAST_VOLUME: f32 = 0.1;
/// The least distance of a wall from the centre of a face, in cells.
const LEAST_WALL_DISTANCE: f32 = 0.1;
/// Faces in an equation, beside its own.
const NEIGHBOURS: usize = 14;

/// A face's equation.
struct Row {
    neighbours: [u32; NEIGHBOURS],
    factors: [f32; NEIGHBOURS],
    diagonal: f32,
    volume: f32,
    /// What the fixed faces around add.
    right: f32,
    count: usize,
}

/// The numbers of the faces among the unknowns.
struct Numbers([Vec<u32>; 3]);

impl Numbers {
    fn is_air(&self, axis: usize, cell: usize) -> bool {
        self.0[axis][cell] == AIR
    }
}

/// Distance of a wall from the centre of a face, towards the next face, in cells, from how far both are open.
fn wall_distance(open: f32, next: f32) -> f32 {
    (open - 0.5 + next).clamp(LEAST_WALL_DISTANCE, 1.0)
}

/// Lets the velocities on the faces diffuse; `viscosity` is μ Δt / (ρ Δx²), and the velocity along a wall is that of the wall by
/// `friction`, 0–1.
pub(super) fn diffuse(
    tiles: &Tiles,
    faces: &mut Faces,
    solids: &CutCells,
    volume_fraction: &VolumeFraction,
    viscosity: f32,
    friction: f32,
) -> Convergence {
    // How far a cell is liquid.
    let amount = |cell: usize| (0.5 - volume_fraction.distance[cell]).clamp(0.0, 1.0);
    let liquid = |cell: usize| amount(cell) > 0.0;
    let below = |axis: usize, cell: usize| tiles.cell(cell / CELLS, local(cell % CELLS) - IVec3::AXES[axis]);
    let kind = |axis: usize, cell: usize| match (solids.open(axis, cell), below(axis, cell)) {
        (open, _) if open < 0.5 => FIXED,
        (_, Some(below)) if liquid(cell) || liquid(below) => 0,
        _ => AIR,
    };
    let mut numbers = Numbers([0, 1, 2].map(|axis| {
        (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(|cell| kind(axis, cell)).collect()
    }));
    let mut unknowns: Vec<(u8, u32)> = Vec::new();
    for axis in 0..3 {
        for (cell, number) in numbers.0[axis].iter_mut().enumerate() {
            if *number == 0 {
                *number = unknowns.len() as u32;
                unknowns.push((axis as u8, cell as u32));
            }
        }
    }
    // Weight of a cell in the shear at an edge: how far it is liquid, or of a wall its friction.
    let shear_weight = |cell: usize| {
        if solids.volume(cell) > 0.0 { amount(cell) } else { friction }
    };
    let velocity = |axis: usize, cell: usize| match numbers.0[axis][cell] {
        FIXED => solids.velocity(axis, cell),
        _ => faces.velocities[axis][cell],
    };
    // The distance of a wall from the centre of a face, if a wall closes the other one of a pair.
    let to_wall = |axis: usize, pair: [usize; 2]| {
        let [first, second] = pair.map(|face| solids.open(axis, face));
        match pair.map(|face| numbers.0[axis][face] == FIXED) {
            [false, true] => Some(wall_distance(first, second)),
            [true, false] => Some(wall_distance(second, first)),
            _ => None,
        }
    };
    let row = |&(axis, cell): &(u8, u32)| {
        let (a, cell) = (usize::from(axis), cell as usize);
        let (tile, at) = (cell / CELLS, local(cell % CELLS));
        let find = |by: IVec3| tiles.cell(tile, at + by);
        let mut row = Row {
            neighbours: [FIXED; NEIGHBOURS],
            factors: [0.0; NEIGHBOURS],
            diagonal: 0.0,
            volume: LEAST_VOLUME,
            right: 0.0,
            count: 0,
        };
        let (along, back) = (IVec3::AXES[a], -IVec3::AXES[a]);
        if let Some(other) = find(back) {
            row.volume = (0.5 * (amount(cell) + amount(other))).max(LEAST_VOLUME);
        }
        row.diagonal = row.volume;
        let add = |row: &mut Row, axis: usize, face: usize, factor: f32| match numbers.0[axis][face] {
            FIXED => row.right += factor * solids.velocity(axis, face),
            number => {
                (row.neighbours[row.count], row.factors[row.count]) = (number, factor);
                row.count += 1;
            }
        };
        // Along its own axis, through the centres of the cells on both sides.
        for (through, to) in [(Some(cell), find(along)), (find(back), find(back))] {
            let (Some(through), Some(to)) = (through, to) else { continue };
            if numbers.is_air(a, to) || !liquid(through) {
                continue;
            }
            let weight = 2.0 * viscosity * amount(through);
            row.diagonal += weight;
            add(&mut row, a, to, weight);
        }
        // Across, through the edges on both sides along each other axis.
        for b in (0..3).filter(|b| *b != a) {
            let across = IVec3::AXES[b];
            for sign in [1, -1] {
                // The face beside, and the two faces along b that meet at the edge: on this side of it along a, and before.
                let up = if sign == 1 { across } else { IVec3::ZERO };
                let beside = find(sign * across);
                let (after, before) = (find(up), find(up + back));
                let corners = [Some(cell), find(back), beside, find(sign * across + back)];
                let (Some(beside), Some(after), Some(before)) = (beside, after, before) else { continue };
                if numbers.is_air(a, beside) || numbers.is_air(b, after) || numbers.is_air(b, before) {
                    continue;
                }
                // The same for the equations of all four faces at the edge, so that these are symmetric.
                let mut pairs = [(a, [cell, beside]), (b, [before, after])];
                pairs.sort_unstable_by_key(|(axis, _)| *axis);
                let at_wall = pairs.into_iter().find_map(|(axis, pair)| to_wall(axis, pair));
                let weight = match at_wall {
                    // The wall is nearer than the next face, and holds by its friction.
                    Some(distance) => viscosity * friction / distance,
                    None => viscosity * 0.25 * corners.into_iter().flatten().map(shear_weight).sum::<f32>(),
                };
                row.diagonal += weight;
                add(&mut row, a, beside, weight);
                add(&mut row, b, after, sign as f32 * weight);
                add(&mut row, b, before, -(sign as f32) * weight);
            }
        }
        row
    };
    let rows: Vec<Row> = unknowns.par_iter().with_min_len(256).map(row).collect();
    let mut x: Vec<f32> =
        unknowns.iter().map(|(axis, cell)| velocity(usize::from(*axis), *cell as usize)).collect();
    let right: Vec<f32> = rows.iter().zip(&x).map(|(row, x)| row.volume * x + row.right).collect();
    let multiply = |x: &[f32], out: &mut [f32]| {
        let of = |(out, (row, own)): (&mut f32, (&Row, &f32))| {
            let pairs = row.neighbours[..row.count].iter().zip(&row.factors);
            *out = pairs.fold(row.diagonal * own, |sum, (other, factor)| sum - factor * x[*other as usize]);
        };
        out.par_iter_mut().zip(rows.par_iter().zip(x)).with_min_len(1_024).for_each(of);
    };
    let diagonal: Vec<f32> = rows.iter().map(|row| row.diagonal).collect();
    let precondition = |right: &[f32], out: &mut Vec<f32>| by_diagonal(&diagonal, right, out);
    let convergence = conjugate_gradients(multiply, precondition, |_| true, &right, &mut x, TOLERANCE);
    for ((axis, cell), x) in unknowns.iter().zip(&x) {
        faces.velocities[usize::from(*axis)][*cell as usize] = *x;
    }
    // Faces at the edge of the liquid with hardly any of it go with the faces beside them.
    for axis in 0..3 {
        let numbers = &numbers.0[axis];
        let is_edge = |cell: usize| {
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let around = IVec3::AXES.into_iter().flat_map(|axis| [axis, -axis]);
            numbers[cell] == AIR
                && around.into_iter().any(|by| tiles.cell(tile, at + by).is_some_and(|of| numbers[of] < AIR))
        };
        faces.known[axis].par_iter_mut().enumerate().with_min_len(CELLS).for_each(|(cell, known)| {
            *known &= !is_edge(cell);
        });
    }
    // Faces whose centres lie in a wall have the velocity by which that at the wall is right.
    for axis in 0..3 {
        let in_wall =
            |cell: &usize| (0.0..0.5).contains(&solids.open(axis, *cell)) && solids.open(axis, *cell) > 0.0;
        for cell in (0..tiles.cells()).filter(in_wall).collect::<Vec<_>>() {
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let (mut sum, mut count) = (0.0, 0.0);
            for by in (0..3).filter(|b| *b != axis).flat_map(|b| [IVec3::AXES[b], -IVec3::AXES[b]]) {
                if let Some(beside) = tiles.cell(tile, at + by).filter(|of| numbers.0[axis][*of] < AIR) {
                    (sum, count) = (sum + faces.velocities[axis][beside], count + 1.0);
                }
            }
            if count > 0.0 {
                let beside = sum / count;
                let wall = solids.velocity(axis, cell);
                let distance = wall_distance(1.0, solids.open(axis, cell));
                faces.velocities[axis][cell] = beside + friction * (wall - beside) / distance;
            }
        }
    }
    convergence
}
