//! A frame as the Viewport takes it: nothing to unpack, 20 bytes a body, 28 a particle.

use crate::{Frame, OPACITY, Thinning};
use bytemuck::NoUninit;
use geometry::Topology;
use glam::Quat;
use shot::Id;

/// The frame as one message, all numbers little-endian:
///
/// ```text
/// u32 number, u32 n: about one particle of n is in it, u32 meshes that are coarser than they are
/// u32 elements of bodies
/// an element: u32 id, u32 count; the highest bit of the count says that it has scales
/// an element: count × 3 f32 places (m), count × 4 i16 turns (x, y, z, w × 32767),
///             with scales count × f32
/// u32 elements of particles
/// an element: u32 id, u32 count; the highest bit of the count says that it has
///             turns, the next one that it has weights
/// an element: count × 3 f32 places (m), count × f32 sizes (m), count × u32 ids,
///             count × 4 i16: velocity (0.02 m/s), fraction of life × 32767,
///             with turns count × 4 i16, with weights count × f32 (0–1)
/// u32 elements with a mesh
/// an element: u32 id, u32 vertices, 16 bytes hash of the topology; the highest bit of the
///             vertices says that it has opacities
/// an element: vertices × 3 f32 places against the body (m),
///             with opacities vertices × f32 (0–1, of the look's opacity)
/// ```
pub fn wire(frame: &Frame, thinning: Thinning) -> Vec<u8> {
    let bodies: usize = frame.bodies.values().map(crate::Bodies::len).sum();
    let particles: usize = frame.particles.values().map(crate::Particles::len).sum();
    let vertices: usize = frame.meshes.values().map(|mesh| mesh.positions.len()).sum();
    let mut out =
        Vec::with_capacity(24 + 12 * vertices + 8 * frame.bodies.len() + 24 * bodies + 36 * particles);
    put(&mut out, &[frame.number, thinning.one_particle_of, thinning.coarse_meshes]);
    out.extend_from_slice(&(frame.bodies.len() as u32).to_le_bytes());
    for (id, bodies) in &frame.bodies {
        head(&mut out, *id, bodies.len(), [!bodies.scales.is_empty(), false]);
    }
    for bodies in frame.bodies.values() {
        put(&mut out, &bodies.positions);
        orientations(&mut out, &bodies.orientations);
        put(&mut out, &bodies.scales);
    }
    out.extend_from_slice(&(frame.particles.len() as u32).to_le_bytes());
    for (id, particles) in &frame.particles {
        let more = [!particles.orientations.is_empty(), !particles.weights.is_empty()];
        head(&mut out, *id, particles.len(), more);
    }
    for particles in frame.particles.values() {
        put(&mut out, &particles.positions);
        put(&mut out, &particles.sizes);
        put(&mut out, &particles.ids);
        let lives = particles.ages.iter().zip(&particles.lifespans).map(|(age, life)| age / life);
        for (velocity, life) in particles.velocities.iter().zip(lives) {
            let velocity = *velocity * (1.0 / VELOCITY_STEP);
            let values = [velocity.x, velocity.y, velocity.z, life * 32767.0];
            put(&mut out, &values.map(|value| value.round() as i16));
        }
        orientations(&mut out, &particles.orientations);
        put(&mut out, &particles.weights);
    }
    out.extend_from_slice(&(frame.meshes.len() as u32).to_le_bytes());
    for (id, mesh) in &frame.meshes {
        head(&mut out, *id, mesh.positions.len(), [mesh.scalars(OPACITY).is_some(), false]);
        out.extend_from_slice(&mesh.topology.hash().0);
    }
    for mesh in frame.meshes.values() {
        put(&mut out, &mesh.positions);
        let opacities = mesh.scalars(OPACITY).unwrap_or_default();
        opacities.iter().for_each(|opacity| put(&mut out, &[opacity.abs()]));
    }
    out
}

/// A topology as the Viewport takes it, all numbers little-endian:
///
/// ```text
/// u32 vertices, u32 faces, u32 1 if there are UVs
/// faces × 3 u32 vertices, vertices × u32 groups that share a normal,
/// with UVs vertices × 2 f32
/// ```
pub fn wire_topology(topology: &Topology) -> Vec<u8> {
    let uvs = topology.uvs();
    let counts = [topology.vertices(), topology.triangles().len(), usize::from(!uvs.is_empty())];
    let mut out = Vec::with_capacity(12 + 12 * counts[1] + 12 * counts[0]);
    put(&mut out, &counts.map(|count| count as u32));
    put(&mut out, topology.triangles());
    put(&mut out, topology.smooth());
    put(&mut out, uvs);
    out
}

