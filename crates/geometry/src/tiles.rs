//! A sparse grid: tiles of 8³ cells where there are points, and around them.
//!
//! A point alone takes 8 tiles, so that memory follows what is filled, and the number of points that are far from all others.

use glam::{IVec3, Vec3};
use rayon::prelude::*;
use std::collections::HashMap;

/// Cells along each side of a tile.
pub const SIDE: i32 = 8;
/// Cells of a tile.
pub const CELLS: usize = (SIDE * SIDE * SIDE) as usize;
/// Cells up to so many away from a point have a tile.
pub const REACH: i32 = SIDE / 2;
/// Marks a tile that is not there.
const NONE: u32 = u32::MAX;

/// Furthest cell from the origin along an axis; positions beyond count as in that.
const FURTHEST: f32 = 1e9;

/// The cell of a grid in which a position lies.
pub fn cell_of(position: Vec3, inverse_cell: f32) -> IVec3 {
    (position * inverse_cell).floor().clamp(Vec3::splat(-FURTHEST), Vec3::splat(FURTHEST)).as_ivec3()
}

/// The place of a cell of a tile in the arrays of the tile.
#[inline]
pub fn place(local: IVec3) -> usize {
    (local.x | local.y << 3 | local.z << 6) as usize
}

/// The cell of a tile at a place in its arrays.
#[inline]
pub fn local(place: usize) -> IVec3 {
    let place = place as i32;
    IVec3::new(place & 7, place >> 3 & 7, place >> 6)
}

/// Tiles around points, and the points in each.
#[derive(Clone, Debug)]
pub struct Tiles {
    /// Edge of a cell, m.
    pub cell_m: f32,
    /// Places of the tiles, in tiles, ascending.
    pub keys: Vec<IVec3>,
    /// The tiles around each, with itself: x fastest, each from −1 to 1.
    around: Vec<[u32; 27]>,
    /// The points sorted by tile and cell.
    order: Vec<u32>,
    /// Where the points of each tile begin in `order`.
    starts: Vec<u32>,
}

impl Tiles {
    /// Of points at positions, with tiles for all cells within [`REACH`] of the cell of a point.
    pub fn new(positions: &[Vec3], cell_m: f32) -> Self {
        let inverse = 1.0 / cell_m;
        let mut sorted: Vec<([i32; 3], u16, u32)> = (positions.par_iter().enumerate())
            .map(|(i, position)| {
                let cell = cell_of(*position, inverse);
                let tile: IVec3 = cell >> 3;
                ([tile.z, tile.y, tile.x], place(cell & 7) as u16, i as u32)
            })
            .collect();
        sorted.par_sort_unstable();
        // A cell lies nearer than half a tile to one side of its tile along each axis, and to one only.
        let reached = |(key, cell, _): &([i32; 3], u16, u32)| {
            let at = local(usize::from(*cell));
            let side = |axis: usize| if at[axis] < REACH { -1 } else { 1 };
            let ([z, y, x], by) = (*key, [side(0), side(1), side(2)]);
            (0..8).map(move |i| [z + by[2] * (i >> 2), y + by[1] * (i >> 1 & 1), x + by[0] * (i & 1)])
        };
        let cells = sorted.chunk_by(|a, b| (a.0, a.1) == (b.0, b.1)).map(|same| &same[0]);
        let mut all: Vec<[i32; 3]> = cells.flat_map(reached).collect();
        all.par_sort_unstable();
        all.dedup();
        let near = |key: &[i32; 3]| {
            let key = *key;
            (0..27).map(move |i| [key[0] + i / 9 - 1, key[1] + i / 3 % 3 - 1, key[2] + i % 3 - 1])
        };
        let index: HashMap<[i32; 3], u32> = all.iter().copied().zip(0..).collect();
        let neighbours = |key: &[i32; 3]| {
            let mut around = [NONE; 27];
            for (slot, of) in around.iter_mut().zip(near(key)) {
                *slot = index.get(&of).copied().unwrap_or(NONE);
            }
            around
        };
        let around = all.par_iter().with_min_len(64).map(neighbours).collect();
        let mut starts = Vec::with_capacity(all.len() + 1);
        let mut at = 0;
        for key in &all {
            starts.push(at as u32);
            at += sorted[at..].iter().take_while(|of| of.0 == *key).count();
        }
        starts.push(at as u32);
        let order = sorted.into_iter().map(|(_, _, i)| i).collect();
        let keys = all.into_iter().map(|[z, y, x]| IVec3::new(x, y, z)).collect();
        Self { cell_m, keys, around, order, starts }
    }

