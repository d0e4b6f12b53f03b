//! Fitting a hierarchy to triangles that have moved: its tree stays, its boxes
//! are made anew from the leaves up (G. van den Bergen, *Efficient collision
//! detection of complex deformable models using AABB trees*, 1997).

use super::stack::Stack;
use super::{Bounds, Bvh, COUNT_BITS, LEAF, Node};
use glam::Vec3;

impl Bvh {
    /// Fits the hierarchy to the present `positions` of the vertices of the
    /// `triangles` that it was built over. With `before`, the boxes also hold
    /// all places from those earlier positions on.
    pub fn refit(&mut self, positions: &[Vec3], triangles: &[[u32; 3]], before: Option<&[Vec3]>) {
        match before {
            None => self.refit_by(positions, triangles, |_| Bounds::EMPTY),
            Some(before) => self.refit_by(positions, triangles, |t| {
                t.iter().fold(Bounds::EMPTY, |bounds, &v| bounds.with(before[v as usize]))
            }),
        }
    }

    #[inline(always)]
    fn refit_by(
        &mut self,
        positions: &[Vec3],
        triangles: &[[u32; 3]],
        earlier: impl Fn(&[u32; 3]) -> Bounds,
    ) {
        // Children come after their parents.
        for index in (0..self.nodes.len()).rev() {
            for lane in 0..8 {
                let link = self.nodes[index].children[lane];
                let bounds = if link & LEAF == 0 {
                    bounds_of(&self.nodes[link as usize])
                } else {
                    let count = (link & ((1 << COUNT_BITS) - 1)) as usize;
                    if count == 0 {
                        continue;
                    }
                    let packet = &mut self.packets[((link & !LEAF) >> COUNT_BITS) as usize];
                    let mut bounds = Bounds::EMPTY;
                    for slot in 0..count {
                        let t = &triangles[packet.triangle[slot] as usize];
                        let [a, b, c] = t.map(|v| positions[v as usize]);
                        for axis in 0..3 {
                            packet.corner[axis][slot] = a[axis];
                            packet.edge_1[axis][slot] = b[axis] - a[axis];
                            packet.edge_2[axis][slot] = c[axis] - a[axis];
                        }
                        bounds = bounds.with(a).with(b).with(c).union(earlier(t));
                    }
                    bounds
                };
                let node = &mut self.nodes[index];
                for axis in 0..3 {
                    node.bounds[axis][lane] = bounds.min[axis];
                    node.bounds[axis + 3][lane] = bounds.max[axis];
                }
            }
        }
    }

    /// Calls `found` with each triangle whose leaf's box meets `bounds`.
    pub fn overlapping(&self, bounds: &Bounds, mut found: impl FnMut(u32)) {
        let mut stack = Stack::new();
        stack.insert(0, (0, 0.0));
        while let Some((link, _)) = stack.pop() {
            if link & LEAF != 0 {
                let count = (link & ((1 << COUNT_BITS) - 1)) as usize;
                if count > 0 {
                    let packet = &self.packets[((link & !LEAF) >> COUNT_BITS) as usize];
                    packet.triangle[..count].iter().for_each(|&triangle| found(triangle));
                }
                continue;
            }
            let node = &self.nodes[link as usize];
            for lane in 0..8 {
                let meets = (0..3).all(|axis| {
                    node.bounds[axis][lane] <= bounds.max[axis]
                        && node.bounds[axis + 3][lane] >= bounds.min[axis]
                });
                if meets {
                    stack.insert(stack.len(), (node.children[lane], 0.0));
                }
            }
        }
    }
}

/// The box around all children of a node.
#[inline(always)]
fn bounds_of(node: &Node) -> Bounds {
    let least = |lanes: &[f32; 8]| lanes.iter().copied().fold(f32::INFINITY, f32::min);
    let most = |lanes: &[f32; 8]| lanes.iter().copied().fold(f32::NEG_INFINITY, f32::max);
    let [x, y, z, to_x, to_y, to_z] = &node.bounds;
    Bounds {
        min: Vec3::new(least(x), least(y), least(z)),
        max: Vec3::new(most(to_x), most(to_y), most(to_z)),
    }
}
