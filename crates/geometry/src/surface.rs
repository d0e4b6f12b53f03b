//! A mesh as a surface: how far a point is from it, and on which side.

use crate::clearances::Clearances;
use crate::cuboid::Cuboid;
use crate::mesh::{face_normal, is_closed};
use crate::{Bounds, Bvh, Mesh, Ray};
use glam::Vec3;
use std::sync::OnceLock;

/// A mesh with its hierarchy.
pub struct Surface {
    positions: Vec<Vec3>,
    triangles: Vec<[u32; 3]>,
    kind: OnceLock<SurfaceKind>,
    bvh: Bvh,
    clearances: OnceLock<Option<Clearances>>,
    /// The box that it is.
    cuboid: Option<Cuboid>,
}

/// Which points are inside a surface.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SurfaceKind {
    /// Those that it encloses.
    Closed,
    /// It lies in a plane: those close behind it.
    Flat,
    /// Those close to it.
    Open,
}

impl SurfaceKind {
    /// Of triangles between positions.
    pub fn of(positions: &[Vec3], triangles: &[[u32; 3]]) -> Self {
        if is_closed(positions, triangles) {
            return Self::Closed;
        }
        let first = triangles.first().map_or(Vec3::ZERO, |t| face_normal(positions, t));
        let level = |t: &[u32; 3]| face_normal(positions, t).dot(first) > 0.9999;
        if triangles.iter().all(level) { Self::Flat } else { Self::Open }
    }

    /// Signed distance of a point from the solid, m, given the way to it from the nearest point of the surface, the normal there,
    /// whether the point is enclosed, and how thick a surface is that is not closed.
    pub fn signed_distance(self, away: Vec3, normal: Vec3, enclosed: bool, thickness: f32) -> f32 {
        let distance = away.length();
        match self {
            Self::Closed => {
                if enclosed {
                    -distance
                } else {
                    distance
                }
            }
            Self::Flat if away.dot(normal) < 0.0 => (-distance).max(distance - thickness),
            Self::Flat => distance,
            Self::Open => distance - 0.5 * thickness,
        }
    }
}

/// Meshes of so many triangles have their clearances kept on a grid.
const MANY: usize = 10_000;

impl Surface {
    /// The surface of a mesh.
    pub fn new(mesh: &Mesh) -> Self {
        let bvh = Bvh::build(&mesh.positions, &mesh.triangles);
        let (positions, triangles) = (mesh.positions.clone(), mesh.triangles.clone());
        let cuboid = Cuboid::of_mesh(&positions, &triangles);
        Self { positions, triangles, kind: OnceLock::new(), bvh, clearances: OnceLock::new(), cuboid }
    }

    /// First intersection of a ray: its distance in units of the ray's direction, and
    /// the face's unit normal on the side it comes from.
    #[inline]
    pub fn intersect(&self, ray: &Ray) -> Option<(f32, Vec3)> {
        if let Some(cuboid) = &self.cuboid {
            return cuboid.intersect(ray);
        }
        let hit = self.bvh.closest(ray)?;
        let normal = self.bvh.normal(&hit);
        Some((hit.t, if normal.dot(ray.direction) > 0.0 { -normal } else { normal }))
    }

    /// Number of its triangles.
    pub fn triangles(&self) -> usize {
        self.triangles.len()
    }

    /// Distance from the origin to the furthest vertex, m.
    pub fn reach(&self) -> f32 {
        self.positions.iter().map(|p| p.length()).fold(0.0, f32::max)
    }

    /// The nearest point, if one is closer than `within`.
    pub fn nearest(&self, point: Vec3, within: f32) -> Option<Vec3> {
        match &self.cuboid {
            Some(cuboid) => {
                Some(cuboid.nearest(point)).filter(|on| on.distance_squared(point) < within * within)
            }
            None => Some(self.bvh.nearest(point, within)?.0),
        }
    }

    /// How far away it is at least. For a mesh of few triangles that is no less
    /// than four fifths of how far it is, or of `within`.
    pub fn clearance(&self, point: Vec3, within: f32) -> f32 {
        if let Some(cuboid) = &self.cuboid {
            return cuboid.distance(point);
        }
        if self.triangles.len() >= MANY {
            let bounds = || self.positions.iter().copied().fold(Bounds::EMPTY, Bounds::with);
            let kept = self.clearances.get_or_init(|| Clearances::around(&bounds(), self.triangles.len()));
            let of = |centre| self.bvh.clearance(centre, f32::INFINITY);
            if let Some(least) = kept.as_ref().and_then(|kept| kept.at(point, of)) {
                return least;
            }
        }
        self.bvh.clearance(point, within)
    }

    /// Whether a point is inside, for a closed mesh: the first face that a ray
    /// meets is seen from behind.
    pub fn contains(&self, point: Vec3) -> bool {
        self.cuboid.as_ref().map_or_else(|| self.bvh.contains(point), |cuboid| cuboid.contains(point))
    }

    /// Which points are inside.
    pub fn kind(&self) -> SurfaceKind {
        *self.kind.get_or_init(|| SurfaceKind::of(&self.positions, &self.triangles))
    }

