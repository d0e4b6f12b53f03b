//! Filling a run folder.

use crate::cancel::Cancel;
use crate::{BlowUp, PrepareError, Saved, Simulation};
use frames::{Frame, Manifest, ManifestElement, RunError, RunFolder};
use geometry::{Meshes, MissingMesh};
use glam::Vec3;
use shot::{
    Shot, SystemId,
    fingerprint::{Fingerprint, SystemFingerprints, system_fingerprints},
};
use std::collections::BTreeSet;
use std::io::{self, Write};
use std::ops::{ControlFlow, RangeInclusive};
use std::sync::mpsc::sync_channel;
use thiserror::Error;

/// Distance of checkpoints, in frames; later, only those
/// at doubled distances are kept, at most [`CHECKPOINTS_KEPT`].
pub const CHECKPOINT_EVERY: u32 = 8;
const CHECKPOINTS_KEPT: u32 = 8;

/// From so many particles on, a frame is written before the state, and both before the next frame is computed, so that no two of these
/// are in memory together.
const MANY_PARTICLES: usize = 1 << 15;

fn particles_in(parts: &[(SystemId, Frame)]) -> usize {
    parts.iter().flat_map(|(_, frame)| frame.particles.values()).map(frames::Particles::len).sum()
}

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
    /// The systems wanted, with those that they read; none: all. The others hold.
    pub systems: Option<&'a [SystemId]>,
    /// The frame that the shot begins from, if it names one.
    pub initial_state: Option<&'a Frame>,
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
    /// The shot goes round, and its state met itself: from this frame on all would be
    /// the round before once more.
    Closed(u32),
}

/// Which frames of a system a run has with their present fingerprints.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SystemFreshness {
    /// The system.
    pub system: SystemId,
    /// Of each frame of the shot, whether it is fresh. Where there is nothing of the
    /// system yet, it is, unless the run has a part of it.
    pub fresh: Vec<bool>,
}

/// For each system of the shot, which frames of it are fresh.
pub fn fresh_systems(shot: &Shot, run: &RunFolder) -> Vec<SystemFreshness> {
    let prints = system_fingerprints(shot);
    prints.iter().map(|prints| fresh_system(shot, run, prints)).collect()
}

fn fresh_system(shot: &Shot, run: &RunFolder, prints: &SystemFingerprints) -> SystemFreshness {
    let headers = run.headers_of(prints.system);
    let is_fresh = |(frame, print): (u32, &Option<Fingerprint>)| {
        headers.get(&frame).map(|header| header.fingerprint) == *print
    };
    let fresh = shot.timing.frames().zip(&prints.list).map(is_fresh).collect();
    SystemFreshness { system: prints.system, fresh }
}

/// For each frame of the shot, whether it is fresh in all systems.
pub fn fresh(shot: &Shot, run: &RunFolder) -> Vec<bool> {
    let systems = fresh_systems(shot, run);
    let frames = systems.first().map_or(0, |system| system.fresh.len());
    (0..frames).map(|frame| systems.iter().all(|system| system.fresh[frame])).collect()
}

/// A simulation of the whole shot of a job at the latest frame up to `frame` of which the run
/// has a state that still holds and can be read; at the first without one.
///
/// # Errors
/// [`PrepareError`] names the element that cannot be prepared.
pub fn resume(job: &Bake, frame: u32) -> Result<Simulation, PrepareError> {
    let prints = system_fingerprints(job.shot);
    let systems: Vec<&SystemFingerprints> = prints.iter().collect();
    resume_some(job, frame, &systems, &Cancel::default())
}

