//! The point of a mesh nearest to a given one.
#![allow(unsafe_code, reason = "a measured kernel")]

use super::stack::Stack;
use super::{Bvh, COUNT_BITS, LEAF, Node, Packet};
use glam::Vec3;

impl Bvh {
    /// The point of the triangles nearest to `point`, and its triangle; none if
    /// none is closer than `within`.
    pub fn nearest(&self, point: Vec3, within: f32) -> Option<(Vec3, u32)> {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
            // SAFETY: the processor has the features.
            return unsafe { self.nearest_wide(point, within) };
        }
        self.nearest_by(point, within)
    }

    /// The same, compiled for eight lanes at once.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2,fma")]
    fn nearest_wide(&self, point: Vec3, within: f32) -> Option<(Vec3, u32)> {
        self.nearest_by(point, within)
    }

    #[inline(always)]
    fn nearest_by(&self, point: Vec3, within: f32) -> Option<(Vec3, u32)> {
        let mut found = None;
        self.approach(point, within, 1.0, |packet, lane, best| {
            let on = nearest_on(packet, lane, point);
            let square = on.distance_squared(point);
            if square < *best {
                *best = square;
                found = Some((on, packet.triangle[lane]));
            }
        });
        found
    }

    /// How far from the triangles a point is at least; never less than four
    /// fifths of how far it is, or of `within` if none is closer. From afar,
    /// where many are about as near, this looks at few of them (S. Arya and
    /// D. Mount, *Approximate nearest neighbor queries in fixed dimensions*, 1993).
    pub fn clearance(&self, point: Vec3, within: f32) -> f32 {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
            // SAFETY: the processor has the features.
            return unsafe { self.clearance_wide(point, within) };
        }
        self.clearance_by(point, within)
    }

    /// The same, compiled for eight lanes at once.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2,fma")]
    fn clearance_wide(&self, point: Vec3, within: f32) -> f32 {
        self.clearance_by(point, within)
    }

    #[inline(always)]
    fn clearance_by(&self, point: Vec3, within: f32) -> f32 {
        let mut nearest = within * within;
        self.approach(point, within, ROUGH * ROUGH, |packet, lane, best| {
            *best = best.min(nearest_on(packet, lane, point).distance_squared(point));
            nearest = *best;
        });
        ROUGH * nearest.sqrt()
    }

    /// Shows triangles closer than the best so far to `meet`, which may better
    /// it, the nearer ones first. `keep`: what is not closer than this fraction of
    /// the best, squared, is left out.
    #[inline(always)]
    fn approach(&self, point: Vec3, within: f32, keep: f32, mut meet: impl FnMut(&Packet, usize, &mut f32)) {
        let mut best = within * within;
        let mut stack = Stack::new();
        stack.insert(0, (0, 0.0));
        while let Some((link, least)) = stack.pop() {
            if least > best * keep {
                continue;
            }
            if link & LEAF == 0 {
                let node = &self.nodes[link as usize];
                let squares = box_distances(node, point);
                // The nearest on top of the stack.
                let base = stack.len();
                for lane in 0..8 {
                    if squares[lane] <= best * keep {
                        stack.insert(base, (node.children[lane], squares[lane]));
                    }
                }
            } else {
                let count = (link & ((1 << COUNT_BITS) - 1)) as usize;
                if count == 0 {
                    continue;
                }
                let packet = &self.packets[((link & !LEAF) >> COUNT_BITS) as usize];
                let squares = triangle_distances(packet, point);
                for lane in 0..count {
                    if squares[lane] <= best * keep {
                        meet(packet, lane, &mut best);
                    }
                }
            }
        }
    }
}

/// Least ratio of a clearance to the distance.
const ROUGH: f32 = 0.8;

/// Squared distances to a node's boxes; endless for those that are not there.
#[inline(always)]
fn box_distances(node: &Node, point: Vec3) -> [f32; 8] {
    let mut squares = [0.0f32; 8];
    for axis in 0..3 {
        for lane in 0..8 {
            let (low, high) = (node.bounds[axis][lane], node.bounds[axis + 3][lane]);
            let away = (low - point[axis]).max(point[axis] - high).max(0.0);
            squares[lane] += away * away;
        }
    }
    squares
}

