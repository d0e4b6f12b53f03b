//! The frames around a moment, each read once while a reader goes on.

use super::SharedFrames;
use crate::{Frame, Parts, RunError};
use shot::fingerprint::Fingerprint;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

/// Frames kept: those of one moment and the next.
const KEPT: usize = 6;

type Entry = (u32, Parts, Option<Fingerprint>, Arc<Frame>);

/// The frames of a source that were read last.
pub(super) struct Window {
    pub source: SharedFrames,
    kept: Mutex<VecDeque<Entry>>,
    most: usize,
}

impl Window {
    pub fn new(source: SharedFrames) -> Self {
        Self::keeping(source, KEPT)
    }

    /// Keeps `most` frames.
    pub fn keeping(source: SharedFrames, most: usize) -> Self {
        Self { source, kept: Mutex::default(), most }
    }

    pub fn get(&self, number: u32, parts: &Parts) -> Result<Arc<Frame>, RunError> {
        let print = self.source.fingerprint(number);
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let known = |(n, p, of, _): &Entry| (*n, p, *of) == (number, parts, print) && of.is_some();
        if let Some(at) = kept.iter().position(known) {
            let entry = kept.remove(at).expect("it was found there");
            let frame = entry.3.clone();
            kept.push_back(entry);
            return Ok(frame);
        }
        // The memory of a frame that nobody reads any more is used again.
        let spare = if kept.len() >= self.most { kept.pop_front() } else { None };
        let mut frame = spare.and_then(|(.., frame)| Arc::try_unwrap(frame).ok()).unwrap_or_default();
        self.source.read(number, parts, &mut frame)?;
        let frame = Arc::new(frame);
        kept.push_back((number, parts.clone(), print, frame.clone()));
        Ok(frame)
    }
}
