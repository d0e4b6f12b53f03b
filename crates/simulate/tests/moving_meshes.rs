//! Solids whose shape a file changes: bodies and particles meet their true
//! surface with its velocity, are born on it, and it can be let go.

use frames::{Frame, encode};
use geometry::{MeshSample, MeshSequence, Meshes, Topology, primitive};
use glam::{Quat, Vec3};
use rstest::rstest;
use shot::{
    Asset, AssetKind, BeyondEnd, Element, ElementKind, FileAnimation, Id, Moves, Shape, Shot, Wake,
    motion::Channel,
    particles::{Emission, EmissionDomain, EmissionSchedule, Particles, Source, Start},
};
use simulate::Simulation;
use std::sync::Arc;

const FPS: f32 = 24.0;

/// A sheet of `n` × `n` quads, `size` m wide, in the plane y = 0.
fn sheet(n: usize, size: f32) -> geometry::Mesh {
    let mut mesh = geometry::Mesh::default();
    for k in 0..=n {
        for i in 0..=n {
            let at = |i: usize| (i as f32 / n as f32 - 0.5) * size;
            mesh.positions.push(Vec3::new(at(i), 0.0, at(k)));
            mesh.normals.push(Vec3::Y);
            mesh.uvs.push(glam::Vec2::new(i as f32, k as f32) / n as f32);
        }
    }
    for k in 0..n {
        for i in 0..n {
            let [a, b] = [(k * (n + 1) + i) as u32, ((k + 1) * (n + 1) + i) as u32];
            mesh.triangles.extend([[a, b, a + 1], [a + 1, b, b + 1]]);
        }
    }
    mesh
}

/// Samples of a mesh under a motion, by the seconds.
fn sequence(mesh: &geometry::Mesh, samples: usize, place: impl Fn(Vec3, f32) -> Vec3) -> Arc<MeshSequence> {
    let topology = Arc::new(Topology::of(mesh));
    let sample = |i: usize| MeshSample {
        frame: i as f64,
        topology: topology.clone(),
        positions: mesh.positions.iter().map(|p| place(*p, i as f32 / FPS)).collect(),
        velocities: Vec::new(),
    };
    Arc::new(MeshSequence::new((0..samples).map(sample).collect(), FPS).unwrap())
}

/// A shot without gravity with a sheet that a file moves.
fn shot_of(sequence: Arc<MeshSequence>, animation: FileAnimation, last: u32) -> (Shot, Id, Meshes) {
    let mut shot = Shot::empty("Sheet");
    shot.elements.clear();
    shot.camera = None;
    shot.timing.last = last;
    let mut meshes = Meshes::default();
    meshes.by_name.insert("sheet".to_owned(), sequence.rest().clone());
    meshes.sequences.insert("sheet".to_owned(), sequence);
    let file = "assets/sheet.brmeshes".to_owned();
    let asset = Asset { kind: AssetKind::MeshSequence, file, sha256: "5e".to_owned() };
    shot.assets.insert("sheet".to_owned(), asset);
    let shape = Shape::Mesh { asset: "sheet".to_owned(), scale: 1.0 };
    let mut element = Element::solid("Sheet", shape, Moves::Animated);
    let solid = element.as_solid_mut().unwrap();
    solid.animation = Some(animation);
    (solid.body.friction, solid.body.restitution) = (0.5, 0.5);
    let id = shot.add(element);
    (shot, id, meshes)
}

fn frames(shot: &Shot, meshes: &Meshes) -> Vec<Frame> {
    let mut simulation = Simulation::new(shot, meshes).unwrap();
    let mut frames = vec![simulation.write()];
    while simulation.frame() < shot.timing.last {
        frames.push(simulation.advance().unwrap());
    }
    frames
}

fn animation() -> FileAnimation {
    FileAnimation { after: BeyondEnd::Hold, ..FileAnimation::default() }
}

fn ball(radius_m: f32, velocity: Vec3) -> Element {
    let mut ball = Element::solid("Ball", Shape::sphere(radius_m), Moves::Free);
    let body = &mut ball.as_solid_mut().unwrap().body;
    (body.friction, body.restitution, body.launch_velocity) = (0.5, 0.5, Some(velocity));
    ball
}

