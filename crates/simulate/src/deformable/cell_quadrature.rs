//! Sums over the points of quadrature of a cell, with trilinear functions of its corners.
//!
//! Such a function is a product of functions along the axes, so that sums are taken along one axis after the other
//! (S. Orszag, *Spectral methods for problems in complex geometries*, 1980). Points of quadrature are Gauss's two a side, one an
//! octant; bit 0 of the number of a corner or of a point is along x, bit 1 along y, bit 2 along z.

use glam::{DMat3, DVec3, Mat3A};

/// Pairs of corners a ≤ b of a cell.
pub(super) const PAIRS: usize = 36;

/// The place of the pair of corners a ≤ b in a list of all.
pub(super) const fn pair(a: usize, b: usize) -> usize {
    a * (17 - a) / 2 + b - a
}

/// Weight of a corner at the point of quadrature on its side, along an axis: ½ + ½ / √3; and at the other point.
const NEAR: f64 = 0.788_675_134_594_812_9;
const FAR: f64 = 1.0 - NEAR;

/// Whether a corner or point is on the far side along an axis.
const fn side(of: usize, axis: usize) -> usize {
    of >> axis & 1
}

/// The number of the corner or point with these sides along an axis and the next two.
const fn number(axis: usize, [a, b, c]: [usize; 3]) -> usize {
    a << axis | b << ((axis + 1) % 3) | c << ((axis + 2) % 3)
}

/// Values at the two ends of an axis from those at the two points, or the other way round.
fn weighed([p, q]: [DVec3; 2]) -> [DVec3; 2] {
    [p * NEAR + q * FAR, p * FAR + q * NEAR]
}

/// The deformation gradient at each point: of a cell with its corners at `x`. The sides of the cell are 1 / `inverse_size` at rest.
pub(super) fn deformations(x: &[DVec3; 8], inverse_size: DVec3) -> [DMat3; 8] {
    let mut all = [DMat3::ZERO; 8];
    for axis in 0..3 {
        let edge = |b, c| {
            let [from, to] = [0, 1].map(|a| x[number(axis, [a, b, c])]);
            (to - from) * inverse_size[axis]
        };
        let along_b = [0, 1].map(|c| weighed([edge(0, c), edge(1, c)]));
        for b in 0..2 {
            for (c, column) in weighed([along_b[0][b], along_b[1][b]]).into_iter().enumerate() {
                for a in 0..2 {
                    *all[number(axis, [a, b, c])].col_mut(axis) = column;
                }
            }
        }
    }
    all
}

/// The derivative by each corner of a sum over the points, from those by the deformation gradient at each.
pub(super) fn nodal_gradient(points: &[DMat3; 8], inverse_size: DVec3) -> [DVec3; 8] {
    let mut all = [DVec3::ZERO; 8];
    for axis in 0..3 {
        let sum = |b, c| {
            let [p, q] = [0, 1].map(|a| points[number(axis, [a, b, c])].col(axis));
            (p + q) * inverse_size[axis]
        };
        let along_b = [0, 1].map(|c| weighed([sum(0, c), sum(1, c)]));
        for b in 0..2 {
            for (c, value) in weighed([along_b[0][b], along_b[1][b]]).into_iter().enumerate() {
                all[number(axis, [0, b, c])] -= value;
                all[number(axis, [1, b, c])] += value;
            }
        }
    }
    all
}

/// Second derivatives at a point by columns of the deformation gradient: rows are those of the first column, columns of the matrix
/// those of the second.
#[derive(Clone, Copy)]
pub(super) struct ElasticityTensor {
    /// Twice by x, by y and by z.
    pub own: [Mat3A; 3],
    /// By x and y, y and z, z and x.
    pub mixed: [Mat3A; 3],
}

impl ElasticityTensor {
    pub const ZERO: Self = Self { own: [Mat3A::ZERO; 3], mixed: [Mat3A::ZERO; 3] };

    /// The same by the columns of F, where this one is by those of F B.
    pub fn before(&self, back: &Mat3A) -> Self {
        let at = |a: usize, b: usize| match (3 + b - a) % 3 {
            0 => self.own[a],
            1 => self.mixed[a],
            _ => self.mixed[b].transpose(),
        };
        let sum = |a: usize, b: usize| {
            let mut sum = Mat3A::ZERO;
            for c in 0..3 {
                for d in 0..3 {
                    sum += at(c, d) * (back.col(c)[a] * back.col(d)[b]);
                }
            }
            sum
        };
        Self { own: [0, 1, 2].map(|a| sum(a, a)), mixed: [0, 1, 2].map(|a| sum(a, (a + 1) % 3)) }
    }
}

