//! Cost of a frame of cloth.

use geometry::Meshes;
use shot::{
    Cloth, Element, ElementKind, Moves, Pin, PinnedPart, Shape, Shot, Side,
    force::{Force, ForceKind, Wind},
};
use simulate::{
    Simulation,
    deformable_timers::{Phase, spent},
};
use std::time::Instant;

/// A held sheet of `side` × `side` points in wind, at 60 frames a second.
fn flag(side: usize, substeps: u32) -> Shot {
    let mut shot = Shot::empty("Flag");
    (shot.timing.fps, shot.timing.last) = (60.0, 120);
    shot.physics.substeps = substeps;
    let cloth = Cloth {
        edge_m: 1.0 / (side - 1) as f32,
        pins: vec![Pin::hard(PinnedPart::Side(Side::Left))],
        ..Cloth::default()
    };
    let mut element = Element::solid("Flag", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, 2.0, 0.0);
    element.as_solid_mut().expect("a solid").cloth = Some(cloth);
    shot.add(element);
    let wind = Wind { speed_m_s: 5.0, ..Wind::default() };
    let mut wind = Element::new("Wind", ElementKind::Force(Force::new(ForceKind::Wind(wind))));
    wind.placement.orientation_rad.z = 1.2;
    shot.add(wind);
    shot
}

fn main() {
    let sizes: Vec<usize> = std::env::args().filter_map(|argument| argument.parse().ok()).collect();
    for side in if sizes.is_empty() { vec![100] } else { sizes } {
        for substeps in [1, 2] {
            let shot = flag(side, substeps);
            let start = Instant::now();
            let mut simulation = Simulation::new(&shot, &Meshes::default()).expect("a sound shot");
            let prepared = start.elapsed().as_secs_f64();
            let mut times = Vec::new();
            let mut before = Vec::new();
            for frame in 0..40 {
                if frame == 10 {
                    before = Phase::ALL.map(spent).to_vec();
                }
                let start = Instant::now();
                simulation.go_on().expect("it holds");
                times.push(start.elapsed().as_secs_f64() * 1e3);
            }
            let mean = times[10..].iter().sum::<f64>() / 30.0;
            println!(
                "{side} × {side} points in wind, {substeps} substeps: {mean:.1} ms a frame of 1/60 s; prepared in {:.0} ms, first frame {:.0} ms",
                prepared * 1e3,
                times[0]
            );
            let phases = Phase::ALL.iter().zip(before).map(|(phase, before)| {
                let milliseconds = (spent(*phase) - before).as_secs_f64() * 1e3 / 30.0;
                format!("{phase:?} {milliseconds:.1}")
            });
            println!("  ms a frame: {}", phases.collect::<Vec<_>>().join(", "));
        }
    }
}
