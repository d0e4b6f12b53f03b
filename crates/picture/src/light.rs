//! Light sources, and sampling of directions towards them.

use crate::presence::{Dissolve, Presence};
use geometry::Image;
use glam::{Mat3, Quat, Vec2, Vec3};
use shot::Id;
use std::f32::consts::{PI, TAU};
use std::sync::Arc;

/// A latitude–longitude image of radiance. The middle column looks along −z,
/// the top row up.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Environment {
    /// Pixels across.
    pub width: usize,
    /// Pixels down.
    pub height: usize,
    /// Scene-linear radiance, row by row from the top.
    pub rgb: Vec<[f32; 3]>,
}

/// A point of a light.
pub(crate) struct End {
    pub point: Vec3,
    /// Cosine at which the light is seen from the other end.
    pub cos: f32,
}

/// A direction towards a light.
pub(crate) struct Towards {
    pub direction: Vec3,
    /// Distance of its end, m; none: infinite.
    pub end: Option<End>,
    pub radiance: Vec3,
    pub pdf: f32,
}

pub(crate) enum Sky {
    Gradient { zenith: Vec3, horizon: Vec3, ground: Vec3 },
    Image(SkyImage),
}

pub(crate) struct SkyImage {
    image: Environment,
    strength: f32,
    orientation: Quat,
    /// Running sums of brightness × sin θ along each row, and over rows.
    columns: Vec<f32>,
    rows: Vec<f32>,
}

impl SkyImage {
    pub fn new(image: Environment, strength: f32, orientation: Quat) -> Self {
        let (w, h) = (image.width, image.height);
        let (mut columns, mut rows) = (Vec::with_capacity(w * h), Vec::with_capacity(h));
        let mut total = 0.0f32;
        for y in 0..h {
            let sin = (PI * (y as f32 + 0.5) / h as f32).sin();
            let mut sum = 0.0;
            for [r, g, b] in &image.rgb[y * w..(y + 1) * w] {
                sum += (r + g + b).max(0.0) * sin;
                columns.push(sum);
            }
            total += sum;
            rows.push(total);
        }
        Self { image, strength, orientation, columns, rows }
    }

    pub fn width(&self) -> usize {
        self.image.width
    }

    fn radiance(&self, direction: Vec3) -> Vec3 {
        let d = self.orientation.inverse() * direction;
        let (w, h) = (self.image.width, self.image.height);
        let u = 0.5 + d.x.atan2(-d.z) / TAU;
        let v = d.y.clamp(-1.0, 1.0).acos() / PI;
        let x = ((u * w as f32) as usize).min(w - 1);
        let y = ((v * h as f32) as usize).min(h - 1);
        Vec3::from(self.image.rgb[y * w + x]) * self.strength
    }

    fn pdf(&self, direction: Vec3) -> f32 {
        let d = self.orientation.inverse() * direction;
        let (w, h) = (self.image.width, self.image.height);
        let x = (((0.5 + d.x.atan2(-d.z) / TAU) * w as f32) as usize).min(w - 1);
        let y = ((d.y.clamp(-1.0, 1.0).acos() / PI * h as f32) as usize).min(h - 1);
        let total = self.rows[h - 1];
        let before = if x == 0 { 0.0 } else { self.columns[y * w + x - 1] };
        let weight = self.columns[y * w + x] - before;
        let sin = (1.0 - d.y * d.y).max(1e-8).sqrt();
        weight / total * (w * h) as f32 / (2.0 * PI * PI * sin)
    }

    fn sample(&self, u: [f32; 2]) -> Towards {
        let (w, h) = (self.image.width, self.image.height);
        let total = self.rows[h - 1];
        let y = self.rows.partition_point(|&sum| sum < u[1] * total).min(h - 1);
        let row = &self.columns[y * w..(y + 1) * w];
        let x = row.partition_point(|&sum| sum < u[0] * row[w - 1]).min(w - 1);
        let part =
            |value: f32, low: f32, high: f32| ((value - low) / (high - low).max(1e-20)).clamp(0.0, 1.0);
        let fx = part(u[0] * row[w - 1], if x == 0 { 0.0 } else { row[x - 1] }, row[x]);
        let fy = part(u[1] * total, if y == 0 { 0.0 } else { self.rows[y - 1] }, self.rows[y]);
        let (sin_t, cos_t) = (PI * (y as f32 + fy) / h as f32).sin_cos();
        let (sin_p, cos_p) = (TAU * ((x as f32 + fx) / w as f32 - 0.5)).sin_cos();
        let direction = self.orientation * Vec3::new(sin_t * sin_p, cos_t, -sin_t * cos_p);
        Towards { direction, end: None, radiance: self.radiance(direction), pdf: self.pdf(direction) }
    }
}

