//! The same acceleration everywhere.

use super::{Law, Points, Weights};
use glam::Vec3;

/// Acceleration, m/s².
pub(super) struct Gravity(pub Vec3);

impl Law for Gravity {
    fn push(&self, points: &mut Points, weights: &Weights, dt: f32) {
        for (&p, v) in points.positions.iter().zip(points.velocities.iter_mut()) {
            *v += self.0 * (weights.at(p) * dt);
        }
    }

    fn drift(&self, _: Vec3) -> Vec3 {
        self.0 * super::DRIFT_TIME_S
    }

    fn same_for_all(&self) -> Option<Vec3> {
        Some(self.0)
    }
}
