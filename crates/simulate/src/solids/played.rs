//! Solids whose shape a file changes.
//!
//! To the library each is a deforming body of which every vertex is held and
//! moved, so that contacts, stacks and friction see the true surface with its
//! velocity. The library brings bodies to rest on such a surface; their rebound
//! is added here. When the solid is let go, it becomes a rigid body of the shape
//! that it has then, with the mean motion of its surface.

use super::contact::PAIR_RULE;
use super::flight::StateBefore;
use super::push::wake_all;
use super::substeps::MAX_STEPS;
use super::{Solids, State, collision, id_of, user_data};
use crate::{PrepareContext, PrepareError, Step};
use geometry::{Meshes, MovingMesh, Topology, barycentric, mass_of, wind_area_of};
use glam::{Mat3, Vec3};
use rapier3d::parry::bounding_volume::{Aabb, BoundingVolume};
use rapier3d::prelude::*;
use serde::{Deserialize, Serialize};
use shot::{Element, Id, Shape};
use std::sync::Arc;

/// A solid that shows, or has shown, frames of a file.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct Played {
    /// The frame of the file that is shown.
    frame: f64,
    /// Frames of the file that go by in a second.
    frames_s: f32,
    /// The deforming bodies, one a copy, of the faces that they have; none once
    /// the solid is let go.
    bodies: Vec<SoftBodyHandle>,
}

impl Played {
    /// Whether it has not been let go.
    pub(super) fn deforms(&self) -> bool {
        !self.bodies.is_empty()
    }
}

/// The mesh that an element shows when keys are read at `acting`, in metres and
/// metres a second; `frames_s` are the frames of the file that go by in a second.
fn mesh_at(element: &Element, meshes: &Meshes, frame: f64, frames_s: f32) -> Option<MovingMesh> {
    let solid = element.as_solid()?;
    let Shape::Mesh { asset, scale } = &solid.shape else { return None };
    let sequence = meshes.sequences.get(asset)?;
    Some(sequence.at(frame, solid.animation.as_ref()?).scaled(*scale, frames_s))
}

/// Vertices that stand at one place, one for each group of the topology.
fn welded(topology: &Topology, positions: &[Vec3]) -> Vec<Vec3> {
    let mut places = Vec::new();
    for (v, &group) in topology.smooth().iter().enumerate() {
        if group as usize == places.len() {
            places.push(positions[v]);
        }
    }
    places
}

/// A deforming body whose vertices are all held.
fn body_of(mesh: &MovingMesh, at: Pose, template: ColliderBuilder, margin_m: f32) -> SoftBodyBuilder {
    let places: Vec<Vec3> = welded(&mesh.topology, &mesh.positions).into_iter().map(|p| at * p).collect();
    let faces = mesh.topology.triangles().iter().map(|t| t.map(|v| mesh.topology.smooth()[v as usize]));
    let held = 0..places.len() as u32;
    SoftBodyBuilder::new(places)
        .surface(faces.filter(|[a, b, c]| a != b && b != c && c != a).collect())
        .pinned_particles(held)
        .particle_radius(0.5 * margin_m)
        .surface_collider(template)
}

/// The frame that an element's file shows at the first frame, and how many go by in a second.
fn first_frame(context: PrepareContext, element: &Element) -> Option<(f64, f32)> {
    let first = f64::from(context.shot.timing.first);
    let shown = |frame: f64| context.sampler.file_frame(element, context.sampler.acting_frame(frame));
    let (now, next) = (shown(first)?, shown(first + shot::fingerprint::LET_GO_DELTA)?);
    let frames_s = (next - now) / shot::fingerprint::LET_GO_DELTA * f64::from(context.shot.timing.fps);
    Some((now, frames_s as f32))
}

impl Solids {
    /// Puts the solids that files animate into the world.
    pub(super) fn prepare_played(&mut self, context: PrepareContext) -> Result<(), PrepareError> {
        for element in &context.shot.elements {
            let Some((asset, _)) = element.file_animation() else { continue };
            let Some((frame, frames_s)) = first_frame(context, element) else { continue };
            let missing = || PrepareError::Mesh {
                element: element.name.clone(),
                source: geometry::MissingMesh(asset.to_owned()),
            };
            let mesh = mesh_at(element, context.meshes, frame, frames_s).ok_or_else(missing)?;
            let mesh = Arc::new(mesh);
            let bodies = self.add_bodies_of(element, &mesh);
            self.state.played.insert(element.id, Played { frame, frames_s, bodies });
            self.shapes.insert(element.id, mesh);
        }
        Ok(())
    }

