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

mod course;
mod eddies;
mod flow;
mod weight;

use course::Course;
use flow::Flow;
pub(crate) use flow::nearest_on;
use glam::Vec3;
use rayon::prelude::*;
use shot::{
    Element, ElementKind, Id, Shot,
    curve::Curve,
    force::{Attract, ElementFilter, Force, ForceKind, Push},
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
    kind: Kind,
    strength: f32,
    region: Option<Weight>,
    /// The elements it acts on; none: all.
    only: Option<Vec<Id>>,
    except: Vec<Id>,
}

enum Kind {
    Acceleration(Vec3),
    Pull(Vec3),
    /// Moving air.
    Air(Flow, Push),
    Attract(Attractor),
    Drag {
        linear: f32,
        density: f32,
    },
}

struct Attractor {
    settings: Attract,
    target: Target,
}

enum Target {
    Point(Vec3),
    Line(Vec<Vec<Vec3>>),
    Surface(Vec<(Vec3, glam::Quat)>, std::sync::Arc<geometry::Surface>),
}

/// The forces that act on one element.
pub struct Acting<'a>(Vec<&'a Act>);

impl Acting<'_> {
    /// Whether nothing does.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Integrates the forces on points over `dt` seconds: changes their velocities.
    pub fn push(&self, points: &mut Points, dt: f32) {
        let drags = self.0.iter().filter(|act| act.drags()).count();
        let push = |drag: bool, points: &mut Points| {
            for act in self.0.iter().filter(|act| act.drags() == drag) {
                act.push(points.positions, points.velocities, points.inverse_masses, points.drag_areas, dt);
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
        self.acts.iter().try_fold(Vec3::ZERO, |sum, act| match act.kind {
            Kind::Acceleration(a) if act.is_uniform() => Some(sum + a * act.strength),
            _ => None,
        })
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
        const A_WHILE: f32 = 0.25;
        let of = |act: &Act| {
            let weight = act.strength * act.region.as_ref().map_or(1.0, |region| region.at(position));
            match &act.kind {
                _ if weight == 0.0 || act.is_uniform() => Vec3::ZERO,
                Kind::Acceleration(a) | Kind::Pull(a) => *a * (weight * A_WHILE),
                Kind::Air(flow, _) => flow.velocity(position) * weight,
                Kind::Attract(attractor) => attractor.acceleration(position) * (weight * A_WHILE),
                Kind::Drag { .. } => Vec3::ZERO,
            }
        };
        self.acts.iter().map(of).sum()
    }

    /// Acceleration of a body of 1 kg and 0.1 m² at rest, uniform gravity left
    /// out, m/s².
    pub fn felt(&self, position: Vec3) -> Vec3 {
        const MOMENT: f32 = 1e-3;
        let mut velocity = [Vec3::ZERO];
        for act in self.acts.iter().filter(|act| !act.is_uniform()) {
            act.push(&[position], &mut velocity, &[1.0], &[0.1], MOMENT);
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
            act.push(&[position], &mut after, &[1.0 / mass_kg], &[drag_area], MOMENT);
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
    let (position, orientation) = world.pose(element);
    let axis = orientation * Vec3::NEG_Y;
    let course = || Course::of(world.sampler(), element, axis, seconds);
    let kind = match &force.kind {
        ForceKind::Gravity { acceleration } => Kind::Acceleration(*acceleration),
        ForceKind::Pull { force_n } => Kind::Pull(axis * *force_n),
        ForceKind::Wind(wind) => Kind::Air(Flow::wind(wind, axis, &course()), wind.push),
        ForceKind::Turbulence(turbulence) => {
            Kind::Air(Flow::turbulence(turbulence, &course(), seconds), turbulence.push)
        }
        ForceKind::Vortex(vortex) => Kind::Air(Flow::vortex(vortex, position, orientation), vortex.push),
        ForceKind::Attract(attract) => {
            let target = match attract.target.and_then(|id| shot.element(id)) {
                None => Target::Point(position),
                Some(to) => match (&to.kind, surfaces.get(to.id)) {
                    (ElementKind::Curve(curve), _) => Target::Line(strokes(curve, world.pose(to))),
                    (_, Some(surface)) => {
                        let poses = world.placements(to);
                        Target::Surface(poses, surface.clone())
                    }
                    _ => Target::Point(world.pose(to).0),
                },
            };
            Kind::Attract(Attractor { settings: attract.clone(), target })
        }
        ForceKind::Drag { linear_n_s_m, density_kg_m3 } => {
            Kind::Drag { linear: *linear_n_s_m, density: *density_kg_m3 }
        }
        ForceKind::Along(along) => {
            let curve = shot.element(along.curve)?;
            let ElementKind::Curve(line) = &curve.kind else { return None };
            Kind::Air(Flow::along(along, strokes(line, world.pose(curve))), along.push)
        }
    };
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
    Some(Act { element: element.id, kind, strength: force.strength, region, only, except })
}

pub(crate) fn strokes(curve: &Curve, (position, orientation): shot::world::Pose) -> Vec<Vec<Vec3>> {
    let moved = |stroke: Vec<Vec3>| stroke.into_iter().map(|p| position + orientation * p).collect();
    curve.strokes().into_iter().map(moved).collect()
}

impl Act {
    /// Whether it is the same acceleration for all, everywhere.
    fn is_uniform(&self) -> bool {
        let limited = self.region.is_some() || self.only.is_some() || !self.except.is_empty();
        matches!(self.kind, Kind::Acceleration(_)) && !limited
    }

    /// Whether it works against the velocity that there is.
    fn drags(&self) -> bool {
        matches!(self.kind, Kind::Air(_, Push::Air { .. }) | Kind::Drag { .. })
    }

    fn acts_on(&self, element: Id) -> bool {
        self.only.as_ref().is_none_or(|only| only.contains(&element)) && !self.except.contains(&element)
    }

    fn push(
        &self,
        positions: &[Vec3],
        velocities: &mut [Vec3],
        inverse_masses: &[f32],
        drag_areas: &[f32],
        dt: f32,
    ) {
        let weight = |position: Vec3| match &self.region {
            None => self.strength,
            Some(region) => self.strength * region.at(position),
        };
        // One loop a kind, so that each is tight.
        let each = positions.iter().zip(velocities.iter_mut());
        match &self.kind {
            Kind::Acceleration(a) => each.for_each(|(&p, v)| *v += *a * (weight(p) * dt)),
            Kind::Pull(newtons) => each
                .zip(inverse_masses)
                .for_each(|((&p, v), inverse_mass)| *v += *newtons * (weight(p) * inverse_mass * dt)),
            Kind::Attract(attractor) => each.for_each(|(&p, v)| {
                *v += attractor.acceleration(p) * (weight(p) * dt);
            }),
            Kind::Air(flow, Push::Acceleration) => each.for_each(|(&p, v)| {
                let weight = weight(p);
                if weight != 0.0 {
                    *v += flow.velocity(p) * (weight * dt);
                }
            }),
            Kind::Air(flow, Push::Air { density_kg_m3 }) => {
                each.zip(inverse_masses.iter().zip(drag_areas)).for_each(
                    |((&p, v), (inverse_mass, area))| {
                        let weight = weight(p);
                        if weight != 0.0 {
                            let air = flow.velocity(p) * weight.signum();
                            *v = dragged(
                                *v,
                                air,
                                0.5 * density_kg_m3 * area * inverse_mass * weight.abs() * dt,
                            );
                        }
                    },
                );
            }
            Kind::Drag { linear, density } => {
                each.zip(inverse_masses.iter().zip(drag_areas)).for_each(
                    |((&p, v), (inverse_mass, area))| {
                        let weight = weight(p).max(0.0);
                        *v = dragged(*v, Vec3::ZERO, 0.5 * density * area * inverse_mass * weight * dt);
                        *v *= (-linear * inverse_mass * weight * dt).exp();
                    },
                );
            }
        }
    }
}

/// The velocity that quadratic drag leaves of `v` in air of velocity `air`:
/// dv/dt = −k |v − u| (v − u) over a time with k Δt = `k_dt`.
#[inline]
fn dragged(v: Vec3, air: Vec3, k_dt: f32) -> Vec3 {
    let past = v - air;
    air + past / (1.0 + k_dt * past.length())
}

impl Attractor {
    /// Acceleration at a place, m/s².
    #[inline]
    fn acceleration(&self, position: Vec3) -> Vec3 {
        let settings = &self.settings;
        let reach = settings.range_m.unwrap_or(f32::INFINITY);
        let nearest = match &self.target {
            Target::Point(point) => *point,
            Target::Line(strokes) => match flow::nearest_on(strokes, position) {
                Some((point, _)) => point,
                None => return Vec3::ZERO,
            },
            Target::Surface(poses, surface) => {
                let mut best: Option<(f32, Vec3)> = None;
                for (at, orientation) in poses {
                    let local = orientation.inverse() * (position - *at);
                    let within = best.map_or(reach, |(square, _)| square.sqrt());
                    if let Some(on) = surface.nearest(local, within) {
                        best = Some((on.distance_squared(local), *at + *orientation * on));
                    }
                }
                match best {
                    Some((_, on)) => on,
                    None => return Vec3::ZERO,
                }
            }
        };
        let away = nearest - position;
        let distance = away.length();
        if distance <= 1e-9 || distance >= reach {
            return Vec3::ZERO;
        }
        let smooth = |s: f32| s * s * (3.0 - 2.0 * s);
        let near = smooth((distance / settings.near_m).min(1.0));
        // The last fifth of the range is its soft end.
        let far = if reach.is_finite() { smooth((5.0 * (1.0 - distance / reach)).min(1.0)) } else { 1.0 };
        let pull = match settings.power {
            0.0 => 1.0,
            1.0 => distance,
            -1.0 => 1.0 / distance,
            -2.0 => 1.0 / (distance * distance),
            power => distance.powf(power),
        };
        let magnitude = settings.acceleration * pull * near * far;
        // Powers of a distance close to 0 may be endless; the soft core is not.
        if magnitude.is_finite() { away / distance * magnitude } else { Vec3::ZERO }
    }
}

#[cfg(test)]
mod tests;
