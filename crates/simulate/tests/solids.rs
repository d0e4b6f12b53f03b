//! What a cast body does: as it is launched, keyed, weighed and shaped.

use frames::{Event, Frame};
use geometry::Meshes;
use glam::{Quat, Vec3};
use rstest::rstest;
use shot::{
    Collision, Copies, Element, ElementKind, Moves, Shape, Shot, Weight,
    force::{Force, ForceKind},
    motion::{Channel, Sampler, Value},
};
use simulate::{BlowUp, Simulation};
use std::f32::consts::PI;

fn shot(frames: u32) -> Shot {
    let mut shot = Shot::empty("Solids");
    shot.timing.fps = 60.0;
    shot.timing.last = frames + 1;
    shot
}

fn weightless(frames: u32) -> Shot {
    let mut shot = shot(frames);
    shot.elements.retain(|element| element.as_force().is_none());
    shot
}

fn run(shot: &Shot) -> Vec<Frame> {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut frames = vec![simulation.write()];
    while simulation.frame() < shot.timing.last {
        frames.push(simulation.advance().unwrap());
    }
    frames
}

fn last_place(shot: &Shot, name: &str) -> Vec3 {
    run(shot).last().unwrap().bodies[&shot.named(name).unwrap().id].positions[0]
}

fn ball(name: &str) -> Element {
    Element::solid(name, Shape::sphere(0.1), Moves::Free)
}

fn body(element: &mut Element) -> &mut shot::Body {
    &mut element.as_solid_mut().unwrap().body
}

#[test]
fn a_launched_body_flies_straight_on_without_gravity() {
    let mut shot = weightless(60);
    let mut thrown = ball("Thrown");
    body(&mut thrown).launch_velocity = Some(Vec3::new(2.0, -1.0, 0.5));
    shot.add(thrown);
    let position = last_place(&shot, "Thrown");
    assert!((position - Vec3::new(2.0, -1.0, 0.5)).length() < 1e-3, "{position}");
}

#[test]
fn a_launched_spin_turns_the_body_at_its_rate() {
    let mut shot = weightless(30);
    let mut spun = Element::solid("Spun", Shape::cuboid(0.2, 0.2, 0.2), Moves::Free);
    body(&mut spun).launch_angular_velocity = Some(Vec3::Y * 3.0);
    let id = shot.add(spun);
    let orientation = run(&shot)[30].bodies[&id].orientations[0];
    assert!(orientation.dot(Quat::from_rotation_y(1.5)).abs() > 0.999_99, "{orientation}");
}

#[test]
fn spin_of_a_free_long_body_keeps_its_angular_momentum() {
    let mut shot = weightless(120);
    let mut spun = Element::solid("Spun", Shape::cuboid(0.6, 0.1, 0.2), Moves::Free);
    body(&mut spun).launch_angular_velocity = Some(Vec3::new(0.3, 2.0, 0.1));
    body(&mut spun).weight = Weight::MassKg(1.0);
    let id = shot.add(spun);
    let inertia = Vec3::new(0.01 + 0.04, 0.36 + 0.04, 0.36 + 0.01) / 12.0;
    let momentum = |frame: &Frame| {
        let (orientation, angular_velocity) =
            (frame.bodies[&id].orientations[0], frame.bodies[&id].angular_velocities[0]);
        orientation * (inertia * (orientation.inverse() * angular_velocity))
    };
    let frames = run(&shot);
    let (first, last) = (momentum(&frames[0]), momentum(&frames[120]));
    assert!((last - first).length() / first.length() < 0.02, "{first} {last}");
}

#[rstest]
#[case(Weight::MassKg(0.01))]
#[case(Weight::MassKg(500.0))]
#[case(Weight::DensityKgM3(7_800.0))]
fn weight_does_not_change_how_a_body_falls(#[case] weight: Weight) {
    let mut shot = shot(30);
    let mut falling = ball("Falling").at(0.0, 9.0, 0.0);
    body(&mut falling).weight = weight;
    shot.add(falling);
    let fallen = 9.0 - last_place(&shot, "Falling").y;
    assert!((fallen / (0.5 * 9.81 * 0.25) - 1.0).abs() < 0.02, "{fallen}");
}

