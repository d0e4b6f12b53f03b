//! Affine transfers between particles and faces of cells (C. Jiang et al., *The affine particle-in-cell method*, 2015), with trilinear
//! weights: a particle's velocity and its gradient go to the faces around it, and come back from them.
//!
//! Both go tile by tile, through a block with the cells of the tile and those around it. Blocks are added up in one order, so that
//! the sums do not depend on the number of threads.

use geometry::tiles::{CELLS, SIDE, Tiles};
use glam::{IVec3, Mat3, Vec3, Vec4};
use rayon::prelude::*;

/// A face with less than this has no velocity, in masses of a particle.
const LEAST_MASS: f32 = 1e-6;
/// Particles that a thread takes at once.
const CHUNK: usize = 1_024;
/// Particles in a full cell.
const FULL: f32 = 8.0;

/// Velocities on the lower faces of all cells, and where the liquid is.
pub struct Faces {
    /// Velocity along each axis, m/s; 0 where no particle is near.
    pub velocities: [Vec<f32>; 3],
    /// Whether there is one.
    pub known: [Vec<bool>; 3],
    /// Volume of the liquid around the centre of each cell, with trilinear weights, in cells.
    pub volume: Vec<f32>,
}

/// Cells along each side of a block of `MARGIN` cells around a tile.
const fn side(margin: usize) -> usize {
    SIDE as usize + 2 * margin
}

/// Where the nodes of an axis lie in a cell: at the centres of its lower faces; those of axis 3 at the centres of cells.
#[inline]
fn offset(axis: usize) -> Vec3 {
    const OFFSETS: [Vec3; 4] =
        [Vec3::new(0.0, 0.5, 0.5), Vec3::new(0.5, 0.0, 0.5), Vec3::new(0.5, 0.5, 0.0), Vec3::splat(0.5)];
    OFFSETS[axis]
}

/// The first of the two nodes on each axis around a place in a block, by its number in the block, and the way from there. A place
/// has no negative coordinate.
#[inline]
fn first_node<const MARGIN: usize>(at: Vec3, axis: usize) -> (usize, Vec3) {
    let at = at - offset(axis) + MARGIN as f32;
    let first = at.as_ivec3();
    let number = (first.z as usize * side(MARGIN) + first.y as usize) * side(MARGIN) + first.x as usize;
    (number, at - first.as_vec3())
}

/// The weights of the four nodes around along y and z, y fastest.
#[inline]
fn weights_across(way: Vec3) -> Vec4 {
    let (y, z) = (way.y, way.z);
    Vec4::new((1.0 - y) * (1.0 - z), y * (1.0 - z), (1.0 - y) * z, y * z)
}

/// Cells around a tile to which its particles give.
const GIVEN: usize = 1;
/// Nodes of a block to which a tile gives.
const GIVEN_NODES: usize = side(GIVEN).pow(3);
/// Momentum and mass by axis, and the number of particles.
const BLOCK: usize = 7 * GIVEN_NODES;

/// Adds what a particle gives to faces along an axis: to each its mass and its momentum.
#[inline]
fn give_axis(block: &mut [f32], at: Vec3, axis: usize, velocity: f32, gradient: Vec3) {
    const ROW: usize = 2 * side(GIVEN);
    const LAYER: usize = ROW * side(GIVEN);
    let (first, way) = first_node::<GIVEN>(at, axis);
    let block: &mut [f32; LAYER + ROW + 4] =
        (&mut block[2 * first..][..LAYER + ROW + 4]).try_into().expect("of this length");
    let across = weights_across(way);
    let base = velocity - gradient.dot(way);
    let (near, far) = (1.0 - way.x, way.x);
    for (corner, place) in [0, ROW, LAYER, LAYER + ROW].into_iter().enumerate() {
        let by = base + (corner & 1) as f32 * gradient.y + (corner >> 1) as f32 * gradient.z;
        let given = Vec4::new(near, near * by, far, far * (by + gradient.x)) * across[corner];
        let sum = Vec4::from_slice(&block[place..place + 4]) + given;
        sum.write_to_slice(&mut block[place..place + 4]);
    }
}

/// Adds a particle to the numbers at the centres of cells.
#[inline]
fn give_count(block: &mut [f32], at: Vec3) {
    const ROW: usize = side(GIVEN);
    const LAYER: usize = ROW * ROW;
    let (first, way) = first_node::<GIVEN>(at, 3);
    let block: &mut [f32; LAYER + ROW + 2] =
        (&mut block[first..][..LAYER + ROW + 2]).try_into().expect("of this length");
    let across = weights_across(way);
    for (corner, place) in [0, ROW, LAYER, LAYER + ROW].into_iter().enumerate() {
        block[place] += across[corner] * (1.0 - way.x);
        block[place + 1] += across[corner] * way.x;
    }
}

