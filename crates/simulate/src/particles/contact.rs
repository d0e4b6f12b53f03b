//! Contacts of particles with bodies: detection along a particle's path over a
//! substep, and the contact law (restitution and Coulomb friction).

use super::hash::{ParticleHash, Purpose};
use crate::Step;
use crate::colliders::Colliders;
use geometry::Bounds;
use glam::Vec3;
use shot::{
    pair_coefficient,
    particles::{ContactOutcome, ContactResponse, Particles},
};

/// Times that a particle may bounce in one substep.
const BOUNCES: usize = 4;
/// Gap left between a particle and the surface that it rests on, as a fraction of its radius.
const GAP: f32 = 1e-3;

/// A contact of a particle with a body.
#[derive(Clone, Copy, Debug)]
pub struct ParticleContact {
    /// Its index.
    pub index: u32,
    /// Place of the body in the list of colliders.
    pub body: u32,
    /// Where on the body.
    pub at: Vec3,
    /// Approach speed along the normal, m/s.
    pub speed: f32,
    /// Impulse on the body, N s.
    pub impulse: Vec3,
}

/// Everything that the contacts of one element's particles need over a substep.
pub struct ContactStep<'a> {
    pub colliders: &'a Colliders,
    pub particles: &'a Particles,
    /// For each body in the list, whether the particles collide with it.
    pub met: Vec<bool>,
    /// Whether contacts without an impulse are reported.
    pub told: bool,
    pub dt: f32,
}

/// For each body in the list, whether the particles collide with it.
pub fn met(step: &Step, contact: &ContactResponse) -> Vec<bool> {
    let meets = |id| step.shot.element(id).is_some_and(|element| contact.collides_with(element));
    step.colliders.list().iter().map(|body| meets(body.now.element)).collect()
}

/// The state of one particle during a substep.
#[derive(Clone, Copy)]
pub struct ParticleState {
    pub id: u32,
    /// Its place in the columns at hand.
    pub index: u32,
    pub position: Vec3,
    pub velocity: Vec3,
    pub clear: f32,
    pub radius: f32,
    pub inverse_mass: f32,
}

