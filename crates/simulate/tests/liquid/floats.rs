//! Free bodies in liquid.

use super::*;

/// A cube of half the liquid's density in a basin, just above the surface.
fn float(density_kg_m3: f32, height: f32) -> (Shot, Id) {
    let mut shot = bare(96);
    basin(&mut shot, Vec3::new(0.4, 0.6, 0.4));
    let of = Liquid { spacing_m: 0.02, ..Liquid::default() };
    let block = liquid(of, Shape::cuboid(0.4, 0.2, 0.4), EmissionSchedule::Fill {});
    shot.add(element("Water", block).at(0.0, 0.1, 0.0));
    let mut cube = Element::solid("Float", Shape::cuboid(0.16, 0.12, 0.16), Moves::Free);
    cube.as_solid_mut().unwrap().body.weight = shot::Weight::DensityKgM3(density_kg_m3);
    let id = shot.add(cube.at(0.0, height, 0.0));
    (shot, id)
}

#[test]
fn a_float_bobs_about_its_draught() {
    for density in [300.0, 700.0] {
        let (shot, id) = float(density, 0.27);
        let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
        let mut heights = Vec::new();
        for _ in 0..64 {
            let frame = simulation.advance().unwrap();
            heights.push(frame.bodies[&id].positions[0].y);
        }
        let mean = heights[16..].iter().sum::<f32>() / 48.0;
        // The level rises by what the float displaces.
        let draught = 0.12 * density / 1_000.0;
        let level = 0.2 + 0.16 * 0.16 * draught / (0.4 * 0.4);
        let exact = level - draught + 0.06;
        // A fifth of a cell.
        assert!((mean - exact).abs() < 0.008, "{density}: {mean} of {exact}");
    }
}

#[test]
fn a_float_whose_water_is_gone_falls_freely() {
    let (mut shot, id) = float(500.0, 0.21);
    shot.elements.iter_mut().find_map(Element::as_particles_mut).unwrap().start.lifespan_s = Some(1.0);
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let speeds: Vec<f32> =
        (0..27).map(|_| simulation.advance().unwrap().bodies[&id].velocities[0].y).collect();
    // The water dies in frame 25, with which the last load ends, and no blow is left of it; speeds begin with frame 2.
    for frame in 26..29 {
        let gained = speeds[frame - 2] - speeds[frame - 3];
        assert!((gained + 9.81 / 24.0).abs() < 1e-3, "{gained} m/s in frame {frame}: {speeds:?}");
    }
}
