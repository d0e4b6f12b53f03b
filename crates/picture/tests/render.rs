//! Pictures against what light transport says they must be.

use glam::Vec3;
use picture::{Assets, Picture, Settings, Stage, display, render};
use rstest::rstest;
use shot::{Camera, Element, Is, Look, Moves, Shape, Shot, Sky, SkySource};

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

#[test]
fn the_map_of_the_sky_has_the_ground_first_and_minus_z_a_quarter_round() {
    let mut image = picture::Environment { width: 8, height: 4, rgb: vec![[0.0; 3]; 32] };
    // Just right of the middle column, which looks along −z; the upper of the middle rows.
    image.rgb[8 + 4] = [1.0, 2.0, 3.0];
    let mut assets = Assets::default();
    assets.environments.insert("Lamp".to_owned(), image.into());
    let mut shot = bare();
    shot.add(Element::new(
        "Sky",
        Is::Sky(Sky { strength: 2.0, source: SkySource::Image { asset: "Lamp".to_owned() } }),
    ));
    let map = picture::sky_map(&shot, &assets, 8, 4).unwrap();
    let bright: Vec<usize> = (0..32).filter(|&i| map[i].x > 0.0).collect();
    assert_eq!(bright, [2 * 8 + 2]);
    assert_eq!(map[2 * 8 + 2], Vec3::new(2.0, 4.0, 6.0));
    shot.elements.last_mut().unwrap().hidden = true;
    assert!(picture::sky_map(&shot, &assets, 8, 4).unwrap().iter().all(|texel| *texel == Vec3::ZERO));
}
