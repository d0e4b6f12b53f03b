//! Multigrid by aggregation for equations of cells with their six neighbours: the cells of a coarse level are aggregates of up to 2³
//! unknowns, and their equations the sums of those (D. Braess, *Towards algebraic multigrid for elliptic problems of second order*,
//! 1995), so that open fractions of faces and the place of the surface go on to all levels.
//!
//! The sums hold the aggregates together twice as strongly as cells of twice the size are, and are halved. A cycle is symmetric:
//! red-black Gauss–Seidel before, and in the other order after; it is a V cycle on large levels and a W cycle on small ones.

use geometry::tiles::SIDE;
use glam::IVec3;
use rayon::prelude::*;
use std::borrow::Cow;

/// Marks a cell that is no unknown.
pub(super) const NONE: u32 = u32::MAX;
/// Unknowns at which no coarser level is made.
const COARSEST: usize = 32;
/// Sweeps on the coarsest level.
const COARSEST_SWEEPS: usize = 8;
/// Unknowns of a level below which the next coarser one is visited twice, as in a W cycle.
const MAX_W_CYCLE: usize = 1 << 17;
/// Rows that a thread takes at once.
const CHUNK: usize = 2_048;
/// An aggregate whose diagonal is below this part of the sum of its unknowns' has no neighbours and no boundary: its equation is
/// singular, and is left out.
const MIN_DIAGONAL: f32 = 1e-5;

/// The cells of a level that are unknowns: first those whose coordinates have an even sum, then the others.
#[derive(Clone)]
pub(super) struct Grid {
    /// Places of the tiles, in tiles, ascending by z, y and x.
    keys: Vec<IVec3>,
    /// Cells along each side of a tile.
    side: i32,
    /// The number of each cell among the unknowns; cells tile by tile, x fastest.
    pub number: Vec<u32>,
    /// The cells of the unknowns.
    pub cells: Vec<u32>,
    /// Unknowns of even cells.
    even: usize,
}

impl Grid {
    /// Of the cells of tiles for which `is_unknown` is true.
    pub fn new(keys: Vec<IVec3>, side: i32, is_unknown: impl Fn(usize) -> bool + Sync) -> Self {
        let in_tile = (side * side * side) as usize;
        let list = |parity: i32| -> Vec<u32> {
            let of_tile = |tile: usize| {
                let corner = keys[tile].element_sum() * side;
                let is_unknown = &is_unknown;
                (0..in_tile).filter_map(move |place| {
                    let at = local(place, side).element_sum() + corner;
                    let cell = tile * in_tile + place;
                    (at & 1 == parity && is_unknown(cell)).then_some(cell as u32)
                })
            };
            (0..keys.len()).into_par_iter().flat_map_iter(of_tile).collect()
        };
        let mut cells = list(0);
        let even = cells.len();
        cells.extend(list(1));
        let mut number = vec![NONE; keys.len() * in_tile];
        cells.iter().enumerate().for_each(|(row, cell)| number[*cell as usize] = row as u32);
        Self { keys, side, number, cells, even }
    }

    /// The same unknowns in tiles of 8³ cells, where each was a tile of its own.
    fn grouped(self) -> (Self, Vec<u32>) {
        let mut parents: Vec<IVec3> = self.keys.iter().map(|key| *key >> 3).collect();
        parents.sort_unstable_by_key(|key| (key.z, key.y, key.x));
        parents.dedup();
        let mut old = vec![NONE; parents.len() * (SIDE * SIDE * SIDE) as usize];
        for (key, row) in self.keys.iter().zip(&self.number) {
            let parent: IVec3 = *key >> 3;
            let tile = parents.binary_search_by_key(&(parent.z, parent.y, parent.x), |of| (of.z, of.y, of.x));
            let place = geometry::tiles::place(*key & 7);
            old[tile.expect("it is among them") * (SIDE * SIDE * SIDE) as usize + place] = *row;
        }
        let grid = Self::new(parents, SIDE, |cell| old[cell] != NONE);
        let old = grid.cells.iter().map(|cell| old[*cell as usize]).collect();
        (grid, old)
    }

