//! Topologies: the faces that meshes of many frames share.

use super::input::{Path, Query, State};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use shot::fingerprint::Fingerprint;

#[derive(Deserialize)]
pub(crate) struct Shown {
    /// A finished frame of the shot that has a mesh with the topology: finishing steps make
    /// faces that are in no run.
    frame: Option<u32>,
}

/// The topology of a mesh in frames of a shot's runs, as the Viewport takes it; see docs/formats.md.
#[utoipa::path(get, path = "/api/shots/{id}/topologies/{hash}", params(("id" = i64, Path), ("hash" = String, Path), ("frame" = Option<u32>, Query)), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn topology(
    Extract(studio): State,
    Path((id, hash)): Path<(i64, String)>,
    Query(shown): Query<Shown>,
) -> Result<Response> {
    let missing = || Error::NotFound("the topology".to_owned());
    let hash = Fingerprint::parse(&hash).ok_or_else(missing)?;
    let runs = studio.store.runs(id).await?;
    let mut folders: Vec<_> = runs.iter().map(|row| studio.folder(row)).collect();
    folders.push(studio.folder(&studio.store.current_run(id).await?).finished());
    let (shot, _) = studio.head(id).await?;
    let finished = studio.runs_of(&shot, &studio.store.current_run(id).await?).await?;
    let found = blocking(move || {
        let kept = || folders.iter().find_map(|folder| folder.topology(hash).ok());
        let made = || {
            let frame = finished.frames(&shot).ok()?.frame(shown.frame?).ok()?;
            frame.meshes.into_values().map(|mesh| mesh.topology).find(|topology| topology.hash() == hash)
        };
        Ok(frames::wire_topology(
            &*kept().or_else(|| frames::known_topology(hash)).or_else(made).ok_or_else(missing)?,
        ))
    });
    // What a hash names never changes.
    let head = [
        (header::CONTENT_TYPE, "application/octet-stream"),
        (header::CACHE_CONTROL, "max-age=31536000, immutable"),
    ];
    Ok((head, found.await?).into_response())
}
