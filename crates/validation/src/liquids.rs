//! Liquid against hydrostatics, the breaking dam of Martin and Moyce, and Torricelli's law.

use crate::Experiment;
use frames::Frame;
use glam::Vec3;
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot,
    particles::{Emission, EmissionDomain, EmissionSchedule, Liquid, ParticleBody, Particles, Source, Start},
};
use simulate::Simulation;
use std::sync::OnceLock;

const G: f64 = 9.81;
/// Thickness of walls, m.
const WALL: f32 = 0.05;

/// A shot with gravity, of so many frames a second.
fn bare(fps: f32, seconds: f32) -> Shot {
    let mut shot = Shot::empty("Experiment");
    shot.elements.clear();
    shot.camera = None;
    shot.timing.fps = fps;
    shot.timing.last = 1 + (seconds * fps).round() as u32;
    shot.add(Element::gravity(Vec3::new(0.0, -G as f32, 0.0)));
    shot
}

/// A still plate from one corner to the other.
fn plate(shot: &mut Shot, low: Vec3, high: Vec3) {
    let (size, at) = (high - low, 0.5 * (low + high));
    let cuboid = Shape::cuboid(size.x, size.y, size.z);
    shot.add(Element::solid("Plate", cuboid, Moves::Still).at(at.x, at.y, at.z));
}

/// Four walls around a room from the origin up, without a floor.
fn walls(shot: &mut Shot, room: Vec3, below: f32) {
    let low = Vec3::new(0.0, -below, 0.0);
    plate(shot, low - Vec3::new(WALL, 0.0, WALL), Vec3::new(0.0, room.y, room.z + WALL));
    plate(shot, low + Vec3::new(room.x, 0.0, -WALL), Vec3::new(room.x + WALL, room.y, room.z + WALL));
    plate(shot, low - Vec3::new(0.0, 0.0, WALL), Vec3::new(room.x, room.y, 0.0));
    plate(shot, low + Vec3::new(0.0, 0.0, room.z), Vec3::new(room.x, room.y, room.z + WALL));
}

/// Water that fills a box from the origin up.
fn water(shot: &mut Shot, size: Vec3, spacing_m: f32) -> Id {
    let shape = Shape::cuboid(size.x, size.y, size.z);
    let block = Particles {
        liquid: Some(Liquid { spacing_m, ..Liquid::default() }),
        source: Source::Shape { shape, domain: EmissionDomain::Surface },
        emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
        start: Start { speed_m_s: 0.0, speed_variation: 0.0, lifespan_s: None, ..Start::default() },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        ..Particles::default()
    };
    let at = 0.5 * size;
    shot.add(Element::new("Water", ElementKind::Particles(block)).at(at.x, at.y, at.z))
}

fn simulated(shot: &Shot) -> Vec<Frame> {
    let mut simulation = Simulation::new(shot, &Default::default()).expect("it prepares");
    let mut frames = vec![simulation.write()];
    while simulation.frame() < shot.timing.last {
        frames.push(simulation.advance().expect("finite"));
    }
    frames
}

/// Pressure in a still tank: its rise with depth, by least squares.
pub fn hydrostatic_pressure() -> Experiment {
    let last = still_tank();
    let depth = 0.2;
    let spacing = 0.005;
    // What is within a cell of surface and floor is left out.
    let points: Vec<(f64, f64)> = (last.positions.iter().zip(&last.pressures))
        .map(|(at, pressure)| (depth - f64::from(at.y), f64::from(*pressure)))
        .filter(|(below, _)| (2.0 * spacing..depth - 2.0 * spacing).contains(below))
        .collect();
    let n = points.len() as f64;
    let [x, y] = [points.iter().map(|p| p.0).sum::<f64>() / n, points.iter().map(|p| p.1).sum::<f64>() / n];
    let slope = points.iter().map(|p| (p.0 - x) * (p.1 - y)).sum::<f64>()
        / points.iter().map(|p| (p.0 - x).powi(2)).sum::<f64>();
    let curve = points.iter().step_by(points.len() / 200).copied().collect();
    Experiment {
        key: "hydrostatic-pressure",
        statement: "pressure in a still tank of water rises with depth".to_owned(),
        formula: "dp/dz = ρ g",
        expected: 1_000.0 * G,
        measured: slope,
        tolerance: 0.01,
        unit: "Pa/m",
        axes: ("depth, m", "pressure, Pa"),
        curve,
        reference: vec![(0.0, 0.0), (depth, 1_000.0 * G * depth)],
    }
}

