//! Liquid and the bodies that hold, move and drain it.

use super::*;
use shot::motion::Channel;
use shot::particles::ContactOutcome;

fn water(spacing_m: f32, shape: Shape) -> Particles {
    liquid(Liquid { spacing_m, ..Liquid::default() }, shape, EmissionSchedule::Fill {})
}

fn positions(simulation: &mut Simulation, id: Id, frames: u32) -> Vec<Vec3> {
    let mut frame = simulation.write();
    for _ in 0..frames {
        frame = simulation.advance().unwrap();
    }
    frame.particles[&id].positions.clone()
}

#[test]
fn walls_thinner_than_a_cell_let_none_through_and_bear_the_whole_layer() {
    // Plates of 6 mm around cells of 40 mm.
    let mut shot = bare(72);
    let (wide, tall, thick) = (0.41, 0.5, 0.006);
    let mut plate = |size: Vec3, at: Vec3| {
        let cuboid = Shape::cuboid(size.x, size.y, size.z);
        shot.add(Element::solid("Plate", cuboid, Moves::Still).at(at.x, at.y, at.z));
    };
    plate(Vec3::new(wide, thick, wide), Vec3::new(0.013, 0.007, 0.0));
    for side in [-1.0, 1.0] {
        let out = 0.5 * (wide + thick);
        plate(Vec3::new(thick, tall, wide), Vec3::new(0.013 + side * out, 0.5 * tall, 0.0));
        plate(Vec3::new(wide, tall, thick), Vec3::new(0.013, 0.5 * tall, side * out));
    }
    let id = shot.add(element("Water", water(0.02, Shape::cuboid(0.36, 0.2, 0.36))).at(0.013, 0.13, 0.0));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let found = positions(&mut simulation, id, 72);
    let outside = |x: &&Vec3| (x.x - 0.013).abs() > 0.21 || x.z.abs() > 0.21 || x.y < 0.0;
    assert_eq!(found.iter().filter(outside).count(), 0);
    let (depth, mean) = (0.36 * 0.36 * 0.2 / (0.404 * 0.404), found.iter().map(|x| x.y - 0.01).sum::<f32>());
    let mean = mean / found.len() as f32;
    // A cell in depth: half of one at the surface, and as much at the walls.
    assert!((mean - 0.5 * depth).abs() < 0.5 * 0.04, "{mean} m, of {}", 0.5 * depth);
}

#[test]
fn an_animated_wall_pushes_it_at_its_own_speed_and_lets_none_through() {
    let mut shot = bare(24);
    basin(&mut shot, Vec3::new(0.8, 0.5, 0.24));
    let wall = Element::solid("Wall", Shape::cuboid(0.05, 0.6, 0.24), Moves::Animated);
    let way = Channel::keyed([(1.0, -0.36f32), (25.0, -0.06)]);
    shot.add(wall.at(-0.36, 0.3, 0.0).keyed("placement.position_m[0]", way));
    let id = shot.add(element("Water", water(0.02, Shape::cuboid(0.68, 0.12, 0.23))).at(0.02, 0.065, 0.0));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let found = positions(&mut simulation, id, 24);
    let front = -0.06 + 0.025;
    let behind = found.iter().filter(|x| x.x < front - 0.01).count();
    assert!(behind * 100 < found.len(), "{behind} of {}", found.len());
}

