//! Building: a binary tree by binned surface area, collapsed to eight-wide.

use super::{Bounds, COUNT_BITS, LEAF, Node};
use glam::Vec3;

const BINS: usize = 32;
/// Cost of a node's visit against that of one leaf packet.
const VISIT_COST: f32 = 1.2;
/// Subtrees larger than this are built on another thread.
const PARALLEL: usize = 8192;

enum Binary {
    Leaf { first: usize, count: usize },
    Split { children: Box<[(Bounds, Binary); 2]> },
}

#[derive(Clone, Copy)]
struct Item {
    bounds: Bounds,
    centre: Vec3,
    index: u32,
}

/// The nodes (the root first) and the items in leaf order. Leaves hold at most
/// `leaf` items.
pub(super) fn build(bounds: &[Bounds], leaf: usize) -> (Vec<Node>, Vec<u32>) {
    let mut items: Vec<Item> = bounds
        .iter()
        .enumerate()
        .map(|(index, &bounds)| Item { bounds, centre: bounds.centre(), index: index as u32 })
        .collect();
    let mut nodes = Vec::new();
    if items.is_empty() {
        nodes.push(EMPTY_NODE);
        return (nodes, Vec::new());
    }
    let root = split(&mut items, 0, leaf);
    collapse(&mut nodes, root);
    (nodes, items.iter().map(|item| item.index).collect())
}

const EMPTY_NODE: Node = Node {
    bounds: [
        [f32::INFINITY; 8],
        [f32::INFINITY; 8],
        [f32::INFINITY; 8],
        [f32::NEG_INFINITY; 8],
        [f32::NEG_INFINITY; 8],
        [f32::NEG_INFINITY; 8],
    ],
    children: [LEAF; 8],
};

fn union(items: &[Item]) -> Bounds {
    items.iter().fold(Bounds::EMPTY, |bounds, item| bounds.union(item.bounds))
}

fn split(items: &mut [Item], first: usize, leaf: usize) -> (Bounds, Binary) {
    let bounds = union(items);
    let count = items.len();
    if count == 1 {
        return (bounds, Binary::Leaf { first, count });
    }
    let centres = items.iter().fold(Bounds::EMPTY, |b, item| b.with(item.centre));
    let best = best_plane(items, &centres, leaf);
    let packets = |n: usize| n.div_ceil(leaf) as f32;
    if count <= leaf
        && best.is_none_or(|(cost, ..)| {
            VISIT_COST * bounds.half_area() + cost >= packets(count) * bounds.half_area()
        })
    {
        return (bounds, Binary::Leaf { first, count });
    }
    let middle = match best {
        Some((_, axis, plane)) => {
            let bin = binning(&centres, axis);
            partition(items, |item| bin(item.centre) <= plane)
        }
        None => count / 2,
    };
    let (left, right) = items.split_at_mut(middle);
    let (left, right) = if count > PARALLEL {
        rayon::join(|| split(left, first, leaf), || split(right, first + middle, leaf))
    } else {
        (split(left, first, leaf), split(right, first + middle, leaf))
    };
    (bounds, Binary::Split { children: Box::new([left, right]) })
}

fn binning(centres: &Bounds, axis: usize) -> impl Fn(Vec3) -> usize + Copy {
    let (low, size) = (centres.min[axis], centres.size()[axis]);
    let scale = BINS as f32 * (1.0 - 1e-6) / size;
    move |centre: Vec3| ((((centre[axis] - low) * scale) as isize).max(0) as usize).min(BINS - 1)
}

/// Stable partition in place of copies; returns the number on the left.
fn partition(items: &mut [Item], left: impl Fn(&Item) -> bool) -> usize {
    let mut middle = 0;
    for i in 0..items.len() {
        if left(&items[i]) {
            items.swap(i, middle);
            middle += 1;
        }
    }
    middle
}

/// The plane of least cost as (cost, axis, last bin on the left).
fn best_plane(items: &[Item], centres: &Bounds, leaf: usize) -> Option<(f32, usize, usize)> {
    let packets = |n: usize| n.div_ceil(leaf) as f32;
    let mut best: Option<(f32, usize, usize)> = None;
    for axis in 0..3 {
        if centres.size()[axis] <= 0.0 {
            continue;
        }
        let bin = binning(centres, axis);
        let mut bins = [(Bounds::EMPTY, 0usize); BINS];
        for item in items {
            let slot = &mut bins[bin(item.centre)];
            *slot = (slot.0.union(item.bounds), slot.1 + 1);
        }
        let mut right = [(Bounds::EMPTY, 0usize); BINS];
        for i in (0..BINS - 1).rev() {
            right[i] = (right[i + 1].0.union(bins[i + 1].0), right[i + 1].1 + bins[i + 1].1);
        }
        let mut left = (Bounds::EMPTY, 0usize);
        for plane in 0..BINS - 1 {
            left = (left.0.union(bins[plane].0), left.1 + bins[plane].1);
            if left.1 == 0 || right[plane].1 == 0 {
                continue;
            }
            let cost =
                left.0.half_area() * packets(left.1) + right[plane].0.half_area() * packets(right[plane].1);
            if best.is_none_or(|(least, ..)| cost < least) {
                best = Some((cost, axis, plane));
            }
        }
    }
    best
}

/// Appends the eight-wide node for a binary subtree; returns its index.
fn collapse(nodes: &mut Vec<Node>, tree: (Bounds, Binary)) -> u32 {
    let index = nodes.len();
    nodes.push(EMPTY_NODE);
    let mut children = vec![tree];
    // Open the largest child that can be opened until eight are found.
    while children.len() < 8 {
        let largest = children
            .iter()
            .enumerate()
            .filter(|(_, (_, child))| matches!(child, Binary::Split { .. }))
            .max_by(|(_, (a, _)), (_, (b, _))| a.half_area().total_cmp(&b.half_area()))
            .map(|(i, _)| i);
        let Some(i) = largest else { break };
        let (_, Binary::Split { children: pair }) = children.swap_remove(i) else { unreachable!() };
        children.extend(*pair);
    }
    for (lane, (bounds, child)) in children.into_iter().enumerate() {
        let link = match child {
            Binary::Leaf { first, count } => LEAF | (first as u32) << COUNT_BITS | count as u32,
            split => collapse(nodes, (bounds, split)),
        };
        let node = &mut nodes[index];
        for axis in 0..3 {
            node.bounds[axis][lane] = bounds.min[axis];
            node.bounds[axis + 3][lane] = bounds.max[axis];
        }
        node.children[lane] = link;
    }
    index as u32
}
