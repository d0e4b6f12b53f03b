//! Elasticity of a soft body: trilinear hexahedra of a stable neo-Hookean solid (B. Smith, F. de Goes and T. Kim, *Stable
//! neo-Hookean flesh simulation*, 2018).
//!
//! With the deformation gradient F and J = det F, the energy density is
//! ½ μ (|F|² − 3) − μ (J − 1) + ½ λ₁ (J − 1)², which is finite at any F, inverted ones too. A body that keeps its volume
//! has a large second modulus, which at every point of quadrature would lock the cell (J. Nagtegaal, D. Parks and J. Rice, *On
//! numerically accurate finite element solutions in the fully plastic range*, 1974): the part of it above that of a
//! Poisson ratio of ¼ acts on the mean of J over the cell, ½ λ₂ V (J̄ − 1)².
//!
//! Damping is of Kelvin and Voigt: with Green's strain E, a stress 2 μ τ dE/dt + λ₁ τ tr(dE/dt).

use glam::{DMat3, DVec3, Mat3A, Vec3A};
use std::sync::Arc;

/// Pairs of corners a ≤ b of a cell.
pub(super) const PAIRS: usize = 36;

/// The place of the pair of corners a ≤ b in a list of all.
pub(super) const fn pair(a: usize, b: usize) -> usize {
    a * (17 - a) / 2 + b - a
}

/// The size of the cells of a body.
#[derive(Clone, Debug)]
pub(super) struct CellShape {
    /// For each point of quadrature, one an octant, the gradients of the trilinear functions of the corners, 1/m.
    gradients: [[DVec3; 8]; 8],
}

/// The corner of a number: bit 0 is along x, bit 1 along y, bit 2 along z.
fn corner(i: usize) -> DVec3 {
    DVec3::new((i & 1) as f64, (i >> 1 & 1) as f64, (i >> 2 & 1) as f64)
}

/// Weights of the corners at a point of the cell, whose sides go from 0 to 1.
pub(super) fn corner_weights(at: DVec3) -> [f64; 8] {
    std::array::from_fn(|i| {
        let c = corner(i);
        (c * at + (DVec3::ONE - c) * (DVec3::ONE - at)).to_array().iter().product()
    })
}

impl CellShape {
    pub fn new(size: DVec3) -> Self {
        // Gauss's points of two a side.
        let inset = 0.5 - 0.5 / 3.0f64.sqrt();
        let gradients = std::array::from_fn(|q| {
            let at = DVec3::splat(inset) + corner(q) * (1.0 - 2.0 * inset);
            std::array::from_fn(|i| {
                let c = corner(i);
                let (w, sign) = (c * at + (DVec3::ONE - c) * (DVec3::ONE - at), 2.0 * c - DVec3::ONE);
                sign * DVec3::new(w.y * w.z, w.z * w.x, w.x * w.y) / size
            })
        });
        Self { gradients }
    }
}

/// A cell at rest.
#[derive(Clone, Debug)]
pub(super) struct Cell {
    /// Its corners; their numbers ascend.
    pub nodes: [u32; 8],
    /// Volume of the body in each octant, m³.
    volumes: [f64; 8],
    shape: Arc<CellShape>,
}

/// What the elastic forces of a soft body depend on.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct SolidModuli {
    mu: f64,
    /// λ₁ and λ₂, Pa.
    local: f64,
    mean: f64,
    /// Time of the damping, in steps.
    damping: f64,
}

impl SolidModuli {
    /// Times a factor.
    pub fn scaled(&self, by: f64) -> Self {
        Self { mu: self.mu * by, local: self.local * by, mean: self.mean * by, damping: self.damping }
    }

