//! The contract of a solver, and the simulation that drives all of them.

use crate::colliders::{BodyState, Colliders, Contact, Exchange};
use crate::forces::{Field, Surfaces, Weight};
use frames::{Bodies, Frame};
use geometry::{Meshes, MissingMesh};
use glam::Vec3;
use serde::{Deserialize, Serialize};
use shot::{
    Id, Shot,
    motion::{NotFinite, Sampler},
    world::{Pose, World},
};
use thiserror::Error;

/// What a solver prepares from.
#[derive(Clone, Copy)]
pub struct PrepareContext<'a> {
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
    /// The bodies, from where they were at the substep's start to its end.
    pub colliders: &'a Colliders,
}

impl Step<'_> {
    /// The frame that is being computed.
    pub fn frame_number(&self) -> u32 {
        (self.frame - 1e-6).ceil() as u32
    }

    /// Whether a frame ends with it.
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
    /// What comes before the first frame went out of bounds.
    #[error(transparent)]
    BlowUp(#[from] BlowUp),
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

    /// Where that body will be in `dt` seconds if nothing touches it.
    fn pose_ahead(&self, element: Id, _dt: f32) -> Option<Pose> {
        self.pose(element)
    }

    /// Sets what keys move to where it belongs now that free bodies are where they are.
    fn follow_free(&mut self, _: &Step) {}

    /// Whether it has bodies for other systems to meet.
    fn has_bodies(&self) -> bool {
        false
    }

    /// Adds its bodies as they are.
    fn bodies(&self, _: &Shot, _: &mut Vec<BodyState>) {}

    /// Adds the hits of its bodies on each other in the last substep.
    fn hits(&self, _: &mut Vec<Contact>) {}

    /// Adds its bodies that broke in the last substep, as they were.
    fn broken(&self, _: &mut Vec<BodyState>) {}

    /// What it owes to other systems after a substep.
    fn take_exchange(&mut self) -> Exchange {
        Exchange::default()
    }

    /// Takes what other systems owe it.
    fn receive(&mut self, _: &Shot, _: &Exchange) {}

    /// What it needs to know of the bodies.
    fn wants(&self) -> Wants {
        Wants::default()
    }

    /// How long before the first frame it begins, s; none: after it.
    fn preroll_s(&self) -> Option<f32> {
        None
    }

    /// Goes one substep of the preroll on, if it does not begin before the first
    /// frame itself: only what others have handed over moves.
    ///
    /// # Errors
    /// [`BlowUp`] names the element that left all bounds.
    fn step_handed_over(&mut self, _: &Step) -> Result<(), BlowUp> {
        Ok(())
    }

    /// The preroll is over.
    fn end_preroll(&mut self) {}

    /// Takes note of where all elements stand, before the first substep from there on.
    fn stand(&mut self, _: &World) {}

    /// Writes its part of a frame, with what was measured since the last.
    fn write(&mut self, frame: &mut Frame);

    /// Its whole state: what gives its bytes, on whichever thread.
    fn save(&self) -> SavedPart;

    /// Takes up a state that [`Solver::save`] gave; none if the shot had nothing
    /// for the solver then. All frames up to there have the same fingerprints in
    /// this shot.
    ///
    /// # Errors
    /// [`PrepareError::State`] if it does not fit; the solver is then of no further use.
    fn restore(&mut self, state: Option<&[u8]>) -> Result<(), PrepareError>;
}

/// A solver's state at one moment, whose bytes are made when they are needed.
pub type SavedPart = Box<dyn FnOnce() -> Vec<u8> + Send>;

/// A simulation's state at one moment.
pub struct Saved {
    frame: u32,
    solvers: Vec<(String, SavedPart)>,
}

impl Saved {
    /// The state as bytes.
    pub fn bytes(self) -> Vec<u8> {
        let solvers = self.solvers.into_iter().map(|(name, part)| (name, part())).collect();
        postcard::to_stdvec(&State { frame: self.frame, solvers }).expect("a state serialises")
    }
}

/// What a solver needs to know of the bodies of others.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wants {
    /// Where they are.
    pub bodies: bool,
    /// How they hit each other.
    pub hits: bool,
}

/// How to make a solver; none if the shot has nothing for it.
pub type Prepare = fn(PrepareContext) -> Result<Option<Box<dyn Solver>>, PrepareError>;

