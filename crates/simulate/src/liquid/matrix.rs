//! Equations of cells with their six neighbours: d x − Σ f x' = b.
//!
//! Most cells lie within the liquid and far from walls: rows of four of these have one factor in common, which is not stored. The other
//! rows have factors of their own.

use super::grid::{Block, Grid, HALF, ROW, ROWS, cell_at};
use glam::IVec3;
use rayon::prelude::*;
use wide::f32x4;

/// Cells along each side of a tile.
const SIDE: usize = geometry::tiles::SIDE as usize;
/// Tiles that a thread takes at once.
const MIN_TILES: usize = 8;

/// The equation of an unknown.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Equation {
    /// f to the unknowns below and above along each axis.
    pub factors: [f32; 6],
    /// d, at least the sum of f; 0: there is no equation.
    pub diagonal: f32,
}

impl Equation {
    /// That of a cell with neighbours on all sides.
    pub fn plain(factor: f32) -> Self {
        Self { factors: [factor; 6], diagonal: 6.0 * factor }
    }
}

/// The equations of the four cells of a row; those of cells that are no unknowns are 0.
#[derive(Clone, Copy)]
struct Row {
    factors: [f32x4; 6],
    diagonal: f32x4,
    /// 1 / d; 0 without an equation.
    inverse: f32x4,
}

/// The rows of a tile.
#[derive(Clone, Default)]
struct TileRows {
    /// By colour, a bit for each row that is plain.
    plain: [u64; 2],
    /// By colour, a bit for each of the others with an unknown.
    other: [u64; 2],
    /// Those, in their order.
    rows: Vec<Row>,
}

impl TileRows {
    fn is_plain(&self) -> bool {
        self.plain == [u64::MAX; 2]
    }

    fn first(&self, colour: usize) -> usize {
        if colour == 0 { 0 } else { self.other[0].count_ones() as usize }
    }

    /// Where one of the other rows lies among them.
    fn find(&self, colour: usize, row: usize) -> usize {
        let before = (1u64 << row) - 1;
        self.first(colour) + (self.other[colour] & before).count_ones() as usize
    }
}

/// What a row's values are computed from.
#[derive(Clone, Copy)]
pub(super) struct RowTerms {
    /// Σ f x'.
    pub sum: f32x4,
    pub diagonal: f32x4,
    pub inverse: f32x4,
}

/// The equations of all unknowns of a grid.
#[derive(Clone)]
pub(super) struct Matrix {
    /// The factor of plain rows.
    pub factor: f32,
    tiles: Vec<TileRows>,
}

impl Matrix {
    /// Of the equations of unknowns, by tile and cell. A tile for which `is_plain` is true has the plain ones only.
    pub fn new(
        grid: &Grid,
        factor: f32,
        is_plain: impl Fn(usize) -> bool + Sync,
        equation: impl Fn(usize, IVec3) -> Equation + Sync,
    ) -> Self {
        let of_tile = |tile: usize| {
            if is_plain(tile) {
                return TileRows { plain: [u64::MAX; 2], ..TileRows::default() };
            }
            let mut of = TileRows::default();
            for (colour, row) in (0..2).flat_map(|colour| (0..ROWS).map(move |row| (colour, row))) {
                let unknowns = grid.in_row(tile, colour, row);
                if unknowns == 0 {
                    continue;
                }
                let of_cell = |i: usize| match unknowns >> i & 1 {
                    1 => equation(tile, cell_at(colour, ROW * row + i)),
                    _ => Equation::default(),
                };
                let equations: [Equation; ROW] = std::array::from_fn(of_cell);
                if equations.iter().all(|of| *of == Equation::plain(factor)) {
                    of.plain[colour] |= 1 << row;
                } else {
                    of.other[colour] |= 1 << row;
                    of.rows.push(Row::of(&equations));
                }
            }
            of.rows.shrink_to_fit();
            of
        };
        let tiles = (0..grid.len()).into_par_iter().with_min_len(MIN_TILES).map(of_tile).collect();
        Self { factor, tiles }
    }

