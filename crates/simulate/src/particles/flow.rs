//! A substep of particles that are liquids.

use super::contact::met;
use super::matter::{matter_of, properties, rheology};
use super::particle_set::ParticleSet;
use super::travel::Travelled;
use super::{ParticleSolver, ParticleSystem, emission, time_steps};
use crate::colliders::Exchange;
use crate::forces::{Acting, Points};
use crate::liquid::{
    self, Bodies, LiquidParticles, Material, Properties, RELAXED, Rheologies, Rheology, Symmetric,
};
use crate::{BlowUp, Step};
use frames::{Event, LiquidMeasure};
use glam::{Mat3, Vec3};
use rayon::prelude::*;
use shot::{
    Element,
    particles::{ContactOutcome, Liquid, Particles},
};

/// Particles to a block of the force evaluation.
const CHUNK: usize = 1_024;

/// Whether the particles of an element are a liquid that is, or by its keys can become, elastic.
pub(super) fn is_elastic(element: &Element, particles: &Particles) -> bool {
    let keyed =
        |path: &String| path.ends_with("liquid.stiffness_pa") || path.ends_with("liquid.yield_stress_pa");
    let liquid = particles.liquid.as_ref();
    liquid.is_some_and(|liquid| liquid.is_elastic() || element.channels.keys().any(keyed))
}

/// A liquid in a substep, and the fractions of the substep that remain to its new, last particles.
pub(super) struct Flowing<'a> {
    /// Its place among the systems.
    pub system: usize,
    pub element: &'a Element,
    pub particles: &'a Particles,
    pub liquid: &'a Liquid,
    pub newborn: Vec<f32>,
}

/// What decides which liquids share a grid.
#[derive(PartialEq)]
struct GridKey {
    spacing_m: f32,
    met: Vec<bool>,
    pushes: bool,
    pushes_deformables: bool,
}

impl ParticleSolver {
    /// Moves the liquids over a substep: those of one spacing that meet the same bodies in one grid, so that they push each other.
    /// Gives what each met.
    pub(super) fn flow(
        &mut self,
        step: &Step,
        liquids: Vec<Flowing>,
    ) -> Result<Vec<(usize, Travelled)>, BlowUp> {
        // A body that has moved with a load of the substep before gets a load of zero, unless a liquid presses it again.
        for body in step.colliders.list().iter().filter(|body| body.now.by_load != Vec3::ZERO) {
            self.exchange.body_loads.insert((body.now.element, body.now.copy), [Vec3::ZERO; 2]);
        }
        let mut groups: Vec<(GridKey, Vec<Flowing>)> = Vec::new();
        for flowing in liquids {
            let Flowing { particles, liquid, .. } = &flowing;
            let mut met = met(step, &particles.contact);
            let filled = emission::filled_solid(particles);
            for (met, body) in met.iter_mut().zip(step.colliders.list()) {
                *met &= particles.contact.enabled && Some(body.now.element) != filled;
            }
            let key = GridKey {
                spacing_m: liquid.spacing_m,
                met,
                pushes: particles.contact.push,
                pushes_deformables: particles.contact.push_deformables,
            };
            match groups.iter_mut().find(|(of, _)| *of == key) {
                Some((_, members)) => members.push(flowing),
                None => groups.push((key, vec![flowing])),
            }
        }
        let mut travelled = Vec::new();
        for (key, members) in groups {
            travelled.extend(self.flow_together(step, key, members)?);
        }
        Ok(travelled)
    }

