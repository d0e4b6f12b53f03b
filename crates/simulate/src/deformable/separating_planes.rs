//! Planes between features that may meet in a step, and motions projected onto what the planes allow.
//!
//! A plane lies in the middle of the shortest connection of two features at the step's start. It moves with their mean motion,
//! and each point keeps a part of its distance from it: features that keep to this on straight paths never cross. Where a
//! plane is violated, conservative advancement (M. Li et al., *Codimensional incremental potential contact*, 2021) tells whether
//! the features meet or only turn together.

use super::embedding::Embedding;
use super::pair::Pair;
use glam::DVec3;
use rayon::prelude::*;

/// Part of its distance from the plane that a point keeps.
const KEPT: f64 = 0.2;
/// Passes of projections in a round.
const PROJECTIONS: u32 = 12;

/// A pair and its plane.
pub(super) struct Plane {
    pub points: [u32; 4],
    first: usize,
    normal: DVec3,
    weights: [f64; 4],
    /// How far each point may come towards the plane, m.
    room: [f64; 4],
    pair: Pair,
    /// Distance at the step's start, and that which is kept, m.
    distance: f64,
    keeps: f64,
}

impl Plane {
    pub fn new(pair: &Pair, x: &[DVec3], least: f64) -> Option<Self> {
        let (weights, apart) = pair.nearest(x);
        let distance = apart.length();
        // Without a distance there is no plane between them.
        if distance < 1e-9 {
            return None;
        }
        let (points, first, normal) = (pair.points(), pair.first(), apart / distance);
        let at = |i: usize| x[points[i] as usize] * weights[i].abs();
        let near = (0..first).fold(DVec3::ZERO, |sum, i| sum + at(i));
        let far = (first..4).fold(DVec3::ZERO, |sum, i| sum + at(i));
        let middle = 0.5 * (near + far);
        let room = std::array::from_fn(|i| {
            let side = if i < first { 1.0 } else { -1.0 };
            (side * (x[points[i] as usize] - middle).dot(normal) - 0.5 * least.max(KEPT * distance)).max(0.0)
        });
        let keeps = least.max(KEPT * distance).min(0.999 * distance);
        Some(Self { points, first, normal, weights, room, pair: *pair, distance, keeps })
    }

    fn along(&self, i: usize, motion: &Motion) -> f64 {
        self.normal.dot(motion.of(self.points[i]))
    }

    /// How far the plane moves.
    fn moved(&self, motion: &Motion) -> f64 {
        let of = |range: std::ops::Range<usize>| {
            let fixed = range.clone().any(|i| motion.is_held(self.points[i]));
            (range.map(|i| self.weights[i].abs() * self.along(i, motion)).sum::<f64>(), fixed)
        };
        // Held points go where they must.
        match (of(0..self.first), of(self.first..4)) {
            ((near, true), (_, false)) => near,
            ((_, false), (far, true)) => far,
            ((near, _), (far, _)) => 0.5 * (near + far),
        }
    }

    /// How far a point is beyond what it may, m: at most 0 if it keeps off.
    fn beyond(&self, i: usize, plane: f64, motion: &Motion) -> f64 {
        let side = if i < self.first { 1.0 } else { -1.0 };
        side * (plane - self.along(i, motion)) - self.room[i]
    }

    /// How much closer the nearest points of the features come than they may, m; 0 or less if they do not, or if no point is held. Held
    /// points may pass the plane; the free points of the same feature then have to make up for them.
    fn closing(&self, motion: &Motion) -> f64 {
        let held = self.points.iter().filter(|p| motion.is_held(**p)).count();
        if held == 0 || self.free_weight(motion) < 1e-3 {
            return 0.0;
        }
        let opens: f64 = (0..4).map(|i| self.weights[i] * self.along(i, motion)).sum();
        self.keeps - self.distance - opens
    }

    /// Sum of the squares of the weights of points that are not held.
    fn free_weight(&self, motion: &Motion) -> f64 {
        let square = |i: usize| if motion.is_held(self.points[i]) { 0.0 } else { self.weights[i].powi(2) };
        (0..4).map(square).sum()
    }

    pub fn broken(&self, motion: &Motion) -> bool {
        let plane = self.moved(motion);
        let beyond = |i: usize| !motion.is_held(self.points[i]) && self.beyond(i, plane, motion) > 1e-12;
        ((0..4).any(beyond) || self.closing(motion) > 1e-12) && self.meets(motion)
    }

    /// Whether the features come too close on their ways; true also where this is not soon certain.
    fn meets(&self, motion: &Motion) -> bool {
        const STEPS: u32 = 24;
        let ways = self.points.map(|p| motion.of(p));
        let mean = ways.iter().fold(DVec3::ZERO, |sum, way| sum + *way) / 4.0;
        let ways = ways.map(|way| way - mean);
        let longest =
            |range: std::ops::Range<usize>| ways[range].iter().map(|w| w.length()).fold(0.0, f64::max);
        let speed = longest(0..self.first) + longest(self.first..4);
        let start = self.points.map(|p| motion.from[p as usize]);
        let (mut t, mut distance) = (0.0, self.distance);
        for _ in 0..STEPS {
            t += 0.9 * (distance - self.keeps) / speed;
            if t >= 1.0 {
                return false;
            }
            let at: [DVec3; 4] = std::array::from_fn(|i| start[i] + ways[i] * t);
            distance = self.pair.on([0, 1, 2, 3]).nearest(&at).1.length();
            if distance <= 1.01 * self.keeps {
                return true;
            }
        }
        true
    }
}

