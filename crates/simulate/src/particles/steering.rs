//! Steering behaviours: cruising, wandering, flocking and avoidance of bodies ahead (C. Reynolds, *Flocks, herds, and
//! schools*, 1987; *Steering behaviors for autonomous characters*, 1999).

use super::hash::{ParticleHash, Purpose};
use super::{ParticleSystem, contact};
use crate::Step;
use geometry::Bounds;
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use shot::{
    ElementKind,
    curve::Curve,
    particles::{Particles, Steering},
    world::World,
};

/// Time constant of the approach to the cruising speed, s.
const REACTION: f32 = 0.4;
/// Rounds in which particles are moved apart.
const ROUNDS: usize = 6;

/// Particles by the cell of a grid that they are in.
struct Cells {
    size: f32,
    /// Cell and index, sorted.
    entries: Vec<(IVec3, u32)>,
}

fn order(cell: IVec3) -> [i32; 3] {
    cell.to_array()
}

impl Cells {
    fn new(positions: &[Vec3], size: f32) -> Self {
        let cell = |position: &Vec3| {
            (*position / size).floor().clamp(Vec3::splat(-1e9), Vec3::splat(1e9)).as_ivec3()
        };
        let mut entries: Vec<(IVec3, u32)> =
            positions.iter().enumerate().map(|(i, position)| (cell(position), i as u32)).collect();
        entries.par_sort_unstable_by_key(|(cell, i)| (order(*cell), *i));
        Self { size, entries }
    }

    /// Calls `found` with all within a cell's size of a place, and some further.
    fn around(&self, position: Vec3, mut found: impl FnMut(usize)) {
        let cell = (position / self.size).floor().as_ivec3();
        for x in -1..=1 {
            for y in -1..=1 {
                // Cells of one column follow each other.
                let from = order(cell + IVec3::new(x, y, -1));
                let to = order(cell + IVec3::new(x, y, 1));
                let start = self.entries.partition_point(|(cell, _)| order(*cell) < from);
                for (_, i) in self.entries[start..].iter().take_while(|(cell, _)| order(*cell) <= to) {
                    found(*i as usize);
                }
            }
        }
    }
}

impl ParticleSystem {
    /// Adds the steering acceleration to the velocities.
    pub(super) fn steer(&mut self, step: &Step, particles: &Particles) {
        let steer = &particles.steering;
        let acts = steer.cruise_speed_m_s.is_some()
            || steer.wander > 0.0
            || steer.flock.is_some()
            || steer.avoidance_time_s > 0.0;
        if !acts || self.set.len() == 0 || step.dt <= 0.0 {
            return;
        }
        let set = &self.set;
        let sight = steer.flock.as_ref().map_or(0.0, |flock| flock.perception_radius_m);
        let look = steer.cruise_speed_m_s.unwrap_or(1.0) * steer.avoidance_time_s;
        let reach = sight.max(look);
        let cells = (reach > 0.0).then(|| Cells::new(&set.positions, reach));
        let met = contact::met(step, &particles.contact);
        let changes: Vec<Vec3> = (0..set.len())
            .into_par_iter()
            .map(|i| {
                let mut wish = self.wander(steer, particles.seed, i, step.seconds);
                wish += self.cruise(steer, i);
                if let Some(cells) = &cells {
                    wish += self.keep_with(steer, cells, i);
                }
                if steer.avoidance_time_s > 0.0 {
                    wish += self.turn_away(step, steer, &met, i) * steer.max_acceleration_m_s2;
                }
                if steer.horizontal {
                    wish.y = 0.0;
                }
                wish.clamp_length_max(steer.max_acceleration_m_s2) * step.dt
            })
            .collect();
        let set = &mut self.set;
        for (i, change) in changes.into_iter().enumerate() {
            if !set.rest.stuck.contains_key(&set.ids[i]) {
                set.velocities[i] += change;
            }
        }
    }

    fn wander(&self, steer: &Steering, seed: u32, i: usize, seconds: f64) -> Vec3 {
        if steer.wander <= 0.0 {
            return Vec3::ZERO;
        }
        let id = self.set.ids[i];
        let phase = f64::from(ParticleHash::new(seed, id, Purpose::Wandering, 0).unit());
        // Seconds before the first frame count too.
        let at = seconds / f64::from(steer.wander_s) + phase + 1e6;
        let way = |k: u32| ParticleHash::new(seed, id, Purpose::Wandering, 1 + k).direction();
        let (k, t) = (at.floor() as u32, at.fract() as f32);
        way(k).lerp(way(k + 1), t * t * (3.0 - 2.0 * t)) * (steer.wander * steer.max_acceleration_m_s2)
    }

