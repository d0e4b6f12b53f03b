//! Impulses that others, as particles, give the surfaces.

use super::body::DeformableBody;
use crate::colliders::Impulse;
use geometry::{Bvh, barycentric};
use glam::{DVec3, Vec3};

impl DeformableBody {
    /// Takes impulses on parts, each with its part: shared out among the nodes of the nearest face.
    ///
    /// Velocities before the last step change by as much, so that the step's formula, which goes on with the change between the
    /// two, takes each impulse once.
    pub fn receive(&mut self, impulses: &[(usize, Impulse)]) {
        let points: Vec<Vec3> =
            self.discretization.embedding.all(&self.state.x).iter().map(|x| x.as_vec3()).collect();
        for part in 0..self.parts.len() {
            let own: Vec<&Impulse> =
                impulses.iter().filter(|(of, _)| *of == part).map(|(_, of)| of).collect();
            if own.is_empty() {
                continue;
            }
            let faces = self.discretization.faces[self.parts[part].faces.clone()].to_vec();
            let bvh = Bvh::build(&points, &faces);
            for impulse in own {
                let Some((on, face)) = bvh.nearest(impulse.at, f32::INFINITY) else { continue };
                let corners = faces[face as usize];
                let weights = barycentric(corners.map(|p| points[p as usize]), on);
                for (point, weight) in corners.into_iter().zip(weights) {
                    self.push_point(part, point, impulse.impulse.as_dvec3() * f64::from(weight));
                }
            }
        }
    }

    fn push_point(&mut self, part: usize, point: u32, impulse: DVec3) {
        let (measures, density) = (&self.discretization.measures, self.densities[part]);
        for (node, weight) in self.discretization.embedding.of(point) {
            let node = node as usize;
            if self.fixed[node] || density <= 0.0 {
                continue;
            }
            let change = impulse * (weight / (density * measures[node]).max(1e-12));
            self.state.v[node] += change;
            if let Some(before) = self.state.v_before.get_mut(node) {
                *before += change;
            }
        }
    }
}
