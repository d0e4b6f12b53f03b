//! Smoothing of a surface in space, without shrinking.

use crate::topology::Topology;
use crate::weld::Weld;
use glam::Vec3;
use rayon::prelude::*;
use std::collections::HashMap;

/// Factor of the step that smooths, and of the one that grows again: frequencies below
/// 1/λ + 1/μ = 0.1 pass (G. Taubin, *A signal processing approach to fair surface design*,
/// 1995).
const LAMBDA: f32 = 0.6307;
const MU: f32 = -0.6732;

/// A surface that is smoothed: the neighbours of each of its points.
#[derive(Debug)]
pub struct Smoothing {
    weld: Weld,
    starts: Vec<u32>,
    /// Neighbours of each point; of one at a border, those along it.
    neighbours: Vec<u32>,
    /// Faces by their points, of a closed surface; else none.
    closed: Vec<[u32; 3]>,
}

impl Smoothing {
    /// For the faces of a mesh; `positions` tell which vertices are at one point.
    pub fn new(topology: &Topology, positions: &[Vec3]) -> Self {
        let weld = Weld::new(positions);
        let faces = weld.faces(topology.triangles());
        // Each edge with the number of faces that run along it this way, less those that run the other way.
        let mut edges: HashMap<[u32; 2], i32> = HashMap::with_capacity(faces.len() * 3 / 2);
        for t in &faces {
            for k in 0..3 {
                let [a, b] = [t[k], t[(k + 1) % 3]];
                *edges.entry([a.min(b), a.max(b)]).or_default() += if a < b { 1 } else { -1 };
            }
        }
        let mut list: Vec<([u32; 2], bool)> = edges.into_iter().map(|(edge, sum)| (edge, sum != 0)).collect();
        list.sort_unstable();
        let mut border = vec![false; weld.len()];
        for (edge, _) in list.iter().filter(|(_, open)| *open) {
            edge.iter().for_each(|&point| border[point as usize] = true);
        }
        let counts = |([a, b], open): &([u32; 2], bool)| {
            let counts = |point: u32| *open || !border[point as usize];
            [(*a, *b, counts(*a)), (*b, *a, counts(*b))]
        };
        let mut starts = vec![0u32; weld.len() + 1];
        for (point, _, _) in list.iter().flat_map(counts).filter(|(.., counts)| *counts) {
            starts[point as usize + 1] += 1;
        }
        for i in 1..starts.len() {
            starts[i] += starts[i - 1];
        }
        let mut next = starts.clone();
        let mut neighbours = vec![0; starts[weld.len()] as usize];
        for (point, other, _) in list.iter().flat_map(counts).filter(|(.., counts)| *counts) {
            neighbours[next[point as usize] as usize] = other;
            next[point as usize] += 1;
        }
        let closed = if border.contains(&true) { Vec::new() } else { faces };
        Self { weld, starts, neighbours, closed }
    }

    /// For the faces of a closed mesh of so many vertices, no two of which are at one point.
    pub fn of_closed(triangles: &[[u32; 3]], vertices: usize) -> Self {
        // In a closed mesh each neighbour of a vertex follows that vertex in one triangle.
        let sides = || triangles.iter().flat_map(|t| [[t[0], t[1]], [t[1], t[2]], [t[2], t[0]]]);
        let mut starts = vec![0u32; vertices + 1];
        sides().for_each(|[from, _]| starts[from as usize + 1] += 1);
        (1..starts.len()).for_each(|i| starts[i] += starts[i - 1]);
        let mut next = starts.clone();
        let mut neighbours = vec![0; 3 * triangles.len()];
        for [from, to] in sides() {
            neighbours[next[from as usize] as usize] = to;
            next[from as usize] += 1;
        }
        let own: Vec<u32> = (0..vertices as u32).collect();
        let weld = Weld { point_of: own.clone(), vertex_of: own };
        Self { weld, starts, neighbours, closed: triangles.to_vec() }
    }

    /// The positions after so many passes, m. A closed surface keeps its volume.
    pub fn apply(&self, positions: &[Vec3], passes: u32) -> Vec<Vec3> {
        let mut now = self.at_points(positions);
        let volume = self.volume(&now);
        self.smooth(&mut now, passes);
        self.restore(volume, &mut now);
        self.at_vertices(&now)
    }

    /// Other vectors by vertex, such as velocities, after so many passes.
    pub fn apply_linear(&self, vectors: &[Vec3], passes: u32) -> Vec<Vec3> {
        let mut now = self.at_points(vectors);
        self.smooth(&mut now, passes);
        self.at_vertices(&now)
    }

    fn at_points(&self, vectors: &[Vec3]) -> Vec<Vec3> {
        self.weld.vertex_of.iter().map(|&v| vectors[v as usize]).collect()
    }

    fn at_vertices(&self, vectors: &[Vec3]) -> Vec<Vec3> {
        self.weld.point_of.iter().map(|&point| vectors[point as usize]).collect()
    }

    fn smooth(&self, now: &mut [Vec3], passes: u32) {
        let mut next = now.to_vec();
        for _ in 0..passes {
            self.step(LAMBDA, now, &mut next);
            self.step(MU, &next, now);
        }
    }

    /// Moves each point by a part of the way to the mean of its neighbours.
    fn step(&self, part: f32, from: &[Vec3], to: &mut [Vec3]) {
        to.par_iter_mut().enumerate().with_min_len(4_096).for_each(|(point, to)| {
            let around = &self.neighbours[self.starts[point] as usize..self.starts[point + 1] as usize];
            let at = from[point];
            let sum = around.iter().fold(Vec3::ZERO, |sum, &other| sum + from[other as usize]);
            *to = if around.is_empty() { at } else { at + (sum / around.len() as f32 - at) * part };
        });
    }

