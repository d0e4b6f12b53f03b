//! Multigrid for the stress of a liquid by unsmoothed aggregation: a coarse unknown is the velocity that eight faces of an axis have in
//! common (H. Shao, L. Huang and D. L. Michels, *A fast unsmoothed aggregation algebraic multigrid framework for the large-scale
//! simulation of incompressible flow*, 2022). Thick ropes and films bend and turn as a whole; without coarse levels that takes thousands
//! of iterations.
//!
//! With the inertia M and the stress K, the matrix is M + K. Constant velocities in coarse cells make K twice too stiff in each level, as
//! the same stress acts over twice the distance: the coarse matrix is M + K / 2.

use geometry::tiles::{CELLS, SIDE, Tiles, local};
use glam::IVec3;
use rayon::prelude::*;
use std::ops::Range;

/// Colours of faces, two for each axis: faces of a colour do not act on each other.
const COLOURS: usize = 6;
/// Faces that act on a face.
const NEIGHBOURS: usize = 14;
/// Unknowns that a thread takes at once.
const MIN_LEN: usize = 1_024;
/// A level with so few unknowns is the last.
const FEWEST: usize = 200;
/// Times that a last level with few unknowns is smoothed both ways.
const LAST_SWEEPS: usize = 8;
/// A level in which the stress is less than so many times the inertia is the last: smoothing solves that.
const LEAST_STRESS: f64 = 2.0;
/// No unknown.
const NONE: u32 = u32::MAX;

/// A row of a matrix. The faces that act on a face are two beside it along its axis, and across each other axis two of its own axis and
/// four of that axis; those of coarse levels are as many. Entries that are not used are 0, in the column of the row itself.
#[derive(Clone, Copy)]
pub(super) struct MatrixRow {
    columns: [u32; NEIGHBOURS],
    values: [f32; NEIGHBOURS],
    /// Entries that are used; once they are sorted, those of columns before the diagonal come first.
    count: u16,
    before_diagonal: u16,
    pub diagonal: f32,
}

impl MatrixRow {
    /// A row with nothing beside its diagonal.
    pub fn new(number: u32, diagonal: f32) -> Self {
        Self {
            columns: [number; NEIGHBOURS],
            values: [0.0; NEIGHBOURS],
            count: 0,
            before_diagonal: 0,
            diagonal,
        }
    }

    /// Adds a value to that of a column.
    pub fn add(&mut self, column: u32, value: f32) {
        let count = usize::from(self.count);
        let at = self.columns[..count].iter().position(|of| *of == column).unwrap_or(count);
        self.columns[at] = column;
        self.values[at] += value;
        self.count = count.max(at + 1) as u16;
    }

    fn entries(&self) -> impl Iterator<Item = (u32, f32)> {
        self.columns.into_iter().zip(self.values).take(self.count.into())
    }

    /// Sorts the entries by column; `number` is that of the row.
    fn sort(&mut self, number: u32) {
        let mut entries: [(u32, f32); NEIGHBOURS] =
            std::array::from_fn(|k| (self.columns[k], self.values[k]));
        let used = &mut entries[..self.count.into()];
        used.sort_unstable_by_key(|(column, _)| *column);
        self.before_diagonal = used.partition_point(|(column, _)| *column < number) as u16;
        (self.columns, self.values) = (entries.map(|of| of.0), entries.map(|of| of.1));
    }

    /// The entries in a range times x.
    #[inline]
    fn part_times(&self, range: Range<u16>, x: &[f32]) -> f32 {
        let range = usize::from(range.start)..usize::from(range.end);
        let entries = self.columns[range.clone()].iter().zip(&self.values[range]);
        entries.map(|(column, value)| value * x[*column as usize]).sum()
    }

    /// The row times x, without the diagonal.
    #[inline]
    fn beside_diagonal(&self, x: &[f32]) -> f32 {
        let mut sums = [0.0; 2];
        for (columns, values) in self.columns.as_chunks::<2>().0.iter().zip(self.values.as_chunks::<2>().0) {
            for k in 0..2 {
                sums[k] += values[k] * x[columns[k] as usize];
            }
        }
        sums[0] + sums[1]
    }

    /// The row, whose own value is `own`, times x.
    #[inline]
    fn times(&self, x: &[f32], own: f32) -> f32 {
        self.beside_diagonal(x) + self.diagonal * own
    }
}

