//! Cloth and soft bodies push free solids, and are pushed by them.

use super::{assert_goes_on_from_every_frame, pin, run, shot};
use frames::{Frame, MeshState};
use glam::{DVec3, Vec3};
use rstest::rstest;
use shot::{Cloth, Element, Id, Moves, PinnedPart, Shape, Shot, Side, Soft, SystemId, Weight};

fn weightless(shot: &mut Shot) {
    shot.elements.retain(|element| element.name != "Gravity");
}

fn float(shot: &mut Shot, mass_kg: f32, at: Vec3, velocity: Vec3) -> Id {
    let mut float = Element::solid("Float", Shape::sphere(0.15), Moves::Free).at(at.x, at.y, at.z);
    let body = &mut float.as_solid_mut().unwrap().body;
    (body.weight, body.launch_velocity) = (Weight::MassKg(mass_kg), Some(velocity));
    shot.add(float)
}

fn sheet(shot: &mut Shot, size: f32, y: f32, cloth: Cloth) -> Id {
    let mut sheet = Element::solid("Sheet", Shape::plane(size, size), Moves::Free).at(0.0, y, 0.0);
    sheet.as_solid_mut().unwrap().cloth = Some(cloth);
    shot.add(sheet)
}

#[rstest]
#[case(0.2)]
#[case(2.0)]
#[case(20.0)]
fn a_held_sheet_stops_a_float_and_carries_it(#[case] mass_kg: f32) {
    let mut shot = shot(4.0);
    let pins = vec![pin(PinnedPart::Side(Side::Left)), pin(PinnedPart::Side(Side::Right))];
    sheet(&mut shot, 1.2, 2.0, Cloth { edge_m: 0.04, damping_s: 0.02, pins, ..Cloth::default() });
    let id = float(&mut shot, mass_kg, Vec3::new(0.0, 2.6, 0.0), Vec3::ZERO);
    let mut fastest = 0.0f32;
    let last = run(&shot, |frame| {
        fastest = fastest.max(frame.bodies[&id].velocities[0].length());
    });
    let (at, speed) = (last.bodies[&id].positions[0], last.bodies[&id].velocities[0].length());
    // It fell 0.45 m before it met the sheet; nothing threw it up faster than that.
    assert!(fastest < (2.0 * 9.81 * 1.0f32).sqrt(), "{fastest}");
    assert!((1.2..2.2).contains(&at.y) && at.x.abs() < 0.3, "{at}");
    assert!(speed < 0.6, "{speed} m/s");
}

#[rstest]
#[case(0.05)]
#[case(0.15)]
#[case(0.5)]
fn a_float_that_flies_into_a_sheet_keeps_momentum(#[case] mass_kg: f32) {
    let mut shot = shot(1.5);
    // Of the turning of a sheet that flaps, errors of second order in the step are left.
    shot.physics.substeps = 16;
    weightless(&mut shot);
    let (size, density) = (1.0f32, 0.3f32);
    let cloth = Cloth { edge_m: 0.05, mass_kg_m2: density, drag: 0.0, lift: 0.0, ..Cloth::default() };
    let id = sheet(&mut shot, size, 0.0, cloth);
    let start = 3.0 * Vec3::Y + 0.4 * Vec3::X;
    let place = Vec3::new(0.1, -0.4, 0.05);
    let ball = float(&mut shot, mass_kg, place, start);
    let flies = |at: Vec3, velocity: Vec3| {
        let momentum = velocity.as_dvec3() * f64::from(mass_kg);
        (momentum, at.as_dvec3().cross(momentum))
    };
    let (before, before_turning) = flies(place, start);
    let mut velocity = start;
    let (mut masses, mut off): (Vec<f32>, Option<(f64, f64)>) = (Vec::new(), None);
    run(&shot, |frame| {
        let (mesh, of) = (&frame.meshes[&id], &frame.bodies[&ball]);
        if masses.is_empty() {
            masses = areas(mesh).into_iter().map(|area| area * density).collect();
        }
        let (carried, turning) = momenta(frame, id, &masses);
        // While they touch, the sheet takes up half a step's force later than the float (second backward differences).
        let flies_on = std::mem::replace(&mut velocity, of.velocities[0]) == of.velocities[0];
        if flies_on && carried.y > 0.1 * f64::from(mass_kg.min(0.3)) {
            let (now, now_turning) = flies(of.positions[0], of.velocities[0]);
            let spin = of.angular_velocities[0].as_dvec3() * f64::from(0.4 * mass_kg * 0.15 * 0.15);
            let linear = (now + carried - before).length() / carried.length();
            let angular = (now_turning + spin + turning - before_turning).length();
            off = Some((linear, angular / (carried.length() * 0.5)));
        }
    });
    let (linear, angular) = off.expect("they meet and part");
    assert!(linear < 1e-4, "{linear} of the momentum that was exchanged");
    assert!(angular < 1e-4, "{angular} of the angular momentum");
}

