//! Bodies that break when they are hit.

use super::push::wake_all;
use super::{SolidBody, Solids, State, id_of};
use crate::Step;
use rapier3d::prelude::*;
use shot::Id;
use std::collections::BTreeSet;

impl SolidBody {
    /// Removes its body from the world. Its row remains, so that the rows after it
    /// keep their indices.
    pub(super) fn go(&mut self, body: &mut RigidBody) {
        (self.gone, self.animated) = (true, false);
        // A fixed body has no velocity.
        body.set_body_type(RigidBodyType::Fixed, false);
        body.set_enabled(false);
    }
}

impl Solids {
    /// Breaks the bodies whose hit in this substep exceeded their breaking impulse.
    pub(super) fn break_up(&mut self, step: &Step) {
        self.broken.clear();
        let bears = |element: Id| step.shot.element(element)?.as_solid()?.body.breaking_impulse_n_s;
        if !step.shot.solids().any(|(_, solid)| solid.body.breaking_impulse_n_s.is_some()) {
            return;
        }
        let State { world, members, .. } = &self.state;
        let mut due = BTreeSet::new();
        for pair in world.contact_pairs() {
            let impulse = pair.total_impulse_magnitude();
            for collider in [pair.collider1, pair.collider2] {
                let body = id_of(world.colliders[collider].user_data);
                if bears(body.0).is_some_and(|most| impulse > most) {
                    due.insert(body);
                }
            }
        }
        if due.is_empty() {
            return;
        }
        let breaks = |member: &SolidBody| !member.gone && due.contains(&(member.element, member.copy));
        let mut broken = Vec::new();
        self.add(step.shot, members.iter().filter(|member| breaks(member)), &mut broken);
        for member in self.state.members.iter_mut().filter(|member| breaks(member)) {
            member.go(&mut self.state.world.bodies[member.handle]);
        }
        self.broken = broken;
        // Bodies that rested on the broken ones fall.
        wake_all(&mut self.state.world);
    }
}
