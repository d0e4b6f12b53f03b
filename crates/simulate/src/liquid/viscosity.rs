//! Stress beside the pressure: the velocities on the faces diffuse, implicitly, by the whole stress of a viscous liquid, so that its
//! surface turns and folds as it should (C. Batty and R. Bridson, *Accurate viscous free surfaces for buckling, coiling, and rotating
//! liquids*, 2008), and are pushed by the elastic stress that particles carry.
//!
//! For the velocity u along axis a at a face, with μ̂ = μ Δt / (ρ Δx²), σ̂ = σ Δt / (ρ Δx), and weights w of liquid at the centres of
//! cells and at edges: V u − (2 Δ_a (w μ̂ Δ_a u) + Σ_b Δ_b (w μ̂ (Δ_b u + Δ_a v_b))) = V u_old + Σ_b Δ_b (w σ̂_ab). Where solids close
//! faces the velocities are theirs.

use super::boundary::Boundary;
use super::cell_properties::CellProperties;
use super::cell_stress::{CellStress, MAX_PUSH};
use super::conjugate_gradients::{Tolerance, conjugate_gradients, dot};
use super::coupling::{BodyImpulse, SolidMotion};
use super::solids::CutCells;
use super::transfer::Faces;
use super::viscous_coupling::{Link, ViscousCoupling};
use super::viscous_multigrid::{MatrixRow, Places, ViscousMultigrid};
use super::volume_fraction::VolumeFraction;
use geometry::tiles::{CELLS, Tiles, local};
use glam::IVec3;
use rayon::prelude::*;

/// A face that is open by less is no unknown: its centre lies in a wall.
pub(super) const LEAST_OPEN: f32 = 0.5;
/// Marks a face that is no unknown.
const FIXED: u32 = u32::MAX;
/// Marks a face in the air.
const AIR: u32 = u32::MAX - 1;
/// The remaining force, as a part of that at first, where the pressure is solved for afterwards.
pub(super) const TOLERANCE: Tolerance = Tolerance::Residual(1e-4);
/// Cells around liquid in which faces of air go with it.
pub(super) const EDGE: i32 = 1;
/// The least volume of liquid at a face, in cells.
const LEAST_VOLUME: f32 = 0.1;
/// What holds a face that no particle has given a velocity, so that it goes with the faces beside, in cells.
const LEAST_INERTIA: f32 = 1e-3;
/// The least distance of a wall from the centre of a face, in cells.
const LEAST_WALL_DISTANCE: f32 = 0.1;
/// A face's equation, beside the matrix.
struct Row {
    volume: f32,
    /// The same as it holds the velocity that the face has; hardly any where it has none yet.
    inertia: f32,
    /// What the fixed faces around add.
    right: f32,
    /// Σ_b Δ_b (w σ̂_ab).
    push: f32,
    /// Fixed faces of free bodies: axis and cell, factor, and what the elastic stress gives this face there.
    closed: Vec<((usize, usize), f32, f32)>,
}

/// The distance of a wall from the centre of a face, if a wall closes the other one of a pair, in cells.
fn to_wall(solids: &CutCells, numbers: &Numbers, axis: usize, pair: [usize; 2]) -> Option<f32> {
    let [first, second] = pair.map(|face| solids.open(axis, face));
    match pair.map(|face| numbers.0[axis][face] == FIXED) {
        [false, true] => Some(wall_distance(first, second)),
        [true, false] => Some(wall_distance(second, first)),
        _ => None,
    }
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

/// The equations of a step.
pub(super) struct Viscosity<'a> {
    tiles: &'a Tiles,
    solids: &'a CutCells,
    stress: &'a CellStress,
    properties: &'a CellProperties,
    numbers: Numbers,
    /// The axis and the cell of each unknown.
    unknowns: Vec<(u8, u32)>,
    rows: Vec<Row>,
    multigrid: ViscousMultigrid,
    /// How far each cell is liquid.
    amounts: Vec<f32>,
    /// The axis and the cell of each fixed face that is open in part.
    in_walls: Vec<(u8, u32)>,
}

