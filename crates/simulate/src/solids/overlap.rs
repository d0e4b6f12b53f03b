//! Bodies at the first frame: overlaps, their separation, and the support below a
//! body.

use super::{SolidBody, id_of, prepare};
use crate::{PrepareContext, PrepareError};
use geometry::Meshes;
use glam::Vec3;
use rapier3d::parry::query::{self, ShapeCastOptions};
use rapier3d::prelude::*;
use shot::{Id, Moves, Shot, motion::Sampler};

/// Two overlapping bodies.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Overlap {
    /// Element and copy of the first.
    pub a: (Id, u32),
    /// Element and copy of the second.
    pub b: (Id, u32),
    /// How deep, metres.
    pub depth_m: f32,
    /// Unit direction in which `b` leaves `a`.
    pub normal: Vec3,
}

/// A new place for an element.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct BodyPose {
    /// The element.
    pub element: Id,
    /// Change of its position, m.
    pub shift_m: Vec3,
    /// Factor for the distance between its copies.
    pub spread: f32,
}

/// Depth that does not count, metres: neighbours placed exactly side by side.
const TOUCH: f32 = 2e-4;

/// The pairs of bodies that overlap at the first frame, deepest first. Two
/// still bodies may.
///
/// # Errors
/// [`PrepareError`].
pub fn start_overlaps(shot: &Shot, meshes: &Meshes) -> Result<Vec<Overlap>, PrepareError> {
    let (sampler, now) = staged(shot)?;
    let (mut world, _) =
        prepare::world(PrepareContext { shot: &now, sampler: &sampler, meshes, initial_state: None })?;
    Ok(overlaps(&mut world))
}

/// The shot sampled at its first frame.
fn staged(shot: &Shot) -> Result<(Sampler, Shot), PrepareError> {
    let sampler = Sampler::new(shot).map_err(|faults| {
        PrepareError::State(faults.first().map_or_else(String::new, ToString::to_string))
    })?;
    let now = sampler.at(f64::from(shot.timing.first))?;
    Ok((sampler, now))
}

fn overlaps(world: &mut PhysicsWorld) -> Vec<Overlap> {
    world.detect_collisions(&(), &());
    let mut found: Vec<Overlap> = world
        .contact_pairs()
        .filter_map(|pair| {
            let (c1, c2) = (&world.colliders[pair.collider1], &world.colliders[pair.collider2]);
            let hit = query::contact(c1.position(), c1.shape(), c2.position(), c2.shape(), 0.0).ok()??;
            let depth_m = -hit.dist;
            let ids = (id_of(c1.user_data), id_of(c2.user_data));
            (depth_m > TOUCH).then_some(Overlap { a: ids.0, b: ids.1, depth_m, normal: hit.normal1 })
        })
        .collect();
    found.sort_by(|x, y| y.depth_m.total_cmp(&x.depth_m).then(x.a.cmp(&y.a)).then(x.b.cmp(&y.b)));
    found
}

/// Changes of position that separate all overlapping bodies, moving free elements before
/// animated ones and never a still one. Copies of one element are spread.
///
/// # Errors
/// [`PrepareError`].
pub fn separate(shot: &Shot, meshes: &Meshes) -> Result<Vec<BodyPose>, PrepareError> {
    let mut shot = shot.clone();
    let mut moved: Vec<BodyPose> = Vec::new();
    for _ in 0..64 {
        let found = start_overlaps(&shot, meshes)?;
        let Some(worst) = found.first() else { break };
        let rank = |id: Id| match shot.element(id).and_then(|e| e.as_solid()).map(|s| s.body.moves) {
            Some(Moves::Free) => 2,
            Some(Moves::Animated) => 1,
            _ => 0,
        };
        let ((a, _), (b, _)) = (worst.a, worst.b);
        let (id, push) = if rank(b) >= rank(a) { (b, worst.normal) } else { (a, -worst.normal) };
        let Some(element) = shot.elements.iter_mut().find(|element| element.id == id) else { break };
        let entry = match moved.iter_mut().find(|position| position.element == id) {
            Some(entry) => entry,
            None => {
                moved.push(BodyPose { element: id, shift_m: Vec3::ZERO, spread: 1.0 });
                moved.last_mut().expect("just pushed")
            }
        };
        if a == b {
            let Some(copies) = element.as_solid_mut().and_then(|solid| solid.copies.as_mut()) else { break };
            let wide = copies.spacing_m.abs().max_element().max(1e-3);
            let factor = 1.0 + (worst.depth_m + TOUCH) / wide;
            copies.spacing_m *= factor;
            entry.spread *= factor;
        } else {
            let shift = push * (worst.depth_m + TOUCH);
            entry.shift_m += shift;
            element.shift(shift);
        }
    }
    Ok(moved)
}

/// Distance along gravity from an element's pose at the first frame to the first
/// contact, m; none if nothing is below it.
///
/// # Errors
/// [`PrepareError`].
pub fn drop_to_rest(shot: &Shot, meshes: &Meshes, element: Id) -> Result<Option<Vec3>, PrepareError> {
    let (sampler, now) = staged(shot)?;
    let (mut world, members) =
        prepare::world(PrepareContext { shot: &now, sampler: &sampler, meshes, initial_state: None })?;
    world.detect_collisions(&(), &());
    let down = now.gravity().try_normalize().unwrap_or(Vec3::NEG_Y);
    let own: Vec<&SolidBody> = members.iter().filter(|member| member.element == element).collect();
    let others = |_: ColliderHandle, collider: &Collider| id_of(collider.user_data).0 != element;
    let mut nearest: Option<f32> = None;
    for member in own {
        let collider = &world.colliders[member.collider];
        let filter = QueryFilter::default().predicate(&others);
        let options = ShapeCastOptions {
            max_time_of_impact: 1_000.0,
            target_distance: 0.0,
            stop_at_penetration: false,
            compute_impact_geometry_on_penetration: false,
        };
        if let Some((_, hit)) = world.cast_shape(collider.position(), down, collider.shape(), options, filter)
        {
            nearest = Some(nearest.map_or(hit.time_of_impact, |t: f32| t.min(hit.time_of_impact)));
        }
    }
    Ok(nearest.map(|t| down * t))
}
