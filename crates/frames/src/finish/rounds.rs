//! Rounds of a run whose shot goes round: how nearly each meets the one before.

use super::seam::{Seam, seam_of, unreturned};
use crate::{Frames, RunError};
use shot::{Id, fingerprint::Fingerprint};
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// Frames of a round from which its mean motion is taken, at most.
const FRAMES: usize = 32;
/// A round closes whose seam is at most this fraction of the mean motion, in place and in speed.
const CLOSED: f32 = 0.01;
/// Most seams that are remembered.
const REMEMBERED: usize = 4096;

/// A round of a run: its first frame, and how nearly the frame after its last meets that.
#[derive(Clone, Debug, PartialEq)]
pub struct Round {
    /// First frame.
    pub from_frame: u32,
    /// The seam; none where the two frames have not the same bodies, particles and vertices.
    pub seam: Option<Seam>,
    /// The elements that are not back where they began.
    pub unreturned: Vec<Id>,
}

impl Round {
    /// Whether the state has met itself: what comes after is this round again.
    pub fn closes(&self) -> bool {
        self.seam.is_some_and(|seam| seam.position <= CLOSED && seam.velocity <= CLOSED)
    }
}

/// The rounds of runs, each looked at once.
#[derive(Debug, Default)]
pub struct Rounds(Mutex<HashMap<[Fingerprint; 2], Round>>);

impl Rounds {
    /// The rounds of `length` frames that a run has from frame `first` on, up to the first that closes.
    ///
    /// # Errors
    /// [`RunError`] if a frame cannot be read.
    pub fn of(&self, source: &dyn Frames, first: u32, length: u32) -> Result<Vec<Round>, RunError> {
        let mut rounds = Vec::new();
        let mut from_frame = first;
        while from_frame + length <= *source.range().end() {
            let (Some(begins), Some(ends)) =
                (source.fingerprint(from_frame), source.fingerprint(from_frame + length))
            else {
                break;
            };
            let known = self.known().get(&[begins, ends]).cloned();
            let round = match known {
                Some(round) => round,
                None => {
                    let seam = seam_of(source, from_frame, length, FRAMES)?;
                    let unreturned = unreturned(source, from_frame, length)?;
                    let round = Round { from_frame, seam, unreturned };
                    let mut known = self.known();
                    if known.len() >= REMEMBERED {
                        known.clear();
                    }
                    known.insert([begins, ends], round.clone());
                    round
                }
            };
            let closes = round.closes();
            rounds.push(round);
            if closes {
                break;
            }
            from_frame += length;
        }
        Ok(rounds)
    }

    fn known(&self) -> std::sync::MutexGuard<'_, HashMap<[Fingerprint; 2], Round>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
