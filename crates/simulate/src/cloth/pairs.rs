//! Pairs of features of sheets that may meet within a step: a point and a triangle, or two edges.
//!
//! The boxes of a hierarchy over the triangles hold their whole way over the step, less the mean motion of all points,
//! so that no pair that could meet on straight ways is missed.

use super::membrane::Triangle;
use super::sheet::Sheet;
use geometry::{Bounds, Bvh, RefitPlan};
use glam::{DVec3, Vec3};
use rayon::prelude::*;
use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

/// Two features, none of whose points is shared: the first one or two points are one feature's, the others the other's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Pair {
    /// A point, and a triangle.
    PointTriangle([u32; 4]),
    /// Two edges.
    Edges([u32; 4]),
}

impl Pair {
    pub fn points(&self) -> [u32; 4] {
        match self {
            Self::PointTriangle(points) | Self::Edges(points) => *points,
        }
    }

    /// The same of other points.
    pub fn on(&self, points: [u32; 4]) -> Self {
        match self {
            Self::PointTriangle(_) => Self::PointTriangle(points),
            Self::Edges(_) => Self::Edges(points),
        }
    }

    /// How many of the points belong to the first feature.
    pub fn first(&self) -> usize {
        match self {
            Self::PointTriangle(_) => 1,
            Self::Edges(_) => 2,
        }
    }

    /// Weights of the points at the features' nearest points, negative for the second, and the difference of these.
    pub fn nearest(&self, x: &[DVec3]) -> ([f64; 4], DVec3) {
        let [a, b, c, d] = self.points().map(|p| x[p as usize]);
        let weights = match self {
            Self::PointTriangle(_) => {
                let [u, v, w] = in_triangle(a, [b, c, d]);
                [1.0, -u, -v, -w]
            }
            Self::Edges(_) => {
                let (s, t) = on_edges(a, b, c, d);
                [1.0 - s, s, t - 1.0, -t]
            }
        };
        (weights, a * weights[0] + b * weights[1] + c * weights[2] + d * weights[3])
    }
}

/// Barycentric coordinates of the point of a triangle nearest to `p` (C. Ericson, *Real-time collision detection*, 2005, 5.1.5).
fn in_triangle(p: DVec3, [a, b, c]: [DVec3; 3]) -> [f64; 3] {
    let (ab, ac, ap) = (b - a, c - a, p - a);
    let (d1, d2) = (ab.dot(ap), ac.dot(ap));
    if d1 <= 0.0 && d2 <= 0.0 {
        return [1.0, 0.0, 0.0];
    }
    let bp = p - b;
    let (d3, d4) = (ab.dot(bp), ac.dot(bp));
    if d3 >= 0.0 && d4 <= d3 {
        return [0.0, 1.0, 0.0];
    }
    let vc = d1 * d4 - d3 * d2;
    if vc <= 0.0 && d1 >= 0.0 && d3 <= 0.0 {
        let v = d1 / (d1 - d3);
        return [1.0 - v, v, 0.0];
    }
    let cp = p - c;
    let (d5, d6) = (ab.dot(cp), ac.dot(cp));
    if d6 >= 0.0 && d5 <= d6 {
        return [0.0, 0.0, 1.0];
    }
    let vb = d5 * d2 - d1 * d6;
    if vb <= 0.0 && d2 >= 0.0 && d6 <= 0.0 {
        let w = d2 / (d2 - d6);
        return [1.0 - w, 0.0, w];
    }
    let va = d3 * d6 - d5 * d4;
    if va <= 0.0 && d4 - d3 >= 0.0 && d5 - d6 >= 0.0 {
        let w = (d4 - d3) / ((d4 - d3) + (d5 - d6));
        return [0.0, 1.0 - w, w];
    }
    let sum = va + vb + vc;
    [va / sum, vb / sum, vc / sum]
}

/// Where on two edges their nearest points lie, 0–1 (ibid., 5.1.9).
fn on_edges(p1: DVec3, q1: DVec3, p2: DVec3, q2: DVec3) -> (f64, f64) {
    let (d1, d2, r) = (q1 - p1, q2 - p2, p1 - p2);
    let (a, e) = (d1.length_squared().max(1e-300), d2.length_squared().max(1e-300));
    let (b, c, f) = (d1.dot(d2), d1.dot(r), d2.dot(r));
    let denominator = a * e - b * b;
    let s = if denominator > 1e-12 * a * e { ((b * f - c * e) / denominator).clamp(0.0, 1.0) } else { 0.0 };
    let t = (b * s + f) / e;
    if t < 0.0 {
        ((-c / a).clamp(0.0, 1.0), 0.0)
    } else if t > 1.0 {
        (((b - c) / a).clamp(0.0, 1.0), 1.0)
    } else {
        (s, t)
    }
}

