//! The field whose zero is the surface of particles, at the nodes of a grid near it: four nodes along x at once.

use super::attributes::Attributes;
use super::band::{BLOCK, Band};
use super::ellipsoid::Ellipsoid;
use super::kernels::Kernel;
use super::{NONE, SurfaceParticles};
use crate::tiles::{CELLS, SIDE, Tiles, corner, place};
use glam::{IVec3, Vec2, Vec3};
use rayon::prelude::*;
use wide::{f32x4, u32x4};

/// Nodes of a row.
const ROW: usize = BLOCK as usize;
/// Rows of a tile.
const ROWS: usize = CELLS / ROW;
/// Quantities that are summed beside the weight: ways x, y, z, and the radius.
const SUMMED: usize = 4;

/// The weighted sums over the particles around the nodes of a tile.
pub(super) struct TileSums([RowSums; ROWS]);

/// Those of a row.
#[derive(Clone, Copy)]
struct RowSums {
    weights: f32x4,
    sums: [f32x4; SUMMED],
    /// The particle with the greatest weight, and that.
    nearest: u32x4,
    greatest: f32x4,
}

impl RowSums {
    const NONE: Self = Self {
        weights: f32x4::ZERO,
        sums: [f32x4::ZERO; SUMMED],
        nearest: u32x4::new([NONE; 4]),
        greatest: f32x4::ZERO,
    };
}

/// The field at the nodes of tiles.
pub(super) struct Field {
    pub cell_m: f32,
    /// About the distance from the surface by node, m; negative within.
    pub distances: Vec<f32>,
    /// None: the tile has no node near the surface.
    tiles: Vec<Option<TileField>>,
}

/// What a tile with nodes near the surface has beside the distances.
struct TileField {
    /// The particle with the greatest weight by node.
    nearest: Box<[u32; CELLS]>,
    attributes: Box<Attributes>,
}

/// A particle near the surface: the nodes that it reaches, from the lowest corner of the tile in which it lies.
struct Reached {
    low: [i8; 3],
    high: [i8; 3],
    index: u32,
}

impl Reached {
    fn of(tiles: &Tiles, tile: usize, kernel: &Kernel, index: u32) -> Self {
        let at = tiles.within(tile, kernel.position);
        let reach = kernel.extent / tiles.cell_m;
        // Whole numbers below, of what is not below −64.
        let floor = |at: Vec3| (at + 64.0).as_ivec3() - 64;
        let (low, high) = (floor(at - reach) + 1, floor(at + reach));
        Self { low: low.to_array().map(|at| at as i8), high: high.to_array().map(|at| at as i8), index }
    }

    /// The nodes of a tile that it reaches, seen from a tile that lies by so many cells from that in which it lies.
    fn within(&self, by: IVec3) -> Option<[IVec3; 2]> {
        let [low, high] = [self.low, self.high].map(|at| IVec3::from_array(at.map(i32::from)) + by);
        let (low, high) = (low.max(IVec3::ZERO), high.min(IVec3::splat(SIDE - 1)));
        low.cmple(high).all().then_some([low, high])
    }
}

impl Field {
    /// Of the particles for which `is_near` is true.
    pub fn new(
        tiles: &Tiles,
        band: &Band,
        is_near: &[bool],
        kernels: &[Kernel],
        particles: &SurfaceParticles,
    ) -> Self {
        let cell_m = tiles.cell_m;
        let mut distances = vec![cell_m; tiles.cells()];
        let reached = |tile: usize| -> Vec<Reached> {
            let near = tiles.points_in(tile).iter().filter(|i| is_near[**i as usize]);
            near.map(|i| Reached::of(tiles, tile, &kernels[*i as usize], *i)).collect()
        };
        let reached: Vec<Vec<Reached>> =
            (0..tiles.len()).into_par_iter().with_min_len(16).map(reached).collect();
        let of_tile = |sums: &mut Box<TileSums>, (tile, distances): (usize, &mut [f32])| {
            let (near, deep) = (band.near[tile], band.deep[tile]);
            let blocks = |of: u8| (0..8).filter(move |block| of >> block & 1 == 1);
            for block in blocks(deep) {
                for node in nodes(block) {
                    distances[node] = -cell_m;
                }
            }
            if near == 0 {
                return None;
            }
            sums.0.fill(RowSums::NONE);
            let mut attributes = Box::new(Attributes::NONE);
            sums.add_all((tiles, tile), near, &reached, kernels, &mut attributes, particles);
            let mut nearest = Box::new([NONE; CELLS]);
            for row in blocks(near).flat_map(rows) {
                distances[ROW * row..][..ROW].copy_from_slice(&sums.distances(row, cell_m));
                nearest[ROW * row..][..ROW].copy_from_slice(sums.0[row].nearest.as_array());
            }
            Some(TileField { nearest, attributes })
        };
        let begin = || Box::new(TileSums([RowSums::NONE; ROWS]));
        let tiles = distances.par_chunks_mut(CELLS).enumerate().map_init(begin, of_tile).collect();
        Self { cell_m, distances, tiles }
    }

    /// A bit for each corner that is inside of a cell of a tile, or of one beside the tile.
    pub fn inside_of(&self, tiles: &Tiles, tile: usize, cell: IVec3) -> u8 {
        let is_inside =
            |k: &usize| tiles.cell(tile, cell + corner(*k)).is_some_and(|node| self.distances[node] < 0.0);
        (0..8).filter(is_inside).fold(0, |inside, k| inside | 1 << k)
    }

