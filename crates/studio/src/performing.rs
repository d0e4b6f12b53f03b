//! A shot that is played while a hand moves things in it. Nothing of it is
//! written to the run: the run has what the keys give.

use crate::error::{Error, Result};
use crate::studio::Studio;
use shot::{
    Id, Shot,
    motion::{Performance, Value},
};
use simulate::{Bake, Simulation, resume};
use std::sync::Arc;

/// A value that a hand gives.
pub(crate) type Given = (Option<Id>, String, Value);

/// The simulation at a frame, and what was done up to it.
struct Performing {
    shot: Shot,
    simulation: Simulation,
    performance: Performance,
}

/// A performance under way.
pub(crate) struct Stand {
    performing: Option<Box<Performing>>,
    frame: u32,
    from: u32,
}

/// Prepares to perform from a frame on.
pub(crate) async fn begin(studio: Arc<Studio>, shot: i64, from: u32) -> Result<Stand> {
    let (document, _) = studio.head(shot).await?;
    if !document.timing.frames().contains(&from) || from == document.timing.last {
        let timing = document.timing;
        return Err(Error::Bad(format!(
            "frame {from} is outside {} to {}, where there is something to perform",
            timing.first,
            timing.last.saturating_sub(1)
        )));
    }
    // The processor is needed here.
    studio.playing.stop(shot);
    let run = studio.folder(&studio.store.current_run(shot).await?);
    let performing = crate::jobs::blocking(move || {
        let meshes = studio.loader.meshes(&studio.data, &document)?;
        let initial_state = studio.loader.initial_state(&studio.data, &document)?;
        let job = Bake {
            shot: &document,
            meshes: &meshes,
            run: &run,
            revision: 0,
            frames: document.timing.frames(),
            systems: None,
            initial_state: initial_state.as_deref(),
        };
        let simulation = resume(&job, from).map_err(|error| Error::Bad(error.to_string()))?;
        Ok(Box::new(Performing { shot: document, simulation, performance: Performance::default() }))
    })
    .await?;
    let frame = performing.simulation.frame();
    Ok(Stand { performing: Some(performing), frame, from })
}

impl Performing {
    fn advance(&mut self, given: Vec<Given>) -> Result<Vec<u8>> {
        let frame = self.simulation.frame();
        let acting = (self.simulation.acting_frame(frame), self.simulation.acting_frame(frame + 1));
        if !given.is_empty() {
            let now = self.simulation.now().clone();
            for (element, path, value) in given {
                self.performance.take(&now, acting, element, &path, value).map_err(Error::Bad)?;
            }
            let live = self.performance.live(&self.shot);
            self.simulation.set_motion(&live).map_err(|error| Error::Bad(error.to_string()))?;
        }
        let mut frame = self.simulation.advance().map_err(|error| Error::Bad(error.to_string()))?;
        self.simulation.place_others(&mut frame);
        Ok(frames::wire(&frame, frames::Thinning::NONE))
    }
}

impl Stand {
    /// The frame it is at.
    pub fn frame(&self) -> u32 {
        self.frame
    }

    /// Works off the async threads; what was done stays, whatever fails.
    async fn with<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&mut Performing) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let mut performing =
            self.performing.take().ok_or_else(|| Error::Internal("what was performed is lost".to_owned()))?;
        let (performing, result) = crate::jobs::blocking(move || {
            let result = work(&mut performing);
            Ok((performing, result))
        })
        .await?;
        self.frame = performing.simulation.frame();
        self.performing = Some(performing);
        result
    }

    /// Goes on towards the frame to begin at, and names the frame it came to;
    /// none once it is there.
    pub async fn next_to_prepare(&mut self) -> Result<Option<u32>> {
        if self.frame >= self.from {
            return Ok(None);
        }
        self.with(|performing| performing.advance(Vec::new())).await?;
        Ok(Some(self.frame))
    }

    /// The frame it is at, for the Viewport.
    pub async fn written(&mut self) -> Result<Vec<u8>> {
        self.with(|performing| {
            let mut frame = performing.simulation.write();
            performing.simulation.place_others(&mut frame);
            Ok(frames::wire(&frame, frames::Thinning::NONE))
        })
        .await
    }

    /// Goes to the next frame, at which the hand gives these values.
    pub async fn step(&mut self, given: Vec<Given>) -> Result<Vec<u8>> {
        self.with(|performing| performing.advance(given)).await
    }

    /// What was done.
    pub fn end(self) -> Performance {
        self.performing.map(|performing| performing.performance).unwrap_or_default()
    }
}
