//! What is measured on the surface of a cloth or a soft body in a frame.

use crate::Frame;
use geometry::topology::{AttributeValues, Domain};
use geometry::{deformation, part_above_zero};
use glam::Vec3;
use shot::{Element, SurfaceQuantity};

/// Name of the attribute that has the positions at rest of a mesh that is torn: vectors, by vertex, m.
pub const REST: &str = "rest";

/// A quantity at each vertex of an element's mesh, in its unit; `rest` are the positions of one copy at rest, m. None: the
/// frame has no such mesh, or has one with other vertices than the copies at rest, as a subdivided one.
pub fn surface_quantity(
    frame: &Frame,
    of: &Element,
    quantity: SurfaceQuantity,
    rest: &[Vec3],
) -> Option<Vec<f32>> {
    let element = of.id;
    let mesh = frame.meshes.get(&element)?;
    if let Some(known) = mesh.scalars(quantity.name()) {
        return Some(known.to_vec());
    }
    let vertices = mesh.positions.len();
    match quantity {
        SurfaceQuantity::Speed => {
            let body = frame.bodies.get(&element).and_then(|bodies| bodies.velocities.first());
            let body = body.copied().unwrap_or_default();
            Some(mesh.velocities.iter().map(|own| (*own + body).length()).collect())
        }
        // A run that was computed before there was such an attribute has none, nor has a frame without contact.
        SurfaceQuantity::Pressure => Some(vec![0.0; vertices]),
        SurfaceQuantity::Contact => match mesh.scalars(SurfaceQuantity::Pressure.name()) {
            Some(pressure) => Some(part_above_zero(&mesh.topology, &mesh.positions, pressure)),
            None => Some(vec![0.0; vertices]),
        },
        SurfaceQuantity::Stretch | SurfaceQuantity::Compression | SurfaceQuantity::Bend => {
            if let Some(own) = mesh.attributes.iter().find(|attribute| attribute.name == REST)
                && let AttributeValues::Vectors(rest) = &own.values
            {
                return deformation(quantity, &mesh.topology, rest, &mesh.positions);
            }
            if rest.len().checked_mul(of.count()) != Some(vertices) {
                return None;
            }
            let sized = |copy: usize| rest.iter().map(move |p| *p * of.size_of(copy));
            let rest: Vec<Vec3> = (0..of.count()).flat_map(sized).collect();
            deformation(quantity, &mesh.topology, &rest, &mesh.positions)
        }
    }
}

impl crate::MeshState {
    /// The scalars that an attribute of its vertices has at this frame.
    pub fn scalars(&self, name: &str) -> Option<&[f32]> {
        let named = self.attributes.iter().find(|of| of.name == name && of.domain == Domain::Vertex)?;
        match &named.values {
            AttributeValues::Scalars(values) => Some(values),
            _ => None,
        }
    }
}
