//! Files of older versions: what they say is kept.

use rstest::rstest;
use serde_json::json;

/// Sample shots as version 2 wrote them.
#[rstest]
#[case(include_bytes!("files/version-2-gull-scatter.json"))]
#[case(include_bytes!("files/version-2-jar-of-light.json"))]
#[case(include_bytes!("files/version-2-scale-shower.json"))]
#[case(include_bytes!("files/version-2-squall-test.json"))]
fn a_file_of_version_2_is_read_whole(#[case] bytes: &[u8]) {
    let old: serde_json::Value = serde_json::from_slice(bytes).unwrap();
    let count = |of: &serde_json::Value| of["motion"].as_object().map_or(0, serde_json::Map::len);
    let channels = count(&old) + old["elements"].as_array().unwrap().iter().map(count).sum::<usize>();
    let shot = shot::read(bytes).unwrap_or_else(|error| panic!("{error}"));
    assert_eq!(shot.version, shot::VERSION);
    let of_elements: usize = shot.elements.iter().map(|element| element.channels.len()).sum();
    assert_eq!(of_elements + shot.channels.len(), channels);
    assert_eq!(shot::read(shot::write(&shot).as_bytes()).unwrap(), shot);
}

#[test]
fn values_of_version_2_keep_their_values() {
    let old = json!({
        "version": 2, "name": "Old", "timing": {"fps": 24, "first": 1, "last": 48},
        "picture": {"width": 640, "height": 360}, "camera": 2,
        "motion": {"physics.time_scale": {"keys": [{"frame": 1, "value": 0.5, "then": "ease"}]}},
        "elements": [
            {"id": 2, "name": "Camera", "placement": {"place_m": [0, 1, 4], "turn_rad": [0, 0.5, 0]},
             "aim": {"at": 3}, "is": {"camera": {"focal_length_mm": 50, "focus_m": 3}}},
            {"id": 3, "name": "Block", "motion": {
                "placement.place_m[1]": {"keys": [
                    {"frame": 1, "value": 1, "then": "free", "leave": {"frames": 4, "by": 0.5}},
                    {"frame": 14, "value": 2, "arrive": {"frames": 3, "by": -0.5}}]},
                "is.solid.body.bounce": {"expression": "0.1 * {Camera.place.y} + 0 * {Sparks.agility}"}
            }, "is": {"solid": {
                "shape": {"torus": {"ring_m": 0.4, "tube_m": 0.1}},
                "copies": {"count": [2, 1, 1], "spacing_m": [1, 1, 1], "jitter_m": 0.1, "turn_rad": 0.3},
                "body": {"bounce": 0.4, "collision": "ball", "breaks_n_s": 9, "launch_spin": [0, 1, 0]},
                "look": {"refraction": 1.4}}}},
            {"id": 4, "name": "Sparks", "is": {"particles": {
                "from": {"shape": {"shape": {"torus": {"ring_m": 0.4, "tube_m": 0.1}}}},
                "births": {"how": {"at_once": {"number": 30}}, "even": true},
                "body": {"fastest_m_s": 9},
                "meet": {"on": true, "share": 0.5, "bounce": 0.7, "bounce_variation": 0.1},
                "start": {"inherit": 0.2, "turn_variation": 0.3, "spin_rad_s": 2, "spin_variation": 0.4},
                "steer": {"agility_m_s2": 3, "apart_m": 0.1, "ahead_s": 1, "cruise_m_s": 2, "level": true,
                          "flock": {"sight_m": 2, "apart": 0.9, "align": 0.8, "together": 0.7}},
                "becoming": [
                    {"when": {"age": {"s": 1}}, "then": {"split": {"number": 3, "inherit": 0.1, "spin_rad_s": 4}}, "share": 0.25},
                    {"when": {"count": {"number": 50}}, "then": {"die": {}}}]}}},
            {"id": 5, "name": "Pull", "is": {"force": {"kind": {"attract": {"to": 3}}, "on": false, "region": 7}}},
            {"id": 6, "name": "Lee", "is": {"region": {"volume": {"ball": {"radius_m": 2}}}}},
            {"id": 7, "name": "Both", "is": {"region": {"volume": {"combined": {"parts": [{"region": 6, "how": "most"}]}}}}},
            {"id": 8, "name": "Scales", "is": {"particles": {
                "from": {"shape": {"shape": {"torus": {"ring_m": 0.4, "tube_m": 0.1}}, "on": "edges"}},
                "births": {"map": {"of": {"vertices": {}}, "dark": true, "all_alike": true}},
                "steer": {"on": 3},
                "becoming": [
                    {"when": {"touch": {"of": [3]}}, "then": {"become": {"of": 4}}},
                    {"when": {"age": {"s": 1}}, "then": {"trail": {"of": 4, "per_s": 5}}},
                    {"when": {"age": {"s": 2}}, "then": {"split": {"of": 4, "number": 2}}}],
                "show": {"form": {"copy": {"of": [3], "pick": "order", "turned": "along"}},
                         "colour_by": {"speed": {"most_m_s": 4}}}}}},
            {"id": 9, "name": "Dust", "motion": {"is.particles.show.form.streak.seconds": {"expression": "0.1"}},
             "is": {"particles": {"from": {"particles": {"of": 8}}, "show": {"form": {"streak": {"seconds": 0.2}}}}}},
            {"id": 10, "name": "Spray", "is": {"particles": {
                "from": {"impacts": {"of": [3], "impulse_n_s": 1}}, "show": {"form": "dot"}}}}
        ]
    });
    let shot = shot::read(old.to_string().as_bytes()).unwrap_or_else(|error| panic!("{error}"));
    let new: serde_json::Value = serde_json::from_str(&shot::write(&shot)).unwrap();
    for (path, value) in [
        ("/channels/physics.time_scale/keys/0/interpolation", json!("ease")),
        ("/elements/0/placement/position_m/1", json!(1.0)),
        ("/elements/0/aim/target", json!(3)),
        ("/elements/0/kind/camera/focus_distance_m", json!(3.0)),
        ("/elements/1/channels/placement.position_m[1]/keys/0/outgoing/value", json!(0.5)),
        ("/elements/1/channels/placement.position_m[1]/keys/1/incoming/value", json!(-0.5)),
        (
            "/elements/1/channels/kind.solid.body.restitution/expression",
            json!("0.1 * {Camera.position.y} + 0 * {Sparks.max_acceleration}"),
        ),
        ("/elements/1/kind/solid/shape/torus/minor_radius_m", json!(0.1)),
        ("/elements/6/kind/particles/source/shape/domain", json!("edges")),
        ("/elements/6/kind/particles/emission/map/source", json!({"vertices": {}})),
        ("/elements/6/kind/particles/emission/map/inverted", json!(true)),
        ("/elements/6/kind/particles/emission/map/uniform_births", json!(true)),
        ("/elements/6/kind/particles/steering/constrained_to", json!(3)),
        ("/elements/6/kind/particles/events/0/trigger/touch/bodies", json!([3])),
        ("/elements/6/kind/particles/events/0/action/become/particles", json!(4)),
        ("/elements/6/kind/particles/events/1/action/trail/particles", json!(4)),
        ("/elements/6/kind/particles/events/2/action/split/particles", json!(4)),
        (
            "/elements/6/kind/particles/appearance/form/instance",
            json!({"solids": [3], "choice": "order", "orientation": "velocity"}),
        ),
        ("/elements/6/kind/particles/appearance/colour_by/speed/max_speed_m_s", json!(4.0)),
        ("/elements/7/channels/kind.particles.appearance.form.streak.duration_s/expression", json!("0.1")),
        ("/elements/7/kind/particles/source/particles/particles", json!(8)),
        ("/elements/8/kind/particles/source/impacts/bodies", json!([3])),
        ("/elements/1/kind/solid/copies/orientation_jitter_rad", json!(0.3)),
        ("/elements/1/kind/solid/body/collision", json!("sphere")),
        ("/elements/1/kind/solid/body/breaking_impulse_n_s", json!(9.0)),
        ("/elements/1/kind/solid/body/launch_angular_velocity/1", json!(1.0)),
        ("/elements/2/kind/particles/source/shape/shape/torus/major_radius_m", json!(0.4)),
        ("/elements/2/kind/particles/emission/schedule/burst/count", json!(30)),
        ("/elements/2/kind/particles/emission/evenly_spaced", json!(true)),
        ("/elements/2/kind/particles/contact/probability", json!(0.5)),
        ("/elements/2/kind/particles/steering/flock/cohesion", json!(0.7)),
        ("/elements/2/kind/particles/events/0/action/split/count", json!(3)),
        ("/elements/2/kind/particles/events/0/probability", json!(0.25)),
        ("/elements/2/kind/particles/events/1/trigger/count/count", json!(50)),
        ("/elements/3/kind/force/kind/attract/target", json!(3)),
        ("/elements/3/kind/force/enabled", json!(false)),
        ("/elements/4/kind/region/volume/sphere/radius_m", json!(2.0)),
        ("/elements/5/kind/region/volume/combined/parts/0/operation", json!("maximum")),
    ] {
        let found = new.pointer(path).unwrap_or_else(|| panic!("{path} is missing"));
        let same = match (found.as_f64(), value.as_f64()) {
            (Some(found), Some(value)) => (found - value).abs() < 1e-6,
            _ => *found == value,
        };
        assert!(same, "{path}: {found}, not {value}");
    }
}
