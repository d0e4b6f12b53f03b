//! Freshness: how the frames of a run stand against the shot as it is.

use super::input::{Path, State};
use crate::error::Result;
use crate::finishing::{FinishedState, FrameState};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use frames::{Fingerprints, RunFolder};
use serde::Serialize;
use shot::{
    Shot, System,
    changes::{why_stale, why_system_is_stale},
    fingerprint::{Fingerprint, combined, system_fingerprints},
};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use utoipa::ToSchema;

/// A stretch of frames in one state.
#[derive(Serialize, ToSchema)]
pub(crate) struct Stretch {
    first: u32,
    last: u32,
    /// fresh, stale or missing
    state: &'static str,
    /// For stale frames, what changed since.
    reason: Option<String>,
}

/// A system's frames against the shot as it is now.
#[derive(Serialize, ToSchema)]
pub(crate) struct SystemState {
    /// Its identity: `solids`, `particles-7`.
    system: String,
    /// Its name in a sentence.
    name: String,
    /// Ids of its elements.
    elements: Vec<u32>,
    /// Identities of the systems whose motion it needs.
    reads: Vec<String>,
    stretches: Vec<Stretch>,
}

/// A run's frames against the shot as it is now.
#[derive(Serialize, ToSchema)]
pub(crate) struct Freshness {
    run: i64,
    /// Of whole frames: fresh in all systems, stale in one at least, or not there.
    stretches: Vec<Stretch>,
    /// Of each system that has elements.
    systems: Vec<SystemState>,
    /// Whether frames are being computed.
    playing: bool,
    /// Bytes on disk: frames, and states to go on from.
    frame_bytes: u64,
    state_bytes: u64,
    /// The frame at which a shot that goes round has met its state: no frame is computed after it.
    closed_at: Option<u32>,
    /// The finished frames; none without finishing steps.
    finished: Option<Finished>,
}

/// The finished frames of a shot.
#[derive(Serialize, ToSchema)]
pub(crate) struct Finished {
    first: u32,
    last: u32,
    /// Whether the first frame follows the last.
    repeats: bool,
    stretches: Vec<Stretch>,
    steps: Vec<FinishedStep>,
}

/// What a finishing step gives.
#[derive(Serialize, ToSchema)]
pub(crate) struct FinishedStep {
    /// Id of the step's element.
    step: u32,
    first: u32,
    last: u32,
    repeats: bool,
    /// The moments at which frames of the source are shown, of a step that changes their time.
    ticks: Vec<f32>,
    /// Why the step was not taken.
    problem: Option<String>,
}

impl From<FinishedState> for Finished {
    fn from(of: FinishedState) -> Self {
        let mut stretches: Vec<Stretch> = Vec::new();
        for (frame, state) in (of.first..).zip(&of.states) {
            let state = match state {
                FrameState::Fresh => "fresh",
                FrameState::Stale => "stale",
                FrameState::Missing => "missing",
            };
            add_frame(&mut stretches, frame, state, None);
        }
        let step = |step: &frames::finish::StepResult| FinishedStep {
            step: step.step.0,
            first: *step.range.start(),
            last: *step.range.end(),
            repeats: step.repeats,
            ticks: step.ticks.clone(),
            problem: step.problem.clone(),
        };
        let last = of.first + of.states.len() as u32 - 1;
        let steps = of.steps.iter().map(step).collect();
        Self { first: of.first, last, repeats: of.repeats, stretches, steps }
    }
}

/// Adds the state of a frame to those before it.
fn add_frame(stretches: &mut Vec<Stretch>, frame: u32, state: &'static str, reason: Option<String>) {
    match stretches.last_mut() {
        Some(last) if last.state == state && last.reason == reason => last.last = frame,
        _ => stretches.push(Stretch { first: frame, last: frame, state, reason }),
    }
}

/// The heads of a run's frames, and the fingerprints that they would have.
struct RunState {
    shot: Shot,
    systems: Vec<SystemHeaders>,
    /// The headers of whole frames.
    frames: BTreeMap<u32, frames::Header>,
    /// Bytes of frames and states.
    size: (u64, u64),
}

struct SystemHeaders {
    system: System,
    headers: BTreeMap<u32, frames::Header>,
    /// Of each frame of the shot.
    prints: Vec<Option<Fingerprint>>,
}

impl SystemHeaders {
    /// The state of a frame, and the revision that a stale one was computed from.
    fn state(&self, frame: u32, place: usize) -> (&'static str, Option<u32>) {
        match (self.headers.get(&frame), self.prints[place]) {
            (None, None) => ("fresh", None),
            (None, Some(_)) => ("missing", None),
            (Some(header), print) if print == Some(header.fingerprint) => ("fresh", None),
            (Some(header), _) => ("stale", Some(header.revision)),
        }
    }
}

impl RunState {
    fn read(shot: Shot, run: &RunFolder) -> Self {
        let prints = system_fingerprints(&shot);
        let systems = (shot.systems().into_iter().zip(prints))
            .map(|(system, prints)| {
                let headers = run.headers_of(system.id);
                SystemHeaders { system, headers, prints: prints.list }
            })
            .collect();
        Self { shot, systems, frames: run.headers(), size: run.size() }
    }

    /// The frames of the shot with their places.
    fn numbers(&self) -> impl Iterator<Item = (usize, u32)> + use<> {
        self.shot.timing.frames().enumerate()
    }

