//! What changes with time and what forces do, as the Desk asks for it.

use crate::desk::{Desk, ball, desk};
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};

/// A shot with a ball whose friction rises from 0 to 1 over ten frames.
async fn keyed() -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let keys = json!([{"frame": 1, "value": 0}, {"frame": 11, "value": 1}]);
    desk.set("/elements/4/channels", json!({"kind.solid.body.friction": {"keys": keys}})).await;
    desk
}

async fn wind(desk: &Desk, id: u32, push: Value) {
    let wind = json!({"speed_m_s": 10, "gust": 0, "eddy": 0, "push": push});
    let force = json!({"force": {"kind": {"wind": wind}}});
    desk.put(json!({"id": id, "name": "Wind", "kind": force})).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn only_what_changes_is_told_as_it_is_at_a_frame() {
    let desk = keyed().await;
    let moment = desk.get("/api/shots/1/at/6").await;
    assert_eq!(moment["elements"].as_array().unwrap().len(), 1);
    assert_eq!(moment["elements"][0]["kind"]["solid"]["body"]["friction"], json!(0.5));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_curve_is_sampled_as_saved_or_as_tried() {
    let desk = keyed().await;
    let ask = |channel: Value| {
        let body = json!({"element": 9, "path": "kind.solid.body.friction", "from": 1, "to": 11, "count": 3, "channel": channel});
        desk.ask("POST", "/api/shots/1/sample", body)
    };
    let (_, samples) = ask(Value::Null).await;
    assert_eq!(samples, json!({"frames": [1.0, 6.0, 11.0], "parts": [[0.0, 0.5, 1.0]]}));
    let (_, tried) = ask(json!({"keys": [{"frame": 1, "value": 0.25}]})).await;
    assert_eq!(tried["parts"], json!([[0.25, 0.25, 0.25]]));
    let document = desk.get("/api/shots/1").await["document"].clone();
    assert_eq!(
        document["elements"][4]["channels"]["kind.solid.body.friction"]["keys"].as_array().unwrap().len(),
        2
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_curve_has_a_gap_where_its_formula_has_no_value() {
    let desk = keyed().await;
    let body = json!({"element": 9, "path": "kind.solid.body.friction", "from": 1, "to": 3, "count": 3,
                      "channel": {"expression": "1 / (frame - 2)"}});
    let (_, samples) = desk.ask("POST", "/api/shots/1/sample", body).await;
    assert_eq!(samples["frames"], json!([1.0, 3.0]));
}

#[rstest]
#[case("frame / 24", json!({"value": 0.25, "fault": null, "position": null}))]
#[case("1 / 0", json!({"value": null, "fault": "the formula for friction of Ball has no finite value at frame 6", "position": null}))]
#[case("frame +", json!({"value": null, "fault": "at character 8: a value is missing at the end", "position": 7}))]
#[case("{Ball.position.y} / 8", json!({"value": 0.25, "fault": null, "position": null}))]
#[case("{Bell.position.y}", json!({"value": null, "fault": "at character 1: {Bell.position.y} names no element; write {Element.value}", "position": 0}))]
#[tokio::test(flavor = "multi_thread")]
async fn a_formula_is_judged_while_it_is_typed(#[case] expression: &str, #[case] answer: Value) {
    let desk = keyed().await;
    let body =
        json!({"element": 9, "path": "kind.solid.body.friction", "expression": expression, "frame": 6});
    let (status, told) = desk.ask("POST", "/api/shots/1/formula", body).await;
    assert_eq!((status, told), (StatusCode::OK, answer));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_probe_shows_a_value_that_is_only_tried() {
    let desk = keyed().await;
    wind(&desk, 12, json!("acceleration")).await;
    let drift = async |tried: Value| {
        let body = json!({"frame": 1, "points": [0, 0, 0], "tried": tried});
        let request = Request::builder().method("POST").uri("/api/shots/1/probe").header("host", "localhost");
        let request = request.header("content-type", "application/json");
        let (status, bytes) = desk.send(request.body(Body::from(body.to_string())).unwrap()).await;
        (status, bytes.get(4..8).map(|b| f32::from_le_bytes(b.try_into().unwrap())))
    };
    let speed =
        |value: Value| json!({"element": 12, "path": "kind.force.kind.wind.speed_m_s", "value": value});
    assert_eq!(drift(Value::Null).await, (StatusCode::OK, Some(-10.0)));
    assert_eq!(drift(speed(json!(4))).await, (StatusCode::OK, Some(-4.0)));
    assert_eq!(drift(speed(json!("fast"))).await.0, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(drift(Value::Null).await, (StatusCode::OK, Some(-10.0)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_keyed_shape_has_its_mesh_at_each_frame() {
    let desk = keyed().await;
    let keys = json!([{"frame": 1, "value": 0.2}, {"frame": 11, "value": 1.2}]);
    desk.set("/elements/4/channels/kind.solid.shape.sphere.radius_m", json!({"keys": keys})).await;
    let highest = async |frame: &str| {
        let (_, bytes) = desk.bytes(&format!("/api/shots/1/mesh/9{frame}")).await;
        let vertices = u32::from_le_bytes(bytes[..4].try_into().unwrap()) as usize;
        let number = |i: usize| f32::from_le_bytes(bytes[8 + 4 * i..12 + 4 * i].try_into().unwrap());
        (0..vertices).map(|v| number(3 * v + 1)).fold(0f32, f32::max)
    };
    assert!((highest("?frame=6").await - 0.7).abs() < 1e-4);
    assert!((highest("").await - 0.2).abs() < 1e-4);
}

#[rstest]
#[case("/api/outlines/text", r#"{"text": "Quay", "line_m": 0.5}"#, StatusCode::OK)]
#[case("/api/outlines/text", r#"{"text": "", "line_m": 0.5}"#, StatusCode::UNPROCESSABLE_ENTITY)]
#[case(
    "/api/outlines/drawing?name=a.svg",
    r#"<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0L9 9"/></svg>"#,
    StatusCode::OK
)]
#[case("/api/outlines/drawing?name=a.svg", "o", StatusCode::UNPROCESSABLE_ENTITY)]
#[tokio::test(flavor = "multi_thread")]
async fn letters_and_drawings_become_strokes(
    #[case] path: &str,
    #[case] body: &'static str,
    #[case] wanted: StatusCode,
) {
    let desk = keyed().await;
    let request = Request::builder().method("POST").uri(path).header("host", "localhost");
    let request = request.header("content-type", "application/json").body(Body::from(body)).unwrap();
    let (status, bytes) = desk.send(request).await;
    assert_eq!(status, wanted);
    let answer: Value = serde_json::from_slice(&bytes).unwrap();
    assert_eq!(answer[0][0].as_array().map(Vec::len), (wanted == StatusCode::OK).then_some(3));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_formula_is_not_saved() {
    let desk = keyed().await;
    let base = desk.get("/api/shots/1").await["revision"].clone();
    let patch = json!([{"op": "add", "path": "/elements/4/channels/kind.solid.body.friction", "value": {"expression": "sin("}}]);
    let (status, problem) =
        desk.ask("PATCH", "/api/shots/1", json!({"base": base, "label": "x", "patch": patch})).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(
        problem["faults"][0]["path"],
        json!("elements[4].channels.kind.solid.body.friction.expression")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_probe_tells_drift_acceleration_and_weight() {
    let desk = keyed().await;
    wind(&desk, 20, json!("acceleration")).await;
    let region = json!({"region": {"volume": {"sphere": {"radius_m": 1}}}});
    desk.put(json!({"id": 21, "name": "Ball region", "kind": region})).await;
    let body = json!({"frame": 3, "points": [0, 0, 0, 3, 0, 0], "region": 21});
    let request = Request::builder().method("POST").uri("/api/shots/1/probe").header("host", "localhost");
    let request =
        request.header("content-type", "application/json").body(Body::from(body.to_string())).unwrap();
    let (status, bytes) = desk.send(request).await;
    assert_eq!((status, bytes.len()), (StatusCode::OK, 2 * 7 * 4));
    let float = |i: usize| f32::from_le_bytes(bytes[4 * i..4 * i + 4].try_into().unwrap());
    // Along −y, gravity left out.
    assert_eq!((float(1), float(6), float(13)), (-10.0, 1.0, 0.0));
    assert!((float(4) + 10.0).abs() < 0.01);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_probe_is_bounded() {
    let desk = keyed().await;
    let points = vec![0.0; 3 * 20_001];
    let (status, problem) =
        desk.ask("POST", "/api/shots/1/probe", json!({"frame": 1, "points": points})).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains("at most 20000 points"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_acts_on_a_body_is_listed_in_newtons() {
    let desk = keyed().await;
    desk.set("/elements/4/kind/solid/body", json!({"weight": {"mass_kg": 2}})).await;
    wind(&desk, 20, json!({"air": {"density_kg_m3": 1.2}})).await;
    let forces = desk.get("/api/shots/1/acting/9?frame=1&copy=0").await;
    // An element that another change deletes meanwhile is no error.
    assert_eq!(desk.get("/api/shots/1/acting/77?frame=1&copy=0").await, json!([]));
    assert_eq!((forces[0]["name"].clone(), forces[1]["name"].clone()), (json!("Gravity"), json!("Wind")));
    let y = |i: usize| forces[i]["newtons"][1].as_f64().unwrap();
    assert!((y(0) + 19.62).abs() < 0.01);
    // ½ ρ C A v² with C = 0.47, A = π 0.2².
    let expected = 0.5 * 1.2 * 0.47 * std::f64::consts::PI * 0.04 * 100.0;
    assert!((y(1) / -expected - 1.0).abs() < 0.02, "{} {expected}", y(1));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_curve_is_drawn_by_its_strokes() {
    let desk = keyed().await;
    let points = json!({"curve": {"points": {"points_m": [[0, 0, 0], [1, 0, 0]], "closed": true}}});
    desk.put(json!({"id": 30, "name": "Line", "kind": points})).await;
    let strokes = desk.get("/api/shots/1/strokes/30").await;
    assert_eq!(strokes, json!([[[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 0.0]]]));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_attached_to_a_falling_ball_goes_with_it() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    desk.set("/elements/2/attached", json!({"to": 9})).await;
    desk.set("/elements/2/placement", json!({"position_m": [0, 1, 0]})).await;
    desk.played().await;
    let height = |bytes: &[u8]| {
        // Five elements of one body each; the sun is the third.
        let at = 16 + 5 * 8 + 2 * 20 + 4;
        f32::from_le_bytes(bytes[at..at + 4].try_into().unwrap())
    };
    let (_, first) = desk.bytes("/api/shots/1/staged/1").await;
    let (_, last) = desk.bytes("/api/shots/1/staged/12").await;
    assert_eq!(height(&first), 3.0);
    // Eleven frames of fall at 24 a second.
    let fallen = 0.5 * 9.81 * (11.0f32 / 24.0).powi(2);
    assert!((3.0 - height(&last) - fallen).abs() < 0.02, "{}", height(&last));
}
