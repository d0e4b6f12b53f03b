//! Cloths and soft bodies that liquid pushes.

use super::*;
use frames::Frame;
use shot::motion::Channel;
use shot::{Cloth, Pin, PinnedPart, Side};

/// A cube of water that pushes cloth, and a square of cloth below it.
fn cube_over_cloth(edge_m: f32, cloth: Cloth, width_m: f32, above_m: f32) -> (Shot, Id, Id) {
    let mut shot = bare(96);
    let of = Liquid { spacing_m: 0.02, ..Liquid::default() };
    let mut water = liquid(of, Shape::cuboid(edge_m, edge_m, edge_m), EmissionSchedule::Fill {});
    water.contact.push_deformables = true;
    let water = shot.add(element("Water", water).at(0.0, 0.5 * edge_m + above_m, 0.0));
    let mut sheet = Element::solid("Cloth", Shape::plane(width_m, width_m), Moves::Free);
    sheet.as_solid_mut().unwrap().cloth = Some(cloth);
    let sheet = shot.add(sheet);
    (shot, water, sheet)
}

/// A cloth that is held along all sides.
fn held(mass_kg_m2: f32) -> Cloth {
    let sides = [Side::Left, Side::Right, Side::Front, Side::Back];
    let pins = sides.map(|side| Pin::hard(PinnedPart::Side(side))).to_vec();
    Cloth { edge_m: 0.03, mass_kg_m2, pins, ..Cloth::default() }
}

/// Momentum of a cloth that is flat in `rest`, kg m/s.
fn momentum(rest: &Frame, of: &Frame, sheet: Id, mass_kg_m2: f32) -> Vec3 {
    let mesh = &of.meshes[&sheet];
    let topology = mesh.topology.triangles();
    let corner = |p: u32| rest.meshes[&sheet].positions[p as usize];
    let of_triangle = |t: &[u32; 3]| {
        let area = 0.5 * (corner(t[1]) - corner(t[0])).cross(corner(t[2]) - corner(t[0])).length();
        let velocity = t.iter().map(|p| mesh.velocities[*p as usize]).sum::<Vec3>() / 3.0;
        area * mass_kg_m2 * (velocity + of.bodies[&sheet].velocities[0])
    };
    topology.iter().map(of_triangle).sum()
}

#[test]
fn what_a_cloth_gives_to_water_it_loses() {
    for mass_kg_m2 in [0.1, 1.0, 10.0] {
        let loose = Cloth { edge_m: 0.03, mass_kg_m2, ..Cloth::default() };
        let (mut shot, water, sheet) = cube_over_cloth(0.2, loose, 0.3, 0.06);
        shot.elements.retain(|element| element.name != "Gravity");
        let cloth = shot.elements.iter_mut().find(|element| element.id == sheet).unwrap();
        cloth.as_solid_mut().unwrap().body.launch_velocity = Some(Vec3::new(0.0, 2.0, 0.0));
        let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
        let rest = simulation.write();
        let after = (0..8).map(|_| simulation.advance().unwrap()).last().unwrap();
        let kg = 1_000.0 * 0.02f32.powi(3);
        let liquid: Vec3 = after.particles[&water].velocities.iter().map(|v| *v * kg).sum();
        let cloth = momentum(&rest, &after, sheet, mass_kg_m2);
        let exact = 2.0 * 0.3 * 0.3 * mass_kg_m2;
        // The liquid is five cells deep, and a layer of up to one cell moves with the sheet.
        let total = (liquid + cloth).y;
        assert!((total - exact).abs() < 0.2 * exact, "{mass_kg_m2}: {liquid} and {cloth}, of {exact}");
        assert!(liquid.y > 0.7 * exact, "{mass_kg_m2}: {liquid}");
    }
}

