use super::progress::Progress;
use super::{Outcome, Stop, frames_of, kept_run, open_runs, read_shot};
use clap::Args;
use frames::RunFolder;
use std::path::PathBuf;

#[derive(Args)]
pub(crate) struct FinishArgs {
    /// Shot file, with the finishing steps
    shot: PathBuf,
    /// Run folder with the computed frames
    #[arg(long)]
    run: PathBuf,
    /// A kept run that finishing steps show, such as 2=FOLDER; may be given several times
    #[arg(long, value_parser = kept_run)]
    kept: Vec<(u32, PathBuf)>,
    /// Run folder to write the finished frames to
    #[arg(long)]
    out: PathBuf,
    /// Frames, such as 1-48; all by default
    #[arg(long)]
    frames: Option<String>,
}

impl FinishArgs {
    pub fn run(self) -> Outcome {
        let (shot, folder) = read_shot(&self.shot)?;
        let bad = |error: crate::error::Error| Stop::Bad(error.to_string());
        let runs = open_runs(&self.run, &self.kept)?.with_meshes(&folder, &shot).map_err(bad)?;
        let frames = frames_of(self.frames.as_deref(), runs.range(&shot).map_err(bad)?)?;
        let progress = Progress::new("finished", u64::from(frames.end() - frames.start() + 1));
        let mut done = 0;
        let mut count = || {
            done += 1;
            progress.at(done);
        };
        let problems = runs
            .write_finished(&shot, &RunFolder::at(&self.out), frames, &mut count)
            .map_err(|error| Stop::Failed(error.to_string()))?;
        progress.finish();
        for problem in problems {
            eprintln!("bright-ripple: {problem}");
        }
        Ok(())
    }
}
