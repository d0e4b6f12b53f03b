//! The breaking dam of Martin and Moyce.

use super::{G, WALL, at, bare, plate, simulated, walls, water};
use crate::Experiment;
use frames::Frame;
use glam::Vec3;
use shot::{ElementKind, particles::Particles};
use std::sync::OnceLock;

/// Times t √(2 g / a) at which the front of a column twice as high as wide has run to x / a: J. Martin and W. Moyce, *An experimental
/// study of the collapse of liquid columns on a rigid horizontal plane*, 1952, a = 2¼ inches.
const FRONT: [(f64, f64); 14] = [
    (0.41, 1.11),
    (0.84, 1.22),
    (1.19, 1.44),
    (1.43, 1.67),
    (1.63, 1.89),
    (1.83, 2.11),
    (1.98, 2.33),
    (2.20, 2.56),
    (2.32, 2.78),
    (2.51, 3.00),
    (2.65, 3.22),
    (2.83, 3.44),
    (2.98, 3.67),
    (3.11, 3.89),
];
/// Times t √(g / a) at which the column at the wall is y / 2a high, of the same.
const HEIGHT: [(f64, f64); 11] = [
    (0.56, 0.94),
    (0.77, 0.89),
    (0.93, 0.83),
    (1.08, 0.78),
    (1.28, 0.72),
    (1.46, 0.67),
    (1.66, 0.61),
    (1.84, 0.56),
    (2.00, 0.50),
    (2.21, 0.44),
    (2.45, 0.39),
];

/// Width of the column, m.
const COLUMN: f32 = 0.1;

/// How far a column that breaks has come.
struct DamState {
    seconds: f64,
    /// x / a of the foremost but for a thousandth of the particles.
    front: f64,
    /// x / a beyond which a hundredth of the liquid is: hardly any single particle is seen in it.
    hundredth: f64,
    /// y / 2a of the surface at the wall.
    height: f64,
}

/// The column that breaks, 16 cells wide.
fn dam() -> &'static [DamState] {
    static DAM: OnceLock<Vec<DamState>> = OnceLock::new();
    DAM.get_or_init(|| broken_dam(16, 1e-3))
}

/// A column so many cells wide that breaks, of a viscosity in Pa s.
fn broken_dam(cells: u32, viscosity_pa_s: f32) -> Vec<DamState> {
    let fps = 240.0;
    let spacing = COLUMN / (2 * cells) as f32;
    let mut shot = bare(fps, 0.29);
    let room = Vec3::new(6.0 * COLUMN, 0.4, 0.05);
    walls(&mut shot, room, WALL);
    plate(&mut shot, Vec3::new(0.0, -WALL, 0.0), Vec3::new(room.x, 0.0, room.z));
    let id = water(&mut shot, Vec3::new(COLUMN, 2.0 * COLUMN, room.z), spacing);
    let element = shot.elements.iter_mut().find(|element| element.id == id).expect("it was added");
    if let ElementKind::Particles(Particles { liquid: Some(liquid), .. }) = &mut element.kind {
        liquid.viscosity_pa_s = viscosity_pa_s;
    }
    shot.physics.substeps = 1;
    let of = |frame: &Frame| {
        let positions = &frame.particles[&id].positions;
        let mut along: Vec<f32> = positions.iter().map(|at| at.x).collect();
        along.sort_by(f32::total_cmp);
        let from_front = |fraction: usize| along[along.len() - 1 - along.len() / fraction];
        // In strips two cells wide along the wall the highest particle lies about half a spacing below the surface.
        let mut tops = vec![0.0f32; (room.z / (2.0 * spacing)).round() as usize];
        for at in positions.iter().filter(|at| at.x < 4.0 * spacing) {
            let strip = ((at.z / (2.0 * spacing)) as usize).min(tops.len() - 1);
            tops[strip] = tops[strip].max(at.y);
        }
        let height = tops.iter().sum::<f32>() / tops.len() as f32 + 0.5 * spacing;
        DamState {
            seconds: f64::from(frame.number - 1) / f64::from(fps),
            front: f64::from((from_front(1_000) + 0.5 * spacing) / COLUMN),
            hundredth: f64::from(from_front(100) / COLUMN),
            height: f64::from(height / (2.0 * COLUMN)),
        }
    };
    simulated(&shot).iter().map(of).collect()
}

