//! Contact of sheets with themselves and with each other.
//!
//! A pair of features keeps the sheet's thickness: closer than that, a spring pushes them apart along the normal of the
//! triangle, or across both edges, on the side on which they were at the step's start. The closer they were then, the
//! stiffer the spring. Friction is Coulomb's, by the sliding since the step's start, and grows linearly with speed below
//! [`STICK_SPEED`]. The springs alone do not keep features from crossing; `truncation.rs` does.

use super::blocks::{CHUNK, scalar};
use super::pairs::Pair;
use glam::{DVec3, Mat3A, Vec3A};
use rayon::prelude::*;

/// Stiffness against the inertia of the points.
const STIFFNESS: f64 = 12.0;
/// Greatest factor by which it grows toward touching.
const MAX_GROWTH: f64 = 32.0;
/// Speed at which a pair that is too close parts again, m/s: a spring that did it within a step would throw it apart.
const MAX_SEPARATION_SPEED: f64 = 0.15;
/// Speed below which friction grows with it, m/s.
const STICK_SPEED: f64 = 1e-3;
/// Sheets that touch at rest, as the two sides of a fold, are let come closer: to this part of the distance at rest.
const REST_PART: f64 = 0.5;

/// A pair that may touch in the step.
pub(super) struct SelfContact {
    pair: Pair,
    /// On which side of the triangle the point, or of the second edge the first, is.
    side: f64,
    /// The distance that it keeps in this step, m.
    thickness: f64,
    stiffness: f64,
}

/// A pair that touches, as the linear system sees it.
#[derive(Clone, Copy, Debug)]
pub(super) struct ActiveContact {
    pub points: [u32; 4],
    pub weights: [f32; 4],
    normal: Vec3A,
    /// Second derivatives along the normal and across it, N/m.
    along: f32,
    across: f32,
    /// Its force, N.
    force: DVec3,
}

impl SelfContact {
    /// Of a pair with the points at `x` at the step's start; `rest` is the distance of its features at rest.
    pub fn new(
        pair: Pair,
        x: &[DVec3],
        thickness: f64,
        rest: Option<f64>,
        inertia: &[f64],
        dt: f64,
    ) -> Option<Self> {
        let (normal, _) = normal(&pair, x)?;
        let (weights, apart) = pair.nearest(x);
        let side = if apart.dot(normal) < 0.0 { -1.0 } else { 1.0 };
        let thickness = rest.map_or(thickness, |rest| thickness.min(REST_PART * rest));
        let gap = apart.length();
        let growth = (0.5 * thickness / gap.max(1e-12)).clamp(1.0, MAX_GROWTH);
        let thickness = thickness.min(gap + MAX_SEPARATION_SPEED * dt);
        let points = pair.points();
        let weighted = (0..4).map(|i| weights[i].abs() * inertia[points[i] as usize]).sum::<f64>();
        Some(Self { pair, side, thickness, stiffness: STIFFNESS * growth * 0.5 * weighted })
    }

    /// The spring with the points at `x`; none if they are far enough apart, or past each other.
    pub fn touch(&self, x: &[DVec3], x_n: &[DVec3], friction: f64, dt: f64) -> Option<ActiveContact> {
        let (normal, weights) = normal(&self.pair, x)?;
        let normal = normal * self.side;
        let points = self.pair.points();
        let sum = |of: &[DVec3]| (0..4).fold(DVec3::ZERO, |sum, i| sum + of[points[i] as usize] * weights[i]);
        let between = sum(x);
        let gap = between.dot(normal);
        let depth = self.thickness - gap;
        if depth <= 0.0 {
            return None;
        }
        let along = self.stiffness;
        let pressure = along * depth;
        let slid = (between - sum(x_n)).reject_from_normalized(normal);
        let across = friction * pressure / slid.length().max(STICK_SPEED * dt);
        let force = normal * pressure - slid * across;
        Some(ActiveContact {
            points,
            weights: weights.map(|weight| weight as f32),
            normal: normal.as_vec3a(),
            along: along as f32,
            across: across as f32,
            force,
        })
    }
}

