//! Meshes that change with time: taken in, played, shown and carried on.

use crate::desk::{Desk, ball, desk};
use axum::http::StatusCode;
use rstest::rstest;
use serde_json::{Value, json};
use std::io::Write;

/// A square 4 m wide that rises by 0.1 m a file, as an archive of numbered files.
fn rising(files: u32) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for number in 1..=files {
        let y = 0.1 * (number - 1) as f32;
        let text = format!("v -2 {y} -2\nv 2 {y} -2\nv 2 {y} 2\nv -2 {y} 2\nf 1 4 3 2\n");
        zip.start_file(format!("deck_{number}.obj"), zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

/// A shot with the square as an element, as the page makes it.
async fn taken_in(files: u32) -> (Desk, Value) {
    let desk = desk().await;
    desk.new_shot().await;
    let (status, uploaded) = desk.upload("/api/shots/1/assets?name=deck.zip", &rising(files)).await;
    assert_eq!((status, &uploaded["name"]), (StatusCode::OK, &json!("deck")), "{uploaded}");
    assert_eq!(uploaded["asset"]["kind"], json!("mesh_sequence"));
    let body = json!({"asset": uploaded["asset"], "name": "deck", "separate": false});
    let (_, model) = desk.ask("POST", "/api/shots/1/assets/elements", body).await;
    desk.set("/assets/deck", model["assets"]["deck"].clone()).await;
    let kind = model["elements"][0]["kind"].clone();
    desk.put(json!({"id": 8, "name": "Deck", "kind": kind})).await;
    (desk, kind)
}

/// Height of the first vertex in a frame for the Viewport, and the hash of its faces.
fn mesh(frame: &[u8]) -> (f32, String) {
    let bodies = u32::from_le_bytes(frame[12..16].try_into().unwrap()) as usize;
    let counts = (0..bodies).map(|i| u32::from_le_bytes(frame[20 + 8 * i..24 + 8 * i].try_into().unwrap()));
    let at = 16 + 8 * bodies + 20 * counts.map(|count| count as usize).sum::<usize>() + 4;
    assert_eq!(frame[at..at + 4], 1u32.to_le_bytes(), "one mesh");
    let hash = frame[at + 12..at + 28].iter().map(|byte| format!("{byte:02x}")).collect();
    (f32::from_le_bytes(frame[at + 32..at + 36].try_into().unwrap()), hash)
}

#[tokio::test(flavor = "multi_thread")]
async fn numbered_files_become_a_solid_that_moves_as_they_say_and_carries() {
    let (desk, kind) = taken_in(12).await;
    assert_eq!(kind["solid"]["animation"]["rate"], json!(24.0));
    assert_eq!(kind["solid"]["body"]["moves"], json!("animated"));
    desk.put(ball(9, "Ball")).await;
    desk.played().await;
    let (_, frame) = desk.bytes("/api/runs/1/frames/7").await;
    let (height, hash) = mesh(&frame);
    assert!((height - 0.6).abs() < 1e-4, "{height}");
    let (status, faces) = desk.bytes(&format!("/api/shots/1/topologies/{hash}")).await;
    assert_eq!((status, &faces[..8]), (StatusCode::OK, &[4, 0, 0, 0, 2, 0, 0, 0][..]));
    let (status, _) = desk.bytes(&format!("/api/shots/1/topologies/{}", "0".repeat(32))).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
    // Before anything is computed the first shape is shown.
    let (status, ply) = desk.bytes("/api/shots/1/assets/deck").await;
    assert_eq!((status, &ply[..3]), (StatusCode::OK, &b"ply"[..]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_speed_leaves_the_frames_fresh_in_which_the_same_is_shown() {
    let (desk, _) = taken_in(12).await;
    desk.played().await;
    let index = desk.get("/api/shots/1").await["document"]["elements"].as_array().unwrap().len() - 1;
    let keys =
        json!({"keys": [{"frame": 6, "value": 1.0, "interpolation": "hold"}, {"frame": 8, "value": 3.0}]});
    desk.set(&format!("/elements/{index}/channels"), json!({"kind.solid.animation.speed": keys})).await;
    let state = desk.get("/api/shots/1/freshness").await;
    assert_eq!(state["stretches"][0]["state"], json!("fresh"), "{state}");
    assert_eq!(state["stretches"][0]["last"], json!(8), "{state}");
    assert!(state["stretches"][1]["reason"].as_str().unwrap().contains("speed of Deck"), "{state}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shot_with_a_moving_mesh_goes_out_and_comes_in_again() {
    let (desk, _) = taken_in(3).await;
    let (_, zip) = desk.bytes("/api/shots/1/export.zip").await;
    let (status, back) = desk.upload("/api/import?name=deck.zip", &zip).await;
    assert_eq!(status, StatusCode::OK, "{back}");
    assert_eq!(back["document"]["assets"]["deck"]["kind"], json!("mesh_sequence"));
}

#[rstest]
#[case("rate", json!(0), "0 is outside 0.01 to 1000")]
#[case("speed", json!(1e9), "1000000000 is outside -100 to 100")]
#[case("before", json!("bounce"), "unknown variant `bounce`")]
#[tokio::test(flavor = "multi_thread")]
async fn a_faulty_animation_is_refused_by_its_field(
    #[case] field: &str,
    #[case] value: Value,
    #[case] message: &str,
) {
    let (desk, _) = taken_in(2).await;
    let shot = desk.get("/api/shots/1").await;
    let index = shot["document"]["elements"].as_array().unwrap().len() - 1;
    let path = format!("/elements/{index}/kind/solid/animation/{field}");
    let patch = json!([{"op": "add", "path": path, "value": value}]);
    let body = json!({"base": shot["revision"], "label": "Set", "patch": patch});
    let (status, problem) = desk.ask("PATCH", "/api/shots/1", body).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains(message), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn frames_are_handed_on_as_meshes_with_the_names_of_their_elements() {
    let (desk, _) = taken_in(12).await;
    desk.put(ball(9, "Ball")).await;
    let path = |format: &str, first: u32, last: u32| {
        format!("/api/shots/1/meshes/{format}?first={first}&last={last}")
    };
    let (status, _) = desk.bytes(&path("obj", 7, 7)).await;
    assert_eq!(status, StatusCode::NOT_FOUND, "nothing is computed yet");
    desk.played().await;
    let (status, obj) = desk.bytes(&path("obj", 7, 7)).await;
    assert_eq!(status, StatusCode::OK);
    let text = String::from_utf8(obj).unwrap();
    assert!(text.contains("o Deck\nv -2.000000 0.600000 -2.000000\n") && text.contains("o Ball\n"), "{text}");
    let (status, glb) = desk.bytes(&path("glb", 1, 12)).await;
    assert_eq!(status, StatusCode::OK);
    let read = interchange::read_sequence("x.glb", &glb, 24.0).unwrap();
    assert_eq!(read.sequence.samples().len(), 12);
    for (format, first, last, wanted) in
        [("obj", 1, 2, 422), ("glb", 3, 2, 422), ("fbx", 1, 1, 404), ("glb", 1, 99, 404)]
    {
        let (status, _) = desk.bytes(&path(format, first, last)).await;
        assert_eq!(status.as_u16(), wanted, "{format} {first}–{last}");
    }
}
