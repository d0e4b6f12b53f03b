//! What cloth and soft bodies are made of: factors by maps, limits, pressure, and deformations that stay.

use super::{assert_goes_on_from_every_frame, even_pull, pin, places, run, shot, still_air, without_gravity};
use frames::Frame;
use glam::Vec3;
use rstest::rstest;
use shot::map::{LayerSource, Map, ScaledByMap, ScaledQuantity};
use shot::{Cloth, Element, Id, Moves, PinnedPart, Shape, Shot, Side, Soft};

fn cloth(shot: &mut Shot, shape: Shape, cloth: Cloth, maps: Vec<Map>) -> Id {
    let mut element = Element::solid("Sheet", shape, Moves::Free).at(0.0, 2.0, 0.0);
    let solid = element.as_solid_mut().unwrap();
    (solid.cloth, solid.maps) = (Some(cloth), maps);
    shot.add(element)
}

fn soft(shot: &mut Shot, shape: Shape, soft: Soft) -> Id {
    let mut element = Element::solid("Body", shape, Moves::Free).at(0.0, 0.4, 0.0);
    element.as_solid_mut().unwrap().soft = Some(soft);
    shot.add(element)
}

fn span(frame: &Frame, id: Id) -> Vec3 {
    let all = places(frame, id);
    let (low, high) =
        all.iter().fold((Vec3::INFINITY, Vec3::NEG_INFINITY), |(low, high), p| (low.min(*p), high.max(*p)));
    high - low
}

fn scaled(quantity: ScaledQuantity, at_0: f32, at_1: f32) -> Vec<ScaledByMap> {
    vec![ScaledByMap { quantity, map: "side".to_owned(), at_0, at_1 }]
}

fn side() -> Vec<Map> {
    vec![Map::of("side", LayerSource::Side { side: Side::Right })]
}

/// A strip under an even pull along it: u' = f (L − x) / (E t s(x)), with the factor s = 1 + 3 x / L of the map.
#[test]
fn a_map_scales_the_stiffness_along_a_strip() {
    let mut shot = shot(3.0);
    without_gravity(&mut shot);
    let (mass, pull, stiff, length) = (0.5f32, 8.0f32, 100.0f32, 1.0f32);
    let strip = Cloth {
        edge_m: 0.02,
        warp_n_m: stiff,
        weft_n_m: stiff,
        poisson_ratio: 0.0,
        mass_kg_m2: mass,
        damping_s: 0.1,
        drag: 0.0,
        lift: 0.0,
        pins: vec![pin(PinnedPart::Side(Side::Left))],
        scaled: scaled(ScaledQuantity::Warp, 1.0, 4.0),
        ..Cloth::default()
    };
    let id = cloth(&mut shot, Shape::plane(length, 0.2), strip, side());
    shot.add(even_pull(Vec3::X * pull));
    let stretch = span(&run(&shot, |_| ()), id).x - length;
    // ∫ (1 − x) / (1 + 3 x) from 0 to 1 = (4 ln 4 − 3) / 9.
    let linear = mass * pull / stiff * (4.0 * 4f32.ln() - 3.0) / 9.0;
    assert!((stretch / linear - 1.0).abs() < 0.05, "{stretch} for {linear}");
}

#[rstest]
#[case(1.0, 0.7)]
#[case(0.8, 1.0)]
fn lengths_at_rest_follow_a_factor_and_a_map(#[case] rest_length: f32, #[case] at_map: f32) {
    let mut shot = shot(2.0);
    without_gravity(&mut shot);
    let sheet = Cloth {
        edge_m: 0.1,
        rest_length,
        damping_s: 0.05,
        scaled: scaled(ScaledQuantity::RestLength, at_map, at_map),
        ..Cloth::default()
    };
    let id = cloth(&mut shot, Shape::plane(1.0, 1.0), sheet, side());
    let last = span(&run(&shot, |_| ()), id);
    let expected = rest_length * at_map;
    assert!((last.x / expected - 1.0).abs() < 0.01 && (last.z / expected - 1.0).abs() < 0.01, "{last}");
    assert_goes_on_from_every_frame(&shot);
}

