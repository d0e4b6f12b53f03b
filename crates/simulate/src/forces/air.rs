//! Moving air: it drags what is in it along, or accelerates it.

use super::flow::Flow;
use super::{Law, Points, Weights, dragged};
use glam::Vec3;
use shot::force::Push;

pub(super) struct Air {
    pub flow: Flow,
    pub push: Push,
}

impl Law for Air {
    fn push(&self, points: &mut Points, weights: &Weights, dt: f32) {
        let flow = &self.flow;
        let each = points.positions.iter().zip(points.velocities.iter_mut());
        match self.push {
            Push::Acceleration => each.for_each(|(&p, v)| {
                let weight = weights.at(p);
                if weight != 0.0 {
                    *v += flow.velocity(p) * (weight * dt);
                }
            }),
            Push::Air { density_kg_m3 } => {
                each.zip(points.inverse_masses.iter().zip(points.drag_areas)).for_each(
                    |((&p, v), (inverse_mass, area))| {
                        let weight = weights.at(p);
                        if weight != 0.0 {
                            let air = flow.velocity(p) * weight.signum();
                            let k_dt = 0.5 * density_kg_m3 * area * inverse_mass * weight.abs() * dt;
                            *v = dragged(*v, air, k_dt);
                        }
                    },
                );
            }
        }
    }

    fn drift(&self, position: Vec3) -> Vec3 {
        self.flow.velocity(position)
    }

    fn air(&self, position: Vec3) -> Option<(Vec3, f32)> {
        match self.push {
            Push::Air { density_kg_m3 } => Some((self.flow.velocity(position), density_kg_m3)),
            Push::Acceleration => None,
        }
    }

    fn drags(&self) -> bool {
        matches!(self.push, Push::Air { .. })
    }
}
