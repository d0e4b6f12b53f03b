use super::progress::Progress;
use super::{Outcome, Stop, frames_of, kept_run, open_runs, read_shot};
use crate::assets::Loader;
use crate::handing_on::HandingOn;
use clap::Args;
use frames::write_whole;
use interchange::UsdForm;
use std::path::PathBuf;

#[derive(Args)]
pub(crate) struct ExportArgs {
    /// Shot file
    shot: PathBuf,
    /// Run folder with the frames
    #[arg(long)]
    run: PathBuf,
    /// File to write: .glb, .abc, .usda, .usdc and .usdz hold all frames; .obj one frame, several as numbered files
    #[arg(long)]
    out: PathBuf,
    /// Frames, such as 1-48; all by default
    #[arg(long)]
    frames: Option<String>,
    /// A kept run that finishing steps show, such as 2=FOLDER; may be given several times
    #[arg(long, value_parser = kept_run)]
    kept: Vec<(u32, PathBuf)>,
}

impl ExportArgs {
    pub fn run(self) -> Outcome {
        let (shot, folder) = read_shot(&self.shot)?;
        let runs = open_runs(&self.run, &self.kept)?
            .with_meshes(&folder, &shot)
            .map_err(|error| Stop::Bad(error.to_string()))?;
        let bad = |error: crate::error::Error| Stop::Bad(error.to_string());
        let mut meshes = HandingOn::new(&shot, &runs, &Loader::default(), &folder).map_err(bad)?;
        let frames = frames_of(self.frames.as_deref(), meshes.range())?;
        let progress = Progress::new("exported", u64::from(frames.end() - frames.start() + 1));
        let mut done = 0;
        let mut count = || {
            done += 1;
            progress.at(done);
        };
        let write = |path: &PathBuf, bytes: &[u8]| {
            write_whole(path, bytes).map_err(|error| Stop::Failed(error.to_string()))
        };
        match self.out.extension().and_then(|extension| extension.to_str()) {
            Some("glb") => write(&self.out, &meshes.glb(frames, &mut count).map_err(bad)?)?,
            Some("obj") if frames.start() == frames.end() => {
                write(&self.out, &meshes.obj(*frames.start()).map_err(bad)?)?;
                count();
            }
            Some("obj") => {
                let stem = self.out.file_stem().and_then(|stem| stem.to_str()).unwrap_or("frame");
                for number in frames {
                    let path = self.out.with_file_name(format!("{stem}_{number:05}.obj"));
                    write(&path, &meshes.obj(number).map_err(bad)?)?;
                    count();
                }
            }
            Some("abc") => write(&self.out, &meshes.alembic(frames, &mut count).map_err(bad)?)?,
            other => match other.and_then(UsdForm::of_extension) {
                Some(form) => write(&self.out, &meshes.usd(frames, form, &mut count).map_err(bad)?)?,
                None => {
                    let is = "is none of .glb, .obj, .abc, .usda, .usdc, .usdz";
                    return Err(Stop::Bad(format!("--out {}: {is}", self.out.display())));
                }
            },
        }
        progress.finish();
        Ok(())
    }
}