fn dust(source: Source, restitution: f32) -> Particles {
    let mut particles = Particles {
        source,
        emission: Emission { schedule: EmissionSchedule::Burst { count: 1 }, ..Emission::default() },
        start: Start {
            spread_rad: 0.0,
            speed_m_s: 0.0,
            speed_variation: 0.0,
            lifespan_s: None,
            size_variation: 0.0,
            ..Start::default()
        },
        ..Particles::default()
    };
    particles.contact.enabled = true;
    particles.contact.restitution = restitution;
    particles.contact.friction = 0.0;
    particles
}

/// What comes at −v bounces off a wall that comes at u with 2 u + v, if it
/// loses nothing; the sheet is turned, far from the origin, and stretches meanwhile.
#[rstest]
fn a_particle_bounced_by_a_moving_mesh_leaves_with_twice_its_speed_less_its_own(
    #[values((1.0, 2.0), (3.0, 0.5), (-0.5, 2.0), (0.3, 12.0), (6.0, 6.0))] speeds: (f32, f32),
    #[values(0.0, 1.1, 2.6)] turn: f32,
    #[values(0.0, 90.0)] far: f32,
) {
    let (u, v) = speeds;
    let moving =
        sequence(&sheet(8, 2.0), 60, |p, t| p * Vec3::new(1.0 + 0.2 * t, 1.0, 1.0) + Vec3::Y * (u * t));
    let (mut shot, sheet, meshes) = shot_of(moving, animation(), 30);
    let turned = Quat::from_rotation_z(turn);
    let element = shot.elements.iter_mut().find(|e| e.id == sheet).unwrap();
    element.placement.position_m.x = far;
    element.placement.orientation_rad.z = turn;
    element.as_solid_mut().unwrap().body.restitution = 1.0;
    // It meets the sheet after 0.6 s.
    let start = turned * Vec3::new(0.11, 0.6 * (u + v), 0.07) + Vec3::X * far;
    let mut particles = dust(Source::Point {}, 1.0);
    particles.start.speed_m_s = v;
    let mut dust = Element::new("Dust", ElementKind::Particles(particles)).at(start.x, start.y, start.z);
    dust.placement.orientation_rad.z = turn + std::f32::consts::PI;
    let dust = shot.add(dust);
    let frames = frames(&shot, &meshes);
    let first = frames[1].particles_of(dust).velocities[0];
    assert!((first - turned * Vec3::NEG_Y * v).length() < 0.02 * v.max(1.0), "starts with {first}");
    let last = frames[29].particles_of(dust).velocities[0];
    let wanted = 2.0 * u + v;
    let normal = (turned.inverse() * last).y;
    assert!((normal / wanted - 1.0).abs() < 0.01, "{normal} instead of {wanted}");
}

/// Newton's law of restitution against a surface that comes at u: u + e (u + v).
#[rstest]
fn a_ball_bounces_off_a_moving_mesh_by_the_law_of_restitution(
    #[values((1.0, 2.0), (3.0, 0.5), (0.0, 4.0), (2.0, 8.0))] speeds: (f32, f32),
    #[values(0.05, 0.2)] radius: f32,
    #[values(0.0, 40.0)] far: f32,
) {
    let (u, v) = speeds;
    let (mut shot, sheet, meshes) =
        shot_of(sequence(&sheet(12, 3.0), 60, |p, t| p + Vec3::Y * (u * t)), animation(), 30);
    shot.elements.iter_mut().find(|e| e.id == sheet).unwrap().placement.position_m.z = far;
    let height = radius + 0.6 * (u + v);
    let ball = shot.add(ball(radius, Vec3::NEG_Y * v).at(0.13, height, far + 0.21));
    let frames = frames(&shot, &meshes);
    let left = frames[29].bodies[&ball].velocities[0];
    let wanted = u + 0.5 * (u + v);
    assert!((left.y / wanted - 1.0).abs() < 0.02, "{left} instead of {wanted}");
    assert!(left.x.abs() + left.z.abs() < 0.02 * wanted, "{left}");
}

/// A box on a sheet that swings up and down is carried: it neither sinks in nor comes off.
#[test]
fn a_box_rides_on_a_swinging_sheet() {
    let swing = |p: Vec3, t: f32| p + Vec3::Y * (0.2 * (1.0 - (2.5 * t).cos()));
    let (mut shot, _, meshes) = shot_of(sequence(&sheet(10, 2.0), 90, swing), animation(), 80);
    shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
    let mut crate_ = Element::solid("Crate", Shape::cuboid(0.4, 0.3, 0.4), Moves::Free).at(0.1, 0.15, 0.05);
    crate_.as_solid_mut().unwrap().body.restitution = 0.0;
    let crate_ = shot.add(crate_);
    for frame in frames(&shot, &meshes).iter().skip(6) {
        let t = (frame.number - 1) as f32 / FPS;
        let above = frame.bodies[&crate_].positions[0].y - 0.15 - swing(Vec3::ZERO, t).y;
        assert!(above.abs() < 0.004, "frame {}: {above}", frame.number);
    }
}

