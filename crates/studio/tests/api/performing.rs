//! Moving things by hand while the shot plays.

use crate::desk::{Desk, ball, deck, desk, solid};
use crate::socket::{Socket, connect, next, told};
use futures_util::SinkExt;
use rstest::rstest;
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;

const PLACE: &str = "placement.position_m";

/// A free ball that lies on a deck, an animated box at its left, and a force that nothing feels.
async fn bowl() -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.set("/timing/last", json!(60)).await;
    desk.put(deck(8)).await;
    desk.put(ball(9, "Ball")).await;
    desk.set("/elements/5/placement/position_m", json!([0, 0.2, 0])).await;
    let shape = json!({"box": {"size_m": [0.4, 0.4, 0.4]}});
    desk.put(solid(10, "Ram", shape, [-1.0, 0.21, 0.0], json!({"moves": "animated"}))).await;
    let pull = json!({"force": {"kind": {"pull": {"force_n": 1}}, "enabled": false}});
    desk.put(json!({"id": 11, "name": "Lure", "kind": pull})).await;
    desk
}

async fn say(socket: &mut Socket, what: Value) {
    socket.send(Message::text(what.to_string())).await.unwrap();
}

/// The next frame told: its number, and the first place of every element.
async fn frame(socket: &mut Socket) -> (u32, std::collections::HashMap<u32, [f32; 3]>) {
    let bytes = loop {
        match next(socket).await {
            Message::Binary(bytes) => break bytes,
            Message::Text(text) => assert!(text.contains("ready") || text.contains("preparing"), "{text}"),
            _ => {}
        }
    };
    let word = |at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap());
    let elements = word(12) as usize;
    let mut offset = 16 + 8 * elements;
    let mut positions = std::collections::HashMap::new();
    for i in 0..elements {
        let (id, count) = (word(16 + 8 * i), word(20 + 8 * i) as usize);
        let position = [0, 4, 8].map(|at| f32::from_bits(word(offset + at)));
        positions.insert(id, position);
        offset += 20 * count;
    }
    (word(0), positions)
}

fn held(element: u32, path: &str, value: Value) -> Value {
    json!({"element": element, "path": path, "value": value})
}

fn ram_at(x: f64) -> Value {
    held(10, PLACE, json!([x, 0.21, 0.0]))
}

async fn step(socket: &mut Socket, number: u32, values: Value) {
    say(socket, json!({"step": {"frame": number, "values": values}})).await;
}

fn keep() -> Value {
    json!({"keep": {"position_m": 0.005, "orientation_rad": 0.01, "fraction": 0.005}})
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drag_is_answered_and_becomes_keys_in_one_change() {
    let desk = bowl().await;
    let revision = desk.get("/api/shots/1").await["revision"].as_i64().unwrap();
    let mut socket = connect(&desk, "/api/shots/1/perform?from=1").await;
    assert_eq!(frame(&mut socket).await.0, 1);
    let mut last = Default::default();
    for number in 2..=40 {
        let x = -1.0 + 0.03 * f64::from(number - 1);
        step(&mut socket, number, json!([ram_at(x), held(11, PLACE, json!([x, 1.0, 0.0]))])).await;
        let (at, positions) = frame(&mut socket).await;
        assert_eq!(at, number);
        assert!((f64::from(positions[&10][0]) - x).abs() < 1e-4, "frame {number}: {positions:?}");
        // What no solver moves stands where the hand has it too.
        assert!((f64::from(positions[&11][0]) - x).abs() < 1e-4);
        last = positions;
    }
    assert!(last[&9][0] > 0.3, "the ball was pushed on: {last:?}");
    say(&mut socket, keep()).await;
    let kept = told(&mut socket).await["kept"].clone();
    assert_eq!(kept["what"], json!("place of Ram, place of Lure"));
    assert_eq!((kept["revision"].as_i64(), kept["samples"].as_i64()), (Some(revision + 1), Some(80)));
    assert!(kept["keys"].as_i64().unwrap() <= 8, "{kept}");

    // The bake with these keys does what was seen while performing.
    let run = desk.played().await["run"].clone();
    let track = desk.get(&format!("/api/runs/{run}/track?element=9")).await;
    assert_eq!(track["frames"].as_array().unwrap().len(), 60);
    let (_, shot) = desk.ask("POST", "/api/shots/1/undo", Value::Null).await;
    assert!(shot["document"]["elements"][6].get("channels").is_none(), "one undo takes all back");
}

#[tokio::test(flavor = "multi_thread")]
async fn performing_begins_at_any_frame_from_where_the_run_is() {
    let desk = bowl().await;
    desk.played().await;
    let mut socket = connect(&desk, "/api/shots/1/perform?from=21").await;
    assert_eq!(frame(&mut socket).await.0, 21);
    step(&mut socket, 22, json!([ram_at(-0.9)])).await;
    frame(&mut socket).await;
    say(&mut socket, keep()).await;
    assert_eq!(told(&mut socket).await["kept"]["keys"], json!(2));
    let freshness = desk.get("/api/shots/1/freshness").await;
    assert_eq!(freshness["stretches"][0]["state"], json!("fresh"));
    assert!(freshness["stretches"][0]["last"].as_i64().unwrap() >= 20, "{freshness}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_performed_is_kept_when_the_page_goes_away() {
    let desk = bowl().await;
    let mut socket = connect(&desk, "/api/shots/1/perform?from=1").await;
    frame(&mut socket).await;
    step(&mut socket, 2, json!([held(9, "kind.solid.body.restitution", json!(0.9))])).await;
    frame(&mut socket).await;
    drop(socket);
    crate::desk::wait_for(&desk, "/api/shots/1", |shot| {
        shot["document"]["elements"][5]["channels"]["kind.solid.body.restitution"].is_object()
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_done_changes_nothing() {
    let desk = bowl().await;
    let revision = desk.get("/api/shots/1").await["revision"].clone();
    let mut socket = connect(&desk, "/api/shots/1/perform?from=1").await;
    frame(&mut socket).await;
    step(&mut socket, 2, json!([])).await;
    frame(&mut socket).await;
    say(&mut socket, keep()).await;
    assert_eq!(told(&mut socket).await["kept"]["keys"], json!(0));
    assert_eq!(desk.get("/api/shots/1").await["revision"], revision);
}

#[rstest]
#[case(json!({"step": {"frame": 5, "values": []}}), "frame 5 does not come after 1")]
#[case(json!({"step": {"frame": 2, "values": [{"element": null, "path": "timing.fps", "value": 1}]}}), "takes no keys")]
#[case(json!({"step": {"frame": 2, "values": [held(99, PLACE, json!([0, 0, 0]))]}}), "element 99 is not there")]
#[case(json!({"stop": {}}), "unknown variant")]
#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_done_is_said(#[case] said: Value, #[case] why: &str) {
    let desk = bowl().await;
    let mut socket = connect(&desk, "/api/shots/1/perform?from=1").await;
    frame(&mut socket).await;
    say(&mut socket, said).await;
    assert!(told(&mut socket).await.get("kept").is_some());
    let ended = told(&mut socket).await["ended"].clone();
    assert!(ended.as_str().unwrap().contains(why), "{ended}");
}

#[tokio::test(flavor = "multi_thread")]
async fn there_is_nothing_to_perform_after_the_last_frame() {
    let desk = bowl().await;
    let mut socket = connect(&desk, "/api/shots/1/perform?from=60").await;
    let ended = told(&mut socket).await["ended"].clone();
    assert!(ended.as_str().unwrap().contains("outside 1 to 59"), "{ended}");
}
