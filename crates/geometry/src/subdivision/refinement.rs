//! Vertices and sharp edges of the next level, as both schemes make them.

use super::cage::{Cage, Edges, NONE, SHARP, corners};
use std::collections::HashMap;

/// A refined cage, with what its vertices and faces come from.
pub(super) struct Refined {
    pub cage: Cage,
    /// For each vertex, the vertices of the cage before of which its attributes are the mean.
    pub vertices_from: Vec<[u32; 4]>,
    /// For each face, the face before.
    pub faces_from: Vec<u32>,
}

/// The vertices of the next level, as they are made: first those that are there already.
pub(super) struct Vertices {
    points: Vec<u32>,
    groups: Vec<u32>,
    from: Vec<[u32; 4]>,
    next_group: u32,
}

impl Vertices {
    /// Those of a cage, with room for so many.
    pub fn of(cage: &Cage, room: usize) -> Self {
        let count = cage.point_of.len();
        let (mut points, mut groups) = (Vec::with_capacity(room), Vec::with_capacity(room));
        let mut from = Vec::with_capacity(room);
        points.extend_from_slice(&cage.point_of);
        groups.extend_from_slice(&cage.groups);
        from.extend((0..count as u32).map(|i| [i; 4]));
        let next_group = cage.groups.iter().max().map_or(0, |most| most + 1);
        Self { points, groups, from, next_group }
    }

    /// Makes one at a point, in a group of its own if none is given.
    pub fn make(&mut self, point: usize, from: [u32; 4], group: Option<u32>) -> u32 {
        self.points.push(point as u32);
        self.from.push(from);
        self.groups.push(group.unwrap_or(self.next_group));
        self.next_group += u32::from(group.is_none());
        self.points.len() as u32 - 1
    }

    /// Makes those in the middle of edges: one, or one a side where the sides have vertices of
    /// their own.
    pub fn middles(&mut self, cage: &Cage, edges: &Edges) -> Middles {
        let mut list = Vec::with_capacity(edges.list.len());
        for (i, edge) in edges.list.iter().enumerate() {
            let point = cage.points + i;
            let of = |[a, b]: [u32; 2]| [a, a, b, b];
            let first = self.make(point, of(edge.vertices), None);
            let second = if edge.faces[1] == NONE {
                first
            } else {
                let all = corners(&cage.faces[edge.faces[1] as usize]);
                let at =
                    |end: u32| *all.iter().find(|&&v| cage.point_of[v as usize] == end).expect("its end");
                let ends = edge.points.map(at);
                // Both sides share a normal, unless the edge stays sharp.
                let group = (edge.sharpness != SHARP).then(|| self.groups[first as usize]);
                if ends == edge.vertices { first } else { self.make(point, of(ends), group) }
            };
            list.push([first, second]);
        }
        Middles(list)
    }

    /// The next level, of so many points.
    pub fn refined(
        self,
        cage: &Cage,
        edges: &Edges,
        points: usize,
        faces: Vec<[u32; 4]>,
        faces_from: Vec<u32>,
    ) -> Refined {
        let cage = Cage {
            faces,
            point_of: self.points,
            points,
            groups: self.groups,
            sharp: sharp(cage, edges),
            corners: cage.corners.clone(),
            ..Cage::default()
        };
        Refined { cage, vertices_from: self.from, faces_from }
    }
}

/// The vertices in the middle of edges.
pub(super) struct Middles(Vec<[u32; 2]>);

impl Middles {
    /// The one on the side of a face.
    pub fn of(&self, edge: u32, face: u32, edges: &Edges) -> u32 {
        let [first, second] = self.0[edge as usize];
        if edges.list[edge as usize].faces[0] == face { first } else { second }
    }
}

/// The sharp edges of the next level: halves of those that stay sharp.
fn sharp(cage: &Cage, edges: &Edges) -> HashMap<[u32; 2], f32> {
    let mut sharp = HashMap::new();
    for (i, edge) in edges.list.iter().enumerate() {
        // Borders are found again by their faces.
        if edge.faces[1] != NONE && edge.sharpness > 1.0 {
            for point in edge.points {
                sharp.insert([point, (cage.points + i) as u32], edge.sharpness - 1.0);
            }
        }
    }
    sharp
}
