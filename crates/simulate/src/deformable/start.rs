//! What begins in touch with a solid: which side of the surface it is on is not told by its distance, which is 0.

use super::contact::ContactProperties;
use super::discretization::{Discretization, Part};
use super::holds::centre_of_mass;
use crate::colliders::Colliders;
use geometry::Bounds;
use glam::{DVec3, Vec3};

/// Part of the thickness below which a point counts as on the surface, and which it is moved away by.
const TOUCHES: f32 = 0.02;

/// Moves points that lie on a solid a little toward the middle of their body, or up or down where that does not take them off
/// the surface.
pub(super) fn set_apart(
    discretization: &Discretization,
    parts: &[Part],
    colliders: &Colliders,
    properties: &[ContactProperties],
    x: &mut [DVec3],
) {
    if colliders.is_empty() {
        return;
    }
    let embedding = &discretization.embedding;
    let points = embedding.all(x);
    let mut middles = vec![DVec3::ZERO; discretization.bodies as usize];
    for nodes in parts.iter().flat_map(|part| discretization.nodes_by_body(part)) {
        let body = discretization.body_of[nodes.start] as usize;
        middles[body] = centre_of_mass(&discretization.measures[nodes.clone()], &x[nodes]);
    }
    let free = vec![false; x.len()];
    let mut near = Vec::new();
    for (point, (at, of)) in (0..).zip(points.iter().zip(properties)) {
        let (at, gap) = (at.as_vec3(), TOUCHES * of.thickness);
        let bounds = Bounds { min: at - 2.0 * gap, max: at + 2.0 * gap };
        near.clear();
        colliders.still_in(&bounds, |i| near.push(i));
        colliders.moving_in(&bounds, |i| near.push(i));
        near.retain(|i| !colliders.list()[*i].is_deformable());
        let away = |p: Vec3| {
            let of =
                near.iter().filter_map(|i| Some(colliders.list()[*i].nearest(p, 3.0 * gap)?.distance(p)));
            of.fold(f32::INFINITY, f32::min)
        };
        if near.is_empty() || away(at) >= gap {
            continue;
        }
        let inward =
            (middles[discretization.body_of_point(point) as usize].as_vec3() - at).normalize_or_zero();
        let ways = [inward, Vec3::Y, Vec3::NEG_Y, Vec3::X, Vec3::Z].map(|way| way * 2.0 * gap);
        if let Some(way) = ways.into_iter().find(|way| away(at + *way) >= gap) {
            embedding.move_point(point, way.as_dvec3(), &free, x, |_| ());
        }
    }
}
