//! A sparse grid: tiles of 8³ cells where there are points, and around them.
//!
//! A point alone takes 8 tiles, so that memory follows what is filled, and the number of points that are far from all others.

use glam::{IVec3, Vec3};
use rayon::prelude::*;
use thiserror::Error;

/// Cells along each side of a tile.
pub const SIDE: i32 = 8;
/// Cells of a tile.
pub const CELLS: usize = (SIDE * SIDE * SIDE) as usize;
/// Cells up to so many away from a point have a tile.
pub const REACH: i32 = SIDE / 2;
/// Points that are computed at once.
pub const LANES: usize = 8;
/// Marks a tile that is not there.
const NONE: u32 = u32::MAX;

/// Furthest cell from the origin along an axis; positions beyond count as in that.
const FURTHEST: f32 = 8e6;
/// Bits of a tile's place along an axis in its key.
const KEY_BITS: u32 = 21;
/// Points that a thread takes at once.
const CHUNK: usize = 1 << 14;
/// Most chunks whose points are counted by tile.
const MAX_CHUNKS: usize = 32;

/// The cell of a grid in which a position lies.
#[inline]
pub fn cell_of(position: Vec3, inverse_cell: f32) -> IVec3 {
    let at = (position * inverse_cell).clamp(Vec3::splat(-FURTHEST), Vec3::splat(FURTHEST));
    let toward_zero = at.as_ivec3();
    toward_zero - IVec3::from(at.cmplt(toward_zero.as_vec3()))
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

/// The number of a corner of a cube, x fastest.
#[inline]
pub fn octant(corner: IVec3) -> usize {
    (corner.x | corner.y << 1 | corner.z << 2) as usize
}

/// The corner of a cube with a number.
#[inline]
pub fn corner(octant: usize) -> IVec3 {
    let octant = octant as i32;
    IVec3::new(octant & 1, octant >> 1 & 1, octant >> 2)
}

/// Points lie so far apart that there would be more tiles than are allowed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("{0} tiles")]
pub struct TooManyTiles(
    /// Tiles there would be, at least.
    pub usize,
);

/// Tiles around points, and the points in each.
#[derive(Clone, Debug)]
pub struct Tiles {
    /// Edge of a cell, m.
    pub cell_m: f32,
    inverse_cell: f32,
    /// Places of the tiles, in tiles, ascending.
    pub keys: Vec<IVec3>,
    /// The tiles around each, with itself: x fastest, each from −1 to 1.
    around: Vec<[u32; 27]>,
    /// The points sorted by tile.
    order: Vec<u32>,
    /// Where the points of each tile begin in `order`.
    starts: Vec<u32>,
}

impl Tiles {
    /// Of points at positions, with tiles for all cells within [`REACH`] of the cell of a point.
    pub fn new(positions: &[Vec3], cell_m: f32) -> Self {
        Self::bounded(positions, cell_m, usize::MAX).expect("no bound")
    }

    /// The same, with at most `max_tiles`.
    ///
    /// # Errors
    /// [`TooManyTiles`], before memory for more is taken.
    pub fn bounded(positions: &[Vec3], cell_m: f32, max_tiles: usize) -> Result<Self, TooManyTiles> {
        let inverse = 1.0 / cell_m;
        let chunk = CHUNK.max(positions.len().div_ceil(MAX_CHUNKS));
        let mut runs: Vec<Vec<TileRun>> =
            positions.par_chunks(chunk).map(|positions| runs_of(positions, inverse)).collect();
        let keys = reached_keys(&runs, max_tiles)?;
        let around = keys.par_iter().with_min_len(64).map(|key| neighbours(&keys, *key)).collect();
        let (order, starts) = sorted_by_tile(&mut runs, positions.len(), chunk, &keys);
        let keys = keys.into_iter().map(tile_of_key).collect();
        Ok(Self { cell_m, inverse_cell: inverse, keys, around, order, starts })
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

    /// Puts values for all points into three columns in the points' own order. They are computed tile by tile: `load` readies what a
    /// thread has from `begin` for a tile, and `values` takes the tile and eight of its points of which the last ones can be repeated.
    ///
    /// # Panics
    /// If a column is not as long as there are points.
    #[allow(unsafe_code)]
    pub fn update_points<S, A: Copy + Send, B: Copy + Send, C: Copy + Send>(
        &self,
        columns: (&mut [A], &mut [B], &mut [C]),
        begin: impl Fn() -> S + Sync + Send,
        load: impl Fn(&mut S, usize) + Sync,
        values: impl Fn(&S, usize, [usize; LANES]) -> [(A, B, C); LANES] + Sync,
    ) {
        let n = self.order.len();
        assert!(columns.0.len() == n && columns.1.len() == n && columns.2.len() == n);
        let bases =
            (Base(columns.0.as_mut_ptr()), Base(columns.1.as_mut_ptr()), Base(columns.2.as_mut_ptr()));
        (0..self.len()).into_par_iter().for_each_init(begin, |state, tile| {
            if self.points_in(tile).is_empty() {
                return;
            }
            load(state, tile);
            let bases = &bases;
            for (points, count) in self.lanes_in_order(tile) {
                for (i, (a, b, c)) in points.into_iter().zip(values(state, tile, points)).take(count) {
                    // SAFETY: `order` holds each number below its length once, and each of its places belongs to one tile: every
                    // value is written by one thread, and nothing else has the columns.
                    unsafe {
                        bases.0.0.add(i).write(a);
                        bases.1.0.add(i).write(b);
                        bases.2.0.add(i).write(c);
                    }
                }
            }
        });
    }

    /// The points in a tile by eight, from as many places of its list, so that the eight lie apart: with the number of those
    /// that are new; the others are the last one repeated.
    #[inline]
    pub fn lanes_in(&self, tile: usize) -> impl Iterator<Item = ([usize; LANES], usize)> {
        let points = self.points_in(tile);
        let stride = points.len().div_ceil(LANES);
        (0..stride).map(move |first| {
            let count = LANES.min((points.len() - first).div_ceil(stride));
            (std::array::from_fn(|lane| points[first + lane.min(count - 1) * stride] as usize), count)
        })
    }

    /// The points in a tile by eight as they follow each other, with the number of those that are new; the others are the last one
    /// repeated.
    #[inline]
    fn lanes_in_order(&self, tile: usize) -> impl Iterator<Item = ([usize; LANES], usize)> {
        self.points_in(tile).chunks(LANES).map(|points| {
            let last = points.len() - 1;
            (std::array::from_fn(|lane| points[lane.min(last)] as usize), points.len())
        })
    }

    /// The points in a tile, by their own order.
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

    /// The tile that holds a position, and the cell in it; none where there is no tile.
    pub fn find(&self, position: Vec3) -> Option<(usize, IVec3)> {
        let cell = cell_of(position, self.inverse_cell);
        let key = |tile: &IVec3| (tile.z, tile.y, tile.x);
        let tile = self.keys.binary_search_by_key(&key(&(cell >> 3)), key).ok()?;
        Some((tile, cell & 7))
    }

    /// The lowest corner of a tile, in cells.
    pub fn corner(&self, tile: usize) -> IVec3 {
        self.keys[tile] * SIDE
    }

    /// A position in a tile that holds it, in cells from the tile's lowest corner: never out of the tile by rounding.
    #[inline]
    pub fn within(&self, tile: usize, position: Vec3) -> Vec3 {
        let at = position * self.inverse_cell - self.corner(tile).as_vec3();
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

/// Where values lie that threads write at different places.
struct Base<T>(*mut T);

// SAFETY: what is written through it is moved from the thread that writes.
#[allow(unsafe_code)]
unsafe impl<T: Send> Sync for Base<T> {}

/// A number for a tile, in the order of z, y and x.
fn key_of_tile(tile: IVec3) -> u64 {
    let bits = |axis: i32| (axis + (1 << (KEY_BITS - 1))) as u64;
    bits(tile.z) << (2 * KEY_BITS) | bits(tile.y) << KEY_BITS | bits(tile.x)
}

fn tile_of_key(key: u64) -> IVec3 {
    let axis = |by: u32| (key >> by & ((1 << KEY_BITS) - 1)) as i32 - (1 << (KEY_BITS - 1));
    IVec3::new(axis(0), axis(KEY_BITS), axis(2 * KEY_BITS))
}

/// Points with consecutive numbers that lie in one tile.
struct TileRun {
    /// The key of the tile; once the keys are sorted, its place among them.
    tile: u64,
    /// In which octants of the tile they lie: a cell lies nearer than half a tile to one side of its tile along each axis, and to
    /// one only.
    octants: u8,
    count: u32,
}

/// The runs of points, in their order.
fn runs_of(positions: &[Vec3], inverse_cell: f32) -> Vec<TileRun> {
    let mut runs: Vec<TileRun> = Vec::new();
    for position in positions {
        let cell = cell_of(*position, inverse_cell);
        let octant: IVec3 = cell >> 2 & 1;
        let (tile, octants) = (key_of_tile(cell >> 3), 1u8 << (octant.x | octant.y << 1 | octant.z << 2));
        match runs.last_mut() {
            Some(last) if last.tile == tile => {
                last.octants |= octants;
                last.count += 1;
            }
            _ => runs.push(TileRun { tile, octants, count: 1 }),
        }
    }
    runs
}

/// The keys of all tiles that points reach, ascending.
fn reached_keys(runs: &[Vec<TileRun>], max_tiles: usize) -> Result<Vec<u64>, TooManyTiles> {
    let bounded = |tiles: usize| if tiles > max_tiles { Err(TooManyTiles(tiles)) } else { Ok(()) };
    let occupied = |runs: &Vec<TileRun>| merged(runs.iter().map(|run| (run.tile, run.octants)).collect());
    let found = merged(runs.par_iter().flat_map_iter(occupied).collect());
    bounded(found.len())?;
    let mut all: Vec<u64> = Vec::new();
    for (key, mask) in found {
        let tile = tile_of_key(key);
        for octant in (0..8).filter(|octant| mask >> octant & 1 == 1) {
            let bit = |of: i32, axis: i32| of >> axis & 1;
            let side = |axis: i32| 2 * bit(octant, axis) - 1;
            all.extend((0..8).map(|i| {
                let by = IVec3::new(bit(i, 0) * side(0), bit(i, 1) * side(1), bit(i, 2) * side(2));
                key_of_tile(tile + by)
            }));
        }
    }
    all.par_sort_unstable();
    all.dedup();
    bounded(all.len())?;
    Ok(all)
}

/// Tiles with their octants, ascending, each once.
fn merged(mut found: Vec<(u64, u8)>) -> Vec<(u64, u8)> {
    found.sort_unstable();
    found.dedup_by(|later, first| {
        let same = later.0 == first.0;
        first.1 |= if same { later.1 } else { 0 };
        same
    });
    found
}

/// The tiles around one, with itself, by their places among the keys.
fn neighbours(keys: &[u64], key: u64) -> [u32; 27] {
    let mut around = [NONE; 27];
    let tile = tile_of_key(key);
    for row in 0..9 {
        // Tiles along x follow each other.
        let first = key_of_tile(tile + IVec3::new(-1, row % 3 - 1, row / 3 - 1));
        let from = keys.partition_point(|key| *key < first);
        for (place, key) in keys.iter().enumerate().skip(from).take_while(|(_, key)| **key <= first + 2) {
            around[3 * row as usize + (key - first) as usize] = place as u32;
        }
    }
    around
}

/// The points sorted by tile, in each by their own order, and where those of each tile begin. The runs are those of `chunk` points
/// each.
#[allow(unsafe_code)]
fn sorted_by_tile(
    runs: &mut [Vec<TileRun>],
    points: usize,
    chunk: usize,
    keys: &[u64],
) -> (Vec<u32>, Vec<u32>) {
    let count = |runs: &mut Vec<TileRun>| {
        let mut counts = vec![0u32; keys.len()];
        for run in runs {
            run.tile = keys.partition_point(|key| *key < run.tile) as u64;
            counts[run.tile as usize] += run.count;
        }
        counts
    };
    let mut places: Vec<Vec<u32>> = runs.par_iter_mut().map(count).collect();
    // Where the points of each chunk begin in each tile.
    let mut starts = Vec::with_capacity(keys.len() + 1);
    let mut at = 0;
    for tile in 0..keys.len() {
        starts.push(at);
        for counts in &mut places {
            let count = std::mem::replace(&mut counts[tile], at);
            at += count;
        }
    }
    starts.push(at);
    let mut order = vec![0u32; points];
    let base = Base(order.as_mut_ptr());
    runs.par_iter().zip(&mut places).enumerate().for_each(|(number, (runs, places))| {
        let (base, mut point) = (&base, (number * chunk) as u32);
        for run in runs {
            let place = &mut places[run.tile as usize];
            for to in *place..*place + run.count {
                debug_assert!((to as usize) < points);
                // SAFETY: the counts of all runs add up to `points`, and `places` holds where those of a chunk and a tile begin
                // by the same counts: every value within `order` is written once, by one thread, and nothing else has it.
                unsafe { base.0.add(to as usize).write(point) };
                point += 1;
            }
            *place += run.count;
        }
    });
    (order, starts)
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
    fn scattered_points_are_refused_by_their_own_tiles_or_by_those_around() {
        let scattered: Vec<Vec3> = (0..100).map(|i| Vec3::X * (20 * i) as f32).collect();
        let tiles = |max: usize| Tiles::bounded(&scattered, 1.0, max).map(|tiles| tiles.len());
        assert_eq!((tiles(99), tiles(799)), (Err(TooManyTiles(100)), Err(TooManyTiles(800))));
        assert_eq!(tiles(800), Ok(800));
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
