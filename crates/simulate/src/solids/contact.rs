//! The contact law of solids: Newton restitution and Coulomb friction.
//!
//! The library solves contacts with the coefficients that `prepare.rs` gives to
//! each collider, for a pair by the rule of [`shot::pair_coefficient`]. The
//! library brings approaching surfaces to rest with friction, and then adds the
//! rebound without friction. Coulomb's law holds for the whole impulse: with a
//! coefficient of restitution e, friction may take up to μ (1 + e) m v, not
//! μ m v. What is missing is added here, contact by contact.

use super::{Solids, State, id_of};
use glam::Vec3;
use rapier3d::prelude::*;
use shot::Id;

/// How the library combines the coefficients of a pair; the same as [`shot::pair_coefficient`].
pub(super) const PAIR_RULE: CoefficientCombineRule = CoefficientCombineRule::Average;

/// A contact at which bodies bounced.
struct Rebound {
    bodies: [Option<RigidBodyHandle>; 2],
    at: Vec3,
    normal: Vec3,
    friction: f32,
    /// Impulse of the whole contact, N s.
    impulse: f32,
    /// The fraction of the impulse that was the rebound.
    fraction: f32,
}

impl Solids {
    /// Adds the friction of the rebounds of the last step. `touched` are the
    /// members that contacts changed the velocity of, and by how much, m/s.
    pub(super) fn add_rebound_friction(&mut self, touched: &[(usize, f32)], dt: f32) {
        let State { world, members, played, .. } = &mut self.state;
        let deforms = |id: Id| played.get(&id).is_some_and(|of| of.deforms());
        let mut rebounds: Vec<Rebound> = Vec::new();
        let index = |collider: ColliderHandle| collider.into_raw_parts().0 as usize;
        // Upper bound of the impulse that supports a body at rest.
        let resting = 4.0 * world.gravity.length() * dt;
        let struck = touched.iter().filter(|(_, change)| *change > resting);
        let struck: Vec<ColliderHandle> = struck.map(|(i, _)| members[*i].collider).collect();
        if struck.is_empty() {
            return;
        }
        let mut is_struck = vec![false; 1 + struck.iter().map(|c| index(*c)).max().unwrap_or(0)];
        struck.iter().for_each(|collider| is_struck[index(*collider)] = true);
        for collider in struck {
            for pair in world.narrow_phase.contact_pairs_with(collider) {
                // A pair in which both were struck appears twice; the first counts.
                let first_too = is_struck.get(index(pair.collider1)).is_some_and(|is| *is);
                if collider == pair.collider2 && first_too {
                    continue;
                }
                // Rebounds from deforming bodies have their friction with them.
                let own = |c: ColliderHandle| id_of(world.colliders[c].user_data).0;
                if [pair.collider1, pair.collider2].iter().any(|c| deforms(own(*c))) {
                    continue;
                }
                let parent = |collider: ColliderHandle| world.colliders[collider].parent();
                let at_2 = *world.colliders[pair.collider2].position();
                for manifold in pair.solver_manifolds() {
                    let data = &manifold.data;
                    let (e, friction) = (data.restitution, data.friction);
                    if e <= 0.0 || friction <= 0.0 {
                        continue;
                    }
                    for point in manifold.points.iter().filter(|point| point.data.impulse > 0.0) {
                        rebounds.push(Rebound {
                            bodies: [parent(pair.collider1), parent(pair.collider2)],
                            at: at_2 * point.local_p2,
                            normal: data.normal,
                            friction,
                            impulse: point.data.impulse,
                            fraction: e / (1.0 + e),
                        });
                    }
                }
            }
        }
        for rebound in rebounds {
            rebound.apply_friction(world);
        }
    }
}

impl Rebound {
    fn apply_friction(&self, world: &mut PhysicsWorld) {
        let body = |i: usize| self.bodies[i].map(|handle| &world.bodies[handle]);
        let velocity = |i| body(i).map_or(Vec3::ZERO, |body| body.velocity_at_point(self.at));
        let relative = velocity(1) - velocity(0);
        let apart = relative.dot(self.normal);
        let mobility_along = |along: Vec3| {
            let of = |i| body(i).map_or(0.0, |body| mobility(body, self.at, along));
            of(0) + of(1)
        };
        // The separating part of the impulse, bounded by the rebound's share of the total.
        let rebound = (apart / mobility_along(self.normal)).min(self.fraction * self.impulse);
        let along = relative.reject_from_normalized(self.normal);
        let speed = along.length();
        if rebound <= 0.0 || speed <= 1e-9 {
            return;
        }
        let way = along / speed;
        let rub = way * (self.friction * rebound).min(speed / mobility_along(way));
        for (i, sign) in [(0, 1.0), (1, -1.0)] {
            if let Some(body) = self.bodies[i].and_then(|handle| world.bodies.get_mut(handle))
                && body.is_dynamic()
            {
                body.apply_impulse_at_point(rub * sign, self.at, false);
            }
        }
    }
}

/// Velocity that a unit impulse at a point gives to that point along itself, 1/kg.
pub(super) fn mobility(body: &RigidBody, at: Vec3, along: Vec3) -> f32 {
    if !body.is_dynamic() {
        return 0.0;
    }
    let arm = (at - body.center_of_mass()).cross(along);
    let inertia = body.mass_properties().effective_world_inv_inertia;
    1.0 / body.mass() + arm.dot(inertia * arm)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_library_combines_a_pair_by_the_shot_s_rule() {
        for (a, b) in [(0.0, 1.0), (0.3, 0.8), (1.5, 0.2)] {
            let combined = CoefficientCombineRule::combine(a, b, PAIR_RULE, PAIR_RULE);
            assert_eq!(combined, shot::pair_coefficient(a, b));
        }
    }
}
