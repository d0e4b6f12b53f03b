//! Bakes of shots that go round: they end when the state has met itself.

use crate::bake::bake_until;
use crate::{Bake, BakeError, Cancel, Outcome, Progress, fresh};
use frames::finish::{Round, Rounds};
use frames::{RunError, RunFolder, RunFrames};
use shot::Shot;
use std::ops::ControlFlow;

/// The rounds of a shot that goes round, as far as its frames are fresh, up to the first that
/// closes; none of a shot that does not.
///
/// # Errors
/// [`RunError`] if a frame cannot be read.
pub fn rounds(shot: &Shot, run: &RunFolder, known: &Rounds) -> Result<Vec<Round>, RunError> {
    let timing = shot.timing;
    let Some(length) = timing.loop_frames else { return Ok(Vec::new()) };
    let count = fresh(shot, run).iter().take_while(|fresh| **fresh).count() as u32;
    if count <= length {
        return Ok(Vec::new());
    }
    let mut computed = shot.clone();
    computed.timing.last = timing.first + count - 1;
    known.of(&RunFrames::of(run.clone(), &computed), timing.first, length)
}

/// As [`crate::bake_until`], up to the frame at which a shot that goes round has met its state.
///
/// # Errors
/// [`BakeError`]; every frame reported as progress is on disk.
pub fn bake_rounds(
    job: &Bake,
    known: &Rounds,
    cancel: &Cancel,
    mut progress: impl FnMut(Progress) -> ControlFlow<()> + Send,
) -> Result<Outcome, BakeError> {
    let timing = job.shot.timing;
    let Some(length) = timing.loop_frames else { return bake_until(job, cancel, progress) };
    let closed_at = || -> Option<u32> {
        // A frame that cannot be read is computed again; until then nothing has closed.
        let rounds = rounds(job.shot, job.run, known).ok()?;
        rounds.last().filter(|round| round.closes()).map(|round| round.from_frame + length)
    };
    let last = closed_at().map_or(*job.frames.end(), |frame| frame.min(*job.frames.end()));
    let job = Bake { frames: *job.frames.start()..=last, ..job.clone() };
    let mut met = None;
    let outcome = bake_until(&job, cancel, |now| {
        let flow = progress(now);
        if flow.is_continue() && (now.frame - timing.first).is_multiple_of(length) {
            met = closed_at().filter(|frame| *frame == now.frame);
        }
        if met.is_some() { ControlFlow::Break(()) } else { flow }
    })?;
    Ok(met.map_or(outcome, Outcome::Closed))
}
