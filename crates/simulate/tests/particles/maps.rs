//! Emission by a map.

use super::*;

/// Particles born on a square metre by an image that is dark on the left and bright on the right.
fn by_image(map: impl Fn(MapSource) -> EmissionMap) -> (Shot, Id, geometry::Meshes) {
    let mut shot = bare(4);
    let mut particles = alike(4_000);
    particles.source = Source::Shape { shape: Shape::plane(1.0, 1.0), domain: EmissionDomain::Surface };
    particles.emission.map = Some(map(MapSource::Image { asset: "ramp".to_owned() }));
    let asset = shot::Asset {
        kind: shot::AssetKind::Image,
        file: "assets/ramp.png".to_owned(),
        sha256: String::new(),
    };
    shot.assets.insert("ramp".to_owned(), asset);
    let id = shot.add(set("Dots", particles));
    let rgb = [0.0, 0.0, 0.25, 0.25, 1.0, 1.0, 1.0, 1.0].map(|grey| [grey; 3]).to_vec();
    let image = geometry::Image { width: 8, height: 1, rgb };
    let mut meshes = geometry::Meshes::default();
    meshes.images.insert("ramp".to_owned(), std::sync::Arc::new(image));
    (shot, id, meshes)
}

fn at_first(shot: &Shot, id: Id, meshes: &geometry::Meshes) -> frames::Particles {
    Simulation::new(shot, meshes).unwrap().write().particles.remove(&id).unwrap()
}

#[test]
fn an_image_says_how_likely_a_place_is_and_the_number_stays() {
    let (shot, id, meshes) =
        by_image(|of| EmissionMap { source: of, inverted: false, uniform_births: false });
    let born = at_first(&shot, id, &meshes);
    assert_eq!((born.len(), born.weights.len()), (4_000, 4_000));
    // Linear between the pixels' middles, and repeating, all of it weighs 4.5
    // pixels, and what lies right of the first bright middle 3.375.
    let bright = born.positions.iter().filter(|p| p.x > 0.0625).count() as f32 / 4_000.0;
    let expected = 3.375 / 4.5;
    assert!((bright - expected).abs() < 0.02, "{bright} {expected}");
    for (position, weight) in born.positions.iter().zip(&born.weights) {
        let right = position.x > 0.0625 && position.x < 0.4375;
        assert!(!right || *weight == 1.0, "{position} {weight}");
    }
}

#[test]
fn what_is_dark_can_have_the_weight_or_all_places_be_alike() {
    let (shot, id, meshes) = by_image(|of| EmissionMap { source: of, inverted: true, uniform_births: false });
    assert!(at_first(&shot, id, &meshes).positions.iter().all(|p| p.x < 0.07 || p.x > 0.43));
    let (shot, id, meshes) = by_image(|of| EmissionMap { source: of, inverted: false, uniform_births: true });
    let alike = at_first(&shot, id, &meshes);
    let right = alike.positions.iter().filter(|p| p.x > 0.0).count() as f32 / 4_000.0;
    assert!((right - 0.5).abs() < 0.03, "{right}");
    assert!(alike.weights.iter().any(|w| *w < 0.01) && alike.weights.iter().any(|w| *w > 0.99));
}

#[test]
fn the_colours_of_a_meshs_vertices_are_a_map_that_those_they_become_carry_on() {
    let mut shot = bare(6);
    let mut meshes = geometry::Meshes::default();
    let mut mesh = geometry::primitive::plane(1.0, 1.0);
    mesh.weights = mesh.positions.iter().map(|p| if p.x > 0.0 { 1.0 } else { 0.0 }).collect();
    meshes.by_name.insert("sail".to_owned(), std::sync::Arc::new(mesh));
    let asset = shot::Asset {
        kind: shot::AssetKind::Mesh,
        file: "assets/sail.obj".to_owned(),
        sha256: String::new(),
    };
    shot.assets.insert("sail".to_owned(), asset);
    let later = shot.add(set(
        "Later",
        Particles {
            emission: Emission { schedule: EmissionSchedule::Never {}, ..Emission::default() },
            ..alike(1)
        },
    ));
    let mut particles = alike(3_000);
    let shape = Shape::Mesh { asset: "sail".to_owned(), scale: 1.0 };
    particles.source = Source::Shape { shape, domain: EmissionDomain::Surface };
    particles.emission.map =
        Some(EmissionMap { source: MapSource::Vertices {}, inverted: false, uniform_births: false });
    particles.events = vec![ParticleEvent {
        trigger: Trigger::Age { age_s: 0.1 },
        action: Action::Become { particles: later },
        probability: 1.0,
    }];
    shot.add(set("Motes", particles));
    let mut simulation = Simulation::new(&shot, &meshes).unwrap();
    let mut frame = simulation.write();
    for _ in 0..4 {
        frame = simulation.advance().unwrap();
    }
    let of = frame.particles_of(later);
    assert_eq!(of.len(), 3_000);
    // Emission rise linearly with x, so their mean lies two thirds of the way.
    let mean = of.positions.iter().map(|p| p.x + 0.5).sum::<f32>() / 3_000.0;
    assert!((mean - 2.0 / 3.0).abs() < 0.015, "{mean}");
    assert!(of.positions.iter().zip(&of.weights).all(|(p, w)| (p.x + 0.5 - w).abs() < 1e-4));
}
