//! The cells that are unknowns of the equations of the pressure, in tiles of 8³ cells.
//!
//! Columns hold a value for each cell of each tile: first those of all even cells, whose coordinates have an even sum, then those of
//! the odd ones. In a tile the cells of a colour lie in 64 rows along x with four cells each, so that the rows beside a row lie beside
//! it in a column too, and four cells are computed at once. Cells that are no unknowns hold 0.

use geometry::tiles::{CELLS, corner, local, octant};
use glam::IVec3;
use rayon::prelude::*;

/// Marks a cell that is no unknown, and a tile that is not there.
pub(super) const NONE: u32 = u32::MAX;
/// Cells of a row of one colour.
pub(super) const ROW: usize = 4;
/// Rows of one colour in a tile.
pub(super) const ROWS: usize = 64;
/// Cells of one colour in a tile.
pub(super) const HALF: usize = ROW * ROWS;

/// Rows of one colour in a tile.
pub(super) type Block = [[f32; ROW]; ROWS];
/// A bit for each cell of a tile, by colour and row.
type Unknowns = [[u64; HALF / 64]; 2];

/// The colour of a cell of a tile, and its place among the cells of that.
#[inline]
pub(super) fn place_of(at: IVec3) -> (usize, usize) {
    (((at.x + at.y + at.z) & 1) as usize, (at.x >> 1 | at.y << 2 | at.z << 5) as usize)
}

/// The cell of a tile that has a place among those of a colour.
#[inline]
pub(super) fn cell_at(colour: usize, place: usize) -> IVec3 {
    let (half, y, z) = ((place & 3) as i32, (place >> 2 & 7) as i32, (place >> 5) as i32);
    IVec3::new(2 * half + ((y + z + colour as i32) & 1), y, z)
}

/// The way to the cell below or above along each axis.
#[inline]
pub(super) fn step(side: usize) -> IVec3 {
    if side % 2 == 1 { IVec3::AXES[side / 2] } else { -IVec3::AXES[side / 2] }
}

/// Tiles with unknowns.
#[derive(Clone)]
pub(super) struct Grid {
    /// Places of the tiles, in tiles, ascending by z, y and x.
    keys: Vec<IVec3>,
    /// The tiles below and above each along each axis.
    beside: Vec<[u32; 6]>,
    unknowns: Vec<Unknowns>,
}

impl Grid {
    /// Of tiles in ascending order.
    pub fn new(keys: Vec<IVec3>, unknowns: Vec<Unknowns>) -> Self {
        let order = |key: &IVec3| (key.z, key.y, key.x);
        let find =
            |key: IVec3| keys.binary_search_by_key(&order(&key), order).map_or(NONE, |tile| tile as u32);
        let beside = |key: &IVec3| std::array::from_fn(|side| find(*key + step(side)));
        let beside = keys.par_iter().with_min_len(64).map(beside).collect();
        Self { keys, beside, unknowns }
    }

    /// Number of tiles.
    pub fn len(&self) -> usize {
        self.keys.len()
    }

    /// Values of a column.
    pub fn column_len(&self) -> usize {
        self.len() * CELLS
    }

    /// Number of unknowns.
    pub fn count(&self) -> usize {
        self.unknowns.iter().flatten().flatten().map(|bits| bits.count_ones() as usize).sum()
    }

    /// The tile beside another, if there is one.
    pub fn beside(&self, tile: usize, side: usize) -> Option<usize> {
        Some(self.beside[tile][side]).filter(|tile| *tile != NONE).map(|tile| tile as usize)
    }

    /// Whether all cells of a tile are unknowns.
    pub fn is_full(&self, tile: usize) -> bool {
        self.unknowns[tile].iter().flatten().all(|bits| *bits == u64::MAX)
    }

    /// Which cells of a row are unknowns: a bit each.
    #[inline]
    pub fn in_row(&self, tile: usize, colour: usize, row: usize) -> u64 {
        self.unknowns[tile][colour][row / 16] >> (ROW * (row % 16)) & 15
    }

    /// Whether a cell of a tile is an unknown.
    pub fn is_unknown(&self, tile: usize, (colour, place): (usize, usize)) -> bool {
        self.unknowns[tile][colour][place / 64] >> (place % 64) & 1 == 1
    }

    /// Where the value of a cell of a tile lies in a column.
    #[inline]
    pub fn place(&self, tile: usize, (colour, place): (usize, usize)) -> usize {
        (colour * self.len() + tile) * HALF + place
    }

    /// The grid of twice the cells, and the tiles of this one in each of its tiles, x fastest.
    pub fn coarser(&self) -> (Self, Vec<[u32; 8]>) {
        let mut parents: Vec<IVec3> = self.keys.iter().map(|key| *key >> 1).collect();
        parents.sort_unstable_by_key(|key| (key.z, key.y, key.x));
        parents.dedup();
        let mut children = vec![[NONE; 8]; parents.len()];
        for (tile, key) in self.keys.iter().enumerate() {
            let parent: IVec3 = *key >> 1;
            let found =
                parents.binary_search_by_key(&(parent.z, parent.y, parent.x), |of| (of.z, of.y, of.x));
            children[found.expect("it is among them")][octant(*key & 1)] = tile as u32;
        }
        let of_tile = |children: &[u32; 8]| {
            let mut unknowns = Unknowns::default();
            for at in (0..CELLS).map(local) {
                let child = children[octant(at >> 2)];
                let is_unknown = |by| self.is_unknown(child as usize, place_of(((at & 3) << 1) + by));
                if child != NONE && (0..8).map(corner).any(is_unknown) {
                    let (colour, place) = place_of(at);
                    unknowns[colour][place / 64] |= 1 << (place % 64);
                }
            }
            unknowns
        };
        let unknowns = children.par_iter().with_min_len(8).map(of_tile).collect();
        (Self::new(parents, unknowns), children)
    }
}

