//! Cloth against statics and mechanics.

use crate::Experiment;
use frames::Frame;
use geometry::{Mesh, Meshes};
use glam::{Vec2, Vec3};
use shot::{
    Cloth, Element, ElementKind, Id, Moves, Pin, PinnedPart, Shape, Shot, Side,
    force::{Force, ForceKind, Push, Wind},
};
use simulate::Simulation;
use std::f32::consts::FRAC_PI_2;
use std::sync::Arc;

const G: f64 = 9.81;

pub(crate) fn shot(seconds: f32) -> Shot {
    let mut shot = Shot::empty("Experiment");
    shot.timing.last = shot.timing.first + (seconds * shot.timing.fps) as u32;
    shot
}

/// A cloth that is held at some parts.
fn cloth(shape: Shape, cloth: Cloth, held: &[PinnedPart]) -> Element {
    let mut element = Element::solid("Cloth", shape, Moves::Free);
    let pins = held.iter().map(|part| Pin::hard(part.clone())).collect();
    element.as_solid_mut().expect("a solid").cloth = Some(Cloth { pins, ..cloth });
    element
}

/// What is seen of each frame.
pub(crate) fn run(shot: &Shot, meshes: &Meshes, mut see: impl FnMut(&Frame)) -> Frame {
    let mut simulation = Simulation::new(shot, meshes).expect("a sound shot");
    let mut frame = simulation.write();
    see(&frame);
    while frame.number < shot.timing.last {
        frame = simulation.advance().expect("it holds");
        see(&frame);
    }
    frame
}

/// Positions of the vertices in space.
pub(crate) fn places(frame: &Frame, id: Id) -> Vec<Vec3> {
    let (bodies, mesh) = (&frame.bodies[&id], &frame.meshes[&id]);
    mesh.positions.iter().map(|p| bodies.positions[0] + *p).collect()
}

/// Air at rest that takes so much of each velocity away, 1/s, from a cloth of so much mass.
pub(crate) fn still_air(rate: f32, mass_kg: f32) -> Element {
    let drag = ForceKind::Drag { linear_n_s_m: rate * mass_kg, density_kg_m3: 0.0 };
    Element::new("Still air", ElementKind::Force(Force::new(drag)))
}

/// A strip hung at one end stretches by its own weight, whatever its mesh and steps.
pub fn hung_strip() -> Experiment {
    let (length, mass, weft_n_m) = (2.0f32, 0.5f32, 4_000.0f32);
    let expected = f64::from(mass) * G * f64::from(length * length) / (4.0 * f64::from(weft_n_m));
    let (mut worst, mut measured, mut curve) = (0.0, 0.0, Vec::new());
    for (points, poisson_ratio, substeps) in
        [(10, 0.0, 4), (10, 0.3, 8), (40, 0.0, 4), (40, 0.3, 2), (100, 0.3, 8), (200, 0.3, 4)]
    {
        let mut shot = shot(4.0);
        shot.physics.substeps = substeps;
        let edge_m = length / points as f32;
        let material = Cloth {
            edge_m,
            mass_kg_m2: mass,
            warp_n_m: weft_n_m,
            weft_n_m,
            shear_n_m: weft_n_m / (2.0 * (1.0 + poisson_ratio)),
            poisson_ratio,
            damping_s: 0.05,
            ..Cloth::default()
        };
        let strip = cloth(Shape::plane(0.2, length), material, &[PinnedPart::Side(Side::Back)]);
        let id = shot.add(strip.turned(FRAC_PI_2, 0.0, 0.0));
        shot.add(still_air(4.0, mass * 0.2 * length));
        let frame = run(&shot, &Meshes::default(), |_| ());
        // The way between the two quarters, of which v of the UVs tells the places at rest.
        let mesh = &frame.meshes[&id];
        let mean = |at: f32| {
            let near = |uv: &Vec2| (uv.y - at).abs() < 0.5 / points as f32 + 1e-4;
            let of: Vec<(f64, f64)> = (mesh.topology.uvs().iter().zip(&mesh.positions))
                .filter(|(uv, _)| near(uv))
                .map(|(uv, p)| (f64::from(uv.y), f64::from(p.y)))
                .collect();
            let n = of.len() as f64;
            (of.iter().map(|(v, _)| v).sum::<f64>() / n, of.iter().map(|(_, y)| y).sum::<f64>() / n)
        };
        let ((v0, y0), (v1, y1)) = (mean(0.25), mean(0.75));
        let rest = (v1 - v0) * f64::from(length);
        let stretch = ((y1 - y0).abs() - rest) * (0.5 * f64::from(length) / rest);
        let off: f64 = (stretch / expected - 1.0).abs();
        curve.push((f64::from(points), stretch));
        if off >= worst {
            (worst, measured) = (off, stretch);
        }
    }
    Experiment {
        key: "hung-strip",
        statement: "The middle half of a hung strip stretches by its own weight; measured is the worst of six, of 10 to \
                    200 points along it, with ν = 0 and 0.3, at 2 to 8 substeps."
            .to_owned(),
        formula: "ρ g L² / (4 E t)",
        expected,
        measured,
        tolerance: 0.02,
        unit: "m",
        axes: ("points", "m"),
        reference: curve.iter().map(|(points, _)| (*points, expected)).collect(),
        curve,
    }
}

