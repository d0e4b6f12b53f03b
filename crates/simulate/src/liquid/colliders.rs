//! The bodies of a shot as the solids that liquid meets.

use super::boundary::{Boundary, FreeBody, PointVectors, SurfacePoint};
use super::coupling::BodyImpulse;
use crate::colliders::{BodyState, Collider, Colliders, SurfaceResponse};
use geometry::Bounds;
use glam::Vec3;
use shot::Id;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Thickness of surfaces that are not closed, in cells: at least one corner of the cells lies within.
const THICKNESS: f32 = 1.25;

/// The bodies that a liquid meets, at the end of a substep.
pub struct Bodies<'a> {
    /// All bodies.
    pub colliders: &'a Colliders,
    /// For each body in the list, whether the liquid meets it.
    pub met: &'a [bool],
    /// Edge of the liquid's cells, m.
    pub cell_m: f32,
    /// Whether the liquid pushes free bodies.
    pub pushes: bool,
    /// The part of the substep, 0–1, that the coming step of the liquid ends: so much of the load of the substep before is taken
    /// away from free bodies.
    pub part: f32,
    /// What it has given them in the substep, by body.
    pub given: BTreeMap<u32, BodyImpulse>,
    /// The surfaces of cloths and soft bodies that it pushes, by body.
    pub surfaces: BTreeMap<u32, PushedSurface>,
}

/// Most points along the edges of a triangle of a surface, and about how many on all of it unless it has more triangles.
const MOST_POINTS: u32 = 8;
const MOST_ON_SURFACE: usize = 500_000;

/// A surface that a liquid pushes, over a substep.
pub struct PushedSurface {
    /// Those of a system answer together.
    system: usize,
    element: Id,
    points: Vec<SurfacePoint>,
    /// The corners of the triangle on which each point lies, and their weights.
    places: Vec<([u32; 3], [f32; 3])>,
    /// By how much the points move otherwise than the boundary, m/s: with the load of the substep before, and without.
    loaded: Vec<Vec3>,
    unloaded: Vec<Vec3>,
    /// The vertices at the substep's end without the load of the substep before, m.
    unloaded_vertices: Vec<Vec3>,
    /// What each vertex has been given, N s.
    impulses: Vec<Vec3>,
}

impl PushedSurface {
    /// Of a collider; points are at most half a cell apart, as far as a triangle may have that many.
    pub fn new(
        collider: &Collider,
        (system, response): (usize, &dyn SurfaceResponse),
        cell_m: f32,
    ) -> Option<Self> {
        let states = response.states().get(&collider.now.element)?;
        let surface = collider.deformable_surface()?;
        let (vertices, triangles) = (surface.positions(), surface.topology().triangles());
        if states.masses.len() != vertices.len() || collider.dt() <= 0.0 {
            return None;
        }
        let ways = vertices.iter().zip(surface.positions_before());
        let otherwise: Vec<Vec3> = ways
            .zip(&states.velocities)
            .map(|((after, before), velocity)| *velocity - (*after - *before) / collider.dt())
            .collect();
        let mut area_of = vec![0.0f32; vertices.len()];
        let area = |[a, b, c]: [u32; 3]| {
            let [a, b, c] = [a, b, c].map(|p| vertices[p as usize]);
            0.5 * (b - a).cross(c - a).length()
        };
        for triangle in triangles {
            triangle.iter().for_each(|p| area_of[*p as usize] += area(*triangle) / 3.0);
        }
        let most = ((MOST_ON_SURFACE / triangles.len().max(1)).isqrt() as u32).clamp(1, MOST_POINTS);
        let (mut points, mut places) = (Vec::new(), Vec::new());
        let (mut loaded, mut unloaded) = (Vec::new(), Vec::new());
        for triangle in triangles {
            let corners = triangle.map(|p| vertices[p as usize]);
            let longest = (0..3).map(|i| corners[i].distance(corners[(i + 1) % 3])).fold(0.0, f32::max);
            let parts = ((2.0 * longest / cell_m).ceil() as u32).clamp(1, most);
            let part = area(*triangle) / (parts * parts) as f32;
            for weights in triangle_parts(parts) {
                let sum = |of: &[Vec3]| {
                    triangle.iter().zip(weights).map(|(p, weight)| weight * of[*p as usize]).sum::<Vec3>()
                };
                let mass = |p: u32| states.masses[p as usize] / area_of[p as usize].max(f32::MIN_POSITIVE);
                let mass_kg =
                    part * triangle.iter().zip(weights).map(|(p, weight)| weight * mass(*p)).sum::<f32>();
                let change = sum(&otherwise);
                points.push(SurfacePoint { position: sum(vertices), mass_kg, change });
                places.push((*triangle, weights));
                loaded.push(change);
                unloaded.push(change + sum(&states.unloaded));
            }
        }
        let (element, impulses) = (collider.now.element, vec![Vec3::ZERO; vertices.len()]);
        let moved = vertices.iter().zip(&states.unloaded);
        let unloaded_vertices = moved.map(|(at, change)| *at + *change * response.way_s()).collect();
        Some(Self { system, element, points, places, loaded, unloaded, unloaded_vertices, impulses })
    }

