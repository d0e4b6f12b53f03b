//! How hard each point of the surfaces is pressed by what it touches.

use super::active_contacts::Spring;

/// Bits of a pressure that are not stored: eight of its mantissa tell it within 1/512.
const NOT_STORED: u32 = 0x7fff;

/// Normal impulses on each point since a frame began.
pub(super) struct ContactPressure {
    /// N s.
    impulses: Vec<f64>,
    seconds: f64,
}

impl ContactPressure {
    /// Of so many points, without contacts.
    pub fn new(points: usize) -> Self {
        Self { impulses: vec![0.0; points], seconds: 0.0 }
    }

    /// The same after some points have become two: `points` says which one each was.
    pub fn with_more(&self, points: &[u32]) -> Self {
        let impulses = points.iter().map(|i| self.impulses[*i as usize]).collect();
        Self { impulses, seconds: self.seconds }
    }

    /// Adds the springs of a step; one that begins a frame begins anew.
    pub fn add(&mut self, begins_frame: bool, springs: impl Iterator<Item = Spring>, dt: f64) {
        if begins_frame {
            self.impulses.fill(0.0);
            self.seconds = 0.0;
        }
        self.seconds += dt;
        for spring in springs {
            let force = spring.force.dot(spring.normal.as_dvec3()).max(0.0);
            for (point, weight) in spring.points.iter().zip(spring.weights).filter(|(_, w)| *w != 0.0) {
                self.impulses[*point as usize] += force * f64::from(weight.abs()) * dt;
            }
        }
    }

    /// The mean pressure at each point, Pa, by the area around it, m²; none: nothing touches.
    pub fn mean(&self, areas: &[f64]) -> Option<Vec<f32>> {
        if self.impulses.iter().all(|impulse| *impulse == 0.0) {
            return None;
        }
        let of = |(impulse, area): (&f64, &f64)| {
            let pressure = (impulse / (area * self.seconds)) as f32;
            if pressure.is_finite() { f32::from_bits(pressure.to_bits() & !NOT_STORED) } else { 0.0 }
        };
        Some(self.impulses.iter().zip(areas).map(of).collect())
    }
}