    /// Number of tiles.
    pub fn len(&self) -> usize {
        self.keys.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    /// Number of cells of all tiles.
    pub fn cells(&self) -> usize {
        self.len() * CELLS
    }

    /// The points in a tile.
    pub fn points_in(&self, tile: usize) -> &[u32] {
        &self.order[self.starts[tile] as usize..self.starts[tile + 1] as usize]
    }

    /// The tile beside another, if there is one; `by` is −1, 0 or 1 along each axis.
    #[inline]
    pub fn beside(&self, tile: usize, by: IVec3) -> Option<usize> {
        let found = self.around[tile][(by.x + 1 + 3 * (by.y + 1) + 9 * (by.z + 1)) as usize];
        (found != NONE).then_some(found as usize)
    }

    /// The place in arrays of all cells of a cell of a tile, or of one up to a tile away from it; none: it has no tile.
    #[inline]
    pub fn cell(&self, tile: usize, cell: IVec3) -> Option<usize> {
        let by = cell >> 3;
        let tile = if by == IVec3::ZERO { tile } else { self.beside(tile, by)? };
        Some(tile * CELLS + place(cell & 7))
    }

    /// The lowest corner of a tile, in cells.
    pub fn corner(&self, tile: usize) -> IVec3 {
        self.keys[tile] * SIDE
    }

    /// A position in a tile that holds it, in cells from the tile's lowest corner: never out of the tile by rounding.
    #[inline]
    pub fn within(&self, tile: usize, position: Vec3) -> Vec3 {
        let at = position / self.cell_m - self.corner(tile).as_vec3();
        at.clamp(Vec3::ZERO, Vec3::splat(SIDE as f32 - 1e-5))
    }

    /// For each cell, the sum of what the points of its tile and of those around add to it. `give` takes a tile and adds what its
    /// points give to cells up to `margin` away, at most [`REACH`]. Sums are taken in the same order for any number of threads.
    pub fn sums<T: Copy + Send + Sync>(
        &self,
        margin: i32,
        zero: T,
        give: impl Fn(usize, &mut Padded<T>) + Sync,
        add: impl Fn(&mut T, &T) + Sync,
    ) -> Vec<T> {
        let given = |tile: usize| {
            (!self.points_in(tile).is_empty()).then(|| {
                let side = SIDE + 2 * margin;
                let mut padded = Padded { margin, values: vec![zero; (side * side * side) as usize] };
                give(tile, &mut padded);
                padded
            })
        };
        let given: Vec<Option<Padded<T>>> = (0..self.len()).into_par_iter().map(given).collect();
        let gather = |tile: usize| {
            let mut sums = vec![zero; CELLS];
            for k in 0..27 {
                let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
                let from = self.beside(tile, by).and_then(|other| given[other].as_ref());
                let Some(from) = from else { continue };
                // Where the cells of this tile lie, seen from the other.
                let low = (-SIDE * by).max(IVec3::splat(-margin));
                let high = (SIDE - SIDE * by).min(IVec3::splat(SIDE + margin));
                for z in low.z..high.z {
                    for y in low.y..high.y {
                        for x in low.x..high.x {
                            let at = IVec3::new(x, y, z);
                            add(&mut sums[place(at + SIDE * by)], &from.values[from.place(at)]);
                        }
                    }
                }
            }
            sums
        };
        (0..self.len()).into_par_iter().flat_map_iter(gather).collect()
    }
}

/// Values at the cells of a tile and at those up to a margin around the tile.
pub struct Padded<T> {
    margin: i32,
    values: Vec<T>,
}

impl<T> Padded<T> {
    /// The value at a cell, counted from the tile's lowest corner.
    #[inline]
    pub fn at(&mut self, cell: IVec3) -> &mut T {
        let place = self.place(cell);
        &mut self.values[place]
    }

    #[inline]
    fn place(&self, cell: IVec3) -> usize {
        let (at, side) = (cell + self.margin, SIDE + 2 * self.margin);
        ((at.z * side + at.y) * side + at.x) as usize
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_lie_in_their_tiles_and_neighbours_are_found_across() {
        let number = |i: u32| f32::from((i.wrapping_mul(0x9E37_79B9) >> 16) as u16) / 65_536.0 - 0.5;
        let positions: Vec<Vec3> =
            (0..500).map(|i| Vec3::new(3.0 * number(3 * i), number(3 * i + 1), number(3 * i + 2))).collect();
        let tiles = Tiles::new(&positions, 0.05);
        assert!(
            tiles.keys.windows(2).all(|two| two[0]
                .to_array()
                .iter()
                .rev()
                .lt(two[1].to_array().iter().rev()))
        );
        let mut seen = 0;
        for tile in 0..tiles.len() {
            for &i in tiles.points_in(tile) {
                let cell = cell_of(positions[i as usize], 20.0);
                assert_eq!(cell >> 3, tiles.keys[tile]);
                // The next cell along x is where its own tile says.
                let beside = tiles.cell(tile, cell - tiles.corner(tile) + IVec3::X).unwrap();
                assert_eq!(tiles.keys[beside / CELLS] * SIDE + local(beside % CELLS), cell + IVec3::X);
                seen += 1;
            }
        }
        assert_eq!(seen, positions.len());
    }

    #[test]
    fn all_cells_within_reach_of_a_point_have_tiles_and_a_point_alone_takes_eight() {
        for position in [Vec3::new(0.3, 7.9, -0.1), Vec3::splat(4.0), Vec3::new(-3.99, 3.99, 12.5)] {
            let tiles = Tiles::new(&[position], 1.0);
            assert_eq!(tiles.len(), 8);
            let tile = (0..8).find(|tile| !tiles.points_in(*tile).is_empty()).unwrap();
            let at = cell_of(position, 1.0) - tiles.corner(tile);
            let steps = || -REACH..=REACH;
            for by in steps().flat_map(|x| steps().flat_map(move |y| steps().map(move |z| [x, y, z]))) {
                assert!(tiles.cell(tile, at + IVec3::from(by)).is_some(), "{by:?} from {at}");
            }
        }
    }
}
