//! The range of every number in a shot file: its ends are taken, what lies
//! beyond is refused by its path.

use glam::{Vec2, Vec3};
use rstest::rstest;
use serde_json::{Value, json};
use shot::{
    Asset, AssetKind, Copies, Element, ElementKind, FileAnimation, Moves, Shape, Shot, Weight,
    force::{Attract, Force, ForceKind, Turbulence, Vortex, Wind},
    light::AreaLight,
    region::{Region, Volume},
};

/// A shot with one of everything; `Name` to index in [`INDEX`].
fn everything() -> Value {
    let mut shot = Shot::empty("Everything");
    let mut solid = |name: &str, shape| shot.add(Element::solid(name, shape, Moves::Free));
    solid("Box", Shape::Box { size_m: Vec3::ONE, edge_m: 0.1 });
    solid("Sphere", Shape::sphere(0.5));
    solid("Capsule", Shape::Capsule { radius_m: 0.2, length_m: 0.5 });
    solid("Cylinder", Shape::Cylinder { radius_m: 0.2, height_m: 0.5 });
    solid("Cone", Shape::Cone { radius_m: 0.2, height_m: 0.5 });
    solid("Torus", Shape::Torus { major_radius_m: 0.4, minor_radius_m: 0.1 });
    solid("Plane", Shape::plane(2.0, 3.0));
    solid("Mesh", Shape::Mesh { asset: "boat".to_owned(), scale: 1.0 });
    solid("Flag", Shape::Mesh { asset: "flag".to_owned(), scale: 1.0 });
    shot.add(Element::new(
        "Lamp",
        ElementKind::AreaLight(AreaLight { size_m: Vec2::ONE, radiance: 1.0, colour: Vec3::ONE }),
    ));
    let asset = |kind, file: &str| Asset { kind, file: file.to_owned(), sha256: String::new() };
    shot.assets.insert("boat".to_owned(), asset(AssetKind::Mesh, "assets/boat.obj"));
    shot.assets.insert("flag".to_owned(), asset(AssetKind::MeshSequence, "assets/flag.brmeshes"));
    shot.named_mut("Flag").unwrap().as_solid_mut().unwrap().animation = Some(FileAnimation::default());
    shot.assets.insert("rope".to_owned(), asset(AssetKind::Image, "assets/rope.png"));
    shot.assets.insert("dusk".to_owned(), asset(AssetKind::Environment, "assets/dusk.exr"));
    let body = shot.named_mut("Box").unwrap().as_solid_mut().unwrap();
    body.copies = Some(Copies {
        count: [2, 2, 2],
        spacing_m: Vec3::ONE,
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 0,
    });
    body.body.margin_m = Some(0.001);
    body.body.launch_velocity = Some(Vec3::X);
    body.body.launch_angular_velocity = Some(Vec3::X);
    shot.named_mut("Sphere").unwrap().as_solid_mut().unwrap().body.weight = Weight::MassKg(2.0);
    let force = |name: &str, kind| Element::new(name, ElementKind::Force(Force::new(kind)));
    shot.add(force("Pull", ForceKind::Pull { force_n: 1.0 }));
    shot.add(force("Wind", ForceKind::Wind(Wind::default())));
    let looped = Turbulence { loop_s: Some(4.0), ..Turbulence::default() };
    shot.add(force("Turbulence", ForceKind::Turbulence(looped)));
    shot.add(force("Vortex", ForceKind::Vortex(Vortex::default())));
    let ranged = Attract { range_m: Some(3.0), ..Attract::default() };
    shot.add(force("Attract", ForceKind::Attract(ranged)));
    shot.add(force("Drag", ForceKind::Drag { linear_n_s_m: 1.0, density_kg_m3: 1.0 }));
    let region = |name: &str, volume| Element::new(name, ElementKind::Region(Region::new(volume)));
    shot.add(region("Room", Volume::Box { size_m: Vec3::ONE }));
    shot.add(region("Pillar", Volume::Cylinder { radius_m: 1.0, height_m: 1.0 }));
    let blobs = Volume::Noise { size_m: 1.0, threshold: 0.5, softness: 0.1, drift_m_s: Vec3::ZERO, seed: 0 };
    shot.add(region("Blobs", blobs));
    if let ElementKind::Camera(camera) = &mut shot.named_mut("Camera").unwrap().kind {
        camera.f_stop = Some(4.0);
    }
    let document = serde_json::to_value(&shot).unwrap();
    shot::read(document.to_string().as_bytes()).expect("nothing is wrong with it");
    document
}