/// As [`resume`], of some systems.
fn resume_some(
    job: &Bake,
    frame: u32,
    systems: &[&SystemFingerprints],
    cancel: &Cancel,
) -> Result<Simulation, PrepareError> {
    let Bake { shot, meshes, run, .. } = *job;
    let numbers: BTreeSet<u32> = systems.iter().flat_map(|of| run.checkpoint_numbers(of.system)).collect();
    for &number in numbers.range(shot.timing.first..=frame.max(shot.timing.first)).rev() {
        let state = |of: &&SystemFingerprints| -> Option<(SystemId, Option<Vec<u8>>)> {
            match of.list[(number - shot.timing.first) as usize] {
                None => Some((of.system, None)),
                Some(print) => Some((of.system, Some(run.checkpoint(of.system, number, print)?))),
            }
        };
        let Some(states) = systems.iter().map(state).collect::<Option<Vec<_>>>() else { continue };
        let states: Vec<(SystemId, Option<&[u8]>)> =
            states.iter().map(|(id, state)| (*id, state.as_deref())).collect();
        match Simulation::resumed(shot, meshes, &states) {
            Err(PrepareError::State(_)) => {}
            resumed => return Ok(resumed?.with_cancel(cancel.clone())),
        }
    }
    let ids: Vec<SystemId> = systems.iter().map(|of| of.system).collect();
    Simulation::cancellable(shot, meshes, &ids, job.initial_state, cancel.clone())
}

/// A system that is computed in a bake.
struct SystemBake<'a> {
    prints: &'a SystemFingerprints,
    /// Of each frame of the shot, whether it is to be written.
    needed: Vec<bool>,
}

/// The systems that must be computed, with those that they read.
fn system_bakes<'a>(
    job: &Bake,
    wanted: &RangeInclusive<u32>,
    prints: &'a [SystemFingerprints],
) -> Vec<SystemBake<'a>> {
    let timing = job.shot.timing;
    let systems = job.shot.systems();
    let closed = |ids: Vec<SystemId>| -> BTreeSet<SystemId> {
        let of = |id: &SystemId| systems.iter().find(|system| system.id == *id);
        let read = ids.iter().filter_map(of).flat_map(|system| system.reads.clone());
        read.chain(ids.iter().copied()).collect()
    };
    let all = || systems.iter().map(|system| system.id).collect();
    let asked_for = closed(job.systems.map_or_else(all, <[SystemId]>::to_vec));
    let mut bakes: Vec<SystemBake> = (prints.iter())
        .map(|prints| {
            let fresh = fresh_system(job.shot, job.run, prints).fresh;
            let is_needed = |(frame, fresh): (u32, bool)| {
                asked_for.contains(&prints.system) && wanted.contains(&frame) && !fresh
            };
            SystemBake { prints, needed: timing.frames().zip(fresh).map(is_needed).collect() }
        })
        .collect();
    let computed: Vec<SystemId> =
        bakes.iter().filter(|bake| bake.needed.contains(&true)).map(|bake| bake.prints.system).collect();
    let computed = closed(computed);
    bakes.retain(|bake| computed.contains(&bake.prints.system));
    bakes
}

/// Removes what the run has of systems that the shot no longer has, and of times
/// before there was anything of a system.
fn drop_leftovers(job: &Bake, prints: &[SystemFingerprints]) {
    let ids: Vec<SystemId> = prints.iter().map(|prints| prints.system).collect();
    job.run.keep_only(&ids);
    // Most systems are there from the first frame on.
    for of in prints.iter().filter(|of| of.list.contains(&None)) {
        for number in job.run.headers_of(of.system).into_keys() {
            let place = number.checked_sub(job.shot.timing.first);
            let print = place.and_then(|place| of.list.get(place as usize));
            if print.is_some_and(Option::is_none) {
                job.run.drop_part(of.system, number);
            }
        }
    }
}

/// Computes the wanted frames that are missing or stale, in order, starting
/// from the latest checkpoint that still holds. Systems that are fresh, and that no
/// other reads, are not computed. Frames are encoded and written on another thread
/// while the next one is computed.
///
/// # Errors
/// [`BakeError`]; every frame reported as progress is on disk.
pub fn bake(
    job: &Bake,
    progress: impl FnMut(Progress) -> ControlFlow<()> + Send,
) -> Result<Outcome, BakeError> {
    bake_until(job, &Cancel::default(), progress)
}

