use super::*;
use proptest::prelude::*;
use shot::{Element, Moves, Shape, Shot};
use std::collections::BTreeMap;

const G: Vec3 = Vec3::new(0.0, -9.81, 0.0);

fn context() -> FinishContext {
    let mut shot = Shot::empty("S");
    shot.add(Element::solid("Ball", Shape::sphere(0.1), Moves::Free));
    FinishContext::new(&shot, BTreeMap::new()).unwrap()
}

fn frame(number: u32, position: Vec3, velocity: Vec3, orientation: Quat, spin: Vec3) -> Frame {
    let id = context().shot().named("Ball").unwrap().id;
    let mut frame = Frame::new(number, 0.0);
    let mut bodies = Bodies::default();
    bodies.push(position, orientation, velocity, spin);
    frame.bodies.insert(id, bodies);
    frame
}

/// The body at a fraction between the second and third of four frames, `dt` apart.
fn between(states: [(Vec3, Vec3, Quat, Vec3); 4], dt: f32, fraction: f32) -> (Vec3, Vec3, Quat) {
    let frames: Vec<Frame> =
        states.iter().zip(1..).map(|(&(x, v, q, w), number)| frame(number, x, v, q, w)).collect();
    let context = context();
    let moment = Moment {
        frames: [&frames[0], &frames[1], &frames[2], &frames[3]],
        seconds: [dt; 3],
        fraction,
        rate: 1.0,
        context: &context,
    };
    let frame = moment.frame(Frame::default());
    let bodies = frame.bodies.values().next().unwrap();
    (bodies.positions[0], bodies.velocities[0], bodies.orientations[0])
}

fn vector(most: f32) -> impl Strategy<Value = Vec3> {
    (-most..most, -most..most, -most..most).prop_map(|(x, y, z)| Vec3::new(x, y, z))
}

proptest! {
    /// Free fall from any place, at any speed and frame rate: x + v t + ½ g t².
    #[test]
    fn free_fall_between_frames_is_the_parabola(
        x in vector(100.0), v in vector(20.0), fps in 12f32..120.0, fraction in 0.01f32..0.99
    ) {
        let dt = 1.0 / fps;
        let state = |k: f32| {
            let t = k * dt;
            (x + v * t + 0.5 * G * t * t, v + G * t, Quat::IDENTITY, Vec3::ZERO)
        };
        let (position, velocity, _) = between([state(-1.0), state(0.0), state(1.0), state(2.0)], dt, fraction);
        let exact = state(fraction);
        // A float at 100 m has steps of 8 µm.
        prop_assert!(position.distance(exact.0) < 3e-5, "{position} {}", exact.0);
        prop_assert!(velocity.distance(exact.1) < 1e-2 * (1.0 + v.length()) * 0.1);
    }

    /// A ball that bounces off the ground between two frames, at any moment and
    /// with any restitution, goes no deeper than the ground.
    #[test]
    fn a_bounce_between_frames_does_not_go_through_the_ground(
        speed in 0.3f32..15.0, slide in -5f32..5.0, restitution in 0f32..1.0, moment in 0.02f32..0.98, fps in 20f32..100.0
    ) {
        let dt = 1.0 / fps;
        let rebound = restitution * speed;
        // Time from the contact, at height 0.
        let state = |k: f32| {
            let t = (k - moment) * dt;
            let up = if t < 0.0 { -speed } else { rebound };
            // A ball that does not rebound lies still.
            let (g, up) = if t > 0.0 && rebound < 9.81 * 3.0 * dt { (0.0, 0.0) } else { (9.81, up) };
            let along = slide * t;
            (Vec3::new(along, up * t - 0.5 * g * t * t, 0.0), Vec3::new(slide, up - g * t, 0.0), Quat::IDENTITY, Vec3::ZERO)
        };
        let states = [state(-1.0), state(0.0), state(1.0), state(2.0)];
        for step in 1..24 {
            let (position, _, _) = between(states, dt, step as f32 / 24.0);
            let exact = state(step as f32 / 24.0).0;
            prop_assert!(position.y > -1e-4, "{position} at {step}");
            prop_assert!(position.distance(exact) < 3e-3 * speed * dt + 1e-4, "{position} {exact}");
        }
    }

    /// A smooth strong acceleration is not taken for contacts: a circle is followed within the cubic's error.
    #[test]
    fn a_circle_is_followed_smoothly(radius in 0.1f32..5.0, turn in 0.05f32..0.5, fraction in 0.0f32..1.0) {
        let dt = 1.0 / 24.0;
        let rate = turn / dt;
        let state = |k: f32| {
            let (s, c) = (k * turn).sin_cos();
            (radius * Vec3::new(c, 0.0, s), radius * rate * Vec3::new(-s, 0.0, c), Quat::IDENTITY, Vec3::ZERO)
        };
        let (position, ..) = between([state(-1.0), state(0.0), state(1.0), state(2.0)], dt, fraction);
        // Error of the cubic: radius · turn⁴ / 384.
        prop_assert!(position.distance(state(fraction).0) <= 1.1 * radius * turn.powi(4) / 384.0 + 1e-5 * radius);
    }

    /// A body that turns more than half a turn between frames keeps its direction and its whole turns.
    #[test]
    fn fast_spin_keeps_its_turns(axis in vector(1.0), turns in 0.05f32..2.9, fraction in 0.0f32..1.0) {
        let axis = axis.try_normalize().unwrap_or(Vec3::X);
        let dt = 1.0 / 24.0;
        let spin = axis * (turns * TAU / dt);
        let state = |k: f32| (Vec3::ZERO, Vec3::ZERO, Quat::from_scaled_axis(spin * k * dt), spin);
        prop_assume!((turns - turns.round()).abs() > 0.01);
        let (.., orientation) = between([state(-1.0), state(0.0), state(1.0), state(2.0)], dt, fraction);
        let exact = state(fraction).2;
        prop_assert!(orientation.dot(exact).abs() > 1.0 - 1e-4, "{orientation} {exact}");
    }
}

