//! Particles and bodies: what one meets on its way over a substep, and what
//! that does to its motion.

use super::chance::{Chance, For};
use crate::Step;
use crate::colliders::Colliders;
use geometry::Bounds;
use glam::Vec3;
use shot::{Meet, Outcome, Particles};

/// Times that a particle may bounce in one substep.
const BOUNCES: usize = 4;
/// Gap left between a particle and what it rests on, as a share of its radius.
const GAP: f32 = 1e-3;

/// A particle came up to a body.
#[derive(Clone, Copy, Debug)]
pub struct Touch {
    /// Its index.
    pub index: u32,
    /// Place of the body in the list of colliders.
    pub body: u32,
    /// Where on the body.
    pub at: Vec3,
    /// Speed at which it came up to the surface, m/s.
    pub speed: f32,
    /// Impulse on the body, N s.
    pub impulse: Vec3,
}

/// How particles meet bodies.
pub struct Meeting<'a> {
    pub colliders: &'a Colliders,
    pub particles: &'a Particles,
    /// For each body in the list, whether it is met.
    pub met: Vec<bool>,
    /// Whether touches matter that push nothing.
    pub told: bool,
    pub dt: f32,
}

/// For each body in the list, whether it is met.
pub fn met(step: &Step, meet: &Meet) -> Vec<bool> {
    let meets = |id| step.shot.element(id).is_some_and(|element| meet.meets(element));
    step.colliders.list().iter().map(|body| meets(body.now.element)).collect()
}

/// One particle on its way.
#[derive(Clone, Copy)]
pub struct Body {
    pub id: u32,
    /// Its place in the columns at hand.
    pub index: u32,
    pub place: Vec3,
    pub velocity: Vec3,
    pub clear: f32,
    pub radius: f32,
    pub inverse_mass: f32,
}

