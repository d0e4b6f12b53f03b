//! Emission: number, time, position and initial state of the particles born in a substep.

mod hits;
mod periodic;
mod released;
mod seam;
mod sites;
mod vertex_weights;

pub(super) use seam::Seam;
pub(super) use sites::{EmissionSites, filled_solid, fills, per_emitted};
pub(super) use vertex_weights::{KeptSurface, needs_vertex_weights};

use super::ParticleSystem;
use super::hash::{ParticleHash, Purpose};
use super::particle_set::Newborn;
use crate::colliders::{BodyState, Collider};
use crate::forces::Weight;
use crate::{BlowUp, Step};
use geometry::{Image, Meshes, Site};
use glam::{Quat, Vec2, Vec3};
use shot::{
    Element, Id, MAX_PARTICLES, Shot,
    particles::{Direction, EmissionMap, EmissionSchedule, MapSource, Particles, Source},
    world::{Pose, World},
};
use sites::{area_m2, filled, on_mesh};
use std::borrow::Cow;
use std::f32::consts::PI;

/// Greatest speed at which a flow leaves its source, m/s.
const MAX_FLOW_SPEED: f32 = 1_000.0;

/// When births begin and end, in seconds of the world's time.
fn span(step: &Step, particles: &Particles) -> (f64, f64) {
    let timing = step.shot.timing;
    let first = f64::from(timing.first);
    let seconds = |frame: u32| (step.sampler.world_frame(f64::from(frame)) - first) / f64::from(timing.fps);
    let births = &particles.emission;
    let preroll_s = if step.shot.initial_state.is_some() { 0.0 } else { births.preroll_s };
    let from = births.from_frame.map_or(-f64::from(preroll_s), seconds);
    (from, seconds(births.to_frame.unwrap_or(timing.last)).max(from))
}

/// Whether the substep is in the frames of births.
fn within_span(step: &Step, particles: &Particles) -> bool {
    let births = &particles.emission;
    let frame = step.shot.timing.step_in_round(step.frame);
    births.from_frame.is_none_or(|from| frame > f64::from(from))
        && births.to_frame.is_none_or(|to| frame <= f64::from(to))
}

/// Number of particles that a rate has emitted from its beginning until `seconds` of the world.
fn given(step: &Step, element: &Element, amounts: Amounts, from: f64, to: f64, seconds: f64) -> f64 {
    let at = |seconds: f64| step.sampler.elapsed(element, Vec3::NEG_Y, seconds).emitted;
    amounts.per_emitted * (at(seconds.clamp(from, to)) - at(from))
}

/// What the numbers of an emission depend on beside its schedule.
#[derive(Clone, Copy)]
struct Amounts {
    /// Number that come at once, of a schedule that gives all at once.
    at_once: u64,
    /// Particles for one unit of what a rate adds up.
    per_emitted: f64,
}

/// A birth in a substep.
struct Birth {
    /// Its number, on which its random choices depend. In a shot that goes round, births of
    /// every round have the same.
    number: u64,
    /// Fraction of the substep that has passed.
    fraction: f32,
}

/// The births of a substep, `before` of which were before it. Those of a number are exact,
/// whatever the steps: the k-th of n comes at (k + ½) / n of the span.
fn due(
    step: &Step,
    element: &Element,
    particles: &Particles,
    before: u64,
    amounts: Amounts,
) -> Result<Vec<Birth>, u64> {
    let (start, end) = (step.seconds - f64::from(step.dt), step.seconds);
    let fraction = |at: f64| (((at - start) / f64::from(step.dt).max(1e-12)) as f32).clamp(0.0, 1.0);
    let list = |until: u64, time: &dyn Fn(u64) -> f64| {
        let due = until.saturating_sub(before);
        if due > MAX_PARTICLES as u64 {
            return Err(due);
        }
        Ok((before..before + due).map(|number| Birth { number, fraction: fraction(time(number)) }).collect())
    };
    if let Some(period) = step.sampler.round_s() {
        return periodic::due(step, element, particles, period, before, amounts, fraction);
    }
    let (from, to) = span(step, particles);
    match particles.emission.schedule {
        EmissionSchedule::Never {} | EmissionSchedule::Released {} => Ok(Vec::new()),
        EmissionSchedule::Burst { .. } | EmissionSchedule::Fill {} => {
            let until = if before == 0 && end >= from { amounts.at_once } else { before };
            list(until, &|_| from)
        }
        EmissionSchedule::Total { count } => {
            let n = f64::from(count);
            let until = if to > from {
                (n * ((end - from) / (to - from)).clamp(0.0, 1.0) + 0.5).floor() as u64
            } else if end >= from {
                u64::from(count)
            } else {
                0
            };
            list(until, &|k| from + (k as f64 + 0.5) / n * (to - from))
        }
        EmissionSchedule::Rate { .. } | EmissionSchedule::Flow { .. } | EmissionSchedule::Jet {} => {
            let total = |seconds| given(step, element, amounts, from, to, seconds);
            let (low, high) = (total(start), total(end));
            let until = (high + 0.5).floor().max(0.0) as u64;
            let passed = |k: u64| (k as f64 + 0.5 - low) / (high - low).max(1e-12);
            list(until, &|k| start + passed(k) * f64::from(step.dt))
        }
    }
}

