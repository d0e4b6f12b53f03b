//! The `bright-ripple` command.
//!
//! Exit codes: 0 done, 1 failed, 2 bad input (with one line that says where).

mod bake;
mod enough;
mod export;
mod finish;
mod pack;
mod probe;
mod progress;
mod render;
mod serve;

use crate::assets::Loader;
use crate::finishing::Runs;
use clap::{Parser, Subcommand};
use frames::RunFolder;
use shot::Shot;
use std::ops::RangeInclusive;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Short dynamic shots: staged, simulated, rendered.
#[derive(Parser)]
#[command(name = "bright-ripple", version)]
pub struct Command {
    #[command(subcommand)]
    what: What,
}

#[derive(Subcommand)]
enum What {
    /// Serve the application
    #[command(after_help = "Example:\n  bright-ripple serve --data-dir ~/shots --port 7700")]
    Serve(serve::Serve),
    /// Name every fault of a shot file by its JSON path, and what is likely wrong
    #[command(after_help = "Example:\n  bright-ripple check demo/crate-tumble/shot.json")]
    Check {
        /// Shot file
        shot: PathBuf,
    },
    /// Compute a shot's frames into a run folder
    #[command(
        after_help = "Example:\n  bright-ripple bake demo/crate-tumble/shot.json --out run --frames 1-48"
    )]
    Bake(bake::BakeArgs),
    /// Compare three sizes of a shot's liquids in the gate, and name the smallest that is enough
    #[command(after_help = "Example:\n  bright-ripple enough demo/wax-mark/shot.json")]
    Enough(enough::EnoughArgs),
    /// Write the finished frames of a run into a run folder of their own
    #[command(
        after_help = "Example:\n  bright-ripple finish demo/slow-toss/shot.json --run run --out finished"
    )]
    Finish(finish::FinishArgs),
    /// Pack copies of a solid into another, without overlap, and write the shot file
    #[command(
        after_help = "Example:\n  bright-ripple pack bag/shot.json --element Floats --into Bag --count 35 --size-variation 0.2"
    )]
    Pack(pack::PackArgs),
    /// Write the meshes of frames for other tools
    #[command(
        after_help = "Example:\n  bright-ripple export demo/quay-flags/shot.json --run run --frames 1-48 --out quay.glb"
    )]
    Export(export::ExportArgs),
    /// Print numbers out of a run
    #[command(after_help = "Example:\n  bright-ripple probe run --element \"Mooring block\" --format csv")]
    Probe(probe::Probe),
    /// Render frames of a run
    #[command(
        after_help = "Example:\n  bright-ripple render demo/crate-tumble/shot.json --run run --out film --size 640x360 --samples 16 --video film.mp4"
    )]
    Render(render::RenderArgs),
    /// Print the JSON Schema of a shot file
    #[command(after_help = "Example:\n  bright-ripple schema > shot.schema.json")]
    Schema,
    /// Print the OpenAPI description of the HTTP interface
    #[command(after_help = "Example:\n  bright-ripple openapi > openapi.json")]
    Openapi,
    /// Write a Saltmarket shot with its assets into a folder; without a name, list the shots
    #[command(after_help = "Example:\n  bright-ripple sample \"Crate tumble\" --out demo/crate-tumble")]
    Sample {
        /// Name of the shot
        #[arg(requires = "out")]
        name: Option<String>,
        /// Folder to write to
        #[arg(long)]
        out: Option<PathBuf>,
    },
}

/// Why a command ended early.
pub(crate) enum Stop {
    /// The input is wrong: exit code 2.
    Bad(String),
    /// It failed: exit code 1.
    Failed(String),
}

type Outcome = Result<(), Stop>;

impl Command {
    /// Runs the command and reports on standard error.
    pub fn run(self) -> ExitCode {
        let outcome = match self.what {
            What::Serve(serve) => serve.run(),
            What::Check { shot } => check(&shot),
            What::Bake(bake) => bake.run(),
            What::Enough(enough) => enough.run(),
            What::Finish(finish) => finish.run(),
            What::Pack(pack) => pack.run(),
            What::Export(export) => export.run(),
            What::Probe(probe) => probe.run(),
            What::Render(render) => render.run(),
            What::Schema => print(&serde_json::to_string_pretty(&shot::schema()).expect("it serialises")),
            What::Openapi => {
                print(&serde_json::to_string_pretty(&crate::api::description()).expect("it serialises"))
            }
            What::Sample { name: Some(name), out: Some(out) } => {
                crate::demo::write(&name, &out).map_err(|error| Stop::Failed(error.to_string()))
            }
            What::Sample { .. } => print(&crate::demo::names().join("\n")),
        };
        let (message, code) = match outcome {
            Ok(()) => return ExitCode::SUCCESS,
            Err(Stop::Failed(message)) => (message, 1),
            Err(Stop::Bad(message)) => (message, 2),
        };
        eprintln!("bright-ripple: {message}");
        ExitCode::from(code)
    }
}

