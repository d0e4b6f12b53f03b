//! Meshes between frames, mixed, and smoothed in time. Vertices are matched as
//! long as the faces stay the same; where they change, the vertices of the
//! nearer frame go along their velocity.

use crate::{MeshState, OPACITY, topologies};
use geometry::Topology;
use geometry::topology::{Attribute, AttributeValues, Domain, joined_attributes};
use glam::Vec3;
use std::sync::Arc;

/// A mesh between two frames that are `seconds` apart, at a fraction of the time
/// between them: the cubic through both positions with both velocities (Hermite).
/// Velocities are multiplied by `rate`.
pub(super) fn between(a: &MeshState, b: &MeshState, seconds: f32, fraction: f32, rate: f32) -> MeshState {
    let s = fraction;
    if a.topology != b.topology || seconds <= 0.0 {
        let (mut near, passed) = if s < 0.5 { (a.clone(), s) } else { (b.clone(), s - 1.0) };
        for (position, velocity) in near.positions.iter_mut().zip(&mut near.velocities) {
            *position += *velocity * (passed * seconds);
            *velocity *= rate;
        }
        return near;
    }
    let weights = [s * s * (3.0 - 2.0 * s), s * (1.0 - s) * (1.0 - s) * seconds, s * s * (1.0 - s) * seconds];
    let slopes = [6.0 * s * (1.0 - s) / seconds, (1.0 - s) * (1.0 - 3.0 * s), s * (3.0 * s - 2.0)];
    let n = a.positions.len();
    let (mut positions, mut velocities) = (Vec::with_capacity(n), Vec::with_capacity(n));
    for i in 0..n {
        let (from, start, end) = (a.positions[i], a.velocities[i], b.velocities[i]);
        let moved = b.positions[i] - from;
        positions.push(from + moved * weights[0] + start * weights[1] - end * weights[2]);
        velocities.push((moved * slopes[0] + start * slopes[1] + end * slopes[2]) * rate);
    }
    let near = if s < 0.5 { a } else { b };
    MeshState { topology: a.topology.clone(), positions, velocities, attributes: near.attributes.clone() }
}

/// The mesh that is `b` to the weight 0–1, else `a`: vertices go in straight
/// lines; of meshes with other faces, the one with the greater weight.
pub(super) fn mixed(a: &MeshState, b: &MeshState, weight: f32) -> MeshState {
    let near = if weight < 0.5 { a } else { b };
    if a.topology != b.topology {
        return near.clone();
    }
    let mix = |a: &[Vec3], b: &[Vec3]| a.iter().zip(b).map(|(a, b)| a.lerp(*b, weight)).collect();
    MeshState {
        topology: a.topology.clone(),
        positions: mix(&a.positions, &b.positions),
        velocities: mix(&a.velocities, &b.velocities),
        attributes: near.attributes.clone(),
    }
}

/// Both meshes, each as far there as its part of the weight says, 0–1: of the second, else of the first. One that is not
/// given is empty.
pub(super) fn dissolved(meshes: [Option<&MeshState>; 2], weight: f32) -> MeshState {
    // What the second takes of the picture is what the first leaves.
    let shares = [1.0 - weight, -weight];
    let parts: Vec<(&MeshState, f32)> =
        meshes.into_iter().zip(shares).filter_map(|(mesh, share)| Some((mesh?, share))).collect();
    let topology = Topology::joined(&parts.iter().map(|(mesh, _)| &*mesh.topology).collect::<Vec<_>>());
    let others: Vec<Vec<Attribute>> = parts
        .iter()
        .map(|(mesh, _)| mesh.attributes.iter().filter(|of| of.name != OPACITY).cloned().collect())
        .collect();
    let mut attributes = joined_attributes(&others.iter().map(Vec::as_slice).collect::<Vec<_>>());
    let opacity = |(mesh, share): &(&MeshState, f32)| -> Vec<f32> {
        match mesh.scalars(OPACITY) {
            Some(own) => own.iter().map(|own| own.abs() * share).collect(),
            None => vec![*share; mesh.positions.len()],
        }
    };
    attributes.push(Attribute {
        name: OPACITY.to_owned(),
        domain: Domain::Vertex,
        values: AttributeValues::Scalars(parts.iter().flat_map(opacity).collect()),
    });
    let column =
        |of: fn(&MeshState) -> &[Vec3]| parts.iter().flat_map(|(mesh, _)| of(mesh)).copied().collect();
    MeshState {
        topology: topologies::in_use(&Arc::new(topology)),
        positions: column(|mesh| &mesh.positions),
        velocities: column(|mesh| &mesh.velocities),
        attributes,
    }
}