/// As [`bake`], until `cancel` asks for its end: within a frame too, and before the first one.
///
/// # Errors
/// As of [`bake`].
pub fn bake_until(
    job: &Bake,
    cancel: &Cancel,
    mut progress: impl FnMut(Progress) -> ControlFlow<()> + Send,
) -> Result<Outcome, BakeError> {
    let timing = job.shot.timing;
    let last = (*job.frames.end()).min(timing.last);
    let wanted = (*job.frames.start()).max(timing.first)..=last;
    job.run.drop_damaged(wanted.clone());
    let prints = system_fingerprints(job.shot);
    let known = |system: &SystemId| prints.iter().any(|prints| prints.system == *system);
    let nothing_left = job.run.systems().iter().all(known);
    if nothing_left && system_bakes(job, &wanted, &prints).is_empty() {
        return Ok(Outcome::Done(0));
    }
    let _lock = job.run.lock()?;
    drop_leftovers(job, &prints);
    // Another bake may have ended meanwhile.
    let bakes = system_bakes(job, &wanted, &prints);
    let needed = |frame: u32| bakes.iter().any(|bake| bake.needed[(frame - timing.first) as usize]);
    let Some(first_needed) = wanted.clone().find(|&frame| needed(frame)) else {
        return Ok(Outcome::Done(0));
    };
    let last_needed = wanted.clone().rev().find(|&frame| needed(frame)).unwrap_or(last);

    let systems: Vec<&SystemFingerprints> = bakes.iter().map(|bake| bake.prints).collect();
    let mut simulation = if first_needed == timing.first {
        let ids: Vec<SystemId> = systems.iter().map(|of| of.system).collect();
        Simulation::cancellable(job.shot, job.meshes, &ids, job.initial_state, cancel.clone())?
    } else {
        resume_some(job, first_needed - 1, &systems, cancel)?
    };
    if simulation.is_cancelled() {
        return Ok(Outcome::Stopped);
    }
    let from_the_start = simulation.frame() == timing.first;
    write_manifest(job)?;
    let writer = &Writer { job, bakes: &bakes, first: timing.first };
    std::thread::scope(|scope| {
        let (send, receive) = sync_channel::<(Vec<(SystemId, Frame)>, Vec<Saved>)>(0);
        let writing = scope.spawn(move || -> Result<Outcome, BakeError> {
            let mut computed = 0;
            while let Ok((parts, states)) = receive.recv() {
                let Some(number) = parts.first().map(|(_, frame)| frame.number) else { continue };
                computed += u32::from(writer.write_parts(number, parts)?);
                for state in states {
                    writer.write_state(state.system(), number, |out| state.write(out))?;
                }
                if needed(number) && progress(Progress { frame: number, last: last_needed }).is_break() {
                    return Ok(Outcome::Stopped);
                }
            }
            Ok(Outcome::Done(computed))
        });
        let (mut failed, mut cancelled): (Option<BakeError>, bool) = (None, false);
        if from_the_start {
            // The first frame is the shot as staged. Its state is kept where it
            // took a preroll to come to it. A failed send means that the writer
            // has stopped; its result says why.
            let parts = simulation.write_parts();
            let states = if simulation.has_preroll() { simulation.snapshot() } else { Vec::new() };
            let _ = send.send((parts, states));
        }
        while simulation.frame() < last_needed {
            match simulation.go_on() {
                Ok(()) if simulation.is_cancelled() => {
                    cancelled = true;
                    break;
                }
                Ok(()) => {
                    let parts = simulation.write_parts();
                    let number = simulation.frame();
                    let keep =
                        number == last_needed || (number - timing.first + 1).is_multiple_of(CHECKPOINT_EVERY);
                    let is_large = keep && particles_in(&parts) >= MANY_PARTICLES;
                    let states = if keep && !is_large { simulation.snapshot() } else { Vec::new() };
                    if send.send((parts, states)).is_err() {
                        break;
                    }
                    // An empty message waits until the frame is written.
                    if is_large && send.send((Vec::new(), Vec::new())).is_err() {
                        break;
                    }
                    if is_large && let Err(error) = writer.write_states(&simulation) {
                        failed = Some(error.into());
                        break;
                    }
                }
                Err(error) => {
                    failed = Some(error.into());
                    break;
                }
            }
        }
        drop(send);
        let outcome = writing.join().expect("the writer does not panic")?;
        let outcome = if cancelled { Outcome::Stopped } else { outcome };
        failed.map_or(Ok(outcome), Err)
    })
}

