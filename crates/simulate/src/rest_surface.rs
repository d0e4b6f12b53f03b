//! The surface of a solid at rest, from which maps and measured quantities at its vertices are told.

use crate::maps::MapsAt;
use frames::{MeshState, REST};
use geometry::maps::MapSurface;
use geometry::topology::AttributeValues;
use geometry::{Meshes, Topology};
use shot::Element;
use shot::map::Map;
use std::sync::Arc;

/// Most vertices of a mesh at rest.
const MAX_VERTICES: usize = 2_000_000;

/// The mesh of one copy at rest.
pub(crate) struct RestSurface {
    pub surface: MapSurface,
    pub topology: Arc<Topology>,
    pub closed: bool,
}

impl RestSurface {
    /// Of a solid; none if its mesh is not there or too large.
    pub fn of(element: &Element, meshes: &Meshes) -> Option<Self> {
        let mesh = match meshes.deforming(element, MAX_VERTICES).ok()? {
            Some(refined) => refined.ok()?,
            None => meshes.of_solid(element.as_solid()?).ok()?,
        };
        let (topology, closed) = (Arc::new(Topology::of(&mesh)), mesh.is_closed());
        Some(Self { surface: MapSurface::new(mesh), topology, closed })
    }

    /// The weights of a map at so many vertices, those of all copies; `now` is their mesh in a frame, which tells where the
    /// vertices of a torn one were. None: they are not vertices of copies of the mesh.
    pub fn map(&self, map: &Map, at: &MapsAt, vertices: usize, now: Option<&MeshState>) -> Option<Vec<f32>> {
        let weights = self.surface.weights(map, at);
        if let Some(torn) = now.and_then(|now| now.attributes.iter().find(|of| of.name == REST))
            && let AttributeValues::Vectors(rest) = &torn.values
        {
            // Copies of different sizes are not told apart.
            let size = at.element.size_of(0);
            let alike = (1..at.element.count()).all(|copy| at.element.size_of(copy) == size);
            let of = |p: &glam::Vec3| self.surface.at_place(&weights, *p / size);
            return (alike && rest.len() == vertices).then(|| rest.iter().map(of).collect());
        }
        let own = self.surface.by_vertex(&weights);
        let copies = vertices.checked_div(own.len())?;
        (copies * own.len() == vertices).then(|| own.repeat(copies))
    }
}
