//! Pictures against what light transport says they must be.

use glam::Vec3;
use picture::{Assets, Picture, Scene, Settings, display, render};
use rstest::rstest;
use shot::{
    Camera, Element, ElementKind, Moves, Shape, Shot,
    light::{Sky, SkySource},
    look::Look,
};

fn bare() -> Shot {
    let mut shot = Shot::empty("Test");
    shot.elements.retain(|element| matches!(element.kind, ElementKind::Camera(_)));
    let camera = &mut shot.elements[0];
    *camera = Element {
        id: camera.id,
        ..Element::new("Camera", ElementKind::Camera(Camera::default())).at(0.0, 0.0, 4.0)
    };
    shot
}

fn white_sky(shot: &mut Shot) {
    let source = SkySource::Gradient { zenith: Vec3::ONE, horizon: Vec3::ONE, ground: Vec3::ONE };
    shot.add(Element::new("Sky", ElementKind::Sky(Sky { strength: 1.0, source })));
}

fn with_look(shape: Shape, look: Look) -> Element {
    let mut element = Element::solid("Body", shape, Moves::Still);
    element.as_solid_mut().unwrap().look = look;
    element
}

fn picture(shot: &Shot, size: u32, samples: u32) -> Picture {
    let scene = Scene::new(shot, &Assets::default(), None, 1).unwrap();
    let settings = Settings { width: size, height: size, samples, clamp: f32::INFINITY, soften: false };
    render(&scene, &settings, &|_| true).unwrap()
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
    // glass may end there, hence the fraction a pixel may lack.
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
    let error = Scene::new(&shot, &Assets::default(), None, 1).err().unwrap();
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
        ElementKind::Sky(Sky { strength: 2.0, source: SkySource::Image { asset: "Lamp".to_owned() } }),
    ));
    let map = picture::sky_map(&shot, &assets, 8, 4).unwrap();
    let bright: Vec<usize> = (0..32).filter(|&i| map[i].x > 0.0).collect();
    assert_eq!(bright, [2 * 8 + 2]);
    assert_eq!(map[2 * 8 + 2], Vec3::new(2.0, 4.0, 6.0));
    shot.elements.last_mut().unwrap().hidden = true;
    assert!(picture::sky_map(&shot, &assets, 8, 4).unwrap().iter().all(|texel| *texel == Vec3::ZERO));
}

/// The picture with an element at an opacity is the mixture of that with the element and that without, its shadow, its
/// light, and what is seen through its glass too.
#[rstest]
#[case(Look { transmission: 1.0, roughness: 0.05, ..Look::default() })]
#[case(Look { emission: Vec3::new(3.0, 2.0, 1.0), ..Look::default() })]
#[case(Look { albedo: Vec3::splat(0.1), ..Look::default() })]
fn an_element_fades_as_a_whole(#[case] look: Look) {
    let shown = |opacity: f32| {
        let mut shot = bare();
        white_sky(&mut shot);
        let floor = Look { albedo: Vec3::splat(0.4), roughness: 1.0, ..Look::default() };
        shot.add(with_look(Shape::cuboid(6.0, 0.2, 6.0), floor).at(0.0, -0.8, 0.0));
        shot.add(with_look(Shape::sphere(0.7), Look { opacity, ..look.clone() }));
        picture(&shot, 8, 1024)
    };
    let (none, part, whole) = (shown(0.0), shown(0.3), shown(1.0));
    for i in 0..64 {
        let [none, part, whole] = [&none, &part, &whole].map(|picture| Vec3::from(picture.rgb[i]));
        let expected = none.lerp(whole, 0.3);
        assert!((part - expected).abs().max_element() < 0.04 * expected.max_element(), "{part} {expected}");
    }
}

mod particles {
    use super::*;
    use glam::Quat;
    use shot::particles::{
        Appearance, ColourStop, Form, InstanceChoice, InstanceOrientation, Particles, RampInput,
    };

    /// A shot of particles before black, and a frame in which one stands at each place.
    fn staged(appearance: Appearance, look: Look, positions: &[Vec3], size: f32) -> (Shot, frames::Frame) {
        let mut shot = bare();
        let particles = Particles { appearance, look, ..Particles::default() };
        let id = shot.add(Element::new("Sparks", ElementKind::Particles(particles)));
        let n = positions.len();
        let mut frame = frames::Frame::new(1, 0.0);
        let of = frames::Particles {
            ids: (0..n as u32).collect(),
            positions: positions.to_vec(),
            velocities: vec![Vec3::X; n],
            sizes: vec![size; n],
            ages: vec![0.5; n],
            lifespans: vec![1.0; n],
            orientations: vec![Quat::IDENTITY; n],
            ..frames::Particles::default()
        };
        frame.particles.insert(id, of);
        (shot, frame)
    }

