//! The particle solver: emission, integration, contacts and events.
//!
//! Each element's particles are a [`particle_set::ParticleSet`]: columns in the order of
//! birth. A substep emits new particles, integrates all, applies due events, and
//! removes the dead; living particles are moved in memory only to close gaps.
//! Random choices are hashes of the particle's number, so that the same shot
//! gives the same bytes on any number of threads.

mod carried;
mod contact;
mod emission;
mod events;
mod flow;
mod forecast;
mod hash;
mod initial_state;
mod matter;
mod particle_set;
mod steering;
mod time_steps;
mod travel;

pub use forecast::{LiquidSize, liquid_size};

use crate::colliders::{Collider, Exchange, Impulse, SpawnParticle};
use crate::liquid::{Carrier, StillBodyCache};
use crate::solver::written;
use crate::{BlowUp, PrepareContext, PrepareError, SavedPart, Solver, Step, Wants};
use contact::ParticleContact;
use flow::Flowing;
use forecast::{forecast, too_many};
use frames::{Event, Frame, LiquidMeasure, Turnover};
use geometry::Meshes;
use glam::{Quat, Vec3};
use particle_set::{ParticleColumns, ParticleSet, Stuck};
use shot::{
    Element, Id, Shot, System,
    particles::{Action, ContactOutcome, EmissionSchedule, Particles, Source},
    world::{Pose, World},
};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write};
use travel::Travelled;

/// The particles of one element.
struct ParticleSystem {
    id: Id,
    name: String,
    set: ParticleSet,
    columns: ParticleColumns,
    /// Present time of the world, s.
    now_s: f32,
    positions: Option<emission::EmissionSites>,
    /// The surface at rest of the solid that they are born on.
    rest_surface: Option<emission::KeptSurface>,
    seam: Option<emission::Seam>,
    /// The elements of all sets of the solver, in their order.
    order: Vec<Id>,
    /// What still bodies are in the cells of a liquid.
    still_body_cache: StillBodyCache,
    /// What was measured of it, a liquid, in the last substep of the frame.
    measure: Option<LiquidMeasure>,
}

struct ParticleSolver {
    systems: Vec<ParticleSystem>,
    meshes: Meshes,
    exchange: Exchange,
    /// Bodies that become particles at the end of this substep.
    spawned: Vec<SpawnParticle>,
    wants: Wants,
    preroll_s: f32,
    /// How many bodies each solid has had from particles.
    handed_over: BTreeMap<Id, u32>,
    /// What happened since the last frame was written.
    events: Vec<Event>,
}

/// Makes the solver, if the system has particles.
pub(crate) fn prepare(
    context: PrepareContext,
    system: &System,
) -> Result<Option<Box<dyn Solver>>, PrepareError> {
    let shot = context.shot;
    let members = || shot.particles().filter(|(element, _)| system.elements.contains(&element.id));
    let order: Vec<Id> = members().map(|(element, _)| element.id).collect();
    if order.is_empty() {
        return Ok(None);
    }
    // Emitters and regions may be attached to bodies.
    let mut wants = Wants { bodies: true, ..Wants::default() };
    let mut systems = Vec::new();
    let mut preroll_s = 0.0f32;
    let weighing = inherited(shot, |particles| particles.emission.map.is_some());
    let with_uv = inherited(shot, |particles| particles.emission.carries_uv);
    for (element, particles) in members() {
        forecast(context, element, particles)?;
        let positions = sites(context, element, particles)?;
        wants.deformables |= shot.meets_deformables(element);
        wants.responses |= particles.liquid.is_some() && shot.pushes_deformables(element, particles);
        wants.liquids |= particles.liquids().next().is_some();
        wants.quantities |= emission::needs_vertex_weights(particles);
        wants.hits |= matches!(particles.source, Source::Impacts { .. });
        // What begins from a frame has come to it already.
        let preroll = if context.initial_state.is_some() { 0.0 } else { particles.emission.preroll_s };
        preroll_s = preroll_s.max(preroll);
        let mut system = ParticleSystem {
            id: element.id,
            name: element.name.clone(),
            set: ParticleSet::default(),
            columns: ParticleColumns {
                turning: turning(shot, element, particles),
                weighing: weighing.contains(&element.id),
                with_uv: with_uv.contains(&element.id),
                liquid: particles.liquid.is_some(),
                elastic: flow::is_elastic(element, particles),
            },
            now_s: -preroll,
            positions: Some(positions),
            rest_surface: None,
            seam: None,
            order: order.clone(),
            still_body_cache: StillBodyCache::default(),
            measure: None,
        };
        if let Some(initial_state) = context.initial_state {
            system.begin_from(particles, initial_state);
        }
        systems.push(system);
    }
    let meshes = context.meshes.clone();
    let handed_over = BTreeMap::new();
    let (exchange, spawned) = (Exchange::default(), Vec::new());
    let solver = ParticleSolver {
        systems,
        meshes,
        exchange,
        spawned,
        wants,
        preroll_s,
        handed_over,
        events: Vec::new(),
    };
    Ok(Some(Box::new(solver)))
}

