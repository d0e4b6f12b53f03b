//! Conjugate gradients, for the sparse symmetric systems of a liquid.

use rayon::prelude::*;

/// Most iterations.
const MAX_ITERATIONS: u32 = 600;
/// A residual that is rounding, as a part of the right-hand side.
const ROUNDING: f64 = 1e-7;
/// Rows of a block of sums.
const BLOCK: usize = 4_096;

/// How a solution went.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Convergence {
    pub iterations: u32,
    /// What is left of the residual at first, as a part of the right-hand side; no unit.
    pub residual: f64,
}

/// The error at which a solution ends.
#[derive(Clone, Copy, Debug)]
pub(super) enum Tolerance {
    /// The residual, as a part of the right-hand side.
    Residual(f64),
    /// The energy of the error, ½ eᵀ A e with the error e of x. It is found as ½ rᵀ P r with the residual r and the preconditioner P, which
    /// is about A⁻¹. An error that takes little force but moves much hardly shows in the residual; in the energy it does.
    Energy(f64),
}

impl Tolerance {
    /// The greatest residual, as a part of the right-hand side, and the greatest rᵀ P r; one of them is enough.
    fn limits(self) -> (f64, f64) {
        match self {
            Self::Residual(part) => (part, 0.0),
            Self::Energy(energy) => (ROUNDING, 2.0 * energy),
        }
    }
}

/// The sum of products, the same for any number of threads.
pub(super) fn dot(a: &[f32], b: &[f32]) -> f64 {
    let blocks: Vec<f64> =
        a.par_chunks(BLOCK).zip(b.par_chunks(BLOCK)).map(|(a, b)| block_dot(a, b)).collect();
    blocks.iter().sum()
}

/// The sum over a block: four products at most are added in single precision.
fn block_dot(a: &[f32], b: &[f32]) -> f64 {
    let (a, a_rest) = a.as_chunks::<16>();
    let (b, b_rest) = b.as_chunks::<16>();
    let mut sums = [0.0f64; 4];
    for (a, b) in a.iter().zip(b) {
        let products: [f32; 16] = std::array::from_fn(|i| a[i] * b[i]);
        for (i, sum) in sums.iter_mut().enumerate() {
            *sum += f64::from((products[i] + products[i + 4]) + (products[i + 8] + products[i + 12]));
        }
    }
    let rest = a_rest.iter().zip(b_rest).map(|(a, b)| f64::from(a * b)).sum::<f64>();
    sums.iter().sum::<f64>() + rest
}