/// `elements.Box.…` as a JSON pointer and as the path that is said.
fn resolve(document: &Value, path: &str) -> (String, String) {
    let Some(rest) = path.strip_prefix("elements.") else {
        return (format!("/{}", path.replace('.', "/")), path.to_owned());
    };
    let (name, rest) = rest.split_once('.').unwrap();
    let elements = document["elements"].as_array().unwrap();
    let index = elements.iter().position(|e| e["name"] == json!(name)).expect(name);
    let mut said = format!("elements[{index}]");
    for part in rest.split('.') {
        said += &if part.parse::<usize>().is_ok() { format!("[{part}]") } else { format!(".{part}") };
    }
    (format!("/elements/{index}/{}", rest.replace('.', "/")), said)
}

fn with(path: &str, value: f64) -> (Result<Shot, String>, String) {
    let mut document = everything();
    let (pointer, said) = resolve(&document, path);
    let number = if value.fract() == 0.0 && value.abs() < 9e15 { json!(value as i64) } else { json!(value) };
    *document.pointer_mut(&pointer).unwrap_or_else(|| panic!("{pointer} is in the shot")) = number;
    (shot::read(document.to_string().as_bytes()).map_err(|error| error.to_string()), said)
}

#[rstest]
#[case("timing.fps", 1.0, 240.0)]
#[case("physics.world_m", 1.0, 10_000.0)]
#[case("physics.time_scale", 0.0, 20.0)]
#[case("elements.Gravity.kind.force.kind.gravity.acceleration.1", -1_000.0, 1_000.0)]
#[case("elements.Pull.kind.force.kind.pull.force_n", -1e9, 1e9)]
#[case("elements.Pull.kind.force.strength", -1e4, 1e4)]
#[case("elements.Wind.kind.force.kind.wind.speed_m_s", -1_000.0, 1_000.0)]
#[case("elements.Wind.kind.force.kind.wind.gust", 0.0, 1.0)]
#[case("elements.Wind.kind.force.kind.wind.eddy_m", 0.01, 1_000.0)]
#[case("elements.Wind.kind.force.kind.wind.push.air.density_kg_m3", 0.0, 20_000.0)]
#[case("elements.Turbulence.kind.force.kind.turbulence.size_m", 0.01, 1_000.0)]
#[case("elements.Turbulence.kind.force.kind.turbulence.octaves", 1.0, 8.0)]
#[case("elements.Turbulence.kind.force.kind.turbulence.loop_s", 0.01, 10_000.0)]
#[case("elements.Vortex.kind.force.kind.vortex.core_m", 0.001, 1_000.0)]
#[case("elements.Attract.kind.force.kind.attract.power", -4.0, 4.0)]
#[case("elements.Attract.kind.force.kind.attract.range_m", 0.0005, 1_000.0)]
#[case("elements.Drag.kind.force.kind.drag.linear_n_s_m", 0.0, 1e6)]
#[case("elements.Drag.kind.force.kind.drag.density_kg_m3", 0.0, 20_000.0)]
#[case("elements.Room.kind.region.volume.box.size_m.1", 0.0, 10_000.0)]
#[case("elements.Room.kind.region.edge_m", 0.0, 1_000.0)]
#[case("elements.Pillar.kind.region.volume.cylinder.height_m", 0.0, 10_000.0)]
#[case("elements.Blobs.kind.region.volume.noise.threshold", 0.0, 1.0)]
#[case("elements.Camera.kind.camera.focal_length_mm", 4.0, 1_200.0)]
#[case("elements.Camera.kind.camera.sensor_mm", 4.0, 100.0)]
#[case("elements.Camera.kind.camera.focus_distance_m", 0.01, 10_000.0)]
#[case("elements.Camera.kind.camera.exposure", -20.0, 20.0)]
#[case("elements.Camera.kind.camera.f_stop", 0.5, 64.0)]
#[case("elements.Sun.kind.sun.irradiance", 0.0, 1e5)]
#[case("elements.Sun.kind.sun.colour.2", 0.0, 1e3)]
#[case("elements.Sun.kind.sun.angle_rad", 0.0, 1.0)]
#[case("elements.Sky.kind.sky.strength", 0.0, 1e4)]
#[case("elements.Sky.kind.sky.source.gradient.horizon.0", 0.0, 1e4)]
#[case("elements.Lamp.kind.area_light.size_m.0", 0.0005, 1_000.0)]
#[case("elements.Lamp.kind.area_light.size_m.1", 0.0005, 1_000.0)]
#[case("elements.Lamp.kind.area_light.radiance", 0.0, 1e6)]
#[case("elements.Lamp.kind.area_light.colour.1", 0.0, 1e3)]
#[case("elements.Lamp.placement.position_m.0", -10_000.0, 10_000.0)]
#[case("elements.Lamp.placement.orientation_rad.2", -1_000.0, 1_000.0)]
#[case("elements.Box.kind.solid.shape.box.edge_m", 0.0, 0.5)]
#[case("elements.Sphere.kind.solid.shape.sphere.radius_m", 0.0005, 1_000.0)]
#[case("elements.Capsule.kind.solid.shape.capsule.radius_m", 0.0005, 1_000.0)]
#[case("elements.Capsule.kind.solid.shape.capsule.length_m", 0.0005, 1_000.0)]
#[case("elements.Cylinder.kind.solid.shape.cylinder.radius_m", 0.0005, 1_000.0)]
#[case("elements.Cylinder.kind.solid.shape.cylinder.height_m", 0.0005, 1_000.0)]
#[case("elements.Cone.kind.solid.shape.cone.radius_m", 0.0005, 1_000.0)]
#[case("elements.Cone.kind.solid.shape.cone.height_m", 0.0005, 1_000.0)]
#[case("elements.Torus.kind.solid.shape.torus.minor_radius_m", 0.0005, 0.4)]
#[case("elements.Plane.kind.solid.shape.plane.size_m.0", 0.0005, 1_000.0)]
#[case("elements.Plane.kind.solid.shape.plane.size_m.1", 0.0005, 1_000.0)]
#[case("elements.Mesh.kind.solid.shape.mesh.scale", 1e-6, 1e6)]
#[case("elements.Flag.kind.solid.animation.rate", 0.01, 1_000.0)]
#[case("elements.Flag.kind.solid.animation.speed", -100.0, 100.0)]
#[case("elements.Box.kind.solid.copies.spacing_m.0", -1_000.0, 1_000.0)]
#[case("elements.Box.kind.solid.copies.position_jitter_m", 0.0, 1_000.0)]
#[case("elements.Box.kind.solid.copies.orientation_jitter_rad", 0.0, 7.0)]
#[case("elements.Box.kind.solid.body.weight.density_kg_m3", 0.01, 50_000.0)]
#[case("elements.Sphere.kind.solid.body.weight.mass_kg", 1e-6, 1e9)]
#[case("elements.Box.kind.solid.body.friction", 0.0, 10.0)]
#[case("elements.Box.kind.solid.body.restitution", 0.0, 1.0)]
#[case("elements.Box.kind.solid.body.margin_m", 0.0, 1.0)]
#[case("elements.Box.kind.solid.body.launch_velocity.0", -1_000.0, 1_000.0)]
#[case("elements.Box.kind.solid.body.launch_angular_velocity.2", -1_000.0, 1_000.0)]
#[case("elements.Box.kind.solid.look.albedo.0", 0.0, 1.0)]
#[case("elements.Box.kind.solid.look.variation", 0.0, 1.0)]
#[case("elements.Box.kind.solid.look.roughness", 0.0, 1.0)]
#[case("elements.Box.kind.solid.look.metalness", 0.0, 1.0)]
#[case("elements.Box.kind.solid.look.transmission", 0.0, 1.0)]
#[case("elements.Box.kind.solid.look.image_repeat", 0.001, 1_000.0)]
#[case("elements.Box.kind.solid.look.normal_strength", 0.0, 10.0)]
#[case("elements.Box.kind.solid.look.refractive_index", 1.0, 3.0)]
#[case("elements.Box.kind.solid.look.emission.1", 0.0, 1e6)]
fn a_number_has_a_range(#[case] path: &str, #[case] low: f64, #[case] high: f64) {
    for end in [low, high] {
        let (read, _) = with(path, end);
        assert!(read.is_ok(), "{path} = {end}: {}", read.unwrap_err());
    }
    let beyond = |end: f64, sign: f64| end + sign * if end == 0.0 { 1.0 } else { 0.01 * end.abs() };
    for value in [beyond(low, -1.0), beyond(high, 1.0)] {
        let (read, said) = with(path, value);
        let error = read.expect_err(&format!("{path} = {value} is refused"));
        assert!(error.contains(&said), "{path} = {value}: {error}");
    }
}

