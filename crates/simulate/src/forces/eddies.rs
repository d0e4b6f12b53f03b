//! Eddies: a velocity field without sources or sinks, smooth in space and time.
//!
//! The velocity is the curl of a potential, so its divergence is zero (R.
//! Bridson, J. Hourihan and M. Nordenstam, *Curl-noise for procedural fluid
//! flow*, 2007). The potential is a sum of kernels on the corners of a simplex
//! lattice (K. Perlin, *Noise hardware*, 2001): about each corner, at the
//! distance d, Ψ = t⁴ (a + b × d) with t = ½ − |d|² where that is positive, and
//! the curl in closed form
//!
//! u = 2 t⁴ b − 8 t³ (b |d|² − d (b · d)) − 8 t³ d × a.
//!
//! In time a and b turn about axes of their own, as the gradients of flow noise
//! do (K. Perlin and F. Neyret, *Flow noise*, 2001). They turn a whole number of
//! times in a period, so that the field has exactly that period.

use super::course::Course;
use glam::Vec3;
use std::f32::consts::{SQRT_2, TAU};

/// Corners' vectors at one moment, by the last 8 bits of a corner's hash.
pub struct Table {
    a: [Vec3; 256],
    b: [Vec3; 256],
}

/// Root mean square of the velocity of unit vectors, found by sampling.
const RMS: f32 = 0.1142;

impl Table {
    /// The vectors at `turn`, the fraction of the period that has passed.
    pub fn new(seed: u32, turn: f32) -> Self {
        let at = |i: usize| turning(mix(seed ^ (i as u32).wrapping_mul(0x9e37_79b9)), turn);
        Self { a: std::array::from_fn(&at), b: std::array::from_fn(|i| at(i + 256)) }
    }

    /// Velocity at a point in units of the lattice, with a root mean square of 1.
    #[inline]
    pub fn velocity(&self, p: Vec3, seed: u32) -> Vec3 {
        let mut sum = Vec3::ZERO;
        corners(p, seed, |d, hash| {
            let t = 0.5 - d.length_squared();
            if t <= 0.0 {
                return;
            }
            let (a, b) = (self.a[hash], self.b[hash]);
            let t3 = t * t * t;
            sum += b * (2.0 * t3 * t) - (b * d.length_squared() - d * b.dot(d) + d.cross(a)) * (8.0 * t3);
        });
        sum * (1.0 / RMS)
    }

    /// A smooth number in about −1–1 at a point in units of the lattice.
    #[inline]
    pub fn number(&self, p: Vec3, seed: u32) -> f32 {
        let mut sum = 0.0;
        corners(p, seed, |d, hash| {
            let t = (0.5 - d.length_squared()).max(0.0);
            sum += t * t * t * t * self.b[hash].dot(d);
        });
        sum * 76.0
    }
}

/// A unit vector, chosen by `hash`, that has turned about an axis at right
/// angles to it: once or twice in the period, either way.
fn turning(hash: u32, turn: f32) -> Vec3 {
    let fraction = |salt: u32| mix(hash ^ salt) as f32 / u32::MAX as f32;
    let start = {
        let (z, angle) = (2.0 * fraction(0x51) - 1.0, TAU * fraction(0x52));
        let r = (1.0 - z * z).max(0.0).sqrt();
        Vec3::new(r * angle.cos(), r * angle.sin(), z)
    };
    let (u, v) = start.any_orthonormal_pair();
    let lean = TAU * fraction(0x53);
    let side = u * lean.cos() + v * lean.sin();
    let times = [1.0, -1.0, 2.0, -2.0][(hash >> 30) as usize];
    let (sin, cos) = (TAU * times * turn).sin_cos();
    start * cos + side * sin
}

