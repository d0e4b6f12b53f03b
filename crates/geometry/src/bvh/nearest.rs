//! The point of a mesh nearest to a given one.

use super::{Bvh, COUNT_BITS, LEAF, Node, Packet};
use glam::Vec3;

const STACK: usize = 128;

impl Bvh {
    /// The point of the triangles nearest to `point`, and its triangle; none if
    /// none is closer than `within`.
    pub fn nearest(&self, point: Vec3, within: f32) -> Option<(Vec3, u32)> {
        let mut best = within * within;
        let mut found = None;
        let mut stack = [(0u32, 0f32); STACK];
        let mut top = 1;
        while top > 0 {
            top -= 1;
            let (link, least) = stack[top];
            if least > best {
                continue;
            }
            if link & LEAF == 0 {
                let node = &self.nodes[link as usize];
                let squares = box_distances(node, point);
                let base = top;
                for lane in 0..8 {
                    if squares[lane] > best {
                        continue;
                    }
                    // The nearest on top of the stack.
                    let entry = (node.children[lane], squares[lane]);
                    let mut at = top;
                    while at > base && stack[at - 1].1 < entry.1 {
                        stack[at] = stack[at - 1];
                        at -= 1;
                    }
                    stack[at] = entry;
                    top += 1;
                }
            } else {
                let count = (link & ((1 << COUNT_BITS) - 1)) as usize;
                if count == 0 {
                    continue;
                }
                let packet = &self.packets[((link & !LEAF) >> COUNT_BITS) as usize];
                for lane in 0..count {
                    let on = nearest_on(packet, lane, point);
                    let square = on.distance_squared(point);
                    if square < best {
                        best = square;
                        found = Some((on, packet.triangle[lane]));
                    }
                }
            }
        }
        found
    }
}

/// Squared distances to a node's boxes; endless for those that are not there.
#[inline]
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
