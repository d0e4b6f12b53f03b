//! Fitting a hierarchy to triangles that have moved: its tree stays, its boxes
//! are made anew from the leaves up (G. van den Bergen, *Efficient collision
//! detection of complex deformable models using AABB trees*, 1997).

#![allow(unsafe_code, reason = "a measured kernel")]

use super::{Bounds, Bvh, COUNT_BITS, LEAF, Node, Packet, leaves_in};
use glam::Vec3;

/// The vertices of a hierarchy's triangles in the order of its leaves, by which
/// it is fitted again and again.
#[derive(Clone)]
pub struct RefitPlan {
    /// By packet: the vertices of its triangles; a missing one repeats the first.
    corners: Vec<[[u32; 3]; 4]>,
    /// Bounds of the packets, least then greatest corner.
    bounds: Vec<[[f32; 3]; 2]>,
}

impl Bvh {
    /// A plan for fitting this hierarchy, which was built over these triangles.
    pub fn refit_plan(&self, triangles: &[[u32; 3]]) -> RefitPlan {
        let of = |packet: &Packet| {
            let first = triangles[packet.triangle[0] as usize];
            packet.triangle.map(|t| triangles.get(t as usize).copied().unwrap_or(first))
        };
        let bounds = vec![[[0.0; 3]; 2]; self.packets.len()];
        RefitPlan { corners: self.packets.iter().map(of).collect(), bounds }
    }

    /// Fits the hierarchy to the present `positions` of its vertices. With
    /// `before`, the boxes also hold all places from those earlier positions on.
    pub fn refit(&mut self, plan: &mut RefitPlan, positions: &[Vec3], before: Option<&[Vec3]>) {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
            // SAFETY: the processor has the features.
            return unsafe { self.refit_wide(plan, positions, before) };
        }
        self.refit_by(plan, positions, before);
    }

    /// The same, compiled for eight lanes at once.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2,fma")]
    fn refit_wide(&mut self, plan: &mut RefitPlan, positions: &[Vec3], before: Option<&[Vec3]>) {
        self.refit_by(plan, positions, before);
    }

    #[inline(always)]
    fn refit_by(&mut self, plan: &mut RefitPlan, positions: &[Vec3], before: Option<&[Vec3]>) {
        // Packets first, one after the other in memory; then the nodes from the leaves up.
        for ((packet, corners), bounds) in self.packets.iter_mut().zip(&plan.corners).zip(&mut plan.bounds) {
            let now = Corners::of(corners, positions);
            now.write(packet);
            *bounds = now.bounds();
            if let Some(before) = before {
                let [low, high] = Corners::of(corners, before).bounds();
                for axis in 0..3 {
                    bounds[0][axis] = lesser(bounds[0][axis], low[axis]);
                    bounds[1][axis] = greater(bounds[1][axis], high[axis]);
                }
            }
        }
        // Children come after their parents.
        for index in (0..self.nodes.len()).rev() {
            for lane in 0..8 {
                let link = self.nodes[index].children[lane];
                let [low, high] = if link & LEAF == 0 {
                    bounds_of(&self.nodes[link as usize])
                } else if link & ((1 << COUNT_BITS) - 1) == 0 {
                    continue;
                } else {
                    plan.bounds[((link & !LEAF) >> COUNT_BITS) as usize]
                };
                let node = &mut self.nodes[index];
                for axis in 0..3 {
                    node.bounds[axis][lane] = low[axis];
                    node.bounds[axis + 3][lane] = high[axis];
                }
            }
        }
    }

    /// Calls `found` with each triangle whose leaf's box meets `bounds`.
    pub fn overlapping(&self, bounds: &Bounds, mut found: impl FnMut(u32)) {
        leaves_in(&self.nodes, bounds, |packet, count| {
            // A lane without a child has no packet.
            let triangles = self.packets.get(packet).map_or(&[][..], |packet| &packet.triangle[..count]);
            triangles.iter().for_each(|&triangle| found(triangle));
        });
    }
}

/// The corners of a packet's triangles: by corner and axis, a lane a triangle.
struct Corners([[[f32; 4]; 3]; 3]);

impl Corners {
    #[inline(always)]
    fn of(triangles: &[[u32; 3]; 4], positions: &[Vec3]) -> Self {
        let mut corners = [[[0.0; 4]; 3]; 3];
        for lane in 0..4 {
            for corner in 0..3 {
                let at = positions[triangles[lane][corner] as usize];
                corners[corner][0][lane] = at.x;
                corners[corner][1][lane] = at.y;
                corners[corner][2][lane] = at.z;
            }
        }
        Self(corners)
    }

    #[inline(always)]
    fn write(&self, packet: &mut Packet) {
        let [a, b, c] = &self.0;
        for axis in 0..3 {
            packet.corner[axis] = a[axis];
            for lane in 0..4 {
                packet.edge_1[axis][lane] = b[axis][lane] - a[axis][lane];
                packet.edge_2[axis][lane] = c[axis][lane] - a[axis][lane];
            }
        }
        if packet.triangle[3] == u32::MAX {
            // A lane without a triangle has no area, so that nothing meets it.
            for lane in (1..4).filter(|&lane| packet.triangle[lane] == u32::MAX) {
                for part in [&mut packet.corner, &mut packet.edge_1, &mut packet.edge_2] {
                    part.iter_mut().for_each(|axis| axis[lane] = 0.0);
                }
            }
        }
    }

    #[inline(always)]
    fn bounds(&self) -> [[f32; 3]; 2] {
        let (mut low, mut high) = ([0.0; 3], [0.0; 3]);
        for axis in 0..3 {
            let [a, b, c] = [&self.0[0][axis], &self.0[1][axis], &self.0[2][axis]];
            let mut least = [0.0; 4];
            let mut most = [0.0; 4];
            for lane in 0..4 {
                least[lane] = lesser(a[lane], lesser(b[lane], c[lane]));
                most[lane] = greater(a[lane], greater(b[lane], c[lane]));
            }
            low[axis] = lesser(lesser(least[0], least[1]), lesser(least[2], least[3]));
            high[axis] = greater(greater(most[0], most[1]), greater(most[2], most[3]));
        }
        [low, high]
    }
}

/// Without the care for NaN of `f32::min`: one instruction.
#[inline(always)]
fn lesser(a: f32, b: f32) -> f32 {
    if a < b { a } else { b }
}

#[inline(always)]
fn greater(a: f32, b: f32) -> f32 {
    if a > b { a } else { b }
}

/// The box around all children of a node.
#[inline(always)]
fn bounds_of(node: &Node) -> [[f32; 3]; 2] {
    let fold = |lanes: &[f32; 8], of: fn(f32, f32) -> f32| {
        let half = [0, 1, 2, 3].map(|lane| of(lanes[lane], lanes[lane + 4]));
        of(of(half[0], half[1]), of(half[2], half[3]))
    };
    let [x, y, z, to_x, to_y, to_z] = &node.bounds;
    [[x, y, z].map(|lanes| fold(lanes, lesser)), [to_x, to_y, to_z].map(|lanes| fold(lanes, greater))]
}
