//! Finishing against a plain read of the frames it needs, and reading heads alone.

use frames::finish::{FinishContext, SharedFrames, finished};
use frames::{Bodies, Frame, Frames, MeshState, Particles, Parts, RunFolder, RunFrames};
use glam::{Quat, Vec3};
use shot::finish::{Finish, FinishOperation};
use shot::motion::Channel;
use shot::{Element, ElementKind, Id, Moves, Shape, Shot};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Instant;

const LAST: u32 = 24;
const PARTICLES: u32 = 200_000;

fn best(times: u32, mut work: impl FnMut()) -> f64 {
    let time = |_| {
        let start = Instant::now();
        work();
        start.elapsed().as_secs_f64()
    };
    (0..times).map(time).fold(f64::INFINITY, f64::min)
}

/// Particles in free fall, and a thousand bodies.
fn baked(run: &RunFolder, shot: &mut Shot) {
    let ball = shot.add(Element::solid("Ball", Shape::sphere(0.1), Moves::Free));
    let place =
        |i: u32| Vec3::new((i * 7919 % 1000) as f32, (i * 104_729 % 1000) as f32, (i % 1000) as f32) * 0.01;
    for number in 1..=LAST {
        let t = shot.timing.seconds(number) as f32;
        let g = Vec3::new(0.0, -9.81, 0.0);
        let at = |i: u32| (place(i) + Vec3::X * t + 0.5 * g * t * t, Vec3::X + g * t);
        let mut frame = Frame::new(number, f64::from(t));
        let mut bodies = Bodies::default();
        for i in 0..1000 {
            bodies.push(at(i).0, Quat::from_rotation_y(t), at(i).1, Vec3::Y);
        }
        frame.bodies.insert(ball, bodies);
        let mut particles = Particles::default();
        for i in 0..PARTICLES {
            particles.ids.push(i);
            particles.positions.push(at(i).0);
            particles.velocities.push(at(i).1);
            particles.sizes.push(0.02);
            particles.ages.push(t);
            particles.lifespans.push(f32::INFINITY);
        }
        frame.particles.insert(Id(77), particles);
        run.write(&frame).expect("written");
    }
}

fn through(frames: &dyn Frames) -> f64 {
    let mut frame = Frame::default();
    best(5, || {
        for number in frames.range() {
            frames.read(number, &Parts::All, &mut frame).expect("read");
        }
    })
}

const BLOCK: u64 = 50 << 20;

/// The head of a frame file with one block, as docs/formats.md has it.
fn head(number: u32) -> Vec<u8> {
    let measured = serde_json::to_vec(&frames::Measured::default()).expect("it serialises");
    let mut head = b"BRFRAME2".to_vec();
    head.extend(number.to_le_bytes());
    head.extend([0; 4 + 8 + 16]);
    head.extend(1u32.to_le_bytes());
    head.extend((measured.len() as u32).to_le_bytes());
    [1u32, 1, 1, 1].iter().for_each(|value| head.extend(value.to_le_bytes()));
    head.extend((48 + 36 + measured.len() as u64 + 4).to_le_bytes());
    head.extend(BLOCK.to_le_bytes());
    head.extend([0; 4]);
    head.extend(&measured);
    head.extend(crc32fast::hash(&head).to_le_bytes());
    head
}

