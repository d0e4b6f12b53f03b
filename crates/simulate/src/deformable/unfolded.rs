//! Regions of flat sheets that are unfolded, so that they do not meet themselves.
//!
//! Let F be the deformation gradient of a sheet that is flat at rest (3 × 2), and Q two orthonormal vectors. If
//! dᵀ Qᵀ F d ≥ λ for all directions d on the straight way at rest between two points, then the points are at least λ times as far
//! apart as at rest: the integral of F along the way, seen along Q d. (So a map of a convex region whose derivative stays in a
//! half-plane is injective: K. Noshiro, 1934, and S. Warschawski, 1935.) F is bounded by boxes over the cells of
//! grids on the sheet at rest; the bound holds on straight paths of the points too, on which F is between its values at both ends.

use super::blocks::{CHUNK, Rows};
use super::face_tree::{FaceTree, PointWay};
use geometry::{ConvexPolygon, parts_by_edges};
use glam::{DVec3, Vec2, Vec3A, Vec3Swizzles};
use rayon::prelude::*;
use std::collections::HashMap;

/// λ: where it holds, contacts of a sheet with itself do not act (`self_contact.rs`: half of the distance at rest).
const LEAST_STRETCH: f32 = 0.51;
/// Size of the smallest cells, in edges.
const CELL: f32 = 2.0;
/// Most cells of the finest grid, and most places in cells that the faces take, by the number of faces.
const MOST_CELLS: usize = 2;
const MOST_PLACES: usize = 16;
/// Normals of a flat sheet differ by no more, and its points lie no further from its plane, in edges.
const FLAT_COSINE: f64 = 0.999_999;
const FLAT: f64 = 1e-3;

/// A face at rest: its corners, and how F follows from them.
struct FlatFace {
    points: [u32; 3],
    gradients: [Vec2; 3],
}

/// F over a cell and a step.
#[derive(Clone, Copy)]
struct Range {
    min: [Vec3A; 2],
    max: [Vec3A; 2],
}

impl Range {
    const EMPTY: Self = Self { min: [Vec3A::INFINITY; 2], max: [Vec3A::NEG_INFINITY; 2] };
    const ALL: Self = Self { min: [Vec3A::NEG_INFINITY; 2], max: [Vec3A::INFINITY; 2] };

    fn with(&mut self, column: usize, at: Vec3A) {
        self.min[column] = self.min[column].min(at);
        self.max[column] = self.max[column].max(at);
    }

    fn union(&mut self, other: &Self) {
        for column in 0..2 {
            self.with(column, other.min[column]);
            self.with(column, other.max[column]);
        }
    }

    fn is_empty(&self) -> bool {
        self.min[0].x > self.max[0].x
    }

    /// Whether λ is at least [`LEAST_STRETCH`], with the vectors that suit the middle of the range best.
    fn is_unfolded(&self) -> bool {
        let [a, b] = [0, 1].map(|column| (self.min[column] + self.max[column]) * 0.5);
        let half = [0, 1].map(|column| (self.max[column] - self.min[column]) * 0.5);
        let along = a.normalize_or_zero();
        let across = a.cross(b).cross(a).normalize_or_zero();
        // The rotation of the polar decomposition.
        let turn = Vec2::new(a.dot(along) + b.dot(across), -b.dot(along)).normalize_or_zero();
        let q = [along * turn.x + across * turn.y, across * turn.x - along * turn.y];
        let (first, second, shear) = (a.dot(q[0]), b.dot(q[1]), b.dot(q[0]));
        let least = 0.5 * (first + second) - (0.25 * (first - second).powi(2) + shear * shear).sqrt();
        let off = |column: usize, row: usize| half[column].dot(q[row].abs());
        let off_diagonal = 0.5 * (off(0, 1) + off(1, 0));
        let most = (off(0, 0).powi(2) + off(1, 1).powi(2) + 2.0 * off_diagonal * off_diagonal).sqrt();
        // False also where something is not finite.
        least - most >= LEAST_STRETCH
    }
}

/// A grid of cells over a sheet, with ever coarser ones above.
struct Grid {
    origin: Vec2,
    cell: f32,
    /// Cells along both axes of each level, and the first of them in the list of all.
    levels: Vec<([usize; 2], usize)>,
}