/// The place of an unknown of a level.
#[derive(Clone, Copy)]
struct Place {
    axis: u8,
    block: u32,
    at: IVec3,
}

/// The places of the unknowns of a level, sorted by colour: blocks of `side`³ cells.
pub(super) struct Places {
    blocks: Vec<IVec3>,
    side: i32,
    of: Vec<Place>,
    ends: [usize; COLOURS],
}

/// The colour of a cell along an axis.
fn colour(axis: usize, cell: IVec3) -> usize {
    2 * axis + ((cell.x ^ cell.y ^ cell.z) & 1) as usize
}

impl Places {
    /// The unknowns among the faces of the cells of tiles, in the order of their numbers, which are put in the place of those for which
    /// `is_unknown` is true.
    pub fn number(tiles: &Tiles, numbers: &mut [Vec<u32>; 3], is_unknown: impl Fn(u32) -> bool) -> Self {
        let (mut of, mut ends) = (Vec::new(), [0; COLOURS]);
        for (axis, numbers) in numbers.iter_mut().enumerate() {
            for own in [2 * axis, 2 * axis + 1] {
                for (cell, number) in numbers.iter_mut().enumerate() {
                    let at = local(cell % CELLS);
                    if colour(axis, at) == own && is_unknown(*number) {
                        *number = of.len() as u32;
                        of.push(Place { axis: axis as u8, block: (cell / CELLS) as u32, at });
                    }
                }
                ends[own] = of.len();
            }
        }
        Self { blocks: tiles.keys.clone(), side: SIDE, of, ends }
    }

    /// Those of the next level, and the number there of each unknown.
    fn coarser(&self) -> (Self, Vec<u32>) {
        let (blocks, side, block_of): (Vec<IVec3>, i32, Option<Vec<u32>>) = if self.side > 1 {
            (self.blocks.clone(), self.side / 2, None)
        } else {
            let order = |key: &IVec3| (key.z, key.y, key.x);
            let mut blocks: Vec<IVec3> = self.blocks.iter().map(|key| *key >> 1).collect();
            blocks.sort_unstable_by_key(order);
            blocks.dedup();
            let find = |key: &IVec3| blocks.binary_search_by_key(&order(&(*key >> 1)), order);
            let of = self.blocks.iter().map(|key| find(key).expect("each has one") as u32).collect();
            (blocks, 1, Some(of))
        };
        let in_block = (side * side * side) as usize;
        let slot = |place: &Place| {
            let block = block_of.as_ref().map_or(place.block, |of| of[place.block as usize]);
            let at = if self.side > 1 { place.at >> 1 } else { IVec3::ZERO };
            let within = at.x + side * (at.y + side * at.z);
            (usize::from(place.axis) * blocks.len() + block as usize) * in_block + within as usize
        };
        let mut numbers = vec![NONE; 3 * blocks.len() * in_block];
        self.of.iter().for_each(|place| numbers[slot(place)] = 0);
        let (mut of, mut ends) = (Vec::new(), [0; COLOURS]);
        for (axis, numbers) in numbers.chunks_mut((blocks.len() * in_block).max(1)).enumerate() {
            for own in [2 * axis, 2 * axis + 1] {
                for (slot, number) in numbers.iter_mut().enumerate().filter(|(_, number)| **number != NONE) {
                    let (block, within) = (slot / in_block, (slot % in_block) as i32);
                    let at = IVec3::new(within % side, within / side % side, within / side / side);
                    if colour(axis, blocks[block] * side + at) == own {
                        *number = of.len() as u32;
                        of.push(Place { axis: axis as u8, block: block as u32, at });
                    }
                }
                ends[own] = of.len();
            }
        }
        let parents = self.of.iter().map(|place| numbers[slot(place)]).collect();
        (Self { blocks, side, of, ends }, parents)
    }

    /// Axis and cell of each unknown of the finest level.
    pub fn faces(&self) -> impl Iterator<Item = (u8, u32)> {
        let cell = |of: &Place| of.block * CELLS as u32 + geometry::tiles::place(of.at) as u32;
        self.of.iter().map(move |of| (of.axis, cell(of)))
    }
}

