//! What baking and rendering cost, as ratios within one run.

use frames::RunFolder;
use glam::Vec3;
use rapier3d::prelude::*;
use shot::{Copies, Element, Moves, Shape, Shot};
use simulate::{Bake, Simulation, bake};
use std::ops::ControlFlow;
use std::time::Instant;

/// 2,000 boxes that fall onto a floor and settle.
fn pile(frames: u32) -> Shot {
    let mut shot = Shot::empty("Pile");
    shot.timing.last = frames;
    shot.physics.substeps = 4;
    shot.add(Element::solid("Floor", Shape::cuboid(40.0, 1.0, 40.0), Moves::Still).at(0.0, -0.5, 0.0));
    let mut boxes = Element::solid("Boxes", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free).at(0.0, 0.3, 0.0);
    boxes.as_solid_mut().expect("a solid").copies = Some(Copies {
        count: [10, 20, 10],
        spacing_m: Vec3::new(0.45, 0.45, 0.45),
        position_jitter_m: 0.01,
        orientation_jitter_rad: 0.1,
        seed: 1,
    });
    shot.add(boxes);
    shot
}

/// The same world in the bare library: same shapes, masses, parameters.
fn bare(shot: &Shot) -> PhysicsWorld {
    let simulation = Simulation::new(shot, &Default::default()).expect("prepared");
    simulate::solids::world_of(&simulation.save()).expect("solids are there")
}

fn main() {
    let shot = pile(96);
    let meshes = Default::default();
    let dir = std::env::temp_dir().join(format!("bright-ripple-bench-{}", std::process::id()));
    // Of pairs, since the machine's speed changes from one to the next.
    let mut ratios = Vec::new();
    for round in 0..5 {
        let run = RunFolder::create(dir.join(format!("run-{round}"))).expect("a folder");
        let job = Bake {
            shot: &shot,
            meshes: &meshes,
            run: &run,
            revision: 0,
            frames: 1..=96,
            systems: None,
            initial_state: None,
        };
        let start = Instant::now();
        bake(&job, |_| ControlFlow::Continue(())).expect("baked");
        let baked = start.elapsed().as_secs_f64();
        let mut world = bare(&shot);
        let start = Instant::now();
        for _ in 0..95 * shot.physics.substeps {
            world.step();
        }
        ratios.push(baked / start.elapsed().as_secs_f64());
    }
    ratios.sort_by(f64::total_cmp);
    println!(
        "bake of 2,000 boxes against the bare library: {:.3}, median of 5 pairs from {:.3} to {:.3} (wanted: at most 1.15)",
        ratios[2], ratios[0], ratios[4]
    );

    let run = RunFolder::create(dir.join("run-0")).expect("a folder");
    let (frame_bytes, state_bytes) = run.size();
    println!(
        "bytes a body and frame: {:.1} (wanted: at most 20); states to go on from: {:.1} MB",
        frame_bytes as f64 / (2001.0 * 96.0),
        state_bytes as f64 / 1e6
    );
    let mut slowest: f64 = 0.0;
    for number in (1..=96).rev() {
        let best = (0..3)
            .map(|_| {
                let start = Instant::now();
                run.read(number).expect("a frame");
                start.elapsed().as_secs_f64()
            })
            .fold(f64::INFINITY, f64::min);
        slowest = slowest.max(best);
    }
    println!("reading one frame of 2,001 bodies: {:.2} ms at most (wanted: at most 2)", slowest * 1e3);
    println!(
        "bytes of a Viewport message of 2,001 bodies: {}",
        frames::wire(&run.read(96).expect("a frame"), frames::Thinning::NONE).len()
    );

    memory(&dir);
    threads();
    patching(&dir);
    let _ = std::fs::remove_dir_all(dir);
}

