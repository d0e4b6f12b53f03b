//! Forces on bodies.

use super::Solids;
use crate::Step;
use crate::forces::Points;
use glam::Vec3;
use rapier3d::prelude::*;

/// Room to work in.
#[derive(Default)]
pub(super) struct Push {
    positions: Vec<Vec3>,
    velocities: Vec<Vec3>,
    inverse_masses: Vec<f32>,
    drag_areas: Vec<f32>,
    indices: Vec<usize>,
}

/// A body at rest stays asleep while the forces on it change by less than this
/// fraction of themselves.
const WAKE_CHANGE: f32 = 1e-3;

impl Solids {
    /// Lets the forces act in the coming substep.
    pub(super) fn apply_forces(&mut self, step: &Step) {
        for (id, gravity) in &mut self.gravity {
            let element = step.shot.element(*id);
            *gravity = element.map_or(Vec3::ZERO, |element| step.shot.gravity_on(element, step.frame));
        }
        let world = &mut self.state.world;
        if let Some(gravity) = step.field.only_gravity() {
            if world.gravity != gravity {
                world.gravity = gravity;
                wake_all(world);
            }
            if std::mem::take(&mut self.state.carries) {
                for (_, body) in world.bodies.iter_mut() {
                    body.reset_forces(false);
                }
            }
            return;
        }
        world.gravity = Vec3::ZERO;
        self.state.carries = true;
        // A force sampled half a substep ahead that acts over the whole substep is a
        // leapfrog step: symplectic, so that orbits neither gain nor lose energy.
        let ahead = 0.5 * step.dt;
        let members = &mut self.state.members;
        let push = &mut self.push;
        let mut from = 0;
        while from < members.len() {
            let id = members[from].element;
            let to = from + members[from..].iter().take_while(|member| member.element == id).count();
            push.indices.clear();
            push.positions.clear();
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
                push.positions.push(body.center_of_mass() + body.linvel() * ahead);
                push.velocities.push(body.linvel());
                push.inverse_masses.push(1.0 / body.mass());
                push.drag_areas.push(drag * members[i].area_m2);
            }
            let mut points = Points {
                positions: &push.positions,
                velocities: &mut push.velocities,
                inverse_masses: &push.inverse_masses,
                drag_areas: &push.drag_areas,
            };
            step.field.push(id, &mut points, step.dt);
            for (slot, &i) in push.indices.iter().enumerate() {
                let member = &mut members[i];
                let body = &mut world.bodies[member.handle];
                let acceleration = (push.velocities[slot] - body.linvel()) / step.dt;
                let stirred = !body.is_sleeping()
                    || acceleration.distance(member.pushed) > WAKE_CHANGE * member.pushed.length() + 1e-6;
                if stirred && acceleration.is_finite() {
                    member.pushed = acceleration;
                    body.reset_forces(false);
                    body.add_force(acceleration * body.mass(), true);
                }
            }
            from = to;
        }
    }
}

pub(super) fn wake_all(world: &mut PhysicsWorld) {
    for (_, body) in world.bodies.iter_mut().filter(|(_, body)| body.is_dynamic()) {
        body.wake_up(true);
    }
}
