//! Bodies where closed forms tell what happens, also far from the origin, fast,
//! slow, small, and at other rates.

use geometry::Meshes;
use glam::{DVec3, Quat, Vec3};
use rstest::rstest;
use shot::{
    Attached, Collision, Element, ElementKind, Id, Moves, Shape, Shot, Weight,
    force::{ElementFilter, Force, ForceKind},
    motion::Channel,
};
use simulate::Simulation;

const G: f32 = 9.81;

/// A shot with nothing but what is added.
fn bare(fps: f32, frames: u32) -> Shot {
    let mut shot = Shot::empty("Test");
    shot.elements.clear();
    shot.camera = None;
    shot.timing = shot::Timing::new(fps, 1, frames);
    shot
}

fn gravity(y: f32) -> Element {
    Element::gravity(Vec3::new(0.0, y, 0.0))
}

fn ball(name: &str, radius_m: f32) -> Element {
    Element::solid(name, Shape::sphere(radius_m), Moves::Free)
}

fn body(element: &mut Element) -> &mut shot::Body {
    &mut element.as_solid_mut().unwrap().body
}

fn set(mut element: Element, change: impl FnOnce(&mut shot::Body)) -> Element {
    change(body(&mut element));
    element
}

/// Every frame of a shot.
fn run(shot: &Shot) -> Vec<frames::Frame> {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut frames = vec![simulation.write()];
    while simulation.frame() < shot.timing.last {
        frames.push(simulation.advance().unwrap());
    }
    frames
}

fn position(frames: &[frames::Frame], id: Id) -> Vec3 {
    frames.last().unwrap().bodies[&id].positions[0]
}

#[rstest]
#[case(24.0, 8, 30.0)]
#[case(24.0, 8, 120.0)]
#[case(30.0, 2, 75.0)]
#[case(60.0, 8, 20.0)]
fn a_ball_never_passes_through_a_free_plank(#[case] fps: f32, #[case] substeps: u32, #[case] speed: f32) {
    let mut shot = bare(fps, (0.4 * fps) as u32);
    shot.physics.substeps = substeps;
    let ball = shot.add(set(ball("Ball", 0.05).at(-1.0, 0.07, 0.0), |body| {
        body.weight = Weight::MassKg(0.5);
        body.launch_velocity = Some(Vec3::X * speed);
    }));
    let plank = Element::solid("Plank", Shape::cuboid(0.02, 2.0, 2.0), Moves::Free);
    let plank = shot.add(set(plank, |body| body.weight = Weight::MassKg(2.0)));
    let frames = run(&shot);
    // Until the plank, which turns then, is edge on.
    for frame in &frames {
        let (of_ball, of_plank) = (&frame.bodies[&ball], &frame.bodies[&plank]);
        let normal = of_plank.orientations[0] * Vec3::X;
        if normal.x < 0.3 {
            break;
        }
        let side = (of_ball.positions[0] - of_plank.positions[0]).dot(normal);
        assert!(side < 0.0, "frame {}: {}", frame.number, of_ball.positions[0]);
    }
    let last = frames.last().unwrap();
    let (of_ball, of_plank) = (&last.bodies[&ball], &last.bodies[&plank]);
    // All momentum is still there.
    let momentum = 0.5 * of_ball.velocities[0] + 2.0 * of_plank.velocities[0];
    assert!((momentum.x / (0.5 * speed) - 1.0).abs() < 1e-3, "{momentum}");
}

#[test]
fn two_small_balls_that_meet_head_on_bounce_off_each_other() {
    let mut shot = bare(24.0, 6);
    let launched = |name: &str, x: f32, vx: f32| {
        set(ball(name, 0.01).at(x, 0.0, 0.0), |body| body.launch_velocity = Some(Vec3::X * vx))
    };
    let (a, b) = (shot.add(launched("A", -3.0, 120.0)), shot.add(launched("B", 3.0, -120.0)));
    let frames = run(&shot);
    assert!(position(&frames, a).x < position(&frames, b).x);
}

#[test]
fn what_comes_too_fast_for_all_steps_is_told() {
    let mut shot = bare(24.0, 4);
    shot.physics.substeps = 1;
    let fast = |name: &str, x: f32, vx: f32| {
        set(ball(name, 0.002).at(x, 0.0, 0.0), |body| body.launch_velocity = Some(Vec3::X * vx))
    };
    shot.add(fast("A", -8.0, 200.0));
    shot.add(fast("B", 8.0, -200.0));
    let frames = run(&shot);
    let told = frames.iter().flat_map(|frame| &frame.measured.events);
    assert!(told.into_iter().any(|event| matches!(event, frames::Event::TooFast { substeps: 2.., .. })));
}