/// Momentum and angular momentum about the origin of a sheet whose vertices have these masses.
pub fn momenta(frame: &Frame, id: Id, masses: &[f32]) -> (DVec3, DVec3) {
    let (sheet, middle) = (&frame.meshes[&id], &frame.bodies[&id]);
    let (mut carried, mut turning) = (DVec3::ZERO, DVec3::ZERO);
    for ((at, v), mass) in sheet.positions.iter().zip(&sheet.velocities).zip(masses) {
        let (at, v) = ((middle.positions[0] + *at).as_dvec3(), (middle.velocities[0] + *v).as_dvec3());
        carried += v * f64::from(*mass);
        turning += at.cross(v) * f64::from(*mass);
    }
    (carried, turning)
}

/// The area around each vertex.
pub fn areas(mesh: &MeshState) -> Vec<f32> {
    let mut areas = vec![0.0; mesh.positions.len()];
    for triangle in mesh.topology.triangles() {
        let [a, b, c] = triangle.map(|v| mesh.positions[v as usize]);
        let area = 0.5 * (b - a).cross(c - a).length();
        triangle.iter().for_each(|v| areas[*v as usize] += area / 3.0);
    }
    areas
}

#[test]
fn a_soft_ball_pushes_a_crate() {
    let mut shot = shot(0.6);
    weightless(&mut shot);
    let mut ball = Element::solid("Ball", Shape::sphere(0.2), Moves::Free).at(-0.5, 0.02, 0.0);
    let solid = ball.as_solid_mut().unwrap();
    solid.soft = Some(Soft { drag: 0.0, density_kg_m3: 100.0, ..Soft::default() });
    solid.body.launch_velocity = Some(3.0 * Vec3::X);
    let ball = shot.add(ball);
    let mut target = Element::solid("Crate", Shape::cuboid(0.3, 0.3, 0.3), Moves::Free);
    target.as_solid_mut().unwrap().body.weight = Weight::MassKg(2.0);
    let target = shot.add(target);
    let last = run(&shot, |_| ());
    let mass = 100.0 * 4.0 / 3.0 * std::f32::consts::PI * 0.2f32.powi(3);
    let (own, other) = (last.bodies[&ball].velocities[0], last.bodies[&target].velocities[0]);
    assert!(other.x > 1.0, "{other}");
    let off = (own * mass + other * 2.0 - 3.0 * Vec3::X * mass).length() / (2.0 * other.length());
    assert!(off < 0.03, "{own} {other}: {off}");
}

#[test]
fn what_does_not_push_is_a_system_of_its_own_and_leaves_solids_alone() {
    let mut shot = shot(0.5);
    let cloth = Cloth { pushes_solids: false, edge_m: 0.1, ..Cloth::default() };
    sheet(&mut shot, 1.0, 0.5, cloth);
    float(&mut shot, 0.1, Vec3::new(0.0, 0.15, 0.0), Vec3::ZERO);
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let ids: Vec<SystemId> = shot.systems().iter().map(|system| system.id).collect();
    assert_eq!(ids, [SystemId::Solids, SystemId::Deformables]);
    shot.named_mut("Sheet").unwrap().as_solid_mut().unwrap().cloth.as_mut().unwrap().pushes_solids = true;
    assert_eq!(shot.systems().len(), 1);
}

#[test]
fn a_run_that_goes_on_from_any_frame_has_the_same_bytes() {
    let mut shot = shot(0.8);
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let pins = vec![pin(PinnedPart::Corners(Side::Left))];
    sheet(&mut shot, 0.8, 0.6, Cloth { edge_m: 0.08, pins, ..Cloth::default() });
    float(&mut shot, 1.0, Vec3::new(-0.1, 0.9, 0.0), Vec3::ZERO);
    assert_goes_on_from_every_frame(&shot);
}
