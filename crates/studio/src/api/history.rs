//! Undo, redo, history and named versions.

use super::input::State;
use super::input::{Input, Path, Query};
use super::shots::{ShotState, state};
use crate::error::{Error, Result};
use crate::store::Step;
use axum::Json;
use axum::extract::State as Extract;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[derive(Deserialize)]
pub(crate) struct Base {
    /// The revision the step was meant from; none: from wherever the shot is.
    #[serde(default)]
    base: Option<i64>,
}

/// Goes back one change. Refused with 409 if the shot was changed since `base`.
#[utoipa::path(post, path = "/api/shots/{id}/undo", params(("id" = i64, Path), ("base" = Option<i64>, Query)),
    responses((status = 200, body = ShotState), (status = 409, body = crate::error::Problem)))]
pub(crate) async fn undo(
    Extract(studio): State,
    Path(id): Path<i64>,
    Query(Base { base }): Query<Base>,
) -> Result<Json<ShotState>> {
    studio.step(id, base, Step::Undo).await?;
    state(&studio, id).await
}

/// Goes forward one change again. Refused with 409 if the shot was changed since `base`.
#[utoipa::path(post, path = "/api/shots/{id}/redo", params(("id" = i64, Path), ("base" = Option<i64>, Query)),
    responses((status = 200, body = ShotState), (status = 409, body = crate::error::Problem)))]
pub(crate) async fn redo(
    Extract(studio): State,
    Path(id): Path<i64>,
    Query(Base { base }): Query<Base>,
) -> Result<Json<ShotState>> {
    studio.step(id, base, Step::Redo).await?;
    state(&studio, id).await
}

/// A state the shot was in.
#[derive(Serialize, ToSchema)]
pub(crate) struct Revision {
    number: i64,
    parent: Option<i64>,
    /// What was changed.
    label: String,
    /// Name of the version, if it was given one.
    version: Option<String>,
    /// Seconds since 1970.
    made: i64,
    /// Whether the shot is in this state.
    head: bool,
}

/// The shot's history, newest first.
#[utoipa::path(get, path = "/api/shots/{id}/history", params(("id" = i64, Path)), responses((status = 200, body = Vec<Revision>)))]
pub(crate) async fn history(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<Vec<Revision>>> {
    let row = studio.store.shot(id).await?;
    let revisions = studio.store.revisions(id).await?;
    Ok(Json(
        revisions
            .into_iter()
            .map(|r| Revision {
                number: r.number,
                parent: r.parent,
                label: r.label,
                version: r.version,
                made: r.made,
                head: r.number == row.head,
            })
            .collect(),
    ))
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Restore {
    revision: i64,
}

/// Brings an earlier state back, as a new change.
#[utoipa::path(post, path = "/api/shots/{id}/history", params(("id" = i64, Path)), request_body = Restore, responses((status = 200, body = ShotState)))]
pub(crate) async fn restore(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(restore): Input<Restore>,
) -> Result<Json<ShotState>> {
    let row = studio.store.shot(id).await?;
    let document = studio.store.document(id, restore.revision).await?;
    let from = studio.store.revision(id, restore.revision).await?;
    let label = format!("Restored “{}”", from.version.unwrap_or(from.label));
    studio.change(id, row.head, &label, &document).await?;
    state(&studio, id).await
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct VersionName {
    name: String,
}

/// Names the state the shot is in.
#[utoipa::path(post, path = "/api/shots/{id}/versions", params(("id" = i64, Path)), request_body = VersionName, responses((status = 204)))]
pub(crate) async fn version(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(version): Input<VersionName>,
) -> Result<axum::http::StatusCode> {
    let name = version.name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(Error::Bad("name: give 1 to 80 characters".to_owned()));
    }
    let row = studio.store.shot(id).await?;
    studio.store.name_version(id, row.head, name).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}