/// For each element that cannot emit: the reason.
pub fn not_to_be_born(shot: &Shot, meshes: &Meshes) -> Result<Vec<(Id, PrepareError)>, PrepareError> {
    let sampler = crate::solver::sampler(shot)?;
    let first = sampler.at(f64::from(shot.timing.first))?;
    let context = PrepareContext { shot: &first, sampler: &sampler, meshes, initial_state: None };
    let mut found = Vec::new();
    for (element, particles) in first.particles() {
        let could =
            forecast(context, element, particles).and_then(|()| sites(context, element, particles).map(drop));
        found.extend(could.err().map(|why| (element.id, why)));
    }
    Ok(found)
}

/// The places at which the particles of an element are born.
fn sites(
    context: PrepareContext,
    element: &Element,
    particles: &Particles,
) -> Result<emission::EmissionSites, PrepareError> {
    let positions = match particles.source {
        Source::Pool {} => {
            let frame = f64::from(context.shot.timing.first);
            let world = World::new(context.shot, context.sampler, frame, &|_, _| None);
            emission::EmissionSites::of_pool(&world, element, particles, context.meshes).map_err(|why| {
                PrepareError::Unfit {
                    element: element.name.clone(),
                    what: format!("the pool {why}; lower it, or close what it stands in"),
                }
            })?
        }
        _ => emission::EmissionSites::find(context.shot, particles, context.meshes),
    };
    can_be_born(element, particles, &positions)?;
    Ok(positions)
}

fn can_be_born(
    element: &Element,
    particles: &Particles,
    positions: &emission::EmissionSites,
) -> Result<(), PrepareError> {
    let never = matches!(particles.emission.schedule, EmissionSchedule::Never {});
    if never || positions.sites.whole() > 0.0 {
        return Ok(());
    }
    Err(PrepareError::NoPlace { element: element.name.clone() })
}

/// Whether particles of the element can have an orientation other than the identity.
/// Their appearance does not count, since it can change after the bake.
fn turning(shot: &Shot, element: &Element, particles: &Particles) -> bool {
    let start = &particles.start;
    let keyed = |part: &str| element.channels.keys().any(|path| path.contains(part));
    let stands_turned = element.placement.orientation_rad != Vec3::ZERO
        || element.attached.is_some()
        || element.aim.is_some()
        || keyed("placement.orientation_rad");
    let angular_velocities = start.orientation_variation > 0.0
        || start.angular_speed_rad_s != 0.0
        || keyed(".spin_")
        || keyed(".orientation_variation")
        || particles
            .events
            .iter()
            .any(|b| matches!(&b.action, Action::Split(split) if split.angular_speed_rad_s != 0.0));
    let was_a_body = shot
        .solids()
        .any(|(_, solid)| solid.to_particles.as_ref().is_some_and(|back| back.particles == element.id));
    stands_turned
        || angular_velocities
        || was_a_body
        || shot.particles().any(|(_, of)| of.makes().any(|id| id == element.id))
}