    fn flow_together(
        &mut self,
        step: &Step,
        GridKey { spacing_m, met, pushes, pushes_deformables }: GridKey,
        mut members: Vec<Flowing>,
    ) -> Result<Vec<(usize, Travelled)>, BlowUp> {
        let cell_m = 2.0 * spacing_m;
        let mut boundary = Bodies { pushes, ..Bodies::unpushed(step.colliders, &met, cell_m) };
        if pushes_deformables {
            boundary.add_surfaces();
        }
        for member in &mut members {
            let system = &mut self.systems[member.system];
            member.newborn = system.drop_enclosed(&boundary, &member.newborn);
        }
        let systems = &mut self.systems;
        members.retain(|member| systems[member.system].set.len() > 0);
        if members.is_empty() || step.dt <= 0.0 {
            add_loads(&mut self.exchange, &boundary);
            return Ok(Vec::new());
        }
        let columns = members.iter().map(|member| &systems[member.system].set);
        let columns = columns.map(|set| (&set.positions[..], &set.velocities[..]));
        let speed = time_steps::speed(columns, cell_m, step.dt);
        let steps = members
            .iter()
            .map(|member| time_steps::of_waves(member.liquid, step.dt))
            .fold(time_steps::at(speed, step.dt, cell_m), u32::max);
        let dt = step.dt / steps as f32;
        if let Some(more) = time_steps::more_substeps(speed, step.dt, cell_m) {
            let substeps = (step.shot.physics.substeps as f32 * more).ceil() as u32;
            let element = systems[members[0].system].id;
            add_event(&mut self.events, Event::LiquidTooFast { element, speed_m_s: speed, substeps });
        }
        let systems = &mut self.systems;
        // In one step the displacements tell all; in several the particles move from one to the next.
        let mut starts: Vec<Vec<Vec3>> = match steps {
            1 => Vec::new(),
            _ => members.iter().map(|member| systems[member.system].set.positions.clone()).collect(),
        };
        let mut displacements = Vec::new();
        let acting: Vec<Acting> =
            members.iter().map(|member| step.field.acting(systems[member.system].id)).collect();
        // Bodies that are still are kept with the first.
        let first = members[0].system;
        let mut cache = std::mem::take(&mut systems[first].still_body_cache);
        let mut settled = Vec::new();
        for at in 1..=steps {
            let is_last = at == steps && step.ends_frame();
            boundary.unload(at as f32 / steps as f32);
            for (member, acting) in members.iter().zip(&acting) {
                systems[member.system].accelerate(acting, dt);
            }
            let mut columns = Columns::gather(systems, &members);
            let (rheologies, each) = columns.matter(systems, &members, step);
            let material = Material {
                spacing_m,
                rheologies: match &rheologies[..] {
                    [] => Rheologies::Same(rheology(members[0].liquid)),
                    each => Rheologies::Each(each),
                },
                properties: properties(members[0].liquid),
                each: &each,
            };
            let particles = LiquidParticles {
                positions: &columns.positions,
                velocities: &mut columns.velocities,
                gradients: &mut columns.gradients,
                deformations: &mut columns.deformations,
            };
            // Within the pool, where many small parallel loops cost little.
            let flow =
                rayon::scope(|_| liquid::flow(particles, &material, dt, &boundary, &mut cache, is_last));
            let flow = flow.map_err(|error| BlowUp {
                frame: step.frame_number(),
                element: systems[first].id,
                name: systems[first].name.clone(),
                what: error.to_string(),
            })?;
            boundary.add_impulses(&flow.impulses);
            boundary.push_surfaces(&flow.surface_impulses);
            settled = flow.beside_bodies;
            if flow.solved.is_poor() {
                let (element, residual) = (systems[first].id, flow.solved.residual as f32);
                add_event(&mut self.events, Event::NotConverged { element, residual });
            }
            displacements = flow.displacements;
            if steps > 1 {
                let pairs = columns.positions.par_iter_mut().zip(&displacements);
                pairs.for_each(|(position, by)| *position += *by);
            }
            columns.scatter(systems, &members);
            if is_last {
                let measure = LiquidMeasure {
                    volume_kept: flow.volume_kept,
                    divergence_1_s: flow.solved.divergence_1_s as f32,
                    steps,
                };
                let mut pressures = &flow.pressures[..];
                for member in &members {
                    let system = &mut systems[member.system];
                    let (own, after) = pressures.split_at(system.set.len());
                    (system.set.pressures, pressures) = (own.to_vec(), after);
                    system.measure = Some(measure);
                }
            }
        }
        let systems = &mut self.systems;
        systems[first].still_body_cache = cache;
        add_loads(&mut self.exchange, &boundary);
        let mut settled = &settled[..];
        let pushed = boundary.pushed();
        let step = &Step { colliders: pushed.as_ref().unwrap_or(step.colliders), ..*step };
        let mut travelled = Vec::new();
        for (at, member) in members.iter().enumerate() {
            let system = &mut self.systems[member.system];
            let n = system.set.len();
            let ways = if steps > 1 {
                let start = std::mem::take(&mut starts[at]);
                // The buffer of the ends becomes that of the ways.
                let mut ways = std::mem::replace(&mut system.set.positions, start);
                ways.par_iter_mut().zip(&system.set.positions).for_each(|(end, start)| *end -= *start);
                ways
            } else {
                let after = displacements.split_off(n);
                let mut ways = std::mem::replace(&mut displacements, after);
                // As positions can hold them, as in several steps.
                let pairs = ways.par_iter_mut().zip(&system.set.positions);
                pairs.for_each(|(way, start)| *way = (*start + *way) - *start);
                ways
            };
            let (own, after) = settled.split_at(settled.len().min(n));
            settled = after;
            travelled.push((member.system, system.end_flow(step, member, ways, met.clone(), own)?));
        }
        Ok(travelled)
    }
}

