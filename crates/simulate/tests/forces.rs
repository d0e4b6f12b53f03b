//! Forces on bodies: where, when and on what they act; bodies that wait; time.

use frames::{Frame, RunFolder};
use geometry::Meshes;
use glam::Vec3;
use rstest::rstest;
use shot::{
    Copies, Element, ElementKind, Id, Moves, Shape, Shot, Wake, Weight,
    force::{Force, ForceKind, Push, Turbulence, Wind},
    motion::Channel,
    region::{Region, Volume},
};
use simulate::{Bake, BlowUp, Outcome, Simulation, bake};
use std::ops::ControlFlow;

const FPS: f32 = 60.0;

/// A shot of so many frames, without gravity.
fn weightless(frames: u32) -> Shot {
    let mut shot = Shot::empty("Forces");
    shot.timing.fps = FPS;
    shot.timing.last = frames + 1;
    shot.elements.retain(|element| element.as_force().is_none());
    shot
}

fn ball(name: &str, x: f32) -> Element {
    let mut ball = Element::solid(name, Shape::sphere(0.1), Moves::Free).at(x, 0.0, 0.0);
    ball.as_solid_mut().unwrap().body.weight = Weight::MassKg(1.0);
    ball
}

fn with_wake(mut element: Element, wake: Wake) -> Element {
    element.as_solid_mut().unwrap().body.wake = Some(wake);
    element
}

fn launched(mut element: Element, velocity: Vec3) -> Element {
    element.as_solid_mut().unwrap().body.launch_velocity = Some(velocity);
    element
}

/// A pull of one newton along −y.
fn pull() -> Force {
    Force::new(ForceKind::Pull { force_n: 1.0 })
}

fn add(shot: &mut Shot, force: Force) -> Id {
    shot.add(Element::new("Force", ElementKind::Force(force)))
}

fn run(shot: &Shot) -> Vec<Frame> {
    let faults = shot.faults();
    assert!(faults.is_empty(), "{faults:?}");
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut frames = vec![simulation.write()];
    while simulation.frame() < shot.timing.last {
        frames.push(simulation.advance().unwrap());
    }
    frames
}

fn position(frame: &Frame, id: Id) -> Vec3 {
    frame.bodies[&id].positions[0]
}

fn velocity(frame: &Frame, id: Id) -> Vec3 {
    frame.bodies[&id].velocities[0]
}

#[test]
fn a_pull_gives_the_acceleration_f_over_m() {
    let mut shot = weightless(60);
    add(&mut shot, pull());
    let mut heavy = ball("Heavy", 1.0);
    heavy.as_solid_mut().unwrap().body.weight = Weight::MassKg(4.0);
    let (light, heavy) = (shot.add(ball("Light", 0.0)), shot.add(heavy));
    let last = &run(&shot)[60];
    assert!((velocity(last, light).y + 1.0).abs() < 0.01);
    assert!((velocity(last, heavy).y + 0.25).abs() < 0.01);
}

#[test]
fn a_force_acts_within_its_span_only() {
    let mut shot = weightless(60);
    add(&mut shot, Force { from_frame: Some(11), to_frame: Some(31), ..pull() });
    let id = shot.add(ball("Ball", 0.0));
    let frames = run(&shot);
    assert_eq!(velocity(&frames[10], id), Vec3::ZERO);
    // Twenty frames of 1 m/s².
    assert!((velocity(&frames[30], id).y + 20.0 / FPS).abs() < 0.005);
    assert_eq!(velocity(&frames[59], id), velocity(&frames[30], id));
}

#[rstest]
#[case(true)]
#[case(false)]
fn a_force_acts_on_what_it_names_and_leaves_out_what_it_excepts(#[case] only: bool) {
    let mut shot = weightless(20);
    let (a, b) = (shot.add(ball("A", 0.0)), shot.add(ball("B", 1.0)));
    let mut force = pull();
    if only {
        force.only = vec![a.into()]
    } else {
        force.except = vec![b.into()]
    }
    add(&mut shot, force);
    let last = &run(&shot)[20];
    assert!(velocity(last, a).y < -0.3 && velocity(last, b) == Vec3::ZERO);
}

#[test]
fn a_force_that_is_off_does_nothing_until_keys_switch_it_on() {
    let mut shot = weightless(40);
    let force = Force { enabled: false, ..pull() };
    let switch = Channel::keyed([(1.0, false), (21.0, true)]);
    shot.add(Element::new("Force", ElementKind::Force(force)).keyed("kind.force.enabled", switch));
    let id = shot.add(ball("Ball", 0.0));
    let frames = run(&shot);
    assert_eq!(velocity(&frames[19], id), Vec3::ZERO);
    assert!((velocity(&frames[40], id).y + 20.0 / FPS).abs() < 0.01);
}

