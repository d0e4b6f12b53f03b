//! Another frame rate, at which everything stays where it is in seconds.

use crate::finish::FinishOperation;
use crate::motion::Channel;
use crate::particles::Trigger;
use crate::{Element, ElementKind, Shot, Wake};

/// The path whose keys have frames for values.
const RUN_FRAME: &str = "kind.finish.operation.retime.run_frame";

/// From the frames of one rate to those of another.
#[derive(Clone, Copy)]
struct Rescale {
    first: f64,
    ratio: f64,
}

impl Rescale {
    fn at(&self, frame: f64) -> f64 {
        self.first + (frame - self.first) * self.ratio
    }

    fn frame(&self, frame: u32) -> u32 {
        self.at(f64::from(frame)).round().clamp(0.0, f64::from(crate::LAST_FRAME)) as u32
    }

    fn maybe(&self, frame: &mut Option<u32>) {
        *frame = frame.map(|frame| self.frame(frame));
    }

    /// A number of frames, at least so many.
    fn length(&self, frames: u32, least: u32) -> u32 {
        let scaled = (f64::from(frames) * self.ratio).round();
        (scaled.clamp(0.0, f64::from(crate::MAX_FRAMES)) as u32).max(least)
    }

    fn channel(&self, path: &str, channel: &mut Channel) {
        for key in &mut channel.keys {
            key.frame = self.at(key.frame);
            for handle in [&mut key.outgoing, &mut key.incoming].into_iter().flatten() {
                handle.frames *= self.ratio;
            }
            if path == RUN_FRAME {
                key.value = key.value.with_parts(|part| self.at(key.value.part(part)));
            }
        }
    }

    fn operation(&self, operation: &mut FinishOperation) {
        match operation {
            FinishOperation::Trim { from_frame, to_frame } => {
                (*from_frame, *to_frame) = (self.frame(*from_frame), self.frame(*to_frame));
            }
            FinishOperation::Retime { frames, run_frame } => {
                *frames = self.length(*frames, 1);
                *run_frame = self.at(f64::from(*run_frame)) as f32;
            }
            FinishOperation::Shift { frames } => {
                *frames = (f64::from(*frames) * self.ratio).round() as i32;
            }
            FinishOperation::Smooth { radius } => *radius *= self.ratio as f32,
            FinishOperation::Copies { delay_frames, delay_jitter_frames, .. } => {
                *delay_frames = (f64::from(*delay_frames) * self.ratio).round() as i32;
                *delay_jitter_frames = self.length(*delay_jitter_frames, 0);
            }
            FinishOperation::Loop { frames, from_frame, overlap, .. } => {
                *frames = self.length(*frames, 2);
                *from_frame = self.frame(*from_frame);
                *overlap = self.length(*overlap, 0);
            }
            FinishOperation::Reverse {}
            | FinishOperation::Join { .. }
            | FinishOperation::Blend { .. }
            | FinishOperation::SmoothShape { .. }
            | FinishOperation::Thicken { .. }
            | FinishOperation::ParticleMesh { .. }
            | FinishOperation::Subdivide { .. }
            | FinishOperation::Place { .. } => {}
        }
    }

    fn element(&self, element: &mut Element) {
        element.channels.iter_mut().for_each(|(path, channel)| self.channel(path, channel));
        match &mut element.kind {
            ElementKind::Solid(solid) => {
                if let Some(Wake::Frame(frame)) = &mut solid.body.wake {
                    *frame = self.frame(*frame);
                }
                if let Some(animation) = &mut solid.animation {
                    animation.start_frame = self.at(f64::from(animation.start_frame)).round() as i32;
                }
            }
            ElementKind::Force(force) => {
                self.maybe(&mut force.from_frame);
                self.maybe(&mut force.to_frame);
            }
            ElementKind::Particles(particles) => {
                self.maybe(&mut particles.emission.from_frame);
                self.maybe(&mut particles.emission.to_frame);
                for event in &mut particles.events {
                    if let Trigger::Frame { frame } = &mut event.trigger {
                        *frame = self.frame(*frame);
                    }
                }
            }
            ElementKind::Finish(finish) => self.operation(&mut finish.operation),
            ElementKind::Region(_)
            | ElementKind::Curve(_)
            | ElementKind::Camera(_)
            | ElementKind::Sun(_)
            | ElementKind::Sky(_)
            | ElementKind::AreaLight(_) => {}
        }
    }
}

