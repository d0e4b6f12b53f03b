//! Cloth: it hangs, is held, drapes, and goes on from a saved state as if it had never stopped.

use super::{assert_goes_on_from_every_frame, pin, places, run, shot};
use geometry::Meshes;
use glam::Vec3;
use rstest::rstest;
use shot::{Cloth, Element, Id, Moves, Pin, PinnedPart, Shape, Shot, Side};
use simulate::Simulation;

/// A sheet in the x–z plane at height `y`.
fn sheet(shot: &mut Shot, name: &str, size: [f32; 2], y: f32, cloth: Cloth) -> Id {
    let mut element = Element::solid(name, Shape::plane(size[0], size[1]), Moves::Free).at(0.0, y, 0.0);
    element.as_solid_mut().unwrap().cloth = Some(cloth);
    shot.add(element)
}

#[test]
fn a_free_sheet_falls_as_the_formula_has_it_and_does_not_deform() {
    let mut shot = shot(1.0);
    let id = sheet(&mut shot, "Sheet", [1.0, 0.6], 10.0, Cloth::default());
    let frame = run(&shot, |_| ());
    for p in places(&frame, id) {
        assert!((p.y - (10.0 - 0.5 * 9.81)).abs() < 0.03, "{p}");
    }
}

#[rstest]
#[case(0.1, 0.0, 4)]
#[case(0.05, 0.3, 8)]
#[case(0.02, 0.3, 8)]
fn a_hung_strip_stretches_by_its_weight(
    #[case] edge_m: f32,
    #[case] poisson_ratio: f32,
    #[case] substeps: u32,
) {
    let mut shot = shot(4.0);
    shot.physics.substeps = substeps;
    // Hung along z, which is turned to point down.
    let (warp_n_m, weft_n_m, mass) = (2_000.0, 600.0, 0.5f32);
    let cloth = Cloth {
        edge_m,
        warp_n_m,
        weft_n_m,
        poisson_ratio,
        mass_kg_m2: mass,
        damping_s: 0.02,
        pins: vec![pin(PinnedPart::Side(Side::Back))],
        ..Cloth::default()
    };
    let id = sheet(&mut shot, "Strip", [0.2, 2.0], 0.0, cloth);
    shot.elements.iter_mut().find(|e| e.id == id).unwrap().placement.orientation_rad.x =
        std::f32::consts::FRAC_PI_2;
    let frame = run(&shot, |_| ());
    let all = places(&frame, id);
    let lowest = all.iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
    let highest = all.iter().map(|p| p.y).fold(f32::NEG_INFINITY, f32::max);
    // Its own weight: ρ g L² / (2 E t).
    let expected = mass * 9.81 * 2.0 * 2.0 / (2.0 * weft_n_m);
    let stretch = highest - lowest - 2.0;
    assert!((stretch / expected - 1.0).abs() < 0.04, "{stretch} for {expected}");
}

#[test]
fn a_sheet_drapes_over_a_crate_and_lies_still() {
    let mut shot = shot(3.5);
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    shot.add(Element::solid("Crate", Shape::cuboid(0.5, 0.5, 0.5), Moves::Still).at(0.0, 0.25, 0.0));
    let id = sheet(&mut shot, "Cloth", [1.4, 1.4], 0.8, Cloth { edge_m: 0.04, ..Cloth::default() });
    let frame = run(&shot, |_| ());
    for p in places(&frame, id) {
        assert!(p.y > 0.0, "below the deck: {p}");
        let inside = p.x.abs() < 0.25 && p.z.abs() < 0.25 && p.y < 0.5;
        assert!(!inside, "in the crate: {p}");
    }
    let highest = places(&frame, id).iter().map(|p| p.y).fold(f32::NEG_INFINITY, f32::max);
    assert!((0.5..0.53).contains(&highest), "{highest}");
    let speeds = frame.meshes[&id].velocities.iter().map(|v| v.length());
    let mean = speeds.clone().sum::<f32>() / speeds.len() as f32;
    assert!(mean < 0.05, "mean speed {mean} m/s");
}

