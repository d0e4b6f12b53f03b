//! Free bodies in the stress beside the pressure: each is six more unknowns, as in the pressure (`coupling.rs`), so that what clings to
//! a body carries it and is carried by it, however thick the liquid and light the body.
//!
//! With K the matrix of the stress over all faces, u the unknown faces, J the velocities at faces of a rigid motion, and w the faces that
//! a body closes, the motion δ that the body gains has M δ = −ρ Δx³ J_wᵀ (K_wu u + K_ww J_w (V + δ)). A rigid motion does not deform the
//! liquid, K_wu J_u + K_ww J_w = 0, so that K_wu alone is needed. δ is eliminated from the equations of the faces.

use super::boundary::{Boundary, FreeBody};
use super::coupling::BodyImpulse;
use super::solids::face_centre;
use geometry::tiles::Tiles;
use glam::{DVec3, Vec3};
use std::collections::BTreeMap;

/// A vector and one about the centre: of a motion, an impulse, or how a rigid motion moves a face.
type Six = [f64; 6];

/// An unknown face coupled to a face that a body closes.
#[derive(Clone, Copy)]
pub(super) struct Link {
    /// The body.
    pub body: u32,
    /// The equation of the unknown face.
    pub row: u32,
    /// Axis and cell of the unknown face.
    pub own: (usize, usize),
    /// Axis and cell of the face that the body closes.
    pub closed: (usize, usize),
    /// The factor of the closed face in the equation.
    pub factor: f32,
    /// What the elastic stress gives the unknown face, of which the body gets the opposite; m/s times the volume of a cell.
    pub push: f32,
}

/// A free body with its links.
#[derive(Clone)]
struct LinkedBody {
    body: u32,
    free: FreeBody,
    /// Row, factor, and how motions of the body move the face that it closes.
    links: Vec<(u32, f32, Six)>,
    /// The inverse of M / (ρ Δx³) + K, of which the columns are the motion for a unit of each impulse.
    inverse: [Six; 6],
    /// K of its motions.
    stress: [Six; 6],
    /// What the motion at first takes, as an impulse over ρ Δx³.
    drag: Six,
    /// What the elastic stress gives, the same.
    push: Six,
}

/// The free bodies that the stress of a liquid reaches.
#[derive(Default)]
pub(super) struct ViscousCoupling {
    bodies: Vec<LinkedBody>,
    /// ρ Δx³, kg.
    mass: f64,
}

fn dot(a: &Six, b: &Six) -> f64 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

/// How motions of a body about a centre move a face along its axis.
fn arm(tiles: &Tiles, (axis, cell): (usize, usize), centre: Vec3) -> Six {
    let along = DVec3::AXES[axis];
    let about = (face_centre(tiles, axis, cell) - centre).as_dvec3().cross(along);
    [along.x, along.y, along.z, about.x, about.y, about.z]
}

/// The inverse of a symmetric matrix by the Gauss–Jordan method; None where it has none.
fn inverse(mut matrix: [Six; 6]) -> Option<[Six; 6]> {
    let mut found = [[0.0; 6]; 6];
    (0..6).for_each(|i| found[i][i] = 1.0);
    for i in 0..6 {
        let pivot = (i..6).max_by(|a, b| matrix[*a][i].abs().total_cmp(&matrix[*b][i].abs()))?;
        matrix.swap(i, pivot);
        found.swap(i, pivot);
        let own = matrix[i][i];
        if own == 0.0 || own.is_nan() {
            return None;
        }
        (0..6).for_each(|k| (matrix[i][k], found[i][k]) = (matrix[i][k] / own, found[i][k] / own));
        for row in (0..6).filter(|row| *row != i) {
            let factor = matrix[row][i];
            for k in 0..6 {
                matrix[row][k] -= factor * matrix[i][k];
                found[row][k] -= factor * found[i][k];
            }
        }
    }
    Some(found)
}

impl ViscousCoupling {
    /// Of all links, with the density of most of the liquid.
    pub fn new(tiles: &Tiles, links: &[Link], boundary: &impl Boundary, density_kg_m3: f32) -> Self {
        let mass = f64::from(density_kg_m3) * f64::from(tiles.cell_m).powi(3);
        let mut of: BTreeMap<u32, Vec<&Link>> = BTreeMap::new();
        links.iter().for_each(|link| of.entry(link.body).or_default().push(link));
        let linked = |(body, links): (u32, Vec<&Link>)| {
            let free = boundary.free_body(body)?;
            let (mut matrix, mut stress) = ([[0.0; 6]; 6], [[0.0; 6]; 6]);
            let mobile = free.inverse_inertia.determinant().abs() > 0.0;
            let inertia = if mobile { free.inverse_inertia.inverse().as_dmat3() } else { return None };
            for i in 0..3 {
                matrix[i][i] = 1.0 / f64::from(free.inverse_mass) / mass;
                (0..3).for_each(|k| matrix[3 + i][3 + k] = inertia.col(k)[i] / mass);
            }
            let (mut drag, mut push) = ([0.0; 6], [0.0; 6]);
            let mut list = Vec::with_capacity(links.len());
            for link in links {
                let (closed, own) = (arm(tiles, link.closed, free.centre), arm(tiles, link.own, free.centre));
                let factor = f64::from(link.factor);
                let (axis, cell) = link.own;
                let with_body = f64::from(boundary.velocity(body, face_centre(tiles, axis, cell))[axis]);
                for i in 0..6 {
                    drag[i] -= factor * closed[i] * with_body;
                    push[i] -= f64::from(link.push) * closed[i];
                    // The symmetric part: they differ where walls are near.
                    (0..6).for_each(|k| {
                        stress[i][k] += 0.5 * factor * (closed[i] * own[k] + own[i] * closed[k]);
                    });
                }
                list.push((link.row, link.factor, closed));
            }
            for (row, stress) in matrix.iter_mut().zip(&stress) {
                row.iter_mut().zip(stress).for_each(|(of, stress)| *of += stress);
            }
            Some(LinkedBody { body, free, links: list, inverse: inverse(matrix)?, stress, drag, push })
        };
        Self { bodies: of.into_iter().filter_map(linked).collect(), mass }
    }

