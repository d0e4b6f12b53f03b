//! Pressure: the velocities on the faces are made free of divergence where there is liquid.
//!
//! Solids leave a part of each face open, as in the variational form of C. Batty, F. Bertails and R. Bridson, *A fast variational
//! framework for accurate solid-fluid coupling*, 2007; at the surface the pressure is that of the air, 0, at the place between two
//! cells' centres where the surface lies (F. Gibou et al., *A second-order-accurate symmetric discretization of the Poisson equation
//! on irregular domains*, 2002). With q the pressure times Δt / (ρ Δx), which is a speed, and open parts α, each liquid cell has
//! Σ α (q − q') / θ = −Σ ± (α u + (1 − α) u_solid), solved by conjugate gradients that `multigrid.rs` preconditions.

use super::cell_properties::CellProperties;
use super::cell_transfer::from_cells;
use super::conjugate_gradients::{Convergence, Tolerance, conjugate_gradients, dot};
use super::coupling::{Coupling, SolidMotion};
use super::curvature::curvature;
use super::grid::{NONE, UnknownCells, step};
use super::masks::{Mask, has, masks_of, with_beside};
use super::matrix::{Equation, Matrix};
use super::multigrid::{Multigrid, Scratch};
use super::solids::CutCells;
use super::transfer::Faces;
use super::volume_fraction::VolumeFraction;
use geometry::tiles::{CELLS, LANES, Tiles, local, place};
use glam::{IVec3, Vec3};
use rayon::prelude::*;

/// The least θ.
const LEAST_FRACTION: f32 = 0.05;
/// The remaining divergence, as a part of that at first.
const TOLERANCE: f64 = 1e-4;
/// The same, from which on it is told.
const POOR: f64 = 100.0 * TOLERANCE;
/// The same of what is too dense, of which a part is taken out anyway.
const CORRECTION_TOLERANCE: f64 = 1e-2;
/// Most that a cell is too dense or too thin by, in its volume, and that particles are moved by for that, in cells.
const MAX_DENSITY_ERROR: f32 = 0.5;

/// How the solution went.
#[derive(Clone, Copy, Debug, Default)]
pub struct Solved {
    /// Liquid cells.
    pub cells: usize,
    /// Iterations taken.
    pub iterations: u32,
    /// The divergence that is left, as a part of that at first; no unit.
    pub residual: f64,
    /// Root mean square of the divergence that is left, 1/s.
    pub divergence_1_s: f64,
}

impl Solved {
    /// Whether so much is left that a frame shows it.
    pub fn is_poor(&self) -> bool {
        self.residual > POOR || self.residual.is_nan()
    }
}

/// The equations of all liquid cells: of the pressure, and of what spreads particles.
pub(super) struct Equations<'a> {
    tiles: &'a Tiles,
    solids: &'a CutCells,
    volume_fraction: &'a VolumeFraction,
    properties: &'a CellProperties,
    /// q of the surface tension in each cell, m/s; empty: none.
    tension: Vec<f32>,
    /// The cells beside liquid, where surface tension acts.
    edge: Vec<Mask>,
    /// The liquid cells, and where their values lie in columns.
    cells: UnknownCells,
    multigrid: Multigrid,
    scratch: Scratch,
    /// q of each liquid cell of all projections so far, m/s.
    pressure: Vec<f32>,
}

