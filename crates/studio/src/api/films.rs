//! Films and stills.

use super::State;
use super::input::Input;
use crate::error::{Error, Result};
use crate::films::FilmSettings;
use crate::store::FilmRow;
use crate::studio::{Event, Studio};
use axum::Json;
use axum::extract::{Path, State as Extract};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use utoipa::ToSchema;

/// A film or still.
#[derive(Serialize, ToSchema)]
pub(crate) struct Film {
    id: i64,
    name: String,
    settings: FilmSettings,
    /// Revision of the shot it shows.
    revision: i64,
    /// running, done, stopped or failed
    state: String,
    /// Why it failed.
    message: String,
    done: u32,
    total: u32,
    seconds_left: Option<f32>,
    bytes: u64,
    /// Seconds since 1970.
    made: i64,
}

fn view(studio: &Studio, row: FilmRow) -> Result<Film> {
    let settings: FilmSettings =
        serde_json::from_str(&row.settings).map_err(|error| Error::Internal(error.to_string()))?;
    let folder = studio.data.join("films").join(row.id.to_string());
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let bytes =
        entries.filter_map(|entry| entry.metadata().ok()).filter(|m| m.is_file()).map(|m| m.len()).sum();
    Ok(Film {
        id: row.id,
        name: row.name,
        done: studio.film_folder(row.id).done(&settings),
        total: settings.last - settings.first + 1,
        seconds_left: studio.films.progress(row.id).map(|(_, left)| left),
        settings,
        revision: row.revision,
        state: row.state,
        message: row.message,
        bytes,
        made: row.made,
    })
}

/// A shot's films, newest first.
#[utoipa::path(get, path = "/api/shots/{id}/films", params(("id" = i64, Path)), responses((status = 200, body = Vec<Film>)))]
pub(crate) async fn list(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<Vec<Film>>> {
    let rows = studio.store.films(Some(id)).await?;
    Ok(Json(rows.into_iter().map(|row| view(&studio, row)).collect::<Result<_>>()?))
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewFilm {
    name: String,
    settings: FilmSettings,
}

/// Begins a film or still of the shot as it is.
#[utoipa::path(post, path = "/api/shots/{id}/films", params(("id" = i64, Path)), request_body = NewFilm, responses((status = 200, body = Film), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn create(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(new): Input<NewFilm>,
) -> Result<Json<Film>> {
    let film = studio.begin_film(id, new.name.trim(), &new.settings).await?;
    Ok(Json(view(&studio, studio.store.film(film).await?)?))
}

/// Deletes a film and its files.
#[utoipa::path(delete, path = "/api/films/{film}", params(("film" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete(Extract(studio): State, Path(film): Path<i64>) -> Result<StatusCode> {
    let row = studio.store.film(film).await?;
    studio.stop_film(film).await?;
    studio.store.delete_film(film).await?;
    let _ = std::fs::remove_dir_all(studio.data.join("films").join(film.to_string()));
    studio.tell(Event::Films { shot: row.shot });
    Ok(StatusCode::NO_CONTENT)
}

/// Stops rendering; the frames that are there stay.
#[utoipa::path(post, path = "/api/films/{film}/stop", params(("film" = i64, Path)), responses((status = 204)))]
pub(crate) async fn stop(Extract(studio): State, Path(film): Path<i64>) -> Result<StatusCode> {
    studio.stop_film(film).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Goes on from the frames that are there.
#[utoipa::path(post, path = "/api/films/{film}/resume", params(("film" = i64, Path)), responses((status = 204)))]
pub(crate) async fn resume(Extract(studio): State, Path(film): Path<i64>) -> Result<StatusCode> {
    let row = studio.store.film(film).await?;
    if row.state != "running" {
        studio.start_film(row).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// A frame, display-referred sRGB.
#[utoipa::path(get, path = "/api/films/{film}/frames/{number}/picture.png", params(("film" = i64, Path), ("number" = u32, Path)), responses((status = 200, content_type = "image/png")))]
pub(crate) async fn picture(
    Extract(studio): State,
    Path((film, number)): Path<(i64, u32)>,
) -> Result<Response> {
    send(studio.film_folder(film).png(number), "image/png", HeaderMap::new()).await
}

/// A frame, scene-linear with its layers.
#[utoipa::path(get, path = "/api/films/{film}/frames/{number}/linear.exr", params(("film" = i64, Path), ("number" = u32, Path)), responses((status = 200, content_type = "image/x-exr")))]
pub(crate) async fn linear(
    Extract(studio): State,
    Path((film, number)): Path<(i64, u32)>,
) -> Result<Response> {
    send(studio.film_folder(film).exr(number), "image/x-exr", HeaderMap::new()).await
}

/// The film as MP4.
#[utoipa::path(get, path = "/api/films/{film}/film.mp4", params(("film" = i64, Path)), responses((status = 200, content_type = "video/mp4")))]
pub(crate) async fn movie(
    Extract(studio): State,
    Path(film): Path<i64>,
    headers: HeaderMap,
) -> Result<Response> {
    send(studio.film_folder(film).movie(), "video/mp4", headers).await
}

/// Sends a file, or the one range asked for (a film is sought in this way).
async fn send(path: PathBuf, kind: &'static str, headers: HeaderMap) -> Result<Response> {
    let bytes = tokio::fs::read(&path)
        .await
        .map_err(|_| Error::NotFound("the file (not rendered yet)".to_owned()))?;
    let cache = (header::CACHE_CONTROL, "no-cache".to_owned());
    let kind = (header::CONTENT_TYPE, kind.to_owned());
    let range =
        headers.get(header::RANGE).and_then(|v| v.to_str().ok()).and_then(|v| v.strip_prefix("bytes="));
    let Some((from, to)) = range.and_then(|range| range.split_once('-')) else {
        return Ok(([kind, cache, (header::ACCEPT_RANGES, "bytes".to_owned())], bytes).into_response());
    };
    let last = bytes.len().saturating_sub(1);
    let from: usize = from.parse().unwrap_or(0);
    let to: usize = to.parse().unwrap_or(last).min(last);
    if from > to {
        return Ok(StatusCode::RANGE_NOT_SATISFIABLE.into_response());
    }
    let content = (header::CONTENT_RANGE, format!("bytes {from}-{to}/{}", bytes.len()));
    Ok((StatusCode::PARTIAL_CONTENT, [kind, cache, content], bytes[from..=to].to_vec()).into_response())
}
