//! Forces sampled in space and time, for every solver alike.
//!
//! A solver hands its free matter to [`Field::push`] as [`Points`], once a
//! substep, and gets their velocities as the forces leave them. Forces act one
//! after the other, each on the velocities that the one before left, so that
//! none overshoots what the others have done; drag in moving air is the closed
//! form of dv/dt = −k |v − u| (v − u) over the substep, and so is stable for a
//! leaf as for a crate. Where there are both, half of what accelerates comes
//! before drag and half after it (G. Strang, *On the construction and
//! comparison of difference schemes*, 1968): the whole is of second order.

mod air;
mod attract;
mod course;
mod drag;
mod eddies;
mod flow;
mod gravity;
mod pull;
mod weight;

use air::Air;
use attract::Attractor;
use course::Course;
use drag::Drag;
use flow::Flow;
pub(crate) use flow::nearest_on;
use glam::Vec3;
use gravity::Gravity;
use pull::Pull;
use rayon::prelude::*;
use shot::{
    Element, ElementKind, Id, Shot,
    curve::Curve,
    force::{ElementFilter, Force, ForceKind},
    world::World,
};
pub use weight::{Surfaces, Weight};

/// Points of matter that forces act on: a column for each quantity.
pub struct Points<'a> {
    /// Where it is, m.
    pub positions: &'a [Vec3],
    /// Velocities, m/s; changed by the forces.
    pub velocities: &'a mut [Vec3],
    /// 1 / mass, 1/kg.
    pub inverse_masses: &'a [f32],
    /// Drag coefficient times the area shown to the wind, m².
    pub drag_areas: &'a [f32],
}

/// All forces of a shot at one time.
pub struct Field {
    acts: Vec<Act>,
}

struct Act {
    element: Id,
    law: Box<dyn Law>,
    strength: f32,
    region: Option<Weight>,
    /// The elements it acts on; none: all.
    only: Option<Vec<Id>>,
    except: Vec<Id>,
}

/// What a force does to points. To add a force is one more file here, one kind of
/// [`shot::force::ForceKind`], and its line in [`law`].
trait Law: Send + Sync {
    /// Changes the velocities of points by what it does in `dt` seconds. One loop a
    /// kind, so that each is tight.
    fn push(&self, points: &mut Points, weights: &Weights, dt: f32);

    /// Velocity at which a weightless dot drifts where its weight is 1: with the air, or as an acceleration
    /// would have it after [`DRIFT_TIME_S`], m/s.
    fn drift(&self, position: Vec3) -> Vec3;

    /// Whether it works against the velocity that there is.
    fn drags(&self) -> bool {
        false
    }

    /// Velocity, m/s, and density, kg/m³, of the air that drags at a place; none if it drags by no air.
    fn air(&self, _position: Vec3) -> Option<(Vec3, f32)> {
        None
    }

    /// Force against the speed of a body, N s/m.
    fn resistance(&self) -> f32 {
        0.0
    }

    /// Its acceleration, if that is the same for all, everywhere, m/s².
    fn same_for_all(&self) -> Option<Vec3> {
        None
    }
}

/// Time after which the velocity from an acceleration is shown as drift, s.
const DRIFT_TIME_S: f32 = 0.25;

/// How much a force acts at a place: its strength times the weight of its region.
struct Weights<'a> {
    strength: f32,
    region: Option<&'a Weight>,
}

impl Weights<'_> {
    #[inline]
    fn at(&self, position: Vec3) -> f32 {
        match self.region {
            None => self.strength,
            Some(region) => self.strength * region.at(position),
        }
    }
}

/// The forces that act on one element.
#[derive(Default)]
pub struct Acting<'a>(Vec<&'a Act>);

