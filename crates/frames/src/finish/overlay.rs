//! Frames of a shot in which some elements have finished frames of their own.

use super::SharedFrames;
use crate::{Frame, Frames, Parts, RunError};
use shot::{Id, fingerprint::Fingerprint};
use std::ops::RangeInclusive;

pub(super) struct Overlay {
    base: SharedFrames,
    elements: Vec<(Id, SharedFrames)>,
}

impl Overlay {
    /// `base`, with the parts of some elements from others. Outside its range,
    /// an element's frames stand, or go round if they do.
    pub fn new(base: SharedFrames, elements: Vec<(Id, SharedFrames)>) -> Self {
        Self { base, elements }
    }
}

impl Frames for Overlay {
    fn range(&self) -> RangeInclusive<u32> {
        self.base.range()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        let mut prints = vec![self.base.fingerprint(number)];
        for (_, frames) in &self.elements {
            prints.push(frames.fingerprint(frames.at(i64::from(number))));
        }
        let ids: Vec<Id> = self.elements.iter().map(|(id, _)| *id).collect();
        super::digest("overlay", &ids, &prints)
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        if let Parts::Element(wanted) = parts
            && let Some((_, frames)) = self.elements.iter().find(|(id, _)| id == wanted)
        {
            return frames.read(frames.at(i64::from(number)), parts, frame);
        }
        self.base.read(number, parts, frame)?;
        for (id, frames) in &self.elements {
            if !parts.has(*id) {
                continue;
            }
            let mut own = Frame::default();
            frames.read(frames.at(i64::from(number)), &Parts::Element(*id), &mut own)?;
            if let Some(bodies) = own.bodies.remove(id) {
                frame.bodies.insert(*id, bodies);
            }
            frame.meshes.remove(id);
            if let Some(mesh) = own.meshes.remove(id) {
                frame.meshes.insert(*id, mesh);
            }
            frame.particles.remove(id);
            if let Some(particles) = own.particles.remove(id) {
                frame.particles.insert(*id, particles);
            }
        }
        frame.fingerprint = self.fingerprint(number).ok_or(RunError::Missing { frame: number })?;
        Ok(())
    }
}
