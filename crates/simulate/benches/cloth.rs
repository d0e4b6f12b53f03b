//! Cost of a frame of what deforms: beside the physics library's own cloth, by the number of vertices, by threads, and with the
//! solver's own timers.
//!
//! `cargo test --workspace --bench cloth -- SCENE SIDE`: one scene alone (`held`, `ball`, `wind` or `soft`); `-- stretch`: how far a
//! hung sheet of the physics library stretches, by its iterations, which may be given; `-- restart SIDE`: how
//! long it takes to prepare.

use geometry::Meshes;
use rapier3d::prelude::{
    ColliderBuilder, PhysicsWorld, RigidBodyBuilder, SoftBodyBuilder, SpringCoefficients, Vector,
};
use shot::{
    Cloth, Element, ElementKind, Moves, Pin, PinnedPart, Shape, Shot, Side, Soft,
    force::{Force, ForceKind, Wind},
};
use simulate::{
    Simulation,
    deformable_timers::{Phase, spent},
};
use std::time::Instant;

/// Steps a frame of 1/60 s; stretch under load is within 2 % at this rate and at any higher one (docs/validation.md).
const SUBSTEPS: u32 = 2;
const MASS_KG_M2: f32 = 0.3;

#[derive(Clone, Copy, Debug, PartialEq)]
enum Scene {
    /// A sheet of 1 m that is held by a side, and falls from the horizontal.
    Held,
    /// A sheet of 1 m that falls over a ball onto the floor.
    Ball,
    /// A sheet that is held by a side, in wind.
    Wind,
    /// A soft body on steps.
    Soft,
}

const BALL_M: f32 = 0.25;
const HEIGHT_M: f32 = 0.6;

fn shot(scene: Scene, side: usize) -> Shot {
    let mut shot = Shot::empty("Cost");
    (shot.timing.fps, shot.timing.last) = (60.0, 240);
    shot.physics.substeps = SUBSTEPS;
    if scene == Scene::Soft {
        return soft_on_steps(shot, side);
    }
    let held = vec![Pin::hard(PinnedPart::Side(Side::Left))];
    let cloth = Cloth {
        edge_m: 1.0 / (side - 1) as f32,
        mass_kg_m2: MASS_KG_M2,
        thickness_m: (0.4 / (side - 1) as f32).min(0.004),
        pins: if scene == Scene::Ball { Vec::new() } else { held },
        ..Cloth::default()
    };
    let height = if scene == Scene::Ball { HEIGHT_M } else { 2.0 };
    let mut element = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, height, 0.0);
    element.as_solid_mut().expect("a solid").cloth = Some(cloth);
    shot.add(element);
    match scene {
        Scene::Ball => {
            shot.add(Element::solid("Ball", Shape::sphere(BALL_M), Moves::Still).at(0.0, BALL_M, 0.0));
            let floor = Element::solid("Floor", Shape::cuboid(10.0, 1.0, 10.0), Moves::Still);
            shot.add(floor.at(0.0, -0.5, 0.0));
        }
        Scene::Wind => {
            let wind = Wind { speed_m_s: 5.0, ..Wind::default() };
            let mut wind = Element::new("Wind", ElementKind::Force(Force::new(ForceKind::Wind(wind))));
            wind.placement.orientation_rad.z = 1.2;
            shot.add(wind);
        }
        Scene::Held | Scene::Soft => {}
    }
    shot
}

/// A soft cube of `side` cells along each edge that falls down steps. A cell is worth five tetrahedra.
fn soft_on_steps(mut shot: Shot, side: usize) -> Shot {
    let size = 0.6;
    let mut cube = Element::solid("Cube", Shape::cuboid(size, size, size), Moves::Free).at(-0.3, 1.2, 0.0);
    cube.placement.orientation_rad.z = 0.4;
    let soft = Soft { cell_m: size / side as f32, edge_m: size / side as f32, ..Soft::default() };
    cube.as_solid_mut().expect("a solid").soft = Some(soft);
    shot.add(cube);
    for step in 0..4 {
        let at = (0.5 * step as f32, -0.5 - 0.2 * step as f32);
        shot.add(Element::solid("Step", Shape::cuboid(0.5, 1.0, 2.0), Moves::Still).at(at.0, at.1, 0.0));
    }
    shot
}

