//! Liquid: particles that carry the matter, and a grid of cells on which they are made to keep their volume.
//!
//! In a step the particles' velocities, after all forces, go to the faces of cells of two particle spacings (`transfer.rs`); there viscosity
//! and elastic stress act (`viscosity.rs`, `rheology.rs`) and the pressure takes out their divergence (`pressure.rs`), with solids that
//! cut faces (`solids.rs`); then velocities and their
//! gradients come back, and the particles move through the velocities of the grid by the midpoint rule. The grid is a list of tiles
//! where there is liquid (`tiles.rs`), made anew in each step, so that it is no state and empty space costs nothing.
//!
//! Guarantees: the same bytes for any number of threads. Not guaranteed: that a full cell has eight particles; what is too dense
//! is spread over some steps.

mod boundary;
mod carrier;
mod cell_properties;
mod cell_stress;
mod cell_transfer;
mod colliders;
mod conjugate_gradients;
mod coupling;
mod curvature;
mod extrapolate;
mod grid;
mod lanes;
mod masks;
mod matrix;
mod multigrid;
mod pressure;
mod rheology;
mod solids;
mod spread;
mod stokes;
mod surface_coupling;
pub mod transfer;
mod viscosity;
mod viscous_coupling;
mod viscous_multigrid;
mod volume_fraction;

pub use boundary::{Boundary, FreeBody, PointVectors, SurfacePoint};
pub use carrier::{Carrier, SURFACE, ramp};
pub use cell_properties::Properties;
pub(crate) use colliders::Bodies;
pub use coupling::BodyImpulse;
pub use pressure::Solved;
pub use rheology::{RELAXED, Rheologies, Rheology, Symmetric};
pub use solids::StillBodyCache;

use cell_properties::CellProperties;
use cell_stress::CellStress;
use coupling::{Coupling, SolidMotion};
use extrapolate::extrapolate;
use geometry::tiles::{CELLS, Tiles, TooManyTiles, local};
use glam::{IVec3, Mat3, Vec3};
use pressure::Equations;
use rayon::prelude::*;
use surface_coupling::SurfaceCoupling;
use thiserror::Error;
use viscosity::Viscosity;
use volume_fraction::VolumeFraction;

/// Most tiles of the grid; each takes about 17 kB where particles are scattered (measured).
const MAX_TILES: usize = 1 << 17;
/// Time in which what is too dense is spread, s.
const DENSITY_CORRECTION_S: f32 = 0.05;

/// What a step gives.
#[derive(Clone, Debug, Default)]
pub struct Flow {
    /// The displacement of each particle, m.
    pub displacements: Vec<Vec3>,
    /// How the pressure was found.
    pub solved: Solved,
    /// Volume within the liquid over that of its particles there, no unit; 1 where nothing lies within.
    pub volume_kept: f32,
    /// Pressure around each particle, Pa; empty if not asked for.
    pub pressures: Vec<f32>,
    /// Impulses on free bodies.
    pub impulses: Vec<BodyImpulse>,
    /// Impulses on the points of surfaces that give way, N s.
    pub surface_impulses: PointVectors,
    /// Whether each particle lies in liquid beside a moving body, with which the grid has settled its velocity; empty if none does.
    pub beside_bodies: Vec<bool>,
}

/// The particles lie so far apart that the grid around them would not fit in memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error(
    "is scattered over at least {tiles} tiles of the grid; at most {MAX_TILES}, about 2 GB; let drops that fly off die by a region or a lifespan"
)]
pub struct TooScattered {
    /// Tiles that the grid would have, at least.
    pub tiles: usize,
}

/// What a liquid is made of, over a step.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Material<'a> {
    /// Distance of the particles at rest, m.
    pub spacing_m: f32,
    /// How its particles resist deformation.
    pub rheologies: Rheologies<'a>,
    /// What it is besides, of most particles.
    pub properties: Properties,
    /// The same of each particle; empty: all are alike.
    pub each: &'a [Properties],
}

impl Material<'_> {
    /// The stress of its particles in the cells.
    fn cell_stress(
        &self,
        tiles: &Tiles,
        positions: &[Vec3],
        deformations: &[Symmetric],
        dt: f32,
    ) -> CellStress {
        let density = self.properties.density_kg_m3;
        match self.rheologies {
            Rheologies::Same(rheology) if deformations.is_empty() => {
                CellStress::alike(rheology.viscosity_pa_s, density, tiles.cell_m, dt)
            }
            _ => CellStress::of_particles(tiles, positions, &self.rheologies, deformations, density, dt),
        }
    }

    /// The masses of its particles, in those of most; empty: all are the same.
    fn masses(&self) -> Vec<f32> {
        let common = self.properties.density_kg_m3;
        if self.each.iter().all(|each| each.density_kg_m3 == common) {
            return Vec::new();
        }
        self.each.iter().map(|each| each.density_kg_m3 / common).collect()
    }
}

