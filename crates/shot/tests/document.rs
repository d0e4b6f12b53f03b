//! What a shot file may hold, and what is said about what it may not.

use glam::Vec3;
use rstest::rstest;
use serde_json::{Value, json};
use shot::{
    Element, Moves, Shape, Shot, Wake,
    changes::what_changed,
    fingerprint::fingerprints,
    motion::{Channel, Value as ElementKind},
};

fn tumble() -> Shot {
    let mut shot = Shot::empty("Crate tumble");
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    shot.add(Element::solid("Crate", Shape::cuboid(0.5, 0.4, 0.6), Moves::Free).at(0.0, 2.0, 0.0));
    let mut block = Element::solid("Block", Shape::cuboid(0.7, 0.7, 0.7), Moves::Animated);
    let key = |frame, x| (frame, Vec3::new(x, 1.0, 0.0));
    let keys = [key(1.0, -3.0), key(14.0, -1.0), key(40.0, 2.0)];
    block.channels.insert("placement.position_m".to_owned(), Channel::keyed(keys));
    block.as_solid_mut().unwrap().body.wake = Some(Wake::Frame(30));
    shot.add(block);
    shot
}

fn with(path: &str, value: Value) -> Result<Shot, String> {
    let mut document = serde_json::to_value(tumble()).unwrap();
    *document.pointer_mut(path).unwrap_or_else(|| panic!("{path} is in the shot")) = value;
    shot::read(document.to_string().as_bytes()).map_err(|error| error.to_string())
}

#[test]
fn writing_and_reading_gives_an_equal_shot() {
    let shot = tumble();
    assert_eq!(shot::read(shot::write(&shot).as_bytes()).unwrap(), shot);
}

#[rstest]
#[case("/timing/fps", json!(0), "timing.fps: 0 is outside 1 to 240")]
#[case("/timing/last", json!(0), "timing.last: 0 comes before the first frame, 1")]
#[case("/picture/width", json!(100000), "picture.width: 100000 is outside 16 to 8192")]
#[case("/version", json!(9), "version: 9 is not a version this build reads")]
#[case("/name", json!(" "), "name: is empty")]
#[case("/elements/5/kind/solid/body/friction", json!(-0.1), "elements[5].kind.solid.body.friction: -0.1 is outside 0 to 10")]
#[case("/elements/5/kind/solid/body/restitution", json!(1.5), "elements[5].kind.solid.body.restitution: 1.5 is outside 0 to 1")]
#[case("/elements/5/kind/solid/body/friction", json!("rough"), "elements[5].kind.solid.body.friction: invalid type: string")]
#[case("/elements/5/kind/solid/shape/box/size_m", json!([1, 0, 1]), "elements[5].kind.solid.shape.box.size_m[1]: 0 is outside")]
#[case("/elements/5/name", json!("Deck"), "elements[5].name: \"Deck\" is also the name of elements[4]")]
#[case("/elements/5/id", json!(5), "elements[5].id: 5 is also the id of elements[4]")]
#[case("/elements/5/kind/solid/look", json!({"gloss": 1}), "elements[5].kind.solid.look.gloss: unknown field `gloss`")]
#[case("/elements/6/channels/placement.position_m/keys/1/frame", json!(1), "elements[6].channels.placement.position_m.keys[1].frame: 1 does not come after 1")]
#[case("/elements/6/channels/placement.position_m/keys/1/value", json!(1), "keys[1].value: is a number, not three numbers")]
#[case("/elements/6/channels/placement.position_m/keys/1/value", json!([0, 1e9, 0]), "keys[1].value[1]: 1000000000 is outside -10000 to 10000")]
#[case("/elements/6/channels", json!({"kind.solid.body.frction": {"keys": [{"frame": 1, "value": 1}]}}), "elements[6].channels.kind.solid.body.frction: is not a value of this element")]
#[case("/elements/6/channels", json!({"kind.solid.shape.box.size_m": {"keys": [{"frame": 1, "value": [1, 0, 1]}]}}), "keys[0].value[1]: 0 is outside")]
#[case("/elements/6/channels/placement.position_m/keys", json!([]), "elements[6].channels.placement.position_m.keys: is empty")]
#[case("/camera", json!(5), "camera: 5 is not the id of a camera")]
#[case("/elements/5/kind/solid/shape", json!({"mesh": {"asset": "boat", "scale": 1}}), "\"boat\" is not among the assets")]
#[case("/assets", json!({"x": {"kind": "mesh", "file": "../etc/x", "sha256": ""}}), "is not a path below the shot's folder")]
fn a_fault_is_named_by_its_path(#[case] path: &str, #[case] value: Value, #[case] message: &str) {
    let error = with(path, value).unwrap_err();
    assert!(error.contains(message), "{error}");
}

