//! Finds the pairs of features of surfaces that may meet within a step.

use super::blocks::Rows;
use super::crossing::Crossing;
use super::face_tree::{FaceTree, PointWay};
use super::pair::Pair;
use super::unfolded::UnfoldedRegions;
use geometry::sides_by_edge;
use glam::{DVec3, Vec3A};
use rayon::prelude::*;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

/// Most pairs of a step: 20 bytes each.
const MAX_PAIRS: usize = 24_000_000;

/// Finds pairs.
pub(super) struct PairSearch {
    faces: Vec<Face>,
    /// For each point, its faces.
    faces_of: Rows,
    tree: FaceTree,
    unfolded: UnfoldedRegions,
}

/// A face, and which of its features no face before it has.
#[derive(Clone, Copy)]
struct Face {
    points: [u32; 3],
    /// Of its corners, and of its sides from each corner to the next.
    own_points: [bool; 3],
    own_edges: [bool; 3],
    /// Its shortest side at rest, m.
    shortest: f32,
}

impl PairSearch {
    /// Of faces between points at `x`, which lie at `rest` in the body of each.
    pub fn new(faces: &[[u32; 3]], x: &[DVec3], rest: &[DVec3]) -> Self {
        let sides = sides_by_edge(faces);
        let mut first = vec![false; sides.len()];
        for same in sides.chunk_by(|(one, _), (two, _)| one == two) {
            first[same[0].1 as usize] = true;
        }
        let mut taken = vec![false; x.len()];
        let all = faces.iter().enumerate().map(|(face, &points)| {
            let ends = |i: usize| [points[i], points[(i + 1) % 3]].map(|p| rest[p as usize]);
            let shortest = (0..3).map(ends).map(|[a, b]| a.distance(b)).fold(f64::INFINITY, f64::min);
            Face {
                points,
                shortest: shortest as f32,
                own_points: points.map(|p| !std::mem::replace(&mut taken[p as usize], true)),
                own_edges: [0, 1, 2].map(|i| first[3 * face + i]),
            }
        });
        let all = all.collect();
        let tree = FaceTree::new(faces, x);
        let unfolded = UnfoldedRegions::new(faces, rest, &tree);
        let corners = faces.iter().zip(0..).flat_map(|(face, number)| face.map(|p| (p, number)));
        Self { faces: all, faces_of: Rows::grouped(x.len(), corners), tree, unfolded }
    }

    /// All pairs that may come closer than `reach` while the points go straight from `from` to `to`, in an order that does
    /// not depend on the number of threads; none if there are more than [`MAX_PAIRS`].
    ///
    /// Left out are unfolded regions of a flat sheet, and features of faces around one point while these lie side by side
    /// (`is_flat`): then they are not closer than at rest, but for what the sheet is compressed.
    ///
    /// With `wanted` those alone that have a point which is wanted.
    pub fn find(
        &mut self,
        from: &[DVec3],
        to: &[DVec3],
        wanted: Option<&[bool]>,
        reach: f32,
    ) -> Option<Vec<Pair>> {
        // Near the origin single precision is finer.
        let middle = from.iter().fold(DVec3::ZERO, |sum, x| sum + *x) / from.len().max(1) as f64;
        let points: Vec<PointWay> = (from.par_iter().zip(to).with_min_len(512))
            .map(|(a, b)| PointWay { x: (*a - middle).as_vec3a(), moves: (*b - *a).as_vec3a() })
            .collect();
        let furthest = points.iter().fold(0.0f32, |most, point| most.max(point.x.abs().max_element()));
        let reach = reach + 4.0 * f32::EPSILON * furthest;
        self.unfolded.update(&points);
        let Self { faces, tree, unfolded, .. } = &mut *self;
        let apart = |a: u32, b: u32| unfolded.keeps_apart(a, b);
        let tasks = tree.near(|face| faces[face as usize].points, &points, wanted, reach, apart);
        let ways: Vec<FaceWay> = (self.faces.par_iter().with_min_len(256))
            .map(|face| FaceWay::new(&face.points.map(|p| points[p as usize])))
            .collect();
        let flat: Vec<bool> = (0..points.len())
            .into_par_iter()
            .with_min_len(256)
            .map(|point| is_flat(self.faces_of.of(point), &ways, points[point].moves))
            .collect();
        let filter = PairFilter { search: self, points: &points, ways: &ways, flat: &flat, wanted, reach };
        // Past the bound no more are kept.
        let count = AtomicUsize::new(0);
        let each = tasks.par_iter().map(|task| {
            let mut found = Vec::new();
            let apart = |a: u32, b: u32| self.unfolded.keeps_apart(a, b);
            self.tree.walk(*task, reach, apart, |a, b| {
                if count.load(Relaxed) <= MAX_PAIRS {
                    let before = found.len();
                    filter.of_faces(a as usize, b as usize, &mut found);
                    if found.len() > before {
                        count.fetch_add(found.len() - before, Relaxed);
                    }
                }
            });
            found
        });
        let pairs = each.collect::<Vec<_>>().concat();
        (count.into_inner() <= MAX_PAIRS).then_some(pairs)
    }
}

