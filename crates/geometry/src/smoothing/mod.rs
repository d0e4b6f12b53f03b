//! Smoothing of a surface in space, without shrinking.

mod unfolding;

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
    /// Of a closed surface, the third corner of the face in which each neighbour follows the point; else none.
    thirds: Vec<u32>,
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
        if !border.contains(&true) {
            let closed = Self::of_closed(&faces, weld.len());
            return Self { weld, ..closed };
        }
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
        Self { weld, starts, neighbours, thirds: Vec::new() }
    }

    /// For the faces of a closed mesh of so many vertices, no two of which are at one point.
    pub fn of_closed(triangles: &[[u32; 3]], vertices: usize) -> Self {
        // In a closed mesh each neighbour of a vertex follows that vertex in one triangle. Each thread takes some of the vertices.
        let part = vertices.div_ceil(rayon::current_num_threads()).max(1);
        let parts: Vec<(Vec<u32>, Vec<[u32; 2]>)> = (0..vertices.div_ceil(part))
            .into_par_iter()
            .map(|i| {
                let own = i * part..vertices.min((i + 1) * part);
                let corners = || {
                    let turned = |t: &[u32; 3]| [[t[0], t[1], t[2]], [t[1], t[2], t[0]], [t[2], t[0], t[1]]];
                    triangles.iter().flat_map(turned).filter(|[v, ..]| own.contains(&(*v as usize)))
                };
                let mut ends = vec![0u32; own.len()];
                corners().for_each(|[v, ..]| ends[v as usize - own.start] += 1);
                let count = ends.iter_mut().fold(0, |start, end| start + std::mem::replace(end, start));
                let mut sides = vec![[0; 2]; count as usize];
                for [v, second, third] in corners() {
                    let end = &mut ends[v as usize - own.start];
                    sides[*end as usize] = [second, third];
                    *end += 1;
                }
                (ends, sides)
            })
            .collect();
        let mut starts = vec![0u32];
        for (ends, _) in &parts {
            let before = starts[starts.len() - 1];
            starts.extend(ends.iter().map(|end| before + end));
        }
        let sides = || parts.iter().flat_map(|(_, sides)| sides);
        let (neighbours, thirds) =
            (sides().map(|side| side[0]).collect(), sides().map(|side| side[1]).collect());
        let own: Vec<u32> = (0..vertices as u32).collect();
        let weld = Weld { point_of: own.clone(), vertex_of: own };
        Self { weld, starts, neighbours, thirds }
    }

    /// The positions after so many passes, m. A closed surface keeps its volume.
    pub fn apply(&self, positions: &[Vec3], passes: u32) -> Vec<Vec3> {
        let mut now = self.at_points(positions);
        if self.thirds.is_empty() {
            self.smooth(&mut now, passes);
        } else {
            let volume = Self::volume(&now, &self.gradient(&now));
            self.smooth(&mut now, passes);
            self.restore(volume, &mut now);
        }
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
            let around = &self.neighbours[self.around(point)];
            let at = from[point];
            let sum = around.iter().fold(Vec3::ZERO, |sum, &other| sum + from[other as usize]);
            *to = if around.is_empty() { at } else { at + (sum / around.len() as f32 - at) * part };
        });
    }

    /// The numbers of the neighbours of a point in the lists.
    fn around(&self, point: usize) -> std::ops::Range<usize> {
        self.starts[point] as usize..self.starts[point + 1] as usize
    }

    /// The gradient of the enclosed volume by a point of a closed surface, m²: a third of the area vectors around.
    fn gradient_at(&self, point: usize, positions: &[Vec3]) -> Vec3 {
        let at = positions[point];
        let area = |i: usize| {
            let [second, third] = [self.neighbours[i], self.thirds[i]].map(|v| positions[v as usize] - at);
            second.cross(third)
        };
        self.around(point).map(area).sum::<Vec3>() / 6.0
    }

    /// The same of each point.
    fn gradient(&self, positions: &[Vec3]) -> Vec<Vec3> {
        let all = (0..positions.len()).into_par_iter().with_min_len(4_096);
        all.map(|point| self.gradient_at(point, positions)).collect()
    }

    /// The volume that a closed surface encloses, m³, from its gradient: as a homogeneous function of degree 3.
    fn volume(positions: &[Vec3], gradient: &[Vec3]) -> f64 {
        let centre = positions.first().copied().unwrap_or_default();
        let part = |(p, g): (&Vec3, &Vec3)| f64::from((*p - centre).dot(*g));
        let blocks = positions.par_chunks(4_096).zip(gradient.par_chunks(4_096));
        let blocks: Vec<f64> = blocks.map(|(p, g)| p.iter().zip(g).map(part).sum::<f64>()).collect();
        blocks.iter().sum::<f64>() / 3.0
    }

    /// Moves a closed surface along its normals until it encloses a volume again (M. Desbrun,
    /// M. Meyer, P. Schröder and A. Barr, *Implicit fairing of irregular meshes*, 1999).
    fn restore(&self, volume: f64, positions: &mut [Vec3]) {
        /// The part of the volume that may be missing.
        const LEFT: f64 = 1e-6;
        for _ in 0..3 {
            let gradient = self.gradient(positions);
            let missing = volume - Self::volume(positions, &gradient);
            let area: f64 = gradient.iter().map(|g| f64::from(g.length())).sum();
            if missing.abs() <= LEFT * volume.abs() || area <= 0.0 {
                return;
            }
            let way = (missing / area) as f32;
            positions.iter_mut().zip(&gradient).for_each(|(p, g)| *p += g.normalize_or_zero() * way);
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
