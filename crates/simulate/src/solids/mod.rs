//! Rigid bodies, by the rapier3d library.
//!
//! Bodies keep the order of elements and copies, so that the same shot always
//! builds the same world.

mod breaking;
mod change;
mod collision;
mod contact;
mod exchange;
mod flight;
mod impact;
mod load;
mod measure;
mod overlap;
mod played;
mod prepare;
mod push;
mod rest;
mod substeps;
mod tunnelling;
mod wake;

pub use collision::{CollisionMesh, collision_mesh};
pub use overlap::{BodyPose, Overlap, drop_to_rest, separate, start_overlaps};

use crate::colliders::{BodyState, Contact, Exchange};
use crate::{BlowUp, PrepareContext, PrepareError, SavedPart, Solver, Step};
use flight::{Flight, StateBefore};
use frames::{Bodies, Event, Frame, MeshState};
use geometry::{Meshes, MovingMesh};
use glam::{Quat, Vec3};
use rapier3d::prelude::*;
use serde::{Deserialize, Serialize};
use shot::{Element, Id, System, SystemId};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Speed beyond which a body has left all bounds, m/s.
const MAX_SPEED: f32 = 2_000.0;

/// One body of the world.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
struct SolidBody {
    element: Id,
    copy: u32,
    handle: RigidBodyHandle,
    collider: ColliderHandle,
    /// Smallest dimension, metres.
    smallest_m: f32,
    /// Area shown to the wind, m².
    area_m2: f32,
    /// Volume, m³.
    volume_m3: f32,
    /// Multiple of the element's shape.
    scale: f32,
    /// Its shape is that of a deforming body, as a file says.
    deforms: bool,
    /// Motion of its surface when it was let go: velocity of the centre of mass, and angular velocity.
    surface_motion: Option<(Vec3, Vec3)>,
    /// Handed over by a particle.
    from_particle: bool,
    /// Broken, or a particle again: no body any more.
    gone: bool,
    /// Whether frames have its scale: of copies of different sizes, and of what can be gone, which has 0 then.
    has_scale: bool,
    /// Time since the body was added, s.
    age_s: f32,
    /// Time for which the body has been slow, s.
    slow_s: f32,
    /// Moved by keys, or held in place, until it is let go or wakes.
    animated: bool,
    /// Already reported as having left the world.
    left: bool,
    /// Acceleration by forces without gravity in the last substep in which the body was awake, m/s².
    pushed: Vec3,
    /// What liquid presses it with.
    load: load::Load,
    /// Pose in double precision.
    flight: Flight,
    /// Orientation at which the library last computed its contacts.
    contacts_turn: Quat,
}

/// Everything a checkpoint needs.
#[derive(Serialize, Deserialize)]
struct State {
    world: PhysicsWorld,
    members: Vec<SolidBody>,
    events: Vec<Event>,
    /// Members that became free in the last substep.
    woken: Vec<u32>,
    /// Present shapes of the solids whose shape changes with time, as JSON.
    shapes: BTreeMap<Id, String>,
    /// Whether any body carries a force from the substep before.
    carries: bool,
    /// Time until support is looked for again, s.
    support_check_s: f32,
    /// Solids whose shape a file changes.
    played: BTreeMap<Id, played::Played>,
}

impl State {
    /// A copy of the saved state, without the library's buffers.
    fn snapshot(&self) -> Self {
        let Self { world, members, events, woken, shapes, carries, support_check_s, played } = self;
        let world = PhysicsWorld {
            gravity: world.gravity,
            integration_parameters: world.integration_parameters,
            islands: world.islands.clone(),
            broad_phase: world.broad_phase.clone(),
            narrow_phase: world.narrow_phase.clone(),
            bodies: world.bodies.clone(),
            colliders: world.colliders.clone(),
            impulse_joints: world.impulse_joints.clone(),
            multibody_joints: world.multibody_joints.clone(),
            soft_bodies: world.soft_bodies.clone(),
            ..PhysicsWorld::default()
        };
        let (members, events, woken) = (members.clone(), events.clone(), woken.clone());
        let (shapes, carries, support_check_s) = (shapes.clone(), *carries, *support_check_s);
        let played = played.clone();
        Self { world, members, events, woken, shapes, carries, support_check_s, played }
    }
}

