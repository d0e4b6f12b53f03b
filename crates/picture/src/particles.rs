//! Particles as the renderer has them: balls, discs and streaks without meshes.

use crate::presence::{Dissolve, Presence};
use frames::Particles as Frame;
use geometry::{Bounds, Ray, Tree};
use glam::Vec3;
use shot::{
    Id,
    particles::{Form, Particles, own_random},
};

/// One particle.
pub(crate) struct ParticleBody {
    form: ParticleForm,
    /// Multiplies albedo and emission of its look.
    pub colour: Vec3,
    /// Brightness by the look's variation.
    pub tint: f32,
    /// Its look, in the list of surfaces.
    pub surface: u32,
    pub element: Id,
    /// The map's weight where it was born, 0–1.
    pub weight: f32,
    presence: Presence,
}

enum ParticleForm {
    Sphere {
        centre: Vec3,
        radius: f32,
    },
    Disc {
        centre: Vec3,
        normal: Vec3,
        radius: f32,
    },
    /// A cylinder with half balls at its ends.
    Streak {
        from: Vec3,
        to: Vec3,
        radius: f32,
    },
}

/// All particles that are not drawn as copies.
pub(crate) struct ParticleShapes {
    list: Vec<ParticleBody>,
    tree: Tree,
}

/// Intersection of a ray with a particle.
pub(crate) struct ParticleHit {
    pub t: f32,
    pub normal: Vec3,
    pub index: u32,
}

/// How a particle looks at a frame: its colour and its size as a fraction of the size it has.
pub(crate) fn shown(particles: &Particles, frame: &Frame, i: usize) -> (Vec3, f32) {
    let appearance = &particles.appearance;
    let random = own_random(particles.seed, frame.ids[i]);
    let speed = frame.velocities[i].length();
    let weight = frame.weights.get(i).copied().unwrap_or(1.0);
    let fraction = |by: &shot::particles::RampInput| {
        by.fraction(frame.ages[i], frame.lifespans[i], speed, random, weight)
    };
    (appearance.colour(fraction(&appearance.colour_by)), appearance.size(fraction(&appearance.size_by)))
}

impl ParticleShapes {
    /// Appends the particles of an element that are drawn as such, as seen from `eye`.
    pub fn add(
        list: &mut Vec<ParticleBody>,
        element: Id,
        particles: &Particles,
        frame: &Frame,
        surface: u32,
        eye: Vec3,
    ) {
        let presence = Presence::WHOLE.times(particles.look.opacity);
        if presence.fraction() <= 0.0 {
            return;
        }
        for i in 0..frame.len() {
            let (colour, size) = shown(particles, frame, i);
            let radius = 0.5 * frame.sizes[i] * size;
            let centre = frame.positions[i] - eye;
            if radius <= 0.0 {
                continue;
            }
            let form = match particles.appearance.form {
                Form::Sphere => ParticleForm::Sphere { centre, radius },
                Form::Disc => {
                    let normal =
                        frame.orientations.get(i).map_or(Vec3::Y, |orientation| *orientation * Vec3::Y);
                    ParticleForm::Disc { centre, normal, radius }
                }
                Form::Streak { duration_s } => ParticleForm::Streak {
                    from: centre - frame.velocities[i] * duration_s,
                    to: centre,
                    radius,
                },
                Form::Instance { .. } | Form::Nothing => return,
            };
            let tint = 1.0 - particles.look.variation * own_random(particles.seed ^ 0x77, frame.ids[i]);
            let weight = frame.weights.get(i).copied().unwrap_or(1.0);
            list.push(ParticleBody { form, colour, tint, surface, element, weight, presence });
        }
    }

    pub fn new(list: Vec<ParticleBody>) -> Self {
        let bounds: Vec<Bounds> = list.iter().map(|index| index.form.bounds()).collect();
        Self { tree: Tree::build(&bounds), list }
    }

    pub fn get(&self, index: u32) -> &ParticleBody {
        &self.list[index as usize]
    }

    /// The nearest along a ray of unit direction, up to `t_max`.
    pub fn intersect(
        &self,
        origin: Vec3,
        direction: Vec3,
        mut t_max: f32,
        path: Dissolve,
    ) -> Option<ParticleHit> {
        if self.list.is_empty() {
            return None;
        }
        let mut nearest = None;
        self.tree.walk(&Ray { origin, direction, t_max }, |i| {
            let particle = &self.list[i as usize];
            if !particle.presence.met_by(particle.element, path) {
                return t_max;
            }
            if let Some((t, normal)) = particle.form.intersect(origin, direction, t_max) {
                t_max = t;
                nearest = Some(ParticleHit { t, normal, index: i });
            }
            t_max
        });
        nearest
    }

    /// Whether one stands in the way up to `limit`.
    pub fn block(&self, origin: Vec3, direction: Vec3, limit: f32, path: Dissolve) -> bool {
        let mut blocked = false;
        if !self.list.is_empty() {
            self.tree.walk(&Ray { origin, direction, t_max: limit }, |i| {
                let particle = &self.list[i as usize];
                blocked = particle.presence.met_by(particle.element, path)
                    && particle.form.intersect(origin, direction, limit).is_some();
                if blocked { -1.0 } else { limit }
            });
        }
        blocked
    }
}