/// A ball that rolls down without slipping: a = 5/7 g sin θ.
#[rstest]
#[case(0.008, 24.0, 8)]
#[case(0.1, 24.0, 8)]
#[case(0.02, 60.0, 4)]
#[case(0.008, 25.0, 16)]
fn a_ball_rolls_down_at_five_sevenths_g_sin(#[case] radius: f32, #[case] fps: f32, #[case] substeps: u32) {
    let angle = 30f32.to_radians();
    let mut shot = bare(fps, fps as u32 + 1);
    shot.physics.substeps = substeps;
    shot.add(gravity(-G));
    let rough = |body: &mut shot::Body| (body.friction, body.restitution) = (0.5, 0.0);
    let ramp = Element::solid("Ramp", Shape::plane(30.0, 4.0), Moves::Still).turned(0.0, 0.0, angle);
    shot.add(set(ramp, rough));
    let normal = Vec3::new(-angle.sin(), angle.cos(), 0.0);
    let start = Vec3::new(angle.cos(), angle.sin(), 0.0) * 4.0 + normal * radius;
    let marble = shot.add(set(ball("Marble", radius).at(start.x, start.y, start.z), rough));
    let frames = run(&shot);
    let way = (position(&frames, marble) - start).length();
    let expected = 0.5 * 5.0 / 7.0 * G * angle.sin();
    assert!((way / expected - 1.0).abs() < 0.01, "{way} m for {expected}");
}

#[rstest]
#[case(0.02, 0.15, 24.0, 8, 0.0)]
#[case(0.001, 0.01, 24.0, 8, 50.0)]
#[case(0.0005, 0.002, 60.0, 32, -120.0)]
fn what_nothing_holds_drifts_and_turns_for_ever(
    #[case] speed: f32,
    #[case] angular_velocity: f32,
    #[case] fps: f32,
    #[case] substeps: u32,
    #[case] x: f32,
) {
    let mut shot = bare(fps, (8.0 * fps) as u32 + 1);
    shot.physics.substeps = substeps;
    let drifting = set(ball("Drifts", 0.1).at(x, 0.3 * x, 0.0), |body| {
        body.launch_velocity = Some(Vec3::new(speed, 0.0, 0.0));
        body.launch_angular_velocity = Some(Vec3::Y * angular_velocity);
    });
    let id = shot.add(drifting);
    let frames = run(&shot);
    let way = f64::from(position(&frames, id).x) - f64::from(x);
    // A place is told in single precision.
    let told = f64::from(x.abs() * f32::EPSILON);
    assert!((way - 8.0 * f64::from(speed)).abs() < 1e-4 * 8.0 * f64::from(speed) + told, "{way}");
    let orientation = frames.last().unwrap().bodies[&id].orientations[0];
    let expected = Quat::from_rotation_y(8.0 * angular_velocity);
    assert!(orientation.angle_between(expected) < 1e-3 + 1e-3 * 8.0 * angular_velocity, "{orientation}");
}

#[test]
fn the_least_gravity_moves_what_nothing_holds() {
    let mut shot = bare(24.0, 97);
    shot.add(gravity(-0.04));
    let id = shot.add(ball("Floats", 0.1).at(20.0, 5.0, 3.0));
    let fallen = 5.0 - position(&run(&shot), id).y;
    assert!((fallen - 0.5 * 0.04 * 16.0).abs() < 1e-4, "{fallen}");
}

/// Two bodies that lie against each other and drift are held up by nothing.
#[test]
fn a_pair_that_drifts_together_does_not_stop() {
    let mut shot = bare(24.0, 97);
    let drifting = |name: &str, x: f32| {
        let cube = Element::solid(name, Shape::cuboid(0.2, 0.2, 0.2), Moves::Free).at(x, 0.0, 0.0);
        set(cube, |body| body.launch_velocity = Some(Vec3::new(0.001, 0.0, 0.0)))
    };
    let ids = [shot.add(drifting("A", 0.0)), shot.add(drifting("B", 0.2005))];
    let frames = run(&shot);
    let way = position(&frames, ids[0]).x + position(&frames, ids[1]).x - 0.2005;
    assert!((way - 0.008).abs() < 2e-4, "{way}");
}

