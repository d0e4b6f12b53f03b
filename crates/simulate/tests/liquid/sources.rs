//! Where liquid comes from, and how much.

use super::*;
use rstest::rstest;
use shot::motion::Channel;
use simulate::PrepareError;

/// The particles of an element after so many frames.
fn after(shot: &Shot, id: Id, frames: u32) -> frames::Particles {
    let mut simulation = Simulation::new(shot, &Default::default()).unwrap();
    let mut frame = simulation.write();
    for _ in 0..frames {
        frame = simulation.advance().unwrap();
    }
    frame.particles.remove(&id).unwrap_or_default()
}

fn of_spacing(spacing_m: f32) -> Liquid {
    Liquid { spacing_m, ..Liquid::default() }
}

#[rstest]
#[case(Shape::sphere(0.1), 4.0 / 3.0 * std::f32::consts::PI * 0.001)]
#[case(Shape::cuboid(0.3, 0.1, 0.2), 0.006)]
#[case(Shape::Cylinder { radius_m: 0.1, height_m: 0.2 }, std::f32::consts::PI * 0.002)]
fn a_closed_shape_is_filled_by_its_volume(#[case] shape: Shape, #[case] volume: f32) {
    for spacing in [0.02, 0.012] {
        let mut shot = bare(4);
        let id =
            shot.add(element("Drop", liquid(of_spacing(spacing), shape.clone(), EmissionSchedule::Fill {})));
        let count = after(&shot, id, 1).len() as f32;
        assert!((count * spacing.powi(3) / volume - 1.0).abs() < 0.06, "{count} at {spacing}");
    }
}

#[test]
fn the_bodies_of_a_solid_are_filled_one_and_all_and_are_no_wall_to_their_liquid() {
    let mut shot = bare(12);
    let mut figure = Element::solid("Figure", Shape::cuboid(0.2, 0.2, 0.2), Moves::Still);
    figure.as_solid_mut().unwrap().copies = Some(shot::Copies {
        count: [2, 1, 1],
        spacing_m: Vec3::new(0.6, 1.0, 1.0),
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 1,
    });
    let figure = shot.add(figure.at(0.0, 1.0, 0.0));
    let mut melts = liquid(of_spacing(0.02), Shape::sphere(0.1), EmissionSchedule::Fill {});
    melts.source = Source::Solid { solid: figure, domain: EmissionDomain::Surface };
    let id = shot.add(element("Wax", melts));
    let first = after(&shot, id, 1);
    assert!((first.len() as f32 / 2_000.0 - 1.0).abs() < 0.04, "{}", first.len());
    let left = first.positions.iter().filter(|x| x.x < 0.0).count();
    assert!((left as f32 / 1_000.0 - 1.0).abs() < 0.04, "{left}");
    // It falls out of them.
    let later = after(&shot, id, 12);
    let fallen = 0.5 * 9.81 * (12.0f32 / 24.0).powi(2);
    let mean = later.positions.iter().map(|x| x.y).sum::<f32>() / later.len() as f32;
    assert!((1.0 - mean - fallen).abs() < 0.08, "{mean}");
}

#[test]
fn there_is_no_liquid_within_other_bodies() {
    let mut shot = bare(4);
    shot.add(Element::solid("Stone", Shape::cuboid(0.2, 0.4, 0.4), Moves::Still).at(0.1, 0.0, 0.0));
    let block = liquid(of_spacing(0.02), Shape::cuboid(0.4, 0.2, 0.2), EmissionSchedule::Fill {});
    let id = shot.add(element("Water", block));
    let particles = after(&shot, id, 1);
    assert!((particles.len() as f32 / 1_000.0 - 1.0).abs() < 0.05, "{}", particles.len());
    assert!(particles.positions.iter().all(|x| x.x < 1e-3));
}

#[test]
fn a_flow_gives_its_volume_whatever_the_spacing_at_the_speed_of_its_area() {
    for spacing in [0.02, 0.01] {
        let mut shot = bare(13);
        let nozzle =
            liquid(of_spacing(spacing), Shape::plane(0.1, 0.1), EmissionSchedule::Flow { m3_s: 0.005 });
        let id = shot.add(element("Spout", nozzle));
        shot.elements.retain(|element| element.name != "Gravity");
        let particles = after(&shot, id, 12);
        let volume = particles.len() as f32 * spacing.powi(3);
        assert!((volume / (0.005 * 0.5) - 1.0).abs() < 0.01, "{volume}");
        // 5 l/s through 0.01 m².
        let mean = particles.velocities.iter().map(|v| v.y).sum::<f32>() / particles.len() as f32;
        assert!((mean - 0.5).abs() < 0.05, "{mean}");
    }
}

