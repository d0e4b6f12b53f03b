//! Outlines to be made curves of: letters and drawings.

use super::input::State;
use super::input::{Input, Query, Upload};
use crate::error::{Error, Result};
use axum::Json;
use axum::extract::State as Extract;
use glam::Vec3;
use serde::Deserialize;
use utoipa::ToSchema;

/// Letters to be outlined.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Letters {
    /// At most 200 letters; lines end in `\n`.
    text: String,
    /// Distance from line to line, m.
    line_m: f32,
}

type Strokes = Json<Vec<Vec<[f32; 3]>>>;

fn points(strokes: interchange::Strokes) -> Strokes {
    let tidy = |v: f32| (v * 1e5).round() / 1e5;
    let stroke = |stroke: Vec<Vec3>| stroke.into_iter().map(|p| p.to_array().map(tidy)).collect();
    Json(strokes.into_iter().map(stroke).collect())
}

/// The outlines of letters as strokes, points of three numbers, m.
#[utoipa::path(post, path = "/api/outlines/text", request_body = Letters, responses((status = 200, body = Vec<Vec<Vec<f32>>>), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn text(Input(of): Input<Letters>) -> Result<Strokes> {
    let strokes = interchange::outline_text(&of.text, of.line_m);
    strokes.map(points).map_err(|error| Error::Bad(error.to_string()))
}

#[derive(Deserialize)]
pub(crate) struct Named {
    name: String,
}

/// The paths of an SVG drawing as strokes, one metre along its longer side.
#[utoipa::path(post, path = "/api/outlines/drawing", params(("name" = String, Query)),
    request_body(content = Vec<u8>, content_type = "image/svg+xml"), responses((status = 200, body = Vec<Vec<Vec<f32>>>), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn drawing(
    Extract(studio): State,
    Query(Named { name }): Query<Named>,
    Upload(body): Upload,
) -> Result<Strokes> {
    studio
        .import(move || {
            let strokes = interchange::outline_svg(&name, &body);
            strokes.map(points).map_err(|error| Error::Bad(error.to_string()))
        })
        .await
}