#[rstest]
#[case(190.0, 0.4, 60.0, 32)]
#[case(-150.0, 0.05, 24.0, 8)]
#[case(80.0, 3.0, 120.0, 16)]
fn far_from_the_origin_bodies_go_as_far_as_they_should(
    #[case] x: f32,
    #[case] speed: f32,
    #[case] fps: f32,
    #[case] substeps: u32,
) {
    let mut shot = bare(fps, (4.0 * fps) as u32 + 1);
    shot.physics.substeps = substeps;
    let id = shot.add(set(ball("Ball", 0.1).at(x, 0.0, -x), |body| {
        body.launch_velocity = Some(Vec3::new(speed, 0.0, 0.0));
    }));
    let way = position(&run(&shot), id).x - x;
    assert!((way - 4.0 * speed).abs() < 2e-3 * 4.0 * speed + 2e-5, "{way}");
}

/// A parabola, at any number of substeps.
#[rstest]
#[case(24.0, 1)]
#[case(24.0, 8)]
#[case(48.0, 3)]
fn a_thrown_body_flies_its_parabola(#[case] fps: f32, #[case] substeps: u32) {
    let mut shot = bare(fps, (2.0 * fps) as u32 + 1);
    shot.physics.substeps = substeps;
    shot.add(gravity(-G));
    let id = shot.add(set(ball("Ball", 0.1).at(-40.0, 30.0, 0.0), |body| {
        body.launch_velocity = Some(Vec3::new(7.0, 4.0, 0.0));
    }));
    let found = position(&run(&shot), id);
    let expected = Vec3::new(-40.0 + 14.0, 30.0 + 8.0 - 0.5 * G * 4.0, 0.0);
    assert!(found.distance(expected) < 1e-3, "{found} for {expected}");
}

/// What a turntable carries round stays where it lies, in a stack too.
#[rstest]
#[case(1.0, 50.0, 1)]
#[case(1.7, 24.0, 1)]
#[case(1.0, 24.0, 3)]
#[case(1.5, 30.0, 2)]
fn boxes_go_round_with_their_turntable(#[case] rate: f32, #[case] fps: f32, #[case] high: usize) {
    let mut shot = bare(fps, (3.0 * fps) as u32 + 1);
    shot.add(gravity(-G));
    let rough = |body: &mut shot::Body| (body.friction, body.restitution) = (0.8, 0.0);
    let table = Element::solid("Table", Shape::Cylinder { radius_m: 3.0, height_m: 0.2 }, Moves::Animated);
    let turning = Channel::expression(&format!("{rate} * time"));
    shot.add(set(table.at(0.0, -0.1, 0.0), rough).keyed("placement.orientation_rad[1]", turning));
    let boxes: Vec<Id> = (0..high)
        .map(|level| {
            let name = format!("Box {level}");
            let cube = Element::solid(&name, Shape::cuboid(0.2, 0.1, 0.2), Moves::Free);
            shot.add(set(cube.at(1.0, 0.05 + 0.1 * level as f32, 0.0), |body| {
                rough(body);
                body.launch_velocity = Some(Vec3::NEG_Z * rate);
                body.launch_angular_velocity = Some(Vec3::Y * rate);
            }))
        })
        .collect();
    let frames = run(&shot);
    for (level, id) in boxes.into_iter().enumerate() {
        let at = position(&frames, id);
        let radius = Vec3::new(at.x, 0.0, at.z).length();
        // A first-order method creeps outwards by ½ ω² r Δt a second, on each surface.
        let step = 1.0 / (fps * 8.0);
        let creep = 3.0 * rate * rate * step * (level + 1) as f32;
        assert!((radius - 1.0).abs() < creep + 2e-3, "box {level}: {radius}, allowed {creep}");
    }
}

