//! Liquid against closed forms and published data.

mod coiling;
mod dam;
mod drum_film;
mod floats;
mod gels;
mod tanks;
mod tension;
mod viscous;
mod volumes;

pub use coiling::coiling;
pub use dam::{dam_convergence, dam_front, dam_height};
pub use drum_film::{film_dripped, film_held};
pub use floats::{bobbing, draught, momentum};
pub use gels::{relaxation, slump};
pub use tanks::{fastest_at_rest, hydrostatic_pressure, stillness, torricelli};
pub use tension::{ringing_drop, sessile_drop};
pub use viscous::{duct, sinking_ball};
pub use volumes::{drum_volume, sloshing_volume};

use crate::Experiment;
use frames::Frame;
use geometry::{Mesh, Meshes, primitive};
use glam::{Vec2, Vec3};
use shot::{
    Asset, AssetKind, Element, ElementKind, Id, Moves, Shape, Shot,
    particles::{Emission, EmissionDomain, EmissionSchedule, Liquid, ParticleBody, Particles, Source, Start},
};
use simulate::Simulation;
use std::sync::Arc;

const G: f64 = 9.81;
/// Thickness of walls, m.
const WALL: f32 = 0.05;

/// A shot with gravity, of so many frames a second.
fn bare(fps: f32, seconds: f32) -> Shot {
    let mut shot = Shot::empty("Experiment");
    shot.elements.clear();
    shot.camera = None;
    shot.timing.fps = fps;
    shot.timing.last = 1 + (seconds * fps).round() as u32;
    shot.add(Element::gravity(Vec3::new(0.0, -G as f32, 0.0)));
    shot
}

/// A still plate from one corner to the other.
fn plate(shot: &mut Shot, low: Vec3, high: Vec3) {
    let (size, at) = (high - low, 0.5 * (low + high));
    let cuboid = Shape::cuboid(size.x, size.y, size.z);
    shot.add(Element::solid("Plate", cuboid, Moves::Still).at(at.x, at.y, at.z));
}

/// Four walls around a room from the origin up, without a floor.
fn walls(shot: &mut Shot, room: Vec3, below: f32) {
    let low = Vec3::new(0.0, -below, 0.0);
    plate(shot, low - Vec3::new(WALL, 0.0, WALL), Vec3::new(0.0, room.y, room.z + WALL));
    plate(shot, low + Vec3::new(room.x, 0.0, -WALL), Vec3::new(room.x + WALL, room.y, room.z + WALL));
    plate(shot, low - Vec3::new(0.0, 0.0, WALL), Vec3::new(room.x, room.y, 0.0));
    plate(shot, low + Vec3::new(0.0, 0.0, room.z), Vec3::new(room.x, room.y, room.z + WALL));
}

/// A liquid that fills a shape at first.
fn filling(liquid: Liquid, shape: Shape) -> Element {
    let block = Particles {
        liquid: Some(liquid),
        source: Source::Shape { shape, domain: EmissionDomain::Surface },
        emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
        start: Start { speed_m_s: 0.0, speed_variation: 0.0, lifespan_s: None, ..Start::default() },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        ..Particles::default()
    };
    Element::new("Liquid", ElementKind::Particles(block))
}

/// Water that fills a box from the origin up.
fn water(shot: &mut Shot, size: Vec3, spacing_m: f32) -> Id {
    let of = Liquid { spacing_m, ..Liquid::default() };
    let at = 0.5 * size;
    shot.add(filling(of, Shape::cuboid(size.x, size.y, size.z)).at(at.x, at.y, at.z))
}

/// Adds a mesh to what a shot names.
fn with_mesh(shot: &mut Shot, meshes: &mut Meshes, name: &str, mesh: Mesh) -> Shape {
    meshes.by_name.insert(name.to_owned(), Arc::new(mesh));
    let asset = Asset { kind: AssetKind::Mesh, file: format!("assets/{name}.obj"), sha256: "5e".to_owned() };
    shot.assets.insert(name.to_owned(), asset);
    Shape::Mesh { asset: name.to_owned(), scale: 1.0 }
}