/// A level: its symmetric matrix, and how its unknowns go together in the next.
struct Level {
    rows: Vec<MatrixRow>,
    inertia: Vec<f32>,
    ends: [usize; COLOURS],
    /// The number of each unknown in the next level; none in the last.
    parents: Vec<u32>,
    /// Where the unknowns of each of the next begin in `children`.
    starts: Vec<u32>,
    children: Vec<u32>,
}

/// The levels of a matrix.
pub(super) struct ViscousMultigrid {
    levels: Vec<Level>,
}

/// Right sides, solutions and what is computed of a level.
struct Scratch {
    right: Vec<f32>,
    x: Vec<f32>,
    next: Vec<f32>,
}

/// What solutions need beside the levels.
pub(super) struct ViscousScratch(Vec<Scratch>);

impl ViscousMultigrid {
    /// Of a matrix, the part of its diagonal that is inertia, and the places of its unknowns.
    pub fn new(rows: Vec<MatrixRow>, inertia: Vec<f32>, mut places: Places) -> Self {
        let no_children = |mut rows: Vec<MatrixRow>, inertia, ends| {
            let numbered = rows.par_iter_mut().enumerate().with_min_len(MIN_LEN);
            numbered.for_each(|(number, row)| row.sort(number as u32));
            Level { rows, inertia, ends, parents: Vec::new(), starts: Vec::new(), children: Vec::new() }
        };
        let mut levels = vec![no_children(rows, inertia, places.ends)];
        while levels[levels.len() - 1].has_next() {
            let (coarse, parents) = places.coarser();
            if coarse.of.len() == places.of.len() {
                // Unknowns that lie apart, as those of drops, have nothing to say to each other.
                break;
            }
            let level = levels.last_mut().expect("the first");
            level.join(parents, coarse.of.len());
            let (rows, inertia) = level.coarse();
            levels.push(no_children(rows, inertia, coarse.ends));
            places = coarse;
        }
        Self { levels }
    }

    /// Puts the matrix times x into `out`.
    pub fn multiply(&self, x: &[f32], out: &mut [f32]) {
        self.levels[0].multiply(x, out);
    }

    /// What solutions need.
    pub fn scratch(&self) -> ViscousScratch {
        let of = |level: &Level| {
            let zeros = vec![0.0; level.rows.len()];
            Scratch { right: zeros.clone(), x: zeros.clone(), next: zeros }
        };
        ViscousScratch(self.levels.iter().map(of).collect())
    }

    /// Puts about the solution for a right side into `out`.
    pub fn precondition(&self, scratch: &mut ViscousScratch, right: &[f32], out: &mut Vec<f32>) {
        scratch.0[0].right.copy_from_slice(right);
        cycle(&self.levels, &mut scratch.0);
        out.clear();
        out.extend_from_slice(&scratch.0[0].x);
    }
}

/// Puts about the solution for the right side of the first of levels into its x.
fn cycle(levels: &[Level], scratch: &mut [Scratch]) {
    let ([level, coarser @ ..], [own, beyond @ ..]) = (levels, scratch) else { return };
    if coarser.is_empty() {
        own.x.fill(0.0);
        for _ in 0..if own.x.len() <= FEWEST { LAST_SWEEPS } else { 1 } {
            (0..COLOURS).for_each(|colour| level.relax(colour, own));
            (0..COLOURS).rev().for_each(|colour| level.relax(colour, own));
        }
        return;
    }
    level.relax_from_zero(own);
    level.restrict(&own.x, &mut beyond[0].right);
    cycle(coarser, beyond);
    own.x.par_iter_mut().zip(&level.parents).with_min_len(MIN_LEN).for_each(|(x, parent)| {
        *x += beyond[0].x[*parent as usize];
    });
    (0..COLOURS).rev().for_each(|colour| level.relax(colour, own));
}

impl Level {
    fn multiply(&self, x: &[f32], out: &mut [f32]) {
        let rows = self.rows.par_iter().zip(x).with_min_len(MIN_LEN);
        out.par_iter_mut().zip(rows).for_each(|(out, (row, own))| *out = row.times(x, *own));
    }

    /// The unknowns of a colour.
    fn of(&self, colour: usize) -> Range<usize> {
        if colour == 0 { 0..self.ends[0] } else { self.ends[colour - 1]..self.ends[colour] }
    }

