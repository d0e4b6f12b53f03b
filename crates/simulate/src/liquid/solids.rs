//! Solids in the grid: which fraction of each face they leave open, and how fast they move there.

use geometry::tiles::{CELLS, SIDE, Tiles, local};
use glam::{IVec3, Vec3};
use rayon::prelude::*;

/// What liquid meets.
pub trait Boundary: Sync {
    /// Signed distance of a place from the nearest solid, m, exact within `within`; negative inside.
    fn distance(&self, place: Vec3, within: f32) -> f32;
    /// Velocity of the nearest solid there, m/s.
    fn velocity(&self, place: Vec3) -> Vec3;
    /// Whether there is a solid in a box.
    fn any_in(&self, min: Vec3, max: Vec3) -> bool;
}

/// Nodes along each side of a tile.
const NODES: i32 = SIDE + 1;

/// The fractions of the lower faces of all cells that are open, 0–1, and the velocity of the solid there along the axis, m/s.
pub(super) struct OpenFaces {
    pub open: [Vec<f32>; 3],
    pub velocities: [Vec<f32>; 3],
}

/// Finds them.
pub(super) fn open_faces(tiles: &Tiles, boundary: &impl Boundary) -> OpenFaces {
    let of_tile = |tile: usize| {
        let corner = tiles.corner(tile);
        let place = |node: IVec3| (corner + node).as_vec3() * tiles.cell_m;
        let (min, max) = (place(IVec3::ZERO), place(IVec3::splat(SIDE)));
        let mut open: [Vec<f32>; 3] = std::array::from_fn(|_| vec![1.0; CELLS]);
        let mut velocities: [Vec<f32>; 3] = std::array::from_fn(|_| vec![0.0; CELLS]);
        if !boundary.any_in(min - tiles.cell_m, max + tiles.cell_m) {
            return (open, velocities);
        }
        let within = 2.0 * tiles.cell_m;
        let node = |i: i32| IVec3::new(i % NODES, i / NODES % NODES, i / (NODES * NODES));
        let distances: Vec<f32> =
            (0..NODES * NODES * NODES).map(|i| boundary.distance(place(node(i)), within)).collect();
        let at = |node: IVec3| distances[((node.z * NODES + node.y) * NODES + node.x) as usize];
        for cell in 0..CELLS {
            let low = local(cell);
            for axis in 0..3 {
                let (b, c) = (IVec3::AXES[(axis + 1) % 3], IVec3::AXES[(axis + 2) % 3]);
                let corners = [low, low + b, low + b + c, low + c].map(at);
                open[axis][cell] = open_fraction(corners);
                if open[axis][cell] < 1.0 {
                    let middle = low.as_vec3() + 0.5 * (b + c).as_vec3();
                    let middle = (corner.as_vec3() + middle) * tiles.cell_m;
                    velocities[axis][cell] = boundary.velocity(middle)[axis];
                }
            }
        }
        (open, velocities)
    };
    let all: Vec<_> = (0..tiles.len()).into_par_iter().map(of_tile).collect();
    let mut faces = OpenFaces { open: Default::default(), velocities: Default::default() };
    for (open, velocities) in &all {
        for axis in 0..3 {
            faces.open[axis].extend_from_slice(&open[axis]);
            faces.velocities[axis].extend_from_slice(&velocities[axis]);
        }
    }
    faces
}

/// The fraction of a square where a function is above zero, from its values at the corners in turn: the mean of both ways to cut
/// the square into triangles.
fn open_fraction(corners: [f32; 4]) -> f32 {
    let [a, b, c, d] = corners;
    // A face that lies in a wall's surface is closed.
    if corners.iter().all(|value| *value <= 0.0) {
        return 0.0;
    }
    let triangle = |a: f32, b: f32, c: f32| {
        // The corner that differs from the others cuts off a part.
        let cut = |p: f32, q: f32, r: f32| p * p / ((p - q) * (p - r));
        match (a > 0.0, b > 0.0, c > 0.0) {
            (true, true, true) => 1.0,
            (false, false, false) => 0.0,
            (true, false, false) => cut(a, b, c),
            (false, true, false) => cut(b, c, a),
            (false, false, true) => cut(c, a, b),
            (false, true, true) => 1.0 - cut(a, b, c),
            (true, false, true) => 1.0 - cut(b, c, a),
            (true, true, false) => 1.0 - cut(c, a, b),
        }
    };
    0.25 * (triangle(a, b, c) + triangle(a, c, d) + triangle(a, b, d) + triangle(b, c, d))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_open_part_of_a_square_is_that_beside_a_line() {
        assert_eq!(open_fraction([1.0; 4]), 1.0);
        assert_eq!(open_fraction([-1.0; 4]), 0.0);
        assert_eq!((open_fraction([0.0; 4]), open_fraction([0.0, 1.0, 1.0, 0.0])), (0.0, 1.0));
        assert!((open_fraction([-0.25, 0.75, 0.75, -0.25]) - 0.75).abs() < 1e-6);
        // A corner of a half by a half is cut off.
        assert!((open_fraction([-0.5, 0.5, 1.5, 0.5]) - 0.875).abs() < 0.05);
    }
}