    /// Adds impulses on its points to those on vertices.
    fn add_to_vertices(&self, of_points: &[Vec3], vertices: &mut [Vec3]) {
        for ((triangle, weights), impulse) in self.places.iter().zip(of_points) {
            triangle.iter().zip(weights).for_each(|(p, weight)| vertices[*p as usize] += *weight * *impulse);
        }
    }

    /// What its points have of what its vertices have.
    fn at_points(&self, vertices: &[Vec3]) -> Vec<Vec3> {
        let of = |(triangle, weights): &([u32; 3], [f32; 3])| {
            triangle.iter().zip(weights).map(|(p, weight)| *weight * vertices[*p as usize]).sum()
        };
        self.places.iter().map(of).collect()
    }
}

/// The centres of the parts of a triangle whose edges are divided into so many, as weights of its corners.
fn triangle_parts(parts: u32) -> impl Iterator<Item = [f32; 3]> {
    let whole = 3.0 * parts as f32;
    (0..parts).flat_map(move |i| {
        (0..parts - i).flat_map(move |j| {
            let up = Some((3 * i + 1, 3 * j + 1));
            let down = (i + j + 1 < parts).then_some((3 * i + 2, 3 * j + 2));
            up.into_iter().chain(down).map(move |(a, b)| {
                let (a, b) = (a as f32 / whole, b as f32 / whole);
                [a, b, 1.0 - a - b]
            })
        })
    })
}

impl<'a> Bodies<'a> {
    /// Bodies that liquid does not push.
    pub fn unpushed(colliders: &'a Colliders, met: &'a [bool], cell_m: f32) -> Self {
        let (given, surfaces) = (BTreeMap::new(), BTreeMap::new());
        Self { colliders, met, cell_m, pushes: false, part: 0.0, given, surfaces }
    }

    /// Adds what a step gave them.
    pub fn add_impulses(&mut self, given: &[BodyImpulse]) {
        for of in given {
            let sum = self.given.entry(of.body).or_insert(BodyImpulse {
                impulse: Vec3::ZERO,
                angular_impulse: Vec3::ZERO,
                velocity: Vec3::ZERO,
                angular_velocity: Vec3::ZERO,
                ..*of
            });
            sum.add(of);
        }
    }

    /// Adds the cloths and soft bodies that are met and answer impulses.
    pub fn add_surfaces(&mut self) {
        for (body, collider) in (0..).zip(self.colliders.list()).filter(|(body, _)| self.met[*body as usize])
        {
            let of = |(system, response): (&usize, &Arc<dyn SurfaceResponse>)| {
                PushedSurface::new(collider, (*system, &**response), self.cell_m)
            };
            if let Some(surface) = self.colliders.responses.iter().find_map(of) {
                self.surfaces.insert(body, surface);
            }
        }
    }

