//! The renderer against light transport.

use crate::Experiment;
use glam::{Vec2, Vec3};
use picture::{Picture, Scene, Settings, render};
use shot::{
    Camera, Element, ElementKind, Moves, Shape, Shot,
    light::{AreaLight, Sky, SkySource, Sun},
    look::Look,
};
use std::f32::consts::{FRAC_1_PI, FRAC_PI_2};

/// A shot with a camera 4 m before the origin, and nothing else.
fn bare() -> Shot {
    let mut shot = Shot::empty("Experiment");
    shot.elements.clear();
    let camera = Element::new("Camera", ElementKind::Camera(Camera::default())).at(0.0, 0.0, 4.0);
    shot.camera = Some(shot.add(camera));
    shot
}

fn white_sky() -> Element {
    let source = SkySource::Gradient { zenith: Vec3::ONE, horizon: Vec3::ONE, ground: Vec3::ONE };
    Element::new("Sky", ElementKind::Sky(Sky { strength: 1.0, source }))
}

fn still(shape: Shape, look: Look) -> Element {
    let mut element = Element::solid("Body", shape, Moves::Still);
    element.as_solid_mut().expect("a solid").look = look;
    element
}

/// A ball of albedo 0.5 without a coat: Lambert's law alone.
fn matt_ball() -> Element {
    still(Shape::sphere(1.0), Look { albedo: Vec3::splat(0.5), refractive_index: 1.0, ..Look::default() })
}

fn picture(shot: &Shot, size: u32, samples: u32) -> Picture {
    let scene = Scene::new(shot, &Default::default(), None, 1).expect("a stage");
    let settings = Settings { width: size, height: size, samples, clamp: f32::INFINITY, soften: false };
    render(&scene, &settings, &|_| true).expect("not stopped")
}

/// An experiment on the radiance of a ball, over its pixels whose normals face
/// the camera; its curves are means over bins of `x`.
fn on_ball(
    key: &'static str,
    statement: &str,
    formula: &'static str,
    shot: &Shot,
    x: impl Fn(Vec3) -> f32,
    expected: impl Fn(Vec3) -> f32,
) -> Experiment {
    const BINS: usize = 16;
    let picture = picture(shot, 64, 128);
    let normals = picture.normal.iter().map(|normal| Vec3::from(*normal));
    let mut seen: Vec<[f64; 3]> = normals
        .zip(&picture.rgb)
        .filter(|(normal, _)| normal.z > 0.8)
        .map(|(normal, rgb)| [x(normal), rgb[0], expected(normal)].map(f64::from))
        .filter(|[_, _, expected]| *expected > 0.0)
        .collect();
    seen.sort_by(|a, b| a[0].total_cmp(&b[0]));
    let mean = |of: &[[f64; 3]], i: usize| of.iter().map(|s| s[i]).sum::<f64>() / of.len() as f64;
    let bins: Vec<_> = seen.chunks(seen.len().div_ceil(BINS)).collect();
    Experiment {
        key,
        statement: statement.to_owned(),
        formula,
        expected: mean(&seen, 2),
        measured: mean(&seen, 1),
        tolerance: 0.01,
        unit: "W/m² sr",
        axes: ("cos θ", "radiance, W/m² sr"),
        curve: bins.iter().map(|bin| (mean(bin, 0), mean(bin, 1))).collect(),
        reference: bins.iter().map(|bin| (mean(bin, 0), mean(bin, 2))).collect(),
    }
}

/// A matt ball under a small sun.
pub fn sun() -> Experiment {
    let mut shot = bare();
    let sun = Sun { irradiance: 3.0, colour: Vec3::ONE, angle_rad: 0.01 };
    shot.add(Element::new("Sun", ElementKind::Sun(sun)).turned(0.9, 0.0, 0.0));
    shot.add(matt_ball());
    let to_sun = Vec3::new(0.0, 0.9f32.cos(), 0.9f32.sin());
    let cos = |normal: Vec3| normal.dot(to_sun);
    let lambert = |normal: Vec3| 0.5 * FRAC_1_PI * 3.0 * cos(normal).max(0.0);
    let statement = "A matt ball under a sun has the radiance of Lambert's cosine law.";
    on_ball("sun", statement, "ρ/π E cos θ", &shot, cos, lambert)
}

/// Irradiance of a uniform polygon by Lambert's formula (1760).
fn polygon_irradiance(point: Vec3, normal: Vec3, corners: &[Vec3], radiance: f32) -> f32 {
    let d: Vec<Vec3> = corners.iter().map(|c| (*c - point).normalize()).collect();
    let edge = |i: usize| {
        let (a, b) = (d[i], d[(i + 1) % d.len()]);
        a.dot(b).clamp(-1.0, 1.0).acos() * a.cross(b).normalize().dot(normal)
    };
    0.5 * radiance * (0..d.len()).map(edge).sum::<f32>().abs()
}

