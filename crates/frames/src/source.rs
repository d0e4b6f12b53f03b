//! The one way in which everything after a solver reads frames.

use crate::{Frame, RunError, RunFolder};
use shot::{Id, Shot, SystemId, fingerprint::Fingerprint};
use std::ops::RangeInclusive;
use std::sync::Arc;

/// A sequence of frames: a run on disk, or what finishing steps make of one.
pub trait Frames: Send + Sync {
    /// The frames that there are, or could be.
    fn range(&self) -> RangeInclusive<u32>;

    /// Whether the first frame follows the last.
    fn repeats(&self) -> bool {
        false
    }

    /// Changes when anything changes that the frame is made from; none if a
    /// frame that it is made from is missing.
    fn fingerprint(&self, number: u32) -> Option<Fingerprint>;

    /// Reads a frame, or the part of one element, into the memory of another.
    ///
    /// # Errors
    /// [`RunError`] if a frame that it is made from is missing or damaged; what
    /// is in `frame` is then of no use.
    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError>;

    /// A frame of its own memory.
    ///
    /// # Errors
    /// [`RunError`] as of [`Frames::read`].
    fn frame(&self, number: u32) -> Result<Frame, RunError> {
        let mut frame = Frame::default();
        self.read(number, &Parts::All, &mut frame)?;
        Ok(frame)
    }

    /// The frame that is shown at a number outside the range too: the first or
    /// the last, or where it repeats, the same one some rounds on.
    fn at(&self, number: i64) -> u32 {
        let (first, last) = (i64::from(*self.range().start()), i64::from(*self.range().end()));
        let within = if self.repeats() {
            first + (number - first).rem_euclid(last - first + 1)
        } else {
            number.clamp(first, last)
        };
        within as u32
    }
}

/// The parts of a frame that are read.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Parts {
    /// All.
    All,
    /// That of one element.
    Element(Id),
    /// All but those of some elements, whose ids rise.
    Without(Arc<[Id]>),
}

impl Parts {
    /// All but those of some elements.
    pub fn without(elements: impl IntoIterator<Item = Id>) -> Self {
        let mut elements: Vec<Id> = elements.into_iter().collect();
        elements.sort_unstable();
        elements.dedup();
        if elements.is_empty() { Self::All } else { Self::Without(elements.into()) }
    }

    /// Whether the part of an element is read.
    pub fn has(&self, element: Id) -> bool {
        match self {
            Self::All => true,
            Self::Element(id) => *id == element,
            Self::Without(elements) => elements.binary_search(&element).is_err(),
        }
    }
}

/// The frames of a run on disk over the range of its shot.
#[derive(Clone, Debug)]
pub struct RunFrames {
    folder: RunFolder,
    range: RangeInclusive<u32>,
    /// The systems that are read.
    read: Vec<SystemId>,
    /// The systems that count for fingerprints: what is left of others is shown, as
    /// long as it is there, and is nothing that a frame is made from.
    count: Vec<SystemId>,
}

impl RunFrames {
    /// The frames `range` of a run, computed or not, with all systems that it has.
    pub fn new(folder: RunFolder, range: RangeInclusive<u32>) -> Self {
        let read = folder.systems();
        Self { folder, range, count: read.clone(), read }
    }

    /// The frames of a run with the range and the systems of a shot.
    pub fn of(folder: RunFolder, shot: &Shot) -> Self {
        let count: Vec<SystemId> = shot.systems().into_iter().map(|system| system.id).collect();
        let mut read = folder.systems();
        read.extend(&count);
        read.sort_unstable();
        read.dedup();
        Self { folder, range: shot.timing.frames(), read, count }
    }
}

impl Frames for RunFrames {
    fn range(&self) -> RangeInclusive<u32> {
        self.range.clone()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        self.folder.header_among(number, &self.count).map(|header| header.fingerprint)
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        self.folder.read_parts(number, &self.read, parts, frame)?;
        if self.read.len() > self.count.len() {
            frame.fingerprint = self.fingerprint(number).unwrap_or(frame.fingerprint);
        }
        Ok(())
    }
}

/// Frames of which only the fingerprints are known: those that a run has, or
/// those that it would have if it were computed from a shot as it is.
#[derive(Clone, Debug)]
pub struct Fingerprints {
    /// The first frame.
    pub first: u32,
    /// The fingerprints from the first frame on; none: missing.
    pub list: Vec<Option<Fingerprint>>,
}

impl Frames for Fingerprints {
    fn range(&self) -> RangeInclusive<u32> {
        self.first..=self.first + (self.list.len() as u32).max(1) - 1
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        *self.list.get(number.checked_sub(self.first)? as usize)?
    }

    fn read(&self, number: u32, _: &Parts, _: &mut Frame) -> Result<(), RunError> {
        Err(RunError::Missing { frame: number })
    }
}