/// Adds what a liquid gave to bodies, cloths and soft bodies in a substep, which may be nothing.
fn add_loads(exchange: &mut Exchange, boundary: &Bodies) {
    for (body, [impulse, angular]) in boundary.body_loads() {
        let sum = exchange.body_loads.entry(body).or_default();
        *sum = [sum[0] + impulse, sum[1] + angular];
    }
    for (element, own) in boundary.loads() {
        let sums = exchange.loads.entry(element).or_insert_with(|| vec![Vec3::ZERO; own.len()]);
        sums.iter_mut().zip(own).for_each(|(sum, own)| *sum += own);
    }
}

/// Adds an event unless there is one like it: the first of a frame is told.
fn add_event(events: &mut Vec<Event>, event: Event) {
    let same = |of: &Event| {
        of.element() == event.element() && std::mem::discriminant(of) == std::mem::discriminant(&event)
    };
    if !events.iter().any(same) {
        events.push(event);
    }
}

/// The columns of liquids that share a grid, one after the other.
struct Columns {
    positions: Vec<Vec3>,
    velocities: Vec<Vec3>,
    gradients: Vec<Mat3>,
    deformations: Vec<Symmetric>,
}

impl Columns {
    /// Takes the columns out of the systems.
    fn gather(systems: &mut [ParticleSystem], members: &[Flowing]) -> Self {
        if let [only] = members {
            let set = &mut systems[only.system].set;
            return Self {
                positions: std::mem::take(&mut set.positions),
                velocities: std::mem::take(&mut set.velocities),
                gradients: std::mem::take(&mut set.gradients),
                deformations: std::mem::take(&mut set.deformations),
            };
        }
        let sets = || members.iter().map(|member| &systems[member.system].set);
        let any_elastic = sets().any(|set| !set.deformations.is_empty());
        let deformations = |set: &ParticleSet| match set.deformations.is_empty() {
            true => vec![RELAXED; set.len()],
            false => set.deformations.clone(),
        };
        Self {
            positions: sets().flat_map(|set| &set.positions).copied().collect(),
            velocities: sets().flat_map(|set| &set.velocities).copied().collect(),
            gradients: sets().flat_map(|set| &set.gradients).copied().collect(),
            deformations: if any_elastic { sets().flat_map(deformations).collect() } else { Vec::new() },
        }
    }

    /// Puts them back.
    fn scatter(self, systems: &mut [ParticleSystem], members: &[Flowing]) {
        let Self { positions, velocities, gradients, deformations } = self;
        if let [only] = members {
            let set = &mut systems[only.system].set;
            (set.positions, set.velocities, set.gradients) = (positions, velocities, gradients);
            set.deformations = deformations;
            return;
        }
        let mut from = 0;
        for member in members {
            let set = &mut systems[member.system].set;
            let range = from..from + set.len();
            from = range.end;
            set.positions.copy_from_slice(&positions[range.clone()]);
            set.velocities.copy_from_slice(&velocities[range.clone()]);
            set.gradients.copy_from_slice(&gradients[range.clone()]);
            if !set.deformations.is_empty() {
                set.deformations.copy_from_slice(&deformations[range]);
            }
        }
    }

