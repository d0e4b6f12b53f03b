//! Multigrid by aggregation for equations of cells with their six neighbours: the cells of a coarse level are aggregates of up to 2³
//! unknowns, and their equations the sums of those (D. Braess, *Towards algebraic multigrid for elliptic problems of second order*,
//! 1995), so that open fractions of faces and the place of the surface go on to all levels.
//!
//! The sums hold the aggregates together twice as strongly as cells of twice the size are, and are halved. A cycle is symmetric:
//! Gauss–Seidel by two colours before, and in the other order after; it visits the next coarser level twice.

use geometry::tiles::SIDE;
use glam::IVec3;
use rayon::prelude::*;

/// Marks a cell that is no unknown.
pub(super) const NONE: u32 = u32::MAX;
/// Unknowns at which no coarser level is made.
const COARSEST: usize = 32;
/// Sweeps on the coarsest level.
const COARSEST_SWEEPS: usize = 8;
/// Rows that a thread takes at once.
const CHUNK: usize = 2_048;
/// An aggregate that is held by less than this, as a part of what its cells are held by, floats.
const LEAST_HOLD: f32 = 1e-5;

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

/// Equations d x − Σ f x' = b of the unknowns of a grid.
#[derive(Clone, Default)]
pub(super) struct Rows {
    /// Unknowns below and above along each axis; any where the factor is 0.
    pub neighbours: Vec<[u32; 6]>,
    /// f to them.
    pub factors: Vec<[f32; 6]>,
    /// d; at least the sum of f.
    pub diagonal: Vec<f32>,
}

impl Rows {
    /// Σ f x'.
    #[inline]
    fn beside(&self, row: usize, x: &[f32], from: usize) -> f32 {
        let mut sum = 0.0;
        for (neighbour, factor) in self.neighbours[row].iter().zip(&self.factors[row]) {
            if *factor != 0.0 {
                sum += factor * x[*neighbour as usize - from];
            }
        }
        sum
    }

    /// Puts the left sides for `x` into `out`.
    pub fn multiply(&self, x: &[f32], out: &mut [f32]) {
        let rows = out.par_iter_mut().enumerate().with_min_len(CHUNK);
        rows.for_each(|(row, out)| *out = self.diagonal[row] * x[row] - self.beside(row, x, 0));
    }
}

/// A level and the way to the next coarser one.
struct Level {
    rows: Rows,
    inverse_diagonal: Vec<f32>,
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
}

impl Multigrid {
    /// Of the equations of a grid.
    pub fn new(grid: &Grid, rows: Rows) -> Self {
        let mut levels: Vec<Level> = Vec::new();
        let (mut grid, mut rows) = (grid.clone(), rows);
        loop {
            let count = grid.cells.len();
            if grid.side == 1 {
                let (grouped, old) = grid.grouped();
                rows = reordered(&rows, &old);
                // The unknowns of the finer level find theirs under new numbers.
                if let Some(finer) = levels.last_mut() {
                    let mut new = vec![0; old.len()];
                    old.iter().enumerate().for_each(|(row, old)| new[*old as usize] = row as u32);
                    finer.coarse.iter_mut().for_each(|row| *row = new[*row as usize]);
                    finer.children = old.iter().map(|old| finer.children[*old as usize]).collect();
                }
                grid = grouped;
            }
            let inverse = |d: &f32| if *d > 0.0 { 1.0 / d } else { 0.0 };
            let inverse_diagonal = rows.diagonal.iter().map(inverse).collect();
            let mut level = Level {
                rows,
                inverse_diagonal,
                even: grid.even,
                coarse: Vec::new(),
                children: Vec::new(),
            };
            let (next, children) = grid.coarser();
            if count <= COARSEST {
                levels.push(level);
                return Self { levels };
            }
            level.coarse = vec![0; count];
            for (row, children) in children.iter().enumerate() {
                for child in children.iter().filter(|child| **child != NONE) {
                    level.coarse[*child as usize] = row as u32;
                }
            }
            rows = aggregated(&level, &children);
            level.children = children;
            levels.push(level);
            grid = next;
        }
    }

    /// Puts about the solution for `right` into `x`.
    pub fn cycle(&self, right: &[f32], x: &mut Vec<f32>) {
        let scratch = |level: &Level| {
            let n = level.inverse_diagonal.len();
            Scratch { right: vec![0.0; n], x: vec![0.0; n], correction: vec![0.0; n], residual: vec![0.0; n] }
        };
        let mut scratch: Vec<Scratch> = self.levels.iter().map(scratch).collect();
        scratch[0].right.copy_from_slice(right);
        self.cycle_at(0, &mut scratch);
        std::mem::swap(x, &mut scratch[0].x);
    }