    /// The same with a column added to the diagonal of unknowns that have an equation.
    pub fn with_diagonal(&self, grid: &Grid, more: &[f32]) -> Self {
        let own = |tile: usize, colour: usize| &more[(colour * grid.len() + tile) * HALF..][..HALF];
        let is_plain = |tile: usize| {
            self.is_plain(tile)
                && [0, 1].iter().all(|colour| own(tile, *colour).iter().all(|more| *more == 0.0))
        };
        let equation = |tile: usize, at: IVec3| {
            let place = super::grid::place_of(at);
            let mut equation = self.equation(tile, place);
            if equation.diagonal > 0.0 {
                equation.diagonal += own(tile, place.0)[place.1];
            }
            equation
        };
        Self::new(grid, self.factor, is_plain, equation)
    }

    /// Whether all rows of a tile are plain.
    pub fn is_plain(&self, tile: usize) -> bool {
        self.tiles[tile].is_plain()
    }

    /// Whether a row of a tile is plain.
    pub fn is_plain_row(&self, tile: usize, colour: usize, row: usize) -> bool {
        self.tiles[tile].plain[colour] >> row & 1 == 1
    }

    /// A bit for each row of a colour in a tile that has unknowns.
    pub fn rows_in(&self, tile: usize, colour: usize) -> u64 {
        self.tiles[tile].plain[colour] | self.tiles[tile].other[colour]
    }

    /// The equation of a cell of a tile.
    pub fn equation(&self, tile: usize, (colour, place): (usize, usize)) -> Equation {
        let (of, row, i) = (&self.tiles[tile], place / ROW, place % ROW);
        if of.plain[colour] >> row & 1 == 1 {
            return Equation::plain(self.factor);
        }
        if of.other[colour] >> row & 1 == 0 {
            return Equation::default();
        }
        let row = &of.rows[of.find(colour, row)];
        Equation {
            factors: row.factors.map(|factors| factors.to_array()[i]),
            diagonal: row.diagonal.to_array()[i],
        }
    }

    /// Whether the unknown at a place of a column has an equation.
    pub fn is_solved(&self, place: usize) -> bool {
        let (block, within) = (place / HALF, place % HALF);
        self.equation(block % self.tiles.len(), (block / self.tiles.len(), within)).diagonal > 0.0
    }

    /// Sets to 0 what a column holds for unknowns without an equation.
    pub fn clear_unsolved(&self, column: &mut [f32]) {
        let count = self.tiles.len();
        let blocks = column.par_chunks_mut(HALF).enumerate().with_min_len(MIN_TILES);
        blocks.for_each(|(block, values)| {
            let (of, colour) = (&self.tiles[block % count], block / count);
            let rows = bits(of.other[colour]).zip(&of.rows[of.first(colour)..]);
            for (row, terms) in rows {
                let inverses = terms.inverse.to_array();
                for (value, inverse) in values[ROW * row..][..ROW].iter_mut().zip(inverses) {
                    *value = if inverse > 0.0 { *value } else { 0.0 };
                }
            }
        });
    }