    /// The normal of a flat surface.
    pub fn normal(&self) -> Vec3 {
        self.triangles.first().map_or(Vec3::ZERO, |t| face_normal(&self.positions, t))
    }

    /// The hierarchy of its triangles.
    pub fn bvh(&self) -> &Bvh {
        &self.bvh
    }

    /// Distance from the surface, negative inside, m.
    pub fn signed_distance(&self, point: Vec3) -> f32 {
        let away = self.nearest(point, f32::INFINITY).map_or(f32::INFINITY, |on| on.distance(point));
        if self.contains(point) { -away } else { away }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;
    use proptest::prelude::*;

    #[test]
    fn a_flat_surface_is_solid_behind_it_and_another_open_one_on_both_sides() {
        let plane = Surface::new(&primitive::plane(2.0, 2.0));
        assert_eq!((plane.kind(), plane.normal()), (SurfaceKind::Flat, Vec3::Y));
        let at = |kind: SurfaceKind, y: f32| kind.signed_distance(Vec3::Y * y, Vec3::Y, false, 0.5);
        for (y, flat, open) in [(0.4, 0.4, 0.15), (-0.1, -0.1, -0.15), (-0.8, 0.3, 0.55)] {
            assert!((at(SurfaceKind::Flat, y) - flat).abs() < 1e-6, "{y}");
            assert!((at(SurfaceKind::Open, y) - open).abs() < 1e-6, "{y}");
        }
        let mut bowl = primitive::sphere(1.0, 24);
        bowl.triangles.retain(|t| t.iter().all(|v| bowl.positions[*v as usize].y < 0.1));
        assert_eq!(Surface::new(&bowl).kind(), SurfaceKind::Open);
    }

    #[test]
    fn a_thin_body_separates_what_is_outside_on_both_sides_of_it() {
        let plate = Surface::new(&primitive::cuboid(Vec3::new(2.0, 0.01, 2.0), 0.0));
        let separates = |a: Vec3, b: Vec3| plate.bvh().separates(a, b);
        assert_eq!(plate.kind(), SurfaceKind::Closed);
        assert!(separates(Vec3::Y * 0.1, Vec3::NEG_Y * 0.1));
        // Not beside it, not on one side, not to a point within.
        assert!(!separates(Vec3::new(3.0, 0.1, 0.0), Vec3::new(3.0, -0.1, 0.0)));
        assert!(!separates(Vec3::Y * 0.1, Vec3::Y * 0.2) && !separates(Vec3::Y * 0.1, Vec3::ZERO));
    }

    proptest! {
        #[test]
        fn the_distance_of_a_box_is_its_closed_form(x in -2f32..2.0, y in -2f32..2.0, z in -2f32..2.0) {
            let half = Vec3::new(0.5, 1.0, 0.25);
            let surface = Surface::new(&primitive::cuboid(2.0 * half, 0.0));
            let q = Vec3::new(x, y, z).abs() - half;
            let exact = q.max(Vec3::ZERO).length() + q.max_element().min(0.0);
            prop_assert!((surface.signed_distance(Vec3::new(x, y, z)) - exact).abs() < 1e-5);
        }

        #[test]
        fn a_clearance_is_four_fifths_of_the_distance_at_least(
            x in -2f32..2.0, y in -2f32..2.0, z in -2f32..2.0, within in 0.01f32..3.0,
        ) {
            let surface = Surface::new(&primitive::torus(1.0, 0.3, primitive::AROUND));
            let point = Vec3::new(x, y, z);
            let exact = surface.nearest(point, f32::INFINITY).unwrap().distance(point);
            let clear = surface.bvh.clearance(point, within);
            prop_assert!(clear <= exact * 1.0001, "{clear} {exact}");
            prop_assert!(clear >= 0.7999 * exact.min(within), "{clear} {exact}");
            // By a grid, asked for the first time and again.
            let bounds = surface.positions.iter().copied().fold(Bounds::EMPTY, Bounds::with);
            let kept = Clearances::around(&bounds, 10_000).unwrap();
            let of = |centre| surface.bvh.clearance(centre, f32::INFINITY);
            if let Some(first) = kept.at(point, of) {
                prop_assert_eq!(Some(first), kept.at(point, of));
                // Cells are 2.6 m / 70.7 wide, and points at most half a diagonal from their middle.
                let rim = 0.867 * 2.6 / 70.7;
                prop_assert!(first <= exact && first >= 0.7999 * (exact - rim) - rim, "{} {}", first, exact);
            }
        }

        #[test]
        fn the_nearest_point_is_that_of_trying_all(x in -2f32..2.0, y in -2f32..2.0, z in -2f32..2.0) {
            let mesh = primitive::torus(1.0, 0.3, primitive::AROUND);
            let point = Vec3::new(x, y, z);
            let nearest = Surface::new(&mesh).nearest(point, f32::INFINITY).unwrap().distance(point);
            let vertex = mesh.positions.iter().map(|p| p.distance(point)).fold(f32::INFINITY, f32::min);
            // On the tube itself to within the height of its facets.
            let exact = ((x.hypot(z) - 1.0).hypot(y) - 0.3).abs();
            prop_assert!(nearest <= vertex + 1e-6 && (nearest - exact).abs() < 0.02);
        }
    }
}
