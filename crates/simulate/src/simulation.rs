//! A shot simulated frame by frame: all solvers in step, what they give each other, and their saved state.
//!
//! Systems are computed together or alone: one that reads another has it step
//! alongside, so that bodies are met where they are in every substep.

use crate::cancel::Cancel;
use crate::colliders::Colliders;
use crate::forces::{Field, Surfaces};
use crate::liquid::Carrier;
use crate::solver::{
    BlowUp, InitialState, PrepareContext, PrepareError, Saved, Solver, SolverKind, Step, SystemState, Wants,
    sampler, write_head, write_section, written,
};
use frames::{Bodies, Frame};
use geometry::Meshes;
use glam::Vec3;
use shot::{
    Id, Shot, System, SystemId,
    motion::{NotFinite, Sampler},
    world::{Pose, World},
};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write};

/// All kinds of solver, in the order they step.
pub const SOLVERS: &[SolverKind] = &[
    SolverKind { name: "solids", version: 2, prepare: crate::solids::prepare, begins_later: false },
    SolverKind { name: "deformables", version: 5, prepare: crate::deformable::prepare, begins_later: false },
    SolverKind { name: "sway", version: 1, prepare: crate::sway::prepare, begins_later: false },
    SolverKind { name: "particles", version: 11, prepare: crate::particles::prepare, begins_later: true },
];

/// A shot being computed.
pub struct Simulation {
    sampler: Sampler,
    /// The shot sampled at the present substep.
    now: Shot,
    surfaces: Surfaces,
    meshes: Meshes,
    systems: Vec<Computed>,
    /// The solvers of all systems, those of one system together.
    solvers: Vec<SystemSolver>,
    colliders: Colliders,
    /// What cloths and soft bodies would write into a frame, at the end of their last substep, if a solver wants that.
    deformed: Frame,
    /// The liquids that release or carry particles, at the end of their last substeps.
    liquids: Vec<Carrier>,
    wants: Wants,
    frame: u32,
    cancel: Cancel,
    /// Whether a substep was left out.
    cancelled: bool,
}

/// A system being computed.
struct Computed {
    id: SystemId,
    /// The forces that act on its elements.
    forces: BTreeSet<Id>,
}

