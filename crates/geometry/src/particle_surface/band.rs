//! Which part of a grid lies near the surface of particles: the rest is empty, or lies so deep within them that its nodes are inside.

use crate::tiles::{CELLS, SIDE, Tiles, corner, octant, place};
use glam::{IVec3, Vec3};
use rayon::prelude::*;

/// Cells along each side of a block.
pub(super) const BLOCK: i32 = SIDE / 2;
/// Edge of the bins in which particles are counted, in their sizes or in cells, whichever is more.
const BIN: f32 = 2.0;
/// The part of what a bin holds at rest with which it is full: a bubble that is wider than a bin leaves less in some.
const FULL: f32 = 0.4;
/// Nodes so deep below a level surface are inside, in sizes of the particles.
const DEPTH: f32 = 1.0;
/// Most tiles of bins.
const MAX_TILES: usize = 1 << 18;

/// The blocks of 4³ nodes near the surface, by tile: a bit each, x fastest.
pub(super) struct Band {
    /// Near the surface.
    pub near: Vec<u8>,
    /// Deep within.
    pub deep: Vec<u8>,
}

impl Band {
    /// Of the blocks of tiles; none if particles lie too far apart.
    pub fn new(tiles: &Tiles, positions: &[Vec3], size_m: f32) -> Option<Self> {
        let bin_m = BIN * size_m.max(tiles.cell_m);
        let bins = Tiles::bounded(positions, bin_m, MAX_TILES).ok()?;
        let enough = FULL * (bin_m / size_m).powi(3);
        let mut full = vec![false; bins.cells()];
        full.par_chunks_mut(CELLS).enumerate().for_each(|(tile, full)| {
            let mut counts = [0u32; CELLS];
            for i in bins.points_in(tile) {
                counts[place(bins.within(tile, positions[*i as usize]).as_ivec3())] += 1;
            }
            full.iter_mut().zip(counts).for_each(|(full, count)| *full = count as f32 >= enough);
        });
        // Whether all bins are full that a box reaches into.
        let is_deep = |low: Vec3, high: Vec3| {
            let Some((tile, first)) = bins.find(low) else { return false };
            let last =
                first + (high / bins.cell_m).floor().as_ivec3() - (low / bins.cell_m).floor().as_ivec3();
            let mut all = (first.z..=last.z).flat_map(|z| {
                (first.y..=last.y).flat_map(move |y| (first.x..=last.x).map(move |x| (x, y, z)))
            });
            all.all(|(x, y, z)| bins.cell(tile, IVec3::new(x, y, z)).is_some_and(|bin| full[bin]))
        };
        let of_tile = |tile: usize| {
            let (mut near, mut deep) = (0u8, 0u8);
            for block in 0..8 {
                let is_reached = (0..27).map(|k| IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1)).any(|by| {
                    let (other, _) = beside(tiles, tile, corner(block) + by);
                    other.is_some_and(|other| !tiles.points_in(other).is_empty())
                });
                if !is_reached {
                    continue;
                }
                let low = (tiles.corner(tile) + corner(block) * BLOCK).as_vec3();
                let [low, high] = [low, low + BLOCK as f32 - 1.0].map(|at| at * tiles.cell_m);
                let depth = Vec3::splat(DEPTH * size_m);
                let [low, high] = [low - depth, high + depth];
                if is_deep(low, high) {
                    deep |= 1 << block;
                } else {
                    near |= 1 << block;
                }
            }
            (near, deep)
        };
        let found: Vec<(u8, u8)> = (0..tiles.len()).into_par_iter().with_min_len(16).map(of_tile).collect();
        let (near, deep) = found.into_iter().unzip();
        Some(Self { near, deep })
    }

    /// Whether each particle may reach a node near the surface.
    pub fn is_near(&self, tiles: &Tiles, positions: &[Vec3]) -> Vec<bool> {
        let of_tile = |tile: usize| {
            let mut blocks = [None; 8];
            let points = tiles.points_in(tile).iter();
            points.filter(move |i| {
                let at = tiles.within(tile, positions[**i as usize]).as_ivec3() / BLOCK;
                let block = octant(at);
                *blocks[block].get_or_insert_with(|| self.is_any_near(tiles, tile, at))
            })
        };
        let found: Vec<u32> = (0..tiles.len()).into_par_iter().flat_map_iter(of_tile).copied().collect();
        let mut near = vec![false; positions.len()];
        found.into_iter().for_each(|i| near[i as usize] = true);
        near
    }

    /// Whether a block of a tile, or one around it, is near the surface.
    fn is_any_near(&self, tiles: &Tiles, tile: usize, block: IVec3) -> bool {
        (0..27).map(|k| IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1)).any(|by| {
            let (other, bit) = beside(tiles, tile, block + by);
            other.is_some_and(|other| self.near[other] >> bit & 1 == 1)
        })
    }
}

/// The tile that holds a block, by its place from that of a tile in blocks, and its number there.
fn beside(tiles: &Tiles, tile: usize, block: IVec3) -> (Option<usize>, usize) {
    (tiles.beside(tile, block >> 1), octant(block & 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_deep_has_particles_all_around_and_what_is_neither_has_none_near() {
        let size = 0.1;
        let points = crate::fill(&crate::primitive::sphere(1.2, 48), size);
        let tiles = Tiles::new(&points, 0.5 * size);
        let band = Band::new(&tiles, &points, size).unwrap();
        let mut seen = [0; 3];
        for (tile, block) in (0..tiles.len()).flat_map(|tile| (0..8).map(move |block| (tile, block))) {
            let at = (tiles.corner(tile) + corner(block) * BLOCK).as_vec3() * tiles.cell_m;
            let middle = at + 0.5 * BLOCK as f32 * tiles.cell_m;
            let depth = 1.2 - middle.length();
            let (near, deep) = (band.near[tile] >> block & 1 == 1, band.deep[tile] >> block & 1 == 1);
            assert!(!(near && deep));
            if deep {
                assert!(depth > 1.4 * size, "{depth}");
            } else if !near {
                assert!(depth < -2.0 * size, "{depth}");
            }
            seen[if deep { 0 } else { 1 + usize::from(near) }] += 1;
        }
        assert!(seen.iter().all(|count| *count > 20), "{seen:?}");
        let near = band.is_near(&tiles, &points);
        for (point, near) in points.iter().zip(near) {
            assert!(near || point.length() < 0.9, "{point}");
        }
    }
}
