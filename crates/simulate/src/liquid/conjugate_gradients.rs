//! Conjugate gradients, preconditioned by the diagonal, for the sparse symmetric systems of a liquid.

use rayon::prelude::*;

/// Most iterations.
const MAX_ITERATIONS: u32 = 600;
/// Rows of a block of sums.
const BLOCK: usize = 4_096;

/// How a solution went.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Convergence {
    pub iterations: u32,
    /// What is left of the residual at first, as a part of the right-hand side; no unit.
    pub residual: f64,
}

fn dot(a: &[f32], b: &[f32]) -> f64 {
    let block = |(a, b): (&[f32], &[f32])| {
        let mut sums = [0.0f64; 8];
        for (a, b) in a.chunks(8).zip(b.chunks(8)) {
            for ((sum, a), b) in sums.iter_mut().zip(a).zip(b) {
                *sum += f64::from(*a) * f64::from(*b);
            }
        }
        sums.iter().sum::<f64>()
    };
    let blocks: Vec<f64> = a.par_chunks(BLOCK).zip(b.par_chunks(BLOCK)).map(block).collect();
    blocks.iter().sum()
}

/// Solves A x = b from the `x` at hand until the residual is `tolerance` of b. `multiply` gives a row of A x, and `dense` what is
/// to be added to all rows, or nothing; a row without a diagonal has no equation, and its `x` stays.
pub(super) fn conjugate_gradients(
    multiply: impl Fn(&[f32], usize) -> f32 + Sync,
    dense: impl Fn(&[f32]) -> Vec<(u32, f32)>,
    diagonal: &[f32],
    right: &[f32],
    x: &mut [f32],
    tolerance: f64,
) -> Convergence {
    let n = right.len();
    let product = |of: &[f32], out: &mut Vec<f32>| {
        (0..n).into_par_iter().with_min_len(BLOCK).map(|row| multiply(of, row)).collect_into_vec(out);
        dense(of).into_iter().for_each(|(row, more)| out[row as usize] += more);
    };
    let mut image = Vec::new();
    product(x, &mut image);
    let mut residual: Vec<f32> =
        (0..n).map(|row| if diagonal[row] > 0.0 { right[row] - image[row] } else { 0.0 }).collect();
    let scale = dot(right, right);
    let left_of = |residual: &[f32]| if scale > 0.0 { (dot(residual, residual) / scale).sqrt() } else { 0.0 };
    let solved = |residual: &[f32], out: &mut Vec<f32>| {
        out.clear();
        out.extend(residual.iter().zip(diagonal).map(|(r, d)| if *d > 0.0 { r / d } else { 0.0 }));
    };
    let (mut direction, mut next) = (Vec::with_capacity(n), Vec::with_capacity(n));
    solved(&residual, &mut direction);
    let mut norm = dot(&residual, &direction);
    let mut left = left_of(&residual);
    for iteration in 0..MAX_ITERATIONS {
        if norm <= 0.0 || left <= tolerance {
            return Convergence { iterations: iteration, residual: left };
        }
        product(&direction, &mut image);
        let curvature = dot(&direction, &image);
        if curvature <= 0.0 || !curvature.is_finite() {
            return Convergence { iterations: iteration, residual: left };
        }
        let length = (norm / curvature) as f32;
        let columns = (&mut *x, &mut residual, &direction, &image);
        columns.into_par_iter().with_min_len(BLOCK).for_each(|(x, residual, direction, image)| {
            *x += length * direction;
            *residual -= length * image;
        });
        left = left_of(&residual);
        solved(&residual, &mut next);
        let norm_after = dot(&residual, &next);
        let back = (norm_after / norm) as f32;
        direction.iter_mut().zip(&next).for_each(|(d, z)| *d = *z + back * *d);
        norm = norm_after;
    }
    Convergence { iterations: MAX_ITERATIONS, residual: left }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_chain_of_springs_is_solved_whatever_x_is_at_first() {
        let n = 200usize;
        let multiply = |x: &[f32], i: usize| {
            let beside = |j: Option<usize>| j.and_then(|j| x.get(j)).copied().unwrap_or(0.0);
            2.0 * x[i] - beside(i.checked_sub(1)) - beside(Some(i + 1))
        };
        let exact: Vec<f32> = (0..n).map(|i| (i as f32 * 0.05).sin()).collect();
        let right: Vec<f32> = (0..n).map(|i| multiply(&exact, i)).collect();
        for first in [0.0, 3.0] {
            let mut x = vec![first; n];
            let convergence =
                conjugate_gradients(multiply, |_| Vec::new(), &[2.0; 200], &right, &mut x, 1e-6);
            assert!(convergence.residual <= 1e-6 && convergence.iterations < 300, "{convergence:?}");
            assert!(x.iter().zip(&exact).all(|(a, b)| (a - b).abs() < 1e-2));
        }
    }
}
