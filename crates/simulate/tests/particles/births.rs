//! How many are born, when and where.

use super::*;

#[test]
fn a_rate_gives_as_many_as_it_says_whatever_the_substeps() {
    for substeps in [1, 3, 8] {
        let mut shot = bare(50);
        shot.physics.substeps = substeps;
        let mut particles = alike(0);
        particles.emission.schedule = EmissionSchedule::Rate { per_s: 240.0 };
        let id = shot.add(set("Seeds", particles));
        assert_eq!(after(&shot, id, 36).len(), 360);
    }
}

#[test]
fn the_air_is_full_at_the_first_frame_after_a_preroll() {
    let mut shot = bare(20);
    shot.add(gravity());
    let mut particles = alike(0);
    particles.emission =
        Emission { schedule: EmissionSchedule::Rate { per_s: 100.0 }, preroll_s: 3.0, ..Emission::default() };
    particles.start.lifespan_s = Some(2.0);
    let id = shot.add(set("Flakes", particles).at(0.0, 30.0, 0.0));
    let first = after(&shot, id, 0);
    assert_eq!(first.len(), 200);
    let lowest = first.positions.iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
    assert!((lowest - (30.0 - 0.5 * 9.81 * 4.0)).abs() < 0.3, "{lowest}");
    assert_eq!(after(&shot, id, 10).len(), 200);
}

#[test]
fn births_are_spread_between_frames_without_clumps() {
    // A stream at a steady speed has its particles at even distances.
    let mut shot = bare(30);
    shot.physics.substeps = 2;
    let mut particles = alike(0);
    particles.emission.schedule = EmissionSchedule::Rate { per_s: 1000.0 };
    particles.start.speed_m_s = 5.0;
    let id = shot.add(set("Stream", particles));
    let ys: Vec<f32> = after(&shot, id, 10).positions.iter().map(|p| p.y).collect();
    for pair in ys.windows(2) {
        assert!((pair[0] - pair[1] - 0.005).abs() < 1e-4, "{pair:?}");
    }
}

#[test]
fn more_than_memory_holds_is_refused_before_it_is_begun() {
    let mut shot = bare(40);
    let mut particles = alike(1);
    particles.emission.schedule = EmissionSchedule::Rate { per_s: 9e6 };
    particles.emission.preroll_s = 500.0;
    shot.add(set("Flood", particles));
    let error = Simulation::new(&shot, &Default::default()).err().unwrap().to_string();
    assert!(error.starts_with("Flood: would have 45"), "{error}");
}

#[rstest]
#[case(Source::Shape { shape: Shape::plane(1.0, 1.0), domain: shot::particles::EmissionDomain::Volume })]
#[case(Source::Solid { solid: Id(1), domain: shot::particles::EmissionDomain::Volume })]
fn nowhere_to_be_born_is_said_so(#[case] from: Source) {
    let mut shot = bare(10);
    shot.add(Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Still));
    shot.add(set("Dust", Particles { source: from, ..alike(5) }));
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
    particles.source = Source::Impacts { bodies: vec![ball.into()], impulse_n_s: 20.0 };
    particles.emission.schedule = EmissionSchedule::Total { count: 30 };
    let id = shot.add(set("Chips", particles));
    assert_eq!(after(&shot, id, 8).len(), 0);
    let chips = after(&shot, id, 14);
    assert!(chips.len() >= 30 && chips.len().is_multiple_of(30), "{}", chips.len());
}

#[test]
fn a_source_that_moves_gives_its_speed_however_seldom_it_gives_birth() {
    for per_s in [3.0, 200.0] {
        let mut shot = bare(48);
        let line =
            shot::curve::Curve::Points { points_m: vec![Vec3::ZERO, Vec3::Z], closed: false, smooth: false };
        let way = shot::motion::Channel::keyed([(1.0, 0.0f32), (49.0, 6.0)]);
        let line = Element::new("Line", ElementKind::Curve(line)).keyed("placement.position_m[0]", way);
        let line = shot.add(line);
        let mut particles = alike(0);
        (particles.source, particles.emission.schedule) =
            (Source::Curve { curve: line }, EmissionSchedule::Rate { per_s });
        let id = shot.add(set("Sparks", particles));
        let born = after(&shot, id, 40);
        assert!(born.len() > 3);
        for velocity in born.velocities {
            assert!(velocity.distance(Vec3::X * 3.0) < 0.02, "{per_s}: {velocity}");
        }
    }
}

