//! What strokes of the brush and curves give.

use super::MapSurface;
use glam::{Mat3, Vec2, Vec3};
use shot::map::{Stroke, StrokeEffect};
use std::collections::VecDeque;

/// Most places of a line at which the surface below it is sought.
const MAX_SEEDS: f32 = 20_000.0;

/// Parts of strokes that have grown so far from places evenly spaced along each: the fraction `grown` of the way from each
/// place to the next.
pub(super) fn grown(strokes: &[Vec<Vec3>], grown: f32, starts: u32) -> Vec<Vec<Vec3>> {
    if grown >= 1.0 {
        return strokes.to_vec();
    }
    let mut parts = Vec::new();
    for stroke in strokes.iter().filter(|_| grown > 0.0) {
        let length: f32 = stroke.windows(2).map(|ends| ends[0].distance(ends[1])).sum();
        let piece = length / starts.max(1) as f32;
        parts.extend((0..starts).map(|i| cut(stroke, piece * i as f32, piece * (i as f32 + grown))));
    }
    parts
}

/// A stroke between two lengths from its start.
fn cut(stroke: &[Vec3], from: f32, to: f32) -> Vec<Vec3> {
    let (mut part, mut at) = (Vec::new(), 0.0);
    for ends in stroke.windows(2) {
        let length = ends[0].distance(ends[1]);
        let (low, high) = (from.max(at), to.min(at + length));
        if length > 0.0 && low < high {
            let place = |s: f32| ends[0].lerp(ends[1], (s - at) / length);
            if part.is_empty() {
                part.push(place(low));
            }
            part.push(place(high));
        }
        at += length;
    }
    part
}

/// The plane that points lie nearest to: a point of it and its normal, along which their moments of inertia are greatest.
fn plane_of(points: &[Vec3]) -> (Vec3, Vec3) {
    let middle = points.iter().sum::<Vec3>() / points.len().max(1) as f32;
    let mut moments = Mat3::ZERO;
    for p in points {
        let d = *p - middle;
        moments += Mat3::from_cols(d * d.x, d * d.y, d * d.z);
    }
    // The inverse grows fastest along the direction of least spread.
    let size = (moments.x_axis.x + moments.y_axis.y + moments.z_axis.z).max(1e-12);
    let inverse = (moments + Mat3::from_diagonal(Vec3::splat(1e-4 * size))).inverse();
    let mut normal = Vec3::new(0.21, 0.53, 0.82);
    for _ in 0..30 {
        normal = (inverse * normal).normalize_or(Vec3::Y);
    }
    (middle, normal)
}

/// Distance from a line, m.
fn distance(line: &[Vec3], p: Vec3) -> f32 {
    let first = line.first().map_or(f32::INFINITY, |start| p.distance(*start));
    line.windows(2).fold(first, |least, ends| {
        let along = ends[1] - ends[0];
        let s = ((p - ends[0]).dot(along) / along.length_squared().max(1e-30)).clamp(0.0, 1.0);
        least.min(p.distance(ends[0] + along * s))
    })
}

impl MapSurface {
    /// 1 up to `width_m` from lines, from there to 0 over `edge_m`.
    pub(super) fn near_lines(&self, lines: &[Vec<Vec3>], width_m: f32, edge_m: f32) -> Vec<f32> {
        let mut weights = vec![0.0f32; self.points.len()];
        let reach = width_m + edge_m;
        for line in lines {
            for (point, distance) in self.beside(line, reach) {
                let fall =
                    if distance <= width_m { 1.0 } else { 1.0 - (distance - width_m) / edge_m.max(1e-9) };
                let s = fall.clamp(0.0, 1.0);
                weights[point] = weights[point].max(s * s * (3.0 - 2.0 * s));
            }
        }
        weights
    }