#[test]
fn a_run_that_goes_on_from_any_frame_has_the_same_bytes() {
    let mut shot = shot(0.6);
    shot.add(Element::solid("Ball", Shape::sphere(0.2), Moves::Free).at(0.05, 0.1, 0.0));
    let pins = vec![pin(PinnedPart::Corners(Side::Left))];
    sheet(&mut shot, "Cloth", [0.8, 0.8], 0.5, Cloth { edge_m: 0.06, pins, ..Cloth::default() });
    assert_goes_on_from_every_frame(&shot);
}

#[test]
fn copies_of_a_cloth_are_one_mesh_and_fall_alike() {
    let mut shot = shot(0.5);
    let id = sheet(&mut shot, "Sheet", [0.4, 0.4], 4.0, Cloth { edge_m: 0.1, ..Cloth::default() });
    shot.named_mut("Sheet").unwrap().as_solid_mut().unwrap().copies = Some(shot::Copies {
        count: [3, 1, 1],
        spacing_m: Vec3::X,
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 0,
    });
    let frame = run(&shot, |_| ());
    assert_eq!((frame.bodies[&id].len(), frame.meshes[&id].positions.len()), (1, 3 * 25));
    let all = places(&frame, id);
    for (a, b) in all[..25].iter().zip(&all[50..]) {
        assert!((*b - *a).distance(2.0 * Vec3::X) < 2e-3, "{a} {b}");
    }
    assert!(all.iter().all(|p| (p.y - (4.0 - 0.5 * 9.81 * 0.25)).abs() < 0.03));
}

#[test]
fn a_cloth_of_too_many_points_is_refused_before_it_is_made() {
    let mut shot = shot(0.5);
    sheet(&mut shot, "Sheet", [900.0, 900.0], 4.0, Cloth { edge_m: 0.001, ..Cloth::default() });
    let error = Simulation::new(&shot, &Meshes::default()).err().unwrap().to_string();
    assert!(error.contains("Sheet") && error.contains("longer edges"), "{error}");
}

/// A sheet that is held on one side and has moved for half a second before the first frame.
fn prerolled() -> (Shot, Id) {
    let mut shot = shot(0.5);
    let pins = vec![pin(PinnedPart::Side(Side::Left))];
    let cloth = Cloth { edge_m: 0.1, preroll_s: 0.5, pins, ..Cloth::default() };
    let id = sheet(&mut shot, "Sheet", [1.0, 0.4], 2.0, cloth);
    shot.add(Element::solid("Float", Shape::sphere(0.1), Moves::Free).at(0.0, 1.5, 3.0));
    (shot, id)
}

#[test]
fn a_sheet_with_a_preroll_moves_at_the_first_frame_and_others_wait() {
    let (shot, id) = prerolled();
    let mut first = true;
    run(&shot, |frame| {
        if std::mem::take(&mut first) {
            let lowest = places(frame, id).iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
            assert!(lowest < 1.6, "{lowest}");
            assert!(frame.meshes[&id].velocities.iter().any(|v| v.length() > 0.2));
            let float = shot.named("Float").unwrap().id;
            assert!((frame.bodies[&float].positions[0].y - 1.5).abs() < 1e-6);
        }
    });
    assert_goes_on_from_every_frame(&shot);
    // The preroll acts on all frames.
    let mut still = shot.clone();
    let cloth = still.named_mut("Sheet").unwrap().as_solid_mut().unwrap().cloth.as_mut().unwrap();
    cloth.preroll_s = 0.25;
    let prints = |shot: &Shot| shot::fingerprint::system_fingerprints(shot).remove(0).list;
    assert_ne!(prints(&still)[0], prints(&shot)[0]);
}