impl Sky {
    pub fn radiance(&self, direction: Vec3) -> Vec3 {
        match self {
            Self::Gradient { zenith, horizon, ground } => {
                // Blends fastest near the horizon, as haze does.
                let y = direction.y;
                let t = y.abs().powf(0.45);
                horizon.lerp(if y > 0.0 { *zenith } else { *ground }, t)
            }
            Self::Image(image) => image.radiance(direction),
        }
    }

    /// Density of [`Sky::sample`]; 0 where directions are left to the surface.
    pub fn pdf(&self, direction: Vec3) -> f32 {
        match self {
            Self::Gradient { .. } => 0.0,
            Self::Image(image) => image.pdf(direction),
        }
    }

    pub fn sample(&self, u: [f32; 2]) -> Option<Towards> {
        match self {
            Self::Gradient { .. } => None,
            Self::Image(image) if image.rows.last().is_some_and(|&total| total > 0.0) => {
                Some(image.sample(u))
            }
            Self::Image(_) => None,
        }
    }
}

pub(crate) struct SunLight {
    /// Unit direction towards the sun.
    pub towards: Vec3,
    pub radiance: Vec3,
    /// 1 − cosine of the angular radius.
    pub cap: f32,
}

impl SunLight {
    pub fn new(sun: &shot::light::Sun, orientation: Quat) -> Self {
        let half = (0.5 * sun.angle_rad).max(1e-3);
        // A disc of radius `half` seen face on gives the irradiance π L sin².
        let radiance = sun.colour * (sun.irradiance / (PI * half.sin().powi(2)));
        Self { towards: orientation * Vec3::Y, radiance, cap: 2.0 * (0.5 * half).sin().powi(2) }
    }

    pub fn pdf(&self, direction: Vec3) -> f32 {
        if self.contains(direction) { 1.0 / (TAU * self.cap) } else { 0.0 }
    }

    pub fn contains(&self, direction: Vec3) -> bool {
        // 1 − cos as half the squared chord, exact for small angles.
        0.5 * (direction - self.towards).length_squared() <= self.cap
    }

    pub fn sample(&self, u: [f32; 2]) -> Towards {
        let drop = u[0] * self.cap;
        let sin = (drop * (2.0 - drop)).max(0.0).sqrt();
        let (s, c) = (TAU * u[1]).sin_cos();
        let direction = basis(self.towards) * Vec3::new(sin * c, sin * s, 1.0 - drop);
        Towards { direction, end: None, radiance: self.radiance, pdf: 1.0 / (TAU * self.cap) }
    }
}

/// A frame with z along `n` (T. Duff et al., *Building an orthonormal basis,
/// revisited*, JCGT 6, 2017).
pub(crate) fn basis(n: Vec3) -> Mat3 {
    let sign = 1.0f32.copysign(n.z);
    let a = -1.0 / (sign + n.z);
    let b = n.x * n.y * a;
    Mat3::from_cols(
        Vec3::new(1.0 + sign * n.x * n.x * a, sign * b, -sign * n.x),
        Vec3::new(b, sign + n.y * n.y * a, -n.y),
        n,
    )
}

/// Triangles that shine, to be chosen by power.
#[derive(Default)]
pub(crate) struct Emitters {
    triangles: Vec<Emitter>,
    /// Running sums of power.
    sums: Vec<f32>,
}

struct Emitter {
    corner: Vec3,
    edges: [Vec3; 2],
    /// Without its image.
    radiance: Vec3,
    two_sided: bool,
    /// Multiplies the radiance: an image, and where the corners lie in it.
    image: Option<(Arc<Image>, [Vec2; 3])>,
    /// The element, and the paths for which it is there.
    of: (Id, Presence),
}

