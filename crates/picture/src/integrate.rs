//! The light that arrives along a ray.

use crate::light::{Towards, basis};
use crate::presence::Dissolve;
use crate::sampler::Sampler;
use crate::scene::Scene;
use crate::settings::Settings;
use glam::Vec3;

/// Longest path, in surfaces met.
const MAX_BOUNCES: u32 = 128;
/// From here on a path goes on only with the probability its weight deserves.
const ROULETTE_FROM: u32 = 4;

/// Features of the first surface on a path.
#[derive(Clone, Copy, Default)]
pub(crate) struct First {
    pub distance: f32,
    pub normal: Vec3,
    pub element: u32,
}

/// Directions chosen with less than this density, 1/sr, came off a matt or
/// rough surface: what follows may be softened (A. Kaplanyan and
/// C. Dachsbacher, *Path space regularization for holistic and robust light
/// transport*, 2013).
const MATT_PDF: f32 = 2.0;

/// Directions chosen with more than this density, 1/sr, show what they meet as a mirror does.
const SHARP_PDF: f32 = 20.0;

/// Radiance along the ray, and what it meets first.
pub(crate) fn radiance(
    scene: &Scene,
    mut origin: Vec3,
    mut direction: Vec3,
    sampler: &mut Sampler,
    settings: &Settings,
) -> (Vec3, First) {
    let mut sum = Vec3::ZERO;
    let mut throughput = Vec3::ONE;
    let mut first = First { distance: f32::INFINITY, ..First::default() };
    // Density with which the last surface chose the direction.
    let mut pdf = f32::INFINITY;
    let mut soft = false;
    // Display brightness: with the exposure applied.
    let clamp = settings.clamp / scene.lens.exposure.exp2();
    let path = scene.dissolve(|| sampler.one());
    for bounce in 0..MAX_BOUNCES {
        let bound = |light: Vec3| {
            let most = light.max_element();
            if bounce > 0 && most > clamp { light * (clamp / most) } else { light }
        };
        let Some(meeting) = scene.intersect(origin, direction, path) else {
            sum += bound(throughput * from_far(scene, direction, pdf));
            break;
        };
        if bounce == 0 {
            first = First { distance: meeting.t, normal: meeting.normal, element: meeting.element.0 };
        }
        if meeting.emission.max_element() > 0.0 {
            let cos = meeting.face.dot(direction).abs();
            // Particles that shine are not looked for: their light counts where
            // they are seen as such; matt surfaces would find it too rarely.
            let weight = match meeting.sampled {
                Some(radiance) => balance(pdf, scene.emitters.pdf(radiance, meeting.t, cos)),
                None => f32::from(u8::from(pdf.is_infinite() || pdf > SHARP_PDF)),
            };
            sum += bound(throughput * meeting.emission * weight);
        }
        // The surface's frame, z on the side the ray comes from.
        let entering = meeting.face.dot(direction) < 0.0;
        let side = if entering { 1.0 } else { -1.0 };
        let face = meeting.face * side;
        let mut normal = meeting.normal * side;
        if normal.dot(direction) > -1e-3 {
            normal = (normal - direction * (normal.dot(direction) + 1e-2)).normalize();
        }
        let frame = basis(normal);
        let view = frame.transpose() * -direction;
        let view = Vec3::new(view.x, view.y, view.z.max(1e-3)).normalize();
        let point = origin + direction * meeting.t;
        let nudge = rounding(origin, point);
        let leave = |towards: Vec3| point + face * if towards.dot(face) > 0.0 { nudge } else { -nudge };

        let bsdf = if soft { meeting.soft } else { meeting.bsdf };
        if !bsdf.is_delta() {
            let mut direct = Vec3::ZERO;
            lights(scene, point, sampler, (bounce == 0, path), &mut |towards, probability| {
                let local = frame.transpose() * towards.direction;
                let above = towards.direction.dot(face);
                if local.z * above <= 0.0 {
                    return;
                }
                let (f, scatter_pdf) = bsdf.evaluate(meeting.albedo, view, local, entering);
                if f.max_element() <= 0.0 {
                    return;
                }
                let light_pdf = towards.pdf * probability;
                let start = leave(towards.direction);
                let (direction, distance) = match towards.end {
                    None => (towards.direction, f32::INFINITY),
                    // The way from where the ray starts, and not from the point, to just before the light.
                    Some(end) => {
                        let way = end.point - start;
                        let length = way.length();
                        let short = rounding(start, end.point) / end.cos.max(0.02);
                        (way / length.max(1e-20), length * (1.0 - 1e-6) - short)
                    }
                };
                if !scene.blocked(start, direction, distance, path) {
                    let weight = balance(towards.pdf, scatter_pdf);
                    direct += f * towards.radiance * (weight / light_pdf);
                }
            });
            sum += bound(throughput * direct);
        }

        let (u, pick) = (sampler.pair(), sampler.one());
        let Some(scatter) = bsdf.sample(meeting.albedo, view, entering, u, pick) else { break };
        let reflected = scatter.direction.z > 0.0;
        direction = frame * scatter.direction;
        let above = direction.dot(face);
        if (above > 0.0) != reflected {
            // Blended normals can point light into the surface: mirror it out
            // again at the face, so that no energy is lost.
            direction = (direction - face * (2.0 * above)).normalize();
        }
        throughput *= scatter.weight;
        pdf = scatter.pdf;
        soft |= settings.soften && pdf < MATT_PDF;
        origin = leave(direction);
        if throughput.max_element() <= 0.0 || !throughput.is_finite() {
            break;
        }
        if bounce >= ROULETTE_FROM {
            let survive = throughput.max_element().min(1.0);
            if sampler.one() >= survive {
                break;
            }
            throughput /= survive;
        }
    }
    (sum, first)
}

