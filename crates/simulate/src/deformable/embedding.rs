//! How the points of surfaces follow the nodes that are solved for: a point of a sheet is a node, a point of a soft
//! body's skin is a weighted sum of the corners of its cell.

use glam::DVec3;

/// For each point of the surfaces, its nodes and their weights, which sum to 1.
#[derive(Clone, Debug)]
pub(super) struct Embedding {
    starts: Vec<u32>,
    nodes: Vec<u32>,
    weights: Vec<f64>,
}

impl Default for Embedding {
    fn default() -> Self {
        Self { starts: vec![0], nodes: Vec::new(), weights: Vec::new() }
    }
}

impl Embedding {
    /// Each point is the node of its number.
    pub fn identity(count: usize) -> Self {
        let mut all = Self::default();
        (0..count as u32).for_each(|node| all.push([(node, 1.0)]));
        all
    }

    /// Adds a point.
    pub fn push(&mut self, of: impl IntoIterator<Item = (u32, f64)>) {
        for (node, weight) in of {
            self.nodes.push(node);
            self.weights.push(weight);
        }
        self.starts.push(self.nodes.len() as u32);
    }

    /// Adds the points of another, whose nodes are numbered from `by` on.
    pub fn append(&mut self, other: &Self, by: u32) {
        for point in 0..other.len() as u32 {
            self.push(other.of(point).map(|(node, weight)| (node + by, weight)));
        }
    }

    /// Number of points.
    pub fn len(&self) -> usize {
        self.starts.len() - 1
    }

    fn range(&self, point: u32) -> std::ops::Range<usize> {
        self.starts[point as usize] as usize..self.starts[point as usize + 1] as usize
    }

    /// The nodes of a point, and their weights.
    pub fn of(&self, point: u32) -> impl Iterator<Item = (u32, f64)> {
        let range = self.range(point);
        self.nodes[range.clone()].iter().copied().zip(self.weights[range].iter().copied())
    }

    /// The node that a point is; none: it is a sum of several.
    #[inline]
    pub fn node(&self, point: u32) -> Option<u32> {
        let range = self.range(point);
        (range.len() == 1).then(|| self.nodes[range.start])
    }

    /// The sum of what the nodes have.
    #[inline]
    pub fn at(&self, point: u32, x: &[DVec3]) -> DVec3 {
        match self.node(point) {
            Some(node) => x[node as usize],
            None => self.of(point).fold(DVec3::ZERO, |sum, (node, weight)| sum + x[node as usize] * weight),
        }
    }

    /// The sums of all points.
    pub fn all(&self, x: &[DVec3]) -> Vec<DVec3> {
        use rayon::prelude::*;
        (0..self.len() as u32).into_par_iter().with_min_len(512).map(|point| self.at(point, x)).collect()
    }

    /// The points of which a node is marked.
    pub fn any(&self, marked: &[bool]) -> Vec<bool> {
        (0..self.len() as u32).map(|point| self.of(point).any(|(node, _)| marked[node as usize])).collect()
    }

    /// Whether a point cannot be moved.
    #[inline]
    pub fn is_held(&self, point: u32, held: &[bool]) -> bool {
        match self.node(point) {
            Some(node) => held[node as usize],
            None => self.of(point).all(|(node, _)| held[node as usize]),
        }
    }

    /// Whether two lists of points are carried by a common node.
    pub fn share_nodes(&self, first: &[u32], second: &[u32]) -> bool {
        let embedded = |points: &[u32]| points.iter().any(|point| self.node(*point).is_none());
        let nodes = |point: &u32| self.of(*point).map(|(node, _)| node);
        (embedded(first) || embedded(second))
            && first.iter().flat_map(nodes).any(|node| second.iter().flat_map(nodes).any(|of| of == node))
    }

    /// Moves the free nodes of a point so that the point moves by `by`, with the least sum of squares; calls `moved` with each.
    #[inline]
    pub fn move_point(
        &self,
        point: u32,
        by: DVec3,
        held: &[bool],
        x: &mut [DVec3],
        mut moved: impl FnMut(u32),
    ) {
        if let Some(node) = self.node(point) {
            if !held[node as usize] {
                x[node as usize] += by;
                moved(node);
            }
            return;
        }
        let free = || self.of(point).filter(|(node, _)| !held[*node as usize]);
        let squares: f64 = free().map(|(_, weight)| weight * weight).sum();
        if squares > 1e-6 {
            for (node, weight) in free() {
                x[node as usize] += by * (weight / squares);
                moved(node);
            }
        }
    }

    /// For each point, the sum over its nodes of `values` in proportion to its part in all points of the node: of masses,
    /// those of the points.
    pub fn shared_out(&self, values: &[f64]) -> Vec<f64> {
        // Each point is a node.
        if self.nodes.len() == self.len() {
            return self.nodes.iter().map(|node| values[*node as usize]).collect();
        }
        let mut wholes = vec![0.0; values.len()];
        for (node, weight) in self.nodes.iter().zip(&self.weights) {
            wholes[*node as usize] += weight;
        }
        let part = |(node, weight): (u32, f64)| values[node as usize] * weight / wholes[node as usize];
        (0..self.len() as u32).map(|point| self.of(point).map(part).sum()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn embedding() -> Embedding {
        let mut all = Embedding::identity(2);
        all.push([(1, 0.25), (2, 0.75)]);
        all
    }

    #[test]
    fn a_point_moves_as_it_is_told_and_held_nodes_stay() {
        let all = embedding();
        let mut x = vec![DVec3::ZERO, DVec3::X, DVec3::Y];
        let before = all.at(2, &x);
        assert_eq!(before, DVec3::new(0.25, 0.75, 0.0));
        let held = [false, true, false];
        all.move_point(2, DVec3::Z, &held, &mut x, |_| ());
        assert!((all.at(2, &x) - before - DVec3::Z).length() < 1e-12);
        assert_eq!(x[1], DVec3::X);
        assert!(!all.is_held(2, &held) && all.is_held(1, &held));
    }

    #[test]
    fn points_in_one_cell_share_nodes() {
        let all = embedding();
        assert!(all.share_nodes(&[2], &[0, 1]) && !all.share_nodes(&[2], &[0]));
        assert!(!all.share_nodes(&[0], &[1]));
    }

    #[test]
    fn masses_of_nodes_are_shared_out_whole() {
        let shared = embedding().shared_out(&[2.0, 3.0, 5.0]);
        assert!((shared.iter().sum::<f64>() - 10.0).abs() < 1e-12);
        assert_eq!(shared[0], 2.0);
    }
}