#[test]
fn a_turned_vessel_carries_its_liquid_and_pours_it() {
    // A box without a lid turns upside down about z.
    let mut shot = bare(48);
    let mut parts = Vec::new();
    for (size, at) in [
        (Vec3::new(0.4, 0.05, 0.4), Vec3::new(0.0, -0.2, 0.0)),
        (Vec3::new(0.05, 0.4, 0.4), Vec3::new(-0.2, 0.0, 0.0)),
        (Vec3::new(0.05, 0.4, 0.4), Vec3::new(0.2, 0.0, 0.0)),
        (Vec3::new(0.35, 0.4, 0.05), Vec3::new(0.0, 0.0, -0.175)),
        (Vec3::new(0.35, 0.4, 0.05), Vec3::new(0.0, 0.0, 0.175)),
    ] {
        parts.push((size, at));
    }
    // Each plate turns about the same axis: its own centre goes round.
    let keys = |value: &dyn Fn(f32) -> f32| {
        let at = |i: u32| (12.0 + f64::from(i), value(std::f32::consts::PI * i as f32 / 24.0));
        Channel {
            keys: (0..=24).map(|i| shot::motion::Key::new(at(i).0, at(i).1)).collect(),
            ..Channel::default()
        }
    };
    for (size, at) in parts {
        let plate = Element::solid("Plate", Shape::cuboid(size.x, size.y, size.z), Moves::Animated);
        let place = |angle: f32| glam::Quat::from_rotation_z(angle) * at + Vec3::Y;
        let plate = plate
            .at(at.x, at.y + 1.0, at.z)
            .keyed("placement.position_m[0]", keys(&|angle| place(angle).x))
            .keyed("placement.position_m[1]", keys(&|angle| place(angle).y))
            .keyed("placement.orientation_rad[2]", keys(&|angle| angle));
        shot.add(plate);
    }
    let id = shot.add(element("Water", water(0.02, Shape::cuboid(0.34, 0.16, 0.29))).at(0.0, 0.91, 0.0));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let held = positions(&mut simulation, id, 11);
    assert!(held.iter().all(|x| x.y > 0.8 && x.x.abs() < 0.19 && x.z.abs() < 0.16));
    let poured = positions(&mut simulation, id, 36);
    let below = poured.iter().filter(|x| x.y < 0.7).count();
    assert!(below as f32 > 0.9 * poured.len() as f32, "{below} of {}", poured.len());
}

#[test]
fn a_drain_ends_what_touches_it() {
    let mut shot = bare(48);
    basin(&mut shot, Vec3::new(0.4, 0.4, 0.4));
    shot.add(Element::solid("Grate", Shape::cuboid(0.4, 0.02, 0.4), Moves::Still).at(0.0, 0.01, 0.0));
    let mut drained = water(0.02, Shape::cuboid(0.3, 0.1, 0.3));
    drained.contact.outcome = ContactOutcome::Die;
    let id = shot.add(element("Water", drained).at(0.0, 0.15, 0.0));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let first = positions(&mut simulation, id, 1).len();
    let left = positions(&mut simulation, id, 40).len();
    assert!(first > 1_000 && left * 4 < first, "{left} of {first}");
}

#[test]
fn a_heavy_ball_sinks_slower_than_it_falls_and_one_that_is_not_pushed_falls_free() {
    let depth_after = |push: bool| {
        let mut shot = bare(12);
        basin(&mut shot, Vec3::new(0.4, 0.8, 0.4));
        let mut pool = water(0.025, Shape::cuboid(0.4, 0.5, 0.4));
        pool.contact.push = push;
        shot.add(element("Water", pool).at(0.0, 0.25, 0.0));
        let mut ball = Element::solid("Ball", Shape::sphere(0.08), Moves::Free);
        ball.as_solid_mut().unwrap().body.weight = shot::Weight::DensityKgM3(2_000.0);
        let ball = shot.add(ball.at(0.0, 0.42, 0.0));
        let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
        let mut frame = simulation.write();
        for _ in 0..6 {
            frame = simulation.advance().unwrap();
        }
        0.42 - frame.bodies[&ball].positions[0].y
    };
    let free = 0.5 * 9.81 * (6.0f32 / 24.0).powi(2);
    assert!((depth_after(false) - free).abs() < 0.01);
    // Buoyancy halves the weight, and the water that is moved with it adds half of the ball's volume: (2 − 1) / (2 + 0.5) of g.
    let sunk = depth_after(true);
    assert!((0.25..0.6).contains(&(sunk / free)), "{sunk} of {free}");
}

