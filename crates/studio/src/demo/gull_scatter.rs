//! *Gull scatter*: gulls wander on the pier and turn away from each other; a
//! gust front sweeps through, and each bursts into feathers that fall and settle.

use super::{File, assets, quay, set};
use glam::Vec3;
use shot::{
    Camera, Element, ElementKind, Moves, Shape, Shot, Weight,
    force::{ElementFilter, Force, ForceKind, Matter, Wind},
    look::Look,
    motion::Channel,
    particles::{
        Action, ContactOutcome, ContactResponse, EmissionDomain, EmissionSchedule, Flock, Form,
        InstanceChoice, InstanceOrientation, ParticleEvent, Particles, Source, Split, Start, Steering,
        Trigger,
    },
    region::{Region, Volume},
};

/// A solid that is only shown in copies.
fn pattern(name: &str, asset: &str, albedo: Vec3) -> Element {
    let shape = Shape::Mesh { asset: asset.to_owned(), scale: 1.0 };
    let mut pattern = Element::solid(name, shape, Moves::Free);
    let solid = pattern.as_solid_mut().expect("a solid");
    solid.from_particles = Some(1);
    solid.look = Look { albedo, roughness: 0.6, variation: 0.25, ..Look::default() };
    pattern
}

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Gull scatter");
    shot.about = "A flock that keeps apart, and bursts into feathers where a gust passes.".to_owned();
    shot.timing.last = 120;
    let gull = shot.add(pattern("Gull", "gull", Vec3::new(0.78, 0.79, 0.8)));
    let feather = shot.add(pattern("Feather", "feather", Vec3::new(0.84, 0.85, 0.87)));
    let deck = shot.named("Pier deck").expect("the pier has one").id;

    let front = Region { edge_m: 0.15, ..Region::new(Volume::Box { size_m: Vec3::new(0.8, 4.0, 12.0) }) };
    let mut sweep = Channel::keyed([(1.0, -6.0f32), (40.0, -5.0), (84.0, 5.5)]);
    sweep.keys.iter_mut().for_each(|key| key.interpolation = shot::motion::Interpolation::Linear);
    let front =
        Element::new("Gust front", ElementKind::Region(front)).keyed("placement.position_m[0]", sweep);
    let front = shot.add(front.at(-6.0, 1.0, 0.0));

    let feathers = Particles {
        emission: shot::particles::Emission {
            schedule: EmissionSchedule::Never {},
            ..shot::particles::Emission::default()
        },
        start: Start {
            lifespan_s: None,
            size_m: 0.1,
            size_variation: 0.4,
            orientation_variation: 1.0,
            angular_speed_rad_s: 7.0,
            angular_speed_variation: 0.7,
            ..Start::default()
        },
        body: shot::particles::ParticleBody {
            weight: Weight::MassKg(0.0004),
            drag: 1.1,
            ..shot::particles::ParticleBody::default()
        },
        contact: ContactResponse {
            outcome: ContactOutcome::Stick,
            probability: 0.7,
            restitution: 0.0,
            friction: 0.9,
            ..ContactResponse::default()
        },
        appearance: shot::particles::Appearance {
            form: Form::Instance {
                solids: vec![feather],
                choice: InstanceChoice::Random,
                orientation: InstanceOrientation::Free,
            },
            ..shot::particles::Appearance::default()
        },
        seed: 4,
        ..Particles::default()
    };
    let feathers = shot.add(Element::new("Feathers", ElementKind::Particles(feathers)).at(2.5, 0.4, -2.0));

    let mut gulls = Particles {
        source: Source::Shape { shape: Shape::plane(7.0, 5.0), domain: EmissionDomain::Surface },
        start: Start {
            speed_m_s: 0.0,
            lifespan_s: None,
            size_m: 0.34,
            size_variation: 0.12,
            ..Start::default()
        },
        steering: Steering {
            cruise_speed_m_s: Some(0.45),
            max_acceleration_m_s2: 2.2,
            wander: 0.6,
            wander_s: 1.6,
            horizontal: true,
            flock: Some(Flock {
                perception_radius_m: 0.9,
                distance_m: 0.5,
                separation: 1.0,
                alignment: 0.15,
                cohesion: 0.1,
            }),
            avoidance_time_s: 1.2,
            min_distance_m: 0.3,
            constrained_to: Some(deck),
        },
        contact: ContactResponse { enabled: false, ..ContactResponse::default() },
        events: vec![ParticleEvent {
            trigger: Trigger::Region { region: front },
            action: Action::Split(Split {
                particles: Some(feathers),
                count: 14,
                speed_m_s: 2.4,
                speed_variation: 0.6,
                spread_rad: std::f32::consts::PI,
                inherited_velocity: 0.5,
                angular_speed_rad_s: 9.0,
                size: None,
                ..Split::default()
            }),
            probability: 1.0,
        }],
        appearance: shot::particles::Appearance {
            form: Form::Instance {
                solids: vec![gull],
                choice: InstanceChoice::Random,
                orientation: InstanceOrientation::Velocity,
            },
            ..shot::particles::Appearance::default()
        },
        seed: 11,
        ..Particles::default()
    };
    gulls.emission.schedule = EmissionSchedule::Burst { count: 46 };
    gulls.emission.preroll_s = 2.0;
    gulls.emission.evenly_spaced = true;
    shot.add(Element::new("Gulls", ElementKind::Particles(gulls)).at(0.0, 0.17, -1.0));

    let gust = Wind { speed_m_s: 7.0, gust: 0.3, eddy: 0.8, eddy_m: 0.8, ..Wind::default() };
    let mut gust = Force { region: Some(front), ..Force::new(ForceKind::Wind(gust)) };
    gust.only = vec![ElementFilter::Kind { kind: Matter::Particles }];
    let gust = Element::new("Gust", ElementKind::Force(gust)).at(-3.0, 1.2, -1.0);
    shot.add(gust.turned(0.0, 0.0, std::f32::consts::FRAC_PI_2));
    let still = Force::new(ForceKind::Drag { linear_n_s_m: 0.0, density_kg_m3: 1.2 });
    shot.add(Element::new("Still air", ElementKind::Force(still)).at(0.0, 2.0, -1.0));

    let camera = Camera { focal_length_mm: 30.0, focus_distance_m: 5.0, exposure: 0.25, ..Camera::default() };
    let camera =
        Element::new("Pier camera", ElementKind::Camera(camera)).at(1.0, 1.35, 4.2).turned(-0.15, 0.16, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::moorings(&mut shot, set::Lamps { glow: 1.6 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 9.0, Vec3::new(0.55, 0.75, 1.0));
    let mut files = set::files();
    files.push(("gull", "gull.obj", assets::gull()));
    files.push(("feather", "feather.obj", assets::feather()));
    (shot, files)
}
