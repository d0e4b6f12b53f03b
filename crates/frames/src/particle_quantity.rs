//! What is measured of particles in a frame.

use crate::Particles;
use glam::{IVec3, Mat3, Vec3};
use rayon::prelude::*;
use std::collections::HashMap;

/// A quantity of each particle.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ParticleQuantity {
    /// Speed, m/s.
    Speed,
    /// Time since birth, s.
    Age,
    /// Pressure of a liquid, Pa.
    Pressure,
    /// Magnitude of the curl of the velocity, 1/s: twice the rate at which the particles around turn.
    Vorticity,
}

impl ParticleQuantity {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Speed, Self::Age, Self::Pressure, Self::Vorticity];

    /// Its name in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Self::Speed => "speed",
            Self::Age => "age",
            Self::Pressure => "pressure",
            Self::Vorticity => "vorticity",
        }
    }

    /// The one of a name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|of| of.name() == name)
    }

    /// Its value for each particle. Vorticity is that between the cells of an edge `cell_m` around it, in metres. None: the particles
    /// have no such quantity.
    pub fn of(self, particles: &Particles, cell_m: f32) -> Option<Vec<f32>> {
        match self {
            Self::Speed => Some(particles.velocities.iter().map(|velocity| velocity.length()).collect()),
            Self::Age => Some(particles.ages.clone()),
            Self::Pressure => (!particles.pressures.is_empty()).then(|| particles.pressures.clone()),
            Self::Vorticity => Some(vorticities(particles, cell_m)),
        }
    }
}

/// Sums over the particles of a cell.
#[derive(Clone, Copy, Debug, Default)]
struct Cell {
    count: f32,
    /// Of their places from the cell's corner, m.
    within: Vec3,
    velocity: Vec3,
}

/// The curl of the velocity around each particle: the gradient fits the means of its cell and of those around by least squares, which is
/// exact where the velocity is linear.
fn vorticities(particles: &Particles, cell_m: f32) -> Vec<f32> {
    let cell_of = |position: Vec3| (position / cell_m).floor();
    let mut cells: HashMap<IVec3, Cell> = HashMap::new();
    for (position, velocity) in particles.positions.iter().zip(&particles.velocities) {
        let corner = cell_of(*position);
        let cell = cells.entry(corner.as_ivec3()).or_default();
        cell.count += 1.0;
        cell.within += *position - cell_m * corner;
        cell.velocity += *velocity;
    }
    let cells: HashMap<IVec3, Cell> = cells
        .into_iter()
        .map(|(key, Cell { count, within, velocity })| {
            (key, Cell { count, within: within / count, velocity: velocity / count })
        })
        .collect();
    let found: HashMap<IVec3, f32> =
        cells.par_iter().map(|(key, own)| (*key, vorticity(&cells, *key, own, cell_m))).collect();
    particles.positions.iter().map(|position| found[&cell_of(*position).as_ivec3()]).collect()
}

fn vorticity(cells: &HashMap<IVec3, Cell>, key: IVec3, own: &Cell, cell_m: f32) -> f32 {
    /// Least determinant of the places around, in cells: less of them lie in a plane.
    const LEAST: f32 = 1e-3;
    let (mut places, mut products) = (Mat3::ZERO, Mat3::ZERO);
    for k in (0..27).filter(|k| *k != 13) {
        let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
        let Some(other) = cells.get(&(key + by)) else { continue };
        let way = (other.within - own.within) / cell_m + by.as_vec3();
        let weight = other.count / way.length_squared().max(0.1);
        let change = other.velocity - own.velocity;
        places += Mat3::from_cols(way * way.x, way * way.y, way * way.z) * weight;
        products += Mat3::from_cols(change * way.x, change * way.y, change * way.z) * weight;
    }
    let scale = (places.x_axis.x + places.y_axis.y + places.z_axis.z) / 3.0;
    if scale <= 0.0 || (places * (1.0 / scale)).determinant() < LEAST {
        return 0.0;
    }
    let gradient = products * places.inverse() * (1.0 / cell_m);
    let [x, y, z] = [gradient.x_axis, gradient.y_axis, gradient.z_axis];
    Vec3::new(y.z - z.y, z.x - x.z, x.y - y.x).length()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// G. Steele, D. Lea and C. Flood, *Fast splittable pseudorandom number generators*, 2014.
    fn random(i: u32) -> f32 {
        let mut z = u64::from(i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 40) as f32 / (1 << 24) as f32
    }

    fn filled(at: Vec3, velocity: impl Fn(Vec3) -> Vec3) -> Particles {
        let place = |i: u32| Vec3::new(random(3 * i), random(3 * i + 1), random(3 * i + 2)) * 0.4;
        let places: Vec<Vec3> = (0..8_000).map(place).collect();
        Particles {
            ids: (0..8_000).collect(),
            velocities: places.iter().map(|place| velocity(*place)).collect(),
            positions: places.into_iter().map(|place| place + at).collect(),
            ..Particles::default()
        }
    }

    #[test]
    fn what_turns_as_one_has_twice_its_rate_of_turning_and_shear_its_rate() {
        for at in [Vec3::ZERO, Vec3::new(-7.3, 2.1, 30.2)] {
            let turn = Vec3::new(0.4, -3.0, 1.1);
            let turning = filled(at, |place| turn.cross(place) + Vec3::new(5.0, 1.0, 0.0));
            for value in ParticleQuantity::Vorticity.of(&turning, 0.04).unwrap() {
                assert!((value / (2.0 * turn.length()) - 1.0).abs() < 0.01, "{value}");
            }
            let shear = filled(at, |place| Vec3::X * 6.0 * place.y);
            for value in ParticleQuantity::Vorticity.of(&shear, 0.04).unwrap() {
                assert!((value - 6.0).abs() < 0.06, "{value}");
            }
            // What only stretches does not turn.
            let stretch = filled(at, |place| Vec3::new(2.0 * place.x, -place.y, -place.z));
            assert!(ParticleQuantity::Vorticity.of(&stretch, 0.04).unwrap().into_iter().all(|v| v < 0.02));
        }
    }

    #[test]
    fn a_particle_alone_does_not_turn_and_grains_have_no_pressure() {
        let alone = Particles {
            ids: vec![3],
            positions: vec![Vec3::ONE],
            velocities: vec![Vec3::new(3.0, 4.0, 0.0)],
            ages: vec![0.5],
            ..Particles::default()
        };
        let of = |quantity: ParticleQuantity| quantity.of(&alone, 0.1);
        assert_eq!(of(ParticleQuantity::Vorticity), Some(vec![0.0]));
        assert_eq!(
            (of(ParticleQuantity::Speed), of(ParticleQuantity::Age)),
            (Some(vec![5.0]), Some(vec![0.5]))
        );
        assert_eq!(of(ParticleQuantity::Pressure), None);
        assert_eq!(ParticleQuantity::named("speed"), Some(ParticleQuantity::Speed));
    }
}
