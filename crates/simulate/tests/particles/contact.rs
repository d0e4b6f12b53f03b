//! Particles and bodies.

use super::*;

#[test]
fn a_particle_bounces_to_the_height_its_restitution_gives() {
    let mut shot = bare(80);
    shot.add(gravity());
    let mut floor = plate(0.1).at(0.0, -0.05, 0.0);
    floor.as_solid_mut().unwrap().body.restitution = 0.6;
    shot.add(floor);
    let mut particles = alike(1);
    particles.contact = ContactResponse { restitution: 0.6, ..ContactResponse::default() };
    particles.start.size_m = 0.002;
    let id = shot.add(set("Bead", particles).at(0.0, 2.001, 0.0));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let mut top = 0.0f32;
    let fall = (2.0 * 2.0 / 9.81f32).sqrt();
    for frame in 1..70 {
        let now = simulation.advance().unwrap();
        let t = frame as f32 / 24.0;
        if t > fall && t < fall * (1.0 + 1.9 * 0.6) {
            // The highest of the parabola through the place it is at.
            let (y, v) = (now.particles_of(id).positions[0].y - 0.001, now.particles_of(id).velocities[0].y);
            top = top.max(y + v * v / (2.0 * 9.81));
        }
    }
    assert!((top / (0.36 * 2.0) - 1.0).abs() < 0.01, "{top}");
}

#[test]
fn a_particle_slides_down_an_incline_as_friction_allows() {
    let (angle, friction) = (0.5f32, 0.3f32);
    let mut shot = bare(40);
    shot.add(gravity());
    let mut floor = Element::solid("Slope", Shape::plane(40.0, 4.0), Moves::Still).turned(0.0, 0.0, -angle);
    floor.as_solid_mut().unwrap().body.friction = friction;
    shot.add(floor);
    let mut particles = alike(1);
    particles.contact = ContactResponse { restitution: 0.0, friction, ..ContactResponse::default() };
    let up = Vec3::new(angle.sin(), angle.cos(), 0.0) * 0.01;
    let id = shot.add(set("ParticleBody", particles).at(up.x, up.y, up.z));
    let t = 30.0 / 24.0;
    let at = after(&shot, id, 30).positions[0];
    let exact = 0.5 * 9.81 * (angle.sin() - friction * angle.cos()) * t * t;
    let gone = (at - up).length();
    assert!((gone / exact - 1.0).abs() < 0.01, "{gone} {exact}");
    assert!(at.dot(up.normalize()) > 0.0099 && at.dot(up.normalize()) < 0.0102);
}

#[test]
fn particles_push_a_free_body_by_their_momentum() {
    let mut shot = bare(30);
    let mut block = Element::solid("Block", Shape::cuboid(0.5, 0.5, 0.5), Moves::Free).at(2.0, 0.0, 0.0);
    block.as_solid_mut().unwrap().body.weight = Weight::MassKg(3.0);
    let block = shot.add(block);
    let mut particles = alike(200);
    particles.source = Source::Shape {
        shape: Shape::cuboid(0.4, 0.2, 0.4),
        domain: shot::particles::EmissionDomain::Volume,
    };
    particles.body = ParticleBody { weight: Weight::MassKg(0.01), ..ParticleBody::default() };
    particles.start = Start { speed_m_s: 6.0, size_m: 0.004, ..particles.start };
    let id = shot.add(set("Hail", particles).turned(0.0, 0.0, -std::f32::consts::FRAC_PI_2));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let mut frame = simulation.write();
    for _ in 0..20 {
        frame = simulation.advance().unwrap();
    }
    let hail: Vec3 = frame.particles_of(id).velocities.iter().sum::<Vec3>() * 0.01;
    let all = hail + frame.bodies[&block].velocities[0] * 3.0;
    assert!(frame.bodies[&block].velocities[0].x > 1.0);
    assert!(all.distance(Vec3::X * 12.0) < 0.012, "{all}");
}

#[test]
fn those_that_die_or_stick_on_touch_do() {
    let at = |outcome| {
        let mut shot = bare(40);
        shot.add(gravity());
        shot.add(plate(0.1));
        let mut particles = alike(50);
        particles.source =
            Source::Shape { shape: Shape::plane(2.0, 2.0), domain: shot::particles::EmissionDomain::Surface };
        particles.contact = ContactResponse { outcome, ..ContactResponse::default() };
        let id = shot.add(set("Drops", particles).at(0.0, 0.5, 0.0));
        after(&shot, id, 30)
    };
    assert_eq!(at(ContactOutcome::Die).len(), 0);
    let stuck = at(ContactOutcome::Stick);
    assert!(stuck.len() == 50 && stuck.velocities.iter().all(|v| *v == Vec3::ZERO));
    assert!(stuck.positions.iter().all(|p| (p.y - 0.06).abs() < 1e-3));
}

