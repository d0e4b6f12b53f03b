//! How hard each point of the surfaces is pressed by what it touches.

use super::active_contacts::Spring;
use super::discretization::Discretization;
use glam::DVec3;

/// Bits of a pressure that are not stored: eight of its mantissa tell it within 1/512.
const NOT_STORED: u32 = 0x7fff;

/// Normal impulses on each point since a frame began.
pub(super) struct ContactPressure {
    /// Area around each point at rest, m².
    areas: Vec<f64>,
    /// N s.
    impulses: Vec<f64>,
    seconds: f64,
}

impl ContactPressure {
    /// Without contacts; `rest` are the points of the surfaces at rest.
    pub fn new(discretization: &Discretization, rest: &[DVec3]) -> Self {
        let mut areas = vec![0.0; rest.len()];
        for face in &discretization.faces {
            let [a, b, c] = face.map(|p| rest[p as usize]);
            let third = (b - a).cross(c - a).length() / 6.0;
            face.iter().for_each(|p| areas[*p as usize] += third);
        }
        Self { impulses: vec![0.0; areas.len()], areas, seconds: 0.0 }
    }

    /// Adds the springs of a step; one that begins a frame begins anew.
    pub fn add(&mut self, begins_frame: bool, springs: impl Iterator<Item = Spring>, dt: f64) {
        if begins_frame {
            self.impulses.fill(0.0);
            self.seconds = 0.0;
        }
        self.seconds += dt;
        for spring in springs {
            let force = spring.force.dot(spring.normal.as_dvec3()).abs();
            for (point, weight) in spring.points.iter().zip(spring.weights).filter(|(_, w)| *w != 0.0) {
                self.impulses[*point as usize] += force * f64::from(weight.abs()) * dt;
            }
        }
    }

    /// The mean pressure at each point, Pa; none: nothing touches.
    pub fn mean(&self) -> Option<Vec<f32>> {
        if self.impulses.iter().all(|impulse| *impulse == 0.0) {
            return None;
        }
        let of = |(impulse, area): (&f64, &f64)| {
            let pressure = (impulse / (area * self.seconds)) as f32;
            if pressure.is_finite() { f32::from_bits(pressure.to_bits() & !NOT_STORED) } else { 0.0 }
        };
        Some(self.impulses.iter().zip(&self.areas).map(of).collect())
    }
}