#[test]
fn a_region_limits_a_force_and_goes_with_its_keys() {
    let mut shot = weightless(60);
    // A ball of 0.5 m that passes from x = −2 to 2 in a second.
    let region = Element::new("Region", ElementKind::Region(Region::new(Volume::Sphere { radius_m: 0.5 })));
    let way = Channel::keyed([(1.0, -2.0f32), (61.0, 2.0)]);
    let region = shot.add(region.keyed("placement.position_m[0]", way));
    add(&mut shot, Force { region: Some(region), ..pull() });
    let (inside, outside) = (shot.add(ball("Inside", 0.0)), shot.add(ball("Outside", 3.0)));
    let frames = run(&shot);
    assert_eq!(velocity(&frames[20], inside), Vec3::ZERO);
    // A quarter of a second in it, less a little as the body falls off the middle.
    let speed = -velocity(&frames[60], inside).y;
    assert!((0.22..0.26).contains(&speed), "{speed}");
    assert_eq!(velocity(&frames[60], outside), Vec3::ZERO);
}

#[test]
fn a_region_around_a_free_body_goes_with_it() {
    let mut shot = weightless(30);
    let carrier = shot.add(launched(ball("Carrier", -3.0), Vec3::new(4.0, 0.0, 0.0)));
    let mut region =
        Element::new("Region", ElementKind::Region(Region::new(Volume::Sphere { radius_m: 1.0 })));
    region.attached = Some(shot::Attached { to: carrier, along: None, facing: false });
    let region = shot.add(region);
    let passed = shot.add(ball("Passed", -1.5).at(-1.5, 0.5, 0.0));
    add(&mut shot, Force { region: Some(region), only: vec![passed.into()], ..pull() });
    let frames = run(&shot);
    assert_eq!(velocity(&frames[5], passed), Vec3::ZERO);
    assert!(velocity(&frames[30], passed).y < -0.1);
}

#[test]
fn a_feather_in_a_storm_stays_finite_and_no_faster_than_the_air() {
    let mut shot = weightless(120);
    let wind = Wind { speed_m_s: 60.0, gust: 0.0, eddy: 0.0, ..Wind::default() };
    add(&mut shot, Force::new(ForceKind::Wind(wind)));
    let mut feather = ball("Feather", 0.0);
    feather.as_solid_mut().unwrap().body.weight = Weight::MassKg(1e-5);
    let id = shot.add(feather);
    for frame in run(&shot) {
        let speed = velocity(&frame, id).length();
        assert!(speed.is_finite() && speed < 60.1, "{speed}");
    }
}

#[test]
fn a_sleeping_body_is_stirred_when_a_wind_begins() {
    let mut shot = Shot::empty("Asleep");
    shot.timing.fps = FPS;
    shot.timing.last = 300;
    shot.add(Element::solid("Deck", Shape::plane(20.0, 20.0), Moves::Still));
    let mut crate_ = Element::solid("Crate", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).at(0.0, 0.2, 0.0);
    crate_.as_solid_mut().unwrap().body.weight = Weight::MassKg(1.0);
    let id = shot.add(crate_);
    let push = Push::Acceleration;
    let wind = Wind { speed_m_s: 20.0, gust: 0.0, eddy: 0.0, push, ..Wind::default() };
    let force = Force { from_frame: Some(240), ..Force::new(ForceKind::Wind(wind)) };
    shot.add(Element::new("Wind", ElementKind::Force(force)).turned(0.0, 0.0, std::f32::consts::FRAC_PI_2));
    let frames = run(&shot);
    assert!(position(&frames[238], id).x.abs() < 1e-3);
    assert!(position(&frames[299], id).x > 0.3, "{}", position(&frames[299], id));
}

// Waiting

#[test]
fn a_body_waits_for_its_frame_and_then_flies_with_its_launch() {
    let mut shot = weightless(40);
    let id = shot.add(with_wake(launched(ball("Ball", 0.0), Vec3::X), Wake::Frame(21)));
    let frames = run(&shot);
    assert_eq!(position(&frames[20], id), Vec3::ZERO);
    assert!((position(&frames[40], id).x - 20.0 / FPS).abs() < 1e-3);
}

