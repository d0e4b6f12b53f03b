//! Forces, regions and curves in a shot: what they refer to, when they act,
//! what is likely wrong with them.

use glam::Vec3;
use rstest::rstest;
use serde_json::{Value, json};
use shot::check::{Mistake, check};
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot,
    curve::Curve,
    force::{Attract, ElementFilter, Force, ForceKind, Matter, Wind},
    motion::Channel,
    region::{Combine, Part, Profile, Region, Volume},
};

fn wind() -> Force {
    Force::new(ForceKind::Wind(Wind::default()))
}

/// A shot with a crate on a deck, a wind, a region and a line.
fn shot() -> Shot {
    let mut shot = Shot::empty("Forces");
    shot.add(Element::solid("Deck", Shape::plane(6.0, 6.0), Moves::Still));
    shot.add(Element::solid("Crate", Shape::cuboid(0.5, 0.5, 0.5), Moves::Free).at(0.0, 1.0, 0.0));
    shot.add(Element::new("Lee", ElementKind::Region(Region::new(Volume::Sphere { radius_m: 1.0 }))));
    let points_m = vec![Vec3::ZERO, Vec3::X];
    shot.add(Element::new(
        "Line",
        ElementKind::Curve(Curve::Points { points_m, closed: false, smooth: true }),
    ));
    shot.add(Element::new("Wind", ElementKind::Force(wind())));
    shot
}

fn id(shot: &Shot, name: &str) -> Id {
    shot.named(name).unwrap().id
}

fn set_force(shot: &mut Shot, change: impl FnOnce(&mut Force)) {
    let ElementKind::Force(force) = &mut shot.named_mut("Wind").unwrap().kind else { panic!() };
    change(force);
}

fn fault(shot: &Shot) -> String {
    shot.faults().first().map_or_else(String::new, ToString::to_string)
}

#[rstest]
#[case(json!({"gravity": {"acceleration": [0, -1, 0]}}), "gravity")]
#[case(json!({"pull": {"force_n": 2}}), "pull")]
#[case(json!({"wind": {}}), "wind")]
#[case(json!({"turbulence": {"octaves": 3, "loop_s": 2}}), "turbulence")]
#[case(json!({"vortex": {"push": "acceleration"}}), "vortex")]
#[case(json!({"attract": {"power": -2, "target": 8}}), "attract")]
#[case(json!({"drag": {"density_kg_m3": 1.2}}), "drag")]
#[case(json!({"along": {"curve": 8, "speed_m_s": 1, "range_m": 2}}), "along")]
fn every_kind_is_read_and_written_alike(#[case] kind: Value, #[case] name: &str) {
    let mut document = serde_json::to_value(shot()).unwrap();
    document["elements"][8]["kind"] = json!({"force": {"kind": kind}});
    let read = shot::read(document.to_string().as_bytes()).unwrap();
    assert_eq!(read.elements[8].as_force().unwrap().name(), name);
    assert_eq!(shot::read(shot::write(&read).as_bytes()).unwrap(), read);
}

#[test]
fn an_unknown_field_of_a_force_is_refused_by_its_path() {
    let mut document = serde_json::to_value(shot()).unwrap();
    document["elements"][8]["kind"]["force"]["kind"]["wind"]["gale"] = json!(1);
    let error = shot::read(document.to_string().as_bytes()).unwrap_err().to_string();
    assert!(error.contains("elements[8].kind.force.kind.wind.gale: unknown field `gale`"), "{error}");
}

#[test]
fn a_force_acts_after_the_frame_it_begins_at_and_up_to_the_one_it_ends_at() {
    let force = Force { from_frame: Some(10), to_frame: Some(20), ..wind() };
    let acts: Vec<u32> = (8..24).filter(|&frame| force.acts_at(f64::from(frame))).collect();
    assert_eq!(acts, (11..=20).collect::<Vec<_>>());
    assert!(force.acts_at(10.125) && !force.acts_at(20.125));
    assert!(!Force { enabled: false, ..force.clone() }.acts_at(15.0));
    assert!(!Force { strength: 0.0, ..force }.acts_at(15.0));
}

