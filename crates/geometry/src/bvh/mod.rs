//! Eight-wide bounding volume hierarchy.
//!
//! Built as a binary tree by the binned surface area heuristic (I. Wald, *On
//! fast construction of SAH-based bounding volume hierarchies*, 2007), then
//! collapsed so that each node holds up to eight children (H. Dammertz et al.,
//! *Shallow bounding volume hierarchies for fast SIMD ray tracing of incoherent
//! rays*, 2008). A node's eight boxes are tested at once, and so are the four
//! triangles of a leaf.

mod build;
mod nearest;
mod refit;
mod stack;
mod walk;

use glam::Vec3;
pub use refit::RefitPlan;
use stack::Stack;

/// An axis-aligned box.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bounds {
    /// Least corner.
    pub min: Vec3,
    /// Greatest corner.
    pub max: Vec3,
}

impl Bounds {
    /// The box of nothing.
    pub const EMPTY: Self = Self { min: Vec3::splat(f32::INFINITY), max: Vec3::splat(f32::NEG_INFINITY) };

    /// The box that also holds `point`.
    #[inline]
    pub fn with(self, point: Vec3) -> Self {
        Self { min: self.min.min(point), max: self.max.max(point) }
    }

    /// The box that holds both.
    #[inline]
    pub fn union(self, other: Self) -> Self {
        Self { min: self.min.min(other.min), max: self.max.max(other.max) }
    }

    /// The middle.
    #[inline]
    pub fn centre(&self) -> Vec3 {
        (self.min + self.max) * 0.5
    }

    /// Full size along the axes.
    #[inline]
    pub fn size(&self) -> Vec3 {
        self.max - self.min
    }

    /// Half the surface area; 0 for the box of nothing.
    #[inline]
    fn half_area(&self) -> f32 {
        let s = self.size().max(Vec3::ZERO);
        s.x * s.y + s.y * s.z + s.z * s.x
    }
}

/// A ray from `origin` along `direction` (any length) up to `t_max`.
#[derive(Clone, Copy, Debug)]
pub struct Ray {
    /// Origin.
    pub origin: Vec3,
    /// Its direction; distances are in units of its length.
    pub direction: Vec3,
    /// Hits further than this do not count.
    pub t_max: f32,
}

impl Ray {
    /// An endless ray.
    pub fn new(origin: Vec3, direction: Vec3) -> Self {
        Self { origin, direction, t_max: f32::INFINITY }
    }
}

/// Intersection of a ray with a triangle.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Hit {
    /// Distance in units of the ray's direction.
    pub t: f32,
    /// Weight of the triangle's second vertex.
    pub u: f32,
    /// Weight of the triangle's third vertex.
    pub v: f32,
    /// Index of the triangle.
    pub triangle: u32,
    /// Its packet, times four, and its lane in it.
    at: u32,
}

/// A node: eight boxes by axis, and what is in them.
#[repr(C, align(64))]
#[derive(Clone)]
struct Node {
    /// Bounds as `[min x, min y, min z, max x, max y, max z]`, a lane a child.
    bounds: [[f32; 8]; 6],
    /// Index of a node, or [`LEAF`] with the index and count of leaf items.
    children: [u32; 8],
}

/// Marks a child as leaf; the low [`COUNT_BITS`] hold its number of items.
const LEAF: u32 = 1 << 31;
const COUNT_BITS: u32 = 3;

/// Four triangles: a corner and two edges each, by axis.
#[repr(C, align(64))]
#[derive(Clone)]
struct Packet {
    corner: [[f32; 4]; 3],
    edge_1: [[f32; 4]; 3],
    edge_2: [[f32; 4]; 3],
    triangle: [u32; 4],
}

/// A hierarchy over boxes whose items the caller tests.
#[derive(Clone)]
pub struct Tree {
    nodes: Vec<Node>,
    /// Items in leaf order.
    items: Vec<u32>,
}

impl Tree {
    /// Builds over the boxes of all items.
    pub fn build(bounds: &[Bounds]) -> Self {
        let (nodes, items) = build::build(bounds, 1);
        Self { nodes, items }
    }

    /// Calls `test` with each item whose box the ray may meet, roughly nearest
    /// first. `test` returns the distance beyond which nothing matters any
    /// more; a negative one ends the walk.
    pub fn walk(&self, ray: &Ray, mut test: impl FnMut(u32) -> f32) {
        walk::items(&self.nodes, &self.items, ray, &mut test);
    }
}

impl Tree {
    /// Calls `found` with each item whose box meets `bounds`.
    pub fn overlapping(&self, bounds: &Bounds, mut found: impl FnMut(u32)) {
        leaves_in(&self.nodes, bounds, |first, count| {
            self.items[first..first + count].iter().for_each(|&item| found(item));
        });
    }
}

