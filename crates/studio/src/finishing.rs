//! Finished frames of a shot: its run, with its finishing steps.

use crate::assets::Loader;
use crate::error::{Error, Result};
use crate::jobs::blocking;
use crate::store::RunRow;
use crate::studio::Studio;
use frames::finish::{FinishContext, SharedFrames, StepResult, finished, problems};
use frames::{Fingerprints, Frame, RunFolder, RunFrames};
use geometry::Meshes;
use shot::finish::{Finish, FinishOperation};
use shot::motion::Channel;
use shot::{Element, ElementKind, Id, Shot, fingerprint::fingerprints};
use simulate::look_values::{LookValues, asks_for_values};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::path::Path;
use std::sync::Arc;

/// The runs that the finished frames of a shot are made from.
#[derive(Clone, Debug)]
pub struct Runs {
    /// The run that is finished.
    pub run: RunFolder,
    /// Kept runs that steps show, by number.
    pub kept: BTreeMap<u32, RunFolder>,
    /// The meshes of the shot's shapes, where steps work on them or looks ask for values.
    pub meshes: Meshes,
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

impl Studio {
    /// A run of a shot, with the kept ones that the shot's finishing steps show.
    pub async fn runs_of(&self, shot: &Shot, run: &RunRow) -> Result<Runs> {
        let numbers = shot.kept_runs();
        let mut kept = BTreeMap::new();
        if !numbers.is_empty() {
            for row in self.store.runs(run.shot).await? {
                let number = row.number.and_then(|number| u32::try_from(number).ok());
                if let Some(number) = number.filter(|number| numbers.contains(number)) {
                    kept.insert(number, self.folder(&row));
                }
            }
        }
        let (loader, data, document) = (self.loader.clone(), self.data.clone(), shot.clone());
        let needs_meshes = shot.elements.iter().filter_map(Element::as_finish);
        let of_surfaces = needs_meshes.clone().any(|finish| finish.operation.is_of_surfaces());
        let meshes = if of_surfaces || asks_for_values(shot) {
            blocking(move || loader.meshes(&data, &document)).await?
        } else {
            Meshes::default()
        };
        Ok(Runs { run: self.folder(run), kept, meshes })
    }
}

impl Runs {
    /// A run alone.
    pub fn only(run: RunFolder) -> Self {
        Self { run, kept: BTreeMap::new(), meshes: Meshes::default() }
    }

    /// With the meshes of a shot whose assets lie below `folder`.
    pub fn with_meshes(mut self, folder: &Path, shot: &Shot) -> Result<Self> {
        self.meshes = Loader::default().meshes(folder, shot)?;
        Ok(self)
    }

    /// The frames of a shot as they are shown: finished where it has steps.
    pub fn frames(&self, shot: &Shot) -> Result<SharedFrames> {
        let frames = Arc::new(RunFrames::of(self.run.clone(), shot));
        if !shot.is_finished() {
            return Ok(frames);
        }
        Ok(finished(frames, &self.context(shot)?).0)
    }

    /// The frames of a shot for pictures: as they are shown, with the values that looks ask for.
    pub fn frames_for_pictures(&self, shot: &Shot) -> Result<SharedFrames> {
        if !asks_for_values(shot) {
            return self.frames(shot);
        }
        let frames = Arc::new(RunFrames::of(self.run.clone(), shot));
        let valued = LookValues::new(frames, shot, self.meshes.clone()).map_err(Error::Faults)?;
        if !shot.is_finished() {
            return Ok(Arc::new(valued));
        }
        Ok(finished(Arc::new(valued), &self.context(shot)?).0)
    }

    /// The frames of a shot as they are shown, by number.
    pub fn range(&self, shot: &Shot) -> Result<RangeInclusive<u32>> {
        Ok(self.frames(shot)?.range())
    }

    fn context(&self, shot: &Shot) -> Result<Arc<FinishContext>> {
        Ok(Arc::new(self.unchecked(shot)?))
    }

    /// The context of a shot's steps, with those that the run's frames show not to be possible.
    fn checked_context(&self, shot: &Shot) -> Result<Arc<FinishContext>> {
        let context = self.context(shot)?;
        let frames = Arc::new(RunFrames::of(self.run.clone(), shot));
        let not_taken = problems(frames, &context);
        if not_taken.is_empty() {
            return Ok(context);
        }
        Ok(Arc::new(self.unchecked(shot)?.with_not_taken(not_taken)))
    }

    fn unchecked(&self, shot: &Shot) -> Result<FinishContext> {
        // A run without a manifest has no frames yet.
        let elements = self.run.manifest().map(|manifest| manifest.elements).unwrap_or_default();
        let centres = elements.into_iter().map(|element| (element.id, element.centre_m)).collect();
        let frames = |(number, run): (&u32, &RunFolder)| -> Option<(u32, SharedFrames)> {
            Some((*number, Arc::new(RunFrames::of(run.clone(), &run.manifest().ok()?.shot))))
        };
        let kept = self.kept.iter().filter_map(frames).collect();
        let context = FinishContext::new(shot, centres).map_err(Error::Bad)?;
        Ok(context.with_kept(kept).with_meshes(self.meshes.clone()))
    }