    /// Calls `of` with each row of a colour that has unknowns, and its terms, which come from the values of the cells of the other colour.
    #[inline(always)]
    pub fn for_each_row(
        &self,
        grid: &Grid,
        (tile, colour): (usize, usize),
        other: &[f32],
        mut of: impl FnMut(usize, RowTerms),
    ) {
        let around = Around::new(grid, tile, other);
        let TileRows { plain, other, rows, .. } = &self.tiles[tile];
        let mut rows = rows[self.tiles[tile].first(colour)..].iter();
        let (plain, other) = (plain[colour], other[colour]);
        let factor = f32x4::splat(self.factor);
        let (diagonal, inverse) = (f32x4::splat(6.0 * self.factor), f32x4::splat(1.0 / (6.0 * self.factor)));
        for z in 0..SIDE {
            let layer = around.layer(z);
            for y in 0..SIDE {
                let row = SIDE * z + y;
                let is_shifted = (y + z + colour) & 1 == 1;
                if plain >> row & 1 == 1 {
                    let [a, b, c, d, e, f] = layer.beside(y, is_shifted);
                    of(row, RowTerms { sum: factor * (((a + b) + (c + d)) + (e + f)), diagonal, inverse });
                } else if other >> row & 1 == 1 {
                    let terms = rows.next().expect("each has its row");
                    let [a, b, c, d, e, f] = layer.beside(y, is_shifted);
                    let [g, h, i, j, k, l] = terms.factors;
                    let sum = ((g * a + h * b) + (i * c + j * d)) + (k * e + l * f);
                    of(row, RowTerms { sum, diagonal: terms.diagonal, inverse: terms.inverse });
                }
            }
        }
    }

    /// Solves the equations of the cells of a colour for these.
    pub fn relax(&self, grid: &Grid, right: &[f32], x: &mut [f32], colour: usize) {
        let (own, other, right) = by_colour(x, right, colour);
        let blocks = own.par_chunks_mut(HALF).zip(right.par_chunks(HALF)).enumerate().with_min_len(MIN_TILES);
        blocks.for_each(|(tile, (x, right))| {
            let (x, right) = (rows_of_mut(x), rows_of(right));
            self.for_each_row(grid, (tile, colour), other, |row, terms| {
                x[row] = ((f32x4::from(right[row]) + terms.sum) * terms.inverse).to_array();
            });
        });
    }

    /// The same where the cells of the other colour hold 0.
    pub fn relax_alone(&self, right: &[f32], x: &mut [f32], colour: usize) {
        let (own, _, right) = by_colour(x, right, colour);
        let plain = f32x4::splat(1.0 / (6.0 * self.factor));
        let blocks =
            own.par_chunks_mut(HALF).zip(right.par_chunks(HALF)).zip(&self.tiles).with_min_len(MIN_TILES);
        blocks.for_each(|((x, right), of)| {
            let (x, right) = (rows_of_mut(x), rows_of(right));
            for row in bits(of.plain[colour]) {
                x[row] = (f32x4::from(right[row]) * plain).to_array();
            }
            for (row, terms) in bits(of.other[colour]).zip(&of.rows[of.first(colour)..]) {
                x[row] = (f32x4::from(right[row]) * terms.inverse).to_array();
            }
        });
    }

    /// Puts the left sides for `x` into `out`.
    pub fn multiply(&self, grid: &Grid, x: &[f32], out: &mut [f32]) {
        let half = x.len() / 2;
        for colour in 0..2 {
            let (even, odd) = (&x[..half], &x[half..]);
            let (own, other) = if colour == 0 { (even, odd) } else { (odd, even) };
            let out = &mut out[colour * half..][..half];
            let blocks =
                out.par_chunks_mut(HALF).zip(own.par_chunks(HALF)).enumerate().with_min_len(MIN_TILES);
            blocks.for_each(|(tile, (out, x))| {
                let (out, x) = (rows_of_mut(out), rows_of(x));
                self.for_each_row(grid, (tile, colour), other, |row, terms| {
                    out[row] = (terms.diagonal * f32x4::from(x[row]) - terms.sum).to_array();
                });
            });
        }
    }
}

impl Row {
    fn of(equations: &[Equation; ROW]) -> Self {
        let inverse = |diagonal: f32| if diagonal > 0.0 { 1.0 / diagonal } else { 0.0 };
        Self {
            factors: std::array::from_fn(|side| f32x4::from(equations.map(|of| of.factors[side]))),
            diagonal: f32x4::from(equations.map(|of| of.diagonal)),
            inverse: f32x4::from(equations.map(|of| inverse(of.diagonal))),
        }
    }
}

