//! Boxes along the axes: distances and rays have closed forms where a mesh is one.

use crate::mesh::is_closed;
use crate::{Bounds, Ray};
use glam::Vec3;

/// Vertices of a box with hard edges: three at each corner.
const MOST_VERTICES: usize = 24;

/// A solid box along the axes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Cuboid {
    centre: Vec3,
    half: Vec3,
}

impl Cuboid {
    /// The box whose surface the triangles are, each once and seen from outside; none if they are no box.
    pub fn of_mesh(positions: &[Vec3], triangles: &[[u32; 3]]) -> Option<Self> {
        if triangles.len() != 12 || positions.len() > MOST_VERTICES {
            return None;
        }
        let bounds = positions.iter().copied().fold(Bounds::EMPTY, Bounds::with);
        let is_corner = |p: &Vec3| (p.cmpeq(bounds.min) | p.cmpeq(bounds.max)).all();
        let corners = |t: &[u32; 3]| t.map(|p| positions[p as usize]);
        let middle = 0.5 * (bounds.min + bounds.max);
        // Each triangle lies in a side of the box, faces outward and has half of the side's area, so that twelve which close fill all six
        // sides.
        let is_half_a_side = |t: &[u32; 3]| {
            let [a, b, c] = corners(t);
            let area = 0.5 * (b - a).cross(c - a) * (a - middle).signum();
            let sides = bounds.size();
            (0..3).any(|axis| {
                let half = 0.5 * sides[(axis + 1) % 3] * sides[(axis + 2) % 3];
                a[axis] == b[axis]
                    && b[axis] == c[axis]
                    && half > 0.0
                    && (area[axis] - half).abs() < 1e-3 * half
            })
        };
        let is_box = positions.iter().all(is_corner)
            && triangles.iter().all(is_half_a_side)
            && is_closed(positions, triangles);
        is_box.then(|| Self { centre: middle, half: 0.5 * bounds.size() })
    }

    /// Whether a point is inside.
    #[inline]
    pub fn contains(&self, point: Vec3) -> bool {
        (point - self.centre).abs().cmplt(self.half).all()
    }

    /// Distance of a point from the surface, m, inside and outside.
    #[inline]
    pub fn distance(&self, point: Vec3) -> f32 {
        let beyond = (point - self.centre).abs() - self.half;
        let out = beyond.max(Vec3::ZERO);
        if out == Vec3::ZERO { -beyond.max_element() } else { out.length() }
    }

    /// The nearest point of the surface.
    #[inline]
    pub fn nearest(&self, point: Vec3) -> Vec3 {
        let from = point - self.centre;
        let beyond = from.abs() - self.half;
        let mut on = from.clamp(-self.half, self.half);
        if beyond.max_element() < 0.0 {
            let axis = beyond.max_position();
            on[axis] = self.half[axis].copysign(from[axis]);
        }
        self.centre + on
    }