#[test]
fn a_region_says_how_likely_a_place_is_and_the_number_stays() {
    let mut shot = bare(10);
    let region = shot::region::Region::new(shot::region::Volume::Sphere { radius_m: 0.5 });
    let region = shot.add(Element::new("Spot", ElementKind::Region(region)).at(1.0, 0.0, 0.0));
    let mut particles = alike(400);
    particles.source =
        Source::Shape { shape: Shape::plane(4.0, 4.0), domain: shot::particles::EmissionDomain::Surface };
    particles.emission.region = Some(region);
    let id = shot.add(set("Dust", particles));
    let positions = after(&shot, id, 2).positions;
    assert_eq!(positions.len(), 400);
    assert!(positions.iter().all(|p| p.distance(Vec3::X) <= 0.5));
}

#[test]
fn even_births_lie_further_apart_than_random_ones() {
    let least = |even| {
        let mut shot = bare(10);
        let mut particles = alike(500);
        particles.source =
            Source::Shape { shape: Shape::plane(2.0, 2.0), domain: shot::particles::EmissionDomain::Surface };
        particles.emission.evenly_spaced = even;
        let id = shot.add(set("Seeds", particles));
        let positions = after(&shot, id, 1).positions;
        let nearest = |p: &Vec3| {
            positions.iter().filter(|q| *q != p).map(|q| q.distance(*p)).fold(f32::INFINITY, f32::min)
        };
        positions.iter().map(nearest).sum::<f32>() / positions.len() as f32
    };
    // A random field has half the square root of its area each; an even one well more.
    let (random, even) = (least(false), least(true));
    assert!((random / 0.045 - 1.0).abs() < 0.1 && even > 1.25 * random, "{random} {even}");
}

#[test]
fn particles_of_others_are_born_where_those_are() {
    let mut shot = bare(20);
    let mut hosts = alike(5);
    hosts.source = Source::Grid { count: [5, 1, 1], spacing_m: Vec3::splat(1.0) };
    let hosts = shot.add(set("Hosts", hosts));
    let mut glow = alike(0);
    (glow.source, glow.emission.schedule) =
        (Source::Particles { particles: hosts }, EmissionSchedule::Rate { per_s: 100.0 });
    let id = shot.add(set("Glow", glow));
    let positions = after(&shot, id, 12).positions;
    assert_eq!(positions.len(), 50);
    assert!(positions.iter().all(|p| (p.x - p.x.round()).abs() < 1e-4 && p.x.abs() <= 2.0));
}

#[test]
fn the_world_that_stands_still_gives_birth_to_nothing() {
    let mut shot = bare(30);
    shot.physics.time_scale = 0.0;
    let mut particles = alike(0);
    particles.emission.schedule = EmissionSchedule::Rate { per_s: 1000.0 };
    let id = shot.add(set("Sparks", particles));
    assert_eq!(after(&shot, id, 20).len(), 0);
    // At a third of the speed a third are born, and they go as far as the world's time.
    shot.physics.time_scale = 1.0 / 3.0;
    assert_eq!(after(&shot, id, 24).len(), 333);
}

#[rstest]
#[case(24.0, 8)]
#[case(60.0, 1)]
#[case(23.976, 5)]
fn the_number_born_in_a_span_is_exact(#[case] fps: f32, #[case] substeps: u32) {
    let mut shot = bare(50);
    (shot.timing.fps, shot.physics.substeps) = (fps, substeps);
    let mut particles = alike(0);
    particles.emission = Emission {
        schedule: EmissionSchedule::Total { count: 997 },
        from_frame: Some(7),
        to_frame: Some(31),
        ..Emission::default()
    };
    let id = shot.add(set("Seeds", particles));
    assert_eq!(after(&shot, id, 6).len(), 0);
    let half = after(&shot, id, 18).len();
    assert!((498..=499).contains(&half), "{half}");
    assert_eq!(after(&shot, id, 30).len(), 997);
    assert_eq!(after(&shot, id, 49).len(), 997);
}
