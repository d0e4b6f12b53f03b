//! Which change makes which frames stale, and by which words it is named.

use glam::Vec3;
use rstest::rstest;
use shot::{
    Asset, AssetKind, Attract, Channel, Collision, Copies, Element, Force, ForceKind, Is, Moves, Region,
    Shape, Shot, Volume, Wake, Weight, Wind, fingerprints, what_changed, why_stale,
};

fn shot() -> Shot {
    let mut shot = Shot::empty("Changes");
    shot.timing.last = 20;
    shot.assets.insert(
        "boat".to_owned(),
        Asset { kind: AssetKind::Mesh, file: "assets/boat.obj".to_owned(), sha256: "aa".to_owned() },
    );
    shot.add(Element::solid("Quay", Shape::plane(6.0, 6.0), Moves::Still));
    shot.add(Element::solid("Crate", Shape::cuboid(0.5, 0.4, 0.6), Moves::Free).at(0.0, 2.0, 0.0));
    shot.add(Element::solid("Boat", Shape::Mesh { asset: "boat".to_owned(), scale: 1.0 }, Moves::Free));
    shot
}

fn body(shot: &mut Shot) -> &mut shot::Body {
    &mut shot.named_mut("Crate").unwrap().as_solid_mut().unwrap().body
}

#[rstest]
#[case("frame rate", |s: &mut Shot| s.timing.fps = 30.0)]
#[case("first frame", |s: &mut Shot| s.timing.first = 2)]
#[case("substeps", |s: &mut Shot| s.physics.substeps = 16)]
#[case("world size", |s: &mut Shot| s.physics.world_m = 50.0)]
#[case("place of Crate", |s: &mut Shot| s.named_mut("Crate").unwrap().placement.place_m = Vec3::ONE)]
#[case("turn of Crate", |s: &mut Shot| s.named_mut("Crate").unwrap().placement.turn_rad = Vec3::ONE)]
#[case("shape of Crate", |s: &mut Shot| s.named_mut("Crate").unwrap().as_solid_mut().unwrap().shape = Shape::sphere(0.2))]
#[case("shape of Boat", |s: &mut Shot| s.assets.get_mut("boat").unwrap().sha256 = "bb".to_owned())]
#[case("copies of Crate", |s: &mut Shot| s.named_mut("Crate").unwrap().as_solid_mut().unwrap().copies =
    Some(Copies { count: [2, 1, 1], spacing_m: Vec3::ONE, jitter_m: 0.0, turn_rad: 0.0, seed: 0 }))]
#[case("movement of Crate", |s: &mut Shot| body(s).moves = Moves::Still)]
#[case("collision shape of Crate", |s: &mut Shot| body(s).collision = Collision::Ball)]
#[case("weight of Crate", |s: &mut Shot| body(s).weight = Weight::MassKg(3.0))]
#[case("friction of Crate", |s: &mut Shot| body(s).friction = 0.9)]
#[case("bounce of Crate", |s: &mut Shot| body(s).bounce = 0.9)]
#[case("margin of Crate", |s: &mut Shot| body(s).margin_m = Some(0.001))]
#[case("launch velocity of Crate", |s: &mut Shot| body(s).launch_velocity = Some(Vec3::X))]
#[case("launch spin of Crate", |s: &mut Shot| body(s).launch_spin = Some(Vec3::X))]
#[case("Quay deleted", |s: &mut Shot| s.elements.retain(|e| e.name != "Quay"))]
#[case("Float added", |s: &mut Shot| { s.add(Element::solid("Float", Shape::sphere(0.1), Moves::Free)); })]
fn it_makes_every_frame_stale_and_is_named(#[case] words: &str, #[case] change: fn(&mut Shot)) {
    let mut changed = shot();
    change(&mut changed);
    assert_eq!(what_changed(&shot(), &changed), [words]);
    let (before, after) = (fingerprints(&shot()), fingerprints(&changed));
    assert!(before.iter().zip(&after).all(|(a, b)| a != b), "{words}");
}

