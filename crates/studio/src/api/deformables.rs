//! How large cloths and soft bodies are, what carries them, and how they wave.

use super::input::{Path, State};
use super::runs::shot_of;
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use frames::{Frame, Parts};
use serde::Serialize;
use shot::{Id, Shape};
use simulate::{WaveCounter, deformable_size, interior};
use utoipa::ToSchema;

/// What is known of a solid's mesh before it is computed.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct MeshFacts {
    /// Vertices of the surface of a cloth or soft body in all its copies; none: it is rigid, or has too many.
    vertices: Option<u64>,
    /// Cells within a soft body in all its copies.
    cells: Option<u64>,
    /// About how many vertices or cells it would have, if they are too many.
    too_many: Option<u64>,
    /// About how long a frame of it takes on this machine, s.
    seconds_a_frame: Option<f64>,
    /// Names of the groups of faces that an imported mesh came with.
    groups: Vec<String>,
}

/// What is known of a solid's mesh before it is computed: its size, about how long a frame takes, its groups of faces.
#[utoipa::path(get, path = "/api/shots/{id}/mesh_facts/{element}", params(("id" = i64, Path), ("element" = u32, Path)), responses((status = 200, body = MeshFacts), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn mesh_facts(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
) -> Result<Json<MeshFacts>> {
    let (shot, _) = studio.head(id).await?;
    blocking(move || {
        let element = shot.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let solid = element.as_solid().ok_or_else(|| Error::Bad(format!("{} has no mesh", element.name)))?;
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let mut facts = MeshFacts::default();
        if let Shape::Mesh { asset, .. } = &solid.shape
            && let Some(mesh) = meshes.by_name.get(asset)
        {
            facts.groups = mesh.groups.iter().map(|group| group.name.clone()).collect();
        }
        let size = deformable_size(&shot, element, &meshes);
        match size.map_err(|error: geometry::MissingMesh| Error::Bad(error.to_string()))? {
            Some(Ok(size)) => {
                facts.vertices = Some(size.vertices as u64);
                facts.cells = (size.cells > 0).then_some(size.cells as u64);
                facts.seconds_a_frame = Some(size.seconds_a_frame);
            }
            Some(Err(count)) => facts.too_many = Some(count as u64),
            None => {}
        }
        Ok(Json(facts))
    })
    .await
}

/// The sides of the cells that carry a soft body at a run's frame: two points each, of three 32-bit floats, in space, m,
/// little-endian.
#[utoipa::path(get, path = "/api/runs/{run}/interior/{element}/{number}", params(("run" = i64, Path), ("element" = u32, Path), ("number" = u32, Path)), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn interior_lines(
    Extract(studio): State,
    Path((run, of, number)): Path<(i64, u32, u32)>,
) -> Result<Response> {
    let row = studio.store.run(run).await?;
    let shot =
        shot_of(&studio, &row).await?.ok_or_else(|| Error::NotFound(format!("the shot of run {run}")))?;
    let runs = studio.runs_of(&shot, &row).await?;
    let bytes = blocking(move || {
        let element = shot.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let missing = || Error::NotFound(format!("the inside of {} at frame {number}", element.name));
        let frames = runs.frames(&shot)?;
        if !frames.range().contains(&number) {
            return Err(missing());
        }
        let mut frame = Frame::default();
        frames.read(number, &Parts::Element(element.id), &mut frame).map_err(|_| missing())?;
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let lines = interior(element, &meshes, &frame).ok_or_else(missing)?;
        let numbers = lines.iter().flatten().flat_map(|p| p.to_array());
        Ok(numbers.flat_map(f32::to_le_bytes).collect::<Vec<u8>>())
    })
    .await?;
    let head = [(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-cache")];
    Ok((head, bytes).into_response())
}

/// The waves along a held cloth, frame by frame.
#[derive(Serialize, ToSchema)]
pub(crate) struct WaveTrack {
    /// The frames that the run has.
    frames: Vec<u32>,
    /// Number of waves along the cloth at each of them; no unit.
    waves: Vec<f32>,
}

/// The number of waves along a cloth that is held at a side, at corners or at points, at each frame that the run has.
#[utoipa::path(get, path = "/api/runs/{run}/waves/{element}", params(("run" = i64, Path), ("element" = u32, Path)), responses((status = 200, body = WaveTrack), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn waves(
    Extract(studio): State,
    Path((run, of)): Path<(i64, u32)>,
) -> Result<Json<WaveTrack>> {
    let row = studio.store.run(run).await?;
    let shot =
        shot_of(&studio, &row).await?.ok_or_else(|| Error::NotFound(format!("the shot of run {run}")))?;
    let runs = studio.runs_of(&shot, &row).await?;
    blocking(move || {
        let element = shot.element(Id(of)).ok_or_else(|| Error::NotFound(format!("element {of}")))?;
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        if element.as_cloth().is_none() {
            return Err(Error::NotFound(format!("waves of {}: it is no cloth", element.name)));
        }
        let mut track = WaveTrack { frames: Vec::new(), waves: Vec::new() };
        let Some(counter) = WaveCounter::new(element, &meshes) else { return Ok(Json(track)) };
        let frames = runs.frames(&shot)?;
        for number in frames.range() {
            let mut frame = Frame::default();
            if frames.read(number, &Parts::Element(element.id), &mut frame).is_err() {
                continue;
            }
            if let Some(waves) = counter.count(&frame) {
                track.frames.push(number);
                track.waves.push(waves);
            }
        }
        Ok(Json(track))
    })
    .await
}