    /// The same with bodies that do not move at first.
    pub fn at_rest(&self) -> Self {
        let at_rest = |body: &LinkedBody| LinkedBody { drag: [0.0; 6], push: [0.0; 6], ..body.clone() };
        Self { bodies: self.bodies.iter().map(at_rest).collect(), mass: self.mass }
    }

    /// The motions that the bodies gain from impulses over ρ Δx³.
    fn motions(&self, of: impl Fn(&LinkedBody) -> Six) -> Vec<Six> {
        let motion = |body: &LinkedBody| {
            let impulse = of(body);
            std::array::from_fn(|i| dot(&body.inverse[i], &impulse))
        };
        self.bodies.iter().map(motion).collect()
    }

    fn add_to_rows(&self, motions: &[Six], out: &mut [f32], sign: f64) {
        for (body, motion) in self.bodies.iter().zip(motions) {
            for (row, factor, closed) in &body.links {
                out[*row as usize] += (sign * f64::from(*factor) * dot(closed, motion)) as f32;
            }
        }
    }

    /// Adds to the right sides of the equations what bodies do that give way to the motion they have, at first and by `before`.
    pub fn add_right(&self, right: &mut [f32], before: &[BodyImpulse]) {
        let moved: Vec<Six> = self.bodies.iter().map(|body| motion_by(body, before)).collect();
        self.add_to_rows(&moved, right, 1.0);
        self.add_to_rows(&self.motions(|body| drag(body, before)), right, 1.0);
    }

    /// Takes from the left sides of the equations what bodies do that give way to velocities `x`.
    pub fn add_product(&self, x: &[f32], out: &mut [f32]) {
        self.add_to_rows(&self.motions(|body| given(body, x)), out, -1.0);
    }

    /// What the velocities found give the bodies.
    pub fn impulses(&self, x: &[f32], before: &[BodyImpulse]) -> Vec<BodyImpulse> {
        self.to_impulses(&self.motions(|body| {
            let (given, drag) = (given(body, x), drag(body, before));
            std::array::from_fn(|i| given[i] + drag[i])
        }))
    }

    /// What the elastic stress gives the bodies.
    pub fn pushes(&self) -> Vec<BodyImpulse> {
        let motion = |LinkedBody { free, push, .. }: &LinkedBody| {
            let scale = |part: &[f64]| DVec3::from_slice(part) * self.mass;
            let (v, w) = (scale(&push[..3]), scale(&push[3..]));
            let (v, w) = (v * f64::from(free.inverse_mass), free.inverse_inertia.as_dmat3() * w);
            [v.x, v.y, v.z, w.x, w.y, w.z]
        };
        self.to_impulses(&self.bodies.iter().map(motion).collect::<Vec<_>>())
    }

    fn to_impulses(&self, motions: &[Six]) -> Vec<BodyImpulse> {
        let impulse = |(LinkedBody { body, free, .. }, motion): (&LinkedBody, &Six)| {
            let velocity = DVec3::from_slice(&motion[..3]).as_vec3();
            let angular_velocity = DVec3::from_slice(&motion[3..]).as_vec3();
            BodyImpulse {
                body: *body,
                impulse: velocity / free.inverse_mass,
                angular_impulse: free.inverse_inertia.inverse() * angular_velocity,
                velocity,
                angular_velocity,
                centre: free.centre,
            }
        };
        self.bodies.iter().zip(motions).map(impulse).collect()
    }
}

/// The motion that a body has been given.
fn motion_by(body: &LinkedBody, before: &[BodyImpulse]) -> Six {
    before.iter().find(|of| of.body == body.body).map_or([0.0; 6], |of| {
        let (v, w) = (of.velocity.as_dvec3(), of.angular_velocity.as_dvec3());
        [v.x, v.y, v.z, w.x, w.y, w.z]
    })
}

/// What the motion of a body at first and by `before` takes, as an impulse over ρ Δx³.
fn drag(body: &LinkedBody, before: &[BodyImpulse]) -> Six {
    let motion = motion_by(body, before);
    std::array::from_fn(|i| body.drag[i] - dot(&body.stress[i], &motion))
}

/// What velocities `x` of the unknown faces give a body, as an impulse over ρ Δx³.
fn given(body: &LinkedBody, x: &[f32]) -> Six {
    let mut sum = [0.0; 6];
    for (row, factor, closed) in &body.links {
        let part = f64::from(*factor) * f64::from(x[*row as usize]);
        (0..6).for_each(|i| sum[i] += part * closed[i]);
    }
    sum
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_inverse_of_a_matrix_times_it_is_one() {
        let value = |i: usize, k: usize| ((7 * i + 3 * k) % 5) as f64 - 1.3;
        let mut matrix = [[0.0; 6]; 6];
        for i in 0..6 {
            (0..6).for_each(|k| matrix[i][k] = value(i, k) + value(k, i) + if i == k { 9.0 } else { 0.0 });
        }
        let found = inverse(matrix).unwrap();
        for i in 0..6 {
            for k in 0..6 {
                let product: f64 = (0..6).map(|j| matrix[i][j] * found[j][k]).sum();
                assert!((product - if i == k { 1.0 } else { 0.0 }).abs() < 1e-12);
            }
        }
        assert!(inverse([[0.0; 6]; 6]).is_none());
    }
}
