//! Whole bakes of liquid: the memory and the disk that a million particles take, and how long a million take for 200 frames and twenty
//! million for ten. The long ones take up to an hour and are asked for by name:
//! `cargo test --workspace --features geometry/comparison --bench liquid_bakes -- water honey ocean`.

use frames::RunFolder;
use geometry::Meshes;
use glam::Vec3;
use shot::particles::{
    Emission, EmissionDomain, EmissionSchedule, Liquid, Particles, Source, Start, liquid_materials,
};
use shot::{Element, ElementKind, Moves, Shape, Shot};
use simulate::{Bake, bake};
use std::ops::ControlFlow;
use std::time::Instant;

const SPACING_M: f32 = 0.01;
/// Thickness of the walls, m.
const WALL_M: f32 = 0.2;

/// A cube of so many particles a side of a material that stands at one end of a tank of 2.5 times its length.
fn column(material: &str, side: u32, last: u32) -> Shot {
    let mut shot = Shot::empty("A column of liquid");
    shot.timing.last = last;
    let edge = side as f32 * SPACING_M;
    let tank = Vec3::new(2.5 * edge, 3.0 * edge, edge);
    let mut wall = |low: Vec3, high: Vec3| {
        let (size, at) = (high - low, 0.5 * (low + high));
        let cuboid = Shape::cuboid(size.x, size.y, size.z);
        shot.add(Element::solid("Wall", cuboid, Moves::Still).at(at.x, at.y, at.z));
    };
    for axis in Vec3::AXES {
        let across = (Vec3::ONE - axis) * WALL_M;
        wall(-across - axis * WALL_M, tank * (Vec3::ONE - axis) + across);
        if axis != Vec3::Y {
            wall(tank * axis - across, tank + axis * WALL_M + across);
        }
    }
    let named = liquid_materials().into_iter().find(|(name, _)| *name == material).expect("a material").1;
    let block = Particles {
        liquid: Some(Liquid { spacing_m: SPACING_M, ..named }),
        source: Source::Shape { shape: Shape::cuboid(edge, edge, edge), domain: EmissionDomain::Surface },
        emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
        start: Start { speed_m_s: 0.0, speed_variation: 0.0, lifespan_s: None, ..Start::default() },
        ..Particles::default()
    };
    let [x, y, z] = [0.5 * edge; 3];
    shot.add(Element::new("Liquid", ElementKind::Particles(block)).at(x, y, z));
    shot
}

/// What a bake took.
struct Taken {
    particles: usize,
    seconds: f64,
    /// Bytes of the frames.
    on_disk: u64,
    /// The most memory that the process had, less what it had before.
    memory: u64,
}

fn baked(shot: &Shot) -> Taken {
    let folder = tempfile::tempdir().expect("a folder");
    let run = RunFolder::create(folder.path()).expect("a run");
    let meshes = Meshes::default();
    let frames = 1..=shot.timing.last;
    let job =
        Bake { shot, meshes: &meshes, run: &run, revision: 1, frames, systems: None, initial_state: None };
    let (before, start) = (memory("VmRSS"), Instant::now());
    bake(&job, |_| ControlFlow::Continue(())).expect("baked");
    let seconds = start.elapsed().as_secs_f64();
    let memory = memory("VmHWM").saturating_sub(before);
    let last = run.read(shot.timing.last).expect("a frame");
    let particles = last.particles.values().map(|of| of.len()).sum();
    Taken { particles, seconds, on_disk: run.size().0, memory }
}

/// A value of what the system tells of this process, bytes; 0 where there is none.
fn memory(name: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with(name));
    let kilobytes = line.and_then(|line| line.split_whitespace().nth(1)?.parse::<u64>().ok());
    kilobytes.unwrap_or_default() * 1024
}

fn show(what: &str, shot: &Shot, wanted: &str) {
    let Taken { particles, seconds, on_disk, memory } = baked(shot);
    let (frames, each) = (f64::from(shot.timing.last), particles as f64);
    println!(
        "{what}: {particles} particles, {} frames in {:.0} s, {:.1} s each{wanted}; {:.0} bytes of memory a particle (wanted: at most 200), \
         {:.2} bytes a particle on disk (at most 10)",
        shot.timing.last,
        seconds,
        seconds / frames,
        memory as f64 / each,
        on_disk as f64 / each / frames
    );
}

fn main() {
    let asked: Vec<String> = std::env::args().skip(1).filter(|of| !of.starts_with('-')).collect();
    let is_asked = |name: &str| asked.iter().any(|of| of == name);
    if is_asked("water") {
        show("water", &column("water", 100, 200), " (wanted: at most 300 s)");
    }
    if is_asked("honey") {
        show("honey", &column("honey", 100, 200), " (wanted: at most 1,800 s)");
    }
    if is_asked("ocean") {
        show("water", &column("water", 272, 10), " (wanted: at most 54 s each)");
    }
    if asked.is_empty() {
        show("water", &column("water", 100, 6), "");
    }
}
