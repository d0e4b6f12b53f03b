//! Films: rendered ranges of a shot. Each keeps the frames it was rendered
//! from, so that it can go on after a restart whatever happened to the shot.

use crate::assets::sha256;
use crate::error::{Error, Result};
use crate::finishing::Runs;
use crate::jobs::{AtEnd, guarded, lock};
use crate::store::FilmRow;
use crate::studio::{Event, Studio};
use frames::{Frame, Frames, RunError, RunFolder, write_whole};
use interchange::{Movie, exr_made_from, png_made_from, with_made_from, write_exr, write_png};
use picture::{Scene, Settings, render};
use serde::{Deserialize, Serialize};
use shot::Shot;
use simulate::{Bake, Outcome, bake};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Seek;
use std::ops::{ControlFlow, RangeInclusive};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use utoipa::ToSchema;

/// What a film is to be.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FilmSettings {
    /// First frame.
    pub first: u32,
    /// Last frame; the same for a still.
    pub last: u32,
    /// Pixels across.
    pub width: u32,
    /// Pixels down.
    pub height: u32,
    /// Paths a pixel.
    pub samples: u32,
    /// Also write scene-linear EXR files.
    #[serde(default)]
    pub exr: bool,
    /// Bounds what single paths add, against bright specks in drafts; without
    /// effect where EXR files are written, which are scene-linear.
    #[serde(default)]
    pub clamp: bool,
    /// Shows the run from its end to its start; the camera goes on as it does.
    #[serde(default)]
    pub backwards: bool,
    /// Shows the run so many frames later, or earlier if negative; before and
    /// after it its first and last frame stand.
    #[serde(default)]
    pub shift: i32,
    /// Names of the finishing steps that it shows; set when it begins.
    #[serde(default)]
    pub finishing: Vec<String>,
}

impl FilmSettings {
    /// The finished frame that is shown at a frame of the film.
    pub fn source(&self, finished: &RangeInclusive<u32>, number: u32) -> u32 {
        let (first, last) = (*finished.start(), *finished.end());
        let shifted = i64::from(number) - i64::from(self.shift);
        let within = shifted.clamp(i64::from(first), i64::from(last)) as u32;
        if self.backwards { last - (within - first) } else { within }
    }

    /// The frames of the run that it shows: with finishing steps, all.
    pub fn sources(&self, shot: &Shot) -> RangeInclusive<u32> {
        let all = shot.timing.frames();
        if shot.is_finished() {
            return all;
        }
        let (a, b) = (self.source(&all, self.first), self.source(&all, self.last));
        a.min(b)..=a.max(b)
    }

    fn frame(&self, frames: &dyn Frames, number: u32) -> std::result::Result<Frame, RunError> {
        let frame = frames.frame(self.source(&frames.range(), number))?;
        Ok(if self.backwards { frame.backwards() } else { frame })
    }

    /// How its pictures are rendered.
    pub(crate) fn rendering(&self) -> Settings {
        Settings {
            width: self.width,
            height: self.height,
            samples: self.samples,
            clamp: if self.clamp && !self.exr { Settings::DRAFT_CLAMP } else { f32::INFINITY },
            ..Settings::default()
        }
    }

    /// A frame of the film, ready to be rendered.
    pub(crate) fn scene(
        &self,
        shot: &Shot,
        assets: &picture::Assets,
        frames: &dyn Frames,
        number: u32,
    ) -> Result<Scene> {
        let read = |number| self.frame(frames, number);
        Scene::with_history(shot, assets, Some(&read(number)?), number, &|number| read(number).ok())
            .map_err(|error| Error::Bad(error.to_string()))
    }

    /// Whether a film can be so, of the frames that there are.
    pub(crate) fn check(&self, frames: &RangeInclusive<u32>) -> Result<()> {
        let (first, last) = (*frames.start(), *frames.end());
        let bad = |what: String| Err(Error::Bad(what));
        if self.first > self.last {
            return bad(format!("first: {} comes after the last frame, {}", self.first, self.last));
        }
        if self.first < first || self.last > last {
            return bad(format!(
                "frames: {}–{} lie outside the shot's {first}–{last}",
                self.first, self.last
            ));
        }
        if !(16..=8192).contains(&self.width) || !(16..=8192).contains(&self.height) {
            return bad(format!("size: {} × {} is outside 16 to 8192", self.width, self.height));
        }
        if self.shift.unsigned_abs() > shot::MAX_FRAMES {
            return bad(format!("shift: {} is outside −{1} to {1}", self.shift, shot::MAX_FRAMES));
        }
        if !(1..=65_536).contains(&self.samples) {
            return bad(format!("samples: {} is outside 1 to 65536", self.samples));
        }
        Ok(())
    }
}

