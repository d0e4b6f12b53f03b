//! Motions of a step cut back so that no surface passes through another.
//!
//! Between the features of each pair that may meet lies a plane, in the middle of their shortest connection at the
//! step's start. The plane moves with their mean motion, and each point keeps a part of its distance from the plane.
//! Features that keep to this on straight paths never cross. Where a plane is violated, conservative advancement (M. Li et
//! al., *Codimensional incremental potential contact*, 2021) tells whether the features meet or only turn together.
//! Motions by which features meet are projected onto the half-spaces, pair by pair. Where pairs contradict each other,
//! their points form impact zones that move as one (X. Provot, *Collision and self-collision handling in cloth model
//! dedicated to design garments*, 1997).
//!
//! A. Chen et al., *Offset geometric contact*, 2025, bound the motion of each point in all directions; here layers that move
//! together do not hold each other up.

use super::embedding::Embedding;
use super::pairs::Pair;
use glam::DVec3;
use rayon::prelude::*;

/// Part of its distance from the plane that a point keeps.
const KEPT: f64 = 0.2;
/// Passes of projections in a round.
const PROJECTIONS: u32 = 12;
/// Times that zones may grow while those around them are projected.
const PROJECTED_ZONES: u32 = 12;
/// Rounds of projections; each may bring in further pairs.
const ROUNDS: u32 = 4;

/// A pair and its plane.
struct Plane {
    points: [u32; 4],
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
    fn new(pair: &Pair, x: &[DVec3], least: f64) -> Option<Self> {
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

    fn broken(&self, motion: &Motion) -> bool {
        let plane = self.moved(motion);
        (0..4).any(|i| !motion.is_held(self.points[i]) && self.beyond(i, plane, motion) > 1e-12)
            && self.meets(motion)
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
    fn beyond(&self, motion: &Motion) -> f64 {
        self.least - self.normal.dot(motion.of(self.point))
    }
}

/// The motion of all points over a step.
struct Motion<'a> {
    embedding: &'a Embedding,
    /// Positions of the points at the step's start.
    from: &'a [DVec3],
    /// Motions of the nodes, which of them have been changed, and which cannot be.
    moves: Vec<DVec3>,
    changed: Vec<bool>,
    held: &'a [bool],
    walls: &'a [Wall],
}

impl Motion<'_> {
    /// That of a point.
    #[inline]
    fn of(&self, point: u32) -> DVec3 {
        self.embedding.at(point, &self.moves)
    }

    #[inline]
    fn is_held(&self, point: u32) -> bool {
        self.embedding.is_held(point, self.held)
    }

    /// Whether a node of a point is marked.
    fn is_marked(&self, point: u32, marks: &[bool]) -> bool {
        match self.embedding.node(point) {
            Some(node) => marks[node as usize],
            None => self.embedding.of(point).any(|(node, _)| marks[node as usize]),
        }
    }
}

/// Cuts back the motion of the nodes from `before` to `to`, which carry points from `from` on; held nodes go where they must.
/// Features that are `least` or less apart come no closer, and points are not pushed through walls.
pub(super) fn truncate(
    pairs: &[Pair],
    walls: &[Wall],
    embedding: &Embedding,
    from: &[DVec3],
    before: &[DVec3],
    to: &mut [DVec3],
    held: &[bool],
    least: f64,
) {
    let moves: Vec<DVec3> = before.iter().zip(&*to).map(|(a, b)| *b - *a).collect();
    let changed = vec![false; moves.len()];
    let mut motion = Motion { embedding, from, moves, changed, held, walls };
    // Planes are made of pairs that meet, at first or after points were moved.
    let mut known = vec![false; pairs.len()];
    let mut planes: Vec<Plane> = Vec::new();
    let mut zones = ImpactZones::new(before.len());
    for round in 0.. {
        let needed: Vec<(usize, Plane)> = (pairs.par_iter().enumerate())
            .filter(|(i, pair)| {
                !known[*i]
                    && (round == 0 || pair.points().iter().any(|p| motion.is_marked(*p, &motion.changed)))
                    && may_meet(pair, &motion, least)
            })
            .filter_map(|(i, pair)| Plane::new(pair, from, least).map(|plane| (i, plane)))
            .filter(|(_, plane)| plane.broken(&motion))
            .collect();
        let more = !needed.is_empty();
        for (i, plane) in needed {
            known[i] = true;
            planes.push(plane);
        }
        if round < ROUNDS {
            project(&planes, &mut motion);
        } else {
            zones.settle(&planes, &mut motion);
        }
        if !more && round >= ROUNDS {
            break;
        }
    }
    for i in (0..to.len()).filter(|i| motion.changed[*i]) {
        to[i] = before[i] + motion.moves[i];
    }
}