    /// 1 inside closed lines, seen across the plane that they lie nearest to, from 0 at the lines over `edge_m`.
    pub(super) fn inside_lines(&self, lines: &[Vec<Vec3>], edge_m: f32) -> Vec<f32> {
        let all: Vec<Vec3> = lines.iter().flatten().copied().collect();
        let (middle, normal) = plane_of(&all);
        let right = normal.any_orthonormal_vector();
        let up = normal.cross(right);
        let flat = |p: &Vec3| Vec2::new((*p - middle).dot(right), (*p - middle).dot(up));
        let lines: Vec<Vec<Vec2>> = lines.iter().map(|line| line.iter().map(flat).collect()).collect();
        let weight = |p: &Vec3| {
            let p = flat(p);
            let (mut inside, mut away) = (false, f32::INFINITY);
            for line in &lines {
                for i in 0..line.len() {
                    let (a, b) = (line[i], line[(i + 1) % line.len()]);
                    if (a.y > p.y) != (b.y > p.y) && p.x < a.x + (p.y - a.y) / (b.y - a.y) * (b.x - a.x) {
                        inside = !inside;
                    }
                    let s = ((p - a).dot(b - a) / (b - a).length_squared().max(1e-30)).clamp(0.0, 1.0);
                    away = away.min(p.distance(a.lerp(b, s)));
                }
            }
            let s = if edge_m > 0.0 { (away / edge_m).min(1.0) } else { 1.0 };
            if inside { s * s * (3.0 - 2.0 * s) } else { 0.0 }
        };
        self.points.iter().map(weight).collect()
    }

    /// The points within `reach` of a line that follows the surface, connected to it, and their distances.
    fn beside(&self, line: &[Vec3], reach: f32) -> Vec<(usize, f32)> {
        let mut known = vec![false; self.points.len()];
        let mut front: VecDeque<u32> = VecDeque::new();
        // Along the line no point of the mesh is left out between two seeds, of which there are not more than so many.
        let length: f32 = line.windows(2).map(|ends| ends[0].distance(ends[1])).sum();
        let step = (0.5 * self.edge_m).max(length / MAX_SEEDS).max(1e-6);
        let seed = |p: Vec3, known: &mut Vec<bool>, front: &mut VecDeque<u32>| {
            let within = reach + self.edge_m;
            let Some((_, face)) = self.bvh.nearest(p, within) else { return };
            for point in self.faces[face as usize] {
                if !std::mem::replace(&mut known[point as usize], true) {
                    front.push_back(point);
                }
            }
        };
        if let Some(first) = line.first() {
            seed(*first, &mut known, &mut front);
        }
        for ends in line.windows(2) {
            let parts = (ends[0].distance(ends[1]) / step).ceil().max(1.0) as usize;
            for i in 1..=parts {
                seed(ends[0].lerp(ends[1], i as f32 / parts as f32), &mut known, &mut front);
            }
        }
        let mut found = Vec::new();
        while let Some(point) = front.pop_front() {
            let away = distance(line, self.points[point as usize]);
            if away > reach {
                continue;
            }
            found.push((point as usize, away));
            for &next in self.around(point as usize) {
                if !std::mem::replace(&mut known[next as usize], true) {
                    front.push_back(next);
                }
            }
        }
        found
    }

    /// Lays a stroke over weights.
    pub(super) fn paint(&self, stroke: &Stroke, weights: &mut Vec<f32>) {
        let line = self.on_surface(&stroke.points_m);
        self.paint_once(stroke, &line, stroke.through, weights);
        if let Some(axis) = stroke.mirrored {
            let flip = |p: Vec3| {
                let mut parts = p.to_array();
                parts[axis.min(2) as usize] *= -1.0;
                Vec3::from(parts)
            };
            let line: Vec<Vec3> = line.into_iter().map(flip).collect();
            self.paint_once(stroke, &line, stroke.through.map(flip), weights);
        }
    }

    /// Whether a stroke was painted on a mesh that lay elsewhere.
    pub fn strays(&self, stroke: &Stroke) -> bool {
        self.on_surface(&stroke.points_m) != stroke.points_m
    }

    /// Moves a stroke to the nearest points of the mesh, where it acts already.
    pub fn lay(&self, stroke: &mut Stroke) {
        stroke.points_m = self.on_surface(&stroke.points_m);
    }

