//! *Brazier sparks*: embers burst in a brazier on the pier; sparks rise, cool
//! from white to red, and die on the planks.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Camera, Element, ElementKind, Moves, Shape, Shot, Weight,
    force::{Force, ForceKind, Push, Turbulence},
    light::AreaLight,
    look::Look,
    particles::{
        ColourStop, ContactOutcome, Direction, EmissionDomain, EmissionSchedule, Form, Particles, RampInput,
        SizeStop, Source, Start,
    },
};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Brazier sparks");
    shot.about = "Sparks that glow, cool and die: particles coloured by their life, in hot air.".to_owned();
    let iron = Look { albedo: Vec3::splat(0.06), roughness: 0.6, metalness: 0.6, ..Look::default() };
    let mut bowl =
        Element::solid("Brazier", Shape::Torus { major_radius_m: 0.34, minor_radius_m: 0.05 }, Moves::Still)
            .at(0.0, 0.72, 0.0);
    bowl.as_solid_mut().expect("a solid").look = iron.clone();
    shot.add(bowl);
    let mut foot =
        Element::solid("Brazier foot", Shape::Cylinder { radius_m: 0.1, height_m: 0.68 }, Moves::Still)
            .at(0.0, 0.34, 0.0);
    foot.as_solid_mut().expect("a solid").look = iron;
    shot.add(foot);
    let mut coals = Element::solid("Coals", Shape::Cylinder { radius_m: 0.31, height_m: 0.08 }, Moves::Still)
        .at(0.0, 0.7, 0.0);
    coals.as_solid_mut().expect("a solid").look = Look {
        albedo: Vec3::new(0.05, 0.03, 0.02),
        emission: Vec3::new(5.0, 1.3, 0.2),
        roughness: 0.9,
        ..Look::default()
    };
    let coals = shot.add(coals);
    shot.add(quay::crates("Crates", [2, 1, 1]).at(1.25, 0.1805, -0.55).turned(0.0, 0.4, 0.0));

    let mut sparks = Particles {
        source: Source::Solid { solid: coals, domain: EmissionDomain::Surface },
        start: Start {
            direction: Direction::Up,
            spread_rad: 0.75,
            speed_m_s: 2.4,
            speed_variation: 0.65,
            lifespan_s: Some(1.5),
            lifespan_variation: 0.5,
            size_m: 0.005,
            size_variation: 0.5,
            ..Start::default()
        },
        seed: 7,
        ..Particles::default()
    };
    sparks.emission.schedule = EmissionSchedule::Rate { per_s: 900.0 };
    sparks.emission.preroll_s = 1.5;
    sparks.body.weight = Weight::DensityKgM3(12.0);
    sparks.contact.outcome = ContactOutcome::Die;
    sparks.contact.probability = 0.6;
    // Sparks move no crate, so that they are computed apart from the solids.
    sparks.contact.push = false;
    sparks.contact.except = vec![coals.into()];
    sparks.appearance.form = Form::Streak { duration_s: 0.022 };
    sparks.appearance.colour_by = RampInput::Life;
    let stop = |at, colour: [f32; 3]| ColourStop { at, colour: Vec3::from(colour) };
    sparks.appearance.colours = vec![
        stop(0.0, [1.0, 0.82, 0.5]),
        stop(0.25, [1.0, 0.5, 0.12]),
        stop(0.7, [0.7, 0.12, 0.015]),
        stop(1.0, [0.06, 0.008, 0.001]),
    ];
    sparks.appearance.size_by = RampInput::Life;
    sparks.appearance.sizes = vec![SizeStop { at: 0.0, size: 1.0 }, SizeStop { at: 1.0, size: 0.35 }];
    sparks.look =
        Look { albedo: Vec3::splat(0.02), emission: Vec3::splat(3.2), roughness: 1.0, ..Look::default() };
    shot.add(Element::new("Sparks", ElementKind::Particles(sparks)));

    let heat = Turbulence {
        speed_m_s: 1.7,
        size_m: 0.55,
        octaves: 3,
        drift_m_s: Vec3::new(0.2, 1.4, 0.1),
        change_s: 0.9,
        seed: 5,
        push: Push::Air { density_kg_m3: 1.2 },
        ..Turbulence::default()
    };
    let mut heat = Force::new(ForceKind::Turbulence(heat));
    heat.only = vec![shot::force::ElementFilter::Kind { kind: shot::force::Matter::Particles }];
    shot.add(Element::new("Heat", ElementKind::Force(heat)).at(0.0, 1.6, 0.0));
    let draught = shot::force::Wind {
        speed_m_s: 2.6,
        gust: 0.4,
        gust_s: 0.5,
        eddy: 0.5,
        eddy_m: 0.4,
        ..shot::force::Wind::default()
    };
    let mut draught = Force::new(ForceKind::Wind(draught));
    draught.only = vec![shot::force::ElementFilter::Kind { kind: shot::force::Matter::Particles }];
    let draught = Element::new("Draught", ElementKind::Force(draught)).at(0.0, 1.1, 0.0);
    shot.add(draught.turned(0.0, 0.0, std::f32::consts::PI));
    let glow =
        AreaLight { size_m: glam::Vec2::splat(0.5), radiance: 16.0, colour: Vec3::new(1.0, 0.42, 0.12) };
    shot.add(Element::new("Glow", ElementKind::AreaLight(glow)).at(0.0, 0.755, 0.0).turned(
        std::f32::consts::PI,
        0.0,
        0.0,
    ));
    let camera = Camera { focal_length_mm: 32.0, focus_distance_m: 3.6, exposure: 0.2, ..Camera::default() };
    let camera =
        Element::new("Pier camera", ElementKind::Camera(camera)).at(0.5, 1.3, 3.3).turned(-0.03, 0.1, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::night(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 2.4 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 2.2, Vec3::new(0.45, 0.62, 1.0));
    (shot, set::files())
}
