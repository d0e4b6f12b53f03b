//! Multigrid by aggregation for equations of cells with their six neighbours: the cells of a coarse level are aggregates of up to 2³
//! unknowns, and their equations the sums of those (D. Braess, *Towards algebraic multigrid for elliptic problems of second order*,
//! 1995), so that open fractions of faces and the place of the surface go on to all levels.
//!
//! The sums hold the aggregates together twice as strongly as cells of twice the size are, and are halved. A cycle is symmetric:
//! red-black Gauss–Seidel before, and in the other order after; it is a V cycle on large levels and a W cycle on small ones.

use super::grid::{Grid, HALF, NONE, ROW, place_of};
use super::matrix::{Equation, Matrix, rows_of, rows_of_mut};
use geometry::tiles::{corner, octant};
use glam::IVec3;
use rayon::prelude::*;
use std::sync::Arc;
use wide::f32x4;

/// Unknowns at which no coarser level is made.
const COARSEST: usize = 32;
/// Sweeps on the coarsest level.
const COARSEST_SWEEPS: usize = 8;
/// Unknowns of a level below which the next coarser one is visited twice, as in a W cycle.
const MAX_W_CYCLE: usize = 1 << 17;
/// Tiles that a thread takes at once.
const MIN_TILES: usize = 4;
/// An aggregate whose diagonal is below this part of the sum of its unknowns' has no neighbours and no boundary: its equation is
/// singular, and is left out.
const MIN_DIAGONAL: f32 = 1e-5;

/// The grid of a level, and the way to the next coarser one.
struct Level {
    grid: Grid,
    count: usize,
    /// The tiles in each tile of the next coarser level.
    children: Vec<[u32; 8]>,
    /// The tile of that in which each tile lies, and which octant of it.
    parents: Vec<(u32, u8)>,
}

/// All levels, the finest first.
pub(super) struct Multigrid {
    levels: Arc<Vec<Level>>,
    matrices: Vec<Matrix>,
}

/// What a cycle works with, by level.
pub(super) struct Scratch(Vec<LevelScratch>);

struct LevelScratch {
    right: Vec<f32>,
    x: Vec<f32>,
    correction: Vec<f32>,
}

impl Multigrid {
    /// Of the equations of a grid.
    pub fn new(grid: Grid, matrix: Matrix) -> Self {
        let mut levels = vec![Level::new(grid)];
        while let Some(last) = levels.last_mut().filter(|last| last.count > COARSEST) {
            let (next, children) = last.grid.coarser();
            last.parents = vec![(NONE, 0); last.grid.len()];
            for (parent, children) in children.iter().enumerate() {
                for (octant, child) in children.iter().enumerate().filter(|(_, child)| **child != NONE) {
                    last.parents[*child as usize] = (parent as u32, octant as u8);
                }
            }
            last.children = children;
            levels.push(Level::new(next));
        }
        let mut multigrid = Self { levels: Arc::new(levels), matrices: vec![matrix] };
        multigrid.aggregate();
        multigrid
    }

    /// The same with a column added to the diagonal.
    pub fn with_diagonal(&self, more: &[f32]) -> Self {
        let finest = self.matrices[0].with_diagonal(self.grid(), more);
        let mut multigrid = Self { levels: self.levels.clone(), matrices: vec![finest] };
        multigrid.aggregate();
        multigrid
    }

    /// Makes the equations of all levels from those of the finest.
    fn aggregate(&mut self) {
        for pair in self.levels.windows(2) {
            let finer = &self.matrices[self.matrices.len() - 1];
            let next = aggregated(&pair[0], finer, &pair[1].grid);
            self.matrices.push(next);
        }
    }

    /// The finest grid.
    pub fn grid(&self) -> &Grid {
        &self.levels[0].grid
    }

    /// The equations on the finest grid.
    pub fn matrix(&self) -> &Matrix {
        &self.matrices[0]
    }

    /// What a cycle needs.
    pub fn scratch(&self) -> Scratch {
        let of = |level: &Level| {
            let column = || vec![0.0; level.grid.column_len()];
            LevelScratch { right: column(), x: column(), correction: column() }
        };
        Scratch(self.levels.iter().map(of).collect())
    }