/// A solver of a system.
struct SystemSolver {
    /// Place of the system.
    system: usize,
    kind: &'static SolverKind,
    solver: Box<dyn Solver>,
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
        Self::of(shot, meshes, &all(shot), None)
    }

    /// Some systems of the shot, with those that they read, at its first frame; `initial_state` is the
    /// frame that the shot begins from, if it names one.
    ///
    /// # Errors
    /// As of [`Simulation::new`].
    pub fn of(
        shot: &Shot,
        meshes: &Meshes,
        systems: &[SystemId],
        initial_state: Option<&Frame>,
    ) -> Result<Self, PrepareError> {
        Self::cancellable(shot, meshes, systems, initial_state, Cancel::default())
    }

    /// As [`Simulation::of`]; `cancel` is asked before every substep, from the preroll on.
    /// See [`Simulation::is_cancelled`].
    ///
    /// # Errors
    /// As of [`Simulation::new`].
    pub fn cancellable(
        shot: &Shot,
        meshes: &Meshes,
        systems: &[SystemId],
        initial_state: Option<&Frame>,
        cancel: Cancel,
    ) -> Result<Self, PrepareError> {
        let of = shot.initial_state.as_ref().zip(initial_state);
        let initial_state = of.map(|(of, frame)| InitialState { frame, velocities: of.velocities });
        let mut simulation = Self::prepare(shot, meshes, systems, initial_state)?;
        simulation.cancel = cancel;
        simulation.preroll()?;
        simulation.stand();
        Ok(simulation)
    }

    /// The simulation, which asks `cancel` before every substep from now on.
    #[must_use]
    pub fn with_cancel(mut self, cancel: Cancel) -> Self {
        self.cancel = cancel;
        self
    }

    /// Whether it was cancelled: it stands within a frame then, and is of no further use.
    pub fn is_cancelled(&self) -> bool {
        self.cancelled
    }

    /// The shot at the frame at which [`Simulation::save`] gave `state`.
    ///
    /// # Errors
    /// [`PrepareError::State`] if the state does not fit the shot; other
    /// [`PrepareError`]s as for [`Simulation::new`].
    pub fn restored(shot: &Shot, meshes: &Meshes, state: &[u8]) -> Result<Self, PrepareError> {
        let states: Vec<(SystemId, Vec<u8>)> =
            postcard::from_bytes(state).map_err(|error| PrepareError::State(error.to_string()))?;
        let of = |id: SystemId| states.iter().find(|(of, _)| *of == id).map(|(_, state)| &state[..]);
        let states: Vec<(SystemId, Option<&[u8]>)> = all(shot).into_iter().map(|id| (id, of(id))).collect();
        Self::resumed(shot, meshes, &states)
    }

    /// Some systems of the shot, with those that they read, at the frame after which
    /// their states were saved; none for a system of which nothing was there.
    ///
    /// # Errors
    /// As of [`Simulation::restored`].
    pub fn resumed(
        shot: &Shot,
        meshes: &Meshes,
        states: &[(SystemId, Option<&[u8]>)],
    ) -> Result<Self, PrepareError> {
        let systems: Vec<SystemId> = states.iter().map(|(id, _)| *id).collect();
        let mut simulation = Self::prepare(shot, meshes, &systems, None)?;
        simulation.restore(states)?;
        simulation.stand();
        Ok(simulation)
    }

    /// The shot sampled at its first frame.
    fn prepare(
        shot: &Shot,
        meshes: &Meshes,
        wanted: &[SystemId],
        initial_state: Option<InitialState>,
    ) -> Result<Self, PrepareError> {
        let sampler = sampler(shot)?;
        let now = sampler.at(f64::from(shot.timing.first))?;
        let (mut systems, mut solvers) = (Vec::new(), Vec::new());
        for system in shot.systems().iter().filter(|system| wanted.contains(&system.id)) {
            for kind in SOLVERS {
                let context = PrepareContext { shot: &now, sampler: &sampler, meshes, initial_state };
                if let Some(solver) = (kind.prepare)(context, system)? {
                    solvers.push(SystemSolver { system: systems.len(), kind, solver });
                }
            }
            systems.push(Computed { id: system.id, forces: forces_on(&now, system) });
        }
        let surfaces = Surfaces::of(&now, meshes);
        let wants = solvers.iter().fold(Wants::default(), |all, of| {
            let wants = of.solver.wants();
            Wants {
                bodies: all.bodies || wants.bodies,
                hits: all.hits || wants.hits,
                deformables: all.deformables || wants.deformables,
                quantities: all.quantities || wants.quantities,
                liquids: all.liquids || wants.liquids,
                responses: all.responses || wants.responses,
            }
        });
        let meshes = meshes.clone();
        let (colliders, frame) = (Colliders::default(), shot.timing.first);
        let mut simulation = Self {
            sampler,
            now,
            surfaces,
            meshes,
            systems,
            solvers,
            colliders,
            deformed: Frame::default(),
            liquids: Vec::new(),
            wants,
            frame,
            cancel: Cancel::default(),
            cancelled: false,
        };
        simulation.follow_bodies(0.0)?;
        simulation.follow_liquids(None);
        Ok(simulation)
    }

    /// The pose of an element's first body, if a solver has it.
    fn solved(&self, element: Id) -> Option<Pose> {
        self.solvers.iter().find_map(|of| of.solver.pose(element))
    }

    /// The longest preroll of a solver, s.
    fn preroll_s(&self) -> f32 {
        self.solvers.iter().filter_map(|of| of.solver.preroll_s()).fold(0.0, f32::max)
    }

    /// Whether anything happens before the first frame.
    pub fn has_preroll(&self) -> bool {
        self.preroll_s() > 0.0
    }

    /// Runs the solvers whose emission begins before the first frame; all others wait.
    fn preroll(&mut self) -> Result<(), PrepareError> {
        if self.solvers.iter().all(|of| of.solver.preroll_s().is_none()) {
            return Ok(());
        }
        let fps = f64::from(self.now.timing.fps);
        let steps = self.now.physics.substeps;
        let count = preroll_steps(&self.now, self.preroll_s());
        for back in (0..count).rev() {
            let at = |back: u32| f64::from(self.frame) - f64::from(back) / f64::from(steps);
            self.step(at(back + 1), at(back), 1.0 / (fps * f64::from(steps)), Some(back + 1))?;
        }
        // What is there from the first frame on comes in a step without length.
        let first = f64::from(self.frame);
        self.step(first, first, 0.0, Some(0))?;
        self.solvers.iter_mut().for_each(|of| of.solver.end_preroll());
        self.sampler.apply(&mut self.now, first)?;
        self.follow_bodies(0.0)
    }

    /// Lets the solvers note where all stands.
    fn stand(&mut self) {
        let acting = self.acting_frame(self.frame);
        let poses: Vec<(Id, Option<Pose>)> =
            self.now.elements.iter().map(|element| (element.id, self.solved(element.id))).collect();
        let solved = |id: Id, _: f64| poses.iter().find(|(of, _)| *of == id)?.1;
        let world = World::new(&self.now, &self.sampler, acting, &solved);
        self.solvers.iter_mut().for_each(|of| of.solver.stand(&world));
    }

    /// Updates the colliders from the present states of all bodies, `dt` seconds after those before.
    fn follow_bodies(&mut self, dt: f32) -> Result<(), PrepareError> {
        self.follow(dt, None, false)
    }

    /// Updates the colliders from the present states of the bodies of a solver, or of all, `dt` seconds after those before.
    /// `anew`: in a way that does not depend on the frames before.
    fn follow(&mut self, dt: f32, of: Option<usize>, anew: bool) -> Result<(), PrepareError> {
        if !self.wants.bodies {
            return Ok(());
        }
        let wanted = |solver: &dyn Solver| self.wants.deformables || !solver.deforms();
        let mut stepped: Option<BTreeSet<Id>> = None;
        if let Some(of) = of {
            let mut own = Vec::new();
            self.solvers[of].solver.bodies(&self.now, &mut own);
            stepped = Some(own.into_iter().map(|body| body.element).collect());
        }
        let is_stepped = |id: Id| stepped.as_ref().is_none_or(|stepped| stepped.contains(&id));
        let mut bodies = Vec::new();
        self.colliders.hits.clear();
        self.colliders.broken.clear();
        for SystemSolver { solver, .. } in self.solvers.iter().filter(|of| wanted(&*of.solver)) {
            solver.bodies(&self.now, &mut bodies);
            solver.broken(&mut self.colliders.broken);
            if self.wants.hits {
                solver.hits(&mut self.colliders.hits);
            }
        }
        let with_shapes = self.solvers.iter().filter(|of| wanted(&*of.solver));
        let shapes: BTreeMap<_, _> = with_shapes.flat_map(|of| of.solver.shapes()).collect();
        let meshes = &self.meshes;
        self.colliders
            .follow(&self.now, bodies, &shapes, dt, anew, &is_stepped, |shape| meshes.mesh(shape))
            .map_err(|source| PrepareError::Mesh { element: "a solid".to_owned(), source })
    }

    /// Updates the liquids of a solver, or of all, from their present states.
    fn follow_liquids(&mut self, of: Option<usize>) {
        if !self.wants.liquids {
            return;
        }
        let mut found = Vec::new();
        for (_, of) in self.solvers.iter().enumerate().filter(|(i, _)| of.is_none_or(|of| of == *i)) {
            of.solver.liquids(&self.now, &mut found);
        }
        for liquid in found {
            match self.liquids.iter_mut().find(|of| of.element == liquid.element) {
                Some(before) => *before = liquid,
                None => self.liquids.push(liquid),
            }
        }
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
        let solved = |element: Id, _: f64| self.solved(element);
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
        let mut frame = self.blank();
        self.write_parts().into_iter().for_each(|(_, part)| frame.add(part));
        frame
    }

    /// The present state as a part of the frame for each system.
    pub fn write_parts(&mut self) -> Vec<(SystemId, Frame)> {
        let blank = self.blank();
        let mut parts: Vec<(SystemId, Frame)> =
            self.systems.iter().map(|system| (system.id, blank.clone())).collect();
        for of in &mut self.solvers {
            of.solver.write(&mut parts[of.system].1);
        }
        parts
    }

    fn blank(&self) -> Frame {
        Frame::new(self.frame, self.now.timing.seconds(self.frame))
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
            self.step(at(substep - 1), at(substep), speed / (fps * f64::from(substeps)), None)?;
        }
        self.frame += 1;
        Ok(())
    }

    /// Goes one substep on; `left`: how many before the first frame are left with this one, where only those
    /// go on that begin there.
    fn step(&mut self, start: f64, frame: f64, dt: f64, left: Option<u32>) -> Result<(), BlowUp> {
        self.cancelled = self.cancelled || self.cancel.is_asked();
        if self.cancelled {
            return Ok(());
        }
        let timing = self.now.timing;
        let first = f64::from(timing.first);
        let early = left.is_some();
        let acting = if early { frame } else { self.sampler.acting_frame(frame) };
        let ahead =
            |element: Id, _: f64| self.solvers.iter().find_map(|of| of.solver.pose_ahead(element, dt as f32));
        let not_finite = blow_up(self.frame + 1);
        self.sampler.apply_with(&mut self.now, acting, &ahead).map_err(not_finite)?;
        self.surfaces.follow(&self.now, &self.meshes);
        let passed = if early { frame } else { self.sampler.world_frame(frame) } - first;
        let seconds = passed / f64::from(timing.fps);
        let solvers = &self.solvers;
        let solved = |element: Id, _: f64| solvers.iter().find_map(|of| of.solver.pose(element));
        let world = World::new(&self.now, &self.sampler, acting, &solved);
        // Systems on which the same forces act share a field.
        let mut fields: Vec<Field> = Vec::new();
        let mut field_of: Vec<usize> = Vec::new();
        for (i, Computed { forces, .. }) in self.systems.iter().enumerate() {
            let same = self.systems[..i].iter().position(|earlier| earlier.forces == *forces);
            field_of.push(same.map_or(fields.len(), |earlier| field_of[earlier]));
            if same.is_none() {
                let chosen = |force: Id| forces.contains(&force);
                fields.push(Field::among(&self.now, &world, &self.surfaces, frame, seconds, &chosen));
            }
        }
        for i in 0..self.solvers.len() {
            let system = self.solvers[i].system;
            let solver = &mut self.solvers[i].solver;
            let step = Step {
                shot: &self.now,
                sampler: &self.sampler,
                frame,
                start,
                acting,
                dt: dt as f32,
                field: &fields[field_of[system]],
                surfaces: &self.surfaces,
                seconds,
                colliders: &self.colliders,
                liquids: &self.liquids,
                deformed: &self.deformed,
            };
            match solver.preroll_s() {
                _ if !early => solver.step(&step)?,
                None => solver.step_handed_over(&step)?,
                // One with a shorter preroll waits, as it would if it were alone.
                Some(preroll) if left > Some(preroll_steps(&self.now, preroll)) => continue,
                Some(_) => solver.step(&step)?,
            }
            let has_bodies = solver.has_bodies();
            if has_bodies && !early {
                if self.sampler.reads_bodies() {
                    let solved = |element: Id, _: f64| self.solvers[i].solver.pose(element);
                    let mut now = self.now.clone();
                    self.sampler.apply_with(&mut now, acting, &solved).map_err(blow_up(self.frame + 1))?;
                    let step = Step { shot: &now, ..step };
                    self.solvers[i].solver.follow_free(&step);
                } else {
                    self.solvers[i].solver.follow_free(&step);
                }
            }
            let solver = &mut self.solvers[i].solver;
            if self.wants.quantities && solver.deforms() {
                self.deformed = Frame::default();
                solver.write(&mut self.deformed);
            }
            if self.wants.responses && solver.deforms() {
                match solver.response() {
                    Some(response) => self.colliders.responses.insert(system, response),
                    None => self.colliders.responses.remove(&system),
                };
            }
            let exchange = solver.take_exchange();
            self.follow_liquids(Some(i));
            if has_bodies && (self.wants.deformables || !self.solvers[i].solver.deforms()) {
                let begins_frame = (start - start.round()).abs() < 1e-6;
                self.follow(dt as f32, Some(i), begins_frame).map_err(cannot_be_met(self.frame + 1))?;
            }
            if exchange.pushes() || exchange.spawns() {
                for other in self.solvers.iter_mut().filter(|other| other.system == system) {
                    other.solver.receive(&self.now, &exchange);
                    if !exchange.loads.is_empty() && other.solver.deforms() {
                        let shapes = other.solver.shapes();
                        let positions = shapes.iter().map(|(id, mesh)| (*id, &mesh.positions[..]));
                        self.colliders.correct(positions);
                    }
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
        let states: Vec<(SystemId, Vec<u8>)> =
            self.snapshot().into_iter().map(|saved| (saved.system(), saved.bytes())).collect();
        postcard::to_stdvec(&states).expect("a state serialises")
    }

    /// The state of each system, to be turned into bytes elsewhere.
    pub fn snapshot(&self) -> Vec<Saved> {
        let of = |(place, system): (usize, &Computed)| {
            let own = self.solvers.iter().filter(|solver| solver.system == place);
            let sections = own.map(|of| (of.kind, of.solver.save())).collect();
            Saved { system: system.id, frame: self.frame, sections }
        };
        self.systems.iter().enumerate().map(of).collect()
    }

    /// The systems.
    pub fn systems(&self) -> impl Iterator<Item = SystemId> {
        self.systems.iter().map(|system| system.id)
    }

    /// Writes the state of a system as the bytes of its [`Saved`].
    ///
    /// # Errors
    /// Those of `out`.
    pub fn write_state(&self, system: SystemId, out: &mut dyn Write) -> io::Result<()> {
        let place = self.systems.iter().position(|of| of.id == system);
        let own = || self.solvers.iter().filter(|solver| Some(solver.system) == place);
        write_head(self.frame, own().count(), out)?;
        for SystemSolver { kind, solver, .. } in own() {
            write_section(kind, written(|out| solver.write_state(out)), out)?;
            solver.write_state(out)?;
        }
        Ok(())
    }

    /// Takes up saved states, which are all of one frame.
    fn restore(&mut self, states: &[(SystemId, Option<&[u8]>)]) -> Result<(), PrepareError> {
        let unreadable = |error: String| PrepareError::State(error);
        let mut frame = None;
        for (place, system) in self.systems.iter().enumerate() {
            let Some(bytes) = states.iter().find(|(id, _)| *id == system.id).and_then(|(_, state)| *state)
            else {
                continue;
            };
            let state: SystemState =
                postcard::from_bytes(bytes).map_err(|error| unreadable(error.to_string()))?;
            if *frame.get_or_insert(state.frame) != state.frame {
                return Err(unreadable("its parts are of different frames".to_owned()));
            }
            let mut own: Vec<&mut SystemSolver> =
                self.solvers.iter_mut().filter(|of| of.system == place).collect();
            for section in &state.sections {
                let later = SOLVERS.iter().any(|kind| kind.name == section.solver && kind.begins_later);
                if !later && !own.iter().any(|of| of.kind.name == section.solver) {
                    return Err(unreadable(format!("it has other solvers: {}", section.solver)));
                }
            }
            for of in &mut own {
                let section = state.sections.iter().find(|section| section.solver == of.kind.name);
                if let Some(section) = section.filter(|section| section.version != of.kind.version) {
                    let (solver, version) = (&section.solver, section.version);
                    return Err(unreadable(format!("the {solver} are of version {version}")));
                }
                of.solver.restore(section.map(|section| &section.bytes[..]))?;
            }
        }
        let frame = frame.ok_or_else(|| unreadable("nothing is saved".to_owned()))?;
        if !self.now.timing.frames().contains(&frame) {
            return Err(unreadable(format!("it is of frame {frame}")));
        }
        self.frame = frame;
        let acting = self.acting_frame(frame);
        let solved = |element: Id, _: f64| self.solvers.iter().find_map(|of| of.solver.pose(element));
        self.sampler.apply_with(&mut self.now, acting, &solved)?;
        self.surfaces.follow(&self.now, &self.meshes);
        self.follow_liquids(None);
        self.follow_bodies(0.0)
    }
}

/// Substeps of a preroll.
fn preroll_steps(shot: &Shot, preroll_s: f32) -> u32 {
    (f64::from(preroll_s) * f64::from(shot.timing.fps) * f64::from(shot.physics.substeps)).ceil() as u32
}

/// All systems of a shot.
fn all(shot: &Shot) -> Vec<SystemId> {
    shot.systems().into_iter().map(|system| system.id).collect()
}

/// The forces that act on elements of a system.
fn forces_on(shot: &Shot, system: &System) -> BTreeSet<Id> {
    let members: Vec<_> = system.elements.iter().filter_map(|id| shot.element(*id)).collect();
    let acting = shot.forces().into_iter().filter(|(_, force)| force.acts_on_any(&members));
    acting.map(|(element, _)| element.id).collect()
}