    /// Takes a part of the load of the substep before, 0–1, away from bodies and surfaces: how they move without that, with what they
    /// have been given since.
    pub fn unload(&mut self, part: f32) {
        self.part = part;
        let changes = self.given_changes();
        for (body, surface) in &mut self.surfaces {
            let own = changes.iter().find(|(of, _)| of == body).map(|(_, changes)| changes);
            for (i, point) in surface.points.iter_mut().enumerate() {
                let pushed = own.map_or(Vec3::ZERO, |own| own[i]);
                point.change = surface.loaded[i].lerp(surface.unloaded[i], part) + pushed;
            }
        }
    }

    /// Adds what a step gave the surfaces, N s on their points.
    pub fn push_surfaces(&mut self, impulses: &PointVectors) {
        for (body, impulses) in impulses {
            if let Some(surface) = self.surfaces.get_mut(body) {
                let mut vertices = std::mem::take(&mut surface.impulses);
                surface.add_to_vertices(impulses, &mut vertices);
                surface.impulses = vertices;
            }
        }
    }

    /// How the points move by what the vertices have been given, m/s; nothing if they have not been given anything.
    fn given_changes(&self) -> PointVectors {
        if self.surfaces.values().all(|surface| surface.impulses.iter().all(|of| *of == Vec3::ZERO)) {
            return Vec::new();
        }
        self.changes_by(
            self.surfaces.iter().map(|(body, surface)| (*body, surface.impulses.clone())).collect(),
        )
    }

    /// How the points move by impulses on the vertices, m/s.
    fn changes_by(&self, on_vertices: BTreeMap<u32, Vec<Vec3>>) -> PointVectors {
        let each = self.vertex_changes_by(on_vertices).into_iter();
        each.map(|(body, changes)| (body, self.surfaces[&body].at_points(&changes))).collect()
    }

    /// How the vertices move by impulses on them, m/s.
    fn vertex_changes_by(&self, mut on_vertices: BTreeMap<u32, Vec<Vec3>>) -> Vec<(u32, Vec<Vec3>)> {
        let mut changes = Vec::new();
        for (system, response) in &self.colliders.responses {
            let own = || self.surfaces.iter().filter(|(_, surface)| surface.system == *system);
            let of =
                |(body, surface): (&u32, &PushedSurface)| Some((surface.element, on_vertices.remove(body)?));
            let impulses: BTreeMap<Id, Vec<Vec3>> = own().filter_map(of).collect();
            if impulses.is_empty() {
                continue;
            }
            let mut velocities = response.velocity_changes(&impulses);
            let of =
                |(body, surface): (&u32, &PushedSurface)| Some((*body, velocities.remove(&surface.element)?));
            changes.extend(own().filter_map(of));
        }
        changes
    }

    /// All bodies, with the surfaces where the loads of the substep have brought them; none: there are no surfaces that are pushed.
    pub fn pushed(&self) -> Option<Colliders> {
        if self.surfaces.is_empty() {
            return None;
        }
        let given = self.surfaces.iter().map(|(body, surface)| (*body, surface.impulses.clone())).collect();
        let changes = self.vertex_changes_by(given);
        let mut positions = Vec::new();
        for (body, surface) in &self.surfaces {
            let way_s = self.colliders.responses[&surface.system].way_s();
            let own = changes.iter().find(|(of, _)| of == body).map(|(_, changes)| changes);
            let mut vertices = surface.unloaded_vertices.clone();
            if let Some(own) = own {
                vertices.iter_mut().zip(own).for_each(|(at, change)| *at += *change * way_s);
            }
            positions.push((surface.element, vertices));
        }
        let mut pushed = self.colliders.clone();
        pushed.correct(positions.iter().map(|(id, positions)| (*id, &positions[..])));
        Some(pushed)
    }

    /// The loads of the substep, N s on the vertices of each element.
    pub fn loads(&self) -> BTreeMap<Id, Vec<Vec3>> {
        self.surfaces.values().map(|surface| (surface.element, surface.impulses.clone())).collect()
    }

    /// The loads of the substep on free bodies: impulses, N s, and angular impulses, N m s.
    pub fn body_loads(&self) -> impl Iterator<Item = ((Id, u32), [Vec3; 2])> {
        self.given.iter().map(|(body, given)| {
            let BodyState { element, copy, .. } = self.colliders.list()[*body as usize].now;
            ((element, copy), [given.impulse, given.angular_impulse])
        })
    }

