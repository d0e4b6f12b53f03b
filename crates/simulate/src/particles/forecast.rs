//! How many particles an element will have at once, and what a liquid of so many takes.

use super::emission;
use super::time_steps;
use crate::{PrepareContext, PrepareError, Simulation};
use geometry::Meshes;
use glam::Vec3;
use shot::{
    Element, ElementKind, MAX_PARTICLES, Moves, Shape, Shot,
    particles::{Emission, EmissionDomain, EmissionSchedule, Liquid, ParticleBody, Particles, Source, Start},
};
use std::sync::OnceLock;
use std::time::Instant;

/// Bytes that a particle takes while it is computed.
const BYTES: f64 = (4 + 12 + 12 + 4 + 4 + 4 + 4 + 4 + 4 + 4 + 16 + 12 + 4) as f64;
/// Bytes that a particle of a liquid takes besides: its gradients, its displacement, its order.
const LIQUID_BYTES: f64 = (36 + 12 + 24) as f64;
/// Bytes that a particle of an elastic one takes besides: its deformation, its rate of strain, how it resists.
const ELASTIC_BYTES: f64 = (24 + 32 + 16) as f64;
/// Bytes that a cell of the grid takes.
const CELL_BYTES: f64 = 180.0;
/// Particles in a full cell.
const FULL: f64 = 8.0;

/// What is said of more particles than an element may have.
pub fn too_many(wanted: f64) -> String {
    format!(
        "would have {wanted:.0} particles at once, {:.1} GB; at most {MAX_PARTICLES}, {:.1} GB",
        wanted * BYTES * 1e-9,
        MAX_PARTICLES as f64 * BYTES * 1e-9
    )
}

/// About how many particles an element has at once.
fn wanted(context: PrepareContext, element: &Element, particles: &Particles) -> f64 {
    let timing = context.shot.timing;
    let seconds = |frame: u32| {
        let world = context.sampler.world_frame(f64::from(frame)) - f64::from(timing.first);
        world / f64::from(timing.fps)
    };
    let Emission { from_frame, to_frame, preroll_s, .. } = particles.emission;
    let begin = from_frame.map_or(-f64::from(preroll_s), seconds);
    let end = seconds(to_frame.unwrap_or(timing.last).min(timing.last)).max(begin);
    match particles.emission.schedule {
        EmissionSchedule::Total { count } | EmissionSchedule::Burst { count } => f64::from(count),
        EmissionSchedule::Fill {} => emission::fills(context.shot, particles, context.meshes),
        EmissionSchedule::Rate { .. } | EmissionSchedule::Flow { .. } | EmissionSchedule::Jet {} => {
            let life = particles.start.lifespan_s.map_or(f64::INFINITY, f64::from);
            let sites = emission::EmissionSites::find(context.shot, particles, context.meshes).sites;
            let per_emitted = emission::per_emitted(particles, &sites);
            let born = |at: f64| per_emitted * context.sampler.elapsed(element, Vec3::NEG_Y, at).emitted;
            // Largest number emitted within a lifespan, at a hundred times.
            let part = (end - begin) / 100.0;
            let starts = (0..=100).map(|i| begin + part * f64::from(i));
            starts.map(|at| born((at + life).min(end)) - born(at)).fold(0.0, f64::max)
        }
        EmissionSchedule::Never {} | EmissionSchedule::Released {} => 0.0,
    }
}

/// About how many particles fill a pool: found with larger ones, which take a sixty-fourth of the time, unless they are few; 0 if it does
/// not hold.
fn pool_particles(context: PrepareContext, element: &Element, particles: &Particles) -> f64 {
    const COARSER: f32 = 4.0;
    const FEW: f64 = 4_096.0;
    let found = |by: f32| {
        let mut particles = particles.clone();
        particles.liquid.as_mut()?.spacing_m *= by;
        Some(super::sites(context, element, &particles).ok()?.sites.whole())
    };
    match found(COARSER) {
        Some(count) if count >= FEW => count * f64::from(COARSER).powi(3),
        _ => found(1.0).unwrap_or(0.0),
    }
}

/// Refuses, before the start, a number of particles that would not fit in memory.
pub fn forecast(
    context: PrepareContext,
    element: &Element,
    particles: &Particles,
) -> Result<(), PrepareError> {
    let wanted = wanted(context, element, particles);
    if wanted <= MAX_PARTICLES as f64 {
        return Ok(());
    }
    Err(PrepareError::TooMuch { element: element.name.clone(), what: too_many(wanted) })
}

/// The size of a liquid when all of it has come.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LiquidSize {
    /// Particles.
    pub particles: f64,
    /// Cells of the grid that are full.
    pub voxels: f64,
    /// Memory at work, bytes.
    pub bytes: f64,
    /// About how long a frame takes on this machine, s.
    pub seconds_a_frame: f64,
}