    #[test]
    fn a_layer_by_the_map_of_births_shows_on_a_particle_as_far_as_its_weight_says() {
        let layer = shot::look_layer::LookLayer {
            by: shot::look_layer::LookWeight::BirthMap {},
            albedo: Vec3::ZERO,
            emission: Vec3::ONE,
            ..Default::default()
        };
        let look = Look { albedo: Vec3::ZERO, roughness: 1.0, layers: vec![layer], ..Look::default() };
        let appearance = Appearance::default();
        let (shot, mut frame) = staged(appearance, look, &[Vec3::ZERO], 1.5);
        for weight in [0.0, 0.5, 1.0] {
            frame.particles.values_mut().for_each(|of| of.weights = vec![weight]);
            let scene = Scene::new(&shot, &Assets::default(), Some(&frame), 1).unwrap();
            let settings = Settings { width: 9, height: 9, samples: 16, ..Settings::default() };
            let picture = render(&scene, &settings, &|_| true).unwrap();
            assert!((picture.rgb[40][0] - weight).abs() < 1e-3, "{:?} at {weight}", picture.rgb[40]);
        }
    }

    fn shining(colour: f32) -> Look {
        Look { albedo: Vec3::ZERO, emission: Vec3::splat(colour), roughness: 1.0, ..Look::default() }
    }

    fn seen(shot: &Shot, frame: &frames::Frame, size: u32) -> Picture {
        let scene = Scene::new(shot, &Assets::default(), Some(frame), 1).unwrap();
        let settings =
            Settings { width: size, height: size, samples: 64, clamp: f32::INFINITY, soften: false };
        render(&scene, &settings, &|_| true).unwrap()
    }

    /// Mean brightness of the picture's fraction that lies in a box, in 0–1 from the upper left.
    fn mean(picture: &Picture, x: [f32; 2], y: [f32; 2]) -> f32 {
        let (w, h) = (picture.width as f32, picture.height as f32);
        let within = |v: usize, side: f32, of: [f32; 2]| (of[0]..of[1]).contains(&((v as f32 + 0.5) / side));
        let mut list = Vec::new();
        for (i, rgb) in picture.rgb.iter().enumerate() {
            let (px, py) = (i % picture.width as usize, i / picture.width as usize);
            if within(px, w, x) && within(py, h, y) {
                list.push(rgb[0]);
            }
        }
        list.iter().sum::<f32>() / list.len() as f32
    }

    #[test]
    fn a_dot_covers_as_much_of_the_picture_as_a_ball_of_its_size() {
        let (shot, frame) = staged(Appearance::default(), shining(1.0), &[Vec3::ZERO], 1.0);
        let dot = seen(&shot, &frame, 48);
        let mut ball = bare();
        ball.add(with_look(Shape::sphere(0.5), shining(1.0)));
        let ball = picture(&ball, 48, 64);
        let all = |picture: &Picture| mean(picture, [0.0, 1.0], [0.0, 1.0]);
        // The ball's mesh has flat sides.
        assert!((all(&dot) / all(&ball) - 1.0).abs() < 0.02, "{} {}", all(&dot), all(&ball));
        assert_eq!(dot.element[24 * 48 + 24], shot.named("Sparks").unwrap().id.0);
        assert!((dot.depth[24 * 48 + 24] - 3.5).abs() < 0.02);
    }

    #[test]
    fn a_streak_lies_behind_the_particle_along_its_way() {
        let appearance = Appearance { form: Form::Streak { duration_s: 0.6 }, ..Appearance::default() };
        let (shot, frame) = staged(appearance, shining(1.0), &[Vec3::ZERO], 0.2);
        let picture = seen(&shot, &frame, 48);
        let (behind, before) =
            (mean(&picture, [0.35, 0.48], [0.47, 0.53]), mean(&picture, [0.6, 0.8], [0.4, 0.6]));
        assert!(behind > 0.9 && before < 0.01, "{behind} {before}");
    }

    #[test]
    fn a_disc_is_seen_from_above_and_not_edge_on() {
        let appearance = Appearance { form: Form::Disc, ..Appearance::default() };
        let (shot, mut frame) = staged(appearance, shining(1.0), &[Vec3::ZERO], 1.0);
        let edge_on = mean(&seen(&shot, &frame, 32), [0.0, 1.0], [0.0, 1.0]);
        let of = frame.particles.values_mut().next().unwrap();
        of.orientations[0] = Quat::from_rotation_x(std::f32::consts::FRAC_PI_2);
        let facing = mean(&seen(&shot, &frame, 32), [0.0, 1.0], [0.0, 1.0]);
        assert!(edge_on < 0.1 * facing, "{edge_on} {facing}");
    }

