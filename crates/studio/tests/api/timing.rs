//! Frame rate and loop length.

use crate::desk::{ball, deck, desk};
use axum::http::StatusCode;
use serde_json::{Value, json};

/// Height of the first body of the second element in a frame for the Viewport.
fn height(frame: &[u8]) -> f32 {
    // Number, thinning, elements, and a head for each of two; then the first element's one body of 12 + 8 bytes.
    let at = 16 + 2 * 8 + 20 + 4;
    f32::from_le_bytes(frame[at..at + 4].try_into().unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rate_that_keeps_seconds_retimes_the_run_and_the_keys() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    let mut falling = ball(9, "Ball");
    falling["channels"] = json!({"kind.solid.body.friction": {"keys": [{"frame": 5, "value": 0.5}]}});
    desk.put(falling).await;
    desk.played().await;
    let mut before = Vec::new();
    for frame in 1..=12 {
        before.push(height(&desk.bytes(&format!("/api/runs/1/frames/{frame}")).await.1));
    }
    let body = json!({"fps": 48, "keep": "seconds"});
    let (status, state) = desk.ask("POST", "/api/shots/1/frame-rate", body).await;
    assert_eq!(status, StatusCode::OK, "{state}");
    assert_eq!(state["document"]["timing"], json!({"fps": 48.0, "first": 1, "last": 24}));
    let elements = state["document"]["elements"].as_array().unwrap();
    let ball = elements.iter().find(|element| element["name"] == "Ball").unwrap();
    assert_eq!(ball["channels"]["kind.solid.body.friction"]["keys"][0]["frame"], json!(9.0));
    // The run is shown at the new rate, and is not called fresh.
    let freshness = desk.get("/api/shots/1/freshness").await;
    let stretch = &freshness["stretches"][0];
    assert_eq!(
        (&stretch["first"], &stretch["last"], &stretch["state"]),
        (&json!(1), &json!(24), &json!("stale"))
    );
    assert!(stretch["reason"].as_str().unwrap().contains("frame rate"), "{stretch}");
    assert_eq!(freshness["systems"][0]["stretches"][0]["state"], json!("stale"));
    let g = 9.81f32;
    for frame in 1..=23u32 {
        let shown = height(&desk.bytes(&format!("/api/runs/1/frames/{frame}")).await.1);
        match frame % 2 {
            1 => assert!((shown - before[frame as usize / 2]).abs() < 2e-4, "frame {frame}"),
            // Half way between two frames of a fall: by their positions and velocities.
            _ => {
                let (a, b) = (before[frame as usize / 2 - 1], before[frame as usize / 2]);
                let expected = (a + b) / 2.0 + g / 8.0 / (24.0 * 24.0);
                assert!((shown - expected).abs() < 5e-4, "frame {frame}: {shown} for {expected}");
            }
        }
    }
    // Played, all is computed at the new rate.
    desk.played().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rate_that_keeps_frames_changes_nothing_else_and_bad_ones_are_named() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let ask = |fps: f32, keep: &'static str| {
        desk.ask("POST", "/api/shots/1/frame-rate", json!({"fps": fps, "keep": keep}))
    };
    let (_, state) = ask(30.0, "frames").await;
    assert_eq!(state["document"]["timing"], json!({"fps": 30.0, "first": 1, "last": 12}));
    let (status, problem) = ask(0.0, "seconds").await;
    assert_eq!(
        (status, &problem["detail"]),
        (StatusCode::UNPROCESSABLE_ENTITY, &json!("fps: 0 is outside 1 to 240"))
    );
    assert_eq!(ask(25.0, "minutes").await.0, StatusCode::UNPROCESSABLE_ENTITY);
    // 12 frames become more than a shot may have.
    let (_, state) = ask(240.0, "seconds").await;
    assert_eq!(state["document"]["timing"]["last"], json!(96));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shot_that_goes_round_tells_its_rounds_and_is_computed_no_further() {
    let desk = desk().await;
    desk.new_shot().await;
    let emission = json!({"schedule": {"rate": {"per_s": 48}}});
    let start = json!({"lifespan_s": 0.1, "speed_m_s": 1.0});
    desk.put(json!({"id": 9, "name": "Dust", "kind": {"particles": {"emission": emission, "start": start}}}))
        .await;
    desk.set("/timing/last", json!(40)).await;
    desk.set("/timing/loop_frames", json!(8)).await;
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    let over = |v: &Value| v["playing"] == json!(false) && v["closed_at"] != Value::Null;
    let freshness = crate::desk::wait_for(&desk, "/api/shots/1/freshness", over).await;
    let closed = freshness["closed_at"].as_u64().unwrap();
    assert!(closed < 40 && (closed - 1) % 8 == 0, "{closed}");
    let rounds = desk.get("/api/shots/1/rounds").await;
    let rounds = rounds.as_array().unwrap();
    assert_eq!(rounds.len() as u64, (closed - 1) / 8);
    assert_eq!(rounds.last().unwrap()["closes"], json!(true));
    assert_eq!(freshness["stretches"][0]["last"], json!(closed));
    // Asked for again, there is nothing to compute.
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    let again = crate::desk::wait_for(&desk, "/api/shots/1/freshness", over).await;
    assert_eq!(again["stretches"], freshness["stretches"]);
    let (status, problem) = desk.upload("/api/shots/1/view-film", &[9, 0, 0, 0, 1]).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains("drawing 1 is cut short"), "{problem}");
}

