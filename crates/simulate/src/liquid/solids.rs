//! Solids in the grid: which fraction of each face they leave open, and how fast they move there.

use geometry::tiles::{CELLS, SIDE, Tiles, local};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;

/// What liquid meets.
pub trait Boundary: Sync {
    /// Signed distance of a place from the nearest solid, m, exact within `within`; negative inside.
    fn distance(&self, place: Vec3, within: f32) -> f32;
    /// Velocity of the nearest solid there, m/s.
    fn velocity(&self, place: Vec3) -> Vec3;
    /// Which solids there are in a box.
    fn any_in(&self, min: Vec3, max: Vec3) -> Presence;
    /// Whether a solid that is thinner than their distance lies between two places outside all solids.
    fn parts(&self, _: Vec3, _: Vec3) -> bool {
        false
    }
    /// Number of times that still solids have changed.
    fn version(&self) -> u64 {
        0
    }
}

/// Which solids there are in a box.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Presence {
    /// None.
    None,
    /// Still ones only.
    Still,
    /// Ones that move.
    Moving,
}

/// The open fractions of the faces of tiles that only still solids reach, from one step to the next. No state: what is not there is
/// computed again, to the same bytes.
#[derive(Default)]
pub struct StillFaces {
    version: u64,
    cell_m: f32,
    tiles: HashMap<IVec3, Arc<TileFaces>>,
}

/// Most tiles that are kept.
const KEPT: usize = 8_192;

impl StillFaces {
    fn prepare(&mut self, version: u64, cell_m: f32) {
        if (version, cell_m) != (self.version, self.cell_m) || self.tiles.len() > KEPT {
            *self = Self { version, cell_m, tiles: HashMap::new() };
        }
    }
}

/// The open fractions of the lower faces of a tile's cells, 0–1, the velocities of the solid there, and the open fractions of the
/// cells.
struct TileFaces {
    open: [Vec<f32>; 3],
    velocities: [Vec<f32>; 3],
    volume: Vec<f32>,
}

/// Solids are thicker by so much, in cells, so that a face that lies in a wall is closed whatever the rounding.
const SKIN: f32 = 1e-3;
/// Nodes along each side of a tile.
const NODES: i32 = SIDE + 1;

/// The fractions of the lower faces of all cells that are open, 0–1, and the velocity of the solid there along the axis, m/s.
pub(super) struct OpenFaces {
    pub open: [Vec<f32>; 3],
    pub velocities: [Vec<f32>; 3],
    /// The fraction of each cell that is open.
    pub volume: Vec<f32>,
}

/// Finds them.
pub(super) fn open_faces(tiles: &Tiles, boundary: &impl Boundary, still: &mut StillFaces) -> OpenFaces {
    still.prepare(boundary.version(), tiles.cell_m);
    let known = &still.tiles;
    let of_tile = |tile: usize| -> Option<(Arc<TileFaces>, bool)> {
        let place = |cell: IVec3| (tiles.corner(tile) + cell).as_vec3() * tiles.cell_m;
        let (min, max) = (place(IVec3::ZERO), place(IVec3::splat(SIDE)));
        match boundary.any_in(min - tiles.cell_m, max + tiles.cell_m) {
            Presence::None => None,
            Presence::Still => match known.get(&tiles.keys[tile]) {
                Some(known) => Some((known.clone(), false)),
                None => Some((Arc::new(tile_faces(tiles, tile, boundary)), true)),
            },
            Presence::Moving => Some((Arc::new(tile_faces(tiles, tile, boundary)), false)),
        }
    };
    let all: Vec<_> = (0..tiles.len()).into_par_iter().map(of_tile).collect();
    let volume = vec![1.0; tiles.cells()];
    let mut faces = OpenFaces { open: Default::default(), velocities: Default::default(), volume };
    for axis in 0..3 {
        faces.open[axis].resize(tiles.cells(), 1.0);
        faces.velocities[axis].resize(tiles.cells(), 0.0);
    }
    for (tile, found) in all.into_iter().enumerate() {
        let Some((found, new)) = found else { continue };
        for axis in 0..3 {
            let range = tile * CELLS..(tile + 1) * CELLS;
            faces.open[axis][range.clone()].copy_from_slice(&found.open[axis]);
            faces.velocities[axis][range].copy_from_slice(&found.velocities[axis]);
        }
        faces.volume[tile * CELLS..(tile + 1) * CELLS].copy_from_slice(&found.volume);
        if new {
            still.tiles.insert(tiles.keys[tile], found);
        }
    }
    faces
}

