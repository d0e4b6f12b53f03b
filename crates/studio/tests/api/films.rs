//! Films.

use crate::desk::{Desk, ball, desk, wait_for};
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};

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

async fn with_film(settings: Value) -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let (status, film) =
        desk.ask("POST", "/api/shots/1/films", json!({"name": " Draft 1 ", "settings": settings})).await;
    assert_eq!((status, &film["name"]), (StatusCode::OK, &json!("Draft 1")));
    desk
}

fn still(frame: u32) -> Value {
    json!({"first": frame, "last": frame, "width": 48, "height": 32, "samples": 2})
}

#[tokio::test(flavor = "multi_thread")]
async fn a_still_is_one_picture_and_no_film() {
    let desk = with_film(still(5)).await;
    let films = wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    assert_eq!((&films[0]["done"], &films[0]["total"]), (&json!(1), &json!(1)));
    let (status, png) = desk.bytes("/api/films/1/frames/5/picture.png").await;
    assert_eq!(status, StatusCode::OK);
    assert_eq!(interchange::read_png(&png).map(|(w, h, _)| (w, h)).unwrap(), (48, 32));
    for path in
        ["/api/films/1/film.mp4", "/api/films/1/frames/6/picture.png", "/api/films/1/frames/5/linear.exr"]
    {
        assert_eq!(desk.bytes(path).await.0, StatusCode::NOT_FOUND, "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_shows_the_shot_as_it_was_when_it_was_begun() {
    let desk = with_film(still(12)).await;
    desk.set("/elements/4/placement/position_m", json!([0, 90, 0])).await;
    let films = wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    assert_eq!(films[0]["revision"], json!(2));
    desk.ask("POST", "/api/shots/1/films", json!({"name": "After", "settings": still(12)})).await;
    wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    let before = desk.bytes("/api/films/1/frames/12/picture.png").await.1;
    assert_ne!(before, desk.bytes("/api/films/2/frames/12/picture.png").await.1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_deleted_film_is_gone_with_its_files() {
    let desk = with_film(still(1)).await;
    wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    assert!(desk.dir.path().join("films/1").exists());
    desk.ask("DELETE", "/api/films/1", Value::Null).await;
    assert_eq!(desk.get("/api/shots/1/films").await, json!([]));
    assert!(!desk.dir.path().join("films/1").exists());
    assert_eq!(desk.ask("POST", "/api/films/1/resume", Value::Null).await.0, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_that_fails_says_why_and_stays_to_be_tried_again() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    desk.set("/camera", Value::Null).await;
    desk.ask("POST", "/api/shots/1/films", json!({"name": "Blind", "settings": still(1)})).await;
    let films = wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("failed")).await;
    assert!(films[0]["message"].as_str().unwrap().contains("camera"), "{films}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_that_cannot_be_written_says_so_and_goes_on_once_it_can() {
    let settings = json!({"first": 1, "last": 3, "width": 48, "height": 32, "samples": 2});
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    // A folder in the place of the second picture cannot be written over.
    let taken = desk.dir.path().join("films/1/frame-00002.exr");
    std::fs::create_dir_all(taken.join("x")).unwrap();
    let with_exr = json!({"first": 1, "last": 3, "width": 48, "height": 32, "samples": 2, "exr": true});
    desk.ask("POST", "/api/shots/1/films", json!({"name": "Full", "settings": with_exr})).await;
    let films = wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("failed")).await;
    assert!(films[0]["message"].as_str().unwrap().contains("frame-00002"), "{films}");
    assert_eq!(films[0]["done"], json!(1));
    std::fs::remove_dir_all(taken).unwrap();
    desk.ask("POST", "/api/films/1/resume", Value::Null).await;
    let films = wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    assert_eq!(films[0]["done"], json!(3));
    desk.ask("POST", "/api/shots/1/films", json!({"name": "Again", "settings": settings})).await;
    wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
}

#[rstest]
#[case("bytes=0-3", 206, 4)]
#[case("bytes=900000-", 416, 0)]
#[case("bytes=4-", 206, -4)]
#[tokio::test(flavor = "multi_thread")]
async fn a_film_is_sought_by_ranges(#[case] range: &str, #[case] status: u16, #[case] length: i64) {
    let settings = json!({"first": 1, "last": 2, "width": 48, "height": 32, "samples": 1});
    let desk = with_film(settings).await;
    wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    let whole = desk.bytes("/api/films/1/film.mp4").await.1.len() as i64;
    let request = Request::builder().uri("/api/films/1/film.mp4").header("host", "localhost");
    let (found, bytes) = desk.send(request.header("range", range).body(Body::empty()).unwrap()).await;
    let expected = if length < 0 { whole + length } else { length };
    assert_eq!((found.as_u16(), bytes.len() as i64), (status, expected));
}

#[tokio::test(flavor = "multi_thread")]
async fn all_frames_come_as_one_zip() {
    let settings = json!({"first": 2, "last": 4, "width": 48, "height": 32, "samples": 1, "exr": true});
    let desk = with_film(settings).await;
    wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    let (status, bytes) = desk.bytes("/api/films/1/frames.zip").await;
    assert_eq!(status, StatusCode::OK);
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    let names: Vec<_> = archive.file_names().map(str::to_owned).collect();
    assert_eq!(names.len(), 6);
    let mut png = Vec::new();
    std::io::Read::read_to_end(&mut archive.by_name("frame-00003.png").unwrap(), &mut png).unwrap();
    assert_eq!(png, desk.bytes("/api/films/1/frames/3/picture.png").await.1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_is_forecast_by_its_pixels_paths_and_frames() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let forecast = async |frames: u32, width: u32, exr: bool| {
        let settings =
            json!({"first": 1, "last": frames, "width": width, "height": 360, "samples": 16, "exr": exr});
        let (status, told) = desk.ask("POST", "/api/shots/1/films/forecast", settings).await;
        assert_eq!(status, StatusCode::OK, "{told}");
        (told["seconds"].as_f64().unwrap(), told["bytes"].as_f64().unwrap())
    };
    let (small, wide, long, exr) = (
        forecast(2, 320, false).await,
        forecast(2, 640, false).await,
        forecast(12, 320, false).await,
        forecast(2, 320, true).await,
    );
    assert!(small.0 > 0.0 && long.0 > small.0);
    // Tiles are samples of the picture: within a factor of 1.6 of what the number of pixels gives.
    let near = |ratio: f64, wanted: f64| (wanted / 1.6..wanted * 1.6).contains(&ratio);
    assert!(near(wide.1 / small.1, 2.0), "{wide:?} {small:?}");
    assert!(near(long.1 / small.1, 6.0), "{long:?} {small:?}");
    assert!(exr.1 > 2.0 * small.1, "{exr:?} {small:?}");
    let never = json!({"first": 9, "last": 3, "width": 64, "height": 36, "samples": 1});
    let (status, _) = desk.ask("POST", "/api/shots/1/films/forecast", never).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_tells_which_frames_are_there_and_their_size() {
    let desk = with_film(json!({"first": 1, "last": 3, "width": 48, "height": 32, "samples": 1})).await;
    let film = wait_for(&desk, "/api/shots/1/films", |v| v[0]["state"] == json!("done")).await;
    assert_eq!(film[0]["there"], json!([[1, 3]]));
    std::fs::remove_file(desk.dir.path().join("films/1/frame-00002.png")).unwrap();
    let film = &desk.get("/api/shots/1/films").await[0];
    assert_eq!((&film["there"], &film["done"]), (&json!([[1, 1], [3, 3]]), &json!(2)));
    assert!(film["bytes"].as_u64().unwrap() > 1000);
}
