//! Triangles of a closed surface that are folded over: the normal of such a triangle points against the mean of the normals at its corners.

use super::Smoothing;
use glam::Vec3;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

/// Most rounds in which vertices move without the triangles around them being changed.
const ROUNDS: u32 = 12;
/// Most rounds in which edges are flipped as well.
const FLIPPING_ROUNDS: u32 = 60;
/// Rounds after which another ring of vertices around a fold is smoothed.
const ROUNDS_PER_RING: u32 = 12;
/// The least by which a triangle is folded over.
const LEAST: f32 = 1e-3;
/// Rings of vertices around those that are folded within which edges are flipped.
const RINGS: u32 = 7;

impl Smoothing {
    /// Unfolds a surface made by [`Self::of_closed`] of these triangles: vertices go to the mean of their neighbours while a triangle at them
    /// is folded over. Where a fold stays, edges are flipped as well; the neighbours that `self` knows are those before.
    pub fn unfold(&self, triangles: &mut [[u32; 3]], positions: &mut [Vec3]) {
        if self.thirds.is_empty() {
            return;
        }
        let gradient = self.gradient(positions);
        let normal = |v: u32| gradient[v as usize];
        let all = (0..positions.len() as u32).into_par_iter().with_min_len(4_096);
        let mut folded: Vec<u32> = all.filter(|v| self.is_folded(*v, positions, normal)).collect();
        for _ in 0..ROUNDS {
            if folded.is_empty() {
                return;
            }
            let moved: Vec<Vec3> = folded.iter().map(|v| self.mean_beside(*v, positions)).collect();
            folded.iter().zip(moved).for_each(|(v, to)| positions[*v as usize] = to);
            let near = self.with_neighbours(folded);
            let normal = |v: u32| self.gradient_at(v as usize, positions);
            folded = near.into_iter().filter(|v| self.is_folded(*v, positions, normal)).collect();
        }
        let near = (0..RINGS).fold(folded, |near, _| self.with_neighbours(near));
        Patch::new(&near, triangles, positions).unfold();
    }

    fn is_folded(&self, vertex: u32, positions: &[Vec3], normal: impl Fn(u32) -> Vec3) -> bool {
        let at = positions[vertex as usize];
        self.around(vertex as usize).any(|i| {
            let (second, third) = (self.neighbours[i], self.thirds[i]);
            let own = (positions[second as usize] - at).cross(positions[third as usize] - at);
            own.dot(normal(vertex) + normal(second) + normal(third)) < 0.0
        })
    }

    fn mean_beside(&self, vertex: u32, positions: &[Vec3]) -> Vec3 {
        let around = &self.neighbours[self.around(vertex as usize)];
        around.iter().map(|v| positions[*v as usize]).sum::<Vec3>() / around.len() as f32
    }

    /// Vertices and their neighbours, each once, ascending.
    fn with_neighbours(&self, mut vertices: Vec<u32>) -> Vec<u32> {
        let beside: Vec<u32> =
            vertices.iter().flat_map(|v| self.neighbours[self.around(*v as usize)].iter().copied()).collect();
        vertices.extend(beside);
        vertices.sort_unstable();
        vertices.dedup();
        vertices
    }
}

/// A part of a mesh in which edges are flipped.
struct Patch<'a> {
    triangles: &'a mut [[u32; 3]],
    positions: &'a mut [Vec3],
    /// The triangles at each vertex of the part.
    at: BTreeMap<u32, Vec<usize>>,
}

impl<'a> Patch<'a> {
    /// Of given vertices, ascending.
    fn new(vertices: &[u32], triangles: &'a mut [[u32; 3]], positions: &'a mut [Vec3]) -> Self {
        let is_of = |v: &u32| vertices.binary_search(v).is_ok();
        let all = triangles.par_iter().enumerate().with_min_len(4_096);
        let own: Vec<usize> = all.filter(|(_, t)| t.iter().any(is_of)).map(|(face, _)| face).collect();
        let mut at: BTreeMap<u32, Vec<usize>> = vertices.iter().map(|v| (*v, Vec::new())).collect();
        for face in own {
            for v in triangles[face] {
                at.entry(v).and_modify(|faces| faces.push(face));
            }
        }
        Self { triangles, positions, at }
    }

