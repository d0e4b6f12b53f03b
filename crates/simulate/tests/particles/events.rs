//! What becomes of particles.

use super::*;

#[test]
fn a_split_keeps_momentum_when_it_adds_no_speed() {
    let mut shot = bare(20);
    let mut particles = alike(5);
    particles.start = Start { speed_m_s: 3.0, spread_rad: 1.0, ..particles.start };
    let split = Split { count: 7, inherited_velocity: 1.0, speed_m_s: 0.0, ..Split::default() };
    particles.events = vec![ParticleEvent {
        trigger: Trigger::Age { age_s: 0.3 },
        action: Action::Split(split),
        probability: 1.0,
    }];
    particles.body.weight = Weight::MassKg(0.7);
    let id = shot.add(set("Shells", particles));
    let (before, later) = (after(&shot, id, 5), after(&shot, id, 10));
    assert_eq!((before.len(), later.len()), (5, 35));
    let sum = |of: &frames::Particles| of.velocities.iter().sum::<Vec3>();
    assert!((sum(&before) * 0.7).distance(sum(&later) * 0.1) < 1e-4);
    assert!(later.ids.windows(2).all(|pair| pair[0] < pair[1]));
}

#[test]
fn what_becomes_of_itself_without_end_is_stopped_by_name() {
    let mut shot = bare(40);
    let mut particles = alike(10);
    let split = Split { count: 100, stays: true, ..Split::default() };
    particles.events = vec![ParticleEvent {
        trigger: Trigger::Age { age_s: 0.0 },
        action: Action::Split(split),
        probability: 1.0,
    }];
    shot.add(set("Gnats", particles));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let error = (0..30).find_map(|_| simulation.advance().err()).unwrap().to_string();
    assert!(error.contains("Gnats → Gnats") && error.contains("at most 32000000"), "{error}");
}

#[test]
fn trails_are_left_at_their_rate_and_others_become_in_a_region() {
    let mut shot = bare(40);
    let never = Emission { schedule: EmissionSchedule::Never {}, ..Emission::default() };
    let smoke = shot.add(set("Smoke", Particles { emission: never.clone(), ..alike(1) }));
    if let Some(particles) = shot.named_mut("Smoke").unwrap().as_particles_mut() {
        particles.emission = never;
    }
    let region = shot::region::Region::new(shot::region::Volume::Box { size_m: Vec3::splat(1.0) });
    let gate = shot.add(Element::new("Gate", ElementKind::Region(region)).at(0.0, 3.0, 0.0));
    let mut rocket = alike(1);
    rocket.start.speed_m_s = 2.0;
    rocket.events = vec![
        ParticleEvent {
            trigger: Trigger::Age { age_s: 0.0 },
            action: Action::Trail { particles: smoke, per_s: 120.0 },
            probability: 1.0,
        },
        ParticleEvent { trigger: Trigger::Region { region: gate }, action: Action::Die {}, probability: 1.0 },
    ];
    let id = shot.add(set("Rocket", rocket));
    // 24 frames at 5 a frame.
    assert!((118..=121).contains(&after(&shot, smoke, 24).len()));
    assert_eq!((after(&shot, id, 29).len(), after(&shot, id, 32).len()), (1, 0));
}

#[test]
fn those_that_die_on_touch_still_split_by_it() {
    let mut shot = bare(40);
    shot.add(gravity());
    shot.add(plate(0.1));
    let never = Emission { schedule: EmissionSchedule::Never {}, ..Emission::default() };
    let bits = shot.add(set("Bits", Particles { emission: never, ..alike(1) }));
    let mut drops = alike(4);
    drops.source = Source::Grid { count: [4, 1, 1], spacing_m: Vec3::splat(0.3) };
    drops.contact.outcome = ContactOutcome::Die;
    let touch = || Trigger::Touch { bodies: Vec::new(), speed_m_s: 0.0 };
    let split = |count| Action::Split(Split { particles: Some(bits), count, ..Split::default() });
    drops.events = vec![
        ParticleEvent { trigger: touch(), action: split(3), probability: 1.0 },
        ParticleEvent { trigger: touch(), action: split(2), probability: 1.0 },
    ];
    let id = shot.add(set("Drops", drops).at(0.0, 0.5, 0.0));
    assert_eq!((after(&shot, id, 15).len(), after(&shot, bits, 15).len()), (0, 20));
}

#[test]
fn one_that_became_another_becomes_nothing_else() {
    let mut shot = bare(20);
    let never = Emission { schedule: EmissionSchedule::Never {}, ..Emission::default() };
    let [moths, ash] =
        ["Moths", "Ash"].map(|name| shot.add(set(name, Particles { emission: never.clone(), ..alike(1) })));
    let mut eggs = alike(5);
    let at = |action| ParticleEvent { trigger: Trigger::Age { age_s: 0.2 }, action, probability: 1.0 };
    eggs.events = vec![at(Action::Become { particles: moths }), at(Action::Become { particles: ash })];
    let id = shot.add(set("Eggs", eggs));
    assert_eq!([id, moths, ash].map(|id| after(&shot, id, 10).len()), [0, 5, 0]);
}