/// A run that is computed in part is retimed in part; what a process that ended has left aside
/// does no harm, and a shot that goes round keeps its round in seconds.
#[tokio::test(flavor = "multi_thread")]
async fn a_run_in_part_is_retimed_in_part() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    desk.played().await;
    let run = desk.studio.folder(&desk.studio.store.current_run(1).await.unwrap());
    let left = run.path().join("retimed/frames");
    std::fs::create_dir_all(&left).unwrap();
    std::fs::write(left.join("00001.brframe"), b"cut short").unwrap();
    desk.set("/timing/last", json!(40)).await;
    desk.set("/timing/loop_frames", json!(20)).await;
    desk.ask("POST", "/api/shots/1/clear", Value::Null).await;
    desk.set("/timing/last", json!(30)).await;
    let (status, state) =
        desk.ask("POST", "/api/shots/1/frame-rate", json!({"fps": 12, "keep": "seconds"})).await;
    assert_eq!(status, StatusCode::OK, "{state}");
    assert_eq!(state["document"]["timing"], json!({"fps": 12.0, "first": 1, "last": 15, "loop_frames": 10}));
    assert_eq!(desk.get("/api/shots/1/freshness").await["stretches"][0]["state"], json!("missing"));
    // Six of the fifteen frames are computed, and the shot is slowed down to a half.
    desk.set("/timing/loop_frames", Value::Null).await;
    desk.set("/timing/last", json!(6)).await;
    desk.played().await;
    desk.set("/timing/last", json!(15)).await;
    desk.ask("POST", "/api/shots/1/frame-rate", json!({"fps": 24, "keep": "seconds"})).await;
    let freshness = desk.get("/api/shots/1/freshness").await;
    let stretches: Vec<(u64, u64, &str)> = freshness["stretches"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| (s["first"].as_u64().unwrap(), s["last"].as_u64().unwrap(), s["state"].as_str().unwrap()))
        .collect();
    // A frame between two of the old rate is made from two on either side (a contact is split there),
    // so frame 10, between frames 5 and 6, wants frame 7; beyond frame 6 nothing is known.
    assert_eq!(stretches, [(1, 9, "stale"), (10, 10, "missing"), (11, 11, "stale"), (12, 30, "missing")]);
    assert!(!run.path().join("retimed").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rate_that_the_shot_cannot_have_changes_nothing() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    desk.set("/timing/last", json!(9_000)).await;
    let before = desk.get("/api/shots/1").await;
    // Frames beyond the most that a shot may have are not made.
    let (status, problem) =
        desk.ask("POST", "/api/shots/1/frame-rate", json!({"fps": 240, "keep": "seconds"})).await;
    let after = desk.get("/api/shots/1").await;
    if status == StatusCode::OK {
        let count = after["document"]["timing"]["last"].as_u64().unwrap();
        assert!(count <= u64::from(shot::MAX_FRAMES), "{count}");
    } else {
        assert_eq!(before, after, "{problem}");
    }
    for (path, value) in [("/timing/loop_frames", json!(1)), ("/timing/loop_frames", json!(20_000))] {
        let base = desk.get("/api/shots/1").await["revision"].clone();
        let patch = json!([{"op": "add", "path": path, "value": value}]);
        let body = json!({"base": base, "label": "Loop", "patch": patch});
        let (status, problem) = desk.ask("PATCH", "/api/shots/1", body).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(problem["detail"].as_str().unwrap().contains("timing.loop_frames"), "{problem}");
    }
}
