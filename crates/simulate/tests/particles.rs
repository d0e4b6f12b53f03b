//! Particles against closed forms, and what must hold of them.

use glam::{Quat, Vec3};
use rstest::rstest;
use shot::{
    Back, Becoming, BirthMap, Births, BornOn, Element, Force, ForceKind, Form, Grain, Id, Is, MapOf, Meet,
    Moves, Often, Outcome, Particles, Shape, Shot, Source, Split, Start, Steer, Then, Weight, When,
};
use simulate::Simulation;

/// A shot without gravity, camera and light.
fn bare(last: u32) -> Shot {
    let mut shot = Shot::empty("Test");
    shot.elements.clear();
    shot.camera = None;
    shot.timing.last = last;
    shot
}

/// Particles that are all there at the first frame, alike, at rest unless told.
fn alike(number: u32) -> Particles {
    Particles {
        births: Births { how: Often::AtOnce { number }, ..Births::default() },
        start: Start {
            spread_rad: 0.0,
            speed_m_s: 0.0,
            speed_variation: 0.0,
            lifespan_s: None,
            lifespan_variation: 0.0,
            size_variation: 0.0,
            ..Start::default()
        },
        ..Particles::default()
    }
}

fn swarm(name: &str, particles: Particles) -> Element {
    Element::new(name, Is::Particles(particles))
}

fn gravity() -> Element {
    Element::gravity(Vec3::new(0.0, -9.81, 0.0))
}

/// The particles of an element after so many frames.
fn after(shot: &Shot, id: Id, frames: u32) -> frames::Particles {
    let mut simulation = Simulation::new(shot, &Default::default()).unwrap();
    let mut frame = simulation.write();
    for _ in 0..frames {
        frame = simulation.advance().unwrap();
    }
    frame.particles.remove(&id).unwrap()
}

#[test]
fn a_thrown_particle_follows_its_parabola() {
    let mut shot = bare(60);
    shot.add(gravity());
    let mut particles = alike(1);
    particles.start.speed_m_s = 8.0;
    let id = shot.add(swarm("Spark", particles).turned(0.0, 0.0, -0.7));
    let (frames, fps) = (40, 24.0);
    let t = frames as f32 / fps;
    let at = after(&shot, id, frames).places[0];
    let v = 8.0 * Vec3::new(0.7f32.sin(), 0.7f32.cos(), 0.0);
    let exact = v * t - Vec3::Y * (0.5 * 9.81 * t * t);
    assert!(at.distance(exact) < 0.002 * exact.length(), "{at} {exact}");
}

#[test]
fn under_quadratic_drag_a_particle_nears_its_terminal_speed_as_tanh() {
    let mut shot = bare(60);
    shot.add(gravity());
    let air = Force::new(ForceKind::Drag { linear_n_s_m: 0.0, density_kg_m3: 1.2 });
    shot.add(Element::new("Air", Is::Force(air)));
    let mut particles = alike(1);
    (particles.start.size_m, particles.body.drag) = (0.02, 0.5);
    particles.body.weight = Weight::MassKg(0.001);
    let id = shot.add(swarm("Seed", particles));
    let area = std::f32::consts::PI * 0.01 * 0.01;
    let terminal = (2.0 * 0.001 * 9.81 / (1.2 * 0.5 * area)).sqrt();
    for frames in [6, 24, 55] {
        let t = frames as f32 / 24.0;
        let exact = terminal * (9.81 * t / terminal).tanh();
        let speed = after(&shot, id, frames).velocities[0].length();
        assert!((speed / exact - 1.0).abs() < 0.002, "{frames}: {speed} {exact}");
    }
}

#[rstest]
#[case(24.0, 8)]
#[case(60.0, 1)]
#[case(23.976, 5)]
fn the_number_born_in_a_span_is_exact(#[case] fps: f32, #[case] substeps: u32) {
    let mut shot = bare(50);
    (shot.timing.fps, shot.physics.substeps) = (fps, substeps);
    let mut particles = alike(0);
    particles.births = Births {
        how: Often::Number { number: 997 },
        from_frame: Some(7),
        to_frame: Some(31),
        ..Births::default()
    };
    let id = shot.add(swarm("Seeds", particles));
    assert_eq!(after(&shot, id, 6).len(), 0);
    let half = after(&shot, id, 18).len();
    assert!((498..=499).contains(&half), "{half}");
    assert_eq!(after(&shot, id, 30).len(), 997);
    assert_eq!(after(&shot, id, 49).len(), 997);
}

#[test]
fn a_rate_gives_as_many_as_it_says_whatever_the_substeps() {
    for substeps in [1, 3, 8] {
        let mut shot = bare(50);
        shot.physics.substeps = substeps;
        let mut particles = alike(0);
        particles.births.how = Often::Rate { per_s: 240.0 };
        let id = shot.add(swarm("Seeds", particles));
        assert_eq!(after(&shot, id, 36).len(), 360);
    }
}

#[test]
fn the_air_is_full_at_the_first_frame_after_a_preroll() {
    let mut shot = bare(20);
    shot.add(gravity());
    let mut particles = alike(0);
    particles.births = Births { how: Often::Rate { per_s: 100.0 }, preroll_s: 3.0, ..Births::default() };
    particles.start.lifespan_s = Some(2.0);
    let id = shot.add(swarm("Flakes", particles).at(0.0, 30.0, 0.0));
    let first = after(&shot, id, 0);
    assert_eq!(first.len(), 200);
    let lowest = first.places.iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
    assert!((lowest - (30.0 - 0.5 * 9.81 * 4.0)).abs() < 0.3, "{lowest}");
    assert_eq!(after(&shot, id, 10).len(), 200);
}

