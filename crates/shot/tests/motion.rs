//! What changes with time: channels, formulas, older files.

use glam::Vec3;
use rstest::rstest;
use serde_json::json;
use shot::{
    Element, ElementKind, Moves, Shape, Shot,
    motion::{Channel, Outside, Sampler, Value},
};

fn shot() -> Shot {
    let mut shot = Shot::empty("Motion");
    shot.add(Element::solid("Crate", Shape::cuboid(0.5, 0.5, 0.5), Moves::Animated));
    shot.add(Element::solid("Net 2.5", Shape::sphere(0.2), Moves::Free).at(1.0, 7.0, 0.0));
    shot
}

fn set(shot: &mut Shot, name: &str, path: &str, channel: Channel) {
    shot.named_mut(name).unwrap().channels.insert(path.to_owned(), channel);
}

fn friction(shot: &Shot, frame: f64) -> f32 {
    let now = Sampler::new(shot).unwrap().at(frame).unwrap();
    now.named("Crate").unwrap().as_solid().unwrap().body.friction
}

#[test]
fn every_kind_of_value_takes_keys() {
    let mut shot = shot();
    set(&mut shot, "Crate", "kind.solid.body.friction", Channel::keyed([(1.0, 0.2f32), (11.0, 0.8)]));
    set(&mut shot, "Crate", "kind.solid.look.albedo", Channel::keyed([(1.0, Vec3::ZERO), (11.0, Vec3::ONE)]));
    set(&mut shot, "Crate", "hidden", Channel::keyed([(1.0, false), (6.0, true)]));
    set(&mut shot, "Camera", "kind.camera.f_stop", Channel::keyed([(1.0, 2.0f32), (11.0, 4.0)]));
    let now = Sampler::new(&shot).unwrap().at(6.0).unwrap();
    let solid = now.named("Crate").unwrap().as_solid().unwrap();
    assert_eq!((solid.body.friction, solid.look.albedo), (0.5, Vec3::splat(0.5)));
    assert!(now.named("Crate").unwrap().hidden);
    let ElementKind::Camera(camera) = &now.named("Camera").unwrap().kind else { panic!() };
    assert_eq!(camera.f_stop, Some(3.0));
}

#[test]
fn a_part_prevails_over_the_whole() {
    let mut shot = shot();
    let whole = Channel::keyed([(1.0, Vec3::ZERO), (11.0, Vec3::splat(10.0))]);
    set(&mut shot, "Crate", "placement.position_m", whole);
    set(&mut shot, "Crate", "placement.position_m[1]", Channel::expression("frame * 100"));
    let now = Sampler::new(&shot).unwrap().at(6.0).unwrap();
    assert_eq!(now.named("Crate").unwrap().placement.position_m, Vec3::new(5.0, 600.0, 5.0));
}

#[test]
fn values_beyond_their_range_are_held_at_its_end() {
    let mut shot = shot();
    set(&mut shot, "Crate", "kind.solid.body.friction", Channel::expression("-time"));
    assert_eq!(friction(&shot, 20.0), 0.0);
}

#[test]
fn formulas_find_what_they_refer_to_in_any_order() {
    let mut shot = shot();
    // Crate comes first and refers to what comes later; names may have dots.
    set(&mut shot, "Crate", "kind.solid.body.friction", Channel::expression("{Net 2.5.bounce} / 2"));
    set(
        &mut shot,
        "Net 2.5",
        "kind.solid.body.restitution",
        Channel::expression("{Net 2.5.place.y} / 10 + 0.1"),
    );
    assert!((friction(&shot, 3.0) - 0.4).abs() < 1e-6);
}

#[rstest]
#[case("1 +", "at character 4: a value is missing at the end")]
#[case("{Crane.position.x}", "at character 1: {Crane.position.x} names no element")]
#[case("2 * {Crate.colour}", "at character 5: Crate has no value called colour")]
#[case("{Crate.position}", "is three numbers; add .x, .y or .z")]
#[case("{Crate.bounce.x}", "is one number; it has no parts")]
fn a_formula_that_is_wrong_is_told_with_path_and_place(#[case] text: &str, #[case] message: &str) {
    let mut shot = shot();
    set(&mut shot, "Crate", "kind.solid.body.friction", Channel::expression(text));
    let fault = &shot.faults()[0];
    assert_eq!(fault.path, "elements[4].channels.kind.solid.body.friction.expression");
    assert!(fault.message.contains(message), "{fault}");
}

#[test]
fn a_circle_of_formulas_is_named() {
    let mut shot = shot();
    set(&mut shot, "Crate", "kind.solid.body.friction", Channel::expression("{Net 2.5.bounce}"));
    set(&mut shot, "Net 2.5", "kind.solid.body.restitution", Channel::expression("{Crate.friction}"));
    let message = shot.faults()[0].to_string();
    assert!(message.contains("friction of Crate → bounce of Net 2.5 → friction of Crate"), "{message}");
}

