//! Affine transfers between particles and faces of cells (C. Jiang et al., *The affine particle-in-cell method*, 2015), with trilinear
//! weights: a particle's velocity and its gradient go to the faces around it, and come back from them.
//!
//! Both go tile by tile, through a block with the cells of the tile and those around it. Blocks are added up in one order, so that
//! the sums do not depend on the number of threads.

use super::lanes::{Around, Lanes, Nodes, by_particle, lanes, pairs, places, side, vectors};
use geometry::tiles::{CELLS, LANES, REACH, SIDE, Tiles};
use glam::{IVec3, Mat3, Vec3};
use rayon::prelude::*;
use wide::{f32x4, f32x8};

/// A face with less than this has no velocity, in masses of a particle.
const LEAST_MASS: f32 = 1e-6;
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

impl Faces {
    /// Without any velocity.
    pub(super) fn unknown(tiles: &Tiles) -> Self {
        let column = || vec![0.0f32; tiles.cells()];
        let flags = || vec![false; tiles.cells()];
        Self {
            velocities: [column(), column(), column()],
            known: [flags(), flags(), flags()],
            volume: column(),
        }
    }
}

/// Cells around a tile to which its particles give.
pub(super) const SCATTER_MARGIN: usize = 1;
/// Nodes of a block to which a tile gives.
pub(super) const SCATTER_NODES: usize = side(SCATTER_MARGIN).pow(3);
/// Momentum and mass by axis, and the number of particles.
const BLOCK: usize = 7 * SCATTER_NODES;

/// From the values at a node of a block to which a tile gives to those of the next along y, and along z.
const SCATTER_ROW: usize = side(SCATTER_MARGIN);
const SCATTER_LAYER: usize = SCATTER_ROW * SCATTER_ROW;

/// Adds what `count` of eight particles give to faces along an axis: to each its mass and its momentum.
#[inline(always)]
fn scatter_momentum(
    block: &mut [f32],
    nodes: &Nodes,
    velocity: f32x8,
    gradient: &Lanes,
    mass: Option<f32x8>,
    count: usize,
) {
    let Nodes { first, fraction, weights_yz } = nodes;
    let base = velocity - gradient[0] * fraction[0] - gradient[1] * fraction[1] - gradient[2] * fraction[2];
    let (mut near, mut far) = (1.0 - fraction[0], fraction[0]);
    if let Some(mass) = mass {
        (near, far) = (near * mass, far * mass);
    }
    let rises = [base, base + gradient[1], base + gradient[2], base + gradient[1] + gradient[2]];
    let given: [[f32x4; LANES]; 4] = std::array::from_fn(|corner| {
        let (near, far) = (near * weights_yz[corner], far * weights_yz[corner]);
        by_particle([near, near * rises[corner], far, far * (rises[corner] + gradient[0])])
    });
    const PLACES: [usize; 4] = [0, 2 * SCATTER_ROW, 2 * SCATTER_LAYER, 2 * (SCATTER_LAYER + SCATTER_ROW)];
    for lane in 0..count {
        let block: &mut [f32; PLACES[3] + 4] =
            (&mut block[2 * first[lane]..][..PLACES[3] + 4]).try_into().expect("of this length");
        for (corner, place) in PLACES.into_iter().enumerate() {
            let sums: &mut [f32; 4] = (&mut block[place..place + 4]).try_into().expect("four");
            *sums = (f32x4::new(*sums) + given[corner][lane]).to_array();
        }
    }
}

/// Adds `count` of eight particles to the numbers at the centres of cells.
#[inline(always)]
fn scatter_count(block: &mut [f32], nodes: &Nodes, count: usize) {
    const PLACES: [usize; 4] = [0, SCATTER_ROW, SCATTER_LAYER, SCATTER_LAYER + SCATTER_ROW];
    let Nodes { first, fraction, weights_yz } = nodes;
    let near = weights_yz.map(|weight| (weight * (1.0 - fraction[0])).to_array());
    let far = weights_yz.map(|weight| (weight * fraction[0]).to_array());
    for lane in 0..count {
        let block: &mut [f32; PLACES[3] + 2] =
            (&mut block[first[lane]..][..PLACES[3] + 2]).try_into().expect("of this length");
        for (corner, place) in PLACES.into_iter().enumerate() {
            block[place] += near[corner][lane];
            block[place + 1] += far[corner][lane];
        }
    }
}

