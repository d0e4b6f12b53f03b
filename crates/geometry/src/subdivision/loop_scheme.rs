//! The scheme of Loop.

use super::cage::{Cage, Edges, NONE, corners};
use super::refinement::{Refined, Vertices};
use super::rules::{add_edges, add_points};
use super::stencils::Stencils;
use std::f32::consts::TAU;

/// Places after refining: those that were there, then edges.
pub(super) fn stencils(cage: &Cage, edges: &Edges) -> Stencils {
    let rows = cage.points + edges.list.len();
    let mut out = Stencils::with_room(rows, 7 * cage.points + 4 * edges.list.len());
    add_points(cage, edges, &mut out, |point, out| {
        let at = edges.at(point);
        let n = at.len() as f32;
        let part = 0.375 + 0.25 * (TAU / n).cos();
        let beta = (0.625 - part * part) / n;
        out.add(point, 1.0 - n * beta);
        at.iter().for_each(|&edge| out.add(edges.other(edge, point), beta));
    });
    add_edges(edges, &mut out, |edge, out| {
        edge.points.iter().for_each(|&point| out.add(point, 0.375));
        for face in edge.faces {
            let all = corners(&cage.faces[face as usize]);
            let across = all.iter().map(|&v| cage.point_of[v as usize]);
            across.filter(|point| !edge.points.contains(point)).for_each(|point| out.add(point, 0.125));
        }
    });
    out
}

/// Points after refining: those that were there, then the middles of edges.
pub(super) fn refine(cage: &Cage, edges: &Edges) -> Refined {
    let mut vertices = Vertices::of(cage, cage.point_of.len() + edges.list.len());
    let middles = vertices.middles(cage, edges);
    let mut faces = Vec::with_capacity(4 * cage.faces.len());
    for (f, face) in cage.faces.iter().enumerate() {
        let [a, b, c] = [face[0], face[1], face[2]];
        let [ab, bc, ca] = [0, 1, 2].map(|k| middles.of(edges.of_face[f][k], f as u32, edges));
        faces.extend([[a, ab, ca, NONE], [ab, b, bc, NONE], [ca, bc, c, NONE], [ab, bc, ca, NONE]]);
    }
    let faces_from = (0..faces.len()).map(|i| (i / 4) as u32).collect();
    vertices.refined(cage, edges, cage.points + edges.list.len(), faces, faces_from)
}
