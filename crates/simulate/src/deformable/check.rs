//! What is likely wrong with a cloth or a soft body before it is computed.

pub use super::check_start::gap_at_start;

use super::check_start::check_start;
use crate::forces::Surfaces;
use crate::maps::MapsAt;
use geometry::maps::MapSurface;
use geometry::{Mesh, Meshes, Weld, faces_at_edges};
use shot::check::{Entry, Mistake};
use shot::map::Map;
use shot::motion::Sampler;
use shot::world::World;
use shot::{Element, PinnedPart, Shot};

/// Fewer edges than this along its longest side are too few for folds.
const FEW_EDGES: f32 = 12.0;
/// Edges along the longest side of a sheet whose edges are made shorter.
pub const EDGES_FOR_FOLDS: f32 = 40.0;
/// Largest thickness against the edges: beyond it points next to each other push each other apart.
pub const MOST_THICKNESS: f32 = 0.5;
/// Most vertices that are looked at.
const MAX_VERTICES: usize = 300_000;

/// The entries of the Check list for the cloths and soft bodies of a shot at its first frame.
pub fn check_deformables(shot: &Shot, meshes: &Meshes) -> Vec<Entry> {
    let Ok(sampler) = Sampler::new(shot) else { return Vec::new() };
    let Ok(now) = sampler.at(f64::from(shot.timing.first)) else { return Vec::new() };
    let mut entries = Vec::new();
    for element in now.elements.iter().filter(|element| element.deforms()) {
        let Ok(Some(Ok(mesh))) = meshes.deforming(element, MAX_VERTICES) else { continue };
        let mut say = |mistake: Mistake, reason: String, fix: Option<&str>| {
            entries.push(Entry { mistake, elements: vec![element.id], reason, fix: fix.map(str::to_owned) });
        };
        let name = &element.name;
        if element.as_soft().is_some() && !mesh.is_closed() {
            let why = format!("{name} is open, so that it has no inside to fill and cannot be soft.");
            say(Mistake::OpenSoftBody, why, Some("Make it cloth"));
        }
        let size = mesh.bounds().size().max_element();
        if let Some(cloth) = element.as_cloth() {
            if cloth.shut_in_air.is_some() && !mesh.is_closed() {
                let why =
                    format!("{name} is open, so that no air can be shut in it; the setting does nothing.");
                say(Mistake::OpenSkin, why, Some("Let air pass"));
            }
            let edges = size / cloth.edge_m;
            if edges < FEW_EDGES {
                let why = format!(
                    "{name} has about {edges:.0} edges along its longest side; it cannot fold finely."
                );
                say(Mistake::TooCoarse, why, Some("Shorter edges"));
            }
            if cloth.thickness_m > MOST_THICKNESS * cloth.edge_m {
                let why = format!(
                    "{name} is {:.1} mm thick with edges of {:.1} mm: points next to each other push each other apart.",
                    1e3 * cloth.thickness_m,
                    1e3 * cloth.edge_m
                );
                say(Mistake::TooThick, why, Some("Half an edge thick"));
            }
        }
        let (shared, flat) = unsound(&mesh);
        if shared > 0 {
            let why = format!(
                "{name} has {shared} edges with more than two faces; it does not resist bending there."
            );
            say(Mistake::UnsoundMesh, why, Some("Leave the smaller parts out"));
        } else if flat > 0 {
            let why = format!("{name} has {flat} faces without an area, which take no part in the physics.");
            say(Mistake::UnsoundMesh, why, Some("Leave them out"));
        }
        for (map, count) in strayed_maps(element, &mesh) {
            let why = format!(
                "The map {map} of {name} was painted on another mesh; strokes that lie off this one ({count}) act at its nearest points."
            );
            say(Mistake::StrokesOffMesh, why, Some("Lay them on the mesh"));
        }
        let pins = 0..element.pins().len();
        for pin in pins.filter(|pin| holds_nothing(&sampler, &now, meshes, element, &mesh, *pin)) {
            let why = format!("Pin {} of {name} holds nothing: its map is nowhere strong enough.", pin + 1);
            say(Mistake::PinHoldsNothing, why, Some("Remove the pin"));
        }
    }
    entries.extend(check_start(&now, &sampler, meshes));
    entries
}

/// Whether a pin is by a map that holds no point: a hard pin by one that is nowhere over ½, a spring by one that is 0.
fn holds_nothing(
    sampler: &Sampler,
    now: &Shot,
    meshes: &Meshes,
    element: &Element,
    mesh: &Mesh,
    pin: usize,
) -> bool {
    let PinnedPart::Map(name) = &element.pins()[pin].part else { return false };
    let Some(map) = element.acting_maps().find(|map| map.name == *name) else { return false };
    // What changes with time may hold later.
    let made_of = element.references().into_iter().any(|reference| sampler.moves(reference.id));
    if sampler.moves(element.id) || made_of {
        return false;
    }
    let unsolved = |_, _: f64| None;
    let world = World::new(now, sampler, f64::from(now.timing.first), &unsolved);
    let surfaces = Surfaces::of(now, meshes);
    let at = MapsAt { world: &world, surfaces: &surfaces, meshes, element, seconds: 0.0 };
    let weights = MapSurface::new(mesh.clone()).weights(map, &at);
    let least = if element.pins()[pin].spring.is_some() { 0.0 } else { 0.5 };
    weights.iter().all(|weight| *weight <= least)
}