impl Grid {
    /// Whether a part of the sheet, given by its corners, is unfolded.
    fn is_unfolded(&self, min: Vec2, max: Vec2, ranges: &[Range], folded: &[bool]) -> bool {
        let size = (max - min).max_element();
        let (mut level, mut cell) = (0, self.cell);
        while level + 1 < self.levels.len() && 2.0 * cell < size {
            (level, cell) = (level + 1, 2.0 * cell);
        }
        let (count, first) = self.levels[level];
        let place = |at: Vec2, axis: usize| {
            (((at - self.origin)[axis] / cell).max(0.0) as usize).min(count[axis] - 1)
        };
        let (low, high) = ([place(min, 0), place(min, 1)], [place(max, 0), place(max, 1)]);
        let cells = || {
            let row = move |j: usize| first + j * count[0] + low[0]..=first + j * count[0] + high[0];
            (low[1]..=high[1]).flat_map(row)
        };
        if cells().any(|cell| folded[cell]) {
            return false;
        }
        let mut range = Range::EMPTY;
        cells().for_each(|cell| range.union(&ranges[cell]));
        range.is_unfolded()
    }
}

/// Marks a node of the hierarchy that is not of one flat sheet.
const NONE: u32 = u32::MAX;

/// The part of a sheet at rest that a node of the hierarchy covers.
#[derive(Clone, Copy)]
struct Patch {
    grid: u32,
    min: Vec2,
    max: Vec2,
}

/// All regions that are known to be unfolded.
#[derive(Default)]
pub(super) struct UnfoldedRegions {
    faces: Vec<FlatFace>,
    grids: Vec<Grid>,
    /// For each cell of the finest grids its faces; the cell in the list of all.
    faces_of: Rows,
    cells: Vec<u32>,
    /// Cells beside a hole, a cut or a hollow of the outline: what lies in them is not known.
    blocked: Vec<bool>,
    ranges: Vec<Range>,
    /// Cells that are not unfolded by themselves.
    folded: Vec<bool>,
    patches: Vec<Patch>,
}

impl UnfoldedRegions {
    /// Of faces between points that lie at `rest`, each body by itself.
    pub fn new(faces: &[[u32; 3]], rest: &[DVec3], tree: &FaceTree) -> Self {
        let mut all = Self { faces_of: Rows::of_lists(&[]), ..Self::default() };
        // Where each face lies on its sheet.
        let mut flat: Vec<Option<(u32, [Vec2; 3])>> = vec![None; faces.len()];
        let mut lists = Vec::new();
        for own in connected(faces) {
            let Some(places) = flattened(&own, faces, rest) else { continue };
            let grid = all.grids.len() as u32;
            if all.add_grid(&own, &places, faces, &mut lists) {
                own.iter().zip(&places).for_each(|(face, at)| flat[*face as usize] = Some((grid, *at)));
            }
        }
        if all.grids.is_empty() {
            return all;
        }
        all.ranges = vec![Range::ALL; all.blocked.len()];
        all.faces_of = Rows::of_lists(&lists);
        let none = Patch { grid: NONE, min: Vec2::ZERO, max: Vec2::ZERO };
        let leaf = |face: u32| {
            flat[face as usize].map_or(none, |(grid, [a, b, c])| Patch {
                grid,
                min: a.min(b).min(c),
                max: a.max(b).max(c),
            })
        };
        let union = |a: Patch, b: Patch| match a.grid == b.grid && a.grid != NONE {
            true => Patch { grid: a.grid, min: a.min.min(b.min), max: a.max.max(b.max) },
            false => none,
        };
        all.patches = tree.each_node(leaf, union);
        all
    }