/// The normal of a triangle, or across two edges, and the weights of the points where the features cross it; none if they are
/// not opposite each other.
fn normal(pair: &Pair, x: &[DVec3]) -> Option<(DVec3, [f64; 4])> {
    // A point just outside of a triangle is opposite its neighbour.
    const OUTSIDE: f64 = -0.02;
    let [a, b, c, d] = pair.points().map(|p| x[p as usize]);
    match pair {
        Pair::PointTriangle(_) => {
            let across = (c - b).cross(d - b);
            let square = across.length_squared();
            let normal = across.try_normalize()?;
            let v = (a - b).cross(d - b).dot(across) / square;
            let w = (c - b).cross(a - b).dot(across) / square;
            let u = 1.0 - v - w;
            (u >= OUTSIDE && v >= OUTSIDE && w >= OUTSIDE).then_some((normal, [1.0, -u, -v, -w]))
        }
        Pair::Edges(_) => {
            let (first, second, between) = (b - a, d - c, c - a);
            let across = first.cross(second);
            let square = across.length_squared();
            if square < 1e-4 * first.length_squared() * second.length_squared() {
                return None;
            }
            let s = between.cross(second).dot(across) / square;
            let t = between.cross(first).dot(across) / square;
            let inside = (0.0..=1.0).contains(&s) && (0.0..=1.0).contains(&t);
            inside.then(|| (across / square.sqrt(), [1.0 - s, s, t - 1.0, -t]))
        }
    }
}

/// All touching pairs of a round, and which of them each point belongs to.
#[derive(Default)]
pub(super) struct ActiveContacts {
    pub list: Vec<ActiveContact>,
    starts: Vec<u32>,
    /// Four times the touch, and the place of the point in it.
    of_points: Vec<u32>,
}

impl ActiveContacts {
    pub fn new(list: Vec<ActiveContact>, points: usize) -> Self {
        if list.is_empty() {
            return Self::default();
        }
        let mut starts = vec![0u32; points + 1];
        list.iter().flat_map(|touch| touch.points).for_each(|p| starts[p as usize + 1] += 1);
        (0..points).for_each(|i| starts[i + 1] += starts[i]);
        let mut next = starts.clone();
        let mut of_points = vec![0; 4 * list.len()];
        for (i, point) in list.iter().flat_map(|touch| touch.points).enumerate() {
            of_points[next[point as usize] as usize] = i as u32;
            next[point as usize] += 1;
        }
        Self { list, starts, of_points }
    }

    fn of(&self, point: usize) -> impl Iterator<Item = (usize, usize)> {
        let range = if self.list.is_empty() {
            0..0
        } else {
            self.starts[point] as usize..self.starts[point + 1] as usize
        };
        self.of_points[range].iter().map(|&i| (i as usize / 4, i as usize % 4))
    }

    /// What they add to the gradient at a point.
    pub fn gradient(&self, point: usize) -> DVec3 {
        let each = self.of(point);
        each.fold(DVec3::ZERO, |sum, (touch, place)| {
            let touch = &self.list[touch];
            sum - touch.force * f64::from(touch.weights[place])
        })
    }

    /// What they add to the block of a point on the diagonal.
    pub fn diagonal(&self, point: usize) -> Mat3A {
        self.of(point).fold(Mat3A::ZERO, |sum, (touch, place)| {
            let touch = &self.list[touch];
            let (n, weight) = (touch.normal, touch.weights[place]);
            let outer = Mat3A::from_cols(n * n.x, n * n.y, n * n.z);
            sum + (outer * (touch.along - touch.across) + scalar(touch.across)) * (weight * weight)
        })
    }

