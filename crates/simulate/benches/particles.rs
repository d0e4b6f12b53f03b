//! What particles cost, as ratios within one run.

use frames::{decode_into, encode};
use glam::Vec3;
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot,
    force::{Force, ForceKind, Turbulence},
    motion::Sampler,
    particles::{Emission, EmissionDomain, EmissionSchedule, Particles, Source, Start},
    world::World,
};
use simulate::Simulation;
use simulate::forces::{Field, Points, Surfaces};
use std::hint::black_box;
use std::time::Instant;

const COUNT: u32 = 1_000_000;

fn best(rounds: usize, mut work: impl FnMut()) -> f64 {
    (0..rounds).fold(f64::INFINITY, |best, _| {
        let start = Instant::now();
        work();
        best.min(start.elapsed().as_secs_f64())
    })
}

fn median(of: impl Iterator<Item = f64>) -> f64 {
    let mut of: Vec<f64> = of.collect();
    of.sort_by(f64::total_cmp);
    of[of.len() / 2]
}

fn bare() -> Shot {
    let mut shot = Shot::empty("Particles");
    shot.elements.clear();
    shot.camera = None;
    shot.physics.substeps = 1;
    shot
}

/// A million that are there from the first frame on, in a box of air over the floor.
fn million() -> Element {
    let particles = Particles {
        source: Source::Shape { shape: Shape::cuboid(8.0, 3.0, 8.0), domain: EmissionDomain::Volume },
        emission: Emission { schedule: EmissionSchedule::Burst { count: COUNT }, ..Emission::default() },
        start: Start { lifespan_s: None, speed_m_s: 1.0, spread_rad: 3.1, size_m: 0.004, ..Start::default() },
        ..Particles::default()
    };
    Element::new("Dust", ElementKind::Particles(particles)).at(0.0, 2.0, 0.0)
}

fn air(shot: &mut Shot) {
    shot.add(Element::gravity(Vec3::new(0.0, -9.81, 0.0)));
    let force = |kind| ElementKind::Force(Force::new(kind));
    shot.add(Element::new("Air", force(ForceKind::Drag { linear_n_s_m: 0.0, density_kg_m3: 1.2 })));
    let turbulence = Turbulence { octaves: 3, ..Turbulence::default() };
    shot.add(Element::new("Eddies", force(ForceKind::Turbulence(turbulence))));
}

/// Seconds of a step, the best of some.
fn step(shot: &Shot, threads: usize) -> (f64, Simulation) {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
    pool.install(|| {
        let mut simulation = Simulation::new(shot, &Default::default()).expect("it prepares");
        (0..2).for_each(|_| simulation.go_on().expect("finite"));
        let seconds = best(5, || simulation.go_on().expect("finite"));
        (seconds, simulation)
    })
}

