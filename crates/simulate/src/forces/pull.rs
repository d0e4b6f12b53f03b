//! The same force on each body.

use super::{Law, Points, Weights};
use glam::Vec3;

/// Force, N.
pub(super) struct Pull(pub Vec3);

impl Law for Pull {
    fn push(&self, points: &mut Points, weights: &Weights, dt: f32) {
        let each = points.positions.iter().zip(points.velocities.iter_mut());
        for ((&p, v), inverse_mass) in each.zip(points.inverse_masses) {
            *v += self.0 * (weights.at(p) * inverse_mass * dt);
        }
    }

    fn drift(&self, _: Vec3) -> Vec3 {
        self.0 * super::DRIFT_TIME_S
    }
}