#[rstest]
#[case(b"" as &[u8])]
#[case(b"{\"version\":1")]
#[case(b"{\"version\":1,\"timing\":{\"fps\":NaN}}")]
#[case(b"\xff\xfe")]
fn what_is_not_json_is_said_to_be_so(#[case] bytes: &[u8]) {
    assert!(shot::read(bytes).unwrap_err().to_string().contains("is not JSON"));
}

#[test]
fn every_fault_is_listed_not_only_the_first() {
    let mut shot = tumble();
    shot.timing.fps = f32::NAN;
    shot.physics.substeps = 0;
    assert_eq!(shot.faults().len(), 2);
}

#[test]
fn a_key_after_frame_14_leaves_frames_1_to_14_fresh() {
    let before = fingerprints(&tumble());
    let mut shot = tumble();
    let channel = shot.named_mut("Block").unwrap().channels.get_mut("placement.position_m").unwrap();
    channel.keys[2].value = ElementKind::Vector([2.0, 3.0, 0.0]);
    let after = fingerprints(&shot);
    assert_eq!(before[..14], after[..14]);
    assert_ne!(before[14], after[14]);
}

#[test]
fn a_later_let_go_leaves_the_frames_up_to_the_earlier_one_fresh() {
    let before = fingerprints(&tumble());
    let mut shot = tumble();
    shot.named_mut("Block").unwrap().as_solid_mut().unwrap().body.wake = Some(Wake::Frame(35));
    let after = fingerprints(&shot);
    assert_eq!(before[..30], after[..30]);
    assert_ne!(before[30], after[30]);
    assert_eq!(what_changed(&tumble(), &shot), ["let-go of Block"]);
}

#[test]
fn looks_names_and_length_leave_every_frame_fresh() {
    let mut shot = tumble();
    shot.named_mut("Crate").unwrap().as_solid_mut().unwrap().look.roughness = 0.1;
    shot.named_mut("Crate").unwrap().name = "Box".to_owned();
    shot.timing.last = 120;
    assert_eq!(fingerprints(&shot)[..96], fingerprints(&tumble())[..]);
    assert_eq!(what_changed(&tumble(), &shot), Vec::<String>::new());
}

#[test]
fn friction_makes_every_frame_stale_and_is_named() {
    let mut shot = tumble();
    shot.named_mut("Crate").unwrap().as_solid_mut().unwrap().body.friction = 0.9;
    assert!(fingerprints(&shot).iter().zip(&fingerprints(&tumble())).all(|(a, b)| a != b));
    assert_eq!(what_changed(&tumble(), &shot), ["friction of Crate"]);
}

#[test]
fn the_schema_refuses_unknown_fields() {
    let schema = shot::schema();
    assert_eq!(schema["additionalProperties"], json!(false));
    assert!(schema["$defs"]["Body"]["properties"]["friction"].is_object());
}

#[test]
fn a_taken_name_gets_a_number() {
    let mut shot = tumble();
    let id = shot.add(Element::solid("Crate", Shape::sphere(0.1), Moves::Free));
    assert_eq!(shot.element(id).unwrap().name, "Crate 2");
}

#[test]
fn the_frame_rate_takes_no_keys() {
    let mut shot = Shot::empty("Test");
    shot.channels.insert("timing.fps".to_owned(), Channel::keyed([(1.0, 30.0f32)]));
    let fault = shot.faults()[0].to_string();
    assert_eq!(fault, "channels.timing.fps: frame rate is the same at every frame; it takes no keys");
}

#[test]
fn a_group_has_a_name() {
    let mut shot = Shot::empty("Test");
    shot.elements[0].groups = vec!["Cargo".to_owned(), " ".to_owned()];
    assert_eq!(shot.faults()[0].to_string(), "elements[0].groups[1]: is empty");
}

#[test]
fn what_is_left_out_of_particles_comes_back_as_it_was() {
    use shot::{
        ElementKind,
        particles::{Action, ParticleEvent, Particles, Split, Start, Trigger},
    };
    let mut shot = Shot::empty("Test");
    let split = Split { size: None, ..Split::default() };
    let events =
        vec![ParticleEvent { trigger: Trigger::End {}, action: Action::Split(split), probability: 1.0 }];
    let start = Start { lifespan_s: None, ..Start::default() };
    shot.add(Element::new(
        "Sparks",
        ElementKind::Particles(Particles { start, events, ..Particles::default() }),
    ));
    assert_eq!(shot::read(shot::write(&shot).as_bytes()).unwrap(), shot);
}
