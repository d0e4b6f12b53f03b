//! Chance that depends on nothing but who asks: the same particle draws the
//! same numbers on any thread, in any order.

use glam::{Quat, Vec3};
use std::f32::consts::TAU;

/// What a number is drawn for; each has its own.
#[derive(Clone, Copy, Debug)]
#[repr(u32)]
pub enum For {
    /// What it has at birth.
    Birth = 1,
    /// What it does on meeting a body.
    Meeting,
    /// What becomes of it.
    Becoming,
    /// Its ways of wandering.
    Wandering,
}

/// A row of random numbers: the output hash of M. O'Neill, *PCG*, 2014, of the
/// seed, the particle, the purpose and how many were drawn before.
#[derive(Clone, Copy, Debug)]
pub struct Chance {
    key: u32,
    drawn: u32,
}

fn pcg(v: u32) -> u32 {
    let state = v.wrapping_mul(747_796_405).wrapping_add(2_891_336_453);
    let word = ((state >> ((state >> 28) + 4)) ^ state).wrapping_mul(277_803_737);
    (word >> 22) ^ word
}

impl Chance {
    /// The row of a particle for a purpose; `turn` tells apart how often it asks.
    pub fn new(seed: u32, particle: u32, purpose: For, turn: u32) -> Self {
        Self { key: pcg(pcg(pcg(pcg(seed) ^ particle) ^ purpose as u32) ^ turn), drawn: 0 }
    }

    fn word(&mut self) -> u32 {
        self.drawn += 1;
        pcg(pcg(self.key ^ self.drawn.wrapping_mul(0x9E37_79B9)))
    }

    /// In 0–1, 1 left out.
    pub fn share(&mut self) -> f32 {
        (self.word() >> 8) as f32 * (1.0 / (1 << 24) as f32)
    }

    /// 1 more or less by at most `variation`.
    pub fn about(&mut self, variation: f32) -> f32 {
        1.0 + variation * (2.0 * self.share() - 1.0)
    }

    /// A unit vector at most `angle` from +y, evenly by solid angle.
    pub fn cone(&mut self, angle: f32) -> Vec3 {
        let up = 1.0 - self.share() * (1.0 - angle.cos());
        let across = (1.0 - up * up).max(0.0).sqrt();
        let (sin, cos) = (TAU * self.share()).sin_cos();
        Vec3::new(across * cos, up, across * sin)
    }

    /// A unit vector in any direction.
    pub fn direction(&mut self) -> Vec3 {
        self.cone(std::f32::consts::PI)
    }

    /// A turn about a random axis by up to a half turn times `most`.
    pub fn turn(&mut self, most: f32) -> Quat {
        if most <= 0.0 {
            return Quat::IDENTITY;
        }
        if most >= 1.0 {
            // Evenly over all turns (K. Shoemake, *Uniform random rotations*, 1992).
            let (u, a, b) = (self.share(), TAU * self.share(), TAU * self.share());
            let (r, s) = ((1.0 - u).sqrt(), u.sqrt());
            return Quat::from_xyzw(r * a.sin(), r * a.cos(), s * b.sin(), s * b.cos()).normalize();
        }
        let axis = self.direction();
        Quat::from_axis_angle(axis, std::f32::consts::PI * most * self.share())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn directions_are_even_over_the_sphere() {
        // Mean and mean square of each part: 0 and 1/3, within five standard errors.
        let n = 20_000;
        let (mut mean, mut square) = (Vec3::ZERO, Vec3::ZERO);
        for i in 0..n {
            let d = Chance::new(3, i, For::Birth, 0).direction();
            assert!((d.length() - 1.0).abs() < 1e-5);
            (mean, square) = (mean + d, square + d * d);
        }
        let (mean, square) = (mean / n as f32, square / n as f32);
        assert!(mean.abs().max_element() < 5.0 * (1.0f32 / 3.0 / n as f32).sqrt(), "{mean}");
        assert!((square - 1.0 / 3.0).abs().max_element() < 5.0 * (4.0f32 / 45.0 / n as f32).sqrt());
    }

    #[test]
    fn a_cone_keeps_its_angle() {
        for i in 0..2_000 {
            let d = Chance::new(1, i, For::Birth, 0).cone(0.4);
            assert!(d.y >= 0.4f32.cos() - 1e-5);
        }
    }

    #[test]
    fn rows_differ_by_particle_and_purpose() {
        let draw = |particle, purpose| Chance::new(7, particle, purpose, 0).share();
        assert_ne!(draw(1, For::Birth), draw(2, For::Birth));
        assert_ne!(draw(1, For::Birth), draw(1, For::Meeting));
        assert_eq!(draw(5, For::Becoming), draw(5, For::Becoming));
    }
}
