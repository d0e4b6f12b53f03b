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

use super::cell_quadrature::{ElasticityTensor, PAIRS, deformations, nodal_gradient, stiffness_blocks};
use glam::{DMat3, DVec3, Mat3A, Vec3A};

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

/// A cell at rest.
#[derive(Clone, Debug)]
pub(super) struct Cell {
    /// Its corners; their numbers ascend.
    pub nodes: [u32; 8],
    /// Volume of the body in each octant, m³.
    volumes: [f64; 8],
    /// 1 over its sides, 1/m.
    inverse_size: DVec3,
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

impl Default for CellDerivatives {
    fn default() -> Self {
        Self { gradient: [DVec3::ZERO; 8], blocks: [Mat3A::ZERO; PAIRS] }
    }
}

impl Cell {
    pub fn new(nodes: [u32; 8], volumes: [f64; 8], size: DVec3) -> Self {
        Self { nodes, volumes, inverse_size: size.recip() }
    }

    /// The same cell of another copy, whose nodes are numbered from `by` on.
    pub fn moved(&self, by: u32) -> Self {
        Self { nodes: self.nodes.map(|node| node + by), ..self.clone() }
    }

    /// The same cell of a body that is so many times as large.
    pub fn of_size(&self, by: f64) -> Self {
        let volumes = self.volumes.map(|volume| volume * by.powi(3));
        Self { nodes: self.nodes, volumes, inverse_size: self.inverse_size / by }
    }

    /// Scales what is in it.
    pub fn scale_volume(&mut self, by: f64) {
        self.volumes.iter_mut().for_each(|volume| *volume *= by);
    }

    /// Volume of the body in it, m³.
    pub fn volume(&self) -> f64 {
        self.volumes.iter().sum()
    }

    /// The deformation of the whole cell, the mean of its points.
    pub fn mean_deformation(&self, x: &[DVec3]) -> DMat3 {
        let all = deformations(&self.nodes.map(|node| x[node as usize]), self.inverse_size);
        all.into_iter().fold(DMat3::ZERO, |sum, f| sum + f) * 0.125
    }

    /// Energy, J, with that of the damping over a step from `before`.
    #[cfg(test)]
    fn energy(&self, moduli: &SolidModuli, x: &[DVec3; 8], before: &[DVec3; 8]) -> f64 {
        let (mut sum, mut content) = (0.0, 0.0);
        let [all, all_before] = [x, before].map(|x| deformations(x, self.inverse_size));
        for q in 0..8 {
            let (f, volume) = (all[q], self.volumes[q]);
            let j = f.determinant();
            let squares = f.x_axis.length_squared() + f.y_axis.length_squared() + f.z_axis.length_squared();
            let off = j - 1.0;
            let density =
                0.5 * moduli.mu * (squares - 3.0) - moduli.mu * off + 0.5 * moduli.local * off * off;
            let change = strain(&f) - strain(&all_before[q]);
            let squares = change.to_cols_array().iter().map(|e| e * e).sum::<f64>();
            let trace = change.x_axis.x + change.y_axis.y + change.z_axis.z;
            let lost = moduli.mu * squares + 0.5 * (moduli.local - moduli.mu) * trace * trace;
            sum += volume * (density + moduli.damping * lost);
            content += volume * j;
        }
        let off = content / self.volume() - 1.0;
        sum + 0.5 * moduli.mean * self.volume() * off * off
    }