impl<'a> Equations<'a> {
    /// With the densities of `properties`, without surface tension.
    pub fn new(
        tiles: &'a Tiles,
        solids: &'a CutCells,
        volume_fraction: &'a VolumeFraction,
        properties: &'a CellProperties,
    ) -> Self {
        let cells = UnknownCells::new(&tiles.keys, |cell| volume_fraction.distance[cell] < 0.0);
        let (grid, number) = (&cells.grid, &cells.number);
        let is_within = |tile: usize| {
            let own = cells.tile(tile);
            let above = || IVec3::AXES.into_iter().filter_map(|axis| tiles.beside(own, axis));
            grid.is_full(tile)
                && (0..6).all(|side| grid.beside(tile, side).is_some_and(|beside| grid.is_full(beside)))
                && !solids.any_in(own)
                && !above().any(|tile| solids.any_in(tile))
        };
        let is_plain = |tile: usize| properties.are_alike() && is_within(tile);
        let equation = |tile: usize, at: IVec3| {
            let (tile, mut equation) = (cells.tile(tile), Equation::default());
            let cell = tile * CELLS + place(at);
            for side in 0..6 {
                // All cells around liquid have tiles.
                let Some(other) = tiles.cell(tile, at + step(side)) else { continue };
                let open = solids.open(side / 2, if side % 2 == 1 { other } else { cell });
                let density = properties.density([Some(cell), Some(other)]);
                let factor = open / (density * way(&volume_fraction.distance, cell, other));
                equation.diagonal += factor;
                if number[other] != NONE {
                    equation.factors[side] = factor;
                }
            }
            equation
        };
        let matrix = Matrix::new(grid, 1.0, is_plain, equation);
        let multigrid = Multigrid::new(grid.clone(), matrix);
        let (tension, edge) = (Vec::new(), Vec::new());
        let (scratch, pressure) = (multigrid.scratch(), vec![0.0; grid.column_len()]);
        Self {
            tiles,
            solids,
            volume_fraction,
            properties,
            tension,
            edge,
            cells,
            multigrid,
            scratch,
            pressure,
        }
    }

    /// The same with the surface tension of `properties` over `dt` seconds.
    pub fn with_tension(mut self, dt: f32) -> Self {
        let Self { tiles, solids, volume_fraction, properties, .. } = self;
        if !properties.any_tension() {
            return self;
        }
        let scale = dt / (properties.common.density_kg_m3 * tiles.cell_m * tiles.cell_m);
        let curvature = curvature(tiles, solids, volume_fraction, properties);
        let q = |(cell, curvature): (usize, f32)| scale * properties.surface_tension(cell) * curvature;
        self.tension = curvature.into_par_iter().enumerate().with_min_len(CELLS).map(q).collect();
        let liquid = masks_of(tiles, |cell| self.cells.number[cell] != NONE);
        self.edge = with_beside(tiles, &liquid, |_, _, around| *around);
        self
    }

    /// Makes `faces` free of divergence, and lets surface tension act if `with_tension`; solids that give way gain by it.
    /// Faces without liquid on either side keep their velocities.
    pub fn project(
        &mut self,
        faces: &mut Faces,
        coupling: &Coupling,
        motion: &mut SolidMotion,
        with_tension: bool,
    ) -> Solved {
        let (tiles, solids) = (self.tiles, self.solids);
        let right = self.right(faces, motion, with_tension);
        let (q, mut solved) = self.solve(&right, Some(coupling), TOLERANCE);
        self.pressure.iter_mut().zip(&q).for_each(|(sum, q)| *sum += q);
        let mean = (dot(&right, &right) / solved.cells.max(1) as f64).sqrt();
        solved.divergence_1_s = solved.residual * mean / f64::from(tiles.cell_m);
        motion.add_pressure(coupling, &q);
        for axis in 0..3 {
            let columns = (&mut faces.velocities[axis][..], &mut faces.known[axis][..]);
            self.for_each_gradient(axis, &q, with_tension, columns, |cell, gradient, velocity, known| {
                let open = solids.open(axis, cell);
                let Some(gradient) = gradient else {
                    // What has come off the liquid falls freely; the thin edge of the liquid goes with what is beside.
                    *known = *known && open > 0.0 && !self.is_at_edge(axis, cell);
                    return;
                };
                // A closed face moves with the solid.
                let new = if open > 0.0 {
                    *velocity - gradient
                } else {
                    motion.velocity(tiles, solids, (axis, cell))
                };
                (*velocity, *known) = (new, true);
            });
        }
        solved
    }