/// Solves A x = b to a tolerance, from the `x` at hand or from 0 if that is nearer. `multiply` puts A x into its second argument, and
/// `precondition` about the solution for its first; `clear_unsolved` clears the rows without an equation, whose `x` is to be 0.
pub(super) fn conjugate_gradients(
    multiply: impl Fn(&[f32], &mut [f32]),
    mut precondition: impl FnMut(&[f32], &mut Vec<f32>),
    clear_unsolved: impl Fn(&mut [f32]),
    right: &[f32],
    x: &mut [f32],
    tolerance: Tolerance,
) -> Convergence {
    let (tolerance, most_energy) = tolerance.limits();
    let n = right.len();
    let mut image = vec![0.0f32; n];
    if x.iter().any(|x| *x != 0.0) {
        multiply(x, &mut image);
    }
    let mut residual: Vec<f32> =
        right.par_iter().zip(&image).with_min_len(BLOCK).map(|(right, image)| right - image).collect();
    clear_unsolved(&mut residual);
    let scale = dot(right, right);
    let left_of = |squares: f64| if scale > 0.0 { (squares / scale).sqrt() } else { 0.0 };
    let mut squares = dot(&residual, &residual);
    if squares > scale {
        // The velocities of thick liquid after forces are such an x: the rounding of their residual outweighs the inertia.
        x.fill(0.0);
        residual.copy_from_slice(right);
        clear_unsolved(&mut residual);
        squares = dot(&residual, &residual);
    }
    let mut left = left_of(squares);
    if left <= tolerance {
        return Convergence { iterations: 0, residual: left };
    }
    let (mut direction, mut next) = (vec![0.0f32; n], vec![0.0f32; n]);
    precondition(&residual, &mut direction);
    let mut norm = dot(&residual, &direction);
    // Of liquid that is shut in there may be no solution: then the nearest is taken.
    let mut nearest = Nearest { left: f64::INFINITY, x: Vec::new() };
    for iteration in 0..MAX_ITERATIONS {
        if norm <= most_energy || left <= tolerance {
            return nearest.end(iteration, left, x);
        }
        multiply(&direction, &mut image);
        let curvature = dot(&direction, &image);
        let length = (norm / curvature) as f32;
        if curvature <= 0.0 || !length.is_finite() {
            return nearest.end(iteration, left, x);
        }
        let blocks = (
            x.par_chunks_mut(BLOCK),
            residual.par_chunks_mut(BLOCK),
            direction.par_chunks(BLOCK),
            image.par_chunks(BLOCK),
        );
        let squares = blocks.into_par_iter().map(|(x, residual, direction, image)| {
            for (((x, residual), direction), image) in
                x.iter_mut().zip(&mut *residual).zip(direction).zip(image)
            {
                *x += length * direction;
                *residual -= length * image;
            }
            block_dot(residual, residual)
        });
        let before = std::mem::replace(&mut left, left_of(squares.collect::<Vec<f64>>().iter().sum()));
        if left <= tolerance {
            return Convergence { iterations: iteration + 1, residual: left };
        }
        let is_less = left <= before;
        if !is_less && before < nearest.left {
            nearest.left = before;
            nearest.x = x.iter().zip(&direction).map(|(x, direction)| x - length * direction).collect();
        }
        if !is_less && !nearest.is_near(left) {
            return nearest.end(iteration + 1, left, x);
        }
        precondition(&residual, &mut next);
        let norm_after = dot(&residual, &next);
        let back = (norm_after / norm) as f32;
        let pairs = direction.par_iter_mut().zip(&next).with_min_len(BLOCK);
        pairs.for_each(|(direction, next)| *direction = *next + back * *direction);
        norm = norm_after;
    }
    nearest.end(MAX_ITERATIONS, left, x)
}

/// The solution with the least residual, of those after which the residual grew.
struct Nearest {
    left: f64,
    x: Vec<f32>,
}

impl Nearest {
    /// Whether a residual may come back to the least; not a number is no residual.
    fn is_near(&self, left: f64) -> bool {
        /// A residual so many times the least does not.
        const GONE: f64 = 1e3;
        left < GONE * self.left
    }

