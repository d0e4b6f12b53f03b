//! Motions of a step cut back so that no surface passes through another.
//!
//! Motions by which features meet are projected onto the half-spaces of planes between them (`separating_planes.rs`), pair by
//! pair. Where pairs contradict each other, the nodes that carry them form impact zones that move as one (X. Provot,
//! *Collision and self-collision handling in cloth model dedicated to design garments*, 1997).
//!
//! A. Chen et al., *Offset geometric contact*, 2025, bound the motion of each point in all directions; here layers that move
//! together do not hold each other up.

use super::embedding::Embedding;
use super::pair::Pair;
use super::separating_planes::{Motion, Plane, Wall, broken, may_meet, project};
use geometry::DisjointSets;
use glam::{DMat3, DQuat, DVec3};
use rayon::prelude::*;
use std::collections::BTreeMap;

/// Times that zones may grow while those around them are projected.
const PROJECTED_ZONES: u32 = 12;
/// Rounds of projections; each may bring in further pairs.
const ROUNDS: u32 = 4;

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
) -> Truncated {
    let changed = vec![false; to.len()];
    if pairs.is_empty() {
        return Truncated { changed, furthest: 0.0 };
    }
    let moves: Vec<DVec3> = before.iter().zip(&*to).map(|(a, b)| *b - *a).collect();
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
        } else if !zones.settle(&planes, &mut motion, before) && !more {
            break;
        }
    }
    let mut furthest = 0.0f64;
    for i in (0..to.len()).filter(|i| motion.changed[*i]) {
        let there = before[i] + motion.moves[i];
        furthest = furthest.max(there.distance(to[i]));
        to[i] = there;
    }
    Truncated { changed: motion.changed, furthest }
}

/// What a truncation has changed.
pub(super) struct Truncated {
    /// The nodes that go elsewhere than they wanted.
    pub changed: Vec<bool>,
    /// How far from there at most, m: two features of no pair may have come closer by twice as much.
    pub furthest: f64,
}

/// Impact zones: nodes that move as one.
struct ImpactZones {
    nodes: DisjointSets,
}

impl ImpactZones {
    fn new(nodes: usize) -> Self {
        Self { nodes: DisjointSets::new(nodes) }
    }