    /// The right sides of the equations.
    fn right(&self, faces: &Faces, motion: &SolidMotion, with_tension: bool) -> Vec<f32> {
        let mut right = self.inflow(faces, |face| motion.velocity(self.tiles, self.solids, face));
        if with_tension && !self.tension.is_empty() {
            let terms = self.cells.column(|cell| self.tension_term(cell));
            right.iter_mut().zip(terms).for_each(|(right, term)| *right += term);
        }
        right
    }

    /// The pressure that would make `faces` free of divergence, with surface tension, and the inflow that it would take out: the root of
    /// the sum of its squares. It does not act yet.
    pub fn inviscid_pressure(
        &mut self,
        faces: &Faces,
        coupling: &Coupling,
        motion: &SolidMotion,
    ) -> (Vec<f32>, f64) {
        let right = self.right(faces, motion, true);
        let (q, _) = self.solve(&right, Some(coupling), TOLERANCE);
        (q, dot(&right, &right).sqrt())
    }

    /// What flows into each liquid cell through its faces, m/s times the area of a face; `solid` is the velocity of solids at a face.
    pub fn inflow(&self, faces: &Faces, solid: impl Fn((usize, usize)) -> f32 + Sync) -> Vec<f32> {
        let (tiles, solids) = (self.tiles, self.solids);
        let into = |cell: usize| {
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let flow = |axis: usize, face: usize| {
                let (open, velocity) = (solids.open(axis, face), faces.velocities[axis][face]);
                if open == 1.0 { velocity } else { open * velocity + (1.0 - open) * solid((axis, face)) }
            };
            let through = |axis: usize| match tiles.cell(tile, at + IVec3::AXES[axis]) {
                Some(above) => flow(axis, cell) - flow(axis, above),
                None => 0.0,
            };
            through(0) + through(1) + through(2)
        };
        self.cells.column(into)
    }

    /// Sets to 0 what a column holds for liquid cells without an equation: those that are closed all around.
    pub fn clear_unsolved(&self, column: &mut [f32]) {
        self.multigrid.matrix().clear_unsolved(column);
    }

    /// The impulse that `q` gives an open face of a cell along an axis, over ρ Δx³: what a cell gives to two faces cancels out. With
    /// surface tension its q acts from outside.
    pub fn impulse(&self, q: &[f32], axis: usize, cell: usize, with_tension: bool) -> f32 {
        let below = self.tiles.cell(cell / CELLS, local(cell % CELLS) - IVec3::AXES[axis]);
        let Some(below) = below else { return 0.0 };
        let value = |of: usize, other: usize| match self.cells.number[of] {
            NONE if with_tension && self.cells.number[other] != NONE => self.at_surface(other, of),
            NONE => 0.0,
            number => q[number as usize],
        };
        self.solids.open(axis, cell) * (value(below, cell) - value(cell, below))
    }

    /// Puts about the pressure whose gradient takes out the inflow `right` into `q`, by a cycle.
    pub fn precondition(&mut self, right: &[f32], q: &mut Vec<f32>) {
        self.multigrid.cycle(right, q, &mut self.scratch);
    }

    /// Counts `q` to the pressure, which velocities have already.
    pub fn add_pressure(&mut self, q: &[f32], factor: f32) {
        self.pressure.iter_mut().zip(q).for_each(|(sum, q)| *sum += factor * q);
    }

    /// Whether a face between cells that are not liquid lies at the edge of a liquid whose surface tension acts: that is drawn along by
    /// the pressure at the surface, and does not fall freely.
    fn is_at_edge(&self, axis: usize, face: usize) -> bool {
        if self.edge.is_empty() {
            return false;
        }
        let below = self.tiles.cell(face / CELLS, local(face % CELLS) - IVec3::AXES[axis]);
        has(&self.edge, face) || below.is_some_and(|below| has(&self.edge, below))
    }

