//! The contract of a solver, and the simulation that drives all of them.

use crate::forces::{Field, Surfaces};
use frames::Frame;
use geometry::{Meshes, MissingMesh};
use serde::{Deserialize, Serialize};
use shot::{Id, NotFinite, Pose, Sampler, Shot, World};
use thiserror::Error;

/// What a solver prepares from.
#[derive(Clone, Copy)]
pub struct Scene<'a> {
    /// The shot as it is at its first frame, free of faults.
    pub shot: &'a Shot,
    /// Gives the shot at other times.
    pub sampler: &'a Sampler,
    /// The meshes its shapes use.
    pub meshes: &'a Meshes,
}

/// One substep.
#[derive(Clone, Copy)]
pub struct Step<'a> {
    /// The shot as it is at the substep's end.
    pub shot: &'a Shot,
    /// Gives the shot at other times.
    pub sampler: &'a Sampler,
    /// Frame at the substep's end; lies between frames.
    pub frame: f64,
    /// Frame at the substep's start.
    pub start: f64,
    /// Frame at which keys and formulas are read, at the substep's end.
    pub acting: f64,
    /// Length in seconds.
    pub dt: f32,
    /// The forces.
    pub field: &'a Field,
    /// The surfaces that regions need.
    pub surfaces: &'a Surfaces,
    /// Seconds of the world's time at the substep's end.
    pub seconds: f64,
}

/// A solver went out of bounds.
#[derive(Clone, Debug, PartialEq, Error)]
#[error("frame {frame}: {name} {what}")]
pub struct BlowUp {
    /// The frame that could not be computed.
    pub frame: u32,
    /// The element.
    pub element: Id,
    /// Its name and copy.
    pub name: String,
    /// What happened to it.
    pub what: String,
}

/// Why a shot could not be prepared.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum PrepareError {
    /// A mesh is missing.
    #[error("{element}: {source}")]
    Mesh {
        /// Name of the element.
        element: String,
        /// Which mesh.
        source: MissingMesh,
    },
    /// A shape cannot collide as asked.
    #[error("{element}: cannot collide as {wanted}: {why}")]
    Collision {
        /// Name of the element.
        element: String,
        /// The collision shape.
        wanted: &'static str,
        /// What is wrong with it.
        why: &'static str,
    },
    /// A formula gives no finite value at the first frame.
    #[error(transparent)]
    NotFinite(#[from] NotFinite),
    /// A checkpoint is not one of this shot.
    #[error("the saved state cannot be read: {0}")]
    State(String),
}

/// A method of computing motion.
pub trait Solver: Send {
    /// Goes one substep on.
    ///
    /// # Errors
    /// [`BlowUp`] names the element that left all bounds.
    fn step(&mut self, step: &Step) -> Result<(), BlowUp>;

    /// Where it has an element's first body; none if it is not free, or not its.
    fn pose(&self, element: Id) -> Option<Pose>;

    /// Writes its part of a frame, with what was measured since the last.
    fn write(&mut self, frame: &mut Frame);

    /// Its whole state.
    fn save(&self) -> Vec<u8>;

    /// Takes up a state that [`Solver::save`] gave for the same shot.
    ///
    /// # Errors
    /// [`PrepareError::State`].
    fn restore(&mut self, state: &[u8]) -> Result<(), PrepareError>;
}

/// How to make a solver; none if the shot has nothing for it.
pub type Prepare = fn(Scene) -> Result<Option<Box<dyn Solver>>, PrepareError>;

/// A kind of solver.
pub struct SolverKind {
    /// Name in checkpoints.
    pub name: &'static str,
    /// Makes it.
    pub prepare: Prepare,
}

/// All kinds of solver, in the order they step.
pub const SOLVERS: &[SolverKind] = &[SolverKind { name: "solids", prepare: crate::solids::prepare }];

