use rapier3d::prelude::*;
use std::time::Instant;
fn main() {
    let a: Vec<f32> = std::env::args().skip(1).map(|x| x.parse().unwrap()).collect();
    let (hz, iterations, pgs, steps, substep_hz) = (a[0], a[1] as usize, a[2] as usize, a[3] as usize, a[4]);
    let side = 100;
    let mut world = PhysicsWorld::new();
    world.integration_parameters.dt = 1.0 / substep_hz;
    let edge = 1.0 / 99.0f32;
    let stiff = SpringCoefficients { natural_frequency: hz, damping_ratio: 1.0 };
    let held = (0..side as u32).map(|i| i * side as u32);
    let cloth = SoftBodyBuilder::cloth(
        Vector::new(-0.5, 2.0, 0.0),
        Vector::new(edge, 0.0, 0.0),
        Vector::new(0.0, -edge, 0.0),
        side,
        side,
    )
    .mass(0.3)
    .softness(stiff)
    .particle_radius(0.002)
    .self_contacts(false)
    .can_sleep(false)
    .additional_solver_iterations(iterations)
    .additional_pgs_iterations(pgs)
    .pinned_particles(held);
    let h = world.insert_soft_body(cloth);
    let start = Instant::now();
    for s in 0..steps {
        world.step();
        if (s + 1) % (steps / 10) == 0 {
            let body = &world.soft_bodies.get(h).unwrap();
            let at = |i: usize| body.particle_position(i);
            let strain =
                (0..side).map(|i| (2.0 - at(i * side + side - 1).y - 1.0) as f64).sum::<f64>() / 100.0;
            println!(
                "{}: mean strain {:.4}  ms a step {:.1}",
                s + 1,
                strain,
                start.elapsed().as_secs_f64() * 1e3 / (s + 1) as f64
            );
        }
    }
}