/// Adds the part of a neighbour's block that lies in this tile; `width` are the values of a node.
fn add_block(sums: &mut [f32], block: &[f32], by: IVec3, width: usize) {
    const N: usize = side(GIVEN);
    // Where the cells of this tile lie, seen from the other, along an axis.
    let range = |by: i32| match by {
        -1 => (SIDE, SIDE + 1),
        0 => (0, SIDE),
        _ => (-1, 0),
    };
    let [x, y, z] = by.to_array().map(range);
    let length = (x.1 - x.0) as usize * width;
    for k in z.0..z.1 {
        for j in y.0..y.1 {
            let (own_x, own_y, own_z) = (x.0 + SIDE * by.x, j + SIDE * by.y, k + SIDE * by.z);
            let own = ((own_z * SIDE + own_y) * SIDE + own_x) as usize * width;
            let from = (((k + 1) as usize * N + (j + 1) as usize) * N + (x.0 + 1) as usize) * width;
            let pairs = sums[own..own + length].iter_mut().zip(&block[from..from + length]);
            pairs.for_each(|(sum, value)| *sum += value);
        }
    }
}

/// Moves velocities, m/s, and their gradients, 1/s, of the particles to the faces.
pub fn to_faces(tiles: &Tiles, positions: &[Vec3], velocities: &[Vec3], gradients: &[Mat3]) -> Faces {
    let occupied: Vec<usize> =
        (0..tiles.len()).filter(|tile| !tiles.points_in(*tile).is_empty()).collect();
    let mut slots = vec![None; tiles.len()];
    occupied.iter().enumerate().for_each(|(slot, tile)| slots[*tile] = Some(slot));
    let mut blocks = vec![0.0f32; occupied.len() * BLOCK];
    blocks.par_chunks_mut(BLOCK).zip(&occupied).for_each(|(block, &tile)| {
        let (faces, count) = block.split_at_mut(6 * GIVEN_NODES);
        for i in tiles.points_in(tile).iter().map(|i| *i as usize) {
            let at = tiles.within(tile, positions[i]);
            let (velocity, gradient) = (velocities[i], gradients[i]);
            for (axis, block) in faces.chunks_exact_mut(2 * GIVEN_NODES).enumerate() {
                give_axis(block, at, axis, velocity[axis], gradient.row(axis) * tiles.cell_m);
            }
            give_count(count, at);
        }
    });
    let column = || vec![0.0f32; tiles.cells()];
    let flags = || vec![false; tiles.cells()];
    let mut faces = Faces {
        velocities: [column(), column(), column()],
        known: [flags(), flags(), flags()],
        volume: column(),
    };
    let [x, y, z] = &mut faces.velocities;
    let [known_x, known_y, known_z] = &mut faces.known;
    let axes = (
        (x.par_chunks_mut(CELLS), known_x.par_chunks_mut(CELLS)),
        (y.par_chunks_mut(CELLS), known_y.par_chunks_mut(CELLS)),
        (z.par_chunks_mut(CELLS), known_z.par_chunks_mut(CELLS)),
        faces.volume.par_chunks_mut(CELLS),
    );
    axes.into_par_iter().enumerate().for_each(|(tile, (x, y, z, volume))| {
        let mut sums = [0.0f32; 6 * CELLS];
        let mut any = false;
        for k in 0..27 {
            let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
            let Some(slot) = tiles.beside(tile, by).and_then(|other| slots[other]) else { continue };
            let (faces, count) = blocks[slot * BLOCK..(slot + 1) * BLOCK].split_at(6 * GIVEN_NODES);
            let pairs = sums.chunks_exact_mut(2 * CELLS).zip(faces.chunks_exact(2 * GIVEN_NODES));
            pairs.for_each(|(sums, block)| add_block(sums, block, by, 2));
            add_block(volume, count, by, 1);
            any = true;
        }
        if !any {
            return;
        }
        volume.iter_mut().for_each(|count| *count /= FULL);
        for (sums, (velocity, known)) in sums.chunks_exact(2 * CELLS).zip([x, y, z]) {
            for ((sum, velocity), known) in sums.chunks_exact(2).zip(velocity).zip(known) {
                if sum[0] > LEAST_MASS {
                    (*velocity, *known) = (sum[1] / sum[0], true);
                }
            }
        }
    });
    faces
}

/// Velocities on the faces around a tile, up to `MARGIN` cells away from it; 0 where there is no tile.
pub struct FaceBlock<const MARGIN: usize>([Vec<f32>; 3]);

impl<const MARGIN: usize> Default for FaceBlock<MARGIN> {
    fn default() -> Self {
        Self::new()
    }
}

impl<const MARGIN: usize> FaceBlock<MARGIN> {
    /// A block of a tile without velocities.
    pub fn new() -> Self {
        Self(std::array::from_fn(|_| vec![0.0; side(MARGIN).pow(3)]))
    }

