//! Places on a mesh or a line, chosen evenly by area, length, number or volume.

use crate::moving_surface::barycentric;
use crate::{Bvh, Mesh, Surface};
use glam::{Vec2, Vec3};
use rayon::prelude::*;
use std::collections::HashMap;

/// A place, the way out of the surface or line there, and its UV.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Site {
    /// Position, m.
    pub position: Vec3,
    /// Unit vector away from the surface; zero where there is none.
    pub normal: Vec3,
    /// UV of the mesh there; zero where there is none.
    pub uv: Vec2,
    /// Weight of the mesh's vertices there; 1 where there is none.
    pub weight: f32,
}

/// All places of one sort; three numbers in 0–1 choose one.
pub struct Sites {
    kind: Kind,
    /// Sums of areas or lengths, rising to the whole.
    sums: Vec<f64>,
}

enum Kind {
    /// Triangles of three corners each.
    Faces(Vec<[Corner; 3]>),
    /// Pieces of lines.
    Pieces(Vec<[Corner; 2]>),
    Points(Vec<Corner>),
    Inside {
        low: Vec3,
        size: Vec3,
        surface: Box<Surface>,
    },
}

#[derive(Clone, Copy)]
struct Corner {
    position: Vec3,
    normal: Vec3,
    uv: Vec2,
    weight: f32,
}

impl Corner {
    const fn bare(position: Vec3) -> Self {
        Self { position, normal: Vec3::ZERO, uv: Vec2::ZERO, weight: 1.0 }
    }

    fn site(self) -> Site {
        Site { position: self.position, normal: self.normal, uv: self.uv, weight: self.weight }
    }
}

/// Faces that meet at less than this angle from flat share no edge to be born on.
const FLAT: f32 = 0.2;
/// Tries to find a place inside a volume that fills its box badly.
const TRIES: u32 = 256;

impl Sites {
    /// On the faces of a mesh, by area.
    pub fn surface(mesh: &Mesh) -> Self {
        let faces: Vec<[Corner; 3]> = mesh.triangles.iter().map(|t| t.map(|v| corner(mesh, v))).collect();
        let area =
            |[a, b, c]: &[Corner; 3]| 0.5 * (b.position - a.position).cross(c.position - a.position).length();
        Self { sums: sums(faces.iter().map(area)), kind: Kind::Faces(faces) }
    }

    /// On the edges of a mesh at which faces meet at an angle or that have one
    /// face, by length; on all edges if there are no such ones.
    pub fn edges(mesh: &Mesh) -> Self {
        // Vertices are split where normals jump, so edges go by place.
        let key = |v: u32| mesh.positions[v as usize].to_array().map(f32::to_bits);
        type Edge = ([Corner; 2], Vec<Vec3>);
        let mut order: Vec<([u32; 3], [u32; 3])> = Vec::new();
        let mut edges: HashMap<([u32; 3], [u32; 3]), Edge> = HashMap::new();
        for t in &mesh.triangles {
            let [a, b, c] = t.map(|v| mesh.positions[v as usize]);
            let normal = (b - a).cross(c - a).normalize_or_zero();
            for (from, to) in [(t[0], t[1]), (t[1], t[2]), (t[2], t[0])] {
                let name = if key(from) < key(to) { (key(from), key(to)) } else { (key(to), key(from)) };
                let edge = edges.entry(name).or_insert_with(|| {
                    order.push(name);
                    ([corner(mesh, from), corner(mesh, to)], Vec::new())
                });
                edge.1.push(normal);
            }
        }
        let sharp = |normals: &[Vec3]| normals.len() == 1 || normals[0].dot(normals[1]) < FLAT.cos();
        let any_sharp = order.iter().any(|name| sharp(&edges[name].1));
        let mut pieces = Vec::new();
        for name in &order {
            let (ends, normals) = &edges[name];
            if any_sharp && !sharp(normals) {
                continue;
            }
            let normal = normals.iter().sum::<Vec3>().normalize_or_zero();
            pieces.push(ends.map(|end| Corner { normal, ..end }));
        }
        let length = |[a, b]: &[Corner; 2]| a.position.distance(b.position);
        Self { sums: sums(pieces.iter().map(length)), kind: Kind::Pieces(pieces) }
    }

