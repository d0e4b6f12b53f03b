//! Shots: cards, documents, changes, whole shots out and in.

use super::input::State;
use super::input::{Input, Path, Query, Upload};
use super::patching;
use crate::assets::{self, sha256};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use crate::store::{Packed, ShotRow};
use axum::Json;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use shot::{Shot, Timing};
use std::io::{Cursor, Read, Write};
use std::time::{Duration, Instant};
use utoipa::openapi::{Ref, RefOr, Schema};
use utoipa::{PartialSchema, ToSchema};

/// The shot file's document.
#[derive(Serialize)]
#[serde(transparent)]
pub(crate) struct Document(pub Shot);

impl PartialSchema for Document {
    fn schema() -> RefOr<Schema> {
        RefOr::Ref(Ref::from_schema_name("Shot"))
    }
}

impl ToSchema for Document {}

/// A shot on the home view.
#[derive(Serialize, ToSchema)]
pub(crate) struct Card {
    id: i64,
    project: String,
    name: String,
    /// What it shows, in a line.
    about: String,
    revision: i64,
    width: u32,
    height: u32,
    fps: f32,
    first: u32,
    last: u32,
    elements: usize,
    /// Bodies that move.
    bodies: usize,
    /// Seconds since 1970.
    changed: i64,
}

/// A shot as it is.
#[derive(Serialize, ToSchema)]
pub(crate) struct ShotState {
    pub id: i64,
    pub project: String,
    pub revision: i64,
    /// What undo takes back.
    pub undo: Option<String>,
    /// What redo brings back.
    pub redo: Option<String>,
    /// The id of the next element: none of those that were deleted had it.
    pub next_element: u32,
    pub document: Document,
}

pub(crate) async fn state(studio: &crate::studio::Studio, id: i64) -> Result<Json<ShotState>> {
    let row = studio.store.shot(id).await?;
    let head = studio.store.revision(id, row.head).await?;
    let redo = studio.store.redo_target(&row).await?;
    let document = studio.store.document(id, row.head).await?;
    Ok(Json(ShotState {
        id,
        project: row.project,
        revision: row.head,
        undo: head.parent.map(|_| head.label),
        redo: redo.map(|revision| revision.label),
        next_element: document.next_id().0,
        document: Document(document),
    }))
}

/// All shots.
#[utoipa::path(get, path = "/api/shots", responses((status = 200, body = Vec<Card>)))]
pub(crate) async fn list(Extract(studio): State) -> Result<Json<Vec<Card>>> {
    let rows = studio.store.shots_with_documents().await?;
    blocking(move || {
        let card = |(row, packed): (ShotRow, Packed)| {
            let shot = packed.shot()?;
            let moving = shot.solids().filter(|(_, solid)| solid.body.moves != shot::Moves::Still);
            Ok(Card {
                id: row.id,
                project: row.project,
                name: row.name,
                about: shot.about.clone(),
                revision: row.head,
                width: shot.picture.width,
                height: shot.picture.height,
                fps: shot.timing.fps,
                first: shot.timing.first,
                last: shot.timing.last,
                elements: shot.elements.len(),
                bodies: moving.map(|(element, _)| element.count()).sum(),
                changed: row.changed,
            })
        };
        Ok(Json(rows.into_iter().map(card).collect::<Result<_>>()?))
    })
    .await
}

/// An empty shot to begin with.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewShot {
    name: String,
    width: u32,
    height: u32,
    fps: f32,
    first: u32,
    last: u32,
}

/// Begins an empty shot.
#[utoipa::path(post, path = "/api/shots", request_body = NewShot, responses((status = 200, body = ShotState), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn create(Extract(studio): State, Input(new): Input<NewShot>) -> Result<Json<ShotState>> {
    let mut shot = Shot::empty(new.name.trim());
    shot.picture = shot::PictureSize { width: new.width, height: new.height };
    shot.timing = Timing::new(new.fps, new.first, new.last);
    let faults = shot.faults();
    if !faults.is_empty() {
        return Err(Error::Faults(faults));
    }
    let project = studio.store.project("Saltmarket").await?;
    let id = studio.store.add_shot(project, &shot, "Shot begun").await?;
    state(&studio, id).await
}

/// A shot as it is.
#[utoipa::path(get, path = "/api/shots/{id}", params(("id" = i64, Path)), responses((status = 200, body = ShotState)))]
pub(crate) async fn get(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<ShotState>> {
    state(&studio, id).await
}

/// A change of a shot.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Change {
    /// The revision the change was made on.
    base: i64,
    /// What the history calls it.
    label: String,
    /// JSON Patch (RFC 6902) on the document.
    #[schema(value_type = Vec<Object>)]
    patch: json_patch::Patch,
}

