//! Distance from the borders of an open mesh.

use super::MapSurface;
use crate::faces_at_edges;
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// A distance as a key that sorts as the distance does: it is not negative.
fn key(distance: f32) -> u32 {
    distance.to_bits()
}

impl MapSurface {
    /// Straight distance of each point from the border edge nearest to it along the mesh, up to `most`, m; infinite
    /// beyond that. The edge is handed from point to point in order of distance (J. Sethian, *A fast marching level set method
    /// for monotonically advancing fronts*, 1996, without solving between the points).
    pub(super) fn border_distances(&self, most: f32) -> Vec<f32> {
        let at_edges = faces_at_edges(&self.faces).into_iter();
        let mut border: Vec<[u32; 2]> =
            at_edges.filter(|(_, faces)| *faces == 1).map(|(edge, _)| edge).collect();
        border.sort_unstable();
        let distance = |point: u32, edge: u32| {
            let [a, b] = border[edge as usize].map(|p| self.points[p as usize]);
            let (p, along) = (self.points[point as usize], b - a);
            let s = ((p - a).dot(along) / along.length_squared().max(1e-30)).clamp(0.0, 1.0);
            p.distance(a + along * s)
        };
        let mut distances = vec![f32::INFINITY; self.points.len()];
        let mut front: BinaryHeap<Reverse<(u32, u32, u32)>> = BinaryHeap::new();
        for (edge, ends) in border.iter().enumerate() {
            ends.iter().for_each(|p| front.push(Reverse((key(0.0), *p, edge as u32))));
        }
        while let Some(Reverse((at, point, edge))) = front.pop() {
            let found = f32::from_bits(at);
            if found >= distances[point as usize] {
                continue;
            }
            distances[point as usize] = found;
            for &next in self.around(point as usize) {
                let further = distance(next, edge);
                if further <= most && further < distances[next as usize] {
                    front.push(Reverse((key(further), next, edge)));
                }
            }
        }
        distances
    }
}
