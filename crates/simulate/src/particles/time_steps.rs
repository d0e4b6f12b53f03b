//! Into how many steps a substep of a liquid is divided: for its fastest particles, and for its waves.

use super::matter::{DENSITIES, MAX_SCALED, MAX_TENSION, rheology};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use shot::particles::{Liquid, LiquidQuantity};
use std::f32::consts::PI;

/// Most steps for fast particles, and for waves.
const MAX_STEPS: (f32, f32) = (16.0, 64.0);
/// Cells that the fastest particle, or a wave of shear in a gel, passes in a step.
const MAX_CELLS: f32 = 3.0;
/// Part of the longest step in which waves of surface tension are resolved.
const TENSION_STEP: f32 = 0.7;
/// Fewer fast particles near each other fly alone: a drop of a cell's radius has about as many.
const TOGETHER: u32 = 32;
/// Side of the blocks in which particles near each other are counted, in cells.
const BLOCK_CELLS: f32 = 2.0;

/// Steps in which nothing of that speed passes more than [`MAX_CELLS`], or the most allowed.
pub(super) fn at(speed: f32, dt: f32, cell_m: f32) -> u32 {
    steps(speed, dt, cell_m, MAX_STEPS.0)
}

fn steps(speed: f32, dt: f32, cell_m: f32, most: f32) -> u32 {
    (speed * dt / (MAX_CELLS * cell_m)).ceil().clamp(1.0, most) as u32
}

/// The factor by which the shot needs more substeps, if a speed asks for more steps than the most.
pub(super) fn more_substeps(speed: f32, dt: f32, cell_m: f32) -> Option<f32> {
    let more = speed * dt / (MAX_CELLS * cell_m) / MAX_STEPS.0;
    (more > 1.01).then_some(more)
}

/// The greatest speed, m/s, of particles that do not fly alone, or that at which one step is enough. Particles that fly alone take the
/// same way in one step as in many, and have too little mass to push anything where they land. If they counted, a few falling drops
/// would multiply the time that the whole liquid takes.
pub(super) fn speed<'a>(
    columns: impl Iterator<Item = (&'a [Vec3], &'a [Vec3])>,
    cell_m: f32,
    dt: f32,
) -> f32 {
    let slow = MAX_CELLS * cell_m / dt;
    // By blocks of cells.
    let mut fast: Vec<([i32; 3], f32)> = Vec::new();
    for (positions, velocities) in columns {
        let pairs = positions.par_iter().zip(velocities).with_min_len(1_024);
        fast.par_extend(pairs.filter_map(|(position, velocity)| {
            let speed = velocity.length();
            let block = || (*position / (BLOCK_CELLS * cell_m)).floor().as_ivec3();
            (speed > slow).then(|| (block().to_array(), speed))
        }));
    }
    fast.par_sort_unstable_by_key(|(block, _)| *block);
    let blocks: Vec<([i32; 3], u32, f32)> = fast
        .chunk_by(|a, b| a.0 == b.0)
        .map(|of| (of[0].0, of.len() as u32, of.iter().map(|(_, speed)| *speed).fold(0.0, f32::max)))
        .collect();
    let near = |block: &[i32; 3]| -> u32 {
        let of = |by: IVec3| {
            let beside = IVec3::from_array(*block).wrapping_add(by).to_array();
            blocks.binary_search_by_key(&beside, |(block, ..)| *block).map_or(0, |found| blocks[found].1)
        };
        (0..27).map(|k| of(IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1))).sum()
    };
    let together = blocks.par_iter().with_min_len(64).filter(|(block, ..)| near(block) >= TOGETHER);
    together.map(|(.., speed)| *speed).reduce(|| slow, f32::max)
}

/// Steps that waves of shear and of the surface ask for.
pub(super) fn of_waves(liquid: &Liquid, dt: f32) -> u32 {
    let cell_m = 2.0 * liquid.spacing_m;
    steps(wave_speed(liquid), dt, cell_m, MAX_STEPS.1).max(of_tension(liquid, dt, cell_m))
}

/// Greatest speed of waves of shear, m/s.
fn wave_speed(liquid: &Liquid) -> f32 {
    let scaled = liquid.scaled.iter().filter(|scaled| scaled.quantity == LiquidQuantity::Stiffness);
    let factors = scaled.map(|scaled| scaled.at_0.max(scaled.at_1));
    let stiffness_pa =
        factors.fold(rheology(liquid).stiffness_pa, |stiffness, factor| (stiffness * factor).min(MAX_SCALED));
    (stiffness_pa / liquid.density_kg_m3).sqrt()
}

