//! Liquid: particles that carry the matter, and a grid of cells on which they are made to keep their volume.
//!
//! In a step the particles' velocities, after all forces, go to the faces of cells of two particle spacings (`transfer.rs`); there the
//! pressure takes out their divergence (`pressure.rs`), with solids that cut faces (`solids.rs`); then velocities and their
//! gradients come back, and the particles move through the velocities of the grid by the midpoint rule. The grid is a list of tiles
//! where there is liquid (`tiles.rs`), made anew in each step, so that it is no state and empty space costs nothing.
//!
//! Guarantees: the same bytes for any number of threads. Not guaranteed: that a full cell has eight particles; what is too dense
//! is spread over some steps.

mod colliders;
mod conjugate_gradients;
mod coupling;
mod extrapolate;
mod multigrid;
mod pressure;
mod solids;
pub mod transfer;
mod viscosity;
mod volume_fraction;

pub(crate) use colliders::Bodies;
pub use coupling::BodyImpulse;
pub use pressure::Solved;
pub use solids::{Boundary, FreeBody, StillBodyCache};

use coupling::Coupling;
use extrapolate::extrapolate;
use geometry::tiles::{CELLS, Tiles, TooManyTiles};
use glam::{Mat3, Vec3};
use pressure::Equations;
use rayon::prelude::*;
use thiserror::Error;
use volume_fraction::VolumeFraction;

/// Most tiles of the grid; each takes about 60 kB.
const MAX_TILES: usize = 1 << 17;
/// Rounds in which velocities are carried on from the liquid.
const EXTRAPOLATED: u32 = 3;
/// Time in which what is too dense is spread, s.
const DENSITY_CORRECTION_S: f32 = 0.05;

/// What a step gives.
#[derive(Clone, Debug, Default)]
pub struct Flow {
    /// The displacement of each particle, m.
    pub displacements: Vec<Vec3>,
    /// How the pressure was found.
    pub solved: Solved,
    /// Impulses on free bodies.
    pub impulses: Vec<BodyImpulse>,
}

/// The particles lie so far apart that the grid around them would not fit in memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error(
    "is scattered over at least {tiles} tiles of the grid; at most {MAX_TILES}, about 8 GB; let drops that fly off die by a region or a lifespan"
)]
pub struct TooScattered {
    /// Tiles that the grid would have, at least.
    pub tiles: usize,
}

/// What a liquid is made of, over a step.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Material {
    /// Distance of the particles at rest, m.
    pub spacing_m: f32,
    /// Density, kg/m³.
    pub density_kg_m3: f32,
    /// Kinematic viscosity, m²/s.
    pub viscosity_m2_s: f32,
    /// How far the velocity along a solid is that of the solid, 0–1.
    pub wall_friction: f32,
}

/// Least μ Δt / (ρ Δx²) at which viscosity is computed: below, the grid itself damps more.
const LEAST_VISCOSITY: f32 = 1e-3;

/// The particles of a liquid: a column for each quantity.
pub struct LiquidParticles<'a> {
    /// Where they are, m.
    pub positions: &'a [Vec3],
    /// Velocities, m/s, after all forces of the step.
    pub velocities: &'a mut [Vec3],
    /// Gradients of the velocities, 1/s.
    pub gradients: &'a mut [Mat3],
}

/// Makes the velocities of particles those of a liquid that keeps its volume; gives what
/// follows in the next `dt` seconds.
///
/// # Errors
/// [`TooScattered`], before the grid is allocated.
pub fn flow(
    particles: LiquidParticles,
    material: &Material,
    dt: f32,
    boundary: &impl Boundary,
    still: &mut StillBodyCache,
) -> Result<Flow, TooScattered> {
    let LiquidParticles { positions, velocities, gradients } = particles;
    let tiles = Tiles::bounded(positions, 2.0 * material.spacing_m, MAX_TILES)
        .map_err(|TooManyTiles(tiles)| TooScattered { tiles })?;
    let mut faces = transfer::to_faces(&tiles, positions, velocities, gradients);
    let solids = solids::cut_cells(&tiles, &faces.volume, boundary, still);
    let volume_fraction = VolumeFraction::new(&tiles, &faces, &solids);
    let viscosity = material.viscosity_m2_s * dt / (tiles.cell_m * tiles.cell_m);
    if viscosity > LEAST_VISCOSITY {
        viscosity::diffuse(&tiles, &mut faces, &solids, &volume_fraction, viscosity, material.wall_friction);
    }
    let mut equations = Equations::new(&tiles, &solids, &volume_fraction);
    let coupling = Coupling::new(&tiles, &solids, equations.cells(), boundary, material.density_kg_m3);
    let (solved, impulses) = equations.project(&mut faces, &coupling);
    extrapolate(&tiles, &mut faces, EXTRAPOLATED);
    apply_wall_friction(&mut faces, &solids, material.wall_friction);
    let mut correction = equations.density_correction((dt / DENSITY_CORRECTION_S).min(1.0));
    extrapolate(&tiles, &mut correction, EXTRAPOLATED);
    let columns = (positions, velocities, gradients);
    let displacements =
        transfer::to_particles(&tiles, columns, [&faces.velocities, &correction.velocities], dt);
    Ok(Flow { displacements, solved, impulses })
}