    /// Puts an approximate solution for `right` into `x`.
    pub fn cycle(&self, right: &[f32], x: &mut Vec<f32>, scratch: &mut Scratch) {
        std::mem::swap(x, &mut scratch.0[0].x);
        let (own, coarser) = scratch.0.split_first_mut().expect("a scratch for each level");
        cycle(&self.levels, &self.matrices, right, &mut own.x, coarser);
        std::mem::swap(x, &mut scratch.0[0].x);
    }
}

impl Level {
    fn new(grid: Grid) -> Self {
        Self { count: grid.count(), grid, children: Vec::new(), parents: Vec::new() }
    }
}

/// One cycle from the first of the levels down: puts an approximate solution for its right side into `x`.
fn cycle(levels: &[Level], matrices: &[Matrix], right: &[f32], x: &mut [f32], coarser: &mut [LevelScratch]) {
    let (level, matrix) = (&levels[0], &matrices[0]);
    let grid = &level.grid;
    if level.children.is_empty() {
        x.fill(0.0);
        for _ in 0..COARSEST_SWEEPS {
            [0, 1, 1, 0].into_iter().for_each(|colour| matrix.relax(grid, right, x, colour));
        }
        return;
    }
    matrix.relax_alone(right, x, 0);
    matrix.relax(grid, right, x, 1);
    let (next, rest) = coarser.split_first_mut().expect("a coarser level");
    restrict(level, matrix, x, &mut next.right);
    let LevelScratch { right: next_right, x: next_x, correction } = next;
    cycle(&levels[1..], &matrices[1..], next_right, next_x, rest);
    if level.count < MAX_W_CYCLE && !levels[1].children.is_empty() {
        // Once more, for what the first visit left.
        std::mem::swap(next_x, correction);
        matrices[1].multiply(&levels[1].grid, correction, next_x);
        next_right.iter_mut().zip(&*next_x).for_each(|(right, image)| *right -= image);
        cycle(&levels[1..], &matrices[1..], next_right, next_x, rest);
        next_x.iter_mut().zip(&*correction).for_each(|(x, first)| *x += first);
    }
    prolong(level, matrix, next_x, x);
    matrix.relax(grid, right, x, 1);
    matrix.relax(grid, right, x, 0);
}

/// Adds up the residuals of the unknowns in each of the next coarser level. The even cells hold the solution without neighbours, so that
/// their residual is what the odd ones add; the equations of these hold.
fn restrict(level: &Level, matrix: &Matrix, x: &[f32], right: &mut [f32]) {
    let odd = &x[x.len() / 2..];
    let (even_right, odd_right) = right.split_at_mut(right.len() / 2);
    let blocks = even_right.par_chunks_mut(HALF).zip(odd_right.par_chunks_mut(HALF)).zip(&level.children);
    blocks.with_min_len(MIN_TILES).for_each(|((even_right, odd_right), children)| {
        let right = [even_right, odd_right];
        for (octant, child) in children.iter().enumerate() {
            // By the rows of four cells along x that lie in the octant.
            let mut sums = [[f32x4::ZERO; 4]; 4];
            if *child != NONE {
                matrix.for_each_row(&level.grid, (*child as usize, 0), odd, |row, terms| {
                    sums[row >> 4][row >> 1 & 3] += terms.sum;
                });
            }
            let low = corner(octant) * 4;
            for (z, y) in (0..4).flat_map(|z| (0..4).map(move |y| (z, y))) {
                for (i, value) in (0..).zip(sums[z][y].to_array()) {
                    let (colour, place) = place_of(low + IVec3::new(i, y as i32, z as i32));
                    right[colour][place] = value;
                }
            }
        }
    });
}