/// A closed skin grows under a pressure within as a thin wall does.
pub fn skin_pressure() -> Experiment {
    let stiffness = 1_000.0f32;
    let (mut worst, mut expected, mut measured, mut curve, mut reference) =
        (0.0, 0.0, 0.0, Vec::new(), Vec::new());
    for (radius, poisson_ratio, pressure_pa, edge_m) in
        [(0.3, 0.0, 60.0, 0.05), (0.5, 0.3, 20.0, 0.05), (0.2, 0.3, 100.0, 0.02)]
    {
        let mut shot = shot(2.0);
        shot.elements.retain(|element| element.as_force().is_none());
        let skin = Cloth {
            edge_m,
            warp_n_m: stiffness,
            weft_n_m: stiffness,
            shear_n_m: stiffness / (2.0 * (1.0 + poisson_ratio)),
            poisson_ratio,
            bend_n_m: 0.0,
            damping_s: 0.01,
            pressure_pa,
            ..Cloth::default()
        };
        let id = shot.add(cloth(Shape::sphere(radius), skin, &[]));
        let size = |frame: &Frame| {
            let all = places(frame, id);
            let middle = all.iter().sum::<Vec3>() / all.len() as f32;
            all.iter().map(|p| f64::from(p.distance(middle))).sum::<f64>() / all.len() as f64
        };
        let mut first = None;
        let last = run(&shot, &Meshes::default(), |frame| {
            first.get_or_insert(size(frame));
        });
        let strain = size(&last) / first.expect("there is a first frame") - 1.0;
        let formula = f64::from(pressure_pa * radius * (1.0 - poisson_ratio) / (2.0 * stiffness));
        curve.push((curve.len() as f64 + 1.0, strain));
        reference.push((reference.len() as f64 + 1.0, formula));
        let off: f64 = (strain / formula - 1.0).abs();
        if off >= worst {
            (worst, expected, measured) = (off, formula, strain);
        }
    }
    Experiment {
        key: "skin-pressure",
        statement: "A sphere of cloth under a pressure within grows by a strain; measured is the worst of three sizes, \
                    with ν = 0 and 0.3."
            .to_owned(),
        formula: "p r (1 − ν) / (2 E t)",
        expected,
        measured,
        tolerance: 0.03,
        unit: "",
        axes: ("case", "strain"),
        reference,
        curve,
    }
}