impl PairSearch {
    /// All edges that cross a face with which they have no point in common, in the order of their points. With `wanted` those alone
    /// of which the edge's face or the other has a point that is wanted.
    pub fn crossings(&mut self, x: &[DVec3], wanted: Option<&[bool]>) -> Vec<Crossing> {
        let middle = x.iter().fold(DVec3::ZERO, |sum, x| sum + *x) / x.len().max(1) as f64;
        let still = |x: &DVec3| PointWay { x: (*x - middle).as_vec3a(), moves: Vec3A::ZERO };
        let points: Vec<PointWay> = x.par_iter().with_min_len(512).map(still).collect();
        let furthest = points.iter().fold(0.0f32, |most, point| most.max(point.x.abs().max_element()));
        let reach = 4.0 * f32::EPSILON * furthest;
        self.unfolded.update(&points);
        let Self { faces, tree, unfolded, .. } = &mut *self;
        let apart = |a: u32, b: u32| unfolded.keeps_apart(a, b);
        let tasks = tree.near(|face| faces[face as usize].points, &points, wanted, reach, apart);
        let each = tasks.par_iter().map(|task| {
            let mut found = Vec::new();
            let apart = |a: u32, b: u32| self.unfolded.keeps_apart(a, b);
            self.tree.walk(*task, reach, apart, |a, b| {
                for (one, two) in [(a, b), (b, a)] {
                    let (of, face) = (&self.faces[one as usize], self.faces[two as usize].points);
                    for i in (0..3).filter(|i| of.own_edges[*i]) {
                        let edge = [of.points[i], of.points[(i + 1) % 3]];
                        let crossing = Crossing { edge, face };
                        if !edge.iter().any(|p| face.contains(p)) && crossing.weights(x).is_some() {
                            found.push(crossing);
                        }
                    }
                }
            });
            found
        });
        let mut found = each.collect::<Vec<_>>().concat();
        found.sort_unstable();
        found.dedup();
        found
    }

    /// The points of which pairs are not known from a search with the points going to `expected`, as they go to `to`: those that go
    /// more than `most` elsewhere, and whose faces turn or stretch more than that search allows for.
    pub fn strayed(&self, expected: &[DVec3], to: &[DVec3], most: f64) -> Vec<bool> {
        /// Part of its shortest side by which a face may change.
        const CHANGES: f32 = 0.15;
        let off: Vec<Vec3A> = (expected.par_iter().zip(to).with_min_len(512))
            .map(|(expected, to)| (*to - *expected).as_vec3a())
            .collect();
        let mut strayed: Vec<bool> = off.iter().map(|off| f64::from(off.length()) > most).collect();
        for Face { points, shortest, .. } in &self.faces {
            let [a, b, c] = points.map(|p| off[p as usize]);
            let change = (a - b).length_squared().max((b - c).length_squared()).max((c - a).length_squared());
            if change > (CHANGES * shortest).powi(2) {
                points.iter().for_each(|p| strayed[*p as usize] = true);
            }
        }
        strayed
    }

    /// All faces.
    pub fn faces(&self) -> impl Iterator<Item = [u32; 3]> {
        self.faces.iter().map(|face| face.points)
    }
}

/// A face over the step.
struct FaceWay {
    centre: Vec3A,
    /// Its mean motion.
    moves: Vec3A,
    normal: Vec3A,
    radius: f32,
    /// How far the motion of a corner differs from the mean.
    spread: f32,
    /// Its least height, m.
    height: f32,
}

impl FaceWay {
    fn new([a, b, c]: &[PointWay; 3]) -> Self {
        let centre = (a.x + b.x + c.x) / 3.0;
        let moves = (a.moves + b.moves + c.moves) / 3.0;
        let most = |of: [f32; 3]| of.into_iter().fold(0.0, f32::max).sqrt();
        let across = (b.x - a.x).cross(c.x - a.x);
        let sides = [a.x.distance_squared(b.x), b.x.distance_squared(c.x), c.x.distance_squared(a.x)];
        let length = across.length().max(1e-30);
        Self {
            centre,
            moves,
            normal: across / length,
            radius: most([a, b, c].map(|p| p.x.distance_squared(centre))),
            spread: most([a, b, c].map(|p| p.moves.distance_squared(moves))),
            height: length / most(sides).max(1e-30),
        }
    }

