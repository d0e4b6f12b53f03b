//! Finishing steps: frames, states and films as they are shown.

use crate::desk::{Desk, ball, deck, desk, wait_for};
use axum::http::StatusCode;
use serde_json::{Value, json};

fn step(id: u32, name: &str, operation: Value) -> Value {
    json!({"id": id, "name": name, "kind": {"finish": {"operation": operation, "order": id}}})
}

async fn played() -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(ball(9, "Ball")).await;
    desk.played().await;
    desk
}

#[tokio::test(flavor = "multi_thread")]
async fn a_step_shows_at_once_and_leaves_the_run_fresh() {
    let desk = played().await;
    let (_, run) = desk.bytes("/api/runs/1/frames/12").await;
    desk.put(step(20, "Reverse", json!({"reverse": {}}))).await;
    let state = desk.get("/api/shots/1/freshness").await;
    assert_eq!(state["stretches"], json!([{"first": 1, "last": 12, "state": "fresh", "reason": null}]));
    let finished = &state["finished"];
    assert_eq!(
        (&finished["first"], &finished["last"], &finished["repeats"]),
        (&json!(1), &json!(12), &json!(false))
    );
    assert_eq!(finished["stretches"][0]["state"], json!("fresh"));
    assert_eq!(finished["steps"][0]["step"], json!(20));
    let (_, shown) = desk.bytes("/api/runs/1/frames/1?finished=true").await;
    // Only the number differs.
    assert_eq!(shown[4..], run[4..]);
    // As it was computed, the frame is as before.
    assert_ne!(desk.bytes("/api/runs/1/frames/1").await.1, shown);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_number_makes_finished_frames_stale_and_a_missing_frame_is_missed() {
    let desk = played().await;
    desk.put(step(20, "Trim", json!({"trim": {"from_frame": 4, "to_frame": 9}}))).await;
    desk.set("/elements/5/kind/solid/body/friction", json!(0.9)).await;
    let state = desk.get("/api/shots/1/freshness").await;
    assert_eq!(
        state["finished"]["stretches"],
        json!([{"first": 1, "last": 6, "state": "stale", "reason": null}])
    );
    desk.ask("POST", "/api/shots/1/clear", Value::Null).await;
    let state = desk.get("/api/shots/1/freshness").await;
    assert_eq!(state["finished"]["stretches"][0]["state"], json!("missing"));
    let (status, problem) = desk.ask("GET", "/api/runs/1/frames/2?finished=true", Value::Null).await;
    assert_eq!(
        (status, &problem["detail"]),
        (StatusCode::NOT_FOUND, &json!("frame 5 is not there")),
        "{problem}"
    );
    let (status, _) = desk.ask("GET", "/api/runs/1/frames/7?finished=true", Value::Null).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_loop_that_is_too_long_says_so_and_offers_others() {
    let desk = played().await;
    desk.put(step(20, "Loop", json!({"loop": {"frames": 30, "from_frame": 1, "overlap": 0}}))).await;
    let state = desk.get("/api/shots/1/freshness").await;
    let problem = state["finished"]["steps"][0]["problem"].as_str().unwrap().to_owned();
    assert_eq!(problem, "needs frames 1–30; there are 1–12; the longest loop from there has 12 frames");
    assert_eq!(state["finished"]["last"], json!(12));
    let loops = desk.get("/api/shots/1/loops/20?least=3&most=11").await;
    assert_eq!(loops["seam"], Value::Null);
    assert_eq!(loops["offers"].as_array().unwrap().len(), 5);
    desk.set("/elements/6/kind/finish/operation/loop/frames", json!(6)).await;
    let loops = desk.get("/api/shots/1/loops/20?least=3&most=11").await;
    assert!(loops["seam"]["position"].as_f64().unwrap() > 0.5);
    assert_eq!(loops["unreturned"], json!([9]));
    let (status, problem) = desk.ask("GET", "/api/shots/1/loops/9?least=3&most=11", Value::Null).await;
    assert_eq!(
        (status, &problem["detail"]),
        (StatusCode::UNPROCESSABLE_ENTITY, &json!("Ball is not a loop"))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_shows_the_finished_frames_to_their_end() {
    let desk = played().await;
    let retime = json!({"retime": {"frames": 23, "run_frame": 1}});
    let mut slow = step(20, "Retime", retime);
    slow["channels"] = json!({"kind.finish.operation.retime.run_frame":
        {"keys": [{"frame": 1, "value": 1}, {"frame": 23, "value": 12}]}});
    desk.put(slow).await;
    let settings = json!({"first": 21, "last": 23, "width": 16, "height": 16, "samples": 1});
    let (status, film) =
        desk.ask("POST", "/api/shots/1/films", json!({"name": "Slow", "settings": settings})).await;
    assert_eq!(status, StatusCode::OK, "{film}");
    let films = wait_for(&desk, "/api/shots/1/films", |films| films[0]["state"] == json!("done")).await;
    assert_eq!(films[0]["settings"]["finishing"], json!(["Retime"]));
    let settings = json!({"first": 1, "last": 24, "width": 16, "height": 16, "samples": 1});
    let (status, problem) =
        desk.ask("POST", "/api/shots/1/films", json!({"name": "Too long", "settings": settings})).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains("1–23"), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kept_run_keeps_its_steps() {
    let desk = played().await;
    desk.put(step(20, "Reverse", json!({"reverse": {}}))).await;
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    desk.played().await;
    let (_, shown) = desk.bytes("/api/runs/1/frames/3?finished=true").await;
    desk.ask("POST", "/api/shots/1/runs", json!({"name": null})).await;
    let run = desk.get("/api/shots/1/runs").await[0]["id"].clone();
    desk.set("/elements/6/kind/finish/enabled", json!(false)).await;
    let (_, kept) = desk.bytes(&format!("/api/runs/{run}/frames/3?finished=true")).await;
    assert_eq!(kept, shown);
}

#[tokio::test(flavor = "multi_thread")]
async fn values_out_of_range_and_wrong_names_are_refused_at_their_field() {
    let desk = played().await;
    for (operation, path) in [
        (json!({"trim": {"from_frame": 9, "to_frame": 3}}), "trim.to_frame"),
        (json!({"retime": {"frames": 0, "run_frame": 1}}), "retime.frames"),
        (json!({"retime": {"frames": 5, "run_frame": -3}}), "retime.run_frame"),
        (json!({"loop": {"frames": 4, "from_frame": 1, "overlap": 4}}), "loop.overlap"),
        (json!({"place": {"scale": 0}}), "place.scale"),
        (json!({"place": {"scale": 1, "about": 99}}), "place.about"),
        (json!({"shift": {"frames": 20000}}), "shift.frames"),
    ] {
        let patch = json!([{"op": "add", "path": "/elements/-", "value": step(20, "Step", operation)}]);
        let body =
            json!({"base": desk.get("/api/shots/1").await["revision"], "label": "Step", "patch": patch});
        let (status, problem) = desk.ask("PATCH", "/api/shots/1", body).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
        let at = problem["faults"][0]["path"].as_str().unwrap();
        assert!(at.ends_with(&format!("kind.finish.operation.{path}")), "{at}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shot_begins_from_a_finished_frame_and_carries_it_along() {
    let desk = played().await;
    let (status, state) =
        desk.ask("POST", "/api/shots/1/initial-state", json!({"frame": 5, "velocities": true})).await;
    assert_eq!(status, StatusCode::OK, "{state}");
    let document = &state["document"];
    assert_eq!(document["initial_state"], json!({"asset": "frame 5", "velocities": true}));
    let asset = &document["assets"]["frame 5"];
    assert_eq!(asset["kind"], "frame");
    assert!(desk.dir.path().join(asset["file"].as_str().unwrap()).is_file());
    // The whole run is stale by that, and the words say so.
    let stretches = desk.get("/api/shots/1/freshness").await["stretches"].clone();
    assert_eq!(stretches[0]["reason"], "before beginning changed", "{stretches}");
    let (status, _) = desk.ask("POST", "/api/shots/1/initial-state", json!({"frame": 9999})).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
    let (_, state) = desk.ask("POST", "/api/shots/1/initial-state", json!({"frame": null})).await;
    assert_eq!(state["document"]["initial_state"], serde_json::Value::Null);
    assert!(state["document"]["assets"].get("frame 5").is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn faces_that_a_step_made_are_found_by_a_frame_that_has_them() {
    let desk = played().await;
    let document = desk.get("/api/shots/1").await;
    let mut elements = document["document"]["elements"].as_array().unwrap().iter();
    let solid = elements.find(|e| e["kind"]["solid"]["body"]["moves"] == "free").unwrap()["id"].clone();
    let step = json!({"id": 9_000, "name": "Finer", "kind": {"finish": {"element": solid, "operation":
        {"subdivide": {"scheme": "catmull_clark", "levels": 1}}}}});
    let patch = json!([{"op": "add", "path": "/elements/-", "value": step}]);
    let change = json!({"base": document["revision"], "label": "Finer", "patch": patch});
    let (status, answer) = desk.ask("PATCH", "/api/shots/1", change).await;
    assert_eq!(status, StatusCode::OK, "{answer}");
    let run = desk.get("/api/shots/1/freshness").await["run"].clone();
    let (_, frame) = desk.bytes(&format!("/api/runs/{run}/frames/3?finished=true")).await;
    // The mesh's head is the last before its positions: id, vertices, hash.
    let id = u32::try_from(solid.as_u64().unwrap()).unwrap().to_le_bytes();
    let at = (0..frame.len() - 28)
        .rev()
        .find(|&at| frame[at..at + 4] == [1, 0, 0, 0] && frame[at + 4..at + 8] == id);
    let at = at.unwrap() + 12;
    let hash: String = frame[at..at + 16].iter().map(|byte| format!("{byte:02x}")).collect();
    let (_, topology) = desk.bytes(&format!("/api/shots/1/topologies/{hash}?frame=3")).await;
    assert!(topology.len() > 100);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_frame_of_a_run_is_not_taken_in_as_a_file() {
    let desk = played().await;
    let frame = frames::encode(&frames::Frame::new(1, 0.0));
    let (status, problem) = desk.upload("/api/shots/1/assets?name=00001.brframe", &frame).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains("is a frame of a run"), "{problem}");
}

/// Finished frames that take long are made in the background and kept under their fingerprints,
/// for the Viewport only; a change of the step makes them anew.
#[tokio::test(flavor = "multi_thread")]
async fn finished_frames_that_take_long_are_kept() {
    let desk = played().await;
    let mut refined = step(20, "Subdivide", json!({"subdivide": {"scheme": "loop", "levels": 1}}));
    refined["kind"]["finish"]["element"] = json!(9);
    let place = desk.put(refined).await;
    let run = desk.studio.folder(&desk.studio.store.current_run(1).await.unwrap());
    let (tag, made) = desk.bytes("/api/runs/1/frames/5?finished=true").await;
    assert_eq!(tag, StatusCode::OK);
    let kept = |count: usize| {
        let folder = run.finished();
        async move {
            for _ in 0..400 {
                if folder.headers().len() == count {
                    return folder.headers();
                }
                tokio::time::sleep(std::time::Duration::from_millis(25)).await;
            }
            panic!("{} finished frames are kept, not {count}", folder.headers().len());
        }
    };
    let (shot, _) = desk.studio.head(1).await.unwrap();
    // As quick as a frame: nothing is kept.
    desk.studio.note_finishing_time(1, &shot, std::time::Duration::from_millis(1));
    assert_eq!(run.finished().headers().len(), 0);
    desk.studio.note_finishing_time(1, &shot, std::time::Duration::from_secs(1));
    let first = kept(12).await;
    let (_, shown) = desk.bytes("/api/runs/1/frames/5?finished=true").await;
    assert_eq!(shown.len(), made.len());
    // Kept frames are rounded as all frames on disk are: by 0.05 mm at most.
    let floats = |bytes: &[u8]| -> Vec<f32> {
        let tail = &bytes[bytes.len() - 12 * 20..];
        tail.chunks_exact(4).map(|b| f32::from_le_bytes(b.try_into().unwrap())).collect()
    };
    let far = floats(&shown).iter().zip(floats(&made)).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
    assert!(far <= 6e-5, "{far}");
    let levels = format!("/elements/{place}/kind/finish/operation/subdivide/levels");
    desk.set(&levels, json!(2)).await;
    let (_, finer) = desk.bytes("/api/runs/1/frames/5?finished=true").await;
    assert!(finer.len() > shown.len(), "what is kept is of another step");
    let (shot, _) = desk.studio.head(1).await.unwrap();
    let ended = || async {
        for _ in 0..400 {
            desk.studio.note_finishing_time(1, &shot, std::time::Duration::from_secs(1));
            tokio::time::sleep(std::time::Duration::from_millis(25)).await;
            let now = run.finished().headers();
            if now.len() == 12 && now.iter().all(|(n, header)| header.fingerprint != first[n].fingerprint) {
                return;
            }
        }
        panic!("the frames were not made anew");
    };
    ended().await;
    desk.ask("POST", "/api/shots/1/clear", Value::Null).await;
    assert_eq!(run.finished().headers().len(), 0);
}

/// A step that the frames show not to be possible leaves them as they are: fresh, told and shown so.
#[rstest::rstest]
#[case(json!({"subdivide": {"scheme": "loop", "levels": 1, "crease_group": "nobody"}}), "nobody")]
#[case(json!({"copies": {"grid": {"count": [9000, 1, 1], "spacing_m": [1, 1, 1]}}}), "at most 50000")]
#[tokio::test(flavor = "multi_thread")]
async fn frames_after_a_step_that_cannot_be_taken_are_fresh(#[case] operation: Value, #[case] why: &str) {
    let desk = played().await;
    let copies = json!({"count": [6, 1, 1], "spacing_m": [0.6, 0, 0]});
    let index = desk.get("/api/shots/1").await["document"]["elements"].as_array().unwrap().len() - 1;
    desk.set(&format!("/elements/{index}/kind/solid/copies"), copies).await;
    desk.played().await;
    let finish = json!({"finish": {"operation": operation, "element": 9}});
    desk.put(json!({"id": 20, "name": "Step", "kind": finish})).await;
    let finished = desk.get("/api/shots/1/freshness").await["finished"].clone();
    let problem = finished["steps"][0]["problem"].as_str().unwrap();
    assert!(problem.contains(why), "{problem}");
    assert_eq!(finished["stretches"], json!([{"first": 1, "last": 12, "state": "fresh", "reason": null}]));
    let (shot, _) = desk.studio.head(1).await.unwrap();
    let row = desk.studio.store.current_run(1).await.unwrap();
    let runs = desk.studio.runs_of(&shot, &row).await.unwrap();
    let frame = blocking(move || runs.fresh_frame_for_pictures(&shot, 12)).await;
    assert_eq!(frame.expect("fresh").bodies[&shot::Id(9)].len(), 6);
}

async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    tokio::task::spawn_blocking(work).await.unwrap()
}