    fn cycle_at(&self, at: usize, scratch: &mut [Scratch]) {
        let level = &self.levels[at];
        let (own, coarser) = scratch.split_first_mut().expect("a scratch for each level");
        own.x.fill(0.0);
        if level.children.is_empty() {
            for _ in 0..COARSEST_SWEEPS {
                level.sweep(&own.right, &mut own.x, [0, 1]);
                level.sweep(&own.right, &mut own.x, [1, 0]);
            }
            return;
        }
        level.sweep(&own.right, &mut own.x, [0, 1]);
        // After the odd unknowns their equations hold.
        let (even, x) = (level.even, &own.x);
        own.residual[..even].par_iter_mut().enumerate().with_min_len(CHUNK).for_each(|(row, residual)| {
            *residual = own.right[row] + level.rows.beside(row, x, 0) - level.rows.diagonal[row] * x[row];
        });
        let next = &mut coarser[0];
        next.right.par_iter_mut().zip(&level.children).with_min_len(CHUNK).for_each(|(right, children)| {
            let of = |row: &&u32| (**row as usize) < even;
            *right = children.iter().filter(of).map(|row| own.residual[*row as usize]).sum();
        });
        self.cycle_at(at + 1, coarser);
        if at > 0 && !self.levels[at + 1].children.is_empty() {
            // Once more, for what the first visit left.
            let next = &mut coarser[0];
            std::mem::swap(&mut next.x, &mut next.correction);
            self.levels[at + 1].rows.multiply(&next.correction, &mut next.residual);
            let pairs = next.right.iter_mut().zip(&next.residual);
            pairs.for_each(|(right, image)| *right -= image);
            self.cycle_at(at + 1, coarser);
            let next = &mut coarser[0];
            next.x.iter_mut().zip(&next.correction).for_each(|(x, first)| *x += first);
        }
        let correction = &coarser[0].x;
        own.x.par_iter_mut().zip(&level.coarse).with_min_len(CHUNK).for_each(|(x, coarse)| {
            *x += correction[*coarse as usize];
        });
        level.sweep(&own.right, &mut own.x, [1, 0]);
    }
}

impl Level {
    /// Solves the equations of the unknowns of a colour for these, then those of the other.
    fn sweep(&self, right: &[f32], x: &mut [f32], colours: [usize; 2]) {
        let (even, odd) = x.split_at_mut(self.even);
        for colour in colours {
            let (own, other, from, first) =
                if colour == 0 { (&mut *even, &*odd, self.even, 0) } else { (&mut *odd, &*even, 0, self.even) };
            own.par_iter_mut().enumerate().with_min_len(CHUNK).for_each(|(i, x)| {
                let row = first + i;
                *x = (right[row] + self.rows.beside(row, other, from)) * self.inverse_diagonal[row];
            });
        }
    }
}

/// Rows in another order; `old` is where each was.
fn reordered(rows: &Rows, old: &[u32]) -> Rows {
    let mut new = vec![0u32; old.len()];
    old.iter().enumerate().for_each(|(row, old)| new[*old as usize] = row as u32);
    let of = |old: &u32| *old as usize;
    Rows {
        neighbours: old.iter().map(|old| rows.neighbours[of(old)].map(|row| new[row as usize])).collect(),
        factors: old.iter().map(|old| rows.factors[of(old)]).collect(),
        diagonal: old.iter().map(|old| rows.diagonal[of(old)]).collect(),
    }
}

/// The rows of aggregates: half the sums of those of the unknowns in them.
fn aggregated(level: &Level, children: &[[u32; 8]]) -> Rows {
    let row = |(own, children): (usize, &[u32; 8])| {
        let (mut neighbours, mut factors, mut diagonal) = ([0u32; 6], [0.0f32; 6], 0.0f32);
        let mut whole = 0.0;
        for child in children.iter().filter(|child| **child != NONE).map(|child| *child as usize) {
            diagonal += level.rows.diagonal[child];
            whole += level.rows.diagonal[child];
            for side in 0..6 {
                let factor = level.rows.factors[child][side];
                if factor == 0.0 {
                    continue;
                }
                let other = level.coarse[level.rows.neighbours[child][side] as usize];
                if other as usize == own {
                    diagonal -= factor;
                } else {
                    neighbours[side] = other;
                    factors[side] += factor;
                }
            }
        }
        if diagonal < LEAST_HOLD * whole {
            diagonal = 0.0;
        }
        (neighbours, factors.map(|factor| 0.5 * factor), 0.5 * diagonal)
    };
    let all: Vec<_> = children.par_iter().enumerate().with_min_len(CHUNK).map(row).collect();
    Rows {
        neighbours: all.iter().map(|row| row.0).collect(),
        factors: all.iter().map(|row| row.1).collect(),
        diagonal: all.iter().map(|row| row.2).collect(),
    }
}
