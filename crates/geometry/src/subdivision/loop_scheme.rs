//! The scheme of Loop.

use super::Refined;
use super::cage::{Cage, Edges, NONE, corners};
use super::catmull_clark::{middles, sharper};
use super::rules::{add_edges, add_places};
use super::stencils::Stencils;
use std::f32::consts::TAU;

/// Places after refining: those that were there, then edges.
pub(super) fn stencils(cage: &Cage, edges: &Edges) -> Stencils {
    let rows = cage.places + edges.list.len();
    let mut out = Stencils::with_room(rows, 7 * cage.places + 4 * edges.list.len());
    add_places(cage, edges, &mut out, |place, out| {
        let at = edges.at(place);
        let n = at.len() as f32;
        let part = 0.375 + 0.25 * (TAU / n).cos();
        let beta = (0.625 - part * part) / n;
        out.add(place, 1.0 - n * beta);
        at.iter().for_each(|&edge| out.add(edges.other(edge, place), beta));
    });
    add_edges(edges, &mut out, |edge, out| {
        edge.places.iter().for_each(|&place| out.add(place, 0.375));
        for face in edge.faces {
            let all = corners(&cage.faces[face as usize]);
            let across = all.iter().map(|&v| cage.surface[v as usize]);
            across.filter(|place| !edge.places.contains(place)).for_each(|place| out.add(place, 0.125));
        }
    });
    out
}

/// Vertices after refining: those that were there, then those in the middle of edges.
pub(super) fn refine(cage: &Cage, edges: &Edges) -> Refined {
    let v = cage.surface.len();
    let mut surface = cage.surface.clone();
    let mut groups = cage.groups.clone();
    let mut from: Vec<[u32; 4]> = (0..v as u32).map(|i| [i; 4]).collect();
    let mut next_group = cage.groups.iter().max().map_or(0, |most| most + 1);
    let middles = middles(cage, edges, &mut |[a, b], edge, group| {
        surface.push(cage.places as u32 + edge);
        groups.push(group.unwrap_or_else(|| {
            next_group += 1;
            next_group - 1
        }));
        from.push([a, a, b, b]);
        (surface.len() as u32 - 1, *groups.last().expect("it was just added"))
    });
    let mut faces = Vec::with_capacity(4 * cage.faces.len());
    for (f, face) in cage.faces.iter().enumerate() {
        let [a, b, c] = [face[0], face[1], face[2]];
        let [ab, bc, ca] = [0, 1, 2].map(|k| middles.of(edges.of_face[f][k], f as u32, edges));
        faces.extend([[a, ab, ca, NONE], [ab, b, bc, NONE], [ca, bc, c, NONE], [ab, bc, ca, NONE]]);
    }
    let faces_from = (0..faces.len()).map(|i| (i / 4) as u32).collect();
    let (sharp, corners) = (sharper(cage, edges), cage.corners.clone());
    let places = cage.places + edges.list.len();
    let cage = Cage { faces, surface, places, groups, sharp, corners, ..Cage::default() };
    Refined { cage, vertices_from: from, faces_from }
}