/// Coordinates of a strip that is clamped level at one end and bends by its own weight, from the clamp to its tip: the
/// solution of B θ″ = w (L − s) cos θ with θ(0) = 0 and θ′(L) = 0 (W. Bickley, *The heavy elastica*, 1934), found by halving
/// the slope of θ at the clamp.
fn heavy_elastica(length: f64, weight_over_stiffness: f64) -> Vec<(f64, f64)> {
    const STEPS: usize = 2_000;
    let step = length / STEPS as f64;
    let shoot = |slope: f64| {
        let (mut angle, mut rate, mut x, mut y) = (0.0f64, slope, 0.0, 0.0);
        let mut all = vec![(0.0, 0.0)];
        for i in 0..STEPS {
            let bend = |s: f64, angle: f64| weight_over_stiffness * (length - s) * angle.cos();
            // The midpoint rule.
            let s = step * i as f64;
            let (middle, middle_rate) = (angle + 0.5 * step * rate, rate - 0.5 * step * bend(s, angle));
            rate -= step * bend(s + 0.5 * step, middle);
            angle += step * middle_rate;
            x += step * middle.cos();
            y -= step * middle.sin();
            all.push((x, y));
        }
        (rate, all)
    };
    let (mut low, mut high) = (0.0, 10.0 * weight_over_stiffness * length * length);
    for _ in 0..100 {
        let middle = 0.5 * (low + high);
        if shoot(middle).0 < 0.0 { low = middle } else { high = middle }
    }
    shoot(low).1
}

/// A strip that is clamped at one end against the heavy elastica, on a grid or on a mesh whose points are moved at random.
pub fn clamped_strip(irregular: bool) -> Experiment {
    let (length, width, parts) = (0.6f32, 0.1f32, 60u32);
    let edge = length / parts as f32;
    let mut mesh =
        Mesh::refined(&Shape::plane(length, width), geometry::primitive::plane(length, width), edge, 10_000)
            .expect("few points");
    if irregular {
        for (i, p) in mesh.positions.iter_mut().enumerate() {
            let inner = p.x > -0.5 * length + 1.5 * edge && p.x < 0.499 * length && p.z.abs() < 0.49 * width;
            if inner {
                p.x += 0.25 * edge * (i as f32 * 1.7).sin();
                p.z += 0.25 * edge * (i as f32 * 2.9).sin();
            }
        }
    }
    let mut meshes = Meshes::default();
    meshes.by_name.insert("strip".to_owned(), Arc::new(mesh));
    let mut shot = shot(5.0);
    shot.physics.substeps = 4;
    let (mass, bend_n_m) = (0.3f32, 0.02f32);
    let material = Cloth {
        edge_m: 2.0 * edge,
        mass_kg_m2: mass,
        bend_n_m,
        warp_n_m: 40_000.0,
        weft_n_m: 40_000.0,
        poisson_ratio: 0.0,
        drag: 0.0,
        lift: 0.0,
        ..Cloth::default()
    };
    let clamp = Vec3::new(-0.5 * length, 0.0, 0.0);
    // The two first rows of points are held, so that the strip leaves them level.
    let first_row = |side: f32| PinnedPart::Point {
        position_m: clamp + Vec3::new(0.5 * edge, 0.0, side * 0.5 * width),
        radius_m: 0.6 * edge,
    };
    let mut parts_held: Vec<PinnedPart> = Vec::new();
    let rows = (width / edge).round() as i32;
    for row in 0..=rows {
        let z = (row as f32 / rows as f32 - 0.5) * 2.0;
        parts_held.push(first_row(z));
    }
    let shape = Shape::Mesh { asset: "strip".to_owned(), scale: 1.0 };
    let id = shot.add(cloth(shape, material, &parts_held));
    shot.add(still_air(4.0, mass * length * width));
    let last = run(&shot, &meshes, |_| ());
    // The curvature at the second row acts on the halves of both edges that meet there: the clamp is half an edge before it.
    let free = f64::from(length - 0.5 * edge);
    let exact = heavy_elastica(free, f64::from(mass) * G / f64::from(bend_n_m));
    let tip = exact[exact.len() - 1];
    let start = -0.5 * f64::from(length) + 0.5 * f64::from(edge);
    let mut curve: Vec<(f64, f64)> =
        places(&last, id).iter().map(|p| (f64::from(p.x) - start, f64::from(p.y))).collect();
    curve.sort_by(|a, b| a.0.total_cmp(&b.0));
    let lowest = curve.iter().map(|(_, y)| *y).fold(f64::INFINITY, f64::min);
    Experiment {
        key: if irregular { "heavy-elastica-irregular" } else { "heavy-elastica" },
        statement: format!(
            "The end of a strip that is clamped level hangs so far below the clamp by its own weight, on {}.",
            if irregular { "a mesh whose points are moved at random" } else { "a grid" }
        ),
        formula: "B θ″ = w (L − s) cos θ",
        expected: -tip.1,
        measured: -lowest,
        tolerance: if irregular { 0.05 } else { 0.03 },
        unit: "m",
        axes: ("m", "m"),
        curve: curve.into_iter().step_by(5).collect(),
        reference: exact.into_iter().step_by(50).collect(),
    }
}

