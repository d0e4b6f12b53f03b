//! Liquid in tanks: at rest, and leaving through a hole.

use super::{G, WALL, bare, plate, simulated, walls, water};
use crate::Experiment;
use frames::{Frame, Particles};
use glam::Vec3;
use std::sync::OnceLock;

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

/// The greatest speed that is left there, mm/s.
pub fn fastest_at_rest() -> f64 {
    let speeds = still_tank().velocities.iter().map(|v| 1e3 * f64::from(v.length()));
    speeds.fold(0.0, f64::max)
}

fn still_tank() -> &'static Particles {
    static LAST: OnceLock<Particles> = OnceLock::new();
    LAST.get_or_init(still_tank_after_a_second)
}

fn still_tank_after_a_second() -> Particles {
    let mut shot = bare(24.0, 1.0);
    let room = Vec3::new(0.16, 0.4, 0.16);
    walls(&mut shot, room, WALL);
    plate(&mut shot, Vec3::new(0.0, -WALL, 0.0), Vec3::new(room.x, 0.0, room.z));
    let id = water(&mut shot, Vec3::new(room.x, 0.2, room.z), 0.005);
    let frames = simulated(&shot);
    frames.last().expect("there are frames").particles[&id].clone()
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
