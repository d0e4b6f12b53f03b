//! The maps of a cloth or a soft body at the nodes, as they are at a time.

use super::discretization::Discretization;
use crate::Step;
use crate::maps::MapsAt;
use geometry::maps::MapSurface;
use geometry::{Mesh, Meshes};
use shot::map::{LayerSource, Map, MapLayer};
use shot::world::World;
use shot::{Element, Id};

/// The maps of an element that act on it.
pub(super) struct ElementMaps {
    surface: MapSurface,
    meshes: Meshes,
    /// For each node of one body, the points that it has a part in and their weights, which sum to 1; of a node without points
    /// the nearest.
    points_of: Vec<Vec<(u32, f32)>>,
    /// Maps as they were last, with their weights at the nodes of one body: of the same map they are the same.
    kept: Vec<(Map, Vec<f32>)>,
}

impl ElementMaps {
    /// Of an element with maps that act on it, whose mesh at rest and nodes of one body these are.
    pub fn new(element: &Element, mesh: &Mesh, body: &Discretization, meshes: &Meshes) -> Option<Self> {
        element.acting_maps().next()?;
        let surface = MapSurface::new(mesh.clone());
        let mut points_of = vec![Vec::new(); body.len()];
        for point in 0..body.embedding.len() as u32 {
            for (node, weight) in body.embedding.of(point) {
                points_of[node as usize].push((point, weight as f32));
            }
        }
        let at_rest = body.embedding.all(&body.rest);
        for (points, rest) in points_of.iter_mut().zip(&body.rest) {
            if points.is_empty() {
                let away = |p: &usize| at_rest[*p].distance_squared(*rest);
                let nearest = (0..at_rest.len()).min_by(|a, b| away(a).total_cmp(&away(b)));
                points.extend(nearest.map(|point| (point as u32, 1.0)));
            }
            let sum: f32 = points.iter().map(|(_, weight)| weight).sum();
            points.iter_mut().for_each(|(_, weight)| *weight /= sum.max(1e-9));
        }
        Some(Self { surface, meshes: meshes.clone(), points_of, kept: Vec::new() })
    }

    /// The weights of a map of `element` at all its nodes, at the end of a step.
    pub fn at_nodes(&mut self, name: &str, element: &Element, step: &Step) -> Vec<f32> {
        let Some(map) = element.acting_maps().find(|map| map.name == name) else { return Vec::new() };
        let same = |kept: &&(Map, Vec<f32>)| kept.0 == *map && !reads_others(map);
        let of_body = match self.kept.iter().find(same) {
            Some((_, weights)) => weights.clone(),
            None => {
                let solved = |id: Id, _: f64| step.colliders.solved(id);
                let world = World::new(step.shot, step.sampler, step.acting, &solved);
                let (surfaces, meshes, seconds) = (step.surfaces, &self.meshes, step.seconds);
                let at = MapsAt { world: &world, surfaces, meshes, element, seconds };
                let weights = self.surface.weights(map, &at);
                let of_node = |points: &Vec<(u32, f32)>| {
                    points.iter().map(|(point, part)| weights[*point as usize] * part).sum::<f32>()
                };
                let of_body: Vec<f32> = self.points_of.iter().map(of_node).collect();
                self.kept.retain(|(kept, _)| kept.name != name);
                self.kept.push((map.clone(), of_body.clone()));
                of_body
            }
        };
        of_body.repeat(element.count())
    }
}

/// Whether a map reads where other elements are: these may be carried by others, and nothing here tells when they move.
fn reads_others(map: &Map) -> bool {
    let reads = |layer: &MapLayer| {
        let source = &layer.source;
        matches!(source, LayerSource::Region { .. } | LayerSource::Curve { .. } | LayerSource::Inside { .. })
    };
    map.layers.iter().any(reads)
}