#[test]
fn births_are_spread_between_frames_without_clumps() {
    // A stream at a steady speed has its particles at even distances.
    let mut shot = bare(30);
    shot.physics.substeps = 2;
    let mut particles = alike(0);
    particles.births.how = Often::Rate { per_s: 1000.0 };
    particles.start.speed_m_s = 5.0;
    let id = shot.add(swarm("Stream", particles));
    let ys: Vec<f32> = after(&shot, id, 10).places.iter().map(|p| p.y).collect();
    for pair in ys.windows(2) {
        assert!((pair[0] - pair[1] - 0.005).abs() < 1e-4, "{pair:?}");
    }
}

fn plate(thick: f32) -> Element {
    Element::solid("Plate", Shape::cuboid(6.0, thick, 6.0), Moves::Still)
}

#[rstest]
#[case(1)]
#[case(8)]
fn nothing_passes_a_thin_plate_at_a_hundred_metres_a_second(#[case] substeps: u32) {
    let mut shot = bare(20);
    shot.physics.substeps = substeps;
    shot.add(plate(0.001));
    let mut particles = alike(2_000);
    particles.from = Source::Shape { shape: Shape::cuboid(3.0, 1.0, 3.0), on: shot::BornOn::Volume };
    particles.start = Start { speed_m_s: -100.0, spread_rad: 0.3, size_m: 0.001, ..particles.start };
    let id = shot.add(swarm("Shot", particles).at(0.0, 2.0, 0.0));
    let places = after(&shot, id, 3).places;
    let through = places.iter().filter(|p| p.y < 0.0 && p.x.abs() < 3.0 && p.z.abs() < 3.0).count();
    let aside = places.iter().filter(|p| p.y < 0.0).count();
    assert_eq!((through, aside), (0, 0));
}

#[test]
fn a_particle_bounces_to_the_height_its_restitution_gives() {
    let mut shot = bare(80);
    shot.add(gravity());
    let mut floor = plate(0.1).at(0.0, -0.05, 0.0);
    floor.as_solid_mut().unwrap().body.bounce = 0.6;
    shot.add(floor);
    let mut particles = alike(1);
    particles.meet = Meet { bounce: 0.6, ..Meet::default() };
    particles.start.size_m = 0.002;
    let id = shot.add(swarm("Bead", particles).at(0.0, 2.001, 0.0));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let mut top = 0.0f32;
    let fall = (2.0 * 2.0 / 9.81f32).sqrt();
    for frame in 1..70 {
        let now = simulation.advance().unwrap();
        let t = frame as f32 / 24.0;
        if t > fall && t < fall * (1.0 + 1.9 * 0.6) {
            // The highest of the parabola through the place it is at.
            let (y, v) = (now.particles[&id].places[0].y - 0.001, now.particles[&id].velocities[0].y);
            top = top.max(y + v * v / (2.0 * 9.81));
        }
    }
    assert!((top / (0.36 * 2.0) - 1.0).abs() < 0.01, "{top}");
}

#[test]
fn a_particle_slides_down_an_incline_as_friction_allows() {
    let (angle, friction) = (0.5f32, 0.3f32);
    let mut shot = bare(40);
    shot.add(gravity());
    let mut floor = Element::solid("Slope", Shape::plane(40.0, 4.0), Moves::Still).turned(0.0, 0.0, -angle);
    floor.as_solid_mut().unwrap().body.friction = friction;
    shot.add(floor);
    let mut particles = alike(1);
    particles.meet = Meet { bounce: 0.0, friction, ..Meet::default() };
    let up = Vec3::new(angle.sin(), angle.cos(), 0.0) * 0.01;
    let id = shot.add(swarm("Grain", particles).at(up.x, up.y, up.z));
    let t = 30.0 / 24.0;
    let at = after(&shot, id, 30).places[0];
    let exact = 0.5 * 9.81 * (angle.sin() - friction * angle.cos()) * t * t;
    let gone = (at - up).length();
    assert!((gone / exact - 1.0).abs() < 0.01, "{gone} {exact}");
    assert!(at.dot(up.normalize()) > 0.0099 && at.dot(up.normalize()) < 0.0102);
}

#[test]
fn particles_push_a_free_body_by_their_momentum() {
    let mut shot = bare(30);
    let mut block = Element::solid("Block", Shape::cuboid(0.5, 0.5, 0.5), Moves::Free).at(2.0, 0.0, 0.0);
    block.as_solid_mut().unwrap().body.weight = Weight::MassKg(3.0);
    let block = shot.add(block);
    let mut particles = alike(200);
    particles.from = Source::Shape { shape: Shape::cuboid(0.4, 0.2, 0.4), on: shot::BornOn::Volume };
    particles.body = Grain { weight: Weight::MassKg(0.01), ..Grain::default() };
    particles.start = Start { speed_m_s: 6.0, size_m: 0.004, ..particles.start };
    let id = shot.add(swarm("Hail", particles).turned(0.0, 0.0, -std::f32::consts::FRAC_PI_2));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let mut frame = simulation.write();
    for _ in 0..20 {
        frame = simulation.advance().unwrap();
    }
    let hail: Vec3 = frame.particles[&id].velocities.iter().sum::<Vec3>() * 0.01;
    let all = hail + frame.bodies[&block].velocities[0] * 3.0;
    assert!(frame.bodies[&block].velocities[0].x > 1.0);
    assert!(all.distance(Vec3::X * 12.0) < 0.012, "{all}");
}