#[test]
fn a_held_cloth_carries_water_and_comes_to_rest_under_it() {
    for mass_kg_m2 in [0.1, 0.4] {
        let (mut shot, water, sheet) = cube_over_cloth(0.2, held(mass_kg_m2), 0.4, 0.03);
        basin(&mut shot, Vec3::new(0.4, 0.4, 0.4));
        shot.elements.retain(|element| element.name != "Floor");
        let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
        let mut sags = Vec::new();
        let mut last = Frame::default();
        for _ in 0..60 {
            last = simulation.advance().unwrap();
            sags.push(-last.bodies[&sheet].positions[0].y);
        }
        let all = &last.particles[&water].positions;
        let above = all.iter().filter(|p| p.y > -0.2).count();
        assert!(above + 1 >= all.len(), "{mass_kg_m2}: {above} of {} are above", all.len());
        // It gave way to the blow, and bears the weight since.
        let (blow, resting) = (sags[..12].iter().copied().fold(0.0, f32::max), &sags[48..]);
        let [least, most] =
            [resting.iter().copied().fold(9.0, f32::min), resting.iter().copied().fold(0.0, f32::max)];
        assert!(blow > 1.2 * most && least > 0.005, "{mass_kg_m2}: {blow}, then {least} to {most}");
        assert!(most - least < 0.2 * most, "{mass_kg_m2}: {least} to {most}");
    }
}

/// Sags of the middle of a cloth under a resting block of water in a basin, in frames 23 and 37; `change` is made to the water.
fn sags_under_and_after(change: impl Fn(&mut Element)) -> [f32; 2] {
    let (mut shot, water, sheet) = cube_over_cloth(0.2, held(0.2), 0.4, 0.03);
    basin(&mut shot, Vec3::new(0.4, 0.4, 0.4));
    shot.elements.retain(|element| element.name != "Floor");
    change(shot.elements.iter_mut().find(|element| element.id == water).unwrap());
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let sags: Vec<f32> =
        (0..40).map(|_| -simulation.advance().unwrap().bodies[&sheet].positions[0].y).collect();
    [sags[22], sags[36]]
}

#[test]
fn a_cloth_that_water_has_left_swings_back() {
    let [under, after] = sags_under_and_after(|water| {
        water.as_particles_mut().unwrap().start.lifespan_s = Some(1.0);
    });
    assert!(after < 0.5 * under, "{under} under water, {after} after");
}

#[test]
fn a_cloth_that_water_does_not_push_any_more_swings_back_and_one_that_it_pushes_later_gives_way() {
    let path = "kind.particles.contact.push_deformables";
    let keyed = |from: bool| {
        sags_under_and_after(|water| {
            let push = Channel::keyed([(1.0, from), (25.0, !from)]);
            water.channels.insert(path.to_owned(), push);
            water.as_particles_mut().unwrap().contact.push_deformables = from;
        })
    };
    let ([under, after], [before, later]) = (keyed(true), keyed(false));
    assert!(after < 0.5 * under, "{under} while it was pushed, {after} after");
    assert!(before < 0.5 * later, "{before} before it was pushed, {later} after");
}

#[test]
fn a_soft_ball_lighter_than_water_floats() {
    let mut shot = bare(96);
    basin(&mut shot, Vec3::new(0.4, 0.6, 0.4));
    let of = Liquid { spacing_m: 0.02, ..Liquid::default() };
    let mut water = liquid(of, Shape::cuboid(0.4, 0.2, 0.4), EmissionSchedule::Fill {});
    water.contact.push_deformables = true;
    shot.add(element("Water", water).at(0.0, 0.1, 0.0));
    let mut ball = Element::solid("Ball", Shape::sphere(0.08), Moves::Free).at(0.0, 0.3, 0.0);
    ball.as_solid_mut().unwrap().soft =
        Some(shot::Soft { density_kg_m3: 400.0, cell_m: 0.04, ..Default::default() });
    let ball = shot.add(ball);
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let heights: Vec<f32> =
        (0..72).map(|_| simulation.advance().unwrap().bodies[&ball].positions[0].y).collect();
    let mean = heights[48..].iter().sum::<f32>() / 24.0;
    // A cap of 0.4 of a sphere is 0.866 of its radius high; the level rises by what is displaced.
    let volume = 4.0 / 3.0 * std::f32::consts::PI * 0.08f32.powi(3);
    let exact = 0.2 + 0.4 * volume / (0.4 * 0.4) - 0.866 * 0.08 + 0.08;
    // A fifth of a cell, as of a rigid float.
    assert!((mean - exact).abs() < 0.008, "{mean} of {exact}");
}
