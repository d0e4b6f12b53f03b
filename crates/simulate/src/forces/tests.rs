//! What forces do to points, against closed forms.

use super::*;
use geometry::Meshes;
use rstest::rstest;
use shot::force::{Attract, Push};
use shot::{
    Moves, Shape,
    force::{Turbulence, Vortex, Wind},
    motion::Sampler,
    region::{Combine, Part, Profile, Region, Volume},
};

fn unsolved(_: Id, _: f64) -> Option<shot::world::Pose> {
    None
}

fn bare() -> Shot {
    let mut shot = Shot::empty("Forces");
    shot.elements.clear();
    shot.camera = None;
    shot
}

fn with(kind: ForceKind) -> Shot {
    let mut shot = bare();
    shot.add(Element::new("Force", ElementKind::Force(Force::new(kind))));
    shot
}

fn field_at(shot: &Shot, seconds: f64) -> Field {
    let sampler = Sampler::new(shot).unwrap();
    let world = World::new(shot, &sampler, 1.0, &unsolved);
    Field::new(shot, &world, &Surfaces::of(shot, &Meshes::default()), 1.0, seconds)
}

/// The acceleration of a point of 1 kg and 1 m² at rest.
fn acceleration(shot: &Shot, position: Vec3) -> Vec3 {
    let mut velocities = [Vec3::ZERO];
    let dt = 1e-4;
    field_at(shot, 0.0).push(
        Id(99),
        &mut Points {
            positions: &[position],
            velocities: &mut velocities,
            inverse_masses: &[1.0],
            drag_areas: &[1.0],
        },
        dt,
    );
    velocities[0] / dt
}

fn weight_of(region: Region, at: Vec3) -> f32 {
    let mut shot = with(ForceKind::Gravity { acceleration: Vec3::X });
    let id = shot.add(Element::new("Region", ElementKind::Region(region)));
    limit(&mut shot, id);
    acceleration(&shot, at).x
}

fn limit(shot: &mut Shot, region: Id) {
    let ElementKind::Force(force) = &mut shot.named_mut("Force").unwrap().kind else { panic!() };
    force.region = Some(region);
}

#[test]
fn a_fall_against_drag_follows_the_hyperbolic_tangent() {
    // v = v∞ tanh(g t / v∞) with v∞ = √(2 m g / ρ C A).
    let mut shot = with(ForceKind::Drag { linear_n_s_m: 0.0, density_kg_m3: 1.2 });
    shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
    let (mass, area) = (0.2f32, 0.05f32);
    let field = field_at(&shot, 0.0);
    let terminal = (2.0 * mass * 9.81 / (1.2 * area)).sqrt();
    let (mut v, dt) = ([Vec3::ZERO], 1.0 / 192.0);
    for step in 1..=1920 {
        let mut points = Points {
            positions: &[Vec3::ZERO],
            velocities: &mut v,
            inverse_masses: &[1.0 / mass],
            drag_areas: &[area],
        };
        field.push(Id(99), &mut points, dt);
        let t = step as f32 * dt;
        if step % 96 == 0 {
            let expected = terminal * (9.81 * t / terminal).tanh();
            assert!((-v[0].y / expected - 1.0).abs() < 0.01, "{} {expected} at {t} s", v[0].y);
        }
    }
    assert!((-v[0].y / terminal - 1.0).abs() < 0.01);
}

#[test]
fn linear_drag_decays_exponentially() {
    let field = field_at(&with(ForceKind::Drag { linear_n_s_m: 3.0, density_kg_m3: 0.0 }), 0.0);
    let mut v = [Vec3::new(4.0, 0.0, 0.0)];
    for _ in 0..100 {
        field.push(
            Id(1),
            &mut Points {
                positions: &[Vec3::ZERO],
                velocities: &mut v,
                inverse_masses: &[0.5],
                drag_areas: &[1.0],
            },
            0.01,
        );
    }
    assert!((v[0].x - 4.0 * (-1.5f32).exp()).abs() < 1e-4);
}

#[test]
fn wind_never_drives_a_leaf_faster_than_itself() {
    let wind = Wind { speed_m_s: 30.0, gust: 0.0, eddy: 0.0, ..Wind::default() };
    let field = field_at(&with(ForceKind::Wind(wind)), 0.0);
    let mut v = [Vec3::ZERO];
    for _ in 0..20 {
        let mut points = Points {
            positions: &[Vec3::ZERO],
            velocities: &mut v,
            inverse_masses: &[1e5],
            drag_areas: &[1.0],
        };
        field.push(Id(1), &mut points, 0.04);
        assert!(v[0].length() <= 30.0 + 1e-3 && v[0].is_finite());
    }
    // Along −y, as the element is unturned.
    assert!(v[0].y < -29.9);
}