/// Step of a velocity, m/s.
const VELOCITY_STEP: f32 = 0.02;

fn head(out: &mut Vec<u8>, id: Id, count: usize, more: [bool; 2]) {
    out.extend_from_slice(&id.0.to_le_bytes());
    out.extend_from_slice(
        &(count as u32 | u32::from(more[0]) << 31 | u32::from(more[1]) << 30).to_le_bytes(),
    );
}

#[cfg(target_endian = "big")]
compile_error!("numbers go out as they are in memory, little-endian");

fn put<T: NoUninit>(out: &mut Vec<u8>, values: &[T]) {
    out.extend_from_slice(bytemuck::cast_slice(values));
}

fn orientations(out: &mut Vec<u8>, orientations: &[Quat]) {
    for orientation in orientations {
        put(out, &orientation.to_array().map(|value| (value * 32767.0).round() as i16));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Bodies;
    use glam::Vec3;

    #[test]
    fn two_thousand_bodies_fit_64_kib() {
        let mut bodies = Bodies::default();
        (0..2000).for_each(|i| bodies.push(Vec3::splat(i as f32), Quat::IDENTITY, Vec3::ZERO, Vec3::ZERO));
        let mut frame = Frame::new(1, 0.0);
        frame.bodies.insert(shot::Id(1), bodies);
        assert!(wire(&frame, Thinning::NONE).len() <= 64 * 1024);
    }

    #[test]
    fn a_mesh_that_dissolves_has_its_opacities_after_its_places() {
        let mesh = geometry::primitive::cuboid(Vec3::ONE, 0.1);
        let n = mesh.positions.len();
        let mut state = crate::MeshState {
            topology: std::sync::Arc::new(Topology::of(&mesh)),
            velocities: vec![Vec3::ZERO; n],
            positions: mesh.positions,
            attributes: Vec::new(),
        };
        let told = |state: &crate::MeshState| {
            let mut frame = Frame::new(1, 0.0);
            frame.meshes.insert(shot::Id(7), state.clone());
            wire(&frame, Thinning::NONE)
        };
        let plain = told(&state);
        let values = geometry::topology::AttributeValues::Scalars(vec![-0.25; n]);
        let (name, domain) = (OPACITY.to_owned(), geometry::topology::Domain::Vertex);
        state.attributes.push(geometry::topology::Attribute { name, domain, values });
        let with = told(&state);
        let count = |bytes: &[u8]| u32::from_le_bytes(bytes[28..32].try_into().unwrap());
        assert_eq!((count(&plain), count(&with)), (n as u32, n as u32 | 1 << 31));
        assert_eq!(with.len(), plain.len() + 4 * n);
        assert_eq!(with[with.len() - 4..], 0.25f32.to_le_bytes());
    }

    #[test]
    fn what_not_all_particles_have_is_told_in_the_head() {
        let mut particles = crate::Particles {
            ids: vec![3],
            positions: vec![Vec3::ONE],
            velocities: vec![Vec3::ZERO],
            sizes: vec![0.5],
            ages: vec![1.0],
            lifespans: vec![2.0],
            ..Default::default()
        };
        let told = |particles: &crate::Particles| {
            let mut frame = Frame::new(1, 0.0);
            frame.particles.insert(shot::Id(7), particles.clone());
            let bytes = wire(&frame, Thinning::NONE);
            (u32::from_le_bytes(bytes[24..28].try_into().unwrap()), bytes)
        };
        assert_eq!(told(&particles).0, 1);
        particles.weights = vec![0.25];
        let (head, bytes) = told(&particles);
        // After the particles comes the number of meshes.
        assert_eq!((head, &bytes[bytes.len() - 8..]), (1 | 1 << 30, &[0, 0, 128, 62, 0, 0, 0, 0][..]));
        particles.orientations = vec![Quat::IDENTITY];
        assert_eq!(told(&particles).0, 1 | 1 << 31 | 1 << 30);
    }
}