    /// Whether this face, with its corners `at`, and another are further apart than `most`, along its normal or across one of its sides.
    fn is_apart(&self, at: &[PointWay; 3], other: &[PointWay; 3], most: f32) -> bool {
        let beyond = |axis: Vec3A, from: Vec3A| other.map(|p| (p.x - from).dot(axis));
        let all_above = |[a, b, c]: [f32; 3], most: f32| a.min(b).min(c) > most;
        let off = beyond(self.normal, self.centre);
        if all_above(off, most) || all_above(off.map(|off| -off), most) {
            return true;
        }
        // The axes across the sides are as long as these.
        let most = most * 2.0 * self.radius;
        (0..3).any(|i| {
            let from = at[i].x;
            all_above(beyond((at[(i + 1) % 3].x - from).cross(self.normal), from), most)
        })
    }
}

/// Whether the faces around a point that moves so far lie side by side: all are seen from one side along their mean normal,
/// and are wider than they move against each other.
fn is_flat(faces: &[u32], ways: &[FaceWay], moves: Vec3A) -> bool {
    const COSINE: f32 = 0.75;
    const WIDER: f32 = 4.0;
    let all = || faces.iter().map(|face| &ways[*face as usize]);
    let normal = all().fold(Vec3A::ZERO, |sum, way| sum + way.normal).normalize_or_zero();
    let spread = all().map(|way| way.spread + way.moves.distance(moves)).fold(0.0, f32::max);
    all().all(|way| way.normal.dot(normal) > COSINE && way.height > WIDER * spread)
}

/// What tells whether the features of two faces may meet.
struct PairFilter<'a> {
    search: &'a PairSearch,
    points: &'a [PointWay],
    ways: &'a [FaceWay],
    flat: &'a [bool],
    /// The points of which each pair must have one; none: any.
    wanted: Option<&'a [bool]>,
    reach: f32,
}