impl<'a> Viscosity<'a> {
    /// Where the velocity along a wall is that of the wall by the friction of the liquid.
    pub fn new(
        tiles: &'a Tiles,
        solids: &'a CutCells,
        (volume_fraction, faces): (&VolumeFraction, &Faces),
        stress: &'a CellStress,
        properties: &'a CellProperties,
    ) -> Self {
        // How far a cell is liquid.
        let amount_of = |distance: &f32| (0.5 - distance).clamp(0.0, 1.0);
        let amounts: Vec<f32> =
            volume_fraction.distance.par_iter().with_min_len(CELLS).map(amount_of).collect();
        let amount = |cell: usize| amounts[cell];
        let liquid = |cell: usize| amount(cell) > 0.0;
        let below =
            |axis: usize, cell: usize| tiles.cell(cell / CELLS, local(cell % CELLS) - IVec3::AXES[axis]);
        let kind = |axis: usize, cell: usize| match (solids.open(axis, cell), below(axis, cell)) {
            (open, _) if open < LEAST_OPEN => FIXED,
            (_, Some(below)) if liquid(cell) || liquid(below) => 0,
            _ => AIR,
        };
        let mut numbers = Numbers([0, 1, 2].map(|axis| {
            (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(|cell| kind(axis, cell)).collect()
        }));
        let places = Places::number(tiles, &mut numbers.0, |number| number == 0);
        let unknowns: Vec<(u8, u32)> = places.faces().collect();
        // The mean μ̂ and component of σ̂ of the cells at an edge, and its weight: how far they are liquid, or of a wall its friction.
        let edge = |corners: [Option<usize>; 4], component: usize, friction: f32| {
            let (mut viscosity, mut push, mut full, mut walls) = (0.0, 0.0, 0.0, 0.0);
            for cell in corners.into_iter().flatten() {
                if solids.volume(cell) <= 0.0 {
                    walls += friction;
                    continue;
                }
                let (amount, values) = (amount(cell), stress.of(cell));
                full += amount;
                viscosity += amount * values[0];
                push += amount * values[component];
            }
            let scale = if full > 0.0 { 1.0 / full } else { 0.0 };
            (viscosity * scale, push * scale, 0.25 * (full + walls))
        };
        // Volume of the liquid at a face.
        let volume = |axis: usize, cell: usize| 0.5 * (amount(cell) + below(axis, cell).map_or(0.0, amount));
        // The least such of the faces at an edge that are unknown: hardly filled ones are not pushed as if they were full.
        let least_volume = |pairs: &[(usize, [usize; 2]); 2]| {
            let faces = pairs.iter().flat_map(|(axis, pair)| pair.map(|face| (*axis, face)));
            let unknown = faces.filter(|(axis, face)| numbers.0[*axis][*face] != FIXED);
            unknown.map(|(axis, face)| volume(axis, face)).fold(1.0, f32::min)
        };
        // The equation of an unknown, and its row of the matrix.
        let row = |number: u32, &(axis, cell): &(u8, u32)| {
            let (a, cell) = (usize::from(axis), cell as usize);
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let find = |by: IVec3| tiles.cell(tile, at + by);
            let mut row = Row {
                volume: LEAST_VOLUME,
                inertia: LEAST_INERTIA,
                right: 0.0,
                push: 0.0,
                closed: Vec::new(),
            };
            let (along, back) = (IVec3::AXES[a], -IVec3::AXES[a]);
            let density = properties.density([Some(cell), find(back)]);
            row.volume = density * volume(a, cell).max(LEAST_VOLUME);
            row.inertia = if faces.known[a][cell] { row.volume } else { density * LEAST_INERTIA };
            let (mut matrix_row, mut diagonal) = (MatrixRow::new(number, 0.0), row.inertia);
            let mut add = |row: &mut Row, axis: usize, face: usize, factor: f32, push: f32| match numbers.0
                [axis][face]
            {
                FIXED => {
                    row.right += factor * solids.velocity(axis, face);
                    if solids.any_body && solids.body(axis, face).is_some() {
                        row.closed.push(((axis, face), factor, push));
                    }
                }
                number => matrix_row.add(number, -factor),
            };
            // Along its own axis, through the centres of the cells on both sides.
            for (sign, through, to) in [(1.0, Some(cell), find(along)), (-1.0, find(back), find(back))] {
                let (Some(through), Some(to)) = (through, to) else { continue };
                if numbers.is_air(a, to) || !liquid(through) {
                    continue;
                }
                let values = stress.of(through);
                let weight = 2.0 * values[0] * amount(through);
                diagonal += weight;
                let push = sign * amount(through) * values[1 + a];
                row.push += push;
                add(&mut row, a, to, weight, push);
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
                    let at_wall =
                        pairs.into_iter().find_map(|(axis, pair)| to_wall(solids, &numbers, axis, pair));
                    let friction = properties.wall_friction(corners);
                    let (viscosity, push, full) = edge(corners, 3 + a + b, friction);
                    let (weight, held) = match at_wall {
                        // The wall is nearer than the next face, and holds by its friction.
                        Some(distance) => (viscosity * friction / distance, friction),
                        None => (viscosity * full, full),
                    };
                    diagonal += weight;
                    let push = if stress.can_be_elastic() {
                        sign as f32 * push * held.min(MAX_PUSH * least_volume(&pairs))
                    } else {
                        0.0
                    };
                    row.push += push;
                    add(&mut row, a, beside, weight, push);
                    add(&mut row, b, after, sign as f32 * weight, 0.0);
                    add(&mut row, b, before, -(sign as f32) * weight, 0.0);
                }
            }
            matrix_row.diagonal = diagonal;
            (row, matrix_row)
        };
        let each = unknowns.par_iter().enumerate().with_min_len(256);
        let (rows, matrix): (Vec<Row>, Vec<MatrixRow>) =
            each.map(|(number, face)| row(number as u32, face)).unzip();
        let inertia = rows.iter().map(|row| row.inertia).collect();
        let multigrid = ViscousMultigrid::new(matrix, inertia, places);
        let in_walls = |axis: u8| {
            let in_wall = move |cell: &u32| {
                let open = solids.open(usize::from(axis), *cell as usize);
                open > 0.0 && open < LEAST_OPEN
            };
            let cells = |tile: usize| (tile * CELLS) as u32..((tile + 1) * CELLS) as u32;
            let tiles = (0..tiles.len()).filter(|tile| solids.any_in(*tile));
            tiles.flat_map(cells).filter(in_wall).map(move |cell| (axis, cell))
        };
        let in_walls = [0, 1, 2].into_iter().flat_map(in_walls).collect();
        Self { tiles, solids, stress, properties, numbers, unknowns, rows, multigrid, amounts, in_walls }
    }