    fn cruise(&self, steer: &Steering, i: usize) -> Vec3 {
        let Some(cruise) = steer.cruise_speed_m_s else { return Vec3::ZERO };
        let mut velocity = self.set.velocities[i];
        if steer.horizontal {
            velocity.y = 0.0;
        }
        let heading = velocity.try_normalize().unwrap_or_else(|| {
            let any = ParticleHash::new(7, self.set.ids[i], Purpose::Wandering, 0).direction();
            let flat = if steer.horizontal { Vec3::new(any.x, 0.0, any.z) } else { any };
            flat.normalize_or(Vec3::X)
        });
        heading * ((cruise - velocity.length()) / REACTION)
    }

    /// Separation, alignment and cohesion from the neighbours of a particle.
    fn keep_with(&self, steer: &Steering, cells: &Cells, i: usize) -> Vec3 {
        let set = &self.set;
        let (position, velocity) = (set.positions[i], set.velocities[i]);
        let (mut apart, mut ways, mut middle, mut seen) = (Vec3::ZERO, Vec3::ZERO, Vec3::ZERO, 0.0f32);
        let mut avoid = Vec3::ZERO;
        cells.around(position, |j| {
            if j == i {
                return;
            }
            let to = set.positions[j] - position;
            let distance = to.length();
            if let Some(flock) = &steer.flock
                && distance < flock.perception_radius_m
            {
                seen += 1.0;
                ways += set.velocities[j];
                middle += to;
                if distance < flock.distance_m {
                    let away = if distance > 0.0 { -to / distance } else { Vec3::X };
                    apart += away * (1.0 - distance / flock.distance_m);
                }
            }
            if steer.avoidance_time_s > 0.0 {
                // Closest approach of the two, at constant velocities.
                let relative = set.velocities[j] - velocity;
                let speed = relative.length_squared();
                let soon = if speed > 0.0 { -to.dot(relative) / speed } else { 0.0 };
                if soon > 0.0 && soon < steer.avoidance_time_s {
                    let then = to + relative * soon;
                    let near = 0.5 * (set.sizes[i] + set.sizes[j]) * 1.5;
                    if then.length() < near {
                        let side = then
                            .try_normalize()
                            .unwrap_or_else(|| velocity.cross(Vec3::Y).normalize_or_zero());
                        avoid -= side * (1.0 - soon / steer.avoidance_time_s);
                    }
                }
            }
        });
        let mut wish = avoid.clamp_length_max(1.0);
        if let Some(flock) = &steer.flock {
            wish += apart.clamp_length_max(1.0) * flock.separation;
            if seen > 0.0 {
                wish += ((ways / seen - velocity) * flock.alignment).clamp_length_max(flock.alignment);
                wish += (middle / seen / flock.perception_radius_m * flock.cohesion)
                    .clamp_length_max(flock.cohesion);
            }
        }
        wish * steer.max_acceleration_m_s2
    }

    /// Direction away from the body ahead; its length grows as the time to impact falls.
    fn turn_away(&self, step: &Step, steer: &Steering, met: &[bool], i: usize) -> Vec3 {
        let (position, velocity) = (self.set.positions[i], self.set.velocities[i]);
        let end = position + velocity * steer.avoidance_time_s;
        let bounds = Bounds { min: position.min(end), max: position.max(end) };
        let mut first: Option<(f32, Vec3)> = None;
        let mut test = |body: usize| {
            if !met[body] {
                return;
            }
            if let Some((t, normal)) = step.colliders.list()[body].intersect(position, 1.0, end, 0.0)
                && first.is_none_or(|(least, _)| t < least)
            {
                first = Some((t, normal));
            }
        };
        step.colliders.still_in(&bounds, &mut test);
        step.colliders.moving_in(&bounds, &mut test);
        let Some((t, normal)) = first else { return Vec3::ZERO };
        let heading = velocity.normalize_or_zero();
        // Tangential to the surface, not backwards; at normal incidence to one side.
        let aside = (normal - heading * normal.dot(heading)).try_normalize();
        aside.unwrap_or_else(|| heading.cross(Vec3::Y).normalize_or_zero()) * (1.0 - t)
    }