    /// Adds the grid of the faces of one sheet, which lie at `places`; `lists` are the faces of each of the finest cells. False: the
    /// sheet lies over itself, or its faces differ too much in size for a grid.
    fn add_grid(
        &mut self,
        own: &[u32],
        places: &[[Vec2; 3]],
        faces: &[[u32; 3]],
        lists: &mut Vec<Vec<u32>>,
    ) -> bool {
        let corners = || places.iter().flatten();
        let min = corners().fold(Vec2::INFINITY, |min, p| min.min(*p));
        let size = corners().fold(Vec2::NEG_INFINITY, |max, p| max.max(*p)) - min;
        let hull = ConvexPolygon::hull(corners().copied().collect());
        let area: f32 = places.iter().map(|[a, b, c]| 0.5 * (*b - *a).perp_dot(*c - *a)).sum();
        if area > 1.001 * hull.area() {
            return false;
        }
        let edge = mean_edge(places);
        let most = (MOST_CELLS * own.len()) as f32;
        // As many along the longer side alone, or over the whole.
        let cell = (CELL * edge).max(size.max_element() / most).max((size.x * size.y / most).sqrt());
        let along = |size: f32| ((size / cell).ceil() as usize).max(1);
        let mut count = [along(size.x), along(size.y)];
        let finest = count;
        let span = |[a, b, c]: &[Vec2; 3]| (a.max(*b).max(*c) - a.min(*b).min(*c)) / cell + 2.0;
        let taken: f64 = places.iter().map(span).map(|span| f64::from(span.x * span.y)).sum();
        if taken > (MOST_PLACES * own.len()) as f64 {
            return false;
        }
        let first = self.blocked.len();
        let first_list = lists.len();
        let mut levels = Vec::new();
        loop {
            levels.push((count, self.blocked.len()));
            self.blocked.resize(self.blocked.len() + count[0] * count[1], false);
            if count == [1, 1] {
                break;
            }
            count = count.map(|n| n.div_ceil(2));
        }
        let grid = Grid { origin: min, cell, levels };
        lists.resize(first_list + finest[0] * finest[1], Vec::new());
        self.cells.extend((first..first + finest[0] * finest[1]).map(|cell| cell as u32));
        let over = |low: Vec2, high: Vec2| {
            let place =
                |at: Vec2, axis: usize| (((at - min)[axis] / cell).max(0.0) as usize).min(finest[axis] - 1);
            let columns = place(low, 0)..=place(high, 0);
            (place(low, 1)..=place(high, 1))
                .flat_map(move |j| columns.clone().map(move |i| j * finest[0] + i))
        };
        let mut sides: HashMap<[u32; 2], (u32, [Vec2; 2])> = HashMap::new();
        for (&face, at) in own.iter().zip(places) {
            let [a, b, c] = *at;
            let number = self.faces.len() as u32;
            let double = (b - a).perp_dot(c - a);
            let gradients = [c - b, a - c, b - a].map(|side| side.perp() / double);
            self.faces.push(FlatFace { points: faces[face as usize], gradients });
            over(a.min(b).min(c), a.max(b).max(c)).for_each(|cell| lists[first_list + cell].push(number));
            for i in 0..3 {
                let (p, q) = (faces[face as usize][i], faces[face as usize][(i + 1) % 3]);
                sides.entry([p.min(q), p.max(q)]).or_insert((0, [at[i], at[(i + 1) % 3]])).0 += 1;
            }
        }
        // Sides of one face that are not on the hull of all: the way between two points may leave the sheet there.
        let on_hull = |p: Vec2| hull.depth(p).abs() < 0.01 * edge;
        for (count, [p, q]) in sides.values() {
            if *count != 2 && ![*p, *q, 0.5 * (*p + *q)].into_iter().all(on_hull) {
                over(p.min(*q), p.max(*q)).for_each(|cell| self.blocked[first + cell] = true);
            }
        }
        self.grids.push(grid);
        true
    }

    /// Takes the points over a step.
    pub fn update(&mut self, points: &[PointWay]) {
        if self.grids.is_empty() {
            return;
        }
        let Self { faces, grids, faces_of, cells, blocked, ranges, folded, .. } = self;
        let of_cell = |(row, cell): (usize, &u32)| {
            let mut range = if blocked[*cell as usize] { Range::ALL } else { Range::EMPTY };
            for face in faces_of.of(row) {
                let FlatFace { points: corners, gradients } = &faces[*face as usize];
                let (mut start, mut moves) = ([Vec3A::ZERO; 2], [Vec3A::ZERO; 2]);
                for (point, gradient) in corners.iter().zip(gradients) {
                    let PointWay { x, moves: way } = points[*point as usize];
                    for (column, by) in gradient.to_array().into_iter().enumerate() {
                        start[column] += x * by;
                        moves[column] += way * by;
                    }
                }
                for column in 0..2 {
                    range.with(column, start[column]);
                    range.with(column, start[column] + moves[column]);
                }
            }
            range
        };
        let finest: Vec<Range> = cells.par_iter().enumerate().with_min_len(CHUNK / 4).map(of_cell).collect();
        cells.iter().zip(finest).for_each(|(cell, range)| ranges[*cell as usize] = range);
        for grid in grids {
            for below in 1..grid.levels.len() {
                let ((fine, fine_first), (coarse, first)) = (grid.levels[below - 1], grid.levels[below]);
                ranges[first..first + coarse[0] * coarse[1]].fill(Range::EMPTY);
                for j in 0..fine[1] {
                    for i in 0..fine[0] {
                        let range = ranges[fine_first + j * fine[0] + i];
                        ranges[first + (j / 2) * coarse[0] + i / 2].union(&range);
                    }
                }
            }
        }
        ranges
            .par_iter()
            .with_min_len(CHUNK)
            .map(|range| !range.is_empty() && !range.is_unfolded())
            .collect_into_vec(folded);
    }

