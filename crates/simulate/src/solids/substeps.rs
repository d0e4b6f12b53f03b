//! How many steps of the library a substep takes: as many as keep every body
//! from passing through another, or from turning past its contacts.
//!
//! The library itself stops a fast body at what stands still. Two bodies that
//! move it lets pass through each other, so the steps are made so short that
//! the surfaces of a pair come together by no more than a quarter of their
//! thicknesses in one.

use super::{SolidBody, Solids};
use crate::Step;
use frames::Event;
use glam::Vec3;
use rapier3d::parry::bounding_volume::{Aabb, BoundingVolume};
use rapier3d::prelude::{PhysicsWorld, RigidBody};

/// The largest number of steps that a substep is split into.
pub const MAX_STEPS: u32 = 128;
/// The largest rotation in one step of a body that has neighbours, rad.
const MAX_TURN_RAD: f32 = 0.5;

/// A body and the space that it passes through in a substep.
struct SweptBody {
    member: usize,
    /// Bounds of the body over the whole substep.
    swept: Aabb,
    /// Displacement, m.
    path: Vec3,
    /// Longest path of a point of its surface by rotation, m.
    turning: f32,
    /// Angle of rotation, rad.
    orientation: f32,
    fast: bool,
    free: bool,
}

impl Solids {
    /// The number of steps for the coming substep. Notes the pairs for which
    /// [`MAX_STEPS`] is too few.
    pub(super) fn steps_needed(&mut self, step: &Step) -> u32 {
        if !self.state.members.iter().any(|member| self.may_be_fast(member, step.dt)) {
            return 1;
        }
        let mut bodies = self.swept_bodies(step.dt);
        // Sort and sweep along x (D. Baraff, 1992).
        bodies.sort_by(|a, b| a.swept.mins.x.total_cmp(&b.swept.mins.x).then(a.member.cmp(&b.member)));
        let mut most = (1.0f32, None);
        for (i, a) in bodies.iter().enumerate() {
            for b in bodies[i + 1..].iter().take_while(|b| b.swept.mins.x <= a.swept.maxs.x) {
                if !(a.fast || b.fast) || !(a.free || b.free) || !a.swept.intersects(&b.swept) {
                    continue;
                }
                let needed = self.needed(a, b);
                if needed > most.0 {
                    most = (needed, Some((a.member, b.member)));
                }
            }
        }
        let count = most.0.ceil() as u32;
        if let (true, Some((a, b))) = (count > MAX_STEPS, most.1) {
            let (a, b) = (self.state.members[a], self.state.members[b]);
            let times = count.div_ceil(MAX_STEPS);
            let substeps = (step.shot.physics.substeps * times).min(256);
            let (element, copy, past) = (a.element, a.copy, b.element);
            self.state.events.push(Event::TooFast { element, copy, past, substeps });
        }
        count.clamp(1, MAX_STEPS)
    }

    fn needed(&self, a: &SweptBody, b: &SweptBody) -> f32 {
        let of = |body: &SweptBody| &self.state.members[body.member];
        let (thick_a, thick_b) = (of(a).smallest_m * of(a).scale, of(b).smallest_m * of(b).scale);
        // The library itself stops fast bodies at still ones.
        let still = |body: &SweptBody| self.state.world.bodies[of(body).handle].is_fixed();
        let apart =
            if still(a) || still(b) { 0.0 } else { (a.path - b.path).length() + a.turning + b.turning };
        let orientation =
            if a.free { a.orientation } else { 0.0 }.max(if b.free { b.orientation } else { 0.0 });
        (apart / (0.25 * (thick_a + thick_b))).max(orientation / MAX_TURN_RAD)
    }

    /// Whether a body may be fast, by its bounding sphere.
    fn may_be_fast(&self, member: &SolidBody, dt: f32) -> bool {
        let world = &self.state.world;
        let body = &world.bodies[member.handle];
        if member.gone || member.deforms || body.is_fixed() || body.is_sleeping() {
            return false;
        }
        let (path, orientation) = path_and_turn(world, body, dt);
        let far = 0.5 * member.smallest_m * member.scale;
        let collider = &world.colliders[member.collider];
        let sphere = collider.shape().compute_local_bounding_sphere();
        let centre = collider.position_wrt_parent().map_or(sphere.center, |at| at * sphere.center);
        let about = if body.is_dynamic() { body.local_center_of_mass() } else { Vec3::ZERO };
        let reach = sphere.radius + centre.distance(about);
        path.length() + orientation.min(2.0) * reach > far || orientation > MAX_TURN_RAD
    }

    fn swept_bodies(&self, dt: f32) -> Vec<SweptBody> {
        let world = &self.state.world;
        let of = |(i, member): (usize, &SolidBody)| {
            let body = &world.bodies[member.handle];
            let collider = &world.colliders[member.collider];
            if member.gone || member.deforms {
                return None;
            }
            if body.is_fixed() {
                let swept = collider.compute_aabb();
                let still = SweptBody {
                    member: i,
                    swept,
                    path: Vec3::ZERO,
                    turning: 0.0,
                    orientation: 0.0,
                    fast: false,
                    free: false,
                };
                return Some(still);
            }
            let free = body.is_dynamic();
            let (path, orientation) = path_and_turn(world, body, dt);
            let round = collider.shape().as_ball().is_some();
            let now = collider.compute_aabb();
            let centre = if free { body.center_of_mass() } else { body.translation() };
            let reach = (now.maxs - centre).abs().max((now.mins - centre).abs()).length();
            let turning = if round { 0.0 } else { orientation.min(2.0) * reach };
            let far = 0.5 * member.smallest_m * member.scale;
            let fast = path.length() + turning > far || (free && orientation > MAX_TURN_RAD);
            let swept = if orientation > 0.05 && !round {
                Aabb::from_half_extents(centre, Vec3::splat(reach))
            } else {
                now.loosened(turning)
            };
            let end = Aabb::new(swept.mins + path, swept.maxs + path);
            Some(SweptBody { member: i, swept: swept.merged(&end), path, turning, orientation, fast, free })
        };
        self.state.members.iter().enumerate().filter_map(of).collect()
    }
}

/// Displacement and rotation of a body in the coming `dt` seconds, m and rad.
fn path_and_turn(world: &PhysicsWorld, body: &RigidBody, dt: f32) -> (Vec3, f32) {
    if body.is_dynamic() {
        let push = world.gravity + body.user_force() / body.mass();
        return (body.linvel() * dt + push * (0.5 * dt * dt), body.angvel().length() * dt);
    }
    let (now, next) = (body.position(), body.next_position());
    (next.translation - now.translation, next.rotation.angle_between(now.rotation))
}