    /// Adds the deforming bodies of an element where its copies stand.
    fn add_bodies_of(&mut self, element: &Element, mesh: &MovingMesh) -> Vec<SoftBodyHandle> {
        let Some(solid) = element.as_solid() else { return Vec::new() };
        let State { world, members, .. } = &mut self.state;
        let mut bodies = Vec::new();
        for member in members.iter_mut().filter(|member| member.element == element.id) {
            // Its own collider waits until it is let go.
            world.colliders[member.collider].set_enabled(false);
            member.deforms = true;
            let template = ColliderBuilder::ball(0.1)
                .friction(solid.body.friction)
                .friction_combine_rule(PAIR_RULE)
                .restitution(solid.body.restitution)
                .restitution_combine_rule(PAIR_RULE)
                .user_data(user_data(element.id, member.copy));
            let at = *world.bodies[member.handle].position();
            let margin = solid.body.margin_m(member.smallest_m);
            bodies.push(world.insert_soft_body(body_of(mesh, at, template, margin)));
        }
        bodies
    }

    /// Takes up the shapes of a restored state.
    pub(super) fn restore_played(&mut self) -> Result<(), PrepareError> {
        self.shapes.clear();
        for (id, played) in &self.state.played {
            let element = self.played_elements.iter().find(|element| element.id == *id);
            let mesh =
                element.and_then(|element| mesh_at(element, &self.meshes, played.frame, played.frames_s));
            let mesh = mesh.ok_or_else(|| PrepareError::State("it has other animated meshes".to_owned()))?;
            self.shapes.insert(*id, Arc::new(mesh));
        }
        Ok(())
    }

    /// Finds the shapes at the substep's end of all solids that files animate.
    pub(super) fn play(&mut self, step: &Step) {
        let ids: Vec<Id> = self.state.played.keys().copied().collect();
        for id in ids {
            let played = &self.state.played[&id];
            let Some(element) = step.shot.element(id).filter(|_| played.deforms()) else { continue };
            let Some(frame) = step.sampler.file_frame(element, step.acting) else { continue };
            let frames_s =
                if step.dt > 0.0 { ((frame - played.frame) / f64::from(step.dt)) as f32 } else { 0.0 };
            let Some(mesh) = mesh_at(element, &self.meshes, frame, frames_s) else { continue };
            if self.shapes.get(&id).is_none_or(|shape| shape.topology != mesh.topology) {
                self.take_bodies(id);
                // It comes from where its velocities say.
                let back = |(p, v): (&Vec3, &Vec3)| *p - *v * step.dt;
                let positions = mesh.positions.iter().zip(&mesh.velocities).map(back).collect();
                let bodies = self.add_bodies_of(element, &MovingMesh { positions, ..mesh.clone() });
                self.state.played.get_mut(&id).expect("listed").bodies = bodies;
            }
            let played = self.state.played.get_mut(&id).expect("listed");
            (played.frame, played.frames_s) = (frame, frames_s);
            self.shapes.insert(id, Arc::new(mesh));
        }
    }

    /// The number of steps for the coming substep in which no free body goes
    /// through a deforming one: as in [`Solids::steps_needed`], the surfaces come
    /// together by no more than a quarter of the body's thickness in each.
    pub(super) fn steps_needed_at_played(&self, dt: f32) -> u32 {
        let world = &self.state.world;
        let mut most = 1.0f32;
        for (id, played) in self.state.played.iter().filter(|(_, played)| played.deforms()) {
            let Some(mesh) = self.shapes.get(id) else { continue };
            let places = welded(&mesh.topology, &mesh.positions);
            let of = self.state.members.iter().filter(|member| member.element == *id);
            for (member, handle) in of.zip(&played.bodies) {
                let at = *world.bodies[member.handle].next_position();
                let Some(body) = world.soft_bodies.get(*handle) else { continue };
                let (mut bounds, mut way) = (Aabb::new_invalid(), 0.0f32);
                for (i, place) in places.iter().enumerate() {
                    let (from, to) = (body.particle_position(i), at * *place);
                    bounds.take_point(from);
                    bounds.take_point(to);
                    way = way.max(from.distance_squared(to));
                }
                most = most.max(self.closest_approach(&bounds, way.sqrt(), dt));
            }
        }
        (most.ceil() as u32).clamp(1, MAX_STEPS)
    }