    /// Flips edges and moves vertices until nothing is folded.
    fn unfold(&mut self) {
        let mut near: BTreeSet<u32> = self.at.keys().copied().collect();
        for round in 0..FLIPPING_ROUNDS {
            let faces: BTreeSet<usize> = near.iter().flat_map(|v| self.faces_at(v)).copied().collect();
            let folded: Vec<usize> = faces.into_iter().filter(|face| self.fold(*face) > 0.0).collect();
            if folded.is_empty() {
                return;
            }
            near.clear();
            for face in folded {
                let around = self.around(face, 1 + round / ROUNDS_PER_RING);
                if self.fold(face) > 0.0 && !self.improve(face) {
                    self.smooth(&around);
                }
                near.extend(self.with_neighbours(&around));
            }
        }
    }

    fn faces_at(&self, vertex: &u32) -> &[usize] {
        self.at.get(vertex).map_or(&[], |faces| &faces[..])
    }

    /// Vertices and their neighbours.
    fn with_neighbours(&self, vertices: &BTreeSet<u32>) -> BTreeSet<u32> {
        vertices.iter().flat_map(|v| self.faces_at(v)).flat_map(|face| self.triangles[*face]).collect()
    }

    /// The corners of a triangle, and so many rings of vertices around.
    fn around(&self, face: usize, rings: u32) -> BTreeSet<u32> {
        (0..rings).fold(BTreeSet::from(self.triangles[face]), |around, _| self.with_neighbours(&around))
    }

    /// Flips that edge of a triangle, or moves that corner, after which the triangles around are folded least, if that is less than before;
    /// whether one was.
    fn improve(&mut self, face: usize) -> bool {
        let mut best: Option<(f32, Change)> = None;
        for corner in 0..3 {
            let vertex = self.triangles[face][corner];
            let moves = self.mean_beside(vertex).into_iter().flat_map(|mean| {
                let at = self.positions[vertex as usize];
                [0.25, 0.5, 1.0, 1.5].map(|part| Change::Move { vertex, to: at.lerp(mean, part) })
            });
            let changes: Vec<Change> = moves.chain(self.flip(face, corner).map(Change::Flip)).collect();
            for change in changes {
                let change_of_folds = self.try_out(&change);
                if change_of_folds < best.as_ref().map_or(-LEAST, |(least, _)| *least) {
                    best = Some((change_of_folds, change));
                }
            }
        }
        best.map(|(_, change)| self.apply(&change)).is_some()
    }

    /// Moves vertices to the mean of those beside each.
    fn smooth(&mut self, vertices: &BTreeSet<u32>) {
        let moved: Vec<(u32, Vec3)> =
            vertices.iter().filter_map(|v| Some((*v, self.mean_beside(*v)?))).collect();
        moved.into_iter().for_each(|(v, to)| self.positions[v as usize] = to);
    }

    /// By how much triangles around are folded more after a change, which is not kept.
    fn try_out(&mut self, change: &Change) -> f32 {
        let corners = match change {
            Change::Flip(flip) => BTreeSet::from(flip.corners),
            Change::Move { vertex, .. } => self.with_neighbours(&BTreeSet::from([*vertex])),
        };
        let before = self.folds_at(&corners);
        match change {
            Change::Flip(flip) => {
                let triangles = flip.faces.map(|face| self.triangles[face]);
                let at = flip.corners.map(|v| (v, self.at[&v].clone()));
                self.apply(change);
                let after = self.folds_at(&corners);
                flip.faces
                    .into_iter()
                    .zip(triangles)
                    .for_each(|(face, corners)| self.triangles[face] = corners);
                self.at.extend(at);
                after - before
            }
            Change::Move { vertex, .. } => {
                let at = self.positions[*vertex as usize];
                self.apply(change);
                let after = self.folds_at(&corners);
                self.positions[*vertex as usize] = at;
                after - before
            }
        }
    }

    /// Of the edge opposite to a corner of a triangle; none at the end of the part, and where the new edge is there already.
    fn flip(&self, face: usize, corner: usize) -> Option<EdgeFlip> {
        let t = self.triangles[face];
        let [c, p, q] = [0, 1, 2].map(|i| t[(corner + i) % 3]);
        let follows = |of: &[u32; 3]| (0..3).any(|i| [of[i], of[(i + 1) % 3]] == [q, p]);
        let other = *self.at.get(&p)?.iter().find(|other| follows(&self.triangles[**other]))?;
        let d = *self.triangles[other].iter().find(|v| **v != p && **v != q)?;
        let corners = [c, p, d, q];
        let is_within = corners.iter().all(|v| self.at.contains_key(v));
        let is_there = self.at.get(&c)?.iter().any(|face| self.triangles[*face].contains(&d));
        // A vertex keeps three triangles.
        let is_thin = [p, q].iter().any(|v| self.at.get(v).is_none_or(|faces| faces.len() <= 3));
        (is_within && !is_there && !is_thin).then_some(EdgeFlip { faces: [face, other], corners })
    }

