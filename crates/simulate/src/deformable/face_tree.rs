//! A hierarchy over the faces of surfaces that finds faces which may come close to each other within a step.
//!
//! A node has two boxes: of the positions at the step's start, and of the motions over the step. Along each axis two
//! nodes may meet only if they close the gap between them, so that parts that move together, however fast, do not find each
//! other, as they would in boxes of their whole ways.

use geometry::Bounds;
use glam::{DVec3, Vec3, Vec3A};

/// Most faces of a leaf.
const LEAF: usize = 2;
/// Pairs of nodes to be walked are divided until there are so many.
const TASKS: usize = 512;

/// A point over the step: where it starts, and its motion.
#[derive(Clone, Copy)]
pub(super) struct PointWay {
    pub x: Vec3A,
    pub moves: Vec3A,
}

/// A box whose corners are read as a whole.
#[derive(Clone, Copy)]
struct Range {
    min: Vec3A,
    max: Vec3A,
}

impl Range {
    const EMPTY: Self = Self { min: Vec3A::INFINITY, max: Vec3A::NEG_INFINITY };

    fn with(self, at: Vec3A) -> Self {
        Self { min: self.min.min(at), max: self.max.max(at) }
    }

    fn union(self, other: Self) -> Self {
        Self { min: self.min.min(other.min), max: self.max.max(other.max) }
    }
}

#[derive(Clone, Copy)]
struct Node {
    start: Range,
    moves: Range,
    /// The faces of a leaf, in the order of the tree, or 0..0.
    faces: (u32, u32),
    /// The second child; the first follows the node itself. 0: it is a leaf.
    second: u32,
    /// Whether it has a face that is looked for.
    wanted: bool,
}

/// Two nodes whose faces may meet.
pub(super) type NodePair = (u32, u32);

/// The hierarchy.
pub(super) struct FaceTree {
    /// Each node before its children.
    nodes: Vec<Node>,
    order: Vec<u32>,
}

impl FaceTree {
    /// Of faces with their points at `x`.
    pub fn new(faces: &[[u32; 3]], x: &[DVec3]) -> Self {
        let middle = |face: &[u32; 3]| {
            face.iter().fold(Vec3::ZERO, |sum, p| sum + (x[*p as usize] - x[faces[0][0] as usize]).as_vec3())
        };
        let middles: Vec<Vec3> = faces.iter().map(middle).collect();
        let mut tree = Self { nodes: Vec::new(), order: (0..faces.len() as u32).collect() };
        if !faces.is_empty() {
            let mut order = std::mem::take(&mut tree.order);
            tree.divide(&mut order, 0, &middles);
            tree.order = order;
        }
        tree
    }

    fn divide(&mut self, order: &mut [u32], first: u32, middles: &[Vec3]) {
        let index = self.nodes.len();
        let faces = (first, first + order.len() as u32);
        let (start, moves) = (Range::EMPTY, Range::EMPTY);
        self.nodes.push(Node { start, moves, faces, second: 0, wanted: true });
        if order.len() <= LEAF {
            return;
        }
        let bounds = order.iter().fold(Bounds::EMPTY, |bounds, &face| bounds.with(middles[face as usize]));
        let axis = bounds.size().max_position();
        let half = order.len() / 2;
        let key = |face: &u32| middles[*face as usize][axis];
        order.select_nth_unstable_by(half, |a, b| key(a).total_cmp(&key(b)).then(a.cmp(b)));
        self.nodes[index].faces = (0, 0);
        let (low, high) = order.split_at_mut(half);
        self.divide(low, first, middles);
        self.nodes[index].second = self.nodes.len() as u32;
        self.divide(high, first + half as u32, middles);
    }

    /// What each node covers, from what its faces cover.
    pub fn each_node<T: Copy>(&self, of_face: impl Fn(u32) -> T, union: impl Fn(T, T) -> T) -> Vec<T> {
        let mut all: Vec<Option<T>> = vec![None; self.nodes.len()];
        for (i, node) in self.nodes.iter().enumerate().rev() {
            all[i] = match node.second {
                0 => self.faces_of(node).iter().map(|face| of_face(*face)).reduce(&union),
                second => all[i + 1].into_iter().chain(all[second as usize]).reduce(&union),
            };
        }
        all.into_iter().flatten().collect()
    }

    /// The faces of a leaf.
    fn faces_of(&self, node: &Node) -> &[u32] {
        &self.order[node.faces.0 as usize..node.faces.1 as usize]
    }