/// Changes a shot. Refused with 409 if it was changed since `base`.
#[utoipa::path(patch, path = "/api/shots/{id}", params(("id" = i64, Path)), request_body = Change,
    responses((status = 200, body = ShotState), (status = 409, body = crate::error::Problem), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn patch(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(change): Input<Change>,
) -> Result<Json<ShotState>> {
    let (before, head) = studio.head(id).await?;
    if head != change.base {
        return Err(Error::Conflict { base: change.base, head });
    }
    let shot = blocking(move || {
        let mut document = serde_json::to_value(&before).expect("a shot serialises");
        patching::apply(&mut document, &change.patch)?;
        shot::read_value(document).map_err(|error| Error::Faults(error.0))
    })
    .await?;
    let label: String = change.label.chars().take(120).collect();
    studio.save(id, change.base, &label, &shot).await?;
    state(&studio, id).await
}

/// Deletes a shot with its runs and films.
#[utoipa::path(delete, path = "/api/shots/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete(Extract(studio): State, Path(id): Path<i64>) -> Result<axum::http::StatusCode> {
    studio.playing.stop(id);
    let (runs, films) = (studio.store.runs(id).await?, studio.store.films(Some(id)).await?);
    for film in &films {
        studio.stop_film(film.id).await?;
    }
    studio.store.delete_shot(id).await?;
    for film in films {
        studio.remove_film(film.id).await?;
    }
    blocking(move || {
        for run in &runs {
            let folder = studio.folder(run);
            // A bake that was told to stop ends after the frame at hand.
            let until = Instant::now() + Duration::from_secs(60);
            while studio.playing.is_on(id) && Instant::now() < until {
                std::thread::sleep(Duration::from_millis(5));
            }
            folder.remove()?;
            // It may never have been made.
            let _ = std::fs::remove_file(studio.poster_path_of_run(run.id));
        }
        studio.drop_pictures(id);
        Ok(())
    })
    .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// The picture that stands for the shot in lists.
#[utoipa::path(get, path = "/api/shots/{id}/poster.png", params(("id" = i64, Path)), responses((status = 200, content_type = "image/png")))]
pub(crate) async fn poster(Extract(studio): State, Path(id): Path<i64>) -> Result<Response> {
    let (shot, revision) = studio.head(id).await?;
    let runs = studio.runs_of(&shot, &studio.store.current_run(id).await?).await?;
    let bytes = blocking(move || studio.poster(id, revision, &shot, &runs)).await?;
    Ok(png(bytes))
}

/// A picture that may change.
pub(crate) fn png(bytes: Vec<u8>) -> Response {
    ([(header::CONTENT_TYPE, "image/png"), (header::CACHE_CONTROL, "no-cache")], bytes).into_response()
}

/// The shot as a zip of `shot.json` and its assets.
#[utoipa::path(get, path = "/api/shots/{id}/export.zip", params(("id" = i64, Path)), responses((status = 200, content_type = "application/zip")))]
pub(crate) async fn export(Extract(studio): State, Path(id): Path<i64>) -> Result<Response> {
    let (shot, _) = studio.head(id).await?;
    let name: String = shot.name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let bytes = blocking(move || {
        let fail = |error: zip::result::ZipError| Error::Internal(error.to_string());
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        let options = zip::write::SimpleFileOptions::default();
        zip.start_file("shot.json", options).map_err(fail)?;
        zip.write_all(shot::write(&shot).as_bytes())?;
        for asset in shot.assets.values() {
            zip.start_file(&asset.file, options).map_err(fail)?;
            zip.write_all(&assets::read(&studio.data, asset)?)?;
        }
        Ok(zip.finish().map_err(fail)?.into_inner())
    })
    .await?;
    let disposition = format!("attachment; filename=\"{name}.zip\"");
    Ok((
        [(header::CONTENT_TYPE, "application/zip".to_owned()), (header::CONTENT_DISPOSITION, disposition)],
        bytes,
    )
        .into_response())
}

#[derive(Deserialize)]
pub(crate) struct Named {
    #[serde(default)]
    name: String,
}

/// Takes in a shot: `shot.json`, or a zip of it and its assets.
#[utoipa::path(post, path = "/api/import", params(("name" = String, Query)), request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = ShotState), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn import(
    Extract(studio): State,
    Query(named): Query<Named>,
    Upload(body): Upload,
) -> Result<Json<ShotState>> {
    let data = studio.data.clone();
    let shot = studio.import(move || unpack(&data, &named.name, &body)).await?;
    let project = studio.store.project("Saltmarket").await?;
    let id = studio.store.add_shot(project, &shot, "Shot imported").await?;
    state(&studio, id).await
}

fn unpack(data: &std::path::Path, name: &str, body: &[u8]) -> Result<Shot> {
    if !body.starts_with(b"PK") {
        let shot = shot::read(body).map_err(|error| Error::Faults(error.0))?;
        for (asset_name, asset) in &shot.assets {
            if !assets::path(data, asset)?.exists() {
                return Err(Error::Bad(format!(
                    "{name}: the asset \"{asset_name}\" is not beside it; import the zip instead"
                )));
            }
            assets::read(data, asset)?;
        }
        return Ok(shot);
    }
    let bad = |what: String| Error::Bad(format!("{name}: {what}"));
    let mut zip = zip::ZipArchive::new(Cursor::new(body)).map_err(|error| bad(error.to_string()))?;
    let mut file = |path: &str, most: usize| -> Result<Vec<u8>> {
        let entry = zip.by_name(path).map_err(|_| bad(format!("there is no {path} in it")))?;
        let mut bytes = Vec::new();
        let read = entry.take(most as u64 + 1).read_to_end(&mut bytes);
        read.map_err(|error| bad(format!("{path} is damaged: {error}")))?;
        if bytes.len() > most {
            return Err(bad(format!("{path} is larger than {} MB", most >> 20)));
        }
        Ok(bytes)
    };
    let mut shot =
        shot::read(&file("shot.json", shot::MAX_BYTES)?).map_err(|error| Error::Faults(error.0))?;
    for (asset_name, asset) in &mut shot.assets {
        let bytes = file(&asset.file, interchange::MAX_FILE)?;
        if sha256(&bytes) != asset.sha256 {
            return Err(bad(format!("{} is not the file the shot was made with", asset.file)));
        }
        let examined = assets::examine_as(asset.kind, &asset.file, &bytes)?;
        if examined.asset.kind != asset.kind {
            return Err(bad(format!("the asset \"{asset_name}\" is not what the shot says it is")));
        }
        // Stored under its own sum, whatever path the zip had.
        *asset = examined.asset;
        frames::write_whole(&assets::path(data, asset)?, &bytes)?;
    }
    Ok(shot)
}
