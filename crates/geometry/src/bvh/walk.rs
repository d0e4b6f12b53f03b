//! Walking the tree with a ray.
//!
//! Each query exists once, as a macro over the two primitive tests, and is
//! compiled twice: with AVX2 and FMA, and portably. The processor is asked at
//! run time which to use.
#![allow(unsafe_code, reason = "a measured kernel")]

use super::stack::Stack;
use super::{COUNT_BITS, Hit, LEAF, Node, Packet, Ray};

struct Prepared {
    inverse: [f32; 3],
    /// −origin / direction, by axis.
    shift: [f32; 3],
    /// Row of `Node::bounds` with the nearer plane, by axis.
    near: [usize; 3],
}

#[inline(always)]
fn prepare(ray: &Ray) -> Prepared {
    let mut prepared = Prepared { inverse: [0.0; 3], shift: [0.0; 3], near: [0; 3] };
    for axis in 0..3 {
        // A direction of exactly zero would give 0 × ∞.
        let d = ray.direction[axis];
        let d = if d.abs() < 1e-20 { 1e-20f32.copysign(d) } else { d };
        prepared.inverse[axis] = 1.0 / d;
        prepared.shift[axis] = -ray.origin[axis] / d;
        prepared.near[axis] = if d < 0.0 { axis + 3 } else { axis };
    }
    prepared
}

/// Walks `$nodes`; `$boxes(node, t_max, &mut distances)` gives the mask of
/// children met, `$leaf(link, t_max)` returns the new `t_max`.
macro_rules! walk {
    ($nodes:expr, $t_max:expr, $boxes:expr, $leaf:expr) => {{
        let mut t_max: f32 = $t_max;
        let mut stack = Stack::new();
        let mut link = 0u32;
        'walk: loop {
            if link & LEAF == 0 {
                let node = &$nodes[link as usize];
                let mut distances = Distances([0f32; 8]);
                let mut mask: u32 = $boxes(node, t_max, &mut distances);
                let distances = distances.0;
                if mask != 0 {
                    let first = mask.trailing_zeros() as usize;
                    mask &= mask - 1;
                    if mask == 0 {
                        link = node.children[first];
                        continue 'walk;
                    }
                    // Push all but the nearest, the farther ones deeper.
                    let base = stack.len();
                    stack.insert(base, (node.children[first], distances[first]));
                    while mask != 0 {
                        let lane = mask.trailing_zeros() as usize;
                        mask &= mask - 1;
                        stack.insert(base, (node.children[lane], distances[lane]));
                    }
                    link = stack.pop().expect("just pushed").0;
                    continue 'walk;
                }
            } else {
                t_max = $leaf(link, t_max);
                if t_max < 0.0 {
                    break 'walk;
                }
            }
            loop {
                let Some((next, distance)) = stack.pop() else { break 'walk };
                if distance <= t_max {
                    link = next;
                    break;
                }
            }
        }
        t_max
    }};
}

#[repr(C, align(32))]
struct Distances([f32; 8]);

mod portable {
    use super::*;

    #[inline(always)]
    pub fn boxes(node: &Node, ray: &Prepared, t_max: f32, distances: &mut Distances) -> u32 {
        let mut mask = 0;
        let far = ray.near.map(|row| (row + 3) % 6);
        for lane in 0..8 {
            let at =
                |row: usize, axis: usize| node.bounds[row][lane].mul_add(ray.inverse[axis], ray.shift[axis]);
            let near = at(ray.near[0], 0).max(at(ray.near[1], 1)).max(at(ray.near[2], 2)).max(0.0);
            let far = at(far[0], 0).min(at(far[1], 1)).min(at(far[2], 2)).min(t_max);
            distances.0[lane] = near;
            mask |= u32::from(near <= far * ROUND_UP) << lane;
        }
        mask
    }

