//! A mesh cut into pieces that lie flat.
//!
//! Pieces grow over faces whose normals are near their mean (D. Cohen-Steiner, P. Alliez and M. Desbrun, *Variational shape
//! approximation*, 2004, without its iteration). Each is laid flat as rigidly as possible (L. Liu, L. Zhang, Y. Xu, C. Gotsman
//! and S. Gortler, *A local/global approach to mesh parameterization*, 2008): the rotation that is nearest to the map of each
//! face, then the positions that fit all rotations best, in turn; the positions by conjugate gradients. Pieces are packed in
//! rows, all in one scale.

use super::with_corners;
use crate::{Mesh, Weld};
use glam::{Vec2, Vec3};
use std::collections::{BinaryHeap, HashMap};

/// A face joins a piece if its normal is nearer to the piece's mean than this angle: its cosine.
const WITHIN: f32 = 0.5;
/// Pieces of less than this part of the surface are slivers.
const LEAST_PIECE: f32 = 0.002;
/// Rounds of rotations and positions.
const ROUNDS: usize = 20;
/// Faces that are gone through in all rounds of all pieces: large meshes take fewer rounds, so that none takes long.
const FACES: usize = 200_000_000;
/// Most steps of conjugate gradients in a round.
const STEPS: usize = 200;
/// Distance between pieces, as a part of the side of the square.
const GAP: f32 = 0.01;

/// The mesh with UVs of 0–1 in pieces that do not overlap.
pub(super) fn unwrapped(mesh: Mesh) -> Mesh {
    let weld = Weld::new(&mesh.positions);
    let faces = weld.faces(&mesh.triangles);
    let at: Vec<Vec3> = weld.vertex_of.iter().map(|v| mesh.positions[*v as usize]).collect();
    let mut uvs = vec![[Vec2::ZERO; 3]; faces.len()];
    let mut pieces: Vec<Piece> =
        pieces(&faces, &at).into_iter().map(|of| Piece::new(&faces, &at, of)).collect();
    // Passes over all faces that there is time for: in small meshes all of them.
    let passes = FACES / faces.len().max(1);
    let rounds = (passes / STEPS).clamp(4, ROUNDS);
    let steps = (passes / rounds).clamp(20, STEPS);
    pieces.iter_mut().for_each(|piece| piece.flatten(rounds, steps));
    pack(&mut pieces);
    for piece in &pieces {
        for (face, corners) in piece.faces.iter().zip(&piece.corners) {
            uvs[*face] = corners.map(|point| piece.flat[point as usize]);
        }
    }
    with_corners(mesh, &uvs)
}

/// The faces of each piece.
fn pieces(faces: &[[u32; 3]], at: &[Vec3]) -> Vec<Vec<usize>> {
    let normal = |face: usize| {
        let [a, b, c] = faces[face].map(|p| at[p as usize]);
        (b - a).cross(c - a)
    };
    let mut beside: HashMap<[u32; 2], Vec<usize>> = HashMap::new();
    for (face, &[a, b, c]) in faces.iter().enumerate() {
        for (from, to) in [(a, b), (b, c), (c, a)] {
            beside.entry([from.min(to), from.max(to)]).or_default().push(face);
        }
    }
    let mut piece_of = vec![usize::MAX; faces.len()];
    let mut pieces = Vec::new();
    // The largest faces begin first: they are the flattest parts.
    let mut order: Vec<usize> = (0..faces.len()).collect();
    order.sort_by(|a, b| normal(*b).length().total_cmp(&normal(*a).length()).then(a.cmp(b)));
    for &first in &order {
        if piece_of[first] != usize::MAX {
            continue;
        }
        let own = pieces.len();
        let (mut list, mut sum) = (Vec::new(), Vec3::ZERO);
        // The face whose normal is nearest comes first, so that pieces grow evenly.
        let mut next = BinaryHeap::from([(u32::MAX, std::cmp::Reverse(first))]);
        while let Some((_, std::cmp::Reverse(face))) = next.pop() {
            if piece_of[face] != usize::MAX {
                continue;
            }
            let of = normal(face);
            let (mean, unit) = (sum.normalize_or_zero(), of.normalize_or_zero());
            if sum != Vec3::ZERO && unit != Vec3::ZERO && mean.dot(unit) < WITHIN {
                continue;
            }
            piece_of[face] = own;
            sum += of;
            list.push(face);
            let [a, b, c] = faces[face];
            for (from, to) in [(a, b), (b, c), (c, a)] {
                let around = &beside[&[from.min(to), from.max(to)]];
                for &other in
                    around.iter().filter(|other| around.len() == 2 && piece_of[**other] == usize::MAX)
                {
                    let near = sum.normalize_or_zero().dot(normal(other).normalize_or_zero());
                    next.push((((near + 1.0) * 1e6) as u32, std::cmp::Reverse(other)));
                }
            }
        }
        pieces.push(list);
    }
    // Slivers go to the piece that they share most edges with.
    let areas: Vec<f32> =
        pieces.iter().map(|list| list.iter().map(|face| normal(*face).length()).sum::<f32>()).collect();
    let small = LEAST_PIECE * areas.iter().sum::<f32>();
    for sliver in (0..pieces.len()).filter(|piece| areas[*piece] < small) {
        let mut shared: HashMap<usize, usize> = HashMap::new();
        for &face in &pieces[sliver] {
            let [a, b, c] = faces[face];
            for (from, to) in [(a, b), (b, c), (c, a)] {
                let around = &beside[&[from.min(to), from.max(to)]];
                let others = around.iter().map(|other| piece_of[*other]).filter(|of| *of != sliver);
                others.for_each(|of| *shared.entry(of).or_default() += 1);
            }
        }
        let most = shared.into_iter().max_by_key(|(piece, count)| (*count, std::cmp::Reverse(*piece)));
        if let Some((into, _)) = most {
            let list = std::mem::take(&mut pieces[sliver]);
            list.iter().for_each(|face| piece_of[*face] = into);
            pieces[into].extend(list);
        }
    }
    pieces.retain(|list| !list.is_empty());
    pieces
}