/// A place to be born at, with the way out of the surface, the velocity of the
/// source, and the weight of the map there.
struct Spot {
    position: Vec3,
    normal: Vec3,
    velocity: Vec3,
    weight: f32,
    uv: Vec2,
}

/// What says how likely a place is.
#[derive(Clone, Copy)]
struct Likely<'a> {
    region: Option<&'a Weight>,
    map: Option<&'a EmissionMap>,
    image: Option<&'a Image>,
}

impl Likely<'_> {
    /// Whether something takes places away.
    fn chooses(&self) -> bool {
        self.region.is_some() || self.map.is_some_and(|map| !map.uniform_births)
    }

    fn weight(&self, site: &Site) -> f32 {
        let Some(map) = self.map else { return 1.0 };
        let weight = match map.source {
            MapSource::Image { .. } => self.image.map_or(0.0, |image| image.brightness(site.uv)),
            MapSource::Vertices {} | MapSource::Map { .. } | MapSource::Quantity { .. } => site.weight,
        };
        if map.inverted { 1.0 - weight } else { weight }
    }

    /// How likely a birth is at a place where the map has `weight`.
    fn at(&self, position: Vec3, weight: f32) -> f32 {
        let by_map = if self.map.is_some_and(|map| !map.uniform_births) { weight } else { 1.0 };
        by_map * self.region.map_or(1.0, |region| region.at(position))
    }
}

/// A body or curve that emits, at both ends of a substep.
struct Stand<'a> {
    before: Pose,
    now: Pose,
    scale: f32,
    /// A body that changes its shape in the substep.
    deforming: Option<&'a Collider>,
}

impl Stand<'_> {
    fn at(&self, fraction: f32) -> Pose {
        (self.before.0.lerp(self.now.0, fraction), self.before.1.slerp(self.now.1, fraction))
    }
}

impl ParticleSystem {
    /// Remembers the poses of the element and its curve before the first substep.
    pub(super) fn stand(&mut self, world: &World) {
        let shot = world.shot();
        let Some(element) = shot.element(self.id) else { return };
        let rest = &mut self.set.rest;
        rest.stood.get_or_insert_with(|| world.pose(element));
        if let Some(Source::Curve { curve }) = element.as_particles().map(|particles| &particles.source)
            && rest.curve_stood.is_none()
        {
            rest.curve_stood = shot.element(*curve).map(|curve| world.pose(curve));
        }
    }

