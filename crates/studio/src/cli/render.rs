use super::progress::Progress;
use super::{Outcome, Stop, frames_of, kept_run, open_runs, read_shot};
use crate::assets::Loader;
use crate::films::{FilmFolder, FilmSettings, encode_film, render_film};
use clap::{Args, ValueEnum};
use shot::changes::why_stale;
use std::path::PathBuf;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    Png,
    Exr,
}

#[derive(Args)]
pub(crate) struct RenderArgs {
    /// Shot file
    shot: PathBuf,
    /// Run folder with the frames
    #[arg(long)]
    run: PathBuf,
    /// Folder for the pictures; those that are there and were made from the same are kept
    #[arg(long)]
    out: PathBuf,
    /// Frames, such as 1-48; all by default
    #[arg(long)]
    frames: Option<String>,
    /// Pixels, such as 640x360; the shot's by default
    #[arg(long)]
    size: Option<String>,
    /// Paths a pixel
    #[arg(long, default_value_t = 64)]
    samples: u32,
    /// png: display-referred sRGB; exr: also scene-linear with layers
    #[arg(long, value_enum, default_value = "png")]
    format: Format,
    /// Bound what single paths add, against bright specks at few samples; not with --format exr
    #[arg(long)]
    clamp: bool,
    /// Show the run from its end to its start; the camera goes on as it does
    #[arg(long)]
    backwards: bool,
    /// Show the run so many frames later; earlier if negative
    #[arg(long, default_value_t = 0, allow_hyphen_values = true)]
    shift: i32,
    /// A kept run that finishing steps show, such as 2=FOLDER; may be given several times
    #[arg(long, value_parser = kept_run)]
    kept: Vec<(u32, PathBuf)>,
    /// Also write the frames as an MP4 film
    #[arg(long)]
    video: Option<PathBuf>,
    /// Threads; all cores by default. The pictures do not depend on it
    #[arg(long)]
    threads: Option<usize>,
}

impl RenderArgs {
    pub fn run(self) -> Outcome {
        if let Some(threads) = self.threads {
            super::bake::use_threads(threads)?;
        }
        let (shot, folder) = read_shot(&self.shot)?;
        let runs = open_runs(&self.run, &self.kept)?
            .with_meshes(&folder, &shot)
            .map_err(|error| Stop::Bad(error.to_string()))?;
        let finished = runs.frames_for_pictures(&shot).map_err(|error| Stop::Bad(error.to_string()))?;
        let frames = frames_of(self.frames.as_deref(), finished.range())?;
        let (width, height) = match &self.size {
            None => (shot.picture.width, shot.picture.height),
            Some(text) => text
                .split_once('x')
                .and_then(|(w, h)| Some((w.parse().ok()?, h.parse().ok()?)))
                .filter(|(w, h)| (16..=8192).contains(w) && (16..=8192).contains(h))
                .ok_or_else(|| Stop::Bad(format!("--size {text}: give WxH, each 16 to 8192")))?,
        };
        if !(1..=65_536).contains(&self.samples) {
            return Err(Stop::Bad(format!("--samples {}: is outside 1 to 65536", self.samples)));
        }
        let run = &runs.run;
        let assets = Loader::default().all(&folder, &shot).map_err(|error| Stop::Bad(error.to_string()))?;
        std::fs::create_dir_all(&self.out)
            .map_err(|error| Stop::Failed(format!("{}: {error}", self.out.display())))?;
        let settings = FilmSettings {
            first: *frames.start(),
            last: *frames.end(),
            width,
            height,
            samples: self.samples,
            exr: self.format == Format::Exr,
            clamp: self.clamp,
            backwards: self.backwards,
            shift: self.shift,
            finishing: Vec::new(),
        };
        let headers = run.headers();
        if let Some(missing) = settings.sources(&shot).find(|number| !headers.contains_key(number)) {
            return Err(Stop::Bad(format!(
                "frame {missing} is not in {}; bake it first",
                self.run.display()
            )));
        }
        let fresh = simulate::fresh(&shot, run);
        let is_fresh = |number: &u32| {
            let place = number.checked_sub(shot.timing.first);
            place.and_then(|place| fresh.get(place as usize)) == Some(&true)
        };
        let stale: Vec<u32> = settings.sources(&shot).filter(|number| !is_fresh(number)).collect();
        if let (Some(first), Some(last)) = (stale.first(), stale.last()) {
            let why = run.manifest().ok().and_then(|manifest| why_stale(&manifest.shot, &shot));
            eprintln!(
                "bright-ripple: {} frames of {} ({first}-{last}) are of another state of the shot{}; bake again to have it as it is",
                stale.len(),
                self.run.display(),
                why.map(|why| format!(", from {why}")).unwrap_or_default()
            );
        }
        let outdated = FilmFolder::new(&self.out).outdated(&shot, &*finished, &settings);
        if !outdated.is_empty() {
            eprintln!(
                "bright-ripple: {} pictures in {} were made from something else and are rendered again",
                outdated.len(),
                self.out.display()
            );
        }
        let progress = Progress::new("rendered", u64::from(settings.last - settings.first + 1));
        let film = FilmFolder::new(&self.out);
        let failed = |error: crate::error::Error| Stop::Failed(error.to_string());
        render_film(&shot, &assets, &*finished, &film, &settings, &|done, _| {
            progress.at(u64::from(done));
            true
        })
        .map_err(failed)?;
        progress.finish();
        if let Some(video) = &self.video {
            encode_film(&shot, &film, &settings, video).map_err(failed)?;
        }
        Ok(())
    }
}