#[rstest]
#[case(|s: &mut Shot| s.name = "Other".to_owned())]
#[case(|s: &mut Shot| s.picture.width = 640)]
#[case(|s: &mut Shot| s.camera = None)]
#[case(|s: &mut Shot| s.named_mut("Sun").unwrap().placement.turn_rad = Vec3::ONE)]
#[case(|s: &mut Shot| s.named_mut("Crate").unwrap().hidden = true)]
#[case(|s: &mut Shot| s.named_mut("Crate").unwrap().locked = true)]
#[case(|s: &mut Shot| s.named_mut("Crate").unwrap().as_solid_mut().unwrap().look.albedo = Vec3::ZERO)]
#[case(|s: &mut Shot| s.timing.last = 10)]
fn it_leaves_every_frame_fresh(#[case] change: fn(&mut Shot)) {
    let mut changed = shot();
    change(&mut changed);
    let (before, after) = (fingerprints(&shot()), fingerprints(&changed));
    assert_eq!(before[..after.len().min(before.len())], after[..after.len().min(before.len())]);
    assert!(what_changed(&shot(), &changed).is_empty());
}

fn keyed(frames: &[(f64, f32)]) -> Shot {
    let mut shot = shot();
    let mut block = Element::solid("Block", Shape::cuboid(1.0, 1.0, 1.0), Moves::Animated);
    let keys = frames.iter().map(|&(frame, x)| (frame, Vec3::X * x));
    block.motion.insert("placement.place_m".to_owned(), Channel::keyed(keys));
    shot.add(block);
    shot
}

/// Frames that are the same in two shots: the first so many.
fn same(a: &Shot, b: &Shot) -> usize {
    fingerprints(a).iter().zip(&fingerprints(b)).take_while(|(a, b)| a == b).count()
}

#[rstest]
// The last key moved in value: stale from the key before it on.
#[case(&[(1.0, 0.0), (8.0, 1.0), (16.0, 2.0)], &[(1.0, 0.0), (8.0, 1.0), (16.0, 9.0)], 8)]
// A key put between two that changes nothing: all fresh.
#[case(&[(1.0, 0.0), (9.0, 8.0)], &[(1.0, 0.0), (5.0, 4.0), (9.0, 8.0)], 20)]
// The first key changed: only what the frames before the second key show.
#[case(&[(4.0, 0.0), (8.0, 1.0)], &[(4.0, 5.0), (8.0, 1.0)], 0)]
// A key beyond the last frame reaches back to the key before it.
#[case(&[(1.0, 0.0), (12.0, 1.0), (40.0, 2.0)], &[(1.0, 0.0), (12.0, 1.0), (50.0, 2.0)], 12)]
fn keys_leave_fresh_what_comes_before_their_span(
    #[case] before: &[(f64, f32)],
    #[case] after: &[(f64, f32)],
    #[case] fresh: usize,
) {
    assert_eq!(same(&keyed(before), &keyed(after)), fresh);
}

#[test]
fn what_a_body_does_after_its_let_go_is_no_matter_of_later_keys() {
    let with = |last: f32| {
        let mut shot = keyed(&[(1.0, 0.0), (6.0, 1.0), (12.0, last)]);
        shot.named_mut("Block").unwrap().as_solid_mut().unwrap().body.wake = Some(Wake::Frame(6));
        shot
    };
    assert_eq!(same(&with(2.0), &with(50.0)), 20);
}

#[test]
fn a_launch_velocity_matters_from_the_let_go_on() {
    let with = |velocity: Option<Vec3>| {
        let mut shot = keyed(&[(1.0, 0.0), (12.0, 2.0)]);
        let body = &mut shot.named_mut("Block").unwrap().as_solid_mut().unwrap().body;
        (body.wake, body.launch_velocity) = (Some(Wake::Frame(7)), velocity);
        shot
    };
    assert_eq!(same(&with(None), &with(Some(Vec3::Y))), 7);
}

