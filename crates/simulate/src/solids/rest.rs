//! When bodies fall asleep, and how fresh their contacts are.

use super::Solids;
use rapier3d::prelude::*;
use std::collections::{HashMap, HashSet};

/// A body may fall asleep while no point of it moves faster than this fraction of
/// its smallest dimension a second.
const SLEEP_FRACTION: f32 = 0.01;
/// How often support is looked for, s.
const SUPPORT_CHECK_S: f32 = 0.2;
/// The rotation after which an animated body's contacts are found anew, rad: until
/// then the library keeps the contacts' lever arms as they were in world space,
/// and what the body carries round would creep outwards.
const REFRESH_TURN_RAD: f32 = 0.003;

/// How a body of that size falls asleep.
pub(super) fn fall_asleep(body: &mut RigidBody, smallest_m: f32, length_unit: f32) {
    let activation = body.activation_mut();
    activation.normalized_linear_threshold = SLEEP_FRACTION * smallest_m / length_unit;
    activation.angular_threshold = SLEEP_FRACTION;
}

impl Solids {
    /// Keeps bodies awake that are about to fall asleep though nothing supports
    /// them: in free space a slow body drifts for ever.
    pub(super) fn keep_unsupported_awake(&mut self, dt: f32) {
        self.state.support_check_s -= dt;
        if self.state.support_check_s > 0.0 {
            return;
        }
        self.state.support_check_s = SUPPORT_CHECK_S;
        let world = &mut self.state.world;
        let due = |body: &RigidBody| {
            let activation = body.activation();
            let left = activation.time_until_sleep - activation.time_since_can_sleep;
            // Until the next check, which is late by a step at most.
            body.is_dynamic() && !body.is_sleeping() && left <= SUPPORT_CHECK_S + 2.0 * dt
        };
        let due: Vec<RigidBodyHandle> =
            world.bodies.iter().filter(|(_, body)| due(body)).map(|(handle, _)| handle).collect();
        if due.is_empty() {
            return;
        }
        let supported = supported(world);
        for handle in due.into_iter().filter(|handle| !supported.contains(handle)) {
            world.bodies[handle].activation_mut().time_since_can_sleep = 0.0;
        }
    }

    /// Lets the library find the contacts of animated bodies that have turned anew.
    pub(super) fn refresh_contacts(&mut self) {
        let world = &mut self.state.world;
        let least = (0.5 * REFRESH_TURN_RAD).cos();
        for member in &mut self.state.members {
            let body = &world.bodies[member.handle];
            if !body.is_kinematic() {
                continue;
            }
            let orientation = body.position().rotation;
            if orientation.dot(member.contacts_turn).abs() >= least {
                continue;
            }
            member.contacts_turn = orientation;
            let collider = &mut world.colliders[member.collider];
            if let Some(offset) = collider.position_wrt_parent().copied() {
                collider.set_position_wrt_parent(offset);
            }
        }
    }
}

/// The free bodies that rest on bodies that are not free, directly or through others.
fn supported(world: &PhysicsWorld) -> HashSet<RigidBodyHandle> {
    let mut touching: HashMap<RigidBodyHandle, Vec<RigidBodyHandle>> = HashMap::new();
    let mut found = HashSet::new();
    let mut open = Vec::new();
    for pair in world.contact_pairs().filter(|pair| pair.total_impulse_magnitude() > 0.0) {
        let parent = |collider: ColliderHandle| world.colliders[collider].parent();
        let (Some(a), Some(b)) = (parent(pair.collider1), parent(pair.collider2)) else { continue };
        for (a, b) in [(a, b), (b, a)] {
            match (world.bodies[a].is_dynamic(), world.bodies[b].is_dynamic()) {
                (true, true) => touching.entry(a).or_default().push(b),
                (true, false) if found.insert(a) => open.push(a),
                _ => {}
            }
        }
    }
    while let Some(handle) = open.pop() {
        for &next in touching.get(&handle).into_iter().flatten() {
            if found.insert(next) {
                open.push(next);
            }
        }
    }
    found
}
