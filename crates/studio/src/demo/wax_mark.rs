//! *Wax mark*: a candle figure on a slowly turning ball melts from one side, and is carried out of the picture.

use super::{File, assets, quay, set};
use glam::{Vec2, Vec3};
use shot::{
    Camera, Element, ElementKind, Id, Moves, Shape, Shot,
    finish::{Finish, FinishOperation},
    light::AreaLight,
    look::Look,
    motion::Channel,
    particles::{
        Action, Emission, EmissionDomain, EmissionSchedule, Liquid, LiquidQuantity, LiquidWeight,
        ParticleBody, ParticleEvent, Particles, ScaledLiquid, Source, Start, Trigger,
    },
    region::{Profile, Region, Volume},
};

/// Radius of the ball and height of its centre, m.
const BALL: f32 = 0.32;
/// Where the figure stands at first, from the top of the ball against its turn, rad.
const START: f32 = 0.3;
/// Last frame.
const LAST: u32 = 144;
/// Frames in which a fresh figure fades in.
const FADE: u32 = 20;

/// The figure: a robe, shoulders, and a head with a wick's stub.
const FIGURE: [(f32, f32); 19] = [
    (0.0, 0.0),
    (0.047, 0.0),
    (0.049, 0.01),
    (0.047, 0.02),
    (0.041, 0.026),
    (0.043, 0.05),
    (0.041, 0.075),
    (0.034, 0.1),
    (0.034, 0.108),
    (0.036, 0.116),
    (0.031, 0.127),
    (0.016, 0.135),
    (0.0155, 0.139),
    (0.022, 0.147),
    (0.0255, 0.158),
    (0.0235, 0.17),
    (0.016, 0.18),
    (0.008, 0.185),
    (0.0, 0.186),
];

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Wax mark");
    shot.about =
        "A candle figure on a turning ball softens from one side, clings and is carried off, again and again.".to_owned();
    shot.timing.last = LAST;
    shot.physics.substeps = 2;
    let iron = Look { albedo: Vec3::new(0.05, 0.06, 0.075), roughness: 0.22, ..Look::default() };
    let mut ball = Element::solid("Ball", Shape::sphere(BALL), Moves::Animated);
    ball.as_solid_mut().expect("a solid").look = iron;
    let turn = Channel::keyed([(1.0, 0.0f32), (f64::from(LAST), -1.5)]);
    shot.add(ball.at(0.0, BALL, 0.0).keyed("placement.orientation_rad[2]", turn));
    let heat = region(Volume::Box { size_m: Vec3::splat(1.2) }, 0.07, false);
    let way =
        Channel::keyed([(1.0, -0.8f32), (20.0, -0.69), (45.0, -0.55), (80.0, -0.3), (f64::from(LAST), 0.05)]);
    let heat = Element::new("Warm side", heat).at(-0.8, 2.0 * BALL, 0.0);
    let heat = shot.add(heat.keyed("placement.position_m[0]", way));
    let frame = region(Volume::Box { size_m: Vec3::new(1.5, 2.0, 1.5) }, 0.0, true);
    let outside = shot.add(Element::new("Out of the picture", frame).at(0.0, 1.0 + 0.12, 0.0));
    let wax = shot.add(wax(heat, outside));
    let mesh = FinishOperation::ParticleMesh {
        radius: 0.6,
        reach: 2.3,
        edge: 0.5,
        passes: 5,
        anisotropy: 3.0,
        film: 0.8,
        together: false,
    };
    let finish = Finish { element: Some(wax), ..Finish::new(mesh) };
    shot.add(Element::new("Surface of the wax", ElementKind::Finish(finish)));
    // A fresh figure fades in while the last of the old one is carried off; the ball looks the same from all sides.
    let round = FinishOperation::Loop { frames: LAST, from_frame: 1, overlap: FADE, first_stands: true };
    let again = Finish { element: Some(wax), order: 1, ..Finish::new(round) };
    shot.add(Element::new("Again", ElementKind::Finish(again)));
    let camera = Camera {
        focal_length_mm: 55.0,
        f_stop: Some(5.6),
        focus_distance_m: 1.0,
        exposure: 0.1,
        ..Camera::default()
    };
    let camera =
        Element::new("Ball camera", ElementKind::Camera(camera)).at(0.14, 0.78, 1.0).turned(-0.14, 0.08, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::market(&mut shot, set::Lamps { glow: 2.0 });
    let light = AreaLight { size_m: Vec2::new(0.5, 0.5), radiance: 12.0, colour: Vec3::new(1.0, 0.72, 0.45) };
    shot.add(
        Element::new("Stove glow", ElementKind::AreaLight(light)).at(-0.9, 0.9, 0.1).turned(0.0, 0.0, 1.45),
    );
    let mut files = set::files();
    files.push(("figure", "figure.obj", assets::lathed(&FIGURE)));
    (shot, files)
}

fn region(volume: Volume, edge_m: f32, inverted: bool) -> ElementKind {
    ElementKind::Region(Region { volume, edge_m, profile: Profile::default(), inverted })
}

/// The wax, which runs where it is warm and ends outside of the picture.
fn wax(heat: Id, outside: Id) -> Element {
    let warm = |quantity: LiquidQuantity, at_1: f32| ScaledLiquid {
        quantity,
        by: LiquidWeight::Region { region: heat },
        at_0: 1.0,
        at_1,
    };
    let wax = Particles {
        liquid: Some(Liquid {
            spacing_m: 0.003,
            density_kg_m3: 900.0,
            viscosity_pa_s: 6.0,
            wall_friction: 1.0,
            stiffness_pa: 60_000.0,
            relaxation_time_s: 40.0,
            scaled: vec![warm(LiquidQuantity::Stiffness, 5e-3), warm(LiquidQuantity::RelaxationTime, 6e-3)],
            ..Liquid::default()
        }),
        source: Source::Shape {
            shape: Shape::Mesh { asset: "figure".to_owned(), scale: 1.0 },
            domain: EmissionDomain::Surface,
        },
        emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
        start: Start { speed_m_s: 0.0, spread_rad: 0.0, lifespan_s: None, ..Start::default() },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        events: vec![ParticleEvent {
            trigger: Trigger::Region { region: outside },
            action: Action::Die {},
            probability: 1.0,
        }],
        look: Look { albedo: Vec3::new(0.78, 0.16, 0.1), roughness: 0.22, ..Look::default() },
        ..Particles::default()
    };
    let up = BALL - 0.004;
    Element::new("Wax", ElementKind::Particles(wax))
        .at(-up * START.sin(), BALL + up * START.cos(), 0.0)
        .turned(0.0, 0.0, START)
}