/// Most pairs of a step: 20 bytes each.
const MAX_PAIRS: usize = 24_000_000;

/// Finds pairs.
pub(super) struct PairSearch {
    triangles: Vec<[u32; 3]>,
    /// All edges, and for each triangle those that it is the first to have.
    edges: Vec<[u32; 2]>,
    own: Vec<Vec<u32>>,
    tree: Bvh,
    plan: RefitPlan,
}

impl PairSearch {
    /// Of a sheet with its points at `x`.
    pub fn new(sheet: &Sheet, x: &[DVec3]) -> Self {
        let triangles: Vec<[u32; 3]> = sheet.triangles.iter().map(|t: &Triangle| t.points).collect();
        let mut known = HashMap::new();
        let mut edges = Vec::new();
        let own = triangles.iter().map(|[a, b, c]| {
            let mut list = Vec::new();
            for [a, b] in [[*a, *b], [*b, *c], [*c, *a]] {
                known.entry([a.min(b), a.max(b)]).or_insert_with(|| {
                    edges.push([a.min(b), a.max(b)]);
                    list.push(edges.len() as u32 - 1);
                });
            }
            list
        });
        let own = own.collect();
        let positions: Vec<Vec3> = x.iter().map(|x| x.as_vec3()).collect();
        let tree = Bvh::build(&positions, &triangles);
        let plan = tree.refit_plan(&triangles);
        Self { triangles, edges, own, tree, plan }
    }

    /// All pairs that may come closer than `reach` while the points go straight from `from` to `to`, in an order that does
    /// not depend on the number of threads; none if there are more than [`MAX_PAIRS`].
    pub fn find(&mut self, from: &[DVec3], to: &[DVec3], reach: f32) -> Option<Vec<Pair>> {
        let n = from.len().max(1) as f64;
        let mean = from.iter().zip(to).fold(DVec3::ZERO, |sum, (a, b)| sum + (*b - *a)) / n;
        let before: Vec<Vec3> = from.iter().map(|x| x.as_vec3()).collect();
        let after: Vec<Vec3> = to.iter().map(|x| (*x - mean).as_vec3()).collect();
        self.tree.refit(&mut self.plan, &after, Some(&before));
        let Self { triangles, edges, own, tree, .. } = self;
        let way = |points: &[u32]| SweptSphere::new(points, &before, &after);
        let of_triangles: Vec<SweptSphere> = triangles.par_iter().with_min_len(256).map(|t| way(t)).collect();
        let of_edges: Vec<SweptSphere> = edges.par_iter().with_min_len(256).map(|e| way(e)).collect();
        let grown = |points: &[u32]| {
            let all = points.iter().map(|&p| p as usize);
            let swept = all.fold(Bounds::EMPTY, |bounds, p| bounds.with(before[p]).with(after[p]));
            Bounds { min: swept.min - reach, max: swept.max + reach }
        };
        // Past the bound no more are kept.
        let count = AtomicUsize::new(0);
        let bounded = |found: Vec<Pair>| {
            let before = count.fetch_add(found.len(), Relaxed);
            if before > MAX_PAIRS { Vec::new() } else { found }
        };
        let points = (0..from.len() as u32).into_par_iter().with_min_len(64).flat_map_iter(|point| {
            let mut found = Vec::new();
            let own = way(&[point]);
            tree.overlapping(&grown(&[point]), |triangle| {
                let corners = triangles[triangle as usize];
                if own.meets(&of_triangles[triangle as usize], reach) && !corners.contains(&point) {
                    found.push(Pair::PointTriangle([point, corners[0], corners[1], corners[2]]));
                }
            });
            bounded(found)
        });
        let both = (0..edges.len() as u32).into_par_iter().with_min_len(64).flat_map_iter(|edge| {
            let mut found = Vec::new();
            let ends = edges[edge as usize];
            let way = &of_edges[edge as usize];
            tree.overlapping(&grown(&ends), |triangle| {
                for &other in own[triangle as usize].iter().filter(|other| **other > edge) {
                    let others = edges[other as usize];
                    let apart = !others.contains(&ends[0]) && !others.contains(&ends[1]);
                    if apart && way.meets(&of_edges[other as usize], reach) {
                        found.push(Pair::Edges([ends[0], ends[1], others[0], others[1]]));
                    }
                }
            });
            bounded(found)
        });
        let mut pairs: Vec<Pair> = points.collect();
        pairs.par_extend(both);
        (count.into_inner() <= MAX_PAIRS).then_some(pairs)
    }
}

/// A ball around a feature at the start, and its way.
struct SweptSphere {
    centre: Vec3,
    radius: f32,
    moves: Vec3,
    /// How far the way of a point differs from the mean.
    spread: f32,
}

