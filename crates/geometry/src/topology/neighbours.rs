//! The triangles beside each other.

/// No triangle, or no vertex.
pub(super) const NONE: u32 = u32::MAX;

/// The triangle on the other side of each edge of each triangle; [`NONE`] at borders. `point` gives the point, of so many, at which a
/// vertex lies. Of more than two triangles at an edge the first two lie beside each other, and so on.
pub(super) fn neighbours(triangles: &[[u32; 3]], points: usize, point: impl Fn(u32) -> u32) -> Vec<[u32; 3]> {
    let ends = |t: &[u32; 3], edge: usize| {
        let [a, b] = [t[edge], t[(edge + 1) % 3]].map(&point);
        (a.min(b) as usize, a.max(b))
    };
    // The edges sorted by their lower ends, in the order of the triangles.
    let mut starts = vec![0u32; points + 1];
    for t in triangles {
        (0..3).for_each(|edge| starts[ends(t, edge).0 + 1] += 1);
    }
    (0..points).for_each(|i| starts[i + 1] += starts[i]);
    let mut next = starts.clone();
    let mut edges = vec![(0u32, 0u32); 3 * triangles.len()];
    for (i, t) in triangles.iter().enumerate() {
        for edge in 0..3 {
            let (low, high) = ends(t, edge);
            edges[next[low] as usize] = (high, 3 * i as u32 + edge as u32);
            next[low] += 1;
        }
    }
    let mut across = vec![[NONE; 3]; triangles.len()];
    let mut join = |[a, b]: [u32; 2]| {
        across[a as usize / 3][a as usize % 3] = b / 3;
        across[b as usize / 3][b as usize % 3] = a / 3;
    };
    for range in starts.windows(2) {
        let of_point = &mut edges[range[0] as usize..range[1] as usize];
        of_point.sort_unstable();
        for same in of_point.chunk_by(|a, b| a.0 == b.0) {
            same.chunks_exact(2).for_each(|pair| join([pair[0].1, pair[1].1]));
        }
    }
    across
}
