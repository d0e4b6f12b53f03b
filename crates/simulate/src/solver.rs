//! The contract of a solver, and the simulation that drives all of them.

use frames::Frame;
use geometry::{Meshes, MissingMesh};
use glam::Vec3;
use serde::{Deserialize, Serialize};
use shot::{Id, Shot};
use thiserror::Error;

/// What a solver prepares from.
#[derive(Clone, Copy)]
pub struct Scene<'a> {
    /// The shot, free of faults.
    pub shot: &'a Shot,
    /// The meshes its shapes use.
    pub meshes: &'a Meshes,
}

/// One substep.
#[derive(Clone, Copy, Debug)]
pub struct Step<'a> {
    /// The shot.
    pub shot: &'a Shot,
    /// Frame at the substep's end; lies between frames.
    pub frame: f64,
    /// Length in seconds.
    pub dt: f32,
    /// Acceleration of every free body, m/s².
    pub gravity: Vec3,
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
    shot: Shot,
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
        let mut solvers = Vec::new();
        for kind in SOLVERS {
            if let Some(solver) = (kind.prepare)(Scene { shot, meshes })? {
                solvers.push((kind.name, solver));
            }
        }
        Ok(Self { shot: shot.clone(), solvers, frame: shot.timing.first })
    }

    /// The frame it is at.
    pub fn frame(&self) -> u32 {
        self.frame
    }

    /// The frame it is at, written.
    pub fn write(&mut self) -> Frame {
        let mut frame = Frame::new(self.frame, self.shot.timing.seconds(self.frame));
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
        let substeps = self.shot.physics.substeps;
        let dt = 1.0 / (f64::from(self.shot.timing.fps) * f64::from(substeps));
        for substep in 1..=substeps {
            let step = Step {
                shot: &self.shot,
                frame: f64::from(self.frame) + f64::from(substep) / f64::from(substeps),
                dt: dt as f32,
                gravity: self.shot.gravity(),
            };
            for (_, solver) in &mut self.solvers {
                solver.step(&step)?;
            }
        }
        self.frame += 1;
        Ok(self.write())
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