impl PairFilter<'_> {
    /// Finds the pairs of features of two faces that may meet.
    fn of_faces(&self, a: usize, b: usize, found: &mut Vec<Pair>) {
        let (one, two) = (&self.ways[a], &self.ways[b]);
        let between = one.spread + two.spread + one.moves.distance(two.moves);
        let closer = 1.0001 * (self.reach + between);
        let most = one.radius + two.radius + closer;
        if one.centre.distance_squared(two.centre) > 1.0002 * most * most {
            return;
        }
        let (first, second) = (&self.search.faces[a], &self.search.faces[b]);
        let mut common = first.points.iter().filter(|p| second.points.contains(p)).peekable();
        let apart = common.peek().is_none();
        if common.any(|p| self.flat[*p as usize]) {
            return;
        }
        let corners = |face: &Face| face.points.map(|p| self.points[p as usize]);
        let (at, other) = (corners(first), corners(second));
        if apart && (one.is_apart(&at, &other, closer) || two.is_apart(&other, &at, closer)) {
            return;
        }
        let before = found.len();
        self.points_of(first, &at, second, two, found);
        self.points_of(second, &other, first, one, found);
        for i in (0..3).filter(|i| first.own_edges[*i]) {
            for k in (0..3).filter(|k| second.own_edges[*k]) {
                let [i2, k2] = [(i + 1) % 3, (k + 1) % 3];
                let ends = [first.points[i], first.points[i2], second.points[k], second.points[k2]];
                let apart = apart || !ends[..2].contains(&ends[2]) && !ends[..2].contains(&ends[3]);
                if apart && self.edges_meet(&[at[i], at[i2]], &[other[k], other[k2]]) {
                    found.push(Pair::Edges(ends));
                }
            }
        }
        if let Some(wanted) = self.wanted {
            let mut kept = before;
            for i in before..found.len() {
                if found[i].points().iter().any(|p| wanted[*p as usize]) {
                    found.swap(i, kept);
                    kept += 1;
                }
            }
            found.truncate(kept);
        }
    }

    fn points_of(&self, of: &Face, at: &[PointWay; 3], face: &Face, way: &FaceWay, found: &mut Vec<Pair>) {
        for i in (0..3).filter(|i| of.own_points[*i] && !face.points.contains(&of.points[*i])) {
            let most = self.reach + way.spread + at[i].moves.distance(way.moves);
            let off = at[i].x - way.centre;
            let reach = way.radius + most;
            if off.length_squared() <= 1.0002 * reach * reach && off.dot(way.normal).abs() <= 1.0001 * most {
                let [a, b, c] = face.points;
                found.push(Pair::PointTriangle([of.points[i], a, b, c]));
            }
        }
    }

    /// Whether two edges may meet.
    fn edges_meet(&self, [a, b]: &[PointWay; 2], [c, d]: &[PointWay; 2]) -> bool {
        let mean = (a.moves + b.moves - c.moves - d.moves).length();
        let between = 0.5 * (a.moves.distance(b.moves) + c.moves.distance(d.moves) + mean);
        let most = 1.0001 * (self.reach + between);
        // The gap along the first edge, then across it.
        let (first, from, to) = (b.x - a.x, c.x - a.x, d.x - a.x);
        let length = first.length().max(1e-30);
        let along = first / length;
        let (s, t) = (from.dot(along), to.dot(along));
        if s.min(t) > length + most || s.max(t) < -most {
            return false;
        }
        let (p, q) = (from - along * s, to - along * t);
        let side = q - p;
        let at = (-p.dot(side) / side.length_squared().max(1e-30)).clamp(0.0, 1.0);
        (p + side * at).length_squared() <= 1.0002 * most * most
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn all_pairs_that_come_close_are_found() {
        use geometry::{Mesh, primitive};
        use shot::Shape;
        let mesh = Mesh::refined(&Shape::plane(1.0, 0.6), primitive::plane(1.0, 0.6), 0.2, 1_000).unwrap();
        let sheet = crate::deformable::sheet::sheet(&mesh).0.copies([1.0; 2].into_iter());
        let number = |i: usize| f64::from(((i as u32).wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0;
        let from: Vec<DVec3> = (sheet.rest.iter().zip(&sheet.body_of).enumerate())
            .map(|(i, (p, copy))| *p + DVec3::Y * (0.1 * f64::from(*copy) + 0.03 * number(i)))
            .collect();
        let to: Vec<DVec3> = (from.iter().enumerate())
            .map(|(i, p)| *p + DVec3::new(number(i + 900), -1.0 - 0.2 * number(i), number(i + 700)) * 0.3)
            .collect();
        let mut search = PairSearch::new(&sheet.faces, &from, &sheet.rest);
        let reach = 0.08;
        let found = search.find(&from, &to, None, reach).unwrap();
        assert_eq!(found, search.find(&from, &to, None, reach).unwrap(), "always in the same order");
        let mut wanted = Vec::new();
        for point in 0..from.len() as u32 {
            let apart = |t: &&[u32; 3]| !t.contains(&point);
            let of = |t: &[u32; 3]| Pair::PointTriangle([point, t[0], t[1], t[2]]);
            wanted.extend(sheet.faces.iter().filter(apart).map(of));
        }
        let sides = |[a, b, c]: &[u32; 3]| [[*a, *b], [*b, *c], [*c, *a]].map(|[a, b]| [a.min(b), a.max(b)]);
        let edges: std::collections::BTreeSet<[u32; 2]> = sheet.faces.iter().flat_map(sides).collect();
        for a in &edges {
            let apart = |b: &&[u32; 2]| *b > a && !b.contains(&a[0]) && !b.contains(&a[1]);
            let of = |b: &[u32; 2]| Pair::Edges([a[0], a[1], b[0], b[1]]);
            wanted.extend(edges.iter().filter(apart).map(of));
        }
        let close = |pair: &Pair| {
            (0..=20).any(|step| {
                let t = f64::from(step) / 20.0;
                let x: Vec<DVec3> = from.iter().zip(&to).map(|(a, b)| a.lerp(*b, t)).collect();
                pair.nearest(&x).1.length() < f64::from(reach)
            })
        };
        let sorted = |pair: &Pair| {
            let mut points = pair.points();
            let (first, second) = points.split_at_mut(pair.first());
            first.sort_unstable();
            second.sort_unstable();
            if first.len() == 2 && first[0] > second[0] {
                first.swap_with_slice(second);
            }
            points
        };
        let known: HashSet<(usize, [u32; 4])> =
            found.iter().map(|pair| (pair.first(), sorted(pair))).collect();
        assert_eq!(known.len(), found.len(), "each once");
        // The edges of a pair, and the ends of each, come in any order, the corners of a face turned.
        let found_or_turned =
            |known: &HashSet<(usize, [u32; 4])>, pair: &Pair| known.contains(&(pair.first(), sorted(pair)));
        let close: Vec<Pair> = wanted.into_iter().filter(close).collect();
        assert!(close.len() > 50);
        assert!(close.iter().all(|pair| found_or_turned(&known, pair)));
    }

    #[test]
    fn an_edge_that_goes_through_a_face_beside_its_own_is_found() {
        // Two faces around point 0; the edge from 1 to 2 goes through the second.
        let x = [
            DVec3::ZERO,
            DVec3::new(0.3, 0.2, 1.0),
            DVec3::new(0.3, 0.2, -1.0),
            DVec3::new(1.0, 0.0, 0.0),
            DVec3::new(0.0, 1.0, 0.0),
        ];
        let faces = [[0, 1, 2], [0, 3, 4]];
        let found = PairSearch::new(&faces, &x, &x).crossings(&x, None);
        assert_eq!(found, [Crossing { edge: [1, 2], face: [0, 3, 4] }]);
    }
}
