//! How often a surface passes through a cell: the crossed edges in loops, each of which has a vertex of its own (G. Nielson, *Dual
//! marching cubes*, 2004), so that sheets which meet in a cell stay apart and no triangle folds over.
//!
//! A face of which all four edges are crossed is ambiguous: its two corners outside are connected through it. If its edges are in one loop
//! in both cells beside it, four triangles would share an edge: there the two corners inside are connected instead (R. Wenger,
//! *Isosurfaces: Geometry, Topology, and Algorithms*, 2013).

use glam::IVec3;
use std::sync::OnceLock;

/// Edges of a cell.
const EDGES: usize = 12;
/// Marks an edge that is not crossed.
const NONE: u8 = u8::MAX;

/// The loops of crossed edges of a cell.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Loops {
    pub count: u8,
    /// The loop of each edge, in the order of [`edges`].
    pub of_edge: [u8; EDGES],
    /// The direction of the ambiguous face, of which all four edges are crossed, if these are in one loop.
    pub ambiguous_face: Option<IVec3>,
}

/// The edges of a cell by their corners, along each axis in turn.
pub(super) fn edges() -> impl Iterator<Item = [usize; 2]> {
    (0..3).flat_map(|axis| (0..4).map(move |i| [lower(axis, i), lower(axis, i) | 1 << axis]))
}

/// The lower corner of an edge along an axis; the bits of `i` are its coordinates along the two next axes.
fn lower(axis: usize, i: usize) -> usize {
    (i & 1) << ((axis + 1) % 3) | (i >> 1) << ((axis + 2) % 3)
}

/// The number of the edge along an axis whose lower corner has given coordinates.
#[inline]
pub(super) fn edge(axis: usize, corner: IVec3) -> usize {
    4 * axis + (corner[(axis + 1) % 3] | corner[(axis + 2) % 3] << 1) as usize
}

impl Loops {
    /// Of a cell with a bit for each corner that is inside. Through ambiguous faces the corners outside are connected, or those inside.
    #[inline]
    pub fn of(inside: u8, connects_inside: bool) -> &'static Self {
        static ALL: OnceLock<[Vec<Loops>; 2]> = OnceLock::new();
        let all =
            |connects_inside: bool| (0..=u8::MAX).map(|inside| Self::new(inside, connects_inside)).collect();
        &ALL.get_or_init(|| [all(false), all(true)])[usize::from(connects_inside)][usize::from(inside)]
    }

    fn new(inside: u8, connects_inside: bool) -> Self {
        let is_inside = |corner: usize| inside >> corner & 1 == 1;
        // Which corners are connected on their side of the surface: along edges, and across faces.
        let mut parts: [usize; 8] = std::array::from_fn(|corner| corner);
        let mut join = |a: usize, b: usize| {
            let (from, to) = (parts[a], parts[b]);
            parts.iter_mut().filter(|part| **part == from).for_each(|part| *part = to);
        };
        edges().filter(|[a, b]| is_inside(*a) == is_inside(*b)).for_each(|[a, b]| join(a, b));
        for [a, b, c, d] in faces().map(|(_, corners)| corners) {
            if is_inside(a) == is_inside(c) && is_inside(b) == is_inside(d) && is_inside(a) != is_inside(b) {
                if is_inside(a) == connects_inside { join(a, c) } else { join(b, d) }
            }
        }
        let (mut found, mut of_edge) = (Vec::new(), [NONE; EDGES]);
        for (edge, [a, b]) in edges().enumerate().filter(|(_, [a, b])| is_inside(*a) != is_inside(*b)) {
            let (within, without) = if is_inside(a) { (a, b) } else { (b, a) };
            let own = (parts[within], parts[without]);
            let known = found.iter().position(|of| *of == own);
            of_edge[edge] = known.unwrap_or_else(|| {
                found.push(own);
                found.len() - 1
            }) as u8;
        }
        let is_joined = |corners: [usize; 4]| {
            let numbers =
                edges().zip(of_edge).filter(|(ends, _)| ends.iter().all(|end| corners.contains(end)));
            let numbers: Vec<u8> = numbers.map(|(_, number)| number).collect();
            numbers[0] != NONE && numbers.iter().all(|number| *number == numbers[0])
        };
        let ambiguous_face = faces().find(|(_, corners)| is_joined(*corners)).map(|(way, _)| way);
        Self { count: found.len() as u8, of_edge, ambiguous_face }
    }
}