/// Sums over the two points of an axis of values times the weights of two corners: both on the near side, one on each, both on
/// the far side.
#[inline(always)]
fn weighed_twice([p, q]: [Mat3A; 2]) -> [Mat3A; 3] {
    const BOTH_NEAR: f32 = (NEAR * NEAR) as f32;
    const BOTH_FAR: f32 = (FAR * FAR) as f32;
    const ONE_EACH: f32 = (NEAR * FAR) as f32;
    [p * BOTH_NEAR + q * BOTH_FAR, (p + q) * ONE_EACH, p * BOTH_FAR + q * BOTH_NEAR]
}

#[inline(always)]
fn weighed_f32([p, q]: [Mat3A; 2]) -> [Mat3A; 2] {
    const NEAR_F32: f32 = NEAR as f32;
    const FAR_F32: f32 = FAR as f32;
    [p * NEAR_F32 + q * FAR_F32, p * FAR_F32 + q * NEAR_F32]
}

/// Numbers of sums of each axis: with both functions along the axis ([`own_sum`]), and with the first along the axis and the second
/// along the next ([`mixed_sum`]).
const OWN: usize = 18;
const MIXED: usize = 24;

/// The place of a sum with both functions along an axis: by the sides along the next two axes, of both corners together, and by whether
/// the corners are on opposite sides of the axis.
const fn own_sum(axis: usize, [b, c]: [usize; 2], differ: usize) -> usize {
    OWN * axis + 6 * b + 2 * c + differ
}

/// The place of a sum with the first function along an axis and the second along the next: by the side of the first corner along the
/// next axis, of the second along the axis, of both together along the third, and by whether the signs of the functions differ.
const fn mixed_sum(axis: usize, [first, second, both]: [usize; 3], differ: usize) -> usize {
    MIXED * axis + 12 * first + 6 * second + 2 * both + differ
}

/// Of which sums the second derivative by each pair of corners consists: of `OWN`, of `MIXED`, and of `MIXED` transposed.
const SUMS: [[[u8; 3]; 3]; PAIRS] = {
    let mut sums = [[[0; 3]; 3]; PAIRS];
    let mut i = 0;
    while i < 8 {
        let mut k = i;
        while k < 8 {
            let mut axis = 0;
            while axis < 3 {
                let (b, c) = ((axis + 1) % 3, (axis + 2) % 3);
                let together = [side(i, b) + side(k, b), side(i, c) + side(k, c)];
                let all = &mut sums[pair(i, k)];
                all[0][axis] = own_sum(axis, together, side(i, axis) ^ side(k, axis)) as u8;
                let mixed = [side(i, b), side(k, axis), together[1]];
                all[1][axis] = mixed_sum(axis, mixed, side(i, axis) ^ side(k, b)) as u8;
                let mixed = [side(k, b), side(i, axis), together[1]];
                all[2][axis] = mixed_sum(axis, mixed, side(k, axis) ^ side(i, b)) as u8;
                axis += 1;
            }
            k += 1;
        }
        i += 1;
    }
    sums
};

