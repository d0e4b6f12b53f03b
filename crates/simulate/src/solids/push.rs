//! Forces on bodies, and values of bodies that change with time.

use super::{Member, Solids};
use crate::forces::Points;
use crate::{PrepareError, Scene, Step};
use glam::Vec3;
use rapier3d::prelude::*;
use shot::Weight;

/// What forces need to know of bodies, and room to work in.
pub(super) struct Push {
    /// Area shown to the wind, m², a member each.
    areas: Vec<f32>,
    /// Volume, m³, a member each.
    volumes: Vec<f32>,
    /// Whether any body carries a force from the substep before.
    carries: bool,
    places: Vec<Vec3>,
    velocities: Vec<Vec3>,
    inverse_masses: Vec<f32>,
    drag_areas: Vec<f32>,
    indices: Vec<usize>,
}

/// A body at rest stays asleep while the forces on it change less, m/s².
const STIR: f32 = 0.02;

impl Push {
    pub fn new(scene: Scene, members: &[Member]) -> Result<Self, PrepareError> {
        let (mut areas, mut volumes) = (Vec::with_capacity(members.len()), Vec::with_capacity(members.len()));
        for (element, solid) in scene.shot.solids() {
            let missing = |source| PrepareError::Mesh { element: element.name.clone(), source };
            let area = scene.meshes.wind_area_m2(&solid.shape).map_err(missing)?;
            let volume = scene.meshes.mass(&solid.shape).map_err(missing)?.volume;
            let count = members.iter().filter(|member| member.element == element.id).count();
            areas.extend(std::iter::repeat_n(area, count));
            volumes.extend(std::iter::repeat_n(volume, count));
        }
        Ok(Self {
            areas,
            volumes,
            carries: false,
            places: Vec::new(),
            velocities: Vec::new(),
            inverse_masses: Vec::new(),
            drag_areas: Vec::new(),
            indices: Vec::new(),
        })
    }
}

impl Solids {
    /// Lets the forces act in the coming substep.
    pub(super) fn apply_forces(&mut self, step: &Step) {
        let world = &mut self.state.world;
        self.gravity = step.shot.gravity();
        if let Some(gravity) = step.field.only_gravity() {
            if world.gravity != gravity {
                world.gravity = gravity;
                wake_all(world);
            }
            if std::mem::take(&mut self.push.carries) {
                for (_, body) in world.bodies.iter_mut() {
                    body.reset_forces(false);
                }
            }
            return;
        }
        world.gravity = Vec3::ZERO;
        self.push.carries = true;
        // The library goes a substep in n small steps; a constant force over
        // all of them moves a body by (n + 1) / 2n a dt². Sampling the force
        // (n − 1) / 2n of the way on makes the substep keep volume in phase
        // space, as leapfrog does, so that orbits neither gain nor lose.
        let n = world.integration_parameters.num_solver_iterations as f32;
        let ahead = (n - 1.0) / (2.0 * n) * step.dt;
        let members = &mut self.state.members;
        let push = &mut self.push;
        let mut from = 0;
        while from < members.len() {
            let id = members[from].element;
            let to = from + members[from..].iter().take_while(|member| member.element == id).count();
            push.indices.clear();
            push.places.clear();
            push.velocities.clear();
            push.inverse_masses.clear();
            push.drag_areas.clear();
            let drag = step
                .shot
                .element(id)
                .and_then(|element| element.as_solid())
                .map_or(1.0, |solid| solid.body.drag_of(&solid.shape));
            for i in from..to {
                let body = &world.bodies[members[i].handle];
                if !body.is_dynamic() {
                    continue;
                }
                push.indices.push(i);
                push.places.push(body.center_of_mass() + body.linvel() * ahead);
                push.velocities.push(body.linvel());
                push.inverse_masses.push(1.0 / body.mass());
                push.drag_areas.push(drag * push.areas[i]);
            }
            let mut points = Points {
                places: &push.places,
                velocities: &mut push.velocities,
                inverse_masses: &push.inverse_masses,
                drag_areas: &push.drag_areas,
            };
            step.field.push(id, &mut points, step.dt);
            for (slot, &i) in push.indices.iter().enumerate() {
                let member = &mut members[i];
                let body = &mut world.bodies[member.handle];
                let acceleration = (push.velocities[slot] - body.linvel()) / step.dt;
                let stirred = !body.is_sleeping() || acceleration.distance(member.pushed) > STIR;
                if stirred && acceleration.is_finite() {
                    member.pushed = acceleration;
                    body.reset_forces(false);
                    body.add_force(acceleration * body.mass(), true);
                }
            }
            from = to;
        }
    }

    /// Takes up values of bodies that keys or formulas have changed.
    pub(super) fn change_values(&mut self, step: &Step) {
        let world = &mut self.state.world;
        let mut changed = false;
        for (element, solid) in step.shot.solids() {
            if !element.motion.keys().any(|path| path.starts_with("is.solid.body.")) {
                continue;
            }
            for (member, volume) in self.state.members.iter().zip(&self.push.volumes) {
                if member.element != element.id {
                    continue;
                }
                let collider = &mut world.colliders[member.collider];
                let (friction, bounce) = (solid.body.friction, solid.body.bounce);
                if (collider.friction(), collider.restitution()) != (friction, bounce) {
                    collider.set_friction(friction);
                    collider.set_restitution(bounce);
                    // Contacts at rest keep the values they were made with,
                    // until a collider is marked as placed anew on its body.
                    if let Some(offset) = collider.position_wrt_parent().copied() {
                        collider.set_position_wrt_parent(offset);
                    }
                    changed = true;
                }
                let body = &mut world.bodies[member.handle];
                let wanted = match solid.body.weight {
                    Weight::MassKg(mass) => mass,
                    Weight::DensityKgM3(density) => density * volume,
                };
                if body.is_dynamic() && (wanted / body.mass() - 1.0).abs() > 1e-6 {
                    let mut properties = body.mass_properties().local_mprops;
                    properties.set_mass(wanted, true);
                    body.set_additional_mass_properties(properties, false);
                    body.recompute_mass_properties_from_colliders(&world.colliders);
                    changed = true;
                }
            }
        }
        if changed {
            wake_all(world);
        }
    }
}

fn wake_all(world: &mut PhysicsWorld) {
    for (_, body) in world.bodies.iter_mut().filter(|(_, body)| body.is_dynamic()) {
        body.wake_up(true);
    }
}
