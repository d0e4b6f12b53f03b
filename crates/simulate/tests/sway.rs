//! Sway: meshes that follow the motion of their solids by springs.

use frames::{Frame, encode};
use geometry::Meshes;
use glam::Vec3;
use shot::force::{Force, ForceKind, Push, Turbulence};
use shot::map::{LayerSource, Map};
use shot::motion::Channel;
use shot::{Element, ElementKind, Id, Moves, Shape, Shot, Side, Sway, SystemId};
use simulate::Simulation;
use std::f32::consts::TAU;

/// A block that is carried along x, and sways.
fn shot(x: &str, sway: Sway) -> (Shot, Id) {
    let mut shot = Shot::empty("Sway");
    shot.timing.last = 72;
    let mut block = Element::solid("Block", Shape::cuboid(0.4, 0.2, 0.2), Moves::Animated).at(0.0, 1.0, 0.0);
    let solid = block.as_solid_mut().unwrap();
    (solid.sway, solid.maps) = (Some(sway), vec![Map::of("side", LayerSource::Side { side: Side::Right })]);
    let id = shot.add(block.keyed("placement.position_m[0]", Channel::expression(x)));
    (shot, id)
}

fn sway(frequency_hz: f32, damping_ratio: f32) -> Sway {
    Sway { frequency_hz, damping_ratio, edge_m: 0.1, ..Sway::default() }
}

fn run(shot: &Shot) -> Vec<Frame> {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut frames = vec![simulation.write()];
    while frames.last().unwrap().number < shot.timing.last {
        frames.push(simulation.advance().unwrap());
    }
    frames
}

/// How far the vertices are from where the solid has them, m.
fn off(frame: &Frame, id: Id) -> Vec<Vec3> {
    let rest = geometry::Mesh::refined(
        &Shape::cuboid(0.4, 0.2, 0.2),
        Meshes::default().mesh(&Shape::cuboid(0.4, 0.2, 0.2)).unwrap(),
        0.1,
        10_000,
    );
    frame.meshes[&id].positions.iter().zip(&rest.unwrap().positions).map(|(a, b)| *a - *b).collect()
}

/// A body that stops dead from 2 m/s swings by v/ω at its natural frequency.
#[test]
fn a_stop_makes_it_swing_at_its_frequency() {
    let (shot, id) = shot("0.0833333 * min(frame, 13)", sway(1.5, 0.0));
    let frames = run(&shot);
    let (v, omega) = (0.083_333_3 * 24.0, TAU * 1.5);
    for frame in frames.iter().filter(|frame| frame.number > 13) {
        let t = (frame.number - 13) as f32 / 24.0;
        let expected = v / omega * (omega * t).sin();
        for d in off(frame, id) {
            assert!((d.x - expected).abs() < 0.01 * v / omega, "{} for {expected} at {t} s", d.x);
            assert!(d.y.abs() < 1e-4, "gravity does not make it sag");
        }
    }
}

/// An even acceleration leaves it behind by a/ω².
#[test]
fn an_even_acceleration_leaves_it_behind() {
    let (mut shot, id) = shot("0.5 * 3 * ((frame - 1) / 24) ^ 2", sway(2.0, 1.0));
    let expected = -3.0 / (TAU * 2.0f32).powi(2);
    let mean = |shot: &Shot| {
        let frames = run(shot);
        let all = off(frames.last().unwrap(), id);
        (all.iter().map(|d| d.x).sum::<f32>() / all.len() as f32, all)
    };
    let (found, _) = mean(&shot);
    assert!((found / expected - 1.0).abs() < 0.02, "{found} for {expected}");
    // Half the amount shows half, and a map scales by vertex.
    let solid = shot.named_mut("Block").unwrap().as_solid_mut().unwrap();
    solid.sway = Some(Sway { amount: 0.5, map: Some("side".to_owned()), ..sway(2.0, 1.0) });
    let (_, all) = mean(&shot);
    let (least, most) = all.iter().fold((0.0f32, f32::NEG_INFINITY), |(l, m), d| (l.min(d.x), m.max(d.x)));
    assert!((least / (0.5 * expected) - 1.0).abs() < 0.03 && most.abs() < 1e-4, "{least} to {most}");
}

#[test]
fn forces_shake_it_and_solids_stay_fresh() {
    let (mut shot, id) = shot("0", sway(2.0, 0.1));
    assert!(off(run(&shot).last().unwrap(), id).iter().all(|d| d.length() < 1e-5));
    let turbulence = Turbulence { speed_m_s: 6.0, push: Push::Acceleration, ..Turbulence::default() };
    shot.add(Element::new("Eddies", ElementKind::Force(Force::new(ForceKind::Turbulence(turbulence)))));
    assert!(off(run(&shot).last().unwrap(), id).iter().any(|d| d.length() > 5e-3));
    // What is changed of the sway leaves the solids as they are.
    let prints = |shot: &Shot| {
        let list = shot.systems().into_iter().zip(shot::fingerprint::system_fingerprints(shot));
        list.map(|(system, prints)| (system.id, prints.list)).collect::<Vec<_>>()
    };
    let before = prints(&shot);
    shot.named_mut("Block").unwrap().as_solid_mut().unwrap().sway.as_mut().unwrap().frequency_hz = 3.0;
    let after = prints(&shot);
    for ((id, before), (other, after)) in before.iter().zip(&after) {
        assert_eq!(id, other);
        assert_eq!(before == after, *id != SystemId::Sway, "{id}");
    }
}

#[test]
fn it_goes_on_from_every_frame() {
    let (mut shot, _) = shot("sin(frame / 5)", sway(2.0, 0.1));
    shot.timing.last = 20;
    let turbulence = Turbulence { speed_m_s: 6.0, push: Push::Acceleration, ..Turbulence::default() };
    shot.add(Element::new("Eddies", ElementKind::Force(Force::new(ForceKind::Turbulence(turbulence)))));
    let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
    let (mut states, mut frames) = (Vec::new(), Vec::new());
    for _ in shot.timing.first..shot.timing.last {
        states.push(simulation.save());
        frames.push(encode(&simulation.advance().unwrap()));
    }
    for (i, state) in states.iter().enumerate() {
        let mut resumed = Simulation::restored(&shot, &Meshes::default(), state).unwrap();
        for frame in &frames[i..] {
            assert!(encode(&resumed.advance().unwrap()) == *frame, "resumed at {i}");
        }
    }
}

#[test]
fn copies_do_not_sway() {
    let (mut shot, _) = shot("0", sway(2.0, 0.1));
    let solid = shot.named_mut("Block").unwrap().as_solid_mut().unwrap();
    solid.copies = Some(shot::Copies {
        count: [2, 1, 1],
        spacing_m: Vec3::ONE,
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 1,
    });
    assert!(shot.faults()[0].message.contains("copies cannot sway"), "{:?}", shot.faults());
}
