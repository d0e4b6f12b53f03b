//! Animated and waiting bodies, and their release.

use super::{SolidBody, Solids, State, pose, user_data};
use crate::forces::Weight;
use crate::{Solver, Step};
use glam::{Quat, Vec3};
use rapier3d::parry::query;
use rapier3d::prelude::*;
use shot::{Body, Element, Id, Moves, Wake, fingerprint::LET_GO_DELTA, world::World};

/// Largest number of repetitions of a substep for bodies that wake in it.
const ROUNDS: usize = 8;

/// Pose and velocities of a body.
type Motion = (RigidBodyHandle, Pose, Vec3, Vec3);

impl Solids {
    /// Moves animated bodies to their keyed poses at the substep's end, and
    /// releases those whose frame has come at its start.
    pub(super) fn animate(&mut self, step: &Step) {
        let woken = std::mem::take(&mut self.state.woken);
        let mut standing: Option<(Id, Vec<shot::world::Pose>)> = None;
        for i in 0..self.state.members.len() {
            let member = self.state.members[i];
            if !member.animated {
                continue;
            }
            let Some(element) = step.shot.element(member.element) else { continue };
            let Some(solid) = element.as_solid() else { continue };
            if self.time_has_come(step, &member, &solid.body, &woken) {
                self.let_go(step, i, element, &solid.body);
                continue;
            }
            if solid.body.moves != Moves::Animated {
                continue;
            }
            if standing.as_ref().is_none_or(|(id, _)| *id != member.element) {
                // The body that it is attached to or aimed at is extrapolated.
                let ahead = |id: Id, _: f64| Solver::pose_ahead(self, id, step.dt);
                let world = World::new(step.shot, step.sampler, step.acting, &ahead);
                standing = Some((member.element, world.placements(element)));
            }
            let (_, placements) = standing.as_ref().expect("just placed");
            let at = pose(placements[member.copy as usize]);
            self.state.world.bodies[member.handle].set_next_kinematic_position(at);
        }
    }

    /// Updates animated bodies that depend on free ones.
    pub(super) fn set_dependent(&mut self, step: &Step) {
        let reads = step.sampler.reads_bodies();
        let depends = |element: &Element| element.attached.is_some() || element.aim.is_some();
        let animated = |element: &&Element| {
            element.as_solid().is_some_and(|solid| solid.body.moves == Moves::Animated)
                && (reads || depends(element))
        };
        for element in step.shot.elements.iter().filter(animated) {
            let placements = {
                let solved = |id: Id, _: f64| Solver::pose(self, id);
                World::new(step.shot, step.sampler, step.acting, &solved).placements(element)
            };
            let members = &mut self.state.members;
            for member in members.iter_mut().filter(|member| member.element == element.id && member.animated)
            {
                let at = pose(placements[member.copy as usize]);
                self.state.world.bodies[member.handle].set_position(at, false);
                member.flight = at.into();
            }
        }
    }

    /// Whether a held body becomes free at the substep's start, but for touches.
    fn time_has_come(&self, step: &Step, member: &SolidBody, body: &Body, woken: &[u32]) -> bool {
        let world = &self.state.world;
        match body.wake {
            Some(Wake::Frame(frame)) => step.start >= f64::from(frame) - 1e-9,
            Some(Wake::Region(region)) => {
                let solved = |id: Id, _: f64| Solver::pose(self, id);
                let standing = World::new(step.shot, step.sampler, step.acting, &solved);
                step.shot
                    .element(region)
                    .and_then(|of| Weight::new(&standing, step.shot, step.surfaces, of, step.seconds))
                    .is_some_and(|weight| weight.at(world.bodies[member.handle].center_of_mass()) > 0.5)
            }
            Some(Wake::Neighbour { within_m }) => woken.iter().any(|&i| {
                let (own, other) = (
                    &world.colliders[member.collider],
                    &world.colliders[self.state.members[i as usize].collider],
                );
                query::distance(own.position(), own.shape(), other.position(), other.shape())
                    .is_ok_and(|distance| distance.distance <= within_m)
            }),
            Some(Wake::Touch { .. }) | None => false,
        }
    }

    /// Makes a held body free, with its launch velocities or those of its keys.
    fn let_go(&mut self, step: &Step, i: usize, element: &Element, of: &Body) {
        if self.state.members[i].deforms {
            self.stiffen(element);
        }
        let State { world, members, woken, .. } = &mut self.state;
        let member = &mut members[i];
        let body = &mut world.bodies[member.handle];
        let (velocity, angular_velocity) = if of.moves == Moves::Animated {
            let frame = of.let_go_frame().map_or(step.start, f64::from);
            let (velocity, angular_velocity) = own_motion(step, element, member.copy as usize, frame, body);
            let (surface, spin) = member.surface_motion.take().unwrap_or_default();
            let rotation = body.position().rotation;
            (velocity + rotation * surface, angular_velocity + rotation * spin)
        } else {
            (Vec3::ZERO, Vec3::ZERO)
        };
        body.set_body_type(RigidBodyType::Dynamic, true);
        body.set_linvel(of.launch_velocity.unwrap_or(velocity), true);
        body.set_angvel(of.launch_angular_velocity.unwrap_or(angular_velocity), true);
        member.animated = false;
        woken.push(i as u32);
    }