struct Solids {
    state: State,
    names: Vec<(Id, String)>,
    push: push::Push,
    meshes: Meshes,
    /// Present shapes of the solids whose shape a file changes.
    shapes: BTreeMap<Id, Arc<MovingMesh>>,
    /// Those solids as they are in the document.
    played_elements: Vec<Element>,
    exchange: Exchange,
    /// Bodies that broke in the last substep, with their last states.
    broken: Vec<BodyState>,
    /// Gravity of the last substep by element, m/s².
    gravity: BTreeMap<Id, Vec3>,
    /// Free bodies that are held in place during the preroll, with their velocities.
    held: Vec<(RigidBodyHandle, Vec3, Vec3)>,
    /// Room to work in.
    before: Vec<StateBefore>,
    touched: Vec<(usize, f32)>,
    /// Length of the present substep, s.
    substep_s: f32,
    /// Impacts since the last frame.
    impacts: impact::Impacts,
}

/// Makes the solver for the system of the solids, if the shot has a solid.
pub(crate) fn prepare(
    context: PrepareContext,
    system: &System,
) -> Result<Option<Box<dyn Solver>>, PrepareError> {
    if system.id != SystemId::Solids || context.shot.solids().next().is_none() {
        return Ok(None);
    }
    let (world, members) = prepare::world(context)?;
    let names = context.shot.solids().map(|(element, _)| (element.id, element.name.clone())).collect();
    let push = push::Push::default();
    let shapes = context
        .shot
        .solids()
        .filter(|(element, _)| element.reshaped())
        .map(|(element, solid)| (element.id, change::shape_json(solid)))
        .collect();
    let state = State {
        world,
        members,
        events: Vec::new(),
        woken: Vec::new(),
        shapes,
        carries: false,
        support_check_s: 0.0,
        played: BTreeMap::new(),
    };
    let frame = f64::from(context.shot.timing.first);
    let gravity =
        context.shot.solids().map(|(element, _)| (element.id, context.shot.gravity_on(element, frame)));
    let played = |element: &&Element| element.file_animation().is_some();
    let mut solids = Solids {
        state,
        names,
        push,
        meshes: context.meshes.clone(),
        shapes: BTreeMap::new(),
        played_elements: context.shot.elements.iter().filter(played).cloned().collect(),
        exchange: Exchange::default(),
        broken: Vec::new(),
        gravity: gravity.collect(),
        held: Vec::new(),
        before: Vec::new(),
        touched: Vec::new(),
        substep_s: 0.0,
        impacts: impact::Impacts::default(),
    };
    solids.prepare_played(context)?;
    Ok(Some(Box::new(solids)))
}

fn pose((position, orientation): (Vec3, glam::Quat)) -> Pose {
    Pose::from_parts(position, orientation)
}

impl Solids {
    fn name(&self, member: &SolidBody) -> String {
        let name = self.names.iter().find(|(id, _)| *id == member.element).map_or("a body", |(_, name)| name);
        if member.copy == 0 { name.to_owned() } else { format!("{name} (copy {})", member.copy + 1) }
    }

    fn check_bounds(&mut self, step: &Step) -> Result<(), BlowUp> {
        let frame = step.frame_number();
        let quarantined = self.state.world.quarantine().bodies().first().copied();
        for i in 0..self.state.members.len() {
            let member = self.state.members[i];
            let body = &self.state.world.bodies[member.handle];
            let speed = body.linvel().length();
            let position = body.center_of_mass();
            let what = if quarantined == Some(member.handle) || !speed.is_finite() || !position.is_finite() {
                "has no finite place or speed any more; try more substeps".to_owned()
            } else if speed > MAX_SPEED {
                format!("moves at {speed:.0} m/s, over {MAX_SPEED} m/s; try more substeps")
            } else {
                if !member.left && !body.is_fixed() && position.length() > step.shot.physics.world_m {
                    self.state.members[i].left = true;
                    self.state.events.push(Event::LeftWorld { element: member.element, copy: member.copy });
                }
                continue;
            };
            return Err(BlowUp { frame, element: member.element, name: self.name(&member), what });
        }
        Ok(())
    }
}