    /// The way of a stroke; where the mesh has changed since and lies elsewhere, the nearest points of it.
    fn on_surface(&self, way: &[Vec3]) -> Vec<Vec3> {
        let near = |p: &Vec3| match self.bvh.nearest(*p, f32::INFINITY) {
            Some((on, _)) if on.distance(*p) > self.edge_m => on,
            _ => *p,
        };
        way.iter().map(near).collect()
    }

    fn paint_once(&self, stroke: &Stroke, line: &[Vec3], through: Option<Vec3>, weights: &mut Vec<f32>) {
        let below: Vec<(usize, f32)> = match through.and_then(Vec3::try_normalize) {
            None => self.beside(line, stroke.radius_m),
            Some(along) => {
                let flat: Vec<Vec3> = line.iter().map(|p| p.reject_from_normalized(along)).collect();
                let away = |p: &Vec3| distance(&flat, p.reject_from_normalized(along));
                self.points
                    .iter()
                    .map(away)
                    .enumerate()
                    .filter(|(_, away)| *away <= stroke.radius_m)
                    .collect()
            }
        };
        let amount = |away: f32| stroke.strength * stroke.falloff(away);
        match stroke.effect {
            StrokeEffect::Add => {
                below.iter().for_each(|(p, away)| weights[*p] = (weights[*p] + amount(*away)).min(1.0));
            }
            StrokeEffect::Subtract => {
                below.iter().for_each(|(p, away)| weights[*p] = (weights[*p] - amount(*away)).max(0.0));
            }
            StrokeEffect::Smooth => {
                let mut by = vec![0.0; weights.len()];
                below.iter().for_each(|(p, away)| by[*p] = amount(*away));
                // As a blur of half the brush.
                (0..self.passes(0.5 * stroke.radius_m)).for_each(|_| self.even_out(weights, |p| by[p]));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::{Nothing, sheet};
    use super::*;
    use crate::primitive;
    use shot::map::{LayerSource, Map};

    fn stroke(effect: StrokeEffect, points_m: Vec<Vec3>) -> Stroke {
        Stroke {
            effect,
            points_m,
            radius_m: 0.1,
            strength: 0.6,
            softness: 0.5,
            through: None,
            mirrored: None,
        }
    }

    fn painted(strokes: Vec<Stroke>) -> Map {
        Map::of("", LayerSource::Painted { strokes })
    }

    #[test]
    fn a_stroke_adds_by_its_falloff_once_along_its_way() {
        let sheet = sheet();
        let way = vec![Vec3::new(-0.2, 0.0, 0.1), Vec3::new(0.0, 0.0, 0.1), Vec3::new(0.2, 0.0, 0.1)];
        let stroke = stroke(StrokeEffect::Add, way.clone());
        let weights = sheet.weights(&painted(vec![stroke.clone()]), &Nothing);
        for (weight, p) in weights.iter().zip(sheet.points()) {
            let expected = 0.6 * stroke.falloff(distance(&way, *p));
            assert!((weight - expected).abs() < 1e-5, "{weight} for {expected} at {p}");
        }
        let away = Stroke { effect: StrokeEffect::Subtract, ..stroke.clone() };
        assert!(sheet.weights(&painted(vec![stroke, away]), &Nothing).iter().all(|w| *w < 1e-6));
    }

    #[test]
    fn a_brush_stays_on_its_side_unless_it_goes_through() {
        // Two sides of a thin plate.
        let plate = primitive::cuboid(Vec3::new(1.0, 0.01, 1.0), 0.0);
        let plate = crate::Mesh::refined(&shot::Shape::sphere(1.0), plate, 0.04, 20_000).unwrap();
        let plate = MapSurface::new(plate);
        let top = stroke(StrokeEffect::Add, vec![Vec3::new(0.0, 0.005, 0.0)]);
        let through = Stroke { through: Some(Vec3::Y), ..top.clone() };
        let below = |stroke: Stroke| {
            let weights = plate.weights(&painted(vec![stroke]), &Nothing);
            let of = |up: f32| {
                let side = weights.iter().zip(plate.points()).filter(|(_, p)| p.y * up > 0.0);
                side.map(|(w, _)| *w).fold(0.0, f32::max)
            };
            (of(1.0), of(-1.0))
        };
        assert_eq!(below(top.clone()), (0.6, 0.0));
        assert_eq!(below(through), (0.6, 0.6));
        let beside = Stroke { points_m: vec![Vec3::new(0.3, 0.005, 0.0)], mirrored: Some(0), ..top };
        let weights = plate.weights(&painted(vec![beside]), &Nothing);
        let left = weights
            .iter()
            .zip(plate.points())
            .filter(|(_, p)| p.x < 0.0)
            .map(|(w, _)| *w)
            .fold(0.0, f32::max);
        assert!((left - 0.6).abs() < 1e-5);
    }

    #[test]
    fn smoothing_evens_out_below_the_brush_only() {
        let sheet = sheet();
        let hard = Stroke { softness: 0.0, ..stroke(StrokeEffect::Add, vec![Vec3::ZERO]) };
        let even = Stroke { strength: 1.0, ..stroke(StrokeEffect::Smooth, vec![Vec3::new(0.1, 0.0, 0.0)]) };
        let before = sheet.weights(&painted(vec![hard.clone()]), &Nothing);
        let after = sheet.weights(&painted(vec![hard, even]), &Nothing);
        let mut changed = 0;
        for ((a, b), p) in before.iter().zip(&after).zip(sheet.points()) {
            if p.distance(Vec3::new(0.1, 0.0, 0.0)) > 0.1001 {
                assert_eq!(a, b);
            } else if (a - b).abs() > 0.02 {
                changed += 1;
            }
        }
        assert!(changed > 10);
    }

    #[test]
    fn a_curve_grows_from_all_its_starts_at_once() {
        let line = vec![vec![Vec3::ZERO, Vec3::X, Vec3::new(1.0, 1.0, 0.0)]];
        let parts = grown(&line, 0.5, 2);
        assert_eq!(parts, [vec![Vec3::ZERO, 0.5 * Vec3::X], vec![Vec3::X, Vec3::new(1.0, 0.5, 0.0)]]);
        assert!(grown(&line, 0.0, 2).is_empty());
        let sheet = sheet();
        let source =
            |grown| LayerSource::Curve { curve: shot::Id(1), width_m: 0.05, edge_m: 0.05, grown, starts: 1 };
        let count = |grown| {
            let weights = sheet.weights(&Map::of("", source(grown)), &Nothing);
            weights.iter().filter(|w| **w > 0.5).count() as f32
        };
        let half = count(0.5) / count(1.0);
        assert!((half - 0.5).abs() < 0.1, "{half}");
    }

    #[test]
    fn the_inside_of_a_tilted_ring_is_a_disc_with_a_soft_edge() {
        let sheet = sheet();
        let tilt = glam::Quat::from_euler(glam::EulerRot::XYZ, 0.3, 0.0, 0.2);
        let ring: Vec<Vec3> = (0..=60)
            .map(|i| {
                let (sin, cos) = (std::f32::consts::TAU * i as f32 / 60.0).sin_cos();
                tilt * Vec3::new(0.3 * cos, 0.0, 0.3 * sin)
            })
            .collect();
        let weights = sheet.inside_lines(&[ring], 0.1);
        for (weight, p) in weights.iter().zip(sheet.points()) {
            // Across the plane of the ring the sheet is seen from the side.
            let away = (tilt.inverse() * *p * Vec3::new(1.0, 0.0, 1.0)).length();
            let s = ((0.3 - away) / 0.1).clamp(0.0, 1.0);
            assert!((weight - s * s * (3.0 - 2.0 * s)).abs() < 0.03, "{weight} at {p}");
        }
    }

    #[test]
    fn strokes_of_another_mesh_are_carried_to_the_nearest_points() {
        let sheet = sheet();
        let off = stroke(StrokeEffect::Add, vec![Vec3::new(0.1, 0.4, 0.0)]);
        let weights = sheet.weights(&painted(vec![off]), &Nothing);
        let most = (0..weights.len()).max_by(|a, b| weights[*a].total_cmp(&weights[*b])).unwrap();
        assert!(sheet.points()[most].distance(Vec3::new(0.1, 0.0, 0.0)) < 0.06);
    }
}
