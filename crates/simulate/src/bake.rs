//! Filling a run folder.

use crate::{BlowUp, PrepareError, Saved, Simulation};
use frames::{Frame, Manifest, ManifestElement, RunError, RunFolder};
use geometry::{Meshes, MissingMesh};
use glam::Vec3;
use shot::{
    Shot,
    fingerprint::{Fingerprint, fingerprints},
};
use std::ops::{ControlFlow, RangeInclusive};
use std::sync::mpsc::sync_channel;
use thiserror::Error;

/// Distance of checkpoints, in frames; later, only those
/// at doubled distances are kept, at most [`CHECKPOINTS_KEPT`].
pub const CHECKPOINT_EVERY: u32 = 8;
const CHECKPOINTS_KEPT: u32 = 8;

/// What to bake and where.
#[derive(Clone)]
pub struct Bake<'a> {
    /// The shot, free of faults.
    pub shot: &'a Shot,
    /// The meshes its shapes use.
    pub meshes: &'a Meshes,
    /// Where the frames go.
    pub run: &'a RunFolder,
    /// Revision of the shot, noted in each frame.
    pub revision: u32,
    /// The frames wanted.
    pub frames: RangeInclusive<u32>,
}

/// Why a bake ended early. The frames before are on disk.
#[derive(Debug, Error)]
pub enum BakeError {
    /// The shot cannot be prepared.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// A solver went out of bounds.
    #[error(transparent)]
    BlowUp(#[from] BlowUp),
    /// A frame could not be written.
    #[error(transparent)]
    Run(#[from] RunError),
}

/// A frame was computed and is on disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Progress {
    /// Its number.
    pub frame: u32,
    /// The last frame wanted.
    pub last: u32,
}

/// How a bake ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// All wanted frames are fresh; the number of frames that were computed.
    Done(u32),
    /// The caller stopped the bake.
    Stopped,
}

/// For each frame of the shot, whether the run has it with the present fingerprint.
pub fn fresh(shot: &Shot, run: &RunFolder) -> Vec<bool> {
    let headers = run.headers();
    let prints = fingerprints(shot);
    let is_fresh = |(frame, print)| headers.get(&frame).is_some_and(|h| h.fingerprint == print);
    shot.timing.frames().zip(prints).map(is_fresh).collect()
}

/// A simulation at the latest frame up to `frame` of which the run has a state
/// that still holds and can be read; at the first without one.
///
/// # Errors
/// [`PrepareError`] names the element that cannot be prepared.
pub fn resume(shot: &Shot, meshes: &Meshes, run: &RunFolder, frame: u32) -> Result<Simulation, PrepareError> {
    let prints = fingerprints(shot);
    let print = |frame: u32| prints.get(frame.checked_sub(shot.timing.first)? as usize).copied();
    for (_, state) in run.checkpoints(frame, print) {
        match Simulation::restored(shot, meshes, &state) {
            Err(PrepareError::State(_)) => {}
            restored => return restored,
        }
    }
    Simulation::new(shot, meshes)
}

