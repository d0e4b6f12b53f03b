//! Acceleration towards a point, a curve or a surface.

use super::weight::Surfaces;
use super::{Law, Points, Weights, flow, strokes};
use glam::{Quat, Vec3};
use shot::{ElementKind, Shot, force::Attract, world::World};
use std::sync::Arc;

pub(super) struct Attractor {
    settings: Attract,
    target: Target,
}

enum Target {
    Point(Vec3),
    Line(Vec<Vec<Vec3>>),
    Surface(Vec<(Vec3, Quat)>, Arc<geometry::Surface>),
}

impl Attractor {
    /// Towards its target, or the place where its element stands.
    pub fn new(attract: &Attract, shot: &Shot, world: &World, surfaces: &Surfaces, position: Vec3) -> Self {
        let target = match attract.target.and_then(|id| shot.element(id)) {
            None => Target::Point(position),
            Some(to) => match (&to.kind, surfaces.get(to.id)) {
                (ElementKind::Curve(curve), _) => Target::Line(strokes(curve, world.pose(to))),
                (_, Some(surface)) => Target::Surface(world.placements(to), surface.clone()),
                _ => Target::Point(world.pose(to).0),
            },
        };
        Self { settings: attract.clone(), target }
    }
}

impl Law for Attractor {
    fn push(&self, points: &mut Points, weights: &Weights, dt: f32) {
        for (&p, v) in points.positions.iter().zip(points.velocities.iter_mut()) {
            *v += self.acceleration(p) * (weights.at(p) * dt);
        }
    }

    fn drift(&self, position: Vec3) -> Vec3 {
        self.acceleration(position) * super::DRIFT_TIME_S
    }
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
