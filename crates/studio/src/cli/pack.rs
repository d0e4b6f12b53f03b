//! `bright-ripple pack`.

use super::{Outcome, Stop, print, read_shot};
use crate::assets::Loader;
use clap::Args;
use shot::Shot;
use simulate::packing::{Packing, packed};
use std::path::PathBuf;

#[derive(Args)]
pub struct PackArgs {
    /// Shot file
    shot: PathBuf,
    /// Name of the solid whose copies are packed
    #[arg(long)]
    element: String,
    /// Name of the solid that they lie in; its mesh is closed
    #[arg(long)]
    into: String,
    /// Number of copies
    #[arg(long)]
    count: u32,
    /// Greatest difference of their sizes from 1, as a fraction, 0 to 0.9
    #[arg(long, default_value_t = 0.0)]
    size_variation: f32,
    /// Distance that they keep from each other and from the walls, in metres
    #[arg(long, default_value_t = 0.0)]
    gap: f32,
    /// Chooses sizes, turns and places
    #[arg(long, default_value_t = 0)]
    seed: u32,
    /// Shot file to write; the same one by default
    #[arg(long)]
    out: Option<PathBuf>,
}

impl PackArgs {
    pub fn run(self) -> Outcome {
        let (mut shot, folder) = read_shot(&self.shot)?;
        let bad = |error: String| Stop::Bad(error);
        let id = |shot: &Shot, name: &str| {
            let found = shot.named(name).map(|element| element.id);
            found.ok_or_else(|| Stop::Bad(format!("the shot has no element {name:?}")))
        };
        let packing = Packing {
            element: id(&shot, &self.element)?,
            into: id(&shot, &self.into)?,
            count: self.count,
            size_variation: self.size_variation,
            gap_m: self.gap,
            seed: self.seed,
        };
        let meshes = Loader::default().meshes(&folder, &shot).map_err(|error| bad(error.to_string()))?;
        let placed = packed(&shot, &meshes, &packing).map_err(|error| bad(error.to_string()))?;
        let count = placed.len();
        let solid = shot.named_mut(&self.element).and_then(|element| element.as_solid_mut());
        let solid = solid.expect("packed solids are solids");
        (solid.placed, solid.copies) = (placed, None);
        let faults = shot.faults();
        if let Some(fault) = faults.first() {
            return Err(Stop::Bad(fault.to_string()));
        }
        let out = self.out.unwrap_or(self.shot);
        let json = serde_json::to_vec_pretty(&shot).expect("a shot serialises");
        frames::write_whole(&out, &json).map_err(|error| Stop::Failed(error.to_string()))?;
        print(&format!("{count} of {} in {}: {}", self.element, self.into, out.display()))
    }
}