    /// q at the surface between a liquid cell and one outside, by surface tension.
    fn at_surface(&self, inside: usize, outside: usize) -> f32 {
        if self.tension.is_empty() {
            return 0.0;
        }
        let distance = &self.volume_fraction.distance;
        let fraction = surface_fraction(distance[inside], distance[outside]);
        self.tension[inside] + fraction * (self.tension[outside] - self.tension[inside])
    }

    /// What the surface tension around a liquid cell adds to the right side of its equation.
    fn tension_term(&self, cell: usize) -> f32 {
        if self.tension.is_empty() {
            return 0.0;
        }
        let (tile, at) = (cell / CELLS, local(cell % CELLS));
        let mut sum = 0.0;
        for side in 0..6 {
            let (axis, above) = (side / 2, side % 2 == 1);
            let step = if above { IVec3::AXES[axis] } else { -IVec3::AXES[axis] };
            let other = self.tiles.cell(tile, at + step).filter(|other| self.cells.number[*other] == NONE);
            let Some(other) = other else { continue };
            let open = self.solids.open(axis, if above { other } else { cell });
            let density = self.properties.density([Some(cell), Some(other)]);
            let way = way(&self.volume_fraction.distance, cell, other);
            sum += open / (density * way) * self.at_surface(cell, other);
        }
        sum
    }

    /// The liquid cells, and where their values lie in columns.
    pub fn cells(&self) -> &UnknownCells {
        &self.cells
    }

    /// The pressure around places, `scale` times q of all projections: that of the liquid cells and of the air beside them, with
    /// trilinear weights.
    pub fn pressures(&self, positions: &[Vec3], scale: f32) -> Vec<f32> {
        let of = |cell: usize| {
            let mut values = [0.0; LANES];
            match self.cells.number[cell] {
                NONE => values[0] = if self.solids.volume(cell) > 0.0 { 1.0 } else { 0.0 },
                number => [values[0], values[1]] = [1.0, scale * self.pressure[number as usize]],
            }
            values
        };
        let cells: Vec<[f32; LANES]> =
            (0..self.tiles.cells()).into_par_iter().with_min_len(CELLS).map(of).collect();
        from_cells(self.tiles, positions, &cells, |values| values[1])
    }

    /// The displacements at the faces, m, that bring a part of what is too dense or too thin to the volume of the liquid
    /// (T. Kugelstadt et al., *Implicit density projection for volume conserving liquids*, 2019). At the surface particles are
    /// spread, never drawn together.
    pub fn density_correction(&mut self, part: f32) -> Faces {
        let tiles = self.tiles;
        let excess = |cell: usize| {
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let around = IVec3::AXES.into_iter().flat_map(|axis| [axis, -axis]);
            let is_surface = around.into_iter().any(|by| {
                let Some(other) = tiles.cell(tile, at + by) else { return false };
                if self.solids.volume(other) <= 0.0 {
                    return false;
                }
                // Beyond a wall thinner than a cell there may be none.
                let face = if by.max_element() > 0 { other } else { cell };
                let axis = by.abs().to_array().iter().position(|step| *step == 1).unwrap_or(0);
                self.volume_fraction.distance[other] >= 0.0 || self.solids.open(axis, face) <= 0.0
            });
            let least = if is_surface { 0.0 } else { -MAX_DENSITY_ERROR };
            let excess = (self.volume_fraction.fraction[cell] - 1.0).clamp(least, MAX_DENSITY_ERROR);
            part * excess * self.solids.volume(cell) * tiles.cell_m
        };
        let right = self.cells.column(excess);
        let (q, _) = self.solve(&right, None, CORRECTION_TOLERANCE);
        let mut faces = Faces::unknown(tiles);
        for axis in 0..3 {
            let columns = (&mut faces.velocities[axis][..], &mut faces.known[axis][..]);
            self.for_each_gradient(axis, &q, false, columns, |cell, gradient, velocity, known| {
                let Some(gradient) = gradient else { return };
                let most = MAX_DENSITY_ERROR * tiles.cell_m;
                *velocity =
                    if self.solids.open(axis, cell) > 0.0 { (-gradient).clamp(-most, most) } else { 0.0 };
                *known = true;
            });
        }
        faces
    }

