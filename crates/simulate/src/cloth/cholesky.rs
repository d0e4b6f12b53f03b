//! The Cholesky factor of a sparse symmetric matrix of 3 × 3 blocks.
//!
//! Points with the same rows below them are one supernode, a dense panel, and updates go from panel to
//! panel, left-looking (E. Ng and B. Peyton, *Block sparse Cholesky algorithms on advanced uniprocessor computers*, 1993).
//! In single precision: the factor only preconditions.
#![allow(unsafe_code, reason = "a measured kernel")]

use glam::{Mat3, Vec3};
use wide::f32x8;

/// Points with a block in each column, in the order of elimination.
#[derive(Clone, Debug, Default)]
pub(super) struct Pattern {
    /// For each column its rows, ascending, the diagonal first.
    pub columns: Vec<Vec<u32>>,
}

/// Where the factor has entries.
#[derive(Debug)]
pub(super) struct Symbolic {
    supernodes: Vec<Supernode>,
    /// The supernode of each point.
    of_column: Vec<u32>,
    /// Where the values of each supernode begin, and how many there are.
    starts: Vec<usize>,
}

/// Points `first..first + width`, whose rows are `rows`, those of the points themselves first.
#[derive(Debug)]
struct Supernode {
    first: u32,
    width: u32,
    rows: Vec<u32>,
}

impl Supernode {
    /// With the one that follows, if its points come next in the elimination and few numbers
    /// would be zero: larger panels go faster (C. Ashcraft and R. Grimes, *The influence of relaxed supernode partitions
    /// on the multifrontal method*, 1989).
    fn joined(&self, next: &Self) -> Option<Self> {
        let below = &self.rows[self.width as usize..];
        if below.first() != Some(&next.first) || self.width + next.width > MAX_WIDTH {
            return None;
        }
        let zeros = self.width as usize * (next.rows.len() - below.len());
        let width = self.width + next.width;
        let all = width as usize * (self.width as usize + next.rows.len());
        let most = if width <= 4 { all / 3 } else { all / 12 };
        if zeros > most {
            return None;
        }
        let own = self.first..next.first;
        Some(Self { first: self.first, width, rows: own.chain(next.rows.iter().copied()).collect() })
    }

    fn columns(&self) -> usize {
        3 * self.width as usize
    }

    /// Numbers in a column of its panel: its rows, and zeros up to a multiple of the lanes.
    fn stride(&self) -> usize {
        (3 * self.rows.len()).next_multiple_of(LANES)
    }
}

/// The factor: panels of all supernodes, column by column.
#[derive(Debug)]
pub(super) struct Factor {
    values: Vec<f32>,
    inverse_diagonal: Vec<f32>,
}

const LANES: usize = 8;
/// Most points of a supernode.
const MAX_WIDTH: u32 = 32;
/// Most columns of a panel.
const MAX_COLUMNS: usize = 3 * MAX_WIDTH as usize;
/// Columns that are taken together.
const TOGETHER: usize = 4;

impl Symbolic {
    pub fn new(pattern: &Pattern) -> Self {
        let n = pattern.columns.len();
        let mut rows_of: Vec<Vec<u32>> = Vec::with_capacity(n);
        let mut children: Vec<Vec<u32>> = vec![Vec::new(); n];
        let mut mark = vec![u32::MAX; n];
        for j in 0..n {
            let mut rows = Vec::new();
            let mut add = |row: u32, rows: &mut Vec<u32>| {
                if mark[row as usize] != j as u32 {
                    mark[row as usize] = j as u32;
                    rows.push(row);
                }
            };
            pattern.columns[j].iter().for_each(|&row| add(row, &mut rows));
            for &child in &children[j] {
                rows_of[child as usize][1..].iter().for_each(|&row| add(row, &mut rows));
            }
            rows.sort_unstable();
            if let Some(&parent) = rows.get(1) {
                children[parent as usize].push(j as u32);
            }
            rows_of.push(rows);
        }
        let mut supernodes: Vec<Supernode> = Vec::new();
        for (j, rows) in rows_of.into_iter().enumerate() {
            supernodes.push(Supernode { first: j as u32, width: 1, rows });
            while let [.., child, parent] = &supernodes[..]
                && let Some(joined) = child.joined(parent)
            {
                supernodes.truncate(supernodes.len() - 2);
                supernodes.push(joined);
            }
        }
        let of_column = (0..).zip(&supernodes).flat_map(|(s, node)| vec![s; node.width as usize]).collect();
        let mut starts = vec![0];
        for node in &supernodes {
            starts.push(starts[starts.len() - 1] + node.columns() * node.stride());
        }
        Self { supernodes, of_column, starts }
    }

