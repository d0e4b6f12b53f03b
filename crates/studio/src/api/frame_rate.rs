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

/// The base in which keys, spans and moments stay where they are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum TimeBase {
    /// They stay on their frames: all is faster or slower.
    Frames,
    /// They stay where they are in seconds, and the run is retimed.
    Seconds,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct FrameRate {
    /// Frames a second.
    fps: f32,
    keep: TimeBase,
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
    let label = format!("Frame rate {fps} a second");
    if keep == TimeBase::Frames || fps == old.timing.fps {
        let mut new = old;
        new.timing.fps = fps;
        studio.change(id, revision, &label, &new).await?;
        return state(&studio, id).await;
    }
    let new = old.at_rate(fps);
    let faults = new.faults();
    if !faults.is_empty() {
        return Err(Error::Faults(faults));
    }
    if studio.playing.is_on(id) {
        return Err(Error::Bad("frames are being computed; stop first".to_owned()));
    }
    // The retimed run is there whole before anything is changed.
    let run = studio.store.current_run(id).await?;
    let runs = studio.runs_of(&old, &run).await?;
    let (folder, document) = (studio.folder(&run), new.clone());
    let run = folder.clone();
    let retimed = blocking(move || {
        if run.headers().is_empty() {
            return Ok(None);
        }
        let aside = RunFolder::at(run.path().join("retimed"));
        // One that a process which ended has left.
        aside.remove()?;
        let aside = RunFolder::create(aside.path())?;
        match runs.write_at_rate(&old, &document, &aside) {
            Ok(_) => Ok(Some(aside)),
            Err(error) => {
                let _ = aside.remove();
                Err(error)
            }
        }
    })
    .await?;
    let changed = studio.change(id, revision, &label, &new).await;
    blocking(move || match (retimed, changed) {
        (Some(retimed), Ok(_)) => Ok(folder.replace_with(retimed)?),
        (Some(retimed), Err(error)) => {
            let _ = retimed.remove();
            Err(error)
        }
        (None, changed) => changed.map(drop),
    })
    .await?;
    studio.tell(Event::BakeEnded { shot: id, message: None });
    state(&studio, id).await
}