#[test]
fn a_layer_that_sticks_to_a_wall_creeps_down_by_a_third_of_g_h_squared_over_nu_and_one_that_slips_falls() {
    let (thickness, tall) = (0.1, 0.5);
    let speed_of = |viscosity_pa_s: f32, wall_friction: f32| {
        let mut shot = bare(5);
        shot.add(Element::solid("Wall", Shape::cuboid(0.1, 2.0, 1.0), Moves::Still).at(-0.05, 0.0, 0.0));
        let of = Liquid { spacing_m: 0.0125, viscosity_pa_s, wall_friction, ..Liquid::default() };
        let layer = liquid(of, Shape::cuboid(thickness, tall, 0.4), EmissionSchedule::Fill {});
        let id = shot.add(element("Layer", layer).at(0.5 * thickness, 0.2, 0.0));
        let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
        let mut frame = simulation.write();
        (0..4).for_each(|_| frame = simulation.advance().unwrap());
        let particles = &frame.particles[&id];
        let within = |x: &Vec3| (x.y - 0.15).abs() < 0.08 && x.z.abs() < 0.1;
        let speeds = particles.positions.iter().zip(&particles.velocities).filter(|(x, _)| within(x));
        let (sum, count) = speeds.fold((0.0, 0.0), |(sum, count), (_, v)| (sum - v.y, count + 1.0));
        sum / count
    };
    let free = 9.81 * 4.0 / 24.0;
    let [water, slips, sticks] = [(0.0, 0.0), (200.0, 0.0), (200.0, 1.0)].map(|(v, f)| speed_of(v, f));
    assert!((water / free - 1.0).abs() < 0.05 && (slips / free - 1.0).abs() < 0.05, "{water} {slips} {free}");
    let exact = 9.81 * thickness * thickness * 1_000.0 / (3.0 * 200.0);
    assert!((sticks / exact - 1.0).abs() < 0.1, "{sticks} m/s, of {exact}");
}

/// A film of one particle on a wall that leans by an angle, rad, after half a second: how far it has come down, m, and its greatest
/// speed, m/s.
fn film_on_a_wall(viscosity_pa_s: f32, lean_rad: f32) -> [f32; 2] {
    let mut shot = bare(12);
    let lean = glam::Quat::from_rotation_z(lean_rad);
    let at = |x: f32, y: f32| lean * Vec3::new(x, y, 0.0);
    let mut add = |element: Element, place: Vec3| {
        shot.add(element.at(place.x, place.y, place.z).turned(0.0, 0.0, lean_rad))
    };
    add(Element::solid("Wall", Shape::cuboid(0.1, 3.0, 1.0), Moves::Still), at(-0.05, 0.0));
    let of = Liquid { spacing_m: 0.01, viscosity_pa_s, wall_friction: 1.0, ..Liquid::default() };
    let film = liquid(of, Shape::cuboid(0.009, 0.2, 0.2), EmissionSchedule::Fill {});
    let id = add(element("Film", film), at(0.0046, 0.2));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let mean = |frame: &frames::Frame| {
        let found = &frame.particles[&id].positions;
        found.iter().map(|x| x.y).sum::<f32>() / found.len() as f32
    };
    let mut frame = simulation.write();
    let before = mean(&frame);
    (0..12).for_each(|_| frame = simulation.advance().unwrap());
    let speeds = frame.particles[&id].velocities.iter().map(|velocity| velocity.length());
    [before - mean(&frame), speeds.fold(0.0, f32::max)]
}

#[test]
fn a_film_of_one_particle_clings_to_a_wall_if_it_is_viscous() {
    let (seconds, free) = (0.5, 0.5 * 9.81 * 0.25);
    for lean_rad in [0.0, 0.23, -0.31] {
        let [fallen, fastest] = film_on_a_wall(0.0, lean_rad);
        assert!(fallen > 0.4 * free, "water, {lean_rad} rad: {fallen} m of {free}");
        // Nothing is faster than in free fall, but where the film comes off: the gradient at the wall carries on by a cell.
        assert!(fastest < 1.1 * 9.81 * seconds, "water, {lean_rad} rad: {fastest} m/s");
    }
    // A film of a centimetre creeps by rho g h^2 / (3 mu).
    let creep = 1_000.0 * 9.81 * 1e-4 / (3.0 * 50.0) * seconds;
    let [fallen, _] = film_on_a_wall(50.0, 0.0);
    assert!(fallen < 5.0 * creep, "{fallen} of {creep}");
}
