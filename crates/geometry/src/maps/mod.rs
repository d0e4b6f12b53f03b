//! Weights of maps: what a [`shot::map::Map`] is at each point of a mesh.
//!
//! The mesh is taken at rest, in the frame of its element. Vertices at one place are one point ([`Weld`]).

mod border;
mod strokes;

use crate::deformation::curvatures;
use crate::moving_surface::barycentric;
use crate::{Bvh, Image, Mesh, Topology, Weld};
use glam::{Vec2, Vec3};
use noise::{NoiseFn, Perlin};
use shot::map::{LayerSource, Map};
use shot::{Id, Side};

/// A mesh at rest, prepared for maps.
pub struct MapSurface {
    mesh: Mesh,
    weld: Weld,
    /// Position of each point, m.
    points: Vec<Vec3>,
    faces: Vec<[u32; 3]>,
    /// The points next to each point, from `starts` on.
    starts: Vec<u32>,
    neighbours: Vec<u32>,
    /// Mean length of the edges, m.
    edge_m: f32,
    bvh: Bvh,
}

/// What maps need of the shot, at one time, in the frame of the element.
pub trait MapContext {
    /// The weights of a region at points; none: the region is not there.
    fn region(&self, region: Id, points: &[Vec3]) -> Option<Vec<f32>>;
    /// The strokes of a curve as straight pieces, m; none: the curve is not there.
    fn curve(&self, curve: Id) -> Option<Vec<Vec<Vec3>>>;
    /// An image among the assets.
    fn image(&self, asset: &str) -> Option<&Image>;
    /// The corners of the faces of a group, m; none: the mesh has no such group.
    fn group(&self, name: &str) -> Option<Vec<[Vec3; 3]>>;
}

/// Distance below which a point lies on a face, against the size of the mesh.
const ON_FACE: f32 = 1e-5;

/// Most passes of a blur or of an evening brush: a blur of 20 edges.
const MAX_PASSES: f32 = 1_600.0;

impl MapSurface {
    /// Of a mesh at rest.
    pub fn new(mesh: Mesh) -> Self {
        let weld = Weld::new(&mesh.positions);
        let points: Vec<Vec3> = weld.vertex_of.iter().map(|v| mesh.positions[*v as usize]).collect();
        let faces = weld.faces(&mesh.triangles);
        let both_ways = |[a, b, c]: &[u32; 3]| [(*a, *b), (*b, *a), (*b, *c), (*c, *b), (*c, *a), (*a, *c)];
        let mut edges: Vec<(u32, u32)> =
            faces.iter().flat_map(both_ways).filter(|(from, to)| from != to).collect();
        edges.sort_unstable();
        edges.dedup();
        let mut starts = vec![0; points.len() + 1];
        edges.iter().for_each(|(from, _)| starts[*from as usize + 1] += 1);
        (0..points.len()).for_each(|i| starts[i + 1] += starts[i]);
        let length = |(a, b): &(u32, u32)| f64::from(points[*a as usize].distance(points[*b as usize]));
        let edge_m = edges.iter().map(length).sum::<f64>() / edges.len().max(1) as f64;
        let bvh = Bvh::build(&points, &faces);
        let neighbours = edges.into_iter().map(|(_, to)| to).collect();
        Self { mesh, weld, points, faces, starts, neighbours, edge_m: edge_m as f32, bvh }
    }

    /// The mesh.
    pub fn mesh(&self) -> &Mesh {
        &self.mesh
    }

    /// Positions of the points, m.
    pub fn points(&self) -> &[Vec3] {
        &self.points
    }

    /// The point of each vertex.
    pub fn point_of(&self) -> &[u32] {
        &self.weld.point_of
    }

    fn around(&self, point: usize) -> &[u32] {
        &self.neighbours[self.starts[point] as usize..self.starts[point + 1] as usize]
    }

    /// The weights of a map, 0–1 for each point.
    pub fn weights(&self, map: &Map, context: &dyn MapContext) -> Vec<f32> {
        let mut weights = vec![0.0; self.points.len()];
        for layer in &map.layers {
            if let LayerSource::Painted { strokes } = &layer.source {
                // Strokes even out and take away what is there, so they are not weights of their own.
                let mut painted = weights.clone();
                strokes.iter().for_each(|stroke| self.paint(stroke, &mut painted));
                mix(&mut weights, &painted, layer.amount, |_, painted| painted);
                continue;
            }
            let mut own = self.source(&layer.source, context);
            if layer.inverted {
                own.iter_mut().for_each(|weight| *weight = 1.0 - *weight);
            }
            mix(&mut weights, &own, layer.amount, |c, w| layer.operation.of(c, w));
        }
        (0..self.passes(map.blur_m)).for_each(|_| self.even_out(&mut weights, |_| 1.0));
        weights
    }

    /// Passes of evening out that spread weights by a standard deviation: each adds a quarter of an edge's square to
    /// the variance.
    fn passes(&self, deviation_m: f32) -> usize {
        (4.0 * (deviation_m / self.edge_m.max(1e-9)).powi(2)).min(MAX_PASSES).ceil() as usize
    }