    /// The grid of twice the cells, and the unknowns of this one in each of its unknowns.
    fn coarser(&self) -> (Self, Vec<[u32; 8]>) {
        let (side, half) = (self.side, self.side / 2);
        let in_tile = (half * half * half) as usize;
        let children = |cell: usize| -> [u32; 8] {
            let low = local(cell % in_tile, half) * 2;
            std::array::from_fn(|i| {
                let at = low + IVec3::new(i as i32 & 1, i as i32 >> 1 & 1, i as i32 >> 2);
                let place = (at.z * side + at.y) * side + at.x;
                self.number[cell / in_tile * (side * side * side) as usize + place as usize]
            })
        };
        let any = |cell: usize| children(cell).iter().any(|row| *row != NONE);
        let grid = Self::new(self.keys.clone(), half, any);
        let children = grid.cells.par_iter().with_min_len(CHUNK).map(|cell| children(*cell as usize));
        let children = children.collect();
        (grid, children)
    }
}

fn local(place: usize, side: i32) -> IVec3 {
    let place = place as i32;
    IVec3::new(place % side, place / side % side, place / (side * side))
}

/// The equation d x − Σ f x' = b of an unknown.
#[derive(Clone, Copy, Default)]
pub(super) struct Row {
    /// Unknowns below and above along each axis; any where the factor is 0.
    pub neighbours: [u32; 6],
    /// f to them.
    pub factors: [f32; 6],
    /// d; at least the sum of f.
    pub diagonal: f32,
}

impl Row {
    /// Σ f x'; `x` begins with the unknown of the number `from`.
    #[inline(always)]
    fn neighbour_sum(&self, x: &[f32], from: usize) -> f32 {
        let mut sum = 0.0;
        for (neighbour, factor) in self.neighbours.iter().zip(&self.factors) {
            if *factor != 0.0 {
                sum += factor * x[*neighbour as usize - from];
            }
        }
        sum
    }
}

/// The equations of the unknowns of a grid.
#[derive(Clone, Default)]
pub(super) struct Rows(pub Vec<Row>);

impl Rows {
    /// Puts the left sides for `x` into `out`.
    pub fn multiply(&self, x: &[f32], out: &mut [f32]) {
        let rows = out.par_iter_mut().zip(&self.0).zip(x).with_min_len(CHUNK);
        rows.for_each(|((out, row), own)| *out = row.diagonal * own - row.neighbour_sum(x, 0));
    }
}

/// A level and the way to the next coarser one.
struct Level {
    rows: Rows,
    even: usize,
    /// The unknown of the next coarser level in which each lies.
    coarse: Vec<u32>,
    /// The unknowns in each of those.
    children: Vec<[u32; 8]>,
}

/// What a cycle works with on a level.
#[derive(Default)]
struct Scratch {
    right: Vec<f32>,
    x: Vec<f32>,
    correction: Vec<f32>,
    residual: Vec<f32>,
}

/// All levels, the finest first.
pub(super) struct Multigrid {
    levels: Vec<Level>,
    scratch: Vec<Scratch>,
}

impl Multigrid {
    /// Of the equations of a grid.
    pub fn new(grid: &Grid, rows: Rows) -> Self {
        let mut levels: Vec<Level> = Vec::new();
        let (mut grid, mut rows) = (Cow::Borrowed(grid), rows);
        loop {
            let count = grid.cells.len();
            if grid.side == 1 {
                let (grouped, old) = grid.into_owned().grouped();
                rows = reordered(&rows, &old);
                // The unknowns of the finer level find theirs under new numbers.
                if let Some(finer) = levels.last_mut() {
                    let mut new = vec![0; old.len()];
                    old.iter().enumerate().for_each(|(row, old)| new[*old as usize] = row as u32);
                    finer.coarse.iter_mut().for_each(|row| *row = new[*row as usize]);
                    finer.children = old.iter().map(|old| finer.children[*old as usize]).collect();
                }
                grid = Cow::Owned(grouped);
            }
            let mut level = Level { rows, even: grid.even, coarse: Vec::new(), children: Vec::new() };
            if count <= COARSEST {
                levels.push(level);
                let scratch = |level: &Level| {
                    let column = || vec![0.0; level.rows.0.len()];
                    Scratch { right: column(), x: column(), correction: column(), residual: column() }
                };
                return Self { scratch: levels.iter().map(scratch).collect(), levels };
            }
            let (next, children) = grid.coarser();
            level.coarse = vec![0; count];
            for (row, children) in children.iter().enumerate() {
                for child in children.iter().filter(|child| **child != NONE) {
                    level.coarse[*child as usize] = row as u32;
                }
            }
            rows = aggregated(&level, &children);
            level.children = children;
            levels.push(level);
            grid = Cow::Owned(next);
        }
    }

