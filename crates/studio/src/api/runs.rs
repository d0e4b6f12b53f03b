//! Runs: playing, frames, measures, kept runs.

use super::input::State;
use super::input::{Input, Path, Query};
use super::shots::{ShotState, state};
use crate::error::{Error, Result};
use crate::finishing::Runs;
use crate::jobs::blocking;
use crate::store::RunRow;
use crate::studio::Event;
use crate::studio::{Studio, Wanted};
use axum::Json;
use axum::extract::State as Extract;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use frames::{RunFolder, RunFrames, finish::SharedFrames};
use serde::{Deserialize, Serialize};
use shot::{Id, Shot, SystemId, changes::what_changed, fingerprint::Fingerprint};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Instant;
use utoipa::ToSchema;

#[derive(Deserialize)]
pub(crate) struct Played {
    /// The system that is computed, with those that it reads; none: all.
    system: Option<String>,
}

/// Computes the frames that are missing or stale, in order, in the background: of all
/// systems, or of one while the others hold.
#[utoipa::path(post, path = "/api/shots/{id}/play", params(("id" = i64, Path), ("system" = Option<String>, Query)), responses((status = 204), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn play(
    Extract(studio): State,
    Path(id): Path<i64>,
    Query(played): Query<Played>,
) -> Result<StatusCode> {
    let systems = match &played.system {
        None => None,
        Some(name) => {
            let (shot, _) = studio.head(id).await?;
            let wanted: SystemId = name.parse().map_err(|error| Error::Bad(format!("system: {error}")))?;
            if !shot.systems().iter().any(|system| system.id == wanted) {
                return Err(Error::Bad(format!("system: the shot has no {name}")));
            }
            Some(vec![wanted])
        }
    };
    studio.play(id, systems).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Stops computing; what is computed stays.
#[utoipa::path(delete, path = "/api/shots/{id}/play", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn stop(Extract(studio): State, Path(id): Path<i64>) -> Result<StatusCode> {
    studio.playing.stop(id);
    Ok(StatusCode::NO_CONTENT)
}

/// Drops all frames of the current run.
#[utoipa::path(post, path = "/api/shots/{id}/clear", params(("id" = i64, Path)), responses((status = 204), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn clear(Extract(studio): State, Path(id): Path<i64>) -> Result<StatusCode> {
    if studio.playing.is_on(id) {
        return Err(Error::Bad("frames are being computed; stop first".to_owned()));
    }
    let folder = studio.folder(&studio.store.current_run(id).await?);
    blocking(move || Ok(folder.clear()?)).await?;
    studio.tell(Event::BakeEnded { shot: id, message: None });
    Ok(StatusCode::NO_CONTENT)
}

/// A kept run.
#[derive(Serialize, ToSchema)]
pub(crate) struct Run {
    id: i64,
    number: i64,
    name: String,
    /// Seconds since 1970.
    made: i64,
    frames: usize,
    bytes: u64,
    /// What differs from the shot as it is now, in words.
    differs: Vec<String>,
}

