//! Runs.

use crate::desk::{Desk, ball, deck, desk, wait_for};
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};
use studio::studio::Event;

#[tokio::test(flavor = "multi_thread")]
async fn playing_fills_the_run_and_a_change_makes_it_stale_in_words() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.add(1, ball(9, "Ball")).await;
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    let all_fresh = |v: &Value| v["playing"] == json!(false) && v["stretches"][0]["state"] == json!("fresh");
    let fresh = wait_for(&desk, "/api/shots/1/freshness", all_fresh).await;
    assert_eq!(fresh["stretches"].as_array().unwrap().len(), 1);
    let patch = json!([{"op": "add", "path": "/elements/4/kind/solid/body/friction", "value": 0.9}]);
    desk.ask("PATCH", "/api/shots/1", json!({"base": 2, "label": "Friction", "patch": patch})).await;
    let (_, stale) = desk.ask("GET", "/api/shots/1/freshness", Value::Null).await;
    assert_eq!(stale["stretches"][0]["reason"], json!("before friction of Ball changed"));
    let (_, measured) = desk.ask("GET", "/api/runs/1/measured", Value::Null).await;
    assert_eq!(measured["frames"].as_array().unwrap().len(), 12);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_element_that_came_or_went_is_said_so() {
    let desk = tumble().await;
    desk.played().await;
    desk.put(ball(10, "Float")).await;
    let stale = desk.get("/api/shots/1/freshness").await;
    assert_eq!(stale["stretches"][0]["reason"], json!("before Float was added"));
}

