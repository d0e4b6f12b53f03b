//! Several liquids in one grid.

use super::*;

fn mean_height(frame: &frames::Frame, id: Id) -> f32 {
    let particles = frame.particles_of(id);
    particles.positions.iter().map(|x| x.y).sum::<f32>() / particles.len() as f32
}

/// A light liquid under a heavy one comes up, and the whole stays about as high as both together.
#[test]
fn oil_under_water_rises_to_the_top() {
    let mut shot = bare(96);
    basin(&mut shot, Vec3::new(0.3, 0.5, 0.2));
    let layer = |name: &str, density_kg_m3: f32, y: f32| {
        let of = Liquid { spacing_m: 0.02, density_kg_m3, surface_tension_n_m: 0.0, ..Liquid::default() };
        element(name, liquid(of, Shape::cuboid(0.3, 0.1, 0.2), EmissionSchedule::Fill {})).at(0.0, y, 0.0)
    };
    let oil = shot.add(layer("Oil", 500.0, 0.05));
    let water = shot.add(layer("Water", 1_000.0, 0.15));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let first = simulation.advance().unwrap();
    assert!(mean_height(&first, oil) < mean_height(&first, water));
    let count = |frame: &frames::Frame| frame.particles_of(oil).len() + frame.particles_of(water).len();
    let mut last = first.clone();
    for _ in 1..96 {
        last = simulation.advance().unwrap();
    }
    let (oil, water_at) = (mean_height(&last, oil), mean_height(&last, water));
    assert!(oil > water_at + 0.04, "oil {oil}, water {water_at}");
    assert_eq!(count(&last), count(&first));
    // Pockets that are not spread yet are among them.
    let whole = 0.5 * (oil + water_at);
    assert!((whole / 0.1 - 1.0).abs() < 0.12, "{whole}");
}

/// A liquid that stands beside one of the same density is not passed through.
#[test]
fn two_liquids_push_each_other() {
    let mut shot = bare(48);
    basin(&mut shot, Vec3::new(0.4, 0.4, 0.2));
    let column = |name: &str, x: f32| {
        let of = Liquid { spacing_m: 0.02, ..Liquid::default() };
        element(name, liquid(of, Shape::cuboid(0.2, 0.2, 0.2), EmissionSchedule::Fill {})).at(x, 0.1, 0.0)
    };
    let left = shot.add(column("Left", -0.1));
    let right = shot.add(column("Right", 0.1));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let mut frame = simulation.advance().unwrap();
    for _ in 1..48 {
        frame = simulation.advance().unwrap();
    }
    let across = |id: Id, side: f32| {
        let particles = frame.particles_of(id);
        let over = particles.positions.iter().filter(|x| x.x * side > 0.06).count();
        over as f32 / particles.len() as f32
    };
    assert!(across(left, 1.0) < 0.05 && across(right, -1.0) < 0.05);
    assert!((mean_height(&frame, left) - 0.1).abs() < 0.012);
}
