use super::progress::Progress;
use super::{Outcome, Stop, frames_of, open_run, read_shot};
use crate::finishing::{finish_run, finished_range};
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
    /// Run folder to write the finished frames to
    #[arg(long)]
    out: PathBuf,
    /// Frames, such as 1-48; all by default
    #[arg(long)]
    frames: Option<String>,
}

impl FinishArgs {
    pub fn run(self) -> Outcome {
        let (shot, _) = read_shot(&self.shot)?;
        let bad = |error: crate::error::Error| Stop::Bad(error.to_string());
        let frames = frames_of(self.frames.as_deref(), finished_range(&shot).map_err(bad)?)?;
        let run = open_run(&self.run)?;
        let progress = Progress::new("finished", u64::from(frames.end() - frames.start() + 1));
        let mut done = 0;
        let problems = finish_run(&shot, &run, &RunFolder::at(&self.out), frames, &mut || {
            done += 1;
            progress.at(done);
        })
        .map_err(|error| Stop::Failed(error.to_string()))?;
        progress.finish();
        for problem in problems {
            eprintln!("bright-ripple: {problem}");
        }
        Ok(())
    }
}
