//! The Check list: each entry, and its one-press fix.

use crate::desk::{Desk, ball, deck, desk, solid};
use axum::http::StatusCode;
use rstest::rstest;
use serde_json::{Value, json};

async fn entries(desk: &Desk) -> Vec<Value> {
    let list = desk.get("/api/shots/1/check").await;
    list.as_array().unwrap().iter().filter(|e| e["mistake"] != json!("frames_missing")).cloned().collect()
}

async fn fix(desk: &Desk, entry: &Value) -> Value {
    let body = json!({"mistake": entry["mistake"], "elements": entry["elements"]});
    let (status, shot) = desk.ask("POST", "/api/shots/1/fix", body).await;
    assert_eq!(status, StatusCode::OK, "{shot}");
    shot
}

#[rstest]
#[case::nothing_below(&[ball(9, "Ball")], "Nothing is still below the free bodies", "Add a floor", "Floor added")]
#[case::hull_fills(
    &[deck(8), ball(9, "Ball"), solid(10, "Basket", json!({"torus": {"major_radius_m": 0.4, "minor_radius_m": 0.1}}), [2.0, 0.2, 0.0], json!({"moves": "still", "collision": "hull"}))],
    "Basket is still and collides as a filled shape", "Collide as exact", "Collision shape set to exact"
)]
#[case::large_margin(
    &[deck(8), solid(9, "Crate", json!({"box": {"size_m": [0.5, 0.5, 0.5]}}), [0.0, 1.0, 0.0], json!({"margin_m": 0.06}))],
    "The margin of Crate is 12 % of its size; it will hover 60.0 mm", "Margin by size", "Margin set by size"
)]
#[case::overlap(
    &[deck(8), ball(9, "One"), solid(10, "Two", json!({"sphere": {"radius_m": 0.2}}), [0.1, 2.0, 0.0], json!({}))],
    "starts 300.0 mm inside", "Separate", "Bodies separated"
)]
#[tokio::test(flavor = "multi_thread")]
async fn a_mistake_is_told_and_mended_at_a_press(
    #[case] elements: &[Value],
    #[case] reason: &str,
    #[case] label: &str,
    #[case] history: &str,
) {
    let desk = desk().await;
    desk.new_shot().await;
    for element in elements {
        desk.put(element.clone()).await;
    }
    let found = entries(&desk).await;
    assert_eq!(found.len(), 1, "{found:?}");
    assert!(found[0]["reason"].as_str().unwrap().contains(reason), "{}", found[0]);
    assert_eq!(found[0]["fix"], json!(label));
    assert_eq!(fix(&desk, &found[0]).await["undo"], json!(history));
    assert_eq!(entries(&desk).await, Vec::<Value>::new());
    desk.ask("POST", "/api/shots/1/undo", Value::Null).await;
    assert_eq!(entries(&desk).await, found);
}

#[tokio::test(flavor = "multi_thread")]
async fn missing_frames_are_told_and_computed_at_a_press() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(ball(9, "Ball")).await;
    let list = desk.get("/api/shots/1/check").await;
    assert_eq!(list[0]["reason"], json!("12 of 12 frames are not computed yet; a film computes them first."));
    fix(&desk, &list[0]).await;
    crate::desk::wait_for(&desk, "/api/shots/1/check", |list| list.as_array().unwrap().is_empty()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_left_the_world_is_told_with_its_frame() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    let thrown = json!({"launch_velocity": [100, 0, 0]});
    desk.put(solid(9, "Float", json!({"sphere": {"radius_m": 0.2}}), [0.0, 2.0, 0.0], thrown)).await;
    desk.set("/physics/world_m", json!(20)).await;
    desk.played().await;
    let found = entries(&desk).await;
    // 20 m at 100 m/s and 24 frames a second: the fifth frame after the first.
    assert_eq!(found[0]["reason"], json!("Float left the world at frame 6."));
    assert_eq!(found[0]["fix"], Value::Null);
    let body = json!({"mistake": "left_world", "elements": [9]});
    let (status, problem) = desk.ask("POST", "/api/shots/1/fix", body).await;
    assert_eq!((status.as_u16(), &problem["detail"]), (422, &json!("this entry has no one-press fix")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_paddle_that_is_too_fast_for_a_marble_is_told_and_more_substeps_catch_it() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.set("/elements/0/kind/force/kind/gravity/acceleration", json!([0, 0, 0])).await;
    desk.set("/physics/substeps", json!(1)).await;
    let keys = json!([{"frame": 1, "value": [-8, 0, 0]}, {"frame": 2, "value": [8.3, 0, 0]}]);
    let mut paddle =
        solid(8, "Paddle", json!({"box": {"size_m": [0.05, 1, 1]}}), [0.0; 3], json!({"moves": "animated"}));
    paddle["channels"] = json!({"placement.position_m": {"keys": keys}});
    desk.put(paddle).await;
    desk.put(solid(9, "Marble", json!({"sphere": {"radius_m": 0.02}}), [0.0; 3], json!({}))).await;
    desk.played().await;
    let found = entries(&desk).await;
    let told = found.iter().find(|e| e["mistake"] == json!("too_fast")).expect("it is told");
    let reason = told["reason"].as_str().unwrap();
    assert!(reason.contains("come together so fast at frame 2"), "{reason}");
    let wanted: u32 = told["fix"].as_str().unwrap().split(' ').nth(1).unwrap().parse().unwrap();
    let shot = fix(&desk, told).await;
    assert_eq!(shot["document"]["physics"]["substeps"], json!(wanted));
    desk.played().await;
    let left = entries(&desk).await;
    assert!(left.iter().all(|e| e["mistake"] != json!("tunnelled") && e["mistake"] != json!("too_fast")));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_camera_does_not_see_is_told() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    // The camera looks at the middle; one ball falls out of its picture, one was never in it.
    let sphere = json!({"sphere": {"radius_m": 0.2}});
    let thrown = json!({"launch_velocity": [60, 0, 0]});
    desk.put(solid(9, "Float", sphere.clone(), [0.0, 1.0, 0.0], thrown)).await;
    desk.put(solid(10, "Buoy", sphere, [0.0, 1.0, 90.0], json!({"moves": "still"}))).await;
    desk.played().await;
    let reasons = async |chosen: &str| -> Vec<String> {
        let list = desk.get(&format!("/api/shots/1/gate?elements={chosen}")).await;
        list.as_array().unwrap().iter().map(|entry| entry["reason"].as_str().unwrap().to_owned()).collect()
    };
    let unseen = reasons("").await;
    assert_eq!(unseen.len(), 1, "{unseen:?}");
    assert!(unseen[0].starts_with("Buoy never enters the camera's gate"), "{unseen:?}");
    let chosen = reasons("9").await;
    let of_float = chosen.iter().find(|reason| reason.starts_with("Float")).expect("it is told");
    assert!(of_float.contains("in frames ") && of_float.ends_with("–12."), "{of_float}");
    let (status, _) = desk.ask("GET", "/api/shots/1/gate?elements=x", Value::Null).await;
    assert_eq!(status.as_u16(), 422);
}