    /// The weights of a layer that is not painted.
    fn source(&self, source: &LayerSource, context: &dyn MapContext) -> Vec<f32> {
        let count = self.points.len();
        let of_vertices = |of: &dyn Fn(usize) -> f32| {
            self.weld.vertex_of.iter().map(|v| of(*v as usize)).collect::<Vec<f32>>()
        };
        match source {
            LayerSource::Painted { .. } => vec![0.0; count],
            LayerSource::Whole {} => vec![1.0; count],
            LayerSource::Region { region } => {
                context.region(*region, &self.points).unwrap_or_else(|| vec![0.0; count])
            }
            LayerSource::Curve { curve, width_m, edge_m, grown, starts } => {
                let strokes = context.curve(*curve).unwrap_or_default();
                let grown = strokes::grown(&strokes, *grown, *starts);
                self.near_lines(&grown, *width_m, *edge_m)
            }
            LayerSource::Inside { curve, edge_m } => {
                self.inside_lines(&context.curve(*curve).unwrap_or_default(), *edge_m)
            }
            LayerSource::Border { width_m } => {
                let fall = |distance: f32| (1.0 - distance / width_m).clamp(0.0, 1.0);
                self.border_distances(*width_m).into_iter().map(fall).collect()
            }
            LayerSource::Side { side } => self.rising_to(*side),
            LayerSource::Curvature { radius_m } => {
                let of = curvatures(&Topology::of(&self.mesh), &self.mesh.positions);
                of_vertices(&|v| (of[v].abs() * radius_m).min(1.0))
            }
            LayerSource::Noise { size_m, seed } => {
                let noise = Perlin::new(*seed);
                let of = |p: &Vec3| {
                    let at = (p.as_dvec3() / f64::from(*size_m)).to_array();
                    (0.5 + 0.75 * noise.get(at) as f32).clamp(0.0, 1.0)
                };
                self.points.iter().map(of).collect()
            }
            LayerSource::Image { asset } => match context.image(asset) {
                Some(image) => {
                    let uv = |v: usize| self.mesh.uvs.get(v).copied().unwrap_or(Vec2::ZERO);
                    of_vertices(&|v| image.brightness(uv(v)))
                }
                None => vec![0.0; count],
            },
            LayerSource::Group { group } => match context.group(group) {
                Some(faces) => self.on_faces(&faces),
                None => vec![0.0; count],
            },
            LayerSource::Vertices {} => of_vertices(&|v| self.mesh.weights.get(v).copied().unwrap_or(0.0)),
        }
    }

    /// 1 at the points that lie on some faces.
    fn on_faces(&self, faces: &[[Vec3; 3]]) -> Vec<f32> {
        let positions: Vec<Vec3> = faces.iter().flatten().copied().collect();
        let corners: Vec<[u32; 3]> = (0..faces.len() as u32).map(|i| [3 * i, 3 * i + 1, 3 * i + 2]).collect();
        if corners.is_empty() {
            return vec![0.0; self.points.len()];
        }
        let bvh = Bvh::build(&positions, &corners);
        let close = ON_FACE * self.mesh.bounds().size().max_element();
        self.points.iter().map(|p| f32::from(bvh.nearest(*p, close).is_some())).collect()
    }

    /// From 0 at the opposite side to 1.
    fn rising_to(&self, side: Side) -> Vec<f32> {
        let along = |p: &Vec3| p.dot(side.axis());
        let (low, high) = (self.points.iter().map(along))
            .fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), s| (low.min(s), high.max(s)));
        let length = (high - low).max(1e-9);
        self.points.iter().map(|p| (along(p) - low) / length).collect()
    }

    /// Moves each weight by up to ½, times `by`, toward the mean of those next to it.
    fn even_out(&self, weights: &mut Vec<f32>, by: impl Fn(usize) -> f32) {
        let mean = |point: usize| {
            let around = self.around(point);
            let sum: f32 = around.iter().map(|p| weights[*p as usize]).sum();
            let (own, amount) = (weights[point], 0.5 * by(point));
            if around.is_empty() { own } else { own + amount * (sum / around.len() as f32 - own) }
        };
        *weights = (0..weights.len()).map(mean).collect();
    }

    /// The weight at the place of the surface nearest to a position, from those by point.
    pub fn at_place(&self, weights: &[f32], position: Vec3) -> f32 {
        let Some((on, face)) = self.bvh.nearest(position, f32::INFINITY) else { return 0.0 };
        let corners = self.faces[face as usize];
        let shares = barycentric(corners.map(|p| self.points[p as usize]), on);
        corners.iter().zip(shares).map(|(p, share)| share * weights[*p as usize]).sum()
    }

    /// The weights by vertex of those by point.
    pub fn by_vertex(&self, weights: &[f32]) -> Vec<f32> {
        self.weld.point_of.iter().map(|p| weights[*p as usize]).collect()
    }
}

