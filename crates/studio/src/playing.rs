//! Playing is baking: frames that are missing or stale are computed in order,
//! in the background, into the shot's current run.

use crate::at_work::Signals;
use crate::error::Result;
use crate::jobs::{AtEnd, guarded, lock};
use crate::studio::{Event, Studio};
use frames::RunFolder;
use shot::SystemId;
use simulate::{Bake, Cancel, Outcome, bake_rounds};
use std::ops::ControlFlow;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex};
use std::time::Instant;

impl Studio {
    /// Starts computing a shot's missing frames, of these systems and those that they
    /// read, or of all. What is under way goes on with the new choice.
    pub async fn play(self: &Arc<Self>, shot: i64, systems: Option<Vec<SystemId>>) -> Result<()> {
        let run = self.store.current_run(shot).await?;
        let folder = self.folder(&run);
        let signals = Arc::new(Signals { systems: Mutex::new(systems.clone()), ..Signals::default() });
        {
            let mut shots = lock(&self.playing.shots);
            if let Some(running) = shots.get(&shot) {
                // Asked to stop a moment ago: it goes on instead.
                running.stop.store(false, Ordering::Release);
                *lock(&running.systems) = systems;
                running.changed.store(true, Ordering::Release);
                return Ok(());
            }
            shots.insert(shot, signals.clone());
        }
        // Whatever happens from here on, the list is rid of the job.
        let (studio, listed) = (self.clone(), signals.clone());
        let off_the_list = AtEnd::new(move || studio.playing.remove(shot, &listed));
        let job = self.store.begin_bake(shot).await?;
        let studio = self.clone();
        let runtime = tokio::runtime::Handle::current();
        let work = move || {
            let off_the_list = off_the_list;
            let message = studio.work(&runtime, shot, &folder, &signals).err();
            if let Err(error) = runtime.block_on(studio.store.end_bake(job)) {
                tracing::error!("{error}");
            }
            drop(off_the_list);
            studio.tell(Event::BakeEnded { shot, message });
        };
        if let Err(error) = std::thread::Builder::new().name(format!("bake {shot}")).spawn(work) {
            self.store.end_bake(job).await?;
            return Err(error.into());
        }
        Ok(())
    }

    /// Computes until nothing has changed meanwhile.
    fn work(
        &self,
        runtime: &tokio::runtime::Handle,
        shot: i64,
        folder: &RunFolder,
        signals: &Arc<Signals>,
    ) -> std::result::Result<(), String> {
        loop {
            signals.changed.store(false, Ordering::Release);
            let result = guarded(|| self.compute(runtime, shot, folder, signals));
            // Whether to go round again is decided with the list locked, so
            // that a change or a new start is not missed.
            let mut shots = lock(&self.playing.shots);
            let again = signals.changed.load(Ordering::Acquire) && !signals.stop.load(Ordering::Acquire);
            if !again {
                shots.remove(&shot);
                return result.map(|_| ());
            }
        }
    }

    fn compute(
        &self,
        runtime: &tokio::runtime::Handle,
        shot: i64,
        run: &RunFolder,
        signals: &Arc<Signals>,
    ) -> std::result::Result<Outcome, String> {
        let (document, revision) = runtime.block_on(self.head(shot)).map_err(|error| error.to_string())?;
        let meshes = self.loader.meshes(&self.data, &document).map_err(|error| error.to_string())?;
        let frames = document.timing.frames();
        let initial_state =
            self.loader.initial_state(&self.data, &document).map_err(|error| error.to_string())?;
        let systems = lock(&signals.systems).clone();
        let (revision, systems) = (revision as u32, systems.as_deref());
        let job = Bake {
            shot: &document,
            meshes: &meshes,
            run,
            revision,
            frames,
            systems,
            initial_state: initial_state.as_deref(),
        };
        let (start, mut done) = (Instant::now(), 0u32);
        let asked = signals.clone();
        let cancel =
            Cancel::when(move || asked.stop.load(Ordering::Acquire) || asked.changed.load(Ordering::Acquire));
        bake_rounds(&job, &self.rounds, &cancel, |progress| {
            done += 1;
            let left = progress.last.saturating_sub(progress.frame);
            let seconds_left = start.elapsed().as_secs_f32() / done as f32 * left as f32;
            self.tell(Event::Frame { shot, frame: progress.frame, last: progress.last, seconds_left });
            let stop = signals.stop.load(Ordering::Acquire) || signals.changed.load(Ordering::Acquire);
            if stop { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })
        .map_err(|error| error.to_string())
    }
}
