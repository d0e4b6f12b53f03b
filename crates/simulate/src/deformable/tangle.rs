//! Surfaces that cross each other, and the forces that draw them apart.
//!
//! Where an edge crosses a triangle, the line along which the two surfaces cross begins or goes on. Each such edge is pulled the
//! way in which that line becomes shorter, until it is gone (P. Volino and N. Magnenat-Thalmann, *Resolving surface collisions
//! through intersection contour minimization*, 2006). Which side is the right one need not be known. Surfaces cross at the start, or
//! where pins carry one through another; contact keeps all others from it.

use super::active_contacts::Spring;
use super::crossing::{Crossing, rising};
use super::pair::Pair;
use glam::DVec3;
use std::collections::{BTreeMap, HashSet};

/// Stiffness against the inertia of the points.
const STIFFNESS: f64 = 4.0;
/// Distance by which an edge is drawn in a step: this part of its length, at most so fast.
const PART: f64 = 0.25;
const MAX_SPEED: f64 = 1.0;

/// All crossings of a step's start, and which way each edge is drawn.
#[derive(Default)]
pub(super) struct Tangle {
    drawn: Vec<(Crossing, DVec3, f64)>,
    /// The points of pairs of features that cross: these do not keep each other apart.
    crossed: HashSet<[u32; 4]>,
}

impl Tangle {
    /// Of crossings with the points at `x`; `faces` are all faces.
    pub fn new(crossings: Vec<Crossing>, faces: impl Iterator<Item = [u32; 3]>, x: &[DVec3]) -> Self {
        if crossings.is_empty() {
            return Self::default();
        }
        let wanted: HashSet<[u32; 2]> = crossings.iter().map(|of| sorted(of.edge)).collect();
        let mut beside: BTreeMap<[u32; 2], Vec<u32>> = BTreeMap::new();
        for [a, b, c] in faces {
            for (edge, third) in [([a, b], c), ([b, c], a), ([c, a], b)] {
                let edge = sorted(edge);
                if wanted.contains(&edge) {
                    beside.entry(edge).or_default().push(third);
                }
            }
        }
        let mut crossed = HashSet::new();
        let mut drawn = Vec::new();
        for crossing in crossings {
            crossed.extend(crossing.pairs());
            let thirds = beside.get(&sorted(crossing.edge)).map_or(&[][..], Vec::as_slice);
            if let Some(way) = way(&crossing, thirds, x) {
                let [p, q] = crossing.edge.map(|i| x[i as usize]);
                drawn.push((crossing, way, p.distance(q)));
            }
        }
        Self { drawn, crossed }
    }

    /// Whether nothing crosses.
    pub fn is_empty(&self) -> bool {
        self.crossed.is_empty()
    }

    /// Whether the features of a pair may keep each other apart.
    pub fn leaves(&self, pair: &Pair) -> bool {
        self.crossed.is_empty() || !self.crossed.contains(&rising(pair.points()))
    }

    /// The springs that draw edges, with the points at `x`; `x_n` are those at the step's start.
    pub fn add_springs(&self, x: &[DVec3], x_n: &[DVec3], inertia: &[f64], dt: f64, into: &mut Vec<Spring>) {
        for (crossing, way, length) in &self.drawn {
            let Some((ends, corners)) = crossing.weights(x_n) else { continue };
            let far = (PART * length).min(MAX_SPEED * dt);
            let [a, b, c] = crossing.face;
            for (end, share) in crossing.edge.iter().zip(ends) {
                let points = [*end, a, b, c];
                let weights = [share, -share * corners[0], -share * corners[1], -share * corners[2]];
                let moved = (0..4).fold(DVec3::ZERO, |sum, i| {
                    sum + (x[points[i] as usize] - x_n[points[i] as usize]) * weights[i]
                });
                let depth = share * far - moved.dot(*way);
                let weighted: f64 = (0..4).map(|i| weights[i].abs() * inertia[points[i] as usize]).sum();
                let along = STIFFNESS * 0.5 * weighted;
                if depth > 0.0 && along > 0.0 {
                    into.push(Spring {
                        points,
                        weights: weights.map(|weight| weight as f32),
                        normal: way.as_vec3a(),
                        along: along as f32,
                        across: 0.0,
                        force: *way * (along * depth),
                    });
                }
            }
        }
    }
}

fn sorted([a, b]: [u32; 2]) -> [u32; 2] {
    [a.min(b), a.max(b)]
}

/// The unit vector along which an edge moves for the line of crossing to become shorter, as it does by the sum over the faces
/// beside the edge of R − (E·R / E·N) N: E is the edge's direction, N the normal of the face that it crosses, and R the
/// direction of the line from the edge into the face beside. None: the line goes straight on there.
fn way(crossing: &Crossing, thirds: &[u32], x: &[DVec3]) -> Option<DVec3> {
    let [p, q] = crossing.edge.map(|i| x[i as usize]);
    let [a, b, c] = crossing.face.map(|i| x[i as usize]);
    let (e, n) = ((q - p).try_normalize()?, (b - a).cross(c - a).try_normalize()?);
    let along = e.dot(n);
    if along.abs() < 1e-3 {
        return None;
    }
    let mut sum = DVec3::ZERO;
    for third in thirds {
        let inward = (x[*third as usize] - p).reject_from_normalized(e);
        let Some(line) = n.cross(e.cross(inward)).try_normalize() else { continue };
        let line = if line.dot(inward) < 0.0 { -line } else { line };
        sum += line - n * (e.dot(line) / along);
    }
    // Two faces that lie in one plane cancel each other but for rounding.
    (sum.length() > 1e-2).then(|| sum.normalize())
}

#[cfg(test)]
mod tests {
    use super::super::crossing::tests::points;
    use super::*;

    #[test]
    fn a_tip_that_is_through_is_drawn_back() {
        let x = points(0.1);
        let crossings =
            vec![Crossing { edge: [3, 4], face: [0, 1, 2] }, Crossing { edge: [3, 5], face: [0, 1, 2] }];
        let tangle = Tangle::new(crossings, [[0, 1, 2], [3, 4, 5]].into_iter(), &x);
        assert!(!tangle.leaves(&Pair::PointTriangle([3, 0, 1, 2])));
        assert!(tangle.leaves(&Pair::Edges([4, 5, 0, 1])));
        let mut springs = Vec::new();
        tangle.add_springs(&x, &x, &[1.0; 6], 0.01, &mut springs);
        let mut tip = DVec3::ZERO;
        for spring in &springs {
            let total: f32 = spring.weights.iter().sum();
            assert!(total.abs() < 1e-6, "momentum is kept");
            if spring.points[0] == 3 {
                tip += spring.force * f64::from(spring.weights[0]);
            }
        }
        assert!(tip.y > 0.0 && tip.x.abs() < 1e-9, "{tip}");
    }
}
