use super::progress::Progress;
use super::{Outcome, Stop, frames_of, read_shot, upgrade};
use crate::assets::Loader;
use clap::Args;
use frames::RunFolder;
use frames::finish::Rounds;
use shot::{Shot, SystemId};
use simulate::{Bake, BakeError, Cancel, bake_rounds};
use std::ops::ControlFlow;
use std::path::PathBuf;

#[derive(Args)]
pub(crate) struct BakeArgs {
    /// Shot file
    shot: PathBuf,
    /// Run folder to fill; frames that are fresh in it are kept
    #[arg(long)]
    out: PathBuf,
    /// Frames to compute, such as 1-48; all by default
    #[arg(long)]
    frames: Option<String>,
    /// An element whose system is computed, with the systems that it reads, while the others hold;
    /// all systems by default
    #[arg(long)]
    only: Vec<String>,
    /// Threads; all cores by default. The frames do not depend on it
    #[arg(long)]
    threads: Option<usize>,
}

impl BakeArgs {
    pub fn run(self) -> Outcome {
        if let Some(threads) = self.threads {
            use_threads(threads)?;
        }
        let (shot, folder) = read_shot(&self.shot)?;
        let frames = frames_of(self.frames.as_deref(), shot.timing.frames())?;
        let meshes =
            Loader::default().meshes(&folder, &shot).map_err(|error| Stop::Bad(error.to_string()))?;
        let initial_state =
            Loader::default().initial_state(&folder, &shot).map_err(|error| Stop::Bad(error.to_string()))?;
        let systems = self.systems(&shot)?;
        let run = RunFolder::create(&self.out).map_err(|error| Stop::Failed(error.to_string()))?;
        upgrade(&run)?;
        let progress = Progress::new("baked", u64::from(frames.end() - frames.start() + 1));
        let mut done = 0;
        let job = Bake {
            shot: &shot,
            meshes: &meshes,
            run: &run,
            revision: 0,
            frames,
            systems: systems.as_deref(),
            initial_state: initial_state.as_deref(),
        };
        let outcome = bake_rounds(&job, &Rounds::default(), &Cancel::default(), |_| {
            done += 1;
            progress.at(done);
            ControlFlow::Continue(())
        })
        .map_err(|error| match error {
            BakeError::Prepare(error) => Stop::Bad(error.to_string()),
            error => Stop::Failed(error.to_string()),
        })?;
        progress.finish();
        if let simulate::Outcome::Closed(frame) = outcome {
            let from = frame - shot.timing.loop_frames.unwrap_or(0);
            eprintln!("went round: frame {frame} is frame {from} again");
        }
        Ok(())
    }

    /// The systems of the elements that are named; none if none is.
    fn systems(&self, shot: &Shot) -> Result<Option<Vec<SystemId>>, Stop> {
        let all = shot.systems();
        let find = |name: &String| {
            let element = shot.named(name).map(|element| element.id);
            let system = element.and_then(|id| all.iter().find(|system| system.elements.contains(&id)));
            let unknown = || {
                let of = all.iter().flat_map(|system| &system.elements);
                let names: Vec<&str> = of.filter_map(|id| Some(&*shot.element(*id)?.name)).collect();
                Stop::Bad(format!("--only {name}: the shot computes {}", names.join(", ")))
            };
            system.map(|system| system.id).ok_or_else(unknown)
        };
        if self.only.is_empty() {
            return Ok(None);
        }
        self.only.iter().map(find).collect::<Result<_, _>>().map(Some)
    }
}

pub(super) fn use_threads(threads: usize) -> Outcome {
    if !(1..=1024).contains(&threads) {
        return Err(Stop::Bad(format!("--threads {threads}: is outside 1 to 1024")));
    }
    rayon::ThreadPoolBuilder::new()
        .num_threads(threads)
        .build_global()
        .map_err(|error| Stop::Failed(error.to_string()))
}