#[rstest]
#[case("picture.width", 16, 8192)]
#[case("picture.height", 16, 8192)]
#[case("physics.substeps", 1, 256)]
fn a_whole_number_has_a_range(#[case] path: &str, #[case] low: u32, #[case] high: u32) {
    for end in [low, high] {
        assert!(with(path, end.into()).0.is_ok());
    }
    for value in [f64::from(low) - 1.0, f64::from(high) + 1.0] {
        let error = with(path, value).0.unwrap_err();
        assert_eq!(error, format!("{path}: {value} is outside {low} to {high}"));
    }
    assert!(with(path, 20.5).0.unwrap_err().contains("invalid type: floating point `20.5`"));
}

#[test]
fn an_edge_is_at_most_half_the_box() {
    let error = with("elements.Box.kind.solid.shape.box.size_m.1", 0.1).0.unwrap_err();
    assert!(error.contains("shape.box.edge_m: 0.1 is outside 0 to 0.05"), "{error}");
}

#[rstest]
#[case(json!([0, 1, 1]), "copies.count[0]: 0 is outside 1 to")]
#[case(json!([1, 1, 4_000_000_000u64]), "copies.count[2]: 4000000000 is outside 1 to")]
#[case(json!([3000, 3000, 3000]), "bodies with all copies; at most")]
#[case(json!([1, -1, 1]), "invalid value: integer `-1`")]
#[case(json!([1, 1]), "invalid length 2")]
fn absurd_copies_are_refused_before_any_is_made(#[case] count: Value, #[case] message: &str) {
    let mut document = everything();
    let (pointer, _) = resolve(&document, "elements.Box.kind.solid.copies.count");
    *document.pointer_mut(&pointer).unwrap() = count;
    let error = shot::read(document.to_string().as_bytes()).unwrap_err().to_string();
    assert!(error.contains(message), "{error}");
}