/// Prints a line; a closed pipe is no failure.
pub(crate) fn print(text: &str) -> Outcome {
    use std::io::Write;
    match writeln!(std::io::stdout(), "{text}") {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(Stop::Failed(error.to_string())),
        _ => Ok(()),
    }
}

/// A run folder; frames of an earlier version in it are written anew.
pub(crate) fn open_run(path: &Path) -> Result<RunFolder, Stop> {
    let run = RunFolder::open(path).map_err(|error| Stop::Bad(error.to_string()))?;
    upgrade(&run)?;
    Ok(run)
}

/// The runs that finished frames are made from.
pub(crate) fn open_runs(run: &Path, kept: &[(u32, PathBuf)]) -> Result<Runs, Stop> {
    let mut runs = Runs::only(open_run(run)?);
    for (number, path) in kept {
        runs.kept.insert(*number, open_run(path)?);
    }
    Ok(runs)
}

/// Parses `NUMBER=FOLDER`.
pub(crate) fn kept_run(text: &str) -> Result<(u32, PathBuf), String> {
    let (number, path) = text.split_once('=').ok_or("give NUMBER=FOLDER, such as 2=slippery")?;
    Ok((number.parse().map_err(|_| format!("{number} is not a number"))?, path.into()))
}

/// Writes frames of an earlier version in a run folder anew.
pub(crate) fn upgrade(run: &RunFolder) -> Outcome {
    let mut progress = None;
    frames::upgrade(std::slice::from_ref(run), &mut |done, all| {
        progress.get_or_insert_with(|| progress::Progress::new("upgraded", all as u64)).at(done as u64);
    })
    .map_err(|error| Stop::Failed(error.to_string()))?;
    if let Some(progress) = progress {
        progress.finish();
    }
    Ok(())
}

/// A shot file and the folder its assets lie below.
pub(crate) fn read_shot(path: &Path) -> Result<(Shot, PathBuf), Stop> {
    let bytes = std::fs::read(path).map_err(|error| Stop::Bad(format!("{}: {error}", path.display())))?;
    let shot =
        shot::read(&bytes).map_err(|error| Stop::Bad(format!("{}: {}", path.display(), one_line(&error))))?;
    Ok((shot, path.parent().unwrap_or(Path::new(".")).to_owned()))
}

fn one_line(error: &shot::ReadError) -> String {
    let more = match error.0.len() {
        0 | 1 => String::new(),
        n => format!(" (and {} more; see `check`)", n - 1),
    };
    error.0.first().map(|fault| format!("{fault}{more}")).unwrap_or_default()
}

/// Parses `A-B` or `A`, within all frames.
pub(crate) fn frames_of(text: Option<&str>, all: RangeInclusive<u32>) -> Result<RangeInclusive<u32>, Stop> {
    let Some(text) = text else { return Ok(all) };
    let (from, to) = text.split_once('-').unwrap_or((text, text));
    let bad = |why: String| Stop::Bad(format!("--frames {text}: {why}"));
    let number =
        |part: &str| part.trim().parse::<u32>().map_err(|_| bad("give A-B, such as 1-48".to_owned()));
    let (from, to) = (number(from)?, number(to)?);
    if from > to {
        return Err(bad(format!("{from} comes after {to}")));
    }
    if !all.contains(&from) || !all.contains(&to) {
        return Err(bad(format!("there are frames {}-{}", all.start(), all.end())));
    }
    Ok(from..=to)
}

fn check(path: &Path) -> Outcome {
    let bytes = std::fs::read(path).map_err(|error| Stop::Bad(format!("{}: {error}", path.display())))?;
    let shot = match shot::read(&bytes) {
        Ok(shot) => shot,
        Err(error) => {
            for fault in &error.0 {
                print(&fault.to_string())?;
            }
            let faults =
                if error.0.len() == 1 { "1 fault".to_owned() } else { format!("{} faults", error.0.len()) };
            return Err(Stop::Bad(format!("{}: {faults}, first at {}", path.display(), error.0[0].path)));
        }
    };
    let folder = path.parent().unwrap_or(Path::new("."));
    let meshes = Loader::default().meshes(folder, &shot).map_err(|error| Stop::Bad(error.to_string()))?;
    let mut entries = shot::check::check(&shot);
    entries.extend(crate::api::overlaps(&shot, &meshes).map_err(|error| Stop::Bad(error.to_string()))?);
    entries.extend(simulate::deformable_check::check_deformables(&shot, &meshes));
    for entry in &entries {
        print(&format!("likely: {}", entry.reason))?;
    }
    let bodies: usize = shot.solids().map(|(element, _)| element.count()).sum();
    print(&format!(
        "{}: {} elements, {bodies} bodies, {} frames, no faults",
        shot.name,
        shot.elements.len(),
        shot.timing.count()
    ))
}
