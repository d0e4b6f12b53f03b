//! How particles move of themselves: they cruise, wander, keep with others and
//! turn away from what they would meet (C. Reynolds, *Flocks, herds, and
//! schools*, 1987; *Steering behaviors for autonomous characters*, 1999).

use super::chance::{Chance, For};
use super::{System, meeting};
use crate::Step;
use geometry::Bounds;
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use shot::{Curve, Is, Particles, Steer, World};

/// Seconds in which a particle comes near to its cruising speed.
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
    fn new(places: &[Vec3], size: f32) -> Self {
        let cell =
            |place: &Vec3| (*place / size).floor().clamp(Vec3::splat(-1e9), Vec3::splat(1e9)).as_ivec3();
        let mut entries: Vec<(IVec3, u32)> =
            places.iter().enumerate().map(|(i, place)| (cell(place), i as u32)).collect();
        entries.par_sort_unstable_by_key(|(cell, i)| (order(*cell), *i));
        Self { size, entries }
    }

    /// Calls `found` with all within a cell's size of a place, and some further.
    fn around(&self, place: Vec3, mut found: impl FnMut(usize)) {
        let cell = (place / self.size).floor().as_ivec3();
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

impl System {
    /// Changes velocities by what particles do of themselves.
    pub(super) fn steer(&mut self, step: &Step, particles: &Particles) {
        let steer = &particles.steer;
        let acts =
            steer.cruise_m_s.is_some() || steer.wander > 0.0 || steer.flock.is_some() || steer.ahead_s > 0.0;
        if !acts || self.swarm.len() == 0 || step.dt <= 0.0 {
            return;
        }
        let swarm = &self.swarm;
        let sight = steer.flock.as_ref().map_or(0.0, |flock| flock.sight_m);
        let look = steer.cruise_m_s.unwrap_or(1.0) * steer.ahead_s;
        let reach = sight.max(look);
        let cells = (reach > 0.0).then(|| Cells::new(&swarm.places, reach));
        let met = meeting::met(step, &particles.meet);
        let changes: Vec<Vec3> = (0..swarm.len())
            .into_par_iter()
            .map(|i| {
                let mut wish = self.wander(steer, particles.seed, i, step.seconds);
                wish += self.cruise(steer, i);
                if let Some(cells) = &cells {
                    wish += self.keep_with(steer, cells, i);
                }
                if steer.ahead_s > 0.0 {
                    wish += self.turn_away(step, steer, &met, i) * steer.agility_m_s2;
                }
                if steer.level {
                    wish.y = 0.0;
                }
                wish.clamp_length_max(steer.agility_m_s2) * step.dt
            })
            .collect();
        let swarm = &mut self.swarm;
        for (i, change) in changes.into_iter().enumerate() {
            if !swarm.rest.stuck.contains_key(&swarm.ids[i]) {
                swarm.velocities[i] += change;
            }
        }
    }

    fn wander(&self, steer: &Steer, seed: u32, i: usize, seconds: f64) -> Vec3 {
        if steer.wander <= 0.0 {
            return Vec3::ZERO;
        }
        let id = self.swarm.ids[i];
        let phase = f64::from(Chance::new(seed, id, For::Wandering, 0).share());
        // Seconds before the first frame count too.
        let at = seconds / f64::from(steer.wander_s) + phase + 1e6;
        let way = |k: u32| Chance::new(seed, id, For::Wandering, 1 + k).direction();
        let (k, t) = (at.floor() as u32, at.fract() as f32);
        way(k).lerp(way(k + 1), t * t * (3.0 - 2.0 * t)) * (steer.wander * steer.agility_m_s2)
    }

    fn cruise(&self, steer: &Steer, i: usize) -> Vec3 {
        let Some(cruise) = steer.cruise_m_s else { return Vec3::ZERO };
        let mut velocity = self.swarm.velocities[i];
        if steer.level {
            velocity.y = 0.0;
        }
        let heading = velocity.try_normalize().unwrap_or_else(|| {
            let any = Chance::new(7, self.swarm.ids[i], For::Wandering, 0).direction();
            let flat = if steer.level { Vec3::new(any.x, 0.0, any.z) } else { any };
            flat.normalize_or(Vec3::X)
        });
        heading * ((cruise - velocity.length()) / REACTION)
    }

    /// What others of the element make it do.
    fn keep_with(&self, steer: &Steer, cells: &Cells, i: usize) -> Vec3 {
        let swarm = &self.swarm;
        let (place, velocity) = (swarm.places[i], swarm.velocities[i]);
        let (mut apart, mut ways, mut middle, mut seen) = (Vec3::ZERO, Vec3::ZERO, Vec3::ZERO, 0.0f32);
        let mut avoid = Vec3::ZERO;
        cells.around(place, |j| {
            if j == i {
                return;
            }
            let to = swarm.places[j] - place;
            let distance = to.length();
            if let Some(flock) = &steer.flock
                && distance < flock.sight_m
            {
                seen += 1.0;
                ways += swarm.velocities[j];
                middle += to;
                if distance < flock.distance_m {
                    let away = if distance > 0.0 { -to / distance } else { Vec3::X };
                    apart += away * (1.0 - distance / flock.distance_m);
                }
            }
            if steer.ahead_s > 0.0 {
                // Where they are nearest to each other, if both go on as they do.
                let relative = swarm.velocities[j] - velocity;
                let speed = relative.length_squared();
                let soon = if speed > 0.0 { -to.dot(relative) / speed } else { 0.0 };
                if soon > 0.0 && soon < steer.ahead_s {
                    let then = to + relative * soon;
                    let near = 0.5 * (swarm.sizes[i] + swarm.sizes[j]) * 1.5;
                    if then.length() < near {
                        let side = then
                            .try_normalize()
                            .unwrap_or_else(|| velocity.cross(Vec3::Y).normalize_or_zero());
                        avoid -= side * (1.0 - soon / steer.ahead_s);
                    }
                }
            }
        });
        let mut wish = avoid.clamp_length_max(1.0);
        if let Some(flock) = &steer.flock {
            wish += apart.clamp_length_max(1.0) * flock.apart;
            if seen > 0.0 {
                wish += ((ways / seen - velocity) * flock.align).clamp_length_max(flock.align);
                wish += (middle / seen / flock.sight_m * flock.together).clamp_length_max(flock.together);
            }
        }
        wish * steer.agility_m_s2
    }

    /// The way to turn from a body that it would meet, longer the sooner.
    fn turn_away(&self, step: &Step, steer: &Steer, met: &[bool], i: usize) -> Vec3 {
        let (place, velocity) = (self.swarm.places[i], self.swarm.velocities[i]);
        let end = place + velocity * steer.ahead_s;
        let bounds = Bounds { min: place.min(end), max: place.max(end) };
        let mut first: Option<(f32, Vec3)> = None;
        let mut test = |body: usize| {
            if !met[body] {
                return;
            }
            if let Some((t, normal)) = step.colliders.list()[body].meet(place, 1.0, end, 0.0)
                && first.is_none_or(|(least, _)| t < least)
            {
                first = Some((t, normal));
            }
        };
        step.colliders.still_in(&bounds, &mut test);
        step.colliders.moving_in(&bounds, &mut test);
        let Some((t, normal)) = first else { return Vec3::ZERO };
        let heading = velocity.normalize_or_zero();
        // Along the surface, not back from it; straight on, to one side.
        let aside = (normal - heading * normal.dot(heading)).try_normalize();
        aside.unwrap_or_else(|| heading.cross(Vec3::Y).normalize_or_zero()) * (1.0 - t)
    }

    /// Moves particles apart that are nearer than they keep, and back onto what they stay on.
    pub(super) fn keep_apart(&mut self, step: &Step, particles: &Particles) {
        let apart = particles.steer.apart_m;
        if apart > 0.0 && self.swarm.len() > 1 {
            for _ in 0..ROUNDS {
                if !self.part(apart) {
                    break;
                }
            }
        }
        self.stay_on(step, particles);
    }

    /// One round of moving pairs apart by half of what they lack each, averaged
    /// over the pairs (M. Macklin et al., *Unified particle physics*, 2014);
    /// false if none lacked anything.
    fn part(&mut self, apart: f32) -> bool {
        let swarm = &self.swarm;
        let cells = Cells::new(&swarm.places, apart);
        let moves: Vec<(Vec3, Vec3)> = (0..swarm.len())
            .into_par_iter()
            .map(|i| {
                let (mut shift, mut slow, mut pairs) = (Vec3::ZERO, Vec3::ZERO, 0.0f32);
                cells.around(swarm.places[i], |j| {
                    let from = swarm.places[i] - swarm.places[j];
                    let distance = from.length();
                    if j == i || distance >= apart {
                        return;
                    }
                    let away = if distance > 0.0 {
                        from / distance
                    } else {
                        let side =
                            Chance::new(1, i.min(j) as u32, For::Wandering, i.max(j) as u32).direction();
                        if i < j { side } else { -side }
                    };
                    pairs += 1.0;
                    shift += away * (0.5 * (apart - distance));
                    let coming = (swarm.velocities[i] - swarm.velocities[j]).dot(away).min(0.0);
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
        let swarm = &mut self.swarm;
        for (i, (shift, slow)) in moves.into_iter().enumerate() {
            if shift == Vec3::ZERO || swarm.rest.stuck.contains_key(&swarm.ids[i]) {
                continue;
            }
            any = true;
            swarm.places[i] += shift;
            swarm.velocities[i] += slow;
            swarm.clearances[i] = (swarm.clearances[i] - shift.length()).max(0.0);
        }
        any
    }

    fn stay_on(&mut self, step: &Step, particles: &Particles) {
        let Some(on) = particles.steer.on.and_then(|id| step.shot.element(id)) else { return };
        let strokes = match &on.is {
            Is::Curve(curve) => Some(placed(step, on, curve)),
            _ => None,
        };
        let swarm = &mut self.swarm;
        for i in 0..swarm.len() {
            let place = swarm.places[i];
            let target = match &strokes {
                Some(strokes) => crate::forces::nearest_on(strokes, place).map(|(on, way)| (on, Some(way))),
                None => {
                    let mut best: Option<Vec3> = None;
                    for body in step.colliders.of(on.id) {
                        let within = best.map_or(f32::INFINITY, |best| best.distance(place));
                        best = body.nearest(place, within).or(best);
                    }
                    best.map(|on| (on, None))
                }
            };
            let Some((target, way)) = target else { continue };
            let velocity = swarm.velocities[i];
            match way {
                // On a line it keeps what goes along it.
                Some(way) => {
                    (swarm.places[i], swarm.velocities[i]) = (target, way * velocity.dot(way));
                }
                None => {
                    let Some(normal) = (place - target).try_normalize() else { continue };
                    swarm.places[i] = target + normal * (0.5 * swarm.sizes[i] * 1.001);
                    swarm.velocities[i] = velocity - normal * velocity.dot(normal);
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
