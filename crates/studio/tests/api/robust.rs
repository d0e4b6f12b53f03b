//! What force, haste and damage must not do.

use crate::desk::{Desk, ball, deck, desk, wait_for};
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};
use std::io::{Cursor, Write};
use tower::ServiceExt;

async fn played() -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(ball(9, "Ball")).await;
    desk.played().await;
    desk
}

#[tokio::test(flavor = "multi_thread")]
async fn as_many_undos_as_are_acknowledged_are_made() {
    let desk = desk().await;
    desk.new_shot().await;
    for last in 20..40 {
        desk.set("/timing/last", json!(last)).await;
    }
    let all = (0..16).map(|_| desk.ask("POST", "/api/shots/1/undo", Value::Null));
    let answers = futures_util::future::join_all(all).await;
    let made = answers.iter().filter(|(status, _)| *status == StatusCode::OK).count() as i64;
    assert_eq!(desk.get("/api/shots/1").await["revision"], json!(21 - made));
    assert_eq!(made, 16);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_undo_meant_from_an_older_state_is_refused() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.set("/timing/last", json!(20)).await;
    desk.set("/timing/last", json!(21)).await;
    let (status, problem) = desk.ask("POST", "/api/shots/1/undo?base=2", Value::Null).await;
    assert_eq!((status, &problem["head"]), (StatusCode::CONFLICT, &json!(3)));
    let (status, shot) = desk.ask("POST", "/api/shots/1/undo?base=3", Value::Null).await;
    assert_eq!((status, &shot["document"]["timing"]["last"]), (StatusCode::OK, &json!(20)));
    let (status, _) = desk.ask("POST", "/api/shots/1/redo?base=3", Value::Null).await;
    assert_eq!(status, StatusCode::CONFLICT);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_undo_beside_a_save_takes_back_what_it_was_meant_for() {
    for _ in 0..10 {
        let desk = desk().await;
        desk.new_shot().await;
        desk.set("/timing/last", json!(20)).await;
        let patch = json!([{"op": "replace", "path": "/timing/last", "value": 30}]);
        let (undone, saved) = tokio::join!(
            desk.ask("POST", "/api/shots/1/undo?base=2", Value::Null),
            desk.ask("PATCH", "/api/shots/1", json!({"base": 2, "label": "Last", "patch": patch})),
        );
        let done = [undone.0, saved.0].iter().filter(|status| **status == StatusCode::OK).count();
        assert_eq!(done, 1, "one of the two came first: {undone:?} {saved:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_kept_and_dropped_at_once_keep_all_their_frames() {
    let desk = played().await;
    desk.ask("POST", "/api/shots/1/runs", json!({"name": "Untouched"})).await;
    let mut given = std::collections::BTreeSet::new();
    for _ in 0..6 {
        let keeping = (0..4).map(|_| desk.ask("POST", "/api/shots/1/runs", json!({"name": null})));
        let kept = futures_util::future::join_all(keeping).await;
        assert!(kept.iter().all(|(status, _)| *status == StatusCode::NO_CONTENT));
        let runs = desk.get("/api/shots/1/runs").await;
        let ids: Vec<i64> = runs.as_array().unwrap().iter().map(|run| run["id"].as_i64().unwrap()).collect();
        for run in runs.as_array().unwrap() {
            assert_eq!(run["frames"], json!(12));
            let (status, bytes) = desk.bytes(&format!("/api/runs/{}/frames/12", run["id"])).await;
            assert!(status == StatusCode::OK && bytes.len() > 40);
        }
        given.extend(ids.iter().copied());
        let last = *ids.iter().min().unwrap();
        let paths: Vec<String> =
            ids.iter().filter(|id| **id != last).map(|id| format!("/api/runs/{id}")).collect();
        let dropping = paths.iter().map(|path| desk.ask("DELETE", path, Value::Null));
        futures_util::future::join_all(dropping).await;
    }
    // None of the numbers was given twice.
    assert_eq!(given.len(), 1 + 6 * 4);
    let left = desk.get("/api/shots/1/runs").await;
    assert_eq!((left.as_array().unwrap().len(), &left[0]["frames"]), (1, &json!(12)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_client_that_leaves_does_not_leave_a_job_behind() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    for i in 0..12 {
        let settings = json!({"first": 1, "last": 1, "width": 16, "height": 16, "samples": 1});
        let (path, body) = if i % 2 == 0 {
            ("/api/shots/1/play", String::new())
        } else {
            ("/api/shots/1/films", json!({"name": "Left", "settings": settings}).to_string())
        };
        let request = Request::builder().method("POST").uri(path).header("host", "localhost");
        let request = request.header("content-type", "application/json").body(Body::from(body)).unwrap();
        // The client waits for some microseconds only.
        let answer = desk.app.clone().oneshot(request);
        let _ = tokio::time::timeout(std::time::Duration::from_micros(100 * i), answer).await;
    }
    wait_for(&desk, "/api/shots/1/freshness", |v| v["playing"] == json!(false)).await;
    let over = |v: &Value| v.as_array().unwrap().iter().all(|film| film["state"] == json!("done"));
    wait_for(&desk, "/api/shots/1/films", over).await;
    desk.played().await;
}

#[rstest]
#[case("POST", "/api/shots/77/play")]
#[case("POST", "/api/shots/77/clear")]
#[case("POST", "/api/shots/77/runs")]
#[case("GET", "/api/shots/77/freshness")]
#[case("POST", "/api/shots/77/undo")]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_asked_of_a_shot_that_is_not_there_is_not_found(#[case] method: &str, #[case] path: &str) {
    let desk = desk().await;
    let body = if path.ends_with("runs") { json!({"name": null}) } else { Value::Null };
    let (status, problem) = desk.ask(method, path, body).await;
    assert_eq!(
        (status, &problem["type"]),
        (StatusCode::NOT_FOUND, &json!("/problems/not-found")),
        "{problem}"
    );
}

#[rstest]
#[case("/api/shots/one")]
#[case("/api/runs/1/frames/99999999999")]
#[case("/api/runs/1/track?element=x")]
#[tokio::test(flavor = "multi_thread")]
async fn a_path_that_is_wrong_is_a_problem_document(#[case] path: &str) {
    let desk = desk().await;
    let (status, problem) = desk.ask("GET", path, Value::Null).await;
    assert_eq!((status, &problem["type"]), (StatusCode::UNPROCESSABLE_ENTITY, &json!("/problems/bad-input")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_frame_counts_as_missing_and_is_computed_again() {
    let desk = played().await;
    let run = desk.get("/api/shots/1/freshness").await["run"].clone();
    let file = |number: u32| desk.dir.path().join(format!("runs/{run}/frames/solids/{number:05}.brframe"));
    let whole = std::fs::read(file(6)).unwrap();
    // Shortened: seen at once. Changed: seen when it is read.
    std::fs::write(file(5), &whole[..whole.len() / 2]).unwrap();
    let mut changed = whole.clone();
    changed[70] ^= 1;
    std::fs::write(file(6), changed).unwrap();
    assert_eq!(desk.get("/api/shots/1/freshness").await["stretches"][1]["state"], json!("missing"));
    let (status, problem) = desk.ask("GET", &format!("/api/runs/{run}/frames/6"), Value::Null).await;
    assert_eq!(status, StatusCode::NOT_FOUND, "{problem}");
    desk.played().await;
    assert_eq!(std::fs::read(file(6)).unwrap(), whole);
}

fn zipped(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in files {
        zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(bytes).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

async fn import(desk: &Desk, name: &str, body: Vec<u8>) -> (StatusCode, Value) {
    let request = Request::builder().method("POST").uri(format!("/api/import?name={name}"));
    let (status, bytes) =
        desk.send(request.header("host", "localhost").body(Body::from(body)).unwrap()).await;
    (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_zip_is_bad_input() {
    let desk = desk().await;
    let shot = shot::write(&shot::Shot::empty("Zipped"));
    let whole = zipped(&[("shot.json", shot.as_bytes())]);
    for at in [40, whole.len() / 2, whole.len() - 30] {
        let mut damaged = whole.clone();
        damaged[at] ^= 0x55;
        let (status, problem) = import(&desk, "shot.zip", damaged).await;
        assert!(
            status == StatusCode::UNPROCESSABLE_ENTITY || status == StatusCode::OK,
            "{at} {status} {problem}"
        );
    }
    let (status, problem) = import(&desk, "shot.zip", whole[..whole.len() / 2].to_vec()).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
    // A small zip of a large document.
    let bomb = zipped(&[("shot.json", &vec![b' '; 40 << 20])]);
    assert!(bomb.len() < 100_000);
    let (status, problem) = import(&desk, "shot.zip", bomb).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains("larger than 16 MB"), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_asset_is_only_what_lies_among_the_assets_under_its_sum() {
    let desk = desk().await;
    let store = std::fs::read(desk.dir.path().join("studio.db")).unwrap();
    let sum = studio::assets::sha256(&store);
    let mut shot = shot::Shot::empty("Thief");
    for file in ["studio.db", "assets/../studio.db", "lock", &format!("assets/{sum}.db")] {
        let asset = shot::Asset { kind: shot::AssetKind::Image, file: file.to_owned(), sha256: sum.clone() };
        shot.assets.insert("loot".to_owned(), asset);
        let text = serde_json::to_vec(&shot).unwrap();
        let (status, problem) = import(&desk, "shot.json", text).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{file}: {problem}");
    }
    desk.new_shot().await;
    let asset = json!({"kind": "image", "file": "studio.db", "sha256": sum});
    let patch = json!([{"op": "add", "path": "/assets/loot", "value": asset}]);
    let (status, problem) =
        desk.ask("PATCH", "/api/shots/1", json!({"base": 1, "label": "Loot", "patch": patch})).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
    assert_eq!(desk.bytes("/api/shots/1/assets/loot").await.0, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_element_never_gets_the_id_of_one_that_was_deleted() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(40, "Ball")).await;
    assert_eq!(desk.get("/api/shots/1").await["next_element"], json!(41));
    desk.ask("POST", "/api/shots/1/undo", Value::Null).await;
    assert_eq!(desk.get("/api/shots/1").await["next_element"], json!(41));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_half_built_or_half_dropped_goes_at_the_next_start() {
    let Desk { app, dir, studio } = played().await;
    drop((app, studio));
    for name in ["runs/77/frames", "runs/.9.1-1.new/frames", "films/5"] {
        std::fs::create_dir_all(dir.path().join(name)).unwrap();
    }
    let studio = studio::studio::Studio::open(dir.path()).await.unwrap();
    assert!(!dir.path().join("runs/77").exists() && !dir.path().join("runs/.9.1-1.new").exists());
    let desk = Desk { app: studio::api::app(studio.clone()), dir, studio };
    assert_eq!(desk.get("/api/shots/1/freshness").await["stretches"][0]["state"], json!("fresh"));
}

#[tokio::test(flavor = "multi_thread")]
async fn many_formulas_hold_up_nobody() {
    let desk = desk().await;
    desk.new_shot().await;
    for i in 0..120u32 {
        let mut of = ball(i + 20, &format!("Ball {i}"));
        of["kind"]["solid"]["body"] = json!({"moves": "animated"});
        let formula =
            |n: usize| json!({"expression": format!("sin({n} * time) + noise(time * {n}) + sqrt({n})")});
        of["channels"] = json!({"placement.position_m[0]": formula(1), "placement.position_m[1]": formula(2), "placement.position_m[2]": formula(3)});
        desk.put(of).await;
    }
    let of =
        json!({"element": 30, "path": "placement.position_m[0]", "from": 1.0, "to": 96.0, "count": 4000});
    let asking = async {
        let all = (0..3).map(|_| desk.ask("POST", "/api/shots/1/sample", of.clone()));
        futures_util::future::join_all(all).await
    };
    let others = async {
        let mut slowest = std::time::Duration::ZERO;
        for _ in 0..20 {
            let start = std::time::Instant::now();
            desk.get("/api/shots/1/films").await;
            slowest = slowest.max(start.elapsed());
        }
        slowest
    };
    let (answers, slowest) = tokio::join!(asking, others);
    assert!(answers.iter().all(|(status, _)| *status == StatusCode::OK));
    assert!(slowest.as_millis() < 1_000, "{slowest:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_others_name_can_be_deleted() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let mut lamp = ball(10, "Lamp");
    lamp["attached"] = json!({"to": 9});
    lamp["channels"] = json!({"placement.position_m[0]": {"expression": "{Ball.position.x} + 1"}});
    desk.put(lamp).await;
    let from = json!({"solid": {"solid": 9}});
    let dust = json!({"id": 11, "name": "Dust", "kind": {"particles": {"source": from}}});
    desk.put(dust).await;
    let base = desk.get("/api/shots/1").await["revision"].clone();
    let (status, shot) =
        desk.ask("POST", "/api/shots/1/delete", json!({"base": base, "elements": [9]})).await;
    assert_eq!((status, &shot["undo"]), (StatusCode::OK, &json!("Ball deleted")), "{shot}");
    let left = shot["document"]["elements"].to_string();
    assert!(!left.contains("attached\":{") && !left.contains("Ball.place"), "{left}");
    let (status, _) = desk.ask("POST", "/api/shots/1/delete", json!({"base": base, "elements": [10]})).await;
    assert_eq!(status, StatusCode::CONFLICT);
}