    /// The volume that the surface encloses, m³; 0 for an open one.
    fn volume(&self, positions: &[Vec3]) -> f64 {
        let centre = positions.first().copied().unwrap_or_default();
        let part = |t: &[u32; 3]| {
            let [a, b, c] = t.map(|point| positions[point as usize] - centre);
            f64::from(a.dot(b.cross(c)))
        };
        let blocks: Vec<f64> =
            self.closed.par_chunks(4_096).map(|t| t.iter().map(part).sum::<f64>()).collect();
        blocks.iter().sum::<f64>() / 6.0
    }

    /// Moves the surface along its normals until it encloses a volume again (M. Desbrun,
    /// M. Meyer, P. Schröder and A. Barr, *Implicit fairing of irregular meshes*, 1999).
    fn restore(&self, volume: f64, positions: &mut [Vec3]) {
        /// The part of the volume that may be missing.
        const LEFT: f64 = 1e-6;
        for _ in 0..if self.closed.is_empty() { 0 } else { 3 } {
            let missing = volume - self.volume(positions);
            if missing.abs() <= LEFT * volume.abs() {
                return;
            }
            // The gradient of the volume at a point is a third of the area vectors around.
            let mut gradient = vec![Vec3::ZERO; positions.len()];
            for t in &self.closed {
                let [a, b, c] = t.map(|point| positions[point as usize]);
                let area = (b - a).cross(c - a) / 6.0;
                t.iter().for_each(|&point| gradient[point as usize] += area);
            }
            let normals: Vec<Vec3> = gradient.iter().map(|g| g.normalize_or_zero()).collect();
            let area: f64 = gradient.iter().map(|g| f64::from(g.length())).sum();
            if area <= 0.0 {
                return;
            }
            let way = (missing / area) as f32;
            positions.iter_mut().zip(&normals).for_each(|(p, normal)| *p += *normal * way);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, primitive};

    /// A mesh whose vertices are moved at random, those at one place together.
    fn rough(mut mesh: Mesh, by: f32) -> Mesh {
        for p in &mut mesh.positions {
            let seed = p
                .to_array()
                .map(|x| (x * 1e4).round() as i64)
                .iter()
                .fold(7i64, |h, x| (h ^ x).wrapping_mul(0x9e37_79b9_7f4a_7c15u64 as i64).rotate_left(17));
            *p *= 1.0 + by * ((seed.rem_euclid(2001)) as f32 / 1000.0 - 1.0);
        }
        mesh
    }

    fn volume(mesh: &Mesh, positions: &[Vec3]) -> f32 {
        crate::mass_properties(&Mesh { positions: positions.to_vec(), ..mesh.clone() }).unwrap().volume
    }

    #[test]
    fn a_closed_mesh_is_smoothed_as_any_other() {
        let mut mesh = primitive::torus(1.0, 0.3, 24);
        let weld = Weld::new(&mesh.positions);
        mesh.triangles = weld.faces(&mesh.triangles);
        mesh.positions = weld.vertex_of.iter().map(|v| mesh.positions[*v as usize]).collect();
        (mesh.normals, mesh.uvs) = (Vec::new(), Vec::new());
        let mesh = rough(mesh, 0.03);
        let any = Smoothing::new(&Topology::of(&mesh), &mesh.positions).apply(&mesh.positions, 5);
        let closed = Smoothing::of_closed(&mesh.triangles, mesh.positions.len()).apply(&mesh.positions, 5);
        assert!(any.iter().zip(&closed).all(|(a, b)| a.distance(*b) < 1e-5));
    }

    #[test]
    fn twenty_passes_keep_the_volume_and_take_the_roughness() {
        for mesh in
            [primitive::sphere(1.0, 48), primitive::torus(1.0, 0.3, 48), primitive::capsule(0.2, 1.0, 24)]
        {
            let rough = rough(mesh, 0.03);
            let smoothing = Smoothing::new(&Topology::of(&rough), &rough.positions);
            let before = volume(&rough, &rough.positions);
            let after = smoothing.apply(&rough.positions, 20);
            let kept = volume(&rough, &after) / before;
            assert!((kept - 1.0).abs() < 1e-4, "{kept} of {before} m³; the bound is 0.5 %");
        }
        let ball = rough(primitive::sphere(1.0, 48), 0.03);
        let after = Smoothing::new(&Topology::of(&ball), &ball.positions).apply(&ball.positions, 20);
        let spread = |positions: &[Vec3]| {
            let mean = positions.iter().map(|p| p.length()).sum::<f32>() / positions.len() as f32;
            (positions.iter().map(|p| (p.length() - mean).powi(2)).sum::<f32>() / positions.len() as f32)
                .sqrt()
        };
        assert!(
            spread(&after) < 0.35 * spread(&ball.positions),
            "{} {}",
            spread(&after),
            spread(&ball.positions)
        );
    }

    #[test]
    fn borders_are_smoothed_along_themselves_and_stay_borders() {
        let mesh = primitive::plane(2.0, 2.0);
        let smoothing = Smoothing::new(&Topology::of(&mesh), &mesh.positions);
        let after = smoothing.apply(&mesh.positions, 20);
        assert!(after.iter().all(|p| p.y.abs() < 1e-6));
    }

    #[test]
    fn a_vertex_that_is_split_for_its_uv_stays_with_its_fellows() {
        let mesh = primitive::torus(1.0, 0.3, 24);
        let after = Smoothing::new(&Topology::of(&mesh), &mesh.positions).apply(&mesh.positions, 5);
        for (i, a) in mesh.positions.iter().enumerate() {
            for (j, b) in mesh.positions.iter().enumerate().skip(i + 1) {
                assert!(a != b || after[i] == after[j]);
            }
        }
    }
}
