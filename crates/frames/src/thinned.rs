//! Frames with no more particles and vertices than a viewer can draw.
//!
//! Particles are chosen by their ids, so that the same ones are seen in every frame. A mesh is made
//! coarse by joining the vertices of a cell of a grid (J. Rossignac and P. Borrel, *Multi-resolution
//! 3D approximations for rendering complex scenes*, 1993), once for its faces: the same vertices
//! are seen in every frame, where they then are.

use crate::{Frame, MeshState, Particles, topologies};
use geometry::Topology;
use geometry::topology::{Attribute, AttributeValues, Domain};
use glam::{IVec3, Vec3};
use shot::fingerprint::Fingerprint;
use std::collections::{HashMap, HashSet};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

/// What was left out of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Thinning {
    /// About one particle of so many is left; 1: all are.
    pub one_particle_of: u32,
    /// Number of meshes that are coarser.
    pub coarse_meshes: u32,
}

impl Thinning {
    /// Nothing was left out.
    pub const NONE: Self = Self { one_particle_of: 1, coarse_meshes: 0 };
}

/// Fewest vertices that a mesh is thinned to.
const LEAST_VERTICES: usize = 500;

/// Thins a frame so that it has about `most` particles and `most` vertices of meshes at most.
pub fn thin(frame: &mut Frame, most: usize) -> Thinning {
    let most = most.max(1);
    let particles: usize = frame.particles.values().map(Particles::len).sum();
    let one_of = particles.div_ceil(most).max(1).next_power_of_two() as u32;
    if one_of > 1 {
        frame.particles.values_mut().for_each(|of| *of = chosen(of, one_of));
    }
    let vertices: usize = frame.meshes.values().map(|mesh| mesh.positions.len()).sum();
    let mut coarse_meshes = 0;
    if vertices > most {
        for mesh in frame.meshes.values_mut() {
            // A power of two, so that a mesh stays as it is while others change a little.
            let part = (mesh.positions.len() as f64 * most as f64 / vertices as f64) as usize;
            let target = (1 << part.max(1).ilog2()).max(LEAST_VERTICES);
            if mesh.positions.len() > target {
                *mesh = Coarse::of(mesh, target).show(mesh);
                coarse_meshes += 1;
            }
        }
    }
    Thinning { one_particle_of: one_of, coarse_meshes }
}

/// One particle of so many, a power of two, by a hash of its id.
fn chosen(particles: &Particles, one_of: u32) -> Particles {
    // D. Knuth's multiplicative hash; its upper bits are well mixed.
    let of = |id: &u32| (id.wrapping_mul(0x9E37_79B1) >> 8) & (one_of - 1) == 0;
    let kept: Vec<usize> = (0..particles.len()).filter(|&i| of(&particles.ids[i])).collect();
    fn column<T: Copy>(values: &[T], kept: &[usize]) -> Vec<T> {
        if values.is_empty() { Vec::new() } else { kept.iter().map(|&i| values[i]).collect() }
    }
    Particles {
        ids: column(&particles.ids, &kept),
        positions: column(&particles.positions, &kept),
        velocities: column(&particles.velocities, &kept),
        sizes: column(&particles.sizes, &kept),
        ages: column(&particles.ages, &kept),
        lifespans: column(&particles.lifespans, &kept),
        orientations: column(&particles.orientations, &kept),
        weights: column(&particles.weights, &kept),
        uvs: column(&particles.uvs, &kept),
        pressures: column(&particles.pressures, &kept),
    }
}

/// Faces over some of the vertices of a mesh.
struct Coarse {
    topology: Arc<Topology>,
    /// The vertices of the mesh that are kept.
    kept: Vec<u32>,
}

type KeptCoarse = ((Fingerprint, usize), Arc<Coarse>);

/// Coarse faces that were used last.
static KEPT_COARSE: LazyLock<Mutex<Vec<KeptCoarse>>> = LazyLock::new(Mutex::default);
/// Number of them kept, and vertices of all of them.
const KEPT: usize = 64;
const KEPT_VERTICES: usize = 8_000_000;

impl Coarse {
    fn of(mesh: &MeshState, target: usize) -> Arc<Self> {
        let key = (mesh.topology.hash(), target);
        let mut kept = KEPT_COARSE.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(at) = kept.iter().position(|(of, _)| *of == key) {
            let entry = kept.remove(at);
            let coarse = entry.1.clone();
            kept.push(entry);
            return coarse;
        }
        let coarse = Arc::new(Self::new(mesh, target));
        // A mesh that lies on a few spots now is made coarse anew once it is spread out.
        if coarse.kept.len() * 8 >= target {
            kept.push((key, coarse.clone()));
        }
        let vertices = |kept: &[KeptCoarse]| kept.iter().map(|(_, of)| of.kept.len()).sum::<usize>();
        while kept.len() > KEPT || (kept.len() > 1 && vertices(&kept) > KEPT_VERTICES) {
            kept.remove(0);
        }
        coarse
    }