/// Adds the solution of the next coarser level to the even cells. The odd ones are solved for next.
fn prolong(level: &Level, matrix: &Matrix, correction: &[f32], x: &mut [f32]) {
    let half = x.len() / 2;
    let (even_correction, odd_correction) = correction.split_at(correction.len() / 2);
    let blocks = x[..half].par_chunks_mut(HALF).zip(&level.parents).with_min_len(MIN_TILES);
    blocks.enumerate().for_each(|(tile, (x, (parent, octant)))| {
        let rows = matrix.rows_in(tile, 0);
        let from = *parent as usize * HALF;
        let correction =
            [rows_of(&even_correction[from..][..HALF]), rows_of(&odd_correction[from..][..HALF])];
        let x = rows_of_mut(x);
        let low = corner(*octant as usize) * 4;
        for (z, y) in (0..4).flat_map(|z| (0..4).map(move |y| (z, y))) {
            let at = low + IVec3::new(0, y, z);
            let (colour, place) = place_of(at);
            let [own, other] = [colour, 1 - colour].map(|colour| &correction[colour][place / ROW]);
            let first = place % ROW;
            let four = f32x4::from([own[first], other[first], own[first + 1], other[first + 1]]);
            for by in [0, 1, 8, 9] {
                let row = (16 * z + 2 * y) as usize + by;
                if rows >> row & 1 == 1 {
                    x[row] = (f32x4::from(x[row]) + four).to_array();
                }
            }
        }
    });
}

/// The equations of aggregates: half the sums of those of the unknowns in them.
fn aggregated(level: &Level, finer: &Matrix, coarser: &Grid) -> Matrix {
    let factor = 2.0 * finer.factor;
    let is_plain = |tile: usize| {
        level.children[tile].iter().all(|child| *child != NONE && finer.is_plain(*child as usize))
    };
    let equation = |tile: usize, at: IVec3| {
        let child = level.children[tile][octant(at >> 2)] as usize;
        let low: IVec3 = (at & 3) << 1;
        let row = (low.y + 8 * low.z) as usize;
        let is_plain = |row: usize| (0..2).all(|colour| finer.is_plain_row(child, colour, row));
        if [0, 1, 8, 9].iter().all(|by| is_plain(row + by)) {
            return Equation::plain(factor);
        }
        let (mut sum, mut whole) = (Equation::default(), 0.0);
        for by in (0..8).map(corner) {
            let of = finer.equation(child, place_of(low + by));
            sum.diagonal += of.diagonal;
            whole += of.diagonal;
            for (side, factor) in of.factors.iter().enumerate() {
                // A neighbour above the lower cell, or below the upper one, is in the same aggregate.
                if by[side / 2] as usize == 1 - side % 2 {
                    sum.diagonal -= factor;
                } else {
                    sum.factors[side] += factor;
                }
            }
        }
        if sum.diagonal < MIN_DIAGONAL * whole {
            sum.diagonal = 0.0;
        }
        Equation { factors: sum.factors.map(|factor| 0.5 * factor), diagonal: 0.5 * sum.diagonal }
    };
    Matrix::new(coarser, factor, is_plain, equation)
}

#[cfg(test)]
mod tests {
    use super::super::conjugate_gradients::{Tolerance, conjugate_gradients, dot};
    use super::super::grid::{UnknownCells, step};
    use super::*;
    use geometry::tiles::local;
    use glam::Vec3;
    use rstest::rstest;

    /// The equations of a ball of cells without the ones in a pillar; `is_open` surfaces hold at 0. Where `uneven` is true, factors
    /// differ from place to place.
    fn ball(tiles: i32, is_open: bool, uneven: bool) -> (UnknownCells, Multigrid) {
        let keys: Vec<IVec3> = (0..tiles * tiles * tiles)
            .map(|i| IVec3::new(i % tiles, i / tiles % tiles, i / (tiles * tiles)) - tiles / 2)
            .collect();
        let radius = 3.6 * tiles as f32;
        let within = |at: IVec3| {
            let from = at.as_vec3() + 0.5;
            from.length() < radius && Vec3::new(from.x - 3.0, 0.0, from.z).length() > 0.2 * radius
        };
        let cells = UnknownCells::new(&keys, |cell| within(keys[cell / 512] * 8 + local(cell % 512)));
        let equation = |tile: usize, at: IVec3| {
            let (at, mut equation) = (keys[cells.tile(tile)] * 8 + at, Equation::default());
            for side in 0..6 {
                let other = at + step(side);
                let factor =
                    if uneven { 1.0 + 0.5 * (at + other).as_vec3().element_sum().sin() } else { 1.0 };
                if within(other) {
                    equation.factors[side] = factor;
                    equation.diagonal += factor;
                } else if is_open {
                    equation.diagonal += 2.0;
                }
            }
            equation
        };
        let matrix = Matrix::new(&cells.grid, 1.0, |_| false, equation);
        let multigrid = Multigrid::new(cells.grid.clone(), matrix);
        (cells, multigrid)
    }