#[test]
fn a_heavy_body_hardly_feels_a_light_one() {
    let speeds = |kg: f32| {
        let mut shot = weightless(60);
        let mut thrown = ball("Thrown").at(-1.0, 0.0, 0.0);
        (body(&mut thrown).launch_velocity, body(&mut thrown).weight) =
            (Some(Vec3::X * 4.0), Weight::MassKg(kg));
        shot.add(thrown);
        let mut hit = ball("Contact");
        body(&mut hit).weight = Weight::MassKg(1.0);
        let id = shot.add(hit);
        run(&shot)[60].bodies[&id].velocities[0].x
    };
    // u = (1 + e) m v / (m + 1), e = 0.2.
    for (kg, expected) in [(0.01, 0.0475), (1.0, 2.4), (100.0, 4.752)] {
        assert!((speeds(kg) / expected - 1.0).abs() < 0.05, "{kg} kg: {} {expected}", speeds(kg));
    }
}

fn keyed(element: Element, keys: &[(f64, Vec3)]) -> Element {
    element.keyed("placement.position_m", Channel::keyed(keys.iter().copied()))
}

#[test]
fn an_animated_body_is_where_its_keys_have_it_at_every_frame() {
    let mut shot = shot(40);
    let block = Element::solid("Block", Shape::cuboid(0.5, 0.5, 0.5), Moves::Animated);
    let id = shot.add(keyed(block, &[(1.0, Vec3::ZERO), (21.0, Vec3::new(1.0, 2.0, 0.0)), (31.0, Vec3::Z)]));
    let sampler = Sampler::new(&shot).unwrap();
    for frame in run(&shot) {
        let position = sampler.at(f64::from(frame.number)).unwrap().element(id).unwrap().placement.position_m;
        assert!((frame.bodies[&id].positions[0] - position).length() < 1e-4, "frame {}", frame.number);
    }
}

#[test]
fn an_animated_body_pushes_a_free_one_and_is_not_pushed_back() {
    let mut shot = weightless(60);
    let block = Element::solid("Block", Shape::cuboid(0.5, 0.5, 0.5), Moves::Animated);
    let block = shot.add(keyed(block, &[(1.0, Vec3::X * -2.0), (61.0, Vec3::ZERO)]));
    let pushed = shot.add(ball("Pushed").at(-1.0, 0.0, 0.0));
    let frames = run(&shot);
    assert!(frames[60].bodies[&pushed].positions[0].x > 0.3);
    assert!(frames[60].bodies[&block].positions[0].length() < 1e-4);
}

#[test]
fn two_gravities_add_up() {
    let mut shot = shot(60);
    shot.add(Element::gravity(Vec3::new(2.0, 9.81, 0.0)));
    shot.add(ball("Ball"));
    let position = last_place(&shot, "Ball");
    assert!((position - Vec3::X).length() < 0.02, "{position}");
}

#[rstest]
#[case(24.0, 20)]
#[case(60.0, 8)]
#[case(120.0, 4)]
fn frame_rate_and_substeps_hardly_change_a_fall(#[case] fps: f32, #[case] substeps: u32) {
    let mut shot = shot(1);
    (shot.timing.fps, shot.timing.last, shot.physics.substeps) = (fps, fps as u32 + 1, substeps);
    shot.add(ball("Ball"));
    let fallen = -last_place(&shot, "Ball").y;
    assert!((fallen / 4.905 - 1.0).abs() < 0.005, "{fallen}");
}

/// A still ring around y at height 0 and a small ball dropped into it.
fn into_the_ring(collision: Collision) -> Vec3 {
    let mut shot = shot(60);
    let mut ring =
        Element::solid("Ring", Shape::Torus { major_radius_m: 0.5, minor_radius_m: 0.1 }, Moves::Still);
    body(&mut ring).collision = collision;
    shot.add(ring);
    shot.add(ball("Ball").at(0.0, 0.6, 0.0));
    last_place(&shot, "Ball")
}