#[rstest]
#[case(1.0, true)]
#[case(50.0, false)]
fn a_touch_wakes_only_above_its_impulse(#[case] impulse_n_s: f32, #[case] wakes: bool) {
    let mut shot = weightless(60);
    shot.add(launched(ball("Thrown", -1.0), Vec3::new(4.0, 0.0, 0.0)));
    let id = shot.add(with_wake(ball("Waiting", 0.0), Wake::Touch { impulse_n_s }));
    let last = &run(&shot)[60];
    assert_eq!(position(last, id).x > 0.1, wakes, "{}", position(last, id));
}

#[test]
fn a_region_wakes_what_it_comes_to() {
    let mut shot = weightless(60);
    let region = Element::new("Region", ElementKind::Region(Region::new(Volume::Sphere { radius_m: 0.5 })));
    let way = Channel::keyed([(1.0, -2.0f32), (61.0, 2.0)]);
    let region = shot.add(region.keyed("placement.position_m[0]", way));
    let id = shot.add(with_wake(launched(ball("Ball", 0.0), Vec3::Y), Wake::Region(region)));
    let frames = run(&shot);
    let woke = frames.iter().position(|frame| position(frame, id).y > 0.0).unwrap();
    // The region's edge is at 0 after 22.5 frames.
    assert!((22..=25).contains(&woke), "{woke}");
}

#[test]
fn neighbours_wake_one_after_the_other() {
    let mut shot = weightless(30);
    shot.add(launched(ball("Thrown", -1.0), Vec3::new(6.0, 0.0, 0.0)));
    let first = shot.add(with_wake(ball("First", 0.0), Wake::Touch { impulse_n_s: 0.1 }));
    let mut row = with_wake(ball("Row", 0.65), Wake::Neighbour { within_m: 0.02 });
    row.as_solid_mut().unwrap().copies = Some(Copies {
        count: [5, 1, 1],
        spacing_m: Vec3::new(0.21, 0.0, 0.0),
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 0,
    });
    // The row's first stands a centimetre from the one that is hit.
    row.placement.position_m.x = 0.21 + 2.0 * 0.21;
    let row = shot.add(row);
    add(&mut shot, Force { only: vec![row.into()], ..pull() });
    let last = &run(&shot)[30];
    assert!(position(last, first).x > 0.0);
    assert!(
        last.bodies[&row].velocities.iter().all(|v| v.y < 0.0),
        "all fell: {:?}",
        last.bodies[&row].velocities
    );
}

#[test]
fn an_animated_body_that_is_touched_goes_on_with_the_motion_it_had() {
    let mut shot = weightless(60);
    // Moves up at 1 m/s and is hit from the side.
    let way = Channel::keyed([(1.0, Vec3::new(0.0, -0.5, 0.0)), (61.0, Vec3::new(0.0, 0.5, 0.0))]);
    let mut lift = ball("Lift", 0.0).keyed("placement.position_m", way);
    lift.as_solid_mut().unwrap().body.moves = Moves::Animated;
    lift.as_solid_mut().unwrap().body.friction = 0.0;
    let id = shot.add(with_wake(lift, Wake::Touch { impulse_n_s: 0.1 }));
    let mut thrown = launched(ball("Thrown", -2.2), Vec3::new(4.0, 0.0, 0.0));
    thrown.as_solid_mut().unwrap().body.friction = 0.0;
    shot.add(thrown);
    let last = &run(&shot)[60];
    assert!(velocity(last, id).x > 0.5 && (velocity(last, id).y - 1.0).abs() < 0.3, "{}", velocity(last, id));
}

// Values and time

#[test]
fn friction_that_keys_take_away_lets_a_box_slide() {
    let mut shot = Shot::empty("Ice");
    shot.timing.last = 49;
    let slope = Element::solid("Slope", Shape::cuboid(30.0, 0.2, 4.0), Moves::Still).turned(0.0, 0.0, -0.3);
    let keys = || Channel::keyed([(1.0, 2.0f32), (24.0, 2.0), (25.0, 0.0)]);
    let mut crate_ =
        Element::solid("Crate", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).turned(0.0, 0.0, -0.3);
    crate_.placement.position_m = glam::Quat::from_rotation_z(-0.3) * Vec3::new(-3.0, 0.301, 0.0);
    shot.add(slope.keyed("kind.solid.body.friction", keys()));
    let id = shot.add(crate_.keyed("kind.solid.body.friction", keys()));
    let frames = run(&shot);
    let start = position(&frames[0], id).x;
    assert!((position(&frames[23], id).x - start).abs() < 0.01);
    assert!(position(&frames[48], id).x - start > 0.8);
}

