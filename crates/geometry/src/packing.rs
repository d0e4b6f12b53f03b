//! Spheres of different sizes placed within a closed mesh, without overlap.
//!
//! They start at random places and are pushed apart and off the walls until nothing overlaps, as in the force-biased packing of
//! J. Mościński, M. Bargieł, Z. Rycerz and P. Jacobs, *The force-biased algorithm for the irregular close packing of equal hard
//! spheres* (1989): in each round every overlap moves both of a pair apart by half of it, with some of the push of the
//! round before. Random packings of that kind fill up to about 0.6 of a volume; less near the walls of a small one.

use crate::{Mesh, Surface, mass_properties};
use glam::Vec3;
use thiserror::Error;

/// Rounds after which a packing that still overlaps is given up; of very many spheres fewer.
const ROUNDS: usize = 4_000;
/// Moves of spheres in all rounds.
const MOVES: usize = 4_000_000;
/// Random places that are tried for each sphere to begin in.
const TRIES: usize = 2_000;
/// Overlaps below this part of the smallest radius are none.
const TOUCHING: f32 = 1e-3;
/// Part of the push of the round before that goes on.
const GOES_ON: f32 = 0.3;

/// Why spheres cannot be packed.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum PackError {
    /// The container has no inside.
    #[error("it is open, so that it has no inside")]
    Open,
    /// They take too much room.
    #[error(
        "they would fill {} % of its volume, which does not go without overlap; place fewer or smaller ones",
        (100.0 * .0).round()
    )]
    TooFull(f32),
}

/// Centres of spheres of these radii within a closed mesh: each further than its radius from the walls, and further than the sum
/// of both radii from each other. The same seed gives the same centres.
///
/// # Errors
/// [`PackError`].
pub fn pack(container: &Mesh, radii: &[f32], seed: u32) -> Result<Vec<Vec3>, PackError> {
    let volume = mass_properties(container).map_or(0.0, |mass| mass.volume);
    if !container.is_closed() || volume <= 0.0 {
        return Err(PackError::Open);
    }
    let filled = radii.iter().map(|r| r.powi(3)).sum::<f32>() * std::f32::consts::PI * 4.0 / 3.0 / volume;
    // No packing of equal spheres fills more than π / √18; some smaller ones between them fill little more.
    if filled > 0.8 || filled.is_nan() {
        return Err(PackError::TooFull(filled));
    }
    let smallest = radii.iter().copied().fold(f32::INFINITY, f32::min);
    let surface = Surface::new(container);
    let bounds = container.bounds();
    let mut random = Random(seed);
    let mut within = || {
        (0..TRIES).find_map(|_| {
            let at = Vec3::new(random.fraction(), random.fraction(), random.fraction());
            let at = bounds.min + at * bounds.size();
            surface.contains(at).then_some(at)
        })
    };
    // Where no place is found the inside is too thin for anything.
    let begun: Option<Vec<Vec3>> = radii.iter().map(|_| within()).collect();
    let mut centres = begun.ok_or(PackError::TooFull(filled))?;
    let mut pushes = vec![Vec3::ZERO; radii.len()];
    for _ in 0..(MOVES / radii.len().max(1)).min(ROUNDS) {
        let mut deepest = 0.0f32;
        pushes.iter_mut().for_each(|push| *push *= GOES_ON);
        for (a, b) in near(&centres, radii) {
            let between = centres[b] - centres[a];
            let overlap = radii[a] + radii[b] - between.length();
            if overlap > 0.0 {
                deepest = deepest.max(overlap);
                let along = between.try_normalize().unwrap_or_else(|| random.direction());
                let half = along * (0.5 * overlap + 0.1 * TOUCHING * smallest);
                pushes[a] -= half;
                pushes[b] += half;
            }
        }
        for ((centre, push), radius) in centres.iter_mut().zip(&mut pushes).zip(radii) {
            *centre += *push;
            let distance = surface.signed_distance(*centre);
            let missing = radius + distance;
            if missing > 0.0 {
                deepest = deepest.max(missing);
                if let Some(nearest) = surface.nearest(*centre, distance.abs() + *radius) {
                    let inward = (nearest - *centre) * if distance > 0.0 { 1.0 } else { -1.0 };
                    let inward = inward.try_normalize().unwrap_or_else(|| random.direction());
                    *centre += inward * (missing + 0.1 * TOUCHING * smallest);
                }
                *push = Vec3::ZERO;
            }
        }
        if deepest <= TOUCHING * smallest {
            return Ok(centres);
        }
    }
    Err(PackError::TooFull(filled))
}

