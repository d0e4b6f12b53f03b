//! Shots: what is saved and what is refused.

use crate::desk::{Desk, ball, desk};
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};
use studio::studio::Studio;

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
#[case(json!({"id": 9, "name": "Ball", "kind": {"solid": {"shape": {"sphere": {"radius_m": -1}}}}}), "elements[4].kind.solid.shape.sphere.radius_m: -1 is outside")]
#[case(json!({"id": 1, "name": "Ball", "kind": {"solid": {"shape": {"sphere": {"radius_m": 1}}}}}), "elements[4].id: 1 is also the id of elements[0]")]
#[case(json!({"id": 9, "name": "Ball", "kind": {"balloon": {}}}), "elements[4].kind: unknown variant `balloon`")]
#[case(json!({"id": 9, "name": "Ball", "kind": {"solid": {"shape": {"mesh": {"asset": "../x", "scale": 1}}}}}), "is not among the assets")]
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

#[tokio::test(flavor = "multi_thread")]
async fn a_shot_goes_out_as_a_zip_and_comes_in_again() {
    let desk = desk().await;
    desk.new_shot().await;
    let obj = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 1 4 3\nf 2 3 4\n";
    let (status, uploaded) = desk.upload("/api/shots/1/assets?name=Wedge.obj", obj).await;
    assert_eq!((status, &uploaded["name"]), (StatusCode::OK, &json!("Wedge")));
    let patch = json!([
        {"op": "add", "path": "/assets/Wedge", "value": uploaded["asset"]},
        {"op": "add", "path": "/elements/-", "value": {"id": 9, "name": "Wedge", "kind": {"solid": {"shape": {"mesh": {"asset": "Wedge", "scale": 1}}}}}},
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
    let (status, problem) = desk.upload("/api/shots/1/assets?name=big.obj", &vec![b' '; 257 << 20]).await;
    assert_eq!(status, StatusCode::PAYLOAD_TOO_LARGE);
    assert_eq!(problem["detail"], json!("the file is larger than 256 MB; nothing of it was kept"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_answered_as_saved_is_there_after_reopening() {
    let Desk { app, dir, studio } = desk().await;
    let desk = Desk { app, dir, studio };
    desk.new_shot().await;
    desk.add(1, ball(9, "Ball")).await;
    let Desk { app, dir, studio } = desk;
    drop((app, studio));
    let studio = Studio::open(dir.path()).await.unwrap();
    let (shot, revision) = studio.head(1).await.unwrap();
    assert_eq!((revision, shot.named("Ball").is_some()), (2, true));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_data_folder_in_use_is_not_opened_twice() {
    let desk = desk().await;
    let error = Studio::open(desk.dir.path()).await.err().unwrap().to_string();
    assert!(error.contains("is in use by another"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_card_says_what_a_shot_holds() {
    let desk = desk().await;
    desk.new_shot().await;
    let mut grid = ball(9, "Grid");
    grid["kind"]["solid"]["copies"] = json!({"count": [2, 3, 4], "spacing_m": [1, 1, 1]});
    desk.put(grid).await;
    let card = desk.get("/api/shots").await[0].clone();
    assert_eq!((&card["name"], &card["elements"], &card["bodies"]), (&json!("Test"), &json!(5), &json!(24)));
    let (status, png) = desk.bytes("/api/shots/1/poster.png").await;
    assert_eq!((status, &png[..4]), (StatusCode::OK, b"\x89PNG" as &[u8]));
}

#[rstest]
#[case(json!({"name": "", "width": 64, "height": 36, "fps": 24, "first": 1, "last": 9}), "name: is empty")]
#[case(json!({"name": "A", "width": 4, "height": 36, "fps": 24, "first": 1, "last": 9}), "picture.width: 4 is outside")]
#[case(json!({"name": "A", "width": 64, "height": 36, "fps": 0, "first": 1, "last": 9}), "timing.fps: 0 is outside")]
#[case(json!({"name": "A", "width": 64, "height": 36, "fps": 24, "first": 9, "last": 1}), "timing.last: 1 comes before")]
#[case(json!({"name": "A", "width": 64, "height": 36, "fps": 24, "first": 1}), "missing field `last`")]
#[case(json!({"name": "A", "width": -1, "height": 36, "fps": 24, "first": 1, "last": 9}), "width: invalid value")]
#[tokio::test(flavor = "multi_thread")]
async fn a_shot_that_cannot_be_is_not_begun(#[case] new: Value, #[case] message: &str) {
    let desk = desk().await;
    let (status, problem) = desk.ask("POST", "/api/shots", new).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains(message), "{problem}");
    assert_eq!(desk.get("/api/shots").await, json!([]));
}

#[rstest]
#[case(json!([{"op": "replace", "path": "/elements/77/name", "value": "x"}]), "the patch:")]
#[case(json!([{"op": "wish", "path": "/name", "value": "x"}]), "unknown variant `wish`")]
#[case(json!([{"op": "add", "path": "/weather", "value": "fog"}]), "weather: unknown field `weather`")]
#[case(json!([{"op": "test", "path": "/name", "value": "Other"}]), "the patch:")]
#[tokio::test(flavor = "multi_thread")]
async fn a_patch_that_does_not_fit_changes_nothing(#[case] patch: Value, #[case] message: &str) {
    let desk = desk().await;
    let before = desk.new_shot().await;
    let (status, problem) =
        desk.ask("PATCH", "/api/shots/1", json!({"base": 1, "label": "x", "patch": patch})).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains(message), "{problem}");
    assert_eq!(desk.get("/api/shots/1").await, before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_deleted_shot_takes_its_runs_and_films_with_it() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    desk.played().await;
    let (status, _) = desk.ask("DELETE", "/api/shots/1", Value::Null).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert_eq!(desk.ask("GET", "/api/shots/1", Value::Null).await.0, StatusCode::NOT_FOUND);
    assert_eq!(std::fs::read_dir(desk.dir.path().join("runs")).unwrap().count(), 0);
}

/// A zip of the shot and a mesh, with bytes of its files changed.
async fn zipped(change: impl Fn(&str, Vec<u8>) -> Vec<u8>) -> (Desk, Vec<u8>) {
    use std::io::{Cursor, Read, Write};
    let desk = desk().await;
    desk.new_shot().await;
    let obj = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n";
    let (_, uploaded) = desk.upload("/api/shots/1/assets?name=Sail.obj", obj).await;
    desk.set("/assets/Sail", uploaded["asset"].clone()).await;
    let whole = desk.bytes("/api/shots/1/export.zip").await.1;
    let mut archive = zip::ZipArchive::new(Cursor::new(whole)).unwrap();
    let mut out = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for i in 0..archive.len() {
        let mut file = archive.by_index(i).unwrap();
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).unwrap();
        out.start_file(file.name(), zip::write::SimpleFileOptions::default()).unwrap();
        out.write_all(&change(file.name(), bytes)).unwrap();
    }
    (desk, out.finish().unwrap().into_inner())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_zip_whose_asset_was_changed_is_refused() {
    let (desk, zip) =
        zipped(|name, bytes| if name.ends_with(".obj") { [&bytes[..], b"# x"].concat() } else { bytes })
            .await;
    let (status, problem) = desk.upload("/api/import?name=quay.zip", &zip).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    let detail = problem["detail"].as_str().unwrap();
    assert!(
        detail.starts_with("quay.zip: ") && detail.contains("is not the file the shot was made with"),
        "{detail}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_zip_whose_asset_climbs_out_is_refused() {
    let climb = |name: &str, bytes: Vec<u8>| {
        if name != "shot.json" {
            return bytes;
        }
        let mut shot: Value = serde_json::from_slice(&bytes).unwrap();
        shot["assets"]["Sail"]["file"] = json!("../../studio.db");
        shot.to_string().into_bytes()
    };
    let (desk, zip) = zipped(climb).await;
    let (status, problem) = desk.upload("/api/import?name=quay.zip", &zip).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        problem["detail"].as_str().unwrap().contains("is not a path below the shot's folder"),
        "{problem}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shot_file_whose_assets_are_elsewhere_says_which_is_missing() {
    let (desk, _) = zipped(|_, bytes| bytes).await;
    let document = desk.get("/api/shots/1").await["document"].clone();
    let other = crate::desk::desk().await;
    let (status, problem) = other.upload("/api/import?name=shot.json", document.to_string().as_bytes()).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains("the asset \"Sail\" is not beside it"), "{problem}");
    let (status, _) = desk.upload("/api/import?name=shot.json", document.to_string().as_bytes()).await;
    assert_eq!(status, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_poster_is_of_the_chosen_frame_and_stays_while_that_is_stale() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let poster = async || desk.bytes("/api/shots/1/poster.png").await.1;
    let staged = poster().await;
    desk.played().await;
    // The ball falls ever faster: most happens in the last frame.
    let liveliest = poster().await;
    assert_ne!(liveliest, staged);
    desk.set("/poster", json!(12)).await;
    assert_eq!(poster().await, liveliest);
    desk.set("/poster", json!(2)).await;
    let second = poster().await;
    assert_ne!(second, liveliest);
    desk.set("/elements/4/kind/solid/body/weight", json!({"mass_kg": 3})).await;
    assert_eq!(poster().await, second, "the frame is stale, and the last poster stays");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_samples_come_with_posters_and_a_line_about_each() {
    let desk = desk().await;
    studio::demo::seed(&desk.studio).await.unwrap();
    for card in desk.get("/api/shots").await.as_array().unwrap() {
        assert!(card["about"].as_str().unwrap().len() > 20, "{card}");
        let (_, png) = desk.bytes(&format!("/api/shots/{}/poster.png", card["id"])).await;
        let width = u32::from_be_bytes(png[16..20].try_into().unwrap());
        assert_eq!((&png[1..4], width), (b"PNG" as &[u8], 480));
    }
    let names = std::fs::read_dir(desk.dir.path().join("pictures")).unwrap();
    let names: Vec<_> = names.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    assert!(names.iter().all(|name| name.ends_with("-shipped.png")), "none was rendered: {names:?}");
}
