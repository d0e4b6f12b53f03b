//! A sheet at rest: its triangles, and what they weigh.

use super::bending::Bend;
use super::discretization::{Discretization, ShownMesh};
use super::embedding::Embedding;
use super::membrane::Triangle;
use super::torn::TornMesh;
use geometry::{Mesh, sides_by_edge};
use glam::DVec3;
use rayon::prelude::*;
use std::sync::Arc;

/// The sheet of a mesh in the element's frame, the mesh that is shown of it, the mean length of its edges, m, and the face of the
/// mesh that each triangle is. Triangles without an area take no part in the physics.
pub(super) fn torn_sheet(torn: TornMesh) -> (Discretization, ShownMesh, f64, Vec<u32>) {
    let topology = Arc::new(torn.topology());
    let TornMesh { mesh, weld, .. } = torn;
    let mesh = &mesh;
    let mut face_of = Vec::new();
    let rest: Vec<DVec3> = weld.vertex_of.iter().map(|&v| mesh.positions[v as usize].as_dvec3()).collect();
    let faces = weld.faces(&mesh.triangles);
    let at = |p: u32| rest[p as usize];
    let mut triangles = Vec::with_capacity(faces.len());
    let mut measures = vec![0.0; rest.len()];
    let (mut length, mut count) = (0.0, 0u32);
    for (number, (face, corners)) in (0..).zip(faces.iter().zip(&mesh.triangles)) {
        let Some(triangle) = Triangle::new(*face, face.map(at), warp(mesh, *corners)) else { continue };
        for (i, &point) in face.iter().enumerate() {
            measures[point as usize] += triangle.area / 3.0;
            let (a, b) = (point, face[(i + 1) % 3]);
            length += at(a).distance(at(b));
            count += 1;
        }
        triangles.push(triangle);
        face_of.push(number);
    }
    let faces: Vec<[u32; 3]> = triangles.iter().map(|triangle| triangle.points).collect();
    let sides = sides_by_edge(&faces);
    let opposite = |(_, side): ([u32; 2], u32)| faces[side as usize / 3][(side as usize + 2) % 3];
    let across = |a: u32, b: u32, own: u32| {
        let edge = [a.min(b), a.max(b)];
        let after = &sides[sides.partition_point(|(of, _)| *of < edge)..];
        let count = after.iter().take(3).take_while(|(of, _)| *of == edge).count();
        let [one, two] = after[..count] else { return None };
        match [opposite(one), opposite(two)] {
            [one, two] if one == own => Some(two),
            [one, two] if two == own => Some(one),
            _ => None,
        }
    };
    let bend = |triangle: &Triangle| {
        let [a, b, c] = triangle.points;
        Bend::new(triangle, [across(b, c, a), across(c, a, b), across(a, b, c)], at)
    };
    let bends = triangles.par_iter().with_min_len(64).map(bend).collect();
    let shown = ShownMesh { topology, point_of: weld.point_of };
    let discretization = Discretization {
        measures,
        body_of: vec![0; rest.len()],
        embedding: Embedding::identity(rest.len()),
        faces,
        cells: Vec::new(),
        bodies: 1,
        rest,
        triangles,
        bends,
    };
    (discretization, shown, length / f64::from(count.max(1)), face_of)
}

/// The sheet of a mesh without cuts, as of [`torn_sheet`].
#[cfg(test)]
pub(super) fn sheet(mesh: &Mesh) -> (Discretization, ShownMesh, f64) {
    let (sheet, shown, edge_m, _) = torn_sheet(TornMesh::new(mesh));
    (sheet, shown, edge_m)
}