/// Milliseconds of a frame of 1/60 s, from frame `from` to `to`; the solver's timers are printed where wanted.
fn ours(scene: Scene, side: usize, [from, to]: [usize; 2], timers: bool) -> f64 {
    let shot = shot(scene, side);
    let mut simulation = Simulation::new(&shot, &Meshes::default()).expect("a sound shot");
    let before_all = Instant::now();
    let (mut before, mut start) = (Vec::new(), before_all);
    for frame in 0..to {
        if frame == from {
            (before, start) = (Phase::ALL.map(spent).to_vec(), Instant::now());
        }
        simulation.go_on().expect("it holds");
    }
    let frames = (to - from) as f64;
    if timers {
        let phases = Phase::ALL.iter().zip(before).map(|(phase, before)| {
            format!("{phase:?} {:.1}", (spent(*phase) - before).as_secs_f64() * 1e3 / frames)
        });
        println!("  of it, ms: {}", phases.collect::<Vec<_>>().join(", "));
    }
    start.elapsed().as_secs_f64() * 1e3 / frames
}

/// Iterations in each of its four substeps with which the physics library's sheet still stretches three times as far as with 1,024
/// (`-- stretch`), which take four times as long; with the default, one, it stretches two hundred times as far.
const LIBRARY_ITERATIONS: usize = 256;

/// The physics library's cloth: a grid from `origin` on along two edges, held along its first side where `held` says so, with springs of
/// this frequency.
fn library_cloth(side: usize, held: bool, [origin, along, across]: [Vector; 3], hz: f32) -> SoftBodyBuilder {
    let first = (0..side as u32).map(|i| i * side as u32);
    SoftBodyBuilder::cloth(origin, along, across, side, side)
        .mass(MASS_KG_M2)
        .softness(SpringCoefficients { natural_frequency: hz, damping_ratio: 0.2 })
        .particle_radius((0.2 * along.length()).min(0.002))
        .can_sleep(false)
        .pinned_particles(first.filter(|_| held))
}

/// The same by the physics library, in the frames from `from` to `to` with so many iterations.
fn library(scene: Scene, side: usize, iterations: usize, [from, to]: [usize; 2]) -> f64 {
    let mut world = PhysicsWorld::new();
    world.integration_parameters.dt = 1.0 / 60.0;
    let edge = 1.0 / (side - 1) as f32;
    let height = if scene == Scene::Ball { HEIGHT_M } else { 2.0 };
    let place = [Vector::new(-0.5, height, -0.5), Vector::new(0.0, 0.0, edge), Vector::new(edge, 0.0, 0.0)];
    let cloth = library_cloth(side, scene != Scene::Ball, place, 60.0).self_contacts(scene == Scene::Ball);
    let cloth = world.insert_soft_body(cloth);
    if scene == Scene::Ball {
        let ball = RigidBodyBuilder::fixed().translation(Vector::new(0.0, BALL_M, 0.0));
        world.insert(ball, ColliderBuilder::ball(BALL_M));
        let floor = RigidBodyBuilder::fixed().translation(Vector::new(0.0, -0.5, 0.0));
        world.insert(floor, ColliderBuilder::cuboid(5.0, 0.5, 5.0));
    }
    let mut start = Instant::now();
    for frame in 0..to {
        // They count from the next step on.
        if frame + 1 == from {
            let cloth = world.soft_bodies.get_mut(cloth).expect("the cloth");
            cloth.set_additional_pgs_iterations(iterations - 1);
        }
        if frame == from {
            start = Instant::now();
        }
        world.step();
    }
    start.elapsed().as_secs_f64() * 1e3 / (to - from) as f64
}

/// How far a hung sheet of the physics library, with springs about as stiff as a canvas, stretches within 40 frames, as a part of its
/// length, and the milliseconds of a frame.
fn library_stretch(side: usize, iterations: usize) -> (f64, f64) {
    const FRAMES: usize = 40;
    let mut world = PhysicsWorld::new();
    world.integration_parameters.dt = 1.0 / 60.0;
    let edge = 1.0 / (side - 1) as f32;
    let place = [Vector::new(-0.5, 2.0, 0.0), Vector::new(edge, 0.0, 0.0), Vector::new(0.0, -edge, 0.0)];
    let cloth = library_cloth(side, true, place, 1_300.0)
        .self_contacts(false)
        .additional_pgs_iterations(iterations - 1);
    let cloth = world.insert_soft_body(cloth);
    let start = Instant::now();
    (0..FRAMES).for_each(|_| world.step());
    let elapsed = start.elapsed().as_secs_f64() * 1e3 / FRAMES as f64;
    let cloth = world.soft_bodies.get(cloth).expect("the cloth");
    let lowest = |i: usize| f64::from(1.0 - cloth.particle_position(i * side + side - 1).y);
    ((0..side).map(lowest).sum::<f64>() / side as f64, elapsed)
}

