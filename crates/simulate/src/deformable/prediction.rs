//! Where all would go in a step without the elastic forces.

use super::air;
use super::blocks::CHUNK;
use super::discretization::{Discretization, Part};
use super::material::Material;
use super::state::State;
use crate::Step;
use crate::forces::Points;
use glam::{DMat3, DVec3, Mat3, Vec3};
use rayon::prelude::*;

/// What a step comes to without the elastic forces.
pub(super) struct Prediction {
    /// α/Δt, 1/s.
    pub rate: f64,
    /// x̄/α, m.
    pub x_bar: Vec<DVec3>,
    /// x̂, m.
    pub x_hat: Vec<DVec3>,
    /// (α/Δt)² M, N/m.
    pub inertia: Vec<f64>,
    /// How the forces fall with velocity, N s/m.
    pub resistances: Vec<Mat3>,
}

impl Prediction {
    /// Of nodes in a state; each part is of its material.
    pub fn new(
        discretization: &Discretization,
        parts: &[Part],
        of: &[Material],
        state: &State,
        step: &Step,
    ) -> Self {
        let n = discretization.len();
        let dt = f64::from(step.dt);
        let State { x: x_n, v: v_n, x_before, v_before, dt_before, .. } = state;
        let omega = if x_before.is_empty() { 0.0 } else { dt / dt_before };
        let alpha = (1.0 + 2.0 * omega) / (1.0 + omega);
        let (now, before) = ((1.0 + omega) / alpha, omega * omega / (1.0 + omega) / alpha);
        let bar = |y: &[DVec3], y_before: &[DVec3]| -> Vec<DVec3> {
            let of = |i: usize| if omega == 0.0 { y[i] / alpha } else { y[i] * now - y_before[i] * before };
            (0..n).into_par_iter().with_min_len(CHUNK).map(of).collect()
        };
        let (x_bar, v_bar) = (bar(x_n, x_before), bar(v_n, v_before));
        let rate = alpha / dt;
        let mut masses = vec![0.0; n];
        let mut forces = vec![DVec3::ZERO; n];
        let mut resistances = vec![Mat3::ZERO; n];
        for (part, material) in parts.iter().zip(of) {
            let nodes = part.nodes.clone();
            let measures = &discretization.measures[nodes.clone()];
            let parts = masses[nodes.clone()].iter_mut().zip(measures);
            parts.for_each(|(mass, measure)| *mass = (material.density * measure).max(1e-12));
            let masses = &masses[nodes.clone()];
            // Forces by mass are accelerations, those by air act on the faces.
            let acting = step.field.acting(material.element);
            let positions: Vec<Vec3> = x_n[nodes.clone()].iter().map(|x| x.as_vec3()).collect();
            let own: Vec<Vec3> = v_n[nodes.clone()].iter().map(|v| v.as_vec3()).collect();
            let mut velocities = own.clone();
            let inverse_masses: Vec<f32> = masses.iter().map(|m| (1.0 / m) as f32).collect();
            let mut points = Points {
                positions: &positions,
                velocities: &mut velocities,
                inverse_masses: &inverse_masses,
                drag_areas: &vec![0.0; nodes.len()],
            };
            acting.accelerate(&mut points, step.dt);
            for (i, node) in nodes.clone().enumerate() {
                forces[node] = (velocities[i].as_dvec3() - own[i].as_dvec3()) * (masses[i] / dt);
            }
            let (faces, embedding) = (&discretization.faces[part.faces.clone()], &discretization.embedding);
            air::add(faces, embedding, &acting, x_n, v_n, material.air, &mut forces, &mut resistances);
            if material.air.carried > 0.0 {
                let of = air::carried(faces, embedding, &acting, x_n, v_n, material.air.carried);
                for (face, (force, mass)) in faces.iter().zip(of) {
                    for (node, weight) in face.iter().flat_map(|point| embedding.of(*point)) {
                        let carried = mass * (weight * rate) as f32;
                        let node = node as usize;
                        let change = carried * (v_bar[node] - v_n[node]).as_vec3();
                        forces[node] += force.as_dvec3() * weight + change.as_dvec3();
                        resistances[node] += carried;
                    }
                }
            }
            let whole: f64 = masses.iter().sum();
            for (i, node) in nodes.enumerate() {
                let resistance = f64::from(acting.resistance(positions[i])) * masses[i] / whole;
                if resistance > 0.0 {
                    forces[node] -= v_n[node] * resistance;
                    resistances[node] += Mat3::from_diagonal(Vec3::splat(resistance as f32));
                }
            }
        }
        forces.iter_mut().zip(&state.load).for_each(|(force, load)| *force += *load);
        let inertia: Vec<f64> = masses.iter().map(|m| m * rate * rate).collect();
        let x_hat = (0..n)
            .into_par_iter()
            .with_min_len(CHUNK)
            .map(|i| x_bar[i] + v_bar[i] / rate + forces[i] / inertia[i])
            .collect();
        Self { rate, x_bar, x_hat, inertia, resistances }
    }

    /// How that force grows with the position, N/m.
    pub fn growth(&self, node: usize) -> DMat3 {
        let resistance = self.resistances[node] * self.rate as f32;
        DMat3::from_cols_array(&resistance.to_cols_array().map(f64::from))
            + DMat3::from_diagonal(DVec3::splat(self.inertia[node]))
    }

    /// The force on a node, N, that would take it to `x` against its inertia and resistance; `v_n` is its velocity at the
    /// step's start.
    pub fn inertial_force(&self, node: usize, x: DVec3, v_n: DVec3) -> DVec3 {
        let resistance = self.resistances[node] * self.rate as f32;
        let change = (x - self.x_bar[node]) - v_n / self.rate;
        let resisted = DMat3::from_cols_array(&resistance.to_cols_array().map(f64::from)) * change;
        (x - self.x_hat[node]) * self.inertia[node] + resisted
    }
}
