//! Affine transfers between particles and faces of cells (C. Jiang et al., *The affine particle-in-cell method*, 2015), with trilinear
//! weights: a particle's velocity and its gradient go to the faces around it, and come back from them.

use geometry::tiles::{CELLS, SIDE, Tiles, place};
use glam::{IVec3, Mat3, Vec3};
use rayon::prelude::*;

/// Sides of a tile with one more cell all around.
const PADDED: i32 = SIDE + 2;
const PADDED_CELLS: usize = (PADDED * PADDED * PADDED) as usize;
/// Radius of the ball around each particle in which there is liquid, in cells.
const RADIUS: f32 = 0.5;
/// Distance from the liquid of cells without particles near them, in cells.
const FAR: f32 = 2.0;

fn padded(local: IVec3) -> usize {
    let at = local + 1;
    ((at.z * PADDED + at.y) * PADDED + at.x) as usize
}

/// What the particles of one tile give to its cells and to those around it.
struct Padded {
    /// For each axis: momentum and mass at the lower faces.
    faces: [Vec<[f32; 2]>; 3],
    /// Particles at the middle of each cell, and the distance of the nearest from there, in cells.
    middles: Vec<[f32; 2]>,
}

/// Velocities on the lower faces of all cells, and where the liquid is.
pub(super) struct Faces {
    /// Velocity along each axis, m/s; 0 where no particle is near.
    pub velocities: [Vec<f32>; 3],
    /// Whether there is one.
    pub known: [Vec<bool>; 3],
    /// Particles at the middle of each cell.
    pub density: Vec<f32>,
    /// Distance of each cell's middle from the surface of the liquid, in cells; negative inside.
    pub distance: Vec<f32>,
}

/// Where the nodes of an axis lie in a cell: at the middles of its lower faces.
fn offset(axis: usize) -> Vec3 {
    let mut offset = Vec3::splat(0.5);
    offset[axis] = 0.0;
    offset
}

/// The first of the two nodes on each axis around a place, which is in cells, and the way from there.
#[inline]
fn nodes(at: Vec3) -> (IVec3, Vec3) {
    let first = at.floor();
    (first.as_ivec3(), at - first)
}

/// The nodes around, with weight and its gradient by the place.
#[inline]
fn corners(way: Vec3) -> [(IVec3, f32, Vec3); 8] {
    std::array::from_fn(|i| {
        let by = IVec3::new(i as i32 & 1, i as i32 >> 1 & 1, i as i32 >> 2);
        let far = by.as_vec3();
        let weight = far * way + (1.0 - far) * (1.0 - way);
        let sign = 2.0 * far - 1.0;
        let gradient = sign * Vec3::new(weight.y * weight.z, weight.z * weight.x, weight.x * weight.y);
        (by, weight.x * weight.y * weight.z, gradient)
    })
}

/// Moves velocities, m/s, and their gradients, 1/s, of the particles to the faces.
pub(super) fn to_faces(tiles: &Tiles, positions: &[Vec3], velocities: &[Vec3], gradients: &[Mat3]) -> Faces {
    let scatter = |tile: usize| -> Option<Padded> {
        let own = tiles.points_in(tile);
        if own.is_empty() {
            return None;
        }
        let mut out = Padded {
            faces: std::array::from_fn(|_| vec![[0.0; 2]; PADDED_CELLS]),
            middles: vec![[0.0, FAR + RADIUS]; PADDED_CELLS],
        };
        let corner = tiles.corner(tile).as_vec3();
        for i in own.iter().map(|i| *i as usize) {
            let at = positions[i] / tiles.cell_m - corner;
            for axis in 0..3 {
                let (first, way) = nodes(at - offset(axis));
                let gradient = gradients[i].row(axis) * tiles.cell_m;
                for (by, weight, _) in corners(way) {
                    let slot = &mut out.faces[axis][padded(first + by)];
                    let velocity = velocities[i][axis] + gradient.dot(by.as_vec3() - way);
                    slot[0] += weight * velocity;
                    slot[1] += weight;
                }
            }
            let (first, way) = nodes(at - 0.5);
            for (by, weight, _) in corners(way) {
                out.middles[padded(first + by)][0] += weight;
            }
            let cell = at.floor().as_ivec3();
            for k in 0..27 {
                let other = cell + IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
                let nearest = &mut out.middles[padded(other)][1];
                *nearest = nearest.min(at.distance(other.as_vec3() + 0.5));
            }
        }
        Some(out)
    };
    let given: Vec<Option<Padded>> = (0..tiles.len()).into_par_iter().map(scatter).collect();
    // All tiles around that reach a cell, in the same order always.
    let gather = |tile: usize| {
        let mut own = TileFaces::default();
        for z in -1..=1 {
            for y in -1..=1 {
                for x in -1..=1 {
                    let by = IVec3::new(x, y, z);
                    let Some(from) = tiles.beside(tile, by).and_then(|other| given[other].as_ref()) else {
                        continue;
                    };
                    // Where the cells of this tile lie, seen from the other.
                    let low = (-SIDE * by).max(IVec3::splat(-1));
                    let high = (SIDE - SIDE * by).min(IVec3::splat(SIDE + 1));
                    for at_z in low.z..high.z {
                        for at_y in low.y..high.y {
                            for at_x in low.x..high.x {
                                let at = IVec3::new(at_x, at_y, at_z);
                                own.add(place(at + SIDE * by), from, padded(at));
                            }
                        }
                    }
                }
            }
        }
        own
    };
    let all: Vec<TileFaces> = (0..tiles.len()).into_par_iter().map(gather).collect();
    let mut faces = Faces {
        velocities: Default::default(),
        known: Default::default(),
        density: Vec::with_capacity(tiles.cells()),
        distance: Vec::with_capacity(tiles.cells()),
    };
    for tile in &all {
        for axis in 0..3 {
            let velocity = |[momentum, mass]: &[f32; 2]| if *mass > 1e-6 { momentum / mass } else { 0.0 };
            faces.velocities[axis].extend(tile.faces[axis].iter().map(velocity));
            faces.known[axis].extend(tile.faces[axis].iter().map(|[_, mass]| *mass > 1e-6));
        }
        faces.density.extend(tile.middles.iter().map(|[count, _]| count));
        faces.distance.extend(tile.middles.iter().map(|[_, nearest]| nearest - RADIUS));
    }
    faces
}

