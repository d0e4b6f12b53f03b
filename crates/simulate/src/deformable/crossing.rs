//! An edge that crosses a triangle.

use glam::DVec3;

/// The points of an edge and of a triangle that it may cross.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Crossing {
    pub edge: [u32; 2],
    pub face: [u32; 3],
}

/// Volumes that rounding gives to points in one plane, in cubes of the longest distance between these.
const ROUNDING: f64 = 1e-9;

impl Crossing {
    /// Weights of the edge's ends and of the face's corners where they meet; none: they do not cross.
    pub fn weights(&self, x: &[DVec3]) -> Option<([f64; 2], [f64; 3])> {
        let [p, q] = self.edge.map(|i| x[i as usize]);
        let [a, b, c] = self.face.map(|i| x[i as usize]);
        let volume = |a: DVec3, b: DVec3, c: DVec3, d: DVec3| (b - a).cross(c - a).dot(d - a);
        let (above, below) = (volume(a, b, c, p), volume(a, b, c, q));
        let size = [p, q, b, c].iter().fold(0.0f64, |size, x| size.max(x.distance_squared(a)));
        let rounding = ROUNDING * size * size.sqrt();
        if above.signum() == below.signum() || above.abs().min(below.abs()) <= rounding {
            return None;
        }
        let turns = [volume(p, q, b, c), volume(p, q, c, a), volume(p, q, a, b)];
        if !(turns.iter().all(|t| *t > 0.0) || turns.iter().all(|t| *t < 0.0)) {
            return None;
        }
        let t = above / (above - below);
        let sum: f64 = turns.iter().sum();
        Some(([1.0 - t, t], turns.map(|turn| turn / sum)))
    }

    /// The points, in rising order, of each pair of the edge or one of its ends with the face or one of its sides.
    pub fn pairs(&self) -> [[u32; 4]; 5] {
        let ([p, q], [a, b, c]) = (self.edge, self.face);
        [[p, a, b, c], [q, a, b, c], [p, q, a, b], [p, q, b, c], [p, q, c, a]].map(rising)
    }
}

/// The same points in rising order.
pub(super) fn rising(mut points: [u32; 4]) -> [u32; 4] {
    points.sort_unstable();
    points
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    /// A triangle that stands in a large one, with its tip so far below it.
    pub fn points(depth: f64) -> Vec<DVec3> {
        vec![
            DVec3::new(-2.0, 0.0, -2.0),
            DVec3::new(2.0, 0.0, -2.0),
            DVec3::new(0.0, 0.0, 3.0),
            DVec3::new(0.0, -depth, 0.0),
            DVec3::new(-0.4, 0.5, 0.0),
            DVec3::new(0.4, 0.5, 0.0),
        ]
    }

    #[test]
    fn an_edge_crosses_a_face_only_where_it_goes_through() {
        let crossing = Crossing { edge: [3, 4], face: [0, 1, 2] };
        let x = points(0.1);
        let (ends, corners) = crossing.weights(&x).unwrap();
        let on_edge = x[3] * ends[0] + x[4] * ends[1];
        let on_face = x[0] * corners[0] + x[1] * corners[1] + x[2] * corners[2];
        assert!(on_edge.distance(on_face) < 1e-12, "{on_edge} {on_face}");
        assert!(crossing.weights(&points(-0.1)).is_none());
        assert!(Crossing { edge: [4, 5], face: [0, 1, 2] }.weights(&x).is_none());
    }

    #[test]
    fn points_in_one_plane_do_not_cross_by_rounding() {
        let number = |i: u32| f64::from((i.wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0 - 0.5;
        let random = |i: u32| DVec3::new(number(3 * i), number(3 * i + 1), number(3 * i + 2));
        for seed in 0..2_000 {
            let [along, across] = [0, 1].map(|i| random(20 * seed + i).normalize());
            let origin = 200.0 * random(20 * seed + 2);
            let x: Vec<DVec3> = (3..8)
                .map(|i| origin + along * number(97 * seed + 2 * i) + across * number(97 * seed + 2 * i + 1))
                .collect();
            assert_eq!(Crossing { edge: [3, 4], face: [0, 1, 2] }.weights(&x), None, "{seed}");
        }
    }
}