    /// The matrix of each touch times `x`, into `forces`.
    pub fn multiply(&self, x: &[Vec3A], forces: &mut Vec<Vec3A>) {
        let of = |touch: &ActiveContact| {
            let each = touch.points.iter().zip(touch.weights);
            let sum = each.fold(Vec3A::ZERO, |sum, (p, weight)| sum + x[*p as usize] * weight);
            touch.normal * (touch.normal.dot(sum) * (touch.along - touch.across)) + sum * touch.across
        };
        self.list.par_iter().with_min_len(CHUNK).map(of).collect_into_vec(forces);
    }

    /// What those forces come to at a point.
    #[inline]
    pub fn sum(&self, point: usize, forces: &[Vec3A]) -> Vec3A {
        self.of(point)
            .fold(Vec3A::ZERO, |sum, (touch, place)| sum + forces[touch] * self.list[touch].weights[place])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn points(height: f64) -> Vec<DVec3> {
        vec![
            DVec3::new(0.1, height, 0.1),
            DVec3::new(-0.5, 0.0, -0.5),
            DVec3::new(0.5, 0.0, -0.5),
            DVec3::new(0.0, 0.0, 0.8),
        ]
    }

    fn contact(height: f64) -> SelfContact {
        let pair = Pair::PointTriangle([0, 1, 2, 3]);
        SelfContact::new(pair, &points(height), 0.01, None, &[1.0; 4], 0.01).unwrap()
    }

    #[test]
    fn a_pair_that_is_closer_than_the_thickness_is_pushed_apart_evenly() {
        let x = points(0.009);
        let touch = contact(0.009).touch(&x, &x, 0.5, 0.01).unwrap();
        assert!(touch.force.y > 0.0);
        let touches = ActiveContacts::new(vec![touch], 4);
        let sum = (0..4).fold(DVec3::ZERO, |sum, point| sum + touches.gradient(point));
        assert!(sum.length() < 1e-6 * touch.force.length());
        assert!(contact(0.011).touch(&points(0.011), &points(0.011), 0.5, 0.01).is_none());
    }

    #[test]
    fn it_is_pushed_back_to_the_side_from_which_it_came() {
        let below = points(-0.004);
        let from_above = contact(0.009).touch(&below, &points(0.009), 0.0, 0.01).unwrap();
        assert!(from_above.force.y > 0.0);
        let from_below = contact(-0.009).touch(&below, &points(-0.009), 0.0, 0.01).unwrap();
        assert!(from_below.force.y < 0.0);
    }

    #[test]
    fn friction_is_against_the_slide_and_at_most_its_part_of_the_pressure() {
        let before = points(0.009);
        let mut x = before.clone();
        x[0].x += 0.02;
        let touch = contact(0.009).touch(&x, &before, 0.4, 0.01).unwrap();
        assert!((-touch.force.x / touch.force.y - 0.4).abs() < 1e-6);
        x[0].x = before[0].x + 1e-6;
        let touch = contact(0.009).touch(&x, &before, 0.4, 0.01).unwrap();
        assert!(touch.force.x < 0.0 && -touch.force.x < 0.2 * touch.force.y);
    }

    #[test]
    fn the_blocks_on_the_diagonal_are_those_of_the_product() {
        let before = points(0.009);
        let mut x = before.clone();
        x[0].z += 0.01;
        let touches = ActiveContacts::new(vec![contact(0.009).touch(&x, &before, 0.4, 0.01).unwrap()], 4);
        let mut forces = Vec::new();
        for point in 0..4 {
            for axis in [Vec3A::X, Vec3A::Y, Vec3A::Z] {
                let mut unit = vec![Vec3A::ZERO; 4];
                unit[point] = axis;
                touches.multiply(&unit, &mut forces);
                let off = touches.sum(point, &forces) - touches.diagonal(point) * axis;
                assert!(off.length() < 1e-3 * touches.diagonal(point).determinant().abs().cbrt().max(1e-3));
            }
        }
    }
}