    #[test]
    fn colour_and_size_go_by_life() {
        let stop = |at, grey: f32| ColourStop { at, colour: Vec3::splat(grey) };
        let appearance = Appearance {
            colour_by: RampInput::Life,
            colours: vec![stop(0.0, 0.0), stop(1.0, 4.0)],
            size_by: RampInput::Life,
            sizes: vec![
                shot::particles::SizeStop { at: 0.0, size: 0.0 },
                shot::particles::SizeStop { at: 1.0, size: 2.0 },
            ],
            ..Appearance::default()
        };
        // Half its life has passed: twice as bright, and as large as it is.
        let (shot, frame) = staged(appearance, shining(1.0), &[Vec3::ZERO], 1.0);
        let half = seen(&shot, &frame, 32);
        assert!((half.rgb[16 * 32 + 16][0] - 2.0).abs() < 1e-3);
        assert!((half.depth[16 * 32 + 16] - 3.5).abs() < 0.02);
    }

    #[test]
    fn colour_goes_by_the_map_where_they_were_born() {
        let stop = |at, grey: f32| ColourStop { at, colour: Vec3::splat(grey) };
        let colours = vec![stop(0.0, 0.0), stop(1.0, 4.0)];
        let appearance = Appearance { colour_by: RampInput::Map, colours, ..Appearance::default() };
        let (shot, mut frame) = staged(appearance, shining(1.0), &[Vec3::ZERO], 1.0);
        let middle = |frame: &frames::Frame| seen(&shot, frame, 32).rgb[16 * 32 + 16][0];
        assert!((middle(&frame) - 4.0).abs() < 1e-3);
        frame.particles.values_mut().next().unwrap().weights = vec![0.25];
        assert!((middle(&frame) - 1.0).abs() < 1e-3);
    }

    #[test]
    fn copies_stand_as_large_as_their_particles_and_share_a_mesh() {
        let (mut shot, frame) =
            staged(Appearance::default(), Look::default(), &[Vec3::NEG_X * 0.5, Vec3::X * 0.5], 0.5);
        let mut cube = with_look(Shape::cuboid(2.0, 2.0, 2.0), shining(1.0));
        cube.as_solid_mut().unwrap().from_particles = Some(1);
        let cube = shot.add(cube);
        let form = Form::Instance {
            solids: vec![cube],
            choice: InstanceChoice::Order,
            orientation: InstanceOrientation::Free,
        };
        shot.named_mut("Sparks").unwrap().as_particles_mut().unwrap().appearance.form = form;
        let picture = seen(&shot, &frame, 64);
        let ids: std::collections::BTreeSet<u32> = picture.element.iter().copied().collect();
        assert_eq!(ids, [0, shot.named("Sparks").unwrap().id.0].into());
        let at = |x: f32| picture.depth[32 * 64 + (32.0 + x) as usize];
        // Half a metre wide, their fronts a quarter before the middle.
        assert!((at(-8.0) - 3.75).abs() < 0.15 && (at(8.0) - 3.75).abs() < 0.15, "{} {}", at(-8.0), at(8.0));
        assert!(at(0.0).is_infinite());
    }

    #[test]
    fn bodies_that_came_from_particles_have_their_size() {
        let mut shot = bare();
        let mut cube = with_look(Shape::cuboid(0.2, 0.2, 0.2), shining(1.0));
        cube.as_solid_mut().unwrap().from_particles = Some(2);
        let id = shot.add(cube);
        let mut frame = frames::Frame::new(1, 0.0);
        let mut bodies = frames::Bodies::default();
        bodies.push(Vec3::ZERO, Quat::IDENTITY, Vec3::ZERO, Vec3::ZERO);
        bodies.scales.push(5.0);
        frame.bodies.insert(id, bodies);
        assert!((seen(&shot, &frame, 32).depth[16 * 32 + 16] - 3.5).abs() < 0.02);
        assert_eq!(mean(&picture(&shot, 16, 4), [0.0, 1.0], [0.0, 1.0]), 0.0);
        // One that has become a particle again is no body any more.
        frame.bodies.get_mut(&id).unwrap().scales = vec![0.0];
        assert!(seen(&shot, &frame, 32).depth[16 * 32 + 16].is_infinite());
    }

    #[test]
    fn particles_stand_in_the_way_of_light() {
        let shadowed = |size| {
            let (mut shot, frame) =
                staged(Appearance::default(), Look::default(), &[Vec3::new(0.0, 2.0, 0.0)], size);
            shot.add(
                with_look(Shape::plane(2.0, 2.0), Look { albedo: Vec3::ONE, ..Look::default() })
                    .at(0.0, -1.0, 0.0),
            );
            let sun = shot::light::Sun { irradiance: 3.0, colour: Vec3::ONE, angle_rad: 0.001 };
            shot.add(Element::new("Sun", ElementKind::Sun(sun)));
            mean(&seen(&shot, &frame, 32), [0.4, 0.6], [0.7, 0.78])
        };
        assert!(shadowed(3.0) < 0.05 * shadowed(0.001), "{} {}", shadowed(3.0), shadowed(0.001));
    }
}
