//! What becomes of particles.

use super::*;

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
