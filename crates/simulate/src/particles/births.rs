//! How many particles are born in a substep, when, where and with what.

use super::System;
use super::chance::{Chance, For};
use super::swarm::Newborn;
use crate::colliders::BodyNow;
use crate::forces::Weight;
use crate::{BlowUp, Step};
use geometry::{Image, Meshes, Site, Sites};
use glam::{Quat, Vec2, Vec3};
use shot::{
    BirthMap, BornOn, Direction, Element, Id, MAX_PARTICLES, MapOf, Often, Particles, Pose, Shape, Shot,
    Source, World,
};
use std::f32::consts::PI;

/// Where particles can be born, as long as what they are born on stays the same.
pub struct Places {
    /// What it is of, as JSON.
    of: String,
    pub sites: Sites,
}

fn shape_of(shot: &Shot, id: Id) -> Option<&Shape> {
    shot.element(id).and_then(|e| e.as_solid()).map(|solid| &solid.shape)
}

impl Places {
    /// What they are on, as JSON.
    fn named(shot: &Shot, particles: &Particles) -> String {
        match &particles.from {
            Source::Solid { solid, on } | Source::Broken { solid, on } => {
                serde_json::to_string(&(shape_of(shot, *solid), on))
            }
            Source::Curve { curve } => serde_json::to_string(&shot.element(*curve).map(|e| &e.is)),
            from => serde_json::to_string(from),
        }
        .expect("it serialises")
    }

    pub fn find(shot: &Shot, particles: &Particles, meshes: &Meshes) -> Self {
        let on_mesh = |shape: Option<&Shape>, on: BornOn| {
            let mesh = shape.and_then(|shape| meshes.mesh(shape).ok()).unwrap_or_default();
            match on {
                BornOn::Surface => Sites::surface(&mesh),
                BornOn::Edges => Sites::edges(&mesh),
                BornOn::Vertices => Sites::vertices(&mesh),
                BornOn::Volume => Sites::inside(&mesh),
            }
        };
        let sites = match &particles.from {
            Source::Shape { shape, on } => on_mesh(Some(shape), *on),
            Source::Solid { solid, on } | Source::Broken { solid, on } => {
                on_mesh(shape_of(shot, *solid), *on)
            }
            Source::Curve { curve } => match shot.element(*curve).map(|e| &e.is) {
                Some(shot::Is::Curve(curve)) => Sites::line(&curve.strokes()),
                _ => Sites::points([]),
            },
            Source::Grid { count, spacing_m } => Sites::points(grid(*count, *spacing_m)),
            Source::Point {} | Source::Particles { .. } | Source::Impacts { .. } => {
                Sites::points([(Vec3::ZERO, Vec2::ZERO)])
            }
        };
        Self { of: Self::named(shot, particles), sites }
    }
}

/// When births begin and end, in seconds of the world's time.
fn span(step: &Step, particles: &Particles) -> (f64, f64) {
    let timing = step.shot.timing;
    let first = f64::from(timing.first);
    let seconds = |frame: u32| (step.sampler.world_frame(f64::from(frame)) - first) / f64::from(timing.fps);
    let births = &particles.births;
    let from = births.from_frame.map_or(-f64::from(births.preroll_s), seconds);
    (from, seconds(births.to_frame.unwrap_or(timing.last)).max(from))
}

/// Whether the substep is in the frames of births.
fn within_span(step: &Step, particles: &Particles) -> bool {
    let births = &particles.births;
    births.from_frame.is_none_or(|from| step.frame > f64::from(from))
        && births.to_frame.is_none_or(|to| step.frame <= f64::from(to))
}

/// What a rate has given when the world's clock is at `seconds`, from its beginning.
fn given(step: &Step, element: &Element, from: f64, to: f64, seconds: f64) -> f64 {
    let at = |seconds: f64| step.sampler.elapsed(element, Vec3::NEG_Y, seconds).births;
    at(seconds.clamp(from, to)) - at(from)
}