/// Element and copy, packed into a collider's user data.
fn user_data(element: Id, copy: u32) -> u128 {
    u128::from(element.0) << 32 | u128::from(copy)
}

fn id_of(user_data: u128) -> (Id, u32) {
    (Id((user_data >> 32) as u32), user_data as u32)
}

impl Solver for Solids {
    fn step(&mut self, step: &Step) -> Result<(), BlowUp> {
        self.state.world.integration_parameters.dt = step.dt;
        if (step.start - step.start.round()).abs() < 1e-6 {
            self.impacts.begin();
        }
        self.animate(step);
        self.play(step);
        self.change_values(step)?;
        self.apply_forces(step);
        self.apply_loads(step.dt);
        let fast = self.fast(step.dt);
        self.advance(step);
        if !fast.is_empty() {
            self.find_tunnelled(step, fast);
        }
        self.break_up(step);
        self.drop_gone();
        self.spawn_particles(step);
        // Once a frame; what goes out of bounds between stays out of them,
        // and the library stops a body that has no finite state any more.
        if step.ends_frame() || !self.state.world.quarantine().is_empty() {
            self.check_bounds(step)
        } else {
            Ok(())
        }
    }

    fn step_handed_over(&mut self, step: &Step) -> Result<(), BlowUp> {
        if step.dt <= 0.0 || !self.state.members.iter().any(|member| member.from_particle && !member.gone) {
            return Ok(());
        }
        self.hold_staged();
        self.apply_forces(step);
        self.advance(step);
        self.spawn_particles(step);
        Ok(())
    }

    fn end_preroll(&mut self) {
        self.let_staged_go();
        self.impacts.begin();
    }

    fn pose(&self, element: Id) -> Option<shot::world::Pose> {
        let member =
            self.state.members.iter().find(|member| member.element == element && member.copy == 0)?;
        let body = &self.state.world.bodies[member.handle];
        let at = member.flight.pose(body);
        body.is_dynamic().then_some((at.translation, at.rotation))
    }

    fn pose_ahead(&self, element: Id, dt: f32) -> Option<shot::world::Pose> {
        let world = &self.state.world;
        let member =
            self.state.members.iter().find(|member| member.element == element && member.copy == 0)?;
        let body = &world.bodies[member.handle];
        if !body.is_dynamic() {
            return None;
        }
        let velocity = body.linvel() + 0.5 * dt * (world.gravity + body.user_force() / body.mass());
        let orientation = Quat::from_scaled_axis(body.angvel() * dt) * body.position().rotation;
        let centre = body.center_of_mass() + velocity * dt;
        Some((centre - orientation * body.local_center_of_mass(), orientation))
    }

    fn follow_free(&mut self, step: &Step) {
        self.set_dependent(step);
    }

    fn has_bodies(&self) -> bool {
        true
    }

    fn bodies(&self, shot: &shot::Shot, out: &mut Vec<BodyState>) {
        self.add_bodies(shot, out);
    }

    fn shapes(&self) -> BTreeMap<Id, Arc<MovingMesh>> {
        self.shapes.clone()
    }

    fn hits(&self, out: &mut Vec<Contact>) {
        self.add_hits(out);
    }

    fn broken(&self, out: &mut Vec<BodyState>) {
        out.extend_from_slice(&self.broken);
    }

    fn take_exchange(&mut self) -> Exchange {
        std::mem::take(&mut self.exchange)
    }

    fn receive(&mut self, shot: &shot::Shot, exchange: &Exchange) {
        self.take(shot, exchange);
    }

    fn write(&mut self, frame: &mut Frame) {
        let State { world, members, events, .. } = &mut self.state;
        for (index, member) in members.iter().enumerate() {
            let body = &world.bodies[member.handle];
            let at = member.flight.pose(body);
            let bodies: &mut Bodies = frame.bodies.entry(member.element).or_default();
            bodies.push(at.translation, at.rotation, body.linvel(), body.angvel());
            let number = bodies.len() - 1;
            bodies.impacts.extend(self.impacts.of(index, number));
            if member.has_scale {
                bodies.scales.push(if member.gone { 0.0 } else { member.scale });
            }
        }
        for (id, shape) in &self.shapes {
            let MovingMesh { topology, positions, velocities } = (**shape).clone();
            frame.meshes.insert(*id, MeshState { topology, positions, velocities, attributes: Vec::new() });
        }
        frame.measured = measure::measure(world, members, &self.gravity);
        frame.measured.events = std::mem::take(events);
    }

