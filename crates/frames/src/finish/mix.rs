//! A mixture of two frames.

use super::{FinishContext, mesh};
use crate::{Bodies, Frame, Particles};
use shot::Id;
use std::collections::BTreeSet;

/// Most vertices of meshes that dissolve into each other: steps over steps double them. Of more, the one with the greater weight
/// is shown.
const MAX_VERTICES: usize = 8_000_000;

/// The frame that is `b` to the weight 0–1, else `a`. At 0 and 1 the frame is
/// one of the two, whole. Bodies and particles that both frames have go from
/// one to the other in a straight line; particles of one frame only shrink to
/// nothing, or grow. A mesh without bodies dissolves into one with other faces.
pub(super) fn mixed(a: &Frame, b: &Frame, weight: f32, context: &FinishContext) -> Frame {
    if weight <= 0.0 {
        return a.clone();
    }
    if weight >= 1.0 {
        return b.clone();
    }
    let mut frame = if weight < 0.5 { a.clone() } else { b.clone() };
    for (id, from) in &a.bodies {
        if let Some(to) = b.bodies.get(id).filter(|to| to.len() == from.len()) {
            frame.bodies.insert(*id, bodies(*id, from, to, weight, context));
        }
    }
    let ids: BTreeSet<Id> = a.meshes.keys().chain(b.meshes.keys()).copied().collect();
    for id in ids {
        let (from, to) = (a.meshes.get(&id), b.meshes.get(&id));
        let alike = from.map(|mesh| &mesh.topology) == to.map(|mesh| &mesh.topology);
        let vertices: usize = [from, to].into_iter().flatten().map(|mesh| mesh.positions.len()).sum();
        let has_bodies = a.bodies.contains_key(&id) || b.bodies.contains_key(&id);
        if !alike && !has_bodies && vertices <= MAX_VERTICES {
            frame.meshes.insert(id, mesh::dissolved([from, to], weight));
        } else if let (Some(from), Some(to)) = (from, to) {
            frame.meshes.insert(id, mesh::mixed(from, to, weight));
        }
    }
    let none = Particles::default();
    let ids: BTreeSet<Id> = a.particles.keys().chain(b.particles.keys()).copied().collect();
    for id in ids {
        let [from, to] = [a, b].map(|frame| frame.particles.get(&id).unwrap_or(&none));
        frame.particles.insert(id, particles(from, to, weight));
    }
    frame
}

fn bodies(id: Id, a: &Bodies, b: &Bodies, weight: f32, context: &FinishContext) -> Bodies {
    let centre = context.centre(id);
    let mut out = Bodies::default();
    let scale = |bodies: &Bodies, i: usize| bodies.scales.get(i).copied().unwrap_or(1.0);
    for i in 0..a.len() {
        let scale_i = scale(a, i) + (scale(b, i) - scale(a, i)) * weight;
        let orientation = a.orientations[i].slerp(b.orientations[i], weight);
        let of = |bodies: &Bodies| bodies.positions[i] + bodies.orientations[i] * (centre * scale(bodies, i));
        let position = of(a).lerp(of(b), weight) - orientation * (centre * scale_i);
        out.push(
            position,
            orientation,
            a.velocities[i].lerp(b.velocities[i], weight),
            a.angular_velocities[i].lerp(b.angular_velocities[i], weight),
        );
        if !a.scales.is_empty() || !b.scales.is_empty() {
            out.scales.push(scale_i);
        }
    }
    out
}

fn particles(a: &Particles, b: &Particles, weight: f32) -> Particles {
    let mut out = Particles::default();
    let turning = !a.orientations.is_empty() || !b.orientations.is_empty();
    let weighing = !a.weights.is_empty() || !b.weights.is_empty();
    let with_uv = !a.uvs.is_empty() || !b.uvs.is_empty();
    let with_pressure = !a.pressures.is_empty() || !b.pressures.is_empty();
    let mut push = |from: &Particles, i: usize, size: f32| {
        out.ids.push(from.ids[i]);
        out.positions.push(from.positions[i]);
        out.velocities.push(from.velocities[i]);
        out.sizes.push(size);
        out.ages.push(from.ages[i]);
        out.lifespans.push(from.lifespans[i]);
        if turning {
            out.orientations.push(from.orientations.get(i).copied().unwrap_or_default());
        }
        if weighing {
            out.weights.push(from.weights.get(i).copied().unwrap_or(0.0));
        }
        if with_uv {
            out.uvs.push(from.uvs.get(i).copied().unwrap_or_default());
        }
        if with_pressure {
            out.pressures.push(from.pressures.get(i).copied().unwrap_or(0.0));
        }
    };
    // Points of which none is born or dies are mixed; others dissolve.
    let constant = a.ids == b.ids;
    let (mut i, mut k) = (0, 0);
    while i < a.len() || k < b.len() {
        if k == b.len() || (i < a.len() && a.ids[i] <= b.ids[k]) {
            push(a, i, if constant { a.sizes[i] } else { a.sizes[i] * (1.0 - weight) });
            i += 1;
            if constant {
                k += 1;
            }
        } else {
            push(b, k, b.sizes[k] * weight);
            k += 1;
        }
    }
    if constant {
        for i in 0..a.len() {
            out.positions[i] = a.positions[i].lerp(b.positions[i], weight);
            out.velocities[i] = a.velocities[i].lerp(b.velocities[i], weight);
            out.sizes[i] += (b.sizes[i] - a.sizes[i]) * weight;
            out.ages[i] += (b.ages[i] - a.ages[i]) * weight;
            if let (Some(from), Some(to)) = (a.orientations.get(i), b.orientations.get(i)) {
                out.orientations[i] = from.slerp(*to, weight);
            }
        }
    }
    out
}