    /// Puts an approximate solution for `right` into `x`.
    pub fn cycle(&mut self, right: &[f32], x: &mut Vec<f32>) {
        self.scratch[0].right.copy_from_slice(right);
        cycle(&self.levels, &mut self.scratch);
        std::mem::swap(x, &mut self.scratch[0].x);
    }
}

/// One cycle from the first of the levels down: puts an approximate solution for its right side into its `x`.
fn cycle(levels: &[Level], scratch: &mut [Scratch]) {
    let (level, own) = (&levels[0], &mut scratch[0]);
    own.x.fill(0.0);
    if level.children.is_empty() {
        for _ in 0..COARSEST_SWEEPS {
            level.sweep(&own.right, &mut own.x, [0, 1]);
            level.sweep(&own.right, &mut own.x, [1, 0]);
        }
        return;
    }
    let (own, coarser) = scratch.split_first_mut().expect("a scratch for each level");
    level.sweep(&own.right, &mut own.x, [0, 1]);
    // The equations of the odd unknowns, which came last, hold.
    let (even, x) = (level.even, &own.x);
    let residuals = own.residual[..even].par_iter_mut().zip(&level.rows.0).zip(&own.right).zip(x);
    residuals.with_min_len(CHUNK).for_each(|(((residual, row), right), own)| {
        *residual = right + row.neighbour_sum(x, 0) - row.diagonal * own;
    });
    let next = &mut coarser[0];
    next.right.par_iter_mut().zip(&level.children).with_min_len(CHUNK).for_each(|(right, children)| {
        let of = |row: &&u32| (**row as usize) < even;
        *right = children.iter().filter(of).map(|row| own.residual[*row as usize]).sum();
    });
    cycle(&levels[1..], coarser);
    if own.right.len() < MAX_W_CYCLE && !levels[1].children.is_empty() {
        // Once more, for what the first visit left.
        let next = &mut coarser[0];
        std::mem::swap(&mut next.x, &mut next.correction);
        levels[1].rows.multiply(&next.correction, &mut next.residual);
        next.right.iter_mut().zip(&next.residual).for_each(|(right, image)| *right -= image);
        cycle(&levels[1..], coarser);
        let next = &mut coarser[0];
        next.x.iter_mut().zip(&next.correction).for_each(|(x, first)| *x += first);
    }
    let correction = &coarser[0].x;
    own.x.par_iter_mut().zip(&level.coarse).with_min_len(CHUNK).for_each(|(x, coarse)| {
        *x += correction[*coarse as usize];
    });
    level.sweep(&own.right, &mut own.x, [1, 0]);
}

impl Level {
    /// Solves the equations of the unknowns of a colour for these, then those of the other.
    fn sweep(&self, right: &[f32], x: &mut [f32], colours: [usize; 2]) {
        let (even, odd) = x.split_at_mut(self.even);
        for colour in colours {
            let (own, other, from, first) = if colour == 0 {
                (&mut *even, &*odd, self.even, 0)
            } else {
                (&mut *odd, &*even, 0, self.even)
            };
            let rows = self.rows.0[first..].par_iter().zip(&right[first..]);
            own.par_iter_mut().zip(rows).with_min_len(CHUNK).for_each(|(x, (row, right))| {
                *x = if row.diagonal > 0.0 {
                    (right + row.neighbour_sum(other, from)) / row.diagonal
                } else {
                    0.0
                };
            });
        }
    }
}

/// Rows in another order; `old` is where each was.
fn reordered(rows: &Rows, old: &[u32]) -> Rows {
    let mut new = vec![0u32; old.len()];
    old.iter().enumerate().for_each(|(row, old)| new[*old as usize] = row as u32);
    let of = |old: &u32| {
        let row = rows.0[*old as usize];
        Row { neighbours: row.neighbours.map(|row| new[row as usize]), ..row }
    };
    Rows(old.iter().map(of).collect())
}

