//! Measurements of a frame.

use super::{SolidBody, id_of};
use frames::Measured;
use glam::Vec3;
use rapier3d::prelude::*;
use shot::Id;
use std::collections::BTreeMap;

pub(super) fn measure(world: &PhysicsWorld, members: &[SolidBody], gravity: &BTreeMap<Id, Vec3>) -> Measured {
    let mut measured = Measured::default();
    for pair in world.contact_pairs().filter(|pair| pair.has_any_active_contact()) {
        measured.contacts += 1;
        let Some((_, contact)) = pair.find_deepest_contact() else { continue };
        if -contact.dist > measured.deepest_overlap_m {
            measured.deepest_overlap_m = -contact.dist;
            let of = |collider: ColliderHandle| id_of(world.colliders[collider].user_data).0;
            measured.deepest_pair = Some((of(pair.collider1), of(pair.collider2)));
        }
    }
    for member in members {
        let body = &world.bodies[member.handle];
        if !body.is_dynamic() {
            continue;
        }
        let speed = body.linvel().length();
        if speed > measured.max_speed_m_s {
            (measured.max_speed_m_s, measured.fastest) = (speed, Some(member.element));
        }
        let mass = body.mass();
        let gravity = gravity.get(&member.element).copied().unwrap_or_default();
        measured.kinetic_j += f64::from(body.kinetic_energy());
        measured.potential_j -= f64::from(mass) * f64::from(gravity.dot(body.center_of_mass()));
        let momentum = body.linvel() * mass;
        for axis in 0..3 {
            measured.momentum[axis] += f64::from(momentum[axis]);
        }
    }
    measured
}