    /// Appends the particles born in a substep; returns for each the fraction of the
    /// substep that remains.
    pub(super) fn give_birth(
        &mut self,
        step: &Step,
        meshes: &Meshes,
        others: &[Vec<Vec3>],
    ) -> Result<Vec<f32>, BlowUp> {
        let Some(element) = step.shot.element(self.id) else { return Ok(Vec::new()) };
        let Some(particles) = element.as_particles() else { return Ok(Vec::new()) };
        let particles = &*self.with_speed_of_flow(particles);
        let solved = |id: Id, _: f64| step.colliders.solved(id);
        let world = World::new(step.shot, step.sampler, step.acting, &solved);
        let own = world.pose(element);
        let before = self.set.rest.stood.replace(own).unwrap_or(own);
        let curve = match particles.source {
            Source::Curve { curve } => step.shot.element(curve).map(|curve| world.pose(curve)),
            _ => None,
        };
        let curve_before = self.set.rest.curve_stood;
        self.set.rest.curve_stood = curve;
        if let Source::Impacts { bodies, impulse_n_s } = &particles.source {
            return self.born_of_impacts(step, particles, bodies, *impulse_n_s, own);
        }
        let region = particles.emission.region.and_then(|id| {
            Weight::new(&world, step.shot, step.surfaces, step.shot.element(id)?, step.seconds)
        });
        if let Source::Liquid { .. } = particles.source {
            return self.born_of_liquid(step, particles, region.as_ref(), own);
        }
        let broken: Vec<&BodyState> = match &particles.source {
            Source::Broken { solid, .. } if within_span(step, particles) => {
                step.colliders.broken.iter().filter(|body| body.element == *solid).collect()
            }
            _ => Vec::new(),
        };
        let births = match particles.source {
            Source::Broken { .. } => Ok(Vec::new()),
            _ => {
                let amounts = self.amounts(step, particles, meshes);
                due(step, element, particles, self.set.rest.given, amounts)
            }
        };
        let births = births.or_else(|due| self.bound(step, due).map(|()| Vec::new()))?;
        if births.is_empty() && broken.is_empty() {
            return Ok(Vec::new());
        }
        let due = births.len() as u64;
        self.bound(step, due)?;
        let stands: Vec<Stand> = match &particles.source {
            Source::Solid { solid, .. } => step
                .colliders
                .of(*solid)
                .map(|body| Stand {
                    before: body.before,
                    now: body.now.pose,
                    scale: body.now.scale,
                    deforming: body.deforms().then_some(body),
                })
                .collect(),
            Source::Curve { .. } => {
                let now = curve.unwrap_or(own);
                vec![Stand { before: curve_before.unwrap_or(now), now, scale: 1.0, deforming: None }]
            }
            _ => vec![Stand { before, now: own, scale: 1.0, deforming: None }],
        };
        let crowd: &[Vec3] = match particles.source {
            Source::Particles { particles: crowd } => {
                self.order.iter().position(|id| *id == crowd).map_or(&[], |i| &others[i][..])
            }
            _ => &[],
        };
        if let Source::Seam { .. } = particles.source {
            let (from, to) = span(step, particles);
            let left = self.born_on_seam(step, &world, particles, &births, to - from, meshes);
            self.set.rest.given += due;
            return Ok(left);
        }
        let deformed = stands.iter().find_map(|stand| stand.deforming?.deformed());
        match self.weighted_mesh(step, &world, particles, meshes, deformed.as_ref()) {
            Some(mesh) => self.born_on(particles, &mesh),
            None => self.find_places(step.shot, particles, meshes, deformed),
        }
        let map = particles.emission.map.as_ref();
        let image = map.and_then(|map| match &map.source {
            MapSource::Image { asset } => meshes.images.get(asset),
            MapSource::Vertices {} | MapSource::Map { .. } | MapSource::Quantity { .. } => None,
        });
        let likely = Likely { region: region.as_ref(), map, image: image.map(|image| &**image) };
        let mut left = Vec::with_capacity(births.len());
        for Birth { number: k, fraction } in births {
            let mut hash = ParticleHash::new(particles.seed, k as u32, Purpose::Birth, 0);
            if step.sampler.round_s().is_some() {
                self.set.rest.spread = k as u32;
            }
            let found =
                self.position(particles, &stands, crowd, k as u32, fraction, step.dt, likely, &mut hash);
            let Some(Spot { position, normal, velocity, weight, uv }) = found else { continue };
            let orientation = before.1.slerp(own.1, fraction);
            let born_s = (step.seconds - f64::from(step.dt * (1.0 - fraction))) as f32;
            let newborn = Newborn {
                weight,
                uv,
                ..start(particles, (position, orientation), normal, velocity, born_s, &mut hash)
            };
            self.set.push(&newborn, self.columns);
            left.push(1.0 - fraction);
        }
        self.set.rest.given += due;
        self.drop_filled(particles);
        for body in broken {
            left.extend(self.born_of_broken(step, particles, body, own, likely)?);
        }
        Ok(left)
    }