    /// Puts gradient and second derivatives of the energy; these are made definite. `back` is the inverse of a deformation that
    /// costs no energy, and the factor of the volume in it; none: the shape at rest.
    pub fn derivatives(
        &self,
        moduli: &SolidModuli,
        x: &[DVec3],
        before: &[DVec3],
        back: Option<(DMat3, f64)>,
        derivatives: &mut CellDerivatives,
    ) {
        let (back, grown) = back.map_or((None, 1.0), |(back, grown)| (Some(back), grown));
        let deformation = |x: &[DVec3]| {
            let mut all = deformations(&self.nodes.map(|node| x[node as usize]), self.inverse_size);
            if let Some(back) = back {
                all.iter_mut().for_each(|f| *f *= back);
            }
            all
        };
        let all = deformation(x);
        let before = (moduli.damping > 0.0).then(|| deformation(before));
        let whole = self.volume();
        let (mut cofactors, mut contents, mut mean) = ([DMat3::ZERO; 8], [0.0; 8], 0.0);
        for (q, f) in all.iter().enumerate() {
            (cofactors[q], contents[q]) = (cofactor(f), f.determinant());
            mean += contents[q] * self.volumes[q] / whole;
        }
        let mean_pressure = moduli.mean * (mean - 1.0);
        // In a loop of their own, as each is a long chain of operations that wait for each other.
        let mut all_stretches = [[0.0; 3]; 8];
        for ((stretches, f), content) in all_stretches.iter_mut().zip(&all).zip(contents) {
            *stretches = stretches_of(f, content);
        }
        let mut stresses = [DMat3::ZERO; 8];
        let mut tensors = [ElasticityTensor::ZERO; 8];
        for q in 0..8 {
            let (f, cofactor, volume) = (&all[q], &cofactors[q], self.volumes[q] * grown);
            let pressure = moduli.local * (contents[q] - 1.0) - moduli.mu;
            let mut stress = *f * moduli.mu + *cofactor * (pressure + mean_pressure);
            if let Some(before) = &before {
                let change = strain(f) - strain(&before[q]);
                let trace = change.x_axis.x + change.y_axis.y + change.z_axis.z;
                let second = (moduli.local - moduli.mu) * trace;
                let rate = change * (2.0 * moduli.mu) + DMat3::from_diagonal(DVec3::splat(second));
                stress += *f * rate * moduli.damping;
            }
            stresses[q] = stress * volume;
            let turning = turning_pressure(all_stretches[q], pressure + mean_pressure, moduli);
            put_tensor(f, cofactor, turning, moduli, volume, &mut tensors[q]);
        }
        if let Some(back) = back {
            stresses.iter_mut().for_each(|stress| *stress *= back.transpose());
            tensors.iter_mut().for_each(|tensor| *tensor = tensor.before(&Mat3A::from(back.as_mat3())));
        }
        derivatives.gradient = nodal_gradient(&stresses, self.inverse_size);
        stiffness_blocks(&tensors, self.inverse_size, &mut derivatives.blocks);
        if moduli.mean > 0.0 {
            // Of the mean of J.
            for (cofactor, volume) in cofactors.iter_mut().zip(&self.volumes) {
                *cofactor = back.map_or(*cofactor, |back| *cofactor * back.transpose()) * (volume / whole);
            }
            let by_mean = nodal_gradient(&cofactors, self.inverse_size).map(|n| n.as_vec3a());
            let factor = (moduli.mean * whole * grown) as f32;
            let mut blocks = derivatives.blocks.iter_mut();
            for i in 0..8 {
                let own = by_mean[i] * factor;
                (blocks.by_ref().zip(&by_mean[i..])).for_each(|(block, other)| *block += outer(own, *other));
            }
        }
    }
}

/// a bᵀ.
#[inline(always)]
fn outer(a: Vec3A, b: Vec3A) -> Mat3A {
    Mat3A::from_cols(a * b.x, a * b.y, a * b.z)
}

/// Puts the second derivatives of the energy at a point of quadrature by the columns of F: for columns a and b,
/// μ δ + λ₁ c_a c_bᵀ − p [f_c]× for the cofactor's columns and the third column of F, and with the damping, without the second
/// derivatives of the strain, τ μ (δ F Fᵀ + f_b f_aᵀ) + τ (λ₁ − μ) f_a f_bᵀ.
#[inline(always)]
fn put_tensor(
    f: &DMat3,
    cofactor: &DMat3,
    turning: f64,
    moduli: &SolidModuli,
    volume: f64,
    tensor: &mut ElasticityTensor,
) {
    let columns = |of: &DMat3| [0, 1, 2].map(|column| of.col(column).as_vec3a());
    let (f, c) = (columns(f), columns(cofactor));
    let [mu, local, turning] = [moduli.mu, moduli.local, turning].map(|of| (of * volume) as f32);
    let [damped, second] =
        [moduli.mu, moduli.local - moduli.mu].map(|of| (moduli.damping * of * volume) as f32);
    let mut diagonal = Mat3A::from_diagonal(glam::Vec3::splat(mu));
    if damped > 0.0 {
        diagonal += (outer(f[0], f[0]) + outer(f[1], f[1]) + outer(f[2], f[2])) * damped;
    }
    for a in 0..3 {
        let (b, third) = ((a + 1) % 3, f[(a + 2) % 3] * turning);
        let turned = Mat3A::from_cols(
            Vec3A::new(0.0, -third.z, third.y),
            Vec3A::new(third.z, 0.0, -third.x),
            Vec3A::new(-third.y, third.x, 0.0),
        );
        tensor.own[a] = diagonal + outer(c[a] * local, c[a]);
        tensor.mixed[a] = outer(c[a] * local, c[b]) + turned;
        if damped > 0.0 {
            tensor.own[a] += outer(f[a] * (damped + second), f[a]);
            tensor.mixed[a] += outer(f[b] * damped, f[a]) + outer(f[a] * second, f[b]);
        }
    }
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
fn turning_pressure(stretches: [f64; 3], pressure: f64, moduli: &SolidModuli) -> f64 {
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

/// The stretches of a deformation with a determinant, the greatest first; the least is negative if it is inverted. They are the roots of the
/// eigenvalues of FᵀF, of which the greatest is m + 2 p cos θ, with their mean m, p² = |FᵀF − m|² / 6 and
/// cos 3θ = det(FᵀF − m) / 2 p³ (O. Smith, 1961).
#[inline(always)]
fn stretches_of(f: &DMat3, content: f64) -> [f64; 3] {
    let square = f.transpose() * *f;
    let trace = square.x_axis.x + square.y_axis.y + square.z_axis.z;
    let mean = trace / 3.0;
    let off = square - DMat3::from_diagonal(DVec3::splat(mean));
    let p = (off.to_cols_array().iter().map(|entry| entry * entry).sum::<f64>() / 6.0).sqrt();
    let triple = if p > 1e-9 * mean { (0.5 * off.determinant() / (p * p * p)).clamp(-1.0, 1.0) } else { 0.0 };
    let first = (mean + 2.0 * p * cosine_of_third(triple)).max(1e-30);
    // The other two have this sum and this product.
    let (sum, product) = ((trace - first).max(0.0), content * content / first);
    let second = 0.5 * (sum + (sum * sum - 4.0 * product).max(0.0).sqrt());
    let (first, second) = (first.sqrt(), second.sqrt());
    let third = if second > 0.0 { content / (first * second) } else { 0.0 };
    [first, second, third]
}

/// cos θ in ½–1 for cos 3θ = 4 cos³ θ − 3 cos θ, within 1e-9, the same on every machine.
fn cosine_of_third(triple: f64) -> f64 {
    let mut cosine = 0.5 + 0.5 * (0.5 * (1.0 + triple)).sqrt();
    for _ in 0..3 {
        let slope = (12.0 * cosine * cosine - 3.0).max(1e-12);
        cosine -= ((4.0 * cosine * cosine - 3.0) * cosine - triple) / slope;
    }
    cosine
}

#[cfg(test)]
mod tests {
    use super::super::cell_quadrature::pair;
    use super::*;
    use glam::{DQuat, EulerRot};

    fn number(i: u32) -> f64 {
        f64::from((i.wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0 - 0.5
    }

    fn cell() -> (Cell, [DVec3; 8]) {
        let size = DVec3::new(0.2, 0.3, 0.25);
        let volume = size.x * size.y * size.z / 8.0;
        let volumes = std::array::from_fn(|q| volume * (1.0 - 0.1 * q as f64));
        let cell = Cell::new(std::array::from_fn(|i| i as u32), volumes, size);
        (cell, std::array::from_fn(|i| corner(i) * size))
    }

    fn shaken(rest: &[DVec3; 8], by: f64, seed: u32) -> [DVec3; 8] {
        std::array::from_fn(|i| {
            let at = 30 * seed + 3 * i as u32;
            rest[i] + by * DVec3::new(number(at), number(at + 1), number(at + 2))
        })
    }

    fn derivatives(
        cell: &Cell,
        moduli: &SolidModuli,
        x: &[DVec3; 8],
        before: &[DVec3; 8],
    ) -> CellDerivatives {
        let mut derivatives = CellDerivatives::default();
        cell.derivatives(moduli, x, before, None, &mut derivatives);
        derivatives
    }

    #[test]
    fn the_cosine_of_a_third_of_an_angle_is_found() {
        for i in 0..=20_000 {
            let triple = f64::from(i - 10_000) / 10_000.0;
            let exact = (triple.acos() / 3.0).cos();
            assert!((cosine_of_third(triple) - exact).abs() < 1e-9, "{triple}");
        }
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
        let of = derivatives(&cell, &moduli, &x, &rest);
        assert!(of.gradient.iter().all(|g| g.length() < 1e-7), "{:?}", of.gradient);
    }

    #[test]
    fn the_gradient_is_that_of_the_energy() {
        let (cell, rest) = cell();
        for (seed, poisson_ratio, damping) in [(1, 0.0, 0.0), (2, 0.3, 0.7), (3, 0.48, 2.0)] {
            let moduli = SolidModuli::new(1_000.0, poisson_ratio, damping);
            let (x, before) = (shaken(&rest, 0.15, seed), shaken(&rest, 0.05, seed + 50));
            let of = derivatives(&cell, &moduli, &x, &before);
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
        let of = derivatives(&cell, &moduli, &x, &x);
        let mut most: f64 = 0.0;
        for (a, b) in [(0, 0), (1, 6), (2, 7), (3, 3), (0, 5)] {
            for axis in 0..3 {
                let gradient = |step: f64| {
                    let mut moved = x;
                    moved[b][axis] += step;
                    derivatives(&cell, &moduli, &moved, &x).gradient[a]
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
            let of = derivatives(&cell, &moduli, &x, &rest);
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
            let found = stretches_of(&f, f.determinant());
            assert!((0..3).all(|i| (found[i] - of[i]).abs() < 2e-3), "{found:?} for {of:?}");
        }
    }

    #[test]
    fn the_whole_of_a_turn_counts_near_rest() {
        let moduli = SolidModuli::new(1_000.0, 0.3, 0.0);
        assert!((turning_pressure([1.0; 3], -moduli.mu, &moduli) + moduli.mu).abs() < 1e-9);
    }
}