#[test]
fn a_split_keeps_momentum_when_it_adds_no_speed() {
    let mut shot = bare(20);
    let mut particles = alike(5);
    particles.start = Start { speed_m_s: 3.0, spread_rad: 1.0, ..particles.start };
    let split = Split { number: 7, inherit: 1.0, speed_m_s: 0.0, ..Split::default() };
    particles.becoming = vec![Becoming { when: When::Age { s: 0.3 }, then: Then::Split(split), share: 1.0 }];
    particles.body.weight = Weight::MassKg(0.7);
    let id = shot.add(swarm("Shells", particles));
    let (before, later) = (after(&shot, id, 5), after(&shot, id, 10));
    assert_eq!((before.len(), later.len()), (5, 35));
    let sum = |of: &frames::Particles| of.velocities.iter().sum::<Vec3>();
    assert!((sum(&before) * 0.7).distance(sum(&later) * 0.1) < 1e-4);
    assert!(later.ids.windows(2).all(|pair| pair[0] < pair[1]));
}

#[test]
fn what_is_handed_over_keeps_place_turn_spin_and_momentum() {
    let mut shot = bare(20);
    let mut scale = Element::solid("Scale", Shape::cuboid(0.1, 0.1, 0.1), Moves::Free);
    scale.as_solid_mut().unwrap().from_particles = Some(4);
    let solid = shot.add(scale);
    let mut particles = alike(6);
    particles.start = Start {
        speed_m_s: 2.0,
        spread_rad: 1.0,
        spin_rad_s: 3.0,
        turn_variation: 1.0,
        size_m: 0.2,
        ..particles.start
    };
    particles.becoming =
        vec![Becoming { when: When::Frame { frame: 8 }, then: Then::Solid { of: solid }, share: 1.0 }];
    let id = shot.add(swarm("Scales", particles));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frames: Vec<frames::Frame> = (0..12).map(|_| simulation.advance().unwrap()).collect();
    let (before, later) = (&frames[5], &frames[9]);
    assert!(before.bodies.get(&solid).is_none_or(|bodies| bodies.is_empty()));
    let bodies = &later.bodies[&solid];
    // Four go over, as many as may; the others stay what they are.
    assert_eq!((bodies.len(), later.particles[&id].len(), before.particles[&id].len()), (4, 2, 6));
    assert_eq!(bodies.scales, [2.0; 4]);
    let t = (later.number - before.number) as f32 / 24.0;
    for i in 0..4 {
        let of = &before.particles[&id];
        assert!(bodies.velocities[i].distance(of.velocities[i]) < 0.001 * 2.0);
        assert!(bodies.places[i].distance(of.places[i] + of.velocities[i] * t) < 1e-3);
        assert!((bodies.spins[i].length() - 3.0).abs() < 0.05);
        // Turned on from where it was by its spin.
        let turn = Quat::from_scaled_axis(bodies.spins[i] * t) * of.turns[i];
        assert!(turn.angle_between(bodies.turns[i]) < 0.01, "{}", turn.angle_between(bodies.turns[i]));
    }
}

#[test]
fn those_that_die_or_stick_on_touch_do() {
    let at = |outcome| {
        let mut shot = bare(40);
        shot.add(gravity());
        shot.add(plate(0.1));
        let mut particles = alike(50);
        particles.from = Source::Shape { shape: Shape::plane(2.0, 2.0), on: shot::BornOn::Surface };
        particles.meet = Meet { outcome, ..Meet::default() };
        let id = shot.add(swarm("Drops", particles).at(0.0, 0.5, 0.0));
        after(&shot, id, 30)
    };
    assert_eq!(at(Outcome::Die).len(), 0);
    let stuck = at(Outcome::Stick);
    assert!(stuck.len() == 50 && stuck.velocities.iter().all(|v| *v == Vec3::ZERO));
    assert!(stuck.places.iter().all(|p| (p.y - 0.06).abs() < 1e-3));
}

#[test]
fn particles_keep_their_distance() {
    let mut shot = bare(20);
    let mut particles = alike(200);
    particles.from = Source::Shape { shape: Shape::cuboid(0.5, 0.5, 0.5), on: shot::BornOn::Volume };
    particles.steer = Steer { apart_m: 0.08, ..Steer::default() };
    let id = shot.add(swarm("Floats", particles));
    let places = after(&shot, id, 15).places;
    let mut least = f32::INFINITY;
    for i in 0..places.len() {
        for j in 0..i {
            least = least.min(places[i].distance(places[j]));
        }
    }
    assert!(least > 0.99 * 0.08, "{least}");
}

/// Sparks that bounce, split and die: the whole of it.
fn busy() -> Shot {
    let mut shot = bare(40);
    shot.add(gravity());
    shot.add(plate(0.1));
    let mut sparks = Particles::default();
    sparks.births.how = Often::Rate { per_s: 3_000.0 };
    sparks.meet.outcome = Outcome::Stick;
    sparks.meet.share = 0.3;
    sparks.show.form = Form::Disc;
    sparks.start.spin_rad_s = 4.0;
    let bits = shot.add(swarm(
        "Bits",
        Particles { births: Births { how: Often::Never {}, ..Births::default() }, ..Particles::default() },
    ));
    let split = Split { of: Some(bits), number: 3, ..Split::default() };
    sparks.becoming = vec![Becoming {
        when: When::Touch { of: Vec::new(), speed_m_s: 0.5 },
        then: Then::Split(split),
        share: 0.5,
    }];
    shot.add(swarm("Sparks", sparks).at(0.0, 0.6, 0.0));
    shot
}

fn bytes(shot: &Shot, threads: usize) -> Vec<Vec<u8>> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
    pool.install(|| {
        let mut simulation = Simulation::new(shot, &Default::default()).unwrap();
        (0..25).map(|_| frames::encode(&simulation.advance().unwrap())).collect()
    })
}

#[test]
fn one_thread_and_two_give_the_same_bytes() {
    let shot = busy();
    assert!(bytes(&shot, 1) == bytes(&shot, 2));
}

