//! Which elements lie within the camera's gate.

use crate::camera::Lens;
use crate::scene::solved_pose;
use frames::Frame;
use geometry::{Bounds, Meshes};
use glam::Vec3;
use shot::{
    ElementKind, Id, Shot,
    motion::{NotFinite, Sampler},
    world::World,
};
use std::collections::BTreeMap;

/// Particles of an element that are looked at, at most.
const PARTICLES: usize = 512;

/// Whether each solid and each set of particles has a body or a particle within
/// the gate at frame `number`. An element that has none at that frame is left
/// out; so are hidden ones. Bodies count by their bounding spheres.
///
/// # Errors
/// [`NotFinite`] where a value of the shot is no number at that frame.
pub fn in_gate(
    shot: &Shot,
    sampler: &Sampler,
    meshes: &Meshes,
    frame: &Frame,
    earlier: &dyn Fn(u32) -> Option<Frame>,
) -> Result<BTreeMap<Id, bool>, NotFinite> {
    let at = f64::from(frame.number);
    let solved = |id: Id, then: f64| solved_pose(shot, Some(frame), at, earlier, id, then);
    let now = sampler.at_with(at, &solved)?;
    let world = World::new(&now, sampler, at, &solved);
    let camera = now.camera.and_then(|id| now.element(id));
    let Some((element, ElementKind::Camera(camera))) = camera.map(|element| (element, &element.kind)) else {
        return Ok(BTreeMap::new());
    };
    let (position, orientation) = world.pose(element);
    let lens = Lens::new(camera, position, orientation);
    let half_height = lens.half_width * shot.picture.height as f32 / shot.picture.width as f32;
    let sees = |centre: Vec3, radius: f32| {
        let local = lens.orientation.inverse() * (centre - lens.position);
        // Distance to a side of the pyramid of view, outside positive.
        let side = |across: f32, half: f32| (across.abs() + local.z * half) / (1.0 + half * half).sqrt();
        local.z < radius && side(local.x, lens.half_width) < radius && side(local.y, half_height) < radius
    };
    let mut seen = BTreeMap::new();
    for element in now.elements.iter().filter(|element| !element.hidden) {
        if let Some(solid) = element.as_solid() {
            let bounds = match frame.meshes.get(&element.id) {
                Some(mesh) => mesh.positions.iter().fold(Bounds::EMPTY, |bounds, &p| bounds.with(p)),
                None => match meshes.mesh(&solid.shape) {
                    Ok(mesh) => mesh.bounds(),
                    Err(_) => continue,
                },
            };
            let (centre, radius) = (bounds.centre(), 0.5 * bounds.size().length());
            let Some(bodies) = frame.bodies.get(&element.id).filter(|bodies| !bodies.is_empty()) else {
                continue;
            };
            let any = (0..bodies.len()).any(|i| {
                let scale = bodies.scales.get(i).copied().unwrap_or(1.0);
                scale > 0.0
                    && sees(bodies.positions[i] + bodies.orientations[i] * centre * scale, radius * scale)
            });
            seen.insert(element.id, any);
        } else if let Some(mesh) = frame.meshes.get(&element.id).filter(|mesh| !mesh.positions.is_empty()) {
            let step = mesh.positions.len().div_ceil(PARTICLES);
            seen.insert(element.id, mesh.positions.iter().step_by(step).any(|at| sees(*at, 0.0)));
        } else if let Some(particles) = frame.particles.get(&element.id).filter(|of| !of.is_empty()) {
            let step = particles.len().div_ceil(PARTICLES);
            let any =
                (0..particles.len()).step_by(step).any(|i| sees(particles.positions[i], particles.sizes[i]));
            seen.insert(element.id, any);
        }
    }
    Ok(seen)
}