/// The maps of an element with strokes off its mesh, and how many these are.
fn strayed_maps<'a>(element: &'a Element, mesh: &Mesh) -> Vec<(&'a str, usize)> {
    let maps = element.as_solid().map_or(&[][..], |solid| &solid.maps);
    let strokes = |map: &'a Map| map.layers.iter().filter_map(|layer| layer.source.strokes()).flatten();
    if maps.iter().all(|map| strokes(map).next().is_none()) {
        return Vec::new();
    }
    let surface = MapSurface::new(mesh.clone());
    let strayed = |map: &'a Map| {
        let count = strokes(map).filter(|stroke| surface.strays(stroke)).count();
        (count > 0).then_some((&*map.name, count))
    };
    maps.iter().filter_map(strayed).collect()
}

/// Lays the strokes of all maps of an element on its mesh.
pub fn lay_strokes(element: &mut Element, meshes: &Meshes) {
    let Ok(Some(Ok(mesh))) = meshes.deforming(element, MAX_VERTICES) else { return };
    let surface = MapSurface::new(mesh);
    let maps = element.as_solid_mut().map_or(&mut [][..], |solid| &mut solid.maps);
    let layers = maps.iter_mut().flat_map(|map| &mut map.layers);
    for stroke in layers.filter_map(|layer| layer.source.strokes_mut()).flatten() {
        surface.lay(stroke);
    }
}

/// Pins of an element that hold nothing, from the last on.
pub fn idle_pins(shot: &Shot, meshes: &Meshes, element: &Element) -> Vec<usize> {
    let Ok(sampler) = Sampler::new(shot) else { return Vec::new() };
    let Ok(Some(Ok(mesh))) = meshes.deforming(element, MAX_VERTICES) else { return Vec::new() };
    let idle = |pin: &usize| holds_nothing(&sampler, shot, meshes, element, &mesh, *pin);
    (0..element.pins().len()).rev().filter(idle).collect()
}

/// Numbers of edges with more than two faces, and of faces without an area.
fn unsound(mesh: &Mesh) -> (usize, usize) {
    let sound: Vec<[u32; 3]> =
        mesh.triangles.iter().copied().filter(|corners| mesh.has_area(corners)).collect();
    let faces = Weld::new(&mesh.positions).faces(&sound);
    let shared = faces_at_edges(&faces).values().filter(|faces| **faces > 2).count();
    (shared, mesh.triangles.len() - sound.len())
}

#[cfg(test)]
mod tests {
    use super::*;
    use shot::map::{LayerSource, Map};
    use shot::{Cloth, Moves, Pin, Shape, Soft};

    fn mistakes(of: impl FnOnce(&mut shot::Solid)) -> Vec<Mistake> {
        let mut shot = Shot::empty("Check");
        let mut element = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free);
        of(element.as_solid_mut().unwrap());
        shot.add(element);
        assert_eq!(shot.faults(), []);
        check_deformables(&shot, &Meshes::default()).into_iter().map(|entry| entry.mistake).collect()
    }

    #[test]
    fn what_is_likely_wrong_is_said() {
        assert_eq!(mistakes(|of| of.cloth = Some(Cloth::default())), []);
        assert_eq!(mistakes(|of| of.soft = Some(Soft::default())), [Mistake::OpenSoftBody]);
        let coarse = Cloth { edge_m: 0.2, ..Cloth::default() };
        assert_eq!(mistakes(|of| of.cloth = Some(coarse)), [Mistake::TooCoarse]);
        let thick = Cloth { thickness_m: 0.02, ..Cloth::default() };
        assert_eq!(mistakes(|of| of.cloth = Some(thick)), [Mistake::TooThick]);
        let airy = Cloth { shut_in_air: Some(1.0), ..Cloth::default() };
        assert_eq!(mistakes(|of| of.cloth = Some(airy)), [Mistake::OpenSkin]);
    }

    #[test]
    fn a_pin_whose_map_is_weak_holds_nothing() {
        let pinned = |source: LayerSource| {
            move |of: &mut shot::Solid| {
                let pins = vec![Pin::hard(PinnedPart::Map("hem".to_owned()))];
                (of.cloth, of.maps) =
                    (Some(Cloth { pins, ..Cloth::default() }), vec![Map::of("hem", source)]);
            }
        };
        assert_eq!(
            mistakes(pinned(LayerSource::Painted { strokes: Vec::new() })),
            [Mistake::PinHoldsNothing]
        );
        assert_eq!(mistakes(pinned(LayerSource::Border { width_m: 0.1 })), []);
    }

    #[test]
    fn edges_with_three_faces_and_faces_without_area_are_counted() {
        let mut mesh = geometry::primitive::plane(1.0, 1.0);
        assert_eq!(unsound(&mesh), (0, 0));
        // The inner edge of the rectangle's two triangles gets a third.
        let inner = faces_at_edges(&mesh.triangles).into_iter().find(|(_, faces)| *faces == 2).unwrap().0;
        mesh.positions.push(glam::Vec3::Y);
        mesh.triangles.push([inner[0], inner[1], mesh.positions.len() as u32 - 1]);
        mesh.triangles.push([inner[0], inner[0], inner[1]]);
        assert_eq!(unsound(&mesh), (1, 1));
    }
}
