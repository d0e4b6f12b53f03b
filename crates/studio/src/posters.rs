//! Posters: the picture that stands for a shot or a run in lists.

use crate::error::{Error, Result};
use crate::finishing::Runs;
use crate::studio::Studio;
use frames::{Frame, write_whole};
use picture::{Scene, Settings, render};
use shot::Shot;
use std::path::PathBuf;

/// Pixels across.
pub const WIDTH: u32 = 480;
const SAMPLES: u32 = 16;

/// The frame that stands for a shot: the chosen one, else the one of the run in
/// which most happens, else one in the middle.
fn frame_of(shot: &Shot, runs: &Runs) -> u32 {
    let range = runs.range(shot).unwrap_or_else(|_| shot.timing.frames());
    let (first, last) = (*range.start(), *range.end());
    let middle = || first + (last - first + 1) * 2 / 5;
    // What was measured is told of computed frames; finished ones are others.
    let liveliest = || if shot.is_finished() { None } else { runs.run.liveliest_frame() };
    shot.poster.or_else(liveliest).unwrap_or_else(middle).clamp(first, last)
}

impl Studio {
    /// The poster of a shot. While its frame is not computed, or stale, the last
    /// one that was made of the shot is shown; without one, the shot as it begins.
    pub fn poster(&self, id: i64, revision: i64, shot: &Shot, runs: &Runs) -> Result<Vec<u8>> {
        let number = frame_of(shot, runs);
        let frame = runs.fresh_frame_for_pictures(shot, number);
        let name = match &frame {
            Some(_) => format!("{id}-{revision}-{number}.png"),
            None => format!("{id}-{revision}-staged.png"),
        };
        let cache = self.pictures().join(&name);
        if let Ok(bytes) = std::fs::read(&cache) {
            return Ok(bytes);
        }
        if frame.is_none()
            && let Some(bytes) = self.earlier_poster(id)
        {
            return Ok(bytes);
        }
        let bytes = self.render_poster(
            shot,
            runs,
            frame.as_ref(),
            frame.as_ref().map_or(shot.timing.first, |_| number),
        )?;
        // Only the newest poster of a shot is kept.
        self.drop_pictures(id);
        write_whole(&cache, &bytes)?;
        Ok(bytes)
    }

    /// The poster of a kept run, of the shot that it was computed from.
    pub fn poster_of_run(&self, run: i64, runs: &Runs) -> Result<Vec<u8>> {
        let cache = self.poster_path_of_run(run);
        if let Ok(bytes) = std::fs::read(&cache) {
            return Ok(bytes);
        }
        let shot = runs.run.manifest()?.shot;
        // The run may have been kept before the chosen frame was computed.
        let frames = runs.frames_for_pictures(&shot)?;
        let chosen = shot.poster.filter(|&number| frames.fingerprint(number).is_some());
        let number = frame_of(&Shot { poster: chosen, ..shot.clone() }, runs);
        let bytes = self.render_poster(&shot, runs, frames.frame(number).ok().as_ref(), number)?;
        write_whole(&cache, &bytes)?;
        Ok(bytes)
    }

    /// Where the poster of a run is kept.
    pub fn poster_path_of_run(&self, run: i64) -> PathBuf {
        self.pictures().join(format!("run-{run}.png"))
    }

    /// Puts a poster that comes with a shot in its place.
    pub fn take_poster(&self, id: i64, bytes: &[u8]) -> Result<()> {
        Ok(write_whole(&self.pictures().join(format!("{id}-0-shipped.png")), bytes)?)
    }

    /// The poster of the shot that was made of a computed frame; only the newest is kept.
    fn earlier_poster(&self, id: i64) -> Option<Vec<u8>> {
        let of_shot = format!("{id}-");
        let entries = std::fs::read_dir(self.pictures()).into_iter().flatten().flatten();
        let names = entries.filter_map(|entry| entry.file_name().into_string().ok());
        let mut of_frames = names.filter(|name| name.starts_with(&of_shot) && !name.ends_with("-staged.png"));
        let name = of_frames.next()?;
        std::fs::read(self.pictures().join(name)).ok()
    }

    fn render_poster(&self, shot: &Shot, runs: &Runs, frame: Option<&Frame>, number: u32) -> Result<Vec<u8>> {
        let assets = self.loader.all(&self.data, shot)?;
        let height = (WIDTH * shot.picture.height / shot.picture.width).clamp(16, 2 * WIDTH);
        let clamp = Settings::DRAFT_CLAMP;
        let settings = Settings { width: WIDTH, height, samples: SAMPLES, clamp, ..Settings::default() };
        // A camera that aims with a delay asks for earlier frames.
        let frames = runs.frames_for_pictures(shot)?;
        let earlier = |at: u32| if frame.is_some() { frames.frame(at).ok() } else { None };
        let scene = Scene::with_history(shot, &assets, frame, number, &earlier)
            .map_err(|error| Error::Bad(error.to_string()))?;
        let picture = render(&scene, &settings, &|_| true)
            .ok_or_else(|| Error::Internal("the picture was not rendered".to_owned()))?;
        Ok(interchange::write_png(WIDTH, height, &picture.show())?)
    }
}