/// A ball that the solver held at the ground for a while, at any moment: the
/// path between the frames has the same rest, and goes no deeper.
#[test]
fn a_noted_impact_is_gone_through() {
    let (dt, speed, rebound) = (1.0 / 24.0, 4.0, 3.0);
    for start in [0.1f32, 0.3, 0.55] {
        let end = start + 0.25;
        // Heights before and after the contact, from its start and end.
        let (before, after) = (-start * dt, (1.0 - end) * dt);
        let down = |t: f32| -speed * t - 0.5 * 9.81 * t * t;
        let up = |t: f32| rebound * t - 0.5 * 9.81 * t * t;
        let id = context().shot().named("Ball").unwrap().id;
        let a =
            frame(1, Vec3::Y * down(before), Vec3::Y * (-speed - 9.81 * before), Quat::IDENTITY, Vec3::ZERO);
        let mut b =
            frame(2, Vec3::Y * up(after), Vec3::Y * (rebound - 9.81 * after), Quat::IDENTITY, Vec3::ZERO);
        b.bodies.get_mut(&id).unwrap().impacts.push(Impact {
            body: 0,
            span: [start, end],
            centres: [Vec3::ZERO; 2],
            velocities: [Vec3::Y * -speed, Vec3::Y * rebound],
            orientation: Quat::IDENTITY,
        });
        let context = context();
        for step in 1..40 {
            let fraction = step as f32 / 40.0;
            let frames = [&a, &a, &b, &b];
            let moment = Moment { frames, seconds: [dt; 3], fraction, rate: 1.0, context: &context };
            let y = moment.frame(Frame::default()).bodies[&id].positions[0].y;
            let exact = match fraction {
                s if s < start => down((s - start) * dt),
                s if s > end => up((s - end) * dt),
                _ => 0.0,
            };
            assert!((y - exact).abs() < 2e-5, "{fraction} from {start}: {y} {exact}");
        }
    }
}

#[test]
fn particles_are_born_and_die_between_frames_at_their_times() {
    let id = Id(9);
    let particle = |number: u32, age: f32, life: f32, x: f32| Particles {
        ids: vec![number],
        positions: vec![Vec3::new(x, 0.0, 0.0)],
        velocities: vec![Vec3::X],
        sizes: vec![0.1],
        ages: vec![age],
        lifespans: vec![life],
        ..Particles::default()
    };
    let with = |number: u32, particles: Particles| {
        let mut frame = Frame::new(number, 0.0);
        frame.particles.insert(id, particles);
        frame
    };
    // The first dies half way; the second is born at three tenths.
    let (a, b) = (with(1, particle(1, 0.5, 0.55, 0.0)), with(2, particle(2, 0.07, 1.0, 0.07)));
    let context = context();
    let at = |fraction: f32| {
        let moment =
            Moment { frames: [&a, &a, &b, &b], seconds: [0.1; 3], fraction, rate: 1.0, context: &context };
        moment.frame(Frame::default()).particles[&id].clone()
    };
    let alive = |fraction: f32| at(fraction).ids;
    assert_eq!(alive(0.2), [1]);
    assert_eq!(alive(0.4), [1, 2]);
    assert_eq!(alive(0.6), [2]);
    assert!((at(0.6).ages[0] - 0.03).abs() < 1e-6);
    assert!((at(0.6).positions[0].x - 0.03).abs() < 1e-6);
}