/// Friction in a bounce takes up to μ (1 + e) v of the speed along.
#[rstest]
#[case(0.25, 0.9, 20.0)]
#[case(0.1, 0.5, 6.0)]
#[case(0.05, 0.3, 3.0)]
fn friction_in_a_bounce_is_of_the_whole_impulse(
    #[case] friction: f32,
    #[case] bounce: f32,
    #[case] speed: f32,
) {
    let mut shot = bare(100.0, 56);
    shot.add(gravity(-G));
    let of = |body: &mut shot::Body| (body.friction, body.restitution) = (friction, bounce);
    shot.add(set(Element::solid("Floor", Shape::plane(40.0, 40.0), Moves::Still), of));
    let id = shot.add(set(ball("Ball", 0.1).at(0.0, 1.1, 0.0), |body| {
        of(body);
        body.launch_velocity = Some(Vec3::X * speed);
    }));
    let frames = run(&shot);
    let after = frames.last().unwrap().bodies[&id].velocities[0];
    let fall = (2.0 * G * 1.0f32).sqrt();
    let expected = speed - friction * (1.0 + bounce) * fall;
    assert!((after.x - expected).abs() < 0.02 * friction * (1.0 + bounce) * fall, "{after} for {expected}");
    // It turns by what it lost: ω = 5 Δv / 2 r.
    let angular_velocity = frames.last().unwrap().bodies[&id].angular_velocities[0];
    assert!(
        (-angular_velocity.z * 0.1 * 0.4 - (speed - after.x)).abs() < 0.03 * (speed - after.x),
        "{angular_velocity}"
    );
}

/// A body without forces keeps its angular momentum, though its spin changes.
#[test]
fn a_turning_box_keeps_its_angular_momentum() {
    let mut shot = bare(24.0, 97);
    let size = Vec3::new(0.6, 0.1, 0.3);
    let id =
        shot.add(set(Element::solid("Box", Shape::cuboid(size.x, size.y, size.z), Moves::Free), |body| {
            body.weight = Weight::MassKg(1.0);
            body.launch_angular_velocity = Some(Vec3::new(0.1, 0.0, 6.0));
        }));
    let inertia = Vec3::new(size.y, size.x, size.x).powf(2.0) + Vec3::new(size.z, size.z, size.y).powf(2.0);
    let inertia = inertia / 12.0;
    let momentum = |frame: &frames::Frame| {
        let bodies = &frame.bodies[&id];
        bodies.orientations[0] * (inertia * (bodies.orientations[0].inverse() * bodies.angular_velocities[0]))
    };
    let frames = run(&shot);
    let first = momentum(&frames[0]);
    for frame in &frames {
        assert!(momentum(frame).distance(first) < 0.02 * first.length(), "frame {}", frame.number);
    }
}

#[test]
fn what_is_attached_to_a_free_body_goes_with_it() {
    let mut shot = bare(24.0, 25);
    shot.add(gravity(-G));
    let base = shot.add(ball("Free", 0.1).at(0.0, 5.0, 0.0));
    let mut flag = Element::solid("Flag", Shape::cuboid(0.1, 0.1, 0.1), Moves::Animated).at(0.5, 0.0, 0.0);
    flag.attached = Some(Attached { to: base, along: None, facing: false });
    let flag = shot.add(flag);
    for frame in run(&shot) {
        let apart = frame.bodies[&flag].positions[0] - frame.bodies[&base].positions[0];
        assert!(apart.distance(Vec3::X * 0.5) < 1e-5, "frame {}: {apart}", frame.number);
    }
}

#[test]
fn a_formula_that_names_the_place_of_a_free_body_follows_it() {
    let mut shot = bare(24.0, 25);
    shot.add(gravity(-G));
    let base = shot.add(ball("Free", 0.1).at(0.0, 5.0, 0.0));
    let flag = Element::solid("Flag", Shape::cuboid(0.1, 0.1, 0.1), Moves::Animated).at(2.0, 0.0, 0.0);
    let flag = shot.add(flag.keyed("placement.position_m[1]", Channel::expression("{Free.position.y} + 1")));
    let frames = run(&shot);
    for frame in &frames[2..] {
        let apart = frame.bodies[&flag].positions[0].y - frame.bodies[&base].positions[0].y;
        assert!((apart - 1.0).abs() < 1e-4, "frame {}: {apart}", frame.number);
    }
    assert!(position(&frames, base).y < 1.0);
}

/// A bar that turns fast sweeps small bodies along.
#[test]
fn a_bar_that_turns_fast_hits_what_it_sweeps_over() {
    let mut shot = bare(24.0, 13);
    let bar = Element::solid("Bar", Shape::cuboid(4.0, 0.2, 0.05), Moves::Animated);
    shot.add(bar.keyed("placement.orientation_rad[1]", Channel::expression("12 * time")));
    let pebble = shot.add(ball("Pebble", 0.02).at(1.8, 0.0, -0.6));
    let frames = run(&shot);
    assert!(frames.last().unwrap().bodies[&pebble].velocities[0].length() > 5.0);
}

