//! Convex hulls in a plane.

use glam::Vec2;

/// The convex hull of points in a plane (A. Andrew, *Another efficient algorithm for convex hulls in two dimensions*, 1979).
#[derive(Clone, Debug)]
pub struct ConvexPolygon {
    /// Anticlockwise, each with its angle around the middle, from -π on.
    corners: Vec<(f32, Vec2)>,
    middle: Vec2,
}

impl ConvexPolygon {
    /// The hull of some points.
    pub fn hull(mut points: Vec<Vec2>) -> Self {
        points.sort_unstable_by(|a, b| a.x.total_cmp(&b.x).then(a.y.total_cmp(&b.y)));
        points.dedup();
        let half = |points: &mut dyn Iterator<Item = Vec2>| {
            let mut chain: Vec<Vec2> = Vec::new();
            for p in points {
                while let [.., a, b] = chain[..]
                    && (b - a).perp_dot(p - b) <= 0.0
                {
                    chain.pop();
                }
                chain.push(p);
            }
            chain.pop();
            chain
        };
        let mut corners = half(&mut points.iter().copied());
        corners.extend(half(&mut points.iter().rev().copied()));
        let middle = corners.iter().sum::<Vec2>() / corners.len().max(1) as f32;
        let mut corners: Vec<(f32, Vec2)> =
            corners.into_iter().map(|p| ((p - middle).to_angle(), p)).collect();
        corners.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
        Self { corners, middle }
    }

    /// Its area, in squares of the points' unit.
    pub fn area(&self) -> f32 {
        let next = self.corners.iter().cycle().skip(1);
        let each = self.corners.iter().zip(next);
        each.map(|((_, a), (_, b))| 0.5 * (*a - self.middle).perp_dot(*b - self.middle)).sum()
    }

    /// How far a point lies within the side that is seen through it from the middle, in the points' unit; negative outside.
    pub fn depth(&self, p: Vec2) -> f32 {
        let after = self.corners.partition_point(|(angle, _)| *angle <= (p - self.middle).to_angle());
        let corner = |i: usize| self.corners.get(i % self.corners.len().max(1)).map_or(p, |(_, p)| *p);
        let (a, b) = (corner((after + self.corners.len()).saturating_sub(1)), corner(after));
        (b - a).normalize_or_zero().perp_dot(p - a)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hull_has_the_area_of_its_outline_and_points_lie_so_deep_within() {
        let inside = [[0.5, 0.5], [1.0, 1.0], [2.0, 0.0]].map(Vec2::from);
        let outline = [[0.0, 0.0], [3.0, 0.0], [3.0, 2.0], [0.0, 2.0]].map(Vec2::from);
        let hull = ConvexPolygon::hull(inside.into_iter().chain(outline).collect());
        assert!((hull.area() - 6.0).abs() < 1e-5);
        for (p, depth) in [([2.8, 1.0], 0.2), ([1.5, 0.25], 0.25), ([1.5, 2.5], -0.5), ([0.0, 1.0], 0.0)] {
            assert!((hull.depth(Vec2::from(p)) - depth).abs() < 1e-5, "{p:?}");
        }
    }
}
