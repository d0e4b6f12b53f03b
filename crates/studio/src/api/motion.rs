//! What changes with time, and what forces do, for the Viewport, the Timeline and the Sheet.

use super::input::State;
use super::input::{Input, Path, Query};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use frames::{Frame, Frames, RunFrames};
use glam::Vec3;
use serde::{Deserialize, Serialize};
use shot::{
    Element, Fault, Id, Shot,
    motion::{Channel, Performance, Sampler, Value},
    world::World,
};
use simulate::forces::{Field, Surfaces, Weight};
use std::cell::RefCell;
use std::collections::HashMap;
use std::time::{Duration, Instant};
use utoipa::ToSchema;

/// The shot as it is at a frame, and the frame its motion is read at.
pub(super) fn sampled(shot: &Shot, number: f64) -> Result<(Sampler, Shot, f64)> {
    let sampler = Sampler::new(shot).map_err(Error::Faults)?;
    let acting = sampler.acting_frame(number);
    let now = sampler.at(acting).map_err(|error| Error::Bad(error.to_string()))?;
    Ok((sampler, now, acting))
}

/// The elements that change with time, as they are at a frame.
#[derive(Serialize, ToSchema)]
pub(crate) struct Moment {
    frame: u32,
    /// Elements as in the shot file.
    #[schema(value_type = Vec<Object>)]
    elements: Vec<Element>,
    /// How fast the world's time passes.
    time_scale: f32,
}

/// The elements that change with time, as they are at a frame.
#[utoipa::path(get, path = "/api/shots/{id}/at/{number}", params(("id" = i64, Path), ("number" = u32, Path)), responses((status = 200, body = Moment), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn at(Extract(studio): State, Path((id, number)): Path<(i64, u32)>) -> Result<Json<Moment>> {
    let (shot, _) = studio.head(id).await?;
    blocking(move || {
        let (sampler, now, _) = sampled(&shot, f64::from(number))?;
        let time_scale = now.physics.time_scale;
        let elements = now.elements.into_iter().filter(|element| sampler.moves(element.id)).collect();
        Ok(Json(Moment { frame: number, elements, time_scale }))
    })
    .await
}

/// So long may the samples of one value take.
const SAMPLING: Duration = Duration::from_secs(10);

/// Which values over which frames.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Sampling {
    /// Id of the element; none: the shot itself.
    element: Option<u32>,
    /// Path of the value below it.
    path: String,
    /// A channel to be tried in place of the shot's.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    channel: Option<Channel>,
    from: f64,
    to: f64,
    /// Number of samples, 2–4,000.
    count: u32,
}

/// Values over frames.
#[derive(Serialize, ToSchema)]
pub(crate) struct Samples {
    frames: Vec<f64>,
    /// A list a part of the value.
    parts: Vec<Vec<f64>>,
}

/// A value over a range of frames, as its curve is drawn.
#[utoipa::path(post, path = "/api/shots/{id}/sample", params(("id" = i64, Path)), request_body = Sampling, responses((status = 200, body = Samples), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn sample(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(of): Input<Sampling>,
) -> Result<Json<Samples>> {
    let (mut shot, _) = studio.head(id).await?;
    if !(2..=4_000).contains(&of.count) || !of.from.is_finite() || !of.to.is_finite() {
        return Err(Error::Bad("count is outside 2 to 4000, or a frame is not finite".to_owned()));
    }
    let owner = match of.element {
        None => None,
        Some(element) => {
            let found = shot.elements.iter().position(|e| e.id == Id(element));
            Some(found.ok_or_else(|| Error::NotFound(format!("element {element}")))?)
        }
    };
    if let Some(channel) = of.channel {
        let motion = owner.map_or(&mut shot.channels, |index| &mut shot.elements[index].channels);
        motion.insert(of.path.clone(), channel);
    }
    blocking(move || {
        let mut sampler = Sampler::new(&shot).map_err(Error::Faults)?;
        sampler.keep_only(owner.map(|index| shot.elements[index].id), &of.path);
        let unknown = || Error::Bad(format!("{} is not a value of this element", of.path));
        let mut samples = Samples { frames: Vec::new(), parts: Vec::new() };
        let mut now = shot.clone();
        let until = Instant::now() + SAMPLING;
        for i in 0..of.count {
            if Instant::now() > until {
                return Err(Error::Bad(format!(
                    "the formulas of this shot take more than {} s for so many samples",
                    SAMPLING.as_secs()
                )));
            }
            let frame = of.from + (of.to - of.from) * f64::from(i) / f64::from(of.count - 1);
            // Where a formula has no value the curve has a gap.
            let value = match sampler.apply(&mut now, frame) {
                Ok(()) => {
                    Some(now.value(owner.map(|index| now.elements[index].id), &of.path).ok_or_else(unknown)?)
                }
                Err(_) => None,
            };
            let Some(value) = value else { continue };
            samples.frames.push(frame);
            samples.parts.resize_with(value.count(), Vec::new);
            for part in 0..value.count() {
                samples.parts[part].push(value.part(part));
            }
        }
        Ok(Json(samples))
    })
    .await
}

