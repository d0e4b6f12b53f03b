//! Playing is baking: frames that are missing or stale are computed in order,
//! in the background, into the shot's current run.

use crate::error::Result;
use crate::studio::{Event, Studio};
use frames::RunFolder;
use shot::{Shot, fingerprints};
use simulate::{Bake, Outcome, bake};
use std::collections::HashMap;
use std::ops::ControlFlow;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Instant;

/// The shots being computed.
#[derive(Default)]
pub struct Playing {
    shots: Mutex<HashMap<i64, Arc<Signals>>>,
}

#[derive(Default)]
struct Signals {
    stop: AtomicBool,
    changed: AtomicBool,
}

impl Playing {
    /// Tells the computing of a shot that what it depends on has changed.
    pub fn changed(&self, shot: i64, before: &Shot, now: &Shot) {
        let shots = self.shots.lock().expect("no panic with the lock");
        if let Some(signals) = shots.get(&shot)
            && fingerprints(before) != fingerprints(now)
        {
            signals.changed.store(true, Ordering::Release);
        }
    }

    /// Whether a shot is being computed.
    pub fn is_on(&self, shot: i64) -> bool {
        self.shots.lock().expect("no panic with the lock").contains_key(&shot)
    }

    /// Stops computing a shot, after the frame at hand.
    pub fn stop(&self, shot: i64) {
        if let Some(signals) = self.shots.lock().expect("no panic with the lock").get(&shot) {
            signals.stop.store(true, Ordering::Release);
        }
    }
}

impl Studio {
    /// Starts computing a shot's missing frames, unless that is under way.
    pub async fn play(self: &Arc<Self>, shot: i64) -> Result<()> {
        let run = self.store.current_run(shot).await?;
        let folder = self.folder(&run)?;
        let signals = Arc::new(Signals::default());
        {
            let mut shots = self.playing.shots.lock().expect("no panic with the lock");
            if let Some(running) = shots.get(&shot) {
                // Asked to stop a moment ago: it goes on instead.
                running.stop.store(false, Ordering::Release);
                running.changed.store(true, Ordering::Release);
                return Ok(());
            }
            shots.insert(shot, signals.clone());
        }
        self.store.begin_bake(shot).await?;
        let studio = self.clone();
        let runtime = tokio::runtime::Handle::current();
        std::thread::Builder::new().name(format!("bake {shot}")).spawn(move || {
            let message = loop {
                signals.changed.store(false, Ordering::Release);
                let result = studio.compute(&runtime, shot, &folder, &signals);
                // Whether to go round again is decided with the list locked, so
                // that a change or a new start is not missed.
                let mut shots = studio.playing.shots.lock().expect("no panic with the lock");
                let again = signals.changed.load(Ordering::Acquire) && !signals.stop.load(Ordering::Acquire);
                if !again {
                    shots.remove(&shot);
                    break result.err();
                }
            };
            if let Err(error) = runtime.block_on(studio.store.end_bake(shot)) {
                tracing::error!("{error}");
            }
            studio.tell(Event::BakeEnded { shot, message });
        })?;
        Ok(())
    }

    fn compute(
        &self,
        runtime: &tokio::runtime::Handle,
        shot: i64,
        run: &RunFolder,
        signals: &Signals,
    ) -> std::result::Result<Outcome, String> {
        let (document, revision) = runtime.block_on(self.head(shot)).map_err(|error| error.to_string())?;
        let meshes = self.loader.meshes(&self.data, &document).map_err(|error| error.to_string())?;
        let frames = document.timing.frames();
        let job = Bake { shot: &document, meshes: &meshes, run, revision: revision as u32, frames };
        let (start, mut done) = (Instant::now(), 0u32);
        bake(&job, |progress| {
            done += 1;
            let seconds_left =
                start.elapsed().as_secs_f32() / done as f32 * (progress.last - progress.frame) as f32;
            self.tell(Event::Frame { shot, frame: progress.frame, last: progress.last, seconds_left });
            let stop = signals.stop.load(Ordering::Acquire) || signals.changed.load(Ordering::Acquire);
            if stop { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })
        .map_err(|error| error.to_string())
    }
}