/// The sums of one tile.
struct TileFaces {
    faces: [Vec<[f32; 2]>; 3],
    middles: Vec<[f32; 2]>,
}

impl Default for TileFaces {
    fn default() -> Self {
        Self {
            faces: std::array::from_fn(|_| vec![[0.0; 2]; CELLS]),
            middles: vec![[0.0, FAR + RADIUS]; CELLS],
        }
    }
}

impl TileFaces {
    #[inline]
    fn add(&mut self, place: usize, from: &Padded, at: usize) {
        for axis in 0..3 {
            let ([momentum, mass], own) = (from.faces[axis][at], &mut self.faces[axis][place]);
            *own = [own[0] + momentum, own[1] + mass];
        }
        let ([count, nearest], own) = (from.middles[at], &mut self.middles[place]);
        *own = [own[0] + count, own[1].min(nearest)];
    }
}

/// A velocity, m/s, and its gradient, 1/s, at a place in a tile, in cells from its corner.
#[inline]
pub(super) fn at(tiles: &Tiles, tile: usize, velocities: &[Vec<f32>; 3], place: Vec3) -> (Vec3, Mat3) {
    let (mut velocity, mut gradient) = (Vec3::ZERO, Mat3::ZERO);
    for axis in 0..3 {
        let (first, way) = nodes(place - offset(axis));
        let mut row = Vec3::ZERO;
        for (by, weight, slope) in corners(way) {
            let Some(cell) = tiles.cell(tile, first + by) else { continue };
            velocity[axis] += weight * velocities[axis][cell];
            row += slope * velocities[axis][cell];
        }
        for column in 0..3 {
            gradient.col_mut(column)[axis] = row[column] / tiles.cell_m;
        }
    }
    (velocity, gradient)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn random(i: u32) -> f32 {
        f32::from((i.wrapping_mul(0x9E37_79B9) >> 16) as u16) / 65_536.0
    }

    /// A cube of liquid, eight particles a cell.
    fn block(cells: i32, cell_m: f32, from: Vec3) -> Vec<Vec3> {
        let mut all = Vec::new();
        for i in 0..(2 * cells).pow(3) {
            let at = IVec3::new(i % (2 * cells), i / (2 * cells) % (2 * cells), i / (4 * cells * cells));
            let jitter = Vec3::new(random(3 * i as u32), random(3 * i as u32 + 1), random(3 * i as u32 + 2));
            all.push(from + (at.as_vec3() + jitter) * (0.5 * cell_m));
        }
        all
    }

    #[test]
    fn an_affine_field_comes_back_as_it_went() {
        let positions = block(11, 0.05, Vec3::new(-0.31, 2.0, 0.07));
        let gradient = Mat3::from_cols_array(&[0.3, -1.0, 0.4, 2.0, -0.6, 0.1, 0.2, -0.3, 0.3]);
        let field = |x: Vec3| Vec3::new(0.4, -2.0, 1.0) + gradient * x;
        let velocities: Vec<Vec3> = positions.iter().map(|x| field(*x)).collect();
        let gradients = vec![gradient; positions.len()];
        let tiles = Tiles::new(&positions, 0.05);
        let faces = to_faces(&tiles, &positions, &velocities, &gradients);
        for tile in 0..tiles.len() {
            for i in tiles.points_in(tile).iter().map(|i| *i as usize) {
                let place = positions[i] / 0.05 - tiles.corner(tile).as_vec3();
                let (velocity, slope) = at(&tiles, tile, &faces.velocities, place);
                assert!(velocity.distance(field(positions[i])) < 1e-4, "{velocity}");
                assert!((0..3).all(|c| slope.col(c).distance(gradient.col(c)) < 5e-3), "{slope}");
            }
        }
    }

    #[test]
    fn momentum_and_number_of_particles_are_kept() {
        let positions = block(9, 0.1, Vec3::ZERO);
        let velocities: Vec<Vec3> = (0..positions.len() as u32)
            .map(|i| Vec3::new(random(7 * i), random(9 * i), random(11 * i)))
            .collect();
        let gradients = vec![Mat3::from_diagonal(Vec3::new(1.0, -2.0, 3.0)); positions.len()];
        let tiles = Tiles::new(&positions, 0.1);
        let faces = to_faces(&tiles, &positions, &velocities, &gradients);
        let count: f32 = faces.density.iter().sum();
        assert!((count / positions.len() as f32 - 1.0).abs() < 1e-4, "{count}");
        // Inside there are eight a cell.
        let middle =
            tiles.cell(tiles.keys.iter().position(|key| *key == IVec3::ZERO).unwrap(), IVec3::splat(4));
        assert!((faces.density[middle.unwrap()] - 8.0).abs() < 2.0);
        assert!(faces.distance[middle.unwrap()] < 0.0);
    }
}