#[rstest]
#[case(|s: &mut Shot| body(s).friction = 0.9, Some("before friction of Newly added changed"))]
#[case(|s: &mut Shot| s.elements.retain(|e| e.name != "Quay"), Some("before Quay was deleted"))]
#[case(|s: &mut Shot| { s.add(Element::solid("Float", Shape::sphere(0.1), Moves::Free)); }, Some("before Float was added"))]
#[case(|s: &mut Shot| { body(s).friction = 0.9; body(s).bounce = 0.9; }, Some("before friction of Newly added and 1 more changed"))]
#[case(|s: &mut Shot| s.picture.width = 640, None)]
fn why_frames_are_stale_is_said_in_words(#[case] change: fn(&mut Shot), #[case] words: Option<&str>) {
    // A name that reads like a change is still a name.
    let (mut before, mut now) = (shot(), shot());
    change(&mut now);
    for shot in [&mut before, &mut now] {
        shot.named_mut("Crate").unwrap().name = "Newly added".to_owned();
    }
    assert_eq!(why_stale(&before, &now).as_deref(), words);
}

/// The shot with a squall that blows in frames 8 to 12, in a region.
fn squall() -> Shot {
    let mut shot = shot();
    let region = shot.add(Element::new("Lee", Is::Region(Region::new(Volume::Ball { radius_m: 2.0 }))));
    let mut force = Force::new(ForceKind::Wind(Wind::default()));
    (force.from_frame, force.to_frame, force.region) = (Some(8), Some(12), Some(region));
    shot.add(Element::new("Squall", Is::Force(force)));
    shot
}

fn force(shot: &mut Shot) -> &mut Force {
    let Is::Force(force) = &mut shot.named_mut("Squall").unwrap().is else { panic!() };
    force
}

#[rstest]
#[case("acceleration of Gravity", 1, |s: &mut Shot| s.named_mut("Gravity").unwrap().is =
    Is::Force(Force::new(ForceKind::Gravity { acceleration: Vec3::ZERO })))]
#[case("strength of Squall", 8, |s: &mut Shot| force(s).strength = 2.0)]
#[case("speed of Squall", 8, |s: &mut Shot| {
    force(s).kind = ForceKind::Wind(Wind { speed_m_s: 9.0, ..Wind::default() });
})]
#[case("settings of Squall", 8, |s: &mut Shot| force(s).kind = ForceKind::Attract(Attract::default()))]
#[case("turn of Squall", 8, |s: &mut Shot| s.named_mut("Squall").unwrap().placement.turn_rad = Vec3::ONE)]
#[case("radius of Lee", 8, |s: &mut Shot| {
    s.named_mut("Lee").unwrap().is = Is::Region(Region::new(Volume::Ball { radius_m: 1.0 }));
})]
#[case("span of Squall", 9, |s: &mut Shot| force(s).to_frame = Some(9))]
#[case("strength of Squall", 9, |s: &mut Shot| {
    let keys = Channel::keyed([(9.0, 1.0f32), (14.0, 0.0)]);
    s.named_mut("Squall").unwrap().motion.insert("is.force.strength".to_owned(), keys);
})]
#[case("friction of Crate", 5, |s: &mut Shot| {
    let keys = Channel::keyed([(5.0, 0.5f32), (14.0, 0.0)]);
    s.named_mut("Crate").unwrap().motion.insert("is.solid.body.friction".to_owned(), keys);
})]
fn frames_before_it_acts_stay_fresh(
    #[case] words: &str,
    #[case] fresh: usize,
    #[case] change: fn(&mut Shot),
) {
    let mut changed = squall();
    change(&mut changed);
    assert_eq!(what_changed(&squall(), &changed), [words]);
    assert_eq!(same(&squall(), &changed), fresh, "{words}");
}

#[test]
fn a_force_that_is_added_leaves_what_comes_before_it_fresh() {
    assert_eq!(same(&shot(), &squall()), 8);
}

#[test]
fn a_slower_time_makes_frames_stale_from_its_first_key_on() {
    let mut changed = shot();
    changed.motion.insert("physics.time_scale".to_owned(), Channel::keyed([(6.0, 1.0f32), (9.0, 0.3)]));
    assert_eq!(same(&shot(), &changed), 6);
    assert_eq!(what_changed(&shot(), &changed), ["time scale"]);
}