#[test]
fn a_mass_that_a_formula_raises_slows_what_is_pulled() {
    let mut shot = weightless(60);
    add(&mut shot, pull());
    let grows = Channel::expression("1 + 9 * step(0.5, time)");
    let id = shot.add(ball("Ball", 0.0).keyed("kind.solid.body.weight.mass_kg", grows));
    let frames = run(&shot);
    let gained = |a: usize, b: usize| velocity(&frames[a], id).y - velocity(&frames[b], id).y;
    assert!((gained(0, 25) - 25.0 / FPS).abs() < 0.01);
    assert!((gained(35, 60) - 2.5 / FPS).abs() < 0.005);
}

#[test]
fn time_that_stands_still_stops_everything_and_goes_on() {
    let mut shot = weightless(60);
    let mut scale = Channel::keyed([(1.0, 1.0f32), (21.0, 0.0), (41.0, 1.0)]);
    scale.keys.iter_mut().for_each(|key| key.interpolation = shot::motion::Interpolation::Hold);
    shot.channels.insert("physics.time_scale".to_owned(), scale);
    let id = shot.add(launched(ball("Ball", 0.0), Vec3::X));
    let frames = run(&shot);
    assert_eq!(position(&frames[20], id), position(&frames[40], id));
    assert!((position(&frames[60], id).x - 40.0 / FPS).abs() < 1e-3);
}

#[rstest]
#[case(true, 0.5)]
#[case(false, 1.0)]
fn keys_follow_the_worlds_time_or_the_shots(#[case] follow: bool, #[case] expected: f32) {
    let mut shot = weightless(20);
    (shot.physics.time_scale, shot.physics.keys_follow) = (0.5, follow);
    let way = Channel::keyed([(1.0, 0.0f32), (21.0, 1.0)]);
    let mut block = ball("Block", 0.0).keyed("placement.position_m[0]", way);
    block.as_solid_mut().unwrap().body.moves = Moves::Animated;
    let id = shot.add(block);
    assert!((position(&run(&shot)[20], id).x - expected).abs() < 1e-4);
}

#[test]
fn a_formula_that_fails_stops_at_its_frame_by_name() {
    let mut shot = weightless(20);
    let fails = Channel::expression("1 / (frame - 9)");
    let wind = Element::new("Gale", ElementKind::Force(pull())).keyed("kind.force.strength", fails);
    shot.add(wind);
    shot.add(ball("Ball", 0.0));
    let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
    let error: BlowUp = (0..20).find_map(|_| simulation.advance().err()).unwrap();
    assert_eq!((error.frame, error.name.as_str()), (9, "Gale"));
    assert!(error.to_string().contains("formula for strength"), "{error}");
}

#[rstest]
#[case(&[9, 1])]
#[case(&[17])]
fn a_bake_with_forces_stopped_and_resumed_has_the_same_bytes(#[case] stops: &[u32]) {
    let mut shot = weightless(40);
    add(&mut shot, Force::new(ForceKind::Turbulence(Turbulence { speed_m_s: 6.0, ..Turbulence::default() })));
    let mut many = with_wake(ball("Many", 0.0), Wake::Neighbour { within_m: 0.1 });
    many.as_solid_mut().unwrap().copies = Some(Copies {
        count: [4, 4, 4],
        spacing_m: Vec3::splat(0.25),
        position_jitter_m: 0.02,
        orientation_jitter_rad: 0.0,
        seed: 5,
    });
    shot.add(many);
    shot.add(with_wake(ball("Spark", 0.0).at(0.0, -0.25, 0.0), Wake::Frame(6)));
    let bytes = |stops: &[u32]| {
        let dir = tempfile::tempdir().unwrap();
        let folder = RunFolder::create(dir.path().join("run")).unwrap();
        let job = Bake {
            shot: &shot,
            meshes: &Default::default(),
            run: &folder,
            revision: 1,
            frames: 1..=41,
            systems: None,
            initial_state: None,
        };
        for &stop in stops {
            let mut count = 0;
            bake(&job, |_| {
                count += 1;
                if count >= stop { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            })
            .unwrap();
        }
        assert!(matches!(bake(&job, |_| ControlFlow::Continue(())).unwrap(), Outcome::Done(_)));
        let mut files: Vec<_> = std::fs::read_dir(folder.path().join("frames/solids"))
            .unwrap()
            .map(|entry| entry.unwrap().path())
            .map(|path| (path.file_name().unwrap().to_owned(), std::fs::read(path).unwrap()))
            .collect();
        files.sort();
        files
    };
    assert!(bytes(&[]) == bytes(stops));
}