async fn tumble() -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(ball(9, "Ball")).await;
    desk
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_kept_named_compared_restored_and_dropped() {
    let desk = tumble().await;
    desk.played().await;
    let (status, _) = desk.ask("POST", "/api/shots/1/runs", json!({"name": null})).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    desk.set("/elements/5/kind/solid/body/friction", json!(0.9)).await;
    desk.set("/elements/5/kind/solid/body/restitution", json!(0.7)).await;
    let runs = desk.get("/api/shots/1/runs").await;
    let run = &runs[0];
    assert_eq!((&run["number"], &run["frames"]), (&json!(1), &json!(12)));
    assert_eq!(run["differs"], json!(["friction of Ball", "bounce of Ball"]));
    assert!(run["bytes"].as_u64().unwrap() > 1000);
    let path = format!("/api/runs/{}", run["id"]);
    desk.ask("PATCH", &path, json!({"name": " Slippery "})).await;
    assert_eq!(desk.get("/api/shots/1/runs").await[0]["name"], json!("Slippery"));
    let (_, shot) = desk.ask("POST", &format!("{path}/restore"), Value::Null).await;
    assert_eq!(shot["undo"], json!("Restored from Slippery"));
    let friction = shot["document"]["elements"][5]["kind"]["solid"]["body"]["friction"].as_f64().unwrap();
    assert!((friction - 0.5).abs() < 1e-6);
    assert_eq!(desk.get("/api/shots/1/freshness").await["stretches"][0]["state"], json!("fresh"));
    let (status, _) = desk.ask("DELETE", &path, Value::Null).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert_eq!(desk.get("/api/shots/1/runs").await, json!([]));
    assert!(!desk.dir.path().join("runs").join(run["id"].to_string()).exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kept_run_stays_as_it_is_when_the_shot_is_played_again() {
    let desk = tumble().await;
    let current = desk.played().await["run"].clone();
    desk.ask("POST", "/api/shots/1/runs", json!({"name": "First"})).await;
    let kept = desk.get("/api/shots/1/runs").await[0]["id"].clone();
    let frame = |run: &Value| format!("/api/runs/{run}/frames/12");
    let before = desk.bytes(&frame(&kept)).await.1;
    assert_eq!(before, desk.bytes(&frame(&current)).await.1);
    desk.set("/elements/5/kind/solid/body/launch_velocity", json!([3, 0, 0])).await;
    desk.played().await;
    assert_eq!(before, desk.bytes(&frame(&kept)).await.1);
    assert_ne!(before, desk.bytes(&frame(&current)).await.1);
}

#[tokio::test(flavor = "multi_thread")]
async fn clearing_drops_all_frames_and_needs_a_stop_first() {
    let desk = tumble().await;
    desk.played().await;
    let (status, _) = desk.ask("POST", "/api/shots/1/clear", Value::Null).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let freshness = desk.get("/api/shots/1/freshness").await;
    assert_eq!(freshness["stretches"], json!([{"first": 1, "last": 12, "state": "missing", "reason": null}]));
    assert_eq!((&freshness["frame_bytes"], &freshness["state_bytes"]), (&json!(0), &json!(0)));
    desk.set("/timing/last", json!(5000)).await;
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    let (status, problem) = desk.ask("POST", "/api/shots/1/clear", Value::Null).await;
    assert_eq!((status.as_u16(), &problem["detail"]), (422, &json!("frames are being computed; stop first")));
    desk.ask("DELETE", "/api/shots/1/play", Value::Null).await;
    wait_for(&desk, "/api/shots/1/freshness", |v| v["playing"] == json!(false)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stopped_bake_keeps_its_frames_and_goes_on_from_them() {
    let desk = tumble().await;
    desk.set("/timing/last", json!(3000)).await;
    let mut events = desk.studio.events.subscribe();
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    while !matches!(events.recv().await.unwrap(), Event::Frame { frame: 20.., .. }) {}
    desk.ask("DELETE", "/api/shots/1/play", Value::Null).await;
    let stopped = wait_for(&desk, "/api/shots/1/freshness", |v| v["playing"] == json!(false)).await;
    let reached = stopped["stretches"][0]["last"].as_u64().unwrap();
    assert!((20..3000).contains(&reached) && stopped["stretches"][1]["state"] == json!("missing"));
    desk.set("/timing/last", json!(reached + 40)).await;
    desk.played().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_while_frames_are_computed_is_taken_up() {
    let desk = tumble().await;
    desk.set("/timing/last", json!(600)).await;
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    wait_for(&desk, "/api/shots/1/freshness", |v| v["stretches"][0]["last"].as_u64() > Some(10)).await;
    desk.set("/elements/5/kind/solid/body/restitution", json!(0.8)).await;
    let whole = |v: &Value| v["playing"] == json!(false) && v["stretches"][0]["last"] == json!(600);
    let fresh = wait_for(&desk, "/api/shots/1/freshness", whole).await;
    assert_eq!(fresh["stretches"][0]["state"], json!("fresh"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_blow_up_is_told_and_the_frames_before_it_stay() {
    let desk = tumble().await;
    desk.set("/timing/last", json!(96)).await;
    desk.set("/elements/0/kind/force/kind/gravity/acceleration", json!([1000, 1000, 0])).await;
    let mut events = desk.studio.events.subscribe();
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    let message = loop {
        if let Event::BakeEnded { message, .. } = events.recv().await.unwrap() {
            break message.unwrap();
        }
    };
    assert!(message.contains("Ball") && message.contains("over 2000 m/s"), "{message}");
    let freshness = desk.get("/api/shots/1/freshness").await;
    assert_eq!(freshness["stretches"][0]["state"], json!("fresh"));
    assert!(freshness["stretches"][0]["last"].as_u64() > Some(20));
}

#[tokio::test(flavor = "multi_thread")]
async fn measures_and_a_bodys_track_cover_the_run() {
    let desk = tumble().await;
    desk.played().await;
    let measured = desk.get("/api/runs/1/measured").await;
    assert_eq!(measured["fastest"][11], json!(9));
    let energy =
        |i: usize| measured["kinetic_j"][i].as_f64().unwrap() + measured["potential_j"][i].as_f64().unwrap();
    // In free fall energy is kept; the time stepping loses less than 3 %.
    assert!((energy(11) / energy(0) - 1.0).abs() < 0.03, "{} {}", energy(0), energy(11));
    let track = desk.get("/api/runs/1/track?element=9&copy=0").await;
    let height = |i: usize| track["height_m"][i].as_f64().unwrap();
    assert!((height(0) - 2.0).abs() < 1e-3);
    let t = 11.0 / 24.0;
    assert!((2.0 - height(11) - 0.5 * 9.81 * t * t).abs() < 0.03, "{}", height(11));
}

#[rstest]
#[case("GET", "/api/runs/1/frames/999", json!(null), 404, "frame 999 is not there")]
#[case("GET", "/api/runs/77/frames/1", json!(null), 404, "run 77 is not there")]
#[case("DELETE", "/api/runs/1", json!(null), 422, "the current run cannot be dropped; clear it")]
#[case("PATCH", "/api/runs/1", json!({"name": ""}), 422, "name: give 1 to 80 characters")]
#[case("POST", "/api/shots/1/runs", json!({"name": "Early"}), 422, "there are no frames to keep yet; play first")]
#[tokio::test(flavor = "multi_thread")]
async fn what_a_run_cannot_do_is_said(
    #[case] method: &str,
    #[case] path: &str,
    #[case] body: Value,
    #[case] status: u16,
    #[case] message: &str,
) {
    let desk = tumble().await;
    desk.get("/api/shots/1/freshness").await;
    let (found, problem) = desk.ask(method, path, body).await;
    assert_eq!((found.as_u16(), &problem["detail"]), (status, &json!(message)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_frame_is_known_by_its_tag_until_it_is_computed_anew() {
    let desk = tumble().await;
    desk.played().await;
    let ask = |tag: &str| {
        let request = Request::builder().uri("/api/runs/1/frames/9").header("host", "localhost");
        request.header("if-none-match", tag).body(Body::empty()).unwrap()
    };
    let response = tower::ServiceExt::oneshot(desk.app.clone(), ask("")).await.unwrap();
    let tag = response.headers()["etag"].to_str().unwrap().to_owned();
    assert_eq!(desk.send(ask(&tag)).await.0, StatusCode::NOT_MODIFIED);
    desk.set("/elements/5/kind/solid/body/friction", json!(0.9)).await;
    desk.played().await;
    assert_eq!(desk.send(ask(&tag)).await.0, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kept_run_has_a_poster_and_tells_what_differs_with_both_values() {
    let desk = tumble().await;
    desk.played().await;
    desk.ask("POST", "/api/shots/1/runs", json!({"name": null})).await;
    let id = desk.get("/api/shots/1/runs").await[0]["id"].clone();
    let differences = format!("/api/runs/{id}/differences");
    assert_eq!(desk.get(&differences).await, json!([]));
    desk.set("/elements/5/kind/solid/body/friction", json!(0.9)).await;
    desk.set("/elements/5/placement/position_m", json!([0, 3, 0])).await;
    desk.put(ball(10, "Float")).await;
    let found = desk.get(&differences).await;
    let row = |value: &str, run: Value, now: Value| json!({"value": value, "run": run, "now": now});
    assert!(
        found.as_array().unwrap().contains(&row("friction of Ball", json!("0.5"), json!("0.9"))),
        "{found}"
    );
    assert!(found.as_array().unwrap().contains(&row("Float added", Value::Null, Value::Null)), "{found}");
    assert_eq!(found[0]["value"], json!("place of Ball"));
    assert_eq!(found[0]["now"], json!("0, 3, 0"));
    let poster = format!("/api/runs/{id}/poster.png");
    let (status, png) = desk.bytes(&poster).await;
    assert_eq!((status, &png[1..4]), (StatusCode::OK, b"PNG" as &[u8]));
    desk.ask("DELETE", &format!("/api/runs/{id}"), Value::Null).await;
    assert_eq!(desk.bytes(&poster).await.0, StatusCode::NOT_FOUND);
    assert!(std::fs::read_dir(desk.dir.path().join("pictures")).unwrap().next().is_none());
}
