//! UVs of meshes at rest: projections, and pieces that lie flat.

mod unwrap;

use crate::{Mesh, parts_by_edges};
use glam::{Vec2, Vec3};
use shot::UvLayout;
use std::collections::HashMap;
use std::f32::consts::{PI, TAU};

/// The mesh with other UVs. Vertices at which several UVs meet are there once for each; positions stay.
pub fn laid(mesh: Mesh, layout: UvLayout) -> Mesh {
    let bounds = mesh.bounds();
    let (min, size) = (bounds.min, bounds.size());
    let middle = 0.5 * (bounds.min + bounds.max);
    let longest = size.max_element().max(1e-9);
    let along = |p: Vec3, axis: usize| {
        let (u, v) = plane_of(axis);
        let seen = Vec2::new((p - min).dot(u.abs()), (p - min).dot(v.abs()));
        // Directions that run against an axis are counted from its other end.
        let turned = |axis: Vec3, value: f32| {
            if axis.min_element() < 0.0 { size.dot(axis.abs()) - value } else { value }
        };
        Vec2::new(turned(u, seen.x), turned(v, seen.y)) / longest
    };
    let planar = |mesh: Mesh, axis: usize| by_corner(mesh, |_, p| along(p, axis));
    match layout {
        UvLayout::Own => mesh,
        UvLayout::PlanarX => planar(mesh, 0),
        UvLayout::PlanarY => planar(mesh, 1),
        UvLayout::PlanarZ => planar(mesh, 2),
        UvLayout::Box => by_corner(mesh, |corners, p| {
            let [a, b, c] = corners;
            along(p, (b - a).cross(c - a).abs().max_position())
        }),
        UvLayout::Cylinder => {
            let height = size.y.max(1e-9);
            rolled(mesh, middle, |p| (p.y - min.y) / height)
        }
        UvLayout::Sphere => {
            rolled(mesh, middle, |p| 0.5 + (p - middle).normalize_or_zero().y.clamp(-1.0, 1.0).asin() / PI)
        }
        UvLayout::Unwrapped => unwrap::unwrapped(mesh),
    }
}

/// The directions of U and V, seen along an axis: from the right, from above and from the front, upright.
fn plane_of(axis: usize) -> (Vec3, Vec3) {
    match axis {
        0 => (Vec3::NEG_Z, Vec3::Y),
        1 => (Vec3::X, Vec3::NEG_Z),
        _ => (Vec3::X, Vec3::Y),
    }
}

/// UVs of each corner of each face, by the positions of its corners and its own.
fn by_corner(mesh: Mesh, of: impl Fn([Vec3; 3], Vec3) -> Vec2) -> Mesh {
    let uvs: Vec<[Vec2; 3]> = mesh
        .triangles
        .iter()
        .map(|face| {
            let corners = face.map(|v| mesh.positions[v as usize]);
            corners.map(|p| of(corners, p))
        })
        .collect();
    with_corners(mesh, &uvs)
}

/// UVs round the y axis through `middle`; a face that crosses the seam goes on beyond 1, and a corner on the axis has the mean
/// of the others.
fn rolled(mesh: Mesh, middle: Vec3, v: impl Fn(Vec3) -> f32) -> Mesh {
    let uvs: Vec<[Vec2; 3]> = mesh
        .triangles
        .iter()
        .map(|face| {
            let corners = face.map(|v| mesh.positions[v as usize]);
            let around = corners.map(|p| round_y(p - middle));
            let us = unrolled(around);
            std::array::from_fn(|i| Vec2::new(us[i], v(corners[i])))
        })
        .collect();
    with_corners(mesh, &uvs)
}

/// The part of a turn round y at which a place is, 0–1; none: it is on the axis.
pub(crate) fn round_y(p: Vec3) -> Option<f32> {
    let across = p.x.hypot(p.z);
    (across > 1e-5 * p.length().max(1e-12)).then(|| ((-p.z).atan2(p.x) / TAU).rem_euclid(1.0))
}

/// U of three corners that are at these parts of a turn, so that they lie together.
pub(crate) fn unrolled(around: [Option<f32>; 3]) -> [f32; 3] {
    let known = || around.iter().flatten();
    let wraps = known().any(|a| known().any(|b| a - b > 0.5));
    let turned = |u: f32| if wraps && u < 0.5 { u + 1.0 } else { u };
    let mean = known().map(|u| turned(*u)).sum::<f32>() / known().count().max(1) as f32;
    around.map(|u| u.map_or(mean, turned))
}