    /// Whether a place is within a body.
    pub fn contain(&self, place: Vec3) -> bool {
        let (bounds, mut inside) = (Bounds { min: place, max: place }, false);
        let mut look = |i: usize| {
            let thickness = THICKNESS * self.cell_m;
            inside |=
                self.met[i] && self.colliders.list()[i].signed_distance(place, self.cell_m, thickness) < 0.0;
        };
        self.colliders.still_in(&bounds, &mut look);
        self.colliders.moving_in(&bounds, &mut look);
        inside
    }
}

impl Boundary for Bodies<'_> {
    fn bodies_in(&self, min: Vec3, max: Vec3) -> [Vec<u32>; 2] {
        let (bounds, centre, reach) = (Bounds { min, max }, 0.5 * (min + max), 0.5 * min.distance(max));
        let mut found = [Vec::new(), Vec::new()];
        // The box of a body can be much larger than the body: a plane that is turned, or one that is not closed.
        let mut near = |which: usize, i: usize| {
            if self.met[i] && self.colliders.list()[i].signed_distance(centre, 2.0 * reach, reach) < reach {
                found[which].push(i as u32);
            }
        };
        self.colliders.still_in(&bounds, |i| near(0, i));
        self.colliders.moving_in(&bounds, |i| near(1, i));
        found.iter_mut().for_each(|list| list.sort_unstable());
        found
    }

    fn distance(&self, body: u32, place: Vec3, within: f32) -> f32 {
        self.colliders.list()[body as usize].signed_distance(place, within, THICKNESS * self.cell_m)
    }

    fn velocity(&self, body: u32, place: Vec3) -> Vec3 {
        let collider = &self.colliders.list()[body as usize];
        if !self.pushes {
            return collider.velocity_at(place);
        }
        let pushed = self.given.get(&body).map_or(Vec3::ZERO, |given| given.velocity_at(place));
        collider.velocity_at(place) - self.part * collider.now.by_load + pushed
    }

    fn free_body(&self, body: u32) -> Option<FreeBody> {
        let BodyState { inverse_mass, inverse_inertia, centre, .. } =
            self.colliders.list()[body as usize].now;
        let free = self.pushes && inverse_mass > 0.0;
        free.then_some(FreeBody { inverse_mass, inverse_inertia, centre })
    }

    fn surface_points(&self, body: u32) -> &[SurfacePoint] {
        self.surfaces.get(&body).map_or(&[], |surface| &surface.points)
    }

    fn surface_changes(&self, impulses: &PointVectors) -> PointVectors {
        let mut on_vertices = BTreeMap::new();
        for (body, impulses) in impulses {
            let surface = &self.surfaces[body];
            let mut vertices = vec![Vec3::ZERO; surface.impulses.len()];
            surface.add_to_vertices(impulses, &mut vertices);
            on_vertices.insert(*body, vertices);
        }
        self.changes_by(on_vertices)
    }

    fn nearest(&self, body: u32, place: Vec3) -> Option<Vec3> {
        self.colliders.list()[body as usize].nearest(place, f32::INFINITY)
    }

    fn separates(&self, body: u32, a: Vec3, b: Vec3) -> bool {
        self.colliders.list()[body as usize].separates(a, b)
    }

    fn version(&self) -> u64 {
        self.colliders.still_changes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_parts_of_a_triangle_are_as_many_as_squares_and_have_its_centre() {
        for parts in 1..=MOST_POINTS {
            let all: Vec<[f32; 3]> = triangle_parts(parts).collect();
            assert_eq!(all.len() as u32, parts * parts);
            for weights in &all {
                assert!((weights.iter().sum::<f32>() - 1.0).abs() < 1e-6, "{weights:?}");
                assert!(weights.iter().all(|weight| *weight > 0.0), "{weights:?}");
            }
            let centre = |i: usize| all.iter().map(|weights| weights[i]).sum::<f32>() / all.len() as f32;
            (0..3).for_each(|i| assert!((centre(i) - 1.0 / 3.0).abs() < 1e-5, "{parts}: {}", centre(i)));
        }
    }
}