    /// Of Young's modulus, Pa, Poisson's ratio, and the time of the damping in steps.
    pub fn new(youngs_modulus_pa: f64, poisson_ratio: f64, damping: f64) -> Self {
        let mu = youngs_modulus_pa / (2.0 * (1.0 + poisson_ratio));
        let lambda =
            youngs_modulus_pa * poisson_ratio / ((1.0 + poisson_ratio) * (1.0 - 2.0 * poisson_ratio));
        // At rest −μ (J − 1) takes μ off.
        let local = lambda.min(mu);
        Self { mu, local: local + mu, mean: lambda - local, damping }
    }
}

/// Gradient and second derivatives of a cell's energy.
pub(super) struct CellDerivatives {
    pub gradient: [DVec3; 8],
    /// Those of the pairs of corners a ≤ b.
    pub blocks: [Mat3A; PAIRS],
}

impl Cell {
    pub fn new(nodes: [u32; 8], volumes: [f64; 8], shape: Arc<CellShape>) -> Self {
        Self { nodes, volumes, shape }
    }

    /// The same cell of another copy, whose nodes are numbered from `by` on.
    pub fn moved(&self, by: u32) -> Self {
        Self { nodes: self.nodes.map(|node| node + by), ..self.clone() }
    }

    /// The same cell of a body that is so many times as large; `shapes` are the shapes made so, each after the one that it is
    /// made of.
    pub fn of_size(&self, by: f64, shapes: &mut Vec<[Arc<CellShape>; 2]>) -> Self {
        let known = shapes.iter().find(|[of, _]| Arc::ptr_eq(of, &self.shape));
        let shape = match known {
            Some([_, shape]) => shape.clone(),
            None => {
                let gradients = self.shape.gradients.map(|of| of.map(|gradient| gradient / by));
                let shape = Arc::new(CellShape { gradients });
                shapes.push([self.shape.clone(), shape.clone()]);
                shape
            }
        };
        Self { nodes: self.nodes, volumes: self.volumes.map(|volume| volume * by.powi(3)), shape }
    }

    /// Scales what is in it.
    pub fn scale_volume(&mut self, by: f64) {
        self.volumes.iter_mut().for_each(|volume| *volume *= by);
    }

    /// Volume of the body in it, m³.
    pub fn volume(&self) -> f64 {
        self.volumes.iter().sum()
    }

    fn deformation(&self, q: usize, x: &[DVec3; 8]) -> DMat3 {
        let gradients = &self.shape.gradients[q];
        // The gradients sum to 0: differences are exact far from the origin too.
        (1..8).fold(DMat3::ZERO, |sum, i| {
            let (d, g) = (x[i] - x[0], gradients[i]);
            DMat3::from_cols(sum.x_axis + d * g.x, sum.y_axis + d * g.y, sum.z_axis + d * g.z)
        })
    }

    /// The deformation of the whole cell, the mean of its points.
    pub fn mean_deformation(&self, x: &[DVec3]) -> DMat3 {
        let x = self.nodes.map(|node| x[node as usize]);
        (0..8).fold(DMat3::ZERO, |sum, q| sum + self.deformation(q, &x)) * 0.125
    }

    /// Energy, J, with that of the damping over a step from `before`.
    #[cfg(test)]
    fn energy(&self, moduli: &SolidModuli, x: &[DVec3; 8], before: &[DVec3; 8]) -> f64 {
        let (mut sum, mut content) = (0.0, 0.0);
        for q in 0..8 {
            let (f, volume) = (self.deformation(q, x), self.volumes[q]);
            let j = f.determinant();
            let squares = f.x_axis.length_squared() + f.y_axis.length_squared() + f.z_axis.length_squared();
            let off = j - 1.0;
            let density =
                0.5 * moduli.mu * (squares - 3.0) - moduli.mu * off + 0.5 * moduli.local * off * off;
            let change = strain(&f) - strain(&self.deformation(q, before));
            let squares = change.to_cols_array().iter().map(|e| e * e).sum::<f64>();
            let trace = change.x_axis.x + change.y_axis.y + change.z_axis.z;
            let lost = moduli.mu * squares + 0.5 * (moduli.local - moduli.mu) * trace * trace;
            sum += volume * (density + moduli.damping * lost);
            content += volume * j;
        }
        let off = content / self.volume() - 1.0;
        sum + 0.5 * moduli.mean * self.volume() * off * off
    }