/// The direction in space along which u grows most within a triangle.
fn warp(mesh: &Mesh, corners: [u32; 3]) -> DVec3 {
    let [a, b, c] = corners.map(|v| mesh.positions[v as usize].as_dvec3());
    let Some([ua, ub, uc]) =
        (mesh.uvs.len() == mesh.positions.len()).then(|| corners.map(|v| f64::from(mesh.uvs[v as usize].x)))
    else {
        return b - a;
    };
    let (ab, ac) = (b - a, c - a);
    let normal = ab.cross(ac);
    // The gradient of a linear function over a triangle.
    let gradient = ((ub - ua) * ac - (uc - ua) * ab).cross(normal);
    if gradient.length_squared() > 0.0 { gradient.normalize() } else { ab }
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::primitive;
    use shot::{Pin, PinnedPart, Shape, Side};

    fn mesh(edge_m: f32) -> Mesh {
        Mesh::refined(&Shape::plane(2.0, 1.0), primitive::plane(2.0, 1.0), edge_m, 10_000).unwrap()
    }

    #[test]
    fn warp_runs_along_u() {
        let mesh = mesh(0.5);
        for corners in &mesh.triangles {
            assert!((warp(&mesh, *corners) - DVec3::X).length() < 1e-6);
        }
    }

    #[test]
    fn areas_add_up_and_triangles_reach_across_inner_edges() {
        let (sheet, _, _) = sheet(&mesh(0.1));
        assert!((sheet.measures.iter().sum::<f64>() - 2.0).abs() < 1e-5);
        // Edges of 20 × 10 squares, less those of the border, from both sides.
        let reaches: usize =
            sheet.bends.iter().map(|b| (3..6).filter(|&i| b.points[i] != b.points[i - 3]).count()).sum();
        assert_eq!(reaches, 2 * (20 * 11 + 10 * 21 + 200 - 60));
        assert_eq!(sheet.len(), 21 * 11);
    }

    #[test]
    fn sides_and_corners_are_pinned() {
        let (sheet, _, edge_m) = sheet(&mesh(0.1));
        let pin = Pin::hard;
        let pins = [pin(PinnedPart::Side(Side::Left)), pin(PinnedPart::Corners(Side::Front))];
        let pinned = sheet.pinned(&pins, edge_m);
        let [Some(side), Some(corners)] = &pinned[..] else { panic!() };
        assert_eq!((side.len(), corners.len()), (11, 2));
        assert!(side.iter().all(|&p| sheet.rest[p as usize].x == -1.0));
        assert!(corners.iter().all(|&p| sheet.rest[p as usize].z == 0.5));
    }

    #[test]
    fn copies_of_other_sizes_are_as_sheets_of_those_sizes() {
        let (one, shown, _) = sheet(&mesh(0.1));
        let (n, sizes) = (one.len(), [1.0, 2.5, 1.0]);
        let (shown, all) = (shown.times(3, n), one.clone().copies(sizes.into_iter()));
        assert_eq!((shown.topology.vertices(), shown.point_of.len()), (3 * 21 * 11, 3 * 21 * 11));
        assert!(all.triangles.iter().all(|t| {
            let [a, b, c] = t.points.map(|p| all.body_of[p as usize]);
            a == b && b == c
        }));
        let (large, ..) = sheet(&mesh(0.1).scaled(2.5));
        let own = n..2 * n;
        let near = |a: f64, b: f64| (a - b).abs() <= 1e-5 * b.abs().max(1e-9);
        assert!(all.rest[own.clone()].iter().zip(&large.rest).all(|(a, b)| a.distance(*b) < 1e-5));
        assert!(all.measures[own].iter().zip(&large.measures).all(|(a, b)| near(*a, *b)));
        let triangles = one.triangles.len()..2 * one.triangles.len();
        for (a, b) in all.triangles[triangles.clone()].iter().zip(&large.triangles) {
            assert!(near(a.area, b.area));
            assert!(a.gradients.iter().zip(b.gradients).all(|(a, b)| a.distance(b) < 1e-4 * b.length()));
        }
        for (a, b) in all.bends[triangles].iter().zip(&large.bends) {
            let size = b.weights.as_flattened().iter().fold(0.0f64, |most, weight| most.max(weight.abs()));
            let each = a.weights.as_flattened().iter().zip(b.weights.as_flattened());
            each.for_each(|(a, b)| assert!((a - b).abs() < 1e-4 * size));
        }
    }
}