    fn new(mesh: &MeshState, target: usize) -> Self {
        let (topology, positions) = (&mesh.topology, &mesh.positions);
        let area: f32 = topology
            .triangles()
            .iter()
            .map(|t| {
                let [a, b, c] = t.map(|v| positions[v as usize]);
                0.5 * (b - a).cross(c - a).length()
            })
            .sum();
        // A plane meets one and a half cells for each of its area, in the mean over directions.
        let mut size = (1.5 * area / target as f32).sqrt().max(1e-6);
        let (mut cluster_of, mut kept) = clusters(positions, size);
        for _ in 0..8 {
            if kept.len() <= target {
                break;
            }
            size *= 1.05 * (kept.len() as f32 / target as f32).sqrt();
            (cluster_of, kept) = clusters(positions, size);
        }
        let (mut triangles, mut faces, mut seen) = (Vec::new(), Vec::new(), HashSet::new());
        for (face, t) in topology.triangles().iter().enumerate() {
            let [a, b, c] = t.map(|v| cluster_of[v as usize]);
            if a == b || b == c || c == a {
                continue;
            }
            // The same face from the same side, whichever corner comes first.
            let least = a.min(b).min(c);
            let turned = if least == a {
                [a, b, c]
            } else if least == b {
                [b, c, a]
            } else {
                [c, a, b]
            };
            if seen.insert(turned) {
                triangles.push(turned);
                faces.push(face);
            }
        }
        let mut groups: HashMap<u32, u32> = HashMap::new();
        let smooth = kept.iter().map(|&v| {
            let next = groups.len() as u32;
            *groups.entry(topology.smooth()[v as usize]).or_insert(next)
        });
        let smooth = smooth.collect();
        let attributes = topology.attributes().iter().map(|attribute| picked(attribute, &kept, &faces));
        let made =
            Topology::new(triangles, smooth, attributes.collect()).expect("picked of a sound topology");
        // A reader that knows the hash finds the faces as long as they are in use.
        let made = Arc::new(made);
        let topology = topologies::shared(made.hash(), || Ok::<_, crate::RunError>(made.clone()));
        Self { topology: topology.unwrap_or(made), kept }
    }

    fn show(&self, mesh: &MeshState) -> MeshState {
        let pick = |of: &[Vec3]| self.kept.iter().map(|&v| of[v as usize]).collect();
        MeshState {
            topology: self.topology.clone(),
            positions: pick(&mesh.positions),
            velocities: pick(&mesh.velocities),
            attributes: Vec::new(),
        }
    }
}

/// The cluster of each vertex, and the first vertex of each cluster.
fn clusters(positions: &[Vec3], size: f32) -> (Vec<u32>, Vec<u32>) {
    let (mut cells, mut kept): (HashMap<IVec3, u32>, Vec<u32>) = (HashMap::new(), Vec::new());
    let mut of = Vec::with_capacity(positions.len());
    for (v, position) in positions.iter().enumerate() {
        let next = cells.len() as u32;
        let cluster = *cells.entry((*position / size).floor().as_ivec3()).or_insert(next);
        if cluster == next {
            kept.push(v as u32);
        }
        of.push(cluster);
    }
    (of, kept)
}

