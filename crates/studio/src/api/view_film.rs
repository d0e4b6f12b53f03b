//! The Viewport's own drawing as a film.

use super::input::{Path, State, Upload};
use crate::error::{Error, Result};
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};

/// A film of drawings at the shot's frame rate, as MP4: the body is a JPEG file a frame, each
/// behind its length as a u32, little-endian. Nothing of it is kept.
#[utoipa::path(post, path = "/api/shots/{id}/view-film", params(("id" = i64, Path)),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, content_type = "video/mp4"), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn make(
    Extract(studio): State,
    Path(id): Path<i64>,
    Upload(body): Upload,
) -> Result<Response> {
    let (shot, _) = studio.head(id).await?;
    let film = studio
        .import(move || {
            let film = interchange::movie_of_drawings(&body, shot.timing.fps);
            film.map_err(|error| Error::Bad(error.to_string()))
        })
        .await?;
    Ok(([(header::CONTENT_TYPE, "video/mp4")], film).into_response())
}