impl Acting<'_> {
    /// Whether nothing does.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Changes the velocities of points by what does not work against them.
    pub fn accelerate(&self, points: &mut Points, dt: f32) {
        self.0.iter().filter(|act| !act.law.drags()).for_each(|act| act.push(points, dt));
    }

    /// Force against the speed of a body at a place, N s/m.
    pub fn resistance(&self, position: Vec3) -> f32 {
        let of = |act: &&Act| match act.law.resistance() {
            0.0 => 0.0,
            resistance => resistance * act.weights().at(position).max(0.0),
        };
        self.0.iter().map(of).sum()
    }

    /// Whether any of them drags by air.
    pub fn moves_air(&self) -> bool {
        self.0.iter().any(|act| act.law.air(Vec3::ZERO).is_some())
    }

    /// Calls `found` with the velocity, m/s, and density, kg/m³, of each air that drags at a place.
    pub fn air(&self, position: Vec3, mut found: impl FnMut(Vec3, f32)) {
        for act in &self.0 {
            let weight = act.weights().at(position);
            if weight != 0.0
                && let Some((velocity, density)) = act.law.air(position)
            {
                found(velocity * weight.signum(), density * weight.abs());
            }
        }
    }

    /// Integrates the forces on points over `dt` seconds: changes their velocities.
    pub fn push(&self, points: &mut Points, dt: f32) {
        let drags = self.0.iter().filter(|act| act.law.drags()).count();
        let push = |drag: bool, points: &mut Points| {
            for act in self.0.iter().filter(|act| act.law.drags() == drag) {
                act.push(points, dt);
            }
        };
        if drags == 0 || drags == self.0.len() {
            return push(drags > 0, points);
        }
        let n = points.positions.len();
        for from in (0..n).step_by(CHUNK) {
            let part = from..(from + CHUNK).min(n);
            let mut points = Points {
                positions: &points.positions[part.clone()],
                velocities: &mut points.velocities[part.clone()],
                inverse_masses: &points.inverse_masses[part.clone()],
                drag_areas: &points.drag_areas[part],
            };
            let mut half = [Vec3::ZERO; CHUNK];
            half[..points.positions.len()].copy_from_slice(points.velocities);
            push(false, &mut points);
            for (half, v) in half.iter_mut().zip(points.velocities.iter_mut()) {
                *half = 0.5 * (*v - *half);
                *v -= *half;
            }
            push(true, &mut points);
            points.velocities.iter_mut().zip(&half).for_each(|(v, half)| *v += *half);
        }
    }
}

/// Points a thread takes at once.
const CHUNK: usize = 1_024;

/// One force's part in the total on a body.
#[derive(Clone, Debug, PartialEq)]
pub struct Contribution {
    /// The force's element.
    pub force: Id,
    /// Force on the body, N.
    pub newtons: Vec3,
    /// Weight of its region at the body, 0–1.
    pub weight: f32,
}

impl Field {
    /// The forces of a shot as it is in `world`, in the step that ends at
    /// `frame`. `seconds` is the world's time.
    pub fn new(shot: &Shot, world: &World, surfaces: &Surfaces, frame: f64, seconds: f64) -> Self {
        Self::among(shot, world, surfaces, frame, seconds, &|_| true)
    }

    /// As [`Field::new`], with the chosen forces only.
    pub fn among(
        shot: &Shot,
        world: &World,
        surfaces: &Surfaces,
        frame: f64,
        seconds: f64,
        chosen: &dyn Fn(Id) -> bool,
    ) -> Self {
        let frame = shot.timing.step_in_round(frame);
        let acts =
            shot.forces().into_iter().filter(|(element, force)| chosen(element.id) && force.acts_at(frame));
        Self {
            acts: acts
                .filter_map(|(element, force)| act(shot, world, surfaces, element, force, seconds))
                .collect(),
        }
    }

    /// Whether nothing acts.
    pub fn is_empty(&self) -> bool {
        self.acts.is_empty()
    }

    /// The acceleration that is the same for all points of every element, if
    /// that is all there is.
    pub fn only_gravity(&self) -> Option<Vec3> {
        self.acts.iter().try_fold(Vec3::ZERO, |sum, act| Some(sum + act.uniform()? * act.strength))
    }

    /// What acts on an element.
    pub fn acting(&self, element: Id) -> Acting<'_> {
        Acting(self.acts.iter().filter(|act| act.acts_on(element)).collect())
    }

    /// Changes the velocities of an element's points by what acts on them for
    /// `dt` seconds, on all threads of the current pool if they are many. The
    /// result does not depend on their number.
    pub fn push(&self, element: Id, points: &mut Points, dt: f32) {
        let acting = self.acting(element);
        if points.positions.len() <= CHUNK {
            return acting.push(points, dt);
        }
        let positions = points.positions.par_chunks(CHUNK);
        let masses = points.inverse_masses.par_chunks(CHUNK).zip(points.drag_areas.par_chunks(CHUNK));
        positions.zip(points.velocities.par_chunks_mut(CHUNK)).zip(masses).for_each(
            |((positions, velocities), (inverse_masses, drag_areas))| {
                acting.push(&mut Points { positions, velocities, inverse_masses, drag_areas }, dt);
            },
        );
    }

    /// Velocity at which a weightless dot drifts: with the air, and as an
    /// acceleration would have it after a quarter of a second, m/s.
    pub fn drift(&self, position: Vec3) -> Vec3 {
        let of = |act: &Act| match act.weights().at(position) {
            weight if weight == 0.0 || act.uniform().is_some() => Vec3::ZERO,
            weight => act.law.drift(position) * weight,
        };
        self.acts.iter().map(of).sum()
    }

    /// Acceleration of a body of 1 kg and 0.1 m² at rest, uniform gravity left
    /// out, m/s².
    pub fn felt(&self, position: Vec3) -> Vec3 {
        const MOMENT: f32 = 1e-3;
        let mut velocity = [Vec3::ZERO];
        for act in self.acts.iter().filter(|act| act.uniform().is_none()) {
            act.push_one(position, &mut velocity, 1.0, 0.1, MOMENT);
        }
        velocity[0] / MOMENT
    }

    /// What each force does to a body of an element.
    pub fn contributions(
        &self,
        element: Id,
        position: Vec3,
        velocity: Vec3,
        mass_kg: f32,
        drag_area: f32,
    ) -> Vec<Contribution> {
        const MOMENT: f32 = 1e-3;
        let acts = self.acts.iter().filter(|act| act.acts_on(element));
        acts.map(|act| {
            let mut after = [velocity];
            act.push_one(position, &mut after, 1.0 / mass_kg, drag_area, MOMENT);
            Contribution {
                force: act.element,
                newtons: (after[0] - velocity) * (mass_kg / MOMENT),
                weight: act.region.as_ref().map_or(1.0, |region| region.at(position)),
            }
        })
        .collect()
    }
}

