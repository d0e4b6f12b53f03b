//! Weights of births by a map of the solid that particles are born on, or by a quantity measured on it.

use crate::Step;
use crate::maps::MapsAt;
use crate::particles::ParticleSystem;
use crate::rest_surface::RestSurface;
use frames::surface_quantity;
use geometry::{Mesh, Meshes, MovingSurface};
use shot::particles::{EmissionMap, MapSource, Particles, Source};
use shot::world::World;
use shot::{Element, Shape, UvLayout};
use std::sync::{Arc, OnceLock};

/// The surface at rest of the solid that particles are born on, kept while its shape stays the same.
pub(in crate::particles) struct KeptSurface {
    of: (Shape, UvLayout),
    surface: Arc<RestSurface>,
    /// The same, for the places nearest to points; made when it is asked for.
    places: OnceLock<Arc<MovingSurface>>,
}

/// Whether births depend on values at the vertices of a solid.
pub(in crate::particles) fn needs_vertex_weights(particles: &Particles) -> bool {
    let source = particles.emission.map.as_ref().map(|map| &map.source);
    matches!(source, Some(MapSource::Map { .. } | MapSource::Quantity { .. }))
}

impl ParticleSystem {
    /// The mesh that particles are born on, with the weights of births at its vertices; `deformed` is the mesh of a solid that
    /// changes its shape. None: births do not depend on values at its vertices.
    pub(super) fn weighted_mesh(
        &mut self,
        step: &Step,
        world: &World,
        particles: &Particles,
        meshes: &Meshes,
        deformed: Option<&Mesh>,
    ) -> Option<Mesh> {
        let (Source::Solid { solid, .. }, Some(EmissionMap { source, .. })) =
            (&particles.source, &particles.emission.map)
        else {
            return None;
        };
        if !needs_vertex_weights(particles) {
            return None;
        }
        let element = step.shot.element(*solid)?;
        let rest = self.rest_surface(element, meshes)?;
        let mut mesh = deformed.cloned().unwrap_or_else(|| rest.surface.mesh().clone());
        let vertices = mesh.positions.len();
        let weights = match source {
            MapSource::Map { map } => {
                let (surfaces, seconds) = (step.surfaces, step.seconds);
                let at = MapsAt { world, surfaces, meshes, element, seconds };
                let map = element.as_solid()?.maps.iter().find(|of| of.name == *map)?;
                rest.map(map, &at, vertices, step.deformed.meshes.get(solid))
            }
            MapSource::Quantity { quantity, from, to } => {
                let values =
                    surface_quantity(step.deformed, element, *quantity, &rest.surface.mesh().positions);
                let span = to - from;
                let weight = |value: f32| {
                    let past = value - from;
                    let weight = if span == 0.0 { f32::from(past >= 0.0) } else { past / span };
                    // A value that is not finite has no weight.
                    if weight.is_nan() { 0.0 } else { weight.clamp(0.0, 1.0) }
                };
                values.map(|values| values.into_iter().map(weight).collect())
            }
            MapSource::Image { .. } | MapSource::Vertices {} => None,
        };
        mesh.weights =
            weights.filter(|weights: &Vec<f32>| weights.len() == vertices).unwrap_or(vec![0.0; vertices]);
        Some(mesh)
    }

    /// The surface of a solid at rest.
    pub(super) fn rest_surface(&mut self, element: &Element, meshes: &Meshes) -> Option<Arc<RestSurface>> {
        let solid = element.as_solid()?;
        let of = (solid.shape.clone(), solid.uvs);
        if self.rest_surface.as_ref().is_none_or(|kept| kept.of != of) {
            let surface = Arc::new(RestSurface::of(element, meshes)?);
            self.rest_surface = Some(KeptSurface { of, surface, places: OnceLock::new() });
        }
        Some(self.rest_surface.as_ref()?.surface.clone())
    }

    /// The surface of a solid at rest, for the places nearest to points.
    pub(super) fn surface_at_rest(
        &mut self,
        element: &Element,
        meshes: &Meshes,
    ) -> Option<Arc<MovingSurface>> {
        let rest = self.rest_surface(element, meshes)?;
        let made =
            || Arc::new(MovingSurface::new(rest.topology.clone(), rest.surface.mesh().positions.clone()));
        Some(self.rest_surface.as_ref()?.places.get_or_init(made).clone())
    }
}