fn mix(weights: &mut [f32], own: &[f32], amount: f32, operation: impl Fn(f32, f32) -> f32) {
    for (c, w) in weights.iter_mut().zip(own) {
        *c = (*c + amount * (operation(*c, *w) - *c)).clamp(0.0, 1.0);
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::primitive;
    use shot::Shape;
    use shot::map::MapLayer;
    use shot::region::Combine;

    pub struct Nothing;

    impl MapContext for Nothing {
        fn region(&self, _: Id, _: &[Vec3]) -> Option<Vec<f32>> {
            None
        }
        fn curve(&self, _: Id) -> Option<Vec<Vec<Vec3>>> {
            Some(vec![vec![Vec3::new(-0.5, 0.0, 0.0), Vec3::new(0.5, 0.0, 0.0)]])
        }
        fn image(&self, _: &str) -> Option<&Image> {
            None
        }
        fn group(&self, name: &str) -> Option<Vec<[Vec3; 3]>> {
            // The right half of a square of 1 m, as one large face that reaches over it.
            let corner = |x: f32, z: f32| Vec3::new(x, 0.0, z);
            (name == "right").then(|| vec![[corner(0.1, -9.0), corner(0.1, 9.0), corner(9.0, 0.0)]])
        }
    }

    pub fn sheet() -> MapSurface {
        let plane = primitive::plane(1.0, 1.0);
        MapSurface::new(Mesh::refined(&Shape::plane(1.0, 1.0), plane, 0.02, 10_000).unwrap())
    }

    fn at(surface: &MapSurface, weights: &[f32], x: f32, z: f32) -> f32 {
        let near = |p: &Vec3| p.distance_squared(Vec3::new(x, 0.0, z));
        let nearest =
            (0..weights.len()).min_by(|a, b| near(&surface.points[*a]).total_cmp(&near(&surface.points[*b])));
        weights[nearest.unwrap()]
    }

    #[test]
    fn a_group_weighs_on_its_faces_alone() {
        let sheet = sheet();
        let map = |group: &str| Map::of("group", LayerSource::Group { group: group.to_owned() });
        let weights = sheet.weights(&map("right"), &Nothing);
        for (p, weight) in sheet.points().iter().zip(&weights) {
            assert_eq!(*weight, f32::from(p.x >= 0.1 - 1e-4), "{p}");
        }
        assert!(weights.contains(&1.0) && weights.contains(&0.0));
        assert!(sheet.weights(&map("none"), &Nothing).iter().all(|weight| *weight == 0.0));
    }

    #[test]
    fn a_side_rises_and_a_border_falls_evenly() {
        let sheet = sheet();
        let side = sheet.weights(&Map::of("", LayerSource::Side { side: Side::Right }), &Nothing);
        let border = sheet.weights(&Map::of("", LayerSource::Border { width_m: 0.2 }), &Nothing);
        for (i, p) in sheet.points().iter().enumerate() {
            assert!((side[i] - (p.x + 0.5)).abs() < 1e-5);
            let away = 0.5 - p.x.abs().max(p.z.abs());
            assert!((border[i] - (1.0 - away / 0.2).max(0.0)).abs() < 1e-4, "{} at {p}", border[i]);
        }
    }

    #[test]
    fn layers_mix_by_their_operation_and_amount() {
        let sheet = sheet();
        let mut map = Map::of("", LayerSource::Side { side: Side::Right });
        let whole = |operation, amount, inverted| MapLayer {
            source: LayerSource::Whole {},
            operation,
            amount,
            inverted,
        };
        map.layers.push(whole(Combine::Replace, 0.25, false));
        let mixed = sheet.weights(&map, &Nothing);
        assert!((at(&sheet, &mixed, 0.0, 0.0) - (0.75 * 0.5 + 0.25)).abs() < 1e-5);
        map.layers.push(whole(Combine::Multiply, 1.0, true));
        assert!(sheet.weights(&map, &Nothing).iter().all(|w| *w == 0.0));
    }

    #[test]
    fn a_blur_spreads_a_step_as_a_gaussian_does() {
        let sheet = sheet();
        let half = |p: &Vec3| {
            if p.x > 1e-3 {
                1.0
            } else if p.x < -1e-3 {
                0.0
            } else {
                0.5
            }
        };
        let mut weights: Vec<f32> = sheet.points().iter().map(half).collect();
        (0..sheet.passes(0.08)).for_each(|_| sheet.even_out(&mut weights, |_| 1.0));
        // One standard deviation from a step its blur is Φ(1) = 0.841.
        let found = at(&sheet, &weights, 0.08, 0.0);
        assert!((found - 0.841).abs() < 0.03, "{found}");
    }

    #[test]
    fn noise_and_curvature_stay_within_0_and_1() {
        let ball = MapSurface::new(primitive::sphere(0.5, 48));
        let curved = ball.weights(&Map::of("", LayerSource::Curvature { radius_m: 0.25 }), &Nothing);
        let mean = curved.iter().sum::<f32>() / curved.len() as f32;
        assert!((mean - 0.5).abs() < 0.05, "{mean}");
        let noise = ball.weights(&Map::of("", LayerSource::Noise { size_m: 0.2, seed: 3 }), &Nothing);
        assert!(noise.iter().all(|w| (0.0..=1.0).contains(w)));
        assert!(noise.iter().any(|w| *w < 0.3) && noise.iter().any(|w| *w > 0.7));
    }
}