/// A sheet under a ceiling that it has touched hangs there as long as its adhesion exceeds its weight per area.
#[rstest]
#[case(0.7, false)]
#[case(1.4, true)]
fn a_sheet_sticks_to_a_ceiling_by_its_adhesion(#[case] of_weight: f32, #[case] stays: bool) {
    let mut shot = shot(1.5);
    let ceiling = Element::solid("Ceiling", Shape::cuboid(3.0, 0.2, 3.0), Moves::Still).at(0.0, 2.1, 0.0);
    shot.add(ceiling);
    let mut sheet = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, 1.9962, 0.0);
    let mass_kg_m2 = 0.5;
    sheet.as_solid_mut().unwrap().cloth = Some(Cloth {
        edge_m: 0.1,
        mass_kg_m2,
        thickness_m: 0.004,
        adhesion_pa: of_weight * mass_kg_m2 * 9.81,
        ..Cloth::default()
    });
    let id = shot.add(sheet);
    let last = run(&shot, |_| ());
    let lowest = places(&last, id).iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
    assert_eq!(lowest > 1.99, stays, "{lowest}");
}

/// The same under another sheet, which is held; either of them may be the one that sticks.
#[rstest]
#[case(0.7, true, false)]
#[case(1.4, true, true)]
#[case(1.4, false, true)]
fn a_sheet_sticks_to_another_by_its_adhesion(
    #[case] of_weight: f32,
    #[case] lower_sticks: bool,
    #[case] stays: bool,
) {
    let mut shot = shot(1.5);
    let mass_kg_m2 = 0.5;
    let mut add = |name: &str, height: f32, sticks: bool, pins: Vec<Pin>, edge_m: f32| {
        let mut sheet = Element::solid(name, Shape::plane(1.0, 1.0), Moves::Free).at(0.0, height, 0.0);
        sheet.as_solid_mut().unwrap().cloth = Some(Cloth {
            edge_m,
            mass_kg_m2,
            thickness_m: 0.004,
            adhesion_pa: if sticks { of_weight * mass_kg_m2 * 9.81 } else { 0.0 },
            pins,
            ..Cloth::default()
        });
        shot.add(sheet)
    };
    add("Upper", 2.0, !lower_sticks, vec![Pin::hard(PinnedPart::Whole {})], 0.08);
    let id = add("Lower", 1.9962, lower_sticks, Vec::new(), 0.1);
    let last = run(&shot, |_| ());
    let lowest = places(&last, id).iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
    assert_eq!(lowest > 1.99, stays, "{lowest}");
}

/// On a slope a sheet that sticks slides once m g sin θ exceeds μ (m g cos θ + adhesion).
#[rstest]
#[case(0.9, true)]
#[case(1.1, false)]
fn adhesion_adds_to_the_friction_on_a_slope(#[case] of_limit: f32, #[case] slides: bool) {
    let (angle, friction, mass_kg_m2) = (0.7f32, 0.4f32, 0.5f32);
    let weight = mass_kg_m2 * 9.81;
    let limit = weight * (angle.sin() / friction - angle.cos());
    let mut shot = shot(2.0);
    let mut slope = Element::solid("Slope", Shape::plane(8.0, 8.0), Moves::Still).turned(0.0, 0.0, angle);
    slope.as_solid_mut().unwrap().body.friction = friction;
    shot.add(slope);
    let mut sheet = Element::solid("Sheet", Shape::plane(0.6, 0.6), Moves::Free).turned(0.0, 0.0, angle);
    let out = 0.0035 * Vec3::new(-angle.sin(), angle.cos(), 0.0);
    sheet.placement.position_m = out;
    let solid = sheet.as_solid_mut().unwrap();
    solid.cloth = Some(Cloth {
        edge_m: 0.1,
        mass_kg_m2,
        drag: 0.0,
        lift: 0.0,
        adhesion_pa: of_limit * limit,
        ..Cloth::default()
    });
    solid.body.friction = friction;
    let id = shot.add(sheet);
    let last = run(&shot, |_| ());
    let way = last.bodies[&id].positions[0].distance(out);
    if slides {
        assert!(way > 0.2, "{way}");
    } else {
        assert!(way < 0.01, "{way}");
    }
}
