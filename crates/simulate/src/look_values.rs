//! The values by vertex that layers of looks ask for, as attributes of the meshes of frames.

use crate::forces::Surfaces;
use crate::maps::MapsAt;
use crate::rest_surface::RestSurface;
use frames::finish::SharedFrames;
use frames::{Frame, Frames, MeshState, Parts, RunError, surface_quantity};
use geometry::topology::{Attribute, AttributeValues, Domain};
use geometry::{Meshes, crevices};
use glam::Vec3;
use shot::fingerprint::Fingerprint;
use shot::look_layer::LookWeight;
use shot::map::{LayerSource, Map, MapLayer};
use shot::motion::Sampler;
use shot::region::Combine;
use shot::world::World;
use shot::{Element, Fault, Id, Shape, Shot};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::{Arc, Mutex, PoisonError};

/// Frames whose meshes have the values that the looks of a shot ask for. A rigid solid whose look asks for some gets a mesh.
pub struct LookValues {
    source: SharedFrames,
    sampler: Sampler,
    meshes: Meshes,
    surfaces: Surfaces,
    /// The elements whose looks ask for values.
    elements: Vec<Id>,
    /// Their meshes at rest, of the shapes that they had last: those of rigid solids may be keyed.
    at_rest: Mutex<BTreeMap<Id, (Shape, Arc<RestSurface>)>>,
}

/// Whether the looks of a shot ask for values.
pub fn asks_for_values(shot: &Shot) -> bool {
    shot.elements.iter().any(asks)
}

fn asks(element: &Element) -> bool {
    let layers = element.as_solid().map_or(&[][..], |solid| &solid.look.layers);
    layers.iter().any(|layer| layer.by.attribute().is_some())
}

impl LookValues {
    /// Over frames of a shot with these meshes.
    ///
    /// # Errors
    /// The faults of the shot.
    pub fn new(source: SharedFrames, shot: &Shot, meshes: Meshes) -> Result<Self, Vec<Fault>> {
        let elements = shot.elements.iter().filter(|element| asks(element)).map(|of| of.id).collect();
        let surfaces = Surfaces::of(shot, &meshes);
        let (sampler, at_rest) = (Sampler::new(shot)?, Mutex::default());
        Ok(Self { source, sampler, meshes, surfaces, elements, at_rest })
    }

    fn at_rest(&self, element: &Element) -> Option<Arc<RestSurface>> {
        let mut all = self.at_rest.lock().unwrap_or_else(PoisonError::into_inner);
        let shape = &element.as_solid()?.shape;
        if let Some((_, found)) = all.get(&element.id).filter(|(of, _)| of == shape) {
            return Some(found.clone());
        }
        let made = Arc::new(RestSurface::of(element, &self.meshes)?);
        all.insert(element.id, (shape.clone(), made.clone()));
        Some(made)
    }

    /// Adds the values of an element to its mesh.
    fn add(&self, frame: &mut Frame, number: u32, id: Id) -> Option<()> {
        let at = f64::from(number);
        let solved = |of: Id, then: f64| {
            let bodies = frame.bodies.get(&of).filter(|_| then == at)?;
            Some((*bodies.positions.first()?, *bodies.orientations.first()?))
        };
        let now = self.sampler.at_with(at, &solved).ok()?;
        let world = World::new(&now, &self.sampler, at, &solved);
        let element = now.element(id)?;
        let rest = self.at_rest(element)?;
        let mut mesh = frame.meshes.get(&id).cloned().unwrap_or_else(|| MeshState {
            topology: rest.topology.clone(),
            positions: rest.surface.mesh().positions.clone(),
            velocities: vec![Vec3::ZERO; rest.surface.mesh().positions.len()],
            attributes: Vec::new(),
        });
        let timing = now.timing;
        let seconds = (self.sampler.world_frame(at) - f64::from(timing.first)) / f64::from(timing.fps);
        let meshes = &self.meshes;
        let maps = MapsAt { world: &world, surfaces: &self.surfaces, meshes, element, seconds };
        let of_map = |map: &Map| rest.map(map, &maps, mesh.positions.len(), Some(&mesh));
        let solid = element.as_solid()?;
        let mut added: Vec<Attribute> = Vec::new();
        for layer in &solid.look.layers {
            let Some(name) = layer.by.attribute() else { continue };
            if mesh.scalars(&name).is_some() || added.iter().any(|of| of.name == name) {
                continue;
            }
            let values = match &layer.by {
                LookWeight::Map { map } => solid.maps.iter().find(|of| of.name == *map).and_then(&of_map),
                LookWeight::Quantity { quantity } => {
                    surface_quantity(frame, element, *quantity, &rest.surface.mesh().positions)
                }
                LookWeight::Crevices { radius_m } => {
                    // An open sheet is hollow on one side where it bulges on the other.
                    Some(crevices(&mesh.topology, &mesh.positions, *radius_m, !rest.closed))
                }
                LookWeight::Noise { size_m, seed } => of_map(&noise(*size_m, *seed)),
                LookWeight::ViewingAngle {} | LookWeight::BirthMap {} => None,
            };
            if let Some(values) = values {
                added.push(Attribute {
                    name,
                    domain: Domain::Vertex,
                    values: AttributeValues::Scalars(values),
                });
            }
        }
        mesh.attributes.extend(added);
        frame.meshes.insert(id, mesh);
        Some(())
    }
}

/// A map of noise alone.
fn noise(size_m: f32, seed: u32) -> Map {
    let source = LayerSource::Noise { size_m, seed };
    let layer = MapLayer { source, operation: Combine::Add, amount: 1.0, inverted: false };
    Map { name: String::new(), layers: vec![layer], blur_m: 0.0 }
}

impl Frames for LookValues {
    fn range(&self) -> RangeInclusive<u32> {
        self.source.range()
    }

    fn repeats(&self) -> bool {
        self.source.repeats()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        self.source.fingerprint(number)
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        self.source.read(number, parts, frame)?;
        for id in self.elements.iter().filter(|id| parts.has(**id)) {
            // Where there is no mesh, the look is plain there.
            let _ = self.add(frame, number, *id);
        }
        Ok(())
    }
}
