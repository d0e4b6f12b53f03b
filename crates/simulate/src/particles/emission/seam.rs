//! Particles along a curve on a surface, that go with it.

use super::{Birth, start};
use crate::Step;
use crate::colliders::Collider;
use crate::maps::MapsAt;
use crate::particles::ParticleSystem;
use crate::particles::hash::{ParticleHash, Purpose};
use crate::particles::particle_set::{Newborn, Stuck};
use geometry::maps::MapContext;
use geometry::{Meshes, MovingSurface, SurfacePlace};
use glam::{Quat, Vec3};
use shot::particles::{EmissionSchedule, Particles, Source};
use shot::world::World;
use shot::{Element, Id};

/// Most places along a seam.
const MAX_PLACES: usize = 1_000_000;

/// The places along a seam, in the order in which they come.
pub(in crate::particles) struct Seam {
    /// What they are of: number of places, curve and shape, as JSON.
    of: String,
    places: Vec<SurfacePlace>,
    /// Positions on the surface at rest, and the frames of the faces there.
    at_rest: Vec<(Vec3, Quat)>,
}

/// Places along strokes at even distances, in the order in which they are reached from so many starts of each stroke, all at
/// once; each with its direction along the stroke.
fn along(strokes: &[Vec<Vec3>], starts: u32, count: usize) -> Vec<Vec3> {
    let length = |stroke: &Vec<Vec3>| -> f64 {
        stroke.windows(2).map(|pair| f64::from(pair[0].distance(pair[1]))).sum()
    };
    let lengths: Vec<f64> = strokes.iter().map(length).collect();
    let whole: f64 = lengths.iter().sum();
    if whole <= 0.0 {
        return Vec::new();
    }
    let mut found: Vec<(f64, Vec3)> = Vec::with_capacity(count);
    let (mut stroke, mut before) = (0, 0.0);
    for i in 0..count {
        let at = (i as f64 + 0.5) / count as f64 * whole;
        while at > before + lengths[stroke] && stroke + 1 < strokes.len() {
            before += lengths[stroke];
            stroke += 1;
        }
        let way = (at - before).clamp(0.0, lengths[stroke]);
        let part = way / lengths[stroke].max(1e-30) * f64::from(starts.max(1));
        let mut left = way;
        let mut place = strokes[stroke].last().copied().unwrap_or_default();
        for pair in strokes[stroke].windows(2) {
            let piece = f64::from(pair[0].distance(pair[1]));
            if left <= piece {
                place = pair[0].lerp(pair[1], (left / piece.max(1e-30)) as f32);
                break;
            }
            left -= piece;
        }
        found.push((part.fract(), place));
    }
    // Stable, so that places that are reached at once come in their order along the strokes.
    found.sort_by(|(a, _), (b, _)| a.total_cmp(b));
    found.into_iter().map(|(_, place)| place).collect()
}

impl ParticleSystem {
    /// How many places a seam has.
    fn seam_places(&self, particles: &Particles, span_s: f64) -> usize {
        let count = match particles.emission.schedule {
            EmissionSchedule::Total { count } | EmissionSchedule::Burst { count } => count as usize,
            EmissionSchedule::Rate { per_s } => (f64::from(per_s) * span_s).ceil() as usize,
            EmissionSchedule::Never {} => 0,
        };
        count.clamp(1, MAX_PLACES)
    }

    /// Finds the places of a seam on the surface at rest, unless they are known.
    fn find_seam(
        &mut self,
        step: &Step,
        world: &World,
        (solid, curve, starts): (&Element, Id, u32),
        count: usize,
        meshes: &Meshes,
    ) -> Option<()> {
        let at = MapsAt { world, surfaces: step.surfaces, meshes, element: solid, seconds: step.seconds };
        let strokes = at.curve(curve)?;
        let rest = self.rest_surface(solid, meshes)?;
        let shape = solid.as_solid().map(|solid| &solid.shape);
        let of = serde_json::to_string(&(count, starts, &strokes, shape)).expect("it serialises");
        if self.seam.as_ref().is_some_and(|seam| seam.of == of) {
            return Some(());
        }
        let surface = MovingSurface::new(rest.topology.clone(), rest.surface.mesh().positions.clone());
        let places = along(&strokes, starts, count).into_iter().filter_map(|place| {
            let place = SurfacePlace { offset: Vec3::ZERO, ..surface.place(place, false)? };
            Some((place, surface.at_place(&place, false)?))
        });
        let (places, at_rest) = places.unzip();
        self.seam = Some(Seam { of, places, at_rest });
        Some(())
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
        let count = self.seam_places(particles, span_s);
        let mut left = Vec::new();
        let Some(element) = step.shot.element(*solid) else { return left };
        // Where the solid stood at first, the curve is laid on it.
        if self.find_seam(step, world, (element, *curve, *starts), count, meshes).is_none() {
            return left;
        }
        let Some(body): Option<&Collider> = step.colliders.of(*solid).next() else { return left };
        for Birth { number, fraction } in births {
            let Some(seam) = &self.seam else { break };
            let Some(place) = (!seam.places.is_empty()).then(|| *number as usize % seam.places.len()) else {
                break;
            };
            let mut hash = ParticleHash::new(particles.seed, *number as u32, Purpose::Birth, 0);
            let born_s = (step.seconds - f64::from(step.dt * (1.0 - fraction))) as f32;
            let newborn =
                start(particles, (Vec3::ZERO, Quat::IDENTITY), Vec3::Y, Vec3::ZERO, born_s, &mut hash);
            let lifted = Vec3::Y * (0.5 * newborn.size_m * lift);
            let (on, turned) = if body.deforms() {
                let Some(found) = body.at_place(&seam.places[place], false) else { continue };
                found
            } else {
                let ((position, orientation), (at, turned)) = (body.now.pose, seam.at_rest[place]);
                (position + orientation * (at * body.now.scale), orientation * turned)
            };
            let (position, orientation) = (on + turned * lifted, turned * newborn.orientation);
            let stuck = match body.deforms() {
                true => {
                    let SurfacePlace { triangle, weights, .. } = seam.places[place];
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
    }
}
