//! Liquids over HTTP: foreseen, played, made a mesh and handed on.

use crate::desk::{Desk, deck, desk, wait_for};
use axum::http::StatusCode;
use serde_json::{Value, json};

/// A block of 0.4 × 0.3 × 0.4 m over a deck.
async fn block(spacing_m: f64) -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    let shape = json!({"box": {"size_m": [0.4, 0.3, 0.4], "edge_m": 0.0}});
    let particles = json!({
        "liquid": {"spacing_m": spacing_m},
        "source": {"shape": {"shape": shape, "domain": "surface"}},
        "emission": {"schedule": {"fill": {}}},
        "start": {"speed_m_s": 0.0, "spread_rad": 0.0, "lifespan_s": null},
    });
    let placement = json!({"position_m": [0.0, 0.5, 0.0], "orientation_rad": [0.0, 0.0, 0.0]});
    desk.put(json!({"id": 9, "name": "Water", "placement": placement, "kind": {"particles": particles}}))
        .await;
    desk.set("/timing/last", json!(4)).await;
    desk
}

#[tokio::test(flavor = "multi_thread")]
async fn a_liquid_is_foreseen_before_it_is_played() {
    let desk = block(0.05).await;
    let facts = desk.get("/api/shots/1/liquid_facts/9").await;
    // 0.048 m³ of cubes of 50 mm.
    assert_eq!(
        (&facts["particles"], &facts["voxels"], &facts["too_many"]),
        (&json!(384), &json!(48), &json!(false))
    );
    assert!(
        facts["bytes"].as_u64().unwrap() > 0 && facts["seconds_a_frame"].as_f64().unwrap() > 0.0,
        "{facts}"
    );
    desk.set("/elements/5/kind/particles/liquid/spacing_m", json!(0.0002)).await;
    assert_eq!(desk.get("/api/shots/1/liquid_facts/9").await["too_many"], json!(true));
    let ask = async |element: u32| {
        desk.ask("GET", &format!("/api/shots/1/liquid_facts/{element}"), Value::Null).await
    };
    assert_eq!(ask(77).await.0, StatusCode::NOT_FOUND);
    let (status, problem) = ask(8).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_schedule_of_liquids_needs_a_liquid_and_a_source_that_can_be_filled() {
    let desk = block(0.05).await;
    let refused = async |path: &str, value: Value| {
        let base = desk.get("/api/shots/1").await["revision"].clone();
        let patch = json!([{"op": "add", "path": path, "value": value}]);
        let body = json!({"base": base, "label": "Change", "patch": patch});
        let (status, problem) = desk.ask("PATCH", "/api/shots/1", body).await;
        assert!(status.is_client_error(), "{status} {problem}");
        problem.to_string()
    };
    let told = refused("/elements/5/kind/particles/liquid", Value::Null).await;
    assert!(told.contains("needs a liquid"), "{told}");
    let told = refused("/elements/5/kind/particles/source", json!({"point": {}})).await;
    assert!(told.contains("the source is a point"), "{told}");
}

#[tokio::test(flavor = "multi_thread")]
async fn its_mesh_is_in_the_frames_of_the_page_and_in_what_is_handed_on() {
    let desk = block(0.05).await;
    desk.played().await;
    let operation = json!({"particle_mesh": {"radius": 0.8, "reach": 2.0, "edge": 0.5, "passes": 2}});
    desk.put(
        json!({"id": 10, "name": "Surface", "kind": {"finish": {"element": 9, "operation": operation}}}),
    )
    .await;
    let (status, frame) = desk.bytes("/api/runs/1/frames/3").await;
    assert_eq!(status, StatusCode::OK);
    let u32_at = |at: usize| u32::from_le_bytes(frame[at..at + 4].try_into().unwrap());
    assert_eq!(u32_at(0), 3);
    let (status, obj) = desk.bytes("/api/shots/1/meshes/obj?first=3&last=3&element=9").await;
    assert_eq!(status, StatusCode::OK, "{}", String::from_utf8_lossy(&obj));
    let text = String::from_utf8_lossy(&obj);
    let vertices = text.lines().filter(|line| line.starts_with("v ")).count();
    assert!(vertices > 500, "{vertices}");
}

#[tokio::test(flavor = "multi_thread")]
async fn three_sizes_are_compared_and_the_smallest_that_is_enough_is_named() {
    let desk = block(0.05).await;
    let (path, over) = ("/api/shots/1/enough", |state: &Value| state["at_work"] == json!(false));
    let state = desk.get(path).await;
    assert_eq!((&state["at_work"], &state["total"]), (&json!(false), &json!(0)));
    let (status, _) = desk.ask("POST", path, Value::Null).await;
    assert_eq!(status, StatusCode::ACCEPTED);
    let state = wait_for(&desk, path, over).await;
    assert_eq!(state["message"], Value::Null, "{state}");
    assert_eq!((&state["done"], &state["outdated"]), (&json!(12), &json!(false)));
    let sizes = state["result"]["sizes"].as_array().unwrap();
    let of = |i: usize, name: &str| sizes[i][name].as_f64().unwrap();
    // Cubes of 100, 71 and 50 mm.
    assert!(
        of(0, "particles") < of(1, "particles") && (of(2, "particles") - 384.0).abs() < 10.0,
        "{sizes:?}"
    );
    assert!(of(0, "pixels") > 0.0 && of(1, "delay_frames").abs() <= 1.0, "{sizes:?}");
    assert_eq!(sizes[2]["pixels"], Value::Null);
    desk.set("/timing/last", json!(5)).await;
    assert_eq!(desk.get(path).await["outdated"], json!(true));

    // One that is asked to stop, and one that cannot begin, end with a word.
    desk.set("/timing/last", json!(2_000)).await;
    desk.ask("POST", path, Value::Null).await;
    let (status, _) = desk.ask("DELETE", path, Value::Null).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let state = wait_for(&desk, path, over).await;
    assert!(state["message"].as_str().unwrap().contains("stopped"), "{state}");
    desk.set("/elements/5/kind/particles/liquid/spacing_m", json!(0.0002)).await;
    desk.ask("POST", path, Value::Null).await;
    let state = wait_for(&desk, path, over).await;
    assert!(state["message"].as_str().unwrap().contains("at a spacing of 0.4 mm"), "{state}");
    let (status, _) = desk.ask("POST", "/api/shots/9/enough", Value::Null).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}