/// The rows of aggregates: half the sums of those of the unknowns in them.
fn aggregated(level: &Level, children: &[[u32; 8]]) -> Rows {
    let row = |(own, children): (usize, &[u32; 8])| {
        let (mut sum, mut whole) = (Row::default(), 0.0);
        for child in
            children.iter().filter(|child| **child != NONE).map(|child| &level.rows.0[*child as usize])
        {
            sum.diagonal += child.diagonal;
            whole += child.diagonal;
            for side in (0..6).filter(|side| child.factors[*side] != 0.0) {
                let other = level.coarse[child.neighbours[side] as usize];
                if other as usize == own {
                    sum.diagonal -= child.factors[side];
                } else {
                    sum.neighbours[side] = other;
                    sum.factors[side] += child.factors[side];
                }
            }
        }
        if sum.diagonal < MIN_DIAGONAL * whole {
            sum.diagonal = 0.0;
        }
        Row { factors: sum.factors.map(|factor| 0.5 * factor), diagonal: 0.5 * sum.diagonal, ..sum }
    };
    Rows(children.par_iter().enumerate().with_min_len(CHUNK).map(row).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::liquid::conjugate_gradients::conjugate_gradients;
    use glam::Vec3;

    /// The equations of a ball of cells without the ones in a pillar; `is_open` surfaces hold at 0.
    fn ball(tiles: i32, is_open: bool) -> (Grid, Rows) {
        let keys: Vec<IVec3> = (0..tiles * tiles * tiles)
            .map(|i| IVec3::new(i % tiles, i / tiles % tiles, i / (tiles * tiles)) - tiles / 2)
            .collect();
        let at = |cell: usize| keys[cell / 512] * 8 + local(cell % 512, 8);
        let radius = 3.6 * tiles as f32;
        let within = |at: IVec3| {
            let from = at.as_vec3() + 0.5;
            from.length() < radius && Vec3::new(from.x - 3.0, 0.0, from.z).length() > 0.2 * radius
        };
        let grid = Grid::new(keys.clone(), 8, |cell| within(at(cell)));
        let number: std::collections::HashMap<[i32; 3], u32> =
            grid.cells.iter().zip(0..).map(|(cell, row)| (at(*cell as usize).to_array(), row)).collect();
        let row = |cell: &u32| {
            let mut row = Row::default();
            for side in 0..6 {
                let step = IVec3::AXES[side / 2] * (2 * (side as i32 % 2) - 1);
                match number.get(&(at(*cell as usize) + step).to_array()) {
                    Some(other) => {
                        (row.neighbours[side], row.factors[side]) = (*other, 1.0);
                        row.diagonal += 1.0;
                    }
                    None if is_open => row.diagonal += 2.0,
                    None => {}
                }
            }
            row
        };
        let rows = Rows(grid.cells.iter().map(row).collect());
        (grid, rows)
    }

    fn solved(grid: &Grid, rows: &Rows, right: &[f32]) -> (u32, f64) {
        let mut multigrid = Multigrid::new(grid, rows.clone());
        let mut x = vec![0.0; right.len()];
        let multiply = |x: &[f32], out: &mut [f32]| rows.multiply(x, out);
        let precondition = |right: &[f32], out: &mut Vec<f32>| multigrid.cycle(right, out);
        let convergence = conjugate_gradients(multiply, precondition, |_| true, right, &mut x, 1e-4);
        (convergence.iterations, convergence.residual)
    }

    #[test]
    fn twice_as_many_cells_along_each_side_take_hardly_more_iterations() {
        for is_open in [true, false] {
            for tiles in [2, 4, 8] {
                let (grid, rows) = ball(tiles, is_open);
                // The sum is 0, so that there is a solution where nothing holds the values.
                let n = grid.cells.len();
                let mut right: Vec<f32> = (0..n).map(|i| (i as f32 * 0.37).sin()).collect();
                let mean = right.iter().sum::<f32>() / n as f32;
                right.iter_mut().for_each(|right| *right -= mean);
                let (iterations, residual) = solved(&grid, &rows, &right);
                assert!(iterations <= 16 && residual <= 1e-4, "{tiles}: {iterations}, {residual}");
            }
        }
    }

    #[test]
    fn a_cycle_is_symmetric() {
        let (grid, rows) = ball(3, true);
        let mut multigrid = Multigrid::new(&grid, rows);
        let n = grid.cells.len();
        let vector = |of: f32| -> Vec<f32> { (0..n).map(|i| (i as f32 * of).sin()).collect() };
        let (a, b) = (vector(0.71), vector(1.33));
        let mut image = |of: &[f32]| {
            let mut out = vec![0.0; n];
            multigrid.cycle(of, &mut out);
            out
        };
        let (image_a, image_b) = (image(&a), image(&b));
        let dot =
            |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(a, b)| f64::from(*a) * f64::from(*b)).sum::<f64>();
        let (one, other) = (dot(&image_a, &b), dot(&a, &image_b));
        let scale = (dot(&image_a, &a) * dot(&image_b, &b)).sqrt();
        assert!((one - other).abs() < 1e-4 * scale, "{one} {other} {scale}");
    }
}
