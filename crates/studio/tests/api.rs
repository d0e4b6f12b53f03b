//! The HTTP interface, in process: what is saved, what is refused, and by which words.

use axum::Router;
use axum::body::Body;
use axum::http::{Request, StatusCode};
use http_body_util::BodyExt;
use rstest::rstest;
use serde_json::{Value, json};
use std::sync::Arc;
use studio::studio::Studio;
use tempfile::TempDir;
use tower::ServiceExt;

struct Desk {
    app: Router,
    dir: TempDir,
    _studio: Arc<Studio>,
}

async fn desk() -> Desk {
    let dir = tempfile::tempdir().unwrap();
    let studio = Studio::open(dir.path()).await.unwrap();
    Desk { app: studio::api::app(studio.clone()), dir, _studio: studio }
}

impl Desk {
    async fn send(&self, request: Request<Body>) -> (StatusCode, Vec<u8>) {
        let response = self.app.clone().oneshot(request).await.unwrap();
        let status = response.status();
        (status, response.into_body().collect().await.unwrap().to_bytes().to_vec())
    }

    async fn ask(&self, method: &str, path: &str, body: Value) -> (StatusCode, Value) {
        let body = if body.is_null() { Body::empty() } else { Body::from(body.to_string()) };
        let request = Request::builder().method(method).uri(path).header("host", "127.0.0.1:7700");
        let (status, bytes) =
            self.send(request.header("content-type", "application/json").body(body).unwrap()).await;
        (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    async fn upload(&self, path: &str, bytes: &[u8]) -> (StatusCode, Value) {
        let request = Request::builder().method("POST").uri(path).header("host", "localhost");
        let (status, bytes) = self.send(request.body(Body::from(bytes.to_vec())).unwrap()).await;
        (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    async fn new_shot(&self) -> Value {
        let new = json!({"name": "Test", "width": 64, "height": 36, "fps": 24, "first": 1, "last": 12});
        self.ask("POST", "/api/shots", new).await.1
    }

    async fn add(&self, base: i64, element: Value) -> (StatusCode, Value) {
        let patch = json!([{"op": "add", "path": "/elements/-", "value": element}]);
        self.ask("PATCH", "/api/shots/1", json!({"base": base, "label": "Added", "patch": patch})).await
    }
}

fn ball(id: u32, name: &str) -> Value {
    json!({"id": id, "name": name, "is": {"solid": {"shape": {"sphere": {"radius_m": 0.2}}}},
           "placement": {"place_m": [0, 2, 0]}})
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_a_revision_that_undo_takes_back_and_redo_brings_back() {
    let desk = desk().await;
    let shot = desk.new_shot().await;
    let (status, changed) = desk.add(1, ball(9, "Ball")).await;
    assert_eq!(
        (status, &changed["revision"], &changed["undo"]),
        (StatusCode::OK, &json!(2), &json!("Added"))
    );
    let (_, undone) = desk.ask("POST", "/api/shots/1/undo", Value::Null).await;
    assert_eq!(undone["document"], shot["document"]);
    let (_, redone) = desk.ask("POST", "/api/shots/1/redo", Value::Null).await;
    assert_eq!(redone["document"], changed["document"]);
    let (status, problem) = desk.ask("POST", "/api/shots/1/redo", Value::Null).await;
    assert_eq!((status.as_u16(), &problem["detail"]), (422, &json!("there is nothing to redo")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_on_an_old_revision_is_told_so_and_not_saved() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.add(1, ball(9, "One")).await;
    let (status, problem) = desk.add(1, ball(10, "Two")).await;
    assert_eq!(status, StatusCode::CONFLICT);
    assert_eq!(problem["head"], json!(2));
    let (_, shot) = desk.ask("GET", "/api/shots/1", Value::Null).await;
    assert!(!shot.to_string().contains("Two"));
}

#[rstest]
#[case(json!({"id": 9, "name": "Ball", "is": {"solid": {"shape": {"sphere": {"radius_m": -1}}}}}), "elements[4].is.solid.shape.sphere.radius_m: -1 is outside")]
#[case(json!({"id": 1, "name": "Ball", "is": {"solid": {"shape": {"sphere": {"radius_m": 1}}}}}), "elements[4].id: 1 is also the id of elements[0]")]
#[case(json!({"id": 9, "name": "Ball", "is": {"balloon": {}}}), "elements[4].is: unknown variant `balloon`")]
#[case(json!({"id": 9, "name": "Ball", "is": {"solid": {"shape": {"mesh": {"asset": "../x", "scale": 1}}}}}), "is not among the assets")]
#[tokio::test(flavor = "multi_thread")]
async fn a_faulty_change_names_the_field_and_leaves_the_shot(#[case] element: Value, #[case] message: &str) {
    let desk = desk().await;
    desk.new_shot().await;
    let (status, problem) = desk.add(1, element).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains(message), "{problem}");
    assert!(!problem["faults"].as_array().unwrap().is_empty());
    assert_eq!(desk.ask("GET", "/api/shots/1", Value::Null).await.1["revision"], json!(1));
}

#[rstest]
#[case("host", "evil.example", "the host \"evil.example\" is not this server")]
#[case("origin", "http://evil.example", "a page of http://evil.example may not ask")]
#[case("origin", "null", "a page of null may not ask")]
#[tokio::test(flavor = "multi_thread")]
async fn another_host_or_origin_is_refused(#[case] header: &str, #[case] value: &str, #[case] message: &str) {
    let desk = desk().await;
    let mut request = Request::builder().uri("/api/shots").body(Body::empty()).unwrap();
    request.headers_mut().insert("host", "127.0.0.1:7700".parse().unwrap());
    request
        .headers_mut()
        .insert(axum::http::HeaderName::from_bytes(header.as_bytes()).unwrap(), value.parse().unwrap());
    let (status, body) = desk.send(request).await;
    assert_eq!(status, StatusCode::FORBIDDEN);
    assert!(String::from_utf8_lossy(&body).contains(&message.replace('"', "\\\"")), "{body:?}");
}

#[rstest]
#[case("/api/shots/1/assets/..%2F..%2Fstudio.db")]
#[case("/api/films/1/frames/..%2F1/picture.png")]
#[case("/..%2f..%2fetc%2fpasswd")]
#[tokio::test(flavor = "multi_thread")]
async fn a_path_that_climbs_out_reaches_nothing(#[case] path: &str) {
    let desk = desk().await;
    desk.new_shot().await;
    let request = Request::builder().uri(path).header("host", "localhost").body(Body::empty()).unwrap();
    let (status, body) = desk.send(request).await;
    let page = String::from_utf8_lossy(&body).contains("<!doctype html>");
    assert!(status.is_client_error() || page, "{status}");
    assert!(!body.starts_with(b"SQLite") && !body.starts_with(b"root:"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shot_goes_out_as_a_zip_and_comes_in_again() {
    let desk = desk().await;
    desk.new_shot().await;
    let obj = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 1 4 3\nf 2 3 4\n";
    let (status, uploaded) = desk.upload("/api/shots/1/assets?name=Wedge.obj", obj).await;
    assert_eq!((status, &uploaded["name"]), (StatusCode::OK, &json!("Wedge")));
    let patch = json!([
        {"op": "add", "path": "/assets/Wedge", "value": uploaded["asset"]},
        {"op": "add", "path": "/elements/-", "value": {"id": 9, "name": "Wedge", "is": {"solid": {"shape": {"mesh": {"asset": "Wedge", "scale": 1}}}}}},
    ]);
    let (status, shot) =
        desk.ask("PATCH", "/api/shots/1", json!({"base": 1, "label": "Wedge", "patch": patch})).await;
    assert_eq!(status, StatusCode::OK, "{shot}");
    let out = Request::builder().uri("/api/shots/1/export.zip").header("host", "localhost");
    let (_, zip) = desk.send(out.body(Body::empty()).unwrap()).await;
    let (status, back) = desk.upload("/api/import?name=shot.zip", &zip).await;
    assert_eq!(status, StatusCode::OK, "{back}");
    assert_eq!(back["document"], shot["document"]);
    let (_, physics) = desk.ask("GET", "/api/shots/2/physics/9", Value::Null).await;
    assert!((physics["volume_m3"].as_f64().unwrap() - 1.0 / 6.0).abs() < 1e-4);
}

#[rstest]
#[case("bad.zip", b"PK\x03\x04 nonsense" as &[u8], "bad.zip:")]
#[case("shot.json", b"{\"version\": 1}", "missing field")]
#[case("shot.json", b"not json", "is not JSON")]
#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_no_shot_is_refused(#[case] name: &str, #[case] bytes: &[u8], #[case] message: &str) {
    let desk = desk().await;
    let (status, problem) = desk.upload(&format!("/api/import?name={name}"), bytes).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains(message), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_over_the_limit_is_refused() {
    let desk = desk().await;
    desk.new_shot().await;
    let (status, _) = desk.upload("/api/shots/1/assets?name=big.obj", &vec![b' '; 300 << 20]).await;
    assert_eq!(status, StatusCode::PAYLOAD_TOO_LARGE);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_data_folder_in_use_is_not_opened_twice() {
    let desk = desk().await;
    let error = Studio::open(desk.dir.path()).await.err().unwrap().to_string();
    assert!(error.contains("is in use by another"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_answered_as_saved_is_there_after_reopening() {
    let Desk { app, dir, _studio } = desk().await;
    let desk = Desk { app, dir, _studio };
    desk.new_shot().await;
    desk.add(1, ball(9, "Ball")).await;
    let Desk { app, dir, _studio } = desk;
    drop((app, _studio));
    let studio = Studio::open(dir.path()).await.unwrap();
    let (shot, revision) = studio.head(1).await.unwrap();
    assert_eq!((revision, shot.named("Ball").is_some()), (2, true));
}

#[rstest]
#[case(json!({"first": 9, "last": 3, "width": 64, "height": 36, "samples": 1}), "first: 9 comes after the last frame, 3")]
#[case(json!({"first": 1, "last": 99, "width": 64, "height": 36, "samples": 1}), "frames: 1–99 lie outside the shot's 1–12")]
#[case(json!({"first": 1, "last": 2, "width": 4, "height": 36, "samples": 1}), "size: 4 × 36 is outside 16 to 8192")]
#[case(json!({"first": 1, "last": 2, "width": 64, "height": 36, "samples": 0}), "samples: 0 is outside 1 to 65536")]
#[tokio::test(flavor = "multi_thread")]
async fn a_film_that_cannot_be_is_refused(#[case] settings: Value, #[case] message: &str) {
    let desk = desk().await;
    desk.new_shot().await;
    let (status, problem) =
        desk.ask("POST", "/api/shots/1/films", json!({"name": "F", "settings": settings})).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains(message), "{problem}");
}

async fn wait_for(desk: &Desk, path: &str, done: impl Fn(&Value) -> bool) -> Value {
    for _ in 0..600 {
        let (_, value) = desk.ask("GET", path, Value::Null).await;
        if done(&value) {
            return value;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("{path} did not come to that within 30 s");
}

#[tokio::test(flavor = "multi_thread")]
async fn playing_fills_the_run_and_a_change_makes_it_stale_in_words() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.add(1, ball(9, "Ball")).await;
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    let all_fresh = |v: &Value| v["playing"] == json!(false) && v["stretches"][0]["state"] == json!("fresh");
    let fresh = wait_for(&desk, "/api/shots/1/freshness", all_fresh).await;
    assert_eq!(fresh["stretches"].as_array().unwrap().len(), 1);
    let patch = json!([{"op": "add", "path": "/elements/4/is/solid/body/friction", "value": 0.9}]);
    desk.ask("PATCH", "/api/shots/1", json!({"base": 2, "label": "Friction", "patch": patch})).await;
    let (_, stale) = desk.ask("GET", "/api/shots/1/freshness", Value::Null).await;
    assert_eq!(stale["stretches"][0]["reason"], json!("before friction of Ball changed"));
    let (_, measured) = desk.ask("GET", "/api/runs/1/measured", Value::Null).await;
    assert_eq!(measured["frames"].as_array().unwrap().len(), 12);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_stopped_goes_on_from_the_frames_that_are_there() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.add(1, ball(9, "Ball")).await;
    let settings = json!({"first": 1, "last": 12, "width": 64, "height": 36, "samples": 16, "exr": true});
    desk.ask("POST", "/api/shots/1/films", json!({"name": "Film", "settings": settings})).await;
    wait_for(&desk, "/api/shots/1/films", |v| v[0]["done"].as_u64() >= Some(2)).await;
    desk.ask("POST", "/api/films/1/stop", Value::Null).await;
    let first = desk.dir.path().join("films/1/frame-00001.png");
    let before = std::fs::metadata(&first).unwrap().modified().unwrap();
    desk.ask("POST", "/api/films/1/resume", Value::Null).await;
    let film = wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    assert_eq!((&film[0]["done"], &film[0]["total"]), (&json!(12), &json!(12)));
    assert_eq!(std::fs::metadata(&first).unwrap().modified().unwrap(), before);
    let get = Request::builder().uri("/api/films/1/film.mp4").header("host", "localhost");
    let (status, bytes) = desk.send(get.header("range", "bytes=4-7").body(Body::empty()).unwrap()).await;
    assert_eq!((status, bytes.as_slice()), (StatusCode::PARTIAL_CONTENT, b"ftyp" as &[u8]));
}
