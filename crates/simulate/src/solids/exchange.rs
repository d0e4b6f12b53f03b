//! Exchange of the solids with other solvers.

use super::load::Load;
use super::rest::fall_asleep;
use super::{SolidBody, Solids, State, collision, id_of, pose, user_data};
use crate::Step;
use crate::colliders::{BodyState, Contact, Exchange, SpawnBody, SpawnParticle, SpawnState};
use crate::forces::Weight;
use glam::{Mat3, Vec3};
use rapier3d::prelude::*;
use shot::{
    Id, Shot,
    particles::{ToParticles, Trigger},
};
use std::collections::HashMap;

/// Time for which a body has to be slow before it becomes a particle, s.
const SLOW_S: f32 = 0.2;

impl Solids {
    pub(super) fn add_bodies(&self, shot: &Shot, out: &mut Vec<BodyState>) {
        self.add(shot, self.state.members.iter().filter(|member| !member.gone), out);
    }

    /// Adds the bodies of some members.
    pub(super) fn add<'a>(
        &self,
        shot: &Shot,
        members: impl Iterator<Item = &'a SolidBody>,
        out: &mut Vec<BodyState>,
    ) {
        let mut of: Option<(Id, f32, f32, bool)> = None;
        for member in members {
            if of.is_none_or(|(id, ..)| id != member.element) {
                let Some(element) = shot.element(member.element) else { continue };
                let Some(solid) = element.as_solid() else { continue };
                of = Some((member.element, solid.body.friction, solid.body.restitution, element.reshaped()));
            }
            let (_, friction, restitution, reshaped) = of.expect("just set");
            let body = &self.state.world.bodies[member.handle];
            let at = body.position();
            let free = body.is_dynamic();
            let properties = body.mass_properties();
            out.push(BodyState {
                element: member.element,
                copy: member.copy,
                pose: (at.translation, at.rotation),
                scale: member.scale,
                centre: body.center_of_mass(),
                velocity: body.linvel(),
                angular_velocity: body.angvel(),
                by_load: member.load.velocity(body),
                inverse_mass: if free { 1.0 / body.mass() } else { 0.0 },
                inverse_inertia: if free { inverse_inertia(properties) } else { Mat3::ZERO },
                still: body.is_fixed() && !reshaped,
                friction,
                restitution,
            });
        }
    }

    pub(super) fn add_hits(&self, out: &mut Vec<Contact>) {
        let world = &self.state.world;
        for pair in world.contact_pairs().filter(|pair| pair.has_any_active_contact()) {
            let impulse = pair.total_impulse_magnitude();
            let Some((manifold, contact)) = pair.find_deepest_contact() else { continue };
            if impulse <= 0.0 {
                continue;
            }
            let of = |handle: ColliderHandle| {
                let collider = &world.colliders[handle];
                let body = collider.parent().map(|body| &world.bodies[body]);
                (id_of(collider.user_data).0, collider.position(), body)
            };
            let ((a, _, body_a), (b, at_b, body_b)) = (of(pair.collider1), of(pair.collider2));
            let at = *at_b * contact.local_p2;
            let speed = |body: Option<&RigidBody>| body.map_or(Vec3::ZERO, |body| body.velocity_at_point(at));
            let normal = -manifold.data.normal;
            let hit = Contact {
                elements: if a <= b { [a, b] } else { [b, a] },
                at,
                normal: if a <= b { normal } else { -normal },
                velocity: 0.5 * (speed(body_a) + speed(body_b)),
                impulse,
            };
            out.push(hit);
        }
    }

    pub(super) fn take(&mut self, shot: &Shot, exchange: &Exchange) {
        if !exchange.impulses.is_empty() {
            let handles: HashMap<(Id, u32), RigidBodyHandle> =
                self.state.members.iter().map(|m| ((m.element, m.copy), m.handle)).collect();
            for push in &exchange.impulses {
                let Some(handle) = handles.get(&(push.element, push.copy)) else { continue };
                let body = &mut self.state.world.bodies[*handle];
                if body.is_dynamic() {
                    body.apply_impulse_at_point(push.impulse, push.at, true);
                }
            }
        }
        self.take_loads(&exchange.body_loads);
        for spawn in &exchange.bodies {
            self.add_body(shot, spawn);
        }
    }

    /// Adds the body that a particle became; none where the solid's shape has no
    /// collision shape at the particle's size.
    fn add_body(&mut self, shot: &Shot, spawn: &SpawnBody) -> Option<()> {
        let element = shot.element(spawn.solid)?;
        let spawn = &spawn.state;
        let solid = element.as_solid()?;
        // Members keep the order of elements and copies.
        let rank = |id: Id| shot.elements.iter().position(|e| e.id == id);
        let own = rank(element.id);
        let members = &self.state.members;
        let at = members.partition_point(|member| rank(member.element) <= own);
        let before = members[..at].iter().rev();
        let count = before.take_while(|member| member.element == element.id).count();
        // The row of a body that became a particle again is reused.
        let free = members[at - count..at].iter().position(|member| member.gone);
        let copy = free.unwrap_or(count) as u32;
        if copy >= solid.from_particles? {
            return None;
        }
        let longest = self.meshes.mesh(&solid.shape).ok()?.bounds().size().max_element();
        let scale = spawn.size_m / longest;
        let scaled = shot::Solid { shape: solid.shape.scaled(scale), ..solid.clone() };
        let collision = collision::shape(element, &scaled, &self.meshes).ok()?;
        let mass = self.meshes.mass(&scaled.shape).ok()?;
        let smallest_m = self.meshes.smallest_m(&scaled.shape).ok()?;
        let properties = MassProperties::with_inertia_matrix(
            mass.centre,
            spawn.mass_kg,
            mass.inertia * (spawn.mass_kg / mass.volume),
        );
        let stands = pose(spawn.pose);
        let body = RigidBodyBuilder::new(RigidBodyType::Dynamic)
            .pose(stands)
            .allow_fast_rotation(true)
            .additional_mass_properties(properties)
            .ccd_enabled(true)
            .linvel(spawn.velocity)
            .angvel(spawn.angular_velocity);
        let collider = ColliderBuilder::new(collision.shape)
            .position(collision.offset)
            .density(0.0)
            .friction(solid.body.friction)
            .restitution(solid.body.restitution)
            .contact_skin(0.5 * solid.body.margin_m(smallest_m))
            .user_data(user_data(element.id, copy));
        let world = &mut self.state.world;
        let (handle, collider) = world.insert(body, collider);
        world.bodies[handle].recompute_mass_properties_from_colliders(&world.colliders);
        fall_asleep(&mut world.bodies[handle], smallest_m, world.integration_parameters.length_unit);
        let member = SolidBody {
            element: element.id,
            copy,
            handle,
            collider,
            smallest_m,
            area_m2: self.meshes.wind_area_m2(&scaled.shape).ok()?,
            volume_m3: mass.volume,
            scale,
            deforms: false,
            surface_motion: None,
            from_particle: true,
            gone: false,
            has_scale: true,
            age_s: 0.0,
            slow_s: 0.0,
            animated: false,
            left: false,
            pushed: Vec3::ZERO,
            load: Load::default(),
            flight: stands.into(),
            contacts_turn: stands.rotation,
        };
        match free {
            Some(_) => {
                let old = &mut self.state.members[at - count + copy as usize];
                self.state.world.remove_body(old.handle);
                *old = member;
            }
            None => {
                self.state.woken.iter_mut().filter(|i| **i as usize >= at).for_each(|i| *i += 1);
                self.state.members.insert(at, member);
            }
        }
        Some(())
    }

    /// Turns the bodies whose trigger is met into particles again.
    pub(super) fn spawn_particles(&mut self, step: &Step) {
        let mut of: Option<(Id, f32, Option<&ToParticles>, Option<Weight>)> = None;
        let State { world, members, .. } = &mut self.state;
        let mut any = false;
        for member in members.iter_mut().filter(|member| member.from_particle && !member.gone) {
            if of.as_ref().is_none_or(|(id, ..)| *id != member.element) {
                let solid = step.shot.element(member.element).and_then(|element| element.as_solid());
                let back = solid.and_then(|solid| solid.to_particles.as_ref());
                let region = back.and_then(|back| match back.trigger {
                    Trigger::Region { region } => step.weight(region),
                    _ => None,
                });
                let mesh = solid.and_then(|solid| self.meshes.mesh(&solid.shape).ok());
                let longest = mesh.map_or(0.0, |mesh| mesh.bounds().size().max_element());
                of = Some((member.element, longest, back, region));
            }
            let Some((_, longest, Some(back), region)) = &of else { continue };
            let body = &mut world.bodies[member.handle];
            member.age_s += step.dt;
            let slow =
                matches!(back.trigger, Trigger::Slower { speed_m_s } if body.linvel().length() < speed_m_s);
            member.slow_s = if slow { member.slow_s + step.dt } else { 0.0 };
            let due = match back.trigger {
                Trigger::Age { age_s } => member.age_s >= age_s,
                Trigger::Slower { .. } => member.slow_s >= SLOW_S,
                Trigger::Faster { speed_m_s } => body.linvel().length() > speed_m_s,
                Trigger::Frame { frame } => step.frame >= f64::from(frame),
                Trigger::Region { .. } => {
                    region.as_ref().is_some_and(|region| region.at(body.translation()) > 0.5)
                }
                Trigger::End {} | Trigger::Touch { .. } | Trigger::Count { .. } => false,
            };
            if !due {
                continue;
            }
            let state = SpawnState {
                pose: (body.position().translation, body.position().rotation),
                velocity: body.linvel(),
                angular_velocity: body.angvel(),
                size_m: member.scale * longest,
                mass_kg: body.mass(),
            };
            let solid = member.element;
            self.exchange.particles.push(SpawnParticle { particles: back.particles, solid, state });
            member.go(body);
            any = true;
        }
        if any {
            // Bodies that rested on the removed ones fall.
            super::push::wake_all(world);
        }
    }
}

/// The inverse of a body's inertia about its centre of mass, in the world's axes.
fn inverse_inertia(properties: &RigidBodyMassProps) -> Mat3 {
    let root = properties.effective_world_inv_inertia;
    Mat3::from_cols(
        Vec3::new(root.m11, root.m12, root.m13),
        Vec3::new(root.m12, root.m22, root.m23),
        Vec3::new(root.m13, root.m23, root.m33),
    )
}