    /// Number of numbers of the factor, with those that are zero.
    pub fn entries(&self) -> usize {
        self.starts[self.starts.len() - 1]
    }

    /// The factor of the matrix with `blocks` at the pattern's entries; none if it is not positive definite.
    pub fn factor(&self, pattern: &Pattern, blocks: &[Vec<Mat3>]) -> Option<Factor> {
        #[cfg(target_arch = "x86_64")]
        if is_x86_feature_detected!("avx2") {
            // SAFETY: the processor has what the function needs.
            return unsafe { self.factor_wide(pattern, blocks) };
        }
        self.factor_any(pattern, blocks)
    }

    /// As [`Self::factor_any`], with registers twice as wide; the numbers are the same.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2")]
    fn factor_wide(&self, pattern: &Pattern, blocks: &[Vec<Mat3>]) -> Option<Factor> {
        self.factor_any(pattern, blocks)
    }

    #[inline(always)]
    fn factor_any(&self, pattern: &Pattern, blocks: &[Vec<Mat3>]) -> Option<Factor> {
        let n = self.of_column.len();
        let mut values = vec![0.0f32; self.entries()];
        let mut inverse_diagonal = vec![0.0f32; 3 * n];
        // Supernodes whose next rows to eliminate lie in each supernode, with how many rows are done.
        let mut waiting: Vec<Vec<(u32, u32)>> = vec![Vec::new(); self.supernodes.len()];
        let mut place = vec![0u32; n];
        let mut sums: Vec<f32> = Vec::new();
        for (s, node) in self.supernodes.iter().enumerate() {
            let (width, stride) = (node.width as usize, node.stride());
            let (before, rest) = values.split_at_mut(self.starts[s]);
            let panel = &mut rest[..node.columns() * stride];
            for (i, &row) in node.rows.iter().enumerate() {
                place[row as usize] = i as u32;
            }
            for k in 0..width {
                let column = node.first as usize + k;
                for (&row, block) in pattern.columns[column].iter().zip(&blocks[column]) {
                    let at = 3 * place[row as usize] as usize;
                    for j in 0..3 {
                        let to = &mut panel[(3 * k + j) * stride + at..][..3];
                        to.iter_mut().zip(block.col(j).to_array()).for_each(|(to, value)| *to += value);
                    }
                }
            }
            for (d, done) in std::mem::take(&mut waiting[s]) {
                let from = &self.supernodes[d as usize];
                let (end, done) = (node.first + node.width, done as usize);
                let here = from.rows[done..].iter().take_while(|row| **row < end).count();
                let own = &before[self.starts[d as usize]..self.starts[d as usize + 1]];
                update(own, from, done, here, panel, node, &place, &mut sums);
                self.wait(&mut waiting, d, done + here);
            }
            let diagonal = &mut inverse_diagonal[3 * node.first as usize..][..3 * width];
            if !eliminate(panel, stride, diagonal) {
                return None;
            }
            self.wait(&mut waiting, s as u32, width);
        }
        Some(Factor { values, inverse_diagonal })
    }

    /// Lets a supernode wait for the one in which its row number `done` is eliminated.
    fn wait(&self, waiting: &mut [Vec<(u32, u32)>], d: u32, done: usize) {
        if let Some(&row) = self.supernodes[d as usize].rows.get(done) {
            waiting[self.of_column[row as usize] as usize].push((d, done as u32));
        }
    }

