//! Which change makes which frames stale, and by which words it is named.

use glam::Vec3;
use rstest::rstest;
use shot::{
    Asset, AssetKind, Collision, Copies, Element, ElementKind, Moves, Shape, Shot, Wake, Weight,
    changes::{what_changed, why_stale},
    fingerprint::fingerprints,
    force::{Attract, Force, ForceKind, Wind},
    motion::{Channel, Value},
    region::{Region, Volume},
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
#[case("place of Crate", |s: &mut Shot| s.named_mut("Crate").unwrap().placement.position_m = Vec3::ONE)]
#[case("turn of Crate", |s: &mut Shot| s.named_mut("Crate").unwrap().placement.orientation_rad = Vec3::ONE)]
#[case("shape of Crate", |s: &mut Shot| s.named_mut("Crate").unwrap().as_solid_mut().unwrap().shape = Shape::sphere(0.2))]
#[case("shape of Boat", |s: &mut Shot| s.assets.get_mut("boat").unwrap().sha256 = "bb".to_owned())]
#[case("copies of Crate", |s: &mut Shot| s.named_mut("Crate").unwrap().as_solid_mut().unwrap().copies =
    Some(Copies { count: [2, 1, 1], spacing_m: Vec3::ONE, position_jitter_m: 0.0, orientation_jitter_rad: 0.0, seed: 0 }))]
#[case("movement of Crate", |s: &mut Shot| body(s).moves = Moves::Still)]
#[case("collision shape of Crate", |s: &mut Shot| body(s).collision = Collision::Sphere)]
#[case("weight of Crate", |s: &mut Shot| body(s).weight = Weight::MassKg(3.0))]
#[case("friction of Crate", |s: &mut Shot| body(s).friction = 0.9)]
#[case("bounce of Crate", |s: &mut Shot| body(s).restitution = 0.9)]
#[case("margin of Crate", |s: &mut Shot| body(s).margin_m = Some(0.001))]
#[case("launch velocity of Crate", |s: &mut Shot| body(s).launch_velocity = Some(Vec3::X))]
#[case("launch spin of Crate", |s: &mut Shot| body(s).launch_angular_velocity = Some(Vec3::X))]
#[case("Quay deleted", |s: &mut Shot| s.elements.retain(|e| e.name != "Quay"))]
#[case("Float added", |s: &mut Shot| { s.add(Element::solid("Float", Shape::sphere(0.1), Moves::Free)); })]
fn it_makes_every_frame_stale_and_is_named(#[case] words: &str, #[case] change: fn(&mut Shot)) {
    let mut changed = shot();
    change(&mut changed);
    assert_eq!(what_changed(&shot(), &changed), [words]);
    let (before, after) = (fingerprints(&shot()), fingerprints(&changed));
    assert!(before.iter().zip(&after).all(|(a, b)| a != b), "{words}");
}

#[test]
fn a_region_that_wakes_a_body_counts_from_the_start() {
    let mut shot = shot();
    let region =
        shot.add(Element::new("Door", ElementKind::Region(Region::new(Volume::Sphere { radius_m: 1.0 }))));
    body(&mut shot).wake = Some(Wake::Region(region));
    let before = fingerprints(&shot);
    shot.named_mut("Door").unwrap().kind = ElementKind::Region(Region::new(Volume::Sphere { radius_m: 2.0 }));
    let after = fingerprints(&shot);
    assert!(before[1..].iter().zip(&after[1..]).all(|(a, b)| a != b));
}

#[test]
fn a_keyed_shape_counts_from_where_it_differs() {
    let mut shot = shot();
    let key = |end: f32| {
        Channel::keyed([(10.0, Value::Vector([0.5, 0.4, 0.6])), (14.0, Value::Vector([end, 0.4, 0.6]))])
    };
    let size = "kind.solid.shape.box.size_m".to_owned();
    shot.named_mut("Crate").unwrap().channels.insert(size.clone(), key(0.5));
    let before = fingerprints(&shot);
    shot.named_mut("Crate").unwrap().channels.insert(size, key(0.9));
    let after = fingerprints(&shot);
    assert_eq!(before[..10], after[..10]);
    assert!(before[10..].iter().zip(&after[10..]).all(|(a, b)| a != b));
}