    /// First intersection of a ray with the surface: its distance in units of the ray's direction, and the unit normal on the side it
    /// comes from (slabs; T. Kay and J. Kajiya, *Ray tracing complex scenes*, 1986).
    #[inline]
    pub fn intersect(&self, ray: &Ray) -> Option<(f32, Vec3)> {
        let (mut enters, mut leaves) = ((f32::NEG_INFINITY, 0), (f32::INFINITY, 0));
        let origin = ray.origin - self.centre;
        for axis in 0..3 {
            let (from, along, half) = (origin[axis], ray.direction[axis], self.half[axis]);
            if along == 0.0 {
                if from.abs() > half {
                    return None;
                }
                continue;
            }
            let (near, far) = ((-half.copysign(along) - from) / along, (half.copysign(along) - from) / along);
            if near > enters.0 {
                enters = (near, axis);
            }
            if far < leaves.0 {
                leaves = (far, axis);
            }
        }
        let (t, axis) = if enters.0 >= 0.0 { enters } else { leaves };
        if enters.0 > leaves.0 || !(0.0..=ray.t_max).contains(&t) || !t.is_finite() {
            return None;
        }
        Some((t, -Vec3::AXES[axis] * ray.direction[axis].signum()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, Surface, primitive};
    use proptest::prelude::*;

    fn cuboid_of(mesh: &Mesh) -> Option<Cuboid> {
        Cuboid::of_mesh(&mesh.positions, &mesh.triangles)
    }

    #[test]
    fn a_box_is_found_and_nothing_else_is_taken_for_one() {
        let mut mesh = primitive::cuboid(Vec3::new(1.0, 2.0, 0.5), 0.0);
        let found = cuboid_of(&mesh).expect("a box");
        assert_eq!((found.centre, found.half), (Vec3::ZERO, Vec3::new(0.5, 1.0, 0.25)));
        assert!(cuboid_of(&primitive::plane(1.0, 1.0)).is_none());
        assert!(cuboid_of(&primitive::cuboid(Vec3::ONE, 0.1)).is_none());
        let open = Mesh { triangles: mesh.triangles[1..].to_vec(), ..mesh.clone() };
        assert!(cuboid_of(&open).is_none());
        let mut inside_out = mesh.clone();
        inside_out.triangles.iter_mut().for_each(|t| t.swap(1, 2));
        assert!(cuboid_of(&inside_out).is_none());
        // A side twice, and another not at all.
        let mut twice = mesh.clone();
        let [first, second] = [0, 1].map(|i| twice.triangles[i]);
        twice.triangles.splice(10.., [first, second]);
        assert!(cuboid_of(&twice).is_none());
        mesh.positions[0] *= 0.9;
        assert!(cuboid_of(&mesh).is_none());
    }

    fn point() -> impl Strategy<Value = Vec3> {
        [-2f32..2.0, -2f32..2.0, -2f32..2.0].prop_map(Vec3::from_array)
    }

    proptest! {
        #[test]
        fn its_closed_forms_agree_with_its_triangles(at in point(), to in point(), size in point(), by in point()) {
            let mut mesh = primitive::cuboid(size.abs() + 0.05, 0.0);
            mesh.positions.iter_mut().for_each(|p| *p += by);
            let (bvh, cuboid) = (Surface::new(&mesh), cuboid_of(&mesh).unwrap());
            let bvh = bvh.bvh();
            let away = |on: Vec3| on.distance(at);
            let exact = bvh.nearest(at, f32::INFINITY).unwrap().0;
            prop_assert!((away(cuboid.nearest(at)) - away(exact)).abs() < 1e-5);
            prop_assert!((cuboid.distance(at) - away(exact)).abs() < 1e-5);
            // Rounding decides at the surface itself.
            prop_assert!(cuboid.contains(at) == bvh.contains(at) || away(exact) < 1e-5);
            let ray = Ray { origin: at, direction: to - at, t_max: 1.0 };
            match (cuboid.intersect(&ray), bvh.closest(&ray)) {
                (Some((t, normal)), Some(hit)) => {
                    prop_assert!((t - hit.t).abs() < 1e-4, "{} {}", t, hit.t);
                    prop_assert!(normal.dot(ray.direction) <= 0.0);
                    // At an edge either side is right.
                    let on = at + t * ray.direction - by;
                    let beyond = (on.abs() - 0.5 * (size.abs() + 0.05)).abs();
                    let edge = beyond.to_array().iter().filter(|beyond| **beyond < 1e-4).count() > 1;
                    prop_assert!(edge || normal.dot(bvh.normal(&hit)).abs() > 0.999);
                }
                (None, None) => {}
                (own, other) => {
                    // A ray that grazes an edge, or ends at the surface.
                    let t = own.map(|own| own.0).or(other.map(|hit| hit.t)).unwrap();
                    let on = at + t * ray.direction - by;
                    let beyond = (on.abs() - 0.5 * (size.abs() + 0.05)).abs();
                    let edge = beyond.to_array().iter().filter(|beyond| **beyond < 1e-3).count() > 1;
                    prop_assert!(edge || !(1e-3..=0.999).contains(&t), "{own:?} {other:?}");
                }
            }
        }
    }
}
