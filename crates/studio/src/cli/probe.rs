use super::{Outcome, Stop, frames_of, kept_run, open_runs, print, read_shot};
use clap::{Args, ValueEnum};
use frames::{RunFrames, finish::SharedFrames};
use simulate::WaveCounter;
use std::path::PathBuf;
use std::sync::Arc;

#[derive(Clone, Copy, ValueEnum)]
enum Format {
    Csv,
    Json,
}

#[derive(Args)]
pub(crate) struct Probe {
    /// Run folder
    run: PathBuf,
    /// Only this element, by name or id; may be given several times, of bodies or of particles.
    /// Without it, the totals of all solids
    #[arg(long)]
    element: Vec<String>,
    /// The number of waves along a held cloth; needs one --element
    #[arg(long)]
    waves: bool,
    /// Frames, such as 1-48; all by default
    #[arg(long)]
    frames: Option<String>,
    #[arg(long, value_enum, default_value = "csv")]
    format: Format,
    /// Shot file whose finishing steps are taken; by default those that the run was baked with
    #[arg(long)]
    shot: Option<PathBuf>,
    /// A kept run that finishing steps show, such as 2=FOLDER; may be given several times
    #[arg(long, value_parser = kept_run)]
    kept: Vec<(u32, PathBuf)>,
    /// The frames as they were computed, without finishing steps
    #[arg(long)]
    computed: bool,
}

const BODY: [&str; 16] = [
    "frame",
    "time_s",
    "copy",
    "position_x_m",
    "position_y_m",
    "position_z_m",
    "orientation_x",
    "orientation_y",
    "orientation_z",
    "orientation_w",
    "velocity_x_m_s",
    "velocity_y_m_s",
    "velocity_z_m_s",
    "angular_velocity_x_rad_s",
    "angular_velocity_y_rad_s",
    "angular_velocity_z_rad_s",
];
const PARTICLE: [&str; 12] = [
    "frame",
    "time_s",
    "particle",
    "position_x_m",
    "position_y_m",
    "position_z_m",
    "velocity_x_m_s",
    "velocity_y_m_s",
    "velocity_z_m_s",
    "size_m",
    "age_s",
    "lifespan_s",
];
const WAVES: [&str; 3] = ["frame", "time_s", "waves"];
const TOTALS: [&str; 10] = [
    "frame",
    "time_s",
    "contacts",
    "deepest_overlap_m",
    "max_speed_m_s",
    "kinetic_j",
    "potential_j",
    "momentum_x_kg_m_s",
    "momentum_y_kg_m_s",
    "momentum_z_kg_m_s",
];

