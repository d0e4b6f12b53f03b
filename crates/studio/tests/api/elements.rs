//! What an element's sheet and the Viewport ask for.

use crate::desk::{ball, deck, desk, solid};
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};

#[rstest]
#[case(json!({"weight": {"density_kg_m3": 500}}), 62.5, 500.0)]
#[case(json!({"weight": {"mass_kg": 10}}), 10.0, 80.0)]
#[tokio::test(flavor = "multi_thread")]
async fn mass_and_density_follow_from_each_other(#[case] body: Value, #[case] kg: f64, #[case] density: f64) {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(solid(9, "Crate", json!({"box": {"size_m": [0.5, 0.5, 0.5]}}), [0.0; 3], body)).await;
    let physics = desk.get("/api/shots/1/physics/9").await;
    let near = |field: &str, value: f64| (physics[field].as_f64().unwrap() / value - 1.0).abs() < 1e-5;
    assert!(near("mass_kg", kg) && near("density_kg_m3", density) && near("volume_m3", 0.125), "{physics}");
}

#[rstest]
#[case(json!({"sphere": {"radius_m": 0.2}}), "free", "sphere")]
#[case(json!({"box": {"size_m": [1, 1, 1]}}), "free", "box")]
#[case(json!({"plane": {"size_m": [1, 1]}}), "still", "box")]
#[case(json!({"cylinder": {"radius_m": 0.2, "height_m": 1}}), "free", "hull")]
#[case(json!({"torus": {"major_radius_m": 0.4, "minor_radius_m": 0.1}}), "free", "exact")]
#[tokio::test(flavor = "multi_thread")]
async fn a_collision_shape_is_chosen_and_drawn(
    #[case] shape: Value,
    #[case] moves: &str,
    #[case] chosen: &str,
) {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(solid(9, "Body", shape, [0.0; 3], json!({"moves": moves}))).await;
    assert_eq!(desk.get("/api/shots/1/physics/9").await["collides_as"], json!(chosen));
    let (status, bytes) = desk.bytes("/api/shots/1/collision/9").await;
    assert_eq!(status, StatusCode::OK);
    let count = |at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
    assert!(count(4) >= 12 && bytes.len() == 8 + 12 * count(0) + 12 * count(4));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sky_is_a_map_of_half_floats_from_the_ground_up() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.set("/elements/3/kind/sky/source/gradient/ground", json!([0.25, 0.25, 0.25])).await;
    desk.set("/elements/3/kind/sky/source/gradient/zenith", json!([2, 2, 2])).await;
    let (status, bytes) = desk.bytes("/api/shots/1/sky").await;
    assert_eq!((status, bytes.len()), (StatusCode::OK, 64 * 32 * 8));
    let half = |at: usize| half::f16::from_le_bytes([bytes[at], bytes[at + 1]]).to_f32();
    assert!((half(0) - 0.25).abs() < 0.04 && (half(bytes.len() - 8) - 2.0).abs() < 0.1);
    assert_eq!(half(6), 1.0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mesh_is_sent_once_and_then_known_by_its_tag() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let ask = |tag: Option<String>| {
        let mut request = Request::builder().uri("/api/shots/1/mesh/9").header("host", "localhost");
        if let Some(tag) = tag {
            request = request.header("if-none-match", tag);
        }
        request.body(Body::empty()).unwrap()
    };
    let response = tower::ServiceExt::oneshot(desk.app.clone(), ask(None)).await.unwrap();
    let tag = response.headers()["etag"].to_str().unwrap().to_owned();
    assert_eq!(desk.send(ask(Some(tag.clone()))).await.0, StatusCode::NOT_MODIFIED);
    desk.set("/elements/4/kind/solid/shape/sphere/radius_m", json!(0.5)).await;
    assert_eq!(desk.send(ask(Some(tag))).await.0, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ball_is_dropped_onto_what_is_below_and_the_change_is_named() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(ball(9, "Ball")).await;
    let (status, shot) = desk.ask("POST", "/api/shots/1/drop/9", Value::Null).await;
    assert_eq!((status, &shot["undo"]), (StatusCode::OK, &json!("Ball dropped to rest")));
    let y = shot["document"]["elements"][5]["placement"]["position_m"][1].as_f64().unwrap();
    assert!((y - 0.2).abs() < 0.003, "{y}");
}

#[tokio::test(flavor = "multi_thread")]
async fn dropping_moves_all_keys_alike() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(ball(9, "Ball")).await;
    let keys = json!([{"frame": 1, "value": [0, 2, 0]}, {"frame": 9, "value": [1, 5, 0]}]);
    desk.set("/elements/5/channels", json!({"placement.position_m": {"keys": keys}})).await;
    let (_, shot) = desk.ask("POST", "/api/shots/1/drop/9", Value::Null).await;
    let key = |i: usize| {
        shot["document"]["elements"][5]["channels"]["placement.position_m"]["keys"][i]["value"][1].as_f64()
    };
    assert!((key(1).unwrap() - key(0).unwrap() - 3.0).abs() < 1e-5);
}

#[rstest]
#[case("drop/9", "there is nothing below Ball to rest on")]
#[case("drop/77", "element 77 is not there")]
#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_dropped_is_said(#[case] path: &str, #[case] message: &str) {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let (_, problem) = desk.ask("POST", &format!("/api/shots/1/{path}"), Value::Null).await;
    assert_eq!(problem["detail"], json!(message));
}