struct Writer<'a> {
    job: &'a Bake<'a>,
    bakes: &'a [SystemBake<'a>],
    first: u32,
}

impl Writer<'_> {
    fn bake_of(&self, system: SystemId) -> Option<&SystemBake<'_>> {
        self.bakes.iter().find(|bake| bake.prints.system == system)
    }

    /// Writes the parts of a frame that are needed; whether there are any.
    fn write_parts(&self, number: u32, parts: Vec<(SystemId, Frame)>) -> Result<bool, RunError> {
        let place = (number - self.first) as usize;
        let mut any = false;
        for (system, mut part) in parts {
            let Some(bake) = self.bake_of(system).filter(|bake| bake.needed[place]) else { continue };
            any = true;
            // Without a fingerprint there is nothing of the system yet.
            let Some(print) = bake.prints.list[place] else { continue };
            part.fingerprint = print;
            part.revision = self.job.revision;
            self.job.run.write_part(system, &part)?;
        }
        Ok(any)
    }

    /// Writes the state of a system after a frame.
    fn write_state(
        &self,
        system: SystemId,
        number: u32,
        state: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> Result<(), RunError> {
        let place = (number - self.first) as usize;
        if let Some(print) = self.bake_of(system).and_then(|bake| bake.prints.list[place]) {
            self.job.run.write_checkpoint(system, number, print, state)?;
            self.thin(system, number);
        }
        Ok(())
    }

    /// Writes the states of all systems as they are now, none of which is in memory a second time.
    fn write_states(&self, simulation: &Simulation) -> Result<(), RunError> {
        let mut systems = simulation.systems();
        systems.try_for_each(|system| {
            self.write_state(system, simulation.frame(), |out| simulation.write_state(system, out))
        })
    }

    /// Keeps the newest state of a system and those at multiples of a distance that
    /// doubles until few enough are left.
    fn thin(&self, system: SystemId, newest: u32) {
        let numbers = self.job.run.checkpoint_numbers(system);
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
                self.job.run.drop_checkpoint(system, number);
            }
        }
    }
}

fn write_manifest(job: &Bake) -> Result<(), BakeError> {
    let mut elements = Vec::new();
    for (element, solid) in job.shot.solids() {
        let mesh_error = |source: MissingMesh| PrepareError::Mesh { element: element.name.clone(), source };
        // The copies of what deforms are one mesh, with a body at their middle.
        let each_kg = match (element.as_cloth(), element.as_soft()) {
            (Some(cloth), _) => {
                Some(cloth.mass_kg_m2 * job.meshes.mesh(&solid.shape).map_err(mesh_error)?.area())
            }
            (None, Some(soft)) => {
                Some(soft.density_kg_m3 * job.meshes.mass(&solid.shape).map_err(mesh_error)?.volume)
            }
            (None, None) => None,
        };
        if let Some(each_kg) = each_kg {
            elements.push(ManifestElement {
                id: element.id,
                name: element.name.clone(),
                bodies: 1,
                mass_kg: each_kg * element.count() as f32,
                centre_m: Vec3::ZERO,
            });
            continue;
        }
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
    job.run.write_manifest(&Manifest::new(job.shot.clone(), elements))?;
    Ok(())
}