    fn save(&self) -> SavedPart {
        let state = self.state.snapshot();
        Box::new(move || postcard::to_stdvec(&state).expect("the world serialises"))
    }

    fn restore(&mut self, bytes: Option<&[u8]>) -> Result<(), PrepareError> {
        let unfit = |what: String| PrepareError::State(what);
        let bytes = bytes.ok_or_else(|| unfit("it has no solids".to_owned()))?;
        let state: State = postcard::from_bytes(bytes).map_err(|error| unfit(error.to_string()))?;
        let is_there = |member: &SolidBody| {
            state.world.bodies.get(member.handle).is_some()
                && state.world.colliders.get(member.collider).is_some()
                && self.names.iter().any(|(id, _)| *id == member.element)
        };
        if !state.members.iter().all(is_there) {
            return Err(unfit("it has other bodies".to_owned()));
        }
        self.state = state;
        self.restore_played()
    }
}

impl Solids {
    /// Moves all bodies over a substep, in as many steps as their speed asks for.
    fn advance(&mut self, step: &Step) {
        let count = self.steps_needed(step).max(self.steps_needed_at_played(step.dt));
        let dt = step.dt / count as f32;
        let whole = step.ends_frame();
        self.state.world.integration_parameters.dt = dt;
        let animated: Vec<(RigidBodyHandle, Pose, Pose)> = if count == 1 {
            Vec::new()
        } else {
            let bodies = &self.state.world.bodies;
            let moved = self.state.members.iter().filter(|member| bodies[member.handle].is_kinematic());
            moved
                .map(|member| (member.handle, &bodies[member.handle]))
                .map(|(handle, body)| (handle, *body.position(), *body.next_position()))
                .collect()
        };
        let (mut before, mut touched) = (std::mem::take(&mut self.before), std::mem::take(&mut self.touched));
        for k in 1..=count {
            for (handle, from, to) in &animated {
                let fraction = k as f32 / count as f32;
                let body = &mut self.state.world.bodies[*handle];
                if body.is_kinematic() {
                    let position = from.translation.lerp(to.translation, fraction);
                    let orientation = from.rotation.slerp(to.rotation, fraction);
                    body.set_next_kinematic_position(Pose::from_parts(position, orientation));
                }
            }
            self.move_vertices(k, count);
            self.keep_unsupported_awake(dt);
            self.refresh_contacts();
            self.note_states(&mut before);
            self.step_and_wake(step);
            self.advance_exact(&before, dt, whole && k == count, &mut touched);
            self.add_rebound_friction(&touched, dt);
            self.add_rebounds(&before, &touched, dt);
            self.note_impacts(&before, &touched, dt);
        }
        (self.before, self.touched) = (before, touched);
    }

    /// Holds all free bodies that are staged, until the preroll is over.
    fn hold_staged(&mut self) {
        if !self.held.is_empty() {
            return;
        }
        for member in self.state.members.iter().filter(|member| !member.from_particle) {
            let body = &mut self.state.world.bodies[member.handle];
            if body.is_dynamic() {
                self.held.push((member.handle, body.linvel(), body.angvel()));
                body.set_body_type(RigidBodyType::Fixed, false);
            }
        }
    }

    fn let_staged_go(&mut self) {
        for (handle, velocity, angular_velocity) in self.held.drain(..) {
            let body = &mut self.state.world.bodies[handle];
            body.set_body_type(RigidBodyType::Dynamic, true);
            body.set_linvel(velocity, true);
            body.set_angvel(angular_velocity, true);
        }
    }
}

/// The library's world out of a saved state, to be stepped by itself: for
/// benchmarks and for looking into a checkpoint.
pub fn world_of(saved: &[u8]) -> Option<PhysicsWorld> {
    let state = crate::solver::part_of(saved, SystemId::Solids, "solids")?;
    postcard::from_bytes::<State>(&state).ok().map(|state| state.world)
}