/// A matt ball before a rectangle that shines.
pub fn area_light() -> Experiment {
    let mut shot = bare();
    let light = AreaLight { size_m: Vec2::new(1.6, 1.0), radiance: 5.0, colour: Vec3::ONE };
    // It hangs behind the camera and shines along −z.
    let lamp =
        Element::new("Lamp", ElementKind::AreaLight(light)).at(0.0, 0.0, 5.0).turned(FRAC_PI_2, 0.0, 0.0);
    shot.add(lamp);
    shot.add(matt_ball());
    let corners = [(-0.8, -0.5), (0.8, -0.5), (0.8, 0.5), (-0.8, 0.5)].map(|(x, y)| Vec3::new(x, y, 5.0));
    let lambert = |normal: Vec3| 0.5 * FRAC_1_PI * polygon_irradiance(normal, normal, &corners, 5.0);
    let statement =
        "A matt ball before a rectangle of light has the radiance of Lambert's polygon formula (1760).";
    on_ball("area-light", statement, "ρ/π · L/2 Σ Θᵢ Γᵢ·n", &shot, |n| n.z, lambert)
}

/// White bodies in a white furnace: the largest error of any pixel, by roughness.
pub fn furnace(name: &'static str, metalness: f32, transmission: f32) -> Experiment {
    let curve: Vec<(f64, f64)> = [0.0f32, 0.1, 0.25, 0.4, 0.6, 0.8, 1.0]
        .into_iter()
        .map(|roughness| {
            let mut shot = bare();
            shot.add(white_sky());
            let look = Look { albedo: Vec3::ONE, roughness, metalness, transmission, ..Look::default() };
            shot.add(still(Shape::sphere(1.0), look));
            // The ball fills the picture's middle.
            let errors = picture(&shot, 6, 8192).rgb.into_iter().map(|rgb| f64::from((rgb[0] - 1.0).abs()));
            (f64::from(roughness), errors.fold(0.0, f64::max))
        })
        .collect();
    Experiment {
        key: name,
        statement: format!(
            "A white body ({}) in a white furnace is invisible.",
            name.replace("furnace-", "")
        ),
        formula: "L = 1",
        expected: 0.0,
        measured: curve.iter().map(|p| p.1).fold(0.0, f64::max),
        tolerance: 0.01,
        unit: "",
        axes: ("roughness", "largest error of a pixel"),
        reference: curve.iter().map(|p| (p.0, 0.0)).collect(),
        curve,
    }
}

/// Noise by the number of samples.
pub fn noise() -> Experiment {
    let mut shot = bare();
    shot.add(white_sky());
    let light = AreaLight { size_m: Vec2::new(0.6, 0.6), radiance: 20.0, colour: Vec3::ONE };
    shot.add(Element::new("Lamp", ElementKind::AreaLight(light)).at(0.5, 3.0, 1.0));
    shot.add(still(Shape::sphere(0.6), Look::default()));
    shot.add(still(Shape::plane(6.0, 6.0), Look::default()).at(0.0, -0.7, 0.0));
    let truth = picture(&shot, 24, 8192);
    let error = |samples: u32| {
        let noisy = picture(&shot, 24, samples);
        let squares = noisy.rgb.iter().zip(&truth.rgb).map(|(a, b)| f64::from((a[0] - b[0]).powi(2)));
        (squares.sum::<f64>() / 576.0).sqrt()
    };
    let curve: Vec<(f64, f64)> =
        [4u32, 16, 64, 256].into_iter().map(|n| (f64::from(n).log2(), error(n).log2())).collect();
    // Least squares of log error over log samples.
    let count = curve.len() as f64;
    let mean = |of: &dyn Fn(&(f64, f64)) -> f64| curve.iter().map(of).sum::<f64>() / count;
    let (mx, my) = (mean(&|p| p.0), mean(&|p| p.1));
    let slope = mean(&|p| (p.0 - mx) * (p.1 - my)) / mean(&|p| (p.0 - mx).powi(2));
    Experiment {
        key: "noise",
        statement: "Noise falls as 1/√N or faster; measured is what the slope lacks of it.".to_owned(),
        formula: "log ε = −½ log N + c",
        expected: 0.0,
        measured: (slope + 0.5).max(0.0),
        tolerance: 0.03,
        unit: "",
        axes: ("log₂ samples", "log₂ error"),
        reference: curve.iter().map(|p| (p.0, curve[0].1 - 0.5 * (p.0 - curve[0].0))).collect(),
        curve,
    }
}

/// All experiments with pictures.
pub fn all() -> Vec<Experiment> {
    vec![
        furnace("furnace-matt", 0.0, 0.0),
        furnace("furnace-metal", 1.0, 0.0),
        furnace("furnace-glass", 0.0, 1.0),
        furnace("furnace-mixed", 0.4, 0.5),
        sun(),
        area_light(),
        noise(),
    ]
}