/// The numbers of the bits that are set, ascending.
fn bits(mut of: u64) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        let first = of.trailing_zeros();
        of &= of.wrapping_sub(1);
        (first < 64).then_some(first as usize)
    })
}

/// The values of the cells of a colour, those of the other, and the right sides of the first.
fn by_colour<'a>(x: &'a mut [f32], right: &'a [f32], colour: usize) -> (&'a mut [f32], &'a [f32], &'a [f32]) {
    let half = x.len() / 2;
    let (even, odd) = x.split_at_mut(half);
    if colour == 0 { (even, odd, &right[..half]) } else { (odd, even, &right[half..]) }
}

#[inline(always)]
pub(super) fn rows_of(block: &[f32]) -> &Block {
    block.as_chunks().0.try_into().expect("a block of rows")
}

#[inline(always)]
pub(super) fn rows_of_mut(block: &mut [f32]) -> &mut Block {
    block.as_chunks_mut().0.try_into().expect("a block of rows")
}

/// The values of the cells of a colour in a tile and in those beside it.
struct Around<'a> {
    own: &'a Block,
    beside: [&'a Block; 6],
}

impl<'a> Around<'a> {
    /// From the half of a column with the cells of that colour.
    #[inline(always)]
    fn new(grid: &Grid, tile: usize, values: &'a [f32]) -> Self {
        static NOTHING: Block = [[0.0; ROW]; ROWS];
        let block = |tile: usize| rows_of(&values[tile * HALF..][..HALF]);
        let beside = |side: usize| grid.beside(tile, side).map_or(&NOTHING, block);
        Self { own: block(tile), beside: std::array::from_fn(beside) }
    }

    /// The layer at z.
    #[inline(always)]
    fn layer(&self, z: usize) -> Layer<'a> {
        let of = |block: &'a Block, z: usize| -> &'a [[f32; ROW]; SIDE] {
            block[SIDE * z..][..SIDE].try_into().expect("a layer")
        };
        let [below_x, above_x, below_y, above_y, below_z, above_z] = self.beside;
        Layer {
            own: of(self.own, z),
            below_x: of(below_x, z),
            above_x: of(above_x, z),
            below_y: &of(below_y, z)[SIDE - 1],
            above_y: &of(above_y, z)[0],
            below_z: if z > 0 { of(self.own, z - 1) } else { of(below_z, SIDE - 1) },
            above_z: if z + 1 < SIDE { of(self.own, z + 1) } else { of(above_z, 0) },
        }
    }
}

/// The rows of a layer and of those beside it.
struct Layer<'a> {
    own: &'a [[f32; ROW]; SIDE],
    below_x: &'a [[f32; ROW]; SIDE],
    above_x: &'a [[f32; ROW]; SIDE],
    below_y: &'a [f32; ROW],
    above_y: &'a [f32; ROW],
    below_z: &'a [[f32; ROW]; SIDE],
    above_z: &'a [[f32; ROW]; SIDE],
}

impl Layer<'_> {
    /// The values below and above the cells of a row of the other colour along each axis; `is_shifted`: these lie at odd places along x.
    #[inline(always)]
    fn beside(&self, y: usize, is_shifted: bool) -> [f32x4; 6] {
        let own = f32x4::new(self.own[y]);
        let [a, b, c, d] = self.own[y];
        let (below_x, above_x) = if is_shifted {
            (own, f32x4::new([b, c, d, self.above_x[y][0]]))
        } else {
            (f32x4::new([self.below_x[y][ROW - 1], a, b, c]), own)
        };
        let below_y = f32x4::new(if y > 0 { self.own[y - 1] } else { *self.below_y });
        let above_y = f32x4::new(if y + 1 < SIDE { self.own[y + 1] } else { *self.above_y });
        [below_x, above_x, below_y, above_y, f32x4::new(self.below_z[y]), f32x4::new(self.above_z[y])]
    }
}
