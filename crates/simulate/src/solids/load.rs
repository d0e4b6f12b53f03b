//! Loads of liquids on bodies.
//!
//! A liquid is computed after the bodies have moved. If its load were applied as an impulse at the end of the substep only, bodies
//! would move through the substep by gravity alone: a float in balance would sink by ½ g Δt² in each substep. So a part of the load of
//! the substep before acts as a force while they move: the component against gravity and other forces, at most as large as those. The
//! liquid then replaces the impulse of that force by its present load. The whole load is a worse prediction: it also contains
//! impulses that stop a body at once, and as forces these made small floats turn faster and faster.

use super::{SolidBody, Solids};
use glam::Vec3;
use rapier3d::prelude::*;
use serde::{Deserialize, Serialize};
use shot::Id;
use std::collections::BTreeMap;

/// What liquid presses a body with.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(super) struct Load {
    /// Force of the substep before, N.
    force: Vec3,
    /// Impulse of the part of that force which acts in the present substep, N s; 0 once the liquid has replaced it.
    given: Vec3,
}

/// The component of a load against another force on the body, at most as large as that force.
fn bearing(load: Vec3, force: Vec3) -> Vec3 {
    let along = force.normalize_or_zero();
    along * load.dot(along).clamp(-force.length(), 0.0)
}

impl Load {
    /// The velocity that the force has added to its body in the present substep, m/s.
    pub fn velocity(&self, body: &RigidBody) -> Vec3 {
        if self.given == Vec3::ZERO || !body.is_dynamic() { Vec3::ZERO } else { self.given / body.mass() }
    }
}

impl Solids {
    /// Lets the loads act in the coming substep.
    pub(super) fn apply_loads(&mut self, dt: f32) {
        self.substep_s = dt;
        if dt <= 0.0 {
            return;
        }
        let world = &mut self.state.world;
        for SolidBody { handle, load, .. } in &mut self.state.members {
            if *load == Load::default() {
                continue;
            }
            let Some(body) = world.bodies.get_mut(*handle) else { continue };
            if !body.is_dynamic() {
                *load = Load::default();
            } else if load.given != Vec3::ZERO {
                // No liquid replaced it in the last substep: none is left.
                body.apply_impulse(-load.given, true);
                *load = Load::default();
            } else {
                let force = bearing(load.force, world.gravity * body.mass() + body.user_force());
                if force == Vec3::ZERO {
                    *load = Load::default();
                    continue;
                }
                body.add_force(force, true);
                load.given = force * dt;
                self.state.carries = true;
            }
        }
    }

    /// Takes up the loads that liquids give: impulses and angular impulses over the substep.
    pub(super) fn take_loads(&mut self, loads: &BTreeMap<(Id, u32), [Vec3; 2]>) {
        if loads.is_empty() {
            return;
        }
        for member in self.state.members.iter_mut().filter(|member| !member.gone) {
            let Some([impulse, angular]) = loads.get(&(member.element, member.copy)) else { continue };
            let body = &mut self.state.world.bodies[member.handle];
            if body.is_dynamic() {
                body.apply_impulse(*impulse - member.load.given, true);
                body.apply_torque_impulse(*angular, true);
            }
            let force = if self.substep_s > 0.0 { *impulse / self.substep_s } else { Vec3::ZERO };
            member.load = Load { force, given: Vec3::ZERO };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_load_bears_a_body_against_its_weight_and_no_further() {
        let weight = Vec3::NEG_Y * 10.0;
        assert_eq!(bearing(Vec3::new(3.0, 4.0, 0.0), weight), Vec3::Y * 4.0);
        assert_eq!(bearing(Vec3::Y * 25.0, weight), Vec3::Y * 10.0);
        assert_eq!(bearing(Vec3::NEG_Y * 5.0, weight), Vec3::ZERO);
        assert_eq!(bearing(Vec3::X * 5.0, Vec3::ZERO), Vec3::ZERO);
    }
}
