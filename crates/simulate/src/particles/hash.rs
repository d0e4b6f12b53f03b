//! The random choices of particles: hashes of the particle's number, so that they
//! are the same on any thread and in any order.

use crate::pcg::pcg;
use glam::{Quat, Vec3};
use std::f32::consts::TAU;

/// The purpose of a random choice; each has random numbers of its own.
#[derive(Clone, Copy, Debug)]
#[repr(u32)]
pub enum Purpose {
    /// The values at birth.
    Birth = 1,
    /// The response to a contact.
    Contact,
    /// The outcome of an event.
    Event,
    /// The directions of wandering.
    Wandering,
    /// What a liquid releases.
    Release,
}

/// A sequence of random numbers: the hash [`pcg`] of the
/// seed, the particle, the purpose and how many were drawn before.
#[derive(Clone, Copy, Debug)]
pub struct ParticleHash {
    key: u32,
    drawn: u32,
}

impl ParticleHash {
    /// The sequence of a particle for a purpose; `round` tells repeated uses apart.
    pub fn new(seed: u32, particle: u32, purpose: Purpose, round: u32) -> Self {
        Self { key: pcg(pcg(pcg(pcg(seed) ^ particle) ^ purpose as u32) ^ round), drawn: 0 }
    }

    fn word(&mut self) -> u32 {
        self.drawn += 1;
        pcg(pcg(self.key ^ self.drawn.wrapping_mul(0x9E37_79B9)))
    }

    /// In 0–1, 1 left out.
    pub fn unit(&mut self) -> f32 {
        (self.word() >> 8) as f32 * (1.0 / (1 << 24) as f32)
    }

    /// 1 more or less by at most `variation`.
    pub fn about(&mut self, variation: f32) -> f32 {
        1.0 + variation * (2.0 * self.unit() - 1.0)
    }

    /// A unit vector at most `angle` from +y, evenly by solid angle.
    pub fn cone(&mut self, angle: f32) -> Vec3 {
        let up = 1.0 - self.unit() * (1.0 - angle.cos());
        let across = (1.0 - up * up).max(0.0).sqrt();
        let (sin, cos) = (TAU * self.unit()).sin_cos();
        Vec3::new(across * cos, up, across * sin)
    }

    /// A unit vector in any direction.
    pub fn direction(&mut self) -> Vec3 {
        self.cone(std::f32::consts::PI)
    }

    /// A turn about a random axis by up to a half turn times `most`.
    pub fn orientation(&mut self, most: f32) -> Quat {
        if most <= 0.0 {
            return Quat::IDENTITY;
        }
        if most >= 1.0 {
            // Evenly over all turns (K. Shoemake, *Uniform random rotations*, 1992).
            let (u, a, b) = (self.unit(), TAU * self.unit(), TAU * self.unit());
            let (r, s) = ((1.0 - u).sqrt(), u.sqrt());
            return Quat::from_xyzw(r * a.sin(), r * a.cos(), s * b.sin(), s * b.cos()).normalize();
        }
        let axis = self.direction();
        Quat::from_axis_angle(axis, std::f32::consts::PI * most * self.unit())
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
            let d = ParticleHash::new(3, i, Purpose::Birth, 0).direction();
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
            let d = ParticleHash::new(1, i, Purpose::Birth, 0).cone(0.4);
            assert!(d.y >= 0.4f32.cos() - 1e-5);
        }
    }

    #[test]
    fn rows_differ_by_particle_and_purpose() {
        let draw = |particle, purpose| ParticleHash::new(7, particle, purpose, 0).unit();
        assert_ne!(draw(1, Purpose::Birth), draw(2, Purpose::Birth));
        assert_ne!(draw(1, Purpose::Birth), draw(1, Purpose::Contact));
        assert_eq!(draw(5, Purpose::Event), draw(5, Purpose::Event));
    }
}