/// A strip between two points hangs as a catenary.
pub fn catenary() -> Experiment {
    let (length, apart, width, parts) = (2.0f32, 1.3f32, 0.1f32, 40u32);
    // At rest it is two straight halves of the length, with its ends where they are held.
    let depth = (0.25 * length * length - 0.25 * apart * apart).sqrt();
    let mut mesh = Mesh::default();
    for i in 0..=parts {
        let u = i as f32 / parts as f32;
        for z in [-0.5, 0.5] {
            mesh.positions.push(Vec3::new(
                (u - 0.5) * apart,
                depth * ((2.0 * u - 1.0).abs() - 1.0),
                z * width,
            ));
            mesh.normals.push(Vec3::Y);
            mesh.uvs.push(Vec2::new(u, z + 0.5));
        }
    }
    for i in 0..parts {
        let [a, b, c, d] = [2 * i, 2 * i + 1, 2 * i + 3, 2 * i + 2];
        mesh.triangles.extend([[a, b, c], [a, c, d]]);
    }
    let mut meshes = Meshes::default();
    meshes.by_name.insert("strip".to_owned(), Arc::new(mesh));
    let mut shot = shot(6.0);
    let material =
        Cloth { edge_m: 1.0, bend_n_m: 0.0, warp_n_m: 20_000.0, weft_n_m: 20_000.0, ..Cloth::default() };
    let ends = [PinnedPart::Side(Side::Left), PinnedPart::Side(Side::Right)];
    let id = shot.add(cloth(Shape::Mesh { asset: "strip".to_owned(), scale: 1.0 }, material, &ends));
    shot.add(still_air(3.0, 0.3 * length * width));
    let frame = run(&shot, &meshes, |_| ());
    // 2 a sinh(d / 2 a) = L.
    let (length, apart) = (f64::from(length), f64::from(apart));
    let (mut low, mut high) = (1e-3, 1e3);
    for _ in 0..200 {
        let a = 0.5 * (low + high);
        if 2.0 * a * (0.5 * apart / a).sinh() > length { low = a } else { high = a }
    }
    let shape = |x: f64| low * ((x / low).cosh() - (0.5 * apart / low).cosh());
    let curve: Vec<(f64, f64)> =
        places(&frame, id).iter().map(|p| (f64::from(p.x), f64::from(p.y))).step_by(2).collect();
    let reference: Vec<(f64, f64)> = curve.iter().map(|(x, _)| (*x, shape(*x))).collect();
    Experiment {
        key: "catenary",
        statement: "A strip of 2 m between two points 1.3 m apart hangs as a catenary; measured is its sag."
            .to_owned(),
        formula: "a (cosh(d / 2a) − 1), 2 a sinh(d / 2a) = L",
        expected: -shape(0.0),
        measured: -curve.iter().map(|(_, y)| *y).fold(0.0, f64::min),
        tolerance: 0.01,
        unit: "m",
        axes: ("m", "m"),
        curve,
        reference,
    }
}

/// A strip that swings without damping keeps its amplitude.
pub fn swinging_strip() -> Experiment {
    let mut shot = shot(8.0);
    let material = Cloth { edge_m: 0.1, damping_s: 0.0, drag: 0.0, lift: 0.0, ..Cloth::default() };
    let strip = cloth(Shape::plane(0.2, 1.0), material, &[PinnedPart::Side(Side::Back)]);
    let id = shot.add(strip.turned(FRAC_PI_2 - 0.1, 0.0, 0.0));
    let mut curve = Vec::new();
    run(&shot, &Meshes::default(), |frame| {
        curve.push((frame.time_s, f64::from(frame.bodies[&id].positions[0].z)));
    });
    let mean = curve.iter().map(|(_, z)| z).sum::<f64>() / curve.len() as f64;
    curve.iter_mut().for_each(|(_, z)| *z -= mean);
    let peaks: Vec<(f64, f64)> = (curve.windows(3))
        .filter(|w| w[1].1.abs() > w[0].1.abs() && w[1].1.abs() >= w[2].1.abs())
        .map(|w| (w[1].0, w[1].1.abs()))
        .collect();
    let (first, last) = (peaks[0], peaks[peaks.len() - 1]);
    let periods = 0.5 * (peaks.len() - 1) as f64;
    Experiment {
        key: "swinging-strip",
        statement: "A strip that swings without damping keeps its amplitude at the default substeps; measured is the \
                    part that it loses in a period."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: (1.0 - (last.1 / first.1).powf(1.0 / periods)).max(0.0),
        tolerance: 0.02,
        unit: "",
        axes: ("s", "m"),
        reference: vec![(first.0, first.1), (last.0, first.1)],
        curve,
    }
}

