//! Moving air: wind, turbulence, vortices, streams along curves.

use super::course::Course;
use super::eddies::{Eddies, Making};
use glam::{Quat, Vec3};
use shot::{
    force::{Along, Turbulence, Vortex, Wind},
    motion::expression,
};

/// A velocity at every place, m/s.
pub(super) enum Flow {
    /// A mean, and eddies that it carries along.
    Wind {
        mean: Vec3,
        eddies: Option<Eddies>,
    },
    Turbulence(Eddies),
    Vortex {
        settings: Vortex,
        place: Vec3,
        turn: Quat,
    },
    Along {
        settings: Along,
        strokes: Vec<Vec<Vec3>>,
    },
}

impl Flow {
    /// Wind along `axis`, at a point of its course.
    pub fn wind(wind: &Wind, axis: Vec3, course: &Course) -> Self {
        // Two layers of gusts; whole seeds lie far apart on the line of noise.
        let gust = course.faded(|elapsed| {
            let at = elapsed.gusts + 101.0 * f64::from(wind.seed);
            expression::noise(at) + 0.5 * expression::noise(2.3 * at + 7.5)
        });
        let mean = axis * wind.speed_m_s;
        let speed = f64::from(wind.speed_m_s.abs() * wind.eddy);
        let eddies = (speed > 0.0).then(|| {
            let making = Making {
                speed: speed as f32,
                size: wind.eddy_m,
                octaves: 1,
                course: *course,
                seed: wind.seed,
            };
            Eddies::new(&making)
        });
        Self::Wind { mean: mean * (1.0 + f64::from(wind.gust) * gust).max(0.0) as f32, eddies }
    }

    /// Eddies at a point of their course, at `seconds`.
    pub fn turbulence(turbulence: &Turbulence, course: &Course, seconds: f64) -> Self {
        let own = turbulence.loop_s.map(|period| Course::repeating(turbulence, f64::from(period), seconds));
        let making = Making {
            speed: turbulence.speed_m_s,
            size: turbulence.size_m,
            octaves: turbulence.octaves,
            course: own.unwrap_or(*course),
            seed: turbulence.seed,
        };
        Self::Turbulence(Eddies::new(&making))
    }

    /// A vortex about the y axis of a pose.
    pub fn vortex(vortex: &Vortex, place: Vec3, turn: Quat) -> Self {
        Self::Vortex { settings: vortex.clone(), place, turn }
    }

    /// A stream along strokes.
    pub fn along(along: &Along, strokes: Vec<Vec<Vec3>>) -> Self {
        Self::Along { settings: along.clone(), strokes }
    }

    /// Velocity at a place, m/s.
    #[inline]
    pub fn velocity(&self, place: Vec3) -> Vec3 {
        match self {
            Self::Wind { mean, eddies } => {
                *mean + eddies.as_ref().map_or(Vec3::ZERO, |eddies| eddies.velocity(place))
            }
            Self::Turbulence(eddies) => eddies.velocity(place),
            Self::Vortex { settings, place: centre, turn } => {
                let p = turn.inverse() * (place - *centre);
                let radius = p.x.hypot(p.z);
                let outward = if radius > 1e-9 { Vec3::new(p.x, 0.0, p.z) / radius } else { Vec3::ZERO };
                let core = settings.core_m;
                let fraction = if radius < core { radius / core } else { core / radius };
                let around = Vec3::Y.cross(outward) * (settings.speed_m_s * fraction);
                *turn
                    * (around - outward * (settings.inflow_m_s * fraction)
                        + Vec3::Y * (settings.rise_m_s * fraction.min(1.0)))
            }
            Self::Along { settings, strokes } => {
                let Some((on, direction)) = nearest_on(strokes, place) else { return Vec3::ZERO };
                let away = on - place;
                let fraction = (away.length() / settings.range_m).min(1.0);
                let fade = 1.0 - fraction * fraction * (3.0 - 2.0 * fraction);
                direction * (settings.speed_m_s * fade)
                    + away.try_normalize().unwrap_or(Vec3::ZERO)
                        * (settings.inflow_m_s * fraction * f32::from(u8::from(fraction < 1.0)))
            }
        }
    }
}

/// The point of a line nearest to a place, and the line's direction there.
#[inline]
pub(crate) fn nearest_on(strokes: &[Vec<Vec3>], place: Vec3) -> Option<(Vec3, Vec3)> {
    let mut best: Option<(f32, Vec3, Vec3)> = None;
    for pair in strokes.iter().flat_map(|stroke| stroke.windows(2)) {
        let (from, along) = (pair[0], pair[1] - pair[0]);
        let length = along.length_squared();
        if length <= 0.0 {
            continue;
        }
        let on = from + along * ((place - from).dot(along) / length).clamp(0.0, 1.0);
        let square = on.distance_squared(place);
        if best.is_none_or(|(least, ..)| square < least) {
            best = Some((square, on, along));
        }
    }
    best.map(|(_, on, along)| (on, along.normalize()))
}