/// The faces of one tile, from the distances of the solids at the corners of its cells.
fn tile_faces(tiles: &Tiles, tile: usize, boundary: &impl Boundary) -> TileFaces {
    let (corner, cell_m) = (tiles.corner(tile), tiles.cell_m);
    let place = |node: IVec3| (corner + node).as_vec3() * cell_m;
    let centre = |cell: IVec3| ((corner + cell).as_vec3() + 0.5) * cell_m;
    let mut open: [Vec<f32>; 3] = std::array::from_fn(|_| vec![1.0; CELLS]);
    let mut velocities: [Vec<f32>; 3] = std::array::from_fn(|_| vec![0.0; CELLS]);
    let within = 2.0 * cell_m;
    let node = |i: i32| IVec3::new(i % NODES, i / NODES % NODES, i / (NODES * NODES));
    let distances: Vec<f32> = (0..NODES * NODES * NODES)
        .map(|i| boundary.distance(place(node(i)), within) - SKIN * cell_m)
        .collect();
    let at = |node: IVec3| distances[((node.z * NODES + node.y) * NODES + node.x) as usize];
    let mut volume = Vec::with_capacity(CELLS);
    for cell in 0..CELLS {
        let low = local(cell);
        let corners =
            std::array::from_fn(|i| at(low + IVec3::new(i as i32 & 1, i as i32 >> 1 & 1, i as i32 >> 2)));
        volume.push(open_volume(corners, cell_m));
        for axis in 0..3 {
            let (b, c) = (IVec3::AXES[(axis + 1) % 3], IVec3::AXES[(axis + 2) % 3]);
            let corners = [low, low + b, low + b + c, low + c].map(at);
            let mut fraction = open_fraction(corners);
            // A wall thinner than a cell can lie between the corners.
            let near = corners.iter().all(|distance| *distance > 0.0 && *distance < cell_m);
            if near && boundary.parts(centre(low - IVec3::AXES[axis]), centre(low)) {
                fraction = 0.0;
            }
            open[axis][cell] = fraction;
            if fraction < 1.0 {
                let middle = low.as_vec3() + 0.5 * (b + c).as_vec3();
                velocities[axis][cell] = boundary.velocity((corner.as_vec3() + middle) * cell_m)[axis];
            }
        }
    }
    TileFaces { open, velocities, volume }
}

/// The fraction of a cell that is open, from the distances at its corners, x fastest: exact for walls along the axes.
fn open_volume(corners: [f32; 8], cell_m: f32) -> f32 {
    if corners.iter().all(|distance| *distance >= cell_m) {
        return 1.0;
    }
    // Of each eighth, by the distance at its centre.
    let eighth = |k: usize| {
        let weight =
            |i: usize| (0..3).map(|bit| if (i ^ k) >> bit & 1 == 0 { 0.75 } else { 0.25 }).product::<f32>();
        let distance: f32 = (0..8).map(|i| weight(i) * corners[i]).sum();
        (0.5 + 2.0 * distance / cell_m).clamp(0.0, 1.0)
    };
    (0..8).map(eighth).sum::<f32>() / 8.0
}

/// The fraction of a square where a function is above zero, from its values at the corners in turn: the mean of both ways to cut
/// the square into triangles.
fn open_fraction(corners: [f32; 4]) -> f32 {
    let [a, b, c, d] = corners;
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
    fn the_open_part_of_a_cell_is_that_beside_a_wall() {
        for part in [0.1f32, 0.5, 0.8] {
            let corners = std::array::from_fn(|i| if i & 2 == 0 { part } else { part - 1.0 });
            assert!((open_volume(corners, 1.0) - part).abs() < 1e-6);
        }
        assert_eq!((open_volume([1.0; 8], 1.0), open_volume([-1.0; 8], 1.0)), (1.0, 0.0));
    }

    #[test]
    fn the_open_part_of_a_square_is_that_beside_a_line() {
        assert_eq!(open_fraction([1.0; 4]), 1.0);
        assert_eq!(open_fraction([-1.0; 4]), 0.0);
        assert_eq!((open_fraction([0.0; 4]), open_fraction([-1.0; 4])), (0.0, 0.0));
        assert!((open_fraction([-0.25, 0.75, 0.75, -0.25]) - 0.75).abs() < 1e-6);
        // A corner of a half by a half is cut off.
        assert!((open_fraction([-0.5, 0.5, 1.5, 0.5]) - 0.875).abs() < 0.05);
    }
}
