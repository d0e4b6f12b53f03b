//! The pull of a soft body back to its shape: springs to where the undeformed shape, moved and turned with the body, has the
//! nodes (M. Müller, B. Heidelberger, M. Teschner and M. Gross, *Meshless deformations based on shape matching*, 2005).
//! Their forces and torques sum to 0.

use super::discretization::{Discretization, Part};
use super::holds::centre_of_mass;
use super::material::Material;
use super::prediction::Prediction;
use glam::{DMat3, DQuat, DVec3, Mat3A, Vec3};

/// Adds the forces at `x` to the gradient, and how they grow to the blocks on the diagonal.
pub(super) fn add(
    discretization: &Discretization,
    parts: &[Part],
    of: &[Material],
    prediction: &Prediction,
    x: &[DVec3],
    gradient: &mut [DVec3],
    own: &mut [Mat3A],
) {
    for (part, material) in parts.iter().zip(of).filter(|(_, material)| material.pull_back > 0.0) {
        let rate = std::f64::consts::TAU * material.pull_back / prediction.rate;
        for nodes in discretization.nodes_by_body(part) {
            let (rest, now) = (&discretization.rest[nodes.clone()], &x[nodes.clone()]);
            let inertia = &prediction.inertia[nodes.clone()];
            let (from, to) = (centre_of_mass(inertia, rest), centre_of_mass(inertia, now));
            let turn = fitted_turn(rest, from, now, to, inertia);
            for (i, node) in nodes.enumerate() {
                let stiffness = inertia[i] * rate * rate;
                gradient[node] += (now[i] - to - turn * (rest[i] - from)) * stiffness;
                own[node] += Mat3A::from_diagonal(Vec3::splat(stiffness as f32));
            }
        }
    }
}

/// The turn that takes places at rest nearest to those now, by weighted least squares, found by Newton steps on the turn
/// (M. Müller, J. Bender, N. Chentanez and M. Macklin, *A robust method to extract the rotational part of deformations*, 2016).
fn fitted_turn(rest: &[DVec3], from: DVec3, now: &[DVec3], to: DVec3, weights: &[f64]) -> DMat3 {
    let mut moments = DMat3::ZERO;
    for ((rest, now), weight) in rest.iter().zip(now).zip(weights) {
        let (a, b) = ((*now - to) * *weight, *rest - from);
        moments += DMat3::from_cols(a * b.x, a * b.y, a * b.z);
    }
    let size = moments.to_cols_array().iter().fold(0.0f64, |most, m| most.max(m.abs()));
    let mut turn = DQuat::IDENTITY;
    for _ in 0..100 {
        let r = DMat3::from_quat(turn);
        let axis =
            r.x_axis.cross(moments.x_axis) + r.y_axis.cross(moments.y_axis) + r.z_axis.cross(moments.z_axis);
        let along =
            r.x_axis.dot(moments.x_axis) + r.y_axis.dot(moments.y_axis) + r.z_axis.dot(moments.z_axis);
        let step = axis / (along.abs() + 1e-9 * size + 1e-300);
        if step.length() < 1e-12 {
            break;
        }
        turn = (DQuat::from_scaled_axis(step) * turn).normalize();
    }
    DMat3::from_quat(turn)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_turn_of_a_turned_body_is_found_far_from_the_origin() {
        let rest: Vec<DVec3> = (0..20)
            .map(|i| DVec3::new((i as f64 * 1.3).sin(), (i as f64 * 2.1).cos(), (i as f64 * 0.7).sin()))
            .collect();
        let weights: Vec<f64> = (0..20).map(|i| 1.0 + 0.1 * i as f64).collect();
        for angle in [0.1, 1.5, 3.0] {
            let turn = DQuat::from_axis_angle(DVec3::new(1.0, 2.0, -0.5).normalize(), angle);
            let now: Vec<DVec3> = rest.iter().map(|p| turn * *p + DVec3::new(800.0, 0.0, -3.0)).collect();
            let (from, to) = (centre_of_mass(&weights, &rest), centre_of_mass(&weights, &now));
            let found = fitted_turn(&rest, from, &now, to, &weights);
            let off = (found - DMat3::from_quat(turn)).to_cols_array();
            assert!(off.iter().all(|m| m.abs() < 1e-8), "{angle}: {off:?}");
        }
    }
}