    /// Möller and Trumbore, *Fast, minimum storage ray/triangle intersection*, 1997.
    #[inline(always)]
    pub fn triangles(packet: &Packet, count: u32, ray: &Ray, t_max: f32) -> Option<Hit> {
        use glam::Vec3;
        let mut nearest: Option<Hit> = None;
        for lane in 0..count as usize {
            let get = |a: &[[f32; 4]; 3]| Vec3::new(a[0][lane], a[1][lane], a[2][lane]);
            let (e1, e2) = (get(&packet.edge_1), get(&packet.edge_2));
            let p = ray.direction.cross(e2);
            let inverse = 1.0 / e1.dot(p);
            let s = ray.origin - get(&packet.corner);
            let u = s.dot(p) * inverse;
            let q = s.cross(e1);
            let v = ray.direction.dot(q) * inverse;
            let t = e2.dot(q) * inverse;
            let limit = nearest.map_or(t_max, |hit| hit.t);
            if u >= 0.0 && v >= 0.0 && u + v <= 1.0 && t > 0.0 && t < limit {
                nearest = Some(Hit { t, u, v, triangle: packet.triangle[lane], at: lane as u32 });
            }
        }
        nearest
    }

    pub fn closest(nodes: &[Node], packets: &[Packet], ray: &Ray) -> Option<Hit> {
        let prepared = prepare(ray);
        let mut nearest = None;
        walk!(
            nodes,
            ray.t_max,
            |node, t_max, distances: &mut Distances| boxes(node, &prepared, t_max, distances),
            |link: u32, t_max: f32| {
                let index = (link & !LEAF) >> COUNT_BITS;
                match triangles(&packets[index as usize], link & ((1 << COUNT_BITS) - 1), ray, t_max) {
                    Some(hit) => {
                        nearest = Some(Hit { at: 4 * index + hit.at, ..hit });
                        hit.t
                    }
                    None => t_max,
                }
            }
        );
        nearest
    }

    pub fn any(nodes: &[Node], packets: &[Packet], ray: &Ray) -> bool {
        let prepared = prepare(ray);
        let end = walk!(
            nodes,
            ray.t_max,
            |node, t_max, distances: &mut Distances| boxes(node, &prepared, t_max, distances),
            |link: u32, t_max: f32| {
                let packet = &packets[((link & !LEAF) >> COUNT_BITS) as usize];
                let count = link & ((1 << COUNT_BITS) - 1);
                if triangles(packet, count, ray, t_max).is_some() { -1.0 } else { t_max }
            }
        );
        end < 0.0
    }

    pub fn items(nodes: &[Node], order: &[u32], ray: &Ray, test: &mut dyn FnMut(u32) -> f32) {
        let prepared = prepare(ray);
        walk!(
            nodes,
            ray.t_max,
            |node, t_max, distances: &mut Distances| boxes(node, &prepared, t_max, distances),
            |link: u32, t_max: f32| {
                let first = ((link & !LEAF) >> COUNT_BITS) as usize;
                let count = (link & ((1 << COUNT_BITS) - 1)) as usize;
                let mut end = t_max;
                for &item in &order[first..first + count] {
                    end = test(item);
                    if end < 0.0 {
                        break;
                    }
                }
                end
            }
        );
    }
}

/// Makes the box test conservative against the rounding of the planes'
/// distances: T. Ize, *Robust BVH ray traversal*, JCGT 2 (2013).
const ROUND_UP: f32 = 1.0 + 4.0 * f32::EPSILON;

#[cfg(target_arch = "x86_64")]
mod avx2 {
    use super::*;
    use std::arch::x86_64::*;

