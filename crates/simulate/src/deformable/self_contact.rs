//! Contact of surfaces with themselves and with each other.
//!
//! A pair of features keeps the thickness of its sheets: closer than that, a spring pushes them apart along the normal of the
//! triangle, or across both edges, on the side on which they were at the step's start. The closer they were then, the
//! stiffer the spring. Friction is Coulomb's, by the sliding since the step's start, and grows linearly with speed below
//! [`STICK_SPEED`]. Sheets that stick are drawn to each other within [`STICKS_UP_TO`] of their thickness beyond it, as by solids
//! (`contact.rs`). The springs alone do not keep features from crossing; `truncation.rs` does.

use super::active_contacts::Spring;
use super::pair::Pair;
use glam::DVec3;

/// Stiffness against the inertia of the points.
const STIFFNESS: f64 = 12.0;
/// Greatest factor by which it grows toward touching.
const MAX_GROWTH: f64 = 32.0;
/// Speed at which a pair that is too close parts again, m/s: a spring that did it within a step would throw it apart.
const MAX_SEPARATION_SPEED: f64 = 0.15;
/// The same of a pair that sticks, which is not to be torn off by it.
const STICKY_SEPARATION_SPEED: f64 = 0.02;
/// Speed below which friction grows with it, m/s.
const STICK_SPEED: f64 = 1e-3;
/// Adhesion is felt up to this part of the thickness beyond it.
pub(super) const STICKS_UP_TO: f64 = 0.5;
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
    friction: f64,
    /// Force that takes it off, N, and how far beyond the thickness it is felt, m.
    adhesion: f64,
    sticks_up_to: f64,
}

impl SelfContact {
    /// Its features.
    pub fn pair(&self) -> &Pair {
        &self.pair
    }

    /// The points of its features.
    pub fn points(&self) -> [u32; 4] {
        self.pair.points()
    }

    /// Of a pair with the points at `x` at the step's start; `rest` is the distance of its features at rest, if they are
    /// of one body, and `adhesion` the force that takes it off, N.
    pub fn new(
        pair: Pair,
        x: &[DVec3],
        thickness: f64,
        friction: f64,
        adhesion: f64,
        rest: Option<f64>,
        inertia: &[f64],
        dt: f64,
    ) -> Option<Self> {
        let (normal, _) = normal(&pair, x)?;
        let (weights, apart) = pair.nearest(x);
        let side = if apart.dot(normal) < 0.0 { -1.0 } else { 1.0 };
        // What is as close at rest does not stick.
        let sticks = adhesion > 0.0 && rest.is_none_or(|rest| REST_PART * rest > 2.0 * thickness);
        let adhesion = if sticks { adhesion } else { 0.0 };
        let sticks_up_to = STICKS_UP_TO * thickness;
        let thickness = rest.map_or(thickness, |rest| thickness.min(REST_PART * rest));
        let gap = apart.length();
        let growth = (0.5 * thickness / gap.max(1e-12)).clamp(1.0, MAX_GROWTH);
        let speed = if sticks { STICKY_SEPARATION_SPEED } else { MAX_SEPARATION_SPEED };
        let thickness = thickness.min(gap + speed * dt);
        let points = pair.points();
        let weighted = (0..4).map(|i| weights[i].abs() * inertia[points[i] as usize]).sum::<f64>();
        let stiffness = (STIFFNESS * growth * 0.5 * weighted).max(adhesion / sticks_up_to);
        Some(Self { pair, side, thickness, stiffness, friction, adhesion, sticks_up_to })
    }

    /// The spring with the points at `x`; none if they are far enough apart, or past each other.
    pub fn touch(&self, x: &[DVec3], x_n: &[DVec3], dt: f64) -> Option<Spring> {
        let (normal, weights) = normal(&self.pair, x)?;
        let normal = normal * self.side;
        let points = self.pair.points();
        let sum = |of: &[DVec3]| (0..4).fold(DVec3::ZERO, |sum, i| sum + of[points[i] as usize] * weights[i]);
        let between = sum(x);
        let gap = between.dot(normal);
        let depth = self.thickness - gap;
        if depth <= if self.adhesion > 0.0 { -self.sticks_up_to } else { 0.0 } {
            return None;
        }
        let pressure = (self.stiffness * depth).max(-self.adhesion);
        let along = if pressure > -self.adhesion || depth > 0.0 { self.stiffness } else { 0.0 };
        let slid = (between - sum(x_n)).reject_from_normalized(normal);
        let across = self.friction * (pressure + self.adhesion) / slid.length().max(STICK_SPEED * dt);
        let force = normal * pressure - slid * across;
        Some(Spring {
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

    fn contact(height: f64, friction: f64) -> SelfContact {
        let pair = Pair::PointTriangle([0, 1, 2, 3]);
        SelfContact::new(pair, &points(height), 0.01, friction, 0.0, None, &[1.0; 4], 0.01).unwrap()
    }

    #[test]
    fn a_pair_that_is_closer_than_the_thickness_is_pushed_apart_evenly() {
        let x = points(0.009);
        let touch = contact(0.009, 0.5).touch(&x, &x, 0.01).unwrap();
        assert!(touch.force.y > 0.0);
        assert!(touch.weights.iter().sum::<f32>().abs() < 1e-6);
        assert!(contact(0.011, 0.5).touch(&points(0.011), &points(0.011), 0.01).is_none());
    }

    #[test]
    fn it_is_pushed_back_to_the_side_from_which_it_came() {
        let below = points(-0.004);
        let from_above = contact(0.009, 0.0).touch(&below, &points(0.009), 0.01).unwrap();
        assert!(from_above.force.y > 0.0);
        let from_below = contact(-0.009, 0.0).touch(&below, &points(-0.009), 0.01).unwrap();
        assert!(from_below.force.y < 0.0);
    }

    #[test]
    fn friction_is_against_the_slide_and_at_most_its_part_of_the_pressure() {
        let before = points(0.009);
        let mut x = before.clone();
        x[0].x += 0.02;
        let touch = contact(0.009, 0.4).touch(&x, &before, 0.01).unwrap();
        assert!((-touch.force.x / touch.force.y - 0.4).abs() < 1e-6);
        x[0].x = before[0].x + 1e-6;
        let touch = contact(0.009, 0.4).touch(&x, &before, 0.01).unwrap();
        assert!(touch.force.x < 0.0 && -touch.force.x < 0.2 * touch.force.y);
    }

    #[test]
    fn what_sticks_is_drawn_back_by_no_more_than_the_adhesion() {
        let pair = Pair::PointTriangle([0, 1, 2, 3]);
        let of = |adhesion: f64, rest: Option<f64>| {
            SelfContact::new(pair, &points(0.0101), 0.01, 0.5, adhesion, rest, &[1.0; 4], 0.01).unwrap()
        };
        let force = |height: f64| {
            let x = points(height);
            of(0.02, None).touch(&x, &x, 0.01).map(|spring| spring.force.y)
        };
        assert!(force(0.009).unwrap() > 0.0);
        assert!((-0.02..0.0).contains(&force(0.0102).unwrap()), "the spring is not drawn to its end");
        assert!((force(0.0149).unwrap() + 0.02).abs() < 1e-9);
        assert_eq!(force(0.0151), None);
        let x = points(0.0102);
        assert!(of(0.0, None).touch(&x, &x, 0.01).is_none(), "no adhesion");
        assert!(of(0.02, Some(0.03)).touch(&x, &x, 0.01).is_none(), "neighbours in a sheet");
    }
}
