//! The levels of multigrid.
//!
//! Each level is an independent set of the points of the level below. A displacement there is carried to the level below
//! by weights that reproduce linear functions of the positions at rest (moving least squares, P. Lancaster and
//! K. Salkauskas, 1981), so that a uniform strain has the same energy on each level. The matrices of the levels are the
//! Galerkin products Pᵀ A P.

use super::blocks::{CHUNK, Rows, mirror_upper, scalar, starts};
use glam::{Mat3A, Mat4, Vec3, Vec3A, Vec4};
use rayon::prelude::*;

/// Below so many points a level is solved directly.
const DIRECT: usize = 64;
/// Points from which another takes its displacement at most: in a sheet, and in a body, whose points have more neighbours
/// than [`MAX_OF_SHEET`].
const PARENTS: usize = 4;
const PARENTS_IN_BODY: usize = 8;
const MAX_OF_SHEET: usize = 16;

/// Points of another level, each with its weight.
type WeightList = Vec<(u32, f32)>;

/// Weights between two levels: for each row, the points of the other level.
#[derive(Clone, Debug)]
pub(super) struct Weights {
    pub rows: Rows,
    values: Vec<f32>,
}

impl Weights {
    fn of_lists(lists: &[WeightList]) -> Self {
        let (columns, values) = lists.iter().flatten().copied().unzip();
        Self { rows: Rows { starts: starts(lists.iter().map(Vec::len)), columns }, values }
    }

    fn transposed(&self, count: usize) -> Self {
        let entries = (0..self.rows.len()).flat_map(|row| self.rows.row(row).map(move |entry| (row, entry)));
        let turned = entries.clone().map(|(row, entry)| (self.rows.columns[entry], row as u32));
        let places = entries.map(|(_, entry)| (self.rows.columns[entry], entry as u32));
        let of_entry = |entry: &u32| self.values[*entry as usize];
        let values = Rows::grouped(count, places).columns.iter().map(of_entry).collect();
        Self { values, rows: Rows::grouped(count, turned) }
    }

    fn of(&self, row: usize) -> impl Iterator<Item = (u32, f32)> {
        let range = self.rows.row(row);
        self.rows.columns[range.clone()].iter().copied().zip(self.values[range].iter().copied())
    }

    /// The weighted sum of a row.
    pub fn sum(&self, row: usize, x: &[Vec3A]) -> Vec3A {
        self.of(row).fold(Vec3A::ZERO, |sum, (point, weight)| sum + x[point as usize] * weight)
    }
}

/// A level above the first.
#[derive(Clone, Debug)]
pub(super) struct Level {
    /// For each point of the level below, those of this one.
    pub parents: Weights,
    pub children: Weights,
    pub rows: Rows,
    halves: Vec<u32>,
    /// For each entry of the upper half, the entries of the level below of which it is the sum, and their weights.
    terms: Weights,
    /// What bending of stiffness 1 adds to each of those, and the element it is of; empty on the levels whose level below has
    /// it in its blocks.
    scalars: Vec<(f32, u16)>,
    /// The element of each row.
    part_of_row: Vec<u16>,
}

/// The levels above a matrix, by where its entries are.
#[derive(Clone, Debug)]
pub(super) struct Levels {
    pub levels: Vec<Level>,
}

impl Levels {
    /// Of the positions at rest, the rows of the blocks, the numbers of bending at rows of their own, and the element of
    /// each point.
    pub fn new(rest: &[Vec3], near: &Rows, bent: &Rows, bending: &[f64], part_of: &[u16]) -> Self {
        let mut levels: Vec<Level> = Vec::new();
        let mut at: Vec<Vec3> = rest.to_vec();
        loop {
            let below = levels.last().map_or(near, |level| &level.rows);
            if at.len() <= DIRECT {
                break;
            }
            let chosen = independent(below);
            if chosen.len() * 10 > at.len() * 8 {
                break;
            }
            let bent = levels.is_empty().then_some((bent, bending));
            let level = Level::new(&at, below, bent, part_of, &chosen);
            at = chosen.iter().map(|&point| at[point as usize]).collect();
            levels.push(level);
        }
        Self { levels }
    }

    /// Takes other numbers of bending at the same rows.
    pub fn take_bending(&mut self, bent: &Rows, bending: &[f64]) {
        if let Some(level) = self.levels.first_mut() {
            level.scalars = level.bending(bent, bending);
        }
    }
}

