//! Reports of bodies that went through others within a substep.

use super::substeps::MAX_STEPS;
use super::{SolidBody, Solids, State, id_of};
use crate::Step;
use frames::Event;
use glam::Vec3;
use rapier3d::prelude::*;
use shot::Id;

/// Bodies that move far in a substep, by index, with their poses before it.
#[derive(Default)]
pub(super) struct Fast {
    free: Vec<(usize, Vec3)>,
    animated: Vec<(usize, Pose)>,
    /// All free bodies, if an animated one is fast.
    centres: Vec<(usize, Vec3)>,
}

impl Fast {
    pub(super) fn is_empty(&self) -> bool {
        self.free.is_empty() && self.animated.is_empty()
    }
}

impl Solids {
    /// The bodies that may pass through another one in the coming substep.
    pub(super) fn fast(&self, dt: f32) -> Fast {
        let world = &self.state.world;
        let mut fast = Fast::default();
        for (i, member) in self.state.members.iter().enumerate() {
            let body = &world.bodies[member.handle];
            let far = 0.5 * member.smallest_m;
            if body.is_dynamic() && body.linvel().length() * dt > far {
                fast.free.push((i, body.center_of_mass()));
            } else if member.animated && !member.deforms {
                let leap = body.next_position().translation - body.position().translation;
                if leap.length() > far {
                    fast.animated.push((i, *body.position()));
                }
            }
        }
        if !fast.animated.is_empty() {
            let free = |member: &SolidBody| {
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
    pub(super) fn find_tunnelled(&mut self, step: &Step, fast: Fast) {
        let State { world, members, events, .. } = &mut self.state;
        let mut tell = |member: &SolidBody, through: Id, path: f32, thickness_m: f32| {
            let times = (path / (0.25 * thickness_m)).ceil() as u32;
            let substeps = (step.shot.physics.substeps * times.div_ceil(MAX_STEPS).max(2)).min(256);
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
            // A body that only entered a thick one is pushed out again.
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
                // The body's path in the frame of the animated one.
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
}