    /// The largest way of a free body near `bounds`, plus `way`, in `dt` seconds, in
    /// quarters of its thickness.
    fn closest_approach(&self, bounds: &Aabb, way: f32, dt: f32) -> f32 {
        let world = &self.state.world;
        let mut most = 0.0f32;
        for member in self.state.members.iter().filter(|member| !member.gone) {
            let body = &world.bodies[member.handle];
            if !body.is_dynamic() {
                continue;
            }
            let own = (body.linvel() + world.gravity * dt) * dt;
            let now = world.colliders[member.collider].compute_aabb();
            let swept = now.merged(&Aabb::new(now.mins + own, now.maxs + own));
            if swept.intersects(bounds) {
                most = most.max((own.length() + way) / (0.25 * member.smallest_m * member.scale));
            }
        }
        most
    }

    /// Gives the vertices of all deforming bodies their places after `count`
    /// steps of which the coming one is the `k`-th.
    pub(super) fn move_vertices(&mut self, k: u32, count: u32) {
        let State { world, members, played, .. } = &mut self.state;
        let mut moved = false;
        for (id, played) in played.iter().filter(|(_, played)| played.deforms()) {
            let Some(mesh) = self.shapes.get(id) else { continue };
            let places = welded(&mesh.topology, &mesh.positions);
            let of = members.iter().filter(|member| member.element == *id);
            for (member, &handle) in of.zip(&played.bodies) {
                let at = *world.bodies[member.handle].next_position();
                let Some(body) = world.soft_bodies.get_mut(handle) else { continue };
                let left = 1.0 / (count - k + 1) as f32;
                for (i, place) in places.iter().enumerate() {
                    let (from, to) = (body.particle_position(i), at * *place);
                    let target = if k == count { to } else { from.lerp(to, left) };
                    moved |= target != from;
                    body.set_particle_kinematic_target(i, target);
                }
            }
        }
        if moved {
            self.wake_touching();
        }
    }

    /// The places of all vertices of deforming bodies before a step.
    pub(super) fn vertices(&self) -> Vec<(SoftBodyHandle, Vec<Vec3>)> {
        let bodies = self.state.world.soft_bodies.iter();
        bodies.map(|(handle, body)| (handle, body.particle_positions().collect())).collect()
    }

    /// Moves vertices back to where they were before a step, which is taken again.
    pub(super) fn move_back(&mut self, vertices: &[(SoftBodyHandle, Vec<Vec3>)]) {
        for (handle, places) in vertices {
            let Some(body) = self.state.world.soft_bodies.get_mut(*handle) else { continue };
            for (i, &place) in places.iter().enumerate() {
                let next = body.particle_position(i);
                body.set_particle_position(i, place);
                body.set_particle_kinematic_target(i, next);
            }
        }
    }

    /// Wakes the bodies that touch a deforming one.
    fn wake_touching(&mut self) {
        let world = &mut self.state.world;
        let played = &self.state.played;
        // A pair may have lost a collider since the last step.
        let deforms = |collider: ColliderHandle| {
            let collider = world.colliders.get(collider);
            let of = collider.and_then(|collider| played.get(&id_of(collider.user_data).0));
            of.is_some_and(Played::deforms)
        };
        let touching: Vec<RigidBodyHandle> = world
            .contact_pairs()
            .filter_map(|pair| match (deforms(pair.collider1), deforms(pair.collider2)) {
                (true, false) => world.colliders.get(pair.collider2)?.parent(),
                (false, true) => world.colliders.get(pair.collider1)?.parent(),
                _ => None,
            })
            .collect();
        for handle in touching {
            let body = &mut world.bodies[handle];
            if body.is_dynamic() && body.is_sleeping() {
                body.wake_up(true);
            }
        }
    }

