//! Soft bodies against beam theory and elastic waves.

use crate::Experiment;
use crate::cloth::{places, run, shot, still_air};
use geometry::Meshes;
use glam::Vec3;
use shot::{Element, ElementKind, Moves, Pin, PinnedPart, Shape, Shot, Side, Soft};

const G: f64 = 9.81;

fn soft(shape: Shape, soft: Soft, held: &[Side]) -> Element {
    let mut element = Element::solid("Soft", shape, Moves::Free);
    let pins = held.iter().map(|side| Pin::hard(PinnedPart::Side(*side))).collect();
    element.as_solid_mut().expect("a solid").soft = Some(Soft { pins, drag: 0.0, ..soft });
    element
}

/// A bar that is clamped at one end sags by its own weight.
pub fn cantilever() -> Experiment {
    let (length, height, density, modulus) = (1.0f32, 0.12f32, 1_000.0f32, 1e8f32);
    let mut curve = Vec::new();
    let (mut worst, mut expected, mut measured) = (0.0, 0.0, 0.0);
    // With a larger Poisson ratio the clamp, which keeps the end from narrowing, stiffens the bar beyond beam theory.
    for (cells, poisson_ratio, substeps) in [(6, 0.0, 8), (8, 0.0, 4), (8, 0.3, 8)] {
        let mut shot = shot(1.0);
        shot.physics.substeps = substeps;
        let material = Soft {
            cell_m: height / cells as f32,
            edge_m: height,
            density_kg_m3: density,
            youngs_modulus_pa: modulus,
            poisson_ratio,
            damping_s: 0.001,
            ..Soft::default()
        };
        let id = shot.add(soft(Shape::cuboid(length, height, height), material, &[Side::Left]));
        shot.add(still_air(60.0, density * length * height * height));
        let last = run(&shot, &Meshes::default(), |_| ());
        let tip = places(&last, id).into_iter().filter(|p| p.x > 0.499 * length).map(|p| f64::from(p.y));
        let (sum, count) = tip.fold((0.0, 0.0), |(sum, count), y| (sum + y, count + 1.0));
        let sag: f64 = -sum / count;
        // S. Timoshenko, 1921, with the shear coefficient of G. Cowper, 1966.
        let (l, h, nu) = (f64::from(length), f64::from(height), f64::from(poisson_ratio));
        let weight = f64::from(density) * G / f64::from(modulus);
        let shear = (12.0 + 11.0 * nu) / (10.0 * (1.0 + nu));
        let formula = weight * l.powi(4) * 1.5 / (h * h) + weight * l * l * (1.0 + nu) * shear;
        curve.push((1.0 + curve.len() as f64, sag));
        if (sag / formula - 1.0).abs() >= worst {
            (worst, expected, measured) = ((sag / formula - 1.0).abs(), formula, sag);
        }
    }
    let reference = curve.iter().map(|(case, _)| (*case, expected)).collect();
    Experiment {
        key: "soft-cantilever",
        statement: "The end of a bar of 6 or 8 cells through its height, clamped at the other end, sags by its own weight; \
                    measured is the worst of three, with ν = 0 and 0.3, at 4 and 8 substeps."
            .to_owned(),
        formula: "3 ρ g L⁴ / (2 E h²) + ρ g L² / (2 κ G)",
        expected,
        measured,
        tolerance: 0.03,
        unit: "m",
        axes: ("case", "m"),
        reference,
        curve,
    }
}

