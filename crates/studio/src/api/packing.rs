//! Copies packed into another solid.

use super::input::{Input, Path, State};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use serde::{Deserialize, Serialize};
use shot::{Id, PlacedCopy};
use simulate::packing::{Packing, packed};
use utoipa::ToSchema;

/// What is packed into what.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PackInto {
    /// The solid whose copies are packed.
    element: u32,
    /// The solid that they lie in; its mesh is closed.
    into: u32,
    /// Number of copies.
    count: u32,
    /// Greatest difference of their sizes from 1, as a fraction, 0 to 0.9.
    #[serde(default)]
    size_variation: f32,
    /// Distance that they keep from each other and from the walls, m.
    #[serde(default)]
    gap_m: f32,
    /// Chooses sizes, turns and places.
    #[serde(default)]
    seed: u32,
}

/// Where the copies stand.
#[derive(Serialize, ToSchema)]
pub(crate) struct Packed {
    /// Copies as in the shot file.
    #[schema(value_type = Vec<Object>)]
    placed: Vec<PlacedCopy>,
}

/// Places for copies of a solid within another at the first frame, without overlap. The shot stays as it is.
#[utoipa::path(post, path = "/api/shots/{id}/pack", params(("id" = i64, Path)), request_body = PackInto, responses((status = 200, body = Packed), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn pack(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(of): Input<PackInto>,
) -> Result<Json<Packed>> {
    let (shot, _) = studio.head(id).await?;
    let PackInto { element, into, count, size_variation, gap_m, seed } = of;
    let packing = Packing { element: Id(element), into: Id(into), count, size_variation, gap_m, seed };
    blocking(move || {
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let placed = packed(&shot, &meshes, &packing).map_err(|error| Error::Bad(error.to_string()))?;
        Ok(Json(Packed { placed }))
    })
    .await
}