/// Pairs whose spheres may overlap, by sorting along the longest side.
fn near(centres: &[Vec3], radii: &[f32]) -> Vec<(usize, usize)> {
    let (low, high) = centres
        .iter()
        .fold((Vec3::INFINITY, Vec3::NEG_INFINITY), |(low, high), c| (low.min(*c), high.max(*c)));
    let axis = (high - low).max_position();
    let mut order: Vec<usize> = (0..centres.len()).collect();
    order.sort_by(|a, b| centres[*a][axis].total_cmp(&centres[*b][axis]));
    let largest = radii.iter().copied().fold(0.0, f32::max);
    let mut pairs = Vec::new();
    for (i, &a) in order.iter().enumerate() {
        for &b in &order[i + 1..] {
            if centres[b][axis] - centres[a][axis] > radii[a] + largest {
                break;
            }
            pairs.push((a, b));
        }
    }
    pairs
}

/// Random numbers (PCG of M. O'Neill, 2014).
pub struct Random(pub u32);

impl Random {
    /// The next, 0–1.
    pub fn fraction(&mut self) -> f32 {
        self.0 = self.0.wrapping_mul(747_796_405).wrapping_add(2_891_336_453);
        let word = ((self.0 >> ((self.0 >> 28) + 4)) ^ self.0).wrapping_mul(277_803_737);
        ((word >> 22) ^ word) as f32 / u32::MAX as f32
    }

    fn direction(&mut self) -> Vec3 {
        let (z, angle) = (2.0 * self.fraction() - 1.0, std::f32::consts::TAU * self.fraction());
        let across = (1.0 - z * z).max(0.0).sqrt();
        Vec3::new(across * angle.cos(), across * angle.sin(), z)
    }

    /// The next orientation, all being as likely (K. Shoemake, *Uniform random rotations*, 1992).
    pub fn orientation(&mut self) -> glam::Quat {
        let (u, a, b) = (self.fraction(), self.fraction(), self.fraction());
        let (a, b) = (a * std::f32::consts::TAU, b * std::f32::consts::TAU);
        let (one, two) = ((1.0 - u).sqrt(), u.sqrt());
        glam::Quat::from_xyzw(one * a.sin(), one * a.cos(), two * b.sin(), two * b.cos()).normalize()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;
    use rstest::rstest;

    #[rstest]
    #[case(primitive::sphere(0.5, 48), 35, 0.08, 0.12)]
    #[case(primitive::cuboid(Vec3::new(2.0, 0.4, 1.0), 0.0), 60, 0.06, 0.1)]
    #[case(primitive::capsule(0.3, 1.0, 48), 200, 0.02, 0.05)]
    #[case(primitive::torus(0.6, 0.15, 64), 40, 0.05, 0.08)]
    fn spheres_stay_within_and_do_not_overlap(
        #[case] container: Mesh,
        #[case] count: u32,
        #[case] least: f32,
        #[case] most: f32,
    ) {
        for seed in 1..4 {
            let radius = |i: u32| least + (most - least) * i as f32 / count as f32;
            let radii: Vec<f32> = (0..count).map(radius).collect();
            let centres = pack(&container, &radii, seed).unwrap();
            let surface = Surface::new(&container);
            let least = 1.01 * TOUCHING * least;
            for (i, (a, r)) in centres.iter().zip(&radii).enumerate() {
                assert!(surface.signed_distance(*a) <= -r + least, "{i} sticks out");
                for (b, s) in centres.iter().zip(&radii).skip(i + 1) {
                    assert!(a.distance(*b) >= r + s - least);
                }
            }
            assert_eq!(centres, pack(&container, &radii, seed).unwrap());
        }
    }

    #[test]
    fn what_cannot_be_packed_is_refused() {
        assert_eq!(pack(&primitive::plane(1.0, 1.0), &[0.1], 1), Err(PackError::Open));
        let sphere = primitive::sphere(0.5, 48);
        assert!(matches!(pack(&sphere, &[0.3; 9], 1), Err(PackError::TooFull(_))));
        assert!(pack(&sphere, &[0.2; 5], 1).is_ok());
        // Between two walls that nearly touch there is no place to begin in, and the search for one ends.
        let thin = primitive::cuboid(Vec3::new(5.0, 5.0, 1e-6), 0.0);
        let turn = glam::Quat::from_rotation_y(0.7);
        let positions = thin.positions.iter().map(|p| turn * *p).collect();
        assert!(pack(&Mesh { positions, ..thin }, &[1e-4; 9], 1).is_err());
        assert!(matches!(pack(&sphere, &[0.6], 1), Err(PackError::TooFull(_))));
        assert_eq!(
            PackError::TooFull(0.7).to_string(),
            "they would fill 70 % of its volume, which does not go without overlap; place fewer or smaller ones"
        );
    }
}
