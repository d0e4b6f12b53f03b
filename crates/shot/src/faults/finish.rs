//! Faults of finishing steps.

use super::Faults;
use crate::finish::{Finish, FinishOperation};
use crate::{LAST_FRAME, MAX_BODIES, MAX_FRAMES, MAX_ID};

/// Most passes of a smoothing, levels of a subdivision, and bytes of a name.
const MAX_PASSES: u32 = 200;
const MAX_LEVELS: u32 = 6;
const MAX_NAME: usize = 80;

pub(super) fn finish_faults(f: &mut Faults, path: &str, finish: &Finish) {
    if finish.order > LAST_FRAME {
        f.say(format!("{path}.order"), format!("{} is outside 0 to {LAST_FRAME}", finish.order));
    }
    let path = format!("{path}.operation");
    let frame = |f: &mut Faults, field: &str, number: u32| {
        if number > LAST_FRAME {
            f.say(format!("{path}.{field}"), format!("{number} is outside 0 to {LAST_FRAME}"));
        }
    };
    let count = |f: &mut Faults, field: &str, least: u32, number: u32| {
        if !(least..=MAX_FRAMES).contains(&number) {
            f.say(format!("{path}.{field}"), format!("{number} is outside {least} to {MAX_FRAMES}"));
        }
    };
    let within = |f: &mut Faults, field: &str, number: u32, most: u32| {
        if !(1..=most).contains(&number) {
            f.say(format!("{path}.{field}"), format!("{number} is outside 1 to {most}"));
        }
    };
    match &finish.operation {
        &FinishOperation::Trim { from_frame, to_frame } => {
            frame(f, "trim.from_frame", from_frame);
            frame(f, "trim.to_frame", to_frame);
            if to_frame < from_frame {
                let message = format!("{to_frame} comes before from_frame, {from_frame}");
                f.say(format!("{path}.trim.to_frame"), message);
            }
        }
        &FinishOperation::Retime { frames, .. } => count(f, "retime.frames", 1, frames),
        &FinishOperation::Shift { frames } => {
            if frames.unsigned_abs() > MAX_FRAMES {
                let message = format!("{frames} is outside -{MAX_FRAMES} to {MAX_FRAMES}");
                f.say(format!("{path}.shift.frames"), message);
            }
        }
        &FinishOperation::Loop { frames, from_frame, overlap } => {
            count(f, "loop.frames", 2, frames);
            frame(f, "loop.from_frame", from_frame);
            if overlap >= frames {
                let message = format!("{overlap} is not less than the {frames} frames of the loop");
                f.say(format!("{path}.loop.overlap"), message);
            }
        }
        &FinishOperation::Join { run } | &FinishOperation::Blend { run, .. } => {
            if !(1..=MAX_ID).contains(&run) {
                let field =
                    if matches!(finish.operation, FinishOperation::Join { .. }) { "join" } else { "blend" };
                f.say(format!("{path}.{field}.run"), format!("{run} is outside 1 to {MAX_ID}"));
            }
        }
        &FinishOperation::SmoothShape { passes } => within(f, "smooth_shape.passes", passes, MAX_PASSES),
        FinishOperation::Subdivide { levels, crease_angle_rad, crease_group, crease_map, .. } => {
            within(f, "subdivide.levels", *levels, MAX_LEVELS);
            if crease_angle_rad.is_some_and(|angle| !(0.0..=std::f32::consts::PI).contains(&angle)) {
                f.say(format!("{path}.subdivide.crease_angle_rad"), "is outside 0 to 3.1416".to_owned());
            }
            for (field, name) in [("crease_group", crease_group), ("crease_map", crease_map)] {
                if name.as_ref().is_some_and(|name| name.is_empty() || name.len() > MAX_NAME) {
                    f.say(format!("{path}.subdivide.{field}"), format!("give 1 to {MAX_NAME} bytes"));
                }
            }
        }
        FinishOperation::Copies { grid, delay_frames, delay_jitter_frames } => {
            super::copies_faults(f, &format!("{path}.copies.grid"), grid);
            if grid.total() > MAX_BODIES {
                let message = format!("gives {} copies; at most {MAX_BODIES}", grid.total());
                f.say(format!("{path}.copies.grid.count"), message);
            }
            let delays = [
                ("delay_frames", delay_frames.unsigned_abs()),
                ("delay_jitter_frames", *delay_jitter_frames),
            ];
            for (field, frames) in delays {
                if frames > MAX_FRAMES {
                    f.say(format!("{path}.copies.{field}"), format!("{frames} frames; at most {MAX_FRAMES}"));
                }
            }
        }
        FinishOperation::Reverse {}
        | FinishOperation::Place { .. }
        | FinishOperation::Smooth { .. }
        | FinishOperation::Thicken { .. } => {}
    }
}