#[rstest]
#[case(0.0, 5.0)]
#[case(1.0, 10.0)]
#[case(-2.0, 1.25)]
fn an_attractor_goes_with_the_power_of_distance(#[case] power: f32, #[case] expected: f32) {
    let attract = Attract { acceleration: 5.0, power, ..Attract::default() };
    let a = acceleration(&with(ForceKind::Attract(attract)), Vec3::new(0.0, 0.0, 2.0));
    assert!((a.z + expected).abs() < 1e-3 * expected && a.truncate().length() < 1e-4, "{a}");
}

#[test]
fn an_attractor_gives_a_finite_pull_at_its_own_place() {
    for power in [-4.0, -2.0, 0.0, 3.0] {
        let attract = Attract { power, ..Attract::default() };
        let shot = with(ForceKind::Attract(attract));
        assert_eq!(acceleration(&shot, Vec3::ZERO), Vec3::ZERO);
        assert!(acceleration(&shot, Vec3::splat(1e-20)).is_finite());
        assert!(acceleration(&shot, Vec3::splat(1e-3)).is_finite());
    }
}

#[test]
fn a_range_ends_softly() {
    let attract = Attract { acceleration: 5.0, range_m: Some(2.0), ..Attract::default() };
    let shot = with(ForceKind::Attract(attract));
    let at = |x: f32| acceleration(&shot, Vec3::new(x, 0.0, 0.0)).x.abs();
    assert!((at(1.5) - 5.0).abs() < 0.01 && at(1.9) < 4.0 && at(1.999) < 0.01 && at(2.1) == 0.0);
}

#[test]
fn curves_and_surfaces_attract_to_their_nearest_point() {
    let mut shot = bare();
    let line = shot.add(Element::new(
        "Line",
        ElementKind::Curve(Curve::Points {
            points_m: vec![Vec3::ZERO, Vec3::new(4.0, 0.0, 0.0)],
            closed: false,
            smooth: false,
        }),
    ));
    let wall =
        shot.add(Element::solid("Wall", Shape::cuboid(1.0, 1.0, 1.0), Moves::Still).at(0.0, 0.0, -3.0));
    let to = |id| Attract { acceleration: 1.0, target: Some(id), ..Attract::default() };
    let id = shot.add(Element::new("Force", ElementKind::Force(Force::new(ForceKind::Attract(to(line))))));
    assert!(acceleration(&shot, Vec3::new(3.0, 2.0, 0.0)).distance(Vec3::NEG_Y) < 1e-3);
    let force = shot.elements.iter_mut().find(|e| e.id == id).unwrap();
    force.kind = ElementKind::Force(Force::new(ForceKind::Attract(to(wall))));
    assert!(acceleration(&shot, Vec3::new(0.2, 0.1, 2.0)).distance(Vec3::NEG_Z) < 1e-3);
}

#[test]
fn a_vortex_is_rankines() {
    let vortex =
        Vortex { speed_m_s: 4.0, core_m: 0.5, inflow_m_s: 0.0, rise_m_s: 0.0, push: Push::Acceleration };
    let shot = with(ForceKind::Vortex(vortex));
    let at = |x: f32| acceleration(&shot, Vec3::new(x, 0.3, 0.0));
    // About y, right-handed: at +x it goes towards −z.
    assert!(at(0.25).distance(Vec3::new(0.0, 0.0, -2.0)) < 1e-3);
    assert!(at(0.5).distance(Vec3::new(0.0, 0.0, -4.0)) < 1e-3);
    assert!(at(2.0).distance(Vec3::new(0.0, 0.0, -1.0)) < 1e-3);
}

#[rstest]
#[case(Volume::Box { size_m: Vec3::new(2.0, 1.0, 1.0) }, Vec3::new(0.9, 0.0, 0.0), 0.1)]
#[case(Volume::Sphere { radius_m: 1.0 }, Vec3::new(0.0, 0.75, 0.0), 0.25)]
#[case(Volume::HalfSpace {}, Vec3::new(3.0, -0.3, 9.0), 0.3)]
#[case(Volume::Cylinder { radius_m: 1.0, height_m: 4.0 }, Vec3::new(0.0, 0.2, 0.8), 0.2)]
fn a_weight_is_its_profile_at_the_edge(#[case] volume: Volume, #[case] at: Vec3, #[case] depth: f32) {
    for profile in [Profile::Linear, Profile::Smooth, Profile::Faint, Profile::Full] {
        let region = Region { volume: volume.clone(), edge_m: 0.4, profile, inverted: false };
        let expected = profile.at(depth / 0.4);
        assert!((weight_of(region.clone(), at) - expected).abs() < 1e-3);
        let inverted = Region { inverted: true, ..region };
        assert!((weight_of(inverted, at) - (1.0 - expected)).abs() < 1e-3);
    }
}

