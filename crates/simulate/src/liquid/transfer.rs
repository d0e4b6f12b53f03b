//! Affine transfers between particles and faces of cells (C. Jiang et al., *The affine particle-in-cell method*, 2015), with trilinear
//! weights: a particle's velocity and its gradient go to the faces around it, and come back from them.

use geometry::tiles::{Padded, Tiles};
use glam::{IVec3, Mat3, Vec3};

/// Cells beside a tile that its particles reach.
const MARGIN: i32 = 1;
/// A face with less than this has no velocity, in masses of a particle.
const LEAST_MASS: f32 = 1e-6;
/// Particles in a full cell.
const FULL: f32 = 8.0;

/// What particles give to a cell: for each axis momentum and mass at the lower face, in masses of a particle, and the number of
/// particles at the centre.
#[derive(Clone, Copy, Default)]
struct Sums {
    momentum: [f32; 3],
    mass: [f32; 3],
    count: f32,
}

impl Sums {
    fn add(&mut self, other: &Self) {
        for axis in 0..3 {
            self.momentum[axis] += other.momentum[axis];
            self.mass[axis] += other.mass[axis];
        }
        self.count += other.count;
    }
}

/// Velocities on the lower faces of all cells, and where the liquid is.
pub(super) struct Faces {
    /// Velocity along each axis, m/s; 0 where no particle is near.
    pub velocities: [Vec<f32>; 3],
    /// Whether there is one.
    pub known: [Vec<bool>; 3],
    /// Volume of the liquid around the centre of each cell, with trilinear weights, in cells.
    pub volume: Vec<f32>,
}

/// Where the nodes of an axis lie in a cell: at the centres of its lower faces.
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
    let give = |tile: usize, out: &mut Padded<Sums>| {
        for i in tiles.points_in(tile).iter().map(|i| *i as usize) {
            let at = tiles.within(tile, positions[i]);
            for axis in 0..3 {
                let (first, way) = nodes(at - offset(axis));
                let gradient = gradients[i].row(axis) * tiles.cell_m;
                for (by, weight, _) in corners(way) {
                    let sums = out.at(first + by);
                    sums.momentum[axis] += weight * (velocities[i][axis] + gradient.dot(by.as_vec3() - way));
                    sums.mass[axis] += weight;
                }
            }
            let (first, way) = nodes(at - 0.5);
            for (by, weight, _) in corners(way) {
                out.at(first + by).count += weight;
            }
        }
    };
    let sums = tiles.sums(MARGIN, Sums::default(), give, Sums::add);
    let known = |of: &Sums, axis: usize| of.mass[axis] > LEAST_MASS;
    let velocity = |of: &Sums, axis: usize| {
        if known(of, axis) { of.momentum[axis] / of.mass[axis] } else { 0.0 }
    };
    Faces {
        velocities: [0, 1, 2].map(|axis| sums.iter().map(|of| velocity(of, axis)).collect()),
        known: [0, 1, 2].map(|axis| sums.iter().map(|of| known(of, axis)).collect()),
        volume: sums.iter().map(|of| of.count / FULL).collect(),
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
                let place = tiles.within(tile, positions[i]);
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
        let count = FULL * faces.volume.iter().sum::<f32>();
        assert!((count / positions.len() as f32 - 1.0).abs() < 1e-4, "{count}");
        // Inside there are eight a cell.
        let middle =
            tiles.cell(tiles.keys.iter().position(|key| *key == IVec3::ZERO).unwrap(), IVec3::splat(4));
        assert!((faces.volume[middle.unwrap()] - 1.0).abs() < 0.25);
    }
}