/// Reads a formula, to tell what is wrong with it while it is typed.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Formula {
    element: Option<u32>,
    path: String,
    expression: String,
    frame: f64,
}

/// What a formula gives.
#[derive(Serialize, ToSchema)]
pub(crate) struct FormulaValue {
    /// Its value at the frame, none if it has no finite one.
    value: Option<f64>,
    /// What is wrong with it.
    fault: Option<String>,
    /// Characters before the fault.
    position: Option<usize>,
}

/// Reads a formula, to tell what is wrong with it while it is typed.
#[utoipa::path(post, path = "/api/shots/{id}/formula", params(("id" = i64, Path)), request_body = Formula, responses((status = 200, body = FormulaValue)))]
pub(crate) async fn formula(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(of): Input<Formula>,
) -> Result<Json<FormulaValue>> {
    let (mut shot, _) = studio.head(id).await?;
    let element = of.element.map(Id);
    let motion = match element {
        None => &mut shot.channels,
        Some(id) => {
            let found = shot.elements.iter_mut().find(|e| e.id == id);
            &mut found.ok_or_else(|| Error::NotFound(format!("element {}", id.0)))?.channels
        }
    };
    motion.insert(of.path.clone(), Channel::expression(&of.expression));
    blocking(move || {
        Ok(Json(match Sampler::new(&shot) {
            Err(faults) => {
                let message =
                    faults.first().map_or_else(String::new, |Fault { message, .. }| message.clone());
                let position = message
                    .strip_prefix("at character ")
                    .and_then(|rest| rest.split(':').next()?.parse::<usize>().ok())
                    .map(|at| at - 1);
                FormulaValue { value: None, fault: Some(message), position }
            }
            Ok(sampler) => match sampler.at(sampler.acting_frame(of.frame)) {
                Ok(now) => FormulaValue {
                    value: now.value(element, &of.path).map(|v| v.part(0)),
                    fault: None,
                    position: None,
                },
                Err(error) => FormulaValue { value: None, fault: Some(error.to_string()), position: None },
            },
        }))
    })
    .await
}

/// Where forces are felt.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Probe {
    frame: f64,
    /// Places, three numbers each, m.
    points: Vec<f32>,
    /// A region whose weight is wanted too.
    #[serde(default)]
    region: Option<u32>,
    /// A value to be tried in place of the shot's.
    #[serde(default)]
    tried: Option<Tried>,
}

/// A value to be tried in place of the shot's.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Tried {
    /// Id of the element; none: the shot itself.
    element: Option<u32>,
    /// Path of the value below it.
    path: String,
    #[schema(value_type = Object)]
    value: Value,
}

/// Most places of one probe.
const MAX_POINTS: usize = 20_000;