    /// Removes the deforming bodies of an element.
    fn take_bodies(&mut self, id: Id) {
        let Some(played) = self.state.played.get_mut(&id) else { return };
        for handle in std::mem::take(&mut played.bodies) {
            self.state.world.remove_soft_body(handle);
        }
    }

    /// Removes the deforming bodies of elements that have broken.
    pub(super) fn drop_gone(&mut self) {
        let gone: Vec<Id> =
            self.state.members.iter().filter(|m| m.gone && m.deforms).map(|m| m.element).collect();
        for id in gone {
            self.take_bodies(id);
        }
    }

    /// Makes the members of an element rigid, in the shape that it has, and gives
    /// each the mean motion of its surface, to which that of its keys is added.
    pub(super) fn stiffen(&mut self, element: &Element) -> Option<()> {
        let mesh = self.shapes.get(&element.id)?.clone();
        let solid = element.as_solid()?;
        self.take_bodies(element.id);
        self.state.played.get_mut(&element.id)?.frames_s = 0.0;
        let own =
            Arc::new(MovingMesh { velocities: vec![Vec3::ZERO; mesh.positions.len()], ..(*mesh).clone() });
        self.shapes.insert(element.id, own);
        let shape = mesh.topology.mesh_at(mesh.positions.clone());
        let mass = mass_of(&shape);
        let mass_kg = match solid.body.weight {
            shot::Weight::MassKg(mass) => mass,
            shot::Weight::DensityKgM3(density) => density * mass.volume,
        };
        // A shape that has no hull, such as a flat sheet, keeps the box of its first frame.
        let fit = collision::shape_of_mesh(element, solid, &shape).ok();
        let (velocity, angular_velocity) = mean_motion(&mesh, mass.centre);
        let smallest = shape.bounds().size().min_element();
        let State { world, members, .. } = &mut self.state;
        for member in members.iter_mut().filter(|m| m.element == element.id && m.deforms) {
            member.deforms = false;
            (member.smallest_m, member.volume_m3) = (smallest.max(1e-3), mass.volume);
            member.area_m2 = wind_area_of(&shape);
            let collider = &mut world.colliders[member.collider];
            collider.set_enabled(true);
            if let Some(fit) = &fit {
                collider.set_shape(fit.shape.clone());
                collider.set_position_wrt_parent(fit.offset);
            }
            let body = &mut world.bodies[member.handle];
            let inertia = mass.inertia * (mass_kg / mass.volume);
            let properties = MassProperties::with_inertia_matrix(mass.centre, mass_kg, inertia);
            body.set_additional_mass_properties(properties, false);
            body.recompute_mass_properties_from_colliders(&world.colliders);
            member.surface_motion = Some((velocity, angular_velocity));
        }
        wake_all(world);
        Some(())
    }

    /// Adds the rebound of bodies that struck a deforming one in the last step
    /// of `dt` seconds: Newton's law of restitution, and Coulomb's law for it.
    pub(super) fn add_rebounds(&mut self, before: &[StateBefore], touched: &[(usize, f32)], dt: f32) {
        if !self.state.played.values().any(Played::deforms) {
            return;
        }
        // Below this change of velocity bodies only rest on each other.
        let resting = 4.0 * self.state.world.gravity.length() * dt;
        for &(index, _) in touched.iter().filter(|(_, change)| *change > resting) {
            let Ok(at) = before.binary_search_by_key(&index, |of| of.member) else { continue };
            let member = self.state.members[index];
            for rebound in self.strikes(member.collider) {
                rebound.apply(&mut self.state.world, member.handle, &before[at], resting);
            }
        }
    }