    /// Takes the values around a tile.
    pub fn load(&mut self, tiles: &Tiles, tile: usize, velocities: &[Vec<f32>; 3]) {
        // Along an axis: where the cells of the tile beside begin and end, and where they lie in the block.
        let margin = MARGIN as i32;
        let range = |by: i32| match by {
            -1 => (SIDE - margin, SIDE, 0),
            0 => (0, SIDE, margin),
            _ => (0, margin, SIDE + margin),
        };
        for k in 0..27 {
            let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
            let other = tiles.beside(tile, by);
            let [x, y, z] = by.to_array().map(range);
            let length = (x.1 - x.0) as usize;
            for (block, velocities) in self.0.iter_mut().zip(velocities) {
                for (k, j) in (z.0..z.1).flat_map(|k| (y.0..y.1).map(move |j| (k, j))) {
                    let row = (k - z.0 + z.2) as usize * side(MARGIN) + (j - y.0 + y.2) as usize;
                    let to = row * side(MARGIN) + x.2 as usize;
                    let into = &mut block[to..to + length];
                    match other {
                        Some(other) => {
                            let from = other * CELLS + ((k * SIDE + j) * SIDE + x.0) as usize;
                            into.copy_from_slice(&velocities[from..from + length]);
                        }
                        None => into.fill(0.0),
                    }
                }
            }
        }
    }

    /// The values of the eight nodes around a place: those before along x and those behind, y fastest; and the way from the first.
    #[inline]
    fn around(&self, axis: usize, at: Vec3) -> (Vec4, Vec4, Vec3) {
        let row = const { side(MARGIN) };
        let layer = const { side(MARGIN) * side(MARGIN) };
        let (first, way) = first_node::<MARGIN>(at, axis);
        let values = &self.0[axis][first..first + layer + row + 2];
        let near = Vec4::new(values[0], values[row], values[layer], values[layer + row]);
        let far = Vec4::new(values[1], values[row + 1], values[layer + 1], values[layer + row + 1]);
        (near, far, way)
    }

    /// The velocity, m/s, at a place in cells from the tile's lowest corner.
    #[inline]
    pub fn velocity(&self, at: Vec3) -> Vec3 {
        let along = |axis: usize| {
            let (near, far, way) = self.around(axis, at);
            (near + (far - near) * way.x).dot(weights_across(way))
        };
        Vec3::new(along(0), along(1), along(2))
    }

    /// The velocity, m/s, at a place, and its gradient, 1/s, for cells of an edge, m.
    #[inline]
    pub fn velocity_and_gradient(&self, at: Vec3, cell_m: f32) -> (Vec3, Mat3) {
        let along = |axis: usize| {
            let (near, far, way) = self.around(axis, at);
            let across = weights_across(way);
            let (slope, values) = (far - near, near + (far - near) * way.x);
            let gradient = Vec3::new(
                slope.dot(across),
                (1.0 - way.z) * (values.y - values.x) + way.z * (values.w - values.z),
                (1.0 - way.y) * (values.z - values.x) + way.y * (values.w - values.y),
            );
            (values.dot(across), gradient / cell_m)
        };
        let ((x, row_x), (y, row_y), (z, row_z)) = (along(0), along(1), along(2));
        (Vec3::new(x, y, z), Mat3::from_cols(row_x, row_y, row_z).transpose())
    }
}

/// Cells around a tile in which its particles can be in the middle of a step.
const MOVED: usize = 3;
/// Most that a particle moves in half a step, along an axis, in cells.
const MAX_HALF_STEP_CELLS: Vec3 = Vec3::splat(MOVED as f32 - 1.001);

/// Gives the particles the velocities of the faces, m/s, with their gradients, 1/s. Returns the way of each in `dt` seconds, m: by the
/// midpoint rule, and by the displacements of the correction at its place.
pub fn to_particles(
    tiles: &Tiles,
    (positions, velocities, gradients): (&[Vec3], &mut [Vec3], &mut [Mat3]),
    [faces, correction]: [&[Vec<f32>; 3]; 2],
    dt: f32,
) -> Vec<Vec3> {
    let cell_m = tiles.cell_m;
    let blocks = || (FaceBlock::<MOVED>::new(), FaceBlock::<GIVEN>::new());
    let load = |near: &mut (FaceBlock<MOVED>, FaceBlock<GIVEN>), tile: usize| {
        near.0.load(tiles, tile, faces);
        near.1.load(tiles, tile, correction);
    };
    let moved = tiles.map_points(blocks, load, |(faces, correction), tile, i| {
        let place = tiles.within(tile, positions[i]);
        let (velocity, gradient) = faces.velocity_and_gradient(place, cell_m);
        let half = (velocity * (0.5 * dt / cell_m)).clamp(-MAX_HALF_STEP_CELLS, MAX_HALF_STEP_CELLS);
        (velocity, gradient, faces.velocity(place + half) * dt + correction.velocity(place))
    });
    let mut displacements = vec![Vec3::ZERO; moved.len()];
    let columns = (velocities, gradients, &mut displacements, moved);
    columns.into_par_iter().with_min_len(CHUNK).for_each(|(velocity, gradient, way, moved)| {
        (*velocity, *gradient, *way) = moved;
    });
    displacements
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
        let mut block = FaceBlock::<1>::new();
        for tile in 0..tiles.len() {
            block.load(&tiles, tile, &faces.velocities);
            for i in tiles.points_in(tile).iter().map(|i| *i as usize) {
                let place = tiles.within(tile, positions[i]);
                let (velocity, slope) = block.velocity_and_gradient(place, 0.05);
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