/// What forces do at places: for each, 3 f32 velocity at which a weightless
/// dot drifts (m/s), 3 f32 acceleration of a body of 1 kg and 0.1 m² at rest,
/// uniform gravity left out (m/s²), 1 f32 weight of the region.
#[utoipa::path(post, path = "/api/shots/{id}/probe", params(("id" = i64, Path)), request_body = Probe, responses((status = 200, content_type = "application/octet-stream")))]
pub(crate) async fn probe(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(of): Input<Probe>,
) -> Result<Response> {
    let (mut shot, _) = studio.head(id).await?;
    if let Some(tried) = of.tried {
        let mut by_hand = Performance::default();
        let at = f64::from(shot.timing.first);
        by_hand.take(&shot, (at, at), tried.element.map(Id), &tried.path, tried.value).map_err(Error::Bad)?;
        shot = by_hand.constant(&shot);
    }
    if of.points.len() % 3 != 0 || of.points.len() > 3 * MAX_POINTS {
        return Err(Error::Bad(format!("points: three numbers each, at most {MAX_POINTS} points")));
    }
    let run = studio.folder(&studio.store.current_run(id).await?);
    let bytes = blocking(move || {
        let (sampler, now, acting) = sampled(&shot, of.frame)?;
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let frames = RunFrames::of(run.clone(), &shot);
        let solved = solved_in(&frames, &shot);
        let world = World::new(&now, &sampler, acting, &solved);
        let surfaces = Surfaces::of(&now, &meshes);
        let seconds = seconds(&sampler, of.frame);
        let field = Field::new(&now, &world, &surfaces, of.frame, seconds);
        let region = of
            .region
            .and_then(|id| now.element(Id(id)))
            .and_then(|element| Weight::new(&world, &now, &surfaces, element, seconds));
        let mut out = Vec::with_capacity(of.points.len() / 3 * 7);
        for point in of.points.chunks_exact(3) {
            let position = Vec3::from_slice(point);
            let (drift, felt) = (field.drift(position), field.felt(position));
            out.extend(drift.to_array());
            out.extend(felt.to_array());
            out.push(region.as_ref().map_or(0.0, |region| region.at(position)));
        }
        Ok(bytemuck::cast_slice::<f32, u8>(&out).to_vec())
    })
    .await?;
    Ok(([(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-store")], bytes)
        .into_response())
}

pub(super) fn seconds(sampler: &Sampler, frame: f64) -> f64 {
    let timing = sampler.base().timing;
    (sampler.world_frame(frame) - f64::from(timing.first)) / f64::from(timing.fps)
}

/// Where frames have the first body of elements, at any frame after the first;
/// there all stands as it is staged, unless it is finished. Frames are read once.
pub(super) fn solved_in<'a>(
    frames: &'a dyn Frames,
    shot: &'a Shot,
) -> impl Fn(Id, f64) -> Option<shot::world::Pose> + 'a {
    let finished = shot.is_finished();
    let read: RefCell<HashMap<u32, Option<Frame>>> = RefCell::default();
    move |id, at| {
        let number = at.round() as u32;
        let staged = number <= shot.timing.first && !finished;
        if staged || shot.element(id)?.as_solid().is_none() {
            return None;
        }
        let mut read = read.borrow_mut();
        let frame = read.entry(number).or_insert_with(|| frames.frame(number).ok());
        let bodies = frame.as_ref()?.bodies.get(&id)?;
        Some((*bodies.positions.first()?, *bodies.orientations.first()?))
    }
}

#[derive(Deserialize)]
pub(crate) struct ActingOn {
    frame: u32,
    #[serde(default)]
    copy: usize,
}

/// The force of one element on a body.
#[derive(Serialize, ToSchema)]
pub(crate) struct ActingForce {
    /// Id of the force's element.
    force: u32,
    name: String,
    /// Force on the body, N.
    newtons: [f32; 3],
    /// Weight of its region at the body, 0–1.
    weight: f32,
}

/// The forces on a body at a frame; none on an element that is no solid or is gone.
#[utoipa::path(get, path = "/api/shots/{id}/acting/{element}", params(("id" = i64, Path), ("element" = u32, Path), ("frame" = u32, Query), ("copy" = usize, Query)), responses((status = 200, body = Vec<ActingForce>)))]
pub(crate) async fn acting(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
    Query(at): Query<ActingOn>,
) -> Result<Json<Vec<ActingForce>>> {
    let (shot, _) = studio.head(id).await?;
    let run = studio.folder(&studio.store.current_run(id).await?);
    blocking(move || {
        let frame = f64::from(at.frame);
        let (sampler, now, acting) = sampled(&shot, frame)?;
        // A page may ask while another change deletes the element: nothing acts on it then.
        let Some(element) = now.element(Id(of)) else { return Ok(Json(Vec::new())) };
        let Some(solid) = element.as_solid() else { return Ok(Json(Vec::new())) };
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let missing = |error: geometry::MissingMesh| Error::Bad(error.to_string());
        let mass = meshes.mass_kg(&solid.shape, solid.body.weight).map_err(missing)?;
        let area = meshes.wind_area_m2(&solid.shape).map_err(missing)? * solid.body.drag_of(&solid.shape);
        let frames = RunFrames::of(run.clone(), &shot);
        let solved = solved_in(&frames, &shot);
        let world = World::new(&now, &sampler, acting, &solved);
        let bodies = run.read(at.frame).ok().and_then(|frame| frame.bodies.get(&Id(of)).cloned());
        let (position, velocity) = match bodies.filter(|bodies| at.copy < bodies.len()) {
            Some(bodies) => (bodies.positions[at.copy], bodies.velocities[at.copy]),
            None => (world.placements(element).get(at.copy).map_or(Vec3::ZERO, |pose| pose.0), Vec3::ZERO),
        };
        let field = Field::new(&now, &world, &Surfaces::of(&now, &meshes), frame, seconds(&sampler, frame));
        let contributions = field.contributions(Id(of), position, velocity, mass, area);
        let view = |contribution: simulate::forces::Contribution| ActingForce {
            force: contribution.force.0,
            name: now.element(contribution.force).map_or_else(String::new, |element| element.name.clone()),
            newtons: contribution.newtons.to_array(),
            weight: contribution.weight,
        };
        Ok(Json(contributions.into_iter().map(view).collect()))
    })
    .await
}
