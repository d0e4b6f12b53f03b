//! Particles against mechanics, and their births against chance.

use crate::Experiment;
use glam::Vec3;
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot, Weight,
    curve::Curve,
    force::{Force, ForceKind},
    particles::{
        Action, ContactResponse, Emission, EmissionDomain, EmissionMap, EmissionSchedule, MapSource,
        ParticleEvent, Particles, Source, Split, Start, Steering, Trigger,
    },
};
use simulate::Simulation;

const G: f64 = 9.81;
const FPS: f64 = 24.0;

fn bare(seconds: f64) -> Shot {
    let mut shot = Shot::empty("Experiment");
    shot.elements.clear();
    shot.camera = None;
    shot.timing.last = 1 + (seconds * FPS) as u32;
    shot.physics.world_m = 1_000.0;
    shot
}

fn gravity() -> Element {
    Element::gravity(Vec3::new(0.0, -G as f32, 0.0))
}

fn alike(number: u32) -> Particles {
    Particles {
        emission: Emission { schedule: EmissionSchedule::Burst { count: number }, ..Emission::default() },
        start: Start {
            spread_rad: 0.0,
            speed_m_s: 0.0,
            speed_variation: 0.0,
            lifespan_s: None,
            lifespan_variation: 0.0,
            size_variation: 0.0,
            ..Start::default()
        },
        ..Particles::default()
    }
}

fn swarm(particles: Particles) -> Element {
    Element::new("Particles", ElementKind::Particles(particles))
}

fn frames(shot: &Shot) -> Vec<frames::Frame> {
    let mut simulation = Simulation::new(shot, &Default::default()).expect("it prepares");
    let mut frames = vec![simulation.write()];
    while simulation.frame() < shot.timing.last {
        frames.push(simulation.advance().expect("finite"));
    }
    frames
}

fn last(shot: &Shot, id: Id) -> frames::Particles {
    frames(shot).pop().expect("frames").particles.remove(&id).expect("its particles")
}

/// Free flight: the parabola.
pub fn flight() -> Experiment {
    let mut shot = bare(2.0);
    shot.add(gravity());
    let mut particles = alike(1);
    particles.start.speed_m_s = 9.0;
    let id = shot.add(swarm(particles).turned(0.0, 0.0, -0.8));
    let (vx, vy) = (9.0 * 0.8f64.sin(), 9.0 * 0.8f64.cos());
    let curve: Vec<(f64, f64)> = frames(&shot)
        .iter()
        .map(|f| (f64::from(f.particles_of(id).positions[0].x), f64::from(f.particles_of(id).positions[0].y)))
        .collect();
    let reference: Vec<(f64, f64)> =
        (0..=48).map(|i| f64::from(i) / FPS).map(|t| (vx * t, vy * t - 0.5 * G * t * t)).collect();
    Experiment {
        key: "particle-flight",
        statement: "A thrown particle has fallen below its start by its parabola after 2 s.".to_owned(),
        formula: "v sin φ t − ½ g t²",
        expected: reference.last().expect("points").1,
        measured: curve.last().expect("frames").1,
        tolerance: 0.002,
        unit: "m",
        axes: ("m", "m"),
        curve,
        reference,
    }
}

/// Quadratic drag: the hyperbolic tangent.
pub fn drag() -> Experiment {
    let mut shot = bare(2.0);
    shot.add(gravity());
    let air = ForceKind::Drag { linear_n_s_m: 0.0, density_kg_m3: 1.2 };
    shot.add(Element::new("Air", ElementKind::Force(Force::new(air))));
    let mut particles = alike(1);
    (particles.start.size_m, particles.body.drag) = (0.02, 0.5);
    particles.body.weight = Weight::MassKg(0.001);
    let id = shot.add(swarm(particles));
    let terminal = (2.0 * 0.001 * G / (1.2 * 0.5 * std::f64::consts::PI * 0.01 * 0.01)).sqrt();
    let curve: Vec<(f64, f64)> = frames(&shot)
        .iter()
        .map(|f| (f.time_s, f64::from(f.particles_of(id).velocities[0].length())))
        .collect();
    let reference: Vec<(f64, f64)> =
        curve.iter().map(|(t, _)| (*t, terminal * (G * t / terminal).tanh())).collect();
    let worst = curve.iter().zip(&reference).map(|(a, b)| (a.1 - b.1).abs()).fold(0.0, f64::max);
    Experiment {
        key: "particle-drag",
        statement: "A particle in air falls at v tanh(g t / v); measured is the largest difference over v."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: worst / terminal,
        tolerance: 0.002,
        unit: "",
        axes: ("s", "m/s"),
        curve,
        reference,
    }
}

