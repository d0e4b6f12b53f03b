//! Vertices at one point of a surface: meshes split vertices where UVs or normals jump.

use crate::DisjointSets;
use glam::Vec3;
use rayon::prelude::*;
use std::collections::HashMap;

/// The points of a surface, at each of which there are one or several vertices.
#[derive(Clone, Debug, Default)]
pub struct Weld {
    /// The point of each vertex. Vertices at the same coordinates are at one; points are
    /// numbered in the order in which they appear.
    pub point_of: Vec<u32>,
    /// The first vertex at each point.
    pub vertex_of: Vec<u32>,
}

impl Weld {
    /// Of the vertices of a mesh.
    pub fn new(positions: &[Vec3]) -> Self {
        let mut found: HashMap<[u32; 3], u32> = HashMap::with_capacity(positions.len());
        let mut vertex_of = Vec::new();
        let point = |(vertex, position): (usize, &Vec3)| {
            // −0 is 0.
            let key = (*position + Vec3::ZERO).to_array().map(f32::to_bits);
            *found.entry(key).or_insert_with(|| {
                vertex_of.push(vertex as u32);
                vertex_of.len() as u32 - 1
            })
        };
        let point_of = positions.iter().enumerate().map(point).collect();
        Self { point_of, vertex_of }
    }

    /// Number of points.
    pub fn len(&self) -> usize {
        self.vertex_of.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.vertex_of.is_empty()
    }

    /// Triangles by their points.
    pub fn faces(&self, triangles: &[[u32; 3]]) -> Vec<[u32; 3]> {
        triangles.iter().map(|t| t.map(|v| self.point_of[v as usize])).collect()
    }
}

/// Number of faces at each edge, whose lower point comes first.
pub fn faces_at_edges(faces: &[[u32; 3]]) -> HashMap<[u32; 2], u32> {
    let mut count = HashMap::with_capacity(2 * faces.len());
    for side in faces.iter().flat_map(sides) {
        *count.entry(side).or_default() += 1;
    }
    count
}

/// The edges of a face, the lower point of each first.
pub(crate) fn sides([a, b, c]: &[u32; 3]) -> impl Iterator<Item = [u32; 2]> {
    [[*a, *b], [*b, *c], [*c, *a]].into_iter().map(|[p, q]| [p.min(q), p.max(q)])
}

/// The sides of all faces, sorted by their edges, of which the lower point comes first; each with three times its face and the corner
/// that it begins at.
pub fn sides_by_edge(faces: &[[u32; 3]]) -> Vec<([u32; 2], u32)> {
    let mut all: Vec<([u32; 2], u32)> = faces.iter().flat_map(sides).zip(0..).collect();
    all.par_sort_unstable();
    all
}

/// The part of each face, as the number of the first face in it: edges of which `joins` is true join their faces. Edges are given
/// with the lower point first.
pub fn parts_by_edges(faces: &[[u32; 3]], joins: impl Fn(&[u32; 2]) -> bool) -> Vec<u32> {
    let mut sets = DisjointSets::new(faces.len());
    let mut beside: HashMap<[u32; 2], u32> = HashMap::new();
    for (face, corners) in (0..).zip(faces) {
        for side in sides(corners).filter(|side| joins(side)) {
            sets.join(face, *beside.entry(side).or_insert(face));
        }
    }
    sets.roots()
}

/// Numbers of groups, in the order in which the groups appear.
pub(crate) fn numbered(groups: &[u32]) -> Vec<u32> {
    const NONE: u32 = u32::MAX;
    let mut numbers = vec![NONE; groups.iter().max().map_or(0, |most| *most as usize + 1)];
    let mut next = 0;
    let of = |&group: &u32| {
        let number = &mut numbers[group as usize];
        if *number == NONE {
            *number = next;
            next += 1;
        }
        *number
    };
    groups.iter().map(of).collect()
}
