//! Rigid bodies, by the rapier3d library.
//!
//! Bodies keep the order of elements and copies, so that the same shot always
//! builds the same world.

mod breaking;
mod change;
mod collision;
mod exchange;
mod measure;
mod overlap;
mod prepare;
mod push;
mod wake;

pub use collision::{CollisionMesh, collision_mesh};
pub use overlap::{Overlap, Place, drop_to_rest, separate, start_overlaps};

use crate::colliders::{BodyNow, Hit, Owed};
use crate::{BlowUp, PrepareError, Scene, Solver, Step};
use frames::{Bodies, Event, Frame};
use geometry::Meshes;
use glam::Vec3;
use rapier3d::prelude::*;
use serde::{Deserialize, Serialize};
use shot::Id;
use std::collections::BTreeMap;

/// Speed beyond which a body has left all bounds, m/s.
const MAX_SPEED: f32 = 2_000.0;

/// One body of the world.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
struct Member {
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
    /// Handed over by a particle.
    from_particle: bool,
    /// Broken, or a particle again: no body any more.
    gone: bool,
    /// Its frames say whether it is gone.
    can_go: bool,
    /// How long it has been there, s.
    age_s: f32,
    /// How long it has been slow enough to become a particle, s.
    slow_s: f32,
    /// Moved by keys, or held where it is, until it is let go or wakes.
    animated: bool,
    /// Already reported as having left the world.
    left: bool,
    /// Acceleration by forces, gravity left out, when it last moved, m/s².
    pushed: Vec3,
}

/// Everything a checkpoint needs.
#[derive(Serialize, Deserialize)]
struct State {
    world: PhysicsWorld,
    members: Vec<Member>,
    events: Vec<Event>,
    /// Members that became free in the last substep.
    woken: Vec<u32>,
    /// Shapes that change with time, as JSON, as the world has them.
    shapes: BTreeMap<Id, String>,
}

/// Bodies that move far in a substep, by index, with where they are before it.
#[derive(Default)]
struct Fast {
    free: Vec<(usize, Vec3)>,
    animated: Vec<(usize, Pose)>,
    /// All free bodies, if an animated one is fast.
    centres: Vec<(usize, Vec3)>,
}

impl Fast {
    fn is_empty(&self) -> bool {
        self.free.is_empty() && self.animated.is_empty()
    }
}

struct Solids {
    state: State,
    names: Vec<(Id, String)>,
    push: push::Push,
    meshes: Meshes,
    owed: Owed,
    /// Bodies that broke in the last substep, as they were.
    broken: Vec<BodyNow>,
    /// Uniform gravity of the last substep, m/s².
    gravity: Vec3,
}

/// Makes the solver, if the shot has a solid.
pub(crate) fn prepare(scene: Scene) -> Result<Option<Box<dyn Solver>>, PrepareError> {
    if scene.shot.solids().next().is_none() {
        return Ok(None);
    }
    let (world, members) = prepare::world(scene)?;
    let names = scene.shot.solids().map(|(element, _)| (element.id, element.name.clone())).collect();
    let push = push::Push::default();
    let shapes = BTreeMap::new();
    let state = State { world, members, events: Vec::new(), woken: Vec::new(), shapes };
    let meshes = scene.meshes.clone();
    let (owed, broken, gravity) = (Owed::default(), Vec::new(), scene.shot.gravity());
    Ok(Some(Box::new(Solids { state, names, push, meshes, owed, broken, gravity })))
}

fn pose((place, turn): (Vec3, glam::Quat)) -> Pose {
    Pose::from_parts(place, turn)
}

impl Solids {
    fn name(&self, member: &Member) -> String {
        let name = self.names.iter().find(|(id, _)| *id == member.element).map_or("a body", |(_, name)| name);
        if member.copy == 0 { name.to_owned() } else { format!("{name} (copy {})", member.copy + 1) }
    }

    /// The bodies that may pass through something within the coming substep.
    fn fast(&self, dt: f32) -> Fast {
        let world = &self.state.world;
        let mut fast = Fast::default();
        for (i, member) in self.state.members.iter().enumerate() {
            let body = &world.bodies[member.handle];
            let far = 0.5 * member.smallest_m;
            if body.is_dynamic() && body.linvel().length() * dt > far {
                fast.free.push((i, body.center_of_mass()));
            } else if member.animated {
                let leap = body.next_position().translation - body.position().translation;
                if leap.length() > far {
                    fast.animated.push((i, *body.position()));
                }
            }
        }
        if !fast.animated.is_empty() {
            let free = |member: &Member| {
                let body = &world.bodies[member.handle];
                body.is_dynamic().then(|| body.center_of_mass())
            };
            let members = self.state.members.iter().enumerate();
            fast.centres = members.filter_map(|(i, member)| Some((i, free(member)?))).collect();
        }
        fast
    }

