//! Pressure and viscosity at once, for liquid in which the velocities diffuse over more than a part of a cell in a step. One after the other
//! they are wrong then by as much as viscosity does in a step: a ball sinks many times too fast.
//!
//! With A the equations of the viscosity, M the masses and D what flows into cells, the velocities u = A⁻¹ (M u₀ + Dᵀ q) are to have
//! D u = 0: (D A⁻¹ Dᵀ) q = −D A⁻¹ M u₀ (E. Larionov, C. Batty and R. Bridson, *Variational Stokes: a unified pressure-viscosity solver for
//! accurate viscous liquids*, 2017, solve the same as one system). From the q that would do without viscosity on, that is solved by a
//! flexible method of minimal residuals (Y. Saad, *A flexible inner-outer preconditioned GMRES algorithm*, 1993), preconditioned by
//! the sum of a Poisson solution and 2 μ̂ (J. Cahouet and J.-P. Chabard, *Some fast 3D finite element solvers for the generalized Stokes
//! problem*, 1988), so that the iterations hardly depend on viscosity and cells. In a cell of which
//! solids leave the part φ, and that is liquid as far as w, the second is 2 μ̂ w / φ. The inner solutions, with A⁻¹, are rough. In the end
//! the momentum equations are solved once more for the whole pressure, and the method starts again from the inflow that is left then.
//!
//! The pressure enters as impulses on faces and bodies. As a change of velocities it would not keep momentum: A and the equations of the
//! pressure give faces near the surface different masses.

use super::conjugate_gradients::{Tolerance, dot};
use super::coupling::{Coupling, SolidMotion};
use super::pressure::Equations;
use super::solids::CutCells;
use super::transfer::Faces;
use super::viscosity::Viscosity;
use super::viscous_coupling::ViscousCoupling;
use geometry::tiles::Tiles;

/// Least μ̂ at which both are solved at once.
pub(super) const LEAST_VISCOSITY: f32 = 0.02;
/// Most iterations.
const MAX_ITERATIONS: usize = 60;
/// Most starts of the method, each with the inflow that the last one left.
const MAX_ROUNDS: usize = 4;
/// The remaining inflow, as a part of that at first; the pressure takes out the rest alone.
const TOLERANCE: f64 = 0.03;
/// An inflow that is not worth an iteration, as a part of that which the first pressure takes out.
const LEAST_INFLOW: f64 = 1e-3;
/// The remaining force of an inner solution, as a part of that at first.
const INNER_TOLERANCE: f64 = 1e-3;
/// The energy of the error of the solution for the first pressure, and of that for all changes together, as a part of the kinetic energy at
/// first. The pressure in a narrow hole is far greater than the stress that bends the rope that hangs out of it.
const ENERGY_TOLERANCE: f64 = 1e-8;
/// Cells around thick liquid in which faces of air go with it: particles there would fall off the end of a rope one by one.
const EDGE: i32 = 2;

/// A change of the pressure, and what follows of it once the viscosity has acted.
struct Change<'a> {
    q: Vec<f32>,
    velocities: Vec<f32>,
    motion: SolidMotion<'a>,
}

