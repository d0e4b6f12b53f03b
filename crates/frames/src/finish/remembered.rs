//! The frames of a step, whose fingerprints are computed once: a step asks for
//! those of several frames, and so does each step before it.

use super::SharedFrames;
use crate::{Frame, Frames, Parts, RunError};
use shot::fingerprint::Fingerprint;
use std::collections::HashMap;
use std::ops::RangeInclusive;
use std::sync::{Mutex, PoisonError};

pub(super) struct Remembered {
    source: SharedFrames,
    fingerprints: Mutex<HashMap<u32, Option<Fingerprint>>>,
}

impl Remembered {
    pub fn new(source: SharedFrames) -> Self {
        Self { source, fingerprints: Mutex::default() }
    }
}

impl Frames for Remembered {
    fn range(&self) -> RangeInclusive<u32> {
        self.source.range()
    }

    fn repeats(&self) -> bool {
        self.source.repeats()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let known = |of: &HashMap<u32, Option<Fingerprint>>| of.get(&number).copied();
        if let Some(print) = known(&self.fingerprints.lock().unwrap_or_else(PoisonError::into_inner)) {
            return print;
        }
        let print = self.source.fingerprint(number);
        self.fingerprints.lock().unwrap_or_else(PoisonError::into_inner).insert(number, print);
        print
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        self.source.read(number, parts, frame)
    }
}