/// The speed that is left in a still tank after a second, in cells of 1 cm.
pub fn stillness() -> Experiment {
    let last = still_tank();
    let squares: f64 = last.velocities.iter().map(|v| f64::from(v.length_squared())).sum();
    let rms = (squares / last.velocities.len() as f64).sqrt();
    let speeds = last.positions.iter().zip(&last.velocities).step_by(last.velocities.len() / 200);
    Experiment {
        key: "still-tank",
        statement: "root mean square of the speed in a still tank after 1 s, in cells of 1 cm".to_owned(),
        formula: "v = 0",
        expected: 0.0,
        measured: 1e3 * rms,
        tolerance: 1.0,
        unit: "mm/s",
        axes: ("height, m", "speed, mm/s"),
        curve: speeds.map(|(at, v)| (f64::from(at.y), 1e3 * f64::from(v.length()))).collect(),
        reference: vec![(0.0, 0.0), (0.2, 0.0)],
    }
}

fn still_tank() -> &'static frames::Particles {
    static LAST: OnceLock<frames::Particles> = OnceLock::new();
    LAST.get_or_init(still_tank_after_a_second)
}

fn still_tank_after_a_second() -> frames::Particles {
    let mut shot = bare(24.0, 1.0);
    let room = Vec3::new(0.16, 0.4, 0.16);
    walls(&mut shot, room, WALL);
    plate(&mut shot, Vec3::new(0.0, -WALL, 0.0), Vec3::new(room.x, 0.0, room.z));
    let id = water(&mut shot, Vec3::new(room.x, 0.2, room.z), 0.005);
    let frames = simulated(&shot);
    frames.last().expect("there are frames").particles[&id].clone()
}

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

/// The column that breaks, 16 cells wide: by time in seconds the front over a, and the height at the wall over 2a.
fn dam() -> &'static [(f64, f64, f64)] {
    static DAM: OnceLock<Vec<(f64, f64, f64)>> = OnceLock::new();
    DAM.get_or_init(broken_dam)
}

fn broken_dam() -> Vec<(f64, f64, f64)> {
    let fps = 240.0;
    let spacing = COLUMN / 32.0;
    let mut shot = bare(fps, 0.29);
    let room = Vec3::new(6.0 * COLUMN, 0.4, 0.05);
    walls(&mut shot, room, WALL);
    plate(&mut shot, Vec3::new(0.0, -WALL, 0.0), Vec3::new(room.x, 0.0, room.z));
    let id = water(&mut shot, Vec3::new(COLUMN, 2.0 * COLUMN, room.z), spacing);
    shot.physics.substeps = 1;
    let of = |frame: &Frame| {
        let positions = &frame.particles[&id].positions;
        // A thousandth of the particles may fly ahead.
        let mut along: Vec<f32> = positions.iter().map(|at| at.x).collect();
        along.sort_by(f32::total_cmp);
        let front = along[along.len() - 1 - along.len() / 1_000] + 0.5 * spacing;
        // Two strips two cells wide, by their volumes, give it at the wall.
        let strip = 4.0 * spacing;
        let height_of = |from: f32| {
            let within = positions.iter().filter(|at| (from..from + strip).contains(&at.x)).count();
            within as f32 * spacing.powi(3) / (strip * room.z)
        };
        let height = 1.5 * height_of(0.0) - 0.5 * height_of(strip);
        let seconds = f64::from(frame.number - 1) / f64::from(fps);
        (seconds, f64::from(front / COLUMN), f64::from(height / (2.0 * COLUMN)))
    };
    simulated(&shot).iter().map(of).collect()
}

/// The value of a curve at a place, and its place at a value, by lines between its points.
fn at(curve: &[(f64, f64)], x: f64) -> f64 {
    let pair = curve.windows(2).find(|pair| pair[0].0 <= x && x <= pair[1].0);
    pair.map_or(f64::NAN, |pair| {
        let part = (x - pair[0].0) / (pair[1].0 - pair[0].0);
        pair[0].1 + part * (pair[1].1 - pair[0].1)
    })
}

