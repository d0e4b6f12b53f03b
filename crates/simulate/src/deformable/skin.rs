//! Pressure within a closed skin: given, or that of the air shut in it.
//!
//! With the volume V the force on the points is p ∂V/∂x. Air of the content c, the volume that it fills at the pressure around
//! p₀, presses by p₀ (c / V − 1) more than the air around (R. Boyle's law: the temperature stays).

use super::discretization::{Discretization, Part};
use super::low_rank::LowRank;
use super::material::Material;
use glam::{DVec3, Vec3A};
use std::ops::Range;

/// Pressure of the air around, Pa.
const AROUND_PA: f64 = 101_325.0;

/// A body with a pressure within.
pub(super) struct Skin {
    faces: Range<usize>,
    nodes: Range<usize>,
    pressure: f64,
    /// Content of the air that is shut in, m³.
    air: Option<f64>,
    /// −1 if its faces look inward.
    outward: f64,
}

/// The skins that have a pressure within.
pub(super) fn skins(
    discretization: &Discretization,
    parts: &[Part],
    of: &[Material],
    at_rest: &[DVec3],
) -> Vec<Skin> {
    let mut skins = Vec::new();
    for (part, material) in parts.iter().zip(of) {
        let (pressure, air) = (material.pressure, material.shut_in_air);
        if pressure == 0.0 && air.is_none() {
            continue;
        }
        for (nodes, faces) in discretization.nodes_by_body(part).zip(discretization.faces_by_body(part)) {
            let volume = volume(&discretization.faces[faces.clone()], at_rest);
            // The volume of an open sheet says nothing of what is in it.
            let air = air.filter(|_| part.closed);
            let outward = if air.is_some() || volume < 0.0 { volume.signum() } else { 1.0 };
            skins.push(Skin { faces, nodes, pressure, air: air.map(|part| part * volume.abs()), outward });
        }
    }
    skins
}

/// Volume within faces, m³.
fn volume(faces: &[[u32; 3]], points: &[DVec3]) -> f64 {
    let Some(origin) = faces.first().map(|face| points[face[0] as usize]) else { return 0.0 };
    let content = |face: &[u32; 3]| {
        let [a, b, c] = face.map(|p| points[p as usize] - origin);
        a.dot(b.cross(c)) / 6.0
    };
    faces.iter().map(content).sum()
}

impl Skin {
    /// Takes the force of the pressure off the gradient; gives how it changes with the volume.
    pub fn add(
        &self,
        discretization: &Discretization,
        points: &[DVec3],
        held: &[bool],
        gradient: &mut [DVec3],
    ) -> Option<LowRank> {
        let faces = &discretization.faces[self.faces.clone()];
        let mut of_volume = vec![DVec3::ZERO; self.nodes.len()];
        for face in faces {
            let [a, b, c] = face.map(|p| points[p as usize]);
            let area = (b - a).cross(c - a) * (self.outward / 6.0);
            for point in face {
                for (node, weight) in discretization.embedding.of(*point) {
                    of_volume[node as usize - self.nodes.start] += area * weight;
                }
            }
        }
        let (mut pressure, mut slope) = (self.pressure, 0.0);
        if let Some(air) = self.air {
            let least = 1e-3 * air;
            let volume = (self.outward * volume(faces, points)).max(least);
            pressure += AROUND_PA * (air / volume - 1.0);
            slope = AROUND_PA * air / (volume * volume);
        }
        for (gradient, of_volume) in gradient[self.nodes.clone()].iter_mut().zip(&of_volume) {
            *gradient -= *of_volume * pressure;
        }
        let free = |(node, u): (usize, &DVec3)| if held[node] { Vec3A::ZERO } else { u.as_vec3a() };
        (slope > 0.0).then(|| {
            let u = self.nodes.clone().zip(&of_volume).map(free).collect();
            LowRank::vector(self.nodes.clone(), u, slope as f32)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_volume_of_a_box_does_not_depend_on_where_it_is() {
        let mesh = geometry::primitive::cuboid(glam::Vec3::new(1.0, 2.0, 0.5), 0.0);
        let (sheet, _, _) = super::super::sheet::sheet(&mesh);
        let far: Vec<DVec3> = sheet.rest.iter().map(|p| *p + DVec3::new(900.0, -3.0, 40.0)).collect();
        assert!((volume(&sheet.faces, &sheet.rest) - 1.0).abs() < 1e-9);
        assert!((volume(&sheet.faces, &far) - 1.0).abs() < 1e-9);
    }
}
