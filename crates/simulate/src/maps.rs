//! What maps need of a shot at one time.

use crate::forces::{Surfaces, Weight};
use geometry::maps::MapContext;
use geometry::{Image, Meshes};
use glam::Vec3;
use shot::world::World;
use shot::{Element, ElementKind, Id, Shape};

/// A shot at one time, as maps need it: regions and curves in the frame of an element's first copy.
pub struct MapsAt<'a> {
    /// The shot's poses.
    pub world: &'a World<'a>,
    /// The surfaces that regions need.
    pub surfaces: &'a Surfaces,
    /// Meshes and images.
    pub meshes: &'a Meshes,
    /// The element.
    pub element: &'a Element,
    /// Seconds of the world's time.
    pub seconds: f64,
}

impl MapContext for MapsAt<'_> {
    fn region(&self, region: Id, points: &[Vec3]) -> Option<Vec<f32>> {
        let shot = self.world.shot();
        let weight = Weight::new(self.world, shot, self.surfaces, shot.element(region)?, self.seconds)?;
        let (position, orientation) = self.world.placements(self.element).first().copied()?;
        Some(points.iter().map(|p| weight.at(position + orientation * *p)).collect())
    }

    fn curve(&self, curve: Id) -> Option<Vec<Vec<Vec3>>> {
        let element = self.world.shot().element(curve)?;
        let ElementKind::Curve(curve) = &element.kind else { return None };
        let (from, turned) = self.world.pose(element);
        let (position, orientation) = self.world.placements(self.element).first().copied()?;
        let local = |p: &Vec3| orientation.inverse() * (from + turned * *p - position);
        Some(curve.strokes().iter().map(|stroke| stroke.iter().map(local).collect()).collect())
    }

    fn image(&self, asset: &str) -> Option<&Image> {
        self.meshes.images.get(asset).map(|image| &**image)
    }

    fn group(&self, name: &str) -> Option<Vec<[Vec3; 3]>> {
        let Shape::Mesh { asset, scale } = &self.element.as_solid()?.shape else { return None };
        let mesh = self.meshes.by_name.get(asset)?;
        let group = mesh.groups.iter().find(|group| group.name == name)?;
        let corners =
            |face: &u32| mesh.triangles[*face as usize].map(|v| mesh.positions[v as usize] * *scale);
        Some(group.faces.iter().map(corners).collect())
    }
}
