//! The set of Saltmarket's shots: what stands around the action and lights it.
//!
//! All of it is still, stands apart from where bodies and particles go, and
//! collides by simple shapes.

use super::quay::{self, still};
use glam::{Vec2, Vec3};
use shot::{Collision, Copies, Element, ElementKind, Shape, Shot, light::AreaLight, look::Look};
use std::f32::consts::FRAC_PI_2;
use std::sync::LazyLock;

/// Light of the lamps, evening and night.
#[derive(Clone, Copy)]
pub(super) struct Lamps {
    /// Radiance of the bulbs.
    pub glow: f32,
}

const WARM: Vec3 = Vec3::new(1.0, 0.56, 0.22);

fn wood(albedo: f32) -> Look {
    Look { image: Some("deal".to_owned()), albedo: Vec3::splat(albedo), roughness: 0.65, ..Look::default() }
}

fn iron() -> Look {
    Look { albedo: Vec3::new(0.05, 0.055, 0.06), metalness: 0.7, roughness: 0.4, ..Look::default() }
}

fn lit(colour: Vec3, glow: f32) -> Look {
    Look { albedo: Vec3::splat(0.3), emission: colour * glow, roughness: 0.8, ..Look::default() }
}

/// Copies in a row, a stack or a grid.
fn in_copies(mut element: Element, count: [u32; 3], spacing_m: Vec3, jitter: f32, seed: u32) -> Element {
    if let Some(solid) = element.as_solid_mut() {
        solid.copies =
            Some(Copies { count, spacing_m, position_jitter_m: jitter, orientation_jitter_rad: 0.0, seed });
    }
    element
}

fn mesh(asset: &str) -> Shape {
    Shape::Mesh { asset: asset.to_owned(), scale: 1.0 }
}

/// The far shore: hills, and the lit windows of a town below them.
pub(super) fn far_shore(shot: &mut Shot, lamps: Lamps) {
    let haze = Look { albedo: Vec3::new(0.07, 0.08, 0.11), roughness: 1.0, ..Look::default() };
    let mut hills = still("Far shore", mesh("hills"), haze).at(0.0, -1.6, -90.0);
    hills.as_solid_mut().expect("a solid").body.collision = Collision::Exact;
    shot.add(hills);
    let window = still("Town windows", Shape::cuboid(0.34, 0.26, 0.1), lit(WARM, 0.8 * lamps.glow));
    shot.add(in_copies(window, [26, 2, 1], Vec3::new(4.2, 1.0, 1.0), 1.5, 8).at(-6.0, 0.1, -79.0));
}

/// Two boats at their moorings beyond the pier.
pub(super) fn boats(shot: &mut Shot, x: f32) {
    let mut boat = |name: &str, albedo: Vec3, at: Vec3, turn: f32| {
        let hull = Look { albedo, roughness: 0.45, ..Look::default() };
        let shape = Shape::Mesh { asset: "boat".to_owned(), scale: 1.9 };
        let mut boat = still(name, shape, hull).at(at.x, -1.75, at.z).turned(0.0, turn, 0.0);
        boat.as_solid_mut().expect("a solid").body.collision = Collision::Exact;
        shot.add(boat);
        let mast =
            still(&format!("{name} mast"), Shape::Cylinder { radius_m: 0.06, height_m: 5.6 }, wood(0.5));
        shot.add(mast.at(at.x, 1.2, at.z).turned(0.02, 0.0, -0.04));
    };
    boat("Blue boat", Vec3::new(0.10, 0.2, 0.26), Vec3::new(x, 0.0, -19.0), 0.35);
    boat("Ochre boat", Vec3::new(0.5, 0.2, 0.06), Vec3::new(x - 9.0, 0.0, -26.0), -0.5);
}

/// A stall: counter, posts, a striped awning, goods and a lamp below the awning.
/// Its front faces +z at turn 0.
pub(super) fn stall(shot: &mut Shot, name: &str, at: Vec3, turn: f32, lamps: Lamps) {
    let rotation = glam::Quat::from_rotation_y(turn);
    let place = |local: Vec3| at + rotation * local;
    let put = |element: Element, local: Vec3, pitch: f32| {
        let to = place(local);
        element.at(to.x, to.y, to.z).turned(pitch, turn, 0.0)
    };
    let counter = still(&format!("{name} counter"), Shape::cuboid(1.9, 0.86, 0.62), wood(0.62));
    shot.add(put(counter, Vec3::new(0.0, 0.43, 0.0), 0.0));
    let post = still(&format!("{name} posts"), Shape::Cylinder { radius_m: 0.035, height_m: 2.1 }, wood(0.4));
    let posts = in_copies(post, [2, 1, 2], Vec3::new(1.86, 1.0, 0.9), 0.0, 1);
    shot.add(put(posts, Vec3::new(0.0, 1.05, 0.0), 0.0));
    let stripes = Look {
        image: Some("stripes".to_owned()),
        albedo: Vec3::splat(0.95),
        roughness: 0.9,
        ..Look::default()
    };
    let awning = still(&format!("{name} awning"), Shape::cuboid(2.3, 0.012, 1.5), stripes);
    shot.add(put(awning, Vec3::new(0.0, 2.1, 0.14), 0.2));
    let fruit =
        Look { albedo: Vec3::new(0.72, 0.33, 0.06), roughness: 0.45, variation: 0.5, ..Look::default() };
    let goods = still(&format!("{name} goods"), Shape::sphere(0.062), fruit);
    let goods = in_copies(goods, [9, 1, 3], Vec3::new(0.135, 0.1, 0.14), 0.012, 6);
    shot.add(put(goods, Vec3::new(-0.2, 0.915, 0.02), 0.0));
    let bulb = still(&format!("{name} lamp"), Shape::sphere(0.065), lit(WARM, 3.0 * lamps.glow));
    shot.add(put(bulb, Vec3::new(0.35, 1.72, 0.2), 0.0));
    // A shade, so that the bulb lights the counter and not the sky.
    let shade = still(&format!("{name} shade"), Shape::Cone { radius_m: 0.17, height_m: 0.16 }, iron());
    shot.add(put(shade, Vec3::new(0.35, 1.84, 0.2), 0.0));
}

