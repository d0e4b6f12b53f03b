//! Particles that become bodies, and bodies that become particles.

use super::*;

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
        angular_speed_rad_s: 3.0,
        orientation_variation: 1.0,
        size_m: 0.2,
        ..particles.start
    };
    particles.events = vec![ParticleEvent {
        trigger: Trigger::Frame { frame: 8 },
        action: Action::Solid { solid },
        probability: 1.0,
    }];
    let id = shot.add(set("Scales", particles));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frames: Vec<frames::Frame> = (0..12).map(|_| simulation.advance().unwrap()).collect();
    let (before, later) = (&frames[5], &frames[9]);
    assert!(before.bodies.get(&solid).is_none_or(|bodies| bodies.is_empty()));
    let bodies = &later.bodies[&solid];
    // Four go over, as many as may; the others stay what they are.
    assert_eq!((bodies.len(), later.particles_of(id).len(), before.particles_of(id).len()), (4, 2, 6));
    assert_eq!(bodies.scales, [2.0; 4]);
    let t = (later.number - before.number) as f32 / 24.0;
    for i in 0..4 {
        let of = before.particles_of(id);
        assert!(bodies.velocities[i].distance(of.velocities[i]) < 0.001 * 2.0);
        assert!(bodies.positions[i].distance(of.positions[i] + of.velocities[i] * t) < 1e-3);
        assert!((bodies.angular_velocities[i].length() - 3.0).abs() < 0.05);
        // Turned on from where it was by its spin.
        let orientation = Quat::from_scaled_axis(bodies.angular_velocities[i] * t) * of.orientations[i];
        assert!(
            orientation.angle_between(bodies.orientations[i]) < 0.01,
            "{}",
            orientation.angle_between(bodies.orientations[i])
        );
    }
}

/// Boxes that come from particles at frame 3 and go back as `when` says.
fn there_and_back(when: Trigger) -> (Shot, Id, Id) {
    let mut shot = bare(60);
    let mut scale = Element::solid("Scale", Shape::cuboid(0.1, 0.1, 0.1), Moves::Free);
    scale.as_solid_mut().unwrap().from_particles = Some(3);
    let solid = shot.add(scale);
    let dust = shot.add(set(
        "Dust",
        Particles {
            emission: Emission { schedule: EmissionSchedule::Never {}, ..Emission::default() },
            ..alike(1)
        },
    ));
    shot.named_mut("Scale").unwrap().as_solid_mut().unwrap().to_particles =
        Some(ToParticles { trigger: when, particles: dust });
    let mut particles = alike(3);
    particles.start =
        Start { speed_m_s: 2.0, spread_rad: 1.0, angular_speed_rad_s: 3.0, size_m: 0.2, ..particles.start };
    particles.body.weight = Weight::MassKg(0.3);
    particles.events = vec![ParticleEvent {
        trigger: Trigger::Frame { frame: 3 },
        action: Action::Solid { solid },
        probability: 1.0,
    }];
    shot.add(set("Scales", particles));
    (shot, solid, dust)
}

#[test]
fn bodies_become_particles_again_with_all_they_had() {
    let (shot, solid, dust) = there_and_back(Trigger::Age { age_s: 0.25 });
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frames: Vec<frames::Frame> = (0..20).map(|_| simulation.advance().unwrap()).collect();
    let (before, later) = (&frames[4], &frames[12]);
    let (bodies, of) = (&before.bodies[&solid], later.particles_of(dust));
    assert_eq!((bodies.scales.clone(), of.len(), before.particles_of(dust).len()), (vec![2.0; 3], 3, 0));
    // Their places among the bodies are kept, without a size.
    assert_eq!(later.bodies[&solid].scales, [0.0; 3]);
    let t = (later.number - before.number) as f32 / 24.0;
    for i in 0..3 {
        assert!(of.velocities[i].distance(bodies.velocities[i]) < 1e-3);
        assert!(of.positions[i].distance(bodies.positions[i] + bodies.velocities[i] * t) < 2e-3);
        assert!((of.sizes[i] - 0.2).abs() < 1e-5);
        let orientation = Quat::from_scaled_axis(bodies.angular_velocities[i] * t) * bodies.orientations[i];
        assert!(
            orientation.angle_between(of.orientations[i]) < 0.02,
            "{}",
            orientation.angle_between(of.orientations[i])
        );
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
    let dust = shot.add(set(
        "Dust",
        Particles {
            emission: Emission { schedule: EmissionSchedule::Never {}, ..Emission::default() },
            ..alike(1)
        },
    ));
    let slower = Trigger::Slower { speed_m_s: 0.05 };
    shot.named_mut("Block").unwrap().as_solid_mut().unwrap().to_particles =
        Some(ToParticles { trigger: slower, particles: dust });
    let lid = shot.add(Element::solid("Lid", Shape::cuboid(0.3, 0.05, 0.3), Moves::Free).at(0.0, 0.4, 0.0));
    let mut particles = alike(2);
    particles.emission.schedule = EmissionSchedule::Total { count: 2 };
    particles.emission.to_frame = Some(81);
    particles.start.size_m = 0.2;
    particles.events = vec![ParticleEvent {
        trigger: Trigger::Age { age_s: 0.0 },
        action: Action::Solid { solid },
        probability: 1.0,
    }];
    shot.add(set("Source", particles).at(0.0, 0.2, 0.0));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frames: Vec<frames::Frame> = (0..100).map(|_| simulation.advance().unwrap()).collect();
    let there = |number: usize| &frames[number - 2];
    // The first is born at frame 21, rests under the lid, and is dust by frame 45.
    assert_eq!(there(50).particles_of(dust).len(), 1);
    assert_eq!(there(50).bodies[&solid].scales, [0.0]);
    let height = |number: usize| there(number).bodies[&lid].positions[0].y;
    assert!(height(58) < height(20) + 0.02, "{} {}", height(20), height(58));
    // The second, at frame 61, takes the same place.
    assert_eq!(there(63).bodies[&solid].scales, [1.0]);
    assert_eq!(there(100).particles_of(dust).len(), 2);
}

#[test]
fn a_run_with_bodies_that_went_back_is_resumed_with_the_same_bytes() {
    let (shot, ..) = there_and_back(Trigger::Faster { speed_m_s: 0.5 });
    let mut whole = Simulation::new(&shot, &Default::default()).unwrap();
    (0..6).for_each(|_| whole.go_on().unwrap());
    let mut resumed = Simulation::restored(&shot, &Default::default(), &whole.save()).unwrap();
    for _ in 0..6 {
        let (a, b) = (whole.advance().unwrap(), resumed.advance().unwrap());
        assert_eq!(frames::encode(&a), frames::encode(&b));
    }
}