/// Coulomb friction: a sheet that slides at 1 m/s takes a box along with μ g.
#[test]
fn a_sliding_sheet_takes_a_box_along() {
    let (mut shot, _, meshes) =
        shot_of(sequence(&sheet(10, 6.0), 60, |p, t| p + Vec3::X * t), animation(), 40);
    shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
    let mut crate_ = Element::solid("Crate", Shape::cuboid(0.4, 0.3, 0.4), Moves::Free).at(0.1, 0.15, 0.05);
    let body = &mut crate_.as_solid_mut().unwrap().body;
    (body.friction, body.restitution) = (0.1, 0.0);
    let crate_ = shot.add(crate_);
    let frames = frames(&shot, &meshes);
    let speed = |i: usize| frames[i].bodies[&crate_].velocities[0].x;
    // The pair's coefficient is the mean of 0.5 and 0.1.
    let wanted = 0.3 * 9.81 * 4.0 / FPS;
    assert!((speed(4) - wanted).abs() < 0.06, "{} instead of {wanted}", speed(4));
    assert!((speed(39) - 1.0).abs() < 0.01, "{}", speed(39));
}

#[test]
fn frames_hold_the_mesh_with_its_velocities() {
    let moving = sequence(&sheet(4, 1.0), 50, |p, t| p * (1.0 + t * t));
    let (shot, sheet, meshes) = shot_of(moving, animation(), 30);
    for frame in frames(&shot, &meshes) {
        let t = (frame.number - 1) as f32 / FPS;
        let mesh = &frame.meshes[&sheet];
        let corner = Vec3::new(-0.5, 0.0, -0.5);
        assert!((mesh.positions[0] - corner * (1.0 + t * t)).length() < 1e-5);
        if frame.number > 1 {
            assert!((mesh.velocities[0] - corner * 2.0 * t).length() < 0.03, "{}", mesh.velocities[0]);
        }
    }
}

#[test]
fn particles_are_born_on_the_moving_surface_with_its_velocity() {
    let moving = sequence(&sheet(4, 2.0), 50, |p, t| p + Vec3::Y * (t * p.x));
    let (mut shot, sheet, meshes) = shot_of(moving, animation(), 20);
    let mut particles = dust(Source::Solid { solid: sheet, domain: EmissionDomain::Surface }, 0.0);
    particles.emission.schedule = EmissionSchedule::Rate { per_s: 400.0 };
    particles.contact.enabled = false;
    particles.start.inherited_velocity = 1.0;
    let id = shot.add(Element::new("Dust", ElementKind::Particles(particles)));
    let last = frames(&shot, &meshes).pop().unwrap();
    let born = last.particles_of(id);
    assert!(born.len() > 200);
    let now = 19.0 / FPS;
    for i in 0..born.len() {
        let (p, v) = (born.positions[i], born.velocities[i]);
        assert!((v.y - p.x).abs() < 0.02 && v.x.abs() < 0.02, "{p} {v}");
        // It was on the sheet then, and has kept its velocity.
        assert!((p.y - now * p.x).abs() < 0.02, "{p}");
    }
}