#[rstest]
#[case(json!({"grid": {"count": [300, 1, 300]}}), "copies.grid.count: gives 90000 copies; at most 50000")]
#[case(json!({"grid": {"count": [0, 1, 1]}}), "copies.grid.count[0]: 0 is outside 1 to 50000")]
#[case(json!({"delay_frames": -20_000}), "copies.delay_frames: -20000 is outside -10000 to 10000")]
#[case(json!({"delay_jitter_frames": 4_000_000_000u64}), "copies.delay_jitter_frames: 4000000000 is outside 0 to 10000")]
fn absurd_copies_in_time_are_refused(#[case] values: Value, #[case] message: &str) {
    let mut copies = json!({"grid": {"count": [2, 1, 1], "spacing_m": [1, 1, 1]}});
    for (name, value) in values.as_object().unwrap() {
        match (copies[name].as_object_mut(), value.as_object()) {
            (Some(own), Some(value)) => own.extend(value.clone()),
            _ => copies[name] = value.clone(),
        }
    }
    let mut document = everything();
    let step = json!({"id": 400, "name": "Row", "kind": {"finish": {"operation": {"copies": copies}}}});
    document["elements"].as_array_mut().unwrap().push(step);
    let error = shot::read(document.to_string().as_bytes()).unwrap_err().to_string();
    assert!(error.contains(message), "{error}");
}