/// Calls `found` with the index and the count of each leaf whose box meets `bounds`.
fn leaves_in(nodes: &[Node], bounds: &Bounds, mut found: impl FnMut(usize, usize)) {
    let mut stack = Stack::new();
    stack.insert(0, (0, 0.0));
    while let Some((link, _)) = stack.pop() {
        if link & LEAF != 0 {
            let count = (link & ((1 << COUNT_BITS) - 1)) as usize;
            found(((link & !LEAF) >> COUNT_BITS) as usize, count);
            continue;
        }
        let node = &nodes[link as usize];
        for lane in 0..8 {
            let meets = (0..3).all(|axis| {
                node.bounds[axis][lane] <= bounds.max[axis] && node.bounds[axis + 3][lane] >= bounds.min[axis]
            });
            if meets {
                stack.insert(stack.len(), (node.children[lane], 0.0));
            }
        }
    }
}

/// A hierarchy over triangles.
#[derive(Clone)]
pub struct Bvh {
    nodes: Vec<Node>,
    packets: Vec<Packet>,
}

/// Skew to the axes, so that no face of a staged body is seen edge on.
const OUT: Vec3 = Vec3::new(0.371_39, 0.742_78, 0.557_09);

impl Bvh {
    /// Builds over all triangles, on all threads of the current pool. The
    /// result does not depend on their number.
    pub fn build(positions: &[Vec3], triangles: &[[u32; 3]]) -> Self {
        use rayon::prelude::*;
        let corners = |t: &[u32; 3]| t.map(|v| positions[v as usize]);
        let bounds: Vec<Bounds> =
            triangles.par_iter().map(|t| corners(t).into_iter().fold(Bounds::EMPTY, Bounds::with)).collect();
        let (mut nodes, items) = build::build(&bounds, 4);
        let mut packets = Vec::with_capacity(items.len() / 3);
        for child in nodes.iter_mut().flat_map(|node| &mut node.children) {
            if *child & LEAF == 0 {
                continue;
            }
            let count = (*child & ((1 << COUNT_BITS) - 1)) as usize;
            if count == 0 {
                continue;
            }
            let first = ((*child & !LEAF) >> COUNT_BITS) as usize;
            let mut packet = Packet {
                corner: [[0.0; 4]; 3],
                edge_1: [[0.0; 4]; 3],
                edge_2: [[0.0; 4]; 3],
                triangle: [u32::MAX; 4],
            };
            for (lane, &item) in items[first..first + count].iter().enumerate() {
                let [a, b, c] = corners(&triangles[item as usize]);
                for axis in 0..3 {
                    packet.corner[axis][lane] = a[axis];
                    packet.edge_1[axis][lane] = b[axis] - a[axis];
                    packet.edge_2[axis][lane] = c[axis] - a[axis];
                }
                packet.triangle[lane] = item;
            }
            *child = LEAF | (packets.len() as u32) << COUNT_BITS | count as u32;
            packets.push(packet);
        }
        Self { nodes, packets }
    }

    /// The nearest hit.
    #[inline]
    pub fn closest(&self, ray: &Ray) -> Option<Hit> {
        walk::closest(&self.nodes, &self.packets, ray)
    }

    /// Unit normal of the triangle that was hit, on the side its vertices turn
    /// left about. What it takes was at hand a moment ago.
    #[inline]
    pub fn normal(&self, hit: &Hit) -> Vec3 {
        let (packet, lane) = (&self.packets[hit.at as usize / 4], hit.at as usize % 4);
        let edge = |of: &[[f32; 4]; 3]| Vec3::new(of[0][lane], of[1][lane], of[2][lane]);
        edge(&packet.edge_1).cross(edge(&packet.edge_2)).normalize_or_zero()
    }

    /// Whether anything is hit.
    #[inline]
    pub fn any(&self, ray: &Ray) -> bool {
        walk::any(&self.nodes, &self.packets, ray)
    }

    /// Whether a point is within triangles that close a body: the first that a ray meets is seen from behind.
    pub fn contains(&self, point: Vec3) -> bool {
        self.closest(&Ray::new(point, OUT)).is_some_and(|hit| self.normal(&hit).dot(OUT) > 0.0)
    }

    /// Whether triangles that close a body lie between two points that are both outside: from each the first triangle on the way to the
    /// other is seen from in front.
    pub fn separates(&self, a: Vec3, b: Vec3) -> bool {
        let meets = |from: Vec3, to: Vec3| {
            let ray = Ray { origin: from, direction: to - from, t_max: 1.0 };
            self.closest(&ray).is_some_and(|hit| self.normal(&hit).dot(to - from) < 0.0)
        };
        meets(a, b) && meets(b, a)
    }
}

#[cfg(test)]
mod tests;
