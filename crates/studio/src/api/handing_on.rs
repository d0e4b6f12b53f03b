//! Frames of a shot as meshes for other tools.

use super::input::{Path, Query, State};
use crate::error::{Error, Result};
use crate::handing_on::HandingOn;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use interchange::UsdForm;
use serde::Deserialize;
use shot::Element;

#[derive(Deserialize)]
pub(crate) struct Range {
    /// The first frame.
    first: u32,
    /// The last frame.
    last: u32,
    /// The solid that is handed on; none: all that are visible.
    element: Option<u32>,
    /// Whether surfaces are as they were computed, without the finishing steps that smooth, thicken, subdivide or copy them.
    #[serde(default)]
    computed: bool,
}

/// The visible solids of a shot at finished frames, by their run's present state: `obj` for one
/// frame, `zip` for several as numbered OBJ files, `glb`, `usda`, `usdc`,
/// `usdz` and `abc` (Alembic) for one or several. USD has the visible particles, cameras and lights
/// too, Alembic the particles and cameras.
#[utoipa::path(get, path = "/api/shots/{id}/meshes/{format}", params(("id" = i64, Path), ("format" = String, Path), ("first" = u32, Query), ("last" = u32, Query), ("element" = Option<u32>, Query), ("computed" = Option<bool>, Query)), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn meshes(
    Extract(studio): State,
    Path((id, format)): Path<(i64, String)>,
    Query(Range { first, last, element, computed }): Query<Range>,
) -> Result<Response> {
    let (mut shot, _) = studio.head(id).await?;
    if computed {
        let shapes =
            |of: &Element| of.as_finish().is_some_and(|of| of.operation.needs_frames_to_be_checked());
        shot.elements.retain(|element| !shapes(element));
    }
    let run = studio.store.current_run(id).await?;
    let runs = studio.runs_of(&shot, &run).await?;
    let copy = studio.clone();
    copy.import(move || {
        let mut meshes = HandingOn::new(&shot, &runs, &studio.loader, &studio.data)?;
        let only =
            element.map(|id| shot.element(shot::Id(id)).ok_or(Error::NotFound(format!("element {id}"))));
        let only = only.transpose()?;
        if let Some(element) = only {
            meshes = meshes.only(element.id);
        }
        let (bytes, kind) = match format.as_str() {
            "obj" if first == last => (meshes.obj(first)?, "model/obj"),
            "obj" => return Err(Error::Bad("an OBJ file holds one frame".to_owned())),
            "zip" if first <= last => (meshes.numbered_objs(first..=last)?, "application/zip"),
            "glb" if first <= last => (meshes.glb(first..=last, &mut || ())?, "model/gltf-binary"),
            _ if first > last => return Err(Error::Bad(format!("frame {last} comes before {first}"))),
            "abc" => (meshes.alembic(first..=last, &mut || ())?, "application/octet-stream"),
            other => match UsdForm::of_extension(other) {
                Some(form) => (meshes.usd(first..=last, form, &mut || ())?, "application/octet-stream"),
                None => return Err(Error::NotFound(format!("the format {other}"))),
            },
        };
        let frames = if first == last { format!("{first}") } else { format!("{first}-{last}") };
        let of = only.map_or(&shot.name, |element| &element.name);
        // Only what a header may hold of the name.
        let name: String = of.chars().filter(|c| c.is_ascii_alphanumeric() || " -_".contains(*c)).collect();
        let disposition = format!("attachment; filename=\"{name} {frames}.{format}\"");
        let head = [
            (header::CONTENT_TYPE, kind.to_owned()),
            (header::CONTENT_DISPOSITION, disposition),
            (header::CACHE_CONTROL, "no-store".to_owned()),
        ];
        Ok((head, bytes).into_response())
    })
    .await
}