#[test]
fn let_go_it_is_a_free_body_of_the_shape_it_then_has() {
    let moving = sequence(&primitive::cuboid(Vec3::ONE, 0.0), 50, |p, t| {
        p * Vec3::new(1.0 + t, 1.0, 1.0) + Vec3::X * (2.0 * t)
    });
    let (mut shot, id, meshes) = shot_of(moving, animation(), 30);
    let element = shot.elements.iter_mut().find(|e| e.id == id).unwrap();
    element.as_solid_mut().unwrap().body.wake = Some(Wake::Frame(13));
    let frames = frames(&shot, &meshes);
    let t = 12.0 / FPS;
    let (at, later) = (&frames[12], &frames[24]);
    let width = |frame: &Frame| {
        let x = frame.meshes[&id].positions.iter().map(|p| p.x);
        x.clone().fold(f32::NEG_INFINITY, f32::max) - x.fold(f32::INFINITY, f32::min)
    };
    assert!((width(at) - 1.0 - t).abs() < 1e-4);
    assert!((width(later) - 1.0 - t).abs() < 1e-4, "it keeps its width: {}", width(later));
    // The middle of the surface goes on at 2 m/s.
    let velocity = later.bodies[&id].velocities[0];
    assert!((velocity - Vec3::X * 2.0).length() < 0.05, "{velocity}");
    let gone = later.bodies[&id].positions[0].x - at.bodies[&id].positions[0].x;
    assert!((gone - 2.0 * 12.0 / FPS).abs() < 0.06, "{gone}");
    assert_eq!(later.meshes[&id].velocities[0], Vec3::ZERO);
}

#[test]
fn a_touch_lets_it_go_and_the_momentum_goes_where_it_belongs() {
    let moving = sequence(&primitive::cuboid(Vec3::ONE, 0.0), 50, |p, _| p);
    let (mut shot, id, meshes) = shot_of(moving, animation(), 24);
    let body = &mut shot.elements.iter_mut().find(|e| e.id == id).unwrap().as_solid_mut().unwrap().body;
    body.wake = Some(Wake::Touch { impulse_n_s: 0.1 });
    (body.weight, body.restitution) = (shot::Weight::MassKg(6.0), 1.0);
    let mut ball = ball(0.2, Vec3::X * -3.0).at(1.6, 0.0, 0.0);
    let body = &mut ball.as_solid_mut().unwrap().body;
    (body.weight, body.restitution) = (shot::Weight::MassKg(2.0), 1.0);
    let ball = shot.add(ball);
    let last = frames(&shot, &meshes).pop().unwrap();
    // An elastic hit along the line of centres: (m − M) / (m + M) and 2 m / (m + M) of the speed.
    let (back, on) = (last.bodies[&ball].velocities[0].x, last.bodies[&id].velocities[0].x);
    assert!((back - 1.5).abs() < 0.05 && (on + 1.5).abs() < 0.05, "{back} {on}");
}

#[test]
fn changing_faces_are_met_too() {
    let (a, b) = (sheet(6, 3.0), sheet(9, 3.0));
    let sample = |i: usize| {
        let mesh = if i.is_multiple_of(2) { &a } else { &b };
        let positions = mesh.positions.iter().map(|p| *p + Vec3::Y * (i as f32 / FPS)).collect();
        let velocities = vec![Vec3::Y / FPS; mesh.positions.len()];
        MeshSample { frame: i as f64, topology: Arc::new(Topology::of(mesh)), positions, velocities }
    };
    let moving = Arc::new(MeshSequence::new((0..50).map(sample).collect(), FPS).unwrap());
    let (mut shot, sheet, meshes) = shot_of(moving, animation(), 30);
    let ball = shot.add(ball(0.2, Vec3::NEG_Y).at(0.1, 0.8, 0.2));
    let mut particles = dust(Source::Point {}, 1.0);
    particles.start.speed_m_s = 1.0;
    let dust = Element::new("Dust", ElementKind::Particles(particles)).at(-0.7, 0.8, -0.3);
    let dust = shot.add(dust.turned(std::f32::consts::PI, 0.0, 0.0));
    let frames = frames(&shot, &meshes);
    assert_ne!(frames[3].meshes[&sheet].topology, frames[4].meshes[&sheet].topology);
    let last = &frames[29];
    assert!((last.bodies[&ball].velocities[0].y - 2.0).abs() < 0.1, "{}", last.bodies[&ball].velocities[0]);
    assert!(last.particles_of(dust).velocities[0].y > 1.5, "{}", last.particles_of(dust).velocities[0]);
}

