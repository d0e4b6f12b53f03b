//! What is measured on the surface of what deforms.

use super::input::{Path, Query, State};
use super::runs::shot_of;
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use frames::{Frame, Frames, ParticleQuantity, Parts, RunFrames, surface_quantity};
use geometry::uv;
use serde::{Deserialize, Serialize};
use shot::{Id, SurfaceQuantity};
use utoipa::{IntoParams, ToSchema};

/// Most vertices of a mesh at rest that is measured.
const MAX_VERTICES: usize = 1_000_000;

/// What is measured, of which element.
#[derive(Deserialize, IntoParams)]
pub(crate) struct Measured {
    /// `stretch` and `compression` (principal strains, no unit), `bend` (mean curvature, 1/m), `speed` (m/s), `contact` (0–1) or
    /// `pressure` (Pa).
    quantity: String,
}

/// A quantity at each vertex of the mesh that a run's frame has of a cloth or a soft body: 32-bit floats, little-endian. Frames
/// whose mesh has other vertices than the body at rest, as subdivided ones, give none.
#[utoipa::path(get, path = "/api/runs/{run}/surface/{element}/{number}", params(("run" = i64, Path), ("element" = u32, Path), ("number" = u32, Path), Measured), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn measured(
    Extract(studio): State,
    Path((run, of, number)): Path<(i64, u32, u32)>,
    Query(Measured { quantity }): Query<Measured>,
) -> Result<Response> {
    let row = studio.store.run(run).await?;
    let shot =
        shot_of(&studio, &row).await?.ok_or_else(|| Error::NotFound(format!("the shot of run {run}")))?;
    let runs = studio.runs_of(&shot, &row).await?;
    let values = blocking(move || {
        let element = shot.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let frames = runs.frames(&shot)?;
        let missing = || Error::NotFound(format!("the mesh of {} at frame {number}", element.name));
        if !frames.range().contains(&number) {
            return Err(missing());
        }
        let frame = frames.frame(number).map_err(|_| missing())?;
        if !frame.meshes.contains_key(&element.id) {
            return Err(missing());
        }
        let quantity = SurfaceQuantity::named(&quantity)
            .ok_or_else(|| Error::Bad(format!("there is no quantity {quantity:?}")))?;
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let bad = |error: geometry::MissingMesh| Error::Bad(error.to_string());
        let rest = meshes.deforming(element, MAX_VERTICES).map_err(bad)?;
        let rest = rest.and_then(std::result::Result::ok).ok_or_else(missing)?;
        // The shot may have other copies now than the frame has: then there is none.
        surface_quantity(&frame, element, quantity, &rest.positions).ok_or_else(missing)
    })
    .await?;
    let bytes: Vec<u8> = values.iter().flat_map(|value| value.to_le_bytes()).collect();
    let head = [(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-cache")];
    Ok((head, bytes).into_response())
}

/// What is measured of particles.
#[derive(Deserialize, IntoParams)]
pub(crate) struct MeasuredParticles {
    /// `speed` (m/s), `age` (s), `pressure` (Pa, of a liquid) or `vorticity` (1/s).
    quantity: String,
}

/// A quantity of each particle of an element at a frame as it was computed: the ids of the particles, rising, as 32-bit numbers, then as
/// many values as 32-bit floats, all little-endian.
#[utoipa::path(get, path = "/api/runs/{run}/particles/{element}/{number}", params(("run" = i64, Path), ("element" = u32, Path), ("number" = u32, Path), MeasuredParticles), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn particles(
    Extract(studio): State,
    Path((run, of, number)): Path<(i64, u32, u32)>,
    Query(MeasuredParticles { quantity }): Query<MeasuredParticles>,
) -> Result<Response> {
    let row = studio.store.run(run).await?;
    let shot =
        shot_of(&studio, &row).await?.ok_or_else(|| Error::NotFound(format!("the shot of run {run}")))?;
    let folder = studio.folder(&row);
    let bytes = blocking(move || {
        let element = shot.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let missing = || Error::NotFound(format!("{quantity} of {} at frame {number}", element.name));
        let quantity = ParticleQuantity::named(&quantity)
            .ok_or_else(|| Error::Bad(format!("there is no quantity {quantity:?}")))?;
        let frames = RunFrames::new(folder, 0..=shot::LAST_FRAME);
        let mut frame = Frame::default();
        frames.read(number, &Parts::Element(element.id), &mut frame).map_err(|_| missing())?;
        let particles = frame.particles_of(element.id);
        let set = element.as_particles().ok_or_else(missing)?;
        let spacing_m = set.liquid.as_ref().map_or(set.start.size_m, |liquid| liquid.spacing_m);
        let values = quantity.of(particles, 2.0 * spacing_m.max(1e-4)).ok_or_else(missing)?;
        let ids = particles.ids.iter().flat_map(|id| id.to_le_bytes());
        Ok(ids.chain(values.iter().flat_map(|value| value.to_le_bytes())).collect::<Vec<u8>>())
    })
    .await?;
    let head = [(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-cache")];
    Ok((head, bytes).into_response())
}

/// The albedo at each vertex of the mesh that a run's frame has of a cloth or a soft body, by the layers of its look but those
/// of the viewing angle: three 32-bit floats each, linear, little-endian.
#[utoipa::path(get, path = "/api/runs/{run}/albedo/{element}/{number}", params(("run" = i64, Path), ("element" = u32, Path), ("number" = u32, Path)), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn albedo(
    Extract(studio): State,
    Path((run, of, number)): Path<(i64, u32, u32)>,
) -> Result<Response> {
    let row = studio.store.run(run).await?;
    // The look is that of the shot as it is, also over frames that are stale.
    let (shot, _) = studio.head(row.shot).await?;
    let runs = studio.runs_of(&shot, &row).await?;
    let bytes = blocking(move || {
        let element = shot.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let missing = || Error::NotFound(format!("the mesh of {} at frame {number}", element.name));
        let look = &element.as_solid().ok_or_else(missing)?.look;
        let frames = runs.frames_for_pictures(&shot)?;
        if !frames.range().contains(&number) {
            return Err(missing());
        }
        let mut frame = Frame::default();
        frames.read(number, &Parts::Element(element.id), &mut frame).map_err(|_| missing())?;
        let mesh = frame.meshes.get(&element.id).ok_or_else(missing)?;
        let mut albedo = vec![look.albedo; mesh.positions.len()];
        for layer in &look.layers {
            let Some(values) = layer.by.attribute().and_then(|name| mesh.scalars(&name)) else { continue };
            for (albedo, value) in albedo.iter_mut().zip(values) {
                *albedo = albedo.lerp(layer.albedo, layer.weight(*value));
            }
        }
        Ok(albedo.iter().flat_map(|rgb| rgb.to_array()).flat_map(f32::to_le_bytes).collect::<Vec<u8>>())
    })
    .await?;
    let head = [(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-cache")];
    Ok((head, bytes).into_response())
}

/// How the UVs of a solid lie on its mesh at rest.
#[derive(Serialize, ToSchema)]
pub(crate) struct UvMeasures {
    /// Greatest stretch of an image against the mean, as |ln| of the ratio; no unit.
    most: f32,
    /// Its mean over the surface; no unit.
    mean: f32,
    /// Number of pieces that the surface is cut into.
    pieces: u32,
}

/// How the UVs of a solid stretch what is laid on them.
#[utoipa::path(get, path = "/api/shots/{id}/uvs/{element}", params(("id" = i64, Path), ("element" = u32, Path)), responses((status = 200, body = UvMeasures), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn uvs(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
) -> Result<Json<UvMeasures>> {
    let (shot, _) = studio.head(id).await?;
    blocking(move || {
        let element = shot.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let solid = element.as_solid().ok_or_else(|| Error::Bad(format!("{} has no mesh", element.name)))?;
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let bad = |error: geometry::MissingMesh| Error::Bad(error.to_string());
        let mesh = match meshes.deforming(element, MAX_VERTICES).map_err(bad)? {
            Some(Ok(mesh)) => mesh,
            _ => meshes.of_solid(solid).map_err(bad)?,
        };
        let [most, mean] = uv::stretch(&mesh).unwrap_or([0.0; 2]);
        Ok(Json(UvMeasures { most, mean, pieces: uv::pieces(&mesh) }))
    })
    .await
}
