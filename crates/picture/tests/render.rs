//! Pictures against what light transport says they must be.

use glam::{Vec2, Vec3};
use picture::{Assets, Picture, Settings, Stage, display, render};
use rstest::rstest;
use shot::{AreaLight, Camera, Element, Is, Look, Moves, Shape, Shot, Sky, SkySource};

fn bare() -> Shot {
    let mut shot = Shot::empty("Test");
    shot.elements.retain(|element| matches!(element.is, Is::Camera(_)));
    let camera = &mut shot.elements[0];
    *camera =
        Element { id: camera.id, ..Element::new("Camera", Is::Camera(Camera::default())).at(0.0, 0.0, 4.0) };
    shot
}

fn white_sky(shot: &mut Shot) {
    let source = SkySource::Gradient { zenith: Vec3::ONE, horizon: Vec3::ONE, ground: Vec3::ONE };
    shot.add(Element::new("Sky", Is::Sky(Sky { strength: 1.0, source })));
}

fn with_look(shape: Shape, look: Look) -> Element {
    let mut element = Element::solid("Body", shape, Moves::Still);
    element.as_solid_mut().unwrap().look = look;
    element
}

fn picture(shot: &Shot, size: u32, samples: u32) -> Picture {
    let stage = Stage::new(shot, &Assets::default(), None, 1).unwrap();
    let settings = Settings { width: size, height: size, samples, clamp: f32::INFINITY, soften: false };
    render(&stage, &settings, &|_| true).unwrap()
}

#[rstest]
fn a_white_body_in_a_white_furnace_is_invisible(
    #[values(0.0, 0.25, 0.6, 1.0)] roughness: f32,
    #[values((0.0, 0.0), (1.0, 0.0), (0.0, 1.0), (0.4, 0.5))] kind: (f32, f32),
    #[values(Shape::sphere(1.0), Shape::cuboid(1.2, 1.2, 1.2))] shape: Shape,
) {
    let mut shot = bare();
    white_sky(&mut shot);
    let look =
        Look { albedo: Vec3::ONE, roughness, metalness: kind.0, transmission: kind.1, ..Look::default() };
    shot.add(with_look(shape, look).turned(0.4, 0.6, 0.0));
    let picture = picture(&shot, 6, 8192);
    // The body fills the middle of the picture. A path of 128 surfaces inside
    // glass may end there, hence the share a pixel may lack.
    for (rgb, element) in picture.rgb.iter().zip(&picture.element) {
        assert!((rgb[0] - 1.0).abs() < 0.01, "{rgb:?} of element {element}");
    }
}

#[test]
fn a_matt_ball_under_a_sun_matches_lambert() {
    let mut shot = bare();
    let sun = shot::Sun { irradiance: 3.0, colour: Vec3::ONE, angle_rad: 0.01 };
    shot.add(Element::new("Sun", Is::Sun(sun)).turned(0.9, 0.0, 0.0));
    let look = Look { albedo: Vec3::splat(0.5), refraction: 1.0, ..Look::default() };
    shot.add(with_look(Shape::sphere(1.0), look));
    let picture = picture(&shot, 32, 256);
    let to_sun = Vec3::new(0.0, 0.9f32.cos(), 0.9f32.sin());
    let mut compared = 0;
    for (rgb, normal) in picture.rgb.iter().zip(&picture.normal) {
        let normal = Vec3::from(*normal);
        let cos = normal.dot(to_sun);
        if normal.z < 0.8 || cos < 0.3 {
            continue;
        }
        compared += 1;
        // A pixel spans normals; the mean over it differs from its middle's by
        // the curvature of cos over half a pixel, here below 1 %.
        let expected = 0.5 / std::f32::consts::PI * 3.0 * cos;
        assert!((rgb[0] / expected - 1.0).abs() < 0.02, "{} {expected}", rgb[0]);
    }
    assert!(compared > 20);
    let mean = |pick: &dyn Fn(usize) -> f32| (0..1024).map(pick).sum::<f32>();
    let seen = |i: usize| {
        let n = Vec3::from(picture.normal[i]);
        if n.z > 0.8 && n.dot(to_sun) > 0.3 { n.dot(to_sun) } else { 0.0 }
    };
    let expected = mean(&|i| 0.5 / std::f32::consts::PI * 3.0 * seen(i));
    let measured = mean(&|i| if seen(i) > 0.0 { picture.rgb[i][0] } else { 0.0 });
    assert!((measured / expected - 1.0).abs() < 0.01, "{measured} {expected}");
}

