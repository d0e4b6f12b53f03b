//! Colours on the surface of a liquid: of its ramp, of the image of what it was, and of the liquids that mix in it.

use crate::assets::Assets;
use frames::MeshState;
use frames::finish::{AGE, share_of};
use geometry::topology::WEIGHT;
use glam::Vec3;
use shot::Shot;
use shot::particles::{Particles, RampInput};

/// The factor of the albedo at each vertex of the mesh of an element; empty: 1 everywhere. An image is looked up at the vertices, so
/// that the colours and not the UVs go on across seams.
pub(crate) fn colours(shot: &Shot, particles: &Particles, mesh: &MeshState, assets: &Assets) -> Vec<Vec3> {
    let (appearance, look) = (&particles.appearance, &particles.look);
    let by_ramp = !matches!(appearance.colour_by, RampInput::Nothing | RampInput::Random);
    let image = look.image.as_ref().and_then(|name| assets.meshes.images.get(name));
    let uvs = mesh.topology.uvs();
    let image = image.filter(|_| !uvs.is_empty());
    let others: Vec<(&[f32], Vec3)> = shot
        .particles()
        .filter_map(|(other, of)| Some((mesh.scalars(&share_of(other.id))?, of.look.albedo)))
        .collect();
    if !by_ramp && image.is_none() && others.is_empty() {
        return Vec::new();
    }
    let (ages, weights) = (mesh.scalars(AGE), mesh.scalars(WEIGHT));
    let value = |of: Option<&[f32]>, v: usize, none: f32| of.map_or(none, |of| of[v]);
    let lifespan = particles.start.lifespan_s.unwrap_or(f32::INFINITY);
    let colour = |v: usize| {
        let mut colour = Vec3::ONE;
        if by_ramp {
            let speed = mesh.velocities[v].length();
            let (age, weight) = (value(ages, v, 0.0), value(weights, v, 1.0));
            colour = appearance.colour(appearance.colour_by.fraction(age, lifespan, speed, 0.0, weight));
        }
        if let Some(image) = image {
            colour *= image.at(uvs[v] * look.image_repeat);
        }
        if !others.is_empty() {
            let mixed: Vec3 = others.iter().map(|(shares, albedo)| *albedo * shares[v]).sum();
            colour *= mixed / look.albedo.max(Vec3::splat(1e-4));
        }
        colour
    };
    (0..mesh.positions.len()).map(colour).collect()
}
