//! The frame of a run in which most happens.

use crate::RunFolder;

impl RunFolder {
    /// The frame in which most happens: where the kinetic energy of the free
    /// bodies and the number of particles, each against its largest in the run,
    /// have the largest sum. None without frames.
    pub fn liveliest_frame(&self) -> Option<u32> {
        let measured: Vec<(u32, f64, f64)> = (self.measurements().into_iter())
            .map(|(number, of)| {
                let particles: u32 = of.turnover.values().map(|turnover| turnover.alive).sum();
                (number, of.kinetic_j, f64::from(particles))
            })
            .collect();
        let largest = |part: fn(&(u32, f64, f64)) -> f64| measured.iter().map(part).fold(0.0, f64::max);
        let (energy, particles) = (largest(|of| of.1), largest(|of| of.2));
        let fraction = |value: f64, largest: f64| if largest > 0.0 { value / largest } else { 0.0 };
        let score = |of: &(u32, f64, f64)| fraction(of.1, energy) + fraction(of.2, particles);
        // Of frames with the same score the first.
        let best = measured.iter().rev().max_by(|a, b| score(a).total_cmp(&score(b)))?;
        Some(best.0)
    }
}
