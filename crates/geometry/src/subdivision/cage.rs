//! The faces of one level: corners are vertices of the mesh, several of which may be at one
//! point of the surface, where a UV seam or a crease runs.

use super::{Creases, Scheme};
use crate::topology::{Attribute, AttributeValues, Domain, Topology};
use crate::weld::Weld;
use glam::Vec3;
use std::collections::{HashMap, HashSet};

/// No vertex or face.
pub(super) const NONE: u32 = u32::MAX;
/// Sharp on every level.
pub(super) const SHARP: f32 = f32::INFINITY;

/// Faces of three or four corners.
#[derive(Debug, Default)]
pub(super) struct Cage {
    /// Corners, counter-clockwise from outside; the fourth is [`NONE`] in a triangle.
    pub faces: Vec<[u32; 4]>,
    /// The point on the surface of each vertex.
    pub point_of: Vec<u32>,
    /// How many points there are.
    pub points: usize,
    /// The group of each vertex that shares a normal.
    pub groups: Vec<u32>,
    /// Edges that are sharp, by their two points, the lower first.
    pub sharp: HashMap<[u32; 2], f32>,
    /// Places of borders that stay where they are.
    pub corners: HashSet<u32>,
    /// At first: the vertex of the mesh that each comes from.
    pub origin: Vec<u32>,
    /// At first: the triangle of the mesh that each face begins with.
    pub faces_of_triangles: Vec<u32>,
}

pub(super) fn corners(face: &[u32; 4]) -> &[u32] {
    if face[3] == NONE { &face[..3] } else { face }
}

/// An edge by its points.
pub(super) fn key(a: u32, b: u32) -> [u32; 2] {
    [a.min(b), a.max(b)]
}

impl Cage {
    /// The cage of a mesh, and for each point of its surface a vertex that is there.
    pub fn new(
        mesh: &Topology,
        positions: &[Vec3],
        scheme: Scheme,
        levels: u32,
        creases: &Creases,
    ) -> Result<(Self, Vec<u32>), String> {
        let Weld { point_of, vertex_of } = Weld::new(positions);
        let (faces, firsts) = faces(mesh.triangles(), &point_of, scheme);
        let mut cage = Self {
            faces,
            points: vertex_of.len(),
            groups: point_of.clone(),
            origin: (0..point_of.len() as u32).collect(),
            point_of,
            faces_of_triangles: firsts,
            sharp: HashMap::new(),
            corners: HashSet::new(),
        };
        cage.find_corners(positions, &vertex_of);
        cage.crease(mesh, positions, levels, creases)?;
        if !cage.sharp.is_empty() {
            cage.split_at_creases();
        }
        Ok((cage, vertex_of))
    }

    /// Notes where borders turn by more than 60°: the corners of a sheet stay, however its
    /// faces are cut there.
    fn find_corners(&mut self, positions: &[Vec3], vertex_of: &[u32]) {
        let edges = Edges::new(self);
        for point in 0..self.points as u32 {
            let borders = edges.at(point).iter().filter(|edge| edges.list[**edge as usize].faces[1] == NONE);
            let at = |point: u32| positions[vertex_of[point as usize] as usize];
            let ways: Vec<Vec3> =
                borders.map(|&edge| (at(edges.other(edge, point)) - at(point)).normalize_or_zero()).collect();
            if let [a, b] = ways[..]
                && a.dot(-b) < 0.5
            {
                self.corners.insert(point);
            }
        }
    }

