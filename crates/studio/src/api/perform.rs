//! Performing, over a WebSocket of its own: a page says what a hand does at
//! each frame, and gets the frame that the simulation answers with. What was
//! performed is saved as keys when the page says so, and when it is cut off.

use super::input::State;
use super::input::{Path, Query};
use crate::error::Error;
use crate::performing::{Stand, begin};
use crate::studio::Studio;
use axum::extract::State as Extract;
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::response::Response;
use serde::{Deserialize, Serialize};
use shot::{
    Id,
    motion::{Value, Within},
};
use std::sync::Arc;

/// Largest message of a page, bytes: a value for every element.
const MAX_MESSAGE: usize = 256 << 10;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct From {
    /// The frame to begin at.
    from: u32,
}

/// What a page says.
#[derive(Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
enum Said {
    /// The frame is over; what the hand held came to these values.
    Step {
        /// The next frame.
        frame: u32,
        values: Vec<Held>,
    },
    /// The performance is over, and is saved as keys.
    Keep {
        /// Distance of places, m.
        position_m: f64,
        /// Distance of turns, rad.
        orientation_rad: f64,
        /// Of other values, as a fraction of the range they went through.
        fraction: f64,
    },
}

/// A value that a hand holds.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Held {
    /// Id of the element; none: the shot itself.
    element: Option<u32>,
    path: String,
    value: Value,
}

/// What a page is told.
#[derive(Serialize)]
#[serde(rename_all = "snake_case")]
enum Told {
    /// The simulation is at the frame to begin at; its frame follows.
    Ready(u32),
    /// It goes there.
    Preparing(u32),
    /// What was performed is saved.
    Kept { revision: i64, keys: usize, samples: usize, what: String },
    /// It cannot go on; what was performed is saved.
    Ended(String),
}

impl Told {
    fn message(&self) -> Message {
        Message::Text(serde_json::to_string(self).expect("it serialises").into())
    }
}

pub(crate) async fn perform(
    Extract(studio): State,
    Path(shot): Path<i64>,
    Query(From { from }): Query<From>,
    upgrade: WebSocketUpgrade,
) -> Response {
    upgrade.max_message_size(MAX_MESSAGE).on_upgrade(move |mut socket| async move {
        if let Err(error) = serve(studio, &mut socket, shot, from).await {
            // Nobody may be listening.
            let _ = socket.send(Told::Ended(error.to_string()).message()).await;
        }
    })
}

async fn serve(studio: Arc<Studio>, socket: &mut WebSocket, shot: i64, from: u32) -> Result<(), Error> {
    let lost = |_| Error::Bad("the page is gone".to_owned());
    let mut stand = begin(studio.clone(), shot, from).await?;
    while let Some(frame) = stand.next_to_prepare().await? {
        socket.send(Told::Preparing(frame).message()).await.map_err(lost)?;
    }
    socket.send(Told::Ready(stand.frame()).message()).await.map_err(lost)?;
    socket.send(Message::Binary(stand.written().await?.into())).await.map_err(lost)?;
    let ended = play(&mut stand, socket).await;
    let within = ended.as_ref().copied().unwrap_or_default();
    let told = match keep(&studio, shot, stand, within).await? {
        Some(kept) => kept,
        None => Told::Kept { revision: 0, keys: 0, samples: 0, what: String::new() },
    };
    let _ = socket.send(told.message()).await;
    ended.map(|_| ())
}

/// Answers a page until it wants to keep what it did, or is cut off.
async fn play(stand: &mut Stand, socket: &mut WebSocket) -> Result<Within, Error> {
    loop {
        let text = match socket.recv().await {
            Some(Ok(Message::Text(text))) => text,
            Some(Ok(Message::Close(_)) | Err(_)) | None => return Ok(Within::default()),
            Some(Ok(_)) => continue,
        };
        match serde_json::from_str(&text).map_err(|error| Error::Bad(error.to_string()))? {
            Said::Step { frame, values } => {
                if frame != stand.frame() + 1 {
                    return Err(Error::Bad(format!("frame {frame} does not come after {}", stand.frame())));
                }
                let values =
                    values.into_iter().map(|held| (held.element.map(Id), held.path, held.value)).collect();
                let bytes = stand.step(values).await?;
                if socket.send(Message::Binary(bytes.into())).await.is_err() {
                    return Ok(Within::default());
                }
            }
            Said::Keep { position_m, orientation_rad, fraction } => {
                let within = Within { position_m, orientation_rad, fraction };
                if ![position_m, orientation_rad, fraction].iter().all(|limit| (0.0..=1e3).contains(limit)) {
                    return Err(Error::Bad("a tolerance is outside 0 to 1000".to_owned()));
                }
                return Ok(within);
            }
        }
    }
}

/// Saves what was performed on the shot as it is by now.
async fn keep(studio: &Arc<Studio>, shot: i64, stand: Stand, within: Within) -> Result<Option<Told>, Error> {
    let performance = stand.end();
    if performance.is_empty() {
        return Ok(None);
    }
    // Another page may save something at the same moment.
    for _ in 0..8 {
        let (document, base) = studio.head(shot).await?;
        let (keyed, keys) = performance.keyed(&document, within);
        let what = performance.summary(&document);
        match studio.change(shot, base, &format!("Performed {what}"), &keyed).await {
            Err(Error::Conflict { .. }) => {}
            Err(error) => return Err(error),
            Ok(revision) => {
                return Ok(Some(Told::Kept { revision, keys, samples: performance.samples(), what }));
            }
        }
    }
    Err(Error::Bad("the shot is being changed all the time; the performance was not saved".to_owned()))
}