/// Bounce: the height of a restitution.
pub fn bounce() -> Experiment {
    let mut shot = bare(2.0);
    shot.add(gravity());
    let mut floor = Element::solid("Floor", Shape::plane(6.0, 6.0), Moves::Still);
    floor.as_solid_mut().expect("a solid").body.restitution = 0.6;
    shot.add(floor);
    let mut particles = alike(1);
    particles.contact = ContactResponse { restitution: 0.6, ..ContactResponse::default() };
    particles.start.size_m = 0.002;
    let id = shot.add(swarm(particles).at(0.0, 2.001, 0.0));
    let states: Vec<(f64, f64, f64)> = frames(&shot)
        .iter()
        .map(|f| (f, f.particles_of(id)))
        .map(|(f, p)| (f.time_s, f64::from(p.positions[0].y) - 0.001, f64::from(p.velocities[0].y)))
        .collect();
    let fall = (4.0 / G).sqrt();
    let top = states
        .iter()
        .filter(|(t, ..)| *t > fall && *t < fall * 2.1)
        .map(|(_, y, v)| y + v * v / (2.0 * G))
        .fold(0.0, f64::max);
    Experiment {
        key: "particle-bounce",
        statement: "A particle that falls 2 m bounces by its restitution of 0.6.".to_owned(),
        formula: "e² h",
        expected: 0.72,
        measured: top,
        tolerance: 0.01,
        unit: "m",
        axes: ("s", "m"),
        curve: states.iter().map(|(t, y, _)| (*t, *y)).collect(),
        reference: vec![(0.0, 0.72), (2.0, 0.72)],
    }
}

/// Friction: down an incline.
pub fn incline() -> Experiment {
    let (angle, friction) = (0.5f64, 0.3f64);
    let mut shot = bare(1.5);
    shot.add(gravity());
    let mut floor =
        Element::solid("Slope", Shape::plane(40.0, 4.0), Moves::Still).turned(0.0, 0.0, -angle as f32);
    floor.as_solid_mut().expect("a solid").body.friction = friction as f32;
    shot.add(floor);
    let mut particles = alike(1);
    particles.contact =
        ContactResponse { restitution: 0.0, friction: friction as f32, ..ContactResponse::default() };
    let up = Vec3::new(angle.sin() as f32, angle.cos() as f32, 0.0) * 0.01;
    let id = shot.add(swarm(particles).at(up.x, up.y, 0.0));
    let a = G * (angle.sin() - friction * angle.cos());
    let curve: Vec<(f64, f64)> = frames(&shot)
        .iter()
        .map(|f| (f.time_s, f64::from(f.particles_of(id).positions[0].distance(up))))
        .collect();
    let reference: Vec<(f64, f64)> = curve.iter().map(|(t, _)| (*t, 0.5 * a * t * t)).collect();
    Experiment {
        key: "particle-incline",
        statement: "A particle slides down an incline as its friction of 0.3 allows.".to_owned(),
        formula: "½ g (sin φ − μ cos φ) t²",
        expected: reference.last().expect("frames").1,
        measured: curve.last().expect("frames").1,
        tolerance: 0.01,
        unit: "m",
        axes: ("s", "m"),
        curve,
        reference,
    }
}