    /// About the pressure that viscosity sets against an inflow of 1 into a cell: 2 μ̂ w / φ, where w is how far the cell is liquid and φ
    /// the part of it that solids leave.
    pub fn pressure_of_inflow(&self, cell: usize) -> f32 {
        2.0 * self.stress.viscosity(cell) * self.amounts[cell].max(LEAST_VOLUME)
            / self.solids.volume(cell).max(LEAST_VOLUME)
    }

    /// The free bodies that it reaches, as they move at first.
    pub fn coupling(&self, boundary: &impl Boundary) -> ViscousCoupling {
        if !self.solids.any_body {
            return ViscousCoupling::default();
        }
        let mut links = Vec::new();
        for (row, ((own_axis, own), of)) in (0..).zip(self.unknowns.iter().zip(&self.rows)) {
            for (closed, factor, push) in &of.closed {
                let Some(body) = self.solids.body(closed.0, closed.1) else { continue };
                let own = (usize::from(*own_axis), *own as usize);
                links.push(Link { body, row, own, closed: *closed, factor: *factor, push: *push });
            }
        }
        ViscousCoupling::new(self.tiles, &links, boundary, self.properties.common.density_kg_m3)
    }

    /// Pushes the liquid by the elastic stress; gives what free bodies get of it.
    pub fn push(&self, faces: &mut Faces, coupling: &ViscousCoupling) -> Vec<BodyImpulse> {
        for ((axis, cell), row) in self.unknowns.iter().zip(&self.rows) {
            faces.velocities[usize::from(*axis)][*cell as usize] += row.push / row.volume;
        }
        coupling.pushes()
    }

