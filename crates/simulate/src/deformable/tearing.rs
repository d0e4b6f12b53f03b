//! Where a sheet tears: at points whose mean stretch is greater than the cloth bears.
//!
//! The stretch at a point is the greatest eigenvalue of the mean of the strain tensors of the triangles around, weighted by area,
//! where they pull. A point that is stretched too far becomes two: the triangles on either side of the plane across that direction
//! (J. O'Brien and J. Hodgins, *Graphical modeling and animation of brittle fracture*, 1999, part elements by such planes;
//! here cuts go along edges). Points whose triangles hang together by no edge any more part too.

use super::membrane::Triangle;
use glam::{DMat3, DVec3};
use std::collections::{BTreeMap, BTreeSet};

/// A point to be parted, and the triangles that go to the new one; numbers are those of the list of triangles.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Split {
    pub node: u32,
    pub triangles: Vec<usize>,
}

/// The splits of a step: `triangles` are those of one sheet with nodes at `x`; `length` gives the factor of lengths at rest
/// of each, `limit` the stretch that each node bears.
pub(super) fn splits(
    triangles: &[Triangle],
    x: &[DVec3],
    length: impl Fn(usize) -> f64,
    limit: impl Fn(u32) -> f64,
) -> Vec<Split> {
    let mut sums: BTreeMap<u32, (DMat3, f64)> = BTreeMap::new();
    for (i, triangle) in triangles.iter().enumerate() {
        let pulled = pulled(&triangle.scaled(length(i)), x) * triangle.area;
        for point in triangle.points {
            let (sum, area) = sums.entry(point).or_insert((DMat3::ZERO, 0.0));
            (*sum, *area) = (*sum + pulled, *area + triangle.area);
        }
    }
    let mut over: Vec<(f64, u32, DVec3)> = Vec::new();
    for (node, (sum, area)) in &sums {
        let limit = limit(*node);
        // The trace bounds the eigenvalue.
        if !limit.is_finite() || trace(sum) <= limit * area {
            continue;
        }
        let (value, along) = greatest(*sum * (1.0 / area));
        if value > limit {
            over.push((value / limit.max(1e-9), *node, along));
        }
    }
    over.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
    if over.is_empty() {
        return Vec::new();
    }
    let mut corners: Vec<[u32; 3]> = triangles.iter().map(|t| t.points).collect();
    let mut around: BTreeMap<u32, Vec<usize>> = BTreeMap::new();
    for (i, points) in corners.iter().enumerate() {
        points.iter().for_each(|p| around.entry(*p).or_default().push(i));
    }
    let mut next = x.len() as u32;
    let mut touched: BTreeSet<usize> = BTreeSet::new();
    let mut made = Vec::new();
    let mut part = |node: u32,
                    moving: Vec<usize>,
                    corners: &mut Vec<[u32; 3]>,
                    around: &mut BTreeMap<u32, Vec<usize>>| {
        for &i in &moving {
            corners[i].iter_mut().filter(|p| **p == node).for_each(|p| *p = next);
        }
        around.entry(node).or_default().retain(|i| !moving.contains(i));
        around.insert(next, moving.clone());
        next += 1;
        made.push(Split { node, triangles: moving });
    };
    for (_, node, along) in over {
        let own = around[&node].clone();
        // What has been parted in this step is stretched otherwise now.
        if own.iter().any(|i| touched.contains(i)) {
            continue;
        }
        let at = |i: usize| triangles[i].points.map(|p| x[p as usize]);
        let middle = |i: usize| at(i).iter().sum::<DVec3>() / 3.0;
        let beyond = |i: &usize| (middle(*i) - x[node as usize]).dot(along) > 0.0;
        let (moving, staying): (Vec<usize>, Vec<usize>) = own.iter().copied().partition(beyond);
        if moving.is_empty() || staying.is_empty() {
            continue;
        }
        touched.extend(&own);
        let neighbours: BTreeSet<u32> = own.iter().flat_map(|i| corners[*i]).filter(|p| *p != node).collect();
        part(node, moving, &mut corners, &mut around);
        // Both halves of the point, and those around, may hang by no edge any more.
        for point in neighbours {
            let mut fans = fans(point, &around[&point], &corners);
            while fans.len() > 1 {
                let loose = fans.pop().expect("two at least");
                touched.extend(&loose);
                part(point, loose, &mut corners, &mut around);
            }
        }
    }
    made
}

/// The triangles around a point in groups that hang together by edges at the point, the largest first.
fn fans(point: u32, around: &[usize], corners: &[[u32; 3]]) -> Vec<Vec<usize>> {
    let mut left: Vec<usize> = around.to_vec();
    let mut fans = Vec::new();
    while let Some(first) = left.pop() {
        let (mut fan, mut at) = (vec![first], 0);
        while at < fan.len() {
            let own = corners[fan[at]];
            let shares = |i: &usize| corners[*i].iter().any(|p| *p != point && own.contains(p));
            let (more, rest): (Vec<usize>, Vec<usize>) = left.into_iter().partition(|i| shares(i));
            fan.extend(more);
            left = rest;
            at += 1;
        }
        fan.sort_unstable();
        fans.push(fan);
    }
    fans.sort_by_key(|fan| (std::cmp::Reverse(fan.len()), fan[0]));
    fans
}

