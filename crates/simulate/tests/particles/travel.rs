//! Free flight, and what ends it.

use super::*;

#[test]
fn a_thrown_particle_follows_its_parabola() {
    let mut shot = bare(60);
    shot.add(gravity());
    let mut particles = alike(1);
    particles.start.speed_m_s = 8.0;
    let id = shot.add(set("Spark", particles).turned(0.0, 0.0, -0.7));
    let (frames, fps) = (40, 24.0);
    let t = frames as f32 / fps;
    let at = after(&shot, id, frames).positions[0];
    let v = 8.0 * Vec3::new(0.7f32.sin(), 0.7f32.cos(), 0.0);
    let exact = v * t - Vec3::Y * (0.5 * 9.81 * t * t);
    assert!(at.distance(exact) < 0.002 * exact.length(), "{at} {exact}");
}

#[test]
fn under_quadratic_drag_a_particle_nears_its_terminal_speed_as_tanh() {
    let mut shot = bare(60);
    shot.add(gravity());
    let air = Force::new(ForceKind::Drag { linear_n_s_m: 0.0, density_kg_m3: 1.2 });
    shot.add(Element::new("Air", ElementKind::Force(air)));
    let mut particles = alike(1);
    (particles.start.size_m, particles.body.drag) = (0.02, 0.5);
    particles.body.weight = Weight::MassKg(0.001);
    let id = shot.add(set("Seed", particles));
    let area = std::f32::consts::PI * 0.01 * 0.01;
    let terminal = (2.0 * 0.001 * 9.81 / (1.2 * 0.5 * area)).sqrt();
    for frames in [6, 24, 55] {
        let t = frames as f32 / 24.0;
        let exact = terminal * (9.81 * t / terminal).tanh();
        let speed = after(&shot, id, frames).velocities[0].length();
        assert!((speed / exact - 1.0).abs() < 0.002, "{frames}: {speed} {exact}");
    }
}

#[test]
fn a_force_that_gives_no_finite_number_ends_by_name_with_the_frames_before() {
    let mut shot = bare(30);
    let kind = ForceKind::Pull { force_n: 1e9 };
    let pull = Force { from_frame: Some(6), strength: 1e4, ..Force::new(kind) };
    shot.add(Element::new("Pull", ElementKind::Force(pull)));
    let mut particles = alike(3);
    particles.body.weight = Weight::MassKg(1e-12);
    particles.contact.enabled = false;
    shot.add(set("Motes", particles));
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    for _ in 0..5 {
        simulation.advance().unwrap();
    }
    let error = simulation.advance().unwrap_err();
    assert_eq!(error.frame, 7);
    assert!(error.to_string().starts_with("frame 7: Motes (particle 1) has no finite place"), "{error}");
}
