//! *Jar of light*: dots rise from a coil of rope and fill an unseen jar; shown
//! backwards, they pour down and lay the coil.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Aim, Attached, Camera, Element, ElementKind, Moves, Shape, Shot,
    curve::Curve,
    force::{ElementFilter, Force, ForceKind, Matter, Push, Turbulence},
    look::Look,
    motion::{Channel, Outside},
    particles::{
        ColourStop, ContactResponse, Direction, EmissionSchedule, Particles, RampInput, Source, Start,
        Steering,
    },
};
use std::f32::consts::TAU;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Jar of light");
    shot.about = "Dots fill an unseen jar from a coil of rope; shown backwards, they lay it.".to_owned();
    shot.timing.last = 144;
    if let Some(gravity) = shot.named_mut("Gravity")
        && let ElementKind::Force(force) = &mut gravity.kind
    {
        force.enabled = false;
    }
    // The jar is not seen, but nothing leaves it.
    let mut jar = Element::solid("Jar", Shape::Capsule { radius_m: 0.42, length_m: 0.5 }, Moves::Still);
    jar.hidden = true;
    let solid = jar.as_solid_mut().expect("a solid");
    (solid.body.restitution, solid.body.friction) = (0.1, 0.2);
    let jar = shot.add(jar.at(0.0, 0.72, 0.0));

    let orientations = 5.0;
    let coil = (0..=100).map(|i| {
        let t = i as f32 / 100.0;
        let (sin, cos) = (TAU * orientations * t).sin_cos();
        Vec3::new(
            (0.06 + 0.2 * t) * cos,
            0.012 * (TAU * orientations * t * 0.5).sin(),
            (0.06 + 0.2 * t) * sin,
        )
    });
    let coil = Curve::Points { points_m: coil.collect(), closed: false, smooth: true };
    let coil = shot.add(Element::new("Coil of rope", ElementKind::Curve(coil)).at(0.0, 0.42, 0.0));

    let stop = |at, colour: [f32; 3]| ColourStop { at, colour: Vec3::from(colour) };
    let mut dots = Particles {
        source: Source::Curve { curve: coil },
        start: Start {
            direction: Direction::Up,
            spread_rad: 0.5,
            speed_m_s: 0.25,
            lifespan_s: None,
            size_m: 0.03,
            size_variation: 0.15,
            ..Start::default()
        },
        steering: Steering { min_distance_m: 0.036, ..Steering::default() },
        contact: ContactResponse {
            only: vec![jar.into()],
            restitution: 0.1,
            friction: 0.1,
            ..ContactResponse::default()
        },
        look: Look {
            albedo: Vec3::splat(0.5),
            emission: Vec3::splat(1.1),
            roughness: 0.6,
            ..Look::default()
        },
        seed: 9,
        ..Particles::default()
    };
    dots.emission.schedule = EmissionSchedule::Total { count: 4_500 };
    dots.emission.to_frame = Some(128);
    dots.appearance.colour_by = RampInput::Random;
    dots.appearance.colours =
        vec![stop(0.0, [1.0, 0.36, 0.09]), stop(0.5, [1.0, 0.66, 0.24]), stop(1.0, [0.22, 0.7, 0.66])];
    shot.add(Element::new("Dots", ElementKind::Particles(dots)).at(0.0, 0.42, 0.0));

    let particles = vec![ElementFilter::Kind { kind: Matter::Particles }];
    let lift =
        Force { only: particles.clone(), ..Force::new(ForceKind::Gravity { acceleration: Vec3::Y * 0.5 }) };
    shot.add(Element::new("Lift", ElementKind::Force(lift)).at(0.0, 1.7, 0.0));
    let stir = Turbulence {
        speed_m_s: 0.5,
        size_m: 0.4,
        octaves: 2,
        push: Push::Air { density_kg_m3: 9.0 },
        ..Turbulence::default()
    };
    let stir = Force { only: particles, ..Force::new(ForceKind::Turbulence(stir)) };
    shot.add(Element::new("Stirring air", ElementKind::Force(stir)).at(0.0, 1.4, 0.0));

    // A camera that goes round once.
    let way = shot.add(
        Element::new("Turntable", ElementKind::Curve(Curve::Circle { radius_m: 3.1 })).at(0.0, 0.78, 0.0),
    );
    let camera = Camera { focal_length_mm: 40.0, focus_distance_m: 3.2, exposure: 0.1, ..Camera::default() };
    let mut camera = Element::new("Turntable camera", ElementKind::Camera(camera)).at(0.0, 0.55, 0.0);
    camera.attached = Some(Attached { to: way, along: Some(0.0), facing: false });
    camera.aim = Some(Aim { target: way, damping_s: 0.0 });
    let mut round = Channel::keyed([(1.0, 0.0f32), (145.0, 1.0)]);
    round.after = Outside::Repeat;
    camera.channels.insert("attached.along".to_owned(), round);
    shot.camera = Some(shot.add(camera));
    quay::night(&mut shot);
    // The camera goes round: the market stands on both sides.
    set::market(&mut shot, set::Lamps { glow: 2.4 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 2.2, Vec3::new(0.45, 0.62, 1.0));
    set::stall(
        &mut shot,
        "Seaward stall",
        Vec3::new(0.8, 0.0, 6.0),
        std::f32::consts::PI,
        set::Lamps { glow: 2.4 },
    );
    set::lamp_string(
        &mut shot,
        Vec3::new(5.8, 0.0, 0.0),
        std::f32::consts::FRAC_PI_2,
        8.0,
        set::Lamps { glow: 2.4 },
    );
    (shot, set::files())
}
