//! The WebSocket: what every page hears, and the frames a page watches.

use crate::desk::{ball, deck, desk};
use crate::socket::{connect, next, told};
use futures_util::SinkExt;
use serde_json::{Value, json};
use tokio::net::TcpStream;
use tokio_tungstenite::client_async;
use tokio_tungstenite::tungstenite::{Message, client::IntoClientRequest};

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_told_to_every_page() {
    let desk = desk().await;
    desk.new_shot().await;
    let (mut one, mut two) = (connect(&desk, "/api/events").await, connect(&desk, "/api/events").await);
    desk.put(ball(9, "Ball")).await;
    let expected = json!({"what": "shot", "shot": 1, "revision": 2});
    assert_eq!((told(&mut one).await, told(&mut two).await), (expected.clone(), expected));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_that_watches_gets_each_frame_before_the_word_that_it_is_there() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(ball(9, "Ball")).await;
    let mut socket = connect(&desk, "/api/events").await;
    socket.send(Message::text(r#"{"watch": 1, "wish": 7}"#)).await.unwrap();
    // Anything told after it shows that the wish was heard.
    tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    let (mut frames, mut named) = (Vec::new(), Vec::new());
    loop {
        match next(&mut socket).await {
            Message::Binary(bytes) => {
                assert!(bytes.len() <= 64 * 1024);
                let run = u64::from_le_bytes(bytes[..8].try_into().unwrap());
                let number = u32::from_le_bytes(bytes[16..20].try_into().unwrap());
                assert_eq!(bytes[8..16], [7, 0, 0, 0, 0, 0, 0, 0]);
                let (_, fetched) = desk.bytes(&format!("/api/runs/{run}/frames/{number}")).await;
                assert_eq!(bytes[16..], fetched);
                frames.push(number);
            }
            Message::Text(text) => {
                let told: Value = serde_json::from_str(&text).unwrap();
                if told["what"] == json!("bake_ended") {
                    break;
                }
                if told["what"] == json!("frame") {
                    named.push(told["frame"].as_u64().unwrap() as u32);
                    assert!(frames.last().is_none_or(|&last| last <= *named.last().unwrap()));
                }
            }
            _ => {}
        }
    }
    assert_eq!(named, (1..=12).collect::<Vec<_>>());
    assert!(!frames.is_empty() && frames.iter().all(|frame| named.contains(frame)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_that_watches_nothing_gets_no_frames() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(ball(9, "Ball")).await;
    let mut socket = connect(&desk, "/api/events").await;
    socket.send(Message::text("no wish at all")).await.unwrap();
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    loop {
        match next(&mut socket).await {
            Message::Binary(_) => panic!("nobody asked for a frame"),
            Message::Text(text) if text.contains("bake_ended") => break,
            _ => {}
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_that_fell_behind_is_told_to_ask_again() {
    let desk = desk().await;
    desk.new_shot().await;
    let mut socket = connect(&desk, "/api/events").await;
    desk.put(ball(9, "Ball")).await;
    assert_eq!(told(&mut socket).await["what"], json!("shot"));
    // More than the channel holds, told at once.
    for shot in 0..2000 {
        desk.studio.tell(studio::studio::Event::Runs { shot });
    }
    let mut heard = 0;
    loop {
        heard += 1;
        if told(&mut socket).await["what"] == json!("resync") {
            break;
        }
        assert!(heard < 2000, "all was heard");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_another_origin_is_not_connected() {
    let desk = desk().await;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let app = desk.app.clone();
    tokio::spawn(async move { axum::serve(listener, app).await });
    let mut request = format!("ws://{address}/api/events").into_client_request().unwrap();
    request.headers_mut().insert("origin", "http://evil.example".parse().unwrap());
    let refused = client_async(request, TcpStream::connect(address).await.unwrap()).await;
    assert!(refused.err().unwrap().to_string().contains("403"));
}