/// Puts the second derivatives by all pairs of corners of a sum over the points.
pub(super) fn stiffness_blocks(
    points: &[ElasticityTensor; 8],
    inverse_size: DVec3,
    blocks: &mut [Mat3A; PAIRS],
) {
    let inverse_size = inverse_size.as_vec3();
    let mut own = [Mat3A::ZERO; 3 * OWN];
    let mut mixed = [Mat3A::ZERO; 3 * MIXED];
    for axis in 0..3 {
        let square = inverse_size[axis] * inverse_size[axis];
        let sum = |b: usize, c: usize| {
            let [p, q] = [number(axis, [0, b, c]), number(axis, [1, b, c])];
            (points[p].own[axis] + points[q].own[axis]) * square
        };
        let along_b = [weighed_twice([sum(0, 0), sum(1, 0)]), weighed_twice([sum(0, 1), sum(1, 1)])];
        for b in 0..3 {
            let values = weighed_twice([along_b[0][b], along_b[1][b]]);
            for c in 0..3 {
                let at = own_sum(axis, [b, c], 0);
                (own[at], own[at + 1]) = (values[c], -values[c]);
            }
        }
        let product = inverse_size[axis] * inverse_size[(axis + 1) % 3];
        let mut along_c = [[Mat3A::ZERO; 3]; 4];
        for (at, values) in along_c.iter_mut().enumerate() {
            let [p, q] = [number(axis, [at & 1, at >> 1, 0]), number(axis, [at & 1, at >> 1, 1])];
            *values = weighed_twice([points[p].mixed[axis] * product, points[q].mixed[axis] * product]);
        }
        for c in 0..3 {
            let near = weighed_f32([along_c[0][c], along_c[1][c]]);
            let far = weighed_f32([along_c[2][c], along_c[3][c]]);
            for second in 0..2 {
                let values = weighed_f32([near[second], far[second]]);
                for first in 0..2 {
                    let at = mixed_sum(axis, [first, second, c], 0);
                    (mixed[at], mixed[at + 1]) = (values[first], -values[first]);
                }
            }
        }
    }
    for (block, [of_own, of_mixed, of_transposed]) in blocks.iter_mut().zip(&SUMS) {
        let [a, b, c] = of_own.map(usize::from);
        let [d, e, f] = of_mixed.map(usize::from);
        let [g, h, i] = of_transposed.map(usize::from);
        *block = own[a]
            + own[b]
            + own[c]
            + mixed[d]
            + mixed[e]
            + mixed[f]
            + (mixed[g] + mixed[h] + mixed[i]).transpose();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::{Mat3, Vec3A};

    fn random(i: usize) -> f64 {
        f64::from(((i as u32).wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0 - 0.5
    }

    fn random_matrix(i: usize) -> DMat3 {
        DMat3::from_cols_array(&std::array::from_fn(|k| random(11 * i + k)))
    }

    const SIZE: DVec3 = DVec3::new(0.2, 0.3, 0.25);

    fn corner(i: usize) -> DVec3 {
        DVec3::new((i & 1) as f64, (i >> 1 & 1) as f64, (i >> 2 & 1) as f64)
    }

    /// The gradient of a corner's function at a point of quadrature.
    fn gradient(point: usize, i: usize) -> DVec3 {
        let (at, c) = (DVec3::splat(FAR) + corner(point) * (NEAR - FAR), corner(i));
        let (w, sign) = (c * at + (DVec3::ONE - c) * (DVec3::ONE - at), 2.0 * c - DVec3::ONE);
        sign * DVec3::new(w.y * w.z, w.z * w.x, w.x * w.y) / SIZE
    }

    #[test]
    fn deformations_are_sums_of_the_corners_gradients() {
        let x: [DVec3; 8] = std::array::from_fn(|i| random_matrix(i + 70).x_axis);
        for (point, f) in deformations(&x, SIZE.recip()).into_iter().enumerate() {
            for axis in 0..3 {
                let sum = (0..8).fold(DVec3::ZERO, |sum, i| sum + x[i] * gradient(point, i)[axis]);
                assert!(sum.distance(f.col(axis)) < 1e-12);
            }
        }
    }

    #[test]
    fn derivatives_nodal_gradient_are_sums_over_all_points() {
        let stresses: [DMat3; 8] = std::array::from_fn(random_matrix);
        for (i, of) in nodal_gradient(&stresses, SIZE.recip()).into_iter().enumerate() {
            let sum = (0..8).fold(DVec3::ZERO, |sum, point| sum + stresses[point] * gradient(point, i));
            assert!(sum.distance(of) < 1e-12);
        }
    }

    #[test]
    fn second_derivatives_stiffness_blocks_are_sums_over_all_points() {
        let single = |i: usize| Mat3A::from(random_matrix(i).as_mat3());
        let symmetric = |i: usize| single(i) + single(i).transpose();
        let tensors: [ElasticityTensor; 8] = std::array::from_fn(|point| ElasticityTensor {
            own: [0, 1, 2].map(|a| symmetric(20 * point + a)),
            mixed: [3, 4, 5].map(|a| single(20 * point + a)),
        });
        let back = single(900) + Mat3A::from(Mat3::IDENTITY);
        for of in [Mat3A::IDENTITY, back] {
            let mut blocks = [Mat3A::ZERO; PAIRS];
            stiffness_blocks(&tensors.map(|tensor| tensor.before(&of)), SIZE.recip(), &mut blocks);
            let at = |point: usize, i: usize| of.transpose() * gradient(point, i).as_vec3a();
            for i in 0..8 {
                for k in i..8 {
                    let mut sum = Mat3A::ZERO;
                    for (point, ElasticityTensor { own, mixed }) in tensors.iter().enumerate() {
                        let (g, h): (Vec3A, Vec3A) = (at(point, i), at(point, k));
                        for a in 0..3 {
                            let b = (a + 1) % 3;
                            sum += own[a] * (g[a] * h[a]) + mixed[a] * (g[a] * h[b]);
                            sum += mixed[a].transpose() * (g[b] * h[a]);
                        }
                    }
                    assert!(sum.abs_diff_eq(blocks[pair(i, k)], 2e-4), "{i} {k}");
                }
            }
        }
    }
}
