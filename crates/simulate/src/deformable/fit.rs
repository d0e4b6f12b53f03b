//! The nodes that carry given points: what a soft body starts with when a frame has its surface only.

use super::discretization::Discretization;
use glam::{DMat4, DVec3, DVec4};

/// Weight of the smoothness of the correction against the points.
const SMOOTHNESS: f64 = 1e-3;
/// Most iterations of conjugate gradients, and the part of the first residual at which they end.
const MAX_ITERATIONS: u32 = 400;
const ENOUGH: f64 = 1e-6;

/// Vectors at the nodes whose sums at the points are about `points`: those of the affine map of each body that is nearest to
/// the points, and a smooth correction, by least squares.
pub(super) fn nodes_from_points(discretization: &Discretization, points: &[DVec3]) -> Vec<DVec3> {
    let embedding = &discretization.embedding;
    let at_rest = embedding.all(&discretization.rest);
    // The normal equations of each body's affine map.
    let mut sums = vec![(DMat4::ZERO, [DVec4::ZERO; 3]); discretization.bodies as usize];
    for (point, (rest, to)) in (0..).zip(at_rest.iter().zip(points)) {
        let (moments, sides) = &mut sums[discretization.body_of_point(point) as usize];
        let one = rest.extend(1.0);
        *moments += DMat4::from_cols(one * one.x, one * one.y, one * one.z, one * one.w);
        (0..3).for_each(|axis| sides[axis] += one * to[axis]);
    }
    let maps: Vec<[DVec4; 3]> = (sums.iter())
        .map(|(moments, sides)| {
            let inverse = (*moments + DMat4::IDENTITY * 1e-9).inverse();
            sides.map(|side| inverse * side)
        })
        .collect();
    let mut nodes: Vec<DVec3> = (discretization.rest.iter().zip(&discretization.body_of))
        .map(|(rest, body)| DVec3::from_array(maps[*body as usize].map(|row| row.dot(rest.extend(1.0)))))
        .collect();

    let off: Vec<DVec3> =
        points.iter().zip(embedding.all(&nodes)).map(|(wanted, found)| *wanted - found).collect();
    let mut residual = to_nodes(discretization, &off);
    let mut correction = vec![DVec3::ZERO; nodes.len()];
    let mut direction = residual.clone();
    let mut norm = dot(&residual, &residual);
    let enough = ENOUGH * ENOUGH * norm;
    for _ in 0..MAX_ITERATIONS {
        if norm <= enough {
            break;
        }
        let image = normal_product(discretization, &direction);
        let curvature = dot(&direction, &image);
        if curvature <= 0.0 {
            break;
        }
        let length = norm / curvature;
        for i in 0..nodes.len() {
            correction[i] += direction[i] * length;
            residual[i] -= image[i] * length;
        }
        let next = dot(&residual, &residual);
        for (direction, residual) in direction.iter_mut().zip(&residual) {
            *direction = *residual + *direction * (next / norm);
        }
        norm = next;
    }
    nodes.iter_mut().zip(correction).for_each(|(node, by)| *node += by);
    nodes
}

/// The transposed sums: what the points give to the nodes. Of a sheet, whose points are its nodes, the points themselves.
pub(super) fn to_nodes(discretization: &Discretization, points: &[DVec3]) -> Vec<DVec3> {
    let mut nodes = vec![DVec3::ZERO; discretization.len()];
    for (point, value) in (0..).zip(points) {
        discretization.embedding.of(point).for_each(|(node, weight)| nodes[node as usize] += *value * weight);
    }
    nodes
}

/// The matrix of the least squares times a vector: the points' part, and the differences along the edges of the cells.
fn normal_product(discretization: &Discretization, x: &[DVec3]) -> Vec<DVec3> {
    let mut image = to_nodes(discretization, &discretization.embedding.all(x));
    for cell in &discretization.cells {
        for corner in 0..8usize {
            for bit in [1, 2, 4].into_iter().filter(|bit| corner & bit == 0) {
                let (a, b) = (cell.nodes[corner] as usize, cell.nodes[corner | bit] as usize);
                let pull = (x[a] - x[b]) * SMOOTHNESS;
                image[a] += pull;
                image[b] -= pull;
            }
        }
    }
    image
}

fn dot(a: &[DVec3], b: &[DVec3]) -> f64 {
    a.iter().zip(b).map(|(a, b)| a.dot(*b)).sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deformable::lattice::lattice;
    use geometry::primitive;

    #[test]
    fn the_nodes_of_a_bent_and_moved_body_carry_its_surface() {
        let (discretization, _, _) = lattice(&primitive::sphere(0.3, 32), 0.08).unwrap();
        let discretization = discretization.copies([1.0; 2].into_iter());
        let bent = |(p, body): (&DVec3, &u32)| {
            let p = *p + DVec3::X * f64::from(*body);
            DVec3::new(p.y + 0.4 * p.x * p.x, -1.1 * p.x, p.z + 0.2 * p.x * p.y) + DVec3::new(40.0, 2.0, -3.0)
        };
        let wanted: Vec<DVec3> = discretization.rest.iter().zip(&discretization.body_of).map(bent).collect();
        let points = discretization.embedding.all(&wanted);
        let found = nodes_from_points(&discretization, &points);
        let off = |a: &[DVec3], b: &[DVec3]| a.iter().zip(b).map(|(a, b)| a.distance(*b)).fold(0.0, f64::max);
        let surface = off(&discretization.embedding.all(&found), &points);
        assert!(surface < 1e-3, "{surface}");
        let inside = off(&found, &wanted);
        assert!(inside < 0.02, "{inside}");
    }
}