/// The particles of a liquid: a column for each quantity.
pub struct LiquidParticles<'a> {
    /// Where they are, m.
    pub positions: &'a [Vec3],
    /// Velocities, m/s, after all forces of the step.
    pub velocities: &'a mut [Vec3],
    /// Gradients of the velocities, 1/s.
    pub gradients: &'a mut [Mat3],
    /// Elastic deformations, as left Cauchy–Green tensors; empty if it is not elastic.
    pub deformations: &'a mut [Symmetric],
}

/// Makes the velocities of particles those of a liquid that keeps its volume; gives what
/// follows in the next `dt` seconds, with the pressures if they are asked for.
///
/// # Errors
/// [`TooScattered`], before the grid is allocated.
pub fn flow(
    particles: LiquidParticles,
    material: &Material,
    dt: f32,
    boundary: &impl Boundary,
    still: &mut StillBodyCache,
    with_pressures: bool,
) -> Result<Flow, TooScattered> {
    let LiquidParticles { positions, velocities, gradients, deformations } = particles;
    let tiles = Tiles::bounded(positions, 2.0 * material.spacing_m, MAX_TILES)
        .map_err(|TooManyTiles(tiles)| TooScattered { tiles })?;
    let mut faces = transfer::to_faces(&tiles, positions, velocities, gradients, &material.masses());
    let solids = solids::cut_cells(&tiles, &faces.volume, boundary, still);
    let volume_fraction = VolumeFraction::new(&tiles, &faces, &solids);
    let stress = material.cell_stress(&tiles, positions, deformations, dt);
    let properties = CellProperties::new(&tiles, positions, material.properties, material.each);
    let is_thick = stress.greatest() >= stokes::LEAST_VISCOSITY;
    let closed = is_thick.then(|| solids.rounded(viscosity::LEAST_OPEN));
    // The velocities of faces whose centres lie in walls follow from those beside where viscosity acts: they are no unknowns of the
    // pressure either then, or it would hold those beside.
    let pressed = closed.as_ref().unwrap_or(&solids);
    let mut equations = Equations::new(&tiles, pressed, &volume_fraction, &properties).with_tension(dt);
    let number = &equations.cells().number;
    let surfaces = SurfaceCoupling::new(&tiles, pressed, number, boundary, material.properties.density_kg_m3);
    let coupling = Coupling::new(&surfaces, &tiles, pressed, equations.cells(), boundary, &properties);
    let viscosity = (!stress.is_none())
        .then(|| Viscosity::new(&tiles, &solids, (&volume_fraction, &faces), &stress, &properties));
    let (mut motion, mut tension_acts) = (SolidMotion::new(&surfaces), true);
    if let Some(viscosity) = &viscosity {
        let bodies = viscosity.coupling(boundary);
        if !deformations.is_empty() {
            motion.add_impulses(viscosity.push(&mut faces, &bodies));
        }
        if is_thick {
            // Faces that no particle gives a velocity go with those beside: at rest they would count as an inflow.
            extrapolate(&tiles, &mut faces, 1);
            tension_acts = false;
            stokes::diffuse(
                (&tiles, pressed),
                &mut equations,
                viscosity,
                (&bodies, &coupling),
                &mut faces,
                &mut motion,
            );
        } else {
            viscosity.diffuse(
                &mut faces,
                |_, _| 0.0,
                &bodies,
                &mut motion,
                (viscosity::TOLERANCE, viscosity::EDGE),
            );
        }
    }
    let solved = equations.project(&mut faces, &coupling, &mut motion, tension_acts);
    if let Some(viscosity) = viscosity.as_ref().filter(|_| is_thick) {
        viscosity.extend_into_walls(&mut faces, &motion);
    }
    let pressures = match with_pressures {
        true => equations.pressures(positions, material.properties.density_kg_m3 * tiles.cell_m / dt),
        false => Vec::new(),
    };
    extrapolate(&tiles, &mut faces, transfer::EXTRAPOLATED);
    apply_wall_friction(&tiles, &mut faces, &solids, &properties, &motion);
    if is_thick {
        // With the faces as they are cut: particles in a cell that rounding closes all around would stay there.
        equations = Equations::new(&tiles, &solids, &volume_fraction, &properties);
    }
    let mut correction = equations.density_correction((dt / DENSITY_CORRECTION_S).min(1.0));
    extrapolate(&tiles, &mut correction, transfer::EXTRAPOLATED);
    let columns = (positions, &mut *velocities, &mut *gradients);
    let mut displacements =
        transfer::to_particles(&tiles, columns, [&faces.velocities, &correction.velocities], dt);
    let is_liquid = |cell: usize| volume_fraction.distance[cell] < 0.0;
    // A gel would creep.
    if deformations.is_empty() {
        let near = if is_thick { spread::NEAR_IF_THICK } else { spread::NEAR };
        for (point, by) in spread::spread(&tiles, positions, (material.spacing_m, near), is_liquid) {
            displacements[point as usize] += by;
            velocities[point as usize] += gradients[point as usize] * by;
        }
    }
    if let Some(viscosity) = viscosity.filter(|_| !deformations.is_empty()) {
        let rates = viscosity.strain_rates(&faces, &volume_fraction, &motion);
        let rates = cell_transfer::from_cells(&tiles, positions, &rates, |rates| rates);
        let rate = |i: usize| std::array::from_fn(|part| rates[i][1 + part] / tiles.cell_m);
        rheology::advance(deformations, &material.rheologies, gradients, rate, dt);
    }
    let beside_bodies = if coupling.is_any() {
        beside_bodies(&tiles, positions, &solids, &volume_fraction)
    } else {
        Vec::new()
    };
    let volume_kept = volume_fraction.volume_kept(&tiles, &solids);
    let surface_impulses = motion.surface_impulses();
    let impulses = motion.bodies;
    Ok(Flow { displacements, solved, volume_kept, pressures, impulses, surface_impulses, beside_bodies })
}