#[test]
fn inside_a_solid_there_is_weight() {
    let mut shot = with(ForceKind::Gravity { acceleration: Vec3::X });
    let ring = Shape::Torus { major_radius_m: 1.0, minor_radius_m: 0.3 };
    let solid = shot.add(Element::solid("Ring", ring, Moves::Still).at(0.0, 2.0, 0.0));
    let region = shot.add(Element::new("Region", ElementKind::Region(Region::new(Volume::Inside { solid }))));
    limit(&mut shot, region);
    assert_eq!(acceleration(&shot, Vec3::new(0.0, 2.0, 0.0)).x, 0.0);
    assert!((acceleration(&shot, Vec3::new(1.05, 2.1, 0.02)).x - 1.0).abs() < 1e-3);
}

#[rstest]
#[case(Combine::Add, 1.0)]
#[case(Combine::Multiply, 0.3)]
#[case(Combine::Subtract, 0.1)]
#[case(Combine::Minimum, 0.5)]
#[case(Combine::Maximum, 0.6)]
fn regions_combine(#[case] operation: Combine, #[case] expected: f32) {
    // Half-spaces with linear edges: 0.6 and 0.5 deep.
    let mut shot = with(ForceKind::Gravity { acceleration: Vec3::X });
    let mut half = |y: f32| {
        let region =
            Region { volume: Volume::HalfSpace {}, edge_m: 1.0, profile: Profile::Linear, inverted: false };
        shot.add(Element::new("Half", ElementKind::Region(region)).at(0.0, y, 0.0))
    };
    let (a, b) = (half(0.6), half(0.5));
    let parts = vec![Part { region: a, operation: Combine::Add }, Part { region: b, operation }];
    let both = shot.add(Element::new("Both", ElementKind::Region(Region::new(Volume::Combined { parts }))));
    limit(&mut shot, both);
    assert!((acceleration(&shot, Vec3::ZERO).x - expected).abs() < 1e-3);
}

#[test]
fn a_region_of_no_size_has_no_weight() {
    assert_eq!(weight_of(Region::new(Volume::Sphere { radius_m: 0.0 }), Vec3::ZERO), 0.0);
}

#[test]
fn forces_act_alike_in_any_order_of_elements() {
    let mut shot = bare();
    shot.add(Element::new("A", ElementKind::Force(Force::new(ForceKind::Wind(Wind::default())))));
    shot.add(Element::new("B", ElementKind::Force(Force::new(ForceKind::Turbulence(Turbulence::default())))));
    shot.add(Element::new("C", ElementKind::Force(Force::new(ForceKind::Vortex(Vortex::default())))));
    let position = Vec3::new(0.3, 0.7, -0.4);
    let before = acceleration(&shot, position);
    shot.elements.reverse();
    assert_eq!(acceleration(&shot, position), before);
}

#[test]
fn many_points_get_what_each_gets_alone() {
    let shot = with(ForceKind::Turbulence(Turbulence::default()));
    let field = field_at(&shot, 1.0);
    let positions: Vec<Vec3> =
        (0..5_000).map(|i| Vec3::new(i as f32 * 0.37 % 9.0, i as f32 * 0.11 % 5.0, 0.2)).collect();
    let (mut together, ones) = (vec![Vec3::ZERO; 5_000], vec![1.0; 5_000]);
    field.push(
        Id(1),
        &mut Points {
            positions: &positions,
            velocities: &mut together,
            inverse_masses: &ones,
            drag_areas: &ones,
        },
        0.01,
    );
    for i in [0, 1_023, 1_024, 4_999] {
        let mut alone = [Vec3::ZERO];
        let mut points = Points {
            positions: &positions[i..=i],
            velocities: &mut alone,
            inverse_masses: &[1.0],
            drag_areas: &[1.0],
        };
        field.push(Id(1), &mut points, 0.01);
        assert_eq!(alone[0], together[i]);
    }
}

#[test]
fn shares_of_a_body_are_in_newtons() {
    let mut shot = with(ForceKind::Pull { force_n: 12.0 });
    shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
    let fractions = field_at(&shot, 0.0).contributions(Id(9), Vec3::ZERO, Vec3::ZERO, 2.0, 1.0);
    assert!((fractions[0].newtons.y + 12.0).abs() < 0.01 && (fractions[1].newtons.y + 19.62).abs() < 0.01);
}