#[test]
fn an_exact_ring_lets_a_ball_through_and_its_hull_does_not() {
    assert!(into_the_ring(Collision::Exact).y < -1.0);
    assert!(into_the_ring(Collision::Auto).y < -1.0);
    let rest = into_the_ring(Collision::Hull).y;
    assert!((rest - 0.2).abs() < 0.01, "{rest}");
    let rest = into_the_ring(Collision::Box).y;
    assert!((rest - 0.2).abs() < 0.01, "{rest}");
}

#[test]
fn a_box_that_collides_as_a_ball_rests_on_its_ball() {
    let mut shot = shot(120);
    shot.add(Element::solid("Quay", Shape::plane(6.0, 6.0), Moves::Still));
    let mut round = Element::solid("Round", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).at(0.0, 0.5, 0.0);
    (body(&mut round).collision, body(&mut round).restitution) = (Collision::Sphere, 0.0);
    shot.add(round);
    let rest = last_place(&shot, "Round").y;
    assert!((0.19..0.36).contains(&rest), "{rest}");
}

#[rstest]
#[case(0.0, 0.0)]
#[case(0.01, 0.005)]
#[case(0.04, 0.02)]
fn a_margin_keeps_bodies_apart(#[case] margin_m: f32, #[case] gap: f32) {
    let mut shot = shot(120);
    let mut quay = Element::solid("Quay", Shape::cuboid(6.0, 1.0, 6.0), Moves::Still).at(0.0, -0.5, 0.0);
    body(&mut quay).margin_m = Some(0.0);
    shot.add(quay);
    let mut crate_ = Element::solid("Crate", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).at(0.0, 0.3, 0.0);
    (body(&mut crate_).margin_m, body(&mut crate_).restitution) = (Some(margin_m), 0.0);
    shot.add(crate_);
    let rest = last_place(&shot, "Crate").y - 0.2;
    assert!((rest - gap).abs() < 0.002, "{rest}");
}

#[test]
fn every_copy_is_a_body_of_its_own() {
    let mut shot = shot(1);
    let mut grid = ball("Grid");
    let spacing_m = Vec3::new(0.5, 0.6, 0.7);
    grid.as_solid_mut().unwrap().copies = Some(Copies {
        count: [4, 3, 2],
        spacing_m,
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 0,
    });
    let id = shot.add(grid);
    let positions = &run(&shot)[0].bodies[&id].positions;
    assert_eq!(positions.len(), 24);
    let far_corner = Vec3::new(1.5, 2.0, 0.5) * spacing_m;
    assert!(positions.iter().any(|position| (*position - far_corner).length() < 1e-5));
    for (i, a) in positions.iter().enumerate() {
        assert!(positions[i + 1..].iter().all(|b| (*a - *b).length() > 0.49));
    }
}

#[test]
fn a_body_that_leaves_the_world_is_told_of_once() {
    let mut shot = weightless(30);
    shot.physics.world_m = 5.0;
    let mut thrown = ball("Thrown");
    body(&mut thrown).launch_velocity = Some(Vec3::X * 20.0);
    let id = shot.add(thrown);
    let frames = run(&shot);
    let told: Vec<_> = frames.iter().filter(|f| !f.measured.events.is_empty()).collect();
    assert_eq!(told.len(), 1);
    assert_eq!(told[0].measured.events, [Event::LeftWorld { element: id, copy: 0 }]);
    // 5 m at 20 m/s, 60 frames a second.
    assert!((16..=18).contains(&told[0].number), "{}", told[0].number);
}

fn tunnelled(frames: &[Frame]) -> Vec<&Event> {
    frames.iter().flat_map(|f| &f.measured.events).filter(|e| matches!(e, Event::Tunnelled { .. })).collect()
}

#[test]
fn an_animated_body_that_leaps_over_a_free_one_is_told_of() {
    let mut shot = weightless(20);
    shot.physics.substeps = 1;
    let paddle = Element::solid("Paddle", Shape::cuboid(0.02, 1.0, 1.0), Moves::Animated);
    let paddle = shot.add(keyed(paddle, &[(1.0, Vec3::X * -8.0), (21.0, Vec3::X * 8.3)]));
    let mut marble = ball("Marble");
    marble.as_solid_mut().unwrap().shape = Shape::sphere(0.02);
    let marble = shot.add(marble);
    let frames = run(&shot);
    let moved = frames[20].bodies[&marble].positions[0].length();
    let told = tunnelled(&frames);
    // Either it was caught and carried along, or that it was not is said.
    assert!(
        moved > 1.0
            || matches!(told[..], [Event::Tunnelled { element, through, substeps, .. }]
        if *element == marble && *through == paddle && *substeps > 1),
        "{moved} {told:?}"
    );
}