/// The smaller root of t² + 2 b t + c that lies in 0–`t_max`.
fn root(b: f32, c: f32, t_max: f32) -> Option<f32> {
    let square = b * b - c;
    if square < 0.0 {
        return None;
    }
    // Without cancellation (W. Press et al., *Numerical recipes*, 2007, section 5.6).
    let q = -b - square.sqrt().copysign(b);
    let (low, high) = if b > 0.0 {
        (q, if q != 0.0 { c / q } else { 0.0 })
    } else {
        (if q != 0.0 { c / q } else { 0.0 }, q)
    };
    let inside = |t: f32| (t > 0.0 && t < t_max).then_some(t);
    inside(low).or_else(|| inside(high))
}

fn sphere(origin: Vec3, direction: Vec3, centre: Vec3, radius: f32, t_max: f32) -> Option<(f32, Vec3)> {
    // From the point nearest to the centre, so that small far balls keep their shape.
    let to = origin - centre;
    let along = -to.dot(direction);
    let nearest = to + direction * along;
    let square = radius * radius - nearest.length_squared();
    if square < 0.0 {
        return None;
    }
    let half = square.sqrt();
    let t = if along - half > 0.0 { along - half } else { along + half };
    (t > 0.0 && t < t_max).then(|| (t, (to + direction * t) / radius))
}

impl ParticleForm {
    fn bounds(&self) -> Bounds {
        let around = |centre: Vec3, radius: f32| Bounds { min: centre - radius, max: centre + radius };
        match *self {
            Self::Sphere { centre, radius } | Self::Disc { centre, radius, .. } => around(centre, radius),
            Self::Streak { from, to, radius } => around(from, radius).union(around(to, radius)),
        }
    }

    fn intersect(&self, origin: Vec3, direction: Vec3, t_max: f32) -> Option<(f32, Vec3)> {
        match *self {
            Self::Sphere { centre, radius } => sphere(origin, direction, centre, radius, t_max),
            Self::Disc { centre, normal, radius } => {
                let t = (centre - origin).dot(normal) / direction.dot(normal);
                let on = origin + direction * t;
                (t > 0.0 && t < t_max && on.distance_squared(centre) < radius * radius).then_some((t, normal))
            }
            Self::Streak { from, to, radius } => {
                let axis = to - from;
                let length = axis.length();
                let mut best = sphere(origin, direction, to, radius, t_max);
                if length <= 1e-9 {
                    return best;
                }
                let limit = best.map_or(t_max, |(t, _)| t);
                best = sphere(origin, direction, from, radius, limit).or(best);
                let axis = axis / length;
                // Across the axis only.
                let (to, way) = (origin - from, direction);
                let (p, d) = (to - axis * to.dot(axis), way - axis * way.dot(axis));
                let a = d.length_squared();
                if a > 1e-12 {
                    let limit = best.map_or(t_max, |(t, _)| t);
                    if let Some(t) = root(p.dot(d) / a, (p.length_squared() - radius * radius) / a, limit) {
                        let along = (to + way * t).dot(axis);
                        if (0.0..=length).contains(&along) {
                            best = Some((t, (p + d * t) / radius));
                        }
                    }
                }
                best
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn streak() -> ParticleForm {
        ParticleForm::Streak { from: Vec3::ZERO, to: Vec3::X, radius: 0.1 }
    }

    #[test]
    fn a_streak_is_met_on_its_side_and_at_its_ends() {
        let at = |origin: Vec3, direction: Vec3| streak().intersect(origin, direction, 100.0);
        let (t, normal) = at(Vec3::new(0.5, 0.0, 2.0), Vec3::NEG_Z).unwrap();
        assert!((t - 1.9).abs() < 1e-5 && normal.distance(Vec3::Z) < 1e-5);
        let (t, normal) = at(Vec3::new(3.0, 0.0, 0.0), Vec3::NEG_X).unwrap();
        assert!((t - 1.9).abs() < 1e-5 && normal.distance(Vec3::X) < 1e-5);
        assert!(at(Vec3::new(1.15, 0.0, 2.0), Vec3::NEG_Z).is_none());
    }

    #[test]
    fn a_small_far_ball_keeps_its_shape() {
        let (centre, radius) = (Vec3::new(0.0, 0.0, -1000.0), 0.001);
        let form = ParticleForm::Sphere { centre, radius };
        let hits = |x: f32| form.intersect(Vec3::new(x, 0.0, 0.0), Vec3::NEG_Z, 1e9).is_some();
        assert!(hits(0.0009) && !hits(0.0011));
    }

    #[test]
    fn a_disc_is_met_within_its_radius_only() {
        let form = ParticleForm::Disc { centre: Vec3::ZERO, normal: Vec3::Y, radius: 1.0 };
        let hits = |x: f32| form.intersect(Vec3::new(x, 1.0, 0.0), Vec3::NEG_Y, 10.0).is_some();
        assert!(hits(0.99) && !hits(1.01));
    }
}