/// Turbulence that drifts, gusts with eddies, and a region of noise, in a shot that goes round.
fn going_round(frames: u32) -> Shot {
    let mut shot = bare();
    (shot.timing.fps, shot.timing.last) = (24.0, 200);
    shot.timing.loop_frames = Some(frames);
    let force = |kind| ElementKind::Force(Force::new(kind));
    let turbulence = Turbulence {
        speed_m_s: 2.0,
        drift_m_s: Vec3::new(1.3, 0.2, 0.0),
        change_s: 0.6,
        ..Turbulence::default()
    };
    shot.add(Element::new("Force", force(ForceKind::Turbulence(turbulence))));
    let noise = Volume::Noise {
        size_m: 0.7,
        threshold: 0.4,
        softness: 0.3,
        drift_m_s: Vec3::new(0.0, 0.9, 0.3),
        seed: 4,
    };
    let region = Region::new(noise);
    let id = shot.add(Element::new("Region", ElementKind::Region(region)));
    limit(&mut shot, id);
    let wind = Wind { speed_m_s: 3.0, gust: 0.9, gust_s: 0.3, eddy: 0.5, eddy_m: 0.8, ..Wind::default() };
    shot.add(Element::new("Gusts", force(ForceKind::Wind(wind))));
    shot
}

fn pushed(shot: &Shot, position: Vec3, seconds: f64) -> Vec3 {
    let mut velocities = [Vec3::ZERO];
    let mut points = Points {
        positions: &[position],
        velocities: &mut velocities,
        inverse_masses: &[1.0],
        drag_areas: &[1.0],
    };
    field_at(shot, seconds).push(Id(99), &mut points, 1e-3);
    velocities[0]
}

#[rstest]
#[case(24)]
#[case(37)]
#[case(100)]
fn forces_and_regions_have_the_period_of_a_shot_that_goes_round(#[case] frames: u32) {
    let shot = going_round(frames);
    let period = f64::from(frames) / 24.0;
    let (mut moved, mut jumps) = (0.0f32, [0.0f32; 2]);
    for i in 0..40 {
        let place = Vec3::new(0.37 * i as f32, 1.0 - 0.21 * i as f32, 0.13 * i as f32);
        let at = 0.0713 * f64::from(i);
        let (now, later) = (pushed(&shot, place, at), pushed(&shot, place, at + 3.0 * period));
        assert!(now.distance(later) <= 1e-3 * now.length().max(1e-4), "{now} and {later} at {at} s");
        assert!(now.distance(pushed(&shot, place, at - period)) <= 1e-3 * now.length().max(1e-4));
        for (jump, h) in jumps.iter_mut().zip([1e-2, 1e-3]) {
            *jump += pushed(&shot, place, period - h).distance(pushed(&shot, place, period + h));
        }
        moved += now.distance(pushed(&shot, place, at + 0.5 * period));
    }
    assert!(moved > 1e-3, "nothing changes within a round");
    // No step at the seam: in a tenth of the time the push changes by a tenth.
    assert!(jumps[1] < 0.15 * jumps[0], "{jumps:?}");
}

#[test]
fn gusts_are_as_strong_in_the_middle_of_a_round_as_at_its_seam() {
    // Mean squares of the gusts over many seeds and a gust's time: where only one course counts,
    // and where both have the same weight.
    let square = |from: f64| -> f32 {
        let of = |i: u32| {
            let mut shot = going_round(96);
            let ElementKind::Force(force) = &mut shot.named_mut("Gusts").unwrap().kind else { panic!() };
            let ForceKind::Wind(wind) = &mut force.kind else { panic!() };
            (wind.seed, wind.eddy, wind.gust) = (i / 12, 0.0, 0.3);
            shot.elements.retain(|element| element.name == "Gusts");
            let seconds = from + 0.3 * f64::from(i % 12) / 12.0;
            let field = field_at(&shot, seconds);
            let [Act { law, .. }] = &field.acts[..] else { panic!() };
            // The drift in air is its velocity.
            (law.drift(Vec3::ZERO).length() / 3.0 - 1.0).powi(2)
        };
        (0..12_000).map(of).sum::<f32>() / 12_000.0
    };
    let (seam, middle) = (square(0.0), square(1.85));
    assert!((middle / seam - 1.0).abs() < 0.2, "{middle} in the middle, {seam} at the seam");
}
