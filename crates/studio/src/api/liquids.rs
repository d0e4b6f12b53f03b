//! Liquids: how large one will be, and which size of it is enough.

use super::input::{Path, State};
use crate::comparing::ComparisonState;
use crate::error::{Error, Problem, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use axum::http::StatusCode;
use serde::Serialize;
use shot::Id;
use utoipa::ToSchema;

/// What is known of a liquid before it is computed, when all of it has come.
#[derive(Serialize, ToSchema)]
pub(crate) struct LiquidFacts {
    /// Number of particles.
    particles: u64,
    /// Number of full cells of the grid.
    voxels: u64,
    /// Memory at work, in bytes.
    bytes: u64,
    /// About how long a frame takes on this machine, s.
    seconds_a_frame: f64,
    /// Whether it is more than an element may have.
    too_many: bool,
}

/// What is known of a liquid before it is computed: particles, memory, and about how long a frame takes.
#[utoipa::path(get, path = "/api/shots/{id}/liquid_facts/{element}", params(("id" = i64, Path), ("element" = u32, Path)), responses((status = 200, body = LiquidFacts), (status = 404, body = Problem)))]
pub(crate) async fn liquid_facts(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
) -> Result<Json<LiquidFacts>> {
    let (shot, _) = studio.head(id).await?;
    blocking(move || {
        let element = shot.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let size = simulate::liquid_size(&shot, element, &meshes).map_err(|e| Error::Bad(e.to_string()))?;
        let size = size.ok_or_else(|| Error::Bad(format!("{} is no liquid", element.name)))?;
        Ok(Json(LiquidFacts {
            particles: size.particles.round() as u64,
            voxels: size.voxels.round() as u64,
            bytes: size.bytes as u64,
            seconds_a_frame: size.seconds_a_frame,
            too_many: size.is_too_much(),
        }))
    })
    .await
}

/// What is known of the comparison of three sizes of the shot's liquids in the gate.
#[utoipa::path(get, path = "/api/shots/{id}/enough", params(("id" = i64, Path)), responses((status = 200, body = ComparisonState), (status = 404, body = Problem)))]
pub(crate) async fn comparison(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<ComparisonState>> {
    Ok(Json(studio.comparison(id).await?))
}

/// Begins to compare three sizes of the shot's liquids; playing ends.
#[utoipa::path(post, path = "/api/shots/{id}/enough", params(("id" = i64, Path)), responses((status = 202), (status = 404, body = Problem)))]
pub(crate) async fn compare(Extract(studio): State, Path(id): Path<i64>) -> Result<StatusCode> {
    studio.begin_comparison(id).await?;
    Ok(StatusCode::ACCEPTED)
}

/// Ends the comparison.
#[utoipa::path(delete, path = "/api/shots/{id}/enough", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn stop_comparison(Extract(studio): State, Path(id): Path<i64>) -> Result<StatusCode> {
    studio.stop_comparison(id);
    Ok(StatusCode::NO_CONTENT)
}
