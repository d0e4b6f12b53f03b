//! The contract of a solver.

use crate::colliders::{BodyState, Colliders, Contact, Exchange, SurfaceResponse};
use crate::forces::{Field, Surfaces, Weight};
use crate::liquid::Carrier;
use frames::Frame;
use geometry::{Meshes, MissingMesh, MovingMesh};
use serde::{Deserialize, Serialize};
use shot::{
    Id, Shot, System, SystemId,
    motion::{NotFinite, Sampler},
    world::{Pose, World},
};
use std::collections::BTreeMap;
use std::io::{self, Write};
use std::sync::Arc;
use thiserror::Error;

/// The inputs from which a solver is prepared.
#[derive(Clone, Copy)]
pub struct PrepareContext<'a> {
    /// The shot sampled at its first frame, free of faults.
    pub shot: &'a Shot,
    /// Gives the shot at other times.
    pub sampler: &'a Sampler,
    /// The meshes its shapes use.
    pub meshes: &'a Meshes,
    /// The frame that it begins from; none: as all is placed.
    pub initial_state: Option<InitialState<'a>>,
}

/// A frame that a simulation begins from.
#[derive(Clone, Copy)]
pub struct InitialState<'a> {
    /// The frame.
    pub frame: &'a Frame,
    /// Whether what is in it goes on with its velocities; else it begins at rest.
    pub velocities: bool,
}

/// One substep.
#[derive(Clone, Copy)]
pub struct Step<'a> {
    /// The shot sampled at the substep's end.
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
    /// The bodies, with their poses at the substep's start and end.
    pub colliders: &'a Colliders,
    /// The liquids that release or carry particles, as their last substeps left them.
    pub liquids: &'a [Carrier],
    /// What cloths and soft bodies would write into a frame at the substep's end; empty if no solver wants that.
    pub deformed: &'a Frame,
}

impl Step<'_> {
    /// The frame being computed.
    pub fn frame_number(&self) -> u32 {
        (self.frame - 1e-6).ceil() as u32
    }

    /// Whether the substep is the last of a frame.
    pub fn ends_frame(&self) -> bool {
        (self.frame - self.frame.round()).abs() < 1e-6
    }

    /// The weight of a region at the substep's end.
    pub(crate) fn weight(&self, region: Id) -> Option<Weight> {
        let solved = |id: Id, _: f64| self.colliders.solved(id);
        let world = World::new(self.shot, self.sampler, self.acting, &solved);
        Weight::new(&world, self.shot, self.surfaces, self.shot.element(region)?, self.seconds)
    }
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
    /// What happened to the element.
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
        /// The fault.
        why: &'static str,
    },
    /// A formula gives no finite value at the first frame.
    #[error(transparent)]
    NotFinite(#[from] NotFinite),
    /// The preroll went out of bounds.
    #[error(transparent)]
    BlowUp(#[from] BlowUp),
    /// Its shape cannot be what it is made as.
    #[error("{element}: {what}")]
    Unfit {
        /// Its name.
        element: String,
        /// What is wrong, and what to do.
        what: String,
    },
    /// More than can be held in memory.
    #[error("{element}: {what}")]
    TooMuch {
        /// Name of the element.
        element: String,
        /// How much, and the bound.
        what: String,
    },
    /// Particles have nowhere to be born.
    #[error(
        "{element}: there is no place to be born; what it is born on has no area or length, or is not closed and has no inside"
    )]
    NoPlace {
        /// Name of the element.
        element: String,
    },
    /// A checkpoint does not fit this shot.
    #[error("the saved state cannot be read: {0}")]
    State(String),
}

/// A method of computing motion.
pub trait Solver: Send {
    /// Computes one substep.
    ///
    /// # Errors
    /// [`BlowUp`] names the element that left all bounds.
    fn step(&mut self, step: &Step) -> Result<(), BlowUp>;

    /// Pose of an element's first body; none if the body is not free or belongs to another solver.
    fn pose(&self, element: Id) -> Option<Pose>;

    /// Pose of that body after `dt` seconds without contacts.
    fn pose_ahead(&self, element: Id, _dt: f32) -> Option<Pose> {
        self.pose(element)
    }

    /// Updates animated bodies that are attached to or aimed at free bodies.
    fn follow_free(&mut self, _: &Step) {}

    /// Whether it has bodies with which other systems collide.
    fn has_bodies(&self) -> bool {
        false
    }

    /// Whether these are cloths and soft bodies.
    fn deforms(&self) -> bool {
        false
    }

    /// Adds the present states of its bodies.
    fn bodies(&self, _: &Shot, _: &mut Vec<BodyState>) {}

    /// Present shapes of its bodies that change their shape, by element, in metres and
    /// metres a second.
    fn shapes(&self) -> BTreeMap<Id, Arc<MovingMesh>> {
        BTreeMap::new()
    }

    /// How those shapes answer impulses within the last substep.
    fn response(&mut self) -> Option<Arc<dyn SurfaceResponse>> {
        None
    }

    /// Adds the hits of its bodies on each other in the last substep.
    fn hits(&self, _: &mut Vec<Contact>) {}

    /// Adds its bodies that broke in the last substep, with their last states.
    fn broken(&self, _: &mut Vec<BodyState>) {}

    /// Adds its liquids that release or carry particles of the shot.
    fn liquids(&self, _: &Shot, _: &mut Vec<Carrier>) {}

    /// Takes out the impulses and spawned bodies and particles for other solvers.
    fn take_exchange(&mut self) -> Exchange {
        Exchange::default()
    }

    /// Applies the exchange of another solver.
    fn receive(&mut self, _: &Shot, _: &Exchange) {}