#[test]
fn a_fast_marble_does_not_pass_a_thin_plate_or_it_is_told_of() {
    for speed in [30.0, 300.0, 1_000.0] {
        let mut shot = weightless(10);
        shot.physics.substeps = 1;
        let plate = shot.add(Element::solid("Plate", Shape::cuboid(0.001, 2.0, 2.0), Moves::Still));
        let mut marble = ball("Marble").at(-5.3, 0.0, 0.0);
        marble.as_solid_mut().unwrap().shape = Shape::sphere(0.005);
        body(&mut marble).launch_velocity = Some(Vec3::X * speed);
        let marble = shot.add(marble);
        let frames = run(&shot);
        let passed = frames[10].bodies[&marble].positions[0].x > 0.0;
        let told = tunnelled(&frames).iter().any(|event| {
            matches!(event, Event::Tunnelled { element, through, .. } if *element == marble && *through == plate)
        });
        assert_eq!(passed, told, "{speed} m/s");
    }
}

#[test]
fn a_body_that_exceeds_all_speed_stops_the_simulation_by_name() {
    let mut shot = shot(240);
    let kind = ForceKind::Gravity { acceleration: Vec3::new(0.0, -1_000.0, 0.0) };
    shot.named_mut("Gravity").unwrap().kind = ElementKind::Force(Force::new(kind));
    shot.add(ball("Dropped"));
    let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
    let error: BlowUp = (0..240).find_map(|_| simulation.advance().err()).unwrap();
    assert_eq!(error.name, "Dropped");
    // 2000 m/s at 1000 m/s², 60 frames a second.
    assert!((120..=123).contains(&error.frame), "{}", error.frame);
}

#[rstest]
#[case(1)]
#[case(2)]
fn the_number_of_threads_changes_nothing(#[case] threads: usize) {
    let mut shot = shot(20);
    shot.add(Element::solid("Quay", Shape::plane(6.0, 6.0), Moves::Still));
    let mut grid = Element::solid("Grid", Shape::cuboid(0.2, 0.2, 0.2), Moves::Free).at(0.0, 0.15, 0.0);
    grid.as_solid_mut().unwrap().copies = Some(Copies {
        count: [5, 5, 5],
        spacing_m: Vec3::splat(0.21),
        position_jitter_m: 0.01,
        orientation_jitter_rad: 0.1,
        seed: 1,
    });
    shot.add(grid);
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
    let bytes = |frames: Vec<Frame>| frames.iter().map(frames::encode).collect::<Vec<_>>();
    assert!(pool.install(|| bytes(run(&shot))) == bytes(run(&shot)));
}

#[test]
fn a_state_of_another_shot_is_refused() {
    let mut with = shot(2);
    with.add(ball("Ball"));
    let state = Simulation::new(&with, &Meshes::default()).unwrap().save();
    let restored = |shot: &Shot, state: &[u8]| Simulation::restored(shot, &Meshes::default(), state);
    assert!(restored(&shot(2), &state).err().unwrap().to_string().contains("other solvers"));
    assert!(restored(&with, &state[..state.len() / 2]).is_err());
    assert_eq!(restored(&with, &state).unwrap().frame(), 1);
}

#[test]
fn a_mesh_that_is_missing_is_named_with_its_element() {
    let mut shot = shot(2);
    shot.add(Element::solid("Boat", Shape::Mesh { asset: "hull".to_owned(), scale: 1.0 }, Moves::Free));
    let error = Simulation::new(&shot, &Meshes::default()).err().unwrap().to_string();
    assert!(error.contains("Boat") && error.contains("hull"), "{error}");
}

