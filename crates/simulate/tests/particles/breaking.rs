//! Bodies that break, and what is born of them.

use super::*;

/// A ball of 0.2 m that falls a metre onto a plate, where it has 4.43 m/s, and
/// what is born of it when it breaks.
fn falling(breaking_impulse_n_s: Option<f32>, number: u32) -> (Shot, Id, Id) {
    let mut shot = bare(40);
    shot.add(gravity());
    shot.add(plate(0.1).at(0.0, -0.05, 0.0));
    let mut ball = Element::solid("Ball", Shape::sphere(0.2), Moves::Free).at(0.0, 1.2, 0.0);
    let body = &mut ball.as_solid_mut().unwrap().body;
    (body.weight, body.breaking_impulse_n_s) = (Weight::MassKg(2.0), breaking_impulse_n_s);
    let ball = shot.add(ball);
    let mut particles = alike(number);
    particles.source = Source::Broken { solid: ball, domain: EmissionDomain::Volume };
    particles.start = Start { size_m: 0.01, ..particles.start };
    let bits = shot.add(set("Bits", particles));
    (shot, ball, bits)
}

fn frames_of(shot: &Shot, count: u32) -> Vec<frames::Frame> {
    let mut simulation = Simulation::new(shot, &Default::default()).unwrap();
    (0..count).map(|_| simulation.advance().unwrap()).collect()
}

/// The impulse that stops it is m v = 8.9 N s.
#[rstest]
#[case(Some(6.0), true)]
#[case(Some(14.0), false)]
#[case(None, false)]
fn a_body_breaks_when_a_hit_is_greater_than_it_bears(#[case] bears: Option<f32>, #[case] breaks: bool) {
    let (shot, ball, bits) = falling(bears, 50);
    let frames = frames_of(&shot, 20);
    // It falls for √(2 · 1 / 9.81) s, 10.8 frames.
    assert_eq!(frames[9].particles_of(bits).len(), 0);
    let last = frames.last().unwrap();
    assert_eq!(last.particles_of(bits).len(), if breaks { 50 } else { 0 });
    let scales = &last.bodies[&ball].scales;
    assert_eq!(
        *scales,
        if breaks {
            vec![0.0]
        } else if bears.is_some() {
            vec![1.0]
        } else {
            vec![]
        }
    );
    assert_eq!(last.bodies[&ball].len(), 1, "it keeps its place");
}

#[test]
fn what_is_born_is_inside_the_broken_body_and_has_its_motion() {
    let (mut shot, ball, bits) = falling(Some(2.0), 400);
    // A plate of glass across its way, which breaks and leaves it most of its speed.
    let mut glass = Element::solid("Glass", Shape::cuboid(0.5, 0.01, 0.5), Moves::Free).at(0.0, 0.5, 0.0);
    let body = &mut glass.as_solid_mut().unwrap().body;
    (body.weight, body.breaking_impulse_n_s) = (Weight::MassKg(0.5), Some(0.5));
    body.wake = Some(shot::Wake::Touch { impulse_n_s: 0.0 });
    let glass = shot.add(glass);
    shot.named_mut("Bits").unwrap().as_particles_mut().unwrap().source =
        Source::Broken { solid: glass, domain: EmissionDomain::Volume };
    let frames = frames_of(&shot, 12);
    let first = frames.iter().find(|frame| !frame.particles_of(bits).is_empty()).unwrap();
    let born = first.particles_of(bits);
    assert_eq!(born.len(), 400);
    // It went through √(2 · 0.5 · 9.81) = 3.1 m/s; the two fraction that by their masses.
    let mean = born.velocities.iter().sum::<Vec3>() / 400.0;
    assert!((-3.1..-1.5).contains(&mean.y), "{mean}");
    let middle = born.positions.iter().sum::<Vec3>() / 400.0;
    for position in &born.positions {
        let from = (*position - middle).abs();
        assert!(from.x < 0.3 && from.z < 0.3 && from.y < 0.05, "{position}");
    }
    assert!(first.bodies[&ball].velocities[0].y < -1.5, "the ball goes on");
}

#[test]
fn each_of_many_breaks_by_itself_and_what_stood_on_it_falls() {
    let (mut shot, _, bits) = falling(Some(6.0), 10);
    let solid = shot.named_mut("Ball").unwrap().as_solid_mut().unwrap();
    solid.copies = Some(shot::Copies {
        count: [3, 1, 1],
        spacing_m: Vec3::X,
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 0,
    });
    // One comes down on a block, before the others come to the plate.
    shot.add(Element::solid("Block", Shape::cuboid(0.6, 0.6, 0.6), Moves::Still).at(-1.0, 0.3, 0.0));
    let frames = frames_of(&shot, 30);
    let counts: Vec<usize> = frames.iter().map(|frame| frame.particles_of(bits).len()).collect();
    let mut steps: Vec<usize> = counts.clone();
    steps.dedup();
    assert_eq!(steps, [0, 10, 30], "{counts:?}");
}

#[test]
fn births_are_only_in_their_frames_and_a_resumed_run_has_the_same_bytes() {
    let (mut shot, _, bits) = falling(Some(6.0), 10);
    let births = &mut shot.named_mut("Bits").unwrap().as_particles_mut().unwrap().emission;
    births.to_frame = Some(5);
    assert_eq!(after(&shot, bits, 20).len(), 0);
    let (shot, ..) = falling(Some(6.0), 10);
    let whole: Vec<Vec<u8>> = frames_of(&shot, 24).iter().map(frames::encode).collect();
    for at in [8, 11, 12, 15] {
        let mut first = Simulation::new(&shot, &Default::default()).unwrap();
        (0..at).for_each(|_| drop(first.advance().unwrap()));
        let mut second = Simulation::restored(&shot, &Default::default(), &first.save()).unwrap();
        let rest: Vec<Vec<u8>> = (at..24).map(|_| frames::encode(&second.advance().unwrap())).collect();
        assert!(rest == whole[at..], "from frame {at}");
    }
}
