//! *Bait bag*: soft floats jostle in a sheer bag that hangs above the pier, coloured where they press and where it creases.

use super::{File, quay, set};
use geometry::Meshes;
use glam::Vec3;
use shot::force::{ElementFilter, Force, ForceKind, Push, Turbulence};
use shot::look_layer::{LookLayer, LookWeight};
use shot::motion::Channel;
use shot::{
    Camera, Cloth, Element, ElementKind, Id, Moves, Pin, PinnedPart, Shape, Shot, Soft, SurfaceQuantity,
    look::Look,
};
use simulate::packing::{Packing, packed};

const RADIUS_M: f32 = 0.46;
const HANGS_AT: Vec3 = Vec3::new(0.0, 1.0, 0.0);

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Bait bag");
    shot.about = "Thirty-five soft floats in a sheer bag: shaken, coloured where they press.".to_owned();
    shot.timing.last = 120;
    shot.physics.substeps = 3;
    let bag = shot.add(bag());
    shot.add(rope());
    let floats = shot.add(floats());
    let packing =
        Packing { element: floats, into: bag, count: 35, size_variation: 0.28, gap_m: 0.006, seed: 7 };
    let placed = packed(&shot, &Meshes::default(), &packing).expect("they have room");
    let solid = shot.named_mut("Floats").and_then(Element::as_solid_mut).expect("a solid");
    solid.placed = placed;
    shot.add(shaking(floats));

    let camera = Camera {
        focal_length_mm: 50.0,
        f_stop: Some(2.8),
        focus_distance_m: 3.0,
        exposure: 0.2,
        ..Camera::default()
    };
    let camera =
        Element::new("Bag camera", ElementKind::Camera(camera)).at(0.9, 1.05, 2.6).turned(-0.03, 0.333, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::moorings(&mut shot, set::Lamps { glow: 1.8 });
    set::rim(&mut shot, Vec3::new(-3.0, 2.4, 1.2), 9.0, Vec3::new(1.0, 0.74, 0.46));
    (shot, set::files())
}

/// A closed bag of thin silk that hangs from a swinging hook.
fn bag() -> Element {
    let mut bag = Element::solid("Bag", Shape::sphere(RADIUS_M), Moves::Free);
    bag.see_through = true;
    let solid = bag.as_solid_mut().expect("a solid");
    let neck = PinnedPart::Point { position_m: Vec3::Y * RADIUS_M, radius_m: 0.07 };
    solid.cloth = Some(Cloth {
        edge_m: 0.035,
        mass_kg_m2: 0.12,
        warp_n_m: 700.0,
        weft_n_m: 700.0,
        shear_n_m: 60.0,
        bend_n_m: 6e-6,
        damping_s: 0.004,
        thickness_m: 0.006,
        drag: 0.3,
        lift: 0.3,
        pins: vec![Pin::hard(neck)],
        ..Cloth::default()
    });
    solid.body.friction = 0.3;
    let edge = LookLayer {
        by: LookWeight::ViewingAngle {},
        from: 0.35,
        to: 1.0,
        amount: 0.85,
        albedo: Vec3::new(0.75, 0.85, 0.8),
        roughness: 0.5,
        ..LookLayer::default()
    };
    let creased = LookLayer {
        by: LookWeight::Quantity { quantity: SurfaceQuantity::Bend },
        from: 8.0,
        to: 40.0,
        amount: 0.7,
        albedo: Vec3::new(0.9, 0.95, 0.9),
        roughness: 0.4,
        ..LookLayer::default()
    };
    solid.look = Look {
        albedo: Vec3::new(0.9, 0.96, 0.93),
        roughness: 0.25,
        transmission: 0.92,
        refractive_index: 1.0,
        layers: vec![edge, creased],
        ..Look::default()
    };
    swaying(bag.at(HANGS_AT.x, HANGS_AT.y, HANGS_AT.z))
}

/// The rope that the neck is tied to.
fn rope() -> Element {
    let shape = Shape::Cylinder { radius_m: 0.012, height_m: 1.4 };
    let mut rope = Element::solid("Rope", shape, Moves::Animated);
    let solid = rope.as_solid_mut().expect("a solid");
    solid.look = Look { albedo: Vec3::new(0.5, 0.4, 0.26), roughness: 0.9, ..Look::default() };
    swaying(rope.at(HANGS_AT.x, HANGS_AT.y + RADIUS_M + 0.71, HANGS_AT.z))
}

fn swaying(element: Element) -> Element {
    let sway = Channel::expression("0.12 * sin(6.2832 * (frame - 1) / 30) * min(1, (frame - 1) / 20)");
    element.keyed("placement.position_m[0]", sway)
}

/// The floats: dull teal, and bright where they are pressed.
fn floats() -> Element {
    let mut floats = Element::solid("Floats", Shape::sphere(0.088), Moves::Free);
    let solid = floats.as_solid_mut().expect("a solid");
    solid.soft = Some(Soft {
        cell_m: 0.045,
        edge_m: 0.03,
        density_kg_m3: 60.0,
        youngs_modulus_pa: 9_000.0,
        poisson_ratio: 0.35,
        damping_s: 0.01,
        thickness_m: 0.004,
        ..Soft::default()
    });
    solid.body.friction = 0.25;
    let pressed = LookLayer {
        by: LookWeight::Quantity { quantity: SurfaceQuantity::Pressure },
        from: 20.0,
        to: 450.0,
        albedo: Vec3::new(0.95, 0.2, 0.05),
        roughness: 0.3,
        ..LookLayer::default()
    };
    let look = Look { albedo: Vec3::new(0.05, 0.36, 0.4), roughness: 0.42, ..Look::default() };
    solid.look = Look { layers: vec![pressed], variation: 0.15, ..look };
    floats.at(HANGS_AT.x, HANGS_AT.y, HANGS_AT.z)
}

/// Eddies that act on the floats alone.
fn shaking(floats: Id) -> Element {
    let turbulence = Turbulence {
        speed_m_s: 7.0,
        size_m: 0.5,
        change_s: 0.5,
        octaves: 2,
        seed: 3,
        push: Push::Acceleration,
        ..Turbulence::default()
    };
    let only = vec![ElementFilter::Element(floats)];
    let force = Force { only, ..Force::new(ForceKind::Turbulence(turbulence)) };
    Element::new("Shaking", ElementKind::Force(force)).at(0.0, 1.0, 0.0)
}