#[test]
fn a_limit_of_strain_holds_a_loaded_strip() {
    let stretch = |strain_limit: Option<f32>| {
        let mut shot = shot(3.0);
        without_gravity(&mut shot);
        let strip = Cloth {
            edge_m: 0.05,
            warp_n_m: 20.0,
            poisson_ratio: 0.0,
            damping_s: 0.05,
            mass_kg_m2: 0.5,
            strain_limit,
            pins: vec![pin(PinnedPart::Side(Side::Left))],
            ..Cloth::default()
        };
        let id = cloth(&mut shot, Shape::plane(1.0, 0.2), strip, Vec::new());
        shot.add(even_pull(Vec3::X * 10.0));
        span(&run(&shot, |_| ()), id).x - 1.0
    };
    // Without the limit f L² / (2 E t) = 0.125, more at its clamp.
    assert!(stretch(None) > 0.1);
    let limited = stretch(Some(0.02));
    assert!((0.015..0.03).contains(&limited), "{limited}");
}

/// A thin sphere under pressure grows by ε = p r (1 − ν) / (2 E t).
#[rstest]
#[case(0.3, 0.0, 60.0)]
#[case(0.5, 0.3, 20.0)]
fn a_skin_under_pressure_grows_as_the_thin_wall_formula_has_it(
    #[case] radius: f32,
    #[case] poisson_ratio: f32,
    #[case] pressure_pa: f32,
) {
    let mut shot = shot(2.0);
    without_gravity(&mut shot);
    let skin = Cloth {
        edge_m: 0.05,
        warp_n_m: 1_000.0,
        weft_n_m: 1_000.0,
        shear_n_m: 500.0 / (1.0 + poisson_ratio),
        poisson_ratio,
        bend_n_m: 0.0,
        damping_s: 0.01,
        pressure_pa,
        ..Cloth::default()
    };
    let id = cloth(&mut shot, Shape::sphere(radius), skin, Vec::new());
    // The mean distance of its points from their middle.
    let size = |frame: &Frame| {
        let all = places(frame, id);
        let middle = all.iter().sum::<Vec3>() / all.len() as f32;
        all.iter().map(|p| p.distance(middle)).sum::<f32>() / all.len() as f32
    };
    let mut first = None;
    let last = run(&shot, |frame| {
        first.get_or_insert(size(frame));
    });
    let strain = size(&last) / first.unwrap() - 1.0;
    let expected = pressure_pa * radius * (1.0 - poisson_ratio) / (2.0 * 1_000.0);
    assert!((strain / expected - 1.0).abs() < 0.03, "{strain} for {expected}");
}

/// Air shut in keeps its volume within what its compression allows: 1 kPa more is 1 % of the volume.
#[test]
fn a_skin_that_holds_air_stands_up_where_an_empty_one_falls_in() {
    let height = |shut_in_air: Option<f32>| {
        let mut shot = shot(1.5);
        shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still).at(0.0, 1.69, 0.0));
        let skin = Cloth {
            edge_m: 0.06,
            mass_kg_m2: 2.0,
            bend_n_m: 1e-7,
            damping_s: 0.02,
            shut_in_air,
            ..Cloth::default()
        };
        let id = cloth(&mut shot, Shape::sphere(0.3), skin, Vec::new());
        span(&run(&shot, |_| ()), id).y
    };
    let (empty, full) = (height(None), height(Some(1.02)));
    assert!((0.55..0.62).contains(&full), "{full}");
    assert!(empty < full - 0.05, "{empty} and {full}");
}

