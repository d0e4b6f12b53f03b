//! The force of moving air on the faces of surfaces.
//!
//! With the air's speed w against a face of area A and normal n, turned to w · n ≥ 0, the force is
//! ½ ρ A (w · n) ((C_D − C_L) w + C_L |w| n): at right angles the drag of a plate of coefficient C_D, and with C_L = C_D
//! all of it along the normal (L. Ling, M. Damodaran and R. Gay, *Aerodynamic force models for animating cloth motion in
//! an air flow*, 1996). So the waves of a flag come out of the sheet's own motion.

use super::embedding::Embedding;
use crate::forces::Acting;
use glam::{DVec3, Mat3, Vec3};
use rayon::prelude::*;
use std::collections::HashMap;

/// How a surface takes air.
#[derive(Clone, Copy, Debug)]
pub(super) struct AirCoefficients {
    pub drag: f32,
    pub lift: f32,
    /// Thickness of the layer of air that moves with it, m.
    pub carried: f32,
    /// Whether it is closed: the air meets its faces from outside only.
    pub closed: bool,
}

/// Force on a face, N, and how it falls with its velocity, N s/m.
type OfFace = (Vec3, Mat3);

/// Adds to each node its part of the forces, N, and of their fall with velocity, N s/m.
pub(super) fn add(
    faces: &[[u32; 3]],
    embedding: &Embedding,
    acting: &Acting,
    x: &[DVec3],
    v: &[DVec3],
    AirCoefficients { drag, lift, closed, .. }: AirCoefficients,
    forces: &mut [DVec3],
    resistances: &mut [Mat3],
) {
    if !acting.moves_air() || drag == 0.0 && lift == 0.0 {
        return;
    }
    let of = |points: &[u32; 3]| -> OfFace {
        let [a, b, c] = points.map(|p| embedding.at(p, x));
        let middle = ((a + b + c) / 3.0).as_vec3();
        let velocity = points.iter().fold(DVec3::ZERO, |sum, p| sum + embedding.at(*p, v)).as_vec3() / 3.0;
        let across = (b - a).cross(c - a).as_vec3();
        let area = 0.5 * across.length();
        let Some(normal) = across.try_normalize() else { return (Vec3::ZERO, Mat3::ZERO) };
        let (mut force, mut resistance) = (Vec3::ZERO, Mat3::ZERO);
        acting.air(middle, |air, density| {
            let w = air - velocity;
            let (speed, towards) = (w.length(), w.dot(normal));
            if closed && towards >= 0.0 {
                return;
            }
            let n = if towards < 0.0 { -normal } else { normal };
            let scale = 0.5 * density * area;
            force += (w * (drag - lift) + n * (lift * speed)) * (towards.abs() * scale);
            let along = (drag - lift).max(0.0) * towards.abs() * scale;
            let outer = Mat3::from_cols(n * n.x, n * n.y, n * n.z);
            resistance += outer * (lift * speed * scale) + Mat3::from_diagonal(Vec3::splat(along));
        });
        (force / 3.0, resistance * (1.0 / 3.0))
    };
    let each: Vec<OfFace> = faces.par_iter().with_min_len(256).map(of).collect();
    for (face, (force, resistance)) in faces.iter().zip(&each) {
        for (node, weight) in face.iter().flat_map(|point| embedding.of(*point)) {
            forces[node as usize] += force.as_dvec3() * weight;
            resistances[node as usize] += *resistance * weight as f32;
        }
    }
}

/// The reactive force of the air that a sheet carries: a layer of thickness ℓ that flows along the sheet at the tangential wind u
/// and follows its deflection presses with −ρ ℓ n · (a + 2 (∇v) u + (∇∇x)(u, u)), the acceleration of a part of the layer
/// (M. J. Lighthill, *Note on the swimming of slender fish*, 1960, for sheets whose height is small against their length, with
/// ℓ = π / 4 times the height; C. Eloy, R. Lagrange, C. Souilliez and L. Schouveiler, *Aeroelastic instability of cantilevered
/// flexible plates in uniform flow*, 2008).
///
/// Gives for each face a third of its force without the first term, N, and of the mass that resists acceleration, kg.
pub(super) fn carried(
    faces: &[[u32; 3]],
    embedding: &Embedding,
    acting: &Acting,
    x: &[DVec3],
    v: &[DVec3],
    thickness: f32,
) -> Vec<OfFace> {
    if !acting.moves_air() {
        return vec![(Vec3::ZERO, Mat3::ZERO); faces.len()];
    }
    let corners = |points: &[u32; 3]| points.map(|p| embedding.at(p, x));
    let across = |[a, b, c]: [DVec3; 3]| (b - a).cross(c - a).as_vec3();
    let mut normals: HashMap<u32, Vec3> = HashMap::new();
    for face in faces {
        let across = across(corners(face));
        face.iter().for_each(|p| *normals.entry(*p).or_default() += across);
    }
    normals.values_mut().for_each(|normal| *normal = normal.normalize_or_zero());
    let of = |points: &[u32; 3]| -> OfFace {
        let at = corners(points);
        let across = across(at);
        let (area, Some(n)) = (0.5 * across.length(), across.try_normalize()) else {
            return (Vec3::ZERO, Mat3::ZERO);
        };
        let [a, b, c] = at;
        let velocities = points.map(|p| embedding.at(p, v).as_vec3());
        let velocity = velocities.iter().sum::<Vec3>() / 3.0;
        // The gradients of the barycentric weights.
        let gradients = [c - b, a - c, b - a].map(|side| n.cross(side.as_vec3()) / (2.0 * area));
        let (mut force, mut mass) = (Vec3::ZERO, 0.0);
        acting.air(((a + b + c) / 3.0).as_vec3(), |air, density| {
            let u = (air - velocity).reject_from_normalized(n);
            let along = |of: [Vec3; 3]| (0..3).map(|i| of[i] * gradients[i].dot(u)).sum::<Vec3>();
            let turning = 2.0 * n.dot(along(velocities));
            let bending = -u.dot(along(points.map(|p| normals[&p])));
            let layer = density * thickness * area;
            force -= n * (layer * (turning + bending));
            mass += layer;
        });
        let outer = Mat3::from_cols(n * n.x, n * n.y, n * n.z);
        (force / 3.0, outer * (mass / 3.0))
    };
    faces.par_iter().with_min_len(256).map(of).collect()
}