    /// Calls `of` for all faces along an axis, with the cell above, the gradient of `q` where there is liquid beside, and the face's
    /// places in the columns.
    fn for_each_gradient(
        &self,
        axis: usize,
        q: &[f32],
        with_tension: bool,
        (velocities, known): (&mut [f32], &mut [bool]),
        of: impl Fn(usize, Option<f32>, &mut f32, &mut bool) + Sync,
    ) {
        let number = &self.cells.number;
        let value = |cell: usize, inside: usize| match number[cell] {
            NONE if with_tension => self.at_surface(inside, cell),
            NONE => 0.0,
            number => q[number as usize],
        };
        let liquid = |cell: usize| number[cell] != NONE;
        let tiles = velocities.par_chunks_mut(CELLS).zip(known.par_chunks_mut(CELLS)).enumerate();
        tiles.for_each(|(tile, (velocities, known))| {
            for (place, (velocity, known)) in velocities.iter_mut().zip(known).enumerate() {
                let cell = tile * CELLS + place;
                let below = self.tiles.cell(tile, local(place) - IVec3::AXES[axis]);
                let gradient = below.filter(|below| liquid(cell) || liquid(*below)).map(|below| {
                    let (inside, outside) = if liquid(cell) { (cell, below) } else { (below, cell) };
                    let density = self.properties.density([Some(inside), Some(outside)]);
                    let way = way(&self.volume_fraction.distance, inside, outside);
                    (value(cell, inside) - value(below, inside)) / (density * way)
                });
                of(cell, gradient, velocity, known);
            }
        });
    }

    fn solve(&mut self, right: &[f32], coupling: Option<&Coupling>, tolerance: f64) -> (Vec<f32>, Solved) {
        let Self { cells, multigrid, scratch, .. } = self;
        let coupling = coupling.filter(|coupling| coupling.is_any());
        let coupled = coupling.map(|coupling| multigrid.with_diagonal(&coupling.diagonal(right.len())));
        let (grid, matrix) = (multigrid.grid(), multigrid.matrix());
        let multiply = |x: &[f32], out: &mut [f32]| {
            matrix.multiply(grid, x, out);
            let dense = coupling.map_or_else(Vec::new, |coupling| coupling.rows(x));
            // A cell that is closed all around has no equation.
            let own = dense.into_iter().filter(|(row, _)| matrix.is_solved(*row as usize));
            own.for_each(|(row, more)| out[row as usize] += more);
        };
        let preconditioner = coupled.as_ref().unwrap_or(multigrid);
        let precondition = |right: &[f32], out: &mut Vec<f32>| preconditioner.cycle(right, out, scratch);
        let clear_unsolved = |column: &mut [f32]| matrix.clear_unsolved(column);
        let mut q = vec![0.0f32; right.len()];
        let Convergence { iterations, residual } = conjugate_gradients(
            multiply,
            precondition,
            clear_unsolved,
            right,
            &mut q,
            Tolerance::Residual(tolerance),
        );
        (q, Solved { cells: cells.count, iterations, residual, ..Solved::default() })
    }
}

/// The way from the centre of a liquid cell to the next, or to the surface between them, in cells.
fn way(distance: &[f32], cell: usize, other: usize) -> f32 {
    if distance[other] < 0.0 { 1.0 } else { surface_fraction(distance[cell], distance[other]) }
}

/// θ: the fraction of the way from the centre of a liquid cell to that of a cell outside at which the surface lies.
fn surface_fraction(inside: f32, outside: f32) -> f32 {
    (inside / (inside - outside)).clamp(LEAST_FRACTION, 1.0)
}