    /// Solves in place; the numbers are in the order of elimination, three a point. `room` is reused.
    pub fn solve(&self, factor: &Factor, x: &mut [f32], room: &mut Vec<f32>) {
        #[cfg(target_arch = "x86_64")]
        if is_x86_feature_detected!("avx2") {
            // SAFETY: the processor has what the function needs.
            return unsafe { self.solve_wide(factor, x, room) };
        }
        self.solve_any(factor, x, room);
    }

    /// As [`Self::solve_any`], with registers twice as wide; the numbers are the same.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2")]
    fn solve_wide(&self, factor: &Factor, x: &mut [f32], room: &mut Vec<f32>) {
        self.solve_any(factor, x, room);
    }

    #[inline(always)]
    fn solve_any(&self, factor: &Factor, x: &mut [f32], room: &mut Vec<f32>) {
        room.resize(self.supernodes.iter().map(Supernode::stride).max().unwrap_or(0), 0.0);
        let mut own = [0.0f32; MAX_COLUMNS];
        for (node, &start) in self.supernodes.iter().zip(&self.starts) {
            let (first, columns, stride) = (3 * node.first as usize, node.columns(), node.stride());
            let panel = &factor.values[start..start + columns * stride];
            let sums = &mut room[..stride];
            sums.fill(0.0);
            for (k, column) in panel.chunks_exact(stride).enumerate() {
                own[k] = (x[first + k] - sums[k]) * factor.inverse_diagonal[first + k];
                // Within the panel's own rows; those below follow all at once.
                add_scaled(&mut sums[..columns], &column[..columns], own[k]);
            }
            x[first..first + columns].copy_from_slice(&own[..columns]);
            let from = columns / LANES * LANES;
            sums[from..].fill(0.0);
            let mut k = 0;
            while k + TOGETHER <= columns {
                let of: [&[f32]; TOGETHER] =
                    std::array::from_fn(|j| &panel[(k + j) * stride + from..][..stride - from]);
                let by: [f32; TOGETHER] = std::array::from_fn(|j| own[k + j]);
                add_columns(&mut sums[from..], of, by);
                k += TOGETHER;
            }
            for k in k..columns {
                add_scaled(&mut sums[from..], &panel[k * stride + from..][..stride - from], own[k]);
            }
            let below = sums[columns..].chunks(3);
            for (row, sums) in node.rows[node.width as usize..].iter().zip(below) {
                let to = &mut x[3 * *row as usize..][..3];
                to.iter_mut().zip(sums).for_each(|(to, sum)| *to -= sum);
            }
        }
        for (node, &start) in self.supernodes.iter().zip(&self.starts).rev() {
            let (first, columns, stride) = (3 * node.first as usize, node.columns(), node.stride());
            let panel = &factor.values[start..start + columns * stride];
            let known = &mut room[..stride];
            known.fill(0.0);
            let below = known[columns..].chunks_mut(3);
            for (row, known) in node.rows[node.width as usize..].iter().zip(below) {
                known[..3].copy_from_slice(&x[3 * *row as usize..][..3]);
            }
            let from = columns / LANES * LANES;
            let mut k = 0;
            while k + TOGETHER <= columns {
                let of: [&[f32]; TOGETHER] =
                    std::array::from_fn(|j| &panel[(k + j) * stride + from..][..stride - from]);
                own[k..k + TOGETHER].copy_from_slice(&dots(&known[from..], of));
                k += TOGETHER;
            }
            for k in k..columns {
                own[k] = dot(&known[from..], &panel[k * stride + from..][..stride - from]);
            }
            for k in (0..columns).rev() {
                let column = &panel[k * stride..][..columns];
                let within: f32 =
                    column[k + 1..].iter().zip(&known[k + 1..columns]).map(|(l, x)| l * x).sum();
                known[k] = (x[first + k] - own[k] - within) * factor.inverse_diagonal[first + k];
            }
            x[first..first + columns].copy_from_slice(&known[..columns]);
        }
    }
}

