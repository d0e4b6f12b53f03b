//! Finishing: steps that make frames of frames. Each wraps a [`Frames`] and is one.
//!
//! To add a step is one more file here, one operation of
//! [`shot::finish::FinishOperation`], and its line in [`step`].

mod blend;
mod context;
mod copies;
mod cycle;
mod join;
mod mesh;
mod mix;
mod motion;
mod order;
mod overlay;
mod particle_mesh;
mod place;
mod remembered;
mod retime;
mod rounds;
mod seam;
mod smooth;
mod surface;
mod transform;
mod window;

pub use context::FinishContext;
pub use particle_mesh::{AGE, share_of};
pub use rounds::{Round, Rounds};
pub use seam::{LoopPair, Seam, best_loops, seam, unreturned};

use crate::{Frames, RunError};
use overlay::Overlay;
use remembered::Remembered;
use shot::{
    Element, Id, MAX_FRAMES,
    finish::{Finish, FinishOperation},
};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::Arc;

/// Frames that are shared between steps and readers.
pub type SharedFrames = Arc<dyn Frames>;

/// What a finishing step gives, for its row.
#[derive(Clone, Debug, PartialEq)]
pub struct StepResult {
    /// The step.
    pub step: Id,
    /// The frames that go out.
    pub range: RangeInclusive<u32>,
    /// Whether the first of them follows the last.
    pub repeats: bool,
    /// The moments at which frames of the source are shown, of a step that changes their time.
    pub ticks: Vec<f32>,
    /// Why the step was not taken, and the frames went through as they were; none: it was, or is switched off.
    pub problem: Option<String>,
}

/// The finished frames of a shot, and what each step gives.
pub fn finished(source: SharedFrames, context: &Arc<FinishContext>) -> (SharedFrames, Vec<StepResult>) {
    let shot = context.shot();
    let mut results = Vec::new();
    let mut elements: Vec<Id> =
        shot.elements.iter().filter_map(|step| step.as_finish().filter(|f| f.enabled)?.element).collect();
    elements.sort_unstable();
    elements.dedup();
    let mut chains = Vec::new();
    for element in elements {
        let steps = shot.finishing(Some(element));
        chains.push((element, chain(source.clone(), &steps, context, &mut results)));
    }
    let base =
        if chains.is_empty() { source } else { Arc::new(Overlay::new(source, chains)) as SharedFrames };
    let steps = shot.finishing(None);
    (chain(base, &steps, context, &mut results), results)
}

/// The steps that cannot be taken to these frames, and why. Of some that is seen with the frames
/// only; fingerprints alone do not tell.
pub fn problems(source: SharedFrames, context: &Arc<FinishContext>) -> BTreeMap<Id, String> {
    let seen_with_frames = |finish: &Finish| finish.enabled && finish.operation.needs_frames_to_be_checked();
    if !context.shot().elements.iter().filter_map(Element::as_finish).any(seen_with_frames) {
        return BTreeMap::new();
    }
    let results = finished(source, context).1;
    results.into_iter().filter_map(|result| Some((result.step, result.problem?))).collect()
}

/// Most steps that are taken for one element, or for the whole shot.
const MAX_STEPS: usize = 16;

fn chain(
    mut frames: SharedFrames,
    steps: &[(&Element, &Finish)],
    context: &Arc<FinishContext>,
    results: &mut Vec<StepResult>,
) -> SharedFrames {
    let (mut taken, mut smoothed) = (0, false);
    for (element, finish) in steps {
        let (mut problem, mut ticks) = (None, Vec::new());
        if finish.enabled {
            if let FinishOperation::Retime { frames: count, .. } = finish.operation {
                ticks = retime::Retime::new(frames.clone(), element.id, count, context).ticks();
            }
            let smooths = matches!(finish.operation, FinishOperation::Smooth { .. });
            let given = if let Some(why) = context.not_taken(element.id) {
                Err(why.clone())
            } else if taken == MAX_STEPS {
                Err(format!("comes after {MAX_STEPS} others; so many are taken"))
            } else if smooths && smoothed {
                // Each frame of the second would ask for all those of the first.
                Err("comes after another smoothing; give that one more frames".to_owned())
            } else {
                step(frames.clone(), element, finish, context).and_then(within_bounds)
            };
            match given {
                Ok(finished) => {
                    frames = Arc::new(Remembered::new(finished));
                    (taken, smoothed) = (taken + 1, smoothed || smooths);
                }
                Err(why) => problem = Some(why),
            }
        }
        results.push(StepResult {
            step: element.id,
            range: frames.range(),
            repeats: frames.repeats(),
            ticks,
            problem,
        });
    }
    frames
}