/// Whether each particle has liquid, and a face that a moving body closes, within a cell of its own.
fn beside_bodies(
    tiles: &Tiles,
    positions: &[Vec3],
    solids: &solids::CutCells,
    volume_fraction: &VolumeFraction,
) -> Vec<bool> {
    let of_tile = |tile: usize| {
        let is_beside = move |point: &u32| {
            let at = tiles.within(tile, positions[*point as usize]).as_ivec3();
            let around = || {
                let by = (0..27).map(|k| IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1));
                by.filter_map(|by| tiles.cell(tile, at + by))
            };
            around().any(|cell| volume_fraction.distance[cell] < 0.0)
                && around().any(|cell| (0..3).any(|axis| solids.body(axis, cell).is_some()))
        };
        let near = solids.any_near(tiles, tile);
        tiles.points_in(tile).iter().filter(move |_| near).filter(move |point| is_beside(point)).copied()
    };
    let found: Vec<u32> = (0..tiles.len()).into_par_iter().flat_map_iter(of_tile).collect();
    let mut beside = vec![false; positions.len()];
    found.into_iter().for_each(|point| beside[point as usize] = true);
    beside
}

/// Gives faces within solids the velocities of those by the friction, so that what flows along a wall is held back.
fn apply_wall_friction(
    tiles: &Tiles,
    faces: &mut transfer::Faces,
    solids: &solids::CutCells,
    properties: &CellProperties,
    motion: &SolidMotion,
) {
    if !properties.any_friction() {
        return;
    }
    for axis in 0..3 {
        let columns = faces.velocities[axis].par_chunks_mut(CELLS).enumerate();
        columns.filter(|(tile, _)| solids.any_in(*tile)).for_each(|(tile, velocities)| {
            for (cell, velocity) in (tile * CELLS..).zip(velocities) {
                if solids.open(axis, cell) <= 0.0 {
                    let around = local(cell % CELLS);
                    let beside = [1, 2].map(|by| IVec3::AXES[(axis + by) % 3]);
                    let friction = properties.wall_friction(
                        beside.into_iter().flat_map(|by| [by, -by]).map(|by| tiles.cell(tile, around + by)),
                    );
                    let wall = motion.velocity(tiles, solids, (axis, cell));
                    let below = tiles.cell(tile, around - IVec3::AXES[axis]);
                    let bounds_open_cell =
                        [Some(cell), below].into_iter().flatten().any(|cell| solids.volume(cell) > 0.0);
                    // Through the wall nothing flows. Along it, the wall lies half way to the next face, where the velocity is to be
                    // its own.
                    let part = if bounds_open_cell { 1.0 } else { 2.0 };
                    *velocity += part * friction * (wall - *velocity);
                }
            }
        });
    }
}
