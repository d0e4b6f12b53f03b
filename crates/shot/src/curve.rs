//! Curves: ways to follow, and targets of forces.

use crate::parameters::{MAX_POSITION_M, MAX_SIZE_M, MIN_SIZE_M, Parameters};
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A curve in its element's frame; it may have several strokes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Curve {
    /// Through points.
    Points {
        /// At least two points, m.
        #[schemars(with = "Vec<[f32; 3]>")]
        #[parameter(label = "Point", range(-MAX_POSITION_M, MAX_POSITION_M), step = 0.05)]
        points_m: Vec<Vec3>,
        /// Whether the last point leads back to the first.
        #[serde(default)]
        #[parameter(label = "Closed")]
        closed: bool,
        /// Whether it bends smoothly through the points.
        #[serde(default)]
        #[parameter(label = "Bends smoothly")]
        smooth: bool,
    },
    /// A circle in the xz plane.
    Circle {
        /// Radius, m.
        #[parameter(label = "Radius", range(MIN_SIZE_M, MAX_SIZE_M), step = 0.05)]
        radius_m: f32,
    },
    /// Strokes in the xy plane, from an outline or a drawing.
    Strokes {
        /// Points of each stroke, m.
        #[schemars(with = "Vec<Vec<[f32; 3]>>")]
        strokes_m: Vec<Vec<Vec3>>,
        /// The letters that the strokes are the outlines of, if they are.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        lettering: Option<Lettering>,
    },
}

/// Letters that were made outlines.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Lettering {
    /// The words; lines end in `\n`.
    pub text: String,
    /// Distance from line to line, m.
    pub line_m: f32,
}

/// Points on a smooth stretch between two given ones.
const SMOOTH: usize = 12;
/// Corners of a circle.
const ROUND: usize = 64;

impl Curve {
    /// Its strokes as straight pieces, m.
    pub fn strokes(&self) -> Vec<Vec<Vec3>> {
        match self {
            Self::Points { points_m, closed, smooth } => vec![through(points_m, *closed, *smooth)],
            Self::Circle { radius_m } => {
                let corner = |i: usize| {
                    let (sin, cos) = (std::f32::consts::TAU * i as f32 / ROUND as f32).sin_cos();
                    Vec3::new(cos, 0.0, sin) * *radius_m
                };
                vec![(0..=ROUND).map(corner).collect()]
            }
            Self::Strokes { strokes_m, .. } => strokes_m.clone(),
        }
    }

    /// The place and the direction at a fraction of its whole length, 0–1. Along a
    /// circle and a smooth curve the direction turns evenly.
    pub fn at(&self, fraction: f32) -> (Vec3, Vec3) {
        if let Self::Circle { radius_m } = self {
            let (sin, cos) = (std::f32::consts::TAU * fraction.clamp(0.0, 1.0)).sin_cos();
            return (Vec3::new(cos, 0.0, sin) * *radius_m, Vec3::new(-sin, 0.0, cos));
        }
        let smooth = matches!(self, Self::Points { smooth: true, .. });
        let strokes = self.strokes();
        let lengths =
            strokes.iter().flat_map(|stroke| stroke.windows(2).map(|pair| pair[0].distance(pair[1])));
        let mut left = fraction.clamp(0.0, 1.0) * lengths.sum::<f32>();
        let mut last = (Vec3::ZERO, Vec3::Z);
        for stroke in &strokes {
            for (i, pair) in stroke.windows(2).enumerate() {
                let (a, b) = (pair[0], pair[1]);
                let length = a.distance(b);
                if length <= 0.0 {
                    continue;
                }
                let along = |part: f32| {
                    let straight = (b - a) / length;
                    if !smooth {
                        return straight;
                    }
                    let blend = tangent(stroke, i).lerp(tangent(stroke, i + 1), part);
                    blend.try_normalize().unwrap_or(straight)
                };
                if left <= length {
                    let part = left / length;
                    return (a.lerp(b, part), along(part));
                }
                left -= length;
                last = (b, along(1.0));
            }
        }
        last
    }
}