#[tokio::test(flavor = "multi_thread")]
async fn staged_places_follow_keys_at_the_frame_asked_for() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let keys = json!([{"frame": 1, "value": [0, 0, 0]}, {"frame": 11, "value": [5, 0, 0]}]);
    desk.set("/elements/4/channels", json!({"placement.position_m": {"keys": keys}})).await;
    for (frame, x) in [(1, 0.0f32), (6, 2.5), (12, 5.0)] {
        let (_, bytes) = desk.bytes(&format!("/api/shots/1/staged/{frame}")).await;
        // Five elements of one body each; the ball is the last.
        let at = 16 + 5 * 8 + 4 * 20;
        assert_eq!(f32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()), x);
    }
}

#[rstest]
#[case("bad.obj", b"v 0 0 0\nf 1 2 9\n" as &[u8], "bad.obj, line 2: the face names vertex 2, but there are 1")]
#[case("empty.obj", b"v 0 0 0\n", "empty.obj: the mesh has no faces with an area")]
#[case("nan.obj", b"v 0 0 0\nv nan 0 0\nv 0 1 0\nf 1 2 3\n", "nan.obj")]
#[case("cut.glb", b"glTF\x02\0\0\0\xff\0\0\0", "cut.glb")]
#[case("photo.png", b"v 0 0 0", "photo.png: is not PNG or JPEG")]
#[case("photo.jpg", b"\x89PNG\r\n", "photo.jpg: is not PNG or JPEG")]
#[case("sky.hdr", b"#?RADIANCE\n\n-Y 2 +X 2\n\0", "sky.hdr")]
#[case(
    "notes.txt",
    b"hello",
    "notes.txt: is none of .obj, .glb, .gltf, .ply, .stl, .usda, .usdc, .usdz, .usd, .abc, .png, .jpg, .jpeg, .exr, .hdr"
)]
#[case("noextension", b"hello", "is none of")]
#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_cannot_be_used_is_named_and_not_kept(
    #[case] name: &str,
    #[case] bytes: &[u8],
    #[case] message: &str,
) {
    let desk = desk().await;
    desk.new_shot().await;
    let (status, problem) = desk.upload(&format!("/api/shots/1/assets?name={name}"), bytes).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains(message), "{problem}");
    assert_eq!(std::fs::read_dir(desk.dir.path().join("assets")).unwrap().count(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mesh_of_tens_of_megabytes_is_taken_in() {
    let desk = desk().await;
    desk.new_shot().await;
    let mut obj = String::from("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n");
    obj.push_str(&"# a long remark of a modelling tool, to no purpose at all\n".repeat(400_000));
    assert!(obj.len() > 20 << 20);
    let (status, uploaded) = desk.upload("/api/shots/1/assets?name=Long.obj", obj.as_bytes()).await;
    assert_eq!((status, &uploaded["name"]), (StatusCode::OK, &json!("Long")));
}

#[tokio::test(flavor = "multi_thread")]
async fn another_file_of_a_taken_name_gets_a_number_and_the_same_file_does_not() {
    let desk = desk().await;
    desk.new_shot().await;
    let obj = |x: u32| format!("v 0 0 0\nv {x} 0 0\nv 0 1 0\nf 1 2 3\n").into_bytes();
    let (_, first) = desk.upload("/api/shots/1/assets?name=Boat.obj", &obj(1)).await;
    desk.set("/assets/Boat", first["asset"].clone()).await;
    let (_, same) = desk.upload("/api/shots/1/assets?name=Boat.obj", &obj(1)).await;
    let (_, other) = desk.upload("/api/shots/1/assets?name=Boat.obj", &obj(2)).await;
    assert_eq!((&same["name"], &other["name"]), (&json!("Boat"), &json!("Boat 2")));
    let (status, bytes) = desk.bytes("/api/shots/1/assets/Boat").await;
    assert_eq!((status, bytes), (StatusCode::OK, obj(1)));
}

/// Rings and a rope with two looks and five images.
fn floats() -> Vec<u8> {
    let files = concat!(env!("CARGO_MANIFEST_DIR"), "/../interchange/tests/files");
    std::fs::read(format!("{files}/floats-draco.glb")).unwrap()
}

#[rstest]
#[case(false, &["floats"], 6)]
#[case(true, &["Float left", "Rope", "Float right"], 7)]
#[tokio::test(flavor = "multi_thread")]
async fn a_file_of_several_meshes_becomes_one_element_or_several_with_their_looks(
    #[case] separate: bool,
    #[case] names: &[&str],
    #[case] kept: usize,
) {
    let desk = desk().await;
    desk.new_shot().await;
    let (status, uploaded) = desk.upload("/api/shots/1/assets?name=floats.glb", &floats()).await;
    assert_eq!((status, &uploaded["parts"]), (StatusCode::OK, &json!(3)), "{uploaded}");
    let ask = json!({"name": "floats", "asset": uploaded["asset"], "separate": separate});
    let (status, model) = desk.ask("POST", "/api/shots/1/assets/elements", ask).await;
    assert_eq!(status, StatusCode::OK, "{model}");
    assert_eq!(model["assets"].as_object().unwrap().len(), kept);
    let elements = model["elements"].as_array().unwrap();
    assert_eq!(elements.iter().map(|e| e["name"].as_str().unwrap()).collect::<Vec<_>>(), names);
    let look = &elements[0]["kind"]["solid"]["look"];
    for image in ["image", "roughness_image", "metalness_image", "normal_image", "emission_image"] {
        assert!(model["assets"].get(look[image].as_str().unwrap()).is_some(), "{image}");
    }
    // One body has one look, and the rest is said.
    assert_eq!(model["notices"].as_array().unwrap().len(), usize::from(!separate), "{model}");
    // What came is a shot that can be saved and rendered.
    let mut patch = Vec::new();
    for (name, asset) in model["assets"].as_object().unwrap() {
        patch.push(json!({"op": "add", "path": format!("/assets/{name}"), "value": asset}));
    }
    for (i, element) in elements.iter().enumerate() {
        let placement =
            json!({"position_m": element["position_m"], "orientation_rad": element["orientation_rad"]});
        let value =
            json!({"id": 20 + i, "name": element["name"], "placement": placement, "kind": element["kind"]});
        patch.push(json!({"op": "add", "path": "/elements/-", "value": value}));
    }
    let save = json!({"base": 1, "label": "Floats", "patch": patch});
    let (status, saved) = desk.ask("PATCH", "/api/shots/1", save).await;
    assert_eq!(status, StatusCode::OK, "{saved}");
    let (status, png) = desk.bytes("/api/shots/1/poster.png").await;
    assert_eq!((status, &png[1..4]), (StatusCode::OK, b"PNG" as &[u8]));
}

#[tokio::test(flavor = "multi_thread")]
async fn elements_are_made_only_of_a_mesh_that_was_taken_in() {
    let desk = desk().await;
    desk.new_shot().await;
    for file in ["studio.db", "assets/../studio.db", "assets/0000.glb"] {
        let asset = json!({"kind": "mesh", "file": file, "sha256": "0".repeat(64)});
        let ask = json!({"name": "a", "asset": asset, "separate": true});
        let (status, _) = desk.ask("POST", "/api/shots/1/assets/elements", ask).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{file}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_of_more_parts_than_a_shot_has_elements_is_taken_in_only_as_one() {
    let desk = desk().await;
    desk.new_shot().await;
    // One triangle, shown by 2,001 nodes; its buffer is inside the text.
    let nodes = vec![json!({"mesh": 0}); 2_001];
    let file = json!({
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": (0..2_001).collect::<Vec<u32>>()}],
        "nodes": nodes,
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}],
        "buffers": [{"byteLength": 36, "uri": "data:application/octet-stream;base64,AAAAAAAAAAAAAAAAAACAPwAAAAAAAAAAAAAAAAAAgD8AAAAA"}],
    });
    let (status, uploaded) =
        desk.upload("/api/shots/1/assets?name=shoal.gltf", file.to_string().as_bytes()).await;
    assert_eq!((status, &uploaded["parts"]), (StatusCode::OK, &json!(2_001)), "{uploaded}");
    for (separate, expected) in [(false, StatusCode::OK), (true, StatusCode::UNPROCESSABLE_ENTITY)] {
        let ask = json!({"name": "shoal", "asset": uploaded["asset"], "separate": separate});
        let (status, answer) = desk.ask("POST", "/api/shots/1/assets/elements", ask).await;
        assert_eq!(status, expected, "{answer}");
    }
    assert_eq!(std::fs::read_dir(desk.dir.path().join("assets")).unwrap().count(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_solid_s_contact_with_the_first_still_one_has_the_mean_of_both() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(crate::desk::ball(9, "Ball")).await;
    assert_eq!(desk.get("/api/shots/1/physics/9").await["pair"], Value::Null);
    desk.put(crate::desk::deck(10)).await;
    desk.set("/elements/4/kind/solid/body/friction", json!(0.25)).await;
    desk.set("/elements/5/kind/solid/body/friction", json!(0.75)).await;
    let pair = desk.get("/api/shots/1/physics/9").await["pair"].clone();
    assert_eq!((&pair["with"], &pair["friction"]), (&json!("Deck"), &json!(0.5)));
}
