//! Faults of finishing steps, beside the ranges of their values.

use super::Faults;
use crate::finish::{Finish, FinishOperation};
use crate::{MAX_BODIES, MAX_ID};

/// Most bytes of a name.
const MAX_NAME: usize = 80;

pub(super) fn finish_faults(f: &mut Faults, path: &str, finish: &Finish) {
    let path = format!("{path}.operation");
    match &finish.operation {
        FinishOperation::Trim { from_frame, to_frame } => {
            if to_frame < from_frame {
                let message = format!("{to_frame} comes before from_frame, {from_frame}");
                f.say(format!("{path}.trim.to_frame"), message);
            }
        }
        FinishOperation::Loop { frames, overlap, .. } => {
            if overlap >= frames {
                let message = format!("{overlap} is not less than the {frames} frames of the loop");
                f.say(format!("{path}.loop.overlap"), message);
            }
        }
        FinishOperation::Join { run } | FinishOperation::Blend { run, .. } => {
            if !(1..=MAX_ID).contains(run) {
                let field =
                    if matches!(finish.operation, FinishOperation::Join { .. }) { "join" } else { "blend" };
                f.say(format!("{path}.{field}.run"), format!("{run} is outside 1 to {MAX_ID}"));
            }
        }
        FinishOperation::Subdivide { crease_group, crease_map, .. } => {
            for (field, name) in [("crease_group", crease_group), ("crease_map", crease_map)] {
                if name.as_ref().is_some_and(|name| name.is_empty() || name.len() > MAX_NAME) {
                    f.say(format!("{path}.subdivide.{field}"), format!("give 1 to {MAX_NAME} bytes"));
                }
            }
        }
        FinishOperation::Copies { grid, .. } => {
            if grid.total() > MAX_BODIES {
                let message = format!("gives {} copies; at most {MAX_BODIES}", grid.total());
                f.say(format!("{path}.copies.grid.count"), message);
            }
        }
        FinishOperation::Retime { .. }
        | FinishOperation::Reverse {}
        | FinishOperation::Shift { .. }
        | FinishOperation::Place { .. }
        | FinishOperation::Smooth { .. }
        | FinishOperation::SmoothShape { .. }
        | FinishOperation::Thicken { .. }
        | FinishOperation::ParticleMesh { .. } => {}
    }
}