/// The kept runs, newest first.
#[utoipa::path(get, path = "/api/shots/{id}/runs", params(("id" = i64, Path)), responses((status = 200, body = Vec<Run>)))]
pub(crate) async fn list(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<Vec<Run>>> {
    let (shot, _) = studio.head(id).await?;
    let rows = studio.store.runs(id).await?;
    blocking(move || {
        let mut runs = Vec::new();
        for row in rows {
            let folder = studio.folder(&row);
            let (frames, bytes) = (folder.headers().len(), folder.size().0);
            let Some(number) = row.number.filter(|_| frames > 0) else { continue };
            let differs = folder.manifest().map(|m| what_changed(&m.shot, &shot)).unwrap_or_default();
            runs.push(Run { id: row.id, number, name: row.name, made: row.made, frames, bytes, differs });
        }
        Ok(Json(runs))
    })
    .await
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RunName {
    /// None: named by its number.
    name: Option<String>,
}

/// Gives the shot that a run was computed from the finishing steps of the shot
/// as it is: they are those that the frames are shown with.
fn take_steps(computed: &mut Shot, now: &Shot) {
    let mut shot = computed.clone();
    shot.elements.retain(|element| element.as_finish().is_none());
    shot.elements.extend(now.elements.iter().filter(|element| element.as_finish().is_some()).cloned());
    // A step may be of an element that is new.
    if shot.faults().is_empty() {
        *computed = shot;
    }
}

/// Puts the current run's frames aside, under a number and a name.
#[utoipa::path(post, path = "/api/shots/{id}/runs", params(("id" = i64, Path)), request_body = RunName, responses((status = 204), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn keep(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(RunName { name }): Input<RunName>,
) -> Result<StatusCode> {
    let current = studio.folder(&studio.store.current_run(id).await?);
    let (shot, _) = studio.head(id).await?;
    let run = studio.store.new_run_id().await?;
    let kept = RunFolder::at(studio.data.join("runs").join(run.to_string()));
    let to = kept.path().to_owned();
    blocking(move || {
        if current.headers().is_empty() {
            return Err(Error::Bad("there are no frames to keep yet; play first".to_owned()));
        }
        Ok(current.keep_with(&to, |manifest| take_steps(&mut manifest.shot, &shot))?)
    })
    .await?;
    // Listed only when it is there whole.
    let name = name.as_deref().map(str::trim).filter(|name| !name.is_empty());
    if let Err(error) = studio.store.add_kept_run(run, id, name).await {
        blocking(move || Ok(kept.remove()?)).await?;
        return Err(error);
    }
    studio.tell(Event::Runs { shot: id });
    Ok(StatusCode::NO_CONTENT)
}

/// Renames a kept run.
#[utoipa::path(patch, path = "/api/runs/{run}", params(("run" = i64, Path)), request_body = RunName, responses((status = 204)))]
pub(crate) async fn rename(
    Extract(studio): State,
    Path(run): Path<i64>,
    Input(RunName { name }): Input<RunName>,
) -> Result<StatusCode> {
    let name = name.unwrap_or_default().trim().to_owned();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(Error::Bad("name: give 1 to 80 characters".to_owned()));
    }
    let row = studio.store.run(run).await?;
    studio.store.rename_run(run, &name).await?;
    studio.tell(Event::Runs { shot: row.shot });
    Ok(StatusCode::NO_CONTENT)
}

/// Drops a kept run.
#[utoipa::path(delete, path = "/api/runs/{run}", params(("run" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete(Extract(studio): State, Path(run): Path<i64>) -> Result<StatusCode> {
    let row = studio.store.run(run).await?;
    if row.number.is_none() {
        return Err(Error::Bad("the current run cannot be dropped; clear it".to_owned()));
    }
    studio.store.delete_run(run).await?;
    let (folder, poster) = (studio.folder(&row), studio.poster_path_of_run(run));
    blocking(move || {
        // It may never have been made.
        let _ = std::fs::remove_file(poster);
        Ok(folder.remove()?)
    })
    .await?;
    studio.tell(Event::Runs { shot: row.shot });
    Ok(StatusCode::NO_CONTENT)
}

/// Brings the shot back to what a run was computed from, as a new change.
#[utoipa::path(post, path = "/api/runs/{run}/restore", params(("run" = i64, Path)), responses((status = 200, body = ShotState)))]
pub(crate) async fn restore(Extract(studio): State, Path(run): Path<i64>) -> Result<Json<ShotState>> {
    let row = studio.store.run(run).await?;
    let folder = studio.folder(&row);
    let manifest = blocking(move || Ok(folder.manifest()?)).await?;
    let shot = studio.store.shot(row.shot).await?;
    studio.change(row.shot, shot.head, &format!("Restored from {}", row.name), &manifest.shot).await?;
    state(&studio, row.shot).await
}