    /// Where a body's collider was pressed against deforming bodies in the last step.
    fn strikes(&self, own: ColliderHandle) -> Vec<Strike> {
        let world = &self.state.world;
        let mut strikes = Vec::new();
        for pair in world.narrow_phase.contact_pairs_with(own) {
            let first = pair.collider1 == own;
            let other = if first { pair.collider2 } else { pair.collider1 };
            let (element, copy) = id_of(world.colliders[other].user_data);
            let Some(played) = self.state.played.get(&element) else { continue };
            let of = self.state.members.iter().filter(|member| member.element == element);
            let place = of.into_iter().position(|member| member.copy == copy);
            let body = place.and_then(|i| world.soft_bodies.get(*played.bodies.get(i)?));
            let Some(body) = body else { continue };
            for manifold in pair.solver_manifolds().iter().filter(|m| m.data.restitution > 0.0) {
                let face = if first { manifold.subshape2 } else { manifold.subshape1 };
                let Some(face) = body.boundary().get(face as usize) else { continue };
                let normal = if first { -manifold.data.normal } else { manifold.data.normal };
                for point in manifold.points.iter().filter(|point| point.data.impulse > 0.0) {
                    let local = if first { point.local_p1 } else { point.local_p2 };
                    let at = *world.colliders[own].position() * local;
                    strikes.push(Strike {
                        at,
                        normal,
                        velocity: velocity_on(body, *face, at),
                        restitution: manifold.data.restitution,
                        friction: manifold.data.friction,
                    });
                }
            }
        }
        strikes
    }
}

/// A point at which a body was pressed against a deforming one.
struct Strike {
    at: Vec3,
    /// Unit vector out of the surface.
    normal: Vec3,
    /// Velocity of the surface, m/s.
    velocity: Vec3,
    restitution: f32,
    friction: f32,
}

impl Strike {
    fn apply(&self, world: &mut PhysicsWorld, handle: RigidBodyHandle, before: &StateBefore, resting: f32) {
        let body = &world.bodies[handle];
        let arm = self.at - before.centre;
        let came = before.velocity + before.angular_velocity.cross(arm) - self.velocity;
        let approach = -came.dot(self.normal);
        if approach <= resting {
            return;
        }
        let relative = body.velocity_at_point(self.at) - self.velocity;
        let wanted = self.restitution * approach - relative.dot(self.normal);
        if wanted <= 0.0 {
            return;
        }
        let impulse = wanted / super::contact::mobility(body, self.at, self.normal);
        let along = relative.reject_from_normalized(self.normal);
        let speed = along.length();
        let mut whole = self.normal * impulse;
        if speed > 1e-9 {
            let way = along / speed;
            let most = speed / super::contact::mobility(body, self.at, way);
            whole -= way * (self.friction * impulse).min(most);
        }
        world.bodies[handle].apply_impulse_at_point(whole, self.at, true);
    }
}

/// Velocity of a point of a face, m/s.
fn velocity_on(body: &SoftBody, face: [u32; 3], at: Vec3) -> Vec3 {
    let weights = barycentric(face.map(|v| body.particle_position(v as usize)), at);
    (0..3).map(|i| body.particle_velocity(face[i] as usize) * weights[i].clamp(0.0, 1.0)).sum()
}

/// Velocity of `centre` and angular velocity of the rigid motion with the
/// momentum and angular momentum of a surface of even weight.
fn mean_motion(mesh: &MovingMesh, centre: Vec3) -> (Vec3, Vec3) {
    let (mut area, mut middle, mut momentum) = (0.0f32, Vec3::ZERO, Vec3::ZERO);
    let faces = || {
        mesh.topology.triangles().iter().map(|t| {
            let [a, b, c] = t.map(|v| mesh.positions[v as usize]);
            let area = 0.5 * (b - a).cross(c - a).length();
            let velocity = t.iter().map(|&v| mesh.velocities[v as usize]).sum::<Vec3>() / 3.0;
            (area, (a + b + c) / 3.0, velocity)
        })
    };
    for (weight, at, velocity) in faces() {
        area += weight;
        middle += at * weight;
        momentum += velocity * weight;
    }
    if area <= 0.0 {
        return (Vec3::ZERO, Vec3::ZERO);
    }
    let (middle, velocity) = (middle / area, momentum / area);
    let (mut spin, mut inertia) = (Vec3::ZERO, Mat3::ZERO);
    for (weight, at, v) in faces() {
        let arm = at - middle;
        spin += arm.cross(v - velocity) * weight;
        let outer = Mat3::from_cols(arm * arm.x, arm * arm.y, arm * arm.z);
        inertia += (Mat3::from_diagonal(Vec3::splat(arm.length_squared())) - outer) * weight;
    }
    let angular = if inertia.determinant().abs() > 1e-20 { inertia.inverse() * spin } else { Vec3::ZERO };
    (velocity + angular.cross(centre - middle), angular)
}