fn act(
    shot: &Shot,
    world: &World,
    surfaces: &Surfaces,
    element: &Element,
    force: &Force,
    seconds: f64,
) -> Option<Act> {
    let law = law(shot, world, surfaces, element, &force.kind, seconds)?;
    let region = match force.region {
        None => None,
        Some(id) => Some(Weight::new(world, shot, surfaces, shot.element(id)?, seconds)?),
    };
    let meant = |list: &[ElementFilter]| {
        let of_list = |element: &&Element| list.iter().any(|who| who.means(element));
        shot.elements.iter().filter(of_list).map(|element| element.id).collect()
    };
    let only = (!force.only.is_empty()).then(|| meant(&force.only));
    let except = meant(&force.except);
    Some(Act { element: element.id, law, strength: force.strength, region, only, except })
}

/// What a force does where its element stands; none where what it needs is not there.
fn law(
    shot: &Shot,
    world: &World,
    surfaces: &Surfaces,
    element: &Element,
    kind: &ForceKind,
    seconds: f64,
) -> Option<Box<dyn Law>> {
    let (position, orientation) = world.pose(element);
    let axis = orientation * Vec3::NEG_Y;
    let course = || Course::of(world.sampler(), element, axis, seconds);
    Some(match kind {
        ForceKind::Gravity { acceleration } => Box::new(Gravity(*acceleration)),
        ForceKind::Pull { force_n } => Box::new(Pull(axis * *force_n)),
        ForceKind::Wind(wind) => Box::new(Air { flow: Flow::wind(wind, axis, &course()), push: wind.push }),
        ForceKind::Turbulence(of) => {
            Box::new(Air { flow: Flow::turbulence(of, &course(), seconds), push: of.push })
        }
        ForceKind::Vortex(of) => {
            Box::new(Air { flow: Flow::vortex(of, position, orientation), push: of.push })
        }
        ForceKind::Attract(of) => Box::new(Attractor::new(of, shot, world, surfaces, position)),
        &ForceKind::Drag { linear_n_s_m, density_kg_m3 } => Box::new(Drag { linear_n_s_m, density_kg_m3 }),
        ForceKind::Along(of) => {
            let curve = shot.element(of.curve)?;
            let ElementKind::Curve(line) = &curve.kind else { return None };
            Box::new(Air { flow: Flow::along(of, strokes(line, world.pose(curve))), push: of.push })
        }
    })
}

pub(crate) fn strokes(curve: &Curve, (position, orientation): shot::world::Pose) -> Vec<Vec<Vec3>> {
    let moved = |stroke: Vec<Vec3>| stroke.into_iter().map(|p| position + orientation * p).collect();
    curve.strokes().into_iter().map(moved).collect()
}

impl Act {
    /// Its acceleration, if that is the same for all, everywhere.
    fn uniform(&self) -> Option<Vec3> {
        let limited = self.region.is_some() || self.only.is_some() || !self.except.is_empty();
        self.law.same_for_all().filter(|_| !limited)
    }

    fn weights(&self) -> Weights<'_> {
        Weights { strength: self.strength, region: self.region.as_ref() }
    }

    fn acts_on(&self, element: Id) -> bool {
        self.only.as_ref().is_none_or(|only| only.contains(&element)) && !self.except.contains(&element)
    }

    fn push(&self, points: &mut Points, dt: f32) {
        self.law.push(points, &self.weights(), dt);
    }

    /// As [`Act::push`], of one point.
    fn push_one(&self, position: Vec3, velocity: &mut [Vec3; 1], inverse_mass: f32, drag_area: f32, dt: f32) {
        let mut points = Points {
            positions: &[position],
            velocities: velocity,
            inverse_masses: &[inverse_mass],
            drag_areas: &[drag_area],
        };
        self.push(&mut points, dt);
    }
}

/// The velocity that quadratic drag leaves of `v` in air of velocity `air`:
/// dv/dt = −k |v − u| (v − u) over a time with k Δt = `k_dt`.
#[inline]
fn dragged(v: Vec3, air: Vec3, k_dt: f32) -> Vec3 {
    let past = v - air;
    air + past / (1.0 + k_dt * past.length())
}

#[cfg(test)]
mod tests;
