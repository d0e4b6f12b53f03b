//! Births in a shot that goes round: in every round the same ones.

use super::{Amounts, Birth};
use crate::Step;
use glam::Vec3;
use shot::{
    Element, MAX_PARTICLES,
    particles::{EmissionSchedule, Particles},
};

/// Moments closer than this are the same, s: substeps are added up, with rounding.
const SAME_S: f64 = 1e-7;
/// Halvings by which the moment of a birth is found.
const HALVINGS: u32 = 40;

/// The births of one round, by the seconds since the round began.
struct RoundBirths<'a> {
    step: &'a Step<'a>,
    element: &'a Element,
    schedule: EmissionSchedule,
    /// First and last moment of births.
    span: [f64; 2],
    /// Number of births.
    count: u64,
    amounts: Amounts,
}

impl RoundBirths<'_> {
    /// Number that a rate has emitted until a moment.
    fn emitted(&self, seconds: f64) -> f64 {
        let at = |seconds: f64| self.step.sampler.elapsed(self.element, Vec3::NEG_Y, seconds).emitted;
        self.amounts.per_emitted * (at(seconds.clamp(self.span[0], self.span[1])) - at(self.span[0]))
    }

    /// Number of births until a moment, those at the moment with them if `with`.
    fn until(&self, seconds: f64, with: bool) -> u64 {
        let [from, to] = self.span;
        let seconds = if with { seconds + SAME_S } else { seconds - SAME_S };
        let has_begun = seconds >= from;
        match self.schedule {
            EmissionSchedule::Never {} | EmissionSchedule::Released {} => 0,
            _ if !has_begun => 0,
            EmissionSchedule::Total { .. } if to > from => {
                let passed = ((seconds - from) / (to - from)).min(1.0);
                (self.count as f64 * passed + 0.5).floor() as u64
            }
            EmissionSchedule::Burst { .. } | EmissionSchedule::Fill {} | EmissionSchedule::Total { .. } => {
                self.count
            }
            EmissionSchedule::Rate { .. } | EmissionSchedule::Flow { .. } | EmissionSchedule::Jet {} => {
                ((self.emitted(seconds) + 0.5).floor().max(0.0) as u64).min(self.count)
            }
        }
    }

    /// The moment of a birth.
    fn time(&self, number: u64) -> f64 {
        let [from, to] = self.span;
        match self.schedule {
            EmissionSchedule::Total { .. } if to > from => {
                from + (number as f64 + 0.5) / self.count as f64 * (to - from)
            }
            EmissionSchedule::Rate { .. } | EmissionSchedule::Flow { .. } | EmissionSchedule::Jet {} => {
                let (mut low, mut high) = (from, to);
                for _ in 0..HALVINGS {
                    let middle = 0.5 * (low + high);
                    let before = self.emitted(middle) < number as f64 + 0.5;
                    (low, high) = if before { (middle, high) } else { (low, middle) };
                }
                high
            }
            _ => from,
        }
    }
}

/// The births of a substep, `before` of which were before it; `fraction` of the substep at a moment.
/// An error is a number that is too large.
pub(super) fn due(
    step: &Step,
    element: &Element,
    particles: &Particles,
    period: f64,
    before: u64,
    amounts: Amounts,
    fraction: impl Fn(f64) -> f32,
) -> Result<Vec<Birth>, u64> {
    let timing = step.shot.timing;
    let births = &particles.emission;
    let seconds = |frame: u32| timing.seconds(frame).clamp(0.0, period);
    let span = [births.from_frame.map_or(0.0, seconds), births.to_frame.map_or(period, seconds)];
    let schedule = births.schedule;
    let span = [span[0], span[1].max(span[0])];
    let mut round = RoundBirths { step, element, schedule, span, count: 0, amounts };
    round.count = match schedule {
        EmissionSchedule::Never {} | EmissionSchedule::Released {} => 0,
        EmissionSchedule::Burst { count } | EmissionSchedule::Total { count } => u64::from(count),
        EmissionSchedule::Fill {} => amounts.at_once,
        EmissionSchedule::Rate { .. } | EmissionSchedule::Flow { .. } | EmissionSchedule::Jet {} => {
            (round.emitted(round.span[1]) + 0.5).floor().max(0.0) as u64
        }
    };
    if round.count == 0 {
        return Ok(Vec::new());
    }
    // Births since the round at 0 began; negative in rounds before.
    let total = |seconds: f64, with: bool| -> i64 {
        let rounds = ((seconds + SAME_S) / period).floor();
        let local = (seconds - rounds * period).max(0.0);
        rounds as i64 * round.count as i64 + round.until(local, with) as i64
    };
    let preroll_s = if step.shot.initial_state.is_some() { 0.0 } else { f64::from(births.preroll_s) };
    // Births before the shot begins are not there.
    let begun = total(-preroll_s, false);
    let until = u64::try_from(total(step.seconds, true) - begun).unwrap_or(0);
    let due = until.saturating_sub(before);
    if due > MAX_PARTICLES as u64 {
        return Err(due);
    }
    let birth = |k: u64| {
        let k = k as i64 + begun;
        let number = k.rem_euclid(round.count as i64) as u64;
        let rounds = k.div_euclid(round.count as i64);
        Birth { number, fraction: fraction(rounds as f64 * period + round.time(number)) }
    };
    Ok((before..before + due).map(birth).collect())
}
