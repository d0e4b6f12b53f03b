//! Saltmarket, the sample project: a made-up tidal quay where a market is held
//! at night.

mod assets;
mod awning_gust;
mod bait_bag;
mod barge_wash;
mod basin_shimmer;
mod brazier_sparks;
mod brine_spill;
mod broth_pour;
mod crate_tumble;
mod drying_cloths;
mod dumpling_spill;
mod ember_fall;
mod fender_squeeze;
mod float_toss;
mod gull_scatter;
mod honey_glaze;
mod jar_of_light;
mod lantern_loop;
mod lantern_parade;
mod moving;
mod net_drop;
mod quay;
mod quay_flags;
mod sail_reveal;
mod scale_shower;
mod set;
mod slow_toss;
mod squall_test;
mod wax_mark;

use crate::assets::{examine, path};
use crate::error::{Error, Result};
use crate::studio::Studio;
use frames::write_whole;
use shot::{Asset, Shot};
use std::collections::HashMap;
use std::path::Path;

/// A file a sample shot uses: name of the asset, name of the file, bytes.
pub(crate) type File = (&'static str, &'static str, Vec<u8>);

/// A sample shot.
struct Sample {
    name: &'static str,
    make: fn() -> (Shot, Vec<File>),
    /// The frame of its poster.
    poster: u32,
    /// The poster, made by `cargo xtask posters`.
    picture: &'static [u8],
}

macro_rules! sample {
    ($name:literal, $module:ident, $poster:literal) => {
        Sample {
            name: $name,
            make: $module::shot,
            poster: $poster,
            picture: include_bytes!(concat!("posters/", stringify!($module), ".png")),
        }
    };
}

const SAMPLES: &[Sample] = &[
    sample!("Crate tumble", crate_tumble, 38),
    sample!("Squall test", squall_test, 56),
    sample!("Float toss", float_toss, 50),
    sample!("Lantern parade", lantern_parade, 90),
    sample!("Brazier sparks", brazier_sparks, 60),
    sample!("Scale shower", scale_shower, 60),
    sample!("Ember fall", ember_fall, 60),
    sample!("Gull scatter", gull_scatter, 66),
    sample!("Jar of light", jar_of_light, 110),
    sample!("Slow toss", slow_toss, 34),
    sample!("Lantern loop", lantern_loop, 40),
    sample!("Quay flags", quay_flags, 43),
    sample!("Awning gust", awning_gust, 62),
    sample!("Dumpling spill", dumpling_spill, 50),
    sample!("Sail reveal", sail_reveal, 96),
    sample!("Fender squeeze", fender_squeeze, 37),
    sample!("Net drop", net_drop, 60),
    sample!("Drying cloths", drying_cloths, 30),
    sample!("Basin shimmer", basin_shimmer, 40),
    sample!("Bait bag", bait_bag, 60),
    sample!("Brine spill", brine_spill, 33),
    sample!("Broth pour", broth_pour, 62),
    sample!("Barge wash", barge_wash, 42),
    sample!("Honey glaze", honey_glaze, 84),
    sample!("Wax mark", wax_mark, 61),
];

/// Assets that are in a folder already, by name: the samples share most.
type Known = HashMap<&'static str, Asset>;

fn build(sample: &Sample, folder: &Path, known: &mut Known) -> Result<Shot> {
    let (mut shot, files) = (sample.make)();
    shot.poster = Some(sample.poster);
    std::fs::create_dir_all(folder.join("assets"))?;
    for (name, file, bytes) in files {
        let asset = match known.get(name) {
            Some(asset) => asset.clone(),
            None => {
                let examined = examine(file, &bytes, shot.timing.fps)?;
                let asset = examined.asset;
                write_whole(&path(folder, &asset)?, examined.converted.as_ref().unwrap_or(&bytes))?;
                known.insert(name, asset.clone());
                asset
            }
        };
        shot.assets.insert(name.to_owned(), asset);
    }
    let faults = shot.faults();
    if faults.is_empty() { Ok(shot) } else { Err(Error::Faults(faults)) }
}

/// Puts the sample shots into a data folder that has no shots.
pub async fn seed(studio: &Studio) -> Result<()> {
    if !studio.store.is_empty().await? {
        return Ok(());
    }
    let project = studio.store.project("Saltmarket").await?;
    let mut known = Known::new();
    for sample in SAMPLES {
        let shot = build(sample, &studio.data, &mut known)?;
        let id = studio.store.add_shot(project, &shot, "Sample shot").await?;
        studio.take_poster(id, sample.picture)?;
    }
    Ok(())
}

/// The names of the sample shots.
pub fn names() -> Vec<&'static str> {
    SAMPLES.iter().map(|sample| sample.name).collect()
}

/// Writes a sample shot and its assets into a folder.
pub fn write(name: &str, folder: &Path) -> Result<()> {
    let names = names();
    let sample = SAMPLES.iter().find(|sample| sample.name == name).ok_or_else(|| {
        Error::Bad(format!("there is no sample \"{name}\"; there are {}", names.join(", ")))
    })?;
    let shot = build(sample, folder, &mut Known::new())?;
    Ok(write_whole(&folder.join("shot.json"), shot::write(&shot).as_bytes())?)
}
