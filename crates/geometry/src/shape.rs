//! The mesh and the mass of a shot's shapes.

use crate::{Image, MassProperties, Mesh, MeshSequence, mass_properties, primitive, uv};
use glam::Vec3;
use shot::{
    Element, Shape, Shot, Solid, Weight,
    particles::{MapSource, Source},
};
use std::collections::HashMap;
use std::f32::consts::PI;
use std::sync::Arc;
use thiserror::Error;

/// The meshes that a shot's assets hold, in the files' units, and the images
/// laid on them, by asset name.
#[derive(Clone, Debug, Default)]
pub struct Meshes {
    /// The meshes.
    pub by_name: HashMap<String, Arc<Mesh>>,
    /// Those that change with time; their first shapes are among the meshes too.
    pub sequences: HashMap<String, Arc<MeshSequence>>,
    /// The images.
    pub images: HashMap<String, Arc<Image>>,
}

/// A mesh with edges of a wanted length, or about how many vertices it would have, if they are too many.
pub type Refined = Result<Mesh, usize>;

/// A shape names a mesh that was not loaded.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("the mesh \"{0}\" is not there")]
pub struct MissingMesh(pub String);

impl Meshes {
    /// The triangle mesh of a shape, in metres.
    ///
    /// # Errors
    /// [`MissingMesh`] if the shape is an imported mesh that is not there.
    pub fn mesh(&self, shape: &Shape) -> Result<Mesh, MissingMesh> {
        self.mesh_with(shape, primitive::AROUND)
    }

    /// The mesh of one copy of a cloth, a soft body or what sways at rest, with the edges that it is computed with, for at most so
    /// many vertices; none if the element is rigid.
    ///
    /// # Errors
    /// [`MissingMesh`].
    pub fn deforming(&self, element: &Element, most: usize) -> Result<Option<Refined>, MissingMesh> {
        let edge_m = match (element.as_cloth(), element.as_soft()) {
            (Some(cloth), _) => cloth.edge_m,
            (None, Some(soft)) => soft.edge_m,
            (None, None) => match element.as_swaying() {
                // What a file moves has the vertices of the file.
                Some(sway) if element.file_animation().is_none() => sway.edge_m,
                _ => return Ok(None),
            },
        };
        let Some(solid) = element.as_solid() else { return Ok(None) };
        let refined = Mesh::refined(&solid.shape, self.mesh(&solid.shape)?, edge_m, most);
        Ok(Some(refined.map(|mesh| uv::laid(mesh, solid.uvs))))
    }

    /// The mesh of a rigid solid at rest, with its UVs.
    ///
    /// # Errors
    /// [`MissingMesh`].
    pub fn of_solid(&self, solid: &Solid) -> Result<Mesh, MissingMesh> {
        Ok(uv::laid(self.mesh(&solid.shape)?, solid.uvs))
    }

    /// A mesh for `copies` of a shape that are drawn together: where it is round
    /// it has fewer sides, so that they all come to about so many `triangles`.
    ///
    /// # Errors
    /// [`MissingMesh`].
    pub fn mesh_for(&self, shape: &Shape, copies: usize, triangles: usize) -> Result<Mesh, MissingMesh> {
        let full = self.mesh(shape)?;
        let fraction = triangles as f32 / (copies * full.triangles.len()).max(1) as f32;
        if fraction >= 1.0 {
            return Ok(full);
        }
        let sides = (primitive::AROUND as f32 * fraction.sqrt()) as usize / 4 * 4;
        self.mesh_with(shape, sides.clamp(12, primitive::AROUND))
    }

    fn mesh_with(&self, shape: &Shape, around: usize) -> Result<Mesh, MissingMesh> {
        Ok(match shape {
            Shape::Box { size_m, edge_m } => primitive::cuboid(*size_m, *edge_m),
            Shape::Sphere { radius_m } => primitive::sphere(*radius_m, around),
            Shape::Capsule { radius_m, length_m } => primitive::capsule(*radius_m, *length_m, around),
            Shape::Cylinder { radius_m, height_m } => primitive::cylinder(*radius_m, *height_m, around),
            Shape::Cone { radius_m, height_m } => primitive::cone(*radius_m, *height_m, around),
            Shape::Torus { major_radius_m, minor_radius_m } => {
                primitive::torus(*major_radius_m, *minor_radius_m, around)
            }
            Shape::Plane { size_m } => primitive::plane(size_m.x, size_m.y),
            Shape::Mesh { asset, scale } => {
                let mesh = self.by_name.get(asset).ok_or_else(|| MissingMesh(asset.clone()))?;
                Mesh::clone(mesh).scaled(*scale)
            }
        })
    }

    /// Mass properties at unit density: closed forms for simple shapes, the
    /// polyhedron's for a closed mesh, those of its box for an open one.
    ///
    /// # Errors
    /// [`MissingMesh`].
    pub fn mass(&self, shape: &Shape) -> Result<MassProperties, MissingMesh> {
        let principal = MassProperties::principal;
        Ok(match *shape {
            Shape::Box { size_m, .. } => cuboid(size_m),
            Shape::Plane { size_m } => cuboid(Vec3::new(size_m.x, 0.01, size_m.y)),
            Shape::Sphere { radius_m: r } => principal(4.0 / 3.0 * PI * r.powi(3), Vec3::splat(0.4 * r * r)),
            Shape::Cylinder { radius_m: r, height_m: h } => {
                let across = (3.0 * r * r + h * h) / 12.0;
                principal(PI * r * r * h, Vec3::new(across, 0.5 * r * r, across))
            }
            Shape::Torus { major_radius_m: ring, minor_radius_m: tube } => {
                let across = 0.5 * ring * ring + 0.625 * tube * tube;
                let around = ring * ring + 0.75 * tube * tube;
                principal(2.0 * PI * PI * ring * tube * tube, Vec3::new(across, around, across))
            }
            Shape::Capsule { .. } | Shape::Cone { .. } | Shape::Mesh { .. } => mass_of(&self.mesh(shape)?),
        })
    }