/// Calls `f` with the distance from each of the four corners of the simplex
/// around `p`, and the last 8 bits of the corner's hash.
#[inline(always)]
fn corners(p: Vec3, seed: u32, mut f: impl FnMut(Vec3, usize)) {
    const SKEW: f32 = 1.0 / 3.0;
    const BACK: f32 = 1.0 / 6.0;
    let cell = (p + Vec3::splat(p.element_sum() * SKEW)).floor();
    let d0 = p - (cell - Vec3::splat(cell.element_sum() * BACK));
    // Which tetrahedron: the order of the parts.
    let (x, y, z) = (d0.x, d0.y, d0.z);
    let (one, two) = match (x >= y, y >= z, x >= z) {
        (true, true, _) => (Vec3::X, Vec3::new(1.0, 1.0, 0.0)),
        (true, false, true) => (Vec3::X, Vec3::new(1.0, 0.0, 1.0)),
        (true, false, false) => (Vec3::Z, Vec3::new(1.0, 0.0, 1.0)),
        (false, false, _) => (Vec3::Z, Vec3::new(0.0, 1.0, 1.0)),
        (false, true, false) => (Vec3::Y, Vec3::new(0.0, 1.0, 1.0)),
        (false, true, true) => (Vec3::Y, Vec3::new(1.0, 1.0, 0.0)),
    };
    let hash = |corner: Vec3| (lattice(corner, seed) & 255) as usize;
    f(d0, hash(cell));
    f(d0 - one + Vec3::splat(BACK), hash(cell + one));
    f(d0 - two + Vec3::splat(2.0 * BACK), hash(cell + two));
    f(d0 - Vec3::ONE + Vec3::splat(3.0 * BACK), hash(cell + Vec3::ONE));
}

#[inline(always)]
fn lattice(corner: Vec3, seed: u32) -> u32 {
    let x = (corner.x as i32 as u32).wrapping_mul(0x8da6_b343);
    let y = (corner.y as i32 as u32).wrapping_mul(0xd816_3841);
    let z = (corner.z as i32 as u32).wrapping_mul(0xcb1a_b31f);
    mix(x ^ y.rotate_left(11) ^ z.rotate_left(22) ^ seed)
}

/// A hash of 32 bits (C. Wellons, *Prospecting for hash functions*, 2018).
#[inline(always)]
fn mix(mut x: u32) -> u32 {
    x ^= x >> 16;
    x = x.wrapping_mul(0x7feb_352d);
    x ^= x >> 15;
    x = x.wrapping_mul(0x846c_a68b);
    x ^ (x >> 16)
}

/// Layers of eddies at one moment, each half the size of the one before; its
/// speed goes with the cube root of its size (A. N. Kolmogorov, 1941).
pub struct Eddies {
    layers: Vec<Layer>,
    seed: u32,
}

struct Layer {
    table: Table,
    /// Of points per metre.
    scale: f32,
    speed: f32,
    /// How far the layer has drifted, m, and with what weight: one, or the two
    /// that fade into each other in a loop.
    drifts: [(Vec3, f32); 2],
}

/// What eddies are made from.
pub struct Making {
    /// Root mean square of the velocity, m/s.
    pub speed: f32,
    /// Size of the largest eddies, m.
    pub size: f32,
    pub octaves: u32,
    /// Drift of the layers and changes of the largest eddies.
    pub course: Course,
    pub seed: u32,
}

impl Eddies {
    /// The eddies at a point of their course.
    pub fn new(making: &Making) -> Self {
        let total: f32 = (0..making.octaves).map(|o| 2f32.powf(-2.0 / 3.0 * o as f32)).sum::<f32>().sqrt();
        let layers = (0..making.octaves).map(|octave| {
            let smaller = 2f32.powi(octave as i32);
            let speed = making.speed * smaller.powf(-1.0 / 3.0) / total;
            // A quarter turn is a change; smaller eddies change sooner.
            let changes_a_turn = f64::from(4.0 * smaller.powf(-2.0 / 3.0));
            let turn = making.course.turns(changes_a_turn).rem_euclid(1.0) as f32;
            // Neighbouring corners are √3/2 apart; an eddy spans two of them.
            let scale = smaller / (making.size * SQRT_2) * 1.224_745;
            let table = Table::new(making.seed.wrapping_add(octave), turn);
            Layer { table, scale, speed, drifts: making.course.drifts() }
        });
        Self { layers: layers.collect(), seed: making.seed }
    }