    /// The particles with the speed at birth at which a flow passes the area of its source.
    fn with_speed_of_flow<'a>(&self, particles: &'a Particles) -> Cow<'a, Particles> {
        let (EmissionSchedule::Flow { m3_s }, Some(of), Some(liquid)) =
            (particles.emission.schedule, &self.positions, &particles.liquid)
        else {
            return Cow::Borrowed(particles);
        };
        let area = area_m2(particles, &of.sites, liquid.spacing_m).max(1e-12);
        let mut particles = particles.clone();
        particles.start.speed_m_s = ((f64::from(m3_s) / area) as f32).min(MAX_FLOW_SPEED);
        Cow::Owned(particles)
    }

    /// What the numbers of the emission depend on beside its schedule.
    fn amounts(&mut self, step: &Step, particles: &Particles, meshes: &Meshes) -> Amounts {
        let per_emitted = self.positions.as_ref().map_or(1.0, |of| per_emitted(particles, &of.sites));
        let at_once = match particles.emission.schedule {
            EmissionSchedule::Burst { count } => u64::from(count),
            EmissionSchedule::Fill {} if self.set.rest.given == 0 => {
                let solid =
                    if let Source::Solid { solid, .. } = particles.source { Some(solid) } else { None };
                let bodies = || step.colliders.of(solid.unwrap_or(self.id));
                let deformed = bodies().find_map(|body| if body.deforms() { body.deformed() } else { None });
                let stands = if solid.is_some() { bodies().count() } else { 1 };
                self.find_places(step.shot, particles, meshes, deformed);
                let places = self.positions.as_ref().map_or(0.0, |of| of.sites.whole());
                stands as u64 * places as u64
            }
            EmissionSchedule::Fill {} => {
                self.drop_filled(particles);
                0
            }
            _ => 0,
        };
        Amounts { at_once, per_emitted }
    }

    /// Drops the emission sites of a fill: all are taken, and they need half as much memory as its particles.
    fn drop_filled(&mut self, particles: &Particles) {
        if let EmissionSchedule::Fill {} = particles.emission.schedule {
            self.positions = None;
        }
    }

    /// Refuses more particles than an element may have.
    pub(super) fn bound(&self, step: &Step, more: u64) -> Result<(), BlowUp> {
        let wanted = self.set.len() as u64 + more;
        if wanted <= MAX_PARTICLES as u64 {
            return Ok(());
        }
        Err(BlowUp {
            frame: step.frame_number(),
            element: self.id,
            name: self.name.clone(),
            what: super::too_many(wanted as f64),
        })
    }

    /// Computes the emission sites on a mesh that is another one in every substep.
    fn born_on(&mut self, particles: &Particles, mesh: &geometry::Mesh) {
        if let Source::Solid { domain, .. } = &particles.source {
            self.positions =
                Some(EmissionSites { of: String::new(), sites: on_mesh(mesh, *domain, particles) });
        }
    }

    /// Computes the emission sites if the emitting geometry has changed.
    fn find_places(
        &mut self,
        shot: &Shot,
        particles: &Particles,
        meshes: &Meshes,
        deformed: Option<geometry::Mesh>,
    ) {
        if let Some(mesh) = deformed {
            self.born_on(particles, &mesh);
        } else if matches!(particles.source, Source::Pool {}) {
            // Found when the run was prepared.
        } else if self
            .positions
            .as_ref()
            .is_none_or(|positions| positions.of != EmissionSites::named(shot, particles))
        {
            self.positions = Some(EmissionSites::find(shot, particles, meshes));
        }
    }

    /// Place, way out and velocity of the source for the k-th birth.
    fn position(
        &mut self,
        particles: &Particles,
        stands: &[Stand],
        crowd: &[Vec3],
        k: u32,
        fraction: f32,
        dt: f32,
        likely: Likely,
        hash: &mut ParticleHash,
    ) -> Option<Spot> {
        /// Tries to find a place where a region or map has weight.
        const TRIES: u32 = 256;
        let fills = filled(particles).is_some();
        let on_grid = matches!(particles.source, Source::Grid { .. }) || fills;
        // A total on a curve is spread evenly, unless a region or map rejects sites.
        let of = match particles.emission.schedule {
            EmissionSchedule::Total { count } | EmissionSchedule::Burst { count } if !likely.chooses() => {
                Some(count)
            }
            _ => None,
        };
        for _ in 0..TRIES {
            if let Source::Particles { .. } = particles.source {
                let i = (hash.unit() * crowd.len() as f32) as usize;
                let at = *crowd.get(i.min(crowd.len().checked_sub(1)?))?;
                if likely.region.is_none_or(|region| region.at(at) > hash.unit()) {
                    return Some(Spot {
                        position: at,
                        normal: Vec3::ZERO,
                        velocity: Vec3::ZERO,
                        weight: 1.0,
                        uv: Vec2::ZERO,
                    });
                }
                continue;
            }
            let stand = match stands.len() {
                0 => return None,
                1 => &stands[0],
                // One after the other is filled.
                n if fills => {
                    let places = self.positions.as_ref()?.sites.whole().max(1.0) as usize;
                    &stands[(k as usize / places).min(n - 1)]
                }
                n => &stands[((hash.unit() * n as f32) as usize).min(n - 1)],
            };
            let sites = &self.positions.as_ref()?.sites;
            let site: Site = if on_grid {
                sites.nth(k as usize)?
            } else if particles.emission.evenly_spaced || particles.liquid.is_some() {
                let next = self.set.rest.spread;
                self.set.rest.spread = next.wrapping_add(1);
                match sites.even(next, of) {
                    Some(site) => site,
                    None => continue,
                }
            } else {
                sites.site([hash.unit(), hash.unit(), hash.unit()], || hash.unit())?
            };
            let (at, orientation) = stand.at(fraction);
            // The site is that of the substep's end; the birth comes before it.
            let way = stand.deforming.map_or(Vec3::ZERO, |body| body.own_way(site.position));
            let local = (site.position - way * (1.0 - fraction)) * stand.scale;
            let position = at + orientation * local;
            let weight = likely.weight(&site);
            if likely.chooses() && likely.at(position, weight) <= hash.unit() {
                if on_grid {
                    return None;
                }
                continue;
            }
            let moved = (stand.now.0 + stand.now.1 * local) - (stand.before.0 + stand.before.1 * local);
            let velocity = (moved + orientation * (way * stand.scale)) / dt.max(1e-9);
            let uv = site.uv;
            return Some(Spot { position, normal: orientation * site.normal, velocity, weight, uv });
        }
        None
    }
}