    /// Takes the points, and finds pairs of nodes that may come closer than
    /// `reach`, to be walked, but for those that `apart` says to be kept apart by other means. One face of each pair has a point
    /// that is wanted; none: all are.
    pub fn near(
        &mut self,
        face: impl Fn(u32) -> [u32; 3] + Sync,
        points: &[PointWay],
        wanted: Option<&[bool]>,
        reach: f32,
        apart: impl Fn(u32, u32) -> bool,
    ) -> Vec<NodePair> {
        let order = &self.order;
        let leaf = |node: &mut Node| {
            (node.start, node.moves, node.wanted) = (Range::EMPTY, Range::EMPTY, wanted.is_none());
            for of in &order[node.faces.0 as usize..node.faces.1 as usize] {
                for p in face(*of) {
                    let point = points[p as usize];
                    (node.start, node.moves) = (node.start.with(point.x), node.moves.with(point.moves));
                    node.wanted |= wanted.is_some_and(|wanted| wanted[p as usize]);
                }
            }
        };
        refit(&mut self.nodes, 0, &leaf);
        let mut tasks: Vec<NodePair> = if self.nodes.is_empty() { Vec::new() } else { vec![(0, 0)] };
        while tasks.len() < TASKS {
            let mut next = Vec::with_capacity(4 * tasks.len());
            for &task in &tasks {
                self.open(task, reach, &apart, &mut next);
            }
            if next == tasks {
                break;
            }
            tasks = next;
        }
        tasks
    }

    /// Calls `found` with each two faces of a pair of nodes whose boxes may come close.
    pub fn walk(
        &self,
        task: NodePair,
        reach: f32,
        apart: impl Fn(u32, u32) -> bool,
        mut found: impl FnMut(u32, u32),
    ) {
        let mut stack = vec![task];
        while let Some((a, b)) = stack.pop() {
            let (one, two) = (&self.nodes[a as usize], &self.nodes[b as usize]);
            if one.second != 0 || two.second != 0 {
                self.open((a, b), reach, &apart, &mut stack);
                continue;
            }
            let of = |node: &Node| node.faces.0 as usize..node.faces.1 as usize;
            for i in of(one) {
                for k in of(two).filter(|k| a != b || *k > i) {
                    found(self.order[i], self.order[k]);
                }
            }
        }
    }

    /// Opens the larger of two nodes; two leaves stay as they are.
    fn open(
        &self,
        (a, b): NodePair,
        reach: f32,
        apart: &impl Fn(u32, u32) -> bool,
        into: &mut Vec<NodePair>,
    ) {
        let (one, two) = (&self.nodes[a as usize], &self.nodes[b as usize]);
        let mut add = |a: u32, b: u32| {
            let (one, two) = (&self.nodes[a as usize], &self.nodes[b as usize]);
            if (one.wanted || two.wanted) && (a == b || one.meets(two, reach)) && !apart(a, b) {
                into.push((a, b));
            }
        };
        if one.second == 0 && two.second == 0 {
            into.push((a, b));
        } else if a == b {
            add(a + 1, a + 1);
            add(a + 1, one.second);
            add(one.second, one.second);
        } else if two.second == 0 || one.second != 0 && one.size() >= two.size() {
            add(a + 1, b);
            add(one.second, b);
        } else {
            add(a, b + 1);
            add(a, two.second);
        }
    }
}

/// Takes the boxes of a node, which has the number `first`, and of all below it from those of the leaves.
fn refit(nodes: &mut [Node], first: usize, leaf: &(impl Fn(&mut Node) + Sync)) {
    /// Nodes that a thread takes at once.
    const AT_ONCE: usize = 2_048;
    let Some((root, below)) = nodes.split_first_mut() else { return };
    if root.second == 0 {
        return leaf(root);
    }
    let half = root.second as usize - first - 1;
    let (low, high) = below.split_at_mut(half);
    if low.len() > AT_ONCE {
        rayon::join(|| refit(low, first + 1, leaf), || refit(high, first + 1 + half, leaf));
    } else {
        refit(low, first + 1, leaf);
        refit(high, first + 1 + half, leaf);
    }
    let (one, two) = (&low[0], &high[0]);
    (root.start, root.moves) = (one.start.union(two.start), one.moves.union(two.moves));
    root.wanted = one.wanted || two.wanted;
}

impl Node {
    fn size(&self) -> f32 {
        (self.start.max - self.start.min).element_sum()
    }

    /// Whether points of the two may come closer than `reach`.
    fn meets(&self, other: &Self, reach: f32) -> bool {
        // Rounding of single precision.
        let reach = Vec3A::splat(reach * 1.0001);
        let above = other.start.min - self.start.max - reach;
        let closing_above = (self.moves.max - other.moves.min) * 1.0001;
        let below = self.start.min - other.start.max - reach;
        let closing_below = (other.moves.max - self.moves.min) * 1.0001;
        let zero = Vec3A::ZERO;
        (above.cmple(closing_above.max(zero)) & below.cmple(closing_below.max(zero))).all()
    }
}