/// Steps in which the shortest waves of surface tension are resolved (J. Brackbill, D. Kothe and C. Zemach, *A continuum method for
/// modeling surface tension*, 1992), or the most allowed. Viscosity, which acts implicitly, slows these waves: with their frequency ω and the
/// rate γ at which it damps them, steps of (γ + √(γ² + 4 ω²)) / ω² are stable, where 2 / ω would be without it.
fn of_tension(liquid: &Liquid, dt: f32, cell_m: f32) -> u32 {
    let of = |quantity: LiquidQuantity| {
        let scaled = liquid.scaled.iter().filter(move |scaled| scaled.quantity == quantity);
        scaled.map(|scaled| [scaled.at_0, scaled.at_1])
    };
    let tension = of(LiquidQuantity::SurfaceTension)
        .fold(liquid.surface_tension_n_m, |tension, [a, b]| (tension * a.max(b)).min(MAX_TENSION));
    let density = of(LiquidQuantity::Density)
        .fold(liquid.density_kg_m3, |density, [a, b]| (density * a.min(b)).max(DENSITIES[0]));
    let viscosity = of(LiquidQuantity::Viscosity)
        .fold(rheology(liquid).viscosity_pa_s, |viscosity, [a, b]| (viscosity * a.min(b)).min(MAX_SCALED));
    let resolved_s = (density * cell_m.powi(3) / (4.0 * PI * tension.max(1e-12))).sqrt();
    // γ / (2 ω) of waves two cells long, with the wave number k = π / Δx: `resolved_s` is π / (2 ω), and they are damped at 2 ν k², of which
    // half is counted.
    let damping = viscosity / density * (PI / cell_m).powi(2) * resolved_s / PI;
    let most_s = resolved_s * (damping + damping.hypot(1.0));
    (dt / (TENSION_STEP * most_s)).ceil().clamp(1.0, MAX_STEPS.1) as u32
}

#[cfg(test)]
mod tests {
    use super::*;

    const CELL: f32 = 0.02;
    const DT: f32 = 0.04;

    /// Particles of a spacing in a ball, as fast as one step allows, times `times`.
    fn ball(radius_cells: f32, at: Vec3, times: f32) -> Vec<(Vec3, Vec3)> {
        let side = (2.0 * radius_cells).ceil() as i32;
        let places = (0..(2 * side + 1).pow(3)).map(|k| {
            let n = 2 * side + 1;
            IVec3::new(k % n, k / n % n, k / n / n).as_vec3() - Vec3::splat(side as f32) + Vec3::splat(0.5)
        });
        let within = places.filter(|place| 0.5 * place.length() < radius_cells);
        let velocity = Vec3::NEG_Y * (times * MAX_CELLS * CELL / DT);
        within.map(|place| (at + place * (0.5 * CELL), velocity)).collect()
    }

    fn steps_of(particles: &[(Vec3, Vec3)]) -> u32 {
        let (positions, velocities): (Vec<Vec3>, Vec<Vec3>) = particles.iter().copied().unzip();
        at(speed([(&positions[..], &velocities[..])].into_iter(), CELL, DT), DT, CELL)
    }

    #[test]
    fn single_particles_and_wisps_do_not_ask_for_steps_and_drops_do() {
        let pool = ball(4.0, Vec3::ZERO, 0.5);
        let spray = (0..1_000).map(|k| {
            let at = Vec3::new((k % 10) as f32, (k / 10 % 10) as f32, (k / 100) as f32) * 3.0 * CELL;
            (at, Vec3::Y * (9.0 * MAX_CELLS * CELL / DT))
        });
        let spray: Vec<(Vec3, Vec3)> = spray.collect();
        assert_eq!(steps_of(&[pool.clone(), spray].concat()), 1);
        let wisp = ball(1.3, Vec3::splat(0.5), 6.5)[..20].to_vec();
        assert_eq!(steps_of(&[pool.clone(), wisp].concat()), 1);
        // Anywhere in the blocks, across their borders, far from the origin too.
        for at in [Vec3::splat(0.5), Vec3::new(0.51, -0.733, 0.347), Vec3::new(-81.13, 12.02, 40.7)] {
            let drop = ball(1.3, at, 6.5);
            assert!(drop.len() as u32 > TOGETHER, "{}", drop.len());
            assert_eq!(steps_of(&[pool.clone(), drop].concat()), 7, "at {at}");
        }
        assert_eq!(steps_of(&pool), 1);
    }

    #[test]
    fn surface_tension_asks_for_steps_of_thin_liquid_and_not_of_thick() {
        let of = |viscosity_pa_s: f32| {
            let liquid =
                Liquid { spacing_m: 0.5e-3, viscosity_pa_s, surface_tension_n_m: 0.07, ..Liquid::default() };
            of_waves(&liquid, DT)
        };
        // √(ρ Δx³ / (4 π σ)) of cells of a millimetre is a millisecond.
        assert_eq!((of(0.0), of(1e-3)), (54, 54));
        assert!((20..54).contains(&of(0.1)), "{}", of(0.1));
        assert_eq!(of(50.0), 1);
    }

    #[test]
    fn more_steps_than_the_most_ask_for_more_substeps() {
        let fastest = MAX_STEPS.0 * MAX_CELLS * CELL / DT;
        assert_eq!(at(2.0 * fastest, DT, CELL), 16);
        assert_eq!(more_substeps(fastest, DT, CELL), None);
        assert!((more_substeps(2.0 * fastest, DT, CELL).unwrap() - 2.0).abs() < 1e-5);
    }
}