fn picked(attribute: &Attribute, vertices: &[u32], faces: &[usize]) -> Attribute {
    fn pick<T: Clone>(values: &[T], domain: Domain, vertices: &[u32], faces: &[usize]) -> Vec<T> {
        match domain {
            Domain::Vertex => vertices.iter().map(|&v| values[v as usize].clone()).collect(),
            Domain::Face => faces.iter().map(|&f| values[f].clone()).collect(),
        }
    }
    let domain = attribute.domain;
    let values = match &attribute.values {
        AttributeValues::Scalars(of) => AttributeValues::Scalars(pick(of, domain, vertices, faces)),
        AttributeValues::Pairs(of) => AttributeValues::Pairs(pick(of, domain, vertices, faces)),
        AttributeValues::Vectors(of) => AttributeValues::Vectors(pick(of, domain, vertices, faces)),
        AttributeValues::Flags(of) => AttributeValues::Flags(pick(of, domain, vertices, faces)),
    };
    Attribute { values, ..attribute.clone() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use shot::Id;

    fn swarm(count: u32) -> Particles {
        Particles {
            ids: (0..count).collect(),
            positions: (0..count).map(|i| Vec3::splat(i as f32)).collect(),
            velocities: vec![Vec3::ZERO; count as usize],
            sizes: vec![0.1; count as usize],
            ages: vec![0.0; count as usize],
            lifespans: vec![1.0; count as usize],
            weights: (0..count).map(|i| i as f32).collect(),
            ..Particles::default()
        }
    }

    #[test]
    fn what_can_be_drawn_stays_as_it_is() {
        let mut frame = Frame::new(1, 0.0);
        frame.particles.insert(Id(1), swarm(1_000));
        let whole = frame.clone();
        assert_eq!(thin(&mut frame, 1_000), Thinning::NONE);
        assert_eq!(frame, whole);
    }

    /// The same particles are left in a frame with some more and some fewer, each with its own values.
    #[test]
    fn particles_are_chosen_by_their_ids() {
        let thinned = |count, most| {
            let mut frame = Frame::new(1, 0.0);
            frame.particles.insert(Id(1), swarm(count));
            let thinning = thin(&mut frame, most);
            (thinning.one_particle_of, frame.particles.remove(&Id(1)).unwrap())
        };
        let (one_of, few) = thinned(40_000, 12_000);
        assert_eq!(one_of, 4);
        // 10,000 are expected of 40,000; a good hash is within five standard deviations.
        assert!(few.len().abs_diff(10_000) < 5 * 87, "{}", few.len());
        assert!(few.ids.iter().zip(&few.weights).all(|(id, weight)| *id as f32 == *weight));
        assert!(few.orientations.is_empty());
        let (_, fewer) = thinned(39_000, 12_000);
        assert_eq!(fewer.ids[..], few.ids[..fewer.len()]);
    }

    /// What was made of a mesh that lay on one spot is not kept for when it is spread out.
    #[test]
    fn a_mesh_that_unfolds_is_seen_unfolded() {
        let fine = geometry::primitive::sphere(1.0, 200);
        let topology = Arc::new(Topology::of(&fine));
        let vertices = |size: f32| {
            let mut frame = Frame::new(1, 0.0);
            let positions: Vec<Vec3> = fine.positions.iter().map(|x| *x * size).collect();
            let velocities = fine.positions.clone();
            let state =
                MeshState { topology: topology.clone(), positions, velocities, attributes: Vec::new() };
            frame.meshes.insert(Id(1), state);
            thin(&mut frame, 2_000);
            frame.meshes[&Id(1)].positions.len()
        };
        assert!(vertices(0.0) < 10);
        assert!(vertices(1.0) > 500);
    }

    /// A coarse sphere has about as many vertices as wanted, all of them of the fine one and of
    /// the same ones in every frame, lies near the fine one and faces outwards.
    #[test]
    fn a_mesh_is_made_coarse_the_same_way_in_every_frame() {
        let fine = geometry::primitive::sphere(1.0, 240);
        let topology = Arc::new(Topology::of(&fine));
        let state = |by: f32| MeshState {
            topology: topology.clone(),
            positions: fine.positions.iter().map(|x| *x * by).collect(),
            velocities: fine.positions.clone(),
            attributes: Vec::new(),
        };
        let thinned = |by: f32| {
            let mut frame = Frame::new(1, 0.0);
            frame.meshes.insert(Id(1), state(by));
            assert_eq!(thin(&mut frame, 2_000).coarse_meshes, 1);
            frame.meshes.remove(&Id(1)).unwrap()
        };
        let (one, two) = (thinned(1.0), thinned(2.0));
        assert!((600..=2_000).contains(&one.positions.len()), "{}", one.positions.len());
        assert_eq!(one.topology.hash(), two.topology.hash());
        assert!(one.positions.iter().zip(&two.positions).all(|(a, b)| (2.0 * *a).distance(*b) < 1e-5));
        assert!(one.positions.iter().all(|x| (x.length() - 1.0).abs() < 1e-4));
        let volume: f32 = one
            .topology
            .triangles()
            .iter()
            .map(|t| {
                let [a, b, c] = t.map(|v| one.positions[v as usize]);
                a.dot(b.cross(c)) / 6.0
            })
            .sum();
        let whole = 4.0 / 3.0 * std::f32::consts::PI;
        assert!((volume / whole - 1.0).abs() < 0.05, "{volume}");
        assert_eq!(one.topology.uvs().len(), one.positions.len());
    }
}