#[rstest]
#[case(|s: &mut Shot| s.name = "Other".to_owned())]
#[case(|s: &mut Shot| s.picture.width = 640)]
#[case(|s: &mut Shot| s.camera = None)]
#[case(|s: &mut Shot| s.named_mut("Sun").unwrap().placement.orientation_rad = Vec3::ONE)]
#[case(|s: &mut Shot| s.named_mut("Crate").unwrap().hidden = true)]
#[case(|s: &mut Shot| {
    let keys = Channel::keyed([(5.0, true), (14.0, false)]);
    s.named_mut("Crate").unwrap().channels.insert("hidden".to_owned(), keys);
})]
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
    block.channels.insert("placement.position_m".to_owned(), Channel::keyed(keys));
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
#[case(|s: &mut Shot| { body(s).friction = 0.9; body(s).restitution = 0.9; }, Some("before friction of Newly added and 1 more changed"))]
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
    let region =
        shot.add(Element::new("Lee", ElementKind::Region(Region::new(Volume::Sphere { radius_m: 2.0 }))));
    let mut force = Force::new(ForceKind::Wind(Wind::default()));
    (force.from_frame, force.to_frame, force.region) = (Some(8), Some(12), Some(region));
    shot.add(Element::new("Squall", ElementKind::Force(force)));
    shot
}

fn force(shot: &mut Shot) -> &mut Force {
    let ElementKind::Force(force) = &mut shot.named_mut("Squall").unwrap().kind else { panic!() };
    force
}

// The potential energy told with the first frame is that of its gravity.
#[rstest]
#[case("acceleration of Gravity", 0, |s: &mut Shot| s.named_mut("Gravity").unwrap().kind =
    ElementKind::Force(Force::new(ForceKind::Gravity { acceleration: Vec3::ZERO })))]
#[case("strength of Squall", 8, |s: &mut Shot| force(s).strength = 2.0)]
#[case("speed of Squall", 8, |s: &mut Shot| {
    force(s).kind = ForceKind::Wind(Wind { speed_m_s: 9.0, ..Wind::default() });
})]
#[case("settings of Squall", 8, |s: &mut Shot| force(s).kind = ForceKind::Attract(Attract::default()))]
#[case("turn of Squall", 8, |s: &mut Shot| s.named_mut("Squall").unwrap().placement.orientation_rad = Vec3::ONE)]
#[case("radius of Lee", 8, |s: &mut Shot| {
    s.named_mut("Lee").unwrap().kind = ElementKind::Region(Region::new(Volume::Sphere { radius_m: 1.0 }));
})]
#[case("span of Squall", 9, |s: &mut Shot| force(s).to_frame = Some(9))]
#[case("strength of Squall", 9, |s: &mut Shot| {
    let keys = Channel::keyed([(9.0, 1.0f32), (14.0, 0.0)]);
    s.named_mut("Squall").unwrap().channels.insert("kind.force.strength".to_owned(), keys);
})]
#[case("friction of Crate", 5, |s: &mut Shot| {
    let keys = Channel::keyed([(5.0, 0.5f32), (14.0, 0.0)]);
    s.named_mut("Crate").unwrap().channels.insert("kind.solid.body.friction".to_owned(), keys);
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
    changed.channels.insert("physics.time_scale".to_owned(), Channel::keyed([(6.0, 1.0f32), (9.0, 0.3)]));
    assert_eq!(same(&shot(), &changed), 6);
    assert_eq!(what_changed(&shot(), &changed), ["time scale"]);
}

mod particles {
    use super::*;
    use shot::{
        ElementKind,
        force::{ElementFilter, Force, ForceKind},
        particles::{Action, Emission, EmissionSchedule, Form, ParticleEvent, Particles, Split, Trigger},
    };

    fn sparks(change: impl Fn(&mut Particles)) -> Shot {
        let mut shot = Shot::empty("Sparks");
        let mut particles = Particles::default();
        change(&mut particles);
        shot.add(Element::new("Sparks", ElementKind::Particles(particles)));
        shot
    }

    /// The first frame whose fingerprint a change changes.
    fn first_stale(before: &Shot, now: &Shot) -> Option<usize> {
        fingerprints(before).iter().zip(fingerprints(now)).position(|(a, b)| *a != b).map(|i| i + 1)
    }

    #[test]
    fn what_is_there_at_the_first_frame_makes_that_stale() {
        let how =
            |number| move |p: &mut Particles| p.emission.schedule = EmissionSchedule::Burst { count: number };
        assert_eq!(first_stale(&sparks(how(3)), &sparks(how(4))), Some(1));
        let preroll = |size| move |p: &mut Particles| (p.emission.preroll_s, p.start.size_m) = (1.0, size);
        assert_eq!(first_stale(&sparks(preroll(0.1)), &sparks(preroll(0.2))), Some(1));
        let rate = |per_s| move |p: &mut Particles| p.emission.schedule = EmissionSchedule::Rate { per_s };
        assert_eq!(first_stale(&sparks(rate(3.0)), &sparks(rate(4.0))), Some(2));
    }

