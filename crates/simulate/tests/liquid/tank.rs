//! A tank and particles that fill a box, for tests of the step and for its benchmark.

use glam::{IVec3, Vec3};
use simulate::liquid::Boundary;

/// A tank, open above.
pub struct Tank {
    pub min: Vec3,
    pub max: Vec3,
}

impl Boundary for Tank {
    fn bodies_in(&self, min: Vec3, max: Vec3) -> [Vec<u32>; 2] {
        let any = min.cmplt(self.min).any() || max.cmpgt(self.max).any();
        [if any { vec![0] } else { Vec::new() }, Vec::new()]
    }

    fn distance(&self, _: u32, place: Vec3, _: f32) -> f32 {
        let (low, high) = (place - self.min, self.max - place);
        low.min_element().min(high.x).min(high.z)
    }

    fn velocity(&self, _: u32, _: Vec3) -> Vec3 {
        Vec3::ZERO
    }
}

fn random(i: u32) -> f32 {
    f32::from((i.wrapping_mul(0x9E37_79B9) >> 16) as u16) / 65_536.0
}

/// Particles that fill a box.
pub fn filled(min: Vec3, max: Vec3, spacing: f32) -> Vec<Vec3> {
    let count = ((max - min) / spacing).round().as_ivec3();
    let mut all = Vec::new();
    for i in 0..count.element_product() {
        let at = IVec3::new(i % count.x, i / count.x % count.y, i / (count.x * count.y));
        let i = i as u32;
        let jitter = Vec3::new(random(3 * i), random(3 * i + 1), random(3 * i + 2));
        all.push(min + (at.as_vec3() + 0.25 + 0.5 * jitter) * spacing);
    }
    all
}
