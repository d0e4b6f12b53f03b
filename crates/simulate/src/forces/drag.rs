//! Drag in a medium at rest.

use super::{Law, Points, Weights, dragged};
use glam::Vec3;

pub(super) struct Drag {
    /// Force against the speed, N s/m.
    pub linear_n_s_m: f32,
    /// Density of the medium, kg/m³.
    pub density_kg_m3: f32,
}

impl Law for Drag {
    fn push(&self, points: &mut Points, weights: &Weights, dt: f32) {
        let (linear, density) = (self.linear_n_s_m, self.density_kg_m3);
        let each = points.positions.iter().zip(points.velocities.iter_mut());
        each.zip(points.inverse_masses.iter().zip(points.drag_areas)).for_each(
            |((&p, v), (inverse_mass, area))| {
                let weight = weights.at(p).max(0.0);
                *v = dragged(*v, Vec3::ZERO, 0.5 * density * area * inverse_mass * weight * dt);
                *v *= (-linear * inverse_mass * weight * dt).exp();
            },
        );
    }

    fn drift(&self, _: Vec3) -> Vec3 {
        Vec3::ZERO
    }

    fn air(&self, _: Vec3) -> Option<(Vec3, f32)> {
        (self.density_kg_m3 > 0.0).then_some((Vec3::ZERO, self.density_kg_m3))
    }

    fn resistance(&self) -> f32 {
        self.linear_n_s_m
    }

    fn drags(&self) -> bool {
        true
    }
}