/// Makes a mesh the mean of itself and of those around it, in pairs before and
/// after with their weights; up to the first pair with other faces.
pub(super) fn smooth<'a>(
    mesh: &mut MeshState,
    pairs: impl Iterator<Item = (Option<&'a MeshState>, Option<&'a MeshState>, f32)>,
) {
    let mut sum = 1.0;
    for (before, after, weight) in pairs {
        let (Some(before), Some(after)) = (before, after) else { break };
        if before.topology != mesh.topology || after.topology != mesh.topology {
            break;
        }
        sum += 2.0 * weight;
        // Both sides at once, so that a steady motion stays where it is.
        let part = 2.0 * weight / sum;
        for i in 0..mesh.positions.len() {
            let position = 0.5 * (before.positions[i] + after.positions[i]);
            let velocity = 0.5 * (before.velocities[i] + after.velocities[i]);
            mesh.positions[i] = mesh.positions[i].lerp(position, part);
            mesh.velocities[i] = mesh.velocities[i].lerp(velocity, part);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::{Topology, primitive};
    use std::sync::Arc;

    /// A sphere that grows with the square of time, and falls with it.
    fn at(t: f32, around: usize) -> MeshState {
        let mesh = primitive::sphere(1.0, around);
        let grown = |p: &Vec3| *p * (1.0 + t * t) - Vec3::Y * (4.9 * t * t);
        MeshState {
            topology: Arc::new(Topology::of(&mesh)),
            velocities: mesh.positions.iter().map(|p| *p * (2.0 * t) - Vec3::Y * (9.8 * t)).collect(),
            positions: mesh.positions.iter().map(grown).collect(),
            attributes: Vec::new(),
        }
    }

    fn furthest(a: &[Vec3], b: &[Vec3]) -> f32 {
        a.iter().zip(b).map(|(a, b)| a.distance(*b)).fold(0.0, f32::max)
    }

    #[test]
    fn between_two_frames_a_motion_under_constant_acceleration_is_exact() {
        let (a, b) = (at(0.5, 12), at(0.75, 12));
        for s in [0.1, 0.5, 0.8] {
            let (shown, exact) = (between(&a, &b, 0.25, s, 2.0), at(0.5 + 0.25 * s, 12));
            assert!(furthest(&shown.positions, &exact.positions) < 1e-5);
            let doubled: Vec<Vec3> = exact.velocities.iter().map(|v| *v * 2.0).collect();
            assert!(furthest(&shown.velocities, &doubled) < 1e-4);
        }
    }

    #[test]
    fn where_faces_change_vertices_go_along_their_velocity() {
        let (a, b) = (at(0.5, 12), at(0.75, 16));
        let shown = between(&a, &b, 0.25, 0.4, 1.0);
        assert_eq!(shown.topology, a.topology);
        assert!((shown.positions[0] - (a.positions[0] + a.velocities[0] * 0.1)).length() < 1e-6);
        let shown = between(&a, &b, 0.25, 0.6, 1.0);
        assert!((shown.positions[0] - (b.positions[0] - b.velocities[0] * 0.1)).length() < 1e-6);
        assert_eq!(mixed(&a, &b, 0.4), a);
    }

    #[test]
    fn meshes_with_other_faces_dissolve_into_each_other() {
        let (a, b) = (at(0.5, 12), at(0.75, 16));
        let both = dissolved([Some(&a), Some(&b)], 0.25);
        let (n, m) = (a.positions.len(), b.positions.len());
        assert_eq!(both.positions[..n], a.positions);
        assert_eq!(both.positions[n..], b.positions);
        assert_eq!(both.scalars(OPACITY).unwrap()[n - 1..=n], [0.75, -0.25]);
        assert_eq!(
            both.topology.triangles().len(),
            a.topology.triangles().len() + b.topology.triangles().len()
        );
        let again = dissolved([None, Some(&both)], 0.5);
        let opacities = again.scalars(OPACITY).unwrap();
        assert_eq!((again.positions.len(), opacities[0], opacities[n]), (n + m, -0.375, -0.125));
    }

    #[test]
    fn a_steady_motion_stays_as_it_is_when_it_is_smoothed() {
        let steady = |t: f32| {
            let mut mesh = at(0.0, 12);
            mesh.positions.iter_mut().for_each(|p| p.x += t);
            mesh
        };
        let mut mesh = steady(0.0);
        let (a, b) = (steady(-0.1), steady(0.1));
        smooth(&mut mesh, [(Some(&a), Some(&b), 0.6)].into_iter());
        assert!(furthest(&mesh.positions, &steady(0.0).positions) < 1e-6);
    }
}
