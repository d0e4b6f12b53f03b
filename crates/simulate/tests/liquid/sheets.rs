//! Cloths that liquid pushes.

use super::*;
use shot::{Cloth, Pin, PinSpring, PinnedPart};

/// Height at which the cloth begins.
const HEIGHT_M: f32 = 0.3;

/// A basin whose floor is a cloth on springs, with water 0.2 m deep on it.
fn floor(mass_kg_m2: f32, sag_m: f32, spacing_m: f32) -> (Shot, Id, Id) {
    let mut shot = bare(96);
    basin(&mut shot, Vec3::new(0.4, 0.8, 0.4));
    shot.elements.retain(|element| element.name != "Floor");
    let of = Liquid { spacing_m, ..Liquid::default() };
    let mut water = liquid(of, Shape::cuboid(0.4, 0.2, 0.4), EmissionSchedule::Fill {});
    water.contact.push_deformables = true;
    let water = shot.add(element("Water", water).at(0.0, HEIGHT_M + 0.101, 0.0));
    let mut sheet = Element::solid("Cloth", Shape::plane(0.4, 0.4), Moves::Free);
    let frequency_hz = ((200.0 + mass_kg_m2) / mass_kg_m2 * 9.81 / sag_m).sqrt() / std::f32::consts::TAU;
    let spring = Some(PinSpring { frequency_hz, damping_ratio: 0.1 });
    let pin = Pin { part: PinnedPart::Whole {}, holds: true, to: None, spring };
    let cloth = Cloth { edge_m: 0.04, mass_kg_m2, pins: vec![pin], ..Cloth::default() };
    sheet.as_solid_mut().unwrap().cloth = Some(cloth);
    let sheet = shot.add(sheet.at(0.0, HEIGHT_M, 0.0));
    (shot, water, sheet)
}

#[test]
fn a_cloth_on_springs_bears_the_weight_of_the_water_on_it() {
    for (mass_kg_m2, sag_m) in [(0.2, 0.04), (2.0, 0.1)] {
        let (shot, water, sheet) = floor(mass_kg_m2, sag_m, 0.02);
        let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
        for frame in 0..std::env::var("FRAMES").map_or(72, |n| n.parse().unwrap()) {
            let of = simulation.advance().unwrap();
            let sag = HEIGHT_M - of.bodies[&sheet].positions[0].y;
            let low = of.particles[&water].positions.iter().map(|p| p.y).fold(9.0, f32::min);
            let v = of.particles[&water].velocities.iter().map(|p| p.length_squared()).sum::<f32>() / of.particles[&water].velocities.len() as f32;
            eprintln!("{frame} sag {sag} of {sag_m} lowest {low} v {} {:?}", v.sqrt(), of.measured.liquids);
        }
    }
}