/// A mesh without UVs.
fn mesh_of(positions: Vec<Vec3>, triangles: Vec<[u32; 3]>) -> Mesh {
    let n = positions.len();
    let (normals, uvs) = (vec![Vec3::Y; n], vec![Vec2::ZERO; n]);
    Mesh { positions, normals, uvs, triangles, ..Mesh::default() }.with_normals(0.5)
}

/// A closed profile of (radius, height) turned about y; it goes round with the solid on its left.
fn lathed(profile: &[(f32, f32)]) -> Mesh {
    lathed_by(|_| profile.to_vec())
}

/// The same with a profile by the angle about y, of as many corners at each.
fn lathed_by(profile_at: impl Fn(f32) -> Vec<(f32, f32)>) -> Mesh {
    const SIDES: u32 = 96;
    let angle = |k: u32| std::f32::consts::TAU * k as f32 / SIDES as f32;
    let profile = profile_at(0.0);
    let n = profile.len() as u32;
    let ring = |k: u32| {
        let side = Vec2::from_angle(angle(k));
        profile_at(angle(k)).into_iter().map(move |(r, y)| Vec3::new(r * side.x, y, -r * side.y))
    };
    let positions = (0..SIDES).flat_map(ring).collect();
    let corner = |k: u32, i: u32| (k % SIDES) * n + i % n;
    let quads = (0..SIDES).flat_map(|k| (0..n).map(move |i| (k, i)));
    let triangles = quads.flat_map(|(k, i)| {
        let [a, b, c, d] = [corner(k, i), corner(k + 1, i), corner(k + 1, i + 1), corner(k, i + 1)];
        // Corners on the axis are one place: a triangle without area is left out.
        let on_axis = |i: u32| profile[(i % n) as usize].0 == 0.0;
        [(!on_axis(i)).then_some([a, b, c]), (!on_axis(i + 1)).then_some([a, c, d])].into_iter().flatten()
    });
    mesh_of(positions, triangles.collect())
}

/// A round vessel about y with a closed room inside, of a radius and a height.
fn vessel(radius: f32, height: f32) -> Mesh {
    let outer = primitive::cylinder(radius + WALL, height + 2.0 * WALL, 96);
    let inner = primitive::cylinder(radius, height, 96);
    let mut mesh = outer;
    let first = mesh.positions.len() as u32;
    mesh.positions.extend(inner.positions);
    mesh.triangles.extend(inner.triangles.into_iter().map(|[a, b, c]| [a + first, c + first, b + first]));
    mesh_of(mesh.positions, mesh.triangles)
}

fn simulated(shot: &Shot) -> Vec<Frame> {
    simulated_with(shot, &Meshes::default(), |_| {})
}

/// All frames, each of which `each` is shown as soon as it is there.
fn simulated_with(shot: &Shot, meshes: &Meshes, mut each: impl FnMut(&Frame)) -> Vec<Frame> {
    let mut simulation = Simulation::new(shot, meshes).expect("it prepares");
    let mut frames = vec![simulation.write()];
    each(&frames[0]);
    while simulation.frame() < shot.timing.last {
        frames.push(simulation.advance().expect("finite"));
        each(&frames[frames.len() - 1]);
    }
    frames
}

/// The value of a curve at a place, and its place at a value, by lines between its points.
fn at(curve: &[(f64, f64)], x: f64) -> f64 {
    let pair = curve.windows(2).find(|pair| pair[0].0 <= x && x <= pair[1].0);
    pair.map_or(f64::NAN, |pair| {
        let part = (x - pair[0].0) / (pair[1].0 - pair[0].0);
        pair[0].1 + part * (pair[1].1 - pair[0].1)
    })
}

/// All of them.
pub fn all() -> Vec<Experiment> {
    vec![
        hydrostatic_pressure(),
        stillness(),
        sloshing_volume(),
        drum_volume(),
        dam_front(),
        dam_height(),
        dam_convergence(),
        torricelli(),
        duct(),
        sinking_ball(),
        ringing_drop(),
        sessile_drop(),
        draught(),
        bobbing(),
        momentum(),
        relaxation(),
        slump(),
    ]
}

/// Those that take up to half an hour each.
pub fn ropes_and_films() -> Vec<Experiment> {
    vec![coiling(), film_held(), film_dripped()]
}
