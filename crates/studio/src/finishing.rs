//! Finished frames of a shot: its run, with its finishing steps.

use crate::error::{Error, Result};
use frames::finish::{FinishContext, SharedFrames, StepResult, finished};
use frames::{Fingerprints, Frame, RunFolder, RunFrames};
use shot::{Element, Id, Shot, fingerprint::fingerprints};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::Arc;

/// The frames of a shot as they are shown: finished where it has steps.
pub fn frames_of(shot: &Shot, run: &RunFolder) -> Result<SharedFrames> {
    let frames = Arc::new(RunFrames::new(run.clone(), shot.timing.frames()));
    if !shot.is_finished() {
        return Ok(frames);
    }
    Ok(finished(frames, &context(shot, run)?).0)
}

/// The frames of a shot as they are shown, by number.
pub fn finished_range(shot: &Shot) -> Result<RangeInclusive<u32>> {
    if !shot.is_finished() {
        return Ok(shot.timing.frames());
    }
    let context = FinishContext::new(shot, BTreeMap::new()).map_err(Error::Bad)?;
    let none = vec![None; shot.timing.count() as usize];
    let source = Arc::new(Fingerprints { first: shot.timing.first, list: none });
    Ok(finished(source, &Arc::new(context)).0.range())
}

fn context(shot: &Shot, run: &RunFolder) -> Result<Arc<FinishContext>> {
    // A run without a manifest has no frames yet.
    let elements = run.manifest().map(|manifest| manifest.elements).unwrap_or_default();
    let centres = elements.into_iter().map(|element| (element.id, element.centre_m)).collect();
    FinishContext::new(shot, centres).map(Arc::new).map_err(Error::Bad)
}

/// The frames that come into a finishing step.
pub fn frames_before(shot: &Shot, run: &RunFolder, step: Id) -> Result<SharedFrames> {
    let of = shot.element(step).and_then(Element::as_finish).and_then(|finish| finish.element);
    let before: Vec<Id> =
        shot.finishing(of).into_iter().map(|(element, _)| element.id).take_while(|id| *id != step).collect();
    let mut shot = shot.clone();
    // Steps of elements come before those of the whole shot.
    let comes_before = |element: &Element| {
        element
            .as_finish()
            .is_none_or(|finish| before.contains(&element.id) || (of.is_none() && finish.element.is_some()))
    };
    shot.elements.retain(|element| comes_before(element));
    frames_of(&shot, run)
}

/// Writes finished frames into a run folder of their own, whose shot has no
/// steps any more, and returns which steps were not taken, and why.
pub fn finish_run(
    shot: &Shot,
    run: &RunFolder,
    to: &RunFolder,
    numbers: RangeInclusive<u32>,
    done: &mut dyn FnMut(),
) -> Result<Vec<String>> {
    let source = Arc::new(RunFrames::new(run.clone(), shot.timing.frames()));
    let (frames, steps) = finished(source, &context(shot, run)?);
    let _lock = to.lock()?;
    let mut manifest = run.manifest()?;
    manifest.shot = Shot { elements: Vec::new(), ..shot.clone() };
    manifest.shot.elements.extend(shot.elements.iter().filter(|e| e.as_finish().is_none()).cloned());
    (manifest.shot.timing.first, manifest.shot.timing.last) =
        (*frames.range().start(), *frames.range().end());
    to.write_manifest(&manifest)?;
    for number in numbers {
        to.write(&frames.frame(number)?)?;
        done();
    }
    let name = |step: &StepResult| shot.element(step.step).map_or("", |element| &element.name).to_owned();
    let problem = |step: &StepResult| Some(format!("{}: {}", name(step), step.problem.as_ref()?));
    Ok(steps.iter().filter_map(problem).collect())
}

/// A frame as it is shown, if it is computed from the shot as it is.
pub fn fresh_frame(shot: &Shot, run: &RunFolder, number: u32) -> Option<Frame> {
    let frames = frames_of(shot, run).ok()?;
    let wanted = expected(shot, &context(shot, run).ok()?);
    let print = frames.fingerprint(number).filter(|_| frames.range().contains(&number))?;
    if Some(print) == wanted.fingerprint(number) { frames.frame(number).ok() } else { None }
}

/// The fingerprints that the finished frames have once all frames are computed.
fn expected(shot: &Shot, context: &Arc<FinishContext>) -> SharedFrames {
    let list = fingerprints(shot).into_iter().map(Some).collect();
    finished(Arc::new(Fingerprints { first: shot.timing.first, list }), context).0
}

/// The state of a frame against the shot as it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameState {
    /// As the shot is now.
    Fresh,
    /// Made from another state of the shot.
    Stale,
    /// A frame that it is made from is not computed.
    Missing,
}

/// How the finished frames of a shot stand against the shot as it is.
pub struct FinishedState {
    /// What each step gives.
    pub steps: Vec<StepResult>,
    /// The first frame.
    pub first: u32,
    /// Whether the first frame follows the last.
    pub repeats: bool,
    /// The state of each frame.
    pub states: Vec<FrameState>,
}

/// The finished frames of a shot and their states, from the fingerprints that
/// its run has; none if it has no finishing steps.
pub fn state_of(shot: &Shot, has: Fingerprints, run: &RunFolder) -> Result<Option<FinishedState>> {
    if !shot.elements.iter().any(|element| element.as_finish().is_some()) {
        return Ok(None);
    }
    let context = context(shot, run)?;
    let wanted = expected(shot, &context);
    let (has, steps) = finished(Arc::new(has), &context);
    let state = |number| match has.fingerprint(number) {
        None => FrameState::Missing,
        print if print == wanted.fingerprint(number) => FrameState::Fresh,
        Some(_) => FrameState::Stale,
    };
    let states = has.range().map(state).collect();
    Ok(Some(FinishedState { steps, first: *has.range().start(), repeats: has.repeats(), states }))
}