    /// Gradient and second derivatives of the energy; these are made definite. `back` is the inverse of a deformation that
    /// costs no energy, and the factor of the volume in it; none: the shape at rest.
    pub fn derivatives(
        &self,
        moduli: &SolidModuli,
        x: &[DVec3],
        before: &[DVec3],
        back: Option<(DMat3, f64)>,
    ) -> CellDerivatives {
        let x = self.nodes.map(|node| x[node as usize]);
        let (back, grown) = back.map_or((None, 1.0), |(back, grown)| (Some(back), grown));
        let deformation = |q: usize, x: &[DVec3; 8]| {
            let f = self.deformation(q, x);
            back.map_or(f, |back| f * back)
        };
        let volumes = self.volumes.map(|volume| volume * grown);
        let all: [DMat3; 8] = std::array::from_fn(|q| deformation(q, &x));
        let cofactors = all.map(|f| cofactor(&f));
        let contents = all.map(|f| f.determinant());
        let whole = self.volume() * grown;
        let mean = (0..8).map(|q| contents[q] * volumes[q]).sum::<f64>() / whole;
        let mean_pressure = moduli.mean * (mean - 1.0);
        let mut of = CellDerivatives { gradient: [DVec3::ZERO; 8], blocks: [Mat3A::ZERO; PAIRS] };
        // Gradients of the mean content.
        let mut of_mean = [DVec3::ZERO; 8];
        let before = (moduli.damping > 0.0).then(|| self.nodes.map(|node| before[node as usize]));
        for q in 0..8 {
            let (f, cofactor, volume) = (&all[q], &cofactors[q], volumes[q]);
            let gradients = self.shape.gradients[q];
            let gradients = back.map_or(gradients, |back| gradients.map(|g| back.transpose() * g));
            let pressure = moduli.local * (contents[q] - 1.0) - moduli.mu;
            let mut stress = *f * moduli.mu + *cofactor * (pressure + mean_pressure);
            let mut damped = None;
            if let Some(before) = &before {
                let change = strain(f) - strain(&deformation(q, before));
                let trace = change.x_axis.x + change.y_axis.y + change.z_axis.z;
                let second = (moduli.local - moduli.mu) * trace;
                let rate = change * (2.0 * moduli.mu) + DMat3::from_diagonal(DVec3::splat(second));
                stress += *f * rate * moduli.damping;
                damped = Some((moduli.damping * moduli.mu * volume) as f32);
            }
            for (sum, g) in of.gradient.iter_mut().zip(&gradients) {
                *sum += stress * *g * volume;
            }
            let turning = turning_pressure(f, pressure + mean_pressure, moduli);
            let scale = volume as f32;
            let (mu, local, turning) =
                (moduli.mu as f32 * scale, moduli.local as f32 * scale, turning as f32 * scale);
            let g32 = gradients.map(|g| g.as_vec3a());
            let normals: [Vec3A; 8] = std::array::from_fn(|i| (*cofactor * gradients[i]).as_vec3a());
            let f32 = [f.x_axis.as_vec3a(), f.y_axis.as_vec3a(), f.z_axis.as_vec3a()];
            let moved: [Vec3A; 8] = g32.map(|g| f32[0] * g.x + f32[1] * g.y + f32[2] * g.z);
            let second = (moduli.damping * (moduli.local - moduli.mu) * volume) as f32;
            for i in 0..8 {
                of_mean[i] += normals[i].as_dvec3() * (volume / whole);
                for k in i..8 {
                    let (a, b) = (normals[i] * local, normals[k]);
                    let across = g32[i].cross(g32[k]);
                    let v = (f32[0] * across.x + f32[1] * across.y + f32[2] * across.z) * turning;
                    let even = mu * g32[i].dot(g32[k]);
                    // a bᵀ − [v]×.
                    let mut block = Mat3A::from_cols(
                        a * b.x + Vec3A::new(even, -v.z, v.y),
                        a * b.y + Vec3A::new(v.z, even, -v.x),
                        a * b.z + Vec3A::new(-v.y, v.x, even),
                    );
                    if let Some(damped) = damped {
                        block += damping_block(&f32, g32[i].dot(g32[k]), moved[i], moved[k], damped, second);
                    }
                    of.blocks[pair(i, k)] += block;
                }
            }
        }
        if moduli.mean > 0.0 {
            let scale = (moduli.mean * whole) as f32;
            let of_mean = of_mean.map(|g| g.as_vec3a());
            for i in 0..8 {
                let a = of_mean[i] * scale;
                for k in i..8 {
                    let b = of_mean[k];
                    of.blocks[pair(i, k)] += Mat3A::from_cols(a * b.x, a * b.y, a * b.z);
                }
            }
        }
        of
    }
}

