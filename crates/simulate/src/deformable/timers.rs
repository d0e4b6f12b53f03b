//! Time spent in the phases of the solver, for its benchmark.

use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

/// A phase of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Phase {
    /// Forces, air and the predicted positions.
    Forces,
    /// Gradients and second derivatives.
    Assembly,
    /// Matrices of the levels.
    Levels,
    /// Conjugate gradients.
    Solve,
    /// Contacts: their search, and moves held back by them.
    Contact,
    /// A whole step.
    Step,
}

impl Phase {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Forces, Self::Assembly, Self::Levels, Self::Solve, Self::Contact, Self::Step];
}

static NANOSECONDS: [AtomicU64; 6] = [const { AtomicU64::new(0) }; 6];

/// Time spent in a phase, by all cloths of this process.
pub fn spent(phase: Phase) -> Duration {
    Duration::from_nanos(NANOSECONDS[phase as usize].load(Relaxed))
}

/// Runs `work` as part of a phase.
pub(super) fn timed<T>(phase: Phase, work: impl FnOnce() -> T) -> T {
    let start = Instant::now();
    let result = work();
    NANOSECONDS[phase as usize].fetch_add(start.elapsed().as_nanos() as u64, Relaxed);
    result
}
