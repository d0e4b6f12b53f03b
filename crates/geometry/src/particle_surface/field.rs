//! The field whose zero is the surface of particles, at the nodes of a grid near it: four nodes along x at once.

use super::band::{BLOCK, Band};
use super::kernels::Kernel;
use super::{NONE, SurfaceParticles};
use crate::tiles::{CELLS, SIDE, Tiles, corner, place};
use glam::{IVec3, Vec2, Vec3};
use rayon::prelude::*;
use wide::{f32x4, i32x4};

/// Nodes of a row.
const ROW: usize = BLOCK as usize;
/// Rows of a tile.
const ROWS: usize = CELLS / ROW;
/// Quantities that are summed beside the weight: ways x, y, z, velocities x, y, z, two values and the radius.
const SUMMED: usize = 9;

/// The weighted sums over the particles around the nodes of a tile.
pub(super) struct TileSums([RowSums; ROWS]);

/// Those of a row.
#[derive(Clone, Copy)]
struct RowSums {
    weights: f32x4,
    sums: [f32x4; SUMMED],
    /// The particle with the greatest weight, and that.
    nearest: i32x4,
    greatest: f32x4,
}

/// The mean of what is around a place.
#[derive(Clone, Copy)]
pub(super) struct Means {
    pub velocity: Vec3,
    pub value: Vec2,
    pub nearest: u32,
}

/// The field at the nodes of tiles.
pub(super) struct Field {
    pub cell_m: f32,
    /// About the distance from the surface by node, m; negative within.
    pub distances: Vec<f32>,
    /// None: the tile has no node near the surface.
    sums: Vec<Option<Box<TileSums>>>,
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
        let of_tile = |(tile, distances): (usize, &mut [f32])| {
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
            let mut sums = Box::new(TileSums::NONE);
            sums.add_all(tiles, tile, near, &reached, kernels, particles);
            for row in blocks(near).flat_map(rows) {
                distances[ROW * row..][..ROW].copy_from_slice(&sums.distances(row, cell_m));
            }
            Some(sums)
        };
        let sums = distances.par_chunks_mut(CELLS).enumerate().map(of_tile).collect();
        Self { cell_m, distances, sums }
    }

    /// The means around nodes.
    pub fn means(&self, nodes: impl Iterator<Item = usize>) -> Means {
        let (mut weight, mut sums, mut nearest) = (0.0, [0.0; 5], (0.0, NONE));
        for node in nodes {
            let Some(of) = &self.sums[node / CELLS] else { continue };
            let (row, i) = (node % CELLS / ROW, node % ROW);
            let of = &of.0[row];
            weight += of.weights.as_array()[i];
            for (sum, values) in sums.iter_mut().zip(&of.sums[3..8]) {
                *sum += values.as_array()[i];
            }
            let own = (of.greatest.as_array()[i], of.nearest.as_array()[i] as u32);
            if own.0 > nearest.0 || (own.0 == nearest.0 && own.1 < nearest.1) {
                nearest = own;
            }
        }
        let [x, y, z, a, b] = sums.map(|sum| sum / f32::max(weight, 1e-9));
        Means { velocity: Vec3::new(x, y, z), value: Vec2::new(a, b), nearest: nearest.1 }
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
    const NONE: Self = Self(
        [RowSums {
            weights: f32x4::ZERO,
            sums: [f32x4::ZERO; SUMMED],
            nearest: i32x4::new([-1; 4]),
            greatest: f32x4::ZERO,
        }; ROWS],
    );

    /// Adds all particles that reach the blocks `near` of a tile.
    fn add_all(
        &mut self,
        tiles: &Tiles,
        tile: usize,
        near: u8,
        reached: &[Vec<Reached>],
        kernels: &[Kernel],
        particles: &SurfaceParticles,
    ) {
        for k in 0..27 {
            let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
            let Some(other) = tiles.beside(tile, by) else { continue };
            for of in &reached[other] {
                if let Some(nodes) = of.within(SIDE * by) {
                    let at = tiles.within(other, kernels[of.index as usize].position) + (SIDE * by).as_vec3();
                    self.add((at, of.index as usize), nodes, near, tiles.cell_m, kernels, particles);
                }
            }
        }
    }

    /// Adds a particle, which lies `at` cells from the lowest corner of the tile, to the nodes from `low` to `high` that lie in blocks
    /// near the surface.
    fn add(
        &mut self,
        (at, i): (Vec3, usize),
        [low, high]: [IVec3; 2],
        near: u8,
        cell_m: f32,
        kernels: &[Kernel],
        particles: &SurfaceParticles,
    ) {
        let kernel = &kernels[i];
        let columns = kernel.inverse.to_cols_array_2d().map(|column| column.map(|value| value * cell_m));
        let centre = (kernel.centre - kernel.position) / cell_m + at;
        let (velocity, value) =
            (particles.velocities[i], particles.values.get(i).copied().unwrap_or_default());
        let summed = [
            centre.x,
            centre.y,
            centre.z,
            velocity.x,
            velocity.y,
            velocity.z,
            value.x,
            value.y,
            kernel.radius_m,
        ]
        .map(f32x4::splat);
        let number = i32x4::splat(i as i32);
        let [c0, c1, c2] = columns.map(Vec3::from_array);
        let inverse_square = 1.0 / c0.length_squared();
        for z in low.z..=high.z {
            for y in low.y..=high.y {
                // The nodes of the row within: those with |c0 x + from|² < 1.
                let from = c1 * (y as f32 - at.y) + c2 * (z as f32 - at.z);
                let middle = c0.dot(from) * inverse_square;
                let square = middle * middle - (from.length_squared() - 1.0) * inverse_square;
                if square <= 0.0 {
                    continue;
                }
                let (middle, half_way) = (at.x - middle, square.sqrt());
                let beyond = BLOCK as f32 - 0.5;
                let halves = [middle - half_way < beyond, middle + half_way > beyond];
                for half in (0..2).filter(|half| halves[*half as usize]) {
                    let block = half | (y / BLOCK) << 1 | (z / BLOCK) << 2;
                    if near >> block & 1 == 0 {
                        continue;
                    }
                    let x = f32x4::new([0.0, 1.0, 2.0, 3.0]) + f32x4::splat((BLOCK * half) as f32 - at.x);
                    let [a, b, c]: [f32x4; 3] =
                        std::array::from_fn(|k| x * f32x4::splat(c0[k]) + f32x4::splat(from[k]));
                    let closeness = (f32x4::ONE - (a * a + (b * b + c * c))).max(f32x4::ZERO);
                    let weight = closeness * closeness * closeness;
                    let row = &mut self.0[(2 * (y + SIDE * z) + half) as usize];
                    row.weights += weight;
                    for (sum, value) in row.sums.iter_mut().zip(summed) {
                        *sum += weight * value;
                    }
                    let is_greater = weight.simd_gt(row.greatest);
                    row.greatest = is_greater.select(weight, row.greatest);
                    let is_greater: i32x4 = bytemuck::cast(is_greater);
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