/// Squared distances to the four triangles of a packet, without branches: to
/// the plane where the foot lies inside, else to the nearest edge. They are
/// differences of larger numbers; what rounding may have added is taken off.
#[inline(always)]
fn triangle_distances(packet: &Packet, p: Vec3) -> [f32; 4] {
    type Lanes = [[f32; 4]; 3];
    let each = |f: &dyn Fn(usize) -> f32| [f(0), f(1), f(2), f(3)];
    let dot = |a: &Lanes, b: &Lanes| {
        each(&|l| a[0][l].mul_add(b[0][l], a[1][l].mul_add(b[1][l], a[2][l] * b[2][l])))
    };
    let mut away: Lanes = [[0.0; 4]; 3];
    let mut third: Lanes = [[0.0; 4]; 3];
    for axis in 0..3 {
        for l in 0..4 {
            away[axis][l] = p[axis] - packet.corner[axis][l];
            third[axis][l] = packet.edge_2[axis][l] - packet.edge_1[axis][l];
        }
    }
    let (e1, e2) = (&packet.edge_1, &packet.edge_2);
    let (d11, d12, d22) = (dot(e1, e1), dot(e1, e2), dot(e2, e2));
    let (d1, d2, dd) = (dot(&away, e1), dot(&away, e2), dot(&away, &away));
    let d33 = dot(&third, &third);
    let mut out = [0.0f32; 4];
    for l in 0..4 {
        // To an edge from the first corner: |a|² − 2 t a·e + t² e².
        let edge = |along: f32, square: f32| {
            let t = (along / square.max(1e-30)).clamp(0.0, 1.0);
            dd[l] - t * (2.0 * along - t * square)
        };
        let to_second = dd[l] - 2.0 * d1[l] + d11[l];
        let along_third = (d2[l] - d1[l]) - (d12[l] - d11[l]);
        let t = (along_third / d33[l].max(1e-30)).clamp(0.0, 1.0);
        let outer = to_second - t * (2.0 * along_third - t * d33[l]);
        let rim = edge(d1[l], d11[l]).min(edge(d2[l], d22[l])).min(outer);
        let area = d11[l] * d22[l] - d12[l] * d12[l];
        let (u, v) = (d22[l] * d1[l] - d12[l] * d2[l], d11[l] * d2[l] - d12[l] * d1[l]);
        let inside = u >= 0.0 && v >= 0.0 && u + v <= area && area > 0.0;
        let plane = dd[l] - (u * d1[l] + v * d2[l]) / area.max(1e-30);
        let rounding = 4e-6 * (dd[l] + d11[l] + d22[l]);
        out[l] = if inside { plane } else { rim } - rounding;
    }
    out
}

/// The nearest point of a triangle (C. Ericson, *Real-time collision
/// detection*, 2005, section 5.1.5).
fn nearest_on(packet: &Packet, lane: usize, p: Vec3) -> Vec3 {
    let of = |part: &[[f32; 4]; 3]| Vec3::new(part[0][lane], part[1][lane], part[2][lane]);
    let (a, ab, ac) = (of(&packet.corner), of(&packet.edge_1), of(&packet.edge_2));
    let (b, c) = (a + ab, a + ac);
    let ap = p - a;
    let (d1, d2) = (ab.dot(ap), ac.dot(ap));
    if d1 <= 0.0 && d2 <= 0.0 {
        return a;
    }
    let bp = p - b;
    let (d3, d4) = (ab.dot(bp), ac.dot(bp));
    if d3 >= 0.0 && d4 <= d3 {
        return b;
    }
    let vc = d1 * d4 - d3 * d2;
    if vc <= 0.0 && d1 >= 0.0 && d3 <= 0.0 {
        return a + ab * (d1 / (d1 - d3));
    }
    let cp = p - c;
    let (d5, d6) = (ab.dot(cp), ac.dot(cp));
    if d6 >= 0.0 && d5 <= d6 {
        return c;
    }
    let vb = d5 * d2 - d1 * d6;
    if vb <= 0.0 && d2 >= 0.0 && d6 <= 0.0 {
        return a + ac * (d2 / (d2 - d6));
    }
    let va = d3 * d6 - d5 * d4;
    if va <= 0.0 && d4 - d3 >= 0.0 && d5 - d6 >= 0.0 {
        return b + (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6)));
    }
    let scale = 1.0 / (va + vb + vc);
    a + ab * (vb * scale) + ac * (vc * scale)
}