/// Frames that are not more than a shot may have.
fn within_bounds(frames: SharedFrames) -> Result<SharedFrames, String> {
    let range = frames.range();
    let count = range.end() - range.start() + 1;
    if count > MAX_FRAMES {
        return Err(format!("would give {count} frames; at most {MAX_FRAMES}"));
    }
    Ok(frames)
}

/// The frames that a step makes of others.
///
/// # Errors
/// Why the step cannot be taken, in a sentence for its row.
fn step(
    source: SharedFrames,
    element: &Element,
    finish: &Finish,
    context: &Arc<FinishContext>,
) -> Result<SharedFrames, String> {
    match finish.operation {
        FinishOperation::Trim { from_frame, to_frame } => order::trim(source, from_frame..=to_frame, context),
        FinishOperation::Reverse {} => Ok(order::reverse(source, context)),
        FinishOperation::Shift { frames } => Ok(order::shift(source, frames, context)),
        FinishOperation::Retime { frames, .. } => {
            Ok(Arc::new(retime::Retime::new(source, element.id, frames, context)))
        }
        FinishOperation::Join { run } => {
            let sources = [source, kept(run, context)?];
            Ok(Arc::new(join::Join { sources, context: context.clone() }))
        }
        FinishOperation::Blend { run, .. } => {
            let (other, context) = (kept(run, context)?, context.clone());
            Ok(Arc::new(blend::Blend { source, other, step: element.id, context }))
        }
        FinishOperation::Smooth { .. } => Ok(Arc::new(smooth::Smooth::new(source, element.id, context))),
        FinishOperation::Loop { frames, from_frame, overlap, first_stands } => {
            cycle::cycle(source, cycle::Round { frames, from_frame, overlap, first_stands }, context)
        }
        FinishOperation::Place { .. } => Ok(Arc::new(place::Place::new(source, element.id, context))),
        FinishOperation::Copies { .. } => Ok(Arc::new(copies::Copies::new(source, element, context)?)),
        FinishOperation::ParticleMesh { .. } => {
            Ok(Arc::new(particle_mesh::ParticleMesh::new(source, element.id, finish, context)?))
        }
        FinishOperation::SmoothShape { .. }
        | FinishOperation::Thicken { .. }
        | FinishOperation::Subdivide { .. } => {
            Ok(Arc::new(surface::Surface::new(source, element.id, finish, context)?))
        }
    }
}

/// The frames of a kept run.
fn kept(run: u32, context: &FinishContext) -> Result<SharedFrames, String> {
    context.kept(run).ok_or_else(|| format!("needs kept run {run}, which is not there"))
}

/// A sentence on frames that a step needs and its source does not have.
fn needs(wanted: RangeInclusive<u32>, has: &RangeInclusive<u32>) -> String {
    format!("needs frames {}–{}; there are {}–{}", wanted.start(), wanted.end(), has.start(), has.end())
}

/// A fingerprint of a step: of its name, its values and the frames it is made from.
fn digest(
    name: &str,
    values: &impl serde::Serialize,
    sources: &[Option<shot::fingerprint::Fingerprint>],
) -> Option<shot::fingerprint::Fingerprint> {
    use sha2::{Digest, Sha256};
    let mut hash = Sha256::new();
    hash.update(name);
    hash.update(serde_json::to_vec(values).expect("values of a step serialise"));
    for source in sources {
        hash.update((*source)?.0);
    }
    let sum: [u8; 32] = hash.finalize().into();
    Some(shot::fingerprint::Fingerprint(*sum.first_chunk().expect("16 of 32 bytes")))
}

/// Gives a frame that a step made its number, time and fingerprint.
fn sign(
    frames: &dyn Frames,
    context: &FinishContext,
    number: u32,
    frame: &mut crate::Frame,
) -> Result<(), RunError> {
    frame.number = number;
    frame.time_s = context.shot().timing.seconds(number);
    frame.fingerprint = frames.fingerprint(number).ok_or(RunError::Missing { frame: number })?;
    Ok(())
}
