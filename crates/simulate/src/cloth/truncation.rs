//! Motions of a step cut back so that no sheet passes through another.
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

    fn along(&self, i: usize, moves: &[DVec3]) -> f64 {
        self.normal.dot(moves[self.points[i] as usize])
    }

    /// How far the plane moves.
    fn moved(&self, moves: &[DVec3], held: &[bool]) -> f64 {
        let of = |range: std::ops::Range<usize>| {
            let fixed = range.clone().any(|i| held[self.points[i] as usize]);
            (range.map(|i| self.weights[i].abs() * self.along(i, moves)).sum::<f64>(), fixed)
        };
        // Held points go where they must.
        match (of(0..self.first), of(self.first..4)) {
            ((near, true), (_, false)) => near,
            ((_, false), (far, true)) => far,
            ((near, _), (far, _)) => 0.5 * (near + far),
        }
    }

    /// How far a point is beyond what it may, m: at most 0 if it keeps off.
    fn beyond(&self, i: usize, plane: f64, moves: &[DVec3]) -> f64 {
        let side = if i < self.first { 1.0 } else { -1.0 };
        side * (plane - self.along(i, moves)) - self.room[i]
    }

    fn broken(&self, from: &[DVec3], moves: &[DVec3], held: &[bool]) -> bool {
        let plane = self.moved(moves, held);
        (0..4).any(|i| !held[self.points[i] as usize] && self.beyond(i, plane, moves) > 1e-12)
            && self.meets(from, moves)
    }

    /// Whether the features come too close on their ways; true also where this is not soon certain.
    fn meets(&self, from: &[DVec3], moves: &[DVec3]) -> bool {
        const STEPS: u32 = 24;
        let ways = self.points.map(|p| moves[p as usize]);
        let mean = ways.iter().fold(DVec3::ZERO, |sum, way| sum + *way) / 4.0;
        let ways = ways.map(|way| way - mean);
        let longest =
            |range: std::ops::Range<usize>| ways[range].iter().map(|w| w.length()).fold(0.0, f64::max);
        let speed = longest(0..self.first) + longest(self.first..4);
        let start = self.points.map(|p| from[p as usize]);
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

/// Cuts back the motion of points from `from` to `to`; held points go where they must. Features that are `least` or less
/// apart come no closer.
pub(super) fn truncate(pairs: &[Pair], from: &[DVec3], to: &mut [DVec3], held: &[bool], least: f64) {
    let mut moves: Vec<DVec3> = from.iter().zip(&*to).map(|(a, b)| *b - *a).collect();
    let mut moved = vec![false; moves.len()];
    // Planes are made of pairs that meet, at first or after points were moved.
    let mut known = vec![false; pairs.len()];
    let mut planes: Vec<Plane> = Vec::new();
    let mut zones = ImpactZones::new(moves.len());
    for round in 0.. {
        let needed: Vec<(usize, Plane)> = (pairs.par_iter().enumerate())
            .filter(|(i, pair)| {
                !known[*i]
                    && (round == 0 || pair.points().iter().any(|p| moved[*p as usize]))
                    && may_meet(pair, from, &moves, least)
            })
            .filter_map(|(i, pair)| Plane::new(pair, from, least).map(|plane| (i, plane)))
            .filter(|(_, plane)| plane.broken(from, &moves, held))
            .collect();
        let more = !needed.is_empty();
        for (i, plane) in needed {
            known[i] = true;
            planes.push(plane);
        }
        if round < ROUNDS {
            project(&planes, from, &mut moves, &mut moved, held);
        } else {
            zones.settle(&planes, from, &mut moves, &mut moved, held);
        }
        if !more && round >= ROUNDS {
            break;
        }
    }
    for i in (0..moves.len()).filter(|i| moved[*i]) {
        to[i] = from[i] + moves[i];
    }
}

/// Whether two features may come closer than they should.
fn may_meet(pair: &Pair, from: &[DVec3], moves: &[DVec3], least: f64) -> bool {
    let points = pair.points();
    let (first, second) = points.split_at(pair.first());
    let between = |a: &u32, b: &u32| (moves[*a as usize] - moves[*b as usize]).length_squared();
    let furthest =
        first.iter().flat_map(|a| second.iter().map(move |b| between(a, b))).fold(0.0, f64::max).sqrt();
    let distance = pair.nearest(from).1.length();
    distance < 2.0 * least || furthest > 0.5 * (1.0 - KEPT) * distance
}

/// Projects the motions onto what the planes allow.
fn project(planes: &[Plane], from: &[DVec3], moves: &mut [DVec3], moved: &mut [bool], held: &[bool]) {
    let mut changed: Option<Vec<bool>> = None;
    for _ in 0..PROJECTIONS {
        let broken = broken(planes, from, moves, held, changed.as_deref());
        if broken.is_empty() {
            break;
        }
        let mut now = vec![false; moves.len()];
        for i in broken {
            let plane = &planes[i as usize];
            let by = plane.moved(moves, held);
            for (k, &point) in plane.points.iter().enumerate().filter(|(_, point)| !held[**point as usize]) {
                let beyond = plane.beyond(k, by, moves);
                if beyond > 0.0 {
                    let side = if k < plane.first { 1.0 } else { -1.0 };
                    moves[point as usize] += plane.normal * (side * beyond * 1.000_001);
                    (now[point as usize], moved[point as usize]) = (true, true);
                }
            }
        }
        changed = Some(now);
    }
}

/// The planes that the motions break, among those of which a point has changed.
fn broken(
    planes: &[Plane],
    from: &[DVec3],
    moves: &[DVec3],
    held: &[bool],
    changed: Option<&[bool]>,
) -> Vec<u32> {
    let each = planes.par_iter().enumerate().with_min_len(256);
    let concerned = |plane: &Plane| {
        changed.is_none_or(|changed| plane.points.iter().any(|point| changed[*point as usize]))
    };
    each.filter_map(|(i, plane)| (concerned(plane) && plane.broken(from, moves, held)).then_some(i as u32))
        .collect()
}

/// Impact zones: points that move as one.
struct ImpactZones {
    /// For each point, another of its zone, or itself.
    of: Vec<u32>,
}

impl ImpactZones {
    fn new(points: usize) -> Self {
        Self { of: (0..points as u32).collect() }
    }

    fn root(&mut self, point: u32) -> u32 {
        let mut at = point;
        while self.of[at as usize] != at {
            self.of[at as usize] = self.of[self.of[at as usize] as usize];
            at = self.of[at as usize];
        }
        at
    }

    /// Joins the points of broken planes, moves each zone by the mean of its motions, or as the points in it that are
    /// held, and projects those around.
    fn settle(
        &mut self,
        planes: &[Plane],
        from: &[DVec3],
        moves: &mut [DVec3],
        moved: &mut [bool],
        held: &[bool],
    ) {
        for pass in 0.. {
            let mut joined = false;
            for i in broken(planes, from, moves, held, None) {
                let roots = planes[i as usize].points.map(|point| self.root(point));
                let least = roots.iter().copied().fold(roots[0], u32::min);
                for root in roots {
                    joined |= root != least;
                    self.of[root as usize] = least;
                }
            }
            if !joined {
                break;
            }
            let mut sums = vec![(DVec3::ZERO, 0.0f64, false); moves.len()];
            for point in 0..moves.len() {
                let (sum, count, fixed) = &mut sums[self.root(point as u32) as usize];
                if held[point] && !*fixed {
                    (*sum, *count, *fixed) = (DVec3::ZERO, 0.0, true);
                }
                if held[point] == *fixed {
                    *sum += moves[point];
                    *count += 1.0;
                }
            }
            let mut fixed = held.to_vec();
            for point in (0..moves.len()).filter(|point| !held[*point]) {
                let root = self.root(point as u32);
                let (sum, count, with_held) = sums[root as usize];
                if count > 1.0 || with_held {
                    moves[point] = sum / count;
                    (moved[point], fixed[point]) = (true, true);
                }
            }
            if pass < PROJECTED_ZONES {
                project(planes, from, moves, moved, &fixed);
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
    fn points_of_a_zone_move_by_their_mean_or_with_what_is_held() {
        let from: Vec<DVec3> = (0..5).map(|i| DVec3::X * f64::from(i)).collect();
        let mut zones = ImpactZones::new(5);
        for point in [1, 2, 3] {
            let (a, b) = (zones.root(0), zones.root(point));
            zones.of[b.max(a) as usize] = a.min(b);
        }
        assert!((0..4).all(|point| zones.root(point) == 0));
        assert_eq!(zones.root(4), 4);
        let mut moves = vec![DVec3::ZERO; 5];
        zones.settle(&[], &from, &mut moves, &mut [false; 5], &[false; 5]);
        assert_eq!(moves, vec![DVec3::ZERO; 5]);
    }

    #[test]
    fn points_of_a_broken_plane_move_by_their_mean_or_as_the_held_one() {
        let from = start(0.1);
        let planes = [Plane::new(&PAIR[0], &from, 0.01).unwrap()];
        let wanted = [DVec3::new(0.4, -0.8, 0.0), DVec3::ZERO, DVec3::ZERO, DVec3::ZERO];
        let mut moves = wanted;
        ImpactZones::new(4).settle(&planes, &from, &mut moves, &mut [false; 4], &[false; 4]);
        assert_eq!(moves, [DVec3::new(0.1, -0.2, 0.0); 4]);
        let mut moves = wanted;
        let held = [true, false, false, false];
        ImpactZones::new(4).settle(&planes, &from, &mut moves, &mut [false; 4], &held);
        assert_eq!(moves, [wanted[0]; 4]);
    }
}