    /// Joins the nodes of broken planes, moves each zone by the mean of its motions, or as a rigid body with the nodes in it that
    /// are held, and projects those around; nodes begin at `before`. Gives whether any zones were joined, so that further pairs may meet.
    fn settle(&mut self, planes: &[Plane], motion: &mut Motion, before: &[DVec3]) -> bool {
        let mut any = false;
        for pass in 0.. {
            let mut joined = false;
            for i in broken(planes, motion, None) {
                let points = planes[i as usize].points;
                let first = motion.embedding.of(points[0]).next().map_or(0, |(node, _)| node);
                for (node, _) in points.into_iter().flat_map(|point| motion.embedding.of(point)) {
                    joined |= self.nodes.join(first, node);
                }
            }
            if !joined {
                break;
            }
            any = true;
            let held = motion.held;
            let mut sums = vec![(DVec3::ZERO, 0.0f64, false); motion.moves.len()];
            for node in 0..motion.moves.len() {
                let (sum, count, fixed) = &mut sums[self.nodes.root(node as u32) as usize];
                if held[node] && !*fixed {
                    (*sum, *count, *fixed) = (DVec3::ZERO, 0.0, true);
                }
                if held[node] == *fixed {
                    *sum += motion.moves[node];
                    *count += 1.0;
                }
            }
            let carried = self.carried(&sums, motion, before);
            let mut fixed = held.to_vec();
            for node in (0..motion.moves.len()).filter(|node| !held[*node]) {
                let root = self.nodes.root(node as u32);
                let (sum, count, with_held) = sums[root as usize];
                if count > 1.0 || with_held {
                    let turned = carried.get(&root).map_or(DVec3::ZERO, |of| of.motion(before[node]));
                    motion.moves[node] = sum / count + turned;
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
        any
    }

    /// How the zones with held nodes turn.
    fn carried(
        &mut self,
        sums: &[(DVec3, f64, bool)],
        motion: &Motion,
        before: &[DVec3],
    ) -> BTreeMap<u32, Turn> {
        let mut of_zones: BTreeMap<u32, Vec<usize>> = BTreeMap::new();
        for node in (0..before.len()).filter(|node| motion.held[*node]) {
            let root = self.nodes.root(node as u32);
            if sums[root as usize].1 > 1.0 {
                of_zones.entry(root).or_default().push(node);
            }
        }
        let turn = |(root, nodes): (u32, Vec<usize>)| {
            let (sum, count, _) = sums[root as usize];
            Some((root, Turn::of(&nodes, before, &motion.moves, sum / count)?))
        };
        of_zones.into_iter().filter_map(turn).collect()
    }

    /// Moves zones that go into a wall out as a whole; `sums` tells of each zone whether it has held nodes.
    fn keep_off_walls(&mut self, sums: &[(DVec3, f64, bool)], motion: &mut Motion) {
        let mut ways = vec![DVec3::ZERO; motion.moves.len()];
        let mut any = false;
        for wall in motion.walls {
            let Some((node, _)) = motion.embedding.of(wall.point).next() else { continue };
            let root = self.nodes.root(node) as usize;
            let (_, count, with_held) = sums[root];
            let beyond = wall.beyond(motion) - wall.normal.dot(ways[root]);
            if beyond > 0.0 && count > 1.0 && !with_held {
                ways[root] += wall.normal * beyond;
                any = true;
            }
        }
        if any {
            for node in 0..motion.moves.len() {
                let way = ways[self.nodes.root(node as u32) as usize];
                if way != DVec3::ZERO && !motion.held[node] {
                    motion.moves[node] += way;
                    motion.changed[node] = true;
                }
            }
        }
    }
}

/// A turn about a centre.
struct Turn {
    centre: DVec3,
    rotation: DQuat,
}

impl Turn {
    /// The turn that fits the motions of some nodes best, besides their mean motion; none: they do not turn.
    fn of(nodes: &[usize], before: &[DVec3], moves: &[DVec3], mean: DVec3) -> Option<Self> {
        let centre = nodes.iter().fold(DVec3::ZERO, |sum, i| sum + before[*i]) / nodes.len() as f64;
        let (mut inertia, mut moment) = (DMat3::ZERO, DVec3::ZERO);
        for &i in nodes {
            let r = before[i] - centre;
            let outer = DMat3::from_cols(r * r.x, r * r.y, r * r.z);
            inertia += DMat3::from_diagonal(DVec3::splat(r.length_squared())) - outer;
            moment += r.cross(moves[i] - mean);
        }
        // About the line on which all of them lie nothing is known.
        let trace = inertia.x_axis.x + inertia.y_axis.y + inertia.z_axis.z;
        let vector = (inertia + DMat3::from_diagonal(DVec3::splat(1e-9 * trace))).inverse() * moment;
        let sine = vector.length();
        (sine.is_finite() && sine > 1e-9)
            .then(|| Self { centre, rotation: DQuat::from_axis_angle(vector / sine, sine.min(1.0).asin()) })
    }

    fn motion(&self, at: DVec3) -> DVec3 {
        let r = at - self.centre;
        self.rotation * r - r
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
    fn edges_with_an_end_held_stay_apart_too() {
        let number = |i: u32| f64::from((i.wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0 - 0.5;
        let pair = [Pair::Edges([0, 1, 2, 3])];
        for seed in 0..300 {
            let random = |salt: u32| {
                DVec3::from_array(std::array::from_fn(|i| number(131 * seed + 12 * salt + i as u32)))
            };
            let from: Vec<DVec3> = (0..4).map(random).collect();
            // Both held ends go the same way.
            let held = [true, false, false, true];
            let way = 0.3 * random(5);
            let to = |i: u32| from[i as usize] + if held[i as usize] { way } else { 2.0 * random(i + 7) };
            let mut to: Vec<DVec3> = (0..4).map(to).collect();
            let apart = pair[0].nearest(&from).1.length();
            if apart < 1e-3 {
                continue;
            }
            truncate(&pair, &from, &mut to, &held, 1e-4);
            for step in 0..=50 {
                let t = f64::from(step) / 50.0;
                let x: Vec<DVec3> = from.iter().zip(&to).map(|(a, b)| a.lerp(*b, t)).collect();
                let distance = pair[0].nearest(&x).1.length();
                assert!(distance > 0.1 * apart, "{seed}: {distance} of {apart}");
            }
            assert_eq!([0, 3].map(|i| to[i]), [0, 3].map(|i| from[i] + way));
        }
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
            ImpactZones::new(4).settle(&planes, &mut motion, &from);
            motion.moves
        };
        assert_eq!(settled(&[false; 4]), [DVec3::new(0.1, -0.2, 0.0); 4]);
        assert_eq!(settled(&[true, false, false, false]), [wanted[0]; 4]);
    }

    #[test]
    fn a_zone_turns_with_the_nodes_in_it_that_are_held() {
        let number = |i: u32| f64::from((i.wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0 - 0.5;
        let random = |i: u32| DVec3::new(number(3 * i), number(3 * i + 1), number(3 * i + 2));
        for seed in 0..50 {
            let before: Vec<DVec3> = (0..5).map(|i| random(7 * seed + i)).collect();
            let rotation = DQuat::from_axis_angle(random(900 + seed).normalize(), 0.2);
            let moves: Vec<DVec3> = before.iter().map(|x| rotation * *x - *x + DVec3::X).collect();
            let nodes = [0, 1, 2, 3];
            let mean = nodes.iter().map(|i| moves[*i]).sum::<DVec3>() / 4.0;
            let turn = Turn::of(&nodes, &before, &moves, mean).unwrap();
            let found = mean + turn.motion(before[4]);
            assert!(found.distance(moves[4]) < 0.02, "{} from {}", found, moves[4]);
        }
        assert!(Turn::of(&[0, 1], &[DVec3::ZERO, DVec3::X], &[DVec3::Y; 2], DVec3::Y).is_none());
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