/// The faces of a cell: the way out, and the corners in turn.
fn faces() -> impl Iterator<Item = (IVec3, [usize; 4])> {
    (0..3).flat_map(|axis| {
        [(-1, 0), (1, 1)]
            .map(|(way, side)| (way * IVec3::AXES[axis], [0, 1, 3, 2].map(|i| lower(axis, i) | side << axis)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tiles::corner;

    /// The mask of corners.
    fn mask(corners: &[usize]) -> u8 {
        corners.iter().fold(0, |mask, corner| mask | 1 << corner)
    }

    #[test]
    fn corners_apart_have_loops_of_their_own_and_together_one() {
        let count = |corners: &[usize]| Loops::of(mask(corners), false).count;
        assert_eq!([count(&[]), count(&[0, 1, 2, 3, 4, 5, 6, 7])], [0, 0]);
        assert_eq!([count(&[3]), count(&[0, 1]), count(&[0, 1, 2, 3])], [1, 1, 1]);
        // Across a face, and across the cell; what is outside goes through between them.
        assert_eq!([count(&[0, 3]), count(&[0, 7]), count(&[0, 3, 5, 6])], [2, 2, 4]);
        // Two corners outside that lie opposite each other are two holes.
        assert_eq!(count(&[1, 2, 3, 4, 5, 6]), 2);
    }

    #[test]
    fn cells_that_share_a_face_see_the_same_way_through_it() {
        // On each face, which pairs of its crossed edges are in one loop because of the face alone: where four are crossed, those around
        // the corners inside.
        for (inside, connects_inside) in (0..=u8::MAX).flat_map(|inside| [(inside, false), (inside, true)]) {
            let loops = Loops::of(inside, connects_inside);
            let numbers: Vec<[usize; 2]> = edges().collect();
            for (edge, ends) in numbers.iter().enumerate() {
                let is_crossed = ends.iter().filter(|end| inside >> **end & 1 == 1).count() == 1;
                assert_eq!(loops.of_edge[edge] != NONE, is_crossed);
                let [axis, at] = [edge / 4, ends[0]];
                assert_eq!(super::edge(axis, corner(at)), edge);
            }
            // A loop has three crossed edges at least.
            for number in 0..loops.count {
                assert!(loops.of_edge.iter().filter(|of| **of == number).count() >= 3, "{inside:#b}");
            }
        }
    }

    #[test]
    fn an_ambiguous_face_in_one_loop_is_the_only_ambiguous_one_and_is_in_two_loops_with_the_inside_connected()
    {
        let mut found = 0;
        for inside in 0..=u8::MAX {
            let is_inside = |corner: usize| inside >> corner & 1 == 1;
            let is_crossed = |[a, b, c, d]: [usize; 4]| {
                is_inside(a) == is_inside(c) && is_inside(b) == is_inside(d) && is_inside(a) != is_inside(b)
            };
            let crossed: Vec<IVec3> = faces().filter(|(_, of)| is_crossed(*of)).map(|(way, _)| way).collect();
            if let Some(way) = Loops::of(inside, false).ambiguous_face {
                assert_eq!(crossed, [way], "{inside:#b}");
                assert_eq!(Loops::of(inside, true).ambiguous_face, None, "{inside:#b}");
                found += 1;
            }
        }
        assert!(found > 0);
    }
}