/// The mesh with a UV for each corner of each face: a vertex for each UV that meets there.
pub(crate) fn with_corners(mesh: Mesh, uvs: &[[Vec2; 3]]) -> Mesh {
    let mut laid = Mesh { triangles: mesh.triangles.clone(), ..Mesh::default() };
    let mut vertices: HashMap<(u32, [u32; 2]), u32> = HashMap::with_capacity(mesh.positions.len());
    let weighed = mesh.weights.len() == mesh.positions.len();
    for (face, uvs) in laid.triangles.iter_mut().zip(uvs) {
        for (corner, uv) in face.iter_mut().zip(uvs) {
            let from = *corner as usize;
            // −0 is 0.
            let key = (*corner, (*uv + Vec2::ZERO).to_array().map(f32::to_bits));
            *corner = *vertices.entry(key).or_insert_with(|| {
                laid.positions.push(mesh.positions[from]);
                laid.normals.push(mesh.normals.get(from).copied().unwrap_or(Vec3::Y));
                laid.uvs.push(*uv);
                if weighed {
                    laid.weights.push(mesh.weights[from]);
                }
                laid.positions.len() as u32 - 1
            });
        }
    }
    laid
}

/// Number of pieces that the UVs cut a mesh into: faces that share an edge with its UVs are in one.
pub fn pieces(mesh: &Mesh) -> u32 {
    if mesh.uvs.len() != mesh.positions.len() {
        return 0;
    }
    let point = |v: u32| {
        let (p, uv) = (mesh.positions[v as usize] + Vec3::ZERO, mesh.uvs[v as usize] + Vec2::ZERO);
        [p.x, p.y, p.z, uv.x, uv.y].map(f32::to_bits)
    };
    let mut numbers: HashMap<[u32; 5], u32> = HashMap::new();
    let mut number = |v: u32| {
        let next = numbers.len() as u32;
        *numbers.entry(point(v)).or_insert(next)
    };
    let faces: Vec<[u32; 3]> = mesh.triangles.iter().map(|face| face.map(&mut number)).collect();
    let parts = parts_by_edges(&faces, |_| true);
    (0..).zip(parts).filter(|(face, part)| face == part).count() as u32
}