/// A sheet on a slope whose angle has the tangent `slope`; how far its middle has gone along it.
fn on_slope(slope: f32, seconds: f32) -> (Vec<(f64, f64)>, f64) {
    let mut shot = shot(seconds);
    let angle = slope.atan();
    let mut ground = Element::solid("Slope", Shape::plane(60.0, 4.0), Moves::Still).turned(0.0, 0.0, -angle);
    ground.as_solid_mut().expect("a solid").body.friction = 0.5;
    shot.add(ground);
    let material = Cloth { edge_m: 0.1, drag: 0.0, lift: 0.0, ..Cloth::default() };
    // Just above the distance of its thickness.
    let above = 0.00401 / angle.cos();
    let id =
        shot.add(cloth(Shape::plane(0.6, 0.6), material, &[]).at(0.0, above, 0.0).turned(0.0, 0.0, -angle));
    let along = Vec3::new(angle.cos(), -angle.sin(), 0.0);
    let mut curve = Vec::new();
    run(&shot, &Meshes::default(), |frame| {
        curve.push((frame.time_s, f64::from(frame.bodies[&id].positions[0].dot(along))));
    });
    let gone = curve[curve.len() - 1].1 - curve[0].1;
    (curve, gone)
}

/// A sheet slides down a slope as its friction of 0.5 allows.
pub fn sliding_sheet() -> Experiment {
    let (slope, seconds) = (0.8f32, 1.5f32);
    let (curve, measured) = on_slope(slope, seconds);
    let angle = f64::from(slope).atan();
    let acceleration = G * (angle.sin() - 0.5 * angle.cos());
    let gone = |t: f64| 0.5 * acceleration * t * t;
    Experiment {
        key: "sliding-sheet",
        statement: "A sheet slides down a slope of 0.8 as its friction of 0.5 allows, for 1.5 s.".to_owned(),
        formula: "½ g (sin φ − μ cos φ) t²",
        expected: gone(f64::from(seconds)),
        measured,
        tolerance: 0.02,
        unit: "m",
        axes: ("s", "m"),
        reference: curve.iter().map(|(t, _)| (*t, gone(*t))).collect(),
        curve,
    }
}

/// A sheet stays on a slope that its friction holds it on.
pub fn resting_sheet() -> Experiment {
    let (curve, gone) = on_slope(0.45, 10.0);
    let settled = curve[24].1 - curve[0].1;
    Experiment {
        key: "resting-sheet",
        statement: "A sheet of friction 0.5 on a slope of 0.45 stays where it is from the second second to the tenth.".to_owned(),
        formula: "0",
        expected: 0.0,
        measured: 1e3 * (gone - settled).abs(),
        tolerance: 1.0,
        unit: "mm",
        axes: ("s", "m"),
        reference: curve.iter().map(|(t, _)| (*t, curve[24].1)).collect(),
        curve,
    }
}

