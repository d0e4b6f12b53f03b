//! *Ember fall*: embers drift down before a picture of the pier. The air is
//! full of them at the first frame.

use super::{File, quay};
use glam::{Vec2, Vec3};
use shot::{
    Camera, Element, ElementKind, Moves, Shape, Shot, Weight,
    force::{Force, ForceKind, Push, Turbulence, Wind},
    light::{Sky, SkySource},
    look::Look,
    particles::{
        ColourStop, Direction, EmissionDomain, EmissionSchedule, Particles, RampInput, SizeStop, Source,
        Start,
    },
};
use std::f32::consts::{FRAC_PI_2, PI};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Ember fall");
    shot.about = "Embers before a picture: the air is full of them at the first frame.".to_owned();
    shot.elements.retain(|element| element.as_solid().is_none());
    // What the camera looks at is a picture, 8 m away and as wide as it sees.
    let mut backdrop =
        Element::solid("Backdrop", Shape::Plane { size_m: Vec2::new(8.4, 4.725) }, Moves::Still);
    let solid = backdrop.as_solid_mut().expect("a solid");
    solid.look = Look {
        image: Some("backdrop".to_owned()),
        albedo: Vec3::splat(1.0),
        roughness: 1.0,
        ..Look::default()
    };
    shot.add(backdrop.at(0.0, 1.6, -4.0).turned(FRAC_PI_2, 0.0, 0.0));

    let stop = |at, colour: [f32; 3]| ColourStop { at, colour: Vec3::from(colour) };
    let mut embers = Particles {
        source: Source::Shape { shape: Shape::plane(7.5, 5.0), domain: EmissionDomain::Surface },
        start: Start {
            direction: Direction::Up,
            spread_rad: 0.5,
            speed_m_s: 0.25,
            speed_variation: 0.8,
            lifespan_s: Some(7.0),
            lifespan_variation: 0.3,
            size_m: 0.022,
            size_variation: 0.6,
            ..Start::default()
        },
        look: Look {
            albedo: Vec3::splat(0.05),
            emission: Vec3::splat(2.6),
            roughness: 1.0,
            ..Look::default()
        },
        seed: 2,
        ..Particles::default()
    };
    embers.emission.schedule = EmissionSchedule::Rate { per_s: 130.0 };
    embers.emission.preroll_s = 8.0;
    embers.body.weight = Weight::DensityKgM3(14.0);
    embers.contact.enabled = false;
    embers.appearance.colour_by = RampInput::Life;
    embers.appearance.colours = vec![
        stop(0.0, [1.0, 0.6, 0.22]),
        stop(0.5, [1.0, 0.34, 0.07]),
        stop(0.85, [0.5, 0.07, 0.01]),
        stop(1.0, [0.03, 0.03, 0.03]),
    ];
    embers.appearance.size_by = RampInput::Life;
    embers.appearance.sizes = vec![
        SizeStop { at: 0.0, size: 1.0 },
        SizeStop { at: 0.7, size: 0.8 },
        SizeStop { at: 1.0, size: 0.2 },
    ];
    // Born above the picture, they go down.
    shot.add(Element::new("Embers", ElementKind::Particles(embers)).at(0.0, 4.2, -1.2).turned(PI, 0.0, 0.0));

    let air = Push::Air { density_kg_m3: 1.2 };
    let eddies = Turbulence {
        speed_m_s: 0.8,
        size_m: 1.1,
        octaves: 3,
        change_s: 2.5,
        seed: 8,
        push: air,
        ..Turbulence::default()
    };
    shot.add(
        Element::new("Night air", ElementKind::Force(Force::new(ForceKind::Turbulence(eddies))))
            .at(0.0, 2.0, -1.0),
    );
    // A breath towards the camera.
    let breath = Wind { speed_m_s: 0.35, gust: 0.5, eddy: 0.3, push: air, ..Wind::default() };
    let breath =
        Element::new("Breath", ElementKind::Force(Force::new(ForceKind::Wind(breath)))).at(-2.0, 2.4, -3.0);
    shot.add(breath.turned(-FRAC_PI_2, 0.0, 0.0));

    let camera = Camera {
        focal_length_mm: 34.3,
        f_stop: Some(1.4),
        focus_distance_m: 4.6,
        exposure: 0.1,
        ..Camera::default()
    };
    shot.camera = Some(shot.add(Element::new("Pier camera", ElementKind::Camera(camera)).at(0.0, 1.6, 4.0)));
    // Even light, so that the picture shows as it is.
    let even = Vec3::splat(1.0);
    let source = SkySource::Gradient { zenith: even, horizon: even, ground: even };
    shot.add(Element::new("Even light", ElementKind::Sky(Sky { strength: 1.0, source })));
    let files = vec![("backdrop", "backdrop.png", include_bytes!("backdrop.png").to_vec())];
    (shot, files)
}