    /// Whether the faces of two nodes of the hierarchy are known not to meet.
    pub fn keeps_apart(&self, a: u32, b: u32) -> bool {
        if self.patches.is_empty() {
            return false;
        }
        let (one, two) = (self.patches[a as usize], self.patches[b as usize]);
        if one.grid != two.grid || one.grid == NONE {
            return false;
        }
        let (min, max) = (one.min.min(two.min), one.max.max(two.max));
        // Parts that lie far apart at rest come close in folds only.
        let sizes = (one.max - one.min).max_element() + (two.max - two.min).max_element();
        (max - min).max_element() <= 1.5 * sizes
            && self.grids[one.grid as usize].is_unfolded(min, max, &self.ranges, &self.folded)
    }
}

/// The faces of each part that hangs together by edges, in order.
fn connected(faces: &[[u32; 3]]) -> Vec<Vec<u32>> {
    let mut lists: Vec<Vec<u32>> = vec![Vec::new(); faces.len()];
    for (face, part) in (0..).zip(parts_by_edges(faces, |_| true)) {
        lists[part as usize].push(face);
    }
    lists.retain(|list| !list.is_empty());
    lists
}

fn mean_edge(places: &[[Vec2; 3]]) -> f32 {
    let sides = places.iter().map(|[a, b, c]| a.distance(*b) + b.distance(*c) + c.distance(*a));
    (sides.map(f64::from).sum::<f64>() / (3 * places.len()) as f64) as f32
}

