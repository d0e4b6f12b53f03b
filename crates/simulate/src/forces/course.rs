//! The course of a pattern in time: on and on, or round and round.

use glam::Vec3;
use shot::{
    Element,
    force::Turbulence,
    motion::{Elapsed, PeriodicElapsed, Sampler},
};

/// A point of a pattern's course.
#[derive(Clone, Copy, Debug)]
pub enum Course {
    /// So much has elapsed.
    On(Elapsed),
    /// The pattern repeats: it fades from its course in this round into the one that leads
    /// to where the round began.
    Round(PeriodicElapsed),
}

impl Course {
    /// That of an element at `seconds` of the world; `axis` is the element's −y axis.
    pub fn of(sampler: &Sampler, element: &Element, axis: Vec3, seconds: f64) -> Self {
        match sampler.periodic_elapsed(element, axis, seconds) {
            Some(round) => Self::Round(round),
            None => Self::On(sampler.elapsed(element, axis, seconds)),
        }
    }

    /// That of turbulence with a period of its own, s, at `seconds`.
    pub fn repeating(turbulence: &Turbulence, period: f64, seconds: f64) -> Self {
        let at = |seconds: f64| {
            let often = if turbulence.change_s > 0.0 { 1.0 / f64::from(turbulence.change_s) } else { 0.0 };
            let drift_m = turbulence.drift_m_s.as_dvec3() * seconds;
            Elapsed { drift_m, changes: often * seconds, ..Elapsed::default() }
        };
        let local = seconds.rem_euclid(period);
        let (now, before) = (at(local), at(local - period));
        Self::Round(PeriodicElapsed { now, before, total: at(period), fraction: local / period })
    }

    /// A noise at the point, faded so that its mean square stays the same.
    pub fn faded(&self, noise: impl Fn(&Elapsed) -> f64) -> f64 {
        match self {
            Self::On(elapsed) => noise(elapsed),
            Self::Round(round) => {
                let [now, before] = round.weights();
                now * noise(&round.now) + before * noise(&round.before)
            }
        }
    }

    /// How far the pattern has drifted, m, and with what weight: one drift, or two that
    /// fade into each other.
    pub fn drifts(&self) -> [(Vec3, f32); 2] {
        match self {
            Self::On(elapsed) => [(elapsed.drift_m.as_vec3(), 1.0), (Vec3::ZERO, 0.0)],
            Self::Round(round) if round.total.drift_m == glam::DVec3::ZERO => {
                [(Vec3::ZERO, 1.0), (Vec3::ZERO, 0.0)]
            }
            Self::Round(round) => {
                let [now, before] = round.weights().map(|weight| weight as f32);
                [(round.now.drift_m.as_vec3(), now), (round.before.drift_m.as_vec3(), before)]
            }
        }
    }

    /// Turns of a pattern that turns once in so many changes: a whole number of them in a round.
    pub fn turns(&self, changes_a_turn: f64) -> f64 {
        match self {
            Self::On(elapsed) => elapsed.changes / changes_a_turn,
            Self::Round(round) if round.total.changes <= 0.0 => 0.0,
            Self::Round(round) => {
                let whole = (round.total.changes / changes_a_turn).round().max(1.0);
                whole * round.now.changes / round.total.changes
            }
        }
    }
}