    /// Notes which edges stay sharp.
    fn crease(
        &mut self,
        mesh: &Topology,
        positions: &[Vec3],
        levels: u32,
        creases: &Creases,
    ) -> Result<(), String> {
        let find = |name: &String| {
            mesh.attribute(name).ok_or_else(|| format!("creases by {name}, which the mesh does not have"))
        };
        let group = creases.group.as_ref().map(find).transpose()?;
        let map = match creases.map.as_ref().map(find).transpose()? {
            None => None,
            Some(Attribute { domain: Domain::Vertex, values: AttributeValues::Scalars(values), .. }) => {
                Some(values)
            }
            Some(other) => return Err(format!("creases by {}, which is no number by vertex", other.name)),
        };
        if creases.angle_rad.is_none() && group.is_none() && map.is_none() {
            return Ok(());
        }
        let normal = |face: &[u32; 4]| {
            let [a, b, c] = [face[0], face[1], face[2]].map(|v| positions[v as usize]);
            let d = if face[3] == NONE { a } else { positions[face[3] as usize] };
            // Half the cross product of the diagonals is the area vector of a quad.
            if face[3] == NONE { (b - a).cross(c - a) } else { (c - a).cross(d - b) }.normalize_or_zero()
        };
        let normals: Vec<Vec3> = self.faces.iter().map(normal).collect();
        let member = |face: usize, vertices: [u32; 2]| -> [bool; 2] {
            match group {
                None => [false; 2],
                Some(attribute) => {
                    let at = |row: u32| match &attribute.values {
                        AttributeValues::Flags(values) => values[row as usize] > 0,
                        AttributeValues::Scalars(values) => values[row as usize] > 0.5,
                        _ => false,
                    };
                    match attribute.domain {
                        Domain::Face => [at(self.faces_of_triangles[face]); 2],
                        Domain::Vertex => vertices.map(at),
                    }
                }
            }
        };
        let edges = Edges::new(self);
        let mut sharp = HashMap::new();
        for edge in &edges.list {
            let [f, g] = edge.faces;
            if g == NONE {
                continue;
            }
            let mut sharpness = 0.0f32;
            if let Some(angle) = creases.angle_rad
                && normals[f as usize].dot(normals[g as usize]) < angle.cos() - 1e-6
            {
                sharpness = SHARP;
            }
            if let Some(attribute) = group {
                let [a, b] = [f, g].map(|face| member(face as usize, edge.vertices));
                let border = match attribute.domain {
                    Domain::Face => a[0] != b[0],
                    // The edges along which all vertices are members are its seam.
                    Domain::Vertex => a[0] && a[1],
                };
                if border {
                    sharpness = SHARP;
                }
            }
            if let Some(map) = map {
                let [a, b] = edge.vertices.map(|v| map[v as usize]);
                sharpness = sharpness.max(0.5 * (a + b).clamp(0.0, 2.0) * levels as f32);
            }
            if sharpness > 0.0 {
                sharp.insert(key(edge.points[0], edge.points[1]), sharpness);
            }
        }
        self.sharp = sharp;
        Ok(())
    }

    /// Gives the faces on both sides of edges that are sharp on every level vertices, and so
    /// normals, of their own.
    fn split_at_creases(&mut self) {
        // The corners around a point fall into fans that no hard edge divides.
        let mut fan: Vec<[u32; 4]> = self.faces.iter().map(|_| [NONE; 4]).collect();
        let edges = Edges::new(self);
        let mut next = 0;
        for face in 0..self.faces.len() {
            for corner in 0..corners(&self.faces[face]).len() {
                if fan[face][corner] != NONE {
                    continue;
                }
                let point = self.point_of[self.faces[face][corner] as usize];
                let mut left = vec![face as u32];
                while let Some(f) = left.pop() {
                    let of = self.faces[f as usize];
                    let all = corners(&of);
                    let Some(at) = all.iter().position(|&v| self.point_of[v as usize] == point) else {
                        continue;
                    };
                    if fan[f as usize][at] != NONE {
                        continue;
                    }
                    fan[f as usize][at] = next;
                    let n = all.len();
                    for k in [at, (at + n - 1) % n] {
                        let edge = &edges.list[edges.of_face[f as usize][k] as usize];
                        if edge.sharpness != SHARP {
                            left.extend(edge.faces.iter().filter(|other| **other != f));
                        }
                    }
                }
                next += 1;
            }
        }
        let mut made: HashMap<(u32, u32), u32> = HashMap::new();
        let (mut point_of, mut groups, mut origin) = (Vec::new(), Vec::new(), Vec::new());
        for (face, fans) in self.faces.iter_mut().zip(&fan) {
            for (corner, fan) in face.iter_mut().zip(fans).filter(|(corner, _)| **corner != NONE) {
                let vertex = *made.entry((*corner, *fan)).or_insert_with(|| {
                    point_of.push(self.point_of[*corner as usize]);
                    groups.push(*fan);
                    origin.push(self.origin[*corner as usize]);
                    point_of.len() as u32 - 1
                });
                *corner = vertex;
            }
        }
        (self.point_of, self.groups, self.origin) = (point_of, groups, origin);
    }

