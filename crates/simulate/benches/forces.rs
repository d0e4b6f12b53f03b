//! What forces and keys cost, as ratios within one run.

use glam::Vec3;
use noise::{NoiseFn, Perlin};
use shot::{
    Element, ElementKind, Id, Moves, Shape, Shot,
    force::{Attract, Force, ForceKind, Turbulence, Vortex, Wind},
    motion::{Channel, Sampler},
    region::{Combine, Part, Region, Volume},
    world::World,
};
use simulate::forces::{Field, Points, Surfaces};
use std::hint::black_box;
use std::time::Instant;

const POINTS: usize = 1_000_000;
/// Layers of eddies, wind's one and turbulence's three, of three numbers each.
const NOISE_VALUES: usize = (1 + 3) * 3;

/// Gravity, wind with eddies, turbulence of three octaves, a vortex and an
/// attractor, each in a mix of two regions.
fn five_forces() -> Shot {
    let mut shot = Shot::empty("Forces");
    shot.elements.clear();
    shot.camera = None;
    let region = |volume| ElementKind::Region(Region { edge_m: 0.8, ..Region::new(volume) });
    let room = shot.add(Element::new("Room", region(Volume::Box { size_m: Vec3::new(8.0, 6.0, 8.0) })));
    let ball = shot.add(Element::new("Ball", region(Volume::Sphere { radius_m: 4.0 })));
    let parts = vec![
        Part { region: room, operation: Combine::Add },
        Part { region: ball, operation: Combine::Multiply },
    ];
    let mix = shot.add(Element::new("Mix", ElementKind::Region(Region::new(Volume::Combined { parts }))));
    for kind in [
        ForceKind::Gravity { acceleration: Vec3::new(0.0, -9.81, 0.0) },
        ForceKind::Wind(Wind::default()),
        ForceKind::Turbulence(Turbulence { octaves: 3, ..Turbulence::default() }),
        ForceKind::Vortex(Vortex::default()),
        ForceKind::Attract(Attract { power: -1.0, ..Attract::default() }),
    ] {
        shot.add(Element::new("Force", ElementKind::Force(Force { region: Some(mix), ..Force::new(kind) })));
    }
    shot
}

fn best(rounds: usize, mut work: impl FnMut()) -> f64 {
    (0..rounds).fold(f64::INFINITY, |best, _| {
        let start = Instant::now();
        work();
        best.min(start.elapsed().as_secs_f64())
    })
}

fn forces() {
    let shot = five_forces();
    let sampler = Sampler::new(&shot).expect("no faults");
    let unsolved = |_: Id, _: f64| None;
    let world = World::new(&shot, &sampler, 1.0, &unsolved);
    let field = Field::new(&shot, &world, &Surfaces::default(), 1.0, 0.7);
    let mut state = 1u32;
    let mut random = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 8) as f32 / (1 << 24) as f32
    };
    let positions: Vec<Vec3> =
        (0..POINTS).map(|_| Vec3::new(random(), random(), random()) * 9.0 - 4.5).collect();
    let mut velocities = vec![Vec3::ZERO; POINTS];
    let (inverse_masses, drag_areas) = (vec![1.0f32; POINTS], vec![0.01f32; POINTS]);
    let mut pushed = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
        best(5, || {
            let mut points = Points {
                positions: &positions,
                velocities: &mut velocities,
                inverse_masses: &inverse_masses,
                drag_areas: &drag_areas,
            };
            pool.install(|| field.push(Id(99), &mut points, 0.01));
        })
    };
    let (one, two) = (pushed(1), pushed(2));
    let perlin = Perlin::new(7);
    let noise = best(3, || {
        let mut sum = 0.0;
        for position in &positions {
            let [x, y, z] = position.to_array().map(f64::from);
            for i in 0..NOISE_VALUES {
                sum += perlin.get([x + i as f64 * 3.7, y, z]);
            }
        }
        black_box(sum);
    });
    println!(
        "a million points through five forces in two regions: {:.2} × {NOISE_VALUES} noise values of the noise crate (wanted: at most 3)",
        one / noise
    );
    println!("… on two threads: {:.2} times as fast (wanted: at least 1.8)", one / two);
}

/// 10,000 keys over 500 channels of 250 elements.
fn keys() {
    let mut shot = Shot::empty("Keys");
    for i in 0..250 {
        let mut element = Element::solid(&format!("Body {i}"), Shape::sphere(0.1), Moves::Animated);
        for path in ["placement.position_m", "placement.orientation_rad"] {
            let keys = (0..20).map(|k| (f64::from(k * 5), Vec3::splat((k * i % 7) as f32)));
            element.channels.insert(path.to_owned(), Channel::keyed(keys));
        }
        shot.add(element);
    }
    let sampler = Sampler::new(&shot).expect("no faults");
    let mut now = sampler.at(1.0).expect("finite");
    const FRAMES: u32 = 200;
    let seconds = best(5, || {
        for frame in 0..FRAMES {
            sampler.apply(&mut now, f64::from(frame) * 0.5).expect("finite");
        }
        black_box(&now);
    });
    println!(
        "a frame of 10,000 keys in 500 channels: {:.3} ms (wanted: at most 0.5)",
        1e3 * seconds / f64::from(FRAMES)
    );
}

fn main() {
    forces();
    keys();
}