/// Bound on the rounding of a point that a ray from `origin` meets: some units
/// in the last place of what was added up (C. Wächter and N. Binder, *A fast and
/// robust method for avoiding self-intersection*, 2019).
fn rounding(origin: Vec3, point: Vec3) -> f32 {
    4e-6 * (origin.abs().max_element().max(point.abs().max_element()) + 0.1)
}

/// Weight of a technique of density `this` beside one of density `other`
/// (the power heuristic, Veach 1997).
fn balance(this: f32, other: f32) -> f32 {
    if this.is_infinite() {
        return 1.0;
    }
    let (a, b) = (this * this, other * other);
    if a + b > 0.0 { a / (a + b) } else { 0.0 }
}

/// Sky and sun along a ray that meets nothing.
fn from_far(scene: &Scene, direction: Vec3, pdf: f32) -> Vec3 {
    let mut sum = Vec3::ZERO;
    for sky in &scene.skies {
        sum += sky.radiance(direction) * balance(pdf, sky.pdf(direction));
    }
    for sun in scene.suns.iter().filter(|sun| sun.contains(direction)) {
        sum += sun.radiance * balance(pdf, sun.pdf(direction));
    }
    sum
}

/// Directions towards lights with the probability each was chosen: one of every
/// kind, or (`all` unset) one kind at random.
fn lights(
    scene: &Scene,
    point: Vec3,
    sampler: &mut Sampler,
    (all, path): (bool, Dissolve),
    give: &mut dyn FnMut(Towards, f32),
) {
    let emitters = usize::from(!scene.emitters.is_empty());
    let kinds = scene.suns.len() + scene.skies.len() + emitters;
    if kinds == 0 {
        return;
    }
    let (chosen, probability) = if all {
        (0..kinds, 1.0)
    } else {
        let one = ((sampler.one() * kinds as f32) as usize).min(kinds - 1);
        (one..one + 1, 1.0 / kinds as f32)
    };
    for kind in chosen {
        let u = sampler.pair();
        let towards = if let Some(sun) = scene.suns.get(kind) {
            Some(sun.sample(u))
        } else if let Some(sky) = scene.skies.get(kind - scene.suns.len()) {
            sky.sample(u)
        } else {
            scene.emitters.sample(point, sampler.one(), u, path)
        };
        if let Some(towards) = towards {
            give(towards, probability);
        }
    }
}