/// The cells of a grid of tiles that are unknowns, and where their values lie in columns.
pub(super) struct UnknownCells {
    pub grid: Grid,
    /// Number of the unknowns.
    pub count: usize,
    /// The tile of each tile of the grid.
    tiles: Vec<u32>,
    /// Where the value of each cell lies; cells tile by tile, x fastest.
    pub number: Vec<u32>,
}

impl UnknownCells {
    /// Of the cells of tiles, at places in ascending order, for which `is_unknown` is true.
    pub fn new(keys: &[IVec3], is_unknown: impl Fn(usize) -> bool + Sync) -> Self {
        let of_tile = |tile: usize| {
            let mut unknowns = Unknowns::default();
            for at in (0..CELLS).filter(|at| is_unknown(tile * CELLS + at)) {
                let (colour, place) = place_of(local(at));
                unknowns[colour][place / 64] |= 1 << (place % 64);
            }
            (unknowns != Unknowns::default()).then_some((tile as u32, unknowns))
        };
        let found: Vec<(u32, Unknowns)> =
            (0..keys.len()).into_par_iter().with_min_len(8).filter_map(of_tile).collect();
        let (tiles, unknowns): (Vec<u32>, Vec<Unknowns>) = found.into_iter().unzip();
        let grid = Grid::new(tiles.iter().map(|tile| keys[*tile as usize]).collect(), unknowns);
        let mut in_grid = vec![NONE; keys.len()];
        tiles.iter().zip(0..).for_each(|(tile, own)| in_grid[*tile as usize] = own);
        let mut number = vec![NONE; keys.len() * CELLS];
        number.par_chunks_mut(CELLS).zip(in_grid).filter(|(_, own)| *own != NONE).for_each(
            |(number, own)| {
                for (at, number) in number.iter_mut().enumerate() {
                    let place = place_of(local(at));
                    if grid.is_unknown(own as usize, place) {
                        *number = grid.place(own as usize, place) as u32;
                    }
                }
            },
        );
        Self { count: grid.count(), grid, tiles, number }
    }

    /// The tile of a tile of the grid.
    pub fn tile(&self, of_grid: usize) -> usize {
        self.tiles[of_grid] as usize
    }

    /// Each unknown: where its value lies, and its cell.
    pub fn iter(&self) -> impl Iterator<Item = (usize, usize)> {
        (0..2).flat_map(move |colour| (0..self.grid.len()).map(move |tile| (colour, tile))).flat_map(
            move |(colour, tile)| {
                let own = (0..HALF).filter(move |place| self.grid.is_unknown(tile, (colour, *place)));
                own.map(move |place| {
                    let at = geometry::tiles::place(cell_at(colour, place));
                    (self.grid.place(tile, (colour, place)), self.tile(tile) * CELLS + at)
                })
            },
        )
    }

    /// A column of the values of cells.
    pub fn column(&self, of: impl Fn(usize) -> f32 + Sync) -> Vec<f32> {
        let mut column = vec![0.0; self.grid.column_len()];
        column.par_chunks_mut(HALF).enumerate().for_each(|(block, values)| {
            let (colour, tile) = (block / self.grid.len(), block % self.grid.len());
            for (place, value) in values.iter_mut().enumerate() {
                if self.grid.is_unknown(tile, (colour, place)) {
                    *value = of(self.tile(tile) * CELLS + geometry::tiles::place(cell_at(colour, place)));
                }
            }
        });
        column
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::tiles::SIDE;

    #[test]
    fn every_cell_has_a_place_of_its_own_beside_those_around_it() {
        let mut seen = [false; CELLS];
        for at in (0..CELLS).map(local) {
            let (colour, place) = place_of(at);
            assert_eq!(cell_at(colour, place), at);
            assert!(!std::mem::replace(&mut seen[colour * HALF + place], true));
            // The cell above along y, and along z, has the place of the next row, and the row of the next layer.
            if at.y < SIDE - 1 {
                assert_eq!(place_of(at + IVec3::Y), (1 - colour, place + ROW));
            }
            if at.z < SIDE - 1 {
                assert_eq!(place_of(at + IVec3::Z), (1 - colour, place + 8 * ROW));
            }
        }
    }

    #[test]
    fn the_cells_of_a_column_come_back_and_a_coarse_cell_holds_those_in_it() {
        let keys = [IVec3::new(-1, 0, 0), IVec3::new(0, 0, 0), IVec3::new(4, 0, 0)];
        let is_unknown = |cell: usize| cell.is_multiple_of(3) && cell < 2 * CELLS;
        let cells = UnknownCells::new(&keys, is_unknown);
        assert_eq!(cells.grid.len(), 2, "tiles without unknowns are left out");
        let column = cells.column(|cell| cell as f32 + 1.0);
        let mut count = 0;
        for (place, cell) in cells.iter() {
            assert!(is_unknown(cell) && cells.number[cell] == place as u32);
            assert_eq!(column[place], cell as f32 + 1.0);
            count += 1;
        }
        assert_eq!(count, cells.grid.count());
        assert_eq!(column.iter().filter(|value| **value > 0.0).count(), count);
        assert_eq!(cells.number.iter().filter(|number| **number != NONE).count(), count);
        let (coarser, children) = cells.grid.coarser();
        assert_eq!(children.len(), 2);
        assert_eq!(coarser.count(), 2 * 64, "of eight cells at least one is an unknown");
    }
}