    /// The revisions that stale frames were computed from.
    fn stale_revisions(&self) -> BTreeSet<u32> {
        let of = |system: &SystemHeaders| -> Vec<u32> {
            self.numbers().filter_map(|(place, frame)| system.state(frame, place).1).collect()
        };
        let whole = self.numbers().filter_map(|(_, frame)| Some(self.frames.get(&frame)?.revision));
        self.systems.iter().flat_map(of).chain(whole).collect()
    }

    /// The states of whole frames and of each system that has elements, with the words for
    /// the stale ones.
    fn states(&self, before: &HashMap<u32, Shot>) -> (Vec<Stretch>, Vec<SystemState>) {
        let mut words: HashMap<(usize, u32), Option<String>> = HashMap::new();
        let mut whole: Vec<Stretch> = Vec::new();
        let mut of_systems: Vec<Vec<Stretch>> = self.systems.iter().map(|_| Vec::new()).collect();
        for (place, frame) in self.numbers() {
            let mut states: Vec<(&'static str, Option<String>)> = Vec::new();
            for (i, has) in self.systems.iter().enumerate() {
                let (state, revision) = has.state(frame, place);
                let reason = revision.and_then(|revision| {
                    let why = || why_system_is_stale(before.get(&revision)?, &self.shot, &has.system);
                    words.entry((i, revision)).or_insert_with(why).clone()
                });
                add_frame(&mut of_systems[i], frame, state, reason.clone());
                states.push((state, reason));
            }
            let (state, reason) = self.whole_state(frame, &states, before);
            add_frame(&mut whole, frame, state, reason);
        }
        let systems = (self.systems.iter().zip(of_systems))
            .filter(|(has, _)| !has.system.elements.is_empty())
            .map(|(has, stretches)| SystemState {
                system: has.system.id.to_string(),
                name: has.system.name(&self.shot),
                elements: has.system.elements.iter().map(|id| id.0).collect(),
                reads: has.system.reads.iter().map(ToString::to_string).collect(),
                stretches,
            })
            .collect();
        (whole, systems)
    }

    fn whole_state(
        &self,
        frame: u32,
        systems: &[(&'static str, Option<String>)],
        before: &HashMap<u32, Shot>,
    ) -> (&'static str, Option<String>) {
        if systems.iter().all(|(state, _)| *state == "fresh") {
            return ("fresh", None);
        }
        if let Some((_, reason)) = systems.iter().find(|(state, _)| *state == "stale") {
            return ("stale", reason.clone());
        }
        let Some(header) = self.frames.get(&frame) else { return ("missing", None) };
        let missing = (self.systems.iter().zip(systems)).find(|(_, (state, _))| *state == "missing");
        match missing {
            Some((has, _)) if systems.iter().any(|(state, _)| *state == "fresh") => {
                ("stale", Some(format!("without {}", has.system.name(&self.shot))))
            }
            // A whole frame of an earlier build.
            _ => ("stale", before.get(&header.revision).and_then(|before| why_stale(before, &self.shot))),
        }
    }

    /// The fingerprints of whole frames that the run has.
    fn whole(&self) -> Fingerprints {
        let systems = |frame: u32| {
            let header =
                move |has: &SystemHeaders| Some((has.system.id, has.headers.get(&frame)?.fingerprint));
            self.systems.iter().filter_map(header).collect::<Vec<_>>()
        };
        let print = |frame: u32| match systems(frame) {
            parts if parts.is_empty() => self.frames.get(&frame).map(|header| header.fingerprint),
            parts => Some(combined(parts)),
        };
        Fingerprints { first: self.shot.timing.first, list: self.shot.timing.frames().map(print).collect() }
    }
}

/// The current run's frames against the shot as it is now.
#[utoipa::path(get, path = "/api/shots/{id}/freshness", params(("id" = i64, Path)), responses((status = 200, body = Freshness)))]
pub(crate) async fn freshness(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<Freshness>> {
    // Asked first: once playing is over, all that is read below is of all frames.
    let playing = studio.playing.is_on(id);
    let (shot, _) = studio.head(id).await?;
    let run = studio.store.current_run(id).await?;
    let folder = studio.folder(&run);
    let current = shot.clone();
    let has = blocking(move || Ok(RunState::read(shot, &folder))).await?;
    let mut before = HashMap::new();
    for revision in has.stale_revisions() {
        if let Ok(document) = studio.store.document(id, i64::from(revision)).await {
            before.insert(revision, document);
        }
    }
    let of = studio.runs_of(&current, &run).await?;
    let folder = studio.folder(&run);
    let seams = studio.clone();
    let (stretches, systems, size, finished, closed_at) = blocking(move || {
        let rounds = simulate::rounds(&has.shot, &folder, &seams.rounds)?;
        let length = has.shot.timing.loop_frames.unwrap_or(0);
        let closed_at = rounds.last().filter(|of| of.closes()).map(|of| of.from_frame + length);
        let (stretches, systems) = has.states(&before);
        let finished = of.state(&has.shot, has.whole())?.map(Finished::from);
        Ok((stretches, systems, has.size, finished, closed_at))
    })
    .await?;
    Ok(Json(Freshness {
        run: run.id,
        stretches,
        systems,
        playing,
        frame_bytes: size.0,
        state_bytes: size.1,
        closed_at,
        finished,
    }))
}