impl Emitters {
    /// Adds a triangle of an element, which is chosen as often as its power and the part of the paths that meet it have it.
    pub fn push(
        &mut self,
        corners: [Vec3; 3],
        radiance: Vec3,
        two_sided: bool,
        image: Option<(Arc<Image>, [Vec2; 3])>,
        of: (Id, Presence),
    ) -> f32 {
        let [a, b, c] = corners;
        let area = 0.5 * (b - a).cross(c - a).length();
        let power = area * radiance.element_sum() * of.1.fraction();
        self.sums.push(self.sums.last().copied().unwrap_or(0.0) + power);
        self.triangles.push(Emitter { corner: a, edges: [b - a, c - a], radiance, two_sided, image, of });
        power
    }

    pub fn is_empty(&self) -> bool {
        self.sums.last().is_none_or(|&sum| sum <= 0.0)
    }

    /// Density, over solid angle, with which [`Emitters::sample`] gives a point
    /// of radiance `radiance`, without its image but times the part of the paths that meet it, at `distance`, seen at cosine `cos`.
    pub fn pdf(&self, radiance: Vec3, distance: f32, cos: f32) -> f32 {
        // Chosen by power, then by area: density over area is radiance / total.
        let total = self.sums.last().copied().unwrap_or(0.0);
        radiance.element_sum() / total * distance * distance / cos.max(1e-6)
    }

    /// A direction to a point of an emitter; none if that is not there for the path, or shines away.
    pub fn sample(&self, from: Vec3, pick: f32, u: [f32; 2], path: Dissolve) -> Option<Towards> {
        let total = *self.sums.last()?;
        let i = self.sums.partition_point(|&sum| sum <= pick * total).min(self.triangles.len() - 1);
        let emitter = &self.triangles[i];
        let (element, presence) = emitter.of;
        if !presence.met_by(element, path) {
            return None;
        }
        let root = u[0].sqrt();
        let at = Vec2::new(1.0 - root, u[1] * root);
        let point = emitter.corner + emitter.edges[0] * at.x + emitter.edges[1] * at.y;
        let to = point - from;
        let distance = to.length();
        let direction = to / distance;
        let normal = emitter.edges[0].cross(emitter.edges[1]).normalize();
        let cos = -normal.dot(direction);
        if distance <= 0.0 || (cos <= 0.0 && !emitter.two_sided) {
            return None;
        }
        let pdf = self.pdf(emitter.radiance * presence.fraction(), distance, cos.abs());
        let end = Some(End { point, cos: cos.abs() });
        let image = emitter.image.as_ref().map_or(Vec3::ONE, |(image, [a, b, c])| {
            image.at(*a * (1.0 - at.x - at.y) + *b * at.x + *c * at.y)
        });
        Some(Towards { direction, end, radiance: emitter.radiance * image, pdf })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sky_images_are_sampled_with_the_density_they_state() {
        let rgb = (0..32).map(|i| [if i == 13 { 50.0 } else { 0.5 }; 3]).collect();
        let sky = Sky::Image(SkyImage::new(Environment { width: 8, height: 4, rgb }, 1.0, Quat::IDENTITY));
        // Monte Carlo of ∫ L dω by the sampler against the sum over pixels.
        let n = 4096;
        let mut estimate = 0.0;
        for i in 0..n {
            let u = crate::sampler::Sampler::new(1, 1, i).pair();
            let towards = sky.sample(u).unwrap();
            estimate += towards.radiance.x / towards.pdf / n as f32;
        }
        let exact: f32 = (0..4)
            .map(|y| {
                let band = (PI * y as f32 / 4.0).cos() - (PI * (y + 1) as f32 / 4.0).cos();
                let sum: f32 = (0..8).map(|x| if y * 8 + x == 13 { 50.0 } else { 0.5 }).sum();
                band * sum * TAU / 8.0
            })
            .sum();
        assert!((estimate / exact - 1.0).abs() < 0.02, "{estimate} {exact}");
    }
}
