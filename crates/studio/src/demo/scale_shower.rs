//! *Scale shower*: herring scales burst over the deck, hang in slow motion, and
//! pile up as solids.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Camera, Element, ElementKind, Moves, Shape, Shot, Weight,
    look::Look,
    motion::Interpolation,
    particles::{
        Action, EmissionDomain, EmissionSchedule, Form, InstanceChoice, InstanceOrientation, ParticleEvent,
        Particles, Source, Start, Trigger,
    },
};

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Scale shower");
    shot.about = "Particles become solids in the air, in slow motion, and pile up.".to_owned();
    shot.timing.last = 120;
    shot.physics.substeps = 12;
    let scale = |name: &str, albedo: Vec3, metalness: f32| {
        let mut scale =
            Element::solid(name, Shape::Cylinder { radius_m: 0.03, height_m: 0.009 }, Moves::Free);
        let solid = scale.as_solid_mut().expect("a solid");
        solid.look = Look { albedo, metalness, roughness: 0.28, variation: 0.3, ..Look::default() };
        solid.body.weight = Weight::DensityKgM3(1_000.0);
        solid.body.friction = 0.8;
        solid.body.restitution = 0.05;
        scale
    };
    let mut silver = scale("Silver scale", Vec3::new(0.86, 0.88, 0.9), 0.95);
    let mut dark = scale("Dark scale", Vec3::new(0.06, 0.09, 0.11), 0.2);
    for of in [&mut silver, &mut dark] {
        of.as_solid_mut().expect("a solid").from_particles = Some(400);
    }
    let (silver, dark) = (shot.add(silver), shot.add(dark));
    let mut crates = quay::crates("Crates", [2, 1, 1]).at(0.95, 0.1805, -0.4).turned(0.0, 0.5, 0.0);
    let solid = crates.as_solid_mut().expect("a solid");
    (solid.body.moves, solid.body.collision) = (Moves::Still, shot::Collision::Exact);
    shot.add(crates);

    for (name, solid, seed) in [("Silver shower", silver, 3), ("Dark shower", dark, 21)] {
        let mut shower = Particles {
            source: Source::Shape { shape: Shape::sphere(0.26), domain: EmissionDomain::Volume },
            start: Start {
                spread_rad: 0.42,
                speed_m_s: 2.3,
                speed_variation: 0.45,
                lifespan_s: None,
                size_m: 0.07,
                size_variation: 0.25,
                orientation_variation: 1.0,
                angular_speed_rad_s: 9.0,
                angular_speed_variation: 0.8,
                ..Start::default()
            },
            events: vec![ParticleEvent {
                trigger: Trigger::Age { age_s: 0.45 },
                action: Action::Solid { solid },
                probability: 1.0,
            }],
            seed,
            ..Particles::default()
        };
        shower.emission.schedule = EmissionSchedule::Total { count: 400 };
        shower.emission.from_frame = Some(1);
        shower.emission.to_frame = Some(30);
        shower.body.weight = Weight::DensityKgM3(350.0);
        shower.appearance.form = Form::Instance {
            solids: vec![solid],
            choice: InstanceChoice::Random,
            orientation: InstanceOrientation::Free,
        };
        shot.add(Element::new(name, ElementKind::Particles(shower)).at(0.0, 0.9, 0.0));
    }

    let mut slow = quay::keys([(1.0, 1.0), (8.0, 0.3), (40.0, 0.3), (56.0, 1.0)]);
    slow.keys.iter_mut().for_each(|key| key.interpolation = Interpolation::Ease);
    shot.channels.insert("physics.time_scale".to_owned(), slow);
    let camera = Camera { focal_length_mm: 34.0, focus_distance_m: 3.4, exposure: 0.3, ..Camera::default() };
    let camera =
        Element::new("Pier camera", ElementKind::Camera(camera)).at(0.9, 1.15, 3.3).turned(-0.1, 0.26, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 1.6 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 9.0, Vec3::new(0.55, 0.75, 1.0));
    (shot, set::files())
}