/// A piece while it is laid flat.
struct Piece {
    /// Its faces in the mesh.
    faces: Vec<usize>,
    /// Their corners, among its points.
    corners: Vec<[u32; 3]>,
    /// The corners of each face in the plane of the face, m, and the cotangents of the angles across from each edge.
    planes: Vec<([Vec2; 3], [f32; 3])>,
    /// Where its points lie flat, m, and in the end UVs.
    flat: Vec<Vec2>,
}

impl Piece {
    fn new(faces: &[[u32; 3]], at: &[Vec3], of: Vec<usize>) -> Self {
        let mut numbers: HashMap<u32, u32> = HashMap::new();
        let mut points = Vec::new();
        let mut number = |p: u32| {
            *numbers.entry(p).or_insert_with(|| {
                points.push(p);
                points.len() as u32 - 1
            })
        };
        let corners: Vec<[u32; 3]> = of.iter().map(|face| faces[*face].map(&mut number)).collect();
        let area = |face: &usize| {
            let [a, b, c] = faces[*face].map(|p| at[p as usize]);
            (b - a).cross(c - a)
        };
        let normal = of.iter().map(area).sum::<Vec3>().normalize_or(Vec3::Y);
        // Upright where it can be: V goes up as far as the piece leans.
        let up = if normal.y.abs() < 0.9 { Vec3::Y } else { Vec3::NEG_Z };
        let right = up.cross(normal).normalize_or(Vec3::X);
        let up = normal.cross(right);
        let flat =
            points.iter().map(|p| Vec2::new(at[*p as usize].dot(right), at[*p as usize].dot(up))).collect();
        let plane = |face: &usize| {
            let [a, b, c] = faces[*face].map(|p| at[p as usize]);
            let (e, f) = (b - a, c - a);
            let length = e.length().max(1e-12);
            let corners = [
                Vec2::ZERO,
                Vec2::new(length, 0.0),
                Vec2::new(f.dot(e) / length, e.cross(f).length() / length),
            ];
            // Obtuse angles count as right ones, so that the weights stay positive.
            let cotangent = |p: Vec2, q: Vec2| (p.dot(q) / p.perp_dot(q).abs().max(1e-9)).clamp(0.02, 50.0);
            let [a, b, c] = corners;
            (corners, [cotangent(b - a, c - a), cotangent(c - b, a - b), cotangent(a - c, b - c)])
        };
        let planes = of.iter().map(plane).collect();
        Self { faces: of, corners, planes, flat }
    }

    /// The edges of a face by the numbers of its corners, with their weights: the cotangents of the angles across.
    fn edges(weights: [f32; 3]) -> [(usize, usize, f32); 3] {
        [(0, 1, weights[2]), (1, 2, weights[0]), (2, 0, weights[1])]
    }

    fn flatten(&mut self, rounds: usize, steps: usize) {
        for _ in 0..rounds {
            let sums = self.rotated();
            self.fit(&sums, steps);
        }
    }

