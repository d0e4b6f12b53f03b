//! The application's state: the data folder, the store, and the jobs in progress.

use crate::assets::Loader;
use crate::at_work::{Comparisons, Films, Playing, SlowSteps};
use crate::error::{Error, Result};
use crate::jobs::guarded;
use crate::store::{RunRow, Step, Store};
use frames::{Frame, Frames, Parts, RunError, RunFolder};
use serde::Serialize;
use shot::{Shot, fingerprint::Fingerprint};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use tokio::sync::{Semaphore, broadcast};
use utoipa::ToSchema;

/// Something that happened, told to every open page.
#[derive(Clone, Debug, Serialize, ToSchema)]
#[serde(tag = "what", rename_all = "snake_case")]
pub enum Event {
    /// A shot has a new revision.
    Shot { shot: i64, revision: i64 },
    /// A frame was computed.
    Frame { shot: i64, frame: u32, last: u32, seconds_left: f32 },
    /// Computing ended; `message` says why if it failed.
    BakeEnded { shot: i64, message: Option<String> },
    /// Runs were kept, renamed or dropped.
    Runs { shot: i64 },
    /// A film goes on: frames done of all, the ranges of frames that are there, and their size in bytes.
    Film { shot: i64, film: i64, done: u32, total: u32, seconds_left: f32, there: Vec<[u32; 2]>, bytes: u64 },
    /// A film ended or was changed.
    Films { shot: i64 },
    /// Sizes of liquids are compared: so many frames of all; 0 of 0 when that is over.
    Enough { shot: i64, done: u32, total: u32 },
    /// Finished frames that take long are made: so many of all; 0 of 0 when that is over.
    Finishing { shot: i64, done: u32, total: u32 },
}

/// So many files from outside are read at a time; others wait.
const IMPORTS: usize = 2;
/// Stack of a thread that reads a file from outside, bytes: parsers may recurse deeply.
const IMPORT_STACK: usize = 64 << 20;

/// The part of a frame that a page shows.
#[derive(Clone, Debug)]
pub struct Wanted {
    pub parts: Parts,
    /// About so many particles and so many vertices of meshes at most; none: all.
    pub most: Option<usize>,
}

impl Wanted {
    pub const ALL: Self = Self { parts: Parts::All, most: None };

    /// All but some elements.
    ///
    /// # Errors
    /// More elements than a shot may have.
    pub fn without(elements: &[u32], most: Option<usize>) -> Result<Self> {
        if elements.len() > shot::MAX_ELEMENTS {
            let message = format!("without: {} elements; at most {}", elements.len(), shot::MAX_ELEMENTS);
            return Err(Error::Bad(message));
        }
        Ok(Self { parts: Parts::without(elements.iter().map(|id| shot::Id(*id))), most })
    }
}

/// The application.
pub struct Studio {
    pub data: PathBuf,
    pub store: Store,
    pub loader: Arc<Loader>,
    pub events: broadcast::Sender<Event>,
    pub playing: Playing,
    pub films: Films,
    pub slow_steps: SlowSteps,
    pub comparisons: Comparisons,
    /// Rounds of runs whose shots go round.
    pub rounds: frames::finish::Rounds,
    /// Buffer for reading frames.
    spare: Mutex<Frame>,
    /// Files from outside that are being read.
    imports: Semaphore,
    /// Held while the application runs.
    _lock: File,
}

impl Studio {
    /// A frame of a run, or one finished from it, as the Viewport takes it, with
    /// its fingerprint: only what is wanted. Not to be called where others wait.
    pub fn on_wire(
        &self,
        folder: &RunFolder,
        frames: &dyn Frames,
        number: u32,
        wanted: &Wanted,
    ) -> Result<(Fingerprint, Vec<u8>)> {
        // A request that finds the shared memory in use allocates its own.
        let (mut lent, mut own) = (self.spare.try_lock(), Frame::default());
        let frame = lent.as_deref_mut().unwrap_or(&mut own);
        if let Err(error) = frames.read(number, &wanted.parts, frame) {
            let damaged = matches!(error, RunError::Frame { .. });
            return Err(if damaged && folder.drop_damaged(0..=shot::LAST_FRAME) > 0 {
                Error::NotFound(format!(
                    "frame {number} (its file was damaged and is removed; play to compute it again)"
                ))
            } else {
                error.into()
            });
        }
        let thinning = wanted.most.map_or(frames::Thinning::NONE, |most| frames::thin(frame, most));
        Ok((frame.fingerprint, frames::wire(frame, thinning)))
    }