    #[test]
    fn births_from_a_frame_on_leave_what_comes_before_fresh() {
        let from = |size| move |p: &mut Particles| (p.emission.from_frame, p.start.size_m) = (Some(30), size);
        assert_eq!(first_stale(&sparks(from(0.1)), &sparks(from(0.2))), Some(31));
        // Not if others become them before.
        let fed = |size| {
            let mut shot = sparks(from(size));
            let id = shot.named("Sparks").unwrap().id;
            let split = Action::Split(Split { particles: Some(id), ..Split::default() });
            let events =
                vec![ParticleEvent { trigger: Trigger::Age { age_s: 0.1 }, action: split, probability: 1.0 }];
            shot.add(Element::new(
                "Coal",
                ElementKind::Particles(Particles { events, ..Particles::default() }),
            ));
            shot
        };
        assert_eq!(first_stale(&fed(0.1), &fed(0.2)), Some(2));
    }

    #[test]
    fn the_image_of_a_map_counts_and_when_bodies_go_back() {
        let by_image = |sum: &str| {
            let mut shot = sparks(|p| {
                p.source = shot::particles::Source::Grid { count: [4, 1, 4], spacing_m: Vec3::ONE };
                let of = shot::particles::MapSource::Image { asset: "ramp".to_owned() };
                p.emission.map =
                    Some(shot::particles::EmissionMap { source: of, inverted: false, uniform_births: false });
            });
            let (file, sha256) = ("assets/ramp.png".to_owned(), sum.to_owned());
            shot.assets.insert("ramp".to_owned(), shot::Asset { kind: shot::AssetKind::Image, file, sha256 });
            shot
        };
        assert_eq!(first_stale(&by_image("a"), &by_image("a")), None);
        assert_eq!(first_stale(&by_image("a"), &by_image("b")), Some(2));
        let back = |when: Option<Trigger>| {
            let mut shot = sparks(|p| p.emission.schedule = EmissionSchedule::Never {});
            let of = shot.named("Sparks").unwrap().id;
            let mut block = Element::solid("Block", shot::Shape::sphere(0.1), shot::Moves::Free);
            let solid = block.as_solid_mut().unwrap();
            solid.from_particles = Some(3);
            solid.to_particles = when.map(|trigger| shot::particles::ToParticles { trigger, particles: of });
            shot.add(block);
            shot
        };
        let (never, slower) = (back(None), back(Some(Trigger::Slower { speed_m_s: 0.1 })));
        assert_eq!(first_stale(&never, &slower), Some(1));
        assert_eq!(why_stale(&never, &slower).unwrap(), "before return to particles of Block changed");
    }

    #[test]
    fn what_they_look_like_makes_nothing_stale() {
        let form = |form: Form| move |p: &mut Particles| p.appearance.form = form.clone();
        assert_eq!(first_stale(&sparks(form(Form::Sphere)), &sparks(form(Form::Disc))), None);
        let never = |seed| {
            move |p: &mut Particles| {
                (p.emission, p.seed) = (Emission { from_frame: Some(500), ..Emission::default() }, seed);
            }
        };
        assert_eq!(first_stale(&sparks(never(1)), &sparks(never(2))), None);
    }

    #[test]
    fn an_element_that_joins_a_group_changes_what_acts() {
        let with = |groups: &[&str]| {
            let mut shot = Shot::empty("Groups");
            let mut ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Free);
            ball.groups = groups.iter().map(|group| (*group).to_owned()).collect();
            shot.add(ball);
            let pull = ForceKind::Pull { force_n: 1.0 };
            let only = vec![ElementFilter::Group { group: "Light".to_owned() }];
            let pull = Force { only, from_frame: Some(20), ..Force::new(pull) };
            shot.add(Element::new("Pull", ElementKind::Force(pull)));
            shot
        };
        let (apart, joined) = (with(&[]), with(&["Light"]));
        assert_eq!(first_stale(&apart, &joined), Some(21));
        assert_eq!(first_stale(&apart, &with(&["Heavy"])), None);
        assert_eq!(what_changed(&apart, &joined), ["groups of Ball"]);
    }
}