    /// Reports bodies whose centre went in at one side of a still or animated
    /// body and out at the other within one substep.
    fn find_tunnelled(&mut self, step: &Step, fast: Fast) {
        let State { world, members, events, .. } = &mut self.state;
        let mut tell = |member: &Member, through: Id, path: f32, thickness_m: f32| {
            let times = (path / (0.25 * thickness_m)).ceil() as u32;
            let substeps = (step.shot.physics.substeps * times.max(2)).min(256);
            events.push(Event::Tunnelled { element: member.element, copy: member.copy, through, substeps });
        };
        for (i, before) in fast.free {
            let member = &members[i];
            let after = world.bodies[member.handle].center_of_mass();
            let path = after - before;
            let filter = QueryFilter::only_fixed().exclude_rigid_body(member.handle);
            let forward = world.cast_ray(&Ray::new(before, path), 1.0, false, filter);
            let backward = world.cast_ray(&Ray::new(after, -path), 1.0, false, filter);
            let (Some((hit, t)), Some((back, s))) = (forward, backward) else { continue };
            // One that has only come into a thick body is pushed out again.
            let of = &world.colliders[hit];
            if hit == back && t + s <= 1.0 + 1e-4 && !of.shape().contains_point(of.position(), after) {
                let through = id_of(world.colliders[hit].user_data).0;
                tell(member, through, path.length(), member.smallest_m);
            }
        }
        for (i, pose) in fast.animated {
            let through = &members[i];
            let collider = &world.colliders[through.collider];
            let offset = collider.position_wrt_parent().copied().unwrap_or_default();
            let (start, end) = (pose * offset, *collider.position());
            for &(j, before) in &fast.centres {
                // The body's way as seen from the animated one.
                let before = start.inverse() * before;
                let after = end.inverse() * world.bodies[members[j].handle].center_of_mass();
                let path = after - before;
                let cast = |from: Vec3, along: Vec3| {
                    collider.shape().cast_local_ray(&Ray::new(from, along), 1.0, false)
                };
                let (Some(t), Some(s)) = (cast(before, path), cast(after, -path)) else { continue };
                if t + s <= 1.0 + 1e-4 {
                    tell(&members[j], through.element, path.length(), through.smallest_m);
                }
            }
        }
    }

    fn check_bounds(&mut self, step: &Step) -> Result<(), BlowUp> {
        let frame = step.frame_number();
        let quarantined = self.state.world.quarantine().bodies().first().copied();
        for i in 0..self.state.members.len() {
            let member = self.state.members[i];
            let body = &self.state.world.bodies[member.handle];
            let speed = body.linvel().length();
            let place = body.center_of_mass();
            let what = if quarantined == Some(member.handle) || !speed.is_finite() || !place.is_finite() {
                "has no finite place or speed any more; try more substeps".to_owned()
            } else if speed > MAX_SPEED {
                format!("moves at {speed:.0} m/s, over {MAX_SPEED} m/s; try more substeps")
            } else {
                if !member.left && !body.is_fixed() && place.length() > step.shot.physics.world_m {
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

/// Element and copy as a collider carries them.
fn user_data(element: Id, copy: u32) -> u128 {
    u128::from(element.0) << 32 | u128::from(copy)
}

fn id_of(user_data: u128) -> (Id, u32) {
    (Id((user_data >> 32) as u32), user_data as u32)
}

impl Solver for Solids {
    fn step(&mut self, step: &Step) -> Result<(), BlowUp> {
        self.state.world.integration_parameters.dt = step.dt;
        self.animate(step);
        self.change_values(step)?;
        self.apply_forces(step);
        let fast = self.fast(step.dt);
        self.step_and_wake(step);
        if !fast.is_empty() {
            self.find_tunnelled(step, fast);
        }
        self.break_up(step);
        self.give_back(step);
        // Once a frame; what goes out of bounds between stays out of them,
        // and the library stops a body that has no finite state any more.
        let whole = (step.frame - step.frame.round()).abs() < 1e-6;
        if whole || !self.state.world.quarantine().is_empty() { self.check_bounds(step) } else { Ok(()) }
    }

    fn pose(&self, element: Id) -> Option<shot::Pose> {
        let member =
            self.state.members.iter().find(|member| member.element == element && member.copy == 0)?;
        let body = &self.state.world.bodies[member.handle];
        body.is_dynamic().then(|| (body.position().translation, body.position().rotation))
    }

    fn has_bodies(&self) -> bool {
        true
    }

    fn bodies(&self, shot: &shot::Shot, out: &mut Vec<BodyNow>) {
        self.add_bodies(shot, out);
    }

    fn hits(&self, out: &mut Vec<Hit>) {
        self.add_hits(out);
    }

    fn broken(&self, out: &mut Vec<BodyNow>) {
        out.extend_from_slice(&self.broken);
    }

    fn take_owed(&mut self) -> Owed {
        std::mem::take(&mut self.owed)
    }

    fn receive(&mut self, shot: &shot::Shot, owed: &Owed) {
        self.take(shot, owed);
    }

    fn write(&mut self, frame: &mut Frame) {
        let State { world, members, events, .. } = &mut self.state;
        for member in members.iter() {
            let body = &world.bodies[member.handle];
            let at = body.position();
            let bodies: &mut Bodies = frame.bodies.entry(member.element).or_default();
            bodies.push(at.translation, at.rotation, body.linvel(), body.angvel());
            if member.can_go {
                bodies.scales.push(if member.gone { 0.0 } else { member.scale });
            }
        }
        frame.measured = measure::measure(world, members, self.gravity);
        frame.measured.events = std::mem::take(events);
    }

    fn save(&self) -> Vec<u8> {
        postcard::to_stdvec(&self.state).expect("the world serialises")
    }

    fn restore(&mut self, bytes: &[u8]) -> Result<(), PrepareError> {
        self.state = postcard::from_bytes(bytes).map_err(|error| PrepareError::State(error.to_string()))?;
        Ok(())
    }
}

/// The library's world out of a saved state, to be stepped by itself: for
/// benchmarks and for looking into a checkpoint.
pub fn world_of(saved: &[u8]) -> Option<PhysicsWorld> {
    let state = crate::solver::part_of(saved, "solids")?;
    postcard::from_bytes::<State>(&state).ok().map(|state| state.world)
}