impl ContactStep<'_> {
    /// Moves a particle for `dt` seconds in which forces add `change` to its velocity.
    /// `near` is room to work in.
    pub fn go(
        &self,
        body: &mut ParticleState,
        change: Vec3,
        dt: f32,
        near: &mut Vec<usize>,
        touches: &mut Vec<ParticleContact>,
    ) {
        let list = self.colliders.list();
        let way = (body.velocity + 0.5 * change) * dt;
        let length = way.length();
        near.clear();
        // A moving body may push the particle to at most twice the body's own speed.
        let (mut moving, mut pushed) = (false, 0.0f32);
        if self.colliders.any_move() {
            let reach = Vec3::splat(body.radius * 2.0);
            let end = body.position + way;
            let swept = Bounds { min: body.position.min(end) - reach, max: body.position.max(end) + reach };
            self.colliders.moving_in(&swept, |i| {
                if self.met[i] {
                    moving = true;
                    pushed = pushed.max(2.0 * list[i].longest_way(body.position, dt));
                    near.push(i);
                }
            });
        }
        // A particle that lay on a body at the end of the last substep will touch the body
        // again: its clearance need not be computed.
        let close = body.clear < 2.0 * body.radius;
        // Bodies further away than this stay a diameter clear at the end of the path.
        let touching = length + pushed + 3.0 * body.radius;
        let ahead = if close { touching } else { touching + 8.0 * length };
        let mut still = ahead;
        if moving || body.clear <= length {
            let around = Bounds { min: body.position - ahead, max: body.position + ahead };
            self.colliders.still_in(&around, |i| {
                if !self.met[i] {
                    return;
                }
                if close {
                    return near.push(i);
                }
                let distance = list[i].clearance(body.position, 1.25 * still.max(touching));
                still = still.min(distance);
                if distance < touching {
                    near.push(i);
                }
            });
        } else {
            still = body.clear + body.radius;
        }
        if near.is_empty() {
            body.position += way;
            body.velocity += change;
            body.clear = (still - body.radius - length).max(0.0);
            return;
        }
        self.bounce_along(body, change, dt, near, touches);
    }

    fn bounce_along(
        &self,
        body: &mut ParticleState,
        change: Vec3,
        dt: f32,
        near: &[usize],
        touches: &mut Vec<ParticleContact>,
    ) {
        let start = body.position;
        let mut acceleration = if dt > 0.0 { change / dt } else { Vec3::ZERO };
        let mut fraction = 1.0 - dt / self.dt.max(1e-12);
        let mut left = dt;
        // No body moves onto the particle during the substep.
        let calm = near.iter().all(|&i| self.colliders.list()[i].now.still);
        for _ in 0..BOUNCES {
            let way = (body.velocity + 0.5 * acceleration * left) * left;
            if left <= 0.0 {
                break;
            }
            // The contact step pushed the particle out by its full radius, so a move of under
            // half a radius cannot cross another surface; any remaining penetration is
            // removed below.
            if left < dt && way.length_squared() < 0.25 * body.radius * body.radius && calm {
                body.position += way;
                body.velocity += acceleration * left;
                left = 0.0;
                break;
            }
            let mut first: Option<(f32, Vec3, usize)> = None;
            for &i in near {
                let met = self.colliders.list()[i].intersect(
                    body.position,
                    fraction,
                    body.position + way,
                    body.radius,
                );
                if let Some((t, normal)) = met
                    && first.is_none_or(|(least, ..)| t < least)
                {
                    first = Some((t, normal, i));
                }
            }
            let Some((t, normal, i)) = first else {
                body.position += way;
                body.velocity += acceleration * left;
                left = 0.0;
                break;
            };
            let gone = t * left;
            body.position += way * t;
            body.velocity += acceleration * gone;
            left -= gone;
            fraction += (1.0 - fraction) * t;
            let at = body.position - normal * body.radius;
            self.respond(body, i, at, normal, &mut acceleration, left, touches);
        }
        if left > 0.0 {
            body.velocity += acceleration * left;
        }
        // A move shorter than the clearance leaves the rest of the clearance; a particle at
        // rest is therefore never tested again.
        let moved = body.position.distance(start);
        if moved < body.clear && calm {
            body.clear -= moved;
            return;
        }
        // Removes the remaining penetration: of edges, corners, and bodies that moved onto the particle.
        let mut clear = 2.0 * body.radius;
        for &i in near {
            let collider = &self.colliders.list()[i];
            let Some(on) = collider.nearest(body.position, clear + body.radius) else { continue };
            let away = body.position - on;
            let distance = away.length();
            clear = (distance - body.radius).max(0.0);
            if distance <= 0.0 || distance >= body.radius {
                continue;
            }
            let normal = away / distance;
            body.position = on + normal * (body.radius * (1.0 + GAP));
            clear = if near.len() == 1 { 0.5 * GAP * body.radius } else { 0.0 };
            if (body.velocity - collider.velocity_at(on)).dot(normal) < 0.0 {
                let mut none = Vec3::ZERO;
                self.respond(body, i, on, normal, &mut none, 0.0, touches);
            }
        }
        // The body that the particle lies against is tested again in the next substep.
        body.clear = clear;
    }

    /// The contact law: Newton restitution and Coulomb friction, with the mean of
    /// the pair's coefficients. For a particle that comes to rest, the body's
    /// reaction cancels the normal part of the acceleration over the remaining
    /// `left` seconds.
    fn respond(
        &self,
        body: &mut ParticleState,
        i: usize,
        at: Vec3,
        normal: Vec3,
        acceleration: &mut Vec3,
        left: f32,
        touches: &mut Vec<ParticleContact>,
    ) {
        let collider = &self.colliders.list()[i];
        let contact = &self.particles.contact;
        let relative = body.velocity - collider.velocity_at(at);
        let towards = (-relative.dot(normal)).max(0.0);
        let pressing = (-acceleration.dot(normal)).max(0.0) * left;
        let (mut outcome, mut own_bounce) = (contact.outcome, contact.restitution);
        if contact.probability < 1.0 || contact.restitution_variation > 0.0 {
            let mut hash = ParticleHash::new(self.particles.seed, body.id, Purpose::Contact, 0);
            let does = hash.unit() < contact.probability;
            outcome = if does { contact.outcome } else { ContactOutcome::Bounce };
            own_bounce = (contact.restitution * hash.about(contact.restitution_variation)).clamp(0.0, 1.0);
        }
        // A particle that approaches no faster than the forces press it on has come to rest.
        let bounces = outcome == ContactOutcome::Bounce && towards > 2.0 * pressing;
        let bounce = if bounces { pair_coefficient(own_bounce, collider.now.restitution) } else { 0.0 };
        let friction = if outcome == ContactOutcome::Bounce {
            pair_coefficient(contact.friction, collider.now.friction)
        } else {
            0.0
        };
        let pressing = if bounces { 0.0 } else { pressing };
        let mobility = collider.mobility(at, normal);
        let own = if contact.push { body.inverse_mass / (body.inverse_mass + mobility) } else { 1.0 };
        let change = (1.0 + bounce) * towards * own;
        body.velocity += normal * change;
        // Friction also acts against the tangential part of the forces.
        let coming = if pressing > 0.0 { *acceleration * left } else { Vec3::ZERO };
        let own_way = relative.reject_from_normalized(normal);
        let along = own_way + coming.reject_from_normalized(normal);
        let speed = along.length();
        let most = friction * (change + pressing);
        if speed <= most {
            // Static friction: the particle takes the velocity of the surface.
            body.velocity -= own_way;
            if pressing > 0.0 {
                *acceleration = Vec3::ZERO;
            }
        } else {
            // Sliding: the impact's friction acts at once, that of the pressing force over the
            // remaining time.
            let way = along / speed;
            body.velocity -= way * (friction * change);
            if pressing > 0.0 {
                *acceleration -= normal * acceleration.dot(normal) + way * (friction * pressing / left);
            }
        }
        // A cloth or a soft body is met as if it did not give way, and takes the impulse.
        let takes = match collider.is_deformable() {
            true => contact.push_deformables,
            false => contact.push && collider.now.inverse_mass > 0.0,
        };
        let impulse = if takes {
            let rubbed = if speed > 0.0 { along * (most.min(speed) / speed) } else { Vec3::ZERO };
            (rubbed - normal * (change + pressing)) / body.inverse_mass
        } else {
            Vec3::ZERO
        };
        if self.told || impulse != Vec3::ZERO {
            touches.push(ParticleContact { index: body.index, body: i as u32, at, speed: towards, impulse });
        }
    }
}
