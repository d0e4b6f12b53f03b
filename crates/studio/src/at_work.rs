//! Jobs in progress: shots being computed, sizes being compared and films being rendered.

use crate::enough::Enough;
use crate::jobs::lock;
use shot::{Shot, SystemId, fingerprint::fingerprints};
use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

/// The shots being computed.
#[derive(Default)]
pub struct Playing {
    pub(crate) shots: Mutex<HashMap<i64, Arc<Signals>>>,
}

#[derive(Default)]
pub(crate) struct Signals {
    pub stop: AtomicBool,
    pub changed: AtomicBool,
    /// The systems that are computed; none: all.
    pub systems: Mutex<Option<Vec<SystemId>>>,
}

impl Playing {
    /// Tells the computing of a shot that what it depends on has changed. It
    /// hashes both shots: not to be called where others wait.
    pub fn changed(&self, shot: i64, before: &Shot, now: &Shot) {
        let Some(signals) = lock(&self.shots).get(&shot).cloned() else { return };
        if fingerprints(before) != fingerprints(now) {
            signals.changed.store(true, Ordering::Release);
        }
    }

    /// Whether a shot is being computed.
    pub fn is_on(&self, shot: i64) -> bool {
        lock(&self.shots).contains_key(&shot)
    }

    /// Stops computing a shot, within the frame at hand.
    pub fn stop(&self, shot: i64) {
        if let Some(signals) = lock(&self.shots).get(&shot) {
            signals.stop.store(true, Ordering::Release);
        }
    }

    /// Takes a job off the list, if it is the one that is on it.
    pub(crate) fn remove(&self, shot: i64, job: &Arc<Signals>) {
        let mut shots = lock(&self.shots);
        if shots.get(&shot).is_some_and(|on| Arc::ptr_eq(on, job)) {
            shots.remove(&shot);
        }
    }
}

/// The shots whose finished frames are being made, because they take long.
#[derive(Default)]
pub struct SlowSteps {
    pub(crate) at_work: Mutex<HashSet<i64>>,
}

/// The comparisons of shots: one a shot, the last.
#[derive(Default)]
pub struct Comparisons {
    pub(crate) of: Mutex<HashMap<i64, Arc<Comparison>>>,
}

/// A comparison at work, or over.
pub(crate) struct Comparison {
    pub revision: i64,
    pub stop: AtomicBool,
    pub progress: Mutex<ComparisonProgress>,
}

/// How far it is, in frames of all sizes, and what it came to.
#[derive(Clone, Default)]
pub(crate) struct ComparisonProgress {
    pub done: u32,
    pub total: u32,
    pub result: Option<std::result::Result<Enough, String>>,
}

/// The films being rendered. One is rendered at a time; others wait.
#[derive(Default)]
pub struct Films {
    pub(crate) at_work: Mutex<HashMap<i64, Arc<AtomicBool>>>,
    /// Held by the film that is being rendered.
    pub(crate) one_at_a_time: Mutex<()>,
    pub(crate) progress: Mutex<HashMap<i64, (u32, f32)>>,
}

impl Films {
    /// Frames done and seconds left of a film at work.
    pub fn progress(&self, film: i64) -> Option<(u32, f32)> {
        lock(&self.progress).get(&film).copied()
    }

    pub(crate) fn stop(&self, film: i64) {
        if let Some(stop) = lock(&self.at_work).get(&film) {
            stop.store(true, Ordering::Release);
        }
    }

    /// Takes a job off the list, if it is the one that is on it.
    pub(crate) fn remove(&self, film: i64, job: &Arc<AtomicBool>) {
        let mut at_work = lock(&self.at_work);
        if at_work.get(&film).is_some_and(|on| Arc::ptr_eq(on, job)) {
            at_work.remove(&film);
            lock(&self.progress).remove(&film);
        }
    }
}