#[derive(Deserialize)]
pub(crate) struct Shown {
    /// With the finishing steps of the shot.
    #[serde(default)]
    finished: bool,
    /// Ids of elements that are left out, with commas between.
    #[serde(default)]
    without: String,
    /// About so many particles and vertices at most.
    most: Option<usize>,
}

impl Shown {
    fn wanted(&self) -> Result<Wanted> {
        let ids = self.without.split(',').filter(|id| !id.is_empty()).map(str::parse);
        let ids: std::result::Result<Vec<u32>, _> = ids.collect();
        let said = |_| Error::Bad(format!("without: \"{}\" is no list of ids, such as 3,5", self.without));
        let ids = ids.map_err(said)?;
        Wanted::without(&ids, self.most)
    }

    /// Tells the frame with this fingerprint from the one with more or less in it.
    fn tag(&self, print: &Fingerprint) -> String {
        let most = self.most.map_or_else(String::new, |most| most.to_string());
        format!("\"{print}/{}/{most}\"", self.without)
    }
}

/// The shot whose finishing steps a run's frames are shown with: as it is now, or as it was when the run was kept; none if a kept
/// run does not say.
pub(crate) async fn shot_of(studio: &Arc<Studio>, row: &RunRow) -> Result<Option<Shot>> {
    if row.number.is_none() {
        return Ok(Some(studio.head(row.shot).await?.0));
    }
    let folder = studio.folder(row);
    blocking(move || Ok(folder.manifest().map(|manifest| manifest.shot).ok())).await
}

/// A frame as the Viewport takes it, as it was computed or finished; see docs/formats.md.
#[utoipa::path(get, path = "/api/runs/{run}/frames/{number}", params(("run" = i64, Path), ("number" = u32, Path), ("finished" = Option<bool>, Query), ("without" = Option<String>, Query), ("most" = Option<usize>, Query)), responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn frame(
    Extract(studio): State,
    Path((run, number)): Path<(i64, u32)>,
    Query(shown): Query<Shown>,
    headers: HeaderMap,
) -> Result<Response> {
    let row = studio.store.run(run).await?;
    let folder = studio.folder(&row);
    let shot = if shown.finished { shot_of(&studio, &row).await? } else { None };
    let runs = match &shot {
        Some(shot) => studio.runs_of(shot, &row).await?,
        None => Runs::only(folder.clone()),
    };
    let known = headers.get(header::IF_NONE_MATCH).cloned();
    let wanted = shown.wanted()?;
    let found = blocking(move || {
        let frames: SharedFrames = match &shot {
            Some(shot) => runs.frames(shot)?,
            None => Arc::new(RunFrames::new(folder.clone(), 0..=shot::LAST_FRAME)),
        };
        if !frames.range().contains(&number) {
            return Err(Error::NotFound(format!("frame {number}")));
        }
        let tag = |print: &Fingerprint| shown.tag(print);
        let same = known.is_some_and(|known| {
            frames.fingerprint(number).is_some_and(|print| known.as_bytes() == tag(&print).as_bytes())
        });
        if same {
            return Ok(None);
        }
        // Of finished frames that take long, those that are kept are shown.
        let kept = folder.finished();
        let finished = shot.as_ref().and_then(|_| frames.fingerprint(number));
        let is_kept = finished.is_some() && kept.header(number).map(|header| header.fingerprint) == finished;
        if is_kept {
            let source = RunFrames::new(kept.clone(), 0..=shot::LAST_FRAME);
            if let Ok((print, bytes)) = studio.on_wire(&kept, &source, number, &wanted) {
                return Ok(Some((tag(&print), bytes)));
            }
        }
        let start = Instant::now();
        let (print, bytes) = studio.on_wire(&folder, &*frames, number, &wanted)?;
        if let (Some(shot), None) = (&shot, row.number) {
            studio.note_finishing_time(row.shot, shot, start.elapsed());
        }
        Ok(Some((tag(&print), bytes)))
    });
    let Some((tag, bytes)) = found.await? else { return Ok(StatusCode::NOT_MODIFIED.into_response()) };
    let kind = "application/octet-stream".to_owned();
    let head =
        [(header::CONTENT_TYPE, kind), (header::ETAG, tag), (header::CACHE_CONTROL, "no-cache".to_owned())];
    Ok((head, bytes).into_response())
}