    /// The ray's eight-wide constants.
    struct Wide {
        inverse: [__m256; 3],
        shift: [__m256; 3],
        near: [usize; 3],
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn wide(ray: &Ray) -> Wide {
        let p = prepare(ray);
        Wide {
            inverse: p.inverse.map(|v| _mm256_set1_ps(v)),
            shift: p.shift.map(|v| _mm256_set1_ps(v)),
            near: p.near,
        }
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn boxes(node: &Node, ray: &Wide, t_max: f32, distances: &mut Distances) -> u32 {
        let plane = |row: usize, axis: usize| {
            // SAFETY: rows are eight floats, 32-byte aligned as `Node` is 64-byte aligned.
            let bounds = unsafe { _mm256_load_ps(node.bounds.get_unchecked(row).as_ptr()) };
            _mm256_fmadd_ps(bounds, ray.inverse[axis], ray.shift[axis])
        };
        let far_row = |axis: usize| if ray.near[axis] >= 3 { axis } else { axis + 3 };
        let near = _mm256_max_ps(
            _mm256_max_ps(plane(ray.near[0], 0), plane(ray.near[1], 1)),
            _mm256_max_ps(plane(ray.near[2], 2), _mm256_setzero_ps()),
        );
        let far = _mm256_min_ps(
            _mm256_min_ps(plane(far_row(0), 0), plane(far_row(1), 1)),
            _mm256_min_ps(plane(far_row(2), 2), _mm256_set1_ps(t_max)),
        );
        // SAFETY: `Distances` is 32-byte aligned and holds eight floats.
        unsafe { _mm256_store_ps(distances.0.as_mut_ptr(), near) };
        let far = _mm256_mul_ps(far, _mm256_set1_ps(ROUND_UP));
        _mm256_movemask_ps(_mm256_cmp_ps::<_CMP_LE_OQ>(near, far)) as u32
    }

    type V = [__m128; 3];

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn dot(a: &V, b: &V) -> __m128 {
        _mm_fmadd_ps(a[0], b[0], _mm_fmadd_ps(a[1], b[1], _mm_mul_ps(a[2], b[2])))
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn cross(a: &V, b: &V) -> V {
        [
            _mm_fmsub_ps(a[1], b[2], _mm_mul_ps(a[2], b[1])),
            _mm_fmsub_ps(a[2], b[0], _mm_mul_ps(a[0], b[2])),
            _mm_fmsub_ps(a[0], b[1], _mm_mul_ps(a[1], b[0])),
        ]
    }

    /// Möller and Trumbore, four triangles at once; empty lanes have zero
    /// edges, so their determinant's inverse is not finite and no test holds.
    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn triangles(packet: &Packet, origin: &V, direction: &V, t_max: f32) -> Option<Hit> {
        let load = |rows: &[[f32; 4]; 3]| -> V {
            // SAFETY: each row is four floats, 16-byte aligned as `Packet` is 64-byte aligned.
            [0, 1, 2].map(|axis: usize| unsafe { _mm_load_ps(rows[axis].as_ptr()) })
        };
        let (corner, e1, e2) = (load(&packet.corner), load(&packet.edge_1), load(&packet.edge_2));
        let p = cross(direction, &e2);
        let inverse = _mm_div_ps(_mm_set1_ps(1.0), dot(&e1, &p));
        let s = [0, 1, 2].map(|axis: usize| _mm_sub_ps(origin[axis], corner[axis]));
        let u = _mm_mul_ps(dot(&s, &p), inverse);
        let q = cross(&s, &e1);
        let v = _mm_mul_ps(dot(direction, &q), inverse);
        let t = _mm_mul_ps(dot(&e2, &q), inverse);
        let zero = _mm_setzero_ps();
        let inside = _mm_and_ps(
            _mm_and_ps(_mm_cmpge_ps(u, zero), _mm_cmpge_ps(v, zero)),
            _mm_cmple_ps(_mm_add_ps(u, v), _mm_set1_ps(1.0)),
        );
        let ahead = _mm_and_ps(_mm_cmpgt_ps(t, zero), _mm_cmplt_ps(t, _mm_set1_ps(t_max)));
        let mut mask = _mm_movemask_ps(_mm_and_ps(inside, ahead)) as u32;
        if mask == 0 {
            return None;
        }
        #[repr(C, align(16))]
        struct Lanes([f32; 4]);
        let store = |x: __m128| {
            let mut lanes = Lanes([0.0; 4]);
            // SAFETY: `Lanes` is 16-byte aligned and holds four floats.
            unsafe { _mm_store_ps(lanes.0.as_mut_ptr(), x) };
            lanes.0
        };
        let (ts, us, vs) = (store(t), store(u), store(v));
        let mut lane = mask.trailing_zeros() as usize;
        mask &= mask - 1;
        while mask != 0 {
            let other = mask.trailing_zeros() as usize;
            mask &= mask - 1;
            if ts[other] < ts[lane] {
                lane = other;
            }
        }
        Some(Hit { t: ts[lane], u: us[lane], v: vs[lane], triangle: packet.triangle[lane], at: lane as u32 })
    }

    #[inline]
    #[target_feature(enable = "avx2,fma")]
    fn splat(v: glam::Vec3) -> V {
        [_mm_set1_ps(v.x), _mm_set1_ps(v.y), _mm_set1_ps(v.z)]
    }

    #[target_feature(enable = "avx2,fma")]
    pub fn closest(nodes: &[Node], packets: &[Packet], ray: &Ray) -> Option<Hit> {
        let prepared = wide(ray);
        let (origin, direction) = (splat(ray.origin), splat(ray.direction));
        let mut nearest = None;
        walk!(
            nodes,
            ray.t_max,
            |node, t_max, distances: &mut Distances| boxes(node, &prepared, t_max, distances),
            |link: u32, t_max: f32| {
                let index = (link & !LEAF) >> COUNT_BITS;
                match triangles(&packets[index as usize], &origin, &direction, t_max) {
                    Some(hit) => {
                        nearest = Some(Hit { at: 4 * index + hit.at, ..hit });
                        hit.t
                    }
                    None => t_max,
                }
            }
        );
        nearest
    }

    #[target_feature(enable = "avx2,fma")]
    pub fn any(nodes: &[Node], packets: &[Packet], ray: &Ray) -> bool {
        let prepared = wide(ray);
        let (origin, direction) = (splat(ray.origin), splat(ray.direction));
        let end = walk!(
            nodes,
            ray.t_max,
            |node, t_max, distances: &mut Distances| boxes(node, &prepared, t_max, distances),
            |link: u32, t_max: f32| {
                let packet = &packets[((link & !LEAF) >> COUNT_BITS) as usize];
                if triangles(packet, &origin, &direction, t_max).is_some() { -1.0 } else { t_max }
            }
        );
        end < 0.0
    }

    #[target_feature(enable = "avx2,fma")]
    pub fn items(nodes: &[Node], order: &[u32], ray: &Ray, test: &mut dyn FnMut(u32) -> f32) {
        let prepared = wide(ray);
        walk!(
            nodes,
            ray.t_max,
            |node, t_max, distances: &mut Distances| boxes(node, &prepared, t_max, distances),
            |link: u32, t_max: f32| {
                let first = ((link & !LEAF) >> COUNT_BITS) as usize;
                let count = (link & ((1 << COUNT_BITS) - 1)) as usize;
                let mut end = t_max;
                for &item in &order[first..first + count] {
                    end = test(item);
                    if end < 0.0 {
                        break;
                    }
                }
                end
            }
        );
    }
}

macro_rules! dispatch {
    ($name:ident($($arg:expr),*)) => {{
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2") && std::arch::is_x86_feature_detected!("fma") {
            // SAFETY: the processor has the features.
            return unsafe { avx2::$name($($arg),*) };
        }
        portable::$name($($arg),*)
    }};
}

#[inline]
pub(super) fn closest(nodes: &[Node], packets: &[Packet], ray: &Ray) -> Option<Hit> {
    dispatch!(closest(nodes, packets, ray))
}

#[inline]
pub(super) fn any(nodes: &[Node], packets: &[Packet], ray: &Ray) -> bool {
    dispatch!(any(nodes, packets, ray))
}

#[inline]
pub(super) fn items(nodes: &[Node], order: &[u32], ray: &Ray, test: &mut dyn FnMut(u32) -> f32) {
    dispatch!(items(nodes, order, ray, test))
}

#[cfg(test)]
pub(super) fn portable_closest(bvh: &super::Bvh, ray: &Ray) -> Option<Hit> {
    portable::closest(&bvh.nodes, &bvh.packets, ray)
}