/// Adds the part of a neighbour's block that lies in this tile; `width` are the values of a node.
pub(super) fn add_block(sums: &mut [f32], block: &[f32], by: IVec3, width: usize) {
    const N: usize = side(SCATTER_MARGIN);
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

/// The tiles that have particles, and the place of each tile among them.
pub(super) fn occupied_tiles(tiles: &Tiles) -> (Vec<usize>, Vec<Option<usize>>) {
    let occupied: Vec<usize> = (0..tiles.len()).filter(|tile| !tiles.points_in(*tile).is_empty()).collect();
    let mut slots = vec![None; tiles.len()];
    occupied.iter().enumerate().for_each(|(slot, tile)| slots[*tile] = Some(slot));
    (occupied, slots)
}

/// Calls `of` with the way to each tile around a tile, itself among them, that has particles, and its place among those.
pub(super) fn for_each_beside(
    tiles: &Tiles,
    slots: &[Option<usize>],
    tile: usize,
    mut of: impl FnMut(IVec3, usize),
) {
    for k in 0..27 {
        let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
        if let Some(slot) = tiles.beside(tile, by).and_then(|other| slots[other]) {
            of(by, slot);
        }
    }
}

/// Moves velocities, m/s, and their gradients, 1/s, of the particles to the faces; `masses` are empty where all are equal.
pub fn to_faces(
    tiles: &Tiles,
    positions: &[Vec3],
    velocities: &[Vec3],
    gradients: &[Mat3],
    masses: &[f32],
) -> Faces {
    let (occupied, slots) = occupied_tiles(tiles);
    let mut blocks = vec![0.0f32; occupied.len() * BLOCK];
    let cell_m = f32x8::splat(tiles.cell_m);
    blocks.par_chunks_mut(BLOCK).zip(&occupied).for_each(|(block, &tile)| {
        let (faces, counts) = block.split_at_mut(6 * SCATTER_NODES);
        for (points, count) in tiles.lanes_in(tile) {
            let at = places(tiles, tile, positions, points);
            let (velocities, gradients) = (points.map(|i| velocities[i]), points.map(|i| gradients[i]));
            let mass = (!masses.is_empty()).then(|| lanes(|lane| masses[points[lane]]));
            let around = Around::new::<SCATTER_MARGIN>(&at);
            for (axis, block) in faces.chunks_exact_mut(2 * SCATTER_NODES).enumerate() {
                let velocity = lanes(|lane| velocities[lane][axis]);
                let gradient: Lanes =
                    std::array::from_fn(|by| lanes(|lane| gradients[lane].col(by)[axis]) * cell_m);
                let nodes = around.nodes::<SCATTER_MARGIN>(axis);
                scatter_momentum(block, &nodes, velocity, &gradient, mass, count);
            }
            scatter_count(counts, &around.nodes::<SCATTER_MARGIN>(3), count);
        }
    });
    let mut faces = Faces::unknown(tiles);
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
        for_each_beside(tiles, &slots, tile, |by, slot| {
            let (faces, count) = blocks[slot * BLOCK..(slot + 1) * BLOCK].split_at(6 * SCATTER_NODES);
            let pairs = sums.chunks_exact_mut(2 * CELLS).zip(faces.chunks_exact(2 * SCATTER_NODES));
            pairs.for_each(|(sums, block)| add_block(sums, block, by, 2));
            add_block(volume, count, by, 1);
            any = true;
        });
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

/// Cells of a tile and around it in which its particles take velocities, along each axis.
const GATHER_SIDE: usize = side(REACH as usize);
/// Nodes of such a block.
const GATHER_NODES: usize = GATHER_SIDE.pow(3);
/// From a node of such a block to the next along y, and along z.
const GATHER_ROW: usize = GATHER_SIDE;
const GATHER_LAYER: usize = GATHER_SIDE * GATHER_SIDE;
/// From the first node around a place to behind the last.
const GATHER_AROUND: usize = GATHER_LAYER + GATHER_ROW + 2;

/// Velocities on the faces around a tile, up to [`REACH`] cells away from it; 0 where there is no tile, and behind the last.
struct FaceBlock([Vec<f32>; 3]);

impl FaceBlock {
    fn new() -> Self {
        Self(std::array::from_fn(|_| vec![0.0; GATHER_NODES + GATHER_AROUND]))
    }

    /// Takes the values around a tile.
    fn load(&mut self, tiles: &Tiles, tile: usize, velocities: &[Vec<f32>; 3]) {
        // Along an axis: where the cells of the tile beside begin and end, and where they lie in the block.
        let margin = REACH;
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
                    let row = (k - z.0 + z.2) as usize * GATHER_SIDE + (j - y.0 + y.2) as usize;
                    let to = row * GATHER_SIDE + x.2 as usize;
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

    /// Makes the values those of another block and so much of the present ones.
    fn combine(&mut self, factor: f32, with: &Self) {
        for (own, with) in self.0.iter_mut().zip(&with.0) {
            own.iter_mut().zip(with).for_each(|(own, with)| *own = factor * *own + with);
        }
    }

    /// The values of the eight nodes around eight places: those before along x, and those behind, y fastest.
    #[inline(always)]
    fn values(&self, axis: usize, first: &[usize; LANES]) -> ([f32x8; 4], [f32x8; 4]) {
        let block: &[f32; GATHER_NODES + GATHER_AROUND] =
            self.0[axis][..].try_into().expect("as many as it was made of");
        // A first node is one of the block, a power of two of them: so that its bounds need no test.
        let around: [&[f32; GATHER_AROUND]; LANES] = first.map(|first| {
            let first = first & (GATHER_NODES - 1);
            block[first..first + GATHER_AROUND].try_into().expect("of this length")
        });
        let rows = [0, GATHER_ROW, GATHER_LAYER, GATHER_LAYER + GATHER_ROW]
            .map(|place| pairs(|lane| around[lane][place..place + 2].try_into().expect("two")));
        (rows.map(|(near, _)| near), rows.map(|(_, far)| far))
    }

    /// The velocities, m/s, at eight places in cells from the tile's lowest corner.
    #[inline(always)]
    fn velocities(&self, at: &Lanes) -> Lanes {
        let around = Around::new::<{ REACH as usize }>(at);
        std::array::from_fn(|axis| {
            let Nodes { first, fraction, weights_yz } = around.nodes::<{ REACH as usize }>(axis);
            let (near, far) = self.values(axis, &first);
            let along = |corner: usize| near[corner] + (far[corner] - near[corner]) * fraction[0];
            along(0) * weights_yz[0]
                + along(1) * weights_yz[1]
                + along(2) * weights_yz[2]
                + along(3) * weights_yz[3]
        })
    }

    /// The velocities, m/s, at eight places, and the rows of their gradients, m/s a cell.
    #[inline(always)]
    fn velocities_and_gradients(&self, at: &Lanes) -> (Lanes, [Lanes; 3]) {
        let (mut velocities, mut gradients) = ([f32x8::ZERO; 3], [[f32x8::ZERO; 3]; 3]);
        let around = Around::new::<{ REACH as usize }>(at);
        for axis in 0..3 {
            let Nodes { first, fraction, weights_yz } = around.nodes::<{ REACH as usize }>(axis);
            let (near, far) = self.values(axis, &first);
            let slope: [f32x8; 4] = std::array::from_fn(|corner| far[corner] - near[corner]);
            let along: [f32x8; 4] = std::array::from_fn(|corner| near[corner] + slope[corner] * fraction[0]);
            let sum = |of: &[f32x8; 4]| {
                of[0] * weights_yz[0] + of[1] * weights_yz[1] + of[2] * weights_yz[2] + of[3] * weights_yz[3]
            };
            velocities[axis] = sum(&along);
            gradients[axis] = [
                sum(&slope),
                (1.0 - fraction[2]) * (along[1] - along[0]) + fraction[2] * (along[3] - along[2]),
                (1.0 - fraction[1]) * (along[2] - along[0]) + fraction[1] * (along[3] - along[1]),
            ];
        }
        (velocities, gradients)
    }
}

/// Cells up to which velocities are to be carried on from the liquid before particles take them.
pub(super) const EXTRAPOLATED: u32 = 3;
/// Most cells along an axis between a particle and the middle of its way. Interpolation takes one of the cells up to which velocities are
/// carried on.
const MAX_HALF_STEP_CELLS: f32 = (EXTRAPOLATED - 1) as f32;

/// Gives the particles the velocities of the faces, m/s, with their gradients, 1/s. Returns the way of each in `dt` seconds, m, by the
/// midpoint rule, with the displacements of the correction in the middle.
pub fn to_particles(
    tiles: &Tiles,
    (positions, velocities, gradients): (&[Vec3], &mut [Vec3], &mut [Mat3]),
    [faces, correction]: [&[Vec<f32>; 3]; 2],
    dt: f32,
) -> Vec<Vec3> {
    // The threads that write them take the memory.
    let mut displacements: Vec<Vec3> = bytemuck::zeroed_vec(positions.len());
    let columns = (velocities, gradients, &mut displacements[..]);
    let blocks = || (FaceBlock::new(), FaceBlock::new());
    let load = |(faces_near, corrected): &mut (FaceBlock, FaceBlock), tile: usize| {
        faces_near.load(tiles, tile, faces);
        corrected.load(tiles, tile, correction);
        corrected.combine(1.0 / dt, faces_near);
    };
    let (inverse_cell, dt_lanes) = (f32x8::splat(1.0 / tiles.cell_m), f32x8::splat(dt));
    let (cells_in_half, most) = (f32x8::splat(0.5 * dt / tiles.cell_m), f32x8::splat(MAX_HALF_STEP_CELLS));
    tiles.update_points(columns, blocks, load, |(faces, corrected), tile, points| {
        let at = places(tiles, tile, positions, points);
        let (velocity, gradient) = faces.velocities_and_gradients(&at);
        let half = velocity.map(|velocity| (velocity * cells_in_half).max(-most).min(most));
        let middle = corrected.velocities(&std::array::from_fn(|axis| at[axis] + half[axis]));
        let (velocity, way) = (vectors(velocity), vectors(middle.map(|middle| middle * dt_lanes)));
        let columns: [[Vec3; LANES]; 3] =
            std::array::from_fn(|by| vectors(std::array::from_fn(|axis| gradient[axis][by] * inverse_cell)));
        std::array::from_fn(|lane| {
            let gradient = Mat3::from_cols(columns[0][lane], columns[1][lane], columns[2][lane]);
            (velocity[lane], gradient, way[lane])
        })
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
        let faces = to_faces(&tiles, &positions, &velocities, &gradients, &[]);
        let (mut back, mut slopes) = (vec![Vec3::ZERO; positions.len()], gradients.clone());
        let still = faces.velocities.clone().map(|column| vec![0.0; column.len()]);
        let columns = (&positions[..], &mut back[..], &mut slopes[..]);
        let ways = to_particles(&tiles, columns, [&faces.velocities, &still], 1e-3);
        for (i, x) in positions.iter().enumerate() {
            assert!(back[i].distance(field(*x)) < 1e-4, "{}", back[i]);
            assert!((0..3).all(|c| slopes[i].col(c).distance(gradient.col(c)) < 5e-3), "{}", slopes[i]);
            // Beyond the outer cells there is no velocity.
            let (low, high) = (Vec3::new(-0.21, 2.1, 0.17), Vec3::new(0.14, 2.45, 0.52));
            if x.cmpgt(low).all() && x.cmplt(high).all() {
                assert!(ways[i].distance(1e-3 * field(*x + 5e-4 * back[i])) < 1e-6);
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
        let faces = to_faces(&tiles, &positions, &velocities, &gradients, &[]);
        let count = FULL * faces.volume.iter().sum::<f32>();
        assert!((count / positions.len() as f32 - 1.0).abs() < 1e-4, "{count}");
        // Inside there are eight a cell.
        let middle =
            tiles.cell(tiles.keys.iter().position(|key| *key == IVec3::ZERO).unwrap(), IVec3::splat(4));
        assert!((faces.volume[middle.unwrap()] - 1.0).abs() < 0.25);
    }
}