/// The second derivatives of the damping by two corners, without those of the strain: `even` is the product of their
/// gradients, `a` and `b` are F times these.
fn damping_block(f: &[Vec3A; 3], even: f32, a: Vec3A, b: Vec3A, damped: f32, second: f32) -> Mat3A {
    let squared = |i: usize| f[0] * f[0][i] + f[1] * f[1][i] + f[2] * f[2][i];
    let column = |i: usize| (squared(i) * even + b * a[i]) * damped + a * (second * b[i]);
    Mat3A::from_cols(column(0), column(1), column(2))
}

/// Green's strain.
fn strain(f: &DMat3) -> DMat3 {
    (f.transpose() * *f - DMat3::IDENTITY) * 0.5
}

/// The derivative of the determinant.
fn cofactor(f: &DMat3) -> DMat3 {
    let (a, b, c) = (f.x_axis, f.y_axis, f.z_axis);
    DMat3::from_cols(b.cross(c), c.cross(a), a.cross(b))
}

/// The factor of the second derivative of J, as far as the sum with the other second derivatives stays definite. With the
/// stretches σᵢ, turns have the eigenvalues μ ± p σᵢ, and changes of the stretches the matrix μ + p S + λ₁ s sᵀ, where S has
/// the third stretch off the diagonal, and s the products of two (Smith et al., section 4).
fn turning_pressure(f: &DMat3, pressure: f64, moduli: &SolidModuli) -> f64 {
    let stretches = stretches(f);
    let greatest = stretches[0].max(1e-15);
    let most = moduli.mu / greatest;
    let mut pressure = pressure.clamp(-most, most);
    // At half the bound S alone cannot outweigh μ.
    while pressure < -0.5 * most && !stretching_is_definite(pressure, stretches, moduli) {
        pressure = (0.8 * pressure).max(-0.8 * most).min(-0.4 * most);
    }
    pressure
}

fn stretching_is_definite(pressure: f64, [a, b, c]: [f64; 3], moduli: &SolidModuli) -> bool {
    let s = DVec3::new(b * c, c * a, a * b);
    let (mu, local) = (moduli.mu, moduli.local);
    let own = |i: usize| mu + local * s[i] * s[i];
    let off = |stretch: f64, i: usize, k: usize| pressure * stretch + local * s[i] * s[k];
    let (ab, ac, bc) = (off(c, 0, 1), off(b, 0, 2), off(a, 1, 2));
    let matrix =
        DMat3::from_cols(DVec3::new(own(0), ab, ac), DVec3::new(ab, own(1), bc), DVec3::new(ac, bc, own(2)));
    // All leading minors.
    own(0) * own(1) - ab * ab >= 0.0 && matrix.determinant() >= 0.0
}

