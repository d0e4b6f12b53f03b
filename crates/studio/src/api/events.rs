//! What happens, as JSON messages over a WebSocket. A page that reads too
//! slowly misses messages, is told so by `resync`, and asks again.

use super::State;
use crate::studio::Studio;
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::response::Response;
use std::sync::Arc;
use tokio::sync::broadcast::error::RecvError;

pub(crate) async fn events(axum::extract::State(studio): State, upgrade: WebSocketUpgrade) -> Response {
    upgrade.on_upgrade(move |socket| send(studio, socket))
}

async fn send(studio: Arc<Studio>, mut socket: WebSocket) {
    let mut events = studio.events.subscribe();
    loop {
        let text = tokio::select! {
            event = events.recv() => match event {
                Ok(event) => serde_json::to_string(&event).expect("events serialise"),
                Err(RecvError::Lagged(_)) => r#"{"what":"resync"}"#.to_owned(),
                Err(RecvError::Closed) => return,
            },
            incoming = socket.recv() => match incoming {
                Some(Ok(_)) => continue,
                _ => return,
            },
        };
        if socket.send(Message::Text(text.into())).await.is_err() {
            return;
        }
    }
}