/// Irradiance of a uniform polygon by Lambert's formula (1760).
fn polygon_irradiance(point: Vec3, normal: Vec3, corners: &[Vec3], radiance: f32) -> f32 {
    let d: Vec<Vec3> = corners.iter().map(|c| (*c - point).normalize()).collect();
    let sum: f32 = (0..d.len())
        .map(|i| {
            let (a, b) = (d[i], d[(i + 1) % d.len()]);
            a.dot(b).clamp(-1.0, 1.0).acos() * a.cross(b).normalize().dot(normal)
        })
        .sum();
    0.5 * radiance * sum.abs()
}

#[test]
fn a_matt_ball_under_an_area_light_matches_lamberts_polygon_formula() {
    let mut shot = bare();
    let light = AreaLight { size_m: Vec2::new(1.6, 1.0), radiance: 5.0, colour: Vec3::ONE };
    // The light hangs in front of the ball, shining along −z towards it.
    let mut lamp = Element::new("Lamp", Is::AreaLight(light)).at(0.0, 0.0, 5.0);
    lamp.placement.turn_rad = Vec3::new(std::f32::consts::FRAC_PI_2, 0.0, 0.0).into();
    shot.add(lamp);
    let look = Look { albedo: Vec3::splat(0.5), refraction: 1.0, ..Look::default() };
    shot.add(with_look(Shape::sphere(1.0), look));
    let picture = picture(&shot, 32, 512);
    let corners = [(-0.8, -0.5), (0.8, -0.5), (0.8, 0.5), (-0.8, 0.5)].map(|(x, y)| Vec3::new(x, y, 5.0));
    let (mut measured, mut expected) = (0.0, 0.0);
    for (rgb, normal) in picture.rgb.iter().zip(&picture.normal) {
        let normal = Vec3::from(*normal);
        if normal.z > 0.85 {
            measured += rgb[0];
            expected += 0.5 / std::f32::consts::PI * polygon_irradiance(normal, normal, &corners, 5.0);
        }
    }
    assert!((measured / expected - 1.0).abs() < 0.01, "{measured} {expected}");
}

#[test]
fn noise_falls_with_the_root_of_the_samples_or_faster() {
    let mut shot = bare();
    white_sky(&mut shot);
    let light = AreaLight { size_m: Vec2::new(0.6, 0.6), radiance: 20.0, colour: Vec3::ONE };
    shot.add(Element::new("Lamp", Is::AreaLight(light)).at(0.5, 3.0, 1.0));
    shot.add(with_look(Shape::sphere(0.6), Look::default()));
    shot.add(with_look(Shape::plane(6.0, 6.0), Look::default()).at(0.0, -0.7, 0.0));
    let truth = picture(&shot, 24, 4096);
    let error = |samples| {
        let noisy = picture(&shot, 24, samples);
        let squares = noisy.rgb.iter().zip(&truth.rgb).map(|(a, b)| (a[0] - b[0]).powi(2)).sum::<f32>();
        (squares / 576.0).sqrt()
    };
    let (few, many) = (error(16), error(256));
    assert!(many < few / 4.0 * 1.25, "{few} {many}");
}

#[test]
fn the_picture_does_not_depend_on_the_number_of_threads() {
    let mut shot = Shot::empty("Threads");
    shot.add(with_look(Shape::sphere(1.0), Look { transmission: 0.5, ..Look::default() }));
    let on = |threads| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| picture(&shot, 24, 8))
    };
    assert_eq!(on(1), on(2));
}

#[test]
fn layers_say_what_is_seen() {
    let mut shot = bare();
    white_sky(&mut shot);
    let id = shot.add(with_look(Shape::sphere(1.0), Look::default()));
    let picture = picture(&shot, 33, 16);
    let middle = 33 * 16 + 16;
    assert_eq!((picture.element[middle], picture.element[0]), (id.0, 0));
    assert!((picture.depth[middle] - 3.0).abs() < 0.01 && picture.depth[0].is_infinite());
    assert!(Vec3::from(picture.normal[middle]).z > 0.99);
}

#[test]
fn what_is_shown_is_the_display_transform_of_half_floats() {
    let mut shot = Shot::empty("Shown");
    shot.add(with_look(Shape::sphere(1.0), Look::default()));
    let picture = picture(&shot, 8, 4);
    let rgb = picture.rgb[20].map(|v| half::f16::from_f32(v).to_f32());
    assert_eq!(picture.show()[60..63], display::show(rgb, picture.exposure));
}

#[test]
fn a_shot_without_a_camera_says_so() {
    let mut shot = bare();
    shot.camera = None;
    let error = Stage::new(&shot, &Assets::default(), None, 1).err().unwrap();
    assert!(error.to_string().contains("no camera"));
}
