//! Lights against closed forms, at random places, sizes and distances, near the
//! origin and far from it.

use glam::{Quat, Vec3};
use picture::{Assets, Scene, Settings, render};
use rstest::rstest;
use shot::{Camera, Element, ElementKind, Moves, Shape, Shot, light::AreaLight, look::Look};
use std::f32::consts::{FRAC_PI_2, PI};

/// Numbers in a row (S. Vigna, splitmix64, 2015).
struct Draw(u64);

impl Draw {
    fn number(&mut self, low: f32, high: f32) -> f32 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let z = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        low + (high - low) * ((z ^ (z >> 31)) >> 40) as f32 / (1u64 << 24) as f32
    }

    fn vector(&mut self, most: f32) -> Vec3 {
        Vec3::new(self.number(-most, most), self.number(-most, most), self.number(-most, most))
    }
}

const ALBEDO: f32 = 0.5;

/// A matt floor at `at`, seen from straight above by a camera `up` metres over it.
fn floor(at: Vec3, up: f32) -> Shot {
    let mut shot = Shot::empty("Lights");
    shot.elements.clear();
    let camera = Camera { focal_length_mm: 200.0, ..Camera::default() };
    let mut camera = Element::new("Camera", ElementKind::Camera(camera)).turned(-FRAC_PI_2, 0.0, 0.0);
    camera.placement.position_m = at + Vec3::Y * up;
    shot.camera = Some(shot.add(camera));
    let mut floor = Element::solid("Floor", Shape::plane(20.0, 20.0), Moves::Still);
    floor.placement.position_m = at;
    floor.as_solid_mut().unwrap().look = matt(ALBEDO);
    shot.add(floor);
    shot
}

fn matt(albedo: f32) -> Look {
    Look { albedo: Vec3::splat(albedo), roughness: 1.0, refractive_index: 1.0, ..Look::default() }
}

/// The radiance of the floor in the middle of the picture.
fn middle(shot: &Shot, samples: u32) -> f32 {
    middle_with(shot, &Assets::default(), samples)
}

fn middle_with(shot: &Shot, assets: &Assets, samples: u32) -> f32 {
    let scene = Scene::new(shot, assets, None, 1).unwrap();
    let settings = Settings { width: 16, height: 16, samples, ..Settings::default() };
    let picture = render(&scene, &settings, &|_| true).unwrap();
    let inner = (0..256).filter(|i| (6..10).contains(&(i % 16)) && (6..10).contains(&(i / 16)));
    inner.map(|i| picture.rgb[i][0]).sum::<f32>() / 16.0
}

/// Irradiance of an upward patch at the origin under a rectangle whose front looks
/// along its own −y, by its form factor summed up over its area.
fn under_rectangle(position: Vec3, orientation: Quat, size: [f32; 2], radiance: f32) -> f32 {
    let n = 200;
    let cell = |i: usize, size: f32| ((i as f32 + 0.5) / n as f32 - 0.5) * size;
    let mut sum = 0.0f64;
    for i in 0..n {
        for j in 0..n {
            let to = position + orientation * Vec3::new(cell(i, size[0]), 0.0, cell(j, size[1]));
            let square = to.length_squared();
            let way = to / square.sqrt();
            let cosines = way.y.max(0.0) * (orientation * Vec3::NEG_Y).dot(-way).max(0.0);
            sum += f64::from(cosines / square);
        }
    }
    radiance * sum as f32 * size[0] * size[1] / (n * n) as f32
}

#[rstest]
fn an_area_light_lights_by_its_form_factor(
    #[values(1, 2, 3, 4, 5, 6)] seed: u64,
    #[values(0.0, 12.0, 200.0)] far: f32,
) {
    let mut draw = Draw(seed);
    let at = draw.vector(far);
    let mut shot = floor(at, 6.0);
    let size = [draw.number(0.2, 1.5), draw.number(0.2, 1.5)];
    let offset = Vec3::new(draw.number(1.4, 2.5), draw.number(0.8, 3.0), draw.number(-2.0, 2.0));
    let light = AreaLight { size_m: size.into(), radiance: 20.0, colour: Vec3::ONE };
    let mut lamp = Element::new("Lamp", ElementKind::AreaLight(light));
    lamp.placement.position_m = at + offset;
    lamp.placement.orientation_rad = Vec3::new(draw.number(-0.5, 0.5), 0.0, draw.number(-0.5, 0.5));
    let orientation = lamp.placement.pose().1;
    shot.add(lamp);
    let expected = ALBEDO / PI * under_rectangle(offset, orientation, size, 20.0);
    let found = middle(&shot, 512);
    assert!((found / expected - 1.0).abs() < 0.02, "{found} for {expected}");
}

