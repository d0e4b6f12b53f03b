//! What happens, over a WebSocket: JSON messages for every page, and the frames
//! of the shot a page watches, as they are computed. A page that reads too
//! slowly misses messages, is told so by `resync`, and asks again.

use super::input::State;
use crate::jobs::blocking;
use crate::studio::{Event, Studio, Wanted};
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::response::Response;
use frames::RunFrames;
use serde::Deserialize;
use std::sync::Arc;
use tokio::sync::broadcast::error::RecvError;

/// With more messages than this waiting, frames are not sent along: the page
/// fetches those it comes to show.
const WAITING_AT_MOST: usize = 4;

/// What a page says.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Wish {
    /// The shot whose frames it wants, or none.
    watch: Option<i64>,
    /// The elements that it does not show.
    #[serde(default)]
    without: Vec<u32>,
    /// About so many particles and vertices at most.
    most: Option<usize>,
    /// Number of the wish, which comes back with each frame.
    #[serde(default)]
    wish: u32,
}

pub(crate) async fn events(axum::extract::State(studio): State, upgrade: WebSocketUpgrade) -> Response {
    upgrade.max_message_size(1 << 16).on_upgrade(move |socket| send(studio, socket))
}

async fn send(studio: Arc<Studio>, mut socket: WebSocket) {
    let mut events = studio.events.subscribe();
    let mut wish: Option<Wish> = None;
    loop {
        let text = tokio::select! {
            event = events.recv() => match event {
                Ok(event) => {
                    if let Event::Frame { shot, frame, .. } = event
                        && let Some(wish) = wish.as_ref().filter(|wish| wish.watch == Some(shot))
                        && events.len() <= WAITING_AT_MOST
                        && let Some(bytes) = computed(&studio, shot, frame, wish).await
                        && socket.send(Message::Binary(bytes.into())).await.is_err()
                    {
                        return;
                    }
                    serde_json::to_string(&event).expect("events serialise")
                }
                Err(RecvError::Lagged(_)) => r#"{"what":"resync"}"#.to_owned(),
                Err(RecvError::Closed) => return,
            },
            incoming = socket.recv() => match incoming {
                Some(Ok(Message::Text(text))) => {
                    wish = serde_json::from_str(&text).ok();
                    continue;
                }
                Some(Ok(_)) => continue,
                _ => return,
            },
        };
        if socket.send(Message::Text(text.into())).await.is_err() {
            return;
        }
    }
}

/// u64 run, u32 number of the wish, u32 zero, then the frame as [`frames::wire`] lays it out.
async fn computed(studio: &Arc<Studio>, shot: i64, frame: u32, wish: &Wish) -> Option<Vec<u8>> {
    let run = studio.store.current_run(shot).await.ok()?;
    let folder = studio.folder(&run);
    let studio = studio.clone();
    let frames = RunFrames::new(folder.clone(), frame..=frame);
    let wanted = Wanted::without(&wish.without, wish.most).ok()?;
    let number = wish.wish;
    let (_, bytes) = blocking(move || studio.on_wire(&folder, &frames, frame, &wanted)).await.ok()?;
    Some([&run.id.to_le_bytes()[..], &number.to_le_bytes(), &[0; 4], &bytes].concat())
}