#[test]
fn a_formula_without_a_finite_value_names_its_element_and_frame() {
    let mut shot = shot();
    set(&mut shot, "Crate", "kind.solid.body.friction", Channel::expression("1 / (frame - 7)"));
    let sampler = Sampler::new(&shot).unwrap();
    assert!(sampler.at(6.0).is_ok());
    let error = sampler.at(7.0).unwrap_err().to_string();
    assert_eq!(error, "the formula for friction of Crate has no finite value at frame 7");
}

#[test]
fn elements_that_depend_on_each_other_in_a_circle_are_named() {
    let mut shot = shot();
    let (crate_id, net_id) = (shot.named("Crate").unwrap().id, shot.named("Net 2.5").unwrap().id);
    shot.named_mut("Crate").unwrap().attached =
        Some(shot::Attached { to: net_id, along: None, facing: false });
    shot.named_mut("Net 2.5").unwrap().aim = Some(shot::Aim { target: crate_id, damping_s: 0.0 });
    let message = shot.faults()[0].to_string();
    assert!(message.contains("depends on itself: Crate → Net 2.5 → Crate"), "{message}");
}

#[test]
fn the_worlds_clock_is_the_integral_of_the_time_scale() {
    let mut shot = shot();
    shot.channels.insert("physics.time_scale".to_owned(), Channel::keyed([(11.0, 1.0f32), (21.0, 0.0)]));
    let sampler = Sampler::new(&shot).unwrap();
    assert_eq!(sampler.world_frame(11.0), 11.0);
    // Ten frames at one half on average.
    assert!((sampler.world_frame(21.0) - 16.0).abs() < 1e-9);
    assert!((sampler.world_frame(40.0) - 16.0).abs() < 1e-9);
    assert_eq!((sampler.speed(5), sampler.speed(30)), (1.0, 0.0));
    assert_eq!(sampler.acting_frame(21.0), sampler.world_frame(21.0));
}

#[test]
fn a_key_outside_the_shots_frames_stays_and_acts() {
    let mut shot = shot();
    let mut channel = Channel::keyed([(-10.0, 0.0f32), (500.0, 5.1)]);
    channel.after = Outside::RepeatOffset;
    set(&mut shot, "Crate", "kind.solid.body.friction", channel);
    assert!(shot.faults().is_empty());
    assert!((friction(&shot, 40.0) - 0.5).abs() < 1e-6);
}

#[test]
fn a_file_of_version_1_is_read_with_its_keys_gravity_aim_and_let_go() {
    let old = json!({
        "version": 1, "name": "Old", "timing": {"fps": 24, "first": 1, "last": 48},
        "picture": {"width": 640, "height": 360}, "camera": 2,
        "elements": [
            {"id": 1, "name": "Gravity", "is": {"gravity": {"acceleration": [0, -9.81, 0]}}},
            {"id": 2, "name": "Camera", "is": {"camera": {"aim": 3, "focal_length_mm": 50}}},
            {"id": 3, "name": "Block", "placement": {
                "place_m": {"keys": [{"frame": 1, "value": [0, 1, 0], "then": "smooth"}, {"frame": 14, "value": [2, 1, 0]}]}
            }, "is": {"solid": {"shape": {"sphere": {"radius_m": 0.2}}, "body": {"moves": "animated", "let_go_frame": 14}}}}
        ]
    });
    let shot = shot::read(old.to_string().as_bytes()).unwrap();
    assert_eq!((shot.version, shot.gravity()), (shot::VERSION, Vec3::new(0.0, -9.81, 0.0)));
    let block = shot.named("Block").unwrap();
    assert_eq!(shot.named("Camera").unwrap().aim.as_ref().unwrap().target, block.id);
    assert_eq!(block.as_solid().unwrap().body.let_go_frame(), Some(14));
    assert_eq!(block.channels["placement.position_m"].at(14.0), Some(Value::Vector([2.0, 1.0, 0.0])));
    // Written anew it is of the present version, and the same shot.
    assert_eq!(shot::read(shot::write(&shot).as_bytes()).unwrap(), shot);
}

#[test]
fn a_sampler_of_one_value_gives_what_the_whole_one_gives() {
    let mut shot = Shot::empty("One");
    let chain = |name: &str, text: &str| {
        Element::solid(name, Shape::sphere(0.1), Moves::Animated)
            .keyed("placement.position_m[1]", Channel::expression(text))
    };
    shot.add(chain("A", "sin(time)"));
    shot.add(chain("B", "{A.position.y} + 1"));
    shot.add(chain("C", "{B.position.y} * 2 + {A.position.y}"));
    shot.add(chain("D", "7 * time"));
    let whole = Sampler::new(&shot).unwrap();
    let id = shot.named("C").unwrap().id;
    let mut one = whole.clone();
    one.keep_only(Some(id), "placement.position_m[1]");
    for frame in [1.0, 7.5, 40.0] {
        let of = |sampler: &Sampler, name: &str| {
            sampler.at(frame).unwrap().named(name).unwrap().placement.position_m.y
        };
        assert_eq!(of(&whole, "C"), of(&one, "C"));
        assert_eq!(of(&one, "D"), 0.0);
    }
}