    /// What each particle is; two empty lists: all are alike.
    fn matter(
        &self,
        systems: &[ParticleSystem],
        members: &[Flowing],
        step: &Step,
    ) -> (Vec<Rheology>, Vec<Properties>) {
        let alike = |other: &Flowing| {
            let (liquid, first) = (other.liquid, members[0].liquid);
            rheology(liquid) == rheology(first) && properties(liquid) == properties(first)
        };
        if members.iter().all(|member| member.liquid.scaled.is_empty() && alike(member)) {
            return (Vec::new(), Vec::new());
        }
        let (mut rheologies, mut each) = (Vec::new(), Vec::new());
        let mut from = 0;
        for member in members {
            let set = &systems[member.system].set;
            let positions = &self.positions[from..from + set.ids.len()];
            from += positions.len();
            let matter = matter_of(positions, &set.weights, step, member.liquid);
            rheologies.extend(matter.iter().map(|(rheology, _)| *rheology));
            each.extend(matter.iter().map(|(_, properties)| *properties));
        }
        // Most of what can differ is the resistance alone.
        if each.iter().all(|properties| *properties == each[0])
            && each.first() == Some(&properties(members[0].liquid))
        {
            each.clear();
        }
        (rheologies, each)
    }
}

impl ParticleSystem {
    /// Meets bodies once on the whole way of a substep, from where the particles are, since bodies too are known at both ends of it.
    fn end_flow(
        &mut self,
        step: &Step,
        member: &Flowing,
        ways: Vec<Vec3>,
        met: Vec<bool>,
        settled: &[bool],
    ) -> Result<Travelled, BlowUp> {
        // What meets a solid goes on along it, unless it ends there: the flow around it is that of the grid.
        let mut particles = member.particles.clone();
        if particles.contact.outcome != ContactOutcome::Die {
            particles.contact.outcome = ContactOutcome::Slide;
        }
        (particles.contact.push, particles.contact.push_deformables) = (false, false);
        let fractions = (!member.newborn.is_empty()).then(|| {
            let mut fractions = vec![1.0; self.set.len() - member.newborn.len()];
            fractions.extend_from_slice(&member.newborn);
            fractions
        });
        let with = (&Acting::default(), met, step.dt);
        let range = 0..self.set.len();
        let velocities = if settled.is_empty() { Vec::new() } else { self.set.velocities.clone() };
        let travelled = self.travel_by(
            step,
            (member.element, &particles),
            with,
            range,
            fractions.as_deref(),
            Some(&ways),
        );
        // In liquid beside a free body the grid has found velocities with those that the body now has. A contact here knows only the
        // velocity that the body had before.
        for (i, _) in settled.iter().enumerate().filter(|(_, settled)| **settled) {
            self.set.velocities[i] = velocities[i];
        }
        travelled
    }

    /// Drops those of the last particles, which are new, that lie within bodies: there is no room for liquid. Gives the fractions
    /// of the substep of those that are left.
    fn drop_enclosed(&mut self, bodies: &Bodies, newborn: &[f32]) -> Vec<f32> {
        let old = self.set.len() - newborn.len();
        let positions = &self.set.positions[old..];
        let enclosed: Vec<bool> =
            positions.par_iter().with_min_len(64).map(|position| bodies.contain(*position)).collect();
        if !enclosed.contains(&true) {
            return newborn.to_vec();
        }
        let mut marked = vec![false; old];
        marked.extend(&enclosed);
        self.set.remove(&marked);
        newborn.iter().zip(&enclosed).filter(|(_, enclosed)| !**enclosed).map(|(left, _)| *left).collect()
    }

    /// Adds what forces change in `dt` seconds to the velocities.
    pub(super) fn accelerate(&mut self, acting: &Acting, dt: f32) {
        if acting.is_empty() {
            return;
        }
        let set = &mut self.set;
        let columns = (
            set.positions.par_chunks(CHUNK),
            set.velocities.par_chunks_mut(CHUNK),
            set.inverse_masses.par_chunks(CHUNK),
            set.drag_areas.par_chunks(CHUNK),
        );
        columns.into_par_iter().for_each(|(positions, velocities, inverse_masses, drag_areas)| {
            acting.push(&mut Points { positions, velocities, inverse_masses, drag_areas }, dt);
        });
    }
}
