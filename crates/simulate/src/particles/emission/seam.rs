//! Particles along a curve on a surface, that go with it.

use super::{Birth, start};
use crate::Step;
use crate::colliders::Collider;
use crate::maps::MapsAt;
use crate::particles::ParticleSystem;
use crate::particles::hash::{ParticleHash, Purpose};
use crate::particles::particle_set::{Newborn, Stuck};
use geometry::maps::MapContext;
use geometry::{Meshes, SurfacePlace};
use glam::{Quat, Vec3};
use shot::particles::{EmissionSchedule, Particles, Source};
use shot::world::World;

/// Most places along a seam.
const MAX_PLACES: usize = 1_000_000;

/// The places along a seam.
pub(in crate::particles) struct Seam {
    /// What they are made of: strokes in the solid's frame, number of starts, number of places.
    of: (Vec<Vec<Vec3>>, u32, usize),
    /// Points of the curve, in the order in which they come.
    points: Vec<Vec3>,
}

/// Points along strokes at even distances, in the order in which they are reached from so many starts of each stroke, all at once.
fn along(strokes: &[Vec<Vec3>], starts: u32, count: usize) -> Vec<Vec3> {
    let length = |pair: &[Vec3]| f64::from(pair[0].distance(pair[1]));
    let lengths: Vec<f64> = strokes.iter().map(|stroke| stroke.windows(2).map(length).sum()).collect();
    let gap = lengths.iter().sum::<f64>() / count as f64;
    if gap <= 0.0 {
        return Vec::new();
    }
    let mut found: Vec<(f64, Vec3)> = Vec::with_capacity(count);
    // Length of all pieces before.
    let mut passed = 0.0;
    for (stroke, whole) in strokes.iter().zip(&lengths) {
        let start = passed;
        for pair in stroke.windows(2) {
            let piece = length(pair);
            while found.len() < count {
                let at = (found.len() as f64 + 0.5) * gap;
                if at > passed + piece {
                    break;
                }
                let part = ((at - start) / whole * f64::from(starts.max(1))).fract();
                found.push((part, pair[0].lerp(pair[1], ((at - passed) / piece.max(1e-30)) as f32)));
            }
            passed += piece;
        }
    }
    // Stable, so that points that are reached at once come in their order along the strokes.
    found.sort_by(|(a, _), (b, _)| a.total_cmp(b));
    found.into_iter().map(|(_, point)| point).collect()
}

/// How many places a seam has on which births last so long.
fn count_of(particles: &Particles, span_s: f64) -> usize {
    let count = match particles.emission.schedule {
        EmissionSchedule::Total { count } | EmissionSchedule::Burst { count } => count as usize,
        EmissionSchedule::Rate { per_s } => (f64::from(per_s) * span_s).ceil() as usize,
        EmissionSchedule::Fill {}
        | EmissionSchedule::Flow { .. }
        | EmissionSchedule::Jet {}
        | EmissionSchedule::Released {}
        | EmissionSchedule::Never {} => 0,
    };
    count.clamp(1, MAX_PLACES)
}

impl ParticleSystem {
    /// The point of the curve that is the place of a birth, in the frame of the solid.
    fn seam_point(&self, number: u64) -> Option<Vec3> {
        let points = &self.seam.as_ref()?.points;
        (!points.is_empty()).then(|| points[(number % points.len() as u64) as usize])
    }

    /// Appends the births of a substep along a seam; of each the fraction of the substep that remains.
    pub(super) fn born_on_seam(
        &mut self,
        step: &Step,
        world: &World,
        particles: &Particles,
        births: &[Birth],
        span_s: f64,
        meshes: &Meshes,
    ) -> Vec<f32> {
        let Source::Seam { solid, curve, starts, lift } = &particles.source else { return Vec::new() };
        let mut left = Vec::new();
        let Some(element) = step.shot.element(*solid) else { return left };
        let (surfaces, seconds) = (step.surfaces, step.seconds);
        // As for maps, the curve lies where it is to the solid as the solid is placed now.
        let Some(strokes) = (MapsAt { world, surfaces, meshes, element, seconds }).curve(*curve) else {
            return left;
        };
        let of = (strokes, *starts, count_of(particles, span_s));
        if self.seam.as_ref().is_none_or(|seam| seam.of != of) {
            let points = along(&of.0, of.1, of.2);
            self.seam = Some(Seam { of, points });
        }
        let Some(rest) = self.surface_at_rest(element, meshes) else { return left };
        let Some(body): Option<&Collider> = step.colliders.of(*solid).next() else { return left };
        for Birth { number, fraction } in births {
            let Some(point) = self.seam_point(*number) else { break };
            let Some(place) = rest.place(point, false) else { break };
            let place = SurfacePlace { offset: Vec3::ZERO, ..place };
            let mut hash = ParticleHash::new(particles.seed, *number as u32, Purpose::Birth, 0);
            let born_s = (step.seconds - f64::from(step.dt * (1.0 - fraction))) as f32;
            let newborn =
                start(particles, (Vec3::ZERO, Quat::IDENTITY), Vec3::Y, Vec3::ZERO, born_s, &mut hash);
            let lifted = Vec3::Y * (0.5 * newborn.size_m * lift);
            let (on, turned) = if body.deforms() {
                let Some(found) = body.at_place(&place, false) else { continue };
                found
            } else {
                let Some((at, turned)) = rest.at_place(&place, false) else { break };
                let (position, orientation) = body.now.pose;
                (position + orientation * (at * body.now.scale), orientation * turned)
            };
            let (position, orientation) = (on + turned * lifted, turned * newborn.orientation);
            let stuck = match body.deforms() {
                true => {
                    let SurfacePlace { triangle, weights, .. } = place;
                    let (element, copy) = (body.now.element, body.now.copy);
                    let face = Some((triangle, weights));
                    Stuck { element, copy, position: lifted, orientation: newborn.orientation, face }
                }
                false => Stuck::to(body, position, orientation),
            };
            let velocity = body.velocity_at(position);
            self.set.push(&Newborn { position, orientation, velocity, ..newborn }, self.columns);
            if let Some(id) = self.set.ids.last() {
                self.set.rest.stuck.insert(*id, stuck);
            }
            left.push(1.0 - fraction);
        }
        left
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_even_and_come_from_all_starts_at_once() {
        let strokes = [vec![Vec3::ZERO, Vec3::X, Vec3::X * 4.0]];
        let places = along(&strokes, 4, 8);
        let x: Vec<f32> = places.iter().map(|p| p.x).collect();
        // Four parts of 1 m with two places each: first the nearer one of each part.
        assert_eq!(x, [0.25, 1.25, 2.25, 3.25, 0.75, 1.75, 2.75, 3.75]);
        assert!(along(&[vec![Vec3::ONE]], 1, 4).is_empty());
        // Strokes of different lengths have places at the same distances.
        let strokes = [vec![Vec3::ZERO, Vec3::X], vec![Vec3::Y, Vec3::Y + 3.0 * Vec3::X]];
        let places = along(&strokes, 1, 4);
        assert_eq!(places.iter().filter(|p| p.y == 0.0).count(), 1);
        // So many places on so many pieces take no time.
        let fine: Vec<Vec3> = (0..10_000).map(|i| Vec3::X * i as f32).collect();
        assert_eq!(along(&[fine], 3, MAX_PLACES).len(), MAX_PLACES);
    }
}
