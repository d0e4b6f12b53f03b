//! The comparison of sizes as a job: one a shot, of which the last is kept.

use crate::at_work::{Comparison, ComparisonProgress};
use crate::enough::{Enough, FACTORS, enough};
use crate::error::Result;
use crate::jobs::{guarded, lock};
use crate::studio::{Event, Studio};
use serde::Serialize;
use shot::Shot;
use simulate::Cancel;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use utoipa::ToSchema;

/// What is known of the comparison of a shot's sizes.
#[derive(Clone, Debug, Default, Serialize, ToSchema)]
pub struct ComparisonState {
    /// Whether it is at work.
    pub at_work: bool,
    /// Frames computed, of all sizes.
    pub done: u32,
    /// Frames to compute, of all sizes; 0: none was asked for.
    pub total: u32,
    /// Whether the shot has changed since it began.
    pub outdated: bool,
    /// What was found.
    pub result: Option<Enough>,
    /// Why nothing was found.
    pub message: Option<String>,
}

impl Studio {
    /// Begins to compare sizes; one at work for the shot ends.
    pub async fn begin_comparison(self: &Arc<Self>, shot: i64) -> Result<()> {
        let (document, revision) = self.head(shot).await?;
        let total = document.timing.frames().count() as u32 * FACTORS.len() as u32;
        let progress = Mutex::new(ComparisonProgress { total, ..ComparisonProgress::default() });
        let job = Arc::new(Comparison { revision, stop: AtomicBool::new(false), progress });
        if let Some(before) = lock(&self.comparisons.of).insert(shot, job.clone()) {
            before.stop.store(true, Ordering::Release);
        }
        // The processor is needed here.
        self.playing.stop(shot);
        let (studio, own) = (self.clone(), job.clone());
        let work = move || {
            let result = guarded(|| studio.compare(shot, &document, &own).map_err(|error| error.to_string()));
            studio.end_comparison(shot, &own, result);
        };
        if let Err(error) = std::thread::Builder::new().name(format!("compare {shot}")).spawn(work) {
            self.end_comparison(shot, &job, Err(error.to_string()));
        }
        Ok(())
    }

    /// Keeps what a comparison came to, and tells it unless another has begun since.
    fn end_comparison(&self, shot: i64, job: &Arc<Comparison>, result: std::result::Result<Enough, String>) {
        lock(&job.progress).result = Some(result);
        if lock(&self.comparisons.of).get(&shot).is_some_and(|last| Arc::ptr_eq(last, job)) {
            self.tell(Event::Enough { shot, done: 0, total: 0 });
        }
    }

    fn compare(&self, shot: i64, document: &Shot, job: &Arc<Comparison>) -> Result<Enough> {
        let meshes = self.loader.meshes(&self.data, document)?;
        let initial_state = self.loader.initial_state(&self.data, document)?;
        let asked = job.clone();
        let cancel = Cancel::when(move || asked.stop.load(Ordering::Acquire));
        let mut tell = |done, total| {
            (lock(&job.progress).done, lock(&job.progress).total) = (done, total);
            self.tell(Event::Enough { shot, done, total });
        };
        enough(document, &meshes, initial_state.as_deref(), &cancel, &mut tell)
    }

    /// Ends the comparison of a shot's sizes, if one is at work.
    pub fn stop_comparison(&self, shot: i64) {
        if let Some(job) = lock(&self.comparisons.of).get(&shot) {
            job.stop.store(true, Ordering::Release);
        }
    }

    /// What is known of the comparison of a shot's sizes.
    ///
    /// # Errors
    /// There is no such shot.
    pub async fn comparison(&self, shot: i64) -> Result<ComparisonState> {
        let (_, revision) = self.head(shot).await?;
        let Some(job) = lock(&self.comparisons.of).get(&shot).cloned() else {
            return Ok(ComparisonState::default());
        };
        let ComparisonProgress { done, total, result } = lock(&job.progress).clone();
        let (at_work, outdated) = (result.is_none(), job.revision != revision);
        let (result, message) = match result {
            Some(Ok(found)) => (Some(found), None),
            Some(Err(message)) => (None, Some(message)),
            None => (None, None),
        };
        Ok(ComparisonState { at_work, done, total, outdated, result, message })
    }
}
