//! History: undo, redo, lines that were left, named versions.

use crate::desk::{ball, desk};
use axum::http::StatusCode;
use rstest::rstest;
use serde_json::{Value, json};
use studio::studio::Studio;

async fn labels(desk: &crate::desk::Desk) -> Vec<String> {
    let history = desk.get("/api/shots/1/history").await;
    history.as_array().unwrap().iter().map(|r| r["label"].as_str().unwrap().to_owned()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_history_has_every_change_newest_first_and_marks_the_head() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "One")).await;
    desk.set("/timing/last", json!(20)).await;
    assert_eq!(labels(&desk).await, ["Set /timing/last", "Set /elements/-", "Shot begun"]);
    desk.ask("POST", "/api/shots/1/undo", Value::Null).await;
    let history = desk.get("/api/shots/1/history").await;
    let heads: Vec<bool> = history.as_array().unwrap().iter().map(|r| r["head"] == json!(true)).collect();
    assert_eq!(heads, [false, true, false]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_after_undo_leaves_the_other_line_in_the_history() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.set("/timing/last", json!(20)).await;
    desk.ask("POST", "/api/shots/1/undo", Value::Null).await;
    let changed = desk.set("/timing/last", json!(30)).await;
    assert_eq!(changed["redo"], Value::Null);
    // The line that was left can still be gone back to.
    let (status, back) = desk.ask("POST", "/api/shots/1/history", json!({"revision": 2})).await;
    assert_eq!((status, &back["document"]["timing"]["last"]), (StatusCode::OK, &json!(20)));
    let (_, undone) = desk.ask("POST", "/api/shots/1/undo", Value::Null).await;
    assert_eq!(undone["document"]["timing"]["last"], json!(30));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_named_version_is_listed_and_brought_back() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "One")).await;
    let (status, _) = desk.ask("POST", "/api/shots/1/versions", json!({"name": " Low tide "})).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    desk.set("/elements/4/placement/position_m", json!([5, 5, 5])).await;
    let (_, restored) = desk.ask("POST", "/api/shots/1/history", json!({"revision": 2})).await;
    assert_eq!(restored["document"]["elements"][4]["placement"]["position_m"], json!([0.0, 2.0, 0.0]));
    assert_eq!(restored["undo"], json!("Restored “Low tide”"));
    let history = desk.get("/api/shots/1/history").await;
    assert_eq!(history[2]["version"], json!("Low tide"));
}

#[rstest]
#[case(json!({"name": "  "}), "name: give 1 to 80 characters")]
#[case(json!({"name": "x".repeat(81)}), "name: give 1 to 80 characters")]
#[case(json!({"title": "Low tide"}), "unknown field `title`")]
#[case(json!({}), "missing field `name`")]
#[case(json!({"name": 7}), "name: invalid type")]
#[tokio::test(flavor = "multi_thread")]
async fn a_version_without_a_name_is_refused(#[case] body: Value, #[case] message: &str) {
    let desk = desk().await;
    desk.new_shot().await;
    let (status, problem) = desk.ask("POST", "/api/shots/1/versions", body).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains(message), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn undo_and_versions_survive_a_restart() {
    let crate::desk::Desk { app, dir, studio } = {
        let desk = desk().await;
        desk.new_shot().await;
        desk.put(ball(9, "One")).await;
        desk.ask("POST", "/api/shots/1/versions", json!({"name": "Low tide"})).await;
        desk.set("/timing/last", json!(20)).await;
        desk
    };
    drop((app, studio));
    let studio = Studio::open(dir.path()).await.unwrap();
    let desk = crate::desk::Desk { app: studio::api::app(studio.clone()), dir, studio };
    let (_, undone) = desk.ask("POST", "/api/shots/1/undo", Value::Null).await;
    assert_eq!((&undone["revision"], &undone["redo"]), (&json!(2), &json!("Set /timing/last")));
    assert_eq!(desk.get("/api/shots/1/history").await[1]["version"], json!("Low tide"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_revision_that_is_not_there_is_said() {
    let desk = desk().await;
    desk.new_shot().await;
    let (status, problem) = desk.ask("POST", "/api/shots/1/history", json!({"revision": 99})).await;
    assert_eq!(status, StatusCode::NOT_FOUND, "{problem}");
}