/// The server's time for a change of one number in a shot of 500 elements.
fn patching(dir: &std::path::Path) {
    const CHANGES: u32 = 60;
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    runtime.block_on(async {
        let studio = studio::studio::Studio::open(&dir.join("data")).await.expect("a data folder");
        let mut shot = Shot::empty("Many");
        for i in 0..500 {
            let ball = Element::solid(&format!("Ball {i}"), Shape::sphere(0.1), Moves::Free);
            shot.add(ball.at(i as f32, 1.0, 0.0));
        }
        let project = studio.store.project("Saltmarket").await.expect("a project");
        let id = studio.store.add_shot(project, &shot, "Begun").await.expect("a shot");
        let app = studio::api::app(studio.clone());
        let mut times = Vec::new();
        for revision in 1..=CHANGES {
            let value = f64::from(revision) / 100.0;
            let patch = serde_json::json!([
                {"op": "add", "path": "/elements/250/kind/solid/body/friction", "value": value}
            ]);
            let body = serde_json::json!({"base": revision, "label": "Friction", "patch": patch}).to_string();
            let request = axum::http::Request::builder()
                .method("PATCH")
                .uri(format!("/api/shots/{id}"))
                .header("host", "localhost")
                .header("content-type", "application/json")
                .body(axum::body::Body::from(body))
                .expect("a request");
            let start = Instant::now();
            let response = tower::ServiceExt::oneshot(app.clone(), request).await.expect("an answer");
            let whole =
                http_body_util::BodyExt::collect(response.into_body()).await.expect("a body").to_bytes();
            times.push(start.elapsed().as_secs_f64());
            assert!(whole.len() > 100_000, "{}", String::from_utf8_lossy(&whole[..200.min(whole.len())]));
        }
        times.sort_by(f64::total_cmp);
        println!(
            "a number changed in a shot of 500 elements: {:.1} ms on the server",
            1e3 * times[times.len() / 2]
        );
    });
}

/// Peak memory of baking 96 and 960 frames, each in a process of its own.
fn memory(dir: &std::path::Path) {
    let mut peaks = Vec::new();
    for frames in [96, 960] {
        let mut shot = pile(frames);
        let solid = shot.named_mut("Boxes").and_then(Element::as_solid_mut).expect("boxes");
        solid.copies.as_mut().expect("copies").count = [6, 10, 6];
        let file = dir.join(format!("{frames}.json"));
        std::fs::write(&file, shot::write(&shot)).expect("written");
        let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_bright-ripple"))
            .args(["bake", file.to_str().expect("a path"), "--out"])
            .arg(dir.join(format!("memory-{frames}")))
            .stderr(std::process::Stdio::null())
            .spawn()
            .expect("started");
        let status = format!("/proc/{}/status", child.id());
        let mut peak = 0.0f64;
        while child.try_wait().expect("waited").is_none() {
            let text = std::fs::read_to_string(&status).unwrap_or_default();
            let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or("0 kB");
            peak = peak.max(line.trim().trim_end_matches(" kB").trim().parse().unwrap_or(0.0));
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
        peaks.push(peak);
    }
    println!("peak memory of 960 frames against 96: {:.3} (wanted: at most 1.1)", peaks[1] / peaks[0]);
}

/// Rendering on two threads against one.
fn threads() {
    let mut shot = Shot::empty("Scaling");
    shot.add(Element::solid("Floor", Shape::plane(10.0, 10.0), Moves::Still));
    shot.add(Element::solid("Ball", Shape::sphere(0.6), Moves::Still).at(0.0, 0.6, 0.0));
    let scene = picture::Scene::new(&shot, &Default::default(), None, 1).expect("a stage");
    let settings = picture::Settings { width: 480, height: 270, samples: 16, ..Default::default() };
    let on = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("a pool");
        (0..3)
            .map(|_| {
                let start = Instant::now();
                pool.install(|| picture::render(&scene, &settings, &|_| true));
                start.elapsed().as_secs_f64()
            })
            .fold(f64::INFINITY, f64::min)
    };
    println!(
        "rendering on two threads against one: {:.2} times as fast (wanted: at least 1.8)",
        on(1) / on(2)
    );
}
