//! A cloth at rest: its points and triangles, and what they weigh.

use super::bending::Bend;
use super::membrane::Triangle;
use geometry::{Mesh, Topology, Weld};
use glam::{DVec3, Vec3};
use shot::{Cloth, PinnedPart};
use std::collections::HashMap;
use std::sync::Arc;

/// Points of a sheet, of all copies of its element.
#[derive(Debug)]
pub(super) struct Sheet {
    /// Positions at rest, in the element's frame, m.
    pub rest: Vec<DVec3>,
    pub triangles: Vec<Triangle>,
    /// For each triangle, how it bends.
    pub bends: Vec<Bend>,
    /// Area around each point, m².
    pub areas: Vec<f64>,
    /// The point of each vertex of the mesh that is shown.
    pub point_of: Vec<u32>,
    /// The copy of each point.
    pub copy_of: Vec<u32>,
    /// The mesh that is shown.
    pub topology: Arc<Topology>,
    /// Mean length of the edges, m.
    pub edge_m: f64,
}

impl Sheet {
    /// Of a mesh in the element's frame, and so many copies of it. Triangles without an area take
    /// no part in the physics.
    pub fn new(mesh: &Mesh, copies: usize) -> Self {
        let weld = Weld::new(&mesh.positions);
        let rest: Vec<DVec3> =
            weld.vertex_of.iter().map(|&v| mesh.positions[v as usize].as_dvec3()).collect();
        let faces = weld.faces(&mesh.triangles);
        let at = |p: u32| rest[p as usize];
        let mut triangles = Vec::with_capacity(faces.len());
        let mut areas = vec![0.0; rest.len()];
        let mut edges: HashMap<[u32; 2], Vec<u32>> = HashMap::new();
        let (mut length, mut count) = (0.0, 0u32);
        for (face, corners) in faces.iter().zip(&mesh.triangles) {
            let Some(triangle) = Triangle::new(*face, face.map(at), warp(mesh, *corners)) else { continue };
            for (i, &point) in face.iter().enumerate() {
                areas[point as usize] += triangle.area / 3.0;
                let (a, b) = (point, face[(i + 1) % 3]);
                edges.entry([a.min(b), a.max(b)]).or_default().push(face[(i + 2) % 3]);
                length += at(a).distance(at(b));
                count += 1;
            }
            triangles.push(triangle);
        }
        let across = |a: u32, b: u32, own: u32| match edges.get(&[a.min(b), a.max(b)]).map(Vec::as_slice) {
            Some([one, two]) if *one == own => Some(*two),
            Some([one, two]) if *two == own => Some(*one),
            _ => None,
        };
        let bend = |triangle: &Triangle| {
            let [a, b, c] = triangle.points;
            Bend::new(triangle, [across(b, c, a), across(c, a, b), across(a, b, c)], at)
        };
        let bends = triangles.iter().map(bend).collect();
        let topology = Arc::new(Topology::of(mesh));
        let one = Self {
            copy_of: vec![0; rest.len()],
            point_of: weld.point_of,
            edge_m: length / f64::from(count.max(1)),
            rest,
            triangles,
            bends,
            areas,
            topology,
        };
        if copies == 1 { one } else { one.times(copies) }
    }

    /// So many of it beside each other.
    fn times(self, copies: usize) -> Self {
        let n = self.rest.len() as u32;
        let mut all = Self {
            rest: self.rest.repeat(copies),
            areas: self.areas.repeat(copies),
            copy_of: (0..copies as u32).flat_map(|copy| vec![copy; n as usize]).collect(),
            topology: Arc::new(Topology::joined(&vec![&*self.topology; copies])),
            edge_m: self.edge_m,
            triangles: Vec::new(),
            bends: Vec::new(),
            point_of: Vec::new(),
        };
        for copy in 0..copies as u32 {
            let by = copy * n;
            let moved = |t: &Triangle| Triangle { points: t.points.map(|p| p + by), ..*t };
            all.triangles.extend(self.triangles.iter().map(moved));
            all.bends.extend(self.bends.iter().map(|bend| bend.moved(by)));
            all.point_of.extend(self.point_of.iter().map(|p| p + by));
        }
        all
    }

    /// Number of points.
    pub fn len(&self) -> usize {
        self.rest.len()
    }

    /// The points that pins may hold, for each pin; none: those that are in its region.
    pub fn pinned(&self, cloth: &Cloth) -> Vec<Option<Vec<u32>>> {
        cloth
            .pins
            .iter()
            .map(|pin| match &pin.part {
                PinnedPart::Side(side) => Some(self.furthest(side.axis())),
                PinnedPart::Corners(side) => {
                    let side = self.furthest(side.axis());
                    Some(self.ends(&side))
                }
                PinnedPart::Region(_) => None,
            })
            .collect()
    }