#[test]
fn potential_energy_counts_the_gravity_that_acts_on_a_body() {
    let mut shot = bare(24.0, 25);
    let id = shot.add(set(ball("Ball", 0.1).at(0.0, 8.0, 0.0), |body| body.weight = Weight::MassKg(2.0)));
    shot.add(set(ball("Other", 0.1).at(4.0, 8.0, 0.0), |body| body.weight = Weight::MassKg(1.0)));
    let mut own = Force::new(ForceKind::Gravity { acceleration: Vec3::new(0.0, -3.0, 0.0) });
    own.only = vec![ElementFilter::Element(id)];
    shot.add(Element::new("Own gravity", ElementKind::Force(own)));
    let frames = run(&shot);
    let energy = |frame: &frames::Frame| frame.measured.kinetic_j + frame.measured.potential_j;
    assert!((frames[0].measured.potential_j - 2.0 * 3.0 * 8.0).abs() < 1e-3);
    for frame in &frames {
        assert!((energy(frame) - 48.0).abs() < 0.02, "frame {}: {}", frame.number, energy(frame));
    }
}

/// Angular momentum of two bodies after an off-centre hit, about the origin.
#[test]
fn an_off_centre_hit_keeps_linear_and_angular_momentum() {
    let mut shot = bare(24.0, 25);
    let rod = Element::solid("Rod", Shape::cuboid(0.1, 2.0, 0.1), Moves::Free);
    let rod = shot.add(set(rod, |body| {
        (body.weight, body.friction, body.collision) = (Weight::MassKg(3.0), 0.0, Collision::Box);
    }));
    let shot_ball = set(ball("Ball", 0.1).at(-1.0, 0.7, 0.0), |body| {
        (body.weight, body.friction) = (Weight::MassKg(1.0), 0.0);
        body.launch_velocity = Some(Vec3::X * 4.0);
    });
    let struck = shot.add(shot_ball);
    let momentum = |frame: &frames::Frame| {
        let (rod, ball) = (&frame.bodies[&rod], &frame.bodies[&struck]);
        let of = |bodies: &frames::Bodies, m: f64| {
            bodies.positions[0].as_dvec3().cross(bodies.velocities[0].as_dvec3() * m)
        };
        let angular_velocity = |z: f32, inertia: f64| DVec3::Z * (f64::from(z) * inertia);
        of(rod, 3.0)
            + of(ball, 1.0)
            + angular_velocity(rod.angular_velocities[0].z, 3.0 * (4.0 + 0.01) / 12.0)
            + angular_velocity(ball.angular_velocities[0].z, 0.4 * 0.01)
    };
    let frames = run(&shot);
    let (first, last) = (momentum(&frames[0]), momentum(frames.last().unwrap()));
    assert!(frames.last().unwrap().bodies[&rod].angular_velocities[0].z.abs() > 0.5);
    assert!(first.distance(last) < 0.015 * first.length(), "{first} {last}");
}

#[rstest]
#[case(24.0, 11, Vec3::ZERO)]
#[case(60.0, 17, Vec3::new(60.0, -20.0, 30.0))]
fn a_body_that_is_let_go_flies_on_from_where_its_keys_left_it(
    #[case] fps: f32,
    #[case] let_go: u32,
    #[case] start: Vec3,
) {
    let mut shot = bare(fps, 30);
    let velocity = Vec3::new(3.0, 1.0, -2.0);
    let position = |frame: f64| start + velocity * ((frame - 1.0) as f32 / fps);
    let keys = Channel::keyed((1..=21).map(f64::from).map(|frame| (frame, position(frame))));
    let mut block = Element::solid("Block", Shape::cuboid(0.5, 0.4, 0.3), Moves::Animated)
        .keyed("placement.position_m", keys);
    body(&mut block).wake = Some(shot::Wake::Frame(let_go));
    let id = shot.add(block);
    for frame in run(&shot) {
        let off = frame.bodies[&id].positions[0].distance(position(f64::from(frame.number)));
        assert!(off < 0.003, "{off} m at frame {}", frame.number);
    }
}