    /// Whether a coarser level would help.
    fn has_next(&self) -> bool {
        let diagonal: f64 = self.rows.iter().map(|row| f64::from(row.diagonal)).sum();
        let inertia: f64 = self.inertia.iter().map(|inertia| f64::from(*inertia)).sum();
        self.rows.len() > FEWEST && diagonal - inertia > LEAST_STRESS * inertia
    }

    /// Solves the rows of a colour, as they do not act on each other.
    fn relax(&self, colour: usize, Scratch { right, x, next }: &mut Scratch) {
        let own = self.of(colour);
        let from = &x[..];
        let rows = self.rows[own.clone()].par_iter().zip(&right[own.clone()]).with_min_len(MIN_LEN);
        next[own.clone()].par_iter_mut().zip(rows).for_each(|(next, (row, right))| {
            *next = (right - row.beside_diagonal(from)) / row.diagonal;
        });
        x[own.clone()].copy_from_slice(&next[own]);
    }

    /// Relaxes all colours in turn, with x = 0 at first: of each row only the columns before the diagonal, of earlier colours, count.
    fn relax_from_zero(&self, Scratch { right, x, .. }: &mut Scratch) {
        for colour in 0..COLOURS {
            let own = self.of(colour);
            let (before, rest) = x.split_at_mut(own.start);
            let rows = self.rows[own.clone()].par_iter().zip(&right[own.clone()]).with_min_len(MIN_LEN);
            rest[..own.len()].par_iter_mut().zip(rows).for_each(|(x, (row, right))| {
                *x = (right - row.part_times(0..row.before_diagonal, before)) / row.diagonal;
            });
        }
    }

    /// Puts the sums of the residuals of what goes together in the next level into `coarse`. After [`Self::relax_from_zero`] the
    /// residual of a row is minus its columns of later colours times x.
    fn restrict(&self, x: &[f32], coarse: &mut [f32]) {
        let residual = |row: &u32| {
            let row = &self.rows[*row as usize];
            -row.part_times(row.before_diagonal..row.count, x)
        };
        coarse.par_iter_mut().enumerate().with_min_len(MIN_LEN / 8).for_each(|(parent, out)| {
            *out = self.children_of(parent).iter().map(residual).sum();
        });
    }

    fn children_of(&self, parent: usize) -> &[u32] {
        &self.children[self.starts[parent] as usize..self.starts[parent + 1] as usize]
    }

    /// Lets unknowns go together in so many of the next level.
    fn join(&mut self, parents: Vec<u32>, count: usize) {
        let mut starts = vec![0u32; count + 1];
        parents.iter().for_each(|parent| starts[*parent as usize + 1] += 1);
        (1..starts.len()).for_each(|i| starts[i] += starts[i - 1]);
        let (mut next, mut children) = (starts.clone(), vec![0; parents.len()]);
        for (child, parent) in parents.iter().enumerate() {
            children[next[*parent as usize] as usize] = child as u32;
            next[*parent as usize] += 1;
        }
        (self.parents, self.starts, self.children) = (parents, starts, children);
    }

    /// The matrix of the next level and its inertia.
    fn coarse(&self) -> (Vec<MatrixRow>, Vec<f32>) {
        let count = self.starts.len() - 1;
        let row = |parent: usize| {
            let (mut row, mut diagonal, mut inertia) = (MatrixRow::new(parent as u32, 0.0), 0.0, 0.0);
            for child in self.children_of(parent).iter().map(|child| *child as usize) {
                diagonal += self.rows[child].diagonal;
                inertia += self.inertia[child];
                for (column, value) in self.rows[child].entries() {
                    match self.parents[column as usize] {
                        column if column as usize == parent => diagonal += value,
                        column => row.add(column, 0.5 * value),
                    }
                }
            }
            row.diagonal = 0.5 * (diagonal + inertia);
            (row, inertia)
        };
        (0..count).into_par_iter().with_min_len(MIN_LEN).map(row).unzip()
    }
}

#[cfg(test)]
mod tests {
    use super::super::conjugate_gradients::{Tolerance, conjugate_gradients};
    use super::*;
    use glam::Vec3;