/// A hung bar narrows at its middle by Poisson's ratio.
pub fn contraction() -> Experiment {
    let (length, width, density, modulus) = (1.0f32, 0.2f32, 1_000.0f32, 1e6f32);
    let (mut worst, mut expected, mut measured, mut curve) = (0.0, 0.0, 0.0, Vec::new());
    let mut reference = Vec::new();
    for poisson_ratio in [0.1, 0.3, 0.45] {
        let mut shot = shot(2.0);
        let material = Soft {
            cell_m: 0.05,
            edge_m: 0.05,
            density_kg_m3: density,
            youngs_modulus_pa: modulus,
            poisson_ratio,
            damping_s: 0.01,
            ..Soft::default()
        };
        let id = shot.add(soft(Shape::cuboid(width, length, width), material, &[Side::Top]));
        shot.add(still_air(10.0, density * length * width * width));
        let mut rest = Vec::new();
        let last = run(&shot, &Meshes::default(), |frame| {
            if rest.is_empty() {
                rest = places(frame, id);
            }
        });
        // The sides at the middle of the height.
        let span = |all: &[Vec3]| {
            let side = |sign: f32| {
                let of = rest.iter().zip(all).filter(|(at, _)| {
                    at.x * sign > 0.49 * width && at.y.abs() < 0.1 && at.z.abs() < 0.4 * width
                });
                let (sum, count) =
                    of.fold((0.0, 0.0), |(sum, count), (_, p)| (sum + f64::from(p.x), count + 1.0));
                sum / count
            };
            side(1.0) - side(-1.0)
        };
        let narrowed: f64 = span(&rest) - span(&places(&last, id));
        let strain = f64::from(density) * G * 0.5 * f64::from(length) / f64::from(modulus);
        let formula = f64::from(poisson_ratio) * strain * f64::from(width);
        curve.push((f64::from(poisson_ratio), narrowed));
        reference.push((f64::from(poisson_ratio), formula));
        if (narrowed / formula - 1.0).abs() >= worst {
            (worst, expected, measured) = ((narrowed / formula - 1.0).abs(), formula, narrowed);
        }
    }
    Experiment {
        key: "soft-contraction",
        statement:
            "A hung bar narrows at the middle of its height; measured is the worst of three Poisson ratios."
                .to_owned(),
        formula: "ν w ρ g L / (2 E)",
        expected,
        measured,
        tolerance: 0.03,
        unit: "m",
        axes: ("Poisson's ratio", "m"),
        reference,
        curve,
    }
}

/// A ball that has bounced off rings in its lowest mode.
pub fn ringing_sphere() -> Experiment {
    let (radius, density, modulus) = (0.25f32, 80.0f32, 15_000.0f32);
    let mut shot = Shot::empty("Experiment");
    shot.timing.fps = 240.0;
    shot.timing.last = shot.timing.first + 120;
    let gravity = |element: &Element| matches!(&element.kind, ElementKind::Force(_));
    shot.elements.retain(|element| !gravity(element));
    shot.add(Element::solid("Wall", Shape::plane(4.0, 4.0), Moves::Still));
    let material = Soft {
        cell_m: 0.0625,
        edge_m: 0.05,
        density_kg_m3: density,
        youngs_modulus_pa: modulus,
        poisson_ratio: 0.25,
        damping_s: 0.0,
        ..Soft::default()
    };
    let mut ball = soft(Shape::sphere(radius), material, &[]).at(0.0, radius + 0.01, 0.0);
    ball.as_solid_mut().expect("a solid").body.launch_velocity = Some(-0.4 * Vec3::Y);
    let id = shot.add(ball);
    let mut curve = Vec::new();
    run(&shot, &Meshes::default(), |frame| {
        let all = places(frame, id);
        let low = all.iter().copied().reduce(Vec3::min).expect("a mesh");
        let size = all.iter().copied().reduce(Vec3::max).expect("a mesh") - low;
        if low.y > 0.004 && frame.time_s > 0.05 {
            curve.push((frame.time_s, f64::from(size.y - 0.5 * (size.x + size.z))));
        }
    });
    let mean = curve.iter().map(|(_, off)| off).sum::<f64>() / curve.len() as f64;
    curve.iter_mut().for_each(|(_, off)| *off -= mean);
    let crossings: Vec<f64> = (curve.windows(2))
        .filter(|pair| pair[0].1 < 0.0 && pair[1].1 >= 0.0)
        .map(|pair| pair[0].0 - pair[0].1 * (pair[1].0 - pair[0].0) / (pair[1].1 - pair[0].1))
        .collect();
    let periods = crossings.len() - 1;
    let measured = periods as f64 / (crossings[periods] - crossings[0]);
    let shear_speed = (f64::from(modulus) / 2.5 / f64::from(density)).sqrt();
    let expected = 2.640 * shear_speed / f64::from(radius) / std::f64::consts::TAU;
    let most = curve.iter().map(|(_, off)| off.abs()).fold(0.0, f64::max);
    let first = crossings[0];
    Experiment {
        key: "ringing-sphere",
        statement: "A ball that has bounced off a wall rings in its lowest spheroidal mode (H. Lamb, *On the vibrations of an \
                    elastic sphere*, 1882, for ν = ¼)."
            .to_owned(),
        formula: "2.640 √(G / ρ) / (2π R)",
        expected,
        measured,
        tolerance: 0.05,
        unit: "Hz",
        axes: ("s", "m"),
        reference: (curve.iter())
            .map(|(t, _)| (*t, most * (std::f64::consts::TAU * expected * (t - first)).sin()))
            .collect(),
        curve,
    }
}

/// All experiments.
pub fn all() -> Vec<Experiment> {
    vec![cantilever(), contraction(), ringing_sphere()]
}