impl Probe {
    pub fn run(self) -> Outcome {
        let bad = |error: frames::RunError| Stop::Bad(error.to_string());
        let mut runs = open_runs(&self.run, &self.kept)?;
        let run = runs.run.clone();
        let manifest = run.manifest().map_err(bad)?;
        let find = |wanted: &String| {
            let by_name = manifest.elements.iter().find(|element| &element.name == wanted);
            let by_id = || manifest.elements.iter().find(|element| element.id.0.to_string() == *wanted);
            let names: Vec<_> = manifest
                .elements
                .iter()
                .map(|element| format!("{} ({})", element.name, element.id.0))
                .collect();
            let missing = || Stop::Bad(format!("--element {wanted}: the run has {}", names.join(", ")));
            by_name.or_else(by_id).map(|element| element.id).ok_or_else(missing)
        };
        let ids: Vec<shot::Id> = self.element.iter().map(find).collect::<Result<_, _>>()?;
        // What a shot file adds, or the run was baked with, is done to the frames.
        let shot = match &self.shot {
            Some(path) => {
                let (shot, folder) = read_shot(path)?;
                runs = runs.with_meshes(&folder, &shot).map_err(|error| Stop::Bad(error.to_string()))?;
                shot
            }
            None => manifest.shot.clone(),
        };
        let failed = |error: crate::error::Error| Stop::Failed(error.to_string());
        let frames: SharedFrames = if self.computed {
            Arc::new(RunFrames::of(run.clone(), &manifest.shot))
        } else {
            runs.frames(&shot).map_err(failed)?
        };
        let wanted = frames_of(self.frames.as_deref(), frames.range())?;
        let is_particles =
            |id: &shot::Id| manifest.shot.element(*id).is_some_and(|of| of.as_particles().is_some());
        let particles = ids.iter().filter(|id| is_particles(id)).count();
        if particles > 0 && particles < ids.len() {
            return Err(Stop::Bad(
                "--element: ask for bodies and for particles one after the other".to_owned(),
            ));
        }
        let counter = match (self.waves, &ids[..]) {
            (false, _) => None,
            (true, [id]) => {
                let element = shot.element(*id);
                let counter = element.and_then(|element| WaveCounter::new(element, &runs.meshes));
                let unfit = || {
                    let what = "is no cloth that a side, a corner or a point holds, or its mesh is in a file: give --shot";
                    Stop::Bad(format!("--waves: {} {what}", self.element[0]))
                };
                Some(counter.ok_or_else(unfit)?)
            }
            (true, _) => return Err(Stop::Bad("--waves: needs one --element, a cloth".to_owned())),
        };
        let columns: Vec<&str> = match ids.len() {
            _ if counter.is_some() => WAVES.to_vec(),
            0 => TOTALS.to_vec(),
            n => {
                let of: &[&str] = if particles > 0 { &PARTICLE } else { &BODY };
                let first: &[&str] = if n > 1 { &["element"] } else { &[] };
                [first, of].concat()
            }
        };
        if matches!(self.format, Format::Csv) {
            print(&columns.join(","))?;
        }
        let mut records = Vec::new();
        for number in wanted.filter(|&number| frames.fingerprint(number).is_some()) {
            let frame = frames.frame(number).map_err(|error| Stop::Failed(error.to_string()))?;
            let rows: Vec<Vec<f64>> = if let Some(counter) = &counter {
                let row = |waves: f32| vec![f64::from(number), frame.time_s, f64::from(waves)];
                counter.count(&frame).map(row).into_iter().collect()
            } else if ids.is_empty() {
                let m = &frame.measured;
                let (overlap, fastest) = (f64::from(m.deepest_overlap_m), f64::from(m.max_speed_m_s));
                let mut row = vec![f64::from(number), frame.time_s, f64::from(m.contacts), overlap, fastest];
                row.extend([m.kinetic_j, m.potential_j]);
                row.extend(m.momentum);
                vec![row]
            } else {
                let rows_of = |id: &shot::Id| {
                    let first = (ids.len() > 1).then(|| f64::from(id.0));
                    let rows = body_rows(&frame, *id).into_iter();
                    rows.map(move |row| first.into_iter().chain(row).collect())
                };
                ids.iter().flat_map(rows_of).collect()
            };
            for row in rows {
                match self.format {
                    Format::Csv => print(&row.iter().map(f64::to_string).collect::<Vec<_>>().join(","))?,
                    Format::Json => {
                        let fields = columns.iter().zip(row);
                        records.push(
                            fields.map(|(name, value)| ((*name).to_owned(), json(name, value))).collect(),
                        );
                    }
                }
            }
        }
        if matches!(self.format, Format::Json) {
            let values: Vec<serde_json::Map<String, serde_json::Value>> = records;
            print(&serde_json::to_string_pretty(&values).expect("numbers serialise"))?;
        }
        Ok(())
    }
}

/// A number as JSON: counts stay whole.
fn json(column: &str, value: f64) -> serde_json::Value {
    match column {
        "frame" | "copy" | "particle" | "contacts" | "element" => (value as u64).into(),
        _ => value.into(),
    }
}

fn body_rows(frame: &frames::Frame, id: shot::Id) -> Vec<Vec<f64>> {
    if let Some(particles) = frame.particles.get(&id) {
        return particle_rows(frame, particles);
    }
    let Some(bodies) = frame.bodies.get(&id) else { return Vec::new() };
    (0..bodies.len())
        .map(|copy| {
            let mut row = vec![f64::from(frame.number), frame.time_s, copy as f64];
            row.extend(bodies.positions[copy].to_array().map(f64::from));
            row.extend(bodies.orientations[copy].to_array().map(f64::from));
            row.extend(bodies.velocities[copy].to_array().map(f64::from));
            row.extend(bodies.angular_velocities[copy].to_array().map(f64::from));
            row
        })
        .collect()
}

fn particle_rows(frame: &frames::Frame, particles: &frames::Particles) -> Vec<Vec<f64>> {
    (0..particles.len())
        .map(|i| {
            let mut row = vec![f64::from(frame.number), frame.time_s, f64::from(particles.ids[i])];
            row.extend(particles.positions[i].to_array().map(f64::from));
            row.extend(particles.velocities[i].to_array().map(f64::from));
            row.extend([particles.sizes[i], particles.ages[i], particles.lifespans[i]].map(f64::from));
            row
        })
        .collect()
}