#[test]
fn a_jet_gives_its_speed_times_its_area_also_keyed() {
    let mut shot = bare(25);
    let mut jet = liquid(of_spacing(0.02), Shape::plane(0.1, 0.2), EmissionSchedule::Jet {});
    jet.start.speed_m_s = 1.0;
    let steady = shot.add(element("Steady", jet.clone()).at(2.0, 0.0, 0.0));
    let path = "kind.particles.start.speed_m_s";
    let rising = element("Rising", jet).keyed(path, Channel::keyed([(1.0, 0.0f32), (25.0, 2.0)]));
    let rising = shot.add(rising);
    for id in [steady, rising] {
        let volume = after(&shot, id, 24).len() as f32 * 0.02f32.powi(3);
        // In the mean 1 m/s for 1 s.
        assert!((volume / 0.02 - 1.0).abs() < 0.02, "{volume}");
    }
}

#[test]
fn a_span_of_frames_limits_a_jet() {
    let mut shot = bare(24);
    let mut jet = liquid(of_spacing(0.02), Shape::plane(0.1, 0.1), EmissionSchedule::Jet {});
    jet.start.speed_m_s = 1.0;
    (jet.emission.from_frame, jet.emission.to_frame) = (Some(7), Some(13));
    let id = shot.add(element("Jet", jet));
    assert_eq!(after(&shot, id, 5).len(), 0);
    let volume = after(&shot, id, 23).len() as f32 * 0.02f32.powi(3);
    assert!((volume / (0.01 * 0.25) - 1.0).abs() < 0.02, "{volume}");
}

#[test]
fn what_is_open_or_too_fine_is_refused_before_anything_is_allocated() {
    let refused = |shape: Shape, spacing: f32| {
        let mut shot = bare(4);
        shot.add(element("Drop", liquid(of_spacing(spacing), shape, EmissionSchedule::Fill {})));
        Simulation::new(&shot, &Default::default()).err().expect("it is refused")
    };
    assert!(matches!(refused(Shape::plane(1.0, 1.0), 0.02), PrepareError::NoPlace { .. }));
    match refused(Shape::cuboid(10.0, 10.0, 10.0), 0.001) {
        PrepareError::TooMuch { what, .. } => {
            assert!(what.contains("particles at once") && what.contains("GB"), "{what}")
        }
        other => panic!("{other}"),
    }
}

#[test]
fn what_begins_from_a_frame_is_not_filled_again() {
    let mut shot = bare(8);
    let id =
        shot.add(element("Drop", liquid(of_spacing(0.02), Shape::sphere(0.1), EmissionSchedule::Fill {})));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    (0..4).for_each(|_| drop(simulation.advance().unwrap()));
    let frame = simulation.write();
    let before = frame.particles[&id].len();
    let sha256 = "0".repeat(64);
    let asset =
        shot::Asset { kind: shot::AssetKind::Frame, file: format!("assets/{sha256}.brframe"), sha256 };
    shot.assets.insert("frame".to_owned(), asset);
    shot.initial_state = Some(shot::InitialState { asset: "frame".to_owned(), velocities: true });
    let systems: Vec<_> = shot.systems().iter().map(|system| system.id).collect();
    let mut again = Simulation::of(&shot, &Default::default(), &systems, Some(&frame)).unwrap();
    let after = again.advance().unwrap();
    assert_eq!(after.particles[&id].len(), before);
}

#[test]
fn a_pool_fills_what_stands_around_it_up_to_its_height_and_an_open_place_is_refused() {
    let mut shot = bare(24);
    basin(&mut shot, Vec3::new(0.4, 0.4, 0.3));
    let mut water = liquid(of_spacing(0.02), Shape::sphere(0.1), EmissionSchedule::Fill {});
    water.source = Source::Pool {};
    let id = shot.add(element("Water", water).at(0.1, 0.17, -0.05));
    let first = after(&shot, id, 1);
    let exact = 0.4 * 0.3 * 0.17 / 0.02f32.powi(3);
    assert!((first.len() as f32 / exact - 1.0).abs() < 0.05, "{} of {exact}", first.len());
    // It lies still.
    let later = after(&shot, id, 24);
    let speed = later.velocities.iter().map(|v| v.length()).sum::<f32>() / later.len() as f32;
    assert!(later.len() == first.len() && speed < 0.05, "{speed}");
    shot.named_mut("Water").unwrap().placement.position_m.y = 0.5;
    let Err(why) = Simulation::new(&shot, &Default::default()) else { panic!("it is not closed") };
    assert!(why.to_string().contains("Water: the pool runs out at"), "{why}");
}

