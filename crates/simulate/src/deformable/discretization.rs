//! What deforms, at rest: nodes, and the triangles and cells between them.

use super::bending::Bend;
use super::cell::Cell;
use super::embedding::Embedding;
use super::membrane::Triangle;
use geometry::Topology;
use glam::{DVec3, Vec3};
use shot::{Pin, PinnedPart};
use std::ops::Range;
use std::sync::Arc;

/// Nodes and what is between them: of one body, of the copies of an element, or of all elements.
#[derive(Clone, Debug, Default)]
pub(super) struct Discretization {
    /// Positions of the nodes at rest, in the element's frame, m.
    pub rest: Vec<DVec3>,
    /// For each node, the area, m², or volume, m³, around it.
    pub measures: Vec<f64>,
    /// The body of each node: each copy is one.
    pub body_of: Vec<u32>,
    pub triangles: Vec<Triangle>,
    /// For each triangle, how it bends.
    pub bends: Vec<Bend>,
    pub cells: Vec<Cell>,
    /// The points of the surface, which meets others.
    pub embedding: Embedding,
    /// Its triangles.
    pub faces: Vec<[u32; 3]>,
    /// Number of bodies.
    pub bodies: u32,
}

/// The part that one element has in all.
#[derive(Clone, Debug, Default)]
pub(super) struct Part {
    pub nodes: Range<usize>,
    pub points: Range<usize>,
    pub faces: Range<usize>,
    /// The first of its bodies.
    pub first_body: u32,
    /// Mean length of the edges of its triangles or cells, m.
    pub edge_m: f64,
    /// Whether its mesh is closed.
    pub closed: bool,
}

/// The mesh that is shown of an element.
#[derive(Clone, Debug)]
pub(super) struct ShownMesh {
    pub topology: Arc<Topology>,
    /// The point of each vertex.
    pub point_of: Vec<u32>,
}

impl ShownMesh {
    /// So many of it beside each other, each of so many points.
    pub fn times(self, copies: usize, points: usize) -> Self {
        if copies == 1 {
            return self;
        }
        let moved = |copy: usize| self.point_of.iter().map(move |p| p + (copy * points) as u32);
        Self {
            topology: Arc::new(Topology::joined(&vec![&*self.topology; copies])),
            point_of: (0..copies).flat_map(moved).collect(),
        }
    }
}

/// The runs of a range within which a key stays the same.
fn runs(range: Range<usize>, key: impl Fn(usize) -> u32) -> impl Iterator<Item = Range<usize>> {
    let mut start = range.start;
    std::iter::from_fn(move || {
        if start >= range.end {
            return None;
        }
        let end = (start..range.end).find(|i| key(*i) != key(start)).unwrap_or(range.end);
        Some(std::mem::replace(&mut start, end)..end)
    })
}

impl Discretization {
    /// Adds another beside what is there.
    pub fn append(&mut self, other: &Self) {
        let by = self.rest.len() as u32;
        let points = self.embedding.len() as u32;
        self.rest.extend_from_slice(&other.rest);
        self.measures.extend_from_slice(&other.measures);
        self.body_of.extend(other.body_of.iter().map(|body| body + self.bodies));
        let triangle = |t: &Triangle| Triangle { points: t.points.map(|p| p + by), ..*t };
        self.triangles.extend(other.triangles.iter().map(triangle));
        self.bends.extend(other.bends.iter().map(|bend| bend.moved(by)));
        self.cells.extend(other.cells.iter().map(|cell| cell.moved(by)));
        self.embedding.append(&other.embedding, by);
        self.faces.extend(other.faces.iter().map(|face| face.map(|p| p + points)));
        self.bodies += other.bodies;
    }

    /// A copy of it for each size, a multiple of its own, beside each other.
    pub fn copies(self, sizes: impl ExactSizeIterator<Item = f32>) -> Self {
        let (mut all, count) = (Self::default(), sizes.len());
        for size in sizes {
            match (size, count) {
                (1.0, 1) => return self,
                (1.0, _) => all.append(&self),
                _ => all.append(&self.scaled(f64::from(size))),
            }
        }
        all
    }

