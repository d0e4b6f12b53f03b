//! The part of the Check list that looks through the camera.

use super::check::CheckEntry;
use super::input::State;
use super::input::{Path, Query};
use crate::error::{Error, Result};
use crate::finishing::Runs;
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use frames::Frame;
use serde::Deserialize;
use shot::check::{Entry, Mistake};
use shot::{Id, Shot, motion::Sampler};
use std::{cell::RefCell, collections::BTreeMap};

/// Frames of a run that are looked at, at most.
const FRAMES: usize = 240;
/// Frames whose bodies are kept for aims with a delay.
const REMEMBERED: usize = 48;

#[derive(Deserialize)]
pub(crate) struct Chosen {
    /// Ids of elements, parted by commas.
    #[serde(default)]
    elements: String,
}

/// Elements that never enter the camera's gate in the frames computed so far,
/// and the frames in which the chosen ones are outside of it.
#[utoipa::path(get, path = "/api/shots/{id}/gate", params(("id" = i64, Path), ("elements" = String, Query)), responses((status = 200, body = Vec<CheckEntry>), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn list(
    Extract(studio): State,
    Path(id): Path<i64>,
    Query(chosen): Query<Chosen>,
) -> Result<Json<Vec<CheckEntry>>> {
    let chosen = (chosen.elements.split(',').filter(|part| !part.is_empty()))
        .map(|part| part.parse().map(Id).map_err(|_| Error::Bad(format!("elements: \"{part}\" is no id"))))
        .collect::<Result<Vec<Id>>>()?;
    let (shot, _) = studio.head(id).await?;
    let runs = studio.runs_of(&shot, &studio.store.current_run(id).await?).await?;
    blocking(move || {
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let entries = outside(&shot, &meshes, &runs, &chosen)?;
        Ok(Json(entries.into_iter().map(CheckEntry::from).collect()))
    })
    .await
}

fn outside(shot: &Shot, meshes: &geometry::Meshes, runs: &Runs, chosen: &[Id]) -> Result<Vec<Entry>> {
    let sampler = Sampler::new(shot).map_err(Error::Faults)?;
    // What is seen are the finished frames.
    let frames = runs.frames(shot)?;
    let fresh: Vec<u32> = if shot.is_finished() {
        frames.range().filter(|&number| frames.fingerprint(number).is_some()).collect()
    } else {
        (shot.timing.frames().zip(simulate::fresh(shot, &runs.run)))
            .filter_map(|(number, fresh)| fresh.then_some(number))
            .collect()
    };
    let step = fresh.len().div_ceil(FRAMES).max(1);
    // A camera that aims with a delay asks for the bodies of the same earlier frames again and again.
    let known = RefCell::new(BTreeMap::<u32, Frame>::new());
    let earlier = |number: u32| -> Option<Frame> {
        let mut known = known.borrow_mut();
        if let Some(frame) = known.get(&number) {
            return Some(frame.clone());
        }
        let frame = Frame { particles: BTreeMap::new(), ..frames.frame(number).ok()? };
        known.insert(number, frame.clone());
        if known.len() > REMEMBERED {
            known.pop_first();
        }
        Some(frame)
    };
    // Of each element the frames in which it is there, and whether it is seen.
    let mut by_element: BTreeMap<Id, Vec<(u32, bool)>> = BTreeMap::new();
    for number in fresh.into_iter().step_by(step) {
        let Ok(frame) = frames.frame(number) else { continue };
        let seen = picture::in_gate(shot, &sampler, meshes, &frame, &earlier)
            .map_err(|error| Error::Bad(error.to_string()))?;
        for (id, seen) in seen {
            by_element.entry(id).or_default().push((number, seen));
        }
    }
    let entry = |id: Id, reason: String| Entry {
        mistake: Mistake::OutsideGate,
        elements: vec![id],
        reason,
        fix: None,
    };
    let mut entries = Vec::new();
    for (id, frames) in by_element {
        let name = shot.element(id).map_or("", |element| &element.name);
        if frames.iter().all(|(_, seen)| !seen) {
            let reason = "in the frames computed so far. The film is the same without it, unless it lights, \
                 shades or moves what is seen.";
            entries.push(entry(id, format!("{name} never enters the camera's gate {reason}")));
        } else if chosen.contains(&id) && frames.iter().any(|(_, seen)| !seen) {
            let words = ranges(&frames, step as u32).join(", ");
            entries.push(entry(id, format!("{name} is outside the camera's gate in frames {words}.")));
        }
    }
    Ok(entries)
}

/// The frames that are not seen, such as `12–40` or `7`.
fn ranges(frames: &[(u32, bool)], step: u32) -> Vec<String> {
    let mut ranges: Vec<[u32; 2]> = Vec::new();
    for &(number, _) in frames.iter().filter(|(_, seen)| !seen) {
        match ranges.last_mut() {
            Some(range) if range[1] + step == number => range[1] = number,
            _ => ranges.push([number, number]),
        }
    }
    let words = |[first, last]: [u32; 2]| {
        if first == last { first.to_string() } else { format!("{first}–{last}") }
    };
    ranges.into_iter().map(words).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_that_are_not_seen_are_named_as_ranges() {
        let frames: Vec<(u32, bool)> = (1..=9).map(|n| (n, !matches!(n, 1 | 2 | 3 | 7))).collect();
        assert_eq!(ranges(&frames, 1), ["1–3", "7"]);
        let every_third = [(1, false), (4, false), (7, true), (10, false)];
        assert_eq!(ranges(&every_third, 3), ["1–4", "10"]);
    }
}
