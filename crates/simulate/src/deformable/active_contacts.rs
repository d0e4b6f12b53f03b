//! The springs of all contacts of a Newton round, as the linear system sees them.

use super::blocks::{CHUNK, scalar};
use super::embedding::Embedding;
use glam::{DVec3, Mat3A, Vec3A};
use rayon::prelude::*;

/// A spring between weighted sums of points of surfaces.
#[derive(Clone, Copy, Debug)]
pub(super) struct Spring {
    /// The points, of which those without a weight do not count, and their weights.
    pub points: [u32; 4],
    pub weights: [f32; 4],
    pub normal: Vec3A,
    /// Second derivatives along the normal and across it, N/m.
    pub along: f32,
    pub across: f32,
    /// Its force, N.
    pub force: DVec3,
}

/// A spring between nodes.
#[derive(Clone, Copy, Debug)]
pub(super) struct ActiveContact {
    normal: Vec3A,
    along: f32,
    across: f32,
    force: DVec3,
    /// Sum of the sizes of its weights.
    size: f32,
}

/// All springs of a round, and which of them each node belongs to.
#[derive(Clone, Default)]
pub(super) struct ActiveContacts {
    pub list: Vec<ActiveContact>,
    /// The nodes of each spring, and their weights.
    starts: Vec<u32>,
    nodes: Vec<u32>,
    weights: Vec<f32>,
    /// For each node, its springs and its weights in them.
    starts_of_nodes: Vec<u32>,
    of_nodes: Vec<(u32, f32)>,
}

impl ActiveContacts {
    /// Of springs between points that follow so many nodes.
    pub fn new(springs: &[Spring], embedding: &Embedding, nodes: usize) -> Self {
        if springs.is_empty() {
            return Self::default();
        }
        let mut all = Self { starts: vec![0], ..Self::default() };
        all.list.reserve(springs.len());
        let mut entries: Vec<(u32, f32)> = Vec::new();
        for spring in springs {
            entries.clear();
            for (&point, &weight) in spring.points.iter().zip(&spring.weights).filter(|(_, w)| **w != 0.0) {
                entries.extend(embedding.of(point).map(|(node, of)| (node, weight * of as f32)));
            }
            // Points in one cell share nodes.
            if entries.len() > spring.weights.iter().filter(|weight| **weight != 0.0).count() {
                entries.sort_unstable_by_key(|(node, _)| *node);
                entries.dedup_by(|later, kept| {
                    let same = later.0 == kept.0;
                    kept.1 += if same { later.1 } else { 0.0 };
                    same
                });
            }
            all.nodes.extend(entries.iter().map(|(node, _)| node));
            all.weights.extend(entries.iter().map(|(_, weight)| weight));
            all.starts.push(all.nodes.len() as u32);
            let Spring { normal, along, across, force, .. } = *spring;
            let size = entries.iter().map(|(_, weight)| weight.abs()).sum();
            all.list.push(ActiveContact { normal, along, across, force, size });
        }
        let mut starts = vec![0u32; nodes + 1];
        all.nodes.iter().for_each(|node| starts[*node as usize + 1] += 1);
        (0..nodes).for_each(|i| starts[i + 1] += starts[i]);
        let mut next = starts.clone();
        all.of_nodes.resize(all.nodes.len(), (0, 0.0));
        for spring in 0..all.list.len() {
            for entry in all.entries(spring) {
                let place = &mut next[all.nodes[entry] as usize];
                all.of_nodes[*place as usize] = (spring as u32, all.weights[entry]);
                *place += 1;
            }
        }
        all.starts_of_nodes = starts;
        all
    }

    fn entries(&self, spring: usize) -> std::ops::Range<usize> {
        self.starts[spring] as usize..self.starts[spring + 1] as usize
    }

    fn of(&self, node: usize) -> &[(u32, f32)] {
        match self.list.is_empty() {
            true => &[],
            false => {
                &self.of_nodes[self.starts_of_nodes[node] as usize..self.starts_of_nodes[node + 1] as usize]
            }
        }
    }

