//! Liquids that are elastic up to a stress.

use super::{G, bare, filling, plate, simulated};
use crate::Experiment;
use glam::{Mat3, Vec3};
use shot::{Shape, particles::Liquid};
use simulate::liquid::{
    Boundary, LiquidParticles, Material, Properties, Rheologies, Rheology, StillBodyCache, flow,
};

/// A closed box.
struct Room(f32);

impl Boundary for Room {
    fn bodies_in(&self, min: Vec3, max: Vec3) -> [Vec<u32>; 2] {
        let any = min.min_element() < 0.0 || max.max_element() > self.0;
        [if any { vec![0] } else { Vec::new() }, Vec::new()]
    }

    fn distance(&self, _: u32, place: Vec3, _: f32) -> f32 {
        place.min_element().min((self.0 - place).min_element())
    }

    fn velocity(&self, _: u32, _: Vec3) -> Vec3 {
        Vec3::ZERO
    }
}

/// A gel that fills a box, where it was stretched: its stress along the stretch, which falls with time.
pub fn relaxation() -> Experiment {
    let (spacing, side, time, longer) = (0.01f32, 0.08f32, 0.2f32, 1.2f32);
    let per_side = (side / spacing).round() as i32;
    let positions: Vec<Vec3> = (0..per_side.pow(3))
        .map(|i| {
            Vec3::new((i % per_side) as f32, (i / per_side % per_side) as f32, (i / per_side.pow(2)) as f32)
        })
        .map(|at| (at + 0.5) * spacing)
        .collect();
    let n = positions.len();
    let (mut velocities, mut gradients) = (vec![Vec3::ZERO; n], vec![Mat3::ZERO; n]);
    // b = F Fᵀ of a stretch that keeps the volume: xx, yy, zz, and the others.
    let stretched = [longer * longer, 1.0 / longer, 1.0 / longer, 0.0, 0.0, 0.0];
    let mut deformations = vec![stretched; n];
    let rheology = Rheology {
        viscosity_pa_s: 1.0,
        stiffness_pa: 1_000.0,
        relaxation_time_s: time,
        yield_stress_pa: 0.0,
    };
    let material = Material {
        spacing_m: spacing,
        rheologies: Rheologies::Same(rheology),
        properties: Properties::default(),
        each: &[],
    };
    let mut still = StillBodyCache::default();
    let deviator = |deformations: &[[f32; 6]]| {
        let of = |b: &[f32; 6]| f64::from(b[0] - (b[0] + b[1] + b[2]) / 3.0);
        deformations.iter().map(of).sum::<f64>() / n as f64
    };
    let first = deviator(&deformations);
    let (dt, mut curve) = (0.01f32, vec![(0.0, 1.0)]);
    let mut positions = positions;
    for step in 1..=60 {
        let columns = LiquidParticles {
            positions: &positions,
            velocities: &mut velocities,
            gradients: &mut gradients,
            deformations: &mut deformations,
        };
        let flow = flow(columns, &material, dt, &Room(side), &mut still, false).expect("it is near");
        for (x, way) in positions.iter_mut().zip(flow.displacements) {
            *x = (*x + way).clamp(Vec3::splat(1e-5), Vec3::splat(side - 1e-5));
        }
        curve.push((f64::from(step as f32 * dt), deviator(&deformations) / first));
    }
    // The time in which it falls to a part, by the slope of its logarithm.
    let (t, part) = curve[20];
    Experiment {
        key: "gel-relaxation",
        statement: "time in which the stress of a stretched gel falls to 37 %".to_owned(),
        formula: "σ = σ₀ exp(−t / τ)",
        expected: f64::from(time),
        measured: -t / part.ln(),
        tolerance: 0.05,
        unit: "s",
        axes: ("time, s", "σ / σ₀"),
        reference: curve.iter().map(|(t, _)| (*t, (-t / f64::from(time)).exp())).collect(),
        curve,
    }
}

/// How far columns of mud slump that yield.
pub fn slump() -> Experiment {
    let height = 0.2f32;
    let of = |density_kg_m3: f32, yield_stress_pa: f32, spacing_m: f32| {
        let mut shot = bare(24.0, 2.5);
        plate(&mut shot, Vec3::new(-1.0, -0.2, -1.0), Vec3::new(1.0, 0.0, 1.0));
        let mud = Liquid {
            spacing_m,
            density_kg_m3,
            viscosity_pa_s: 150.0,
            wall_friction: 1.0,
            stiffness_pa: 0.0,
            relaxation_time_s: 0.0,
            yield_stress_pa,
            ..Liquid::default()
        };
        let shape = Shape::Cylinder { radius_m: 0.1, height_m: height };
        let id = shot.add(filling(mud, shape).at(0.0, 0.5 * height, 0.0));
        let frames = simulated(&shot);
        let top = |frame: &frames::Frame| {
            let mut heights: Vec<f32> = frame.particles[&id].positions.iter().map(|x| x.y).collect();
            heights.sort_by(f32::total_cmp);
            heights[heights.len() * 99 / 100]
        };
        let slump = 1.0 - top(&frames[frames.len() - 1]) / top(&frames[0]);
        let t = f64::from(yield_stress_pa) / (f64::from(density_kg_m3) * G * f64::from(height));
        (t, f64::from(slump))
    };
    let exact = |t: f64| 1.0 - 2.0 * t * (1.0 - (2.0 * t).ln());
    let curve = vec![of(1_700.0, 300.0, 0.01), of(1_200.0, 300.0, 0.0083)];
    let worst = curve.iter().map(|(t, slump)| slump - exact(*t));
    Experiment {
        key: "slump",
        statement: "slump of columns that yield, of their height, against Pashias et al. (1996): the worst difference".to_owned(),
        formula: "s = 1 − 2 t (1 − ln 2 t), t = τ / (ρ g h)",
        expected: 0.0,
        measured: worst.fold(0.0, |worst: f64, of| if of.abs() > worst.abs() { of } else { worst }),
        tolerance: 0.05,
        unit: "",
        axes: ("yield stress, ρ g h", "slump, of the height"),
        reference: (5..40).map(|i| f64::from(i) * 0.005).map(|t| (t, exact(t))).collect(),
        curve,
    }
}