    /// Area that a shape shows the wind, averaged over all directions, m²: a
    /// quarter of the surface for a convex body (A. Cauchy, 1841), for others
    /// too but never more than their box shows; half of both faces for a plane.
    ///
    /// # Errors
    /// [`MissingMesh`].
    pub fn wind_area_m2(&self, shape: &Shape) -> Result<f32, MissingMesh> {
        Ok(match *shape {
            Shape::Sphere { radius_m: r } => PI * r * r,
            Shape::Box { size_m: s, .. } => 0.5 * (s.x * s.y + s.y * s.z + s.z * s.x),
            Shape::Plane { size_m } => 0.5 * size_m.x * size_m.y,
            _ => wind_area_of(&self.mesh(shape)?),
        })
    }

    /// Mass of one body in kg.
    ///
    /// # Errors
    /// [`MissingMesh`].
    pub fn mass_kg(&self, shape: &Shape, weight: Weight) -> Result<f32, MissingMesh> {
        Ok(match weight {
            Weight::MassKg(mass) => mass,
            Weight::DensityKgM3(density) => density * self.mass(shape)?.volume,
        })
    }

    /// The smallest dimension of a shape, metres.
    ///
    /// # Errors
    /// [`MissingMesh`].
    pub fn smallest_m(&self, shape: &Shape) -> Result<f32, MissingMesh> {
        Ok(match shape.smallest_m() {
            Some(size) => size,
            None => self.mesh(shape)?.bounds().size().min_element(),
        })
    }

    /// Names of the mesh assets that the shot's shapes use.
    pub fn needed(shot: &Shot) -> Vec<String> {
        let born_on = shot.particles().filter_map(|(_, particles)| match &particles.source {
            Source::Shape { shape, .. } => Some(shape),
            _ => None,
        });
        let mut names: Vec<String> = shot
            .solids()
            .map(|(_, solid)| &solid.shape)
            .chain(born_on)
            .filter_map(|shape| match shape {
                Shape::Mesh { asset, .. } => Some(asset.clone()),
                _ => None,
            })
            .collect();
        names.sort();
        names.dedup();
        names
    }

    /// The names of the images that a shot's particles are born by, and that maps are made of.
    pub fn needed_images(shot: &Shot) -> impl Iterator<Item = &String> {
        let of_maps = shot.solids().flat_map(|(_, solid)| solid.maps.iter().flat_map(shot::map::Map::images));
        let births =
            shot.particles().filter_map(|(_, particles)| match &particles.emission.map.as_ref()?.source {
                MapSource::Image { asset } => Some(asset),
                MapSource::Vertices {} | MapSource::Map { .. } | MapSource::Quantity { .. } => None,
            });
        births.chain(of_maps)
    }
}

/// Mass properties of a mesh at unit density: the polyhedron's if it is closed,
/// else those of its box.
pub fn mass_of(mesh: &Mesh) -> MassProperties {
    let closed = mesh.is_closed().then(|| mass_properties(mesh)).flatten();
    closed.unwrap_or_else(|| {
        let bounds = mesh.bounds();
        MassProperties { centre: bounds.centre(), ..cuboid(bounds.size().max(Vec3::splat(1e-3))) }
    })
}

/// Area that a mesh shows the wind, m²; see [`Meshes::wind_area_m2`].
pub fn wind_area_of(mesh: &Mesh) -> f32 {
    let s = mesh.bounds().size();
    (0.25 * mesh.area()).min(0.5 * (s.x * s.y + s.y * s.z + s.z * s.x))
}

fn cuboid(size: Vec3) -> MassProperties {
    let squares = size * size;
    let moments = Vec3::new(squares.y + squares.z, squares.x + squares.z, squares.x + squares.y) / 12.0;
    MassProperties::principal(size.x * size.y * size.z, moments)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Shape::cuboid(1.0, 2.0, 3.0))]
    #[case(Shape::sphere(0.5))]
    #[case(Shape::Cylinder { radius_m: 0.4, height_m: 1.0 })]
    #[case(Shape::Torus { major_radius_m: 1.0, minor_radius_m: 0.3 })]
    fn closed_forms_agree_with_the_mesh(#[case] shape: Shape) {
        let meshes = Meshes::default();
        let exact = meshes.mass(&shape).unwrap();
        let of_mesh = mass_properties(&meshes.mesh(&shape).unwrap()).unwrap();
        // A regular polygon of 24 sides lacks 1.2 % of its circle's area.
        assert!((of_mesh.volume / exact.volume - 1.0).abs() < 0.03);
        for axis in 0..3 {
            let (a, b) = (of_mesh.inertia.col(axis)[axis], exact.inertia.col(axis)[axis]);
            assert!((a / b - 1.0).abs() < 0.04, "{a} {b}");
        }
    }
}