#[test]
fn a_resumed_run_ends_with_the_same_bytes() {
    let shot = busy();
    let mut whole = Simulation::new(&shot, &Default::default()).unwrap();
    (0..12).for_each(|_| drop(whole.advance().unwrap()));
    let state = whole.save();
    let mut resumed = Simulation::new(&shot, &Default::default()).unwrap();
    resumed.restore(&state).unwrap();
    for _ in 0..10 {
        assert!(frames::encode(&whole.advance().unwrap()) == frames::encode(&resumed.advance().unwrap()));
    }
}

#[test]
fn what_becomes_of_itself_without_end_is_stopped_by_name() {
    let mut shot = bare(40);
    let mut particles = alike(10);
    let split = Split { number: 100, stays: true, ..Split::default() };
    particles.becoming = vec![Becoming { when: When::Age { s: 0.0 }, then: Then::Split(split), share: 1.0 }];
    shot.add(swarm("Gnats", particles));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let error = (0..30).find_map(|_| simulation.advance().err()).unwrap().to_string();
    assert!(error.contains("Gnats → Gnats") && error.contains("at most 10000000"), "{error}");
}

#[test]
fn more_than_memory_holds_is_refused_before_it_is_begun() {
    let mut shot = bare(40);
    let mut particles = alike(1);
    particles.births.how = Often::Rate { per_s: 9e6 };
    particles.births.preroll_s = 500.0;
    shot.add(swarm("Flood", particles));
    let error = Simulation::new(&shot, &Default::default()).err().unwrap().to_string();
    assert!(error.starts_with("Flood: would have 45"), "{error}");
}

#[rstest]
#[case(Source::Shape { shape: Shape::plane(1.0, 1.0), on: shot::BornOn::Volume })]
#[case(Source::Solid { solid: Id(1), on: shot::BornOn::Volume })]
fn nowhere_to_be_born_is_said_so(#[case] from: Source) {
    let mut shot = bare(10);
    shot.add(Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Still));
    shot.add(swarm("Dust", Particles { from, ..alike(5) }));
    let error = Simulation::new(&shot, &Default::default()).err().unwrap().to_string();
    assert!(error.starts_with("Dust: there is no place to be born"), "{error}");
}

#[test]
fn hits_of_bodies_give_birth() {
    let mut shot = bare(40);
    shot.add(gravity());
    shot.add(plate(0.1).at(0.0, -0.05, 0.0));
    let ball = shot.add(Element::solid("Ball", Shape::sphere(0.2), Moves::Free).at(0.0, 1.0, 0.0));
    let mut particles = alike(0);
    particles.from = Source::Impacts { of: vec![ball.into()], impulse_n_s: 20.0 };
    particles.births.how = Often::Number { number: 30 };
    let id = shot.add(swarm("Chips", particles));
    assert_eq!(after(&shot, id, 8).len(), 0);
    let chips = after(&shot, id, 14);
    assert!(chips.len() >= 30 && chips.len().is_multiple_of(30), "{}", chips.len());
}

#[test]
fn trails_are_left_at_their_rate_and_others_become_in_a_region() {
    let mut shot = bare(40);
    let never = Births { how: Often::Never {}, ..Births::default() };
    let smoke = shot.add(swarm("Smoke", Particles { births: never.clone(), ..alike(1) }));
    if let Some(particles) = shot.named_mut("Smoke").unwrap().as_particles_mut() {
        particles.births = never;
    }
    let region = shot::Region::new(shot::Volume::Box { size_m: Vec3::splat(1.0) });
    let gate = shot.add(Element::new("Gate", Is::Region(region)).at(0.0, 3.0, 0.0));
    let mut rocket = alike(1);
    rocket.start.speed_m_s = 2.0;
    rocket.becoming = vec![
        Becoming { when: When::Age { s: 0.0 }, then: Then::Trail { of: smoke, per_s: 120.0 }, share: 1.0 },
        Becoming { when: When::Region { region: gate }, then: Then::Die {}, share: 1.0 },
    ];
    let id = shot.add(swarm("Rocket", rocket));
    // 24 frames at 5 a frame.
    assert!((118..=121).contains(&after(&shot, smoke, 24).len()));
    assert_eq!((after(&shot, id, 29).len(), after(&shot, id, 32).len()), (1, 0));
}

#[test]
fn those_that_die_on_touch_still_split_by_it() {
    let mut shot = bare(40);
    shot.add(gravity());
    shot.add(plate(0.1));
    let never = Births { how: Often::Never {}, ..Births::default() };
    let bits = shot.add(swarm("Bits", Particles { births: never, ..alike(1) }));
    let mut drops = alike(4);
    drops.from = Source::Grid { count: [4, 1, 1], spacing_m: Vec3::splat(0.3) };
    drops.meet.outcome = Outcome::Die;
    let touch = || When::Touch { of: Vec::new(), speed_m_s: 0.0 };
    let split = |number| Then::Split(Split { of: Some(bits), number, ..Split::default() });
    drops.becoming = vec![
        Becoming { when: touch(), then: split(3), share: 1.0 },
        Becoming { when: touch(), then: split(2), share: 1.0 },
    ];
    let id = shot.add(swarm("Drops", drops).at(0.0, 0.5, 0.0));
    assert_eq!((after(&shot, id, 15).len(), after(&shot, bits, 15).len()), (0, 20));
}