    /// Ends with `x`, or with the one that was kept if that is nearer; not a number is no residual.
    fn end(&self, iterations: u32, left: f64, x: &mut [f32]) -> Convergence {
        let is_nearer = self.x.is_empty() || left <= self.left;
        if !is_nearer {
            x.copy_from_slice(&self.x);
        }
        Convergence { iterations, residual: if is_nearer { left } else { self.left } }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_no_solution_ends_with_a_finite_one() {
        // A chain whose ends are free, which is pulled as a whole.
        let n = 200usize;
        let multiply = |x: &[f32], out: &mut [f32]| {
            for i in 0..n {
                let beside = [i.checked_sub(1), Some(i + 1).filter(|i| *i < n)];
                out[i] = beside.into_iter().flatten().map(|other| x[i] - x[other]).sum();
            }
        };
        let right: Vec<f32> = (0..n).map(|i| 1.0 + 0.1 * (i as f32).sin()).collect();
        let mut x = vec![0.0; n];
        let copy = |right: &[f32], out: &mut Vec<f32>| right.clone_into(out);
        let Convergence { residual, .. } =
            conjugate_gradients(multiply, copy, |_| {}, &right, &mut x, Tolerance::Residual(1e-4));
        assert!(residual <= 1.0 && residual > 0.5, "{residual}");
        assert!(x.iter().all(|x| x.abs() < 1e6));
    }

    #[test]
    fn numbers_without_an_end_end_the_solution() {
        let multiply = |x: &[f32], out: &mut [f32]| out.copy_from_slice(x);
        let copy = |right: &[f32], out: &mut Vec<f32>| right.clone_into(out);
        for bad in [f32::INFINITY, f32::NAN, 1e30] {
            let right = [1.0, bad, -2.0];
            let mut x = vec![0.0; 3];
            let convergence =
                conjugate_gradients(multiply, copy, |_| {}, &right, &mut x, Tolerance::Residual(1e-4));
            assert!(convergence.iterations <= 1, "{bad}: {convergence:?}");
        }
    }

    #[test]
    fn an_error_of_little_energy_is_one_of_the_weak_modes_too() {
        // Stiff springs under great forces, and weak ones under small forces: in the residual the weak ones hardly count.
        let n = 200usize;
        let stiffness = |i: usize| if i < n / 2 { 1e4 + i as f32 } else { 1.0 };
        let right: Vec<f32> = (0..n).map(|i| if i < n / 2 { 1e4 } else { 1.0 }).collect();
        let weak_error = |tolerance: Tolerance| {
            let multiply = |x: &[f32], out: &mut [f32]| {
                out.iter_mut().enumerate().for_each(|(i, out)| *out = stiffness(i) * x[i]);
            };
            // Between nothing and the inverse: the stiff springs are solved first.
            let precondition = |r: &[f32], out: &mut Vec<f32>| {
                let about = |i: usize| (1.0 + 0.3 * (i as f32).sin()) / stiffness(i).sqrt();
                *out = r.iter().enumerate().map(|(i, r)| about(i) * r).collect();
            };
            let mut x = vec![0.0; n];
            conjugate_gradients(multiply, precondition, |_| {}, &right, &mut x, tolerance);
            x[n / 2..].iter().map(|x| (x - 1.0).abs()).fold(0.0, f32::max)
        };
        let (by_residual, by_energy) =
            (weak_error(Tolerance::Residual(1e-3)), weak_error(Tolerance::Energy(1e-6)));
        assert!(by_residual > 0.05, "{by_residual}");
        assert!(by_energy < 2e-3, "{by_energy}");
    }

    #[test]
    fn nothing_on_the_right_gives_nothing() {
        let multiply = |x: &[f32], out: &mut [f32]| out.copy_from_slice(x);
        let copy = |right: &[f32], out: &mut Vec<f32>| right.clone_into(out);
        let mut x = [3.0, -1.0];
        conjugate_gradients(multiply, copy, |_| {}, &[0.0; 2], &mut x, Tolerance::Residual(1e-4));
        assert_eq!(x, [0.0; 2]);
    }

    #[test]
    fn a_chain_of_springs_is_solved_whatever_x_is_at_first() {
        let n = 200usize;
        let row = |x: &[f32], i: usize| {
            let beside = |j: Option<usize>| j.and_then(|j| x.get(j)).copied().unwrap_or(0.0);
            2.0 * x[i] - beside(i.checked_sub(1)) - beside(Some(i + 1))
        };
        let multiply = |x: &[f32], out: &mut [f32]| {
            out.iter_mut().enumerate().for_each(|(i, out)| *out = row(x, i));
        };
        let precondition = |r: &[f32], out: &mut Vec<f32>| *out = r.iter().map(|r| 0.5 * r).collect();
        let exact: Vec<f32> = (0..n).map(|i| (i as f32 * 0.05).sin()).collect();
        let right: Vec<f32> = (0..n).map(|i| row(&exact, i)).collect();
        for first in [0.0, 3.0] {
            let mut x = vec![first; n];
            let convergence = conjugate_gradients(
                multiply,
                precondition,
                |_| {},
                &right,
                &mut x,
                Tolerance::Residual(1e-6),
            );
            assert!(convergence.residual <= 1e-6 && convergence.iterations < 300, "{convergence:?}");
            assert!(x.iter().zip(&exact).all(|(a, b)| (a - b).abs() < 1e-2));
        }
    }
}