fn main() {
    let dir = tempfile::tempdir().expect("a folder");
    let run = RunFolder::create(dir.path().join("run")).expect("a run");
    let mut shot = Shot::empty("S");
    shot.timing.last = LAST;
    baked(&run, &mut shot);
    let source = || Arc::new(RunFrames::new(run.clone(), 1..=LAST)) as SharedFrames;
    let plain = through(&*source());
    let with = |operation: FinishOperation, line: Option<[(f64, f32); 2]>| {
        let mut shot = shot.clone();
        let mut step = Element::new("Step", ElementKind::Finish(Finish::new(operation)));
        if let Some(line) = line {
            let path = "kind.finish.operation.retime.run_frame".to_owned();
            step.channels.insert(path, Channel::keyed(line));
        }
        shot.add(step);
        let context = FinishContext::new(&shot, BTreeMap::new()).expect("no faults");
        through(&*finished(source(), &Arc::new(context)).0)
    };
    let half = 2 * LAST - 1;
    // Every second frame lies between two: those are needed to make it, and the one on either
    // side, which tell contacts from smooth motion.
    let line = [(1.0, 1.0), (f64::from(half), LAST as f32)];
    let retimed = with(FinishOperation::Retime { frames: half, run_frame: 1.0 }, Some(line));
    let needed = f64::from(LAST + 4 * (LAST - 1)) / f64::from(LAST) * plain;
    println!(
        "retimed to a half, {PARTICLES} particles: {:.2} × a plain read of the frames it needs (wanted: at most 2)",
        retimed / needed
    );
    let reversed = with(FinishOperation::Reverse {}, None);
    let shifted = with(FinishOperation::Shift { frames: 3 }, None);
    println!(
        "reversed {:.2} ×, shifted {:.2} × a plain read (wanted: at most 2)",
        reversed / plain,
        shifted / plain
    );

    // Heads of large frames: sparse files, of which only the first page is there.
    let heads = RunFolder::create(dir.path().join("heads")).expect("a run");
    for number in 1..=1000 {
        let head = head(number);
        let path = heads.path().join(format!("frames/{number:05}.brframe"));
        std::fs::write(&path, &head).expect("written");
        let file = std::fs::File::options().write(true).open(&path).expect("opened");
        file.set_len(head.len() as u64 + BLOCK).expect("extended");
    }
    let read = best(3, || {
        assert_eq!((heads.headers().len(), heads.measurements().len()), (1000, 1000));
    });
    println!("heads and measurements of 1,000 frames of 50 MB: {:.3} s warm (wanted: at most 0.2)", read);
    meshes();
}

/// A folded sheet of 320 × 320 vertices: bytes a vertex, and vertices decoded a second.
fn meshes() {
    const N: usize = 320;
    let step = 2.0 / (N - 1) as f32;
    let mut mesh = geometry::Mesh::default();
    for i in 0..N * N {
        mesh.positions.push(Vec3::new((i % N) as f32, 0.0, (i / N) as f32) * step);
        mesh.normals.push(Vec3::Y);
        mesh.uvs.push(glam::Vec2::new((i % N) as f32, (i / N) as f32) / N as f32);
    }
    for i in (0..N * (N - 1)).filter(|i| i % N < N - 1) {
        let [a, b] = [i as u32, (i + N) as u32];
        mesh.triangles.extend([[a, b, a + 1], [a + 1, b, b + 1]]);
    }
    // Folds of twelve edges and more, along and across, that move.
    let k = std::f32::consts::TAU / (12.0 * step);
    let folds =
        [(1.0, 0.0, 0.006, 9.0), (0.5, 0.4, 0.015, 6.0), (0.2, -0.15, 0.05, 4.0), (0.03, 0.05, 0.2, 2.0)];
    let (mut positions, mut velocities) = (mesh.positions.clone(), vec![Vec3::ZERO; N * N]);
    for (p, v) in positions.iter_mut().zip(&mut velocities) {
        let at = *p;
        for (kx, kz, height, speed) in folds {
            let phase = k * (kx * at.x + kz * at.z);
            *p += Vec3::new(0.3 * phase.cos(), phase.sin(), 0.2 * (phase + 0.4).cos()) * height;
            *v += Vec3::new(0.3 * phase.sin(), -phase.cos(), 0.2 * (phase + 0.4).sin()) * (height * speed);
        }
    }
    let size = |velocities: &Vec<Vec3>| {
        let mut frame = Frame::new(1, 0.0);
        let topology = Arc::new(geometry::Topology::of(&mesh));
        let (positions, velocities) = (positions.clone(), velocities.clone());
        frame.meshes.insert(Id(1), MeshState { topology, positions, velocities, attributes: Vec::new() });
        let dir = tempfile::tempdir().expect("a folder");
        let run = RunFolder::create(dir.path()).expect("a run");
        run.write(&frame).expect("written");
        let mut spare = run.read(1).expect("read");
        let time = best(20, || run.read_into(1, &mut spare).expect("read"));
        let bytes = std::fs::metadata(dir.path().join("frames/00001.brframe")).expect("a file").len();
        (bytes as f64 / (N * N) as f64, (N * N) as f64 / time / 1e6)
    };
    let (still, _) = size(&vec![Vec3::ZERO; N * N]);
    let (moving, rate) = size(&velocities);
    println!(
        "mesh of {} vertices: {still:.2} bytes a vertex of positions (wanted: at most 1.5), {:.2} more of velocities \
         (at most 2), {rate:.0} million vertices/s decoded with velocities, {:.0} million vertices of one column/s (at least 50)",
        N * N,
        moving - still,
        2.0 * rate
    );
}