/// Points of which no two share an entry and next to which every other point lies.
fn independent(rows: &Rows) -> Vec<u32> {
    let mut taken = vec![false; rows.len()];
    let mut chosen = Vec::new();
    for point in 0..rows.len() {
        if !taken[point] {
            chosen.push(point as u32);
            rows.of(point).iter().for_each(|&other| taken[other as usize] = true);
        }
    }
    chosen
}

impl Level {
    fn new(
        at: &[Vec3],
        below: &Rows,
        bent: Option<(&Rows, &[f64])>,
        part_of: &[u16],
        chosen: &[u32],
    ) -> Self {
        const NONE: u32 = u32::MAX;
        let mut number = vec![NONE; at.len()];
        chosen.iter().enumerate().for_each(|(i, &point)| number[point as usize] = i as u32);
        let parents: Vec<WeightList> = (0..at.len())
            .into_par_iter()
            .map(|point| {
                if number[point] != NONE {
                    return vec![(number[point], 1.0)];
                }
                let around = below.of(point).iter().flat_map(|&near| below.of(near as usize));
                let around = unique(around.copied().filter(|&p| number[p as usize] != NONE).collect());
                let most = if below.of(point).len() > MAX_OF_SHEET { PARENTS_IN_BODY } else { PARENTS };
                let weights = interpolation_weights(at[point], &around, at, most);
                weights.into_iter().map(|(p, weight)| (number[p as usize], weight)).collect()
            })
            .collect();
        let parents = Weights::of_lists(&parents);
        let children = parents.transposed(chosen.len());
        // The entries Pᵀ A P, row by row.
        let columns = |pattern: &Rows, row: usize| -> Vec<u32> {
            let children = children.rows.of(row).iter();
            let near = children.flat_map(|child| pattern.of(*child as usize));
            let near = unique(near.copied().collect());
            unique(near.iter().flat_map(|&p| parents.rows.of(p as usize)).copied().collect())
        };
        let lists = (0..chosen.len()).into_par_iter().map(|row| {
            let mut list = columns(below, row);
            if let Some((bent, _)) = bent {
                list.extend(columns(bent, row));
            }
            list
        });
        let rows = Rows::of_lists(&lists.collect::<Vec<_>>());
        let terms = terms(&rows, below, &parents, &children);
        let halves = rows.halves();
        let part_of_row = chosen.iter().map(|point| part_of[*point as usize]).collect();
        let mut level = Self { parents, children, rows, halves, terms, scalars: Vec::new(), part_of_row };
        if let Some((bent, values)) = bent {
            level.scalars = level.bending(bent, values);
        }
        level
    }

    /// What bending of stiffness 1 adds to each entry of the upper half, and the element it is of.
    fn bending(&self, bent: &Rows, values: &[f64]) -> Vec<(f32, u16)> {
        let Self { parents, children, rows, halves, .. } = self;
        let of_row = |row: usize| {
            let mut sums = vec![0.0f64; rows.of(row).len()];
            for (child, weight) in children.of(row) {
                for entry in bent.row(child as usize) {
                    let (other, value) = (bent.columns[entry] as usize, values[entry]);
                    for (parent, other_weight) in parents.of(other) {
                        let place = rows.of(row).binary_search(&parent).expect("the pair has an entry");
                        sums[place] += f64::from(weight) * f64::from(other_weight) * value;
                    }
                }
            }
            let upper = rows.row(row).zip(sums).filter(|(entry, _)| halves[*entry] % 2 == 0);
            upper.map(|(_, sum)| (sum as f32, self.part_of_row[row])).collect::<Vec<_>>()
        };
        (0..rows.len()).into_par_iter().map(of_row).collect::<Vec<_>>().concat()
    }

    /// The matrix of this level from the blocks of the one below; `bend` is the bending stiffness of each element.
    pub fn project(&self, below: &[Mat3A], bend: &[f64], upper: &mut Vec<Mat3A>, blocks: &mut Vec<Mat3A>) {
        blocks.resize(self.rows.columns.len(), Mat3A::ZERO);
        let entries = (0..self.terms.rows.len()).into_par_iter().with_min_len(CHUNK);
        let sum = |entry: usize| {
            let bending = |(value, part): &(f32, u16)| scalar(bend[*part as usize] as f32 * value);
            let bending = self.scalars.get(entry).map_or(Mat3A::ZERO, bending);
            self.terms.of(entry).fold(bending, |sum, (of, weight)| sum + below[of as usize] * weight)
        };
        entries.map(sum).collect_into_vec(upper);
        mirror_upper(&self.halves, upper, blocks);
    }
}

