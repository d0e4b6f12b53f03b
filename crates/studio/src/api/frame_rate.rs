//! A change of the frame rate: by frames or by seconds, with the run retimed.

use super::input::{Input, Path, State};
use super::shots::{ShotState, state};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use crate::studio::Event;
use axum::Json;
use axum::extract::State as Extract;
use frames::RunFolder;
use serde::Deserialize;
use utoipa::ToSchema;

/// What a change of the frame rate leaves where it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Keep {
    /// Keys and spans stay on their frames: all is faster or slower.
    Frames,
    /// Keys and spans stay where they are in seconds, and the run is retimed.
    Seconds,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct FrameRate {
    /// Frames a second.
    fps: f32,
    keep: Keep,
}

/// Changes the frame rate, as a new change. Where seconds are kept, the frames of the run are
/// made anew for the new frames, between two by positions and velocities; they are shown until
/// they are computed again.
#[utoipa::path(post, path = "/api/shots/{id}/frame-rate", params(("id" = i64, Path)), request_body = FrameRate, responses((status = 200, body = ShotState), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn set(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(FrameRate { fps, keep }): Input<FrameRate>,
) -> Result<Json<ShotState>> {
    let (old, revision) = studio.head(id).await?;
    if !(1.0..=240.0).contains(&fps) {
        return Err(Error::Bad(format!("fps: {fps} is outside 1 to 240")));
    }
    let mut new = old.clone();
    match keep {
        Keep::Frames => new.timing.fps = fps,
        Keep::Seconds => new = old.at_rate(fps),
    }
    if keep == Keep::Seconds && studio.playing.is_on(id) {
        return Err(Error::Bad("frames are being computed; stop first".to_owned()));
    }
    studio.change(id, revision, &format!("Frame rate {fps} a second"), &new).await?;
    if keep == Keep::Seconds && fps != old.timing.fps {
        let run = studio.store.current_run(id).await?;
        let runs = studio.runs_of(&old, &run).await?;
        let folder = studio.folder(&run);
        blocking(move || {
            if folder.headers().is_empty() {
                return Ok(());
            }
            let aside = RunFolder::at(folder.path().with_extension("retimed"));
            // One that a process which ended has left.
            aside.remove()?;
            let aside = RunFolder::create(aside.path())?;
            match runs.write_at_rate(&old, &new, &aside) {
                Ok(_) => Ok(folder.replace_with(aside)?),
                Err(error) => {
                    let _ = aside.remove();
                    Err(error)
                }
            }
        })
        .await?;
        studio.tell(Event::BakeEnded { shot: id, message: None });
    }
    state(&studio, id).await
}