    /// For each point, the sum over its edges of weight × rotated edge.
    fn rotated(&self) -> Vec<Vec2> {
        let mut sums = vec![Vec2::ZERO; self.flat.len()];
        for (corners, (plane, weights)) in self.corners.iter().zip(&self.planes) {
            // The nearest rotation of a 2 × 2 map is that of its conformal part.
            let mut spin = Vec2::ZERO;
            for (i, k, w) in Self::edges(*weights) {
                let (from, to) =
                    (plane[k] - plane[i], self.flat[corners[k] as usize] - self.flat[corners[i] as usize]);
                spin += w * Vec2::new(from.dot(to), from.perp_dot(to));
            }
            let spin = spin.normalize_or(Vec2::X);
            for (i, k, w) in Self::edges(*weights) {
                let edge = w * spin.rotate(plane[k] - plane[i]);
                sums[corners[k] as usize] += edge;
                sums[corners[i] as usize] -= edge;
            }
        }
        sums
    }

    /// The positions whose edges fit best: L x = b, by conjugate gradients from where the points are.
    fn fit(&mut self, b: &[Vec2], steps: usize) {
        let multiply = |x: &[Vec2]| {
            let mut image = vec![Vec2::ZERO; x.len()];
            for (corners, (_, weights)) in self.corners.iter().zip(&self.planes) {
                for (i, k, w) in Self::edges(*weights) {
                    let (i, k) = (corners[i] as usize, corners[k] as usize);
                    let pull = w * (x[k] - x[i]);
                    image[k] += pull;
                    image[i] -= pull;
                }
            }
            image
        };
        let mut diagonal = vec![1e-12f32; self.flat.len()];
        for (corners, (_, weights)) in self.corners.iter().zip(&self.planes) {
            for (i, k, w) in Self::edges(*weights) {
                diagonal[corners[i] as usize] += w;
                diagonal[corners[k] as usize] += w;
            }
        }
        let dot = |a: &[Vec2], b: &[Vec2]| a.iter().zip(b).map(|(a, b)| f64::from(a.dot(*b))).sum::<f64>();
        let image = multiply(&self.flat);
        let mut residual: Vec<Vec2> = b.iter().zip(&image).map(|(b, image)| *b - *image).collect();
        let solve = |r: &[Vec2]| -> Vec<Vec2> { r.iter().zip(&diagonal).map(|(r, d)| *r / *d).collect() };
        let mut step = solve(&residual);
        let mut norm = dot(&residual, &step);
        let enough = 1e-8 * dot(b, &solve(b));
        for _ in 0..steps {
            if norm <= enough || !norm.is_finite() {
                break;
            }
            let image = multiply(&step);
            let length = (norm / dot(&step, &image).max(1e-300)) as f32;
            for i in 0..step.len() {
                self.flat[i] += step[i] * length;
                residual[i] -= image[i] * length;
            }
            let solved = solve(&residual);
            let after = dot(&residual, &solved);
            let back = (after / norm) as f32;
            step.iter_mut().zip(&solved).for_each(|(step, solved)| *step = *solved + *step * back);
            norm = after;
        }
    }

    fn bounds(&self) -> (Vec2, Vec2) {
        let all = self.flat.iter();
        all.fold((Vec2::INFINITY, Vec2::NEG_INFINITY), |(low, high), p| (low.min(*p), high.max(*p)))
    }
}

/// Lays pieces in rows within 0–1, the highest first.
fn pack(pieces: &mut [Piece]) {
    let sizes: Vec<Vec2> = pieces.iter().map(|piece| piece.bounds()).map(|(low, high)| high - low).collect();
    let mut order: Vec<usize> = (0..pieces.len()).collect();
    order.sort_by(|a, b| sizes[*b].y.total_cmp(&sizes[*a].y).then(a.cmp(b)));
    let area: f32 = sizes.iter().map(|size| size.x * size.y).sum();
    let widest = sizes.iter().map(|size| size.x).fold(0.0, f32::max);
    // Rows leave some room: the side of the square grows until all rows fit.
    let mut side = area.sqrt().max(widest).max(1e-9);
    let places = loop {
        let gap = GAP * side;
        let (mut at, mut row, mut places) = (Vec2::ZERO, 0.0f32, vec![Vec2::ZERO; pieces.len()]);
        for &i in &order {
            if at.x > 0.0 && at.x + sizes[i].x > side {
                at = Vec2::new(0.0, at.y + row + gap);
                row = 0.0;
            }
            places[i] = at;
            row = row.max(sizes[i].y);
            at.x += sizes[i].x + gap;
        }
        if at.y + row <= side || !side.is_finite() {
            break places;
        }
        side *= 1.05;
    };
    for (piece, place) in pieces.iter_mut().zip(places) {
        let (low, _) = piece.bounds();
        piece.flat.iter_mut().for_each(|p| *p = ((*p - low + place) / side).clamp(Vec2::ZERO, Vec2::ONE));
    }
}