#[test]
fn what_fills_a_shape_carries_the_uvs_of_its_surface() {
    let mut shot = bare(4);
    let mut ball = liquid(of_spacing(0.02), Shape::sphere(0.1), EmissionSchedule::Fill {});
    ball.emission.carries_uv = true;
    let id = shot.add(element("Ball", ball));
    let frame = after(&shot, id, 2);
    assert_eq!(frame.uvs.len(), frame.len());
    let (low, high) =
        frame.uvs.iter().fold((2.0f32, -2.0f32), |(low, high), uv| (low.min(uv.x), high.max(uv.x)));
    assert!(low < 0.1 && high > 0.9, "{low} to {high}");
}

#[test]
fn grains_that_touch_a_plate_become_a_liquid_of_its_own_spacing_and_mass() {
    let mut shot = bare(24);
    let plate = Element::solid("Plate", Shape::cuboid(1.0, 0.1, 1.0), Moves::Still);
    shot.add(plate.at(0.0, -0.05, 0.0));
    let mut melt = liquid(of_spacing(0.02), Shape::sphere(0.1), EmissionSchedule::Fill {});
    melt.emission.schedule = EmissionSchedule::Never {};
    let melt = shot.add(element("Melt", melt));
    let source = Source::Grid { count: [4, 1, 4], spacing_m: Vec3::splat(0.1) };
    let mut grains = Particles { source, ..Particles::default() };
    grains.emission.schedule = EmissionSchedule::Burst { count: 16 };
    (grains.start.speed_m_s, grains.start.size_m, grains.start.lifespan_s) = (0.0, 0.05, None);
    grains.events.push(shot::particles::ParticleEvent {
        trigger: shot::particles::Trigger::Touch { bodies: Vec::new(), speed_m_s: 0.0 },
        action: shot::particles::Action::Become { particles: melt },
        probability: 1.0,
    });
    let grains = shot.add(element("Grains", grains).at(0.0, 0.3, 0.0));
    assert_eq!(after(&shot, grains, 24).len(), 0);
    let melted = after(&shot, melt, 24);
    assert!(melted.len() == 16 && melted.sizes.iter().all(|size| *size == 0.02), "{:?}", melted.sizes);
}

#[test]
fn a_pool_is_stale_when_its_vessel_moves_though_it_pushes_nothing() {
    let mut shot = bare(4);
    basin(&mut shot, Vec3::new(0.4, 0.4, 0.3));
    let mut water = liquid(Liquid::default(), Shape::sphere(0.1), EmissionSchedule::Fill {});
    (water.source, water.contact.push) = (Source::Pool {}, false);
    let id = shot.add(element("Water", water).at(0.0, 0.1, 0.0));
    let prints = |shot: &Shot| {
        let all = shot::fingerprint::system_fingerprints(shot);
        all.into_iter().find(|of| of.system == shot::SystemId::Particles(id)).unwrap().list
    };
    let before = prints(&shot);
    shot.elements.iter_mut().find(|element| element.name == "Floor").unwrap().placement.position_m.y -= 0.02;
    assert!(prints(&shot).iter().zip(&before).all(|(now, then)| now != then));
}

/// What flies alone takes one step a substep, in which it passes a dozen cells.
#[rstest]
#[case::water(1e-3)]
#[case::pitch(1_300.0)]
fn a_speck_that_flies_alone_falls_freely_however_far_in_a_step(#[case] viscosity_pa_s: f32) {
    let mut shot = bare(20);
    shot.physics.substeps = 1;
    let of = Liquid { spacing_m: 0.01, viscosity_pa_s, ..Liquid::default() };
    let speck = liquid(of, Shape::cuboid(0.02, 0.02, 0.02), EmissionSchedule::Fill {});
    let speck = shot.add(element("Speck", speck).at(0.31, 5.0, -0.72));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frame = (0..19).map(|_| simulation.advance().unwrap()).last().unwrap();
    let particles = frame.particles_of(speck);
    let (time, dt) = (frame.time_s as f32, frame.time_s as f32 / 19.0);
    assert!(9.81 * time * dt > 12.0 * 0.02, "{time}");
    for (position, velocity) in particles.positions.iter().zip(&particles.velocities) {
        assert!((velocity.y + 9.81 * time).abs() < 0.01 * 9.81 * time, "{velocity}");
        // By velocities at the ends of steps: half a step of g t further than g t² / 2.
        let fallen = 0.5 * 9.81 * time * (time + dt);
        assert!((position.y - 5.0 + fallen).abs() < 0.011 + 0.01 * fallen, "{position}");
    }
}