/// The ratio to published data that is furthest from 1.
fn worst_ratio(curve: &[(f64, f64)], data: &[(f64, f64)]) -> f64 {
    let ratios = data.iter().map(|(x, y)| at(curve, *x) / y);
    ratios
        .fold(1.0, |worst: f64, ratio| if (ratio - 1.0).abs() > (worst - 1.0).abs() { ratio } else { worst })
}

/// Seconds by which the simulated column is ahead of the published one where the front is at 1.44 a.
fn ahead(dam: &[(f64, f64, f64)]) -> f64 {
    let unit = (f64::from(COLUMN) / (2.0 * G)).sqrt();
    let by_front: Vec<(f64, f64)> = dam.iter().map(|(t, front, _)| (*front, *t)).collect();
    1.19 * unit - at(&by_front, 1.44)
}

/// The front of a breaking dam.
pub fn dam_front() -> Experiment {
    let dam = dam();
    let unit = (f64::from(COLUMN) / (2.0 * G)).sqrt();
    let ahead = ahead(dam);
    let curve: Vec<(f64, f64)> = dam.iter().map(|(t, front, _)| ((t + ahead) / unit, *front)).collect();
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
    let (_, _, whole) = dam[0];
    let curve: Vec<(f64, f64)> = dam.iter().map(|(t, _, height)| (t / unit, height / whole)).collect();
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

/// The speed of a jet out of a square hole, eight cells wide, in the floor of a tank.
pub fn torricelli() -> Experiment {
    let (spacing, hole, depth) = (0.005f32, 0.08f32, 0.2f32);
    let room = Vec3::new(0.24, 0.4, 0.24);
    let mut shot = bare(48.0, 0.5);
    walls(&mut shot, room, WALL);
    let (from, to) = (0.5 * (room.x - hole), 0.5 * (room.x + hole));
    plate(&mut shot, Vec3::new(0.0, -WALL, 0.0), Vec3::new(from, 0.0, room.z));
    plate(&mut shot, Vec3::new(to, -WALL, 0.0), Vec3::new(room.x, 0.0, room.z));
    plate(&mut shot, Vec3::new(from, -WALL, 0.0), Vec3::new(to, 0.0, from));
    plate(&mut shot, Vec3::new(from, -WALL, to), Vec3::new(to, 0.0, room.z));
    let id = water(&mut shot, Vec3::new(room.x, depth, room.z), spacing);
    let centre = 0.5 * room.x;
    // Where the jet has contracted, a hole's width below the floor: the square of its speed over that of free fall from the surface.
    let of = |frame: &Frame| {
        let of = &frame.particles[&id];
        let within = of.positions.iter().filter(|at| at.y > 0.0);
        let surface =
            within.clone().map(|at| f64::from(at.y)).sum::<f64>() / within.count().max(1) as f64 * 2.0;
        let in_jet = |at: &Vec3| {
            (-1.5 * hole..-hole).contains(&at.y)
                && (at.x - centre).abs().max((at.z - centre).abs()) < 0.25 * hole
        };
        let jet: Vec<f64> = (of.positions.iter().zip(&of.velocities))
            .filter(|(at, _)| in_jet(at))
            .map(|(at, v)| f64::from(v.length()) / (2.0 * G * (surface - f64::from(at.y))).sqrt())
            .collect();
        (surface, jet.iter().sum::<f64>() / jet.len().max(1) as f64)
    };
    // Once the jet has formed, and before the surface is near the hole.
    let curve: Vec<(f64, f64)> =
        simulated(&shot).iter().map(of).filter(|(surface, ratio)| *ratio > 0.0 && *surface > 0.1).collect();
    let formed = &curve[curve.len() / 3..];
    let measured = formed.iter().map(|(_, ratio)| ratio).sum::<f64>() / formed.len() as f64;
    let reference = curve.iter().map(|(surface, _)| (*surface, 1.0)).collect();
    Experiment {
        key: "torricelli",
        statement: "speed of a jet out of a hole against free fall from the surface".to_owned(),
        formula: "v = √(2 g h)",
        expected: 1.0,
        measured,
        tolerance: 0.05,
        unit: "",
        axes: ("surface above the hole, m", "speed over √(2 g h)"),
        curve,
        reference,
    }
}

/// All of them.
pub fn all() -> Vec<Experiment> {
    vec![hydrostatic_pressure(), stillness(), dam_front(), dam_height(), torricelli()]
}