#[rstest]
#[case(vec![ElementFilter::Group { group: "Cargo".to_owned() }], vec![], true)]
#[case(vec![ElementFilter::Group { group: "Lamps".to_owned() }], vec![], false)]
#[case(vec![ElementFilter::Kind { kind: Matter::Solid }], vec![], true)]
#[case(vec![], vec![ElementFilter::Group { group: "Cargo".to_owned() }], false)]
#[case(vec![ElementFilter::Kind { kind: Matter::Solid }], vec![ElementFilter::Group { group: "Cargo".to_owned() }], false)]
fn a_force_acts_on_groups_and_kinds(
    #[case] only: Vec<ElementFilter>,
    #[case] except: Vec<ElementFilter>,
    #[case] acts: bool,
) {
    let mut shot = shot();
    shot.named_mut("Crate").unwrap().groups = vec!["Cargo".to_owned()];
    let force = Force { only, except, ..wind() };
    assert_eq!(force.acts_on(shot.named("Crate").unwrap()), acts);
    set_force(&mut shot, |f| *f = force.clone());
    assert_eq!(shot::read(shot::write(&shot).as_bytes()).unwrap(), shot);
}

#[test]
fn forces_act_in_order_and_then_by_id() {
    let mut shot = shot();
    shot.add(Element::new("Late", ElementKind::Force(Force { order: 5, ..wind() })));
    shot.add(Element::new("Early", ElementKind::Force(Force { order: -5, ..wind() })));
    let names: Vec<_> = shot.forces().into_iter().map(|(element, _)| element.name.as_str()).collect();
    assert_eq!(names, ["Early", "Gravity", "Wind", "Late"]);
}

#[test]
fn only_gravity_that_acts_everywhere_counts_as_the_shots() {
    let mut shot = shot();
    let lee = id(&shot, "Lee");
    let force = Force { region: Some(lee), ..Force::new(ForceKind::Gravity { acceleration: Vec3::X }) };
    shot.add(Element::new("Local", ElementKind::Force(force)));
    assert_eq!(shot.gravity(), Vec3::new(0.0, -9.81, 0.0));
}

#[rstest]
#[case(|s: &mut Shot| { let crate_ = id(s, "Crate"); set_force(s, |f| f.region = Some(crate_)) },
    "elements[8].kind.force.region: 6 is not the id of a region")]
#[case(|s: &mut Shot| { let lee = id(s, "Lee"); set_force(s, |f| f.only = vec![lee.into()]) },
    "elements[8].kind.force.only[0]: 7 is not the id of a solid")]
#[case(|s: &mut Shot| set_force(s, |f| f.except = vec![Id(99).into()]),
    "elements[8].kind.force.except[0]: 99 is not the id of a solid")]
#[case(|s: &mut Shot| set_force(s, |f| (f.from_frame, f.to_frame) = (Some(9), Some(4))),
    "elements[8].kind.force.to_frame: 4 comes before from_frame, 9")]
#[case(|s: &mut Shot| { let lee = id(s, "Lee"); set_force(s, |f| f.kind =
    ForceKind::Attract(Attract { target: Some(lee), ..Attract::default() })) },
    "elements[8].kind.force.kind.attract.target: 7 is not the id of a curve or solid")]
#[case(|s: &mut Shot| { let line = id(s, "Line"); s.named_mut("Lee").unwrap().kind =
    ElementKind::Region(Region::new(Volume::Inside { solid: line })) },
    "elements[6].kind.region.volume.inside.solid: 8 is not the id of a solid")]
#[case(|s: &mut Shot| s.named_mut("Lee").unwrap().kind = ElementKind::Region(Region::new(Volume::Combined { parts: vec![] })),
    "elements[6].kind.region.volume.combined.parts: 0 regions; from 1 to 16")]
#[case(|s: &mut Shot| s.named_mut("Line").unwrap().kind =
    ElementKind::Curve(Curve::Points { points_m: vec![Vec3::ZERO], closed: false, smooth: false }),
    "elements[7].kind.curve.points.points_m: 1 points; from 2 to 10000")]
#[case(|s: &mut Shot| s.named_mut("Line").unwrap().kind =
    ElementKind::Curve(Curve::Points { points_m: vec![Vec3::ZERO, Vec3::splat(1e9)], closed: false, smooth: false }),
    "elements[7].kind.curve.points.points_m.1[0]: 1000000000 is outside -10000 to 10000")]
fn what_a_force_refers_to_has_to_be_there_and_of_its_kind(
    #[case] change: fn(&mut Shot),
    #[case] message: &str,
) {
    let mut shot = shot();
    change(&mut shot);
    assert!(fault(&shot).starts_with(message), "{}", fault(&shot));
}