/// A string of lamps between two poles, along x turned by `turn`.
pub(super) fn lamp_string(shot: &mut Shot, at: Vec3, turn: f32, length: f32, lamps: Lamps) {
    let pole = still("Lamp poles", Shape::Cylinder { radius_m: 0.045, height_m: 2.9 }, wood(0.4));
    let poles = in_copies(pole, [2, 1, 1], Vec3::new(length, 1.0, 1.0), 0.0, 1);
    shot.add(poles.at(at.x, at.y + 1.45, at.z).turned(0.0, turn, 0.0));
    let cord = still("Lamp cord", Shape::Cylinder { radius_m: 0.007, height_m: length }, iron());
    shot.add(cord.at(at.x, at.y + 2.8, at.z).turned(0.0, turn, FRAC_PI_2));
    let count = (length / 0.75) as u32;
    let lamp = still("Lamps", Shape::sphere(0.06), lit(WARM, 2.6 * lamps.glow));
    let spacing = length / count as f32;
    let row = in_copies(lamp, [count, 1, 1], Vec3::new(spacing, 1.0, 1.0), 0.02, 3);
    shot.add(row.at(at.x, at.y + 2.7, at.z).turned(0.0, turn, 0.0));
}

/// Bollards along the edge of the pier, a coil of rope and barrels beside them.
pub(super) fn edge(shot: &mut Shot, x: f32, z: f32) {
    let bollard = still("Bollards", Shape::Cylinder { radius_m: 0.15, height_m: 0.6 }, iron());
    shot.add(in_copies(bollard, [1, 1, 3], Vec3::new(1.0, 1.0, 2.4), 0.0, 1).at(x, 0.3, z));
    let coil = Shape::Torus { major_radius_m: 0.26, minor_radius_m: 0.032 };
    let hemp = Look { albedo: Vec3::new(0.5, 0.38, 0.22), roughness: 0.9, ..Look::default() };
    let coil = still("Rope coil", coil, hemp);
    shot.add(in_copies(coil, [1, 4, 1], Vec3::new(1.0, 0.058, 1.0), 0.008, 5).at(x + 0.75, 0.12, z + 0.2));
    let barrel = still("Barrels", Shape::Cylinder { radius_m: 0.25, height_m: 0.72 }, wood(0.5));
    let barrels = in_copies(barrel, [2, 1, 1], Vec3::new(0.56, 1.0, 1.0), 0.03, 2);
    shot.add(barrels.at(x + 1.0, 0.36, z - 1.3).turned(0.0, 0.4, 0.0));
}

/// The market behind the action: stalls, lamps, boats and the far shore.
pub(super) fn market(shot: &mut Shot, lamps: Lamps) {
    far_shore(shot, lamps);
    boats(shot, -1.2);
    stall(shot, "Left stall", Vec3::new(-3.4, 0.0, -5.4), 0.28, lamps);
    stall(shot, "Right stall", Vec3::new(1.6, 0.0, -6.0), -0.12, lamps);
    lamp_string(shot, Vec3::new(-0.6, 0.0, -6.5), 0.0, 9.4, lamps);
    edge(shot, -5.4, -2.4);
}

/// The quiet end of the pier: bollards, boats, one lamp string and the far shore.
pub(super) fn moorings(shot: &mut Shot, lamps: Lamps) {
    far_shore(shot, lamps);
    boats(shot, 2.2);
    lamp_string(shot, Vec3::new(-4.2, 0.0, -5.6), 0.5, 5.6, lamps);
    edge(shot, -4.6, -3.4);
}

/// A light from behind that draws the edges of what moves.
pub(super) fn rim(shot: &mut Shot, at: Vec3, radiance: f32, colour: Vec3) {
    let light = AreaLight { size_m: Vec2::new(2.6, 1.6), radiance, colour };
    let light = Element::new("Rim light", ElementKind::AreaLight(light));
    // From there to the middle of the action; a light shines down its own −y.
    let to = (Vec3::new(0.3, 0.5, 0.0) - at).normalize();
    let (x, y, z) = glam::Quat::from_rotation_arc(-Vec3::Y, to).to_euler(glam::EulerRot::XYZ);
    shot.add(light.at(at.x, at.y, at.z).turned(x, y, z));
}

/// The files of the set, made once however many shots use them.
pub(super) fn files() -> Vec<super::File> {
    static FILES: LazyLock<Vec<super::File>> = LazyLock::new(|| {
        let mut files = quay::files();
        files.push(("waves", "waves.png", super::assets::waves()));
        files.push(("stripes", "stripes.png", super::assets::stripes()));
        files.push(("hills", "hills.obj", super::assets::hills()));
        files.push(("boat", "boat.obj", super::assets::boat()));
        files
    });
    FILES.clone()
}