/// Nothing passes a millimetre of plate at 100 m/s.
pub fn plate() -> Experiment {
    let mut shot = bare(0.2);
    shot.add(Element::solid("Plate", Shape::cuboid(6.0, 0.001, 6.0), Moves::Still));
    let mut particles = alike(5_000);
    particles.source = Source::Shape { shape: Shape::cuboid(3.0, 1.0, 3.0), domain: EmissionDomain::Volume };
    particles.start = Start { speed_m_s: -100.0, spread_rad: 0.3, size_m: 0.001, ..particles.start };
    let id = shot.add(swarm(particles).at(0.0, 2.0, 0.0));
    let below = |f: &frames::Frame| f.particles_of(id).positions.iter().filter(|p| p.y < 0.0).count() as f64;
    let curve: Vec<(f64, f64)> = frames(&shot).iter().map(|f| (f.time_s, below(f))).collect();
    Experiment {
        key: "particle-plate",
        statement: "Of 5,000 particles at 100 m/s none passes a plate of 1 mm.".to_owned(),
        formula: "0",
        expected: 0.0,
        measured: curve.last().expect("frames").1,
        tolerance: 0.0,
        unit: "",
        axes: ("s", "through"),
        reference: vec![(0.0, 0.0), (0.2, 0.0)],
        curve,
    }
}

/// A split that adds no speed keeps momentum.
pub fn split() -> Experiment {
    let mut shot = bare(0.4);
    let mut particles = alike(40);
    particles.start = Start { speed_m_s: 3.0, spread_rad: 1.0, ..particles.start };
    particles.body.weight = Weight::MassKg(0.7);
    let split = Split { count: 7, inherited_velocity: 1.0, speed_m_s: 0.0, ..Split::default() };
    particles.events = vec![ParticleEvent {
        trigger: Trigger::Age { age_s: 0.25 },
        action: Action::Split(split),
        probability: 1.0,
    }];
    let id = shot.add(swarm(particles));
    let momentum = |f: &frames::Frame| {
        let of = f.particles_of(id);
        let mass = if of.len() == 40 { 0.7 } else { 0.1 };
        f64::from(of.velocities.iter().sum::<Vec3>().y * mass)
    };
    let curve: Vec<(f64, f64)> = frames(&shot).iter().map(|f| (f.time_s, momentum(f))).collect();
    let before = curve[0].1;
    Experiment {
        key: "particle-split",
        statement: "Forty particles that each split into seven keep their momentum.".to_owned(),
        formula: "Σ m v before",
        expected: before,
        measured: curve.last().expect("frames").1,
        tolerance: 0.001,
        unit: "N s",
        axes: ("s", "N s"),
        reference: vec![(0.0, before), (0.4, before)],
        curve,
    }
}

/// What is handed over to solids keeps its momentum.
pub fn handed_over() -> Experiment {
    let mut shot = bare(0.8);
    let mut block = Element::solid("Block", Shape::cuboid(0.1, 0.1, 0.1), Moves::Free);
    block.as_solid_mut().expect("a solid").from_particles = Some(30);
    let solid = shot.add(block);
    let mut particles = alike(30);
    particles.source = Source::Grid { count: [6, 1, 5], spacing_m: Vec3::splat(0.6) };
    particles.start = Start {
        speed_m_s: 2.0,
        speed_variation: 0.4,
        angular_speed_rad_s: 3.0,
        orientation_variation: 1.0,
        size_m: 0.1,
        ..particles.start
    };
    particles.events = vec![ParticleEvent {
        trigger: Trigger::Frame { frame: 10 },
        action: Action::Solid { solid },
        probability: 1.0,
    }];
    let id = shot.add(swarm(particles));
    // A ball of that size and density.
    let mass = 600.0 * 4.0 / 3.0 * std::f64::consts::PI * 0.05f64.powi(3);
    let momentum = |f: &frames::Frame| {
        let of = f.particles_of(id).velocities.iter().sum::<Vec3>();
        let bodies = f.bodies.get(&solid).map_or(Vec3::ZERO, |bodies| bodies.velocities.iter().sum());
        f64::from((of + bodies).y) * mass
    };
    let curve: Vec<(f64, f64)> = frames(&shot).iter().map(|f| (f.time_s, momentum(f))).collect();
    let before = curve[0].1;
    Experiment {
        key: "particle-handed-over",
        statement: "Thirty particles that become bodies keep their momentum.".to_owned(),
        formula: "Σ m v before",
        expected: before,
        measured: curve.last().expect("frames").1,
        tolerance: 0.001,
        unit: "N s",
        axes: ("s", "N s"),
        reference: vec![(0.0, before), (0.8, before)],
        curve,
    }
}

