//! A shot simulated frame by frame: all solvers in step, what they give each other, and their saved state.

use crate::colliders::Colliders;
use crate::forces::{Field, Surfaces};
use crate::solver::{
    BlowUp, PrepareContext, PrepareError, Saved, Solver, SolverKind, State, Step, Wants, sampler,
};
use frames::{Bodies, Frame};
use geometry::Meshes;
use glam::Vec3;
use shot::{
    Id, Shot,
    motion::{NotFinite, Sampler},
    world::{Pose, World},
};
use std::collections::BTreeMap;

/// All kinds of solver, in the order they step.
pub const SOLVERS: &[SolverKind] = &[
    SolverKind { name: "solids", prepare: crate::solids::prepare, begins_later: false },
    SolverKind { name: "particles", prepare: crate::particles::prepare, begins_later: true },
];

/// A shot being computed.
pub struct Simulation {
    sampler: Sampler,
    /// The shot sampled at the present substep.
    now: Shot,
    surfaces: Surfaces,
    meshes: Meshes,
    solvers: Vec<(&'static str, Box<dyn Solver>)>,
    colliders: Colliders,
    wants: Wants,
    frame: u32,
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

    /// The shot sampled at its first frame.
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
        simulation.follow_bodies(0.0)?;
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

    /// Runs the solvers whose emission begins before the first frame; all others wait.
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
        self.follow_bodies(0.0)
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

    /// Updates the colliders from the present states of the bodies, `dt` seconds
    /// after those before.
    fn follow_bodies(&mut self, dt: f32) -> Result<(), PrepareError> {
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
        let shapes =
            self.solvers.iter().map(|(_, solver)| solver.shapes()).fold(BTreeMap::new(), |mut all, own| {
                all.extend(own);
                all
            });
        let meshes = &self.meshes;
        self.colliders
            .follow(&self.now, bodies, &shapes, dt, |shape| meshes.mesh(shape))
            .map_err(|source| PrepareError::Mesh { element: "a solid".to_owned(), source })
    }

    /// The number of the frame computed last.
    pub fn frame(&self) -> u32 {
        self.frame
    }

    /// The shot sampled at that frame.
    pub fn now(&self) -> &Shot {
        &self.now
    }

    /// The frame at which motion is read when the shot is at `frame`.
    pub fn acting_frame(&self, frame: u32) -> f64 {
        self.sampler.acting_frame(f64::from(frame))
    }

    /// Goes on with other channels: `shot` differs from the simulated one in nothing else.
    ///
    /// # Errors
    /// [`PrepareError::State`] with the first fault of a channel.
    pub fn set_motion(&mut self, shot: &Shot) -> Result<(), PrepareError> {
        self.sampler = sampler(shot)?;
        Ok(())
    }

    /// Adds to a frame the poses of all elements that no solver writes.
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

    /// The present state as a frame.
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
                self.follow_bodies(dt as f32).map_err(cannot_be_met(self.frame + 1))?;
            }
            if !exchange.impulses.is_empty() || exchange.spawns() {
                for (_, other) in &mut self.solvers {
                    other.receive(&self.now, &exchange);
                }
            }
            // A particle spawned in this substep is met from here on, also after a restart.
            if exchange.spawns() {
                self.follow_bodies(0.0).map_err(cannot_be_met(self.frame + 1))?;
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
        self.follow_bodies(0.0)
    }
}