/// The shares of the substep at which particles are born, from the number
/// given before on. Those of a number are exact, whatever the steps: the k-th
/// of n comes at (k + ½) / n of the span.
fn due(step: &Step, element: &Element, particles: &Particles, before: u64) -> (u64, Vec<f32>) {
    let (from, to) = span(step, particles);
    let (start, end) = (step.seconds - f64::from(step.dt), step.seconds);
    let share = |at: f64| (((at - start) / f64::from(step.dt).max(1e-12)) as f32).clamp(0.0, 1.0);
    match particles.births.how {
        Often::Never {} => (0, Vec::new()),
        Often::AtOnce { number } => {
            let due = if before == 0 && end >= from { number } else { 0 };
            (u64::from(due), vec![share(from); due as usize])
        }
        Often::Number { number } => {
            let n = f64::from(number);
            let until = if to > from {
                (n * ((end - from) / (to - from)).clamp(0.0, 1.0) + 0.5).floor() as u64
            } else if end >= from {
                u64::from(number)
            } else {
                0
            };
            let time = |k: u64| from + (k as f64 + 0.5) / n * (to - from);
            let due = until.saturating_sub(before);
            (due, (before..before + due).map(|k| share(time(k))).collect())
        }
        Often::Rate { .. } => {
            let total = |seconds| given(step, element, from, to, seconds);
            let (low, high) = (total(start), total(end));
            let until = (high + 0.5).floor().max(0.0) as u64;
            let due = until.saturating_sub(before);
            if due > MAX_PARTICLES as u64 {
                return (due, Vec::new());
            }
            let at = |k: u64| (((k as f64 + 0.5 - low) / (high - low).max(1e-12)) as f32).clamp(0.0, 1.0);
            (due, (before..before + due).map(at).collect())
        }
    }
}

/// A place to be born at, with the way out of the surface, the velocity of the
/// source, and the weight of the map there.
struct Spot {
    place: Vec3,
    normal: Vec3,
    velocity: Vec3,
    weight: f32,
}

/// What says how likely a place is.
#[derive(Clone, Copy)]
struct Likely<'a> {
    region: Option<&'a Weight>,
    map: Option<&'a BirthMap>,
    image: Option<&'a Image>,
}

impl Likely<'_> {
    /// Whether something takes places away.
    fn chooses(&self) -> bool {
        self.region.is_some() || self.map.is_some_and(|map| !map.all_alike)
    }

    fn weight(&self, site: &Site) -> f32 {
        let Some(map) = self.map else { return 1.0 };
        let weight = match map.of {
            MapOf::Image { .. } => self.image.map_or(0.0, |image| image.brightness(site.uv)),
            MapOf::Vertices {} => site.weight,
        };
        if map.dark { 1.0 - weight } else { weight }
    }

    /// How likely a birth is at a place where the map has `weight`.
    fn at(&self, place: Vec3, weight: f32) -> f32 {
        let by_map = if self.map.is_some_and(|map| !map.all_alike) { weight } else { 1.0 };
        by_map * self.region.map_or(1.0, |region| region.at(place))
    }
}

/// A thing that particles are born on, over a substep.
struct Stand {
    before: Pose,
    now: Pose,
    scale: f32,
}

impl Stand {
    fn at(&self, share: f32) -> Pose {
        (self.before.0.lerp(self.now.0, share), self.before.1.slerp(self.now.1, share))
    }
}

impl System {
    /// Notes where the element and its curve stand, if no substep has done so.
    pub(super) fn stand(&mut self, world: &World) {
        let shot = world.shot();
        let Some(element) = shot.element(self.id) else { return };
        let rest = &mut self.swarm.rest;
        rest.stood.get_or_insert_with(|| world.pose(element));
        if let Some(Source::Curve { curve }) = element.as_particles().map(|particles| &particles.from)
            && rest.curve_stood.is_none()
        {
            rest.curve_stood = shot.element(*curve).map(|curve| world.pose(curve));
        }
    }