#[test]
fn one_that_became_another_becomes_nothing_else() {
    let mut shot = bare(20);
    let never = Births { how: Often::Never {}, ..Births::default() };
    let [moths, ash] =
        ["Moths", "Ash"].map(|name| shot.add(swarm(name, Particles { births: never.clone(), ..alike(1) })));
    let mut eggs = alike(5);
    let at = |then| Becoming { when: When::Age { s: 0.2 }, then, share: 1.0 };
    eggs.becoming = vec![at(Then::Become { of: moths }), at(Then::Become { of: ash })];
    let id = shot.add(swarm("Eggs", eggs));
    assert_eq!([id, moths, ash].map(|id| after(&shot, id, 10).len()), [0, 5, 0]);
}

/// A plate that is moved by keys along x, from `from` to `to` in ten frames.
fn sweeping(from: f32, to: f32) -> Element {
    let way = shot::Channel::keyed([(1.0, from), (11.0, to)]);
    Element::solid("Sweep", Shape::cuboid(0.02, 2.0, 2.0), Moves::Animated)
        .at(from, 0.0, 0.0)
        .keyed("placement.place_m[0]", way)
}

#[rstest]
#[case(1)]
#[case(8)]
fn a_plate_that_moves_takes_what_rests_before_it_along(#[case] substeps: u32) {
    let mut shot = bare(20);
    shot.physics.substeps = substeps;
    // 9 m/s: 0.4 m from frame to frame.
    shot.add(sweeping(-1.0, 2.75));
    let mut particles = alike(300);
    particles.from = Source::Shape { shape: Shape::cuboid(1.0, 1.0, 1.0), on: shot::BornOn::Volume };
    let id = shot.add(swarm("Dust", particles));
    let places = after(&shot, id, 10).places;
    let behind = places.iter().filter(|p| p.x < 2.75).count();
    assert_eq!(behind, 0, "least {}", places.iter().map(|p| p.x).fold(f32::INFINITY, f32::min));
}

#[test]
fn what_moves_does_not_push_particles_through_what_is_still() {
    let mut shot = bare(20);
    shot.add(sweeping(-1.0, 0.85));
    shot.add(Element::solid("Wall", Shape::cuboid(0.02, 4.0, 4.0), Moves::Still).at(1.0, 0.0, 0.0));
    let mut particles = alike(200);
    particles.from = Source::Shape { shape: Shape::cuboid(1.0, 1.0, 1.0), on: shot::BornOn::Volume };
    particles.start.size_m = 0.01;
    particles.meet.bounce = 0.0;
    let id = shot.add(swarm("Dust", particles));
    for p in after(&shot, id, 14).places {
        assert!(p.x < 1.0, "{p}");
    }
}

#[test]
fn a_still_body_that_grows_pushes_particles_before_it() {
    let mut shot = bare(30);
    let radius = shot::Channel::keyed([(1.0, 0.1f32), (21.0, 0.6)]);
    let ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Still);
    shot.add(ball.keyed("is.solid.shape.sphere.radius_m", radius));
    let mut particles = alike(300);
    particles.from = Source::Shape { shape: Shape::sphere(0.3), on: shot::BornOn::Surface };
    particles.start.size_m = 0.01;
    let id = shot.add(swarm("Dust", particles));
    // The mesh of a ball lies a little within it.
    let nearest = after(&shot, id, 25).places.iter().map(|p| p.length()).fold(f32::INFINITY, f32::min);
    assert!(nearest > 0.58, "{nearest}");
}

#[test]
fn a_force_that_gives_no_finite_number_ends_by_name_with_the_frames_before() {
    let mut shot = bare(30);
    let kind = ForceKind::Pull { force_n: 1e9 };
    let pull = Force { from_frame: Some(6), strength: 1e4, ..Force::new(kind) };
    shot.add(Element::new("Pull", Is::Force(pull)));
    let mut particles = alike(3);
    particles.body.weight = Weight::MassKg(1e-12);
    particles.meet.on = false;
    shot.add(swarm("Motes", particles));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    for _ in 0..5 {
        simulation.advance().unwrap();
    }
    let error = simulation.advance().unwrap_err();
    assert_eq!(error.frame, 7);
    assert!(error.to_string().starts_with("frame 7: Motes (particle 1) has no finite place"), "{error}");
}

#[test]
fn what_slides_keeps_its_speed_along_the_floor() {
    let mut shot = bare(40);
    shot.add(gravity());
    shot.add(plate(0.1));
    let mut particles = alike(1);
    particles.start.speed_m_s = 2.0;
    particles.meet = Meet { outcome: Outcome::Slide, friction: 1.0, ..Meet::default() };
    let quarter = std::f32::consts::FRAC_PI_2;
    let id = shot.add(swarm("Puck", particles).at(-2.0, 0.06, 0.0).turned(0.0, 0.0, -quarter));
    let later = after(&shot, id, 30);
    assert!((later.velocities[0].x - 2.0).abs() < 1e-3 && later.velocities[0].y.abs() < 1e-3);
    assert!((later.places[0].y - 0.06).abs() < 1e-3);
}

#[test]
fn a_source_that_moves_gives_its_speed_however_seldom_it_gives_birth() {
    for per_s in [3.0, 200.0] {
        let mut shot = bare(48);
        let line = shot::Curve::Points { points_m: vec![Vec3::ZERO, Vec3::Z], closed: false, smooth: false };
        let way = shot::Channel::keyed([(1.0, 0.0f32), (49.0, 6.0)]);
        let line = Element::new("Line", Is::Curve(line)).keyed("placement.place_m[0]", way);
        let line = shot.add(line);
        let mut particles = alike(0);
        (particles.from, particles.births.how) = (Source::Curve { curve: line }, Often::Rate { per_s });
        let id = shot.add(swarm("Sparks", particles));
        let born = after(&shot, id, 40);
        assert!(born.len() > 3);
        for velocity in born.velocities {
            assert!(velocity.distance(Vec3::X * 3.0) < 0.02, "{per_s}: {velocity}");
        }
    }
}