    pub fn triangles(&self) -> Vec<[u32; 3]> {
        let of = |face: &[u32; 4]| {
            let [a, b, c, d] = *face;
            std::iter::once([a, b, c]).chain((d != NONE).then_some([a, c, d]))
        };
        self.faces.iter().flat_map(of).collect()
    }

    /// The face of each triangle.
    pub fn rows_of_triangles(&self) -> Vec<u32> {
        let of = |(i, face): (usize, &[u32; 4])| {
            std::iter::repeat_n(i as u32, if face[3] == NONE { 1 } else { 2 })
        };
        self.faces.iter().enumerate().flat_map(of).collect()
    }
}

/// The faces of triangles, and the first triangle of each. For Catmull and Clark two
/// triangles in a row that share an edge are the quad that they were cut from. Triangles that
/// have two corners at one point are left out.
fn faces(triangles: &[[u32; 3]], point_of: &[u32], scheme: Scheme) -> (Vec<[u32; 4]>, Vec<u32>) {
    let flat = |t: &[u32; 3]| {
        let [a, b, c] = t.map(|v| point_of[v as usize]);
        a == b || b == c || c == a
    };
    let (mut faces, mut firsts) = (Vec::new(), Vec::new());
    let mut i = 0;
    while i < triangles.len() {
        let t = triangles[i];
        if flat(&t) {
            i += 1;
            continue;
        }
        firsts.push(i as u32);
        let second = triangles.get(i + 1).filter(|_| scheme == Scheme::CatmullClark);
        if let Some(quad) = second.and_then(|other| quad(&t, other))
            && !flat(&[quad[0], quad[1], quad[3]])
            && !flat(&[quad[1], quad[2], quad[3]])
        {
            faces.push(quad);
            i += 2;
        } else {
            faces.push([t[0], t[1], t[2], NONE]);
            i += 1;
        }
    }
    (faces, firsts)
}

/// The quad of two triangles that share an edge.
fn quad(t: &[u32; 3], other: &[u32; 3]) -> Option<[u32; 4]> {
    for k in 0..3 {
        // The edge from the third corner back to the first is the other one's the other way.
        let [a, b, c] = [t[k], t[(k + 1) % 3], t[(k + 2) % 3]];
        for j in 0..3 {
            if [other[j], other[(j + 1) % 3]] == [a, c] {
                return Some([a, b, c, other[(j + 2) % 3]]);
            }
        }
    }
    None
}

/// Attributes of a mesh on the vertices and faces of its cage.
pub(super) fn split(attributes: &mut [Attribute], origin: &[u32], faces: &[u32]) {
    for attribute in attributes {
        let rows = match attribute.domain {
            Domain::Vertex => origin,
            Domain::Face => faces,
        };
        attribute.values = super::picked(&attribute.values, rows);
    }
}

/// An edge of the surface.
#[derive(Clone, Copy, Debug)]
pub(super) struct Edge {
    /// Its ends, the lower first.
    pub points: [u32; 2],
    /// The faces on its two sides; the second is [`NONE`] at a border.
    pub faces: [u32; 2],
    /// The vertices of the first face at its ends.
    pub vertices: [u32; 2],
    /// How many levels it stays sharp.
    pub sharpness: f32,
}

/// The edges of a cage, and those of each face.
#[derive(Debug, Default)]
pub(super) struct Edges {
    pub list: Vec<Edge>,
    /// The edge after each corner of each face.
    pub of_face: Vec<[u32; 4]>,
    /// Where the edges of each point begin, in `at_points`.
    pub starts: Vec<u32>,
    /// The edges at each point.
    pub at_points: Vec<u32>,
}

