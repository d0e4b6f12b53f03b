//! The places of free bodies in double precision.
//!
//! The library adds a small step's motion to a place in single precision,
//! thousands of times a second: at 100 m from the origin a step of 4 µm is lost
//! altogether. A body that nothing has touched in a step moves under a constant
//! force, so its motion is known: x₁ = x₀ + ½ (v₀ + v₁) Δt exactly, and the orientation
//! by ½ (ω₀ + ω₁) Δt, which errs by the square of the step. A body in contact
//! is moved by the library, which also pushes it out of overlaps; along each axis
//! where its motion is ½ (v₀ + v₁) Δt within the rounding of the place, that is
//! taken instead. Both are added up in double precision.
//!
//! The library's pose is set to the result as soon as it is off by a thousandth
//! of the body's size, and for a body that nothing touches at every frame: not at
//! every step, since a pose that is set has all its contacts found anew.

use super::{SolidBody, Solids};
use glam::{DQuat, DVec3, Quat, Vec3};
use rapier3d::prelude::*;
use serde::{Deserialize, Serialize};

/// A body's pose in double precision.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct ExactPose {
    position: DVec3,
    orientation: DQuat,
}

impl From<Pose> for ExactPose {
    fn from(pose: Pose) -> Self {
        let q = pose.rotation;
        let orientation = DQuat::from_xyzw(q.x.into(), q.y.into(), q.z.into(), q.w.into()).normalize();
        Self { position: pose.translation.as_dvec3(), orientation }
    }
}

impl ExactPose {
    fn pose(&self) -> Pose {
        Pose::from_parts(self.position.as_vec3(), self.orientation.as_quat().normalize())
    }
}

/// A free body's state before a step.
pub(super) struct StateBefore {
    pub member: usize,
    pub centre: Vec3,
    pub velocity: Vec3,
    pub orientation: Quat,
    pub angular_velocity: Vec3,
    /// Acceleration by gravity and forces, m/s².
    acceleration: Vec3,
}

/// Relative error of velocities after the library's additions.
const VELOCITY_ERROR: f32 = 4e-6;
/// How far the library's pose may be off between frames, as a fraction of the
/// body's smallest dimension, and rad.
const POSE_ERROR: f32 = 1e-3;

/// A body's pose in double precision, and the library's pose of the body.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub(super) struct Flight {
    exact: ExactPose,
    library: Pose,
}

impl Flight {
    /// The pose of a body, which others may have moved since.
    pub(super) fn pose(&self, body: &RigidBody) -> Pose {
        if self.library == *body.position() { self.exact.pose() } else { *body.position() }
    }
}

impl From<Pose> for Flight {
    fn from(pose: Pose) -> Self {
        Self { exact: pose.into(), library: pose }
    }
}

impl Solids {
    /// Remembers the states of all free bodies that are awake.
    pub(super) fn note_states(&mut self, before: &mut Vec<StateBefore>) {
        let world = &self.state.world;
        before.clear();
        for (i, member) in self.state.members.iter_mut().enumerate() {
            let body = &world.bodies[member.handle];
            if !body.is_dynamic() || body.is_sleeping() {
                continue;
            }
            // The pose was changed elsewhere since: by keys before the release, or out of an overlap.
            if member.flight.library != *body.position() {
                member.flight = (*body.position()).into();
            }
            let acceleration = world.gravity + body.user_force() / body.mass();
            before.push(StateBefore {
                member: i,
                centre: body.center_of_mass(),
                velocity: body.linvel(),
                orientation: body.position().rotation,
                angular_velocity: body.angvel(),
                acceleration,
            });
        }
    }

    /// Moves the bodies in double precision over a step of `dt` seconds, at whose end
    /// a `whole` frame may end. Gives those that were touched, with the change of
    /// velocity that contacts made, m/s.
    pub(super) fn advance_exact(
        &mut self,
        before: &[StateBefore],
        dt: f32,
        whole: bool,
        touched: &mut Vec<(usize, f32)>,
    ) {
        let world = &mut self.state.world;
        let n = world.integration_parameters.num_solver_iterations as f32;
        touched.clear();
        for of in before {
            let member = &mut self.state.members[of.member];
            let body = &world.bodies[member.handle];
            let gain = of.acceleration * dt;
            let change = body.linvel() - of.velocity - gain;
            // Its n small steps move it by v Δt + a Δt² (n + 1) / 2n.
            let expected = of.velocity * dt + gain * (dt * (n + 1.0) / (2.0 * n));
            let moved = body.center_of_mass() - of.centre;
            let roundings = of.centre.abs() * (f32::EPSILON * (0.5 * n + 1.0));
            let rounding = 2.0 * roundings.max_element();
            let free = change.length() <= VELOCITY_ERROR * (of.velocity.length() + gain.length())
                && (moved - expected).length() <= rounding + 1e-5 * expected.length() + 1e-9;
            let pose = if free {
                member.advance_free(body, of, dt, whole)
            } else {
                touched.push((of.member, change.length()));
                member.advance_touched(body, of, moved, roundings, dt)
            };
            if let Some(pose) = pose {
                world.bodies[member.handle].set_position(pose, false);
                member.flight.library = pose;
            }
        }
    }
}

impl SolidBody {
    /// Advances the pose over a step; returns a pose for the library, if its pose has to be set.
    fn advance_free(&mut self, body: &RigidBody, of: &StateBefore, dt: f32, whole: bool) -> Option<Pose> {
        let dt = f64::from(dt);
        let angular_velocity = 0.5 * (of.angular_velocity + body.angvel()).as_dvec3();
        let local_centre = body.local_center_of_mass().as_dvec3();
        let ExactPose { position, orientation } = self.flight.exact;
        let centre = position + orientation * local_centre;
        let centre = centre + 0.5 * (of.velocity + body.linvel()).as_dvec3() * dt;
        let orientation = (DQuat::from_scaled_axis(angular_velocity * dt) * orientation).normalize();
        self.flight.exact = ExactPose { position: centre - orientation * local_centre, orientation };
        self.library_pose(body, whole)
    }

    /// As [`SolidBody::advance_free`], for a body in contact that the library has `moved`.
    fn advance_touched(
        &mut self,
        body: &RigidBody,
        of: &StateBefore,
        moved: Vec3,
        roundings: Vec3,
        dt: f32,
    ) -> Option<Pose> {
        let local_centre = body.local_center_of_mass().as_dvec3();
        let ExactPose { position, orientation } = self.flight.exact;
        let mean = 0.5 * (of.velocity + body.linvel()) * dt;
        let known = (moved - mean).abs().cmple(roundings);
        let centre = position + orientation * local_centre + Vec3::select(known, mean, moved).as_dvec3();
        let orientation = ExactPose::from(*body.position()).orientation;
        self.flight.exact = ExactPose { position: centre - orientation * local_centre, orientation };
        self.library_pose(body, false)
    }

    /// Remembers the library's pose; returns a pose for the library, if its pose has to be set.
    fn library_pose(&mut self, body: &RigidBody, at_once: bool) -> Option<Pose> {
        let (pose, has) = (self.flight.exact.pose(), *body.position());
        let most = POSE_ERROR * self.smallest_m * self.scale;
        let off = pose.translation.distance_squared(has.translation) > most * most
            || (pose.rotation - has.rotation).length_squared() > 0.25 * POSE_ERROR * POSE_ERROR;
        self.flight.library = has;
        ((at_once || off) && has != pose).then_some(pose)
    }
}
