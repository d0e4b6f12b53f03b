//! Free bodies in thick liquid.

use super::*;
use rstest::rstest;

/// A ball in the middle of a block of thick liquid, without weight, which is shot off; a second after. Gives the momentum of both along x
/// over the ball's at first, and the speeds of both over the common one.
fn shot_off(viscosity_pa_s: f32, density_kg_m3: f32, at: Vec3, way: Vec3) -> [f32; 3] {
    let mut shot = bare(24);
    shot.elements.clear();
    let of = Liquid {
        spacing_m: 0.0125,
        density_kg_m3: 1_000.0,
        viscosity_pa_s,
        wall_friction: 1.0,
        ..Liquid::default()
    };
    let block = liquid(of.clone(), Shape::cuboid(0.2, 0.2, 0.2), EmissionSchedule::Fill {});
    let water = shot.add(element("Block", block).at(at.x, at.y, at.z));
    let mut ball = Element::solid("Ball", Shape::sphere(0.05), Moves::Free).at(at.x, at.y, at.z);
    let body = &mut ball.as_solid_mut().unwrap().body;
    body.weight = shot::Weight::DensityKgM3(density_kg_m3);
    body.launch_velocity = Some(way);
    let id = shot.add(ball);
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frame = (0..23).map(|_| simulation.advance().unwrap()).last().unwrap();
    let particles = frame.particles_of(water);
    let mass = of.density_kg_m3 * of.particle_volume_m3();
    let ball_mass = density_kg_m3 * 4.0 / 3.0 * std::f32::consts::PI * 0.05f32.powi(3);
    let liquid: Vec3 = particles.velocities.iter().sum::<Vec3>() * mass;
    let liquid_mass = particles.len() as f32 * mass;
    let ball = frame.bodies[&id].velocities[0];
    let first = ball_mass * way;
    let common = first / (ball_mass + liquid_mass);
    let along = way.normalize();
    [
        (liquid + ball_mass * ball).dot(along) / first.length(),
        ball.dot(along) / common.length(),
        liquid.dot(along) / liquid_mass / common.length(),
    ]
}

#[rstest]
#[case(200.0, 2_000.0, Vec3::ZERO, Vec3::X)]
#[case(200.0, 8_000.0, Vec3::new(3.21, -1.77, 0.43), Vec3::new(-0.6, 0.5, 0.3))]
#[case(2_000.0, 200.0, Vec3::new(0.013, 0.005, 0.0), Vec3::new(0.0, 2.0, 1.0))]
fn a_ball_shot_off_in_thick_liquid_gives_it_what_it_loses(
    #[case] viscosity_pa_s: f32,
    #[case] density_kg_m3: f32,
    #[case] at: Vec3,
    #[case] way: Vec3,
) {
    let [momentum, ball, liquid] = shot_off(viscosity_pa_s, density_kg_m3, at, way);
    assert!(
        (momentum - 1.0).abs() < 0.01,
        "{momentum} of the momentum is left; ball {ball}, liquid {liquid}"
    );
    // They go on together.
    assert!((ball - 1.0).abs() < 0.05 && (liquid - 1.0).abs() < 0.05, "ball {ball}, liquid {liquid}");
}

#[test]
fn a_spinning_ball_takes_the_liquid_around_with_it() {
    let mut shot = bare(24);
    shot.elements.clear();
    let of = Liquid { spacing_m: 0.009, viscosity_pa_s: 200.0, wall_friction: 1.0, ..Liquid::default() };
    let block = liquid(of.clone(), Shape::sphere(0.1), EmissionSchedule::Fill {});
    let water = shot.add(element("Block", block));
    let mut ball = Element::solid("Ball", Shape::sphere(0.05), Moves::Free);
    let body = &mut ball.as_solid_mut().unwrap().body;
    body.weight = shot::Weight::DensityKgM3(4_000.0);
    body.launch_angular_velocity = Some(Vec3::Z * 6.0);
    let id = shot.add(ball);
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frame = (0..23).map(|_| simulation.advance().unwrap()).last().unwrap();
    let particles = frame.particles_of(water);
    let mass = of.density_kg_m3 * of.particle_volume_m3();
    let moment = |at: &Vec3, v: &Vec3| mass * at.cross(*v).z;
    let liquid: f32 = particles.positions.iter().zip(&particles.velocities).map(|(x, v)| moment(x, v)).sum();
    let own = 0.4 * 4_000.0 * 4.0 / 3.0 * std::f32::consts::PI * 0.05f32.powi(5);
    let spin = frame.bodies[&id].angular_velocities[0].z;
    // The affine part of each particle turns too: it has the inertia m Δx² / 2.
    let affine = particles.len() as f32 * mass * 0.5 * (2.0 * of.spacing_m).powi(2) * spin;
    let kept = (liquid + affine + own * spin) / (own * 6.0);
    // A tenth, at ten cells across: shear at the ball is steep at first.
    assert!((kept - 1.0).abs() < 0.1, "{kept} of the angular momentum; {spin} rad/s");
    assert!(spin < 3.0 && liquid > 0.2 * own, "{spin} {liquid}");
}

/// A thread under a ceiling stretches by its weight: along it dv/dy = ρ g h / (3 μ), with the length h that hangs below (F. Trouton, *On
/// the coefficient of viscous traction*, 1906). From a quarter to three quarters of the length that is ρ g L² / (12 μ).
#[rstest]
#[case::pitch(1_300.0, Vec3::ZERO)]
#[case::pitch_elsewhere(1_300.0, Vec3::new(-2.31, 4.17, 0.73))]
#[case::tar(20_000.0, Vec3::ZERO)]
#[case::tar_elsewhere(20_000.0, Vec3::new(-2.31, 4.17, 0.73))]
fn a_hanging_thread_stretches_by_its_weight_and_does_not_fall(#[case] viscosity_pa_s: f32, #[case] at: Vec3) {
    let (radius, length) = (0.012, 0.12);
    let mut shot = bare(24);
    let of = Liquid { spacing_m: 0.002, viscosity_pa_s, wall_friction: 1.0, ..Liquid::default() };
    let thread = Shape::Cylinder { radius_m: radius, height_m: length };
    let thread = element("Thread", liquid(of, thread, EmissionSchedule::Fill {}));
    let thread = shot.add(thread.at(at.x, at.y - 0.5 * length, at.z));
    let ceiling = Element::solid("Ceiling", Shape::cuboid(0.1, 0.02, 0.1), Moves::Still);
    shot.add(ceiling.at(at.x, at.y + 0.01, at.z));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let frame = (0..3).map(|_| simulation.advance().unwrap()).last().unwrap();
    let particles = frame.particles_of(thread);
    let speed = |depth: f32| {
        let near = |(p, _): &(&Vec3, &Vec3)| (at.y - p.y - depth * length).abs() < 0.05 * length;
        let near = particles.positions.iter().zip(&particles.velocities).filter(near);
        let (sum, count) = near.fold((0.0, 0.0f32), |(sum, count), (_, v)| (sum - v.y, count + 1.0));
        sum / count
    };
    let stretched = speed(0.75) - speed(0.25);
    let expected = 1_000.0 * 9.81 * length * length / (12.0 * viscosity_pa_s);
    // The method is of first order at surfaces: 0.15 cells of the radius of three.
    assert!((stretched / expected - 1.0).abs() < 0.1, "{stretched} m/s of {expected}");
}