/// Subtracts from a panel what the rows `done..` of an earlier supernode add to it; the first `here` of
/// them are among its columns.
#[inline(always)]
fn update(
    own: &[f32],
    from: &Supernode,
    done: usize,
    here: usize,
    panel: &mut [f32],
    node: &Supernode,
    place: &[u32],
    sums: &mut Vec<f32>,
) {
    let (w, stride) = (from.stride(), node.stride());
    // From a whole number of lanes on, above the rows that are wanted.
    let base = 3 * done / LANES * LANES;
    let height = w - base;
    for c in done..done + here {
        sums.clear();
        sums.resize(3 * height, 0.0);
        for column in own.chunks_exact(w) {
            let by = [column[3 * c], column[3 * c + 1], column[3 * c + 2]];
            for (sums, by) in sums.chunks_exact_mut(height).zip(by) {
                add_scaled(sums, &column[base..], by);
            }
        }
        let to = 3 * (from.rows[c] - node.first) as usize;
        for (j, sums) in sums.chunks_exact(height).enumerate() {
            let panel = &mut panel[(to + j) * stride..][..stride];
            for (r, sums) in (c..from.rows.len()).zip(sums[3 * c - base..].chunks(3)) {
                let at = 3 * place[from.rows[r] as usize] as usize;
                panel[at..at + 3].iter_mut().zip(sums).for_each(|(to, sum)| *to -= sum);
            }
        }
    }
}

/// Eliminates the columns of a panel; false if it is not positive definite.
#[inline(always)]
fn eliminate(panel: &mut [f32], stride: usize, inverse_diagonal: &mut [f32]) -> bool {
    for (k, inverse) in inverse_diagonal.iter_mut().enumerate() {
        let (done, rest) = panel.split_at_mut((k + 1) * stride);
        let column = &mut done[k * stride..];
        let pivot = column[k];
        if !(pivot > 0.0 && pivot.is_finite()) {
            return false;
        }
        *inverse = 1.0 / pivot.sqrt();
        // What is above the diagonal is not used.
        column[..k].fill(0.0);
        column.iter_mut().for_each(|value| *value *= *inverse);
        for (j, later) in rest.chunks_exact_mut(stride).enumerate().take(MAX_COLUMNS - k - 1) {
            let by = column[k + 1 + j];
            if by != 0.0 {
                let from = (k + 1 + j) / LANES * LANES;
                add_scaled(&mut later[from..], &column[from..], -by);
            }
        }
    }
    true
}

#[inline(always)]
fn add_scaled(sums: &mut [f32], values: &[f32], factor: f32) {
    for (sum, value) in sums.iter_mut().zip(values) {
        *sum += *value * factor;
    }
}

/// Adds several columns, each times its factor; all have a whole number of lanes.
#[inline(always)]
fn add_columns(sums: &mut [f32], columns: [&[f32]; TOGETHER], by: [f32; TOGETHER]) {
    let by = by.map(f32x8::splat);
    let n = columns.iter().map(|column| column.len()).fold(sums.len(), usize::min);
    for at in (0..n).step_by(LANES) {
        let of = columns.map(|column| lanes(&column[at..at + LANES]));
        let sum = (of[0] * by[0] + of[1] * by[1]) + (of[2] * by[2] + of[3] * by[3]);
        let to = &mut sums[at..at + LANES];
        to.copy_from_slice(&(lanes(to) + sum).to_array());
    }
}

#[inline(always)]
fn dot(x: &[f32], column: &[f32]) -> f32 {
    let each = x.chunks_exact(LANES).zip(column.chunks_exact(LANES));
    each.fold(f32x8::ZERO, |sum, (x, a)| sum + lanes(x) * lanes(a)).reduce_add()
}

/// The products of several columns with one vector; all have a whole number of lanes.
#[inline(always)]
fn dots(x: &[f32], columns: [&[f32]; TOGETHER]) -> [f32; TOGETHER] {
    let mut sums = [f32x8::ZERO; TOGETHER];
    let n = columns.iter().map(|column| column.len()).fold(x.len(), usize::min);
    for at in (0..n).step_by(LANES) {
        let x = lanes(&x[at..at + LANES]);
        for (sum, column) in sums.iter_mut().zip(columns) {
            *sum += x * lanes(&column[at..at + LANES]);
        }
    }
    sums.map(f32x8::reduce_add)
}