/// The ratio to published data that is furthest from 1.
fn worst_ratio(curve: &[(f64, f64)], data: &[(f64, f64)]) -> f64 {
    let ratios = data.iter().map(|(x, y)| at(curve, *x) / y);
    ratios
        .fold(1.0, |worst: f64, ratio| if (ratio - 1.0).abs() > (worst - 1.0).abs() { ratio } else { worst })
}

/// Seconds by which the simulated column is ahead of the published one where the front is at 1.44 a.
fn ahead(dam: &[DamState]) -> f64 {
    let unit = (f64::from(COLUMN) / (2.0 * G)).sqrt();
    let by_front: Vec<(f64, f64)> = dam.iter().map(|of| (of.front, of.seconds)).collect();
    1.19 * unit - at(&by_front, 1.44)
}

/// The front of a breaking dam.
pub fn dam_front() -> Experiment {
    let dam = dam();
    let unit = (f64::from(COLUMN) / (2.0 * G)).sqrt();
    let ahead = ahead(dam);
    let curve: Vec<(f64, f64)> = dam.iter().map(|of| ((of.seconds + ahead) / unit, of.front)).collect();
    Experiment {
        key: "dam-front",
        statement: "front of a breaking dam against Martin and Moyce (1952) from 1.44 to 3.89 widths: the worst ratio".to_owned(),
        formula: "x(t) / a as published",
        expected: 1.0,
        measured: worst_ratio(&curve, &FRONT[2..]),
        tolerance: 0.05,
        unit: "",
        axes: ("t √(2 g / a)", "front, x / a"),
        curve,
        reference: FRONT.to_vec(),
    }
}

/// The height of a breaking dam at its wall.
pub fn dam_height() -> Experiment {
    let dam = dam();
    let unit = (f64::from(COLUMN) / G).sqrt();
    let whole = dam[0].height;
    let curve: Vec<(f64, f64)> = dam.iter().map(|of| (of.seconds / unit, of.height / whole)).collect();
    Experiment {
        key: "dam-height",
        statement: "height of a breaking dam at its wall, from its release on, against Martin and Moyce (1952): the worst ratio"
            .to_owned(),
        formula: "y(t) / 2a as published",
        expected: 1.0,
        measured: worst_ratio(&curve, &HEIGHT),
        tolerance: 0.05,
        unit: "",
        axes: ("t √(g / a)", "height at the wall, y / 2a"),
        curve,
        reference: HEIGHT.to_vec(),
    }
}

/// The front of a breaking dam of thick liquid at three resolutions: the order in which it converges.
pub fn dam_convergence() -> Experiment {
    let until = 0.25;
    let fronts = [8, 16, 32].map(|cells| -> Vec<f64> {
        let dam = broken_dam(cells, 5.0);
        dam.iter().take_while(|of| of.seconds <= until).map(|of| of.hundredth).collect()
    });
    // Of all times: at one alone the noise of particles can be as large as a difference.
    let apart = |a: &[f64], b: &[f64]| {
        let squares = a.iter().zip(b).map(|(a, b)| (a - b).powi(2));
        (squares.sum::<f64>() / a.len() as f64).sqrt()
    };
    let (first, second) = (apart(&fronts[0], &fronts[1]), apart(&fronts[1], &fronts[2]));
    let order = (first / second).log2();
    Experiment {
        key: "dam-convergence",
        statement: "front of a breaking dam of thick liquid, beyond which a hundredth of the liquid is, 8, 16 and 32 cells wide: the order of its convergence, at least 1".to_owned(),
        formula: "log₂ (‖x₁₆ − x₈‖ / ‖x₃₂ − x₁₆‖) ≥ 1, over a quarter of a second",
        expected: 1.0,
        measured: order.min(1.0),
        tolerance: 0.0,
        unit: "",
        axes: ("cells of the width", "front, x / a"),
        curve: [8.0, 16.0, 32.0].into_iter().zip(fronts.iter().filter_map(|of| of.last().copied())).collect(),
        reference: Vec::new(),
    }
}
