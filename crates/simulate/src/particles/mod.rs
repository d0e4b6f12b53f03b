//! Particles: emitted, carried by forces, stopped by bodies, becoming others.
//!
//! Each element's particles are a [`swarm::Swarm`]: columns in the order of
//! birth. A substep gives birth, moves what is there, lets become what is due,
//! and takes out what has come to its end; nothing that lives is moved in
//! memory but to close the gaps. All chance is a hash of the particle's own
//! number, so that the same shot gives the same bytes on any number of threads.

mod becoming;
mod births;
mod chance;
mod meeting;
mod steer;
mod swarm;
mod travel;

use crate::colliders::{Impulse, Newcomer, Owed};
use crate::{BlowUp, PrepareError, SavedPart, Scene, Solver, Step, Wants};
use frames::{Frame, Turnover};
use geometry::Meshes;
use glam::{Quat, Vec3};
use meeting::Touch;
use shot::{Element, Id, MAX_PARTICLES, Often, Outcome, Particles, Pose, Shot, Source, Then, World};
use std::collections::{BTreeMap, BTreeSet};
use swarm::{Columns, Stuck, Swarm};

/// Bytes that a particle takes while it is computed.
const BYTES: f64 = (4 + 12 + 12 + 4 + 4 + 4 + 4 + 4 + 4 + 4 + 16 + 12 + 4) as f64;

/// What is said of more particles than an element may have.
fn too_many(wanted: f64) -> String {
    format!(
        "would have {wanted:.0} particles at once, {:.1} GB; at most {MAX_PARTICLES}, {:.1} GB",
        wanted * BYTES * 1e-9,
        MAX_PARTICLES as f64 * BYTES * 1e-9
    )
}

/// The particles of one element.
struct System {
    id: Id,
    name: String,
    swarm: Swarm,
    columns: Columns,
    /// The world's second that it is at.
    now_s: f32,
    places: Option<births::Places>,
    /// The elements of all systems, in their order.
    order: Vec<Id>,
}

struct Swarms {
    systems: Vec<System>,
    meshes: Meshes,
    owed: Owed,
    /// Bodies that become particles at the end of this substep.
    arrivals: Vec<Newcomer>,
    wants: Wants,
    preroll_s: f32,
    /// How many bodies each solid has had from particles.
    handed_over: BTreeMap<Id, u32>,
}

/// Makes the solver, if the shot has particles.
pub(crate) fn prepare(scene: Scene) -> Result<Option<Box<dyn Solver>>, PrepareError> {
    let shot = scene.shot;
    let order: Vec<Id> = shot.particles().map(|(element, _)| element.id).collect();
    if order.is_empty() {
        return Ok(None);
    }
    // Bodies also carry what is attached to them: emitters and regions.
    let mut wants = Wants { bodies: true, hits: false };
    let mut systems = Vec::new();
    let mut preroll_s = 0.0f32;
    let weighing = weighing(shot);
    for (element, particles) in shot.particles() {
        forecast(scene, element, particles)?;
        let places = births::Places::find(shot, particles, scene.meshes);
        can_be_born(element, particles, &places)?;
        wants.hits |= matches!(particles.from, Source::Impacts { .. });
        let preroll = particles.births.preroll_s;
        preroll_s = preroll_s.max(preroll);
        systems.push(System {
            id: element.id,
            name: element.name.clone(),
            swarm: Swarm::default(),
            columns: Columns {
                turning: turning(shot, element, particles),
                weighing: weighing.contains(&element.id),
            },
            now_s: -preroll,
            places: Some(places),
            order: order.clone(),
        });
    }
    let meshes = scene.meshes.clone();
    let handed_over = BTreeMap::new();
    let (owed, arrivals) = (Owed::default(), Vec::new());
    Ok(Some(Box::new(Swarms { systems, meshes, owed, arrivals, wants, preroll_s, handed_over })))
}

/// Why particles cannot be born as they are to, for each element of which that is so.
pub fn not_to_be_born(shot: &Shot, meshes: &Meshes) -> Result<Vec<(Id, PrepareError)>, PrepareError> {
    let sampler = crate::solver::sampler(shot)?;
    let first = sampler.at(f64::from(shot.timing.first))?;
    let scene = Scene { shot: &first, sampler: &sampler, meshes };
    let mut found = Vec::new();
    for (element, particles) in first.particles() {
        let places = births::Places::find(&first, particles, meshes);
        let could = forecast(scene, element, particles).and(can_be_born(element, particles, &places));
        found.extend(could.err().map(|why| (element.id, why)));
    }
    Ok(found)
}

