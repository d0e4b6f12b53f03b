//! Shots that go round: all that acts has the declared period, and a bake stops when the
//! state has met itself.

use frames::finish::Rounds;
use frames::{Frame, RunFolder, RunFrames};
use geometry::Meshes;
use glam::Vec3;
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot,
    force::{Attract, Force, ForceKind, Push, Turbulence, Wind},
    motion::Channel,
    particles::{Emission, EmissionSchedule, Particles, Start},
};
use simulate::{Bake, Cancel, Outcome, Simulation, bake_rounds};
use std::ops::ControlFlow;

const ROUND: u32 = 24;

/// Dust in turbulence, gusts and an attractor that is keyed, in air without gravity.
fn windy(schedule: EmissionSchedule, preroll_s: f32) -> (Shot, Id) {
    let mut shot = Shot::empty("Round");
    shot.timing.last = 4 * ROUND + 1;
    shot.timing.loop_frames = Some(ROUND);
    let force = |kind| ElementKind::Force(Force::new(kind));
    let push = Push::default();
    let turbulence =
        Turbulence { speed_m_s: 2.0, drift_m_s: Vec3::X, change_s: 0.7, push, ..Turbulence::default() };
    shot.add(Element::new("Eddies", force(ForceKind::Turbulence(turbulence))));
    let wind = Wind { speed_m_s: 1.0, gust: 0.8, gust_s: 0.4, eddy: 0.4, push, ..Wind::default() };
    shot.add(Element::new("Gusts", force(ForceKind::Wind(wind))));
    let attract = Element::new("Lead", force(ForceKind::Attract(Attract::default())));
    let way = Channel::keyed([(1.0, Vec3::ZERO), (9.0, Vec3::Y), (17.0, Vec3::X)]);
    shot.add(attract.keyed("placement.position_m", way));
    let particles = Particles {
        emission: Emission { schedule, preroll_s, ..Emission::default() },
        start: Start { lifespan_s: Some(0.6), speed_m_s: 0.3, ..Start::default() },
        ..Particles::default()
    };
    let dust = shot.add(Element::new("Dust", ElementKind::Particles(particles)));
    assert_eq!(shot.faults(), []);
    (shot, dust)
}

fn frames(shot: &Shot, count: u32) -> Vec<Frame> {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut list = vec![simulation.write()];
    for _ in 1..count {
        simulation.go_on().unwrap();
        list.push(simulation.write());
    }
    list
}

#[rstest::rstest]
#[case(EmissionSchedule::Rate { per_s: 211.0 }, 0.0)]
#[case(EmissionSchedule::Total { count: 57 }, 0.0)]
#[case(EmissionSchedule::Burst { count: 40 }, 0.0)]
#[case(EmissionSchedule::Rate { per_s: 90.0 }, 1.5)]
fn every_round_is_as_the_one_before(#[case] schedule: EmissionSchedule, #[case] preroll_s: f32) {
    let (shot, dust) = windy(schedule, preroll_s);
    let list = frames(&shot, 3 * ROUND + 1);
    // Particles live for less than a round: from the second on all is the same.
    let begin = if preroll_s > 0.0 { 0 } else { ROUND as usize };
    for i in begin..=2 * ROUND as usize {
        let (a, b) = (list[i].particles_of(dust), list[i + ROUND as usize].particles_of(dust));
        assert_eq!(a.len(), b.len(), "frame {i}");
        let far = a.positions.iter().zip(&b.positions).map(|(a, b)| a.distance(*b)).fold(0.0, f32::max);
        assert!(far < 2e-5, "frame {i}: {far} m of {} particles", a.len());
    }
    assert!(list[2 * ROUND as usize].particles_of(dust).len() > 20);
}

#[test]
fn a_key_that_is_moved_does_not_change_the_period_and_other_lengths_are_refused() {
    let (mut shot, _) = windy(EmissionSchedule::Never {}, 0.0);
    for (frames, wrong) in [(1, true), (2, false), (97, false), (98, true)] {
        shot.timing.loop_frames = Some(frames);
        assert_eq!(shot.faults().iter().any(|fault| fault.path == "timing.loop_frames"), wrong, "{frames}");
    }
    shot.timing.loop_frames = Some(24);
    shot.physics.time_scale = 0.5;
    assert!(shot.faults()[0].message.contains("time scale of 1"));
}

fn baked(shot: &Shot, run: &RunFolder) -> Outcome {
    let meshes = Meshes::default();
    let frames = shot.timing.frames();
    let job = Bake { shot, meshes: &meshes, run, revision: 1, frames, systems: None, initial_state: None };
    bake_rounds(&job, &Rounds::default(), &Cancel::default(), |_| ControlFlow::Continue(())).unwrap()
}

#[test]
fn a_bake_stops_when_the_state_meets_itself_and_has_nothing_more_to_do() {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    let (shot, _) = windy(EmissionSchedule::Rate { per_s: 211.0 }, 0.0);
    // The first round begins without particles; the second ends as it began.
    assert_eq!(baked(&shot, &run), Outcome::Closed(1 + 2 * ROUND));
    assert!(run.headers().len() + run.systems().len() > 0);
    let rounds = Rounds::default().of(&RunFrames::of(run.clone(), &shot), 1, ROUND).unwrap();
    assert_eq!(rounds.len(), 2);
    assert!(!rounds[0].closes() && rounds[1].closes(), "{rounds:?}");
    assert_eq!(rounds[1].from_frame, 1 + ROUND);
    assert_eq!(baked(&shot, &run), Outcome::Done(0));
}

#[test]
fn a_body_that_falls_away_never_closes() {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    let (mut shot, _) = windy(EmissionSchedule::Never {}, 0.0);
    let mut ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Free);
    ball.as_solid_mut().unwrap().body.launch_velocity = Some(Vec3::Y * 5.0);
    let ball = shot.add(ball);
    let down = ForceKind::Gravity { acceleration: Vec3::NEG_Y * 9.81 };
    shot.add(Element::new("Down", ElementKind::Force(Force::new(down))));
    assert!(matches!(baked(&shot, &run), Outcome::Done(_)));
    let rounds = Rounds::default().of(&RunFrames::of(run, &shot), 1, ROUND).unwrap();
    assert_eq!(rounds.len(), 4);
    assert!(rounds.iter().all(|round| !round.closes() && round.unreturned.contains(&ball)));
}