/// How far the UVs of a mesh stretch an image, against the mean: the greatest and the mean of |ln σ| over the faces weighted by
/// area, with σ the singular values of the map from the face to its UVs over their mean; no unit. None: there are no UVs.
pub fn stretch(mesh: &Mesh) -> Option<[f32; 2]> {
    if mesh.uvs.len() != mesh.positions.len() {
        return None;
    }
    let mut faces: Vec<(f32, [f32; 2])> = Vec::new();
    for face in &mesh.triangles {
        let [a, b, c] = face.map(|v| mesh.positions[v as usize]);
        let [p, q, r] = face.map(|v| mesh.uvs[v as usize]);
        let (e, f) = (b - a, c - a);
        let length = e.length();
        let area = 0.5 * e.cross(f).length();
        if area <= 0.0 {
            continue;
        }
        let (x, y) = (f.dot(e) / length, 2.0 * area / length);
        // The columns of the map from the plane of the face.
        let (u, v) = ((q - p) / length, ((r - p) - (q - p) * (x / length)) / y);
        let (mean, half) = (
            0.5 * (u.length_squared() + v.length_squared()),
            0.5 * (u.length_squared() - v.length_squared()),
        );
        let radius = half.hypot(u.dot(v));
        faces.push((area, [(mean + radius).sqrt(), (mean - radius).max(0.0).sqrt()]));
    }
    let whole: f32 = faces.iter().map(|(area, _)| area).sum();
    let scale = faces.iter().map(|(area, s)| area * (s[0] * s[1]).sqrt()).sum::<f32>() / whole;
    if scale.is_nan() || scale <= 0.0 {
        return None;
    }
    let of = |s: &[f32; 2]| s.iter().map(|s| (s / scale).max(1e-3).ln().abs()).fold(0.0, f32::max);
    let most = faces.iter().map(|(_, s)| of(s)).fold(0.0, f32::max);
    let mean = faces.iter().map(|(area, s)| area * of(s)).sum::<f32>() / whole;
    Some([most, mean])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Weld, primitive};
    use rstest::rstest;
    use shot::Shape;

    #[rstest]
    #[case(UvLayout::PlanarX)]
    #[case(UvLayout::PlanarY)]
    #[case(UvLayout::PlanarZ)]
    #[case(UvLayout::Box)]
    #[case(UvLayout::Cylinder)]
    #[case(UvLayout::Sphere)]
    #[case(UvLayout::Unwrapped)]
    fn every_layout_keeps_the_surface(#[case] layout: UvLayout) {
        for mesh in [
            primitive::cuboid(Vec3::new(1.0, 2.0, 0.5), 0.05),
            primitive::torus(1.0, 0.3, 24),
            primitive::even(&Shape::sphere(0.5), 0.1).unwrap(),
            primitive::plane(2.0, 1.0),
        ] {
            let faces = |mesh: &Mesh| Weld::new(&mesh.positions).faces(&mesh.triangles).len();
            let at = |mesh: &Mesh| -> Vec<[Vec3; 3]> {
                mesh.triangles.iter().map(|t| t.map(|v| mesh.positions[v as usize])).collect()
            };
            let laid = laid(mesh.clone(), layout);
            assert_eq!((at(&laid), faces(&laid)), (at(&mesh), faces(&mesh)));
            assert_eq!(laid.is_closed(), mesh.is_closed());
            assert_eq!((laid.uvs.len(), laid.normals.len()), (laid.positions.len(), laid.positions.len()));
            assert!(
                laid.uvs
                    .iter()
                    .all(|uv| uv.is_finite() && uv.min_element() > -1e-4 && uv.max_element() < 2.0)
            );
        }
    }

    #[test]
    fn a_box_seen_along_its_axes_is_not_stretched() {
        let mesh = laid(primitive::cuboid(Vec3::new(1.0, 2.0, 0.5), 0.0), UvLayout::Box);
        let [most, _] = stretch(&mesh).unwrap();
        assert!(most < 1e-4, "{most}");
        assert_eq!(pieces(&laid(mesh.clone(), UvLayout::Unwrapped)), 6);
        // Seen along one axis its sides are squashed to lines.
        let [most, _] = stretch(&laid(mesh, UvLayout::PlanarZ)).unwrap();
        assert!(most > 3.0, "{most}");
    }

    #[test]
    fn a_box_with_round_edges_has_a_piece_a_side() {
        let mesh = laid(primitive::cuboid(Vec3::splat(0.2), 0.01), UvLayout::Unwrapped);
        assert_eq!(pieces(&mesh), 6);
    }

    #[test]
    fn what_can_be_rolled_out_is_hardly_stretched() {
        // A tube of the height of its girth.
        let tube = primitive::even(&Shape::Cylinder { radius_m: 0.5, height_m: PI }, 0.1).unwrap();
        let side = |t: &&[u32; 3]| t.iter().all(|v| tube.normals[*v as usize].y.abs() < 0.5);
        let triangles = tube.triangles.iter().filter(side).copied().collect();
        let tube = Mesh { triangles, ..tube.clone() };
        for layout in [UvLayout::Cylinder, UvLayout::Unwrapped] {
            let [most, mean] = stretch(&laid(tube.clone(), layout)).unwrap();
            assert!(most < 0.05 && mean < 0.02, "{layout:?}: {most} {mean}");
        }
    }

    #[test]
    fn a_sphere_is_stretched_least_unwrapped() {
        let sphere = primitive::even(&Shape::sphere(0.5), 0.05).unwrap();
        let mean = |layout| stretch(&laid(sphere.clone(), layout)).unwrap()[1];
        let unwrapped = mean(UvLayout::Unwrapped);
        assert!(unwrapped < 0.15, "{unwrapped}");
        assert!(unwrapped < 0.5 * mean(UvLayout::Box) && unwrapped < 0.5 * mean(UvLayout::Sphere));
    }

    #[test]
    fn pieces_do_not_lie_on_each_other() {
        let mesh = laid(primitive::even(&Shape::sphere(0.5), 0.08).unwrap(), UvLayout::Unwrapped);
        let faces: Vec<[Vec2; 3]> = mesh.triangles.iter().map(|t| t.map(|v| mesh.uvs[v as usize])).collect();
        let inside = |p: Vec2, [a, b, c]: [Vec2; 3]| {
            let of = |p: Vec2, a: Vec2, b: Vec2| (b - a).perp_dot(p - a);
            let (x, y, z) = (of(p, a, b), of(p, b, c), of(p, c, a));
            (x > 1e-9 && y > 1e-9 && z > 1e-9) || (x < -1e-9 && y < -1e-9 && z < -1e-9)
        };
        for (i, face) in faces.iter().enumerate() {
            let middle = (face[0] + face[1] + face[2]) / 3.0;
            let others = faces.iter().enumerate().filter(|(k, other)| *k != i && inside(middle, **other));
            assert_eq!(others.count(), 0, "the middle of {i} lies in another face");
        }
        assert!(mesh.uvs.iter().all(|uv| uv.min_element() >= 0.0 && uv.max_element() <= 1.0));
    }
}