/// Initial state of a particle at a site of a source with velocity `motion`.
pub(super) fn start(
    particles: &Particles,
    (position, orientation): Pose,
    normal: Vec3,
    motion: Vec3,
    born_s: f32,
    hash: &mut ParticleHash,
) -> Newborn {
    let start = &particles.start;
    let up = orientation * Vec3::Y;
    let way = match start.direction {
        Direction::Up => up,
        Direction::Normal => normal.try_normalize().unwrap_or(up),
        Direction::Motion => motion.try_normalize().unwrap_or(up),
    };
    let direction = Quat::from_rotation_arc(Vec3::Y, way) * hash.cone(start.spread_rad);
    let speed = start.speed_m_s * hash.about(start.speed_variation);
    let life = start.lifespan_s.map_or(f32::INFINITY, |life| life * hash.about(start.lifespan_variation));
    let size_m = match &particles.liquid {
        Some(liquid) => liquid.spacing_m,
        None => (start.size_m * hash.about(start.size_variation)).max(1e-6),
    };
    let radius = 0.5 * size_m;
    let turned = orientation * hash.orientation(start.orientation_variation);
    let angular_velocity =
        hash.direction() * (start.angular_speed_rad_s * hash.about(start.angular_speed_variation));
    Newborn {
        position,
        velocity: direction * speed + motion * start.inherited_velocity,
        size_m,
        mass_kg: match &particles.liquid {
            Some(_) => particles.mass_kg(radius),
            None => (particles.mass_kg(radius) * hash.about(particles.body.mass_variation)).max(1e-15),
        },
        drag_area_m2: particles.body.drag * PI * radius * radius,
        born_s,
        ends_s: born_s + life.max(1e-4),
        orientation: turned,
        angular_velocity,
        weight: 1.0,
        uv: Vec2::ZERO,
    }
}