/// The picture that stands for a run in lists.
#[utoipa::path(get, path = "/api/runs/{run}/poster.png", params(("run" = i64, Path)), responses((status = 200, content_type = "image/png"), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn poster(Extract(studio): State, Path(run): Path<i64>) -> Result<Response> {
    let row = studio.store.run(run).await?;
    let folder = studio.folder(&row);
    let of = blocking(move || Ok(folder.manifest()?.shot)).await;
    let runs = match of {
        Ok(shot) => studio.runs_of(&shot, &row).await?,
        Err(_) => Runs::only(studio.folder(&row)),
    };
    let bytes = blocking(move || {
        if row.number.is_none() {
            return Err(Error::Bad("the current run has the shot's poster".to_owned()));
        }
        studio.poster_of_run(run, &runs)
    })
    .await?;
    Ok(super::shots::png(bytes))
}

/// A value that differs between a run's shot and the shot as it is now.
#[derive(Serialize, ToSchema)]
pub(crate) struct RunDifference {
    /// The value in words, such as `friction of Crate stack`.
    value: String,
    /// The value in the run's shot; none where it is no single value.
    run: Option<String>,
    /// The value now.
    now: Option<String>,
}

/// What differs between a run's shot and the shot as it is now.
#[utoipa::path(get, path = "/api/runs/{run}/differences", params(("run" = i64, Path)), responses((status = 200, body = Vec<RunDifference>)))]
pub(crate) async fn differences(
    Extract(studio): State,
    Path(run): Path<i64>,
) -> Result<Json<Vec<RunDifference>>> {
    let row = studio.store.run(run).await?;
    let (now, _) = studio.head(row.shot).await?;
    let folder = studio.folder(&row);
    blocking(move || {
        let list = shot::changes::differences(&folder.manifest()?.shot, &now).into_iter();
        let row =
            |of: shot::changes::Difference| RunDifference { value: of.value, run: of.before, now: of.now };
        Ok(Json(list.map(row).collect()))
    })
    .await
}

/// What was measured over all solids, by frame.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct MeasuredRun {
    frames: Vec<u32>,
    contacts: Vec<u32>,
    deepest_overlap_m: Vec<f32>,
    max_speed_m_s: Vec<f32>,
    /// Element of the fastest body, 0 if all rest.
    fastest: Vec<u32>,
    /// Kinetic and potential energy of the free bodies, J.
    kinetic_j: Vec<f64>,
    potential_j: Vec<f64>,
    /// Particles, by element.
    particles: Vec<Turnover>,
    /// Liquids, by element.
    liquids: Vec<LiquidTrack>,
}

/// What was measured of a liquid by frame, as many frames as were measured: null where there was none of it.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct LiquidTrack {
    element: u32,
    /// Volume within it over that of its particles, no unit.
    volume_kept: Vec<Option<f32>>,
    /// Root mean square of the divergence left, 1/s.
    divergence_1_s: Vec<Option<f32>>,
    /// Steps in which the last substep of the frame was taken.
    steps: Vec<Option<u32>>,
}

/// The particles of an element by frame, as many frames as were measured.
#[derive(Serialize, ToSchema)]
pub(crate) struct Turnover {
    element: u32,
    alive: Vec<u32>,
    /// Born since the frame before.
    born: Vec<u32>,
    /// Gone since the frame before.
    gone: Vec<u32>,
}