    /// Reads something that came from outside: a few at a time, each on a
    /// thread of its own whose panic is an error.
    pub async fn import<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let _turn = self.imports.acquire().await.expect("it is never closed");
        let (send, receive) = tokio::sync::oneshot::channel();
        let reading = move || {
            let result = guarded(|| Ok(work()));
            // Nobody may be waiting any more.
            let _ = send.send(result);
        };
        std::thread::Builder::new().name("import".to_owned()).stack_size(IMPORT_STACK).spawn(reading)?;
        match receive.await {
            Ok(Ok(result)) => result,
            Ok(Err(panic)) => Err(Error::Bad(format!("the file cannot be read: {panic}"))),
            Err(_) => Err(Error::Internal("the reading of a file ended early".to_owned())),
        }
    }

    /// Opens a data folder, makes it if it is not there, and goes on with what
    /// was at work when it was last closed.
    pub async fn open(data: &Path) -> Result<Arc<Self>> {
        let cannot = |error: std::io::Error| {
            Error::Bad(format!("the data folder {} cannot be written: {error}", data.display()))
        };
        for part in ["assets", "runs", "films", "pictures"] {
            std::fs::create_dir_all(data.join(part)).map_err(cannot)?;
        }
        let lock = File::options()
            .create(true)
            .truncate(false)
            .write(true)
            .open(data.join("lock"))
            .map_err(cannot)?;
        lock.try_lock().map_err(|_| {
            Error::Bad(format!("the data folder {} is in use by another bright-ripple; close it or name another with --data-dir", data.display()))
        })?;
        let store = Store::open(&data.join("studio.db")).await?;
        let studio = Arc::new(Self {
            data: data.to_owned(),
            store,
            loader: Arc::default(),
            events: broadcast::channel(256).0,
            playing: Playing::default(),
            films: Films::default(),
            slow_steps: SlowSteps::default(),
            comparisons: Comparisons::default(),
            rounds: frames::finish::Rounds::default(),
            spare: Mutex::default(),
            imports: Semaphore::new(IMPORTS),
            _lock: lock,
        });
        studio.tidy().await?;
        studio.upgrade_runs()?;
        for (job, shot) in studio.store.unfinished_bakes().await? {
            studio.play(shot, None).await?;
            studio.store.end_bake(job).await?;
        }
        studio.resume_films().await?;
        Ok(studio)
    }

    /// Removes what nothing in the store names: folders of runs and films that
    /// were half built or half dropped when the application ended.
    async fn tidy(&self) -> Result<()> {
        for part in ["runs", "films"] {
            let known = self.store.ids(part).await?;
            for entry in std::fs::read_dir(self.data.join(part))?.flatten() {
                let name = entry.file_name();
                let number = name.to_str().and_then(|name| name.parse::<i64>().ok());
                let half_built = name.to_str().is_some_and(|name| name.starts_with('.'));
                if number.map_or(half_built, |number| !known.contains(&number)) {
                    std::fs::remove_dir_all(entry.path())?;
                }
            }
        }
        Ok(())
    }

    /// Writes the frames of runs from an earlier version anew, before anything reads them.
    fn upgrade_runs(&self) -> Result<()> {
        let inside = |part: &str, below: &str| -> Vec<RunFolder> {
            let entries = std::fs::read_dir(self.data.join(part)).into_iter().flatten().flatten();
            entries.map(|entry| RunFolder::at(entry.path().join(below))).collect()
        };
        let runs = [inside("runs", ""), inside("films", "run")].concat();
        frames::upgrade(&runs, &mut |done, all| {
            if done == all || done.is_multiple_of(100) {
                tracing::info!("frames of an earlier version: {done} of {all} written anew");
            }
        })?;
        Ok(())
    }

    /// Tells every open page.
    pub fn tell(&self, event: Event) {
        // Nobody may be listening.
        let _ = self.events.send(event);
    }

    /// A run's folder.
    pub fn folder(&self, run: &RunRow) -> RunFolder {
        RunFolder::at(self.data.join("runs").join(run.id.to_string()))
    }

    /// Where the posters of shots and runs lie.
    pub fn pictures(&self) -> PathBuf {
        self.data.join("pictures")
    }

    /// Drops the posters of a shot; they are rendered anew when they are asked for.
    pub fn drop_pictures(&self, shot: i64) {
        let of_shot = format!("{shot}-");
        for entry in std::fs::read_dir(self.pictures()).into_iter().flatten().flatten() {
            if entry.file_name().to_str().is_some_and(|name| name.starts_with(&of_shot)) {
                // Another request may have done it.
                let _ = std::fs::remove_file(entry.path());
            }
        }
    }

    /// The shot as it is, and its revision.
    pub async fn head(&self, shot: i64) -> Result<(Shot, i64)> {
        self.store.head(shot).await
    }

    /// Saves a change of a shot: checked, stored, told, and taken up by what is playing.
    pub async fn change(self: &Arc<Self>, shot: i64, base: i64, label: &str, document: &Shot) -> Result<i64> {
        let checked = document.clone();
        crate::jobs::blocking(move || {
            let faults = checked.faults();
            if faults.is_empty() { Ok(()) } else { Err(Error::Faults(faults)) }
        })
        .await?;
        self.save(shot, base, label, document).await
    }

    /// Saves a change of a shot that is free of faults; see [`Studio::change`].
    pub async fn save(self: &Arc<Self>, shot: i64, base: i64, label: &str, document: &Shot) -> Result<i64> {
        for asset in document.assets.values() {
            crate::assets::path(&self.data, asset)?;
        }
        let revision = self.store.add_revision(shot, base, label, document).await?;
        self.tell(Event::Shot { shot, revision });
        if self.playing.is_on(shot) {
            let before = self.store.document(shot, base).await?;
            self.check_playing(shot, before, document.clone());
        }
        Ok(revision)
    }

    /// Goes one change back or forward, from `base` if that is given.
    pub async fn step(self: &Arc<Self>, shot: i64, base: Option<i64>, step: Step) -> Result<()> {
        let (before, after, revision) = self.store.step(shot, base, step).await?;
        self.tell(Event::Shot { shot, revision });
        self.check_playing(shot, before, after);
        Ok(())
    }

    /// What is being computed begins anew if it depends on a change.
    fn check_playing(self: &Arc<Self>, shot: i64, before: Shot, after: Shot) {
        if self.playing.is_on(shot) {
            let studio = self.clone();
            tokio::task::spawn_blocking(move || studio.playing.changed(shot, &before, &after));
        }
    }
}
