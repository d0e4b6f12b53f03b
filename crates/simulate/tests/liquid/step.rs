//! The step of a liquid, without a shot.

use super::tank::{Tank, filled};
use glam::{Mat3, Vec3};
use rstest::rstest;
use simulate::liquid::{
    Boundary, Flow, LiquidParticles, Material, Properties, RELAXED, Rheologies, Rheology, Solved,
    StillBodyCache, Symmetric, TooScattered, flow,
};

fn water(spacing_m: f32) -> Material<'static> {
    viscous(spacing_m, 1e-3, 0.0)
}

fn viscous(spacing_m: f32, viscosity_pa_s: f32, wall_friction: f32) -> Material<'static> {
    let rheologies = Rheologies::Same(Rheology { viscosity_pa_s, ..Rheology::default() });
    let properties = Properties { wall_friction, ..Properties::default() };
    Material { spacing_m, rheologies, properties, each: &[] }
}

struct Liquid {
    positions: Vec<Vec3>,
    velocities: Vec<Vec3>,
    gradients: Vec<Mat3>,
    deformations: Vec<Symmetric>,
    still: StillBodyCache,
}

impl Liquid {
    fn new(positions: Vec<Vec3>) -> Self {
        let (n, still) = (positions.len(), StillBodyCache::default());
        let (velocities, gradients) = (vec![Vec3::ZERO; n], vec![Mat3::ZERO; n]);
        Self { positions, velocities, gradients, deformations: Vec::new(), still }
    }

    fn columns(&mut self) -> LiquidParticles<'_> {
        LiquidParticles {
            positions: &self.positions,
            velocities: &mut self.velocities,
            gradients: &mut self.gradients,
            deformations: &mut self.deformations,
        }
    }

    fn step(&mut self, tank: &Tank, spacing: f32, dt: f32) -> Solved {
        self.velocities.iter_mut().for_each(|v| v.y -= 9.81 * dt);
        let (positions, velocities, gradients) =
            (&self.positions[..], &mut self.velocities[..], &mut self.gradients[..]);
        let Flow { displacements, solved, .. } = flow(
            LiquidParticles { positions, velocities, gradients, deformations: &mut [] },
            &water(spacing),
            dt,
            tank,
            &mut self.still,
            false,
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
        let material = viscous(spacing_m, 1_000.0 * viscosity_m2_s, 1.0);
        let first = liquid.positions.clone();
        // Several times the time in which it becomes steady; it is put back, so that it does not flow away.
        for _ in 0..40 {
            liquid.positions.clone_from(&first);
            liquid.velocities.iter_mut().for_each(|v| v.x += pull * dt);
            let (positions, velocities, gradients) =
                (&liquid.positions[..], &mut liquid.velocities[..], &mut liquid.gradients[..]);
            let columns = LiquidParticles { positions, velocities, gradients, deformations: &mut [] };
            flow(columns, &material, dt, &plates, &mut liquid.still, false).unwrap();
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

/// Fluids of viscosity 100 Pa s, in steady flow.
#[rstest]
#[case::viscous(Rheology { viscosity_pa_s: 100.0, ..Rheology::default() }, 60)]
#[case::stiff_gel(Rheology { stiffness_pa: 5_000.0, relaxation_time_s: 0.02, ..Rheology::default() }, 60)]
#[case::soft_gel(Rheology { stiffness_pa: 2_000.0, relaxation_time_s: 0.05, ..Rheology::default() }, 120)]
fn a_layer_that_sticks_to_a_wall_on_one_side_has_the_profile_of_nusselt(
    #[case] rheology: Rheology,
    #[case] steps: u32,
) {
    for (height, spacing_m) in [(0.1, 0.01), (0.06, 0.0041)] {
        let positions = filled(Vec3::ZERO, Vec3::new(0.6, height, 0.1), spacing_m);
        let height = (height / spacing_m).round() * spacing_m;
        let mut liquid = Liquid::new(positions);
        let (viscosity_m2_s, pull, dt) = (0.1, 10.0, 1.0 / 96.0);
        let rheologies = Rheologies::Same(rheology);
        let properties = Properties { wall_friction: 1.0, ..Properties::default() };
        let material = Material { spacing_m, rheologies, properties, each: &[] };
        let first = liquid.positions.clone();
        if rheology.stiffness_pa > 0.0 {
            liquid.deformations = vec![RELAXED; first.len()];
        }
        for _ in 0..steps {
            liquid.positions.clone_from(&first);
            liquid.velocities.iter_mut().for_each(|v| v.x += pull * dt);
            let columns = liquid.columns();
            flow(columns, &material, dt, &Wall, &mut StillBodyCache::default(), false).unwrap();
        }
        let most = pull * height * height / (2.0 * viscosity_m2_s);
        let mut worst: f32 = 0.0;
        for (x, v) in first.iter().zip(&liquid.velocities) {
            if (x.x - 0.3).abs() < 0.05 && (x.z - 0.05).abs() < 0.02 {
                let exact = pull / viscosity_m2_s * (height * x.y - 0.5 * x.y * x.y);
                worst = worst.max((v.x - exact).abs() / most);
            }
        }
        // Of first order: a quarter of a cell, of five, in the place of the surface; elastic stress at the wall is that of the particles
        // in the first cell and half of the second, 0.6 cells away.
        let bound = if rheology.stiffness_pa > 0.0 { 1.8 * spacing_m / height } else { 0.05 };
        assert!(worst < bound, "{worst} of {most} m/s at {height}");
    }
}

#[test]
fn particles_that_are_scattered_too_far_are_refused_and_places_without_end_are_borne() {
    let tank = Tank { min: Vec3::splat(-1e30), max: Vec3::splat(1e30) };
    let step = |positions: &[Vec3]| {
        let n = positions.len();
        let (mut velocities, mut gradients) = (vec![Vec3::ZERO; n], vec![Mat3::ZERO; n]);
        let columns = LiquidParticles {
            positions,
            velocities: &mut velocities,
            gradients: &mut gradients,
            deformations: &mut [],
        };
        flow(columns, &water(0.01), 0.01, &tank, &mut StillBodyCache::default(), false)
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