    /// At the vertices of a mesh, each place once.
    pub fn vertices(mesh: &Mesh) -> Self {
        let mut seen = std::collections::HashSet::new();
        let all = (0..mesh.positions.len() as u32).map(|v| corner(mesh, v));
        Self::at(all.filter(|at| seen.insert(at.position.to_array().map(f32::to_bits))).collect())
    }

    /// Inside a closed mesh.
    pub fn inside(mesh: &Mesh) -> Self {
        let bounds = mesh.bounds();
        let kind =
            Kind::Inside { low: bounds.min, size: bounds.size(), surface: Box::new(Surface::new(mesh)) };
        Self { sums: vec![if mesh.is_closed() { 1.0 } else { 0.0 }], kind }
    }

    /// Along strokes of points, by length.
    pub fn line(strokes: &[Vec<Vec3>]) -> Self {
        let pieces: Vec<[Corner; 2]> = strokes
            .iter()
            .flat_map(|stroke| stroke.windows(2))
            .map(|pair| [Corner::bare(pair[0]), Corner::bare(pair[1])])
            .collect();
        let length = |[a, b]: &[Corner; 2]| a.position.distance(b.position);
        Self { sums: sums(pieces.iter().map(length)), kind: Kind::Pieces(pieces) }
    }

    /// On given points, with their UVs.
    pub fn points(positions: impl IntoIterator<Item = (Vec3, Vec2)>) -> Self {
        Self::at(
            positions.into_iter().map(|(position, uv)| Corner { uv, ..Corner::bare(position) }).collect(),
        )
    }

    /// At points within a mesh, each with the UV and the weight of the nearest place of the surface, and no normal.
    pub fn within(mesh: &Mesh, points: &[Vec3]) -> Self {
        let bvh = Bvh::build(&mesh.positions, &mesh.triangles);
        let corner = |&position: &Vec3| {
            let Some((on, triangle)) = bvh.nearest(position, f32::INFINITY) else {
                return Corner::bare(position);
            };
            let corners = mesh.triangles[triangle as usize].map(|v| corner(mesh, v));
            let weights = barycentric(corners.map(|corner| corner.position), on);
            let (mut uv, mut weight) = (Vec2::ZERO, 0.0);
            for (corner, part) in corners.iter().zip(weights) {
                (uv, weight) = (uv + corner.uv * part, weight + corner.weight * part);
            }
            Corner { uv, weight, ..Corner::bare(position) }
        };
        Self::at(points.par_iter().with_min_len(256).map(corner).collect())
    }

    fn at(points: Vec<Corner>) -> Self {
        Self { sums: sums(points.iter().map(|_| 1.0)), kind: Kind::Points(points) }
    }

    /// Whole area (m²), length (m) or number; 1 for the inside of a closed mesh, 0 of an open one.
    pub fn whole(&self) -> f64 {
        self.sums.last().copied().unwrap_or(0.0)
    }