/// Lets the velocities on the faces diffuse while the pressure, with surface tension, keeps them free of divergence but for a small part,
/// which is left to a projection. Solids that give way gain by both in `motion`.
pub(super) fn diffuse(
    (tiles, solids): (&Tiles, &CutCells),
    equations: &mut Equations,
    viscosity: &Viscosity,
    (bodies, coupling): (&ViscousCoupling, &Coupling),
    faces: &mut Faces,
    motion: &mut SolidMotion,
) {
    // The pressure begins at that which would do without viscosity, so that what rests stays at rest.
    let (inviscid, inflow) = equations.inviscid_pressure(faces, coupling, motion);
    motion.add_pressure_in_equations(coupling, &inviscid);
    let impulse = |axis, face| equations.impulse(&inviscid, axis, face, true);
    let balanced = Tolerance::Energy(ENERGY_TOLERANCE * viscosity.kinetic_energy(faces));
    viscosity.diffuse(faces, impulse, bodies, motion, (balanced, EDGE));
    equations.add_pressure(&inviscid, 1.0);
    let schur = SchurComplement { tiles, solids, viscosity, bodies: bodies.at_rest(), coupling, balanced };
    let (mut left, mut enough) = (MAX_ITERATIONS, LEAST_INFLOW * inflow);
    for round in 0..MAX_ROUNDS {
        let mut residual = equations.inflow(faces, |face| motion.velocity(tiles, solids, face));
        equations.clear_unsolved(&mut residual);
        let length = dot(&residual, &residual).sqrt();
        if round == 0 {
            enough = enough.max(TOLERANCE * length);
        }
        if length <= enough || !length.is_finite() || left == 0 {
            return;
        }
        let (changes, factors) = schur.least_inflow(equations, (residual, length), (enough, left), motion);
        left -= changes.len();
        let of = schur.together(equations, &changes, &factors, motion);
        equations.add_pressure(&of.q, 1.0);
        motion.add_scaled(&of.motion, 1.0);
        let mut velocities = viscosity.velocities(faces);
        velocities.iter_mut().zip(&of.velocities).for_each(|(sum, of)| *sum += of);
        viscosity.set_velocities(&velocities, faces);
    }
}

/// The operator D A⁻¹ Dᵀ from the pressure to the inflow, by solutions with A.
struct SchurComplement<'s> {
    tiles: &'s Tiles,
    solids: &'s CutCells,
    viscosity: &'s Viscosity<'s>,
    bodies: ViscousCoupling,
    coupling: &'s Coupling<'s>,
    /// The tolerance of the solution for all changes together.
    balanced: Tolerance,
}

impl SchurComplement<'_> {
    /// Changes of the pressure, `most` at most, and the factors by which their sum leaves the least of an inflow, whose length is given, or
    /// `enough` of it.
    fn least_inflow<'a>(
        &self,
        equations: &mut Equations,
        (inflow, length): (Vec<f32>, f64),
        (enough, most): (f64, usize),
        motion: &SolidMotion<'a>,
    ) -> (Vec<Change<'a>>, Vec<f64>) {
        let scaled = |of: &[f32], factor: f64| of.iter().map(|x| (f64::from(*x) * factor) as f32).collect();
        let mut directions: Vec<Vec<f32>> = vec![scaled(&inflow, 1.0 / length)];
        let mut changes: Vec<Change> = Vec::new();
        let mut least = LeastSquares::new(length);
        let mut scratch = Faces::unknown(self.tiles);
        while changes.len() < most && least.residual > enough {
            let change = self.about(equations, &directions[changes.len()], motion);
            self.viscosity.set_velocities(&change.velocities, &mut scratch);
            let surface = |face| change.motion.change(self.tiles, self.solids, face);
            let mut image = equations.inflow(&scratch, surface);
            equations.clear_unsolved(&mut image);
            changes.push(change);
            let mut column = Vec::with_capacity(directions.len() + 1);
            for direction in &directions {
                // What a change lets flow out is to be what flows in.
                let part = -dot(direction, &image);
                let pairs = image.iter_mut().zip(direction);
                pairs.for_each(|(image, direction)| *image += part as f32 * direction);
                column.push(part);
            }
            let next = dot(&image, &image).sqrt();
            column.push(next);
            if !least.add(column) || next <= 1e-12 * length {
                break;
            }
            directions.push(scaled(&image, -1.0 / next));
        }
        let factors = least.solution();
        (changes, factors)
    }

    /// The change by the pressure that about takes out an inflow.
    fn about<'a>(&self, equations: &mut Equations, inflow: &[f32], motion: &SolidMotion<'a>) -> Change<'a> {
        let mut q = vec![0.0; inflow.len()];
        equations.precondition(inflow, &mut q);
        let scales = equations.cells().column(|cell| self.viscosity.pressure_of_inflow(cell));
        q.iter_mut().zip(inflow).zip(scales).for_each(|((q, inflow), scale)| *q += scale * inflow);
        self.by(equations, q, Vec::new(), motion, Tolerance::Residual(INNER_TOLERANCE))
    }

    /// The sum of changes times factors, with the velocities solved for anew. The forces that inner solutions leave would swing a rope: that
    /// takes little force and has hardly any divergence, so that the inflow does not show it.
    fn together<'a>(
        &self,
        equations: &Equations,
        changes: &[Change],
        factors: &[f64],
        motion: &SolidMotion<'a>,
    ) -> Change<'a> {
        let (mut q, mut velocities) = (vec![0.0; changes[0].q.len()], vec![0.0; changes[0].velocities.len()]);
        for (change, factor) in changes.iter().zip(factors) {
            let add = |(sum, of): (&mut f32, &f32)| *sum += *factor as f32 * of;
            q.iter_mut().zip(&change.q).for_each(add);
            velocities.iter_mut().zip(&change.velocities).for_each(add);
        }
        self.by(equations, q, velocities, motion, self.balanced)
    }

    /// The change by a pressure. The solution starts from `velocities`, or from 0 if that is empty.
    fn by<'a>(
        &self,
        equations: &Equations,
        q: Vec<f32>,
        velocities: Vec<f32>,
        motion: &SolidMotion<'a>,
        tolerance: Tolerance,
    ) -> Change<'a> {
        let mut own = motion.unchanged();
        own.add_pressure_in_equations(self.coupling, &q);
        let impulse = |axis, face| equations.impulse(&q, axis, face, false);
        let velocities = self.viscosity.response(velocities, impulse, &self.bodies, &mut own, tolerance);
        Change { q, velocities, motion: own }
    }
}