#[inline(always)]
fn lanes(values: &[f32]) -> f32x8 {
    f32x8::from(<[f32; LANES]>::try_from(values).expect("as many as lanes"))
}

/// The vectors as numbers in the order of elimination.
pub(super) fn ordered(rank: &[u32], vectors: &[Vec3], out: &mut [f32]) {
    for (v, &rank) in vectors.iter().zip(rank) {
        out[3 * rank as usize..][..3].copy_from_slice(&v.to_array());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cloth::ordering::nested_dissection;

    #[test]
    fn a_grid_of_blocks_is_solved() {
        let side = 30u32;
        let positions: Vec<Vec3> =
            (0..side * side).map(|i| Vec3::new((i % side) as f32, 0.0, (i / side) as f32)).collect();
        let near = |a: u32| -> Vec<u32> {
            let close = |b: &u32| *b != a && positions[*b as usize].distance(positions[a as usize]) < 1.5;
            (0..side * side).filter(close).collect()
        };
        let neighbours: Vec<Vec<u32>> = (0..side * side).map(near).collect();
        let order = nested_dissection(&positions, &neighbours);
        let mut rank = vec![0u32; order.len()];
        order.iter().enumerate().for_each(|(i, &v)| rank[v as usize] = i as u32);
        // Each pair is a spring along a direction of its own, and each point has some inertia.
        let outer = |v: Vec3| Mat3::from_cols(v * v.x, v * v.y, v * v.z);
        let spring = |a: u32, b: u32| {
            let (a, b) = (a.min(b) as f32, a.max(b) as f32);
            outer(Vec3::new((a * 1.3).sin(), (b * 0.7).cos(), (a + b).sin()) * 3.0)
        };
        let (mut pattern, mut blocks) = (Pattern::default(), Vec::new());
        for &v in &order {
            let mut rows: Vec<(u32, Mat3)> = (neighbours[v as usize].iter())
                .filter(|other| rank[**other as usize] > rank[v as usize])
                .map(|&other| (rank[other as usize], spring(v, other) * -1.0))
                .collect();
            rows.sort_unstable_by_key(|(row, _)| *row);
            let own = neighbours[v as usize].iter().fold(Mat3::IDENTITY, |sum, &o| sum + spring(v, o));
            rows.insert(0, (rank[v as usize], own));
            pattern.columns.push(rows.iter().map(|(row, _)| *row).collect());
            blocks.push(rows.into_iter().map(|(_, block)| block).collect::<Vec<_>>());
        }
        let symbolic = Symbolic::new(&pattern);
        assert!(symbolic.entries() < 9 * 40 * order.len(), "{} entries", symbolic.entries());
        let factor = symbolic.factor(&pattern, &blocks).unwrap();
        let wanted: Vec<Vec3> =
            (0..order.len()).map(|i| Vec3::new((i as f32).sin(), 1.0, (0.1 * i as f32).cos())).collect();
        let mut product = vec![Vec3::ZERO; order.len()];
        for (j, (rows, blocks)) in pattern.columns.iter().zip(&blocks).enumerate() {
            for (&row, block) in rows.iter().zip(blocks) {
                product[row as usize] += *block * wanted[j];
                if row as usize != j {
                    product[j] += block.transpose() * wanted[row as usize];
                }
            }
        }
        let mut x: Vec<f32> = product.iter().flat_map(|v| v.to_array()).collect();
        symbolic.solve(&factor, &mut x, &mut Vec::new());
        let off = x.chunks(3).zip(&wanted).map(|(x, w)| Vec3::from_slice(x).distance(*w)).fold(0.0, f32::max);
        assert!(off < 2e-3, "{off}");
    }

    #[test]
    fn a_matrix_that_is_not_definite_has_no_factor() {
        let pattern = Pattern { columns: vec![vec![0, 1], vec![1]] };
        let blocks = [vec![Mat3::IDENTITY, Mat3::IDENTITY * 2.0], vec![Mat3::IDENTITY]];
        assert!(Symbolic::new(&pattern).factor(&pattern, &blocks).is_none());
    }
}