/// Milliseconds from a shot to the first of its frames, the least of some tries: what playing takes to begin anew after a change.
fn restart(side: usize, tries: u32) -> f64 {
    let shot = shot(Scene::Held, side);
    let one = |_| {
        let start = Instant::now();
        drop(Simulation::new(&shot, &Meshes::default()).expect("a sound shot"));
        start.elapsed().as_secs_f64() * 1e3
    };
    (0..tries).map(one).fold(f64::INFINITY, f64::min)
}

fn in_threads<T: Send>(threads: usize, work: impl FnOnce() -> T + Send) -> T {
    rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("a pool").install(work)
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let wanted = |scene: Scene| arguments.iter().any(|of| *of == format!("{scene:?}").to_lowercase());
    if arguments.iter().any(|argument| argument == "restart") {
        let side = arguments.iter().find_map(|argument| argument.parse().ok()).unwrap_or(100);
        println!("Prepared in {:.0} ms", restart(side, 5));
        return;
    }
    if arguments.iter().any(|argument| argument == "stretch") {
        let given: Vec<usize> = arguments.iter().filter_map(|argument| argument.parse().ok()).collect();
        for iterations in if given.is_empty() { vec![1, 4, 16, 64, 256] } else { given } {
            let (stretch, time) = library_stretch(100, iterations);
            println!("{iterations} iterations: {:.3} %, {time:.0} ms a frame of 1/60 s", 100.0 * stretch);
        }
        return;
    }
    let all = [Scene::Held, Scene::Ball, Scene::Wind, Scene::Soft];
    if let Some(scene) = all.into_iter().find(|scene| wanted(*scene)) {
        let side = arguments.iter().find_map(|argument| argument.parse().ok()).unwrap_or(100);
        println!("{scene:?} {side}: {:.1} ms a frame of 1/60 s", ours(scene, side, [10, 40], true));
        return;
    }
    println!("Cloth of 100 × 100 vertices, ms a frame of 1/60 s, {SUBSTEPS} substeps:");
    for (scene, what, [from, to], wanted) in [
        (Scene::Held, "held by a side and falling, no contacts", [20, 40], 10),
        (Scene::Ball, "over a ball onto the floor, with contact of the sheet with itself", [30, 60], 60),
    ] {
        let ours = ours(scene, 100, [from, to], true);
        let by_default = library(scene, 100, 1, [from, to]);
        let as_stiff = library(scene, 100, LIBRARY_ITERATIONS, [from, from + 1]);
        println!(
            "  {what}: {ours:.1}; the physics library's own with {LIBRARY_ITERATIONS} iterations, in its frame {from}, {as_stiff:.0}: {:.1} × (wanted: {wanted}), by default {by_default:.1}: {:.1} ×",
            as_stiff / ours,
            by_default / ours
        );
    }
    let wind = ours(Scene::Wind, 100, [10, 40], true);
    println!("  in wind: {wind:.1}, a frame of 1/24 s {:.0} (wanted: 41.7)", wind * 2.5);
    let soft = ours(Scene::Soft, 18, [10, 40], true);
    println!(
        "Soft body of {} cells (each as five tetrahedra) on steps: {soft:.1} ms, a frame of 1/24 s {:.0} (wanted: 41.7)",
        18 * 18 * 18,
        soft * 2.5
    );
    let [small, large] = [restart(100, 5), restart(500, 2)];
    println!(
        "Prepared to play: {small:.0} ms at 10,000 vertices (wanted: 100), {large:.0} at 250,000 (wanted: 500)"
    );
    // Threads and size, of a held sheet that falls.
    let small = [1, 2].map(|threads| in_threads(threads, || ours(Scene::Held, 100, [20, 30], false)));
    let large = [1, 2].map(|threads| in_threads(threads, || ours(Scene::Held, 500, [4, 8], threads == 2)));
    println!("  two threads against one: {:.2} × at 10,000 vertices (wanted: 1.4)", small[0] / small[1]);
    println!("  {:.2} × at 250,000 (wanted: 1.7)", large[0] / large[1]);
    println!(
        "  a vertex at 250,000 costs {:.2} × of one at 10,000 (wanted: at most 2)",
        large[1] / small[1] / 25.0
    );
}
