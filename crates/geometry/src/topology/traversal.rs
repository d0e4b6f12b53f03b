//! The order in which the vertices of a mesh are predicted from each other: a
//! vertex across an edge of a triangle is foreseen to complete a parallelogram
//! with it (C. Touma and C. Gotsman, *Triangle mesh compression*, 1998).

use super::Topology;
use super::neighbours::{NONE, neighbours};
use std::collections::VecDeque;

/// Vertices from which the next one in the order is predicted, as a + b − c.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Prediction {
    /// The vertex.
    pub vertex: u32,
    /// Two vertices of the shared edge, then the vertex across it; all earlier
    /// in the order. Where less is known they are equal; for the first vertex
    /// they are that vertex itself, and the prediction is zero.
    pub from: [u32; 3],
}

/// All vertices in an order in which each can be predicted from earlier ones.
#[derive(Debug)]
pub struct Traversal {
    /// The predictions, one a vertex.
    pub order: Vec<Prediction>,
}

impl Traversal {
    pub(super) fn new(topology: &Topology) -> Self {
        let mut walk = Walk::new(topology);
        for start in 0..topology.triangles.len() as u32 {
            walk.from(start);
        }
        for vertex in 0..topology.vertices as u32 {
            walk.first_near(vertex);
        }
        Self { order: walk.order }
    }
}

struct Walk<'a> {
    topology: &'a Topology,
    /// The triangle on the other side of each edge of each triangle; none at borders.
    across: Vec<[u32; 3]>,
    /// For each smoothing group its vertex that is placed already.
    placed: Vec<u32>,
    seen: Vec<bool>,
    taken: Vec<bool>,
    last: Option<u32>,
    order: Vec<Prediction>,
    /// Edges to go across: the triangle, and the number of its edge.
    waiting: VecDeque<(u32, usize)>,
}

impl<'a> Walk<'a> {
    fn new(topology: &'a Topology) -> Self {
        Self {
            topology,
            across: neighbours(&topology.triangles, topology.smooth_groups, |v| topology.smooth[v as usize]),
            placed: vec![NONE; topology.smooth_groups],
            seen: vec![false; topology.vertices],
            taken: vec![false; topology.triangles.len()],
            last: None,
            order: Vec::with_capacity(topology.vertices),
            waiting: VecDeque::new(),
        }
    }

    fn place(&mut self, vertex: u32, from: [u32; 3]) {
        let v = vertex as usize;
        if std::mem::replace(&mut self.seen[v], true) {
            return;
        }
        let group = self.topology.smooth[v] as usize;
        // A vertex that is split for its UV stands where its group does.
        let from = match self.placed[group] {
            NONE => from,
            same => [same; 3],
        };
        self.placed[group] = vertex;
        self.last = Some(vertex);
        self.order.push(Prediction { vertex, from });
    }

    /// Places a vertex of which nothing around is known.
    fn first_near(&mut self, vertex: u32) {
        let near = self.last.unwrap_or(vertex);
        self.place(vertex, [near; 3]);
    }

    fn from(&mut self, start: u32) {
        if self.taken[start as usize] {
            return;
        }
        let triangles = &self.topology.triangles;
        triangles[start as usize].iter().for_each(|&v| self.first_near(v));
        self.take(start);
        while let Some((triangle, edge)) = self.waiting.pop_front() {
            let next = self.across[triangle as usize][edge];
            if next == NONE || self.taken[next as usize] {
                continue;
            }
            let [a, b, c] = corners(&triangles[triangle as usize], edge);
            for &v in &triangles[next as usize] {
                self.place(v, [a, b, c]);
            }
            self.take(next);
        }
    }

    fn take(&mut self, triangle: u32) {
        self.taken[triangle as usize] = true;
        (0..3).for_each(|edge| self.waiting.push_back((triangle, edge)));
    }
}

/// The ends of an edge of a triangle, and the corner opposite.
fn corners(t: &[u32; 3], edge: usize) -> [u32; 3] {
    [t[edge], t[(edge + 1) % 3], t[(edge + 2) % 3]]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, primitive};
    use rstest::rstest;

    #[rstest]
    #[case(primitive::sphere(1.0, primitive::AROUND))]
    #[case(primitive::cuboid(glam::Vec3::ONE, 0.1))]
    #[case(Mesh { positions: vec![glam::Vec3::ZERO; 5], triangles: vec![[0, 2, 4]], ..Mesh::default() })]
    fn every_vertex_is_predicted_once_from_earlier_ones(#[case] mesh: Mesh) {
        let topology = Topology::of(&mesh);
        let order = &topology.traversal().order;
        assert_eq!(order.len(), mesh.positions.len());
        let mut seen = vec![false; order.len()];
        for (i, Prediction { vertex, from }) in order.iter().enumerate() {
            assert!(!std::mem::replace(&mut seen[*vertex as usize], true), "{vertex} again");
            if i == 0 {
                assert_eq!(*from, [*vertex; 3]);
            } else {
                assert!(from.iter().all(|&v| seen[v as usize] && v != *vertex), "{vertex} from {from:?}");
            }
        }
    }
}