    fn apply(&mut self, change: &Change) {
        match change {
            Change::Move { vertex, to } => self.positions[*vertex as usize] = *to,
            Change::Flip(EdgeFlip { faces: [one, two], corners: [c, p, d, q] }) => {
                (self.triangles[*one], self.triangles[*two]) = ([*c, *p, *d], [*d, *q, *c]);
                for (vertex, lost) in [(p, two), (q, one)] {
                    self.at.entry(*vertex).and_modify(|faces| faces.retain(|face| face != lost));
                }
                for (vertex, gained) in [(c, two), (d, one)] {
                    self.at.entry(*vertex).and_modify(|faces| faces.push(*gained));
                }
            }
        }
    }

    /// By how much triangles at vertices are folded.
    fn folds_at(&self, vertices: &BTreeSet<u32>) -> f32 {
        let faces: BTreeSet<usize> = vertices.iter().flat_map(|v| self.faces_at(v)).copied().collect();
        faces.into_iter().map(|face| self.fold(face)).sum()
    }

    /// By how much a triangle is folded over: the cosine between its normal and the reverse of the mean normal at its corners. At the end of
    /// the part no triangle counts as folded.
    fn fold(&self, face: usize) -> f32 {
        let normals = self.triangles[face].map(|v| self.normal(v));
        let [Some(a), Some(b), Some(c)] = normals else { return 0.0 };
        let (own, mean) = (self.area(face), a + b + c);
        let against = -own.dot(mean);
        if against > 0.0 { (against / (own.length() * mean.length())).max(LEAST) } else { 0.0 }
    }

    /// Twice the area vector of a triangle.
    fn area(&self, face: usize) -> Vec3 {
        let [a, b, c] = self.triangles[face].map(|v| self.positions[v as usize]);
        (b - a).cross(c - a)
    }

    fn normal(&self, vertex: u32) -> Option<Vec3> {
        Some(self.at.get(&vertex)?.iter().map(|face| self.area(*face)).sum())
    }

    fn mean_beside(&self, vertex: u32) -> Option<Vec3> {
        let faces = self.at.get(&vertex)?;
        let others = faces.iter().flat_map(|face| self.triangles[*face]).filter(|v| *v != vertex);
        // Each neighbour is a corner of two of the triangles.
        Some(others.map(|v| self.positions[v as usize]).sum::<Vec3>() / (2 * faces.len()) as f32)
    }
}

/// What is changed around a triangle that is folded over.
enum Change {
    Flip(EdgeFlip),
    Move { vertex: u32, to: Vec3 },
}

/// The edge between the second and the fourth of four corners, to be flipped to go between the others: of the triangles [c, p, q] and
/// [d, q, p] come [c, p, d] and [d, q, c].
#[derive(Clone, Copy)]
struct EdgeFlip {
    faces: [usize; 2],
    /// c, p, d, q.
    corners: [u32; 4],
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;
    use crate::weld::Weld;

    #[test]
    fn what_is_folded_over_comes_apart_and_what_is_not_stays() {
        let mut mesh = primitive::torus(1.0, 0.3, 32);
        let weld = Weld::new(&mesh.positions);
        mesh.triangles = weld.faces(&mesh.triangles);
        let even: Vec<Vec3> = weld.vertex_of.iter().map(|v| mesh.positions[*v as usize]).collect();
        let smoothing = Smoothing::of_closed(&mesh.triangles, even.len());
        let mut after = even.clone();
        smoothing.unfold(&mut mesh.triangles, &mut after);
        assert!(after == even);
        // Vertices drawn over their neighbours.
        for v in (0..even.len()).step_by(17) {
            after[v] =
                even[v] + 2.4 * (even[smoothing.neighbours[smoothing.starts[v] as usize] as usize] - even[v]);
        }
        let folded = |positions: &[Vec3]| {
            let normal = |v: u32| smoothing.gradient_at(v as usize, positions);
            (0..even.len() as u32).filter(|v| smoothing.is_folded(*v, positions, normal)).count()
        };
        assert!(folded(&after) > 20);
        smoothing.unfold(&mut mesh.triangles, &mut after);
        assert_eq!(folded(&after), 0);
        let furthest = after.iter().zip(&even).map(|(a, b)| a.distance(*b)).fold(0.0, f32::max);
        assert!(furthest < 0.3, "{furthest}");
    }
}
