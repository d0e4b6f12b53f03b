//! Values of bodies that keys or formulas change.

use super::push::wake_all;
use super::{SolidBody, Solids, collision};
use crate::{BlowUp, Step};
use rapier3d::prelude::*;
use shot::{Element, Solid, Weight};

impl Solids {
    /// Applies the values of bodies for the coming substep.
    pub(super) fn change_values(&mut self, step: &Step) -> Result<(), BlowUp> {
        let mut changed = false;
        for (element, solid) in step.shot.solids().filter(|(_, solid)| solid.from_particles.is_none()) {
            let keyed = |of: &str| element.channels.keys().any(|path| path.starts_with(of));
            if keyed("kind.solid.shape.") {
                changed |= self.reshape(step, element, solid)?;
            }
            if keyed("kind.solid.body.") {
                changed |= self.change_body(element, solid);
            }
        }
        if changed {
            wake_all(&mut self.state.world);
        }
        Ok(())
    }

    fn members_of(&self, element: &Element) -> std::ops::Range<usize> {
        let of = |member: &SolidBody| member.element == element.id;
        let members = &self.state.members;
        let from = members.iter().position(of).unwrap_or(0);
        from..from + members[from..].iter().take_while(|member| of(member)).count()
    }

    fn change_body(&mut self, element: &Element, solid: &Solid) -> bool {
        let mut changed = false;
        for i in self.members_of(element) {
            let world = &mut self.state.world;
            let member = &self.state.members[i];
            let collider = &mut world.colliders[member.collider];
            let (friction, bounce) = (solid.body.friction, solid.body.restitution);
            let skin = 0.5 * solid.body.margin_m(member.smallest_m);
            if (collider.friction(), collider.restitution(), collider.contact_skin())
                != (friction, bounce, skin)
            {
                collider.set_friction(friction);
                collider.set_restitution(bounce);
                collider.set_contact_skin(skin);
                // Contacts at rest keep the values they were made with,
                // until a collider is marked as placed anew on its body.
                if let Some(offset) = collider.position_wrt_parent().copied() {
                    collider.set_position_wrt_parent(offset);
                }
                changed = true;
            }
            let body = &mut world.bodies[member.handle];
            let wanted = mass_kg(solid, member.volume_m3);
            if body.is_dynamic() && (wanted / body.mass() - 1.0).abs() > 1e-6 {
                let mut properties = body.mass_properties().local_mprops;
                properties.set_mass(wanted, true);
                body.set_additional_mass_properties(properties, false);
                body.recompute_mass_properties_from_colliders(&world.colliders);
                changed = true;
            }
        }
        changed
    }

    /// Applies a changed shape to an element's bodies.
    fn reshape(&mut self, step: &Step, element: &Element, solid: &Solid) -> Result<bool, BlowUp> {
        let now = shape_json(solid);
        if self.state.shapes.get(&element.id) == Some(&now) {
            return Ok(false);
        }
        let failed = |what: String| BlowUp {
            frame: step.frame_number(),
            element: element.id,
            name: element.name.clone(),
            what,
        };
        let meshes = &self.meshes;
        let collision = collision::shape(element, solid, meshes)
            .map_err(|error| failed(format!("has a shape that cannot collide: {error}")))?;
        let missing = |error: geometry::MissingMesh| failed(error.to_string());
        let mass = meshes.mass(&solid.shape).map_err(missing)?;
        let smallest_m = meshes.smallest_m(&solid.shape).map_err(missing)?;
        let area = meshes.wind_area_m2(&solid.shape).map_err(missing)?;
        let mass_kg = mass_kg(solid, mass.volume);
        let inertia = mass.inertia * (mass_kg / mass.volume);
        for i in self.members_of(element) {
            let member = &mut self.state.members[i];
            member.smallest_m = smallest_m;
            (member.area_m2, member.volume_m3) = (area, mass.volume);
            let world = &mut self.state.world;
            let collider = &mut world.colliders[member.collider];
            collider.set_shape(collision.shape.clone());
            collider.set_position_wrt_parent(collision.offset);
            collider.set_contact_skin(0.5 * solid.body.margin_m(smallest_m));
            let body = &mut world.bodies[member.handle];
            let properties = MassProperties::with_inertia_matrix(mass.centre, mass_kg, inertia);
            body.set_additional_mass_properties(properties, false);
            body.recompute_mass_properties_from_colliders(&world.colliders);
        }
        self.state.shapes.insert(element.id, now);
        Ok(true)
    }
}

/// Key of a solid's shape; it differs where the shape has changed.
pub(super) fn shape_json(solid: &Solid) -> String {
    serde_json::to_string(&solid.shape).expect("a shape serialises")
}

fn mass_kg(solid: &Solid, volume: f32) -> f32 {
    match solid.body.weight {
        Weight::MassKg(mass) => mass,
        Weight::DensityKgM3(density) => density * volume,
    }
}
