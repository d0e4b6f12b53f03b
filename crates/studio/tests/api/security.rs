//! What another page or path may not reach.

use crate::desk::desk;
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rstest::rstest;

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
