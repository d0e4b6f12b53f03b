//! Looks over looks, UVs, and copies packed into another solid, over HTTP.

use crate::desk::{Desk, deck, desk, solid};
use axum::http::StatusCode;
use rstest::rstest;
use serde_json::{Value, json};

/// A cloth that hangs by one side, coloured where it bends, in a shot of 6 frames.
async fn hanging() -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.set("/timing/last", json!(6)).await;
    let mut sheet = solid(9, "Sheet", json!({"plane": {"size_m": [2.0, 2.0]}}), [0.0, 3.0, 0.0], json!({}));
    sheet["kind"]["solid"]["cloth"] = json!({"edge_m": 0.2, "pins": [{"part": {"side": "left"}}]});
    sheet["kind"]["solid"]["look"] = json!({
        "albedo": [0.2, 0.4, 0.6],
        "layers": [{"by": {"quantity": {"quantity": "bend"}}, "from": 0.0, "to": 1e-3, "albedo": [0.9, 0.1, 0.0]}]
    });
    desk.put(sheet).await;
    desk.played().await;
    desk
}

fn floats(bytes: &[u8]) -> Vec<f32> {
    bytes.chunks_exact(4).map(|b| f32::from_le_bytes(b.try_into().unwrap())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_colours_of_layers_are_those_of_the_frame() {
    let desk = hanging().await;
    let run = desk.get("/api/shots/1/freshness").await["run"].as_i64().unwrap();
    let of = |number: u32| format!("/api/runs/{run}/albedo/9/{number}");
    let (status, bytes) = desk.bytes(&of(1)).await;
    assert_eq!(status, StatusCode::OK);
    // At rest it is flat: all has the colour of the look.
    let flat = floats(&bytes);
    assert_eq!(flat.len(), 3 * 11 * 11);
    assert!(flat.chunks(3).all(|rgb| rgb == [0.2, 0.4, 0.6]));
    let bent = floats(&desk.bytes(&of(6)).await.1);
    assert!(bent.chunks(3).any(|rgb| rgb[0] > 0.5), "it bends near its pins");
    for missing in [of(7), format!("/api/runs/{run}/albedo/77/1")] {
        assert_eq!(desk.bytes(&missing).await.0, StatusCode::NOT_FOUND);
    }
    for quantity in ["stretch", "compression", "bend", "speed", "contact", "pressure"] {
        let path = format!("/api/runs/{run}/surface/9/6?quantity={quantity}");
        let (status, bytes) = desk.bytes(&path).await;
        assert_eq!((status, bytes.len()), (StatusCode::OK, 4 * 11 * 11), "{quantity}");
    }
}

#[rstest]
#[case("own", 1)]
#[case("unwrapped", 1)]
#[case("box", 1)]
#[tokio::test(flavor = "multi_thread")]
async fn uvs_are_measured(#[case] layout: &str, #[case] pieces: u64) {
    let desk = desk().await;
    desk.new_shot().await;
    let mut sheet = solid(9, "Sheet", json!({"plane": {"size_m": [2.0, 2.0]}}), [0.0, 3.0, 0.0], json!({}));
    sheet["kind"]["solid"]["uvs"] = json!(layout);
    desk.put(sheet).await;
    let found = desk.get("/api/shots/1/uvs/9").await;
    assert_eq!(found["pieces"], json!(pieces), "{found}");
    assert!(found["most"].as_f64().unwrap() < 1e-3, "{found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn copies_are_packed_and_what_does_not_fit_is_refused() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(solid(9, "Floats", json!({"sphere": {"radius_m": 0.1}}), [0.0, 3.0, 0.0], json!({}))).await;
    desk.put(solid(10, "Bag", json!({"sphere": {"radius_m": 0.5}}), [1.0, 3.0, 0.0], json!({}))).await;
    let ask =
        |count: u32, into: u32| json!({"element": 9, "into": into, "count": count, "size_variation": 0.2});
    let (status, found) = desk.ask("POST", "/api/shots/1/pack", ask(20, 10)).await;
    assert_eq!(status, StatusCode::OK, "{found}");
    let placed = found["placed"].as_array().unwrap().clone();
    assert_eq!(placed.len(), 20);
    let index = desk.get("/api/shots/1").await["document"]["elements"].as_array().unwrap().len() - 2;
    let shot = desk.set(&format!("/elements/{index}/kind/solid/placed"), Value::Array(placed)).await;
    assert_eq!(shot["document"]["elements"][index]["name"], "Floats");
    for (count, into, detail) in [
        (500, 10, "500 of Floats in Bag: they would fill"),
        (20, 8, "no inside"),
        (0, 10, "outside 1 to"),
        (3, 77, "77 is no solid"),
    ] {
        let (status, problem) = desk.ask("POST", "/api/shots/1/pack", ask(count, into)).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
        assert!(problem["detail"].as_str().unwrap().contains(detail), "{problem}");
    }
}
