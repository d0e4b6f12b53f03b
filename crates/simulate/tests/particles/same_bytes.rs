//! The same bytes, whatever the threads and wherever a bake was resumed.

use super::*;

/// Sparks that bounce, split and die: the whole of it.
fn busy() -> Shot {
    let mut shot = bare(40);
    shot.add(gravity());
    shot.add(plate(0.1));
    let mut sparks = Particles::default();
    sparks.emission.schedule = EmissionSchedule::Rate { per_s: 3_000.0 };
    sparks.contact.outcome = ContactOutcome::Stick;
    sparks.contact.probability = 0.3;
    sparks.appearance.form = Form::Disc;
    sparks.start.angular_speed_rad_s = 4.0;
    let bits = shot.add(set(
        "Bits",
        Particles {
            emission: Emission { schedule: EmissionSchedule::Never {}, ..Emission::default() },
            ..Particles::default()
        },
    ));
    let split = Split { particles: Some(bits), count: 3, ..Split::default() };
    sparks.events = vec![ParticleEvent {
        trigger: Trigger::Touch { bodies: Vec::new(), speed_m_s: 0.5 },
        action: Action::Split(split),
        probability: 0.5,
    }];
    shot.add(set("Sparks", sparks).at(0.0, 0.6, 0.0));
    shot
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
    let mut resumed = Simulation::restored(&shot, &Default::default(), &state).unwrap();
    for _ in 0..10 {
        assert!(frames::encode(&whole.advance().unwrap()) == frames::encode(&resumed.advance().unwrap()));
    }
}