/// A sheet that waves, keyed and keyed in speed, with a box, a ball, dust on it and dust born of it.
fn busy(let_go: Option<u32>) -> (Shot, Meshes) {
    let wave = |p: Vec3, t: f32| p + Vec3::Y * (0.15 * (3.0 * p.x + 5.0 * t).sin());
    let (mut shot, sheet, meshes) = shot_of(
        sequence(&sheet(8, 3.0), 12, wave),
        FileAnimation {
            before: BeyondEnd::BackAndForth,
            after: BeyondEnd::Repeat,
            start_frame: 4,
            ..animation()
        },
        26,
    );
    shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
    let element = shot.elements.iter_mut().find(|e| e.id == sheet).unwrap();
    element.channels.insert(
        "kind.solid.animation.speed".to_owned(),
        Channel::keyed([(1.0, 0.5f32), (12.0, 2.0), (26.0, -1.0)]),
    );
    element
        .channels
        .insert("placement.position_m[2]".to_owned(), Channel::keyed([(1.0, 0.0f32), (26.0, 0.4)]));
    element.as_solid_mut().unwrap().body.wake = let_go.map(Wake::Frame);
    shot.add(ball(0.15, Vec3::NEG_Y).at(0.3, 0.6, 0.1));
    shot.add(Element::solid("Box", Shape::cuboid(0.3, 0.3, 0.3), Moves::Free).at(-0.5, 0.5, 0.2));
    let mut falling = dust(Source::Grid { count: [6, 1, 6], spacing_m: Vec3::splat(0.3) }, 0.4);
    falling.emission.schedule = EmissionSchedule::Burst { count: 36 };
    falling.contact.push = true;
    shot.add(Element::new("Dust", ElementKind::Particles(falling)).at(0.0, 0.8, 0.0));
    let mut born = dust(Source::Solid { solid: sheet, domain: EmissionDomain::Surface }, 0.2);
    born.emission.schedule = EmissionSchedule::Rate { per_s: 60.0 };
    shot.add(Element::new("Spray", ElementKind::Particles(born)));
    (shot, meshes)
}

#[rstest]
fn a_cut_at_every_frame_goes_on_with_the_same_bytes(#[values(None, Some(14))] let_go: Option<u32>) {
    let (shot, meshes) = busy(let_go);
    let mut simulation = Simulation::new(&shot, &meshes).unwrap();
    let mut whole = vec![(encode(&simulation.write()), simulation.save())];
    while simulation.frame() < shot.timing.last {
        let frame = simulation.advance().unwrap();
        whole.push((encode(&frame), simulation.save()));
    }
    for at in 0..whole.len() - 1 {
        let mut resumed = Simulation::restored(&shot, &meshes, &whole[at].1).unwrap();
        for (i, (bytes, _)) in whole.iter().enumerate().skip(at + 1).take(3) {
            assert!(encode(&resumed.advance().unwrap()) == *bytes, "cut at {at}, differs at {i}");
        }
    }
}

/// A strip hangs from a sheet that a file bends: its held side goes with the surface, not with the sheet's placement.
#[test]
fn a_cloth_is_pinned_to_the_surface_that_a_file_moves() {
    let wave = |p: Vec3, t: f32| Vec3::new(p.x, 0.2 * (3.0 * p.x + 4.0 * t).sin() * t, p.z);
    let moving = sequence(&sheet(10, 2.0), 25, wave);
    let (mut shot, carrier, meshes) = shot_of(moving, FileAnimation::default(), 24);
    shot.named_mut("Sheet").unwrap().placement.position_m = Vec3::new(0.3, 1.0, 0.0);
    let mut strip = Element::solid("Strip", Shape::plane(0.4, 0.6), Moves::Free).at(0.5, 0.99, -1.3);
    let held = shot::Pin { to: Some(carrier), ..shot::Pin::hard(shot::PinnedPart::Side(shot::Side::Front)) };
    let cloth = shot::Cloth { edge_m: 0.1, pins: vec![held], ..shot::Cloth::default() };
    strip.as_solid_mut().unwrap().cloth = Some(cloth);
    let strip = shot.add(strip);
    let mut held: Vec<usize> = Vec::new();
    for frame in frames(&shot, &meshes) {
        let (middle, at) = (frame.bodies[&strip].positions[0], &frame.meshes[&strip].positions);
        if held.is_empty() {
            held = (0..at.len()).filter(|i| (at[*i].z - 0.3).abs() < 1e-4).collect();
            assert_eq!(held.len(), 5);
        }
        let t = (frame.number - shot.timing.first) as f32 / FPS;
        for i in &held {
            let p = middle + at[*i];
            // The faces are flat between the file's vertices, 0.2 m apart: up to 0.2 × 3² × 0.2² / 8 m lower.
            let expected = 0.99 + wave(Vec3::new(p.x - 0.3, 0.0, 0.0), t).y;
            assert!((p.y - expected).abs() < 0.0091, "{p}: {expected} in frame {}", frame.number);
        }
    }
}
