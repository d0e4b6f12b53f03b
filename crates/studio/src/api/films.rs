//! Films and stills.

use super::input::State;
use super::input::{Input, Path};
use crate::error::{Error, Result};
use crate::films::FilmSettings;
use crate::jobs::blocking;
use crate::store::FilmRow;
use crate::studio::{Event, Studio};
use axum::Json;
use axum::body::Body;
use axum::extract::{Request, State as Extract};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use tower::ServiceExt;
use tower_http::services::ServeFile;
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
    /// First and last frame of each range that is rendered.
    there: Vec<[u32; 2]>,
    seconds_left: Option<f32>,
    bytes: u64,
    /// Seconds since 1970.
    made: i64,
}

fn view(studio: &Studio, row: FilmRow) -> Result<Film> {
    let settings: FilmSettings =
        serde_json::from_str(&row.settings).map_err(|error| Error::Internal(error.to_string()))?;
    let folder = studio.film_folder(row.id);
    let there = folder.there(&settings);
    Ok(Film {
        id: row.id,
        name: row.name,
        done: there.iter().map(|[first, last]| last - first + 1).sum(),
        there,
        total: settings.last - settings.first + 1,
        seconds_left: studio.films.progress(row.id).map(|(_, left)| left),
        settings,
        revision: row.revision,
        state: row.state,
        message: row.message,
        bytes: folder.bytes(),
        made: row.made,
    })
}

/// A shot's films, newest first.
#[utoipa::path(get, path = "/api/shots/{id}/films", params(("id" = i64, Path)), responses((status = 200, body = Vec<Film>)))]
pub(crate) async fn list(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<Vec<Film>>> {
    let rows = studio.store.films(Some(id)).await?;
    blocking(move || Ok(Json(rows.into_iter().map(|row| view(&studio, row)).collect::<Result<_>>()?))).await
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
    let row = studio.store.film(film).await?;
    blocking(move || Ok(Json(view(&studio, row)?))).await
}

/// What a film would take.
#[derive(Serialize, ToSchema)]
pub(crate) struct FilmForecast {
    /// Seconds to render all frames; frames that are to be computed first come on top.
    seconds: f32,
    /// Bytes of the pictures.
    bytes: u64,
}

/// Forecasts the time and the size of a film from tiles of a few of its frames.
#[utoipa::path(post, path = "/api/shots/{id}/films/forecast", params(("id" = i64, Path)), request_body = FilmSettings, responses((status = 200, body = FilmForecast), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn forecast(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(settings): Input<FilmSettings>,
) -> Result<Json<FilmForecast>> {
    let (shot, _) = studio.head(id).await?;
    let runs = studio.runs_of(&shot, &studio.store.current_run(id).await?).await?;
    blocking(move || {
        let assets = studio.loader.all(&studio.data, &shot)?;
        let frames = runs.frames_for_pictures(&shot)?;
        settings.check(&frames.range())?;
        let (seconds, bytes) = crate::films::forecast(&shot, &assets, &*frames, &settings)?;
        Ok(Json(FilmForecast { seconds, bytes }))
    })
    .await
}

/// Deletes a film and its files.
#[utoipa::path(delete, path = "/api/films/{film}", params(("film" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete(Extract(studio): State, Path(film): Path<i64>) -> Result<StatusCode> {
    let row = studio.store.film(film).await?;
    studio.stop_film(film).await?;
    studio.store.delete_film(film).await?;
    studio.remove_film(film).await?;
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
    request: Request,
) -> Result<Response> {
    send(studio.film_folder(film).png(number), request).await
}

/// A frame, scene-linear with its layers.
#[utoipa::path(get, path = "/api/films/{film}/frames/{number}/linear.exr", params(("film" = i64, Path), ("number" = u32, Path)), responses((status = 200, content_type = "image/x-exr")))]
pub(crate) async fn linear(
    Extract(studio): State,
    Path((film, number)): Path<(i64, u32)>,
    request: Request,
) -> Result<Response> {
    send(studio.film_folder(film).exr(number), request).await
}

/// The film as MP4.
#[utoipa::path(get, path = "/api/films/{film}/film.mp4", params(("film" = i64, Path)), responses((status = 200, content_type = "video/mp4")))]
pub(crate) async fn movie(
    Extract(studio): State,
    Path(film): Path<i64>,
    request: Request,
) -> Result<Response> {
    send(studio.film_folder(film).movie(), request).await
}

/// All frames that are there, PNG and EXR, as a zip.
#[utoipa::path(get, path = "/api/films/{film}/frames.zip", params(("film" = i64, Path)), responses((status = 200, content_type = "application/zip")))]
pub(crate) async fn frames(Extract(studio): State, Path(film): Path<i64>) -> Result<Response> {
    let row = studio.store.film(film).await?;
    let file = blocking(move || studio.film_folder(film).zip(&view(&studio, row)?.settings)).await?;
    let stream = tokio_util::io::ReaderStream::new(tokio::fs::File::from_std(file));
    Ok(([(header::CONTENT_TYPE, "application/zip")], Body::from_stream(stream)).into_response())
}

/// Sends a file, or the range asked for (a film is sought in this way).
async fn send(path: PathBuf, request: Request) -> Result<Response> {
    if !tokio::fs::try_exists(&path).await? {
        return Err(Error::NotFound("the file (not rendered yet)".to_owned()));
    }
    let mut response = ServeFile::new(path).oneshot(request).await.expect("it cannot fail").into_response();
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
    Ok(response)
}