    /// The place that three numbers in 0–1 choose; none if there is no place.
    /// `more` gives further numbers where these do not do.
    pub fn site(&self, u: [f32; 3], mut more: impl FnMut() -> f32) -> Option<Site> {
        let whole = self.whole();
        if whole <= 0.0 {
            return None;
        }
        let at = f64::from(u[0]) * whole;
        let i = self.sums.partition_point(|&sum| sum <= at).min(self.sums.len() - 1);
        let before = if i == 0 { 0.0 } else { self.sums[i - 1] };
        Some(match &self.kind {
            Kind::Faces(faces) => {
                let [a, b, c] = &faces[i];
                // Evenly over a triangle (R. Osada et al., *Shape distributions*, 2002).
                let (root, s) = (u[1].sqrt(), u[2]);
                let (wa, wb, wc) = (1.0 - root, root * (1.0 - s), root * s);
                Site {
                    position: a.position * wa + b.position * wb + c.position * wc,
                    normal: (b.position - a.position).cross(c.position - a.position).normalize_or_zero(),
                    uv: a.uv * wa + b.uv * wb + c.uv * wc,
                    weight: a.weight * wa + b.weight * wb + c.weight * wc,
                }
            }
            Kind::Pieces(pieces) => {
                let [a, b] = &pieces[i];
                let t = ((at - before) / (self.sums[i] - before).max(1e-30)) as f32;
                Site {
                    position: a.position.lerp(b.position, t),
                    normal: a.normal,
                    uv: a.uv.lerp(b.uv, t),
                    weight: a.weight + (b.weight - a.weight) * t,
                }
            }
            Kind::Points(points) => points[i].site(),
            Kind::Inside { low, size, surface } => {
                let mut position = *low + *size * Vec3::from(u);
                let mut tries = 0;
                while !surface.contains(position) {
                    if tries == TRIES {
                        return None;
                    }
                    position = *low + *size * Vec3::new(more(), more(), more());
                    tries += 1;
                }
                Corner::bare(position).site()
            }
        })
    }

    /// The k-th of evenly spread places; none if it falls outside a volume, and
    /// the next is to be asked for. `of` so many a line is divided evenly.
    pub fn even(&self, k: u32, of: Option<u32>) -> Option<Site> {
        let whole = self.whole();
        if whole <= 0.0 {
            return None;
        }
        match &self.kind {
            Kind::Faces(_) => {
                let [a, b] = spread(k, PLANE);
                // The remainder of the random number that chose the face is used in the face,
                // so that neighbours on it are spread as the pairs are.
                let i = self.sums.partition_point(|&sum| sum <= a * whole).min(self.sums.len() - 1);
                let before = if i == 0 { 0.0 } else { self.sums[i - 1] };
                let rest = (a * whole - before) / (self.sums[i] - before).max(1e-30);
                self.site([a as f32, rest as f32, b as f32], || 0.0)
            }
            Kind::Pieces(_) => {
                let [golden] = spread(k, LINE);
                let fraction = of.map_or(golden, |of| (f64::from(k % of) + 0.5) / f64::from(of));
                self.site([fraction as f32, 0.0, 0.0], || 0.0)
            }
            Kind::Points(points) => self.nth((spread::<1>(k, LINE)[0] * points.len() as f64) as usize),
            Kind::Inside { low, size, surface } => {
                let position = *low + *size * Vec3::from(spread(k, SPACE).map(|u| u as f32));
                surface.contains(position).then(|| Corner::bare(position).site())
            }
        }
    }

    /// The place of a number, counted round; for points only in their order.
    pub fn nth(&self, number: usize) -> Option<Site> {
        let Kind::Points(points) = &self.kind else { return None };
        points.get(number % points.len().max(1)).map(|point| point.site())
    }
}

/// Roots of x² = x + 1, x³ = x + 1, x⁴ = x + 1.
const LINE: f64 = 1.618_033_988_749_895;
const PLANE: f64 = 1.324_717_957_244_746;
const SPACE: f64 = 1.220_744_084_605_759_5;

/// The k-th of numbers in 0–1 that fill N dimensions evenly (M. Roberts, *The
/// unreasonable effectiveness of quasirandom sequences*, 2018).
fn spread<const N: usize>(k: u32, root: f64) -> [f64; N] {
    std::array::from_fn(|axis| (0.5 + f64::from(k) / root.powi(axis as i32 + 1)).fract())
}

fn corner(mesh: &Mesh, v: u32) -> Corner {
    let v = v as usize;
    let weight = mesh.weights.get(v).copied().unwrap_or(1.0);
    Corner { position: mesh.positions[v], normal: mesh.normals[v], uv: mesh.uvs[v], weight }
}