    /// The data on bodies that it needs.
    fn wants(&self) -> Wants {
        Wants::default()
    }

    /// Length of its preroll, s; none: it begins after the first frame.
    fn preroll_s(&self) -> Option<f32> {
        None
    }

    /// Computes one substep of the preroll of other solvers: only matter that they
    /// have handed over moves.
    ///
    /// # Errors
    /// [`BlowUp`] names the element that left all bounds.
    fn step_handed_over(&mut self, _: &Step) -> Result<(), BlowUp> {
        Ok(())
    }

    /// The preroll is over.
    fn end_preroll(&mut self) {}

    /// Remembers the poses of all elements before the first substep.
    fn stand(&mut self, _: &World) {}

    /// Writes its part of a frame, with the measurements since the last frame.
    fn write(&mut self, frame: &mut Frame);

    /// Its whole state, to be encoded on any thread.
    fn save(&self) -> SavedPart;

    /// Writes the bytes that [`Solver::save`] gives; a solver with much state does it without all of these in memory.
    ///
    /// # Errors
    /// Those of `out`.
    fn write_state(&self, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(&self.save()())
    }

    /// Restores a state from [`Solver::save`]; none if the shot had nothing
    /// for the solver at that time. All frames up to there have the same fingerprints in
    /// this shot.
    ///
    /// # Errors
    /// [`PrepareError::State`] if it does not fit; the solver must then be dropped.
    fn restore(&mut self, state: Option<&[u8]>) -> Result<(), PrepareError>;
}

/// A solver's state, encoded on demand.
pub type SavedPart = Box<dyn FnOnce() -> Vec<u8> + Send>;

/// The state of one system after a frame: a section for each of its solvers.
#[derive(Serialize, Deserialize)]
pub(crate) struct SystemState {
    pub frame: u32,
    pub sections: Vec<Section>,
}

/// The state of one solver.
#[derive(Serialize, Deserialize)]
pub(crate) struct Section {
    pub solver: String,
    pub version: u32,
    pub bytes: Vec<u8>,
}

/// A system's state, to be turned into bytes on any thread.
pub struct Saved {
    pub(crate) system: SystemId,
    pub(crate) frame: u32,
    pub(crate) sections: Vec<(&'static SolverKind, SavedPart)>,
}

impl Saved {
    /// The system.
    pub fn system(&self) -> SystemId {
        self.system
    }

    /// Writes the state as bytes: a [`SystemState`], with one section in memory at a time.
    ///
    /// # Errors
    /// Those of `out`.
    pub fn write(self, out: &mut dyn Write) -> io::Result<()> {
        write_head(self.frame, self.sections.len(), out)?;
        for (kind, part) in self.sections {
            let bytes = part();
            write_section(kind, bytes.len(), out)?;
            out.write_all(&bytes)?;
        }
        Ok(())
    }

    /// The state as bytes.
    pub fn bytes(self) -> Vec<u8> {
        let mut bytes = Vec::new();
        self.write(&mut bytes).expect("memory takes it");
        bytes
    }
}

/// Begins a [`SystemState`] of so many sections.
pub(crate) fn write_head(frame: u32, sections: usize, out: &mut dyn Write) -> io::Result<()> {
    out.write_all(&packed(&(frame, sections)))
}

/// Begins a [`Section`], of which so many bytes follow.
pub(crate) fn write_section(kind: &SolverKind, bytes: usize, out: &mut dyn Write) -> io::Result<()> {
    out.write_all(&packed(&(kind.name, kind.version, bytes)))
}

/// How many bytes are written.
pub(crate) fn written(by: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> usize {
    struct Count(usize);
    impl Write for Count {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0 += bytes.len();
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }
    let mut count = Count(0);
    by(&mut count).expect("counting does not fail");
    count.0
}

fn packed(value: &impl Serialize) -> Vec<u8> {
    postcard::to_stdvec(value).expect("a state serialises")
}

/// The data that a solver needs on the bodies of others.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wants {
    /// Their states.
    pub bodies: bool,
    /// Their contacts.
    pub hits: bool,
    /// The surfaces of cloths and soft bodies too.
    pub deformables: bool,
    /// What cloths and soft bodies would write into a frame.
    pub quantities: bool,
    /// The liquids that release or carry particles.
    pub liquids: bool,
    /// How the surfaces of cloths and soft bodies answer impulses.
    pub responses: bool,
}

/// Prepares a solver for the elements of a system; none if the system has nothing for it.
pub type Prepare = fn(PrepareContext, &System) -> Result<Option<Box<dyn Solver>>, PrepareError>;

/// A kind of solver.
pub struct SolverKind {
    /// Name in checkpoints.
    pub name: &'static str,
    /// Version of its state: raised when the solver would go on otherwise from the same bytes.
    pub version: u32,
    /// Prepares the solver.
    pub prepare: Prepare,
    /// Whether elements may be added to or removed from the solver after a checkpoint that stays valid.
    pub begins_later: bool,
}

/// One solver's part of a simulation's saved state.
pub(crate) fn part_of(saved: &[u8], system: SystemId, solver: &str) -> Option<Vec<u8>> {
    let states: Vec<(SystemId, Vec<u8>)> = postcard::from_bytes(saved).ok()?;
    let (_, state) = states.into_iter().find(|(of, _)| *of == system)?;
    let state: SystemState = postcard::from_bytes(&state).ok()?;
    state.sections.into_iter().find(|section| section.solver == solver).map(|section| section.bytes)
}

pub(crate) fn sampler(shot: &Shot) -> Result<Sampler, PrepareError> {
    Sampler::new(shot)
        .map_err(|faults| PrepareError::State(faults.first().map_or_else(String::new, ToString::to_string)))
}