    /// Appends the particles born in a substep; gives the share of it that is
    /// left to each of them.
    pub(super) fn give_birth(
        &mut self,
        step: &Step,
        meshes: &Meshes,
        others: &[Vec<Vec3>],
    ) -> Result<Vec<f32>, BlowUp> {
        let Some(element) = step.shot.element(self.id) else { return Ok(Vec::new()) };
        let Some(particles) = element.as_particles() else { return Ok(Vec::new()) };
        let solved = |id: Id, _: f64| step.colliders.solved(id);
        let world = World::new(step.shot, step.sampler, step.acting, &solved);
        let own = world.pose(element);
        let before = self.swarm.rest.stood.replace(own).unwrap_or(own);
        let curve = match particles.from {
            Source::Curve { curve } => step.shot.element(curve).map(|curve| world.pose(curve)),
            _ => None,
        };
        let curve_before = self.swarm.rest.curve_stood;
        self.swarm.rest.curve_stood = curve;
        if let Source::Impacts { of, impulse_n_s } = &particles.from {
            return self.born_of_impacts(step, particles, of, *impulse_n_s, own);
        }
        let broken: Vec<&BodyNow> = match &particles.from {
            Source::Broken { solid, .. } if within_span(step, particles) => {
                step.colliders.broken.iter().filter(|body| body.element == *solid).collect()
            }
            _ => Vec::new(),
        };
        let (due, shares) = match particles.from {
            Source::Broken { .. } => (0, Vec::new()),
            _ => due(step, element, particles, self.swarm.rest.given),
        };
        if due == 0 && broken.is_empty() {
            return Ok(Vec::new());
        }
        self.bound(step, due)?;
        let stands: Vec<Stand> = match &particles.from {
            Source::Solid { solid, .. } => step
                .colliders
                .of(*solid)
                .map(|body| Stand { before: body.before, now: body.now.pose, scale: body.now.scale })
                .collect(),
            Source::Curve { .. } => {
                let now = curve.unwrap_or(own);
                vec![Stand { before: curve_before.unwrap_or(now), now, scale: 1.0 }]
            }
            _ => vec![Stand { before, now: own, scale: 1.0 }],
        };
        let crowd: &[Vec3] = match particles.from {
            Source::Particles { of } => {
                self.order.iter().position(|id| *id == of).map_or(&[], |i| &others[i][..])
            }
            _ => &[],
        };
        self.find_places(step.shot, particles, meshes);
        let region = particles.births.region.and_then(|id| {
            Weight::new(&world, step.shot, step.surfaces, step.shot.element(id)?, step.seconds)
        });
        let map = particles.births.map.as_ref();
        let image = map.and_then(|map| match &map.of {
            MapOf::Image { asset } => meshes.images.get(asset),
            MapOf::Vertices {} => None,
        });
        let likely = Likely { region: region.as_ref(), map, image: image.map(|image| &**image) };
        let first = self.swarm.rest.given;
        let mut left = Vec::with_capacity(due as usize);
        for (k, share) in (first..first + due).zip(shares) {
            let mut chance = Chance::new(particles.seed, k as u32, For::Birth, 0);
            let found = self.place(particles, &stands, crowd, k as u32, share, step.dt, likely, &mut chance);
            let Some(Spot { place, normal, velocity, weight }) = found else { continue };
            let turn = before.1.slerp(own.1, share);
            let born_s = (step.seconds - f64::from(step.dt * (1.0 - share))) as f32;
            let newborn =
                Newborn { weight, ..start(particles, (place, turn), normal, velocity, born_s, &mut chance) };
            self.swarm.push(&newborn, self.columns);
            left.push(1.0 - share);
        }
        self.swarm.rest.given += due;
        for body in broken {
            left.extend(self.born_of_broken(step, particles, body, own, likely)?);
        }
        Ok(left)
    }