#[test]
fn particles_come_to_their_cruising_speed_and_stay_level() {
    let mut shot = bare(60);
    let mut particles = alike(20);
    particles.start.spread_rad = 3.0;
    particles.start.speed_m_s = 0.1;
    particles.steer = Steer { cruise_m_s: Some(1.5), level: true, ..Steer::default() };
    let id = shot.add(swarm("Gulls", particles));
    for velocity in after(&shot, id, 59).velocities {
        assert!((Vec3::new(velocity.x, 0.0, velocity.z).length() - 1.5).abs() < 0.02, "{velocity}");
        assert!(velocity.y.abs() <= 0.1 + 1e-6);
    }
}

#[test]
fn those_that_look_ahead_turn_away_from_a_wall() {
    let reached = |ahead_s| {
        let mut shot = bare(60);
        let wall = Element::solid("Wall", Shape::cuboid(0.1, 8.0, 8.0), Moves::Still).at(3.0, 0.0, 0.0);
        shot.add(wall.turned(0.0, 0.4, 0.0));
        let mut particles = alike(1);
        particles.start.speed_m_s = 2.0;
        particles.steer = Steer { cruise_m_s: Some(2.0), agility_m_s2: 8.0, ahead_s, ..Steer::default() };
        particles.becoming = vec![Becoming {
            when: When::Touch { of: Vec::new(), speed_m_s: 0.0 },
            then: Then::Die {},
            share: 1.0,
        }];
        let id = shot.add(swarm("Gull", particles).turned(0.0, 0.0, -std::f32::consts::FRAC_PI_2));
        after(&shot, id, 55).len()
    };
    assert_eq!((reached(0.0), reached(1.0)), (0, 1));
}

#[test]
fn those_that_stay_on_a_ball_or_a_curve_do() {
    let mut shot = bare(40);
    shot.add(gravity());
    let ball = shot.add(Element::solid("Ball", Shape::sphere(1.0), Moves::Still));
    let ring = shot.add(Element::new("Ring", Is::Curve(shot::Curve::Circle { radius_m: 2.0 })));
    let on = |on, solid| {
        let mut particles = alike(30);
        particles.from = Source::Shape { shape: Shape::sphere(1.5), on: shot::BornOn::Surface };
        particles.start.speed_m_s = 1.0;
        particles.steer = Steer { on: Some(on), ..Steer::default() };
        particles.meet.only = vec![solid];
        particles
    };
    let beetles = shot.add(swarm("Beetles", on(ball, ball.into())));
    let beads = shot.add(swarm("Beads", on(ring, ball.into())));
    for p in after(&shot, beetles, 30).places {
        assert!((p.length() - 1.01).abs() < 0.02, "{p}");
    }
    for p in after(&shot, beads, 30).places {
        assert!((p.x.hypot(p.z) - 2.0).abs() < 0.01 && p.y.abs() < 1e-3, "{p}");
    }
}

#[test]
fn a_flock_comes_to_go_the_same_way() {
    let order = |flock| {
        let mut shot = bare(100);
        let mut particles = alike(60);
        particles.from = Source::Shape { shape: Shape::cuboid(2.0, 2.0, 2.0), on: shot::BornOn::Volume };
        particles.start.spread_rad = 3.1;
        particles.start.speed_m_s = 1.0;
        particles.steer = Steer { cruise_m_s: Some(1.0), flock, ..Steer::default() };
        let id = shot.add(swarm("Terns", particles));
        let velocities = after(&shot, id, 90).velocities;
        let ways = velocities.iter().map(|v| v.normalize_or_zero());
        (ways.sum::<Vec3>() / velocities.len() as f32).length()
    };
    let flock = shot::Flock { sight_m: 3.0, align: 1.0, ..shot::Flock::default() };
    let (alone, together) = (order(None), order(Some(flock)));
    assert!(alone < 0.4 && together > 0.8, "{alone} {together}");
}

#[test]
fn a_region_says_how_likely_a_place_is_and_the_number_stays() {
    let mut shot = bare(10);
    let region = shot::Region::new(shot::Volume::Ball { radius_m: 0.5 });
    let region = shot.add(Element::new("Spot", Is::Region(region)).at(1.0, 0.0, 0.0));
    let mut particles = alike(400);
    particles.from = Source::Shape { shape: Shape::plane(4.0, 4.0), on: shot::BornOn::Surface };
    particles.births.region = Some(region);
    let id = shot.add(swarm("Dust", particles));
    let places = after(&shot, id, 2).places;
    assert_eq!(places.len(), 400);
    assert!(places.iter().all(|p| p.distance(Vec3::X) <= 0.5));
}

#[test]
fn even_births_lie_further_apart_than_random_ones() {
    let least = |even| {
        let mut shot = bare(10);
        let mut particles = alike(500);
        particles.from = Source::Shape { shape: Shape::plane(2.0, 2.0), on: shot::BornOn::Surface };
        particles.births.even = even;
        let id = shot.add(swarm("Seeds", particles));
        let places = after(&shot, id, 1).places;
        let nearest = |p: &Vec3| {
            places.iter().filter(|q| *q != p).map(|q| q.distance(*p)).fold(f32::INFINITY, f32::min)
        };
        places.iter().map(nearest).sum::<f32>() / places.len() as f32
    };
    // A random field has half the square root of its area each; an even one well more.
    let (random, even) = (least(false), least(true));
    assert!((random / 0.045 - 1.0).abs() < 0.1 && even > 1.25 * random, "{random} {even}");
}