/// Direction of a smooth line at one of its points, from the points beside it.
fn tangent(line: &[Vec3], i: usize) -> Vec3 {
    let end = line.len() - 1;
    // The first and last point of a closed line are one.
    let closed = line[0].distance(line[end]) < 1e-6;
    let before = if i > 0 { line[i - 1] } else { line[if closed { end - 1 } else { 0 }] };
    let after = if i < end { line[i + 1] } else { line[if closed { 1 } else { end }] };
    (after - before).normalize_or_zero()
}

/// A line through points, bent by a Catmull–Rom spline (E.
/// Catmull and R. Rom, *A class of local interpolating splines*, 1974).
fn through(points: &[Vec3], closed: bool, smooth: bool) -> Vec<Vec3> {
    let n = points.len();
    let pieces = if closed { n } else { n.saturating_sub(1) };
    let point = |i: isize| {
        if closed {
            points[i.rem_euclid(n as isize) as usize]
        } else {
            points[i.clamp(0, n as isize - 1) as usize]
        }
    };
    let mut line = Vec::new();
    for i in 0..pieces as isize {
        let [a, b, c, d] = [i - 1, i, i + 1, i + 2].map(point);
        let steps = if smooth { SMOOTH } else { 1 };
        for step in 0..steps {
            let t = step as f32 / steps as f32;
            let bent = || {
                0.5 * (2.0 * b
                    + (c - a) * t
                    + (2.0 * a - 5.0 * b + 4.0 * c - d) * t * t
                    + (3.0 * b - a - 3.0 * c + d) * t * t * t)
            };
            line.push(if smooth { bent() } else { b });
        }
    }
    line.extend(if closed { points.first() } else { points.last() });
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_share_of_a_curve_is_by_length() {
        let points_m = vec![Vec3::ZERO, Vec3::X, Vec3::new(1.0, 3.0, 0.0)];
        let curve = Curve::Points { points_m, closed: false, smooth: false };
        assert_eq!(curve.at(0.0), (Vec3::ZERO, Vec3::X));
        assert_eq!(curve.at(0.5), (Vec3::new(1.0, 1.0, 0.0), Vec3::Y));
        assert_eq!(curve.at(1.0), (Vec3::new(1.0, 3.0, 0.0), Vec3::Y));
    }

    #[test]
    fn a_smooth_curve_passes_through_its_points_and_closes() {
        let points_m = vec![Vec3::ZERO, Vec3::X, Vec3::new(1.0, 1.0, 0.0), Vec3::Y];
        let line = &Curve::Points { points_m: points_m.clone(), closed: true, smooth: true }.strokes()[0];
        assert!(points_m.iter().all(|point| line.iter().any(|p| p.distance(*point) < 1e-6)));
        assert!(line.first().unwrap().distance(*line.last().unwrap()) < 1e-6);
    }

    #[test]
    fn directions_turn_evenly_along_what_is_smooth() {
        let corners = [[1.0, 0.0], [0.0, 1.0], [-1.0, 0.0], [0.0, -1.0]];
        let points_m = corners.map(|[x, z]| Vec3::new(x, 0.0, z)).to_vec();
        for curve in [Curve::Circle { radius_m: 2.0 }, Curve::Points { points_m, closed: true, smooth: true }]
        {
            let at = |i: usize| curve.at(i as f32 / 2000.0).1;
            for i in 0..2000 {
                let orientation = at(i).angle_between(at(i + 1));
                assert!(orientation < 0.012, "{orientation} rad from {i} on");
            }
            assert!(at(0).angle_between(at(2000)) < 1e-3);
        }
    }

    #[test]
    fn a_circle_has_its_radius_everywhere() {
        let curve = Curve::Circle { radius_m: 2.0 };
        for i in 0..=20 {
            let radius = curve.at(i as f32 / 20.0).0.length();
            assert!((radius - 2.0).abs() < 1e-5, "{radius}");
        }
    }
}
