//! A body's path along a run.

use super::RunFolder;
use crate::{Frame, Parts};
use serde::Serialize;
use shot::Id;

/// A body's path along the run, for plots.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Track {
    /// Frames, rising.
    pub frames: Vec<u32>,
    /// Height above the origin, metres.
    pub height_m: Vec<f32>,
    /// Speed, m/s.
    pub speed_m_s: Vec<f32>,
}

impl RunFolder {
    /// A body's height and speed over all frames that are there.
    pub fn track(&self, element: Id, copy: usize) -> Track {
        let mut track = Track::default();
        let mut frame = Frame::default();
        let systems = self.systems();
        for number in self.headers().into_keys() {
            if self.read_parts(number, &systems, &Parts::Element(element), &mut frame).is_err() {
                continue;
            }
            let Some(bodies) = frame.bodies.get(&element).filter(|bodies| copy < bodies.len()) else {
                continue;
            };
            track.frames.push(number);
            track.height_m.push(bodies.positions[copy].y);
            track.speed_m_s.push(bodies.velocities[copy].length());
        }
        track
    }
}