impl SweptSphere {
    fn new(points: &[u32], before: &[Vec3], after: &[Vec3]) -> Self {
        let all = || points.iter().map(|&p| p as usize);
        let scale = 1.0 / points.len() as f32;
        let centre = all().fold(Vec3::ZERO, |sum, p| sum + before[p]) * scale;
        let moves = all().fold(Vec3::ZERO, |sum, p| sum + (after[p] - before[p])) * scale;
        let radius = all().map(|p| before[p].distance_squared(centre)).fold(0.0, f32::max).sqrt();
        let spread = all().map(|p| (after[p] - before[p]).distance_squared(moves)).fold(0.0, f32::max).sqrt();
        Self { centre, radius, moves, spread }
    }

    /// Whether the two may come closer than `reach`.
    #[inline]
    fn meets(&self, other: &Self, reach: f32) -> bool {
        // Rounding of single precision.
        const MARGIN: f32 = 1.0001;
        let sizes = self.radius + self.spread + other.radius + other.spread + reach;
        let most = MARGIN * (sizes + self.moves.distance(other.moves));
        self.centre.distance_squared(other.centre) <= most * most
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nearest_points_are_nearer_than_any_others() {
        let number = |i: u32| f64::from((i.wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0;
        for seed in 0..400 {
            let x: Vec<DVec3> = (0..4)
                .map(|i| {
                    DVec3::from_array(std::array::from_fn(|axis| number(100 * seed + 3 * i + axis as u32)))
                })
                .collect();
            for pair in [Pair::PointTriangle([0, 1, 2, 3]), Pair::Edges([0, 1, 2, 3])] {
                let (weights, apart) = pair.nearest(&x);
                let (first, second) = weights.split_at(pair.first());
                assert!((first.iter().sum::<f64>() - 1.0).abs() < 1e-9);
                assert!((second.iter().sum::<f64>() + 1.0).abs() < 1e-9);
                let (least, steps) = (apart.length(), 24);
                for i in 0..=steps {
                    for j in 0..=steps {
                        let (u, v) = (f64::from(i) / f64::from(steps), f64::from(j) / f64::from(steps));
                        let other = match pair {
                            Pair::Edges(_) => x[0].lerp(x[1], u) - x[2].lerp(x[3], v),
                            Pair::PointTriangle(_) => x[0] - x[1].lerp(x[2].lerp(x[3], v), u),
                        };
                        assert!(other.length() > least - 1e-9, "{pair:?} {seed}");
                    }
                }
            }
        }
    }

    #[test]
    fn all_pairs_that_come_close_are_found() {
        use geometry::{Mesh, primitive};
        use shot::Shape;
        let mesh = Mesh::refined(&Shape::plane(1.0, 0.6), primitive::plane(1.0, 0.6), 0.2, 1_000).unwrap();
        let sheet = Sheet::new(&mesh, 2);
        let number = |i: usize| f64::from(((i as u32).wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0;
        let from: Vec<DVec3> = (sheet.rest.iter().zip(&sheet.copy_of).enumerate())
            .map(|(i, (p, copy))| *p + DVec3::Y * (0.1 * f64::from(*copy) + 0.03 * number(i)))
            .collect();
        let to: Vec<DVec3> = (from.iter().enumerate())
            .map(|(i, p)| *p + DVec3::new(number(i + 900), -1.0 - 0.2 * number(i), number(i + 700)) * 0.3)
            .collect();
        let mut search = PairSearch::new(&sheet, &from);
        let reach = 0.08;
        let found = search.find(&from, &to, reach).unwrap();
        assert_eq!(found, search.find(&from, &to, reach).unwrap(), "always in the same order");
        let mut wanted = Vec::new();
        for point in 0..from.len() as u32 {
            let apart = |t: &&[u32; 3]| !t.contains(&point);
            let of = |t: &[u32; 3]| Pair::PointTriangle([point, t[0], t[1], t[2]]);
            wanted.extend(search.triangles.iter().filter(apart).map(of));
        }
        for (i, a) in search.edges.iter().enumerate() {
            let apart = |b: &&[u32; 2]| !b.contains(&a[0]) && !b.contains(&a[1]);
            let of = |b: &[u32; 2]| Pair::Edges([a[0], a[1], b[0], b[1]]);
            wanted.extend(search.edges[i + 1..].iter().filter(apart).map(of));
        }
        let close = |pair: &Pair| {
            (0..=20).any(|step| {
                let t = f64::from(step) / 20.0;
                let x: Vec<DVec3> = from.iter().zip(&to).map(|(a, b)| a.lerp(*b, t)).collect();
                pair.nearest(&x).1.length() < f64::from(reach)
            })
        };
        let known: std::collections::HashSet<[u32; 4]> = found.iter().map(Pair::points).collect();
        let close: Vec<Pair> = wanted.into_iter().filter(close).collect();
        assert!(close.len() > 50);
        assert!(close.iter().all(|pair| known.contains(&pair.points())));
    }
}