#[test]
fn a_crease_stays_when_the_load_is_gone() {
    let droop = |crease_1_m: Option<f32>| {
        let mut shot = shot(3.0);
        let strip = Cloth {
            edge_m: 0.05,
            bend_n_m: 0.05,
            damping_s: 0.02,
            drag: 0.0,
            lift: 0.0,
            crease_1_m,
            pins: vec![pin(PinnedPart::Point { position_m: Vec3::new(-0.25, 0.0, 0.0), radius_m: 0.12 })],
            ..Cloth::default()
        };
        let id = cloth(&mut shot, Shape::plane(0.5, 0.1), strip, Vec::new());
        // Gravity ends after a second.
        let gravity = shot.elements.iter_mut().find_map(|e| match &mut e.kind {
            shot::ElementKind::Force(force) => Some(force),
            _ => None,
        });
        gravity.unwrap().to_frame = Some(24);
        shot.add(still_air());
        let last = run(&shot, |_| ());
        span(&last, id).y
    };
    let (springs, creases) = (droop(None), droop(Some(0.5)));
    assert!(creases > 0.1 && springs < 0.3 * creases, "{springs} {creases}");
}

#[test]
fn a_body_that_sets_stays_squashed() {
    let squashed = |set_strain: Option<f32>| {
        let mut shot = shot(2.5);
        shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
        let dough = Soft {
            youngs_modulus_pa: 8_000.0,
            density_kg_m3: 600.0,
            poisson_ratio: 0.4,
            damping_s: 0.05,
            set_strain,
            ..Soft::default()
        };
        let id = soft(&mut shot, Shape::sphere(0.2), dough);
        span(&run(&shot, |_| ()), id).y
    };
    let (springs, sets) = (squashed(None), squashed(Some(0.05)));
    assert!(sets < 0.9 * springs, "{springs} {sets}");
}

#[test]
fn a_body_is_drawn_back_to_its_shape_without_being_moved() {
    let sag = |pull_back_hz: f32| {
        let mut shot = shot(2.0);
        let jelly = Soft {
            youngs_modulus_pa: 20_000.0,
            damping_s: 0.05,
            density_kg_m3: 500.0,
            pull_back_hz,
            ..Soft::default()
        };
        let mut element = Element::solid("Body", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).at(0.0, 0.2, 0.0);
        element.as_solid_mut().unwrap().soft = Some(jelly);
        let id = shot.add(element);
        shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
        0.4 - span(&run(&shot, |_| ()), id).y
    };
    let (soft, pulled) = (sag(0.0), sag(10.0));
    assert!(pulled < 0.5 * soft && pulled > 0.0, "{soft} {pulled}");
    // In free fall it moves nothing.
    let mut shot = shot(1.0);
    let id = soft_free(&mut shot);
    let mean = |frame: &Frame| {
        let all = places(frame, id);
        all.iter().sum::<Vec3>() / all.len() as f32
    };
    let mut first = None;
    let last = run(&shot, |frame| {
        first.get_or_insert(mean(frame));
    });
    let way = mean(&last) - first.unwrap();
    assert!((way.y + 0.5 * 9.81).abs() < 0.03 && way.x.abs() < 0.005, "{way}");
}

fn soft_free(shot: &mut Shot) -> Id {
    let mut element = Element::solid("Body", Shape::sphere(0.2), Moves::Free).at(0.0, 10.0, 0.0);
    element.as_solid_mut().unwrap().soft = Some(Soft { pull_back_hz: 8.0, drag: 0.0, ..Soft::default() });
    shot.add(element)
}

#[test]
fn creases_and_set_go_on_from_every_frame() {
    let mut shot = shot(0.4);
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    let dough =
        Soft { cell_m: 0.1, set_strain: Some(0.02), pressure_pa: 50.0, pull_back_hz: 1.0, ..Soft::default() };
    soft(&mut shot, Shape::sphere(0.2), dough);
    let sheet = Cloth {
        edge_m: 0.1,
        crease_1_m: Some(1.0),
        strain_limit: Some(0.02),
        scaled: scaled(ScaledQuantity::Bending, 0.2, 3.0),
        ..Cloth::default()
    };
    cloth(&mut shot, Shape::plane(0.8, 0.8), sheet, side());
    let ball = Cloth { edge_m: 0.1, shut_in_air: Some(1.0), ..Cloth::default() };
    let mut element = Element::solid("Ball", Shape::sphere(0.2), Moves::Free).at(1.5, 0.3, 0.0);
    element.as_solid_mut().unwrap().cloth = Some(ball);
    shot.add(element);
    assert_goes_on_from_every_frame(&shot);
}