/// What was measured over all solids, by frame.
#[utoipa::path(get, path = "/api/runs/{run}/measured", params(("run" = i64, Path)), responses((status = 200, body = MeasuredRun)))]
pub(crate) async fn measured(Extract(studio): State, Path(run): Path<i64>) -> Result<Json<MeasuredRun>> {
    let folder = studio.folder(&studio.store.run(run).await?);
    blocking(move || {
        let mut out = MeasuredRun::default();
        let of_shot = folder.manifest().map(|manifest| manifest.shot);
        let mut swarms: BTreeMap<Id, Vec<frames::Turnover>> = BTreeMap::new();
        for (element, _) in of_shot.iter().flat_map(|shot| shot.particles()) {
            swarms.insert(element.id, Vec::new());
        }
        let mut liquids: BTreeMap<Id, Vec<Option<frames::LiquidMeasure>>> = BTreeMap::new();
        for (number, m) in folder.measurements() {
            out.frames.push(number);
            for id in m.turnover.keys() {
                swarms.entry(*id).or_insert_with(|| vec![frames::Turnover::default(); out.frames.len() - 1]);
            }
            for (id, list) in &mut swarms {
                list.push(m.turnover.get(id).copied().unwrap_or_default());
            }
            for id in m.liquids.keys() {
                liquids.entry(*id).or_insert_with(|| vec![None; out.frames.len() - 1]);
            }
            for (id, list) in &mut liquids {
                list.push(m.liquids.get(id).copied());
            }
            out.contacts.push(m.contacts);
            out.deepest_overlap_m.push(m.deepest_overlap_m);
            out.max_speed_m_s.push(m.max_speed_m_s);
            out.fastest.push(m.fastest.map_or(0, |id| id.0));
            out.kinetic_j.push(m.kinetic_j);
            out.potential_j.push(m.potential_j);
        }
        out.particles = (swarms.into_iter())
            .map(|(id, list)| Turnover {
                element: id.0,
                alive: list.iter().map(|turnover| turnover.alive).collect(),
                born: list.iter().map(|turnover| turnover.born).collect(),
                gone: list.iter().map(|turnover| turnover.gone).collect(),
            })
            .collect();
        let track = |(id, list): (Id, Vec<Option<frames::LiquidMeasure>>)| LiquidTrack {
            element: id.0,
            volume_kept: list.iter().map(|of| Some(of.as_ref()?.volume_kept)).collect(),
            divergence_1_s: list.iter().map(|of| Some(of.as_ref()?.divergence_1_s)).collect(),
            steps: list.iter().map(|of| Some(of.as_ref()?.steps)).collect(),
        };
        out.liquids = liquids.into_iter().map(track).collect();
        Ok(Json(out))
    })
    .await
}

#[derive(Deserialize)]
pub(crate) struct TrackOf {
    element: u32,
    #[serde(default)]
    copy: usize,
}

/// A body's height and speed along a run.
#[derive(Serialize, ToSchema)]
pub(crate) struct BodyTrack {
    frames: Vec<u32>,
    height_m: Vec<f32>,
    speed_m_s: Vec<f32>,
}

/// A body's height and speed along a run.
#[utoipa::path(get, path = "/api/runs/{run}/track", params(("run" = i64, Path), ("element" = u32, Query), ("copy" = usize, Query)), responses((status = 200, body = BodyTrack)))]
pub(crate) async fn track(
    Extract(studio): State,
    Path(run): Path<i64>,
    Query(of): Query<TrackOf>,
) -> Result<Json<BodyTrack>> {
    let folder = studio.folder(&studio.store.run(run).await?);
    blocking(move || {
        let track = folder.track(Id(of.element), of.copy);
        Ok(Json(BodyTrack { frames: track.frames, height_m: track.height_m, speed_m_s: track.speed_m_s }))
    })
    .await
}
