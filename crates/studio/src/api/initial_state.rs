//! The initial state: the simulation begins from a frame of the run, or as all is placed.

use super::input::{Input, Path, State};
use super::shots::{ShotState, state};
use crate::assets;
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use serde::Deserialize;
use shot::{Asset, AssetKind, InitialState};
use utoipa::ToSchema;

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct InitialFrame {
    /// The finished frame that the shot begins from; none: it begins as all is placed.
    frame: Option<u32>,
    /// Whether bodies and particles go on with their velocities; else they begin at rest.
    #[serde(default)]
    velocities: bool,
}

/// Begins the shot from a finished frame of its run, or as all is placed, as a new change.
#[utoipa::path(post, path = "/api/shots/{id}/initial-state", params(("id" = i64, Path)), request_body = InitialFrame, responses((status = 200, body = ShotState), (status = 404, body = crate::error::Problem), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn set(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(InitialFrame { frame, velocities }): Input<InitialFrame>,
) -> Result<Json<ShotState>> {
    let (mut shot, revision) = studio.head(id).await?;
    let before = shot.initial_state.take().map(|initial_state| initial_state.asset);
    if let Some(before) = before {
        shot.assets.remove(&before);
    }
    let mut label = "Begins as placed".to_owned();
    if let Some(number) = frame {
        let runs = studio.runs_of(&shot, &studio.store.current_run(id).await?).await?;
        let (data, now) = (studio.data.clone(), shot.clone());
        let asset = blocking(move || {
            let frames = runs.frames(&now)?;
            if !frames.range().contains(&number) {
                return Err(Error::NotFound(format!("frame {number}")));
            }
            let mut frame = frames.frame(number)?;
            // What is measured and when it was computed is no part of an initial state.
            (frame.measured, frame.revision) = (frames::Measured::default(), 0);
            frame.fingerprint = shot::fingerprint::Fingerprint::default();
            let bytes = frames::encode(&frame);
            let sha256 = assets::sha256(&bytes);
            let file = format!("assets/{sha256}.brframe");
            let asset = Asset { kind: AssetKind::Frame, file, sha256 };
            frames::write_whole(&assets::path(&data, &asset)?, &bytes)?;
            Ok(asset)
        })
        .await?;
        // The name of another asset is not taken.
        let mut name = format!("frame {number}");
        while shot.assets.contains_key(&name) {
            name.push('\'');
        }
        label = format!("Begins from frame {number}");
        shot.assets.insert(name.clone(), asset);
        shot.initial_state = Some(InitialState { asset: name, velocities });
    }
    studio.change(id, revision, &label, &shot).await?;
    state(&studio, id).await
}