/// Gives faces within solids the velocities of those by `friction`, so that what flows along a wall is held back.
fn apply_wall_friction(faces: &mut transfer::Faces, solids: &solids::CutCells, friction: f32) {
    if friction <= 0.0 {
        return;
    }
    for axis in 0..3 {
        let tiles = faces.velocities[axis].par_chunks_mut(CELLS).enumerate();
        tiles.filter(|(tile, _)| solids.any_in(*tile)).for_each(|(tile, velocities)| {
            for (cell, velocity) in (tile * CELLS..).zip(velocities) {
                if solids.open(axis, cell) <= 0.0 {
                    // A wall lies half way to the next face, where the velocity is to be its own.
                    *velocity += 2.0 * friction * (solids.velocity(axis, cell) - *velocity);
                }
            }
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn water(spacing_m: f32) -> Material {
        Material { spacing_m, density_kg_m3: 1_000.0, viscosity_m2_s: 1e-6, wall_friction: 0.0 }
    }

    /// A tank, open above.
    struct Tank {
        min: Vec3,
        max: Vec3,
    }

    impl Boundary for Tank {
        fn bodies_in(&self, min: Vec3, max: Vec3) -> [Vec<u32>; 2] {
            let any = min.cmplt(self.min).any() || max.cmpgt(self.max).any();
            [if any { vec![0] } else { Vec::new() }, Vec::new()]
        }

        fn distance(&self, _: u32, place: Vec3, _: f32) -> f32 {
            let (low, high) = (place - self.min, self.max - place);
            low.min_element().min(high.x).min(high.z)
        }

        fn velocity(&self, _: u32, _: Vec3) -> Vec3 {
            Vec3::ZERO
        }
    }

    fn random(i: u32) -> f32 {
        f32::from((i.wrapping_mul(0x9E37_79B9) >> 16) as u16) / 65_536.0
    }

    /// Particles that fill a box.
    fn filled(min: Vec3, max: Vec3, spacing: f32) -> Vec<Vec3> {
        let count = ((max - min) / spacing).round().as_ivec3();
        let mut all = Vec::new();
        for i in 0..count.element_product() {
            let at = glam::IVec3::new(i % count.x, i / count.x % count.y, i / (count.x * count.y));
            let i = i as u32;
            let jitter = Vec3::new(random(3 * i), random(3 * i + 1), random(3 * i + 2));
            all.push(min + (at.as_vec3() + 0.25 + 0.5 * jitter) * spacing);
        }
        all
    }

    struct Liquid {
        positions: Vec<Vec3>,
        velocities: Vec<Vec3>,
        gradients: Vec<Mat3>,
        still: StillBodyCache,
    }

    impl Liquid {
        fn new(positions: Vec<Vec3>) -> Self {
            let (n, still) = (positions.len(), StillBodyCache::default());
            Self { positions, velocities: vec![Vec3::ZERO; n], gradients: vec![Mat3::ZERO; n], still }
        }

        fn step(&mut self, tank: &Tank, spacing: f32, dt: f32) -> Solved {
            self.velocities.iter_mut().for_each(|v| v.y -= 9.81 * dt);
            let (positions, velocities, gradients) =
                (&self.positions[..], &mut self.velocities[..], &mut self.gradients[..]);
            let Flow { displacements, solved, .. } = flow(
                LiquidParticles { positions, velocities, gradients },
                &water(spacing),
                dt,
                tank,
                &mut self.still,
            )
            .unwrap();
            for (x, way) in self.positions.iter_mut().zip(displacements) {
                *x = (*x + way).clamp(tank.min + 1e-4, tank.max - 1e-4);
            }
            solved
        }
    }

    #[test]
    fn a_still_tank_stays_still_and_keeps_its_height() {
        let tank = Tank { min: Vec3::ZERO, max: Vec3::new(0.4, 1.0, 0.4) };
        let spacing = 0.0125;
        let mut liquid = Liquid::new(filled(tank.min, Vec3::new(0.4, 0.3, 0.4), spacing));
        let mean = |liquid: &Liquid| {
            liquid.positions.iter().map(|x| f64::from(x.y)).sum::<f64>() / liquid.positions.len() as f64
        };
        let before = mean(&liquid);
        for _ in 0..96 {
            let solved = liquid.step(&tank, spacing, 1.0 / 96.0);
            assert!(solved.residual < 1e-3, "{solved:?}");
        }
        let squares = liquid.velocities.iter().map(|v| f64::from(v.length_squared())).sum::<f64>();
        let rms = (squares / liquid.positions.len() as f64).sqrt();
        assert!(rms < 0.02, "{rms} m/s");
        assert!((mean(&liquid) / before - 1.0).abs() < 0.03, "{} of {before}", mean(&liquid));
    }

    #[test]
    fn a_block_that_breaks_runs_out_and_stands_as_deep_as_its_volume_has_it() {
        let tank = Tank { min: Vec3::ZERO, max: Vec3::new(0.5, 1.0, 0.2) };
        let spacing = 0.0125;
        let mut liquid = Liquid::new(filled(tank.min, Vec3::new(0.25, 0.3, 0.2), spacing));
        let depth = 0.25 * 0.3 / 0.5;
        for step in 0..288 {
            liquid.step(&tank, spacing, 1.0 / 96.0);
            // Then its waves are taken out.
            if step >= 144 {
                liquid.velocities.iter_mut().for_each(|v| *v *= 0.94);
            }
        }
        let mean = liquid.positions.iter().map(|x| x.y).sum::<f32>() / liquid.positions.len() as f32;
        assert!((mean / (0.5 * depth) - 1.0).abs() < 0.04, "{mean} m, of {}", 0.5 * depth);
        let far = liquid.positions.iter().filter(|x| x.x > 0.25).count() as f32;
        assert!((far / liquid.positions.len() as f32 - 0.5).abs() < 0.04);
    }

    /// Two plates at y 0 and `height`.
    struct Plates {
        height: f32,
    }

    impl Boundary for Plates {
        fn bodies_in(&self, min: Vec3, max: Vec3) -> [Vec<u32>; 2] {
            [if min.y < 0.0 || max.y > self.height { vec![0] } else { Vec::new() }, Vec::new()]
        }

        fn distance(&self, _: u32, place: Vec3, _: f32) -> f32 {
            place.y.min(self.height - place.y)
        }

        fn velocity(&self, _: u32, _: Vec3) -> Vec3 {
            Vec3::ZERO
        }
    }

    #[test]
    fn a_viscous_liquid_between_plates_has_the_profile_of_poiseuille() {
        for (height, spacing_m) in [(0.1, 0.005), (0.06, 0.0041)] {
            let plates = Plates { height };
            let positions = filled(Vec3::ZERO, Vec3::new(0.6, height, 0.1), spacing_m);
            let mut liquid = Liquid::new(positions);
            let (viscosity_m2_s, pull, dt) = (0.1, 10.0, 1.0 / 192.0);
            let material = Material { spacing_m, density_kg_m3: 1_000.0, viscosity_m2_s, wall_friction: 1.0 };
            let first = liquid.positions.clone();
            // Several times the time in which it becomes steady; it is put back, so that it does not flow away.
            for _ in 0..40 {
                liquid.positions.clone_from(&first);
                liquid.velocities.iter_mut().for_each(|v| v.x += pull * dt);
                let (positions, velocities, gradients) =
                    (&liquid.positions[..], &mut liquid.velocities[..], &mut liquid.gradients[..]);
                let columns = LiquidParticles { positions, velocities, gradients };
                flow(columns, &material, dt, &plates, &mut liquid.still).unwrap();
            }
            let most = pull * height * height / (8.0 * viscosity_m2_s);
            for (x, v) in first.iter().zip(&liquid.velocities) {
                if (x.x - 0.3).abs() < 0.05 && (x.z - 0.05).abs() < 0.02 {
                    let exact = 4.0 * most * x.y * (height - x.y) / (height * height);
                    assert!(
                        (v.x - exact).abs() < 0.03 * most,
                        "at {} of {height}: {} of {exact}, most {most}",
                        x.y,
                        v.x
                    );
                }
            }
        }
    }

    /// A wall at y 0.
    struct Wall;

    impl Boundary for Wall {
        fn bodies_in(&self, min: Vec3, _: Vec3) -> [Vec<u32>; 2] {
            [if min.y < 0.0 { vec![0] } else { Vec::new() }, Vec::new()]
        }

        fn distance(&self, _: u32, place: Vec3, _: f32) -> f32 {
            place.y
        }

        fn velocity(&self, _: u32, _: Vec3) -> Vec3 {
            Vec3::ZERO
        }
    }

    #[test]
    fn a_layer_that_sticks_to_a_wall_on_one_side_has_the_profile_of_nusselt() {
        for (height, spacing_m) in [(0.1, 0.01), (0.06, 0.0041)] {
            let positions = filled(Vec3::ZERO, Vec3::new(0.6, height, 0.1), spacing_m);
            let height = (height / spacing_m).round() * spacing_m;
            let mut liquid = Liquid::new(positions);
            let (viscosity_m2_s, pull, dt) = (0.1, 10.0, 1.0 / 96.0);
            let material = Material { spacing_m, density_kg_m3: 1_000.0, viscosity_m2_s, wall_friction: 1.0 };
            let first = liquid.positions.clone();
            for _ in 0..60 {
                liquid.positions.clone_from(&first);
                liquid.velocities.iter_mut().for_each(|v| v.x += pull * dt);
                let (positions, velocities, gradients) =
                    (&liquid.positions[..], &mut liquid.velocities[..], &mut liquid.gradients[..]);
                let columns = LiquidParticles { positions, velocities, gradients };
                flow(columns, &material, dt, &Wall, &mut liquid.still).unwrap();
            }
            let most = pull * height * height / (2.0 * viscosity_m2_s);
            for (x, v) in first.iter().zip(&liquid.velocities) {
                if (x.x - 0.3).abs() < 0.05 && (x.z - 0.05).abs() < 0.02 {
                    let exact = pull / viscosity_m2_s * (height * x.y - 0.5 * x.y * x.y);
                    // Of first order in the place of the surface: a quarter of a cell, of five.
                    assert!((v.x - exact).abs() < 0.05 * most, "at {} of {height}: {} of {exact}", x.y, v.x);
                }
            }
        }
    }

    #[test]
    fn particles_that_are_scattered_too_far_are_refused_and_places_without_end_are_borne() {
        let tank = Tank { min: Vec3::splat(-1e30), max: Vec3::splat(1e30) };
        let step = |positions: &[Vec3]| {
            let n = positions.len();
            let (mut velocities, mut gradients) = (vec![Vec3::ZERO; n], vec![Mat3::ZERO; n]);
            let columns =
                LiquidParticles { positions, velocities: &mut velocities, gradients: &mut gradients };
            flow(columns, &water(0.01), 0.01, &tank, &mut StillBodyCache::default())
        };
        let scattered: Vec<Vec3> = (0..20_000).map(|i| Vec3::X * i as f32).collect();
        assert_eq!(step(&scattered).unwrap_err(), TooScattered { tiles: 160_000 });
        assert!(step(&[Vec3::splat(1e30), Vec3::splat(f32::NAN), Vec3::NEG_Y * 1e12]).is_ok());
    }

    #[test]
    fn the_bytes_do_not_depend_on_the_number_of_threads() {
        let run = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| {
                let tank = Tank { min: Vec3::ZERO, max: Vec3::new(0.6, 1.0, 0.3) };
                let mut liquid = Liquid::new(filled(tank.min, Vec3::new(0.3, 0.4, 0.3), 0.02));
                (0..20).for_each(|_| {
                    liquid.step(&tank, 0.02, 1.0 / 192.0);
                });
                liquid.positions
            })
        };
        assert_eq!(run(1), run(3));
    }
}