#[test]
fn particles_of_others_are_born_where_those_are() {
    let mut shot = bare(20);
    let mut hosts = alike(5);
    hosts.from = Source::Grid { count: [5, 1, 1], spacing_m: Vec3::splat(1.0) };
    let hosts = shot.add(swarm("Hosts", hosts));
    let mut glow = alike(0);
    (glow.from, glow.births.how) = (Source::Particles { of: hosts }, Often::Rate { per_s: 100.0 });
    let id = shot.add(swarm("Glow", glow));
    let places = after(&shot, id, 12).places;
    assert_eq!(places.len(), 50);
    assert!(places.iter().all(|p| (p.x - p.x.round()).abs() < 1e-4 && p.x.abs() <= 2.0));
}

#[test]
fn the_world_that_stands_still_gives_birth_to_nothing() {
    let mut shot = bare(30);
    shot.physics.time_scale = 0.0;
    let mut particles = alike(0);
    particles.births.how = Often::Rate { per_s: 1000.0 };
    let id = shot.add(swarm("Sparks", particles));
    assert_eq!(after(&shot, id, 20).len(), 0);
    // At a third of the speed a third are born, and they go as far as the world's time.
    shot.physics.time_scale = 1.0 / 3.0;
    assert_eq!(after(&shot, id, 24).len(), 333);
}

/// Particles born on a square metre by an image that is dark on the left and bright on the right.
fn by_image(map: impl Fn(MapOf) -> BirthMap) -> (Shot, Id, geometry::Meshes) {
    let mut shot = bare(4);
    let mut particles = alike(4_000);
    particles.from = Source::Shape { shape: Shape::plane(1.0, 1.0), on: BornOn::Surface };
    particles.births.map = Some(map(MapOf::Image { asset: "ramp".to_owned() }));
    let asset = shot::Asset {
        kind: shot::AssetKind::Image,
        file: "assets/ramp.png".to_owned(),
        sha256: String::new(),
    };
    shot.assets.insert("ramp".to_owned(), asset);
    let id = shot.add(swarm("Dots", particles));
    let rgb = [0.0, 0.0, 0.25, 0.25, 1.0, 1.0, 1.0, 1.0].map(|grey| [grey; 3]).to_vec();
    let image = geometry::Image { width: 8, height: 1, rgb };
    let mut meshes = geometry::Meshes::default();
    meshes.images.insert("ramp".to_owned(), std::sync::Arc::new(image));
    (shot, id, meshes)
}

fn at_first(shot: &Shot, id: Id, meshes: &geometry::Meshes) -> frames::Particles {
    Simulation::new(shot, meshes).unwrap().write().particles.remove(&id).unwrap()
}

#[test]
fn an_image_says_how_likely_a_place_is_and_the_number_stays() {
    let (shot, id, meshes) = by_image(|of| BirthMap { of, dark: false, all_alike: false });
    let born = at_first(&shot, id, &meshes);
    assert_eq!((born.len(), born.weights.len()), (4_000, 4_000));
    // Linear between the pixels' middles, and repeating, all of it weighs 4.5
    // pixels, and what lies right of the first bright middle 3.375.
    let bright = born.places.iter().filter(|p| p.x > 0.0625).count() as f32 / 4_000.0;
    let expected = 3.375 / 4.5;
    assert!((bright - expected).abs() < 0.02, "{bright} {expected}");
    for (place, weight) in born.places.iter().zip(&born.weights) {
        let right = place.x > 0.0625 && place.x < 0.4375;
        assert!(!right || *weight == 1.0, "{place} {weight}");
    }
}

#[test]
fn what_is_dark_can_have_the_weight_or_all_places_be_alike() {
    let (shot, id, meshes) = by_image(|of| BirthMap { of, dark: true, all_alike: false });
    assert!(at_first(&shot, id, &meshes).places.iter().all(|p| p.x < 0.07 || p.x > 0.43));
    let (shot, id, meshes) = by_image(|of| BirthMap { of, dark: false, all_alike: true });
    let alike = at_first(&shot, id, &meshes);
    let right = alike.places.iter().filter(|p| p.x > 0.0).count() as f32 / 4_000.0;
    assert!((right - 0.5).abs() < 0.03, "{right}");
    assert!(alike.weights.iter().any(|w| *w < 0.01) && alike.weights.iter().any(|w| *w > 0.99));
}

#[test]
fn the_colours_of_a_meshs_vertices_are_a_map_that_those_they_become_carry_on() {
    let mut shot = bare(6);
    let mut meshes = geometry::Meshes::default();
    let mut mesh = geometry::primitive::plane(1.0, 1.0);
    mesh.weights = mesh.positions.iter().map(|p| if p.x > 0.0 { 1.0 } else { 0.0 }).collect();
    meshes.by_name.insert("sail".to_owned(), std::sync::Arc::new(mesh));
    let asset = shot::Asset {
        kind: shot::AssetKind::Mesh,
        file: "assets/sail.obj".to_owned(),
        sha256: String::new(),
    };
    shot.assets.insert("sail".to_owned(), asset);
    let later = shot.add(swarm(
        "Later",
        Particles { births: Births { how: Often::Never {}, ..Births::default() }, ..alike(1) },
    ));
    let mut particles = alike(3_000);
    let shape = Shape::Mesh { asset: "sail".to_owned(), scale: 1.0 };
    particles.from = Source::Shape { shape, on: BornOn::Surface };
    particles.births.map = Some(BirthMap { of: MapOf::Vertices {}, dark: false, all_alike: false });
    particles.becoming =
        vec![Becoming { when: When::Age { s: 0.1 }, then: Then::Become { of: later }, share: 1.0 }];
    shot.add(swarm("Motes", particles));
    let mut simulation = Simulation::new(&shot, &meshes).unwrap();
    let mut frame = simulation.write();
    for _ in 0..4 {
        frame = simulation.advance().unwrap();
    }
    let of = &frame.particles[&later];
    assert_eq!(of.len(), 3_000);
    // Births rise linearly with x, so their mean lies two thirds of the way.
    let mean = of.places.iter().map(|p| p.x + 0.5).sum::<f32>() / 3_000.0;
    assert!((mean - 2.0 / 3.0).abs() < 0.015, "{mean}");
    assert!(of.places.iter().zip(&of.weights).all(|(p, w)| (p.x + 0.5 - w).abs() < 1e-4));
}

