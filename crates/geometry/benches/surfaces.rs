//! Subdivision, smoothing and thickening of a sheet of quads on one thread: faces and
//! vertices a second, against the time of copying that memory.

use geometry::{
    Mesh, Smoothing, Thickening, Topology,
    subdivision::{Creases, Scheme, Subdivision},
};
use glam::{Vec2, Vec3};
use std::hint::black_box;
use std::time::Instant;

/// Quads along each side.
const SIDE: u32 = 320;
const ROUNDS: usize = 7;

fn sheet() -> Mesh {
    let row = SIDE + 1;
    let mut mesh = Mesh::default();
    for (j, i) in (0..row).flat_map(|j| (0..row).map(move |i| (j, i))) {
        let uv = Vec2::new(i as f32, j as f32) / SIDE as f32;
        mesh.positions.push(Vec3::new(uv.x, 0.05 * (20.0 * uv.x).sin() * (15.0 * uv.y).cos(), uv.y));
        mesh.uvs.push(uv);
    }
    for (j, i) in (0..SIDE).flat_map(|j| (0..SIDE).map(move |i| (j, i))) {
        let at = |di: u32, dj: u32| (j + dj) * row + i + di;
        mesh.triangles.extend([[at(0, 0), at(0, 1), at(1, 1)], [at(0, 0), at(1, 1), at(1, 0)]]);
    }
    mesh.normals = vec![Vec3::Y; mesh.positions.len()];
    mesh
}

/// The best time of several rounds, s.
fn best<T>(mut work: impl FnMut() -> T) -> f64 {
    let mut best = f64::INFINITY;
    for _ in 0..ROUNDS {
        let start = Instant::now();
        black_box(work());
        best = best.min(start.elapsed().as_secs_f64());
    }
    best
}

/// Seconds to copy so many bytes into memory that is used again.
fn copied(bytes: usize) -> f64 {
    let from = vec![1u8; bytes];
    let mut to = vec![0u8; bytes];
    best(|| to.copy_from_slice(black_box(&from)))
}

fn main() {
    let mesh = sheet();
    let topology = Topology::of(&mesh);
    for (scheme, name, a_face) in [(Scheme::CatmullClark, "Catmull-Clark", 2), (Scheme::Loop, "Loop", 1)] {
        let make =
            || Subdivision::new(&topology, &mesh.positions, scheme, 2, &Creases::default()).expect("made");
        let subdivision = make();
        let faces = (subdivision.topology().triangles().len() / a_face) as f64;
        println!(
            "{name}, 2 levels: {:.1} million faces/s with their topology (3), {:.0} million/s later (15)",
            faces / best(make) * 1e-6,
            faces / best(|| subdivision.apply(&mesh.positions)) * 1e-6
        );
    }
    let n = mesh.positions.len();
    let smoothing = Smoothing::new(&topology, &mesh.positions);
    // A pass is two steps; each reads and writes all places and reads the six neighbours of each.
    let passes = 10;
    let memory = n * (12 + 12 + 4 + 6 * 4) * 2 * passes;
    let ratio = best(|| smoothing.apply(&mesh.positions, passes as u32)) / copied(memory);
    println!("smoothing, {passes} passes of {n} vertices: {ratio:.2} x the time of copying its memory (3)");
    let thickening = Thickening::new(&topology, &mesh.positions);
    let made = thickening.topology();
    // The faces and vertices that are read, and the vertices that are written.
    let memory = topology.triangles().len() * 12 + n * (12 + 4) + n * 24 + made.vertices() * (12 + 8);
    let ratio = best(|| thickening.apply(&mesh.positions, 0.01, 0.0)) / copied(memory);
    println!("thickening of {n} vertices: {ratio:.2} x the time of copying its memory (3)");
}