impl Meeting<'_> {
    /// Moves a particle for `dt` seconds in which forces add `change` to its velocity.
    /// `near` is room to work in.
    pub fn go(
        &self,
        body: &mut Body,
        change: Vec3,
        dt: f32,
        near: &mut Vec<usize>,
        touches: &mut Vec<Touch>,
    ) {
        let list = self.colliders.list();
        let way = (body.velocity + 0.5 * change) * dt;
        let length = way.length();
        near.clear();
        // What moves may push it on, twice as fast as itself at most.
        let (mut moving, mut pushed) = (false, 0.0f32);
        if self.colliders.any_move() {
            let reach = Vec3::splat(body.radius * 2.0);
            let end = body.place + way;
            let swept = Bounds { min: body.place.min(end) - reach, max: body.place.max(end) + reach };
            self.colliders.moving_in(&swept, |i| {
                if self.met[i] {
                    moving = true;
                    pushed = pushed.max(2.0 * dt * list[i].velocity_at(body.place).length());
                    near.push(i);
                }
            });
        }
        // What lay on a body at the end of its last way will meet it again: no
        // need to ask how far it is.
        let close = body.clear < 2.0 * body.radius;
        // Those further away leave it clear by a diameter at the way's end.
        let touching = length + pushed + 3.0 * body.radius;
        let ahead = if close { touching } else { touching + 8.0 * length };
        let mut still = ahead;
        if moving || body.clear <= length {
            let around = Bounds { min: body.place - ahead, max: body.place + ahead };
            self.colliders.still_in(&around, |i| {
                if !self.met[i] {
                    return;
                }
                if close {
                    return near.push(i);
                }
                let distance = list[i].clearance(body.place, 1.25 * still.max(touching));
                still = still.min(distance);
                if distance < touching {
                    near.push(i);
                }
            });
        } else {
            still = body.clear + body.radius;
        }
        if near.is_empty() {
            body.place += way;
            body.velocity += change;
            body.clear = (still - body.radius - length).max(0.0);
            return;
        }
        self.bounce_along(body, change, dt, near, touches);
    }

    fn bounce_along(&self, body: &mut Body, change: Vec3, dt: f32, near: &[usize], touches: &mut Vec<Touch>) {
        let start = body.place;
        let mut acceleration = if dt > 0.0 { change / dt } else { Vec3::ZERO };
        let mut share = 1.0 - dt / self.dt.max(1e-12);
        let mut left = dt;
        // Nothing moves onto it meanwhile.
        let calm = near.iter().all(|&i| self.colliders.list()[i].now.still);
        for _ in 0..BOUNCES {
            let way = (body.velocity + 0.5 * acceleration * left) * left;
            if left <= 0.0 {
                break;
            }
            // Out of what it touches it has come with all of its radius; half
            // of that takes it through nothing, and what it reaches into it is
            // taken out of below.
            if left < dt && way.length_squared() < 0.25 * body.radius * body.radius && calm {
                body.place += way;
                body.velocity += acceleration * left;
                left = 0.0;
                break;
            }
            let mut first: Option<(f32, Vec3, usize)> = None;
            for &i in near {
                let met = self.colliders.list()[i].meet(body.place, share, body.place + way, body.radius);
                if let Some((t, normal)) = met
                    && first.is_none_or(|(least, ..)| t < least)
                {
                    first = Some((t, normal, i));
                }
            }
            let Some((t, normal, i)) = first else {
                body.place += way;
                body.velocity += acceleration * left;
                left = 0.0;
                break;
            };
            let gone = t * left;
            body.place += way * t;
            body.velocity += acceleration * gone;
            left -= gone;
            share += (1.0 - share) * t;
            let at = body.place - normal * body.radius;
            self.respond(body, i, at, normal, &mut acceleration, left, touches);
        }
        if left > 0.0 {
            body.velocity += acceleration * left;
        }
        // What has moved less than it was clear is so still; what rests is never asked again.
        let moved = body.place.distance(start);
        if moved < body.clear && calm {
            body.clear -= moved;
            return;
        }
        // Out of what it may still reach into: edges, corners, and what moved onto it.
        let mut clear = 2.0 * body.radius;
        for &i in near {
            let collider = &self.colliders.list()[i];
            let Some(on) = collider.nearest(body.place, clear + body.radius) else { continue };
            let away = body.place - on;
            let distance = away.length();
            clear = (distance - body.radius).max(0.0);
            if distance <= 0.0 || distance >= body.radius {
                continue;
            }
            let normal = away / distance;
            body.place = on + normal * (body.radius * (1.0 + GAP));
            clear = if near.len() == 1 { 0.5 * GAP * body.radius } else { 0.0 };
            if (body.velocity - collider.velocity_at(on)).dot(normal) < 0.0 {
                let mut none = Vec3::ZERO;
                self.respond(body, i, on, normal, &mut none, 0.0, touches);
            }
        }
        // What it lies against is at hand again in the next substep.
        body.clear = clear;
    }

    /// The velocity after a touch: restitution and Coulomb friction, a pair
    /// having the mean of its two. What comes to rest on the body takes from
    /// the acceleration of the `left` seconds what presses it on.
    fn respond(
        &self,
        body: &mut Body,
        i: usize,
        at: Vec3,
        normal: Vec3,
        acceleration: &mut Vec3,
        left: f32,
        touches: &mut Vec<Touch>,
    ) {
        let collider = &self.colliders.list()[i];
        let meet = &self.particles.meet;
        let relative = body.velocity - collider.velocity_at(at);
        let towards = (-relative.dot(normal)).max(0.0);
        let pressing = (-acceleration.dot(normal)).max(0.0) * left;
        let (mut outcome, mut own_bounce) = (meet.outcome, meet.bounce);
        if meet.share < 1.0 || meet.bounce_variation > 0.0 {
            let mut chance = Chance::new(self.particles.seed, body.id, For::Meeting, 0);
            let does = chance.share() < meet.share;
            outcome = if does { meet.outcome } else { Outcome::Bounce };
            own_bounce = (meet.bounce * chance.about(meet.bounce_variation)).clamp(0.0, 1.0);
        }
        let pair = |own: f32, of: f32| 0.5 * (own + of);
        // What comes up no faster than forces press it on has come to rest.
        let bounces = outcome == Outcome::Bounce && towards > 2.0 * pressing;
        let bounce = if bounces { pair(own_bounce, collider.now.bounce) } else { 0.0 };
        let friction =
            if outcome == Outcome::Bounce { pair(meet.friction, collider.now.friction) } else { 0.0 };
        let pressing = if bounces { 0.0 } else { pressing };
        let mobility = collider.mobility(at, normal);
        let own = if meet.push { body.inverse_mass / (body.inverse_mass + mobility) } else { 1.0 };
        let change = (1.0 + bounce) * towards * own;
        body.velocity += normal * change;
        // Friction answers what forces add along the surface too.
        let coming = if pressing > 0.0 { *acceleration * left } else { Vec3::ZERO };
        let own_way = relative.reject_from_normalized(normal);
        let along = own_way + coming.reject_from_normalized(normal);
        let speed = along.length();
        let most = friction * (change + pressing);
        if speed <= most {
            // It holds: the particle goes with the surface, and nothing is left that moves it along.
            body.velocity -= own_way;
            if pressing > 0.0 {
                *acceleration = Vec3::ZERO;
            }
        } else {
            // It slides: the hit takes its part at once, the pressing over the time that is left.
            let way = along / speed;
            body.velocity -= way * (friction * change);
            if pressing > 0.0 {
                *acceleration -= normal * acceleration.dot(normal) + way * (friction * pressing / left);
            }
        }
        let impulse = if meet.push && collider.now.inverse_mass > 0.0 {
            let rubbed = if speed > 0.0 { along * (most.min(speed) / speed) } else { Vec3::ZERO };
            (rubbed - normal * (change + pressing)) / body.inverse_mass
        } else {
            Vec3::ZERO
        };
        if self.told || impulse != Vec3::ZERO {
            touches.push(Touch { index: body.index, body: i as u32, at, speed: towards, impulse });
        }
    }
}