/// Boxes that come from particles at frame 3 and go back as `when` says.
fn there_and_back(when: When) -> (Shot, Id, Id) {
    let mut shot = bare(60);
    let mut scale = Element::solid("Scale", Shape::cuboid(0.1, 0.1, 0.1), Moves::Free);
    scale.as_solid_mut().unwrap().from_particles = Some(3);
    let solid = shot.add(scale);
    let dust = shot.add(swarm(
        "Dust",
        Particles { births: Births { how: Often::Never {}, ..Births::default() }, ..alike(1) },
    ));
    shot.named_mut("Scale").unwrap().as_solid_mut().unwrap().back = Some(Back { when, of: dust });
    let mut particles = alike(3);
    particles.start =
        Start { speed_m_s: 2.0, spread_rad: 1.0, spin_rad_s: 3.0, size_m: 0.2, ..particles.start };
    particles.body.weight = Weight::MassKg(0.3);
    particles.becoming =
        vec![Becoming { when: When::Frame { frame: 3 }, then: Then::Solid { of: solid }, share: 1.0 }];
    shot.add(swarm("Scales", particles));
    (shot, solid, dust)
}

#[test]
fn bodies_become_particles_again_with_all_they_had() {
    let (shot, solid, dust) = there_and_back(When::Age { s: 0.25 });
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frames: Vec<frames::Frame> = (0..20).map(|_| simulation.advance().unwrap()).collect();
    let (before, later) = (&frames[4], &frames[12]);
    let (bodies, of) = (&before.bodies[&solid], &later.particles[&dust]);
    assert_eq!((bodies.scales.clone(), of.len(), before.particles[&dust].len()), (vec![2.0; 3], 3, 0));
    // Their places among the bodies are kept, without a size.
    assert_eq!(later.bodies[&solid].scales, [0.0; 3]);
    let t = (later.number - before.number) as f32 / 24.0;
    for i in 0..3 {
        assert!(of.velocities[i].distance(bodies.velocities[i]) < 1e-3);
        assert!(of.places[i].distance(bodies.places[i] + bodies.velocities[i] * t) < 2e-3);
        assert!((of.sizes[i] - 0.2).abs() < 1e-5);
        let turn = Quat::from_scaled_axis(bodies.spins[i] * t) * bodies.turns[i];
        assert!(turn.angle_between(of.turns[i]) < 0.02, "{}", turn.angle_between(of.turns[i]));
    }
}

#[test]
fn a_place_among_the_bodies_is_taken_by_the_next_and_what_rested_there_falls() {
    let mut shot = bare(120);
    shot.add(gravity());
    shot.add(plate(0.1));
    let mut block = Element::solid("Block", Shape::cuboid(0.2, 0.2, 0.2), Moves::Free);
    block.as_solid_mut().unwrap().from_particles = Some(1);
    let solid = shot.add(block);
    let dust = shot.add(swarm(
        "Dust",
        Particles { births: Births { how: Often::Never {}, ..Births::default() }, ..alike(1) },
    ));
    let slower = When::Slower { speed_m_s: 0.05 };
    shot.named_mut("Block").unwrap().as_solid_mut().unwrap().back = Some(Back { when: slower, of: dust });
    let lid = shot.add(Element::solid("Lid", Shape::cuboid(0.3, 0.05, 0.3), Moves::Free).at(0.0, 0.4, 0.0));
    let mut particles = alike(2);
    particles.births.how = Often::Number { number: 2 };
    particles.births.to_frame = Some(81);
    particles.start.size_m = 0.2;
    particles.becoming =
        vec![Becoming { when: When::Age { s: 0.0 }, then: Then::Solid { of: solid }, share: 1.0 }];
    shot.add(swarm("Source", particles).at(0.0, 0.2, 0.0));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frames: Vec<frames::Frame> = (0..100).map(|_| simulation.advance().unwrap()).collect();
    let there = |number: usize| &frames[number - 2];
    // The first is born at frame 21, rests under the lid, and is dust by frame 45.
    assert_eq!(there(50).particles[&dust].len(), 1);
    assert_eq!(there(50).bodies[&solid].scales, [0.0]);
    let height = |number: usize| there(number).bodies[&lid].places[0].y;
    assert!(height(58) < height(20) + 0.02, "{} {}", height(20), height(58));
    // The second, at frame 61, takes the same place.
    assert_eq!(there(63).bodies[&solid].scales, [1.0]);
    assert_eq!(there(100).particles[&dust].len(), 2);
}

#[test]
fn a_run_with_bodies_that_went_back_is_resumed_with_the_same_bytes() {
    let (shot, ..) = there_and_back(When::Faster { speed_m_s: 0.5 });
    let mut whole = Simulation::new(&shot, &Default::default()).unwrap();
    (0..6).for_each(|_| whole.go_on().unwrap());
    let mut resumed = Simulation::new(&shot, &Default::default()).unwrap();
    resumed.restore(&whole.save()).unwrap();
    for _ in 0..6 {
        let (a, b) = (whole.advance().unwrap(), resumed.advance().unwrap());
        assert_eq!(frames::encode(&a), frames::encode(&b));
    }
}
