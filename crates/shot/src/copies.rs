//! Grids of copies.

use crate::MAX_BODIES;
use crate::parameters::{MAX_SEED, MAX_SIZE_M, Parameters};
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A grid of copies, centred in x and z and standing on the element's place.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Copies {
    /// Number along x, y, z.
    #[parameter(label = "Number", range(1.0, MAX_BODIES as f32), step = 1.0)]
    pub count: [u32; 3],
    /// Distance from copy to copy along x, y, z in metres.
    #[schemars(with = "[f32; 3]")]
    #[parameter(label = "Spacing", range(-MAX_SIZE_M, MAX_SIZE_M))]
    pub spacing_m: Vec3,
    /// Largest random shift of a copy along x and z in metres.
    #[serde(default)]
    #[parameter(label = "Random shift", range(0.0, MAX_SIZE_M), step = 0.01)]
    pub position_jitter_m: f32,
    /// Largest random turn of a copy about y in radians.
    #[serde(default)]
    #[parameter(label = "Random turn", range(0.0, 7.0), step = 1.0)]
    pub orientation_jitter_rad: f32,
    /// Chooses the random shifts and turns.
    #[serde(default)]
    #[parameter(label = "Seed", range(0.0, MAX_SEED), step = 1.0)]
    pub seed: u32,
}

/// Most copies that are placed one by one.
pub const MAX_PLACED: usize = 5_000;

/// Where one copy stands, against the element's place.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PlacedCopy {
    /// Position of its origin, m.
    #[schemars(with = "[f32; 3]")]
    pub position_m: Vec3,
    /// Euler angles about the fixed axes x, then y, then z, rad.
    #[schemars(with = "[f32; 3]")]
    pub orientation_rad: Vec3,
    /// Its size as a multiple of the shape's; no unit.
    #[serde(default = "one")]
    pub size: f32,
}

fn one() -> f32 {
    1.0
}

impl PlacedCopy {
    /// The sizes that a copy may have, as multiples of the shape's.
    pub const SIZES: std::ops::RangeInclusive<f32> = 0.01..=100.0;
}

impl Copies {
    /// Number of copies.
    pub fn total(&self) -> usize {
        self.count.iter().map(|&n| n as usize).product()
    }

    /// Shift (m) and turn about y (rad) of every copy, x fastest, then z, then y.
    pub fn offsets(&self) -> impl Iterator<Item = (Vec3, f32)> + '_ {
        let [nx, ny, nz] = self.count;
        let centred = |i: u32, n: u32| i as f32 - (n as f32 - 1.0) * 0.5;
        (0..ny).flat_map(move |y| {
            (0..nz).flat_map(move |z| {
                (0..nx).map(move |x| {
                    let grid = Vec3::new(centred(x, nx), y as f32, centred(z, nz)) * self.spacing_m;
                    let copy = x + nx * (z + nz * y);
                    let r = |salt: u32| 2.0 * hash01(self.seed, copy, salt) - 1.0;
                    let shift = Vec3::new(r(1), 0.0, r(2)) * self.position_jitter_m;
                    (grid + shift, r(3) * self.orientation_jitter_rad)
                })
            })
        })
    }
}

impl Copies {
    /// The size of each copy as a multiple: 1 and a random number from `-variation` to `variation`.
    pub fn sizes(&self, variation: f32) -> impl Iterator<Item = f32> + '_ {
        (0..self.total() as u32).map(move |copy| 1.0 + variation * (2.0 * hash01(self.seed, copy, 5) - 1.0))
    }

    /// Frames by which each copy is later: `delay_frames` more than the copy before, and a random
    /// number from 0 to `delay_jitter_frames`.
    pub fn delays(&self, delay_frames: i32, delay_jitter_frames: u32) -> impl Iterator<Item = i64> + '_ {
        let choices = f64::from(delay_jitter_frames) + 1.0;
        (0..self.total() as u32).map(move |copy| {
            let random = (f64::from(hash01(self.seed, copy, 4)) * choices) as u32;
            i64::from(copy) * i64::from(delay_frames) + i64::from(random.min(delay_jitter_frames))
        })
    }
}

/// A number in 0–1 that depends on all three arguments (PCG output hash of
/// M. O'Neill, *PCG*, 2014, applied in turn).
pub(crate) fn hash01(seed: u32, copy: u32, salt: u32) -> f32 {
    let pcg = |v: u32| {
        let state = v.wrapping_mul(747_796_405).wrapping_add(2_891_336_453);
        let word = ((state >> ((state >> 28) + 4)) ^ state).wrapping_mul(277_803_737);
        (word >> 22) ^ word
    };
    pcg(pcg(pcg(seed) ^ copy) ^ salt) as f32 / u32::MAX as f32
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn copies_are_centred_and_stand_on_the_place() {
        let copies = Copies {
            count: [3, 2, 1],
            spacing_m: Vec3::ONE,
            position_jitter_m: 0.0,
            orientation_jitter_rad: 0.0,
            seed: 0,
        };
        let shifts: Vec<_> = copies.offsets().map(|(shift, _)| shift).collect();
        assert_eq!(shifts.len(), copies.total());
        assert_eq!(shifts[0], Vec3::new(-1.0, 0.0, 0.0));
        assert_eq!(shifts[5], Vec3::new(1.0, 1.0, 0.0));
    }

    #[test]
    fn copies_are_late_in_turn_and_at_random_within_the_bound() {
        let copies = Copies {
            count: [40, 1, 25],
            spacing_m: Vec3::ONE,
            position_jitter_m: 0.0,
            orientation_jitter_rad: 0.0,
            seed: 3,
        };
        assert!(copies.delays(-2, 0).eq((0..1_000).map(|copy| -2 * copy)));
        let random: Vec<i64> = copies.delays(0, 9).collect();
        // Each of the ten is as likely: 1,000 draws give 100 ± 4 standard deviations.
        for delay in 0..=9 {
            let count = random.iter().filter(|&&of| of == delay).count();
            assert!((62..=138).contains(&count), "{delay}: {count}");
        }
        assert!(random.iter().all(|of| (0..=9).contains(of)));
        let sizes: Vec<f32> = copies.sizes(0.4).collect();
        assert!(sizes.iter().all(|size| (0.6..=1.4).contains(size)));
        // The mean of 1,000 draws: 1 ± 4 standard errors of 0.4 / √3 / √1000.
        let mean = sizes.iter().sum::<f32>() / 1_000.0;
        assert!((mean - 1.0).abs() < 0.03, "{mean}");
    }

    #[test]
    fn jitter_stays_within_its_bound_and_follows_the_seed() {
        let of = |seed| {
            let copies = Copies {
                count: [9, 9, 9],
                spacing_m: Vec3::ZERO,
                position_jitter_m: 0.1,
                orientation_jitter_rad: 0.2,
                seed,
            };
            copies.offsets().collect::<Vec<_>>()
        };
        assert!(of(1).iter().all(|(s, a)| s.x.abs() <= 0.1 && s.y == 0.0 && a.abs() <= 0.2));
        assert_eq!(of(1), of(1));
        assert_ne!(of(1), of(2));
    }
}