/// For each entry of the upper half of `rows`, the entries of the level below of which it is the sum, and their weights.
fn terms(rows: &Rows, below: &Rows, parents: &Weights, children: &Weights) -> Weights {
    let of_row = |row: usize| {
        let first = rows.of(row).partition_point(|&column| (column as usize) < row);
        let upper = &rows.of(row)[first..];
        let (mut places, mut found) = (Vec::new(), Vec::new());
        for (child, weight) in children.of(row) {
            for entry in below.row(child as usize) {
                for (parent, other) in parents.of(below.columns[entry] as usize) {
                    if let Ok(place) = upper.binary_search(&parent) {
                        places.push((place as u32, found.len() as u32));
                        found.push((entry as u32, weight * other));
                    }
                }
            }
        }
        let grouped = Rows::grouped(upper.len(), places.iter().copied());
        let counts: Vec<usize> = (0..upper.len()).map(|place| grouped.row(place).len()).collect();
        let terms: WeightList = grouped.columns.iter().map(|term| found[*term as usize]).collect();
        (counts, terms)
    };
    let each = (0..rows.len()).into_par_iter().map(of_row);
    let each: Vec<(Vec<usize>, WeightList)> = each.collect();
    let starts = starts(each.iter().flat_map(|(counts, _)| counts).copied());
    let (columns, values) = each.into_iter().flat_map(|(_, terms)| terms).unzip();
    Weights { rows: Rows { starts, columns }, values }
}

/// The numbers of a list, ascending and each once.
fn unique(mut list: Vec<u32>) -> Vec<u32> {
    list.sort_unstable();
    list.dedup();
    list
}

/// Weights of at most so many points around `x` that sum to 1 and give back linear functions, those of the nearest greatest.
fn interpolation_weights(x: Vec3, around: &[u32], at: &[Vec3], most: usize) -> WeightList {
    let mut near: Vec<(f32, u32)> = around.iter().map(|&p| (at[p as usize].distance(x), p)).collect();
    near.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
    near.truncate(most);
    let Some(size) = near.iter().map(|(distance, _)| *distance).reduce(f32::max) else { return Vec::new() };
    let size = size.max(1e-20);
    let basis = |p: u32| {
        let d = (at[p as usize] - x) / size;
        Vec4::new(1.0, d.x, d.y, d.z)
    };
    let closeness = |distance: f32| 1.0 / (distance / size).max(1e-3).powi(4);
    // What is not determined, as the derivative across a plane, is left out by the small numbers on the diagonal.
    let mut moments = Mat4::from_diagonal(Vec4::new(0.0, 1e-3, 1e-3, 1e-3));
    for (distance, p) in &near {
        let (b, by) = (basis(*p), closeness(*distance));
        moments += Mat4::from_cols(b * b.x, b * b.y, b * b.z, b * b.w) * by;
    }
    let first = moments.inverse() * Vec4::X;
    let mut weights: WeightList =
        near.iter().map(|(distance, p)| (*p, closeness(*distance) * basis(*p).dot(first))).collect();
    weights.retain(|(_, weight)| weight.abs() > 0.04);
    let sum: f32 = weights.iter().map(|(_, weight)| weight).sum();
    if sum <= 0.1 || sum.is_nan() {
        return near.first().map(|(_, p)| (*p, 1.0)).into_iter().collect();
    }
    weights.iter_mut().for_each(|(_, weight)| *weight /= sum);
    weights
}

#[cfg(test)]
mod tests {
    use super::*;

    fn number(i: usize) -> f32 {
        let hash = (i as u32).wrapping_mul(0x9E37_79B9);
        ((hash ^ (hash >> 15)).wrapping_mul(0x85EB_CA6B) >> 8) as f32 / (1 << 23) as f32 - 1.0
    }

    #[test]
    fn weights_give_back_linear_functions() {
        let at: Vec<Vec3> = (0..12).map(|i| Vec3::new(number(3 * i), 0.0, number(3 * i + 1))).collect();
        let around: Vec<u32> = (0..12).collect();
        for seed in 0..20 {
            let x = Vec3::new(0.3 * number(100 + seed), 0.0, 0.3 * number(200 + seed));
            let weights = interpolation_weights(x, &around, &at, PARENTS);
            let sum = weights.iter().fold(Vec3::ZERO, |sum, (p, weight)| sum + at[*p as usize] * *weight);
            assert!(weights.len() <= PARENTS);
            assert!((weights.iter().map(|(_, weight)| weight).sum::<f32>() - 1.0).abs() < 1e-5);
            // What is left out of small weights is missing.
            assert!(sum.distance(x) < 0.1, "{sum} for {x}");
        }
    }
}
