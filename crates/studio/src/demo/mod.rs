//! Saltmarket, the sample project: a made-up tidal quay where a market is held
//! at night.

mod assets;
mod brazier_sparks;
mod crate_tumble;
mod ember_fall;
mod float_toss;
mod gull_scatter;
mod jar_of_light;
mod lantern_parade;
mod quay;
mod scale_shower;
mod squall_test;

use crate::assets::{examine, path};
use crate::error::{Error, Result};
use crate::studio::Studio;
use frames::write_whole;
use shot::Shot;
use std::path::Path;

/// A file a sample shot uses: name of the asset, name of the file, bytes.
pub(crate) type File = (&'static str, &'static str, Vec<u8>);

type Sample = (&'static str, fn() -> (Shot, Vec<File>));

const SAMPLES: &[Sample] = &[
    ("Crate tumble", crate_tumble::shot),
    ("Squall test", squall_test::shot),
    ("Float toss", float_toss::shot),
    ("Lantern parade", lantern_parade::shot),
    ("Brazier sparks", brazier_sparks::shot),
    ("Scale shower", scale_shower::shot),
    ("Ember fall", ember_fall::shot),
    ("Gull scatter", gull_scatter::shot),
    ("Jar of light", jar_of_light::shot),
];

fn build(make: fn() -> (Shot, Vec<File>), folder: &Path) -> Result<Shot> {
    let (mut shot, files) = make();
    std::fs::create_dir_all(folder.join("assets"))?;
    for (name, file, bytes) in files {
        let asset = examine(file, &bytes)?.asset;
        write_whole(&path(folder, &asset)?, &bytes)?;
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
    for (_, make) in SAMPLES {
        let shot = build(*make, &studio.data)?;
        studio.store.add_shot(project, &shot, "Sample shot").await?;
    }
    Ok(())
}

/// The names of the sample shots.
pub fn names() -> Vec<&'static str> {
    SAMPLES.iter().map(|(name, _)| *name).collect()
}

/// Writes a sample shot and its assets into a folder.
pub fn write(name: &str, folder: &Path) -> Result<()> {
    let names = names();
    let (_, make) = SAMPLES.iter().find(|(sample, _)| *sample == name).ok_or_else(|| {
        Error::Bad(format!("there is no sample \"{name}\"; there are {}", names.join(", ")))
    })?;
    let shot = build(*make, folder)?;
    Ok(write_whole(&folder.join("shot.json"), shot::write(&shot).as_bytes())?)
}