/// A box on its edge falls as a pendulum of that edge: φ″ = ¾ (g / r) sin φ,
/// with its centre at r from the edge and φ from the vertical.
#[rstest]
#[case(0.1, 1.0, 24.0, 8, 8.0)]
#[case(0.3, 0.5, 24.0, 8, 5.0)]
#[case(0.05, 2.0, 60.0, 4, 12.0)]
#[case(0.02, 0.12, 25.0, 16, 20.0)]
fn a_box_topples_about_its_edge_as_a_pendulum(
    #[case] width: f32,
    #[case] height: f32,
    #[case] fps: f32,
    #[case] substeps: u32,
    #[case] start_deg: f32,
) {
    let r = 0.5 * width.hypot(height);
    let stands = (width / height).atan();
    let (mut phi, mut rate, mut t) = (start_deg.to_radians(), 0.0f32, 0.0f32);
    let dt = 1e-4;
    // Midpoint steps, until it leans by 50°.
    while phi < 50f32.to_radians() {
        let pull = |phi: f32| 0.75 * G / r * phi.sin();
        let middle = rate + 0.5 * dt * pull(phi);
        (phi, rate) = (phi + dt * middle, rate + dt * pull(phi + 0.5 * dt * rate));
        t += dt;
    }
    let mut shot = bare(fps, 2 + (t * fps) as u32);
    shot.physics.substeps = substeps;
    shot.add(gravity(-G));
    let rough = |body: &mut shot::Body| (body.friction, body.restitution) = (2.0, 0.0);
    let floor = Element::solid("Floor", Shape::cuboid(8.0, 1.0, 8.0), Moves::Still).at(0.0, -0.5, 0.0);
    shot.add(set(floor, rough));
    let start = start_deg.to_radians();
    let post = Element::solid("Post", Shape::cuboid(width, height, 0.4), Moves::Free)
        .at(r * start.sin(), r * start.cos(), 0.0)
        .turned(0.0, 0.0, -(start + stands));
    let post = shot.add(set(post, rough));
    let frames = run(&shot);
    let angle = |frame: &frames::Frame| {
        let up = frame.bodies[&post].orientations[0] * Vec3::Y;
        up.x.atan2(up.y) - stands
    };
    let at = t * fps;
    let (before, after) = (angle(&frames[at as usize]), angle(&frames[at as usize + 1]));
    let fallen = before + (after - before) * at.fract();
    let degrees = fallen.to_degrees();
    // An error of the angle grows with it; ½ ω Δt is a step of the method's order.
    let step = 0.5 * rate / (fps * substeps as f32);
    assert!((degrees - 50.0).abs() < step.to_degrees() + 0.5, "{degrees}");
    // The edge stays where it is.
    let apart = frames[at as usize].bodies[&post].positions[0].length() - r;
    assert!(apart.abs() < 0.01 * r, "{apart}");
}

/// In contact too: a box that slides without friction keeps its speed, and one
/// that slides with it stops after v² / (2 μ g).
#[rstest]
#[case(190.0, 0.4, 0.0, 24.0, 8)]
#[case(-150.0, 0.05, 0.0, 60.0, 32)]
#[case(200.0, 2.0, 0.3, 60.0, 16)]
#[case(0.0, 0.4, 0.0, 24.0, 8)]
#[case(120.0, 0.02, 0.0, 25.0, 4)]
fn far_from_the_origin_boxes_slide_as_far_as_they_should(
    #[case] x: f32,
    #[case] speed: f32,
    #[case] friction: f32,
    #[case] fps: f32,
    #[case] substeps: u32,
) {
    let mut shot = bare(fps, (4.0 * fps) as u32 + 1);
    shot.physics.substeps = substeps;
    shot.add(gravity(-G));
    let smooth = |body: &mut shot::Body| (body.friction, body.restitution) = (friction, 0.0);
    shot.add(set(Element::solid("Floor", Shape::plane(40.0, 40.0), Moves::Still).at(x, 0.0, -x), smooth));
    let cube = Element::solid("Box", Shape::cuboid(0.2, 0.2, 0.2), Moves::Free).at(x, 0.1, -x);
    let id = shot.add(set(cube, |body| {
        smooth(body);
        body.launch_velocity = Some(Vec3::new(speed, 0.0, 0.0));
    }));
    let frames = run(&shot);
    let expected = if friction > 0.0 { speed * speed / (2.0 * friction * G) } else { 4.0 * speed };
    let way = position(&frames, id).x - x;
    // Friction is a first-order method: it errs by a step's way.
    let step = speed / (fps * substeps as f32);
    let allowed = 1e-3 * expected + if friction > 0.0 { step } else { 0.0 } + 2e-5;
    assert!((way - expected).abs() < allowed, "{way} for {expected}");
    // It neither sinks in nor floats.
    assert!((position(&frames, id).y - 0.1).abs() < 2e-3);
}