/// The strains of a triangle along its principal directions, where they pull, as a tensor in space.
fn pulled(triangle: &Triangle, x: &[DVec3]) -> DMat3 {
    let (f1, f2) = triangle.deformation(x);
    let (a, b, c) = (f1.length_squared(), f1.dot(f2), f2.length_squared());
    let (mean, half) = (0.5 * (a + c), 0.5 * (a - c));
    let radius = half.hypot(b);
    let mut sum = DMat3::ZERO;
    for (square, sign) in [(mean + radius, 1.0), (mean - radius, -1.0)] {
        let strain = square.max(0.0).sqrt() - 1.0;
        if strain <= 0.0 {
            continue;
        }
        // The eigenvector of FᵀF, by the half of the angle of its deviator.
        let cos = if radius > 0.0 { half / radius } else { 1.0 };
        let (u, v) = ((0.5 * (1.0 + cos)).sqrt(), (0.5 * (1.0 - cos)).max(0.0).sqrt().copysign(b));
        let along = if sign > 0.0 { f1 * u + f2 * v } else { f2 * u - f1 * v };
        let along = along.normalize_or_zero();
        sum += DMat3::from_cols(along * along.x, along * along.y, along * along.z) * strain;
    }
    sum
}

fn trace(of: &DMat3) -> f64 {
    of.x_axis.x + of.y_axis.y + of.z_axis.z
}

/// The greatest eigenvalue of a positive tensor and its direction, by squaring it until only that is left.
fn greatest(of: DMat3) -> (f64, DVec3) {
    let mut power = of * (1.0 / trace(&of).max(1e-300));
    for _ in 0..12 {
        power = power * power;
        power *= 1.0 / trace(&power).max(1e-300);
    }
    let columns = [power.x_axis, power.y_axis, power.z_axis];
    let along = columns.into_iter().max_by(|a, b| a.length().total_cmp(&b.length())).expect("three");
    let along = along.normalize_or_zero();
    (along.dot(of * along), along)
}

#[cfg(test)]
mod tests {
    use super::super::sheet::sheet;
    use super::*;
    use geometry::{Mesh, primitive};
    use shot::Shape;

    fn grid() -> (Vec<Triangle>, Vec<DVec3>) {
        let mesh = Mesh::refined(&Shape::plane(1.0, 1.0), primitive::plane(1.0, 1.0), 0.25, 1_000).unwrap();
        let (sheet, ..) = sheet(&mesh);
        (sheet.triangles, sheet.rest)
    }

    #[test]
    fn the_tensor_of_a_stretched_sheet_pulls_along_its_stretch() {
        let (triangles, rest) = grid();
        let turn = glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.4, -0.7, 1.1);
        let x: Vec<DVec3> = rest.iter().map(|p| turn * DVec3::new(1.2 * p.x, 0.0, 0.9 * p.z)).collect();
        for triangle in &triangles {
            let (value, along) = greatest(pulled(triangle, &x));
            assert!((value - 0.2).abs() < 1e-6);
            assert!(along.dot(turn * DVec3::X).abs() > 1.0 - 1e-9);
        }
    }

    #[test]
    fn a_line_of_weak_points_parts_a_sheet_in_two() {
        let (triangles, rest) = grid();
        let x: Vec<DVec3> = rest.iter().map(|p| DVec3::new(1.3 * p.x, 0.0, p.z)).collect();
        let weak = |node: u32| if rest[node as usize].x.abs() < 1e-6 { 0.2 } else { f64::INFINITY };
        let mut corners: Vec<[u32; 3]> = triangles.iter().map(|t| t.points).collect();
        let (mut at, mut rounds) = (x.clone(), 0);
        let mut origin: Vec<u32> = (0..rest.len() as u32).collect();
        loop {
            let now: Vec<Triangle> = triangles
                .iter()
                .zip(&corners)
                .map(|(t, points)| Triangle { points: *points, ..*t })
                .collect();
            let found = splits(&now, &at, |_| 1.0, |node| weak(origin[node as usize]));
            if found.is_empty() {
                break;
            }
            for split in found {
                let new = at.len() as u32;
                at.push(at[split.node as usize]);
                origin.push(origin[split.node as usize]);
                for i in split.triangles {
                    corners[i].iter_mut().filter(|p| **p == split.node).for_each(|p| *p = new);
                }
            }
            rounds += 1;
            assert!(rounds < 20);
        }
        // No triangle of one side shares a point with one of the other.
        let side = |i: usize| triangles[i].points.iter().map(|p| rest[*p as usize].x).sum::<f64>() > 0.0;
        let points = |right: bool| -> BTreeSet<u32> {
            (0..corners.len()).filter(|i| side(*i) == right).flat_map(|i| corners[i]).collect()
        };
        assert!(points(true).is_disjoint(&points(false)));
        assert_eq!(at.len(), rest.len() + 5);
    }

    #[test]
    fn a_sheet_below_its_limit_stays_whole() {
        let (triangles, rest) = grid();
        let x: Vec<DVec3> = rest.iter().map(|p| DVec3::new(1.19 * p.x, 0.0, p.z)).collect();
        assert_eq!(splits(&triangles, &x, |_| 1.0, |_| 0.2), []);
        // Lengths at rest that are scaled count.
        assert_ne!(splits(&triangles, &x, |_| 0.9, |_| 0.2), []);
    }
}
