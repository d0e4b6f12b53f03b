//! Faces as bytes. Of a face beside an earlier one, only the shared edge and the vertex across it are stored; the last edges are kept for
//! this, as the mesh buffer of M. Deering, *Geometry compression*, 1995, keeps the last vertices.
//!
//! ```text
//! one byte a face: the place of the shared edge among the last 15 free edges, the latest first, plus 16 times the number of that edge
//!     in the face; 15 if there is none
//! one byte a stored vertex (one of a face with a shared edge, three of another face): 0 for the next number that no 0 has stood for,
//!     counted from 0; else 1 + the zigzag difference from the last vertex that was stored as a difference; 255 for 255 and more
//! u32 for each 255: what is above 255
//! ```

use crate::quantise::{unzigzag, zigzag};
use crate::table::u32_at;

/// Edges that are kept.
const EDGES: usize = 15;
/// Marks a face that has none of them.
const NO_EDGE: u8 = 15;
const LARGE: u32 = 255;

/// The free edges of the last faces, in the direction in which a face beside them has them; the latest first.
struct Edges {
    /// A ring.
    edges: [[u32; 2]; 16],
    last: usize,
}

impl Edges {
    fn new() -> Self {
        Self { edges: [[u32::MAX; 2]; 16], last: 0 }
    }

    fn get(&self, place: usize) -> [u32; 2] {
        self.edges[(self.last + 16 - place) % 16]
    }

    fn place(&self, edge: [u32; 2]) -> Option<usize> {
        (0..EDGES).find(|place| self.get(*place) == edge)
    }

    /// Adds the edges of a face: all three, or the last two if the first is the shared one.
    fn add(&mut self, [a, b, c]: [u32; 3], at_edge: bool) {
        let first = (!at_edge).then_some([b, a]);
        for edge in [Some([c, b]), Some([a, c]), first].into_iter().flatten() {
            self.last = (self.last + 1) % 16;
            self.edges[self.last] = edge;
        }
    }
}

/// The faces as bytes.
pub(crate) fn encode(faces: &[[u32; 3]]) -> Vec<u8> {
    let (mut out, mut named, mut large) = (Vec::with_capacity(2 * faces.len()), Vec::new(), Vec::new());
    let (mut edges, mut next, mut last) = (Edges::new(), 0u32, 0u32);
    let mut name = |vertex: u32| {
        if vertex == next {
            next += 1;
            return named.push(0);
        }
        let code = u64::from(zigzag(vertex.wrapping_sub(last) as i32)) + 1;
        last = vertex;
        named.push(code.min(u64::from(LARGE)) as u8);
        if code >= u64::from(LARGE) {
            large.push((code - u64::from(LARGE)) as u32);
        }
    };
    for face in faces {
        let turned = |by: usize| [0, 1, 2].map(|i| face[(i + by) % 3]);
        let known = |by: usize| {
            let [a, b, _] = turned(by);
            Some((edges.place([a, b])?, by))
        };
        match (0..3).filter_map(known).min() {
            Some((place, by)) => {
                out.push((place + 16 * by) as u8);
                name(turned(by)[2]);
                edges.add(turned(by), true);
            }
            None => {
                out.push(NO_EDGE);
                face.iter().for_each(|vertex| name(*vertex));
                edges.add(*face, false);
            }
        }
    }
    out.extend(named);
    large.iter().for_each(|large| out.extend_from_slice(&large.to_le_bytes()));
    out
}

/// So many faces from the bytes, and the bytes behind them; none if the bytes end early or a code is invalid.
pub(crate) fn decode(bytes: &[u8], faces: usize) -> Option<(Vec<[u32; 3]>, &[u8])> {
    let (codes, rest) = bytes.split_at_checked(faces)?;
    let alone = codes.iter().filter(|code| **code == NO_EDGE).count();
    let (named, rest) = rest.split_at_checked(faces + 2 * alone)?;
    let count = named.iter().filter(|code| u32::from(**code) == LARGE).count();
    let (large, rest) = rest.split_at_checked(4 * count)?;
    let (mut named, mut large_ones) = (named.iter(), 0);
    let (mut edges, mut next, mut last) = (Edges::new(), 0u32, 0u32);
    let mut vertex = || -> Option<u32> {
        let mut code = u32::from(*named.next()?);
        if code == 0 {
            next += 1;
            return Some(next - 1);
        }
        if code == LARGE {
            code = LARGE.wrapping_add(u32_at(large, 4 * large_ones));
            large_ones += 1;
        }
        last = last.wrapping_add(unzigzag(code.wrapping_sub(1)) as u32);
        Some(last)
    };
    let mut all = Vec::with_capacity(faces);
    for code in codes {
        if *code == NO_EDGE {
            let face = [vertex()?, vertex()?, vertex()?];
            edges.add(face, false);
            all.push(face);
            continue;
        }
        let (place, by) = (usize::from(code % 16), usize::from(code / 16));
        if place >= EDGES || by > 2 {
            return None;
        }
        let [a, b] = edges.get(place);
        let turned = [a, b, vertex()?];
        edges.add(turned, true);
        all.push([0, 1, 2].map(|i| turned[(i + 3 - by) % 3]));
    }
    Some((all, rest))
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::primitive;
    use geometry::topology::into_strips;
    use proptest::prelude::*;

    fn face() -> impl Strategy<Value = [u32; 3]> {
        (0u32..40, 0u32..40, prop::num::u32::ANY).prop_map(|(a, b, c)| [a, b, c])
    }

    proptest! {
        #[test]
        fn any_faces_come_back(faces in prop::collection::vec(face(), 0..300)) {
            let mut bytes = encode(&faces);
            bytes.extend(b"after");
            prop_assert_eq!(decode(&bytes, faces.len()), Some((faces.clone(), &b"after"[..])));
        }

        #[test]
        fn no_bytes_end_the_process(bytes in prop::collection::vec(prop::num::u8::ANY, 0..400), faces in 0usize..200) {
            let _ = decode(&bytes, faces);
        }
    }

    #[test]
    fn a_surface_in_strips_takes_less_than_a_byte_a_vertex() {
        let mesh = primitive::torus(1.0, 0.3, 120);
        let mut faces = mesh.triangles.clone();
        into_strips(&mut faces, mesh.positions.len());
        let [before, after] =
            [&mesh.triangles, &faces].map(|faces| zstd::bulk::compress(&encode(faces), 3).unwrap().len());
        assert!(after < mesh.positions.len(), "{before} {after} of {}", mesh.positions.len());
        assert_eq!(decode(&encode(&faces), faces.len()), Some((faces.clone(), &[][..])));
    }
}