/// A glowing ball that is seen whole: E = π L (r / d)² cos θ.
#[rstest]
fn a_glowing_ball_lights_by_its_solid_angle(
    #[values(1, 2, 3, 4)] seed: u64,
    #[values(0.0, 30.0, 200.0)] far: f32,
) {
    let mut draw = Draw(seed + 100);
    let at = draw.vector(far);
    let mut shot = floor(at, 8.0);
    let radius = draw.number(0.05, 0.4);
    let offset = Vec3::new(draw.number(1.0, 2.5), draw.number(1.0, 3.0), draw.number(-2.0, 2.0));
    let mut ball = Element::solid("Ball", Shape::sphere(radius), Moves::Still);
    ball.placement.position_m = at + offset;
    ball.as_solid_mut().unwrap().look =
        Look { albedo: Vec3::ZERO, emission: Vec3::splat(50.0), refractive_index: 1.0, ..Look::default() };
    shot.add(ball);
    let d = offset.length();
    let expected = ALBEDO * 50.0 * (radius / d).powi(2) * (offset.y / d);
    let found = middle(&shot, 512);
    // The ball is of triangles, which lie inside of it.
    assert!((found / expected - 1.0).abs() < 0.03, "{found} for {expected}");
}

/// What lies 0.1 mm before a lamp takes its light, and what lies as far above a
/// floor is lit as the floor is.
#[rstest]
fn things_a_tenth_of_a_millimetre_apart_are_told_apart(#[values(0.0, 40.0, 200.0)] far: f32) {
    let at = Draw(9).vector(far);
    let with = |plate: Option<f32>, matt_plate: bool| {
        let mut shot = floor(at, 5.0);
        let light = AreaLight { size_m: [0.4, 0.4].into(), radiance: 30.0, colour: Vec3::ONE };
        let mut lamp = Element::new("Lamp", ElementKind::AreaLight(light));
        lamp.placement.position_m = at + Vec3::new(1.0, 1.5, 0.0);
        shot.add(lamp);
        if let Some(height) = plate {
            let mut cover = Element::solid("Cover", Shape::plane(0.5, 0.5), Moves::Still);
            cover.placement.position_m = at + Vec3::new(if matt_plate { 0.0 } else { 1.0 }, height, 0.0);
            cover.as_solid_mut().unwrap().look = matt(ALBEDO);
            shot.add(cover);
        }
        middle(&shot, 256)
    };
    let open = with(None, false);
    assert!(open > 0.1);
    assert!(with(Some(1.5 - 1e-4), false) < 0.01 * open);
    assert!((with(Some(1e-4), true) / open - 1.0).abs() < 0.02);
}

