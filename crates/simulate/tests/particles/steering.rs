//! What particles do of themselves.

use super::*;

#[test]
fn particles_keep_their_distance() {
    let mut shot = bare(20);
    let mut particles = alike(200);
    particles.source = Source::Shape {
        shape: Shape::cuboid(0.5, 0.5, 0.5),
        domain: shot::particles::EmissionDomain::Volume,
    };
    particles.steering = Steering { min_distance_m: 0.08, ..Steering::default() };
    let id = shot.add(set("Floats", particles));
    let positions = after(&shot, id, 15).positions;
    let mut least = f32::INFINITY;
    for i in 0..positions.len() {
        for j in 0..i {
            least = least.min(positions[i].distance(positions[j]));
        }
    }
    assert!(least > 0.99 * 0.08, "{least}");
}

#[test]
fn particles_come_to_their_cruising_speed_and_stay_level() {
    let mut shot = bare(60);
    let mut particles = alike(20);
    particles.start.spread_rad = 3.0;
    particles.start.speed_m_s = 0.1;
    particles.steering = Steering { cruise_speed_m_s: Some(1.5), horizontal: true, ..Steering::default() };
    let id = shot.add(set("Gulls", particles));
    for velocity in after(&shot, id, 59).velocities {
        assert!((Vec3::new(velocity.x, 0.0, velocity.z).length() - 1.5).abs() < 0.02, "{velocity}");
        assert!(velocity.y.abs() <= 0.1 + 1e-6);
    }
}

#[test]
fn those_that_look_ahead_turn_away_from_a_wall() {
    let reached = |avoidance_time_s| {
        let mut shot = bare(60);
        let wall = Element::solid("Wall", Shape::cuboid(0.1, 8.0, 8.0), Moves::Still).at(3.0, 0.0, 0.0);
        shot.add(wall.turned(0.0, 0.4, 0.0));
        let mut particles = alike(1);
        particles.start.speed_m_s = 2.0;
        particles.steering = Steering {
            cruise_speed_m_s: Some(2.0),
            max_acceleration_m_s2: 8.0,
            avoidance_time_s,
            ..Steering::default()
        };
        particles.events = vec![ParticleEvent {
            trigger: Trigger::Touch { bodies: Vec::new(), speed_m_s: 0.0 },
            action: Action::Die {},
            probability: 1.0,
        }];
        let id = shot.add(set("Gull", particles).turned(0.0, 0.0, -std::f32::consts::FRAC_PI_2));
        after(&shot, id, 55).len()
    };
    assert_eq!((reached(0.0), reached(1.0)), (0, 1));
}

#[test]
fn those_that_stay_on_a_ball_or_a_curve_do() {
    let mut shot = bare(40);
    shot.add(gravity());
    let ball = shot.add(Element::solid("Ball", Shape::sphere(1.0), Moves::Still));
    let ring =
        shot.add(Element::new("Ring", ElementKind::Curve(shot::curve::Curve::Circle { radius_m: 2.0 })));
    let on = |on, solid| {
        let mut particles = alike(30);
        particles.source =
            Source::Shape { shape: Shape::sphere(1.5), domain: shot::particles::EmissionDomain::Surface };
        particles.start.speed_m_s = 1.0;
        particles.steering = Steering { constrained_to: Some(on), ..Steering::default() };
        particles.contact.only = vec![solid];
        particles
    };
    let beetles = shot.add(set("Beetles", on(ball, ball.into())));
    let beads = shot.add(set("Beads", on(ring, ball.into())));
    for p in after(&shot, beetles, 30).positions {
        assert!((p.length() - 1.01).abs() < 0.02, "{p}");
    }
    for p in after(&shot, beads, 30).positions {
        assert!((p.x.hypot(p.z) - 2.0).abs() < 0.01 && p.y.abs() < 1e-3, "{p}");
    }
}

#[test]
fn a_flock_comes_to_go_the_same_way() {
    let order = |flock| {
        let mut shot = bare(100);
        let mut particles = alike(60);
        particles.source = Source::Shape {
            shape: Shape::cuboid(2.0, 2.0, 2.0),
            domain: shot::particles::EmissionDomain::Volume,
        };
        particles.start.spread_rad = 3.1;
        particles.start.speed_m_s = 1.0;
        particles.steering = Steering { cruise_speed_m_s: Some(1.0), flock, ..Steering::default() };
        let id = shot.add(set("Terns", particles));
        let velocities = after(&shot, id, 90).velocities;
        let ways = velocities.iter().map(|v| v.normalize_or_zero());
        (ways.sum::<Vec3>() / velocities.len() as f32).length()
    };
    let flock = shot::particles::Flock {
        perception_radius_m: 3.0,
        alignment: 1.0,
        ..shot::particles::Flock::default()
    };
    let (alone, together) = (order(None), order(Some(flock)));
    assert!(alone < 0.4 && together > 0.8, "{alone} {together}");
}