    /// The frames that come into a finishing step.
    pub fn frames_before(&self, shot: &Shot, step: Id) -> Result<SharedFrames> {
        let of = shot.element(step).and_then(Element::as_finish).and_then(|finish| finish.element);
        let earlier = shot.finishing(of).into_iter().map(|(element, _)| element.id);
        let before: Vec<Id> = earlier.take_while(|id| *id != step).collect();
        let mut shot = shot.clone();
        // Steps of elements come before those of the whole shot.
        let comes_before = |element: &Element| {
            let of_element = |element: Option<Id>| of.is_none() && element.is_some();
            element
                .as_finish()
                .is_none_or(|finish| before.contains(&element.id) || of_element(finish.element))
        };
        shot.elements.retain(comes_before);
        self.frames(&shot)
    }

    /// A frame for pictures, if it is computed from the shot as it is.
    pub fn fresh_frame_for_pictures(&self, shot: &Shot, number: u32) -> Option<Frame> {
        let context = self.checked_context(shot).ok()?;
        let frames = finished(Arc::new(RunFrames::of(self.run.clone(), shot)), &context).0;
        let wanted = expected(shot, &context);
        let print = frames.fingerprint(number).filter(|_| frames.range().contains(&number))?;
        let fresh = Some(print) == wanted.fingerprint(number);
        if fresh { self.frames_for_pictures(shot).ok()?.frame(number).ok() } else { None }
    }

    /// The states of the finished frames of a shot, from the fingerprints that
    /// its run has; none if it has no finishing steps.
    pub fn state(&self, shot: &Shot, has: Fingerprints) -> Result<Option<FinishedState>> {
        if !shot.elements.iter().any(|element| element.as_finish().is_some()) {
            return Ok(None);
        }
        let context = self.checked_context(shot)?;
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

    /// Writes finished frames into a run folder of their own, whose shot has no
    /// steps any more, and returns which steps were not taken, and why.
    pub fn write_finished(
        &self,
        shot: &Shot,
        to: &RunFolder,
        numbers: RangeInclusive<u32>,
        done: &mut dyn FnMut(),
    ) -> Result<Vec<String>> {
        let source = Arc::new(RunFrames::of(self.run.clone(), shot));
        let (frames, steps) = finished(source, &self.context(shot)?);
        let _lock = to.lock()?;
        let mut manifest = self.run.manifest()?;
        manifest.shot = shot.clone();
        manifest.shot.elements.retain(|element| element.as_finish().is_none());
        let timing = &mut manifest.shot.timing;
        (timing.first, timing.last) = (*frames.range().start(), *frames.range().end());
        to.write_manifest(&manifest)?;
        for number in numbers {
            to.write(&frames.frame(number)?)?;
            done();
        }
        let name = |step: &StepResult| shot.element(step.step).map_or("", |element| &element.name).to_owned();
        let problem = |step: &StepResult| Some(format!("{}: {}", name(step), step.problem.as_ref()?));
        Ok(steps.iter().filter_map(problem).collect())
    }
}

impl Runs {
    /// Writes the frames of the run, computed at the rate of one shot, into a folder of their own
    /// as they are at the frames of another that differs in its rate: between two frames by their
    /// positions and velocities. They are those of the old shot, and are not fresh in the new one.
    pub fn write_at_rate(&self, old: &Shot, new: &Shot, to: &RunFolder) -> Result<u32> {
        let ratio = f64::from(new.timing.fps) / f64::from(old.timing.fps);
        let (first, last) = (f64::from(new.timing.first), f64::from(new.timing.last));
        let mut shown = old.clone();
        shown.elements.retain(|element| element.as_finish().is_none());
        let retime = FinishOperation::Retime { frames: new.timing.count(), run_frame: first as f32 };
        let mut step = Element::new("Rate", ElementKind::Finish(Finish::new(retime)));
        let end = first + (last - first) / ratio;
        let line = Channel::keyed([(first, first as f32), (last, end as f32)]);
        step.channels.insert("kind.finish.operation.retime.run_frame".to_owned(), line);
        shown.add(step);
        let source = Arc::new(RunFrames::of(self.run.clone(), old));
        let (frames, _) = finished(source, &self.context(&shown)?);
        let _lock = to.lock()?;
        let mut manifest = self.run.manifest()?;
        manifest.shot = new.clone();
        to.write_manifest(&manifest)?;
        let systems = new.systems();
        let mut written = 0;
        for number in new.timing.frames() {
            // A run may be computed in part.
            if frames.fingerprint(number).is_none() {
                continue;
            }
            let mut frame = frames.frame(number)?;
            frame.time_s = new.timing.seconds(number);
            // The step took the passing frames for those of the old rate.
            frame.scale_velocities(ratio as f32);
            for system in &systems {
                to.write_part(system.id, &frame.part_of(&system.elements))?;
            }
            written += 1;
        }
        Ok(written)
    }
}

/// The fingerprints that the finished frames have once all frames are computed.
fn expected(shot: &Shot, context: &Arc<FinishContext>) -> SharedFrames {
    let list = fingerprints(shot).into_iter().map(Some).collect();
    finished(Arc::new(Fingerprints { first: shot.timing.first, list }), context).0
}