/// The least residual of a combination of changes, by rotations of Givens.
struct LeastSquares {
    /// Columns of the triangle.
    columns: Vec<Vec<f64>>,
    rotations: Vec<(f64, f64)>,
    right: Vec<f64>,
    residual: f64,
}

impl LeastSquares {
    fn new(first: f64) -> Self {
        Self { columns: Vec::new(), rotations: Vec::new(), right: vec![first], residual: first }
    }

    /// Adds what a change does along the directions so far and the next; false if it does nothing.
    fn add(&mut self, mut column: Vec<f64>) -> bool {
        for (i, (cos, sin)) in self.rotations.iter().enumerate() {
            let (a, b) = (column[i], column[i + 1]);
            (column[i], column[i + 1]) = (cos * a + sin * b, cos * b - sin * a);
        }
        let k = self.columns.len();
        let length = column[k].hypot(column[k + 1]);
        if length <= 0.0 || !length.is_finite() {
            return false;
        }
        let (cos, sin) = (column[k] / length, column[k + 1] / length);
        (column[k], column[k + 1]) = (length, 0.0);
        let last = self.right[k];
        self.right[k] = cos * last;
        self.right.push(-sin * last);
        self.rotations.push((cos, sin));
        self.columns.push(column);
        self.residual = (sin * last).abs();
        true
    }

    /// How much of each change is to be taken.
    fn solution(&self) -> Vec<f64> {
        let mut found = self.right[..self.columns.len()].to_vec();
        for k in (0..found.len()).rev() {
            found[k] /= self.columns[k][k];
            let own = found[k];
            found[..k].iter_mut().zip(&self.columns[k]).for_each(|(sum, of)| *sum -= of * own);
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_least_residual_of_two_columns_is_that_of_the_normal_equations() {
        // Columns (3, 4), (1, 2, 2) in an orthonormal basis, and the right side (5, 0, 0).
        let mut least = LeastSquares::new(5.0);
        assert!(least.add(vec![3.0, 4.0]) && least.add(vec![1.0, 2.0, 2.0]));
        let [x, y] = least.solution()[..] else { panic!("two") };
        let left = [5.0 - 3.0 * x - y, -4.0 * x - 2.0 * y, -2.0 * y];
        let along = |column: [f64; 3]| left.iter().zip(column).map(|(a, b)| a * b).sum::<f64>();
        assert!(along([3.0, 4.0, 0.0]).abs() < 1e-12 && along([1.0, 2.0, 2.0]).abs() < 1e-12);
        let length = left.iter().map(|of| of * of).sum::<f64>().sqrt();
        assert!((length - least.residual).abs() < 1e-12, "{length} {}", least.residual);
        assert!(!least.add(vec![0.0; 4]));
    }
}