    /// What they add to the gradient at a node.
    pub fn gradient(&self, node: usize) -> DVec3 {
        let each = self.of(node).iter();
        each.fold(DVec3::ZERO, |sum, (of, weight)| sum - self.list[*of as usize].force * f64::from(*weight))
    }

    /// Blocks on the diagonal that bound their matrix: with |wᵢ| Σ |wⱼ| in place of wᵢ² the smoother converges however many
    /// nodes a spring has (A. Baker, R. Falgout, T. Kolev and U. Yang, *Multigrid smoothers for ultraparallel computing*,
    /// 2011).
    pub fn diagonal(&self, node: usize) -> Mat3A {
        self.of(node).iter().fold(Mat3A::ZERO, |sum, (of, weight)| {
            let spring = &self.list[*of as usize];
            let n = spring.normal;
            let outer = Mat3A::from_cols(n * n.x, n * n.y, n * n.z);
            sum + (outer * (spring.along - spring.across) + scalar(spring.across))
                * (weight.abs() * spring.size)
        })
    }

    /// The matrix of each spring times `x`, into `forces`.
    pub fn multiply(&self, x: &[Vec3A], forces: &mut Vec<Vec3A>) {
        let of = |(i, spring): (usize, &ActiveContact)| {
            let entries = self.entries(i);
            let each = self.nodes[entries.clone()].iter().zip(&self.weights[entries]);
            let sum = each.fold(Vec3A::ZERO, |sum, (node, weight)| sum + x[*node as usize] * *weight);
            spring.normal * (spring.normal.dot(sum) * (spring.along - spring.across)) + sum * spring.across
        };
        self.list.par_iter().enumerate().with_min_len(CHUNK).map(of).collect_into_vec(forces);
    }

    /// What those forces come to at a node.
    #[inline]
    pub fn sum(&self, node: usize, forces: &[Vec3A]) -> Vec3A {
        let each = self.of(node).iter();
        each.fold(Vec3A::ZERO, |sum, (of, weight)| sum + forces[*of as usize] * *weight)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn spring(points: [u32; 4], weights: [f32; 4]) -> Spring {
        let normal = Vec3A::new(0.6, 0.8, 0.0);
        Spring { points, weights, normal, along: 9.0, across: 2.0, force: DVec3::new(0.3, -1.0, 0.5) }
    }

    /// Three nodes, which are points too, and a point between them.
    fn contacts() -> ActiveContacts {
        let mut embedding = Embedding::identity(3);
        embedding.push([(0, 0.2), (1, 0.3), (2, 0.5)]);
        let springs =
            [spring([3, 0, 0, 0], [1.0, -1.0, 0.0, 0.0]), spring([0, 1, 2, 0], [1.0, -0.5, -0.5, 0.0])];
        ActiveContacts::new(&springs, &embedding, 3)
    }

    #[test]
    fn nodes_that_two_points_share_are_counted_once() {
        let all = contacts();
        assert_eq!((all.list.len(), all.nodes.len()), (2, 6));
        let sum = (0..3).fold(DVec3::ZERO, |sum, node| sum + all.gradient(node));
        assert!(sum.length() < 1e-6, "forces are even: {sum}");
    }

    #[test]
    fn the_blocks_on_the_diagonal_bound_the_product() {
        let all = contacts();
        let mut forces = Vec::new();
        let number = |i: u32| (i.wrapping_mul(0x9E37_79B9) >> 8 & 0xFFFF) as f32 / 65_536.0 - 0.5;
        for seed in 0..200 {
            let of = |node: u32| 9 * seed + 3 * node;
            let x: Vec<Vec3A> = (0..3)
                .map(|node| Vec3A::new(number(of(node)), number(of(node) + 1), number(of(node) + 2)))
                .collect();
            all.multiply(&x, &mut forces);
            let (mut product, mut bound) = (0.0, 0.0);
            for node in 0..3 {
                product += x[node].dot(all.sum(node, &forces));
                bound += x[node].dot(all.diagonal(node) * x[node]);
            }
            assert!(product > -1e-5 && product <= bound + 1e-5, "{product} of {bound}");
        }
    }
}