    /// Projects positions: pairs apart to `min_distance_m`, and each onto the element it is constrained to.
    pub(super) fn keep_apart(&mut self, step: &Step, particles: &Particles) {
        let apart = particles.steering.min_distance_m;
        if apart > 0.0 && self.set.len() > 1 {
            for _ in 0..ROUNDS {
                if !self.part(apart) {
                    break;
                }
            }
        }
        self.stay_on(step, particles);
    }

    /// One iteration of the distance projection: each of a pair moves by half of the missing distance, averaged
    /// over the pairs (M. Macklin et al., *Unified particle physics*, 2014);
    /// false if none lacked anything.
    fn part(&mut self, apart: f32) -> bool {
        let set = &self.set;
        let cells = Cells::new(&set.positions, apart);
        let moves: Vec<(Vec3, Vec3)> = (0..set.len())
            .into_par_iter()
            .map(|i| {
                let (mut shift, mut slow, mut pairs) = (Vec3::ZERO, Vec3::ZERO, 0.0f32);
                cells.around(set.positions[i], |j| {
                    let from = set.positions[i] - set.positions[j];
                    let distance = from.length();
                    if j == i || distance >= apart {
                        return;
                    }
                    let away = if distance > 0.0 {
                        from / distance
                    } else {
                        let side = ParticleHash::new(1, i.min(j) as u32, Purpose::Wandering, i.max(j) as u32)
                            .direction();
                        if i < j { side } else { -side }
                    };
                    pairs += 1.0;
                    shift += away * (0.5 * (apart - distance));
                    let coming = (set.velocities[i] - set.velocities[j]).dot(away).min(0.0);
                    slow -= away * (0.5 * coming);
                });
                if pairs > 0.0 {
                    (shift * (1.5 / pairs).min(1.0), slow / pairs)
                } else {
                    (Vec3::ZERO, Vec3::ZERO)
                }
            })
            .collect();
        let mut any = false;
        let set = &mut self.set;
        for (i, (shift, slow)) in moves.into_iter().enumerate() {
            if shift == Vec3::ZERO || set.rest.stuck.contains_key(&set.ids[i]) {
                continue;
            }
            any = true;
            set.positions[i] += shift;
            set.velocities[i] += slow;
            set.clearances[i] = (set.clearances[i] - shift.length()).max(0.0);
        }
        any
    }

    fn stay_on(&mut self, step: &Step, particles: &Particles) {
        let Some(on) = particles.steering.constrained_to.and_then(|id| step.shot.element(id)) else { return };
        let strokes = match &on.kind {
            ElementKind::Curve(curve) => Some(placed(step, on, curve)),
            _ => None,
        };
        let set = &mut self.set;
        for i in 0..set.len() {
            let position = set.positions[i];
            let target = match &strokes {
                Some(strokes) => {
                    crate::forces::nearest_on(strokes, position).map(|(on, way)| (on, Some(way)))
                }
                None => {
                    let mut best: Option<Vec3> = None;
                    for body in step.colliders.of(on.id) {
                        let within = best.map_or(f32::INFINITY, |best| best.distance(position));
                        best = body.nearest(position, within).or(best);
                    }
                    best.map(|on| (on, None))
                }
            };
            let Some((target, way)) = target else { continue };
            let velocity = set.velocities[i];
            match way {
                // On a curve the velocity along the tangent remains.
                Some(way) => {
                    (set.positions[i], set.velocities[i]) = (target, way * velocity.dot(way));
                }
                None => {
                    let Some(normal) = (position - target).try_normalize() else { continue };
                    set.positions[i] = target + normal * (0.5 * set.sizes[i] * 1.001);
                    set.velocities[i] = velocity - normal * velocity.dot(normal);
                }
            }
        }
    }
}

fn placed(step: &Step, element: &shot::Element, curve: &Curve) -> Vec<Vec<Vec3>> {
    let solved = |id: shot::Id, _: f64| step.colliders.solved(id);
    let pose = World::new(step.shot, step.sampler, step.acting, &solved).pose(element);
    crate::forces::strokes(curve, pose)
}