/// A plate that is moved by keys along x, from `from` to `to` in ten frames.
fn sweeping(from: f32, to: f32) -> Element {
    let way = shot::motion::Channel::keyed([(1.0, from), (11.0, to)]);
    Element::solid("Sweep", Shape::cuboid(0.02, 2.0, 2.0), Moves::Animated)
        .at(from, 0.0, 0.0)
        .keyed("placement.position_m[0]", way)
}

#[test]
fn what_moves_does_not_push_particles_through_what_is_still() {
    let mut shot = bare(20);
    shot.add(sweeping(-1.0, 0.85));
    shot.add(Element::solid("Wall", Shape::cuboid(0.02, 4.0, 4.0), Moves::Still).at(1.0, 0.0, 0.0));
    let mut particles = alike(200);
    particles.source = Source::Shape {
        shape: Shape::cuboid(1.0, 1.0, 1.0),
        domain: shot::particles::EmissionDomain::Volume,
    };
    particles.start.size_m = 0.01;
    particles.contact.restitution = 0.0;
    let id = shot.add(set("Dust", particles));
    for p in after(&shot, id, 14).positions {
        assert!(p.x < 1.0, "{p}");
    }
}

#[test]
fn a_still_body_that_grows_pushes_particles_before_it() {
    let mut shot = bare(30);
    let radius = shot::motion::Channel::keyed([(1.0, 0.1f32), (21.0, 0.6)]);
    let ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Still);
    shot.add(ball.keyed("kind.solid.shape.sphere.radius_m", radius));
    let mut particles = alike(300);
    particles.source =
        Source::Shape { shape: Shape::sphere(0.3), domain: shot::particles::EmissionDomain::Surface };
    particles.start.size_m = 0.01;
    let id = shot.add(set("Dust", particles));
    // The mesh of a ball lies a little within it.
    let nearest = after(&shot, id, 25).positions.iter().map(|p| p.length()).fold(f32::INFINITY, f32::min);
    assert!(nearest > 0.58, "{nearest}");
}

#[test]
fn what_slides_keeps_its_speed_along_the_floor() {
    let mut shot = bare(40);
    shot.add(gravity());
    shot.add(plate(0.1));
    let mut particles = alike(1);
    particles.start.speed_m_s = 2.0;
    particles.contact =
        ContactResponse { outcome: ContactOutcome::Slide, friction: 1.0, ..ContactResponse::default() };
    let quarter = std::f32::consts::FRAC_PI_2;
    let id = shot.add(set("Puck", particles).at(-2.0, 0.06, 0.0).turned(0.0, 0.0, -quarter));
    let later = after(&shot, id, 30);
    assert!((later.velocities[0].x - 2.0).abs() < 1e-3 && later.velocities[0].y.abs() < 1e-3);
    assert!((later.positions[0].y - 0.06).abs() < 1e-3);
}

#[rstest]
#[case(1)]
#[case(8)]
fn nothing_passes_a_thin_plate_at_a_hundred_metres_a_second(#[case] substeps: u32) {
    let mut shot = bare(20);
    shot.physics.substeps = substeps;
    shot.add(plate(0.001));
    let mut particles = alike(2_000);
    particles.source = Source::Shape {
        shape: Shape::cuboid(3.0, 1.0, 3.0),
        domain: shot::particles::EmissionDomain::Volume,
    };
    particles.start = Start { speed_m_s: -100.0, spread_rad: 0.3, size_m: 0.001, ..particles.start };
    let id = shot.add(set("Shot", particles).at(0.0, 2.0, 0.0));
    let positions = after(&shot, id, 3).positions;
    let through = positions.iter().filter(|p| p.y < 0.0 && p.x.abs() < 3.0 && p.z.abs() < 3.0).count();
    let aside = positions.iter().filter(|p| p.y < 0.0).count();
    assert_eq!((through, aside), (0, 0));
}

#[rstest]
#[case(1)]
#[case(8)]
fn a_plate_that_moves_takes_what_rests_before_it_along(#[case] substeps: u32) {
    let mut shot = bare(20);
    shot.physics.substeps = substeps;
    // 9 m/s: 0.4 m from frame to frame.
    shot.add(sweeping(-1.0, 2.75));
    let mut particles = alike(300);
    particles.source = Source::Shape {
        shape: Shape::cuboid(1.0, 1.0, 1.0),
        domain: shot::particles::EmissionDomain::Volume,
    };
    let id = shot.add(set("Dust", particles));
    let positions = after(&shot, id, 10).positions;
    let behind = positions.iter().filter(|p| p.x < 2.75).count();
    assert_eq!(behind, 0, "least {}", positions.iter().map(|p| p.x).fold(f32::INFINITY, f32::min));
}