#[test]
fn regions_made_of_each_other_are_refused_by_name() {
    let mut shot = shot();
    let lee = id(&shot, "Lee");
    let parts = vec![Part { region: lee, operation: Combine::Add }];
    let other = shot.add(Element::new("Other", ElementKind::Region(Region::new(Volume::Combined { parts }))));
    let parts = vec![Part { region: other, operation: Combine::Maximum }];
    shot.named_mut("Lee").unwrap().kind = ElementKind::Region(Region::new(Volume::Combined { parts }));
    assert!(fault(&shot).contains("depends on itself: Lee → Other → Lee"), "{}", fault(&shot));
}

#[rstest]
#[case(Profile::Linear, 0.5)]
#[case(Profile::Smooth, 0.5)]
#[case(Profile::Faint, 0.25)]
#[case(Profile::Full, 0.75)]
fn a_profile_goes_from_nothing_to_all_and_has_its_own_middle(#[case] profile: Profile, #[case] middle: f32) {
    assert_eq!((profile.at(-1.0), profile.at(0.0), profile.at(1.0), profile.at(9.0)), (0.0, 0.0, 1.0, 1.0));
    assert_eq!(profile.at(0.5), middle);
    assert!((0..100).all(|i| profile.at(i as f32 / 100.0) <= profile.at((i + 1) as f32 / 100.0)));
}

#[rstest]
#[case(|s: &mut Shot| set_force(s, |f| f.from_frame = Some(500)), "Wind acts only outside the shot's frames.")]
#[case(|s: &mut Shot| { let deck = id(s, "Deck"); set_force(s, |f| f.only = vec![deck.into()]) },
    "Wind acts on nothing: none of its elements is free.")]
fn a_force_on_nothing_is_told(#[case] change: fn(&mut Shot), #[case] reason: &str) {
    let mut shot = shot();
    assert!(!check(&shot).iter().any(|entry| entry.mistake == Mistake::ForceOnNothing));
    change(&mut shot);
    let entries = check(&shot);
    let entry = entries.iter().find(|entry| entry.mistake == Mistake::ForceOnNothing).unwrap();
    assert_eq!((entry.reason.as_str(), entry.elements[0]), (reason, id(&shot, "Wind")));
}

#[test]
fn a_region_of_no_size_is_told_unless_keys_give_it_one() {
    let mut shot = shot();
    shot.named_mut("Lee").unwrap().kind = ElementKind::Region(Region::new(Volume::Sphere { radius_m: 0.0 }));
    assert!(check(&shot).iter().any(|entry| entry.mistake == Mistake::RegionEmpty));
    let grows = Channel::keyed([(1.0, 0.5f32), (9.0, 2.0)]);
    shot.named_mut("Lee").unwrap().channels.insert("kind.region.volume.ball.radius_m".to_owned(), grows);
    assert!(!check(&shot).iter().any(|entry| entry.mistake == Mistake::RegionEmpty));
}

#[test]
fn drag_is_given_or_follows_from_the_shape() {
    let mut crate_ = Element::solid("Crate", Shape::sphere(0.1), Moves::Free);
    let solid = crate_.as_solid_mut().unwrap();
    assert_eq!(solid.body.drag_of(&solid.shape), 0.47);
    solid.body.drag = Some(0.1);
    assert_eq!(solid.body.drag_of(&solid.shape), 0.1);
}

#[test]
fn an_element_is_shifted_with_all_its_keys_of_place() {
    let keys = Channel::keyed([(1.0, Vec3::ZERO), (9.0, Vec3::X)]);
    let height = Channel::keyed([(1.0, 2.0f32)]);
    let mut crate_ = Element::solid("Crate", Shape::sphere(0.1), Moves::Animated)
        .keyed("placement.position_m", keys)
        .keyed("placement.position_m[1]", height)
        .keyed("kind.solid.body.friction", Channel::keyed([(1.0, 0.5f32)]));
    crate_.shift(Vec3::new(1.0, 2.0, 3.0));
    assert_eq!(crate_.placement.position_m, Vec3::new(1.0, 2.0, 3.0));
    assert_eq!(crate_.channels["placement.position_m"].keys[1].value, Vec3::new(2.0, 2.0, 3.0).into());
    assert_eq!(crate_.channels["placement.position_m[1]"].keys[0].value, 4.0f32.into());
    assert_eq!(crate_.channels["kind.solid.body.friction"].keys[0].value, 0.5f32.into());
}