/// A film's folder of files.
#[derive(Clone)]
pub struct FilmFolder(PathBuf);

impl FilmFolder {
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self(path.into())
    }

    pub fn png(&self, frame: u32) -> PathBuf {
        self.0.join(format!("frame-{frame:05}.png"))
    }

    pub fn exr(&self, frame: u32) -> PathBuf {
        self.0.join(format!("frame-{frame:05}.exr"))
    }

    pub fn movie(&self) -> PathBuf {
        self.0.join("film.mp4")
    }

    fn has(&self, frame: u32, exr: bool) -> bool {
        self.png(frame).is_file() && (!exr || self.exr(frame).is_file())
    }

    /// Whether the pictures of a frame are there and say that they were made from this.
    fn has_of(&self, frame: u32, exr: bool, made_from: &str) -> bool {
        let says = |path: &Path, of: fn(&[u8]) -> Option<String>| {
            std::fs::read(path).ok().and_then(|bytes| of(&bytes)).as_deref() == Some(made_from)
        };
        says(&self.png(frame), png_made_from) && (!exr || says(&self.exr(frame), exr_made_from))
    }

    /// The frames whose pictures are there, but were made from something else.
    pub fn outdated(&self, shot: &Shot, frames: &dyn Frames, settings: &FilmSettings) -> Vec<u32> {
        let made_from = MadeFrom::new(shot, frames, settings);
        let outdated =
            |&frame: &u32| self.has(frame, false) && !self.has_of(frame, settings.exr, &made_from.of(frame));
        (settings.first..=settings.last).filter(outdated).collect()
    }

    /// All frames that are there in one file, which is gone once it is closed.
    pub fn zip(&self, settings: &FilmSettings) -> Result<File> {
        let fail = |error: zip::result::ZipError| Error::Internal(error.to_string());
        let mut zip = zip::ZipWriter::new(tempfile::tempfile_in(&self.0)?);
        // PNG and EXR are compressed already.
        let stored =
            zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        for path in (settings.first..=settings.last).flat_map(|frame| [self.png(frame), self.exr(frame)]) {
            let Ok(mut file) = File::open(&path) else { continue };
            let name = path.file_name().expect("a frame's file has a name").to_string_lossy();
            zip.start_file(name, stored).map_err(fail)?;
            std::io::copy(&mut file, &mut zip)?;
        }
        let mut file = zip.finish().map_err(fail)?;
        file.rewind()?;
        Ok(file)
    }

    /// The frames that are there, as ranges.
    pub fn there(&self, settings: &FilmSettings) -> Vec<[u32; 2]> {
        let mut ranges: Vec<[u32; 2]> = Vec::new();
        for frame in (settings.first..=settings.last).filter(|&frame| self.has(frame, settings.exr)) {
            match ranges.last_mut() {
                Some(range) if range[1] + 1 == frame => range[1] = frame,
                _ => ranges.push([frame, frame]),
            }
        }
        ranges
    }

    /// Size of the film's files, bytes; without those of its run.
    pub fn bytes(&self) -> u64 {
        let entries = std::fs::read_dir(&self.0).into_iter().flatten().flatten();
        entries.filter_map(|entry| entry.metadata().ok()).filter(|m| m.is_file()).map(|m| m.len()).sum()
    }
}

/// Tells what the pictures of a film are made from: a sum of the renderer, the
/// shot, the settings that a picture depends on, and the frame of the run.
struct MadeFrom<'a> {
    frames: &'a dyn Frames,
    settings: &'a FilmSettings,
    /// Sum of what all frames have in common.
    common: String,
}

/// Changes when the renderer gives other pictures.
const RENDERER: u32 = 3;

impl<'a> MadeFrom<'a> {
    fn new(shot: &Shot, frames: &'a dyn Frames, settings: &'a FilmSettings) -> Self {
        let mut seen = shot.clone();
        (seen.name, seen.about, seen.next_id, seen.poster) = (String::new(), String::new(), 0, None);
        // What finishing steps do is in the fingerprints of their frames.
        seen.elements.retain(|element| element.as_finish().is_none());
        let FilmSettings { width, height, samples, clamp, exr, backwards, .. } = *settings;
        let common = serde_json::json!([RENDERER, seen, width, height, samples, clamp && !exr, backwards]);
        Self { frames, settings, common: sha256(common.to_string().as_bytes()) }
    }