    /// The mean velocity and values at a place in a cell, and the particle that has the greatest weight at the nearest corner of the cell;
    /// corners that no particle reaches do not count. The place is in cells from the lowest corner of the tile.
    pub fn attributes(&self, tiles: &Tiles, tile: usize, cell: IVec3, at: Vec3) -> (Vec3, Vec2, u32) {
        let of = |tile: usize| self.tiles[tile].as_ref();
        let (velocity, value) = Attributes::at(tiles, tile, at, |tile| Some(&*of(tile)?.attributes));
        let mut nearest = (f32::INFINITY, NONE);
        for node in (0..8).map(|k| cell + corner(k)) {
            let Some(place) = tiles.cell(tile, node) else { continue };
            let own = of(place / CELLS).map_or(NONE, |of| of.nearest[place % CELLS]);
            let distance = node.as_vec3().distance_squared(at);
            if own != NONE && distance < nearest.0 {
                nearest = (distance, own);
            }
        }
        (velocity, value, nearest.1)
    }
}

/// The rows of a block, from the lowest of its tile.
fn rows(block: usize) -> impl Iterator<Item = usize> {
    let low = corner(block) * BLOCK;
    (0..ROW * ROW).map(move |i| {
        let at = low + IVec3::new(0, i as i32 % BLOCK, i as i32 / BLOCK);
        place(at) / ROW
    })
}

/// The nodes of a block.
fn nodes(block: usize) -> impl Iterator<Item = usize> {
    rows(block).flat_map(|row| ROW * row..ROW * (row + 1))
}

impl TileSums {
    /// Adds all particles that reach the blocks `near` of a tile.
    fn add_all(
        &mut self,
        (tiles, tile): (&Tiles, usize),
        near: u8,
        reached: &[Vec<Reached>],
        kernels: &[Kernel],
        attributes: &mut Attributes,
        particles: &SurfaceParticles,
    ) {
        for k in 0..27 {
            let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
            let Some(other) = tiles.beside(tile, by) else { continue };
            for of in &reached[other] {
                let Some(nodes) = of.within(SIDE * by) else { continue };
                let kernel = &kernels[of.index as usize];
                let at = tiles.within(other, kernel.position) + (SIDE * by).as_vec3();
                let columns = [kernel.inverse.x_axis, kernel.inverse.y_axis, kernel.inverse.z_axis];
                let ellipsoid = Ellipsoid { at, columns: columns.map(|column| column * tiles.cell_m) };
                self.add(&ellipsoid, nodes, near, (of.index, kernel, tiles.cell_m));
                attributes.add(&ellipsoid, nodes, particles, of.index as usize);
            }
        }
    }

    /// Adds a particle to the nodes from `low` to `high` that lie in blocks near the surface.
    fn add(
        &mut self,
        ellipsoid: &Ellipsoid,
        [low, high]: [IVec3; 2],
        near: u8,
        (index, kernel, cell_m): (u32, &Kernel, f32),
    ) {
        let Vec3 { x, y, z } = (kernel.centre - kernel.position) / cell_m + ellipsoid.at;
        let summed = [x, y, z, kernel.radius_m].map(f32x4::splat);
        let number = u32x4::splat(index);
        let c0 = ellipsoid.columns[0];
        let inverse_square = 1.0 / c0.length_squared();
        for z in low.z..=high.z {
            for y in low.y..=high.y {
                // The nodes of the row within: those with |c0 x + from|² < 1.
                let from = ellipsoid.row(y, z);
                let middle = c0.dot(from) * inverse_square;
                let square = middle * middle - (from.length_squared() - 1.0) * inverse_square;
                if square <= 0.0 {
                    continue;
                }
                let (middle, half_way) = (ellipsoid.at.x - middle, square.sqrt());
                let beyond = BLOCK as f32 - 0.5;
                let halves = [middle - half_way < beyond, middle + half_way > beyond];
                for half in (0..2).filter(|half| halves[*half as usize]) {
                    let block = half | (y / BLOCK) << 1 | (z / BLOCK) << 2;
                    if near >> block & 1 == 0 {
                        continue;
                    }
                    let x = f32x4::new([0.0, 1.0, 2.0, 3.0]) + f32x4::splat((BLOCK * half) as f32);
                    let weight = ellipsoid.weights(from, x);
                    let row = &mut self.0[(2 * (y + SIDE * z) + half) as usize];
                    row.weights += weight;
                    row.sums.iter_mut().zip(summed).for_each(|(sum, value)| *sum += weight * value);
                    let is_greater = weight.simd_gt(row.greatest);
                    row.greatest = is_greater.select(weight, row.greatest);
                    let is_greater: u32x4 = bytemuck::cast(is_greater);
                    row.nearest = is_greater.select(number, row.nearest);
                }
            }
        }
    }

    /// About the distances of the nodes of a row from the surface, m.
    fn distances(&self, row: usize, cell_m: f32) -> [f32; ROW] {
        let at = crate::tiles::local(ROW * row).as_vec3();
        let of = &self.0[row];
        let [x, y, z] = [0, 1, 2].map(|axis| of.sums[axis].to_array());
        let (weights, radii) = (of.weights.to_array(), of.sums[SUMMED - 1].to_array());
        std::array::from_fn(|i| {
            let node = at + Vec3::X * i as f32;
            if weights[i] > 1e-9 {
                let mean = Vec3::new(x[i], y[i], z[i]) / weights[i];
                mean.distance(node) * cell_m - radii[i] / weights[i]
            } else {
                cell_m
            }
        })
    }
}