    /// In each cell: 1 if it is liquid, 0 if not, and the rates of strain times Δx, m/s: xx, yy, zz, xy, xz, yz. Those across are
    /// means of the four edges around, as the stress at an edge is the mean of the cells around, so that the stress does the work
    /// that the deformation takes.
    pub fn strain_rates(
        &self,
        faces: &Faces,
        volume_fraction: &VolumeFraction,
        motion: &SolidMotion,
    ) -> Vec<[f32; 8]> {
        let Self { tiles, solids, properties, numbers, .. } = self;
        let velocity = |axis: usize, cell: usize| match numbers.0[axis][cell] {
            FIXED => motion.velocity(tiles, solids, (axis, cell)),
            _ => faces.velocities[axis][cell],
        };
        // At the edge below a cell along a and b, of the faces along a.
        let across = |[a, b]: [usize; 2], cell: usize| {
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let find = |by: IVec3| tiles.cell(tile, at + by);
            let (Some(first), Some(second)) = (find(-IVec3::AXES[b]), find(-IVec3::AXES[a])) else {
                return 0.0;
            };
            let pairs = [(a, [first, cell]), (b, [second, cell])];
            if pairs.iter().any(|(axis, pair)| pair.iter().any(|face| numbers.is_air(*axis, *face))) {
                return 0.0;
            }
            let differences =
                pairs.map(|(axis, [lower, upper])| velocity(axis, upper) - velocity(axis, lower));
            let at_wall = pairs.into_iter().find_map(|(axis, pair)| to_wall(solids, numbers, axis, pair));
            let corners = || [Some(cell), Some(first), Some(second), find(-IVec3::AXES[a] - IVec3::AXES[b])];
            let scale = at_wall.map_or(1.0, |distance| properties.wall_friction(corners()) / distance);
            0.5 * scale * (differences[0] + differences[1])
        };
        let of = |cell: usize| {
            if volume_fraction.distance[cell] >= 0.5 {
                return [0.0; 8];
            }
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let find = |by: IVec3| tiles.cell(tile, at + by);
            let along = |axis: usize| {
                find(IVec3::AXES[axis]).map_or(0.0, |above| velocity(axis, above) - velocity(axis, cell))
            };
            let mean = |[a, b]: [usize; 2]| {
                let (by_a, by_b) = (IVec3::AXES[a], IVec3::AXES[b]);
                let edges = [Some(cell), find(by_a), find(by_b), find(by_a + by_b)];
                0.25 * edges.into_iter().flatten().map(|edge| across([a, b], edge)).sum::<f32>()
            };
            [1.0, along(0), along(1), along(2), mean([0, 1]), mean([0, 2]), mean([1, 2]), 0.0]
        };
        (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(of).collect()
    }

    /// Lets walls hold what lies on them thinner than the grid has unknowns for, as a film of one particle.
    fn hold_films(&self, faces: &mut Faces) {
        // Of a film of half a cell: the shear between its middle and the wall over its mass.
        const FILM: f32 = 8.0;
        let Self { tiles, solids, stress, properties, numbers, .. } = self;
        for axis in 0..3 {
            let columns =
                faces.velocities[axis].par_chunks_mut(CELLS).zip(faces.known[axis].par_chunks(CELLS));
            let walled = columns.enumerate().filter(|(tile, _)| solids.any_in(*tile));
            walled.for_each(|(tile, (velocities, known))| {
                for (place, (velocity, known)) in velocities.iter_mut().zip(known).enumerate() {
                    let cell = tile * CELLS + place;
                    if !known || !numbers.is_air(axis, cell) {
                        continue;
                    }
                    let across =
                        (0..3).filter(|b| *b != axis).flat_map(|b| [IVec3::AXES[b], -IVec3::AXES[b]]);
                    let mut beside = across.filter_map(|by| tiles.cell(tile, local(place) + by));
                    if let Some(wall) = beside.find(|face| numbers.0[axis][*face] == FIXED) {
                        let held = FILM * properties.wall_friction([Some(cell)]) * stress.of(cell)[0];
                        *velocity = (*velocity + held * solids.velocity(axis, wall)) / (1.0 + held);
                    }
                }
            });
        }
    }

    /// Lets the velocities on the faces diffuse, pushed by impulses over ρ Δx³ by axis and cell. Free bodies gain by it in `motion`. Faces
    /// of air up to `edge` cells away from the liquid go with it.
    pub fn diffuse(
        &self,
        faces: &mut Faces,
        impulse: impl Fn(usize, usize) -> f32 + Sync,
        coupling: &ViscousCoupling,
        motion: &mut SolidMotion,
        (tolerance, edge): (Tolerance, i32),
    ) {
        self.hold_films(faces);
        let Self { tiles, numbers, unknowns, rows, .. } = self;
        let mut x = self.velocities(faces);
        let right = |((axis, cell), (row, x)): (&(u8, u32), (&Row, &f32))| {
            row.inertia * x + row.right + impulse(usize::from(*axis), *cell as usize)
        };
        let each = unknowns.par_iter().zip(rows.par_iter().zip(&x)).with_min_len(1_024);
        let mut right: Vec<f32> = each.map(right).collect();
        self.solve(&mut right, &mut x, coupling, motion, tolerance);
        self.set_velocities(&x, faces);
        // Faces at the edge of the liquid with hardly any of it go with the faces around them, across edges and corners of
        // cells too: particles there would fall off one by one.
        let side = 2 * edge + 1;
        let around = |k: i32| IVec3::new(k % side, k / side % side, k / (side * side)) - edge;
        for axis in 0..3 {
            let numbers = &numbers.0[axis];
            let is_edge = |cell: usize| {
                let (tile, at) = (cell / CELLS, local(cell % CELLS));
                let mut around = (0..side.pow(3)).map(around);
                numbers[cell] == AIR
                    && around.any(|by| tiles.cell(tile, at + by).is_some_and(|of| numbers[of] < AIR))
            };
            faces.known[axis].par_iter_mut().enumerate().with_min_len(CELLS).for_each(|(cell, known)| {
                *known = *known && !is_edge(cell);
            });
        }
        self.extend_into_walls(faces, motion);
    }

    /// The kinetic energy of the unknowns in `faces`, over ρ Δx³, m²/s².
    pub fn kinetic_energy(&self, faces: &Faces) -> f64 {
        let velocities = self.velocities(faces);
        let momenta: Vec<f32> = self.rows.iter().zip(&velocities).map(|(row, x)| row.inertia * x).collect();
        0.5 * dot(&momenta, &velocities)
    }

    /// The velocities of the unknowns in `faces`.
    pub fn velocities(&self, faces: &Faces) -> Vec<f32> {
        self.unknowns
            .iter()
            .map(|(axis, cell)| faces.velocities[usize::from(*axis)][*cell as usize])
            .collect()
    }

    /// Puts the velocities of the unknowns into `faces`.
    pub fn set_velocities(&self, x: &[f32], faces: &mut Faces) {
        for ((axis, cell), x) in self.unknowns.iter().zip(x) {
            faces.velocities[usize::from(*axis)][*cell as usize] = *x;
        }
    }

    /// By how much the velocities of the unknowns differ once they have diffused if faces get impulses over ρ Δx³, by axis and cell, and
    /// the solids move by `motion`; `coupling` is that of bodies at rest. The solution starts from `x`, or from 0 if that is empty.
    pub fn response(
        &self,
        mut x: Vec<f32>,
        impulse: impl Fn(usize, usize) -> f32 + Sync,
        coupling: &ViscousCoupling,
        motion: &mut SolidMotion,
        tolerance: Tolerance,
    ) -> Vec<f32> {
        let impulse = |(axis, cell): &(u8, u32)| impulse(usize::from(*axis), *cell as usize);
        let mut right: Vec<f32> = self.unknowns.par_iter().with_min_len(1_024).map(impulse).collect();
        x.resize(right.len(), 0.0);
        self.solve(&mut right, &mut x, coupling, motion, tolerance);
        x
    }

    /// Solves the equations from the velocities `x`, with right sides to which solids add; free bodies gain by it.
    fn solve(
        &self,
        right: &mut [f32],
        x: &mut [f32],
        coupling: &ViscousCoupling,
        motion: &mut SolidMotion,
        tolerance: Tolerance,
    ) {
        let rows = &self.rows;
        for (right, row) in right.iter_mut().zip(rows).filter(|(_, row)| !row.closed.is_empty()) {
            *right +=
                row.closed.iter().map(|(face, factor, _)| factor * motion.surface_change(*face)).sum::<f32>();
        }
        coupling.add_right(right, &motion.bodies);
        let multiply = |x: &[f32], out: &mut [f32]| {
            self.multigrid.multiply(x, out);
            coupling.add_product(x, out);
        };
        let mut scratch = self.multigrid.scratch();
        let precondition =
            |right: &[f32], out: &mut Vec<f32>| self.multigrid.precondition(&mut scratch, right, out);
        conjugate_gradients(multiply, precondition, |_| {}, right, x, tolerance);
        motion.add_impulses(coupling.impulses(x, &motion.bodies));
    }

    /// Gives faces whose centres lie in a wall the velocity by which that at the wall is right.
    pub fn extend_into_walls(&self, faces: &mut Faces, motion: &SolidMotion) {
        let Self { tiles, solids, properties, numbers, .. } = self;
        for (axis, cell) in &self.in_walls {
            let (axis, cell) = (usize::from(*axis), *cell as usize);
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let (mut sum, mut count) = (0.0, 0.0);
            for by in (0..3).filter(|b| *b != axis).flat_map(|b| [IVec3::AXES[b], -IVec3::AXES[b]]) {
                if let Some(beside) = tiles.cell(tile, at + by).filter(|of| numbers.0[axis][*of] < AIR) {
                    (sum, count) = (sum + faces.velocities[axis][beside], count + 1.0);
                }
            }
            if count > 0.0 {
                let beside = sum / count;
                let wall = motion.velocity(tiles, solids, (axis, cell));
                let distance = wall_distance(1.0, solids.open(axis, cell));
                let friction = properties.wall_friction([Some(cell)]);
                faces.velocities[axis][cell] = beside + friction * (wall - beside) / distance;
            }
        }
    }
}