    fn of(&self, frame: u32) -> String {
        let source = self.settings.source(&self.frames.range(), frame);
        let print = self.frames.fingerprint(source).map(|print| print.0);
        sha256(format!("{} {frame} {source} {print:?}", self.common).as_bytes())
    }
}

/// Renders the frames of a film that are not there yet, or were made from
/// something else. `tell` is told the frames done and the seconds left, and says
/// whether to go on.
pub fn render_film(
    shot: &Shot,
    assets: &picture::Assets,
    frames: &dyn Frames,
    folder: &FilmFolder,
    settings: &FilmSettings,
    tell: &(dyn Fn(u32, f32) -> bool + Sync),
) -> Result<bool> {
    let total = settings.last - settings.first + 1;
    let start = Instant::now();
    let made_from = MadeFrom::new(shot, frames, settings);
    let missing: Vec<(u32, String)> = (settings.first..=settings.last)
        .map(|number| (number, made_from.of(number)))
        .filter(|(number, made_from)| !folder.has_of(*number, settings.exr, made_from))
        .collect();
    let already = total - missing.len() as u32;
    let mut done = already;
    for (number, made_from) in missing {
        let scene = settings.scene(shot, assets, frames, number)?;
        let to_do = (total - already) as f32;
        let of_this = AtomicU32::new(0);
        let picture = render(&scene, &settings.rendering(), &|fraction| {
            // Tell every few percent, not every tile.
            let percent = (fraction * 25.0) as u32;
            if of_this.fetch_max(percent, Ordering::Relaxed) >= percent {
                return tell(done, f32::NAN);
            }
            let worked = (done - already) as f32 + fraction;
            tell(done, start.elapsed().as_secs_f32() / worked * (to_do - worked))
        });
        let Some(picture) = picture else { return Ok(false) };
        if settings.exr {
            write_whole(&folder.exr(number), &write_exr(&picture, &made_from)?)?;
        }
        let png = write_png(settings.width, settings.height, &picture.show())?;
        write_whole(&folder.png(number), &with_made_from(&png, &made_from))?;
        done += 1;
        let worked = (done - already) as f32;
        if !tell(done, start.elapsed().as_secs_f32() / worked * (to_do - worked)) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Frames of a film that a forecast looks at.
const FORECAST_FRAMES: u32 = 3;

/// Seconds to render a film and bytes of its pictures, from tiles of a few
/// frames. A frame that is not computed stands as the shot begins.
pub fn forecast(
    shot: &Shot,
    assets: &picture::Assets,
    frames: &dyn Frames,
    settings: &FilmSettings,
) -> Result<(f32, u64)> {
    let total = settings.last - settings.first + 1;
    let looked_at = total.min(FORECAST_FRAMES);
    let (mut seconds, mut bytes) = (0.0, 0.0);
    for i in 0..looked_at {
        let number = settings.first + (2 * i + 1) * total / (2 * looked_at);
        let start = Instant::now();
        let scene = match settings.scene(shot, assets, frames, number) {
            Ok(scene) => scene,
            Err(_) => {
                Scene::new(shot, assets, None, number).map_err(|error| Error::Bad(error.to_string()))?
            }
        };
        let prepared = start.elapsed().as_secs_f32();
        let sample = picture::sample(&scene, &settings.rendering());
        let pixels = f64::from(settings.width) * f64::from(settings.height);
        let scale = pixels / sample.picture.rgb.len() as f64;
        let tiles = &sample.picture;
        let png = write_png(tiles.width, tiles.height, &tiles.show())?.len();
        let exr = if settings.exr { write_exr(tiles, "")?.len() } else { 0 };
        seconds += prepared + sample.seconds;
        bytes += scale * (png + exr) as f64;
    }
    let frames = total as f32 / looked_at as f32;
    Ok((seconds * frames, (bytes * f64::from(frames)) as u64))
}

/// Encodes a film's PNG files as MP4.
pub fn encode_film(shot: &Shot, folder: &FilmFolder, settings: &FilmSettings, to: &Path) -> Result<()> {
    let count = (settings.last - settings.first + 1) as usize;
    let fail = |error: interchange::MovieError| Error::Internal(error.to_string());
    let mut movie = Movie::new(settings.width, settings.height, shot.timing.fps, count).map_err(fail)?;
    for number in settings.first..=settings.last {
        let (width, _, rgb) = interchange::read_png(&std::fs::read(folder.png(number))?)?;
        movie.push(width, &rgb).map_err(fail)?;
    }
    Ok(write_whole(to, &movie.finish().map_err(fail)?)?)
}

impl Studio {
    pub fn film_folder(&self, film: i64) -> FilmFolder {
        FilmFolder::new(self.data.join("films").join(film.to_string()))
    }

    /// Removes a film's files, once no job writes to them.
    pub async fn remove_film(self: &Arc<Self>, film: i64) -> Result<()> {
        let studio = self.clone();
        crate::jobs::blocking(move || {
            // It was told to stop, and does so within a tile of a picture.
            let until = Instant::now() + Duration::from_secs(60);
            while lock(&studio.films.at_work).contains_key(&film) && Instant::now() < until {
                std::thread::sleep(Duration::from_millis(5));
            }
            match std::fs::remove_dir_all(studio.data.join("films").join(film.to_string())) {
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
                removed => Ok(removed?),
            }
        })
        .await
    }

    /// Begins a film of the shot as it is, with the frames of its current run.
    pub async fn begin_film(self: &Arc<Self>, shot: i64, name: &str, settings: &FilmSettings) -> Result<i64> {
        let (document, revision) = self.head(shot).await?;
        let runs = self.runs_of(&document, &self.store.current_run(shot).await?).await?;
        let (checked, shown) = (settings.clone(), document.clone());
        crate::jobs::blocking(move || checked.check(&runs.range(&shown)?)).await?;
        let steps = document.elements.iter().filter(|step| step.as_finish().is_some_and(|f| f.enabled));
        let finishing = steps.map(|step| step.name.clone()).collect();
        let settings = FilmSettings { finishing, ..settings.clone() };
        let text = serde_json::to_string(&settings).expect("settings serialise");
        let film = self.store.add_film(shot, name, revision, &text).await?;
        let row = self.store.film(film).await?;
        self.start_film(row).await?;
        Ok(film)
    }

    pub async fn resume_films(self: &Arc<Self>) -> Result<()> {
        for row in self.store.films(None).await?.into_iter().rev().filter(|row| row.state == "running") {
            self.start_film(row).await?;
        }
        Ok(())
    }

    pub async fn stop_film(&self, film: i64) -> Result<()> {
        self.films.stop(film);
        let row = self.store.film(film).await?;
        if row.state == "running" {
            self.store.set_film_state(film, "stopped", "").await?;
        }
        self.tell(Event::Films { shot: row.shot });
        Ok(())
    }

    /// Starts rendering a film, unless that is under way.
    pub async fn start_film(self: &Arc<Self>, row: FilmRow) -> Result<()> {
        let stop = Arc::new(AtomicBool::new(false));
        {
            let mut at_work = lock(&self.films.at_work);
            if at_work.get(&row.id).is_some_and(|on| !on.load(Ordering::Acquire)) {
                return Ok(());
            }
            at_work.insert(row.id, stop.clone());
        }
        // Whatever happens from here on, the list is rid of the job.
        let (studio, listed, film) = (self.clone(), stop.clone(), row.id);
        let off_the_list = AtEnd::new(move || studio.films.remove(film, &listed));
        self.store.set_film_state(row.id, "running", "").await?;
        self.tell(Event::Films { shot: row.shot });
        let (studio, runtime, shot) = (self.clone(), tokio::runtime::Handle::current(), row.shot);
        let work = move || {
            let off_the_list = off_the_list;
            let turn = lock(&studio.films.one_at_a_time);
            let worked =
                guarded(|| studio.work_on_film(&runtime, &row, &stop).map_err(|error| error.to_string()));
            drop(turn);
            let (state, message) = match worked {
                Ok(true) => ("done", String::new()),
                Ok(false) => ("stopped", String::new()),
                Err(message) => ("failed", message),
            };
            if !stop.load(Ordering::Acquire)
                && let Err(error) = runtime.block_on(studio.store.set_film_state(row.id, state, &message))
            {
                tracing::error!("{error}");
            }
            drop(off_the_list);
            studio.tell(Event::Films { shot: row.shot });
        };
        if let Err(error) = std::thread::Builder::new().name(format!("film {film}")).spawn(work) {
            self.store.set_film_state(film, "failed", &error.to_string()).await?;
            self.tell(Event::Films { shot });
            return Err(error.into());
        }
        Ok(())
    }

    /// The kept runs that a film's finishing steps show.
    async fn kept_for_film(&self, document: &Shot, shot: i64) -> Result<BTreeMap<u32, RunFolder>> {
        let current = self.store.current_run(shot).await?;
        Ok(self.runs_of(document, &current).await?.kept)
    }

    fn work_on_film(
        &self,
        runtime: &tokio::runtime::Handle,
        row: &FilmRow,
        stop: &AtomicBool,
    ) -> Result<bool> {
        if stop.load(Ordering::Acquire) {
            return Ok(false);
        }
        let document = runtime.block_on(self.store.document(row.shot, row.revision))?;
        let settings: FilmSettings =
            serde_json::from_str(&row.settings).map_err(|error| Error::Internal(error.to_string()))?;
        let path = self.data.join("films").join(row.id.to_string());
        std::fs::create_dir_all(&path)?;
        let own = RunFolder::at(path.join("run"));
        if own.manifest().is_err() {
            own.remove()?;
            let current = runtime.block_on(self.store.current_run(row.shot))?;
            let folder = self.folder(&current);
            // Without frames to share they are all computed.
            if folder.manifest().is_ok() {
                folder.keep_as(own.path())?;
            }
        }
        let mut runs = Runs::only(own.clone());
        for (number, folder) in runtime.block_on(self.kept_for_film(&document, row.shot))? {
            let own = RunFolder::at(path.join(format!("kept-{number}")));
            if own.manifest().is_err() {
                own.remove()?;
                folder.keep_as(own.path())?;
            }
            runs.kept.insert(number, own);
        }
        let assets = self.loader.all(&self.data, &document)?;
        runs.meshes = assets.meshes.clone();
        let initial_state = self.loader.initial_state(&self.data, &document)?;
        let frames = settings.sources(&document);
        let job = Bake {
            shot: &document,
            meshes: &assets.meshes,
            run: &own,
            revision: row.revision as u32,
            frames,
            systems: None,
            initial_state: initial_state.as_deref(),
        };
        let baked = bake(&job, |_| {
            if stop.load(Ordering::Acquire) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        if baked.map_err(|error| Error::Bad(error.to_string()))? == Outcome::Stopped {
            return Ok(false);
        }
        let folder = self.film_folder(row.id);
        let total = settings.last - settings.first + 1;
        // What is on disk changes only as a frame is done.
        let on_disk = Mutex::new((u32::MAX, Vec::new(), 0));
        let tell = |done: u32, seconds_left: f32| {
            if seconds_left.is_finite() {
                let progress = (done, seconds_left);
                lock(&self.films.progress).insert(row.id, progress);
                let (there, bytes) = {
                    let mut on_disk = lock(&on_disk);
                    if on_disk.0 != done {
                        *on_disk = (done, folder.there(&settings), folder.bytes());
                    }
                    (on_disk.1.clone(), on_disk.2)
                };
                let (shot, film) = (row.shot, row.id);
                self.tell(Event::Film { shot, film, done, total, seconds_left, there, bytes });
            }
            !stop.load(Ordering::Acquire)
        };
        let frames = runs.frames_for_pictures(&document)?;
        if !render_film(&document, &assets, &*frames, &folder, &settings, &tell)? {
            return Ok(false);
        }
        if total > 1 {
            encode_film(&document, &folder, &settings, &folder.movie())?;
        }
        Ok(true)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(false, 0, [1, 2, 48])]
    #[case(true, 0, [48, 47, 1])]
    #[case(false, 10, [1, 1, 38])]
    #[case(true, -5, [43, 42, 1])]
    fn a_film_shows_the_run_as_it_is_told(
        #[case] backwards: bool,
        #[case] shift: i32,
        #[case] shown: [u32; 3],
    ) {
        let settings = FilmSettings {
            first: 1,
            last: 48,
            width: 64,
            height: 64,
            samples: 1,
            exr: false,
            clamp: false,
            backwards,
            shift,
            finishing: Vec::new(),
        };
        assert_eq!([1, 2, 48].map(|number| settings.source(&(1..=48), number)), shown);
    }
}