/// Whether two features may come closer than they should.
fn may_meet(pair: &Pair, motion: &Motion, least: f64) -> bool {
    let ways = pair.points().map(|p| motion.of(p));
    let (first, second) = ways.split_at(pair.first());
    let between = |a: &DVec3, b: &DVec3| (*a - *b).length_squared();
    let furthest =
        first.iter().flat_map(|a| second.iter().map(move |b| between(a, b))).fold(0.0, f64::max).sqrt();
    let distance = pair.nearest(motion.from).1.length();
    distance < 2.0 * least || furthest > 0.5 * (1.0 - KEPT) * distance
}

/// Projects the motions onto what the planes allow.
fn project(planes: &[Plane], motion: &mut Motion) {
    let mut changed: Option<Vec<bool>> = None;
    for _ in 0..PROJECTIONS {
        let broken = broken(planes, motion, changed.as_deref());
        if broken.is_empty() {
            break;
        }
        let mut now = vec![false; motion.moves.len()];
        for i in broken {
            let plane = &planes[i as usize];
            let by = plane.moved(motion);
            for (k, &point) in plane.points.iter().enumerate() {
                let beyond = plane.beyond(k, by, motion);
                if beyond > 0.0 && !motion.is_held(point) {
                    let side = if k < plane.first { 1.0 } else { -1.0 };
                    let Motion { embedding, moves, changed, held, .. } = motion;
                    let push = plane.normal * (side * beyond * 1.000_001);
                    embedding.move_point(point, push, held, moves, |node| {
                        (now[node as usize], changed[node as usize]) = (true, true);
                    });
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
fn broken(planes: &[Plane], motion: &Motion, marks: Option<&[bool]>) -> Vec<u32> {
    let each = planes.par_iter().enumerate().with_min_len(256);
    let concerned = |plane: &Plane| {
        marks.is_none_or(|marks| plane.points.iter().any(|point| motion.is_marked(*point, marks)))
    };
    each.filter_map(|(i, plane)| (concerned(plane) && plane.broken(motion)).then_some(i as u32)).collect()
}

/// Impact zones: nodes that move as one.
struct ImpactZones {
    /// For each node, another of its zone, or itself.
    of: Vec<u32>,
}

impl ImpactZones {
    fn new(nodes: usize) -> Self {
        Self { of: (0..nodes as u32).collect() }
    }

    fn root(&mut self, node: u32) -> u32 {
        let mut at = node;
        while self.of[at as usize] != at {
            self.of[at as usize] = self.of[self.of[at as usize] as usize];
            at = self.of[at as usize];
        }
        at
    }

    /// Joins two zones; whether they were not one.
    fn join(&mut self, a: u32, b: u32) -> bool {
        let (a, b) = (self.root(a), self.root(b));
        self.of[a.max(b) as usize] = a.min(b);
        a != b
    }

    /// Joins the nodes of broken planes, moves each zone by the mean of its motions, or as the nodes in it that are
    /// held, and projects those around.
    fn settle(&mut self, planes: &[Plane], motion: &mut Motion) {
        for pass in 0.. {
            let mut joined = false;
            for i in broken(planes, motion, None) {
                let points = planes[i as usize].points;
                let first = motion.embedding.of(points[0]).next().map_or(0, |(node, _)| node);
                for (node, _) in points.into_iter().flat_map(|point| motion.embedding.of(point)) {
                    joined |= self.join(first, node);
                }
            }
            if !joined {
                break;
            }
            let held = motion.held;
            let mut sums = vec![(DVec3::ZERO, 0.0f64, false); motion.moves.len()];
            for node in 0..motion.moves.len() {
                let (sum, count, fixed) = &mut sums[self.root(node as u32) as usize];
                if held[node] && !*fixed {
                    (*sum, *count, *fixed) = (DVec3::ZERO, 0.0, true);
                }
                if held[node] == *fixed {
                    *sum += motion.moves[node];
                    *count += 1.0;
                }
            }
            let mut fixed = held.to_vec();
            for node in (0..motion.moves.len()).filter(|node| !held[*node]) {
                let root = self.root(node as u32);
                let (sum, count, with_held) = sums[root as usize];
                if count > 1.0 || with_held {
                    motion.moves[node] = sum / count;
                    (motion.changed[node], fixed[node]) = (true, true);
                }
            }
            self.keep_off_walls(&sums, motion);
            if pass < PROJECTED_ZONES {
                let Motion { embedding, from, moves, changed, walls, .. } = motion;
                let mut others = Motion {
                    embedding,
                    from,
                    moves: std::mem::take(moves),
                    changed: std::mem::take(changed),
                    held: &fixed,
                    walls,
                };
                project(planes, &mut others);
                (motion.moves, motion.changed) = (others.moves, others.changed);
            }
        }
    }

    /// Moves zones that go into a wall out as a whole; `sums` tells of each zone whether it has held nodes.
    fn keep_off_walls(&mut self, sums: &[(DVec3, f64, bool)], motion: &mut Motion) {
        let mut ways = vec![DVec3::ZERO; motion.moves.len()];
        let mut any = false;
        for wall in motion.walls {
            let Some((node, _)) = motion.embedding.of(wall.point).next() else { continue };
            let root = self.root(node) as usize;
            let (_, count, with_held) = sums[root];
            let beyond = wall.beyond(motion) - wall.normal.dot(ways[root]);
            if beyond > 0.0 && count > 1.0 && !with_held {
                ways[root] += wall.normal * beyond;
                any = true;
            }
        }
        if any {
            for node in 0..motion.moves.len() {
                let way = ways[self.root(node as u32) as usize];
                if way != DVec3::ZERO && !motion.held[node] {
                    motion.moves[node] += way;
                    motion.changed[node] = true;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A point over a triangle.
    fn start(height: f64) -> Vec<DVec3> {
        vec![
            DVec3::new(0.1, height, 0.1),
            DVec3::new(-0.5, 0.0, -0.5),
            DVec3::new(0.5, 0.0, -0.5),
            DVec3::new(0.0, 0.0, 0.8),
        ]
    }

    const PAIR: [Pair; 1] = [Pair::PointTriangle([0, 1, 2, 3])];

    /// Cuts back the motion of four points, which are nodes.
    fn truncate(pairs: &[Pair], from: &[DVec3], to: &mut [DVec3], held: &[bool], least: f64) {
        super::truncate(pairs, &[], &Embedding::identity(4), from, from, to, held, least);
    }

    fn height(x: &[DVec3]) -> f64 {
        (x[0] - x[1]).dot((x[3] - x[1]).cross(x[2] - x[1]).normalize())
    }

    #[test]
    fn a_point_does_not_pass_through_a_triangle() {
        let from = start(0.1);
        let mut to = from.clone();
        to[0].y = -0.4;
        truncate(&PAIR, &from, &mut to, &[false; 4], 0.01);
        assert!(height(&to) >= 0.02 - 1e-9, "{}", height(&to));
        assert!(to[1].y < 0.0, "the triangle is pushed");
    }

    #[test]
    fn held_points_go_where_they_must_and_others_make_way() {
        let from = start(0.1);
        let mut to = from.clone();
        to[0].y = -0.4;
        truncate(&PAIR, &from, &mut to, &[true, false, false, false], 0.01);
        assert_eq!(to[0].y, -0.4);
        assert!(height(&to) >= 0.02 - 1e-9, "{}", height(&to));
    }

    #[test]
    fn what_moves_together_is_not_held_up() {
        let from = start(0.01);
        let way = DVec3::new(0.3, -2.0, 0.7);
        let mut to: Vec<DVec3> = from.iter().map(|x| *x + way).collect();
        let wanted = to.clone();
        truncate(&PAIR, &from, &mut to, &[false; 4], 0.001);
        assert_eq!(to, wanted);
    }

    #[test]
    fn what_slides_past_keeps_its_motion_along() {
        let from = start(0.01);
        let mut to = from.clone();
        to[0] += DVec3::new(0.2, -0.05, 0.0);
        truncate(&PAIR, &from, &mut to, &[false; 4], 0.001);
        assert!((to[0].x - from[0].x - 0.2).abs() < 1e-9);
        assert!(height(&to) > 0.0009);
    }

    #[test]
    fn edges_stay_apart_on_their_ways_whatever_they_want() {
        let number = |i: u32| f64::from((i.wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0 - 0.5;
        let pair = [Pair::Edges([0, 1, 2, 3])];
        for seed in 0..300 {
            let random = |salt: u32| {
                DVec3::from_array(std::array::from_fn(|i| number(97 * seed + 12 * salt + i as u32)))
            };
            let from: Vec<DVec3> = (0..4).map(random).collect();
            let mut to: Vec<DVec3> = (0..4).map(|i| from[i as usize] + 3.0 * random(i + 7)).collect();
            let apart = pair[0].nearest(&from).1.length();
            if apart < 1e-3 {
                continue;
            }
            truncate(&pair, &from, &mut to, &[false; 4], 1e-4);
            for step in 0..=50 {
                let t = f64::from(step) / 50.0;
                let x: Vec<DVec3> = from.iter().zip(&to).map(|(a, b)| a.lerp(*b, t)).collect();
                let distance = pair[0].nearest(&x).1.length();
                assert!(distance > 0.15 * apart, "{seed}: {distance} of {apart}");
            }
        }
    }

    #[test]
    fn zones_join() {
        let mut zones = ImpactZones::new(5);
        assert!(zones.join(1, 3) && zones.join(3, 0) && !zones.join(0, 1));
        assert!([0, 1, 3].iter().all(|node| zones.root(*node) == 0));
        assert_eq!((zones.root(2), zones.root(4)), (2, 4));
    }

    #[test]
    fn nodes_of_a_broken_plane_move_by_their_mean_or_as_the_held_one() {
        let from = start(0.1);
        let planes = [Plane::new(&PAIR[0], &from, 0.01).unwrap()];
        let wanted = [DVec3::new(0.4, -0.8, 0.0), DVec3::ZERO, DVec3::ZERO, DVec3::ZERO];
        let settled = |held: &[bool]| {
            let embedding = Embedding::identity(4);
            let (moves, changed) = (wanted.to_vec(), vec![false; 4]);
            let mut motion = Motion { embedding: &embedding, from: &from, moves, changed, held, walls: &[] };
            ImpactZones::new(4).settle(&planes, &mut motion);
            motion.moves
        };
        assert_eq!(settled(&[false; 4]), [DVec3::new(0.1, -0.2, 0.0); 4]);
        assert_eq!(settled(&[true, false, false, false]), [wanted[0]; 4]);
    }

    #[test]
    fn a_point_between_nodes_is_kept_off_by_moving_these() {
        // The point is in the middle of two nodes; the triangle is held.
        let mut embedding = Embedding::default();
        embedding.push([(0, 0.5), (1, 0.5)]);
        (2..5).for_each(|node| embedding.push([(node, 1.0)]));
        let corners = start(0.1);
        let nodes = [corners[0] - DVec3::X, corners[0] + DVec3::X, corners[1], corners[2], corners[3]];
        let mut to = nodes.to_vec();
        to[0].y -= 0.5;
        to[1].y -= 0.3;
        let held = [false, false, true, true, true];
        super::truncate(&PAIR, &[], &embedding, &corners, &nodes, &mut to, &held, 0.01);
        let x = embedding.all(&to);
        assert!(height(&x) >= 0.02 - 1e-9, "{}", height(&x));
        assert!((to[1].y - to[0].y - 0.2).abs() < 1e-9, "both are pushed alike");
    }

    #[test]
    fn what_is_pushed_against_a_wall_stays_before_it_and_the_other_gives_way() {
        // A point comes down on a triangle that lies on the floor.
        let from = start(0.1);
        let mut to = from.clone();
        to[0].y = -0.4;
        let walls = [1, 2, 3].map(|point| Wall { point, normal: DVec3::Y, least: -0.01 });
        super::truncate(&PAIR, &walls, &Embedding::identity(4), &from, &from, &mut to, &[false; 4], 0.01);
        assert!(height(&to) >= 0.02 - 1e-9, "{}", height(&to));
        assert!(to[1..].iter().all(|x| x.y >= -0.01 - 1e-9), "{to:?}");
    }
}