/// Packed particles keep their distance.
pub fn apart() -> Experiment {
    let mut shot = bare(1.0);
    let mut particles = alike(300);
    particles.source = Source::Shape { shape: Shape::cuboid(0.5, 0.5, 0.5), domain: EmissionDomain::Volume };
    particles.steering = Steering { min_distance_m: 0.07, ..Steering::default() };
    let id = shot.add(swarm(particles));
    let least = |f: &frames::Frame| {
        let positions = &f.particles_of(id).positions;
        let pairs = (0..positions.len()).flat_map(|i| (0..i).map(move |j| (i, j)));
        f64::from(pairs.map(|(i, j)| positions[i].distance(positions[j])).fold(f32::INFINITY, f32::min))
    };
    let curve: Vec<(f64, f64)> = frames(&shot).iter().map(|f| (f.time_s, least(f))).collect();
    Experiment {
        key: "particle-distance",
        statement: "Three hundred particles born in a heap come to keep their distance.".to_owned(),
        formula: "70 mm",
        expected: 0.07,
        measured: curve.last().expect("frames").1,
        tolerance: 0.01,
        unit: "m",
        axes: ("s", "m"),
        reference: vec![(0.0, 0.07), (1.0, 0.07)],
        curve,
    }
}

/// The value that χ² with so many degrees of freedom passes once in a hundred
/// times (E. Wilson and M. Hilferty, *The distribution of chi-square*, 1931).
fn once_in_a_hundred(freedom: f64) -> f64 {
    let part = 2.0 / (9.0 * freedom);
    freedom * (1.0 - part + 2.326_35 * part.sqrt()).powi(3)
}

/// χ² of counts that should be alike.
fn evenness(key: &'static str, statement: &str, counts: &[f64]) -> Experiment {
    let mean = counts.iter().sum::<f64>() / counts.len() as f64;
    let freedom = counts.len() as f64 - 1.0;
    let measured = counts.iter().map(|count| (count - mean).powi(2) / mean).sum();
    Experiment {
        key,
        statement: statement.to_owned(),
        formula: "χ² of as many cells less one, within its one in a hundred",
        expected: freedom,
        measured,
        tolerance: once_in_a_hundred(freedom) / freedom - 1.0,
        unit: "",
        axes: ("cell", "born"),
        curve: counts.iter().enumerate().map(|(i, count)| (i as f64, *count)).collect(),
        reference: vec![(0.0, mean), (freedom, mean)],
    }
}

fn born(from: Source, add: Option<Element>) -> Vec<Vec3> {
    let mut shot = bare(0.1);
    if let Some(element) = add {
        shot.add(element);
    }
    let mut particles = alike(40_000);
    (particles.source, particles.seed) = (from, 5);
    let id = shot.add(swarm(particles));
    last(&shot, id).positions
}

/// By area: cells of a quarter square metre on a box of 1 × 2 × 3 m.
pub fn by_area() -> Experiment {
    let size = Vec3::new(1.0, 2.0, 3.0);
    let shape = Shape::cuboid(size.x, size.y, size.z);
    let mut cells = std::collections::BTreeMap::new();
    for position in born(Source::Shape { shape, domain: EmissionDomain::Surface }, None) {
        let p = position + 0.5 * size;
        let face = (0..6)
            .min_by(|a, b| {
                let away = |f: &usize| if f.is_multiple_of(2) { p[f / 2] } else { size[f / 2] - p[f / 2] };
                away(a).abs().total_cmp(&away(b).abs())
            })
            .expect("six faces");
        let cell = |axis: usize| ((p[axis] * 2.0) as i32).clamp(0, (size[axis] * 2.0) as i32 - 1);
        *cells.entry((face, cell((face / 2 + 1) % 3), cell((face / 2 + 2) % 3))).or_insert(0.0) += 1.0;
    }
    assert_eq!(cells.len(), 88);
    let counts: Vec<f64> = cells.into_values().collect();
    evenness("births-by-area", "Births on a box are even by area.", &counts)
}