#[rstest]
#[case("elements.Mesh.kind.solid.shape.mesh.asset", "rope", "\"rope\" is image, not mesh")]
#[case("elements.Mesh.kind.solid.shape.mesh.asset", "gone", "\"gone\" is not among the assets")]
#[case("elements.Box.name", "", "is empty")]
#[case("elements.Box.name", "a\tb", "control character")]
fn a_word_that_cannot_be_is_refused(#[case] path: &str, #[case] word: &str, #[case] message: &str) {
    let mut document = everything();
    let (pointer, said) = resolve(&document, path);
    *document.pointer_mut(&pointer).unwrap() = json!(word);
    let error = shot::read(document.to_string().as_bytes()).unwrap_err().to_string();
    assert!(error.contains(&said) && error.contains(message), "{error}");
}

#[rstest]
#[case("../secret.png")]
#[case("/etc/passwd")]
#[case("assets//x.png")]
#[case("assets\\..\\x.png")]
#[case("c:x.png")]
fn an_asset_lies_below_the_shots_folder(#[case] file: &str) {
    let mut document = everything();
    document["assets"]["rope"]["file"] = json!(file);
    let error = shot::read(document.to_string().as_bytes()).unwrap_err().to_string();
    assert!(error.contains("assets.rope.file") && error.contains("not a path below"), "{error}");
}

#[test]
fn a_camera_is_aimed_at_another_element_that_is_there() {
    let mut document = everything();
    let own = document["camera"].clone();
    let index = document["elements"].as_array().unwrap().iter().position(|e| e["id"] == own).unwrap();
    for (aim, message) in
        [(own, "aim.target: is the element itself"), (json!(999), "999 is not the id of an element")]
    {
        document["elements"][index]["aim"] = json!({"target": aim});
        let error = shot::read(document.to_string().as_bytes()).unwrap_err().to_string();
        assert!(error.contains(message), "{error}");
    }
}

#[test]
fn more_frames_than_a_shot_may_have_are_refused() {
    let mut document = everything();
    document["timing"]["last"] = json!(4_000_000_000u64);
    let error = shot::read(document.to_string().as_bytes()).unwrap_err().to_string();
    assert!(error.contains("timing.last: the shot has 4000000000 frames; at most"), "{error}");
}

#[test]
fn a_file_moves_only_a_mesh_of_its_own_and_copies_of_one_are_let_go_together() {
    let with = |change: &dyn Fn(&mut shot::Solid)| {
        let mut shot = shot::read(everything().to_string().as_bytes()).unwrap();
        change(shot.named_mut("Flag").unwrap().as_solid_mut().unwrap());
        shot.faults().iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
    };
    assert_eq!(with(&|_| {}), "");
    let other = with(&|flag| flag.shape = Shape::Mesh { asset: "boat".to_owned(), scale: 1.0 });
    assert!(other.contains("animation: needs a mesh whose file changes with time"), "{other}");
    let copies = Copies {
        count: [2, 1, 1],
        spacing_m: Vec3::ONE,
        position_jitter_m: 0.0,
        orientation_jitter_rad: 0.0,
        seed: 0,
    };
    let touched = with(&|flag| {
        flag.copies = Some(copies.clone());
        flag.body.wake = Some(shot::Wake::Touch { impulse_n_s: 1.0 });
    });
    assert!(
        touched.contains("body.wake: copies of a mesh that a file moves can only be let go at a frame"),
        "{touched}"
    );
    let frame = with(&|flag| {
        flag.copies = Some(copies.clone());
        flag.body.wake = Some(shot::Wake::Frame(8));
    });
    assert_eq!(frame, "");
}