/// Computes the wanted frames that are missing or stale, in order, starting
/// from the latest checkpoint that still holds. Frames are encoded and written
/// on another thread while the next one is computed.
///
/// # Errors
/// [`BakeError`]; every frame reported as progress is on disk.
pub fn bake(
    job: &Bake,
    mut progress: impl FnMut(Progress) -> ControlFlow<()> + Send,
) -> Result<Outcome, BakeError> {
    let timing = job.shot.timing;
    let last = (*job.frames.end()).min(timing.last);
    let wanted = (*job.frames.start()).max(timing.first)..=last;
    job.run.drop_damaged(wanted.clone());
    let needs = |fresh: &[bool]| wanted.clone().any(|frame| !fresh[(frame - timing.first) as usize]);
    if !needs(&fresh(job.shot, job.run)) {
        return Ok(Outcome::Done(0));
    }
    let _lock = job.run.lock()?;
    // Another bake may have ended meanwhile.
    let fresh = fresh(job.shot, job.run);
    let is_fresh = |frame: u32| fresh[(frame - timing.first) as usize];
    let Some(first_needed) = wanted.clone().find(|&frame| !is_fresh(frame)) else {
        return Ok(Outcome::Done(0));
    };
    let last_needed = wanted.clone().rev().find(|&frame| !is_fresh(frame)).unwrap_or(last);
    let prints = fingerprints(job.shot);

    let mut simulation = if first_needed == timing.first {
        Simulation::new(job.shot, job.meshes)?
    } else {
        resume(job.shot, job.meshes, job.run, first_needed - 1)?
    };
    let from_the_start = simulation.frame() == timing.first;
    write_manifest(job)?;
    let mut writer = Writer { job, prints: &prints, first: timing.first, computed: 0 };
    std::thread::scope(|scope| {
        let (send, receive) = sync_channel::<(Frame, Option<Saved>)>(2);
        let writing = scope.spawn(move || -> Result<Outcome, BakeError> {
            while let Ok((frame, state)) = receive.recv() {
                let number = frame.number;
                let needed = number >= *wanted.start() && !is_fresh(number);
                writer.write(frame, state, needed)?;
                if needed && progress(Progress { frame: number, last: last_needed }).is_break() {
                    return Ok(Outcome::Stopped);
                }
            }
            Ok(Outcome::Done(writer.computed))
        });
        let mut blown = None;
        if from_the_start {
            // The first frame is the shot as staged. Its state is kept where it
            // took a preroll to come to it. A failed send means that the writer
            // has stopped; its result says why.
            let frame = simulation.write();
            let state = simulation.has_preroll().then(|| simulation.snapshot());
            let _ = send.send((frame, state));
        }
        while simulation.frame() < last_needed {
            match simulation.advance() {
                Ok(frame) => {
                    let number = frame.number;
                    let keep =
                        number == last_needed || (number - timing.first + 1).is_multiple_of(CHECKPOINT_EVERY);
                    let state = keep.then(|| simulation.snapshot());
                    if send.send((frame, state)).is_err() {
                        break;
                    }
                }
                Err(error) => {
                    blown = Some(error);
                    break;
                }
            }
        }
        drop(send);
        let outcome = writing.join().expect("the writer does not panic")?;
        blown.map_or(Ok(outcome), |error| Err(error.into()))
    })
}

struct Writer<'a> {
    job: &'a Bake<'a>,
    prints: &'a [Fingerprint],
    first: u32,
    computed: u32,
}

impl Writer<'_> {
    fn write(&mut self, mut frame: Frame, state: Option<Saved>, needed: bool) -> Result<(), RunError> {
        let number = frame.number;
        let print = self.prints[(number - self.first) as usize];
        if needed {
            frame.fingerprint = print;
            frame.revision = self.job.revision;
            self.job.run.write(&frame)?;
            self.computed += 1;
        }
        if let Some(state) = state {
            self.job.run.write_checkpoint(number, print, &state.bytes())?;
            self.thin(number);
        }
        Ok(())
    }

    /// Keeps the newest state and those at multiples of a distance that
    /// doubles until few enough are left.
    fn thin(&self, newest: u32) {
        let numbers = self.job.run.checkpoint_numbers();
        let mut distance = CHECKPOINT_EVERY;
        let on = |number: u32, distance: u32| (number - self.first + 1).is_multiple_of(distance);
        while numbers.iter().filter(|&&n| n >= self.first && on(n, distance)).count() as u32
            > CHECKPOINTS_KEPT
        {
            distance *= 2;
        }
        for number in numbers {
            let kept = number == newest || number == self.first;
            if number < self.first || (!kept && !on(number, distance)) {
                self.job.run.drop_checkpoint(number);
            }
        }
    }
}

fn write_manifest(job: &Bake) -> Result<(), BakeError> {
    let mut elements = Vec::new();
    for (element, solid) in job.shot.solids() {
        let mesh_error = |source: MissingMesh| PrepareError::Mesh { element: element.name.clone(), source };
        elements.push(ManifestElement {
            id: element.id,
            name: element.name.clone(),
            bodies: element.count(),
            mass_kg: job.meshes.mass_kg(&solid.shape, solid.body.weight).map_err(mesh_error)?,
            centre_m: job.meshes.mass(&solid.shape).map_err(mesh_error)?.centre,
        });
    }
    for (element, _) in job.shot.particles() {
        elements.push(ManifestElement {
            id: element.id,
            name: element.name.clone(),
            bodies: 0,
            mass_kg: 0.0,
            centre_m: Vec3::ZERO,
        });
    }
    job.run.write_manifest(&Manifest { version: 1, shot: job.shot.clone(), elements })?;
    Ok(())
}