/// By length: fifty stretches of an uneven line.
pub fn by_length() -> Experiment {
    let points_m = vec![Vec3::ZERO, Vec3::X, Vec3::new(1.0, 3.0, 0.0), Vec3::new(1.0, 3.0, 0.25)];
    let line = Curve::Points { points_m, closed: false, smooth: false };
    let curve = Element::new("Line", ElementKind::Curve(line));
    let mut counts = vec![0.0; 50];
    for p in born(Source::Curve { curve: Id(1) }, Some(curve)) {
        let along = if p.z > 0.0 {
            4.0 + p.z
        } else if p.y > 0.0 {
            1.0 + p.y
        } else {
            p.x
        };
        counts[((along / 4.25 * 50.0) as usize).min(49)] += 1.0;
    }
    evenness("births-by-length", "Births on a line are even by length.", &counts)
}

/// By volume: shells and eighths of a ball.
pub fn by_volume() -> Experiment {
    let mut counts = vec![0.0; 80];
    // The ball's faces lie a little within it: shells are of the outermost radius met.
    let positions = born(Source::Shape { shape: Shape::sphere(1.0), domain: EmissionDomain::Volume }, None);
    for p in positions {
        let radius = f64::from(p.length());
        if radius >= 0.98 {
            continue;
        }
        let shell = ((radius / 0.98).powi(3) * 10.0) as usize;
        let eighth = usize::from(p.x > 0.0) + 2 * usize::from(p.y > 0.0) + 4 * usize::from(p.z > 0.0);
        counts[shell * 8 + eighth] += 1.0;
    }
    evenness("births-by-volume", "Births in a ball are even by volume.", &counts)
}

/// By a map: strips of a square whose weight rises from 0 to 1 across it, wide
/// as √k, so that each should have as many.
pub fn by_map() -> Experiment {
    let mut mesh = geometry::primitive::plane(1.0, 1.0);
    mesh.weights = mesh.positions.iter().map(|p| p.x + 0.5).collect();
    let mut meshes = geometry::Meshes::default();
    meshes.by_name.insert("ramp".to_owned(), std::sync::Arc::new(mesh));
    let mut particles = alike(40_000);
    let shape = Shape::Mesh { asset: "ramp".to_owned(), scale: 1.0 };
    (particles.source, particles.seed) = (Source::Shape { shape, domain: EmissionDomain::Surface }, 5);
    particles.emission.map =
        Some(EmissionMap { source: MapSource::Vertices {}, inverted: false, uniform_births: false });
    let mut shot = bare(0.1);
    let (kind, file) = (shot::AssetKind::Mesh, "assets/ramp.obj".to_owned());
    shot.assets.insert("ramp".to_owned(), shot::Asset { kind, file, sha256: String::new() });
    let id = shot.add(swarm(particles));
    let mut counts = vec![0.0; 60];
    let frame = Simulation::new(&shot, &meshes).expect("it prepares").write();
    for p in &frame.particles_of(id).positions {
        counts[((f64::from(p.x + 0.5).powi(2) * 60.0) as usize).min(59)] += 1.0;
    }
    evenness("births-by-map", "Births go by the weight of a map.", &counts)
}

/// All experiments.
pub fn all() -> Vec<Experiment> {
    vec![
        flight(),
        drag(),
        bounce(),
        incline(),
        plate(),
        split(),
        handed_over(),
        apart(),
        by_area(),
        by_length(),
        by_volume(),
        by_map(),
    ]
}
