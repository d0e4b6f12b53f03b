//! Finished frames that take longer than a frame's time to make: they are made in the background
//! and kept beside the run, each under its fingerprint, so that the Viewport shows them at once.
//! Films and exports make their own: what is kept is rounded as frames on disk are.

use crate::jobs::{AtEnd, guarded, lock};
use crate::studio::{Event, Studio};
use shot::Shot;
use std::sync::Arc;
use std::time::Duration;

impl Studio {
    /// Told that a finished frame of a shot took so long: if that is longer than a frame's time,
    /// the others are made in the background.
    pub fn note_finishing_time(self: &Arc<Self>, shot: i64, document: &Shot, took: Duration) {
        let time = 1.0 / document.timing.fps;
        if !document.is_finished()
            || took.as_secs_f32() <= time
            || !lock(&self.slow_steps.at_work).insert(shot)
        {
            return;
        }
        let studio = self.clone();
        let over = AtEnd::new(move || {
            lock(&studio.slow_steps.at_work).remove(&shot);
        });
        let studio = self.clone();
        let runtime = tokio::runtime::Handle::current();
        let work = move || {
            let _over = over;
            if let Err(error) =
                guarded(|| studio.finish_all(&runtime, shot).map_err(|error| error.to_string()))
            {
                tracing::warn!("finished frames of shot {shot}: {error}");
            }
            studio.tell(Event::Finishing { shot, done: 0, total: 0 });
        };
        if let Err(error) = std::thread::Builder::new().name(format!("finish {shot}")).spawn(work) {
            tracing::warn!("finished frames of shot {shot}: {error}");
        }
    }

    /// Makes the finished frames that are not kept yet, until the shot changes or is computed.
    fn finish_all(&self, runtime: &tokio::runtime::Handle, shot: i64) -> crate::error::Result<()> {
        let (document, revision) = runtime.block_on(self.head(shot))?;
        let run = runtime.block_on(self.store.current_run(shot))?;
        let runs = runtime.block_on(self.runs_of(&document, &run))?;
        let kept = runs.run.finished();
        let _lock = kept.lock()?;
        let frames = runs.frames(&document)?;
        let range = frames.range();
        let total = range.end() - range.start() + 1;
        for (done, number) in (1..).zip(range) {
            let changed = runtime.block_on(self.head(shot))?.1 != revision;
            if changed || self.playing.is_on(shot) {
                return Ok(());
            }
            let Some(print) = frames.fingerprint(number) else { continue };
            if kept.header(number).is_none_or(|header| header.fingerprint != print) {
                kept.write(&frames.frame(number)?)?;
                self.tell(Event::Finishing { shot, done, total });
            }
        }
        Ok(())
    }
}