impl Shot {
    /// The shot with another frame rate: keys, spans and moments stay where they are in seconds,
    /// whole frames to the nearest one, and so does the length. Formulas in `time` need no change;
    /// those in `frame` count the frames of the new rate.
    #[must_use]
    pub fn at_rate(&self, fps: f32) -> Self {
        let mut shot = self.clone();
        let ratio = f64::from(fps) / f64::from(self.timing.fps);
        let of = Rescale { first: f64::from(self.timing.first), ratio };
        shot.timing.fps = fps;
        shot.timing.last = shot.timing.first + of.length(self.timing.count(), 1) - 1;
        shot.timing.loop_frames = self.timing.loop_frames.map(|frames| of.length(frames, 2));
        of.maybe(&mut shot.poster);
        shot.channels.iter_mut().for_each(|(path, channel)| of.channel(path, channel));
        shot.elements.iter_mut().for_each(|element| of.element(element));
        shot
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::force::{Force, ForceKind};
    use crate::motion::Sampler;
    use crate::{Moves, Shape};

    fn shot() -> Shot {
        let mut shot = Shot::empty("Rate");
        let mut block = Element::solid("Block", Shape::sphere(0.2), Moves::Animated);
        block.as_solid_mut().unwrap().body.wake = Some(Wake::Frame(25));
        let way = Channel::keyed([(1.0, 0.0f32), (13.0, 2.0), (25.0, 1.0)]);
        block.channels.insert("placement.position_m[0]".to_owned(), way);
        let formula = Channel::expression("sin(3 * time)");
        block.channels.insert("placement.position_m[1]".to_owned(), formula);
        shot.add(block);
        let down = Force::new(ForceKind::Gravity { acceleration: glam::Vec3::NEG_Y });
        let down = Force { from_frame: Some(13), to_frame: Some(49), ..down };
        shot.add(Element::new("Down", ElementKind::Force(down)));
        shot
    }

    #[test]
    fn everything_stays_where_it_is_in_seconds() {
        let (old, new) = (shot(), shot().at_rate(60.0));
        assert_eq!(new.faults(), []);
        assert_eq!((new.timing.first, new.timing.count()), (1, 240));
        let [before, after] = [&old, &new].map(|shot| Sampler::new(shot).unwrap());
        for seconds in [0.0, 0.17, 0.5, 0.8, 1.3] {
            let at = |sampler: &Sampler, fps: f64| {
                sampler.at(1.0 + seconds * fps).unwrap().named("Block").unwrap().placement.position_m
            };
            assert!(at(&before, 24.0).distance(at(&after, 60.0)) < 1e-5, "{seconds} s");
        }
        let force = new.named("Down").unwrap().as_force().unwrap();
        assert_eq!((force.from_frame, force.to_frame), (Some(31), Some(121)));
        assert_eq!(new.named("Block").unwrap().as_solid().unwrap().body.let_go_frame(), Some(61));
    }

    #[test]
    fn there_and_back_is_the_same_shot() {
        assert_eq!(shot().at_rate(48.0).at_rate(24.0), shot());
    }

    #[test]
    fn finishing_steps_births_and_events_move_with_the_rate() {
        use crate::finish::Finish;
        use crate::particles::{Action, Emission, ParticleEvent, Particles};
        let mut shot = Shot::empty("Rate");
        shot.poster = Some(25);
        shot.timing.loop_frames = Some(48);
        let mut step = |operation| {
            let id = shot.add(Element::new("Step", ElementKind::Finish(Finish::new(operation))));
            shot.elements.iter_mut().find(|e| e.id == id).unwrap().name = format!("Step {}", id.0);
            id
        };
        let trim = step(FinishOperation::Trim { from_frame: 13, to_frame: 25 });
        let shift = step(FinishOperation::Shift { frames: -12 });
        let grid: crate::Copies =
            serde_json::from_str(r#"{"count": [3, 1, 1], "spacing_m": [1, 1, 1]}"#).unwrap();
        let copies = |delay_frames, delay_jitter_frames| FinishOperation::Copies {
            grid: grid.clone(),
            delay_frames,
            delay_jitter_frames,
            size_variation: 0.5,
        };
        let late = step(copies(-6, 48));
        let around =
            step(FinishOperation::Loop { frames: 24, from_frame: 25, overlap: 6, first_stands: false });
        let retime = step(FinishOperation::Retime { frames: 96, run_frame: 1.0 });
        let line = Channel::keyed([(1.0, 1.0f32), (97.0, 49.0)]);
        let of = shot.elements.iter_mut().find(|e| e.id == retime).unwrap();
        of.channels.insert(RUN_FRAME.to_owned(), line);
        let dust = Particles {
            emission: Emission { from_frame: Some(13), to_frame: Some(37), ..Emission::default() },
            events: vec![ParticleEvent {
                trigger: Trigger::Frame { frame: 49 },
                action: Action::Die {},
                probability: 1.0,
            }],
            ..Particles::default()
        };
        shot.add(Element::new("Dust", ElementKind::Particles(dust)));
        let new = shot.at_rate(12.0);
        assert_eq!((new.poster, new.timing.loop_frames), (Some(13), Some(24)));
        let operation = |id| new.element(id).unwrap().as_finish().unwrap().operation.clone();
        assert_eq!(operation(trim), FinishOperation::Trim { from_frame: 7, to_frame: 13 });
        assert_eq!(operation(shift), FinishOperation::Shift { frames: -6 });
        assert_eq!(operation(late), copies(-3, 24));
        assert_eq!(
            operation(around),
            FinishOperation::Loop { frames: 12, from_frame: 13, overlap: 3, first_stands: false }
        );
        assert_eq!(operation(retime), FinishOperation::Retime { frames: 48, run_frame: 1.0 });
        let keys = &new.element(retime).unwrap().channels[RUN_FRAME].keys;
        assert_eq!((keys[1].frame, keys[1].value.part(0)), (49.0, 25.0));
        let dust = new.named("Dust").unwrap().as_particles().unwrap();
        assert_eq!((dust.emission.from_frame, dust.emission.to_frame), (Some(7), Some(19)));
        assert_eq!(dust.events[0].trigger, Trigger::Frame { frame: 25 });
    }
}