fn sums(parts: impl Iterator<Item = f32>) -> Vec<f64> {
    let mut sum = 0.0;
    parts
        .map(|part| {
            sum += f64::from(part);
            sum
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;

    fn random() -> impl FnMut() -> f32 {
        let mut state = 7u32;
        move || {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (state >> 8) as f32 / (1 << 24) as f32
        }
    }

    #[test]
    fn a_box_has_twelve_edges_of_its_own_and_eight_vertices() {
        let mesh = primitive::cuboid(Vec3::new(1.0, 2.0, 3.0), 0.0);
        assert!((Sites::edges(&mesh).whole() - 24.0).abs() < 1e-5);
        assert_eq!(Sites::vertices(&mesh).whole(), 8.0);
        assert!((Sites::surface(&mesh).whole() - 22.0).abs() < 1e-5);
    }

    #[test]
    fn places_inside_are_inside_and_an_open_mesh_has_none() {
        let sites = Sites::inside(&primitive::torus(1.0, 0.3, primitive::AROUND));
        let mut random = random();
        for _ in 0..500 {
            let u = [random(), random(), random()];
            let position = sites.site(u, &mut random).unwrap().position;
            assert!((position.x.hypot(position.z) - 1.0).hypot(position.y) < 0.3);
        }
        assert!(Sites::inside(&primitive::plane(1.0, 1.0)).site([0.5; 3], || 0.5).is_none());
    }

    /// Mean distance to the nearest, times the square root of their number.
    fn apart(positions: &[Vec3]) -> f32 {
        let nearest = |p: &Vec3| {
            positions.iter().filter(|q| *q != p).map(|q| q.distance(*p)).fold(f32::INFINITY, f32::min)
        };
        positions.iter().map(nearest).sum::<f32>() / positions.len() as f32 * (positions.len() as f32).sqrt()
    }

    #[test]
    fn even_places_on_a_face_lie_further_apart_than_random_ones() {
        let sites = Sites::surface(&primitive::plane(1.0, 1.0));
        let even: Vec<Vec3> =
            (0..600).filter_map(|k| sites.even(k, None)).map(|site| site.position).collect();
        let mut random = random();
        let by_chance: Vec<Vec3> = (0..600)
            .filter_map(|_| sites.site([random(), random(), random()], || 0.5))
            .map(|site| site.position)
            .collect();
        // By chance it is a half.
        assert!((apart(&by_chance) - 0.5).abs() < 0.05, "{}", apart(&by_chance));
        assert!(apart(&even) > 0.62, "{}", apart(&even));
    }

    #[test]
    fn even_places_are_as_many_on_each_side_and_inside_only() {
        let sites = Sites::inside(&primitive::sphere(1.0, primitive::AROUND));
        let positions: Vec<Vec3> =
            (0..4_000).filter_map(|k| sites.even(k, None)).map(|site| site.position).collect();
        // A ball fills π/6 of its box; its mesh a little less.
        assert!((positions.len() as f32 / 4_000.0 - 0.52).abs() < 0.015, "{}", positions.len());
        let fraction = positions.iter().filter(|p| p.x + p.y > 0.0).count() as f32 / positions.len() as f32;
        assert!((fraction - 0.5).abs() < 0.01 && positions.iter().all(|p| p.length() <= 1.0), "{fraction}");
        let line = Sites::line(&[vec![Vec3::ZERO, Vec3::X]]);
        let xs: Vec<f32> = (0..4).map(|k| line.even(k, Some(4)).unwrap().position.x).collect();
        assert_eq!(xs, [0.125, 0.375, 0.625, 0.875]);
    }

    #[test]
    fn shares_of_a_line_are_by_length_over_all_strokes() {
        let sites = Sites::line(&[vec![Vec3::ZERO, Vec3::X], vec![Vec3::Y, Vec3::Y + 3.0 * Vec3::X]]);
        let at = |fraction| sites.site([fraction, 0.0, 0.0], || 0.0).unwrap().position;
        assert_eq!((at(0.0), at(0.125)), (Vec3::ZERO, 0.5 * Vec3::X));
        assert!(at(0.625).distance(Vec3::new(1.5, 1.0, 0.0)) < 1e-6);
    }
}