    /// The same body of another size.
    fn scaled(&self, by: f64) -> Self {
        let dimensions = if self.cells.is_empty() { 2 } else { 3 };
        Self {
            rest: self.rest.iter().map(|p| *p * by).collect(),
            measures: self.measures.iter().map(|measure| measure * by.powi(dimensions)).collect(),
            triangles: self.triangles.iter().map(|triangle| triangle.of_size(by)).collect(),
            bends: self.bends.iter().map(|bend| bend.of_size(by)).collect(),
            cells: self.cells.iter().map(|cell| cell.of_size(by)).collect(),
            ..self.clone()
        }
    }

    /// The body of a point.
    pub fn body_of_point(&self, point: u32) -> u32 {
        self.embedding.of(point).next().map_or(0, |(node, _)| self.body_of[node as usize])
    }

    /// Number of nodes.
    pub fn len(&self) -> usize {
        self.rest.len()
    }

    /// The nodes that pins may hold in one body, for each pin; none: those change, or it holds none. `edge_m` is the length of
    /// its edges.
    pub fn pinned(&self, pins: &[Pin], edge_m: f64) -> Vec<Option<Vec<u32>>> {
        let of = |pin: &Pin| match &pin.part {
            PinnedPart::Side(side) => Some(self.furthest(side.axis(), edge_m)),
            PinnedPart::Corners(side) => {
                let side = self.furthest(side.axis(), edge_m);
                Some(self.ends(&side, edge_m))
            }
            PinnedPart::Point { position_m, radius_m } => {
                Some(self.around(position_m.as_dvec3(), f64::from(*radius_m), edge_m))
            }
            PinnedPart::Whole {} => Some((0..self.len() as u32).collect()),
            PinnedPart::Region(_) | PinnedPart::Map(_) | PinnedPart::Centre {} => None,
        };
        pins.iter().map(of).collect()
    }

    /// The nodes within a radius of a place at rest, at least the nearest.
    fn around(&self, place: DVec3, radius_m: f64, edge_m: f64) -> Vec<u32> {
        let away = |p: &u32| self.rest[*p as usize].distance(place);
        let nearest = (0..self.len() as u32).map(|p| away(&p)).fold(f64::INFINITY, f64::min);
        let within = radius_m.max(nearest + 1e-6 * edge_m);
        (0..self.len() as u32).filter(|p| away(p) <= within).collect()
    }

    /// The nodes of each body of a part.
    pub fn nodes_by_body(&self, part: &Part) -> impl Iterator<Item = Range<usize>> {
        runs(part.nodes.clone(), |node| self.body_of[node])
    }

    /// The faces of each body of a part.
    pub fn faces_by_body(&self, part: &Part) -> impl Iterator<Item = Range<usize>> {
        runs(part.faces.clone(), |face| self.body_of_point(self.faces[face][0]))
    }

    /// The nodes that are furthest along an axis.
    fn furthest(&self, axis: Vec3, edge_m: f64) -> Vec<u32> {
        let along = |p: u32| self.rest[p as usize].dot(axis.as_dvec3());
        let all = || 0..self.len() as u32;
        let most = all().map(along).fold(f64::NEG_INFINITY, f64::max);
        let near = most - 0.01 * edge_m;
        all().filter(|p| along(*p) >= near).collect()
    }

    /// The two ends of a list along its longest side.
    fn ends(&self, side: &[u32], edge_m: f64) -> Vec<u32> {
        let at = |p: u32| self.rest[p as usize];
        let (low, high) = side.iter().fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |(low, high), &p| {
            (low.min(at(p)), high.max(at(p)))
        });
        let axis = (high - low).max_position();
        let near = 0.01 * edge_m;
        let end = |p: &u32| at(*p)[axis] <= low[axis] + near || at(*p)[axis] >= high[axis] - near;
        side.iter().copied().filter(end).collect()
    }

    /// Positions of the nodes when all stand at rest, by the poses of the bodies.
    pub fn placed(&self, poses: &[shot::world::Pose]) -> Vec<DVec3> {
        let place = |(rest, body): (&DVec3, &u32)| {
            let (position, orientation) = poses[(*body as usize).min(poses.len() - 1)];
            position.as_dvec3() + (orientation * rest.as_vec3()).as_dvec3()
        };
        self.rest.iter().zip(&self.body_of).map(place).collect()
    }
}