impl Edges {
    pub fn new(cage: &Cage) -> Self {
        // Half edges in buckets by their lower end: those of one edge are in one.
        let mut counts = vec![0u32; cage.points + 1];
        let halves = |face: &[u32; 4]| {
            let all = corners(face);
            let n = all.len();
            let mut out = [[0u32; 2]; 4];
            for i in 0..n {
                let [a, b] = [all[i], all[(i + 1) % n]].map(|v| cage.point_of[v as usize]);
                out[i] = [a, b];
            }
            (out, n)
        };
        for face in &cage.faces {
            let (ends, n) = halves(face);
            ends[..n].iter().for_each(|[a, b]| counts[*a.min(b) as usize + 1] += 1);
        }
        for i in 1..counts.len() {
            counts[i] += counts[i - 1];
        }
        let mut next = counts.clone();
        let total = counts[cage.points] as usize;
        // The higher end, the face, and which of its edges.
        let mut buckets = vec![(0u32, 0u32, 0u8); total];
        for (f, face) in cage.faces.iter().enumerate() {
            let (ends, n) = halves(face);
            for (k, [a, b]) in ends[..n].iter().enumerate() {
                let low = *a.min(b) as usize;
                buckets[next[low] as usize] = (*a.max(b), f as u32, k as u8);
                next[low] += 1;
            }
        }
        let mut list: Vec<Edge> = Vec::with_capacity(total / 2 + 1);
        let mut of_face = vec![[NONE; 4]; cage.faces.len()];
        for low in 0..cage.points {
            let first = list.len();
            for &(high, face, k) in &buckets[counts[low] as usize..counts[low + 1] as usize] {
                let points = [low as u32, high];
                let found =
                    list[first..].iter().position(|edge| edge.points == points && edge.faces[1] == NONE);
                let at = match found {
                    Some(i) => {
                        list[first + i].faces[1] = face;
                        first + i
                    }
                    None => {
                        let all = corners(&cage.faces[face as usize]);
                        let [a, b] = [all[k as usize], all[(k as usize + 1) % all.len()]];
                        let vertices = if cage.point_of[a as usize] == low as u32 { [a, b] } else { [b, a] };
                        list.push(Edge { points, faces: [face, NONE], vertices, sharpness: 0.0 });
                        list.len() - 1
                    }
                };
                of_face[face as usize][k as usize] = at as u32;
            }
        }
        for edge in &mut list {
            edge.sharpness = if edge.faces[1] == NONE {
                SHARP
            } else if cage.sharp.is_empty() {
                0.0
            } else {
                cage.sharp.get(&edge.points).copied().unwrap_or(0.0)
            };
        }
        let mut starts = vec![0u32; cage.points + 1];
        list.iter().flat_map(|edge| edge.points).for_each(|point| starts[point as usize + 1] += 1);
        for i in 1..starts.len() {
            starts[i] += starts[i - 1];
        }
        let mut next = starts.clone();
        let mut at_points = vec![0u32; starts[cage.points] as usize];
        for (i, edge) in list.iter().enumerate() {
            for point in edge.points {
                at_points[next[point as usize] as usize] = i as u32;
                next[point as usize] += 1;
            }
        }
        Self { list, of_face, starts, at_points }
    }

    /// The edges at a point.
    pub fn at(&self, point: u32) -> &[u32] {
        &self.at_points[self.starts[point as usize] as usize..self.starts[point as usize + 1] as usize]
    }

    /// The other end of an edge.
    pub fn other(&self, edge: u32, point: u32) -> u32 {
        let [a, b] = self.list[edge as usize].points;
        if a == point { b } else { a }
    }

    /// How a point moves: the other ends of its two sharp edges, whether it stays, and how
    /// sharp it is.
    pub fn rule(&self, cage: &Cage, point: u32) -> Rule {
        let (mut ends, mut count, mut sum) = ([NONE; 2], 0, 0.0f32);
        let all = self.at(point);
        for &edge in all {
            let of = &self.list[edge as usize];
            if of.sharpness > 0.0 {
                if count < 2 {
                    ends[count] = self.other(edge, point);
                }
                count += 1;
                sum += of.sharpness;
            }
        }
        let mean = if count > 0 { sum / count as f32 } else { 0.0 };
        match count {
            // A vertex without a face has nothing to move by.
            0 if all.is_empty() => Rule::Stays(1.0),
            0 | 1 => Rule::Smooth,
            2 if !cage.corners.contains(&point) => Rule::Crease(ends, mean.min(1.0)),
            _ => Rule::Stays(mean.min(1.0)),
        }
    }
}

/// How a point of the surface moves.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Rule {
    Smooth,
    /// By the ends of its sharp edges, to the weight 0–1; the rest as if it were smooth.
    Crease([u32; 2], f32),
    /// Not at all, to the weight 0–1.
    Stays(f32),
}
