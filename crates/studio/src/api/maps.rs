//! Weights of maps, for the Viewport.

use super::input::{Path, Query, State};
use super::motion::{sampled, seconds, solved_in};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use frames::RunFrames;
use geometry::maps::MapSurface;
use serde::Deserialize;
use shot::{Id, map::Map, world::World};
use simulate::forces::Surfaces;
use simulate::maps::MapsAt;
use utoipa::IntoParams;

/// Most vertices of a mesh whose map is shown.
const MAX_VERTICES: usize = 300_000;

/// Which map of an element.
#[derive(Deserialize, IntoParams)]
pub(crate) struct Named {
    /// Name of the map; none: weights of 0.
    map: Option<String>,
}

/// A map at a frame, on the mesh at rest of one copy in the frame of the element: two u32, the numbers of vertices and of
/// triangles; for each vertex 3 f32, its position (m); for each triangle 3 u32; for each vertex 1 f32, its weight (0–1).
#[utoipa::path(get, path = "/api/shots/{id}/maps/{element}/{number}", params(("id" = i64, Path), ("element" = u32, Path), ("number" = u32, Path), Named), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn map(
    Extract(studio): State,
    Path((id, of, number)): Path<(i64, u32, u32)>,
    Query(Named { map }): Query<Named>,
) -> Result<Response> {
    let (shot, _) = studio.head(id).await?;
    let run = studio.folder(&studio.store.current_run(id).await?);
    let bytes = blocking(move || {
        let (sampler, now, acting) = sampled(&shot, f64::from(number))?;
        let element = now.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let solid = element.as_solid().ok_or_else(|| Error::Bad(format!("{} has no mesh", element.name)))?;
        let map = match &map {
            None => &Map::default(),
            Some(name) => {
                let found = solid.maps.iter().find(|other| other.name == *name);
                found.ok_or_else(|| Error::NotFound(format!("a map \"{name}\" of {}", element.name)))?
            }
        };
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let missing = |error: geometry::MissingMesh| Error::Bad(error.to_string());
        let mesh = match meshes.deforming(element, MAX_VERTICES).map_err(missing)? {
            Some(Ok(mesh)) => mesh,
            Some(Err(count)) => {
                return Err(Error::Bad(format!(
                    "{count} vertices; a map is shown on at most {MAX_VERTICES}"
                )));
            }
            None => meshes.of_solid(solid).map_err(missing)?,
        };
        let frames = RunFrames::of(run.clone(), &shot);
        let solved = solved_in(&frames, &shot);
        let world = World::new(&now, &sampler, acting, &solved);
        let surfaces = Surfaces::of(&now, &meshes);
        let seconds = seconds(&sampler, f64::from(number));
        let at = MapsAt { world: &world, surfaces: &surfaces, meshes: &meshes, element, seconds };
        let surface = MapSurface::new(mesh);
        let weights = surface.by_vertex(&surface.weights(map, &at));
        let mesh = surface.mesh();
        let counts = [mesh.positions.len() as u32, mesh.triangles.len() as u32];
        let mut bytes = bytemuck::cast_slice::<u32, u8>(&counts).to_vec();
        bytes.extend(mesh.positions.iter().flat_map(|p| p.to_array()).flat_map(f32::to_le_bytes));
        bytes.extend(mesh.triangles.iter().flatten().flat_map(|v| v.to_le_bytes()));
        bytes.extend(weights.iter().flat_map(|weight| weight.to_le_bytes()));
        Ok(bytes)
    })
    .await?;
    Ok(([(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-store")], bytes)
        .into_response())
}