fn can_be_born(
    element: &Element,
    particles: &Particles,
    places: &births::Places,
) -> Result<(), PrepareError> {
    let never = matches!(particles.births.how, Often::Never {});
    if never || places.sites.whole() > 0.0 {
        return Ok(());
    }
    Err(PrepareError::NoPlace { element: element.name.clone() })
}

/// Refuses what would not fit in memory, before it is begun.
fn forecast(scene: Scene, element: &Element, particles: &Particles) -> Result<(), PrepareError> {
    let timing = scene.shot.timing;
    let begin = -f64::from(particles.births.preroll_s);
    let end =
        (scene.sampler.world_frame(f64::from(timing.last)) - f64::from(timing.first)) / f64::from(timing.fps);
    let wanted = match particles.births.how {
        Often::Number { number } | Often::AtOnce { number } => f64::from(number),
        Often::Rate { .. } => {
            let life = particles.start.lifespan_s.map_or(f64::INFINITY, f64::from);
            let born = |at: f64| scene.sampler.elapsed(element, Vec3::NEG_Y, at).births;
            // The most that are born within a lifespan, looked at in a hundred places.
            let part = (end - begin) / 100.0;
            let starts = (0..=100).map(|i| begin + part * f64::from(i));
            starts.map(|at| born((at + life).min(end)) - born(at)).fold(0.0, f64::max)
        }
        Often::Never {} => 0.0,
    };
    if wanted <= MAX_PARTICLES as f64 {
        return Ok(());
    }
    Err(PrepareError::TooMuch { element: element.name.clone(), what: too_many(wanted) })
}

/// Whether the particles of an element can come to be turned. What they look
/// like is no matter: that can change when the frames are there.
fn turning(shot: &Shot, element: &Element, particles: &Particles) -> bool {
    let start = &particles.start;
    let keyed = |part: &str| element.motion.keys().any(|path| path.contains(part));
    let stands_turned = element.placement.turn_rad != Vec3::ZERO
        || element.attached.is_some()
        || element.aim.is_some()
        || keyed("placement.turn_rad");
    let spins = start.turn_variation > 0.0
        || start.spin_rad_s != 0.0
        || keyed(".spin_")
        || keyed(".turn_variation")
        || particles
            .becoming
            .iter()
            .any(|b| matches!(&b.then, Then::Split(split) if split.spin_rad_s != 0.0));
    let was_a_body =
        shot.solids().any(|(_, solid)| solid.back.as_ref().is_some_and(|back| back.of == element.id));
    stands_turned
        || spins
        || was_a_body
        || shot.particles().any(|(_, of)| of.makes().any(|id| id == element.id))
}

/// Those that are born by a map, and those that they become.
fn weighing(shot: &Shot) -> BTreeSet<Id> {
    let mapped = shot.particles().filter(|(_, particles)| particles.births.map.is_some());
    let mut found: Vec<Id> = mapped.map(|(element, _)| element.id).collect();
    let mut at = 0;
    while at < found.len() {
        let makes =
            shot.element(found[at]).and_then(|e| e.as_particles()).into_iter().flat_map(|p| p.makes());
        for id in makes {
            if !found.contains(&id) {
                found.push(id);
            }
        }
        at += 1;
    }
    found.into_iter().collect()
}

impl Swarms {
    fn system(&self, id: Id) -> Option<usize> {
        self.systems.iter().position(|system| system.id == id)
    }

    /// Owes the bodies what touches did to them.
    fn owe(&mut self, step: &Step, touches: &[Touch]) {
        for touch in touches.iter().filter(|touch| touch.impulse != Vec3::ZERO) {
            let body = step.colliders.list()[touch.body as usize].now;
            self.owed.impulses.push(Impulse {
                element: body.element,
                copy: body.copy,
                at: touch.at,
                impulse: touch.impulse,
            });
        }
    }
}