/// A sheet that falls flat through air at rest comes to the speed at which the air bears its weight.
pub fn falling_sheet() -> Experiment {
    let mut shot = shot(4.0);
    let (mass, drag, density) = (0.12f32, 1.3f32, 1.2f32);
    let material = Cloth {
        edge_m: 0.1,
        mass_kg_m2: mass,
        drag,
        lift: drag,
        // Stiff, so that it stays flat.
        bend_n_m: 0.5,
        ..Cloth::default()
    };
    let id = shot.add(cloth(Shape::plane(0.5, 0.5), material, &[]).at(3.0, 40.0, -2.0));
    let air = Wind {
        speed_m_s: 0.0,
        gust: 0.0,
        eddy: 0.0,
        push: Push::Air { density_kg_m3: density },
        ..Wind::default()
    };
    shot.add(Element::new("Air", ElementKind::Force(Force::new(ForceKind::Wind(air)))));
    let mut curve = Vec::new();
    run(&shot, &Meshes::default(), |frame| {
        curve.push((frame.time_s, -f64::from(frame.bodies[&id].velocities[0].y)));
    });
    let expected = (2.0 * f64::from(mass) * G / f64::from(density * drag)).sqrt();
    let exact = |t: f64| expected * (G * t / expected).tanh();
    Experiment {
        key: "falling-sheet",
        statement: "A sheet that falls flat through air at rest reaches its terminal speed.".to_owned(),
        formula: "√(2 m g / (ρ C)), v(t) = v tanh(g t / v)",
        expected,
        measured: curve[curve.len() - 1].1,
        tolerance: 0.01,
        unit: "m/s",
        axes: ("s", "m/s"),
        reference: curve.iter().map(|(t, _)| (*t, exact(*t))).collect(),
        curve,
    }
}

/// A sheet that is held at two corners and let go swings for a minute without air or damping: the sum of its kinetic energy and of
/// that by its height never exceeds the sum at the start, as it is not stretched there.
pub fn energy_of_a_minute() -> Experiment {
    let mut shot = shot(60.0);
    let mass = 0.3f32;
    let material =
        Cloth { edge_m: 0.1, mass_kg_m2: mass, damping_s: 0.0, drag: 0.0, lift: 0.0, ..Cloth::default() };
    let held = [PinnedPart::Corners(Side::Back)];
    let id = shot.add(cloth(Shape::plane(1.0, 1.0), material, &held).at(-4.0, 9.0, 2.0));
    let mut curve = Vec::new();
    run(&shot, &Meshes::default(), |frame| {
        let (mesh, body) = (&frame.meshes[&id], &frame.bodies[&id]);
        // Each vertex of the grid has the mass of the area around it.
        let n = mesh.positions.len();
        let mut areas = vec![0.0f64; n];
        let rest = |v: u32| {
            let side = 11;
            Vec2::new((v % side) as f32, (v / side) as f32) * 0.1
        };
        for t in mesh.topology.triangles() {
            let [a, b, c] = t.map(rest);
            let third = f64::from((b - a).perp_dot(c - a).abs()) / 6.0;
            t.iter().for_each(|v| areas[*v as usize] += third);
        }
        let energy: f64 = (0..n)
            .map(|i| {
                let height = f64::from(body.positions[0].y + mesh.positions[i].y) - 9.0;
                let square = f64::from((body.velocities[0] + mesh.velocities[i]).length_squared());
                f64::from(mass) * areas[i] * (0.5 * square + G * height)
            })
            .sum();
        curve.push((frame.time_s, energy));
    });
    let most = curve.iter().map(|(_, energy)| *energy).fold(f64::NEG_INFINITY, f64::max);
    // Against the energy that the fall sets free: m g times half the side.
    let scale = f64::from(mass) * G * 0.5;
    Experiment {
        key: "energy-of-a-minute",
        statement: "A sheet that swings for 60 s without air and damping has no more energy than at the start; measured \
                    is the most that it gains, as a part of m g L / 2."
            .to_owned(),
        formula: "0",
        expected: 0.0,
        measured: ((most - curve[0].1) / scale).max(0.0),
        tolerance: 0.001,
        unit: "",
        axes: ("s", "J"),
        reference: vec![(0.0, curve[0].1), (60.0, curve[0].1)],
        curve,
    }
}

/// All of them.
pub fn all() -> Vec<Experiment> {
    vec![
        hung_strip(),
        catenary(),
        clamped_strip(false),
        clamped_strip(true),
        skin_pressure(),
        swinging_strip(),
        sliding_sheet(),
        resting_sheet(),
        falling_sheet(),
        energy_of_a_minute(),
    ]
}
