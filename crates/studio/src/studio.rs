//! The application's state: the data folder, the store, and what is at work.

use crate::assets::Loader;
use crate::error::{Error, Result};
use crate::films::Films;
use crate::playing::Playing;
use crate::store::{RunRow, Store};
use frames::{Frame, RunFolder};
use serde::Serialize;
use shot::{Fingerprint, Shot};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use tokio::sync::broadcast;

/// Something that happened, told to every open page.
#[derive(Clone, Debug, Serialize)]
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
    /// A film goes on: frames done of all.
    Film { shot: i64, film: i64, done: u32, total: u32, seconds_left: f32 },
    /// A film ended or was changed.
    Films { shot: i64 },
}

/// The application.
pub struct Studio {
    pub data: PathBuf,
    pub store: Store,
    pub loader: Loader,
    pub events: broadcast::Sender<Event>,
    pub playing: Playing,
    pub films: Films,
    /// Memory that frames are read into.
    spare: Mutex<Frame>,
    /// Held while the application runs.
    _lock: File,
}

impl Studio {
    /// A frame of a run as the Stage takes it, with its fingerprint. Not to be
    /// called where others wait.
    pub fn on_wire(&self, folder: &RunFolder, number: u32) -> Result<(Fingerprint, Vec<u8>)> {
        // Who finds the memory in use takes some of their own.
        let (mut lent, mut own) = (self.spare.try_lock(), Frame::default());
        let frame = lent.as_deref_mut().unwrap_or(&mut own);
        folder.read_into(number, frame)?;
        Ok((frame.fingerprint, frames::wire(frame)))
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
            loader: Loader::default(),
            events: broadcast::channel(256).0,
            playing: Playing::default(),
            films: Films::default(),
            spare: Mutex::default(),
            _lock: lock,
        });
        for shot in studio.store.unfinished_bakes().await? {
            studio.play(shot).await?;
        }
        studio.resume_films().await?;
        Ok(studio)
    }

    /// Tells every open page.
    pub fn tell(&self, event: Event) {
        // Nobody may be listening.
        let _ = self.events.send(event);
    }

    /// A run's folder.
    pub fn folder(&self, run: &RunRow) -> Result<RunFolder> {
        Ok(RunFolder::create(self.data.join("runs").join(run.id.to_string()))?)
    }

    /// The shot as it is, and its revision.
    pub async fn head(&self, shot: i64) -> Result<(Shot, i64)> {
        let row = self.store.shot(shot).await?;
        Ok((self.store.document(shot, row.head).await?, row.head))
    }

    /// Saves a change of a shot: checked, stored, told, and taken up by what is playing.
    pub async fn change(self: &Arc<Self>, shot: i64, base: i64, label: &str, document: &Shot) -> Result<i64> {
        let faults = document.faults();
        if !faults.is_empty() {
            return Err(Error::Faults(faults));
        }
        let before = self.store.document(shot, base).await?;
        let revision = self.store.add_revision(shot, base, label, document).await?;
        self.tell(Event::Shot { shot, revision });
        self.playing.changed(shot, &before, document);
        Ok(revision)
    }

    /// Moves the head to another revision.
    pub async fn go_to(self: &Arc<Self>, shot: i64, revision: i64) -> Result<()> {
        let (before, _) = self.head(shot).await?;
        let document = self.store.document(shot, revision).await?;
        self.store.set_head(shot, revision, &document.name).await?;
        self.tell(Event::Shot { shot, revision });
        self.playing.changed(shot, &before, &document);
        Ok(())
    }
}