/// Where the corners of faces lie on their plane; none if there is no plane.
fn flattened(own: &[u32], faces: &[[u32; 3]], rest: &[DVec3]) -> Option<Vec<[Vec2; 3]>> {
    let corners = |face: &u32| faces[*face as usize].map(|p| rest[p as usize]);
    let across = |face: &u32| {
        let [a, b, c] = corners(face);
        (b - a).cross(c - a)
    };
    let normal = own.iter().map(across).sum::<DVec3>().try_normalize()?;
    let origin = corners(own.first()?)[0];
    let first = normal.any_orthonormal_vector();
    let second = normal.cross(first);
    let mut places = Vec::with_capacity(own.len());
    for face in own {
        let [a, b, c] = corners(face);
        let (across, edge) = (across(face), a.distance(b));
        let flat = across.dot(normal) >= FLAT_COSINE * across.length() && across != DVec3::ZERO;
        if !flat || [a, b, c].iter().any(|p| (*p - origin).dot(normal).abs() > FLAT * edge) {
            return None;
        }
        places.push([a, b, c].map(|p| {
            let off = p - origin;
            DVec3::new(off.dot(first), off.dot(second), 0.0).as_vec3().xy()
        }));
    }
    Some(places)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deformable::discretization::Discretization;
    use crate::deformable::sheet::sheet;
    use geometry::{Mesh, primitive};
    use rstest::rstest;
    use shot::Shape;

    fn sheet_of(shape: Shape, mesh: Mesh) -> Discretization {
        sheet(&Mesh::refined(&shape, mesh, 0.05, 100_000).unwrap()).0
    }

    fn plane() -> Discretization {
        sheet_of(Shape::plane(1.0, 0.6), primitive::plane(1.0, 0.6))
    }

    fn regions(of: &Discretization) -> (FaceTree, UnfoldedRegions) {
        let tree = FaceTree::new(&of.faces, &of.rest);
        let regions = UnfoldedRegions::new(&of.faces, &of.rest, &tree);
        (tree, regions)
    }

    /// The faces below each node of the hierarchy.
    fn faces_below(tree: &FaceTree, nodes: usize) -> Vec<Vec<u32>> {
        let sets = std::cell::RefCell::new(Vec::<Vec<u32>>::new());
        let put = |set: Vec<u32>| {
            sets.borrow_mut().push(set);
            sets.borrow().len() - 1
        };
        let joined = |a: usize, b: usize| {
            let both = [sets.borrow()[a].clone(), sets.borrow()[b].clone()].concat();
            put(both)
        };
        let numbers = tree.each_node(|face| put(vec![face]), joined);
        assert_eq!(numbers.len(), nodes);
        numbers.iter().map(|i| sets.borrow()[*i].clone()).collect()
    }

    /// A sheet in waves, which goes on to be in others.
    fn waved(rest: DVec3, height: f64, phase: f64) -> DVec3 {
        let at = DVec3::new(rest.x, height * (9.0 * rest.x + 4.0 * rest.z + phase).sin(), rest.z);
        glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.7, 0.3 + 0.1 * phase, 1.1) * at + DVec3::X * 5.0
    }

    #[rstest]
    fn parts_that_are_kept_apart_stay_half_as_far_apart_as_at_rest(
        #[values(0.0, 0.03, 0.1, 0.4)] height: f64,
    ) {
        let sheet = plane();
        let (tree, mut regions) = regions(&sheet);
        let (from, to): (Vec<DVec3>, Vec<DVec3>) =
            sheet.rest.iter().map(|p| (waved(*p, height, 0.0), waved(*p, height, 0.2))).unzip();
        let points: Vec<PointWay> = (from.iter().zip(&to))
            .map(|(a, b)| PointWay { x: a.as_vec3a(), moves: (*b - *a).as_vec3a() })
            .collect();
        regions.update(&points);
        let nodes = regions.patches.len() as u32;
        let below = faces_below(&tree, nodes as usize);
        let mut kept = 0;
        for a in 0..nodes {
            for b in (a..nodes).filter(|b| regions.keeps_apart(a, *b)) {
                kept += 1;
                for (one, two) in below[a as usize].iter().zip(&below[b as usize]) {
                    let [p, q] = [one, two].map(|face| sheet.faces[*face as usize][0] as usize);
                    let at_rest = sheet.rest[p].distance(sheet.rest[q]);
                    for step in 0..=4 {
                        let t = 0.25 * f64::from(step);
                        let apart = from[p].lerp(to[p], t).distance(from[q].lerp(to[q], t));
                        assert!(apart >= 0.5 * at_rest, "{apart} of {at_rest}");
                    }
                }
            }
        }
        assert_eq!(height < 0.4, kept > 0, "{kept}");
        assert_eq!(height < 0.1, regions.keeps_apart(0, 0));
    }

    #[test]
    fn nothing_is_said_of_what_a_cut_parts_or_a_curved_body() {
        // A strip in the shape of a U: the straight way between its arms leaves it.
        let mut u = plane();
        let middle = |face: &[u32; 3]| face.iter().map(|p| u.rest[*p as usize]).sum::<DVec3>() / 3.0;
        let faces: Vec<[u32; 3]> = u
            .faces
            .iter()
            .copied()
            .filter(|face| middle(face).x < -0.3 || middle(face).z.abs() > 0.1)
            .collect();
        assert!(faces.len() < u.faces.len());
        u.faces = faces;
        let (_, mut whole) = regions(&plane());
        let (_, mut parted) = regions(&u);
        let still = |sheet: &Discretization| -> Vec<PointWay> {
            let at = |x: &DVec3| PointWay { x: x.as_vec3a(), moves: Vec3A::ZERO };
            sheet.rest.iter().map(at).collect()
        };
        whole.update(&still(&u));
        parted.update(&still(&u));
        assert!(whole.keeps_apart(0, 0) && !parted.keeps_apart(0, 0));
        // A disc is convex; a sphere is not flat.
        let disc = sheet_of(Shape::plane(1.0, 1.0), disc());
        let (_, mut regions_of_disc) = regions(&disc);
        regions_of_disc.update(&still(&disc));
        assert!(regions_of_disc.keeps_apart(0, 0));
        let sphere = sheet_of(Shape::sphere(0.5), primitive::sphere(0.5, 24));
        assert!(regions(&sphere).1.patches.is_empty());
    }

    /// A fan of faces.
    fn disc() -> Mesh {
        let rim = (0..32).map(|i| {
            let (sin, cos) = (i as f32 * std::f32::consts::TAU / 32.0).sin_cos();
            glam::Vec3::new(cos, 0.0, sin)
        });
        let positions: Vec<glam::Vec3> = std::iter::once(glam::Vec3::ZERO).chain(rim).collect();
        let triangles = (0..32).map(|i| [0, 1 + (i + 1) % 32, 1 + i]).collect();
        Mesh { positions, triangles, ..Mesh::default() }
    }
}