/// A shot being computed.
pub struct Simulation {
    sampler: Sampler,
    /// The shot as it is in the substep at hand.
    now: Shot,
    surfaces: Surfaces,
    solvers: Vec<(&'static str, Box<dyn Solver>)>,
    frame: u32,
}

#[derive(Serialize, Deserialize)]
struct State {
    frame: u32,
    solvers: Vec<(String, Vec<u8>)>,
}

/// One solver's part of a saved state.
pub(crate) fn part_of(saved: &[u8], solver: &str) -> Option<Vec<u8>> {
    let state: State = postcard::from_bytes(saved).ok()?;
    state.solvers.into_iter().find(|(name, _)| name == solver).map(|(_, bytes)| bytes)
}

impl Simulation {
    /// The shot at its first frame.
    ///
    /// # Errors
    /// [`PrepareError`] names the element that cannot be prepared.
    pub fn new(shot: &Shot, meshes: &Meshes) -> Result<Self, PrepareError> {
        let sampler = Sampler::new(shot).map_err(|faults| {
            PrepareError::State(faults.first().map_or_else(String::new, ToString::to_string))
        })?;
        let now = sampler.at(f64::from(shot.timing.first))?;
        let mut solvers = Vec::new();
        for kind in SOLVERS {
            if let Some(solver) = (kind.prepare)(Scene { shot: &now, sampler: &sampler, meshes })? {
                solvers.push((kind.name, solver));
            }
        }
        let surfaces = Surfaces::of(&now, meshes);
        Ok(Self { sampler, now, surfaces, solvers, frame: shot.timing.first })
    }

    /// The frame it is at.
    pub fn frame(&self) -> u32 {
        self.frame
    }

    /// The frame it is at, written.
    pub fn write(&mut self) -> Frame {
        let mut frame = Frame::new(self.frame, self.now.timing.seconds(self.frame));
        for (_, solver) in &mut self.solvers {
            solver.write(&mut frame);
        }
        frame
    }

    /// Computes the next frame and writes it.
    ///
    /// # Errors
    /// [`BlowUp`]; the simulation is then of no further use.
    pub fn advance(&mut self) -> Result<Frame, BlowUp> {
        let speed = self.sampler.speed(self.frame);
        let fps = f64::from(self.now.timing.fps);
        // Slow motion takes fewer steps of about the same length, so that it
        // does not change the way things go.
        let substeps = shot::steps_of(self.now.physics.substeps, speed);
        for substep in 1..=if speed > 0.0 { substeps } else { 0 } {
            let at = |substep: u32| f64::from(self.frame) + f64::from(substep) / f64::from(substeps);
            self.step(at(substep - 1), at(substep), speed / (fps * f64::from(substeps)))?;
        }
        self.frame += 1;
        Ok(self.write())
    }

    fn step(&mut self, start: f64, frame: f64, dt: f64) -> Result<(), BlowUp> {
        let acting = self.sampler.acting_frame(frame);
        self.sampler.apply(&mut self.now, acting).map_err(|error| BlowUp {
            frame: self.frame + 1,
            element: error.element.unwrap_or(Id(0)),
            name: error.name.clone(),
            what: format!("has a formula for {} without a finite value", error.what),
        })?;
        let timing = self.now.timing;
        let seconds = (self.sampler.world_frame(frame) - f64::from(timing.first)) / f64::from(timing.fps);
        let solvers = &self.solvers;
        let solved = |element: Id, _: f64| solvers.iter().find_map(|(_, solver)| solver.pose(element));
        let world = World::new(&self.now, &self.sampler, acting, &solved);
        let field = Field::new(&self.now, &world, &self.surfaces, frame, seconds);
        let step = Step {
            shot: &self.now,
            sampler: &self.sampler,
            frame,
            start,
            acting,
            dt: dt as f32,
            field: &field,
            surfaces: &self.surfaces,
            seconds,
        };
        for (_, solver) in &mut self.solvers {
            solver.step(&step)?;
        }
        Ok(())
    }

    /// The whole state.
    pub fn save(&self) -> Vec<u8> {
        let solvers = self.solvers.iter().map(|(name, solver)| ((*name).to_owned(), solver.save())).collect();
        postcard::to_stdvec(&State { frame: self.frame, solvers }).expect("a state serialises")
    }

    /// Takes up a saved state of the same shot.
    ///
    /// # Errors
    /// [`PrepareError::State`].
    pub fn restore(&mut self, bytes: &[u8]) -> Result<(), PrepareError> {
        let state: State =
            postcard::from_bytes(bytes).map_err(|error| PrepareError::State(error.to_string()))?;
        if state.solvers.len() != self.solvers.len() {
            return Err(PrepareError::State("it has other solvers".to_owned()));
        }
        for ((name, solver), (saved, bytes)) in self.solvers.iter_mut().zip(&state.solvers) {
            if name != saved {
                return Err(PrepareError::State(format!("it has {saved} where {name} is expected")));
            }
            solver.restore(bytes)?;
        }
        self.frame = state.frame;
        Ok(())
    }
}
