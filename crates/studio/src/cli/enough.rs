//! `bright-ripple enough`.

use super::progress::Progress;
use super::{Outcome, Stop, print, read_shot};
use crate::assets::Loader;
use crate::enough::{Enough, enough};
use clap::Args;
use simulate::Cancel;
use std::path::PathBuf;

#[derive(Args)]
pub(crate) struct EnoughArgs {
    /// Shot file
    shot: PathBuf,
    /// Print JSON instead of a table
    #[arg(long)]
    json: bool,
}

impl EnoughArgs {
    pub fn run(self) -> Outcome {
        let (shot, folder) = read_shot(&self.shot)?;
        let loader = Loader::default();
        let meshes = loader.meshes(&folder, &shot).map_err(|error| Stop::Bad(error.to_string()))?;
        let initial_state =
            loader.initial_state(&folder, &shot).map_err(|error| Stop::Bad(error.to_string()))?;
        let progress = Progress::new("compared", 3 * shot.timing.frames().count() as u64);
        let mut done = |done: u32, _| progress.at(u64::from(done));
        let found = enough(&shot, &meshes, initial_state.as_deref(), &Cancel::default(), &mut done)
            .map_err(|error| Stop::Bad(error.to_string()))?;
        progress.finish();
        match self.json {
            true => print(&serde_json::to_string_pretty(&found).expect("it serialises")),
            false => print(&table(&found)),
        }
    }
}

fn table(found: &Enough) -> String {
    let mut lines = vec!["spacing  particles  a frame   from the next".to_owned()];
    for size in &found.sizes {
        let apart = match (size.pixels, size.delay_frames) {
            (Some(pixels), Some(delay)) => format!("{pixels:.1} pixels, {delay:+.1} frames"),
            _ => String::new(),
        };
        let (spacing, seconds) = (1e3 * size.spacing_m, size.seconds_a_frame);
        lines.push(format!("{spacing:4.1} mm  {:9}  {seconds:6.2} s  {apart}", size.particles));
    }
    lines.push(match found.enough {
        Some(i) => format!("{:.1} mm is enough", 1e3 * found.sizes[i].spacing_m),
        None => "each can be told from the next: try a smaller spacing".to_owned(),
    });
    lines.join("\n")
}