impl System {
    /// Lets those stick or die that do so on touch; gives those that die.
    fn settle(&mut self, step: &Step, particles: &Particles, touches: &[Touch], marked: &mut [bool]) {
        let outcome = particles.meet.outcome;
        if !matches!(outcome, Outcome::Stick | Outcome::Die) {
            return;
        }
        for touch in touches {
            let i = touch.index as usize;
            let id = self.swarm.ids[i];
            let does = chance::Chance::new(particles.seed, id, chance::For::Meeting, 0).share()
                < particles.meet.share;
            if !does || self.swarm.rest.stuck.contains_key(&id) {
                continue;
            }
            if outcome == Outcome::Die {
                marked[i] = true;
                continue;
            }
            let body = step.colliders.list()[touch.body as usize].now;
            let (place, turn) = body.pose;
            let own = self.swarm.turns.get(i).copied().unwrap_or(Quat::IDENTITY);
            let stuck = Stuck {
                element: body.element,
                copy: body.copy,
                place: turn.inverse() * (self.swarm.places[i] - place),
                turn: turn.inverse() * own,
            };
            self.swarm.rest.stuck.insert(id, stuck);
        }
    }

    /// Keeps those that stick where they stick.
    fn keep_stuck(&mut self, step: &Step) {
        if self.swarm.rest.stuck.is_empty() {
            return;
        }
        let poses: BTreeMap<(Id, u32), Pose> = step
            .colliders
            .list()
            .iter()
            .map(|body| ((body.now.element, body.now.copy), body.now.pose))
            .collect();
        let stuck: Vec<(u32, Stuck)> =
            self.swarm.rest.stuck.iter().map(|(id, stuck)| (*id, *stuck)).collect();
        for (id, stuck) in stuck {
            let (Some(i), Some((place, turn))) =
                (self.swarm.find(id), poses.get(&(stuck.element, stuck.copy)).copied())
            else {
                continue;
            };
            let at = place + turn * stuck.place;
            self.swarm.velocities[i] = (at - self.swarm.places[i]) / step.dt.max(1e-9);
            if !step.colliders.any_move() {
                self.swarm.velocities[i] = Vec3::ZERO;
            }
            self.swarm.places[i] = at;
            if let Some(own) = self.swarm.turns.get_mut(i) {
                *own = turn * stuck.turn;
                self.swarm.spins[i] = Vec3::ZERO;
            }
        }
    }
}

impl Solver for Swarms {
    fn step(&mut self, step: &Step) -> Result<(), BlowUp> {
        let crowds: Vec<Vec<Vec3>> = self
            .systems
            .iter()
            .map(|system| {
                let asked = step
                    .shot
                    .particles()
                    .any(|(_, of)| matches!(of.from, Source::Particles { of } if of == system.id));
                if asked { system.swarm.places.clone() } else { Vec::new() }
            })
            .collect();
        let mut all_touches: Vec<Vec<Touch>> = Vec::with_capacity(self.systems.len());
        let mut marks: Vec<Vec<bool>> = Vec::with_capacity(self.systems.len());
        for i in 0..self.systems.len() {
            let system = &mut self.systems[i];
            let element = step.shot.element(system.id);
            let Some((element, particles)) = element.and_then(|e| Some((e, e.as_particles()?))) else {
                all_touches.push(Vec::new());
                marks.push(Vec::new());
                continue;
            };
            let old = system.swarm.len();
            system.now_s = step.seconds as f32;
            let left = system.give_birth(step, &self.meshes, &crowds)?;
            system.steer(step, particles);
            let mut travelled = system.travel(step, element, particles, 0..old, None)?;
            let newborn = system.travel(step, element, particles, old..old + left.len(), Some(&left))?;
            travelled.touches.extend(newborn.touches);
            travelled.any_gone |= newborn.any_gone;
            system.keep_apart(step, particles);
            system.spin(step.dt);
            let n = system.swarm.len();
            let dies = !travelled.touches.is_empty() && particles.meet.outcome == Outcome::Die;
            let mut marked = Vec::new();
            if travelled.any_gone || dies || !particles.becoming.is_empty() {
                let (now, world_m) = (step.seconds as f32, step.shot.physics.world_m);
                marked.resize(n, false);
                for i in 0..n {
                    marked[i] = system.swarm.ends_s[i] <= now || system.swarm.places[i].length() > world_m;
                }
            }
            system.settle(step, particles, &travelled.touches, &mut marked);
            system.keep_stuck(step);
            self.owe(step, &travelled.touches);
            all_touches.push(travelled.touches);
            marks.push(marked);
        }
        self.become_others(step, &all_touches, &mut marks)?;
        self.take_back(step)?;
        for (system, marked) in self.systems.iter_mut().zip(&mut marks) {
            if marked.iter().any(|&m| m) {
                marked.resize(system.swarm.len(), false);
                system.swarm.remove(marked);
            }
        }
        Ok(())
    }