/// A plane that a point keeps off: a solid.
#[derive(Clone, Copy, Debug)]
pub(super) struct Wall {
    pub point: u32,
    pub normal: DVec3,
    /// The least motion along the normal, m.
    pub least: f64,
}

impl Wall {
    /// How far a point would have to move further along the normal, m.
    pub fn beyond(&self, motion: &Motion) -> f64 {
        self.least - self.normal.dot(motion.of(self.point))
    }
}

/// The motion of all points over a step.
pub(super) struct Motion<'a> {
    pub embedding: &'a Embedding,
    /// Positions of the points at the step's start.
    pub from: &'a [DVec3],
    /// Motions of the nodes, which of them have been changed, and which cannot be.
    pub moves: Vec<DVec3>,
    pub changed: Vec<bool>,
    pub held: &'a [bool],
    pub walls: &'a [Wall],
}

impl Motion<'_> {
    /// That of a point.
    #[inline]
    pub fn of(&self, point: u32) -> DVec3 {
        self.embedding.at(point, &self.moves)
    }

    #[inline]
    fn is_held(&self, point: u32) -> bool {
        self.embedding.is_held(point, self.held)
    }

    /// Whether a node of a point is marked.
    pub fn is_marked(&self, point: u32, marks: &[bool]) -> bool {
        match self.embedding.node(point) {
            Some(node) => marks[node as usize],
            None => self.embedding.of(point).any(|(node, _)| marks[node as usize]),
        }
    }
}

/// Whether two features may come closer than they should.
pub(super) fn may_meet(pair: &Pair, motion: &Motion, least: f64) -> bool {
    let ways = pair.points().map(|p| motion.of(p));
    let (first, second) = ways.split_at(pair.first());
    let between = |a: &DVec3, b: &DVec3| (*a - *b).length_squared();
    let furthest =
        first.iter().flat_map(|a| second.iter().map(move |b| between(a, b))).fold(0.0, f64::max).sqrt();
    let distance = pair.nearest(motion.from).1.length();
    distance < 2.0 * least || furthest > 0.5 * (1.0 - KEPT) * distance
}

/// Projects the motions onto what the planes allow.
pub(super) fn project(planes: &[Plane], motion: &mut Motion) {
    let mut changed: Option<Vec<bool>> = None;
    for _ in 0..PROJECTIONS {
        let broken = broken(planes, motion, changed.as_deref());
        if broken.is_empty() {
            break;
        }
        let mut now = vec![false; motion.moves.len()];
        for i in broken {
            let plane = &planes[i as usize];
            let mut push = |k: usize, by: DVec3, motion: &mut Motion| {
                let Motion { embedding, moves, changed, held, .. } = motion;
                embedding.move_point(plane.points[k], by * 1.000_001, held, moves, |node| {
                    (now[node as usize], changed[node as usize]) = (true, true);
                });
            };
            let by = plane.moved(motion);
            for (k, &point) in plane.points.iter().enumerate() {
                let beyond = plane.beyond(k, by, motion);
                if beyond > 0.0 && !motion.is_held(point) {
                    let side = if k < plane.first { 1.0 } else { -1.0 };
                    push(k, plane.normal * (side * beyond), motion);
                }
            }
            let closing = plane.closing(motion);
            if closing > 0.0 {
                let opens = closing / plane.free_weight(motion);
                for k in 0..4 {
                    if !motion.is_held(plane.points[k]) {
                        push(k, plane.normal * (opens * plane.weights[k]), motion);
                    }
                }
            }
        }
        for wall in motion.walls {
            let beyond = wall.beyond(motion);
            if beyond > 0.0 && motion.is_marked(wall.point, &now) {
                let Motion { embedding, moves, changed, held, .. } = motion;
                embedding.move_point(wall.point, wall.normal * beyond, held, moves, |node| {
                    (now[node as usize], changed[node as usize]) = (true, true);
                });
            }
        }
        changed = Some(now);
    }
}

/// The planes that the motions break, among those of which a node is marked.
pub(super) fn broken(planes: &[Plane], motion: &Motion, marks: Option<&[bool]>) -> Vec<u32> {
    let each = planes.par_iter().enumerate().with_min_len(256);
    let concerned = |plane: &Plane| {
        marks.is_none_or(|marks| plane.points.iter().any(|point| motion.is_marked(*point, marks)))
    };
    each.filter_map(|(i, plane)| (concerned(plane) && plane.broken(motion)).then_some(i as u32)).collect()
}