    /// The points that are furthest along an axis.
    fn furthest(&self, axis: Vec3) -> Vec<u32> {
        let along = |p: u32| self.rest[p as usize].dot(axis.as_dvec3());
        let all = || 0..self.len() as u32;
        let most = all().map(along).fold(f64::NEG_INFINITY, f64::max);
        let near = most - 0.01 * self.edge_m;
        all().filter(|p| along(*p) >= near).collect()
    }

    /// The two points of a list that are furthest from each other along its longest side, of each copy.
    fn ends(&self, side: &[u32]) -> Vec<u32> {
        let at = |p: u32| self.rest[p as usize];
        let (low, high) = side.iter().fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |(low, high), &p| {
            (low.min(at(p)), high.max(at(p)))
        });
        let axis = (high - low).max_position();
        let near = 0.01 * self.edge_m;
        let end = |p: &u32| at(*p)[axis] <= low[axis] + near || at(*p)[axis] >= high[axis] - near;
        side.iter().copied().filter(end).collect()
    }

    /// Positions of the points when all stand at rest, by the poses of the copies.
    pub fn placed(&self, poses: &[shot::world::Pose]) -> Vec<DVec3> {
        let place = |(rest, copy): (&DVec3, &u32)| {
            let (position, orientation) = poses[(*copy as usize).min(poses.len() - 1)];
            position.as_dvec3() + (orientation * rest.as_vec3()).as_dvec3()
        };
        self.rest.iter().zip(&self.copy_of).map(place).collect()
    }
}

/// The direction in space along which u grows most within a triangle.
fn warp(mesh: &Mesh, corners: [u32; 3]) -> DVec3 {
    let [a, b, c] = corners.map(|v| mesh.positions[v as usize].as_dvec3());
    let Some([ua, ub, uc]) =
        (mesh.uvs.len() == mesh.positions.len()).then(|| corners.map(|v| f64::from(mesh.uvs[v as usize].x)))
    else {
        return b - a;
    };
    let (ab, ac) = (b - a, c - a);
    let normal = ab.cross(ac);
    // The gradient of a linear function over a triangle.
    let gradient = ((ub - ua) * ac - (uc - ua) * ab).cross(normal);
    if gradient.length_squared() > 0.0 { gradient.normalize() } else { ab }
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::primitive;
    use shot::{Pin, Shape, Side};

    fn sheet(copies: usize) -> Sheet {
        let mesh = Mesh::refined(&Shape::plane(2.0, 1.0), primitive::plane(2.0, 1.0), 0.1, 10_000).unwrap();
        Sheet::new(&mesh, copies)
    }

    #[test]
    fn warp_runs_along_u() {
        let mesh = Mesh::refined(&Shape::plane(2.0, 1.0), primitive::plane(2.0, 1.0), 0.5, 10_000).unwrap();
        for corners in &mesh.triangles {
            assert!((warp(&mesh, *corners) - DVec3::X).length() < 1e-6);
        }
    }

    #[test]
    fn areas_add_up_and_triangles_reach_across_inner_edges() {
        let sheet = sheet(1);
        assert!((sheet.areas.iter().sum::<f64>() - 2.0).abs() < 1e-5);
        // Edges of 20 × 10 squares, less those of the border, from both sides.
        let reaches: usize =
            sheet.bends.iter().map(|b| (3..6).filter(|&i| b.points[i] != b.points[i - 3]).count()).sum();
        assert_eq!(reaches, 2 * (20 * 11 + 10 * 21 + 200 - 60));
        assert_eq!(sheet.len(), 21 * 11);
    }

    #[test]
    fn sides_and_corners_are_pinned_of_every_copy() {
        let sheet = sheet(3);
        let pin = |part| Pin { part, holds: true };
        let pins = vec![pin(PinnedPart::Side(Side::Left)), pin(PinnedPart::Corners(Side::Front))];
        let pinned = sheet.pinned(&Cloth { pins, ..Cloth::default() });
        let [Some(side), Some(corners)] = &pinned[..] else { panic!() };
        assert_eq!((side.len(), corners.len()), (33, 6));
        assert!(side.iter().all(|&p| sheet.rest[p as usize].x == -1.0));
        assert!(corners.iter().all(|&p| sheet.rest[p as usize].z == 0.5));
        assert_eq!(sheet.topology.vertices(), 3 * 21 * 11);
        assert!(sheet.triangles.iter().all(|t| {
            let [a, b, c] = t.points.map(|p| sheet.copy_of[p as usize]);
            a == b && b == c
        }));
    }
}