    /// Steps the world. Bodies that wait for a touch and get one become free
    /// as the substep begins, and it is taken again: so the touch is solved as
    /// one between free bodies, and its momentum goes where it belongs.
    pub(super) fn step_and_wake(&mut self, step: &Step) {
        let waiting: Vec<(usize, f32)> = self
            .state
            .members
            .iter()
            .enumerate()
            .filter(|(_, member)| member.animated)
            .filter_map(|(i, member)| match step.shot.element(member.element)?.as_solid()?.body.wake {
                Some(Wake::Touch { impulse_n_s }) => Some((i, impulse_n_s)),
                _ => None,
            })
            .collect();
        if waiting.is_empty() {
            self.state.world.step();
            return;
        }
        for _ in 0..ROUNDS {
            let before: Vec<Motion> = self
                .state
                .world
                .bodies
                .iter()
                .filter(|(_, body)| !body.is_fixed())
                .map(|(handle, body)| (handle, *body.position(), body.linvel(), body.angvel()))
                .collect();
            let next: Vec<(RigidBodyHandle, Pose)> = self
                .state
                .members
                .iter()
                .filter(|member| member.animated)
                .map(|member| (member.handle, *self.state.world.bodies[member.handle].next_position()))
                .collect();
            let vertices = self.vertices();
            self.state.world.step();
            let touched: Vec<usize> = waiting
                .iter()
                .filter(|(i, impulse)| {
                    self.state.members[*i].animated && self.touch_of(*i) >= (*impulse).max(1e-9)
                })
                .map(|(i, _)| *i)
                .collect();
            if touched.is_empty() {
                return;
            }
            for (handle, at, velocity, angular_velocity) in before {
                let body = &mut self.state.world.bodies[handle];
                body.set_position(at, false);
                if body.is_dynamic() {
                    body.set_linvel(velocity, false);
                    body.set_angvel(angular_velocity, false);
                }
            }
            self.move_back(&vertices);
            for i in touched {
                let id = self.state.members[i].element;
                let Some(element) = step.shot.element(id) else { continue };
                let Some(solid) = element.as_solid() else { continue };
                self.let_go(step, i, element, &solid.body);
            }
            for (handle, at) in next {
                let body = &mut self.state.world.bodies[handle];
                if body.is_kinematic() {
                    body.set_next_kinematic_position(at);
                }
            }
        }
        self.state.world.step();
    }

    /// The greatest impulse by which a free body touched a held one in the last substep, N s.
    fn touch_of(&self, i: usize) -> f32 {
        let world = &self.state.world;
        let member = &self.state.members[i];
        // A deforming body has a collider of its own, with the same data.
        let own = user_data(member.element, member.copy);
        let is_own = |collider: ColliderHandle| world.colliders[collider].user_data == own;
        let moving = |collider: ColliderHandle| {
            let body = world.colliders[collider].parent().map(|handle| &world.bodies[handle]);
            body.is_some_and(|body| body.is_dynamic())
        };
        world
            .contact_pairs()
            .filter(|pair| is_own(pair.collider1) || is_own(pair.collider2))
            .filter(|pair| moving(if is_own(pair.collider1) { pair.collider2 } else { pair.collider1 }))
            .map(|pair| pair.total_impulse_magnitude())
            .fold(0.0, f32::max)
    }
}

/// Velocity of the centre of mass (m/s) and spin (rad/s) that keys give a body
/// at `frame`, from a moment before it.
fn own_motion(step: &Step, element: &Element, copy: usize, frame: f64, body: &RigidBody) -> (Vec3, Vec3) {
    let unsolved = |_: Id, _: f64| None;
    let at = |frame: f64| -> Pose {
        let acting = step.sampler.acting_frame(frame);
        let standing = step.sampler.at(acting).ok().and_then(|then| {
            let world = World::new(&then, step.sampler, acting, &unsolved);
            Some(world.placements(then.element(element.id)?)[copy])
        });
        pose(standing.unwrap_or((Vec3::ZERO, Quat::IDENTITY)))
    };
    let (before, now) = (at(frame - LET_GO_DELTA), at(frame));
    let world_frames = step.sampler.world_frame(frame) - step.sampler.world_frame(frame - LET_GO_DELTA);
    let seconds = (world_frames / f64::from(step.shot.timing.fps)) as f32;
    if seconds <= 0.0 {
        return (Vec3::ZERO, Vec3::ZERO);
    }
    let centre = body.local_center_of_mass();
    let velocity = (now * centre - before * centre) / seconds;
    let mut orientation = now.rotation * before.rotation.inverse();
    if orientation.w < 0.0 {
        orientation = -orientation;
    }
    (velocity, orientation.to_scaled_axis() / seconds)
}