fn main() {
    let pool = |threads| rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
    let mut shot = bare();
    air(&mut shot);
    shot.add(Element::solid(
        "Cobbles",
        Shape::Mesh { asset: "cobbles".to_owned(), scale: 1.0 },
        Moves::Still,
    ));
    let dust = shot.add(million());
    let meshes = geometry::Meshes {
        by_name: [("cobbles".to_owned(), std::sync::Arc::new(cobbles(224)))].into(),
        ..Default::default()
    };
    let (single, double) = (pool(1), pool(2));
    let settled = |pool: &rayon::ThreadPool| {
        pool.install(|| {
            let mut simulation = Simulation::new(&shot, &meshes).expect("it prepares");
            // Until many have come down.
            (0..16).for_each(|_| simulation.go_on().expect("finite"));
            simulation
        })
    };
    let (mut simulation, mut twin) = (settled(&single), settled(&double));

    // The forces alone on the same points.
    let frame = simulation.write();
    let particles = &frame.particles[&dust];
    let sampler = Sampler::new(&shot).expect("no faults");
    let unsolved = |_: Id, _: f64| None;
    let world = World::new(&shot, &sampler, 1.0, &unsolved);
    let field = Field::new(&shot, &world, &Surfaces::default(), 4.0, 0.2);
    let mut velocities = particles.velocities.clone();
    let (inverse_masses, drag_areas) = (vec![1e4f32; particles.len()], vec![6e-6f32; particles.len()]);
    let mut forces = || {
        let mut points = Points {
            positions: &particles.positions,
            velocities: &mut velocities,
            inverse_masses: &inverse_masses,
            drag_areas: &drag_areas,
        };
        field.push(dust, &mut points, 0.04);
    };
    // One after the other, so that what else the machine does meets all of them.
    let rounds: Vec<[f64; 3]> = (0..9)
        .map(|_| {
            let alone = single.install(|| best(1, &mut forces));
            let one = single.install(|| best(1, || simulation.go_on().expect("finite")));
            let two = double.install(|| best(1, || twin.go_on().expect("finite")));
            [one, two, alone]
        })
        .collect();
    let one = median(rounds.iter().map(|[one, ..]| *one));
    eprintln!("{:.0} ms a step", 1e3 * one);
    println!(
        "a million particles, gravity, drag, turbulence, 100,000 triangles: {:.2} × the forces alone (wanted: at most 3)",
        median(rounds.iter().map(|[one, _, alone]| one / alone))
    );
    println!(
        "… on two threads: {:.2} times as fast (wanted: at least 1.8)",
        median(rounds.iter().map(|[one, two, _]| one / two))
    );

    let mut free = bare();
    free.add(million());
    let (plain, _) = step(&free, 1);
    let (positions, velocities) = (particles.positions.clone(), particles.velocities.clone());
    let (ends, born) = (particles.ages.clone(), particles.lifespans.clone());
    let (mut a, mut b, mut c, mut d) = (positions.clone(), velocities.clone(), ends.clone(), born.clone());
    let copy = pool(1).install(|| {
        best(9, || {
            a.copy_from_slice(&positions);
            b.copy_from_slice(&velocities);
            c.copy_from_slice(&ends);
            d.copy_from_slice(&born);
            black_box((&a, &b, &c, &d));
        })
    });
    println!("without forces and bodies: {:.2} × copying the arrays (wanted: at most 3)", plain / copy);

    let bytes = encode(&frame);
    // One after the other, as they are played.
    let mut read = frames::Frame::default();
    let unpack = best(9, || decode_into(black_box(&bytes), &mut read).expect("a frame"));
    println!(
        "a frame of a million: {:.1} bytes a particle, decoded in {:.1} ms (wanted: at most 15), {:.2} × copying its arrays",
        bytes.len() as f64 / f64::from(COUNT),
        1e3 * unpack,
        unpack / copy
    );
    let save = best(3, || drop(black_box(simulation.save())));
    println!(
        "a saved state: {:.1} % of eight frames of one substep (wanted: under 5 % of the bake)",
        100.0 * save / (8.0 * one)
    );
}

/// A square of n × n tiles, uneven, 8 m wide: 2 n² triangles.
fn cobbles(n: usize) -> geometry::Mesh {
    let side = n + 1;
    let at = |i: usize| (i as f32 / n as f32 - 0.5) * 8.0;
    let mut mesh = geometry::Mesh::default();
    for j in 0..side {
        for i in 0..side {
            let height = 0.05 * ((i * 7 + j * 13) % 11) as f32 / 11.0;
            mesh.positions.push(Vec3::new(at(i), height, at(j)));
            mesh.uvs.push(glam::Vec2::ZERO);
            mesh.normals.push(Vec3::Y);
        }
    }
    let v = |i: usize, j: usize| (j * side + i) as u32;
    for j in 0..n {
        for i in 0..n {
            mesh.triangles.push([v(i, j), v(i, j + 1), v(i + 1, j)]);
            mesh.triangles.push([v(i + 1, j), v(i, j + 1), v(i + 1, j + 1)]);
        }
    }
    mesh
}