/// A kind of solver.
pub struct SolverKind {
    /// Name in checkpoints.
    pub name: &'static str,
    /// Makes it.
    pub prepare: Prepare,
    /// Whether all its elements may come or go after a checkpoint that still holds.
    pub begins_later: bool,
}

/// All kinds of solver, in the order they step.
pub const SOLVERS: &[SolverKind] = &[
    SolverKind { name: "solids", prepare: crate::solids::prepare, begins_later: false },
    SolverKind { name: "particles", prepare: crate::particles::prepare, begins_later: true },
];

/// A shot being computed.
pub struct Simulation {
    sampler: Sampler,
    /// The shot as it is in the substep at hand.
    now: Shot,
    surfaces: Surfaces,
    meshes: Meshes,
    solvers: Vec<(&'static str, Box<dyn Solver>)>,
    colliders: Colliders,
    wants: Wants,
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

pub(crate) fn sampler(shot: &Shot) -> Result<Sampler, PrepareError> {
    Sampler::new(shot)
        .map_err(|faults| PrepareError::State(faults.first().map_or_else(String::new, ToString::to_string)))
}

/// What a formula without a finite value does to the frame.
fn blow_up(frame: u32) -> impl Fn(NotFinite) -> BlowUp {
    move |error| BlowUp {
        frame,
        element: error.element.unwrap_or(Id(0)),
        name: error.name.clone(),
        what: format!("has a formula for {} without a finite value", error.what),
    }
}

fn cannot_be_met(frame: u32) -> impl Fn(PrepareError) -> BlowUp {
    move |error| BlowUp {
        frame,
        element: Id(0),
        name: "the shot".to_owned(),
        what: format!("cannot be met: {error}"),
    }
}

impl Simulation {
    /// The shot at its first frame, after the preroll.
    ///
    /// # Errors
    /// [`PrepareError`] names the element that cannot be prepared.
    pub fn new(shot: &Shot, meshes: &Meshes) -> Result<Self, PrepareError> {
        let mut simulation = Self::prepare(shot, meshes)?;
        simulation.preroll()?;
        simulation.stand();
        Ok(simulation)
    }

    /// The shot at the frame at which [`Simulation::save`] gave `state`.
    ///
    /// # Errors
    /// [`PrepareError::State`] if the state does not fit the shot; other
    /// [`PrepareError`]s as for [`Simulation::new`].
    pub fn restored(shot: &Shot, meshes: &Meshes, state: &[u8]) -> Result<Self, PrepareError> {
        let mut simulation = Self::prepare(shot, meshes)?;
        simulation.restore(state)?;
        simulation.stand();
        Ok(simulation)
    }

    /// The shot as it is staged at its first frame.
    fn prepare(shot: &Shot, meshes: &Meshes) -> Result<Self, PrepareError> {
        let sampler = sampler(shot)?;
        let now = sampler.at(f64::from(shot.timing.first))?;
        let mut solvers = Vec::new();
        for kind in SOLVERS {
            if let Some(solver) = (kind.prepare)(PrepareContext { shot: &now, sampler: &sampler, meshes })? {
                solvers.push((kind.name, solver));
            }
        }
        let surfaces = Surfaces::of(&now, meshes);
        let wants = solvers.iter().fold(Wants::default(), |all, (_, solver)| {
            let wants = solver.wants();
            Wants { bodies: all.bodies || wants.bodies, hits: all.hits || wants.hits }
        });
        let meshes = meshes.clone();
        let (colliders, frame) = (Colliders::default(), shot.timing.first);
        let mut simulation = Self { sampler, now, surfaces, meshes, solvers, colliders, wants, frame };
        simulation.follow_bodies()?;
        Ok(simulation)
    }

    /// The longest preroll of a solver, s.
    fn preroll_s(&self) -> f32 {
        self.solvers.iter().filter_map(|(_, solver)| solver.preroll_s()).fold(0.0, f32::max)
    }

    /// Whether anything happens before the first frame.
    pub fn has_preroll(&self) -> bool {
        self.preroll_s() > 0.0
    }

    /// Lets those begin that do so before the first frame; all others wait.
    fn preroll(&mut self) -> Result<(), PrepareError> {
        if self.solvers.iter().all(|(_, solver)| solver.preroll_s().is_none()) {
            return Ok(());
        }
        let fps = f64::from(self.now.timing.fps);
        let steps = self.now.physics.substeps;
        let count = (f64::from(self.preroll_s()) * fps * f64::from(steps)).ceil() as u32;
        for back in (0..count).rev() {
            let at = |back: u32| f64::from(self.frame) - f64::from(back) / f64::from(steps);
            self.step(at(back + 1), at(back), 1.0 / (fps * f64::from(steps)), true)?;
        }
        // What is there from the first frame on comes in a step without length.
        let first = f64::from(self.frame);
        self.step(first, first, 0.0, true)?;
        for (_, solver) in &mut self.solvers {
            solver.end_preroll();
        }
        self.sampler.apply(&mut self.now, first)?;
        self.follow_bodies()
    }

    /// Lets the solvers note where all stands.
    fn stand(&mut self) {
        let acting = self.acting_frame(self.frame);
        let poses: Vec<(Id, Option<Pose>)> = self
            .now
            .elements
            .iter()
            .map(|element| (element.id, self.solvers.iter().find_map(|(_, solver)| solver.pose(element.id))))
            .collect();
        let solved = |id: Id, _: f64| poses.iter().find(|(of, _)| *of == id)?.1;
        let world = World::new(&self.now, &self.sampler, acting, &solved);
        for (_, solver) in &mut self.solvers {
            solver.stand(&world);
        }
    }

    /// Takes the bodies as they are now.
    fn follow_bodies(&mut self) -> Result<(), PrepareError> {
        if !self.wants.bodies {
            return Ok(());
        }
        let mut bodies = Vec::new();
        self.colliders.hits.clear();
        self.colliders.broken.clear();
        for (_, solver) in &self.solvers {
            solver.bodies(&self.now, &mut bodies);
            solver.broken(&mut self.colliders.broken);
            if self.wants.hits {
                solver.hits(&mut self.colliders.hits);
            }
        }
        let meshes = &self.meshes;
        self.colliders
            .follow(&self.now, bodies, |shape| meshes.mesh(shape))
            .map_err(|source| PrepareError::Mesh { element: "a solid".to_owned(), source })
    }

    /// The frame it is at.
    pub fn frame(&self) -> u32 {
        self.frame
    }

    /// The shot as it is at the frame it is at.
    pub fn now(&self) -> &Shot {
        &self.now
    }

    /// The frame at which motion is read when the shot is at `frame`.
    pub fn acting_frame(&self, frame: u32) -> f64 {
        self.sampler.acting_frame(f64::from(frame))
    }

    /// Goes on with other motion: `shot` differs from its own in channels only.
    ///
    /// # Errors
    /// [`PrepareError::State`] with the first fault of a channel.
    pub fn set_motion(&mut self, shot: &Shot) -> Result<(), PrepareError> {
        self.sampler = sampler(shot)?;
        Ok(())
    }

    /// Where all elements stand that no solver writes, added to a frame it wrote.
    pub fn place_others(&self, frame: &mut Frame) {
        let solved = |element: Id, _: f64| self.solvers.iter().find_map(|(_, solver)| solver.pose(element));
        let acting = self.acting_frame(self.frame);
        let world = World::new(&self.now, &self.sampler, acting, &solved);
        for element in &self.now.elements {
            frame.bodies.entry(element.id).or_insert_with(|| {
                let mut bodies = Bodies::default();
                for (position, orientation) in world.placements(element) {
                    bodies.push(position, orientation, Vec3::ZERO, Vec3::ZERO);
                }
                bodies
            });
        }
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
        self.go_on()?;
        Ok(self.write())
    }

    /// Computes the next frame without writing it.
    ///
    /// # Errors
    /// [`BlowUp`]; the simulation is then of no further use.
    pub fn go_on(&mut self) -> Result<(), BlowUp> {
        let speed = self.sampler.speed(self.frame);
        let fps = f64::from(self.now.timing.fps);
        // Slow motion takes fewer steps of about the same length, so that it
        // does not change the way things go.
        let substeps = shot::fingerprint::steps_of(self.now.physics.substeps, speed);
        for substep in 1..=if speed > 0.0 { substeps } else { 0 } {
            let at = |substep: u32| f64::from(self.frame) + f64::from(substep) / f64::from(substeps);
            self.step(at(substep - 1), at(substep), speed / (fps * f64::from(substeps)), false)?;
        }
        self.frame += 1;
        Ok(())
    }

    /// Goes one substep on; `early`: before the first frame, where only those
    /// go on that begin there.
    fn step(&mut self, start: f64, frame: f64, dt: f64, early: bool) -> Result<(), BlowUp> {
        let timing = self.now.timing;
        let first = f64::from(timing.first);
        let acting = if early { frame } else { self.sampler.acting_frame(frame) };
        let ahead = |element: Id, _: f64| {
            self.solvers.iter().find_map(|(_, solver)| solver.pose_ahead(element, dt as f32))
        };
        let not_finite = blow_up(self.frame + 1);
        self.sampler.apply_with(&mut self.now, acting, &ahead).map_err(not_finite)?;
        self.surfaces.follow(&self.now, &self.meshes);
        let passed = if early { frame } else { self.sampler.world_frame(frame) } - first;
        let seconds = passed / f64::from(timing.fps);
        let solvers = &self.solvers;
        let solved = |element: Id, _: f64| solvers.iter().find_map(|(_, solver)| solver.pose(element));
        let world = World::new(&self.now, &self.sampler, acting, &solved);
        let field = Field::new(&self.now, &world, &self.surfaces, frame, seconds);
        for i in 0..self.solvers.len() {
            let solver = &mut self.solvers[i].1;
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
                colliders: &self.colliders,
            };
            match solver.preroll_s() {
                _ if !early => solver.step(&step)?,
                None => solver.step_handed_over(&step)?,
                Some(preroll) if f64::from(preroll) < -seconds => continue,
                Some(_) => solver.step(&step)?,
            }
            let has_bodies = solver.has_bodies();
            if has_bodies && !early {
                if self.sampler.reads_bodies() {
                    let solved = |element: Id, _: f64| self.solvers[i].1.pose(element);
                    let mut now = self.now.clone();
                    self.sampler.apply_with(&mut now, acting, &solved).map_err(blow_up(self.frame + 1))?;
                    let step = Step { shot: &now, ..step };
                    self.solvers[i].1.follow_free(&step);
                } else {
                    self.solvers[i].1.follow_free(&step);
                }
            }
            let exchange = self.solvers[i].1.take_exchange();
            if has_bodies {
                self.follow_bodies().map_err(cannot_be_met(self.frame + 1))?;
            }
            if !exchange.impulses.is_empty() || !exchange.spawns.is_empty() {
                for (_, other) in &mut self.solvers {
                    other.receive(&self.now, &exchange);
                }
            }
            // A particle spawned in this substep is met from here on, also after a restart.
            if !exchange.spawns.is_empty() {
                self.follow_bodies().map_err(cannot_be_met(self.frame + 1))?;
            }
        }
        Ok(())
    }

    /// The whole state.
    pub fn save(&self) -> Vec<u8> {
        self.snapshot().bytes()
    }

    /// The whole state, to be turned into bytes elsewhere.
    pub fn snapshot(&self) -> Saved {
        let solvers = self.solvers.iter().map(|(name, solver)| ((*name).to_owned(), solver.save())).collect();
        Saved { frame: self.frame, solvers }
    }

    /// Takes up a saved state.
    fn restore(&mut self, bytes: &[u8]) -> Result<(), PrepareError> {
        let unreadable = |error: String| PrepareError::State(error);
        let state: State = postcard::from_bytes(bytes).map_err(|error| unreadable(error.to_string()))?;
        if !self.now.timing.frames().contains(&state.frame) {
            return Err(unreadable(format!("it is of frame {}", state.frame)));
        }
        let unknown = state.solvers.iter().find(|(saved, _)| {
            let later = SOLVERS.iter().any(|kind| kind.name == saved && kind.begins_later);
            !later && !self.solvers.iter().any(|(name, _)| name == saved)
        });
        if let Some((saved, _)) = unknown {
            return Err(unreadable(format!("it has other solvers: {saved}")));
        }
        for (name, solver) in &mut self.solvers {
            let saved = state.solvers.iter().find(|(saved, _)| saved == name);
            solver.restore(saved.map(|(_, bytes)| &bytes[..]))?;
        }
        self.frame = state.frame;
        let acting = self.acting_frame(state.frame);
        let solved = |element: Id, _: f64| self.solvers.iter().find_map(|(_, solver)| solver.pose(element));
        self.sampler.apply_with(&mut self.now, acting, &solved)?;
        self.surfaces.follow(&self.now, &self.meshes);
        self.follow_bodies()
    }
}
