//! The scheme of Catmull and Clark.

use super::cage::{Cage, Edges, NONE, corners};
use super::refinement::{Refined, Vertices};
use super::rules::{add_edges, add_points};
use super::stencils::Stencils;

/// Places after refining: those that were there, then edges, then faces.
pub(super) fn stencils(cage: &Cage, edges: &Edges) -> Stencils {
    let points_of =
        |face: u32| corners(&cage.faces[face as usize]).iter().map(|&v| cage.point_of[v as usize]);
    let face_size = |face: u32| corners(&cage.faces[face as usize]).len() as f32;
    let rows = cage.points + edges.list.len() + cage.faces.len();
    let mut out = Stencils::with_room(rows, 9 * cage.points + 6 * edges.list.len() + 4 * cage.faces.len());
    let around = Faces::at_points(cage);
    add_points(cage, edges, &mut out, |point, out| {
        // (Q + 2 R + (n − 3) S) / n: the means of the faces' and of the edges' middles.
        let at = edges.at(point);
        let n = at.len() as f32;
        let quads = around.at(point);
        if quads.len() == at.len() && quads.iter().all(|&face| cage.faces[face as usize][3] != NONE) {
            // Among quads the weights are known: a neighbour is a corner of two of them.
            let corner = 0.25 / (n * n);
            out.push(point, (n - 2.0) / n + n * corner);
            at.iter().for_each(|&edge| out.push(edges.other(edge, point), 1.0 / (n * n) + 2.0 * corner));
            for &face in quads {
                let face = &cage.faces[face as usize];
                let own = face.iter().position(|&v| cage.point_of[v as usize] == point).unwrap_or(0);
                out.push(cage.point_of[face[(own + 2) % 4] as usize], corner);
            }
            return;
        }
        out.add(point, (n - 2.0) / n);
        at.iter().for_each(|&edge| out.add(edges.other(edge, point), 1.0 / (n * n)));
        let faces = around.at(point);
        for &face in faces {
            let weight = 1.0 / (n * faces.len() as f32 * face_size(face));
            points_of(face).for_each(|corner| out.add(corner, weight));
        }
    });
    add_edges(edges, &mut out, |edge, out| {
        if edge.faces.iter().all(|&face| cage.faces[face as usize][3] != NONE) {
            edge.points.iter().for_each(|&point| out.push(point, 0.375));
            for face in edge.faces {
                let others = points_of(face).filter(|point| !edge.points.contains(point));
                others.for_each(|corner| out.push(corner, 0.0625));
            }
            return;
        }
        edge.points.iter().for_each(|&point| out.add(point, 0.25));
        for face in edge.faces {
            points_of(face).for_each(|corner| out.add(corner, 0.25 / face_size(face)));
        }
    });
    for face in 0..cage.faces.len() as u32 {
        points_of(face).for_each(|corner| out.push(corner, 1.0 / face_size(face)));
        out.end_row();
    }
    out
}

/// The faces at each point.
struct Faces {
    starts: Vec<u32>,
    list: Vec<u32>,
}

impl Faces {
    fn at_points(cage: &Cage) -> Self {
        let mut starts = vec![0u32; cage.points + 1];
        let points = || {
            cage.faces.iter().enumerate().flat_map(|(f, face)| {
                corners(face).iter().map(move |&v| (f as u32, cage.point_of[v as usize] as usize))
            })
        };
        points().for_each(|(_, point)| starts[point + 1] += 1);
        for i in 1..starts.len() {
            starts[i] += starts[i - 1];
        }
        let mut next = starts.clone();
        let mut list = vec![0; starts[cage.points] as usize];
        for (face, point) in points() {
            list[next[point] as usize] = face;
            next[point] += 1;
        }
        Self { starts, list }
    }

    fn at(&self, point: u32) -> &[u32] {
        &self.list[self.starts[point as usize] as usize..self.starts[point as usize + 1] as usize]
    }
}

/// Points after refining: those that were there, then the middles of edges, then those of faces.
pub(super) fn refine(cage: &Cage, edges: &Edges) -> Refined {
    let e = edges.list.len();
    let mut vertices = Vertices::of(cage, cage.point_of.len() + e + e / 8 + cage.faces.len());
    let middles = vertices.middles(cage, edges);
    let mut faces = Vec::with_capacity(4 * cage.faces.len());
    let mut faces_from = Vec::with_capacity(4 * cage.faces.len());
    for (f, face) in cage.faces.iter().enumerate() {
        let all = corners(face);
        let n = all.len();
        let centre = vertices.make(cage.points + e + f, *face, None);
        let middle = |k: usize| middles.of(edges.of_face[f][k], f as u32, edges);
        for k in 0..n {
            faces.push([all[k], middle(k), centre, middle((k + n - 1) % n)]);
            faces_from.push(f as u32);
        }
    }
    vertices.refined(cage, edges, cage.points + e + cage.faces.len(), faces, faces_from)
}