impl LiquidSize {
    /// Whether it is more than an element may have.
    pub fn is_too_much(&self) -> bool {
        self.particles > MAX_PARTICLES as f64
    }
}

/// The size of a liquid of a shot; none of an element that is no liquid.
///
/// # Errors
/// [`PrepareError::NotFinite`] if a formula gives no finite value at the first frame.
pub fn liquid_size(
    shot: &Shot,
    element: &Element,
    meshes: &Meshes,
) -> Result<Option<LiquidSize>, PrepareError> {
    let sampler = crate::solver::sampler(shot)?;
    let first = sampler.at(f64::from(shot.timing.first))?;
    let context = PrepareContext { shot: &first, sampler: &sampler, meshes, initial_state: None };
    let Some((element, particles)) =
        first.element(element.id).and_then(|element| Some((element, element.as_particles()?)))
    else {
        return Ok(None);
    };
    let Some(liquid) = &particles.liquid else { return Ok(None) };
    let count = match particles.source {
        Source::Pool {} => pool_particles(context, element, particles),
        _ => wanted(context, element, particles),
    };
    let voxels = count / FULL;
    Ok(Some(LiquidSize {
        particles: count,
        voxels,
        bytes: count * (BYTES + LIQUID_BYTES + if liquid.is_elastic() { ELASTIC_BYTES } else { 0.0 })
            + voxels * CELL_BYTES,
        seconds_a_frame: count * seconds_a_frame(liquid, shot),
    }))
}

/// About how long a frame of a shot takes with a particle of a liquid, s.
fn seconds_a_frame(liquid: &Liquid, shot: &Shot) -> f64 {
    let physics = &shot.physics;
    let substep_s = 1.0 / (shot.timing.fps * physics.substeps as f32);
    let steps = f64::from(physics.substeps * time_steps::of_waves(liquid, substep_s));
    steps * seconds_a_step(liquid.is_elastic() || !liquid.scaled.is_empty(), liquid.viscosity_pa_s > 0.1)
}

/// Seconds that a particle takes in a step, measured once on a small block that falls onto a plate, for each of the ways to resist.
fn seconds_a_step(elastic: bool, viscous: bool) -> f64 {
    static MEASURED: [OnceLock<f64>; 4] = [const { OnceLock::new() }; 4];
    const FRAMES: u32 = 3;
    *MEASURED[2 * usize::from(elastic) + usize::from(viscous)].get_or_init(|| {
        let mut shot = Shot::empty("Forecast");
        let liquid = Liquid {
            viscosity_pa_s: if viscous { 50.0 } else { 0.001 },
            yield_stress_pa: if elastic { 100.0 } else { 0.0 },
            wall_friction: if viscous { 1.0 } else { 0.0 },
            ..Liquid::default()
        };
        let block = Particles {
            liquid: Some(liquid),
            source: Source::Shape { shape: Shape::cuboid(0.5, 0.5, 0.5), domain: EmissionDomain::Surface },
            emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
            start: Start { speed_m_s: 0.0, lifespan_s: None, ..Start::default() },
            body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
            ..Particles::default()
        };
        let plate = Element::solid("Plate", Shape::cuboid(2.0, 0.2, 2.0), Moves::Still);
        shot.add(plate.at(0.0, -0.36, 0.0));
        let id = shot.add(Element::new("Block", ElementKind::Particles(block)));
        let timed = || {
            let mut simulation = Simulation::new(&shot, &Meshes::default()).ok()?;
            let frame = simulation.advance().ok()?;
            let count = f64::from(frame.particles_of(id).len() as u32).max(1.0);
            let before = Instant::now();
            (0..FRAMES).try_for_each(|_| simulation.advance().map(drop)).ok()?;
            Some(before.elapsed().as_secs_f64() / (count * f64::from(FRAMES * shot.physics.substeps)))
        };
        timed().unwrap_or(0.0)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn half_the_spacing_takes_eight_times_as_many_and_too_many_are_told() {
        let size = |spacing_m: f32| {
            let mut shot = Shot::empty("Sizes");
            let block = Particles {
                liquid: Some(Liquid { spacing_m, ..Liquid::default() }),
                source: Source::Shape {
                    shape: Shape::cuboid(0.5, 0.4, 0.3),
                    domain: EmissionDomain::Surface,
                },
                emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
                ..Particles::default()
            };
            let id = shot.add(Element::new("Block", ElementKind::Particles(block)));
            liquid_size(&shot, shot.element(id).unwrap(), &Meshes::default()).unwrap().unwrap()
        };
        let (coarse, fine) = (size(0.02), size(0.01));
        assert!((coarse.particles - 7_500.0).abs() < 1.0, "{coarse:?}");
        assert!((fine.particles / coarse.particles - 8.0).abs() < 1e-3);
        assert!(fine.bytes > coarse.bytes && fine.seconds_a_frame > 0.0 && !fine.is_too_much());
        assert!(size(3e-4).is_too_much());
    }
}