    fn born_of_broken(
        &mut self,
        step: &Step,
        particles: &Particles,
        body: &BodyNow,
        own: Pose,
        likely: Likely,
    ) -> Result<Vec<f32>, BlowUp> {
        let stand = [Stand { before: body.pose, now: body.pose, scale: body.scale }];
        let number = self.number_for_each(step, particles);
        self.bound(step, u64::from(number))?;
        let there = self.swarm.len();
        for _ in 0..number {
            let k = self.swarm.rest.given as u32;
            self.swarm.rest.given += 1;
            let mut chance = Chance::new(particles.seed, k, For::Birth, 0);
            let found = self.place(particles, &stand, &[], k, 1.0, step.dt, likely, &mut chance);
            let Some(Spot { place, normal, weight, .. }) = found else { continue };
            let motion = body.velocity + body.spin.cross(place - body.centre);
            let born = start(particles, (place, own.1), normal, motion, step.seconds as f32, &mut chance);
            self.swarm.push(&Newborn { weight, ..born }, self.columns);
        }
        // They have just come: nothing of the substep is left to them.
        Ok(vec![0.0; self.swarm.len() - there])
    }

    /// How many are born of a hit, or of a body that breaks.
    fn number_for_each(&self, step: &Step, particles: &Particles) -> u32 {
        match particles.births.how {
            Often::Number { number } | Often::AtOnce { number } => number,
            Often::Rate { per_s } => {
                let mut chance = Chance::new(particles.seed, self.swarm.rest.given as u32, For::Birth, 1);
                (per_s * step.dt + chance.share()).floor() as u32
            }
            Often::Never {} => 0,
        }
    }