/// The stretches of a deformation, the greatest first; the least is negative if it is inverted. They are the roots of the
/// eigenvalues of FᵀF, the greatest of which Newton's method finds from a bound above it: with the mean m and
/// p² = |FᵀF − m|² / 6, all are at most m + 2 p.
fn stretches(f: &DMat3) -> [f64; 3] {
    let square = f.transpose() * *f;
    let (a, b, c) = (square.x_axis, square.y_axis, square.z_axis);
    let trace = a.x + b.y + c.z;
    let minors = a.x * b.y - a.y * b.x + a.x * c.z - a.z * c.x + b.y * c.z - b.z * c.y;
    let content = f.determinant();
    let mean = trace / 3.0;
    let off = square - DMat3::from_diagonal(DVec3::splat(mean));
    let squares = off.to_cols_array().iter().map(|entry| entry * entry).sum::<f64>();
    let mut first = mean + 2.0 * (squares / 6.0).sqrt();
    for _ in 0..12 {
        let value = ((first - trace) * first + minors) * first - content * content;
        let slope = (3.0 * first - 2.0 * trace) * first + minors;
        if slope <= 0.0 || value <= 0.0 {
            break;
        }
        first -= value / slope;
    }
    let first = first.max(mean).max(1e-30);
    // The other two have this sum and this product.
    let (sum, product) = ((trace - first).max(0.0), content * content / first);
    let second = 0.5 * (sum + (sum * sum - 4.0 * product).max(0.0).sqrt());
    let (first, second) = (first.sqrt(), second.sqrt());
    let third = if second > 0.0 { content / (first * second) } else { 0.0 };
    [first, second, third]
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::{DQuat, EulerRot};

    fn number(i: u32) -> f64 {
        f64::from((i.wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0 - 0.5
    }

    fn cell() -> (Cell, [DVec3; 8]) {
        let size = DVec3::new(0.2, 0.3, 0.25);
        let volume = size.x * size.y * size.z / 8.0;
        let volumes = std::array::from_fn(|q| volume * (1.0 - 0.1 * q as f64));
        let cell = Cell::new(std::array::from_fn(|i| i as u32), volumes, Arc::new(CellShape::new(size)));
        (cell, std::array::from_fn(|i| corner(i) * size))
    }

    fn shaken(rest: &[DVec3; 8], by: f64, seed: u32) -> [DVec3; 8] {
        std::array::from_fn(|i| {
            let at = 30 * seed + 3 * i as u32;
            rest[i] + by * DVec3::new(number(at), number(at + 1), number(at + 2))
        })
    }

    #[test]
    fn weights_of_corners_are_trilinear() {
        let at = DVec3::new(0.2, 0.7, 0.4);
        let weights = corner_weights(at);
        let sum = (0..8).fold(DVec3::ZERO, |sum, i| sum + corner(i) * weights[i]);
        assert!((sum - at).length() < 1e-12);
        assert!((weights.iter().sum::<f64>() - 1.0).abs() < 1e-12);
    }

    #[test]
    fn a_turned_and_moved_cell_has_no_stress() {
        let (cell, rest) = cell();
        let turn = DQuat::from_euler(EulerRot::XYZ, 1.3, 0.4, -0.8);
        let x = rest.map(|p| turn * p + DVec3::new(900.0, -4.0, 7.0));
        let moduli = SolidModuli::new(1e5, 0.45, 2.0);
        let of = cell.derivatives(&moduli, &x, &rest, None);
        assert!(of.gradient.iter().all(|g| g.length() < 1e-7), "{:?}", of.gradient);
    }

    #[test]
    fn the_gradient_is_that_of_the_energy() {
        let (cell, rest) = cell();
        for (seed, poisson_ratio, damping) in [(1, 0.0, 0.0), (2, 0.3, 0.7), (3, 0.48, 2.0)] {
            let moduli = SolidModuli::new(1_000.0, poisson_ratio, damping);
            let (x, before) = (shaken(&rest, 0.15, seed), shaken(&rest, 0.05, seed + 50));
            let of = cell.derivatives(&moduli, &x, &before, None);
            for node in 0..8 {
                for axis in 0..3 {
                    let at = |step: f64| {
                        let mut x = x;
                        x[node][axis] += step;
                        cell.energy(&moduli, &x, &before)
                    };
                    let difference = (at(1e-6) - at(-1e-6)) / 2e-6;
                    let off = (difference - of.gradient[node][axis]).abs();
                    assert!(off < 1e-5 * (1.0 + difference.abs()), "{seed} {node} {axis}: {off}");
                }
            }
        }
    }

    #[test]
    fn second_derivatives_are_those_of_the_gradient_near_rest() {
        let (cell, rest) = cell();
        let moduli = SolidModuli::new(1_000.0, 0.4, 0.5);
        // Turned, and pressed a little, so that nothing has to be left out.
        let turn = DQuat::from_euler(EulerRot::XYZ, 0.3, -1.1, 2.0);
        let x = rest.map(|p| turn * p * 0.98);
        let of = cell.derivatives(&moduli, &x, &x, None);
        let mut most: f64 = 0.0;
        for (a, b) in [(0, 0), (1, 6), (2, 7), (3, 3), (0, 5)] {
            for axis in 0..3 {
                let gradient = |step: f64| {
                    let mut moved = x;
                    moved[b][axis] += step;
                    cell.derivatives(&moduli, &moved, &x, None).gradient[a]
                };
                let column = (gradient(1e-6) - gradient(-1e-6)) / 2e-6;
                let off = column.as_vec3a() - of.blocks[pair(a, b)].col(axis);
                most = most.max(f64::from(off.length()));
            }
        }
        let size = f64::from(of.blocks[0].col(0).length());
        assert!(most < 0.03 * size, "{most} of {size}");
    }

    #[test]
    fn second_derivatives_are_definite_whatever_the_shape() {
        let (cell, rest) = cell();
        for seed in 0..200 {
            let moduli = SolidModuli::new(1_000.0, [0.0, 0.3, 0.48][seed as usize % 3], 0.0);
            let x = shaken(&rest, 0.4, seed);
            let of = cell.derivatives(&moduli, &x, &rest, None);
            for trial in 0..20 {
                let v: [Vec3A; 8] =
                    shaken(&[DVec3::ZERO; 8], 1.0, 300 + 40 * seed + trial).map(|d| d.as_vec3a());
                let (mut sum, mut scale) = (0.0, 0.0);
                for a in 0..8 {
                    for b in 0..8 {
                        let block = of.blocks[pair(a.min(b), a.max(b))];
                        let block = if a <= b { block } else { block.transpose() };
                        sum += (block * v[b]).dot(v[a]);
                        scale += (block * v[b]).length() * v[a].length();
                    }
                }
                assert!(sum > -1e-5 * scale, "{seed}: {sum} of {scale}");
            }
        }
    }

    #[test]
    fn stretches_are_those_of_the_deformation() {
        let turn = |a, b, c| DMat3::from_quat(DQuat::from_euler(EulerRot::XYZ, a, b, c));
        for of in [[1.0, 1.0, 1.0], [1.7, 1.1, 0.2], [3.0, 3.0, 0.1], [1.4, 0.9, -0.3]] {
            let f = turn(0.3, 1.0, -2.0) * DMat3::from_diagonal(DVec3::from_array(of)) * turn(-1.0, 0.2, 0.4);
            let found = stretches(&f);
            assert!((0..3).all(|i| (found[i] - of[i]).abs() < 2e-3), "{found:?} for {of:?}");
        }
    }

    #[test]
    fn the_whole_of_a_turn_counts_near_rest() {
        let moduli = SolidModuli::new(1_000.0, 0.3, 0.0);
        assert!((turning_pressure(&DMat3::IDENTITY, -moduli.mu, &moduli) + moduli.mu).abs() < 1e-9);
    }
}
