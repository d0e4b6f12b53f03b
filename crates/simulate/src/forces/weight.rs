//! The weight of a region at a point.

use super::course::Course;
use super::eddies::Table;
use geometry::{Meshes, Surface};
use glam::{Quat, Vec2, Vec3};
use shot::{
    Element, ElementKind, Id, Shape, Shot,
    references::Role,
    region::{Combine, Volume},
    world::World,
};
use std::collections::HashMap;
use std::sync::Arc;

/// The surfaces of the solids that regions and forces refer to.
#[derive(Clone, Default)]
pub struct Surfaces(HashMap<Id, (Shape, Arc<Surface>)>);

impl Surfaces {
    /// The surfaces that a shot's regions and forces need.
    pub fn of(shot: &Shot, meshes: &Meshes) -> Self {
        let mut surfaces = HashMap::new();
        let parts = shot
            .elements
            .iter()
            .filter(|element| element.as_region().is_some() || element.as_force().is_some())
            .flat_map(Element::references)
            .filter(|reference| reference.role == Role::Part)
            .map(|reference| reference.id);
        for id in parts {
            if let Some(solid) = shot.element(id).and_then(Element::as_solid)
                && let Ok(mesh) = meshes.mesh(&solid.shape)
            {
                surfaces.entry(id).or_insert_with(|| (solid.shape.clone(), Arc::new(Surface::new(&mesh))));
            }
        }
        Self(surfaces)
    }

    /// The surface of a solid.
    pub fn get(&self, id: Id) -> Option<&Arc<Surface>> {
        self.0.get(&id).map(|(_, surface)| surface)
    }

    /// Rebuilds the surfaces whose shape has changed.
    pub fn follow(&mut self, shot: &Shot, meshes: &Meshes) {
        for (id, (shape, surface)) in &mut self.0 {
            if let Some(solid) = shot.element(*id).and_then(Element::as_solid)
                && solid.shape != *shape
                && let Ok(mesh) = meshes.mesh(&solid.shape)
            {
                (*shape, *surface) = (solid.shape.clone(), Arc::new(Surface::new(&mesh)));
            }
        }
    }
}

/// A region at one time.
pub struct Weight {
    position: Vec3,
    inverse: Quat,
    region: shot::region::Region,
    inside: Inside,
}

enum Inside {
    Shape,
    Solid(Vec<(Vec3, Quat)>, Arc<Surface>),
    /// Tangents of half the angles of view, across and up, with the margin.
    Gate(Vec2),
    /// Drifts with their weights, and the seed.
    Noise(Box<Table>, [(Vec3, f32); 2], u32),
    Parts(Vec<(Weight, Combine)>),
    Nothing,
}

impl Weight {
    /// The region `element` as it is in `world` at `seconds`; none if it is no region.
    pub fn new(
        world: &World,
        shot: &Shot,
        surfaces: &Surfaces,
        element: &Element,
        seconds: f64,
    ) -> Option<Self> {
        let region = element.as_region()?.clone();
        let (mut position, mut orientation) = world.pose(element);
        let inside = match &region.volume {
            Volume::Inside { solid } => match (shot.element(*solid), surfaces.get(*solid)) {
                (Some(of), Some(surface)) => {
                    let poses = world.placements(of).into_iter().map(|(p, t)| (p, t.inverse()));
                    Inside::Solid(poses.collect(), surface.clone())
                }
                _ => Inside::Nothing,
            },
            Volume::Gate { camera, margin } => match shot.element(*camera).map(|of| (of, &of.kind)) {
                Some((of, ElementKind::Camera(camera))) => {
                    (position, orientation) = world.pose(of);
                    let half = camera.half_width();
                    Inside::Gate(half * Vec2::new(1.0, 1.0 / shot.picture.aspect()) + 2.0 * half * margin)
                }
                _ => Inside::Nothing,
            },
            Volume::Noise { seed, .. } => {
                let axis = orientation * Vec3::NEG_Y;
                let drifts = Course::of(world.sampler(), element, axis, seconds).drifts();
                Inside::Noise(Box::new(Table::new(*seed, 0.0)), drifts, *seed)
            }
            Volume::Combined { parts } => Inside::Parts(
                parts
                    .iter()
                    .filter_map(|part| {
                        let of = shot.element(part.region)?;
                        Some((Self::new(world, shot, surfaces, of, seconds)?, part.operation))
                    })
                    .collect(),
            ),
            _ => Inside::Shape,
        };
        Some(Self { position, inverse: orientation.inverse(), region, inside })
    }

    /// The weight at a point, 0–1.
    #[inline]
    pub fn at(&self, point: Vec3) -> f32 {
        let region = &self.region;
        let flip = |weight: f32| if region.inverted { 1.0 - weight } else { weight };
        let p = self.inverse * (point - self.position);
        match (&region.volume, &self.inside) {
            (Volume::Box { size_m }, _) => {
                let q = p.abs() - *size_m * 0.5;
                region.weight(signed(
                    size_m.min_element(),
                    q.max(Vec3::ZERO).length() + q.max_element().min(0.0),
                ))
            }
            (Volume::Sphere { radius_m }, _) => region.weight(signed(*radius_m, p.length() - radius_m)),
            (Volume::HalfSpace {}, _) => region.weight(p.y),
            (Volume::Cylinder { radius_m, height_m }, _) => {
                let (out, up) = (p.x.hypot(p.z) - radius_m, p.y.abs() - 0.5 * height_m);
                let distance = out.max(0.0).hypot(up.max(0.0)) + out.max(up).min(0.0);
                region.weight(signed(radius_m.min(*height_m), distance))
            }
            (_, Inside::Gate(half)) => {
                // Distances from the sides of the pyramid of view; the camera looks along −z.
                let side = |across: f32, half: f32| (across.abs() + p.z * half) / half.hypot(1.0);
                region.weight(side(p.x, half.x).max(side(p.y, half.y)))
            }
            (_, Inside::Solid(poses, surface)) => {
                let distance = |(position, inverse): &(Vec3, Quat)| {
                    surface.signed_distance(*inverse * (point - *position))
                };
                region.weight(poses.iter().map(distance).fold(f32::INFINITY, f32::min))
            }
            (Volume::Noise { size_m, threshold, softness, .. }, Inside::Noise(table, drifts, seed)) => {
                let of = |(drift, weight): &(Vec3, f32)| match *weight {
                    0.0 => 0.0,
                    weight => weight * table.number((p - *drift) / *size_m, *seed),
                };
                let number = 0.5 + 0.5 * drifts.iter().map(of).sum::<f32>();
                flip(if *softness > 0.0 {
                    region.profile.at((number - threshold) / softness)
                } else {
                    f32::from(u8::from(number >= *threshold))
                })
            }
            (_, Inside::Parts(parts)) => {
                flip(parts.iter().fold(0.0, |so_far, (part, how)| match how {
                    // The first is there before anything can be multiplied.
                    Combine::Multiply | Combine::Minimum if std::ptr::eq(part, &parts[0].0) => part.at(point),
                    how => how.of(so_far, part.at(point)),
                }))
            }
            _ => flip(0.0),
        }
    }
}

/// A volume of no size has no inside.
fn signed(size: f32, distance: f32) -> f32 {
    if size > 0.0 { distance } else { f32::INFINITY }
}