/// Elements whose particles carry a value from birth: by their own emission, or from a particle that became one of theirs.
fn inherited(shot: &Shot, carries: impl Fn(&Particles) -> bool) -> BTreeSet<Id> {
    let own = shot.particles().filter(|(_, particles)| carries(particles));
    let mut found: Vec<Id> = own.map(|(element, _)| element.id).collect();
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

impl ParticleSolver {
    fn system(&self, id: Id) -> Option<usize> {
        self.systems.iter().position(|system| system.id == id)
    }

    /// Adds the impulses of contacts on bodies to the exchange.
    fn owe(&mut self, step: &Step, touches: &[ParticleContact]) {
        for touch in touches.iter().filter(|touch| touch.impulse != Vec3::ZERO) {
            let body = step.colliders.list()[touch.body as usize].now;
            self.exchange.impulses.push(Impulse {
                element: body.element,
                copy: body.copy,
                at: touch.at,
                impulse: touch.impulse,
            });
        }
    }
}

impl ParticleSystem {
    /// Makes particles stick or die at their contacts; marks those that die.
    fn settle(
        &mut self,
        step: &Step,
        particles: &Particles,
        touches: &[ParticleContact],
        marked: &mut [bool],
    ) {
        let outcome = particles.contact.outcome;
        // A liquid clings by its viscosity, not particle by particle.
        let sticks = outcome == ContactOutcome::Stick && particles.liquid.is_none();
        if !sticks && outcome != ContactOutcome::Die {
            return;
        }
        for touch in touches {
            let i = touch.index as usize;
            let id = self.set.ids[i];
            let does = hash::ParticleHash::new(particles.seed, id, hash::Purpose::Contact, 0).unit()
                < particles.contact.probability;
            if !does || self.set.rest.stuck.contains_key(&id) {
                continue;
            }
            if outcome == ContactOutcome::Die {
                marked[i] = true;
                continue;
            }
            let body = &step.colliders.list()[touch.body as usize];
            let own = self.set.orientations.get(i).copied().unwrap_or(Quat::IDENTITY);
            self.set.rest.stuck.insert(id, Stuck::to(body, self.set.positions[i], own));
        }
    }

    /// Moves stuck particles with their bodies.
    fn keep_stuck(&mut self, step: &Step) {
        if self.set.rest.stuck.is_empty() {
            return;
        }
        let list = step.colliders.list().iter();
        let bodies: BTreeMap<(Id, u32), &Collider> =
            list.map(|body| ((body.now.element, body.now.copy), body)).collect();
        let stuck: Vec<(u32, Stuck)> = self.set.rest.stuck.iter().map(|(id, stuck)| (*id, *stuck)).collect();
        for (id, stuck) in stuck {
            let (Some(i), Some(body)) = (self.set.find(id), bodies.get(&(stuck.element, stuck.copy))) else {
                continue;
            };
            let Some((at, orientation)) = stuck.at(body) else { continue };
            self.set.velocities[i] = (at - self.set.positions[i]) / step.dt.max(1e-9);
            if !step.colliders.any_move() {
                self.set.velocities[i] = Vec3::ZERO;
            }
            self.set.positions[i] = at;
            if let Some(own) = self.set.orientations.get_mut(i) {
                *own = orientation;
                self.set.angular_velocities[i] = Vec3::ZERO;
            }
        }
    }
}

impl Solver for ParticleSolver {
    fn step(&mut self, step: &Step) -> Result<(), BlowUp> {
        let crowds: Vec<Vec<Vec3>> = self
            .systems
            .iter()
            .map(|system| {
                let asked = step
                    .shot
                    .particles()
                    .any(|(_, other)| matches!(other.source, Source::Particles { particles } if particles == system.id));
                if asked { system.set.positions.clone() } else { Vec::new() }
            })
            .collect();
        let mut all_touches: Vec<Vec<ParticleContact>> = Vec::with_capacity(self.systems.len());
        let mut marks: Vec<Vec<bool>> = Vec::with_capacity(self.systems.len());
        let members: Vec<Option<(&Element, &Particles)>> = self
            .systems
            .iter()
            .map(|system| step.shot.element(system.id).and_then(|e| Some((e, e.as_particles()?))))
            .collect();
        let mut births: Vec<Vec<f32>> = Vec::with_capacity(self.systems.len());
        let mut liquids = Vec::new();
        for (i, member) in members.iter().enumerate() {
            let system = &mut self.systems[i];
            let Some((element, particles)) = *member else {
                births.push(Vec::new());
                continue;
            };
            system.now_s = step.seconds as f32;
            births.push(system.give_birth(step, &self.meshes, &crowds)?);
            system.steer(step, particles);
            if let Some(liquid) = &particles.liquid {
                let newborn = std::mem::take(&mut births[i]);
                liquids.push(Flowing { system: i, element, particles, liquid, newborn });
            }
        }
        let mut flowed: BTreeMap<usize, Travelled> = self.flow(step, liquids)?.into_iter().collect();
        for (i, member) in members.iter().enumerate() {
            let system = &mut self.systems[i];
            let Some((element, particles)) = *member else {
                all_touches.push(Vec::new());
                marks.push(Vec::new());
                continue;
            };
            let left = &births[i];
            let old = system.set.len() - left.len();
            let carried = particles.carried.as_ref();
            let carrier =
                carried.and_then(|of| step.liquids.iter().find(|liquid| liquid.element == of.liquid));
            let travelled = match (&particles.liquid, carried.zip(carrier)) {
                (Some(_), _) => flowed.remove(&i).unwrap_or_default(),
                (None, Some(by)) => system.travel_carried(step, (element, particles), by, left)?,
                (None, None) => {
                    let mut travelled = system.travel(step, element, particles, 0..old, None)?;
                    let newborn =
                        system.travel(step, element, particles, old..old + left.len(), Some(left))?;
                    travelled.touches.extend(newborn.touches);
                    travelled.any_gone |= newborn.any_gone;
                    system.keep_apart(step, particles);
                    travelled
                }
            };
            system.angular_velocity(step.dt);
            let n = system.set.len();
            let dies = !travelled.touches.is_empty() && particles.contact.outcome == ContactOutcome::Die;
            let mut marked = Vec::new();
            if travelled.any_gone || dies || !particles.events.is_empty() {
                let (now, world_m) = (step.seconds as f32, step.shot.physics.world_m);
                marked.resize(n, false);
                for i in 0..n {
                    marked[i] = system.set.ends_s[i] <= now || system.set.positions[i].length() > world_m;
                }
            }
            system.settle(step, particles, &travelled.touches, &mut marked);
            system.keep_stuck(step);
            self.owe(step, &travelled.touches);
            all_touches.push(travelled.touches);
            marks.push(marked);
        }
        self.become_others(step, &all_touches, &mut marks)?;
        self.add_spawned(step)?;
        for (system, marked) in self.systems.iter_mut().zip(&mut marks) {
            if marked.iter().any(|&m| m) {
                marked.resize(system.set.len(), false);
                system.set.remove(marked);
            }
        }
        Ok(())
    }

    fn pose(&self, _: Id) -> Option<Pose> {
        None
    }

    fn take_exchange(&mut self) -> Exchange {
        std::mem::take(&mut self.exchange)
    }

    fn receive(&mut self, _: &Shot, exchange: &Exchange) {
        self.spawned.extend(&exchange.particles);
    }

    fn liquids(&self, shot: &Shot, out: &mut Vec<Carrier>) {
        let wanted: BTreeSet<Id> = shot.particles().flat_map(|(_, particles)| particles.liquids()).collect();
        for system in self.systems.iter().filter(|system| wanted.contains(&system.id)) {
            let liquid = shot.element(system.id).and_then(|e| e.as_particles()?.liquid.as_ref());
            let Some(liquid) = liquid else { continue };
            let set = &system.set;
            let columns = (set.ids.clone(), set.positions.clone(), set.velocities.clone());
            out.push(Carrier::new(system.id, liquid.spacing_m, columns));
        }
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
        frame.measured.events.append(&mut self.events);
        for system in &mut self.systems {
            let set = &mut system.set;
            let now = system.now_s;
            let rest = &mut set.rest;
            let turnover = Turnover { alive: set.ids.len() as u32, born: rest.born, gone: rest.gone };
            (rest.born, rest.gone) = (0, 0);
            // Particles that have not begun are left out, so that frames do not depend on
            // elements that begin later.
            if set.rest.next_id == 0 {
                continue;
            }
            frame.measured.turnover.insert(system.id, turnover);
            if let Some(measure) = system.measure.take() {
                frame.measured.liquids.insert(system.id, measure);
            }
            let any_turned = set.orientations.iter().any(|orientation| *orientation != Quat::IDENTITY);
            let any_weighed = set.weights.iter().any(|weight| *weight != 1.0);
            frame.particles.insert(
                system.id,
                frames::Particles {
                    ids: set.ids.clone(),
                    positions: set.positions.clone(),
                    velocities: set.velocities.clone(),
                    sizes: set.sizes.clone(),
                    ages: set.born_s.iter().map(|born| (now - born).max(0.0)).collect(),
                    lifespans: set.born_s.iter().zip(&set.ends_s).map(|(born, end)| end - born).collect(),
                    orientations: if any_turned { set.orientations.clone() } else { Vec::new() },
                    weights: if any_weighed { set.weights.clone() } else { Vec::new() },
                    uvs: set.uvs.clone(),
                    pressures: set.pressures_now(),
                },
            );
        }
    }

    fn save(&self) -> SavedPart {
        let mut bytes = Vec::with_capacity(written(|out| self.write_state(out)));
        self.write_state(&mut bytes).expect("memory takes it");
        Box::new(move || bytes)
    }

    fn write_state(&self, out: &mut dyn Write) -> io::Result<()> {
        let handed = postcard::to_stdvec(&self.handed_over).expect("it serialises");
        out.write_all(&(handed.len() as u64).to_le_bytes())?;
        out.write_all(&handed)?;
        for system in &self.systems {
            out.write_all(&system.id.0.to_le_bytes())?;
            out.write_all(&system.now_s.to_le_bytes())?;
            system.set.save(out)?;
        }
        Ok(())
    }

    fn restore(&mut self, bytes: Option<&[u8]>) -> Result<(), PrepareError> {
        let broken = || PrepareError::State("it ends early".to_owned());
        // Elements without a saved state begin later.
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
            let set = ParticleSet::restore(&mut rest)?;
            // Saved elements that the shot no longer has had not begun.
            let Some(i) = self.system(Id(u32::from_le_bytes(*id))) else { continue };
            let system = &mut self.systems[i];
            system.now_s = f32::from_le_bytes(*now);
            system.set = set.with_columns(system.columns)?;
        }
        Ok(())
    }
}