    /// A column with values between −1 and 1.
    fn column(cells: &UnknownCells, of: f32) -> Vec<f32> {
        cells.column(|cell| (cell as f32 * of).sin())
    }

    #[rstest]
    fn twice_as_many_cells_along_each_side_take_hardly_more_iterations(
        #[values(2, 4, 8)] tiles: i32,
        #[values(true, false)] is_open: bool,
        #[values(true, false)] uneven: bool,
    ) {
        let (cells, multigrid) = ball(tiles, is_open, uneven);
        // The sum is 0, so that there is a solution where nothing holds the values.
        let right = column(&cells, 0.37);
        let mean = right.iter().sum::<f32>() / cells.count as f32;
        let right = cells.column(|cell| right[cells.number[cell] as usize] - mean);
        let (mut x, mut scratch) = (vec![0.0; right.len()], multigrid.scratch());
        let multiply = |x: &[f32], out: &mut [f32]| multigrid.matrix().multiply(multigrid.grid(), x, out);
        let precondition = |right: &[f32], out: &mut Vec<f32>| multigrid.cycle(right, out, &mut scratch);
        let convergence =
            conjugate_gradients(multiply, precondition, |_| {}, &right, &mut x, Tolerance::Residual(1e-4));
        assert!(convergence.iterations <= 16 && convergence.residual <= 1e-4, "{convergence:?}");
    }

    #[rstest]
    fn a_cycle_is_symmetric_and_positive(#[values(true, false)] uneven: bool) {
        let (cells, multigrid) = ball(3, true, uneven);
        let mut scratch = multigrid.scratch();
        let mut image = |of: &[f32]| {
            let mut out = vec![0.0; of.len()];
            multigrid.cycle(of, &mut out, &mut scratch);
            out
        };
        let (a, b) = (column(&cells, 0.71), column(&cells, 1.33));
        let (image_a, image_b) = (image(&a), image(&b));
        let (one, other) = (dot(&image_a, &b), dot(&a, &image_b));
        let scale = (dot(&image_a, &a) * dot(&image_b, &b)).sqrt();
        assert!((one - other).abs() < 1e-4 * scale, "{one} {other} {scale}");
        assert!(image(&a) == image_a, "a cycle leaves nothing behind");
        assert!(image(&a).iter().enumerate().all(|(place, x)| *x == 0.0 || a[place] != 0.0));
    }

    #[test]
    fn the_equations_of_an_aggregate_are_half_the_sums_of_those_in_it() {
        let (_, multigrid) = ball(4, true, true);
        // The sum over all unknowns of what holds them is halved from level to level.
        let held = |level: usize| {
            let (grid, matrix) = (&multigrid.levels[level].grid, &multigrid.matrices[level]);
            let ones: Vec<f32> = (0..grid.column_len())
                .map(|place| {
                    let (block, within) = (place / HALF, place % HALF);
                    let place = (block / grid.len(), within);
                    f32::from(u8::from(grid.is_unknown(block % grid.len(), place)))
                })
                .collect();
            let mut image = vec![0.0; ones.len()];
            matrix.multiply(grid, &ones, &mut image);
            dot(&image, &ones)
        };
        for level in 1..multigrid.levels.len() {
            let ratio = held(level) / held(level - 1);
            assert!((ratio - 0.5).abs() < 1e-3, "{level}: {ratio}");
        }
    }

    #[test]
    fn what_is_added_to_the_diagonal_is_in_the_left_side_and_plain_rows_come_back() {
        let (cells, multigrid) = ball(4, false, false);
        assert!((0..cells.grid.len()).any(|tile| multigrid.matrix().is_plain_row(tile, 0, 20)));
        let more = cells.column(|cell| if cell.is_multiple_of(701) { 2.5 } else { 0.0 });
        let added = multigrid.with_diagonal(&more);
        let (x, grid) = (column(&cells, 0.37), &cells.grid);
        let image = |of: &Multigrid| {
            let mut out = vec![0.0; x.len()];
            of.matrix().multiply(grid, &x, &mut out);
            out
        };
        for (place, (without, with)) in image(&multigrid).into_iter().zip(image(&added)).enumerate() {
            assert!((with - without - more[place] * x[place]).abs() < 1e-5);
        }
    }
}
