//! Topologies: the faces that meshes of many frames share.

use super::input::{Path, State};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use shot::fingerprint::Fingerprint;

/// The topology of a mesh in frames of a shot's runs, as the Viewport takes it; see docs/formats.md.
#[utoipa::path(get, path = "/api/shots/{id}/topologies/{hash}", params(("id" = i64, Path), ("hash" = String, Path)), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn topology(
    Extract(studio): State,
    Path((id, hash)): Path<(i64, String)>,
) -> Result<Response> {
    let missing = || Error::NotFound("the topology".to_owned());
    let hash = Fingerprint::parse(&hash).ok_or_else(missing)?;
    let runs = studio.store.runs(id).await?;
    let folders: Vec<_> = runs.iter().map(|row| studio.folder(row)).collect();
    let found = blocking(move || {
        let topology = folders.iter().find_map(|folder| folder.topology(hash).ok());
        Ok(frames::wire_topology(&*topology.ok_or_else(missing)?))
    });
    // What a hash names never changes.
    let head = [
        (header::CONTENT_TYPE, "application/octet-stream"),
        (header::CACHE_CONTROL, "max-age=31536000, immutable"),
    ];
    Ok((head, found.await?).into_response())
}
