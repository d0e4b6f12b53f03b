//! The surface of 200,000 particles of a liquid, with its smoothing, against that of the crate `splashsurf_lib` with its own, at cells of
//! half a spacing on two threads.

use geometry::{LiquidMesh, Mesh, ParticleSurface, Smoothing, SurfaceParticles};
use glam::{Vec2, Vec3};
use rand::{Rng, SeedableRng, rngs::SmallRng};
use splashsurf_lib::{
    Parameters, mesh::Mesh3d, nalgebra::Vector3, postprocessing, sph_interpolation::SphInterpolator,
};
use std::hint::black_box;
use std::time::Instant;

const SPACING_M: f32 = 0.01;
const CELL_M: f32 = 0.5 * SPACING_M;
const ROUNDS: usize = 3;
/// Passes of smoothing without shrinking.
const PASSES: u32 = 2;
/// Iterations of the other crate's smoothing, as its authors advise.
const ITERATIONS: usize = 25;

/// A basin of water with waves, filled as liquids are, and drops above.
fn particles() -> Vec<Vec3> {
    let (wide, high) = (96.0, 26.0);
    let size = Vec3::new(wide, high, wide) * SPACING_M;
    let is_below = |p: &Vec3| {
        let at = (*p + 0.5 * size) / SPACING_M;
        at.y < 21.0 + 4.0 * (0.13 * at.x).sin() * (0.09 * at.z).cos()
    };
    let filled = geometry::fill(&geometry::primitive::cuboid(size, 0.0), SPACING_M);
    let mut all: Vec<Vec3> = filled.into_iter().filter(is_below).collect();
    let mut random = SmallRng::seed_from_u64(7);
    all.extend((0..6_000).map(|_| {
        let at: [f32; 3] = std::array::from_fn(|_| random.random_range(-0.5f32..0.5));
        Vec3::new(wide * at[0], high + 20.0 * at[1], wide * at[2]) * SPACING_M
    }));
    all
}

/// The best time of several rounds, s, and what came out last.
fn best<T>(mut work: impl FnMut() -> T) -> (f64, T) {
    let mut best: Option<(f64, T)> = None;
    for _ in 0..ROUNDS {
        let start = Instant::now();
        let out = black_box(work());
        let seconds = start.elapsed().as_secs_f64();
        best = Some((best.map_or(seconds, |(least, _)| least.min(seconds)), out));
    }
    best.expect("rounds")
}

fn ours(positions: &[Vec3], velocities: &[Vec3], values: &[Vec2]) -> Mesh {
    let surface = ParticleSurface {
        size_m: SPACING_M,
        radius_m: 0.6 * SPACING_M,
        reach_m: 2.2 * SPACING_M,
        cell_m: CELL_M,
        anisotropy: 3.0,
        film_m: 0.8 * SPACING_M,
    };
    let LiquidMesh { positions, mut triangles, .. } =
        surface.of(&SurfaceParticles { positions, velocities, values }).expect("it is near");
    let smoothing = Smoothing::of_closed(&triangles, positions.len());
    let mut positions = smoothing.apply(&positions, PASSES);
    smoothing.unfold(&mut triangles, &mut positions);
    Mesh { positions, triangles, ..Mesh::default() }
}

/// The other crate's surface, cleaned up, and smoothed where particles have neighbours, as its authors do.
fn theirs(positions: &[Vector3<f32>]) -> usize {
    let radius = 0.5 * SPACING_M;
    let mut parameters = Parameters::new(radius, 4.0 * radius, CELL_M);
    parameters.global_neighborhood_list = true;
    let surface = splashsurf_lib::reconstruct_surface::<i64, f32>(positions, &parameters).expect("a surface");
    let mut mesh = surface.mesh.clone();
    postprocessing::marching_cubes_cleanup(&mut mesh, &surface.grid, None, 5, false);
    let densities = surface.particle_densities.as_ref().expect("densities");
    let mass = parameters.rest_density * SPACING_M.powi(3);
    let interpolator = SphInterpolator::new(positions, densities, mass, parameters.compact_support_radius);
    let neighbours = surface.particle_neighbors.as_ref().expect("neighbours");
    let counts: Vec<f32> = neighbours.iter().map(|of| of.len() as f32).collect();
    let around = interpolator.interpolate_scalar_quantity(&counts, &mesh.vertices, true);
    let weights: Vec<f32> = around.iter().map(|count| (count / 13.0).clamp(0.0, 1.0)).collect();
    let connectivity = mesh.vertex_vertex_connectivity();
    postprocessing::par_laplacian_smoothing_inplace(&mut mesh, &connectivity, ITERATIONS, 1.0, &weights);
    mesh.triangles.len()
}

/// Triangles that face against the mean of the normals at their corners.
fn flipped(mesh: &Mesh) -> usize {
    let normal = |t: &[u32; 3]| {
        let [a, b, c] = t.map(|v| mesh.positions[v as usize]);
        (b - a).cross(c - a)
    };
    let mut normals = vec![Vec3::ZERO; mesh.positions.len()];
    for t in &mesh.triangles {
        t.iter().for_each(|v| normals[*v as usize] += normal(t));
    }
    let is_flipped = |t: &&[u32; 3]| normal(t).dot(t.iter().map(|v| normals[*v as usize]).sum()) < 0.0;
    mesh.triangles.iter().filter(is_flipped).count()
}

fn main() {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(2).build_global();
    pool.expect("threads");
    let positions = particles();
    let velocities = vec![Vec3::X; positions.len()];
    let values = vec![Vec2::X; positions.len()];
    let (own, mesh) = best(|| ours(&positions, &velocities, &values));
    let as_theirs: Vec<Vector3<f32>> = positions.iter().map(|p| Vector3::new(p.x, p.y, p.z)).collect();
    let (other, triangles) = best(|| theirs(&as_theirs));
    println!(
        "surface of {} particles: {:.0} ms for {} triangles ({}, {} flipped); splashsurf_lib {:.0} ms for {triangles}: {:.1} x as fast (8)",
        positions.len(),
        1e3 * own,
        mesh.triangles.len(),
        if mesh.is_closed() { "closed" } else { "NOT closed" },
        flipped(&mesh),
        1e3 * other,
        other / own
    );
}