/// A mirror shows a lamp as bright as it is.
#[test]
fn a_mirror_shows_all_of_a_lamp() {
    let mut shot = Shot::empty("Mirror");
    shot.elements.clear();
    let camera = Element::new("Camera", ElementKind::Camera(Camera::default())).at(0.0, 0.0, 4.0);
    shot.camera = Some(shot.add(camera));
    let mut mirror = Element::solid("Mirror", Shape::plane(8.0, 8.0), Moves::Still);
    mirror.placement.position_m = Vec3::new(-0.8, 0.0, 0.0);
    mirror.placement.orientation_rad = Vec3::new(0.0, 0.0, -FRAC_PI_2);
    mirror.as_solid_mut().unwrap().look =
        Look { albedo: Vec3::ONE, metalness: 1.0, roughness: 0.0, ..Look::default() };
    shot.add(mirror);
    let mut lamp = Element::solid("Lamp", Shape::sphere(0.2), Moves::Still).at(0.5, 0.3, -1.0);
    lamp.as_solid_mut().unwrap().look =
        Look { albedo: Vec3::ZERO, emission: Vec3::splat(40.0), ..Look::default() };
    shot.add(lamp);
    let scene = Scene::new(&shot, &Assets::default(), None, 1).unwrap();
    let settings = Settings { width: 80, height: 60, samples: 16, ..Settings::default() };
    let of = |settings: &Settings| {
        let picture = render(&scene, settings, &|_| true).unwrap();
        let mirrored = picture.rgb.iter().zip(&picture.element).filter(|(_, element)| **element == 2);
        mirrored.map(|(rgb, _)| rgb[0]).fold(0.0, f32::max)
    };
    assert!((of(&settings) - 40.0).abs() < 0.5, "{}", of(&settings));
    // In a draft it is bounded, as the exposure shows it.
    let draft = Settings { clamp: Settings::DRAFT_CLAMP, ..settings };
    assert!((of(&draft) - 3.0).abs() < 0.1, "{}", of(&draft));
}

/// An image of one colour on the left half and another on the right, as linear values.
fn halves(left: f32, right: f32) -> Assets {
    let mut assets = Assets::default();
    let rgb = (0..32 * 4).map(|i| [if i % 32 < 16 { left } else { right }; 3]).collect();
    let image = geometry::Image { width: 32, height: 4, rgb };
    assets.meshes.images.insert("halves".to_owned(), std::sync::Arc::new(image));
    assets
}

#[rstest]
fn what_an_image_of_emission_darkens_lights_nothing(#[values(0.0, 200.0)] far: f32) {
    // Half of a sheet shines: the floor is lit as by a sheet of that half.
    let at = Vec3::splat(far);
    let mut shot = floor(at, 6.0);
    let mut sheet = Element::solid("Sheet", Shape::plane(2.0, 1.0), Moves::Still);
    sheet.placement.position_m = at + Vec3::new(0.0, 1.5, 1.5);
    sheet.placement.orientation_rad = Vec3::new(PI, 0.0, 0.0);
    let look = Look { albedo: Vec3::ZERO, emission: Vec3::splat(8.0), ..matt(0.0) };
    sheet.as_solid_mut().unwrap().look = Look { emission_image: Some("halves".to_owned()), ..look };
    shot.add(sheet);
    let lit = middle_with(&shot, &halves(0.0, 1.0), 2_000);
    // Which half is which does not matter to the middle.
    let half = under_rectangle(Vec3::new(0.5, 1.5, 1.5), Quat::IDENTITY, [1.0, 1.0], 8.0);
    let expected = ALBEDO / PI * half;
    // The image is blended over a pixel of 1/16 of the half.
    assert!((lit / expected - 1.0).abs() < 0.04, "{lit} against {expected}");
}

#[test]
fn images_of_one_value_are_that_value() {
    let value = 0.6f32;
    let coded = picture::display::linear(value);
    let plain = |look: Look| {
        let mut shot = floor(Vec3::ZERO, 6.0);
        let light = AreaLight { size_m: [1.0, 1.0].into(), radiance: 20.0, colour: Vec3::ONE };
        let mut lamp = Element::new("Lamp", ElementKind::AreaLight(light));
        lamp.placement.position_m = Vec3::new(0.6, 2.0, 0.4);
        shot.add(lamp);
        shot.named_mut("Floor").unwrap().as_solid_mut().unwrap().look = look;
        middle_with(&shot, &halves(coded, coded), 3_000)
    };
    let look = Look { roughness: 0.8, metalness: 0.9, ..Look::default() };
    let name = Some("halves".to_owned());
    let by_value = plain(Look { roughness: 0.8 * value, metalness: 0.9 * value, ..look.clone() });
    let by_image = plain(Look { roughness_image: name.clone(), metalness_image: name, ..look });
    assert!((by_image / by_value - 1.0).abs() < 0.03, "{by_image} against {by_value}");
}