#[test]
fn a_body_that_grows_lifts_what_lies_on_it_and_weighs_more() {
    let mut shot = shot(90);
    shot.add(Element::solid("Deck", Shape::plane(4.0, 4.0), Moves::Still));
    let mut cushion = Element::solid("Cushion", Shape::cuboid(1.0, 0.2, 1.0), Moves::Animated);
    let size = [(1.0, [1.0, 0.2, 1.0]), (61.0, [1.0, 0.8, 1.0])].map(|(f, v)| (f, Value::Vector(v)));
    cushion.channels.insert("kind.solid.shape.box.size_m".to_owned(), Channel::keyed(size));
    shot.add(cushion.at(0.0, 0.11, 0.0));
    shot.add(ball("Ball").at(0.0, 0.311, 0.0));
    let height = last_place(&shot, "Ball").y;
    assert!((height - (0.11 + 0.4 + 0.1)).abs() < 0.01, "{height}");

    // A free body gains mass with its volume: its own weight pushes more.
    let mut shot = weightless(30);
    let mut growing = ball("Growing");
    body(&mut growing).weight = Weight::DensityKgM3(1000.0);
    growing
        .channels
        .insert("kind.solid.shape.sphere.radius_m".to_owned(), Channel::keyed([(1.0, 0.1f32), (2.0, 0.2)]));
    shot.add(growing);
    shot.add(Element::new("Pull", ElementKind::Force(Force::new(ForceKind::Pull { force_n: 10.0 }))));
    let frames = run(&shot);
    let id = shot.named("Growing").unwrap().id;
    let speed = |frame: usize| frames[frame].bodies[&id].velocities[0].y;
    let (found, wanted) = ((speed(30) - speed(20)) * 60.0 / 10.0, -10.0 / (1000.0 * 4.0 / 3.0 * PI * 0.008));
    assert!((found / wanted - 1.0).abs() < 0.03, "{found} for {wanted}");
}

#[test]
fn a_keyed_shape_goes_on_from_a_saved_state_as_without_it() {
    let mut shot = shot(40);
    shot.add(Element::solid("Deck", Shape::plane(4.0, 4.0), Moves::Still));
    let mut growing = ball("Growing").at(0.0, 0.3, 0.0);
    growing
        .channels
        .insert("kind.solid.shape.sphere.radius_m".to_owned(), Channel::keyed([(5.0, 0.1f32), (15.0, 0.2)]));
    shot.add(growing);
    shot.add(
        Element::new("Air", ElementKind::Force(Force::new(ForceKind::Wind(Default::default()))))
            .turned(0.0, 0.0, 1.5),
    );
    let mut whole = Simulation::new(&shot, &Meshes::default()).unwrap();
    (0..20).for_each(|_| drop(whole.advance().unwrap()));
    let saved = whole.save();
    let mut resumed = Simulation::restored(&shot, &Meshes::default(), &saved).unwrap();
    for _ in 0..20 {
        assert_eq!(whole.advance().unwrap().bodies, resumed.advance().unwrap().bodies);
    }
}

/// Copies that are placed one by one rest at their own size, and frames have it.
#[test]
fn placed_copies_of_a_rigid_body_have_their_sizes() {
    let mut shot = Shot::empty("Placed");
    shot.timing.last = 72;
    shot.add(Element::solid("Ground", Shape::cuboid(20.0, 1.0, 20.0), Moves::Still).at(0.0, -0.5, 0.0));
    let mut boxes = Element::solid("Boxes", Shape::cuboid(0.2, 0.2, 0.2), Moves::Free).at(0.0, 0.6, 0.0);
    let copy = |x: f32, size: f32| shot::PlacedCopy {
        position_m: Vec3::new(x, 0.0, 0.0),
        orientation_rad: Vec3::ZERO,
        size,
    };
    boxes.as_solid_mut().unwrap().placed = vec![copy(-2.0, 0.5), copy(0.0, 1.0), copy(2.0, 3.0)];
    let id = shot.add(boxes);
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let mut frame = simulation.write();
    while frame.number < shot.timing.last {
        frame = simulation.advance().unwrap();
    }
    let bodies = &frame.bodies[&id];
    assert_eq!(bodies.scales, [0.5, 1.0, 3.0]);
    for (position, size) in bodies.positions.iter().zip(&bodies.scales) {
        assert!((position.y - 0.1 * size).abs() < 2e-3, "{} for {}", position.y, 0.1 * size);
    }
}