    /// Faces of all axes within a rope along z of 4 × 4 cells, of which those of an axis diffuse apart from those of the others: the
    /// stress of a beam that shears.
    fn rope(length: i32, stress: f32) -> ViscousMultigrid {
        let points: Vec<Vec3> = (0..length).map(|z| Vec3::new(2.5, -1.5, z as f32 + 0.5)).collect();
        let tiles = Tiles::new(&points, 1.0);
        let is_within = |cell: IVec3| {
            let at = cell - IVec3::new(1, -3, 0);
            at.cmpge(IVec3::ZERO).all() && at.cmplt(IVec3::new(4, 4, length)).all()
        };
        let of_cell = |cell: usize| tiles.corner(cell / CELLS) + local(cell % CELLS);
        let mut numbers: [Vec<u32>; 3] = std::array::from_fn(|_| {
            (0..tiles.cells()).map(|cell| if is_within(of_cell(cell)) { 0 } else { NONE }).collect()
        });
        let places = Places::number(&tiles, &mut numbers, |number| number == 0);
        let mut rows = Vec::new();
        for (row, (axis, cell)) in (0..).zip(places.faces()) {
            let (tile, at) = (cell as usize / CELLS, local(cell as usize % CELLS));
            let around = IVec3::AXES.into_iter().flat_map(|by| [by, -by]);
            let of =
                around.filter_map(|by| tiles.cell(tile, at + by)).map(|of| numbers[usize::from(axis)][of]);
            let mut row = MatrixRow::new(row, 1.0);
            for of in of.filter(|of| *of != NONE) {
                row.add(of, -stress);
                row.diagonal += stress;
            }
            rows.push(row);
        }
        let inertia = vec![1.0; rows.len()];
        ViscousMultigrid::new(rows, inertia, places)
    }

    #[test]
    fn levels_keep_the_mass_and_halve_the_stress() {
        let rope = rope(64, 1_000.0);
        assert!(rope.levels.len() >= 3, "{}", rope.levels.len());
        for level in &rope.levels {
            let n = level.rows.len();
            let mut out = vec![0.0; n];
            // A motion as a whole has no stress.
            level.multiply(&vec![1.0; n], &mut out);
            let mass: f64 = out.iter().map(|of| f64::from(*of)).sum();
            assert!((mass / f64::from(3 * 4 * 4 * 64) - 1.0).abs() < 0.01, "{mass}");
            assert!((level.inertia.iter().sum::<f32>() - 3_072.0).abs() < 0.1);
            for row in 0..n {
                for (column, value) in level.rows[row].entries() {
                    let back = level.rows[column as usize].entries().find(|(of, _)| *of as usize == row);
                    assert_eq!(back.map(|(_, value)| value), Some(value));
                }
            }
        }
        // Between 2³ cells that lie beside each other: the stress of four pairs, halved.
        let values = rope.levels[1].rows.iter().flat_map(MatrixRow::entries);
        let stiffest = values.map(|(_, value)| -value).fold(0.0, f32::max);
        assert_eq!(stiffest, 2_000.0);
    }

    #[test]
    fn faces_of_a_colour_do_not_act_on_each_other() {
        for level in &rope(40, 10.0).levels {
            for own in (0..COLOURS).map(|colour| level.of(colour)) {
                for row in own.clone() {
                    assert!(level.rows[row].entries().all(|(of, _)| !own.contains(&(of as usize))));
                }
            }
        }
    }

    #[rstest::rstest]
    #[case::honey(10.0)]
    #[case::pitch(1e4)]
    fn ropes_of_any_length_take_about_as_many_iterations(#[case] stress: f32) {
        let iterations = |length: i32| {
            let rope = rope(length, stress);
            let n = rope.levels[0].rows.len();
            // A push at one end.
            let mut right = vec![0.0; n];
            right[0] = 1.0;
            let (mut x, mut scratch) = (vec![0.0; n], rope.scratch());
            let multiply = |x: &[f32], out: &mut [f32]| rope.multiply(x, out);
            let precondition = |of: &[f32], out: &mut Vec<f32>| rope.precondition(&mut scratch, of, out);
            let done = conjugate_gradients(
                multiply,
                precondition,
                |_| {},
                &right,
                &mut x,
                Tolerance::Residual(1e-4),
            );
            assert!(done.residual <= 1e-4, "{done:?}");
            done.iterations
        };
        let (short, long) = (iterations(32), iterations(256));
        assert!(long <= 24 && long <= 2 * short + 4, "{short} {long}");
    }
}
