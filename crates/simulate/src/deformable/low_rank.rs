//! Terms of the matrix that join very many nodes and have few eigenvalues: they are applied as sums, and the preconditioner
//! leaves them out, as conjugate gradients need one iteration more for each of their eigenvalues.

use glam::Vec3A;
use std::ops::Range;

/// A term k u uᵀ of rank one, or k w wᵀ for each axis.
#[derive(Clone)]
pub(super) struct LowRank {
    nodes: Range<usize>,
    kind: Kind,
    stiffness: f32,
}

#[derive(Clone)]
enum Kind {
    Vector(Vec<Vec3A>),
    Mean(Vec<f32>),
}

impl LowRank {
    /// k u uᵀ, with a vector for each of the nodes.
    pub fn vector(nodes: Range<usize>, u: Vec<Vec3A>, stiffness: f32) -> Self {
        Self { nodes, kind: Kind::Vector(u), stiffness }
    }

    /// k w wᵀ along each axis, with a weight for each of the nodes.
    pub fn mean(nodes: Range<usize>, w: Vec<f32>, stiffness: f32) -> Self {
        Self { nodes, kind: Kind::Mean(w), stiffness }
    }

    /// Adds the product with `x` to `image`.
    pub fn multiply(&self, x: &[Vec3A], image: &mut [Vec3A]) {
        let (x, image) = (&x[self.nodes.clone()], &mut image[self.nodes.clone()]);
        match &self.kind {
            Kind::Vector(u) => {
                let sum: f64 = u.iter().zip(x).map(|(u, x)| f64::from(u.dot(*x))).sum();
                let sum = sum as f32 * self.stiffness;
                image.iter_mut().zip(u).for_each(|(image, u)| *image += *u * sum);
            }
            Kind::Mean(w) => {
                let weighted = x.iter().zip(w).map(|(x, w)| (*x * *w).as_dvec3());
                let sum = weighted.fold(glam::DVec3::ZERO, |sum, x| sum + x).as_vec3a() * self.stiffness;
                image.iter_mut().zip(w).for_each(|(image, w)| *image += sum * *w);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn products_are_those_of_the_outer_products() {
        let x = [Vec3A::X, Vec3A::new(1.0, 2.0, 3.0), Vec3A::Z];
        let mut image = [Vec3A::ZERO; 3];
        LowRank::vector(1..3, vec![Vec3A::Y, Vec3A::Z * 2.0], 3.0).multiply(&x, &mut image);
        // 3 (2 + 2).
        assert_eq!(image, [Vec3A::ZERO, Vec3A::Y * 12.0, Vec3A::Z * 24.0]);
        let mut image = [Vec3A::ZERO; 3];
        LowRank::mean(0..2, vec![0.5, 0.5], 2.0).multiply(&x, &mut image);
        assert_eq!(image, [Vec3A::new(1.0, 1.0, 1.5), Vec3A::new(1.0, 1.0, 1.5), Vec3A::ZERO]);
    }
}
