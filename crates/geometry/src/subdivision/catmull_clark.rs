//! The scheme of Catmull and Clark.

use super::Refined;
use super::cage::{Cage, Edges, NONE, SHARP, corners};
use super::rules::{add_edges, add_places};
use super::stencils::Stencils;
use std::collections::HashMap;

/// Places after refining: those that were there, then edges, then faces.
pub(super) fn stencils(cage: &Cage, edges: &Edges) -> Stencils {
    let places_of = |face: u32| corners(&cage.faces[face as usize]).iter().map(|&v| cage.surface[v as usize]);
    let face_size = |face: u32| corners(&cage.faces[face as usize]).len() as f32;
    let rows = cage.places + edges.list.len() + cage.faces.len();
    let mut out = Stencils::with_room(rows, 9 * cage.places + 6 * edges.list.len() + 4 * cage.faces.len());
    let around = Faces::at_places(cage);
    add_places(cage, edges, &mut out, |place, out| {
        // (Q + 2 R + (n − 3) S) / n: the means of the faces' and of the edges' middles.
        let at = edges.at(place);
        let n = at.len() as f32;
        let quads = around.at(place);
        if quads.len() == at.len() && quads.iter().all(|&face| cage.faces[face as usize][3] != NONE) {
            // Among quads the weights are known: a neighbour is a corner of two of them.
            let corner = 0.25 / (n * n);
            out.push(place, (n - 2.0) / n + n * corner);
            at.iter().for_each(|&edge| out.push(edges.other(edge, place), 1.0 / (n * n) + 2.0 * corner));
            for &face in quads {
                let face = &cage.faces[face as usize];
                let own = face.iter().position(|&v| cage.surface[v as usize] == place).unwrap_or(0);
                out.push(cage.surface[face[(own + 2) % 4] as usize], corner);
            }
            return;
        }
        out.add(place, (n - 2.0) / n);
        at.iter().for_each(|&edge| out.add(edges.other(edge, place), 1.0 / (n * n)));
        let faces = around.at(place);
        for &face in faces {
            let weight = 1.0 / (n * faces.len() as f32 * face_size(face));
            places_of(face).for_each(|corner| out.add(corner, weight));
        }
    });
    add_edges(edges, &mut out, |edge, out| {
        if edge.faces.iter().all(|&face| cage.faces[face as usize][3] != NONE) {
            edge.places.iter().for_each(|&place| out.push(place, 0.375));
            for face in edge.faces {
                let others = places_of(face).filter(|place| !edge.places.contains(place));
                others.for_each(|corner| out.push(corner, 0.0625));
            }
            return;
        }
        edge.places.iter().for_each(|&place| out.add(place, 0.25));
        for face in edge.faces {
            places_of(face).for_each(|corner| out.add(corner, 0.25 / face_size(face)));
        }
    });
    for face in 0..cage.faces.len() as u32 {
        places_of(face).for_each(|corner| out.push(corner, 1.0 / face_size(face)));
        out.end_row();
    }
    out
}

/// The faces at each place.
struct Faces {
    starts: Vec<u32>,
    list: Vec<u32>,
}

impl Faces {
    fn at_places(cage: &Cage) -> Self {
        let mut starts = vec![0u32; cage.places + 1];
        let places = || {
            cage.faces.iter().enumerate().flat_map(|(f, face)| {
                corners(face).iter().map(move |&v| (f as u32, cage.surface[v as usize] as usize))
            })
        };
        places().for_each(|(_, place)| starts[place + 1] += 1);
        for i in 1..starts.len() {
            starts[i] += starts[i - 1];
        }
        let mut next = starts.clone();
        let mut list = vec![0; starts[cage.places] as usize];
        for (face, place) in places() {
            list[next[place] as usize] = face;
            next[place] += 1;
        }
        Self { starts, list }
    }

    fn at(&self, place: u32) -> &[u32] {
        &self.list[self.starts[place as usize] as usize..self.starts[place as usize + 1] as usize]
    }
}

/// Vertices after refining: those that were there, then those in the middle of edges, one or
/// one a side, then those in the middle of faces.
pub(super) fn refine(cage: &Cage, edges: &Edges) -> Refined {
    let (v, e) = (cage.surface.len(), edges.list.len());
    let room = v + e + e / 8 + cage.faces.len();
    let mut surface: Vec<u32> = Vec::with_capacity(room);
    let mut groups: Vec<u32> = Vec::with_capacity(room);
    let mut from: Vec<[u32; 4]> = Vec::with_capacity(room);
    surface.extend_from_slice(&cage.surface);
    groups.extend_from_slice(&cage.groups);
    from.extend((0..v as u32).map(|i| [i; 4]));
    let mut next_group = cage.groups.iter().max().map_or(0, |most| most + 1);
    // The vertices in the middle of each edge, on its first and its second side.
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
    let mut faces_from = Vec::with_capacity(4 * cage.faces.len());
    for (f, face) in cage.faces.iter().enumerate() {
        let all = corners(face);
        let n = all.len();
        let centre = surface.len() as u32;
        surface.push((cage.places + e + f) as u32);
        groups.push(next_group);
        next_group += 1;
        from.push(*face);
        let middle = |k: usize| middles.of(edges.of_face[f][k], f as u32, edges);
        for k in 0..n {
            faces.push([all[k], middle(k), centre, middle((k + n - 1) % n)]);
            faces_from.push(f as u32);
        }
    }
    let (sharp, corners) = (sharper(cage, edges), cage.corners.clone());
    let places = cage.places + e + cage.faces.len();
    let cage = Cage { faces, surface, places, groups, sharp, corners, ..Cage::default() };
    Refined { cage, vertices_from: from, faces_from }
}

/// The vertices in the middle of edges.
pub(super) struct Middles(Vec<[u32; 2]>);

impl Middles {
    /// The one on the side of a face.
    pub fn of(&self, edge: u32, face: u32, edges: &Edges) -> u32 {
        let [first, second] = self.0[edge as usize];
        if edges.list[edge as usize].faces[0] == face { first } else { second }
    }
}

/// Makes the vertices in the middle of edges. `make` is given the two vertices at the ends,
/// the edge, and the group if there is one to be shared.
pub(super) fn middles(
    cage: &Cage,
    edges: &Edges,
    make: &mut dyn FnMut([u32; 2], u32, Option<u32>) -> (u32, u32),
) -> Middles {
    let mut list = Vec::with_capacity(edges.list.len());
    for (i, edge) in edges.list.iter().enumerate() {
        let (first, group) = make(edge.vertices, i as u32, None);
        let second = if edge.faces[1] == NONE {
            first
        } else {
            let all = corners(&cage.faces[edge.faces[1] as usize]);
            let at = |place: u32| *all.iter().find(|&&v| cage.surface[v as usize] == place).expect("its end");
            let ends = edge.places.map(at);
            if ends == edge.vertices {
                first
            } else {
                make(ends, i as u32, (edge.sharpness != SHARP).then_some(group)).0
            }
        };
        list.push([first, second]);
    }
    Middles(list)
}

/// The sharp edges of the next level: halves of those that stay sharp.
pub(super) fn sharper(cage: &Cage, edges: &Edges) -> HashMap<[u32; 2], f32> {
    let mut sharp = HashMap::new();
    for (i, edge) in edges.list.iter().enumerate() {
        // Borders are found again by their faces.
        if edge.faces[1] != NONE && edge.sharpness > 1.0 {
            for place in edge.places {
                sharp.insert([place, (cage.places + i) as u32], edge.sharpness - 1.0);
            }
        }
    }
    sharp
}