    /// Velocity at a place, m/s.
    #[inline]
    pub fn velocity(&self, place: Vec3) -> Vec3 {
        let mut sum = Vec3::ZERO;
        for (octave, layer) in self.layers.iter().enumerate() {
            let seed = mix(self.seed ^ (octave as u32 + 1).wrapping_mul(0x27d4_eb2f));
            for &(drift, weight) in &layer.drifts {
                if weight > 0.0 {
                    sum += layer.table.velocity((place - drift) * layer.scale, seed) * (layer.speed * weight);
                }
            }
        }
        sum
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use shot::{force::Turbulence, motion::Elapsed};

    const DRIFT: Vec3 = Vec3::new(0.7, 0.0, 0.2);

    fn making(seconds: f64) -> Making {
        let elapsed =
            Elapsed { drift_m: DRIFT.as_dvec3() * seconds, changes: seconds / 1.5, ..Elapsed::default() };
        Making { speed: 2.0, size: 1.0, octaves: 3, course: Course::On(elapsed), seed: 7 }
    }

    fn places() -> impl Iterator<Item = Vec3> {
        (0..20_000u32).map(|i| {
            let r =
                |salt: u32| mix(i.wrapping_mul(3).wrapping_add(salt)) as f32 / u32::MAX as f32 * 40.0 - 20.0;
            Vec3::new(r(1), r(2), r(3))
        })
    }

    #[rstest]
    #[case(1)]
    #[case(4)]
    fn the_mean_speed_is_the_one_asked_for(#[case] octaves: u32) {
        let eddies = Eddies::new(&Making { octaves, ..making(0.4) });
        let square: f32 = places().map(|p| eddies.velocity(p).length_squared()).sum::<f32>() / 20_000.0;
        assert!((square.sqrt() / 2.0 - 1.0).abs() < 0.05, "{}", square.sqrt());
        let mean = places().map(|p| eddies.velocity(p)).sum::<Vec3>() / 20_000.0;
        assert!(mean.length() < 0.1, "{mean}");
    }

    #[test]
    fn nothing_flows_in_or_out() {
        let eddies = Eddies::new(&making(3.3));
        let (mut divergence, mut gradient) = (0.0, 0.0);
        let h = 1e-3;
        for p in places().take(2_000).map(|p| p * 0.2) {
            let along =
                |axis: Vec3| (eddies.velocity(p + axis * h) - eddies.velocity(p - axis * h)) / (2.0 * h);
            let (x, y, z) = (along(Vec3::X), along(Vec3::Y), along(Vec3::Z));
            divergence += (x.x + y.y + z.z).powi(2);
            gradient += x.length_squared() + y.length_squared() + z.length_squared();
        }
        assert!((divergence / gradient).sqrt() < 0.01, "{}", (divergence / gradient).sqrt());
    }

    #[test]
    fn it_is_continuous_in_time_and_repeats_after_its_loop() {
        let turbulence = Turbulence { drift_m_s: DRIFT, change_s: 1.5, ..Turbulence::default() };
        let looped =
            |seconds| Making { course: Course::repeating(&turbulence, 4.0, seconds), ..making(seconds) };
        let at = |seconds: f64, p: Vec3| Eddies::new(&looped(seconds)).velocity(p);
        for p in places().take(200) {
            // A round trip through the drift is exact to f32 rounding of the places.
            assert!(at(0.25, p).distance(at(4.25, p)) < 1e-4);
            assert!(at(3.9999, p).distance(at(4.0001, p)) < 0.01);
            assert!(at(1.0, p).distance(at(1.001, p)) < 0.1);
        }
    }

    #[test]
    fn numbers_of_a_table_stay_near_one() {
        let table = Table::new(3, 0.0);
        let numbers: Vec<f32> = places().map(|p| table.number(p, 9)).collect();
        let most = numbers.iter().fold(0f32, |most, n| most.max(n.abs()));
        assert!(most <= 1.1 && most > 0.6, "{most}");
    }
}
