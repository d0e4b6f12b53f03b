//! Two features of surfaces that may meet: a point and a triangle, or two edges.

use glam::DVec3;

/// Two features, none of whose points is shared: the first one or two points are one feature's, the others the other's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Pair {
    /// A point, and a triangle.
    PointTriangle([u32; 4]),
    /// Two edges.
    Edges([u32; 4]),
}

impl Pair {
    pub fn points(&self) -> [u32; 4] {
        match self {
            Self::PointTriangle(points) | Self::Edges(points) => *points,
        }
    }

    /// The same of other points.
    pub fn on(&self, points: [u32; 4]) -> Self {
        match self {
            Self::PointTriangle(_) => Self::PointTriangle(points),
            Self::Edges(_) => Self::Edges(points),
        }
    }

    /// How many of the points belong to the first feature.
    pub fn first(&self) -> usize {
        match self {
            Self::PointTriangle(_) => 1,
            Self::Edges(_) => 2,
        }
    }

    /// Weights of the points at the features' nearest points, negative for the second, and the difference of these.
    pub fn nearest(&self, x: &[DVec3]) -> ([f64; 4], DVec3) {
        let [a, b, c, d] = self.points().map(|p| x[p as usize]);
        let weights = match self {
            Self::PointTriangle(_) => {
                let [u, v, w] = in_triangle(a, [b, c, d]);
                [1.0, -u, -v, -w]
            }
            Self::Edges(_) => {
                let (s, t) = on_edges(a, b, c, d);
                [1.0 - s, s, t - 1.0, -t]
            }
        };
        (weights, a * weights[0] + b * weights[1] + c * weights[2] + d * weights[3])
    }
}

/// Barycentric coordinates of the point of a triangle nearest to `p` (C. Ericson, *Real-time collision detection*, 2005, 5.1.5).
fn in_triangle(p: DVec3, [a, b, c]: [DVec3; 3]) -> [f64; 3] {
    let (ab, ac, ap) = (b - a, c - a, p - a);
    let (d1, d2) = (ab.dot(ap), ac.dot(ap));
    if d1 <= 0.0 && d2 <= 0.0 {
        return [1.0, 0.0, 0.0];
    }
    let bp = p - b;
    let (d3, d4) = (ab.dot(bp), ac.dot(bp));
    if d3 >= 0.0 && d4 <= d3 {
        return [0.0, 1.0, 0.0];
    }
    let vc = d1 * d4 - d3 * d2;
    if vc <= 0.0 && d1 >= 0.0 && d3 <= 0.0 {
        let v = d1 / (d1 - d3);
        return [1.0 - v, v, 0.0];
    }
    let cp = p - c;
    let (d5, d6) = (ab.dot(cp), ac.dot(cp));
    if d6 >= 0.0 && d5 <= d6 {
        return [0.0, 0.0, 1.0];
    }
    let vb = d5 * d2 - d1 * d6;
    if vb <= 0.0 && d2 >= 0.0 && d6 <= 0.0 {
        let w = d2 / (d2 - d6);
        return [1.0 - w, 0.0, w];
    }
    let va = d3 * d6 - d5 * d4;
    if va <= 0.0 && d4 - d3 >= 0.0 && d5 - d6 >= 0.0 {
        let w = (d4 - d3) / ((d4 - d3) + (d5 - d6));
        return [0.0, 1.0 - w, w];
    }
    let sum = va + vb + vc;
    [va / sum, vb / sum, vc / sum]
}

/// Where on two edges their nearest points lie, 0–1 (ibid., 5.1.9).
fn on_edges(p1: DVec3, q1: DVec3, p2: DVec3, q2: DVec3) -> (f64, f64) {
    let (d1, d2, r) = (q1 - p1, q2 - p2, p1 - p2);
    let (a, e) = (d1.length_squared().max(1e-300), d2.length_squared().max(1e-300));
    let (b, c, f) = (d1.dot(d2), d1.dot(r), d2.dot(r));
    let denominator = a * e - b * b;
    let s = if denominator > 1e-12 * a * e { ((b * f - c * e) / denominator).clamp(0.0, 1.0) } else { 0.0 };
    let t = (b * s + f) / e;
    if t < 0.0 {
        ((-c / a).clamp(0.0, 1.0), 0.0)
    } else if t > 1.0 {
        (((b - c) / a).clamp(0.0, 1.0), 1.0)
    } else {
        (s, t)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nearest_points_are_nearer_than_any_others() {
        let number = |i: u32| f64::from((i.wrapping_mul(0x9E37_79B9) >> 8) & 0xFFFF) / 65_536.0;
        for seed in 0..400 {
            let x: Vec<DVec3> = (0..4)
                .map(|i| {
                    DVec3::from_array(std::array::from_fn(|axis| number(100 * seed + 3 * i + axis as u32)))
                })
                .collect();
            for pair in [Pair::PointTriangle([0, 1, 2, 3]), Pair::Edges([0, 1, 2, 3])] {
                let (weights, apart) = pair.nearest(&x);
                let (first, second) = weights.split_at(pair.first());
                assert!((first.iter().sum::<f64>() - 1.0).abs() < 1e-9);
                assert!((second.iter().sum::<f64>() + 1.0).abs() < 1e-9);
                let (least, steps) = (apart.length(), 24);
                for i in 0..=steps {
                    for j in 0..=steps {
                        let (u, v) = (f64::from(i) / f64::from(steps), f64::from(j) / f64::from(steps));
                        let other = match pair {
                            Pair::Edges(_) => x[0].lerp(x[1], u) - x[2].lerp(x[3], v),
                            Pair::PointTriangle(_) => x[0] - x[1].lerp(x[2].lerp(x[3], v), u),
                        };
                        assert!(other.length() > least - 1e-9, "{pair:?} {seed}");
                    }
                }
            }
        }
    }
}