    fn pose(&self, _: Id) -> Option<Pose> {
        None
    }

    fn take_owed(&mut self) -> Owed {
        std::mem::take(&mut self.owed)
    }

    fn receive(&mut self, _: &Shot, owed: &Owed) {
        let own = owed.newcomers.iter().filter(|newcomer| self.system(newcomer.element).is_some());
        let own: Vec<Newcomer> = own.copied().collect();
        self.arrivals.extend(own);
    }

    fn wants(&self) -> Wants {
        self.wants
    }

    fn preroll_s(&self) -> Option<f32> {
        Some(self.preroll_s)
    }

    fn stand(&mut self, world: &World) {
        for system in &mut self.systems {
            system.stand(world);
        }
    }

    fn write(&mut self, frame: &mut Frame) {
        for system in &mut self.systems {
            let swarm = &mut system.swarm;
            let now = system.now_s;
            let rest = &mut swarm.rest;
            let turnover = Turnover { alive: swarm.ids.len() as u32, born: rest.born, gone: rest.gone };
            (rest.born, rest.gone) = (0, 0);
            // What has not begun leaves no trace, so that a frame does not tell
            // whether particles that begin later were there already.
            if swarm.rest.next_id == 0 {
                continue;
            }
            frame.measured.turnover.insert(system.id, turnover);
            let any_turned = swarm.turns.iter().any(|turn| *turn != Quat::IDENTITY);
            let any_weighed = swarm.weights.iter().any(|weight| *weight != 1.0);
            frame.particles.insert(
                system.id,
                frames::Particles {
                    ids: swarm.ids.clone(),
                    places: swarm.places.clone(),
                    velocities: swarm.velocities.clone(),
                    sizes: swarm.sizes.clone(),
                    ages: swarm.born_s.iter().map(|born| (now - born).max(0.0)).collect(),
                    lifespans: swarm.born_s.iter().zip(&swarm.ends_s).map(|(born, end)| end - born).collect(),
                    turns: if any_turned { swarm.turns.clone() } else { Vec::new() },
                    weights: if any_weighed { swarm.weights.clone() } else { Vec::new() },
                },
            );
        }
    }

    fn save(&self) -> SavedPart {
        let mut out = postcard::to_stdvec(&self.handed_over).expect("it serialises");
        let length = (out.len() as u64).to_le_bytes();
        out.splice(0..0, length);
        for system in &self.systems {
            out.extend_from_slice(&system.id.0.to_le_bytes());
            out.extend_from_slice(&system.now_s.to_le_bytes());
            system.swarm.save(&mut out);
        }
        Box::new(move || out)
    }

    fn restore(&mut self, bytes: Option<&[u8]>) -> Result<(), PrepareError> {
        let broken = || PrepareError::State("it ends early".to_owned());
        // Particles that are not in it begin later.
        let Some(bytes) = bytes else { return Ok(()) };
        let (length, rest) = bytes.split_first_chunk::<8>().ok_or_else(broken)?;
        let length = usize::try_from(u64::from_le_bytes(*length)).map_err(|_| broken())?;
        let (handed, mut rest) = rest.split_at_checked(length).ok_or_else(broken)?;
        self.handed_over =
            postcard::from_bytes(handed).map_err(|error| PrepareError::State(error.to_string()))?;
        while !rest.is_empty() {
            let (id, after) = rest.split_first_chunk::<4>().ok_or_else(broken)?;
            let (now, after) = after.split_first_chunk::<4>().ok_or_else(broken)?;
            rest = after;
            let swarm = Swarm::restore(&mut rest)?;
            // Particles that the shot has no more had not begun.
            let Some(i) = self.system(Id(u32::from_le_bytes(*id))) else { continue };
            let system = &mut self.systems[i];
            system.now_s = f32::from_le_bytes(*now);
            system.swarm = swarm.with_columns(system.columns)?;
        }
        Ok(())
    }
}