    /// Refuses more particles than an element may have.
    pub(super) fn bound(&self, step: &Step, more: u64) -> Result<(), BlowUp> {
        let wanted = self.swarm.len() as u64 + more;
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

    /// Finds where particles can be born, if that has changed.
    fn find_places(&mut self, shot: &Shot, particles: &Particles, meshes: &Meshes) {
        if self.places.as_ref().is_none_or(|places| places.of != Places::named(shot, particles)) {
            self.places = Some(Places::find(shot, particles, meshes));
        }
    }

    /// Place, way out and velocity of the source for the k-th birth.
    fn place(
        &mut self,
        particles: &Particles,
        stands: &[Stand],
        crowd: &[Vec3],
        k: u32,
        share: f32,
        dt: f32,
        likely: Likely,
        chance: &mut Chance,
    ) -> Option<Spot> {
        /// Tries to find a place where a region or map has weight.
        const TRIES: u32 = 256;
        let on_grid = matches!(particles.from, Source::Grid { .. });
        // Of a number on a line each has its place, unless something takes places away.
        let of = match particles.births.how {
            Often::Number { number } | Often::AtOnce { number } if !likely.chooses() => Some(number),
            _ => None,
        };
        for _ in 0..TRIES {
            if let Source::Particles { .. } = particles.from {
                let i = (chance.share() * crowd.len() as f32) as usize;
                let at = *crowd.get(i.min(crowd.len().checked_sub(1)?))?;
                if likely.region.is_none_or(|region| region.at(at) > chance.share()) {
                    return Some(Spot { place: at, normal: Vec3::ZERO, velocity: Vec3::ZERO, weight: 1.0 });
                }
                continue;
            }
            let stand = match stands.len() {
                0 => return None,
                1 => &stands[0],
                n => &stands[((chance.share() * n as f32) as usize).min(n - 1)],
            };
            let sites = &self.places.as_ref()?.sites;
            let site: Site = if on_grid {
                sites.nth(k as usize)?
            } else if particles.births.even {
                let next = self.swarm.rest.spread;
                self.swarm.rest.spread = next.wrapping_add(1);
                match sites.even(next, of) {
                    Some(site) => site,
                    None => continue,
                }
            } else {
                sites.site([chance.share(), chance.share(), chance.share()], || chance.share())?
            };
            let (at, turn) = stand.at(share);
            let local = site.place * stand.scale;
            let place = at + turn * local;
            let weight = likely.weight(&site);
            if likely.chooses() && likely.at(place, weight) <= chance.share() {
                if on_grid {
                    return None;
                }
                continue;
            }
            let moved = (stand.now.0 + stand.now.1 * local) - (stand.before.0 + stand.before.1 * local);
            let velocity = moved / dt.max(1e-9);
            return Some(Spot { place, normal: turn * site.normal, velocity, weight });
        }
        None
    }

    fn born_of_impacts(
        &mut self,
        step: &Step,
        particles: &Particles,
        of: &[shot::Who],
        least: f32,
        own: Pose,
    ) -> Result<Vec<f32>, BlowUp> {
        let meant = |id: Id| {
            step.shot.element(id).is_some_and(|e| of.is_empty() || of.iter().any(|who| who.means(e)))
        };
        let mut left = Vec::new();
        if !within_span(step, particles) {
            return Ok(left);
        }
        for hit in step.colliders.hits.iter().filter(|hit| hit.impulse >= least) {
            if !hit.elements.iter().any(|&id| meant(id)) {
                continue;
            }
            let number = self.number_for_each(step, particles);
            self.bound(step, u64::from(number))?;
            for _ in 0..number {
                let k = self.swarm.rest.given as u32;
                let mut chance = Chance::new(particles.seed, k, For::Birth, 0);
                let newborn = start(
                    particles,
                    (hit.at, own.1),
                    hit.normal,
                    hit.velocity,
                    step.seconds as f32,
                    &mut chance,
                );
                self.swarm.push(&newborn, self.columns);
                self.swarm.rest.given += 1;
            }
            left.extend(std::iter::repeat_n(0.0, number as usize));
        }
        Ok(left)
    }
}

/// Points, with UVs along x and against z, so that an image stands as on a plane.
fn grid(count: [u32; 3], spacing: Vec3) -> impl Iterator<Item = (Vec3, Vec2)> {
    let centred = |i: u32, n: u32| i as f32 - (n as f32 - 1.0) * 0.5;
    let share = |i: u32, n: u32| (i as f32 + 0.5) / n as f32;
    let [nx, ny, nz] = count;
    (0..ny).flat_map(move |y| {
        (0..nz).flat_map(move |z| {
            (0..nx).map(move |x| {
                let place = Vec3::new(centred(x, nx), centred(y, ny), centred(z, nz)) * spacing;
                (place, Vec2::new(share(x, nx), 1.0 - share(z, nz)))
            })
        })
    })
}

/// A particle as it starts at a place, from a source that moves at `motion`.
pub(super) fn start(
    particles: &Particles,
    (place, turn): Pose,
    normal: Vec3,
    motion: Vec3,
    born_s: f32,
    chance: &mut Chance,
) -> Newborn {
    let start = &particles.start;
    let up = turn * Vec3::Y;
    let way = match start.direction {
        Direction::Up => up,
        Direction::Normal => normal.try_normalize().unwrap_or(up),
        Direction::Motion => motion.try_normalize().unwrap_or(up),
    };
    let direction = Quat::from_rotation_arc(Vec3::Y, way) * chance.cone(start.spread_rad);
    let speed = start.speed_m_s * chance.about(start.speed_variation);
    let life = start.lifespan_s.map_or(f32::INFINITY, |life| life * chance.about(start.lifespan_variation));
    let size_m = (start.size_m * chance.about(start.size_variation)).max(1e-6);
    let radius = 0.5 * size_m;
    let turned = turn * chance.turn(start.turn_variation);
    let spin = chance.direction() * (start.spin_rad_s * chance.about(start.spin_variation));
    Newborn {
        place,
        velocity: direction * speed + motion * start.inherit,
        size_m,
        mass_kg: (particles.mass_kg(radius) * chance.about(particles.body.mass_variation)).max(1e-15),
        drag_area_m2: particles.body.drag * PI * radius * radius,
        born_s,
        ends_s: born_s + life.max(1e-4),
        turn: turned,
        spin,
        weight: 1.0,
    }
}
