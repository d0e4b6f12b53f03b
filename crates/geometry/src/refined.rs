//! Meshes with edges of about a wanted length, for shapes that are to bend.

use crate::{Mesh, primitive};
use glam::Vec2;
use shot::Shape;
use std::collections::HashMap;

impl Mesh {
    /// The mesh of a shape with edges of about `edge_m`: a rectangle as a grid, a round shape with edges that are alike, any other
    /// as `mesh` without its slivers, of which each triangle is cut into four as often as needed.
    ///
    /// # Errors
    /// About how many vertices it would have, if that is over `most`; nothing is made then.
    pub fn refined(shape: &Shape, mesh: Self, edge_m: f32, most: usize) -> Result<Self, usize> {
        if let Shape::Plane { size_m } = shape {
            let parts = |length: f32| (length / edge_m).round().max(1.0) as usize;
            let (columns, rows) = (parts(size_m.x), parts(size_m.y));
            let vertices = columns.saturating_add(1).saturating_mul(rows.saturating_add(1));
            return if vertices > most { Err(vertices) } else { Ok(grid(size_m.x, size_m.y, columns, rows)) };
        }
        if shape.is_round() {
            // A triangle of equal edges has 0.43 of their square, and there are half as many vertices.
            let vertices = (mesh.area() / (0.86 * edge_m * edge_m)).min(1e9) as usize;
            if vertices > most {
                return Err(vertices);
            }
            return Ok(primitive::even(shape, edge_m).unwrap_or(mesh));
        }
        let mut mesh = mesh;
        let halvings = (mesh.mean_edge() / (1.5 * edge_m)).log2().ceil().clamp(0.0, 30.0) as u32;
        // A mesh of many triangles has about half as many vertices.
        let vertices = mesh.positions.len().max((mesh.triangles.len() << (2 * halvings).min(40)) / 2);
        if vertices > most {
            return Err(vertices);
        }
        mesh = mesh.without_slivers();
        // Those are of the triangles before.
        mesh.groups.clear();
        for _ in 0..halvings {
            mesh = mesh.cut_into_four();
        }
        Ok(mesh)
    }

    /// Mean length of the triangles' edges.
    fn mean_edge(&self) -> f32 {
        let at = |v: u32| self.positions[v as usize];
        let around = |[a, b, c]: [u32; 3]| {
            f64::from(at(a).distance(at(b)) + at(b).distance(at(c)) + at(c).distance(at(a)))
        };
        let sum: f64 = self.triangles.iter().map(|t| around(*t)).sum();
        (sum / (3 * self.triangles.len().max(1)) as f64) as f32
    }

    /// Each triangle cut into four at the middles of its edges.
    fn cut_into_four(mut self) -> Self {
        let mut middles: HashMap<[u32; 2], u32> = HashMap::new();
        let triangles = std::mem::take(&mut self.triangles);
        let mut middle = |a: u32, b: u32| {
            *middles.entry([a.min(b), a.max(b)]).or_insert_with(|| {
                let (a, b) = (a as usize, b as usize);
                self.positions.push(0.5 * (self.positions[a] + self.positions[b]));
                self.normals.push((self.normals[a] + self.normals[b]).normalize_or(self.normals[a]));
                if !self.uvs.is_empty() {
                    self.uvs.push(0.5 * (self.uvs[a] + self.uvs[b]));
                }
                if !self.weights.is_empty() {
                    self.weights.push(0.5 * (self.weights[a] + self.weights[b]));
                }
                self.positions.len() as u32 - 1
            })
        };
        let mut cut = Vec::with_capacity(4 * triangles.len());
        for [a, b, c] in triangles {
            let (ab, bc, ca) = (middle(a, b), middle(b, c), middle(c, a));
            cut.extend([[a, ab, ca], [ab, b, bc], [ca, bc, c], [ab, bc, ca]]);
        }
        self.triangles = cut;
        self
    }
}

/// A rectangle that faces up, of `columns` × `rows` squares, whose diagonals alternate so that no
/// direction is stiffer.
pub(crate) fn grid(x: f32, z: f32, columns: usize, rows: usize) -> Mesh {
    let mut mesh = Mesh::default();
    for j in 0..=rows {
        for i in 0..=columns {
            let (u, v) = (i as f32 / columns as f32, j as f32 / rows as f32);
            mesh.positions.push(glam::Vec3::new((u - 0.5) * x, 0.0, (0.5 - v) * z));
            mesh.normals.push(glam::Vec3::Y);
            mesh.uvs.push(Vec2::new(u, v));
        }
    }
    let at = |i: usize, j: usize| (j * (columns + 1) + i) as u32;
    for j in 0..rows {
        for i in 0..columns {
            let [a, b, c, d] = [at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)];
            mesh.triangles.extend(if (i + j) % 2 == 0 {
                [[a, b, c], [a, c, d]]
            } else {
                [[a, b, d], [b, c, d]]
            });
        }
    }
    mesh
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;
    use glam::Vec3;

    #[test]
    fn a_rectangle_becomes_a_grid_with_the_same_area_and_uvs() {
        let shape = Shape::plane(2.0, 1.0);
        let mesh = Mesh::refined(&shape, primitive::plane(2.0, 1.0), 0.1, 1_000).unwrap();
        mesh.check().unwrap();
        assert_eq!((mesh.positions.len(), mesh.triangles.len()), (21 * 11, 400));
        assert!((mesh.area() - 2.0).abs() < 1e-4);
        for (p, uv) in mesh.positions.iter().zip(&mesh.uvs) {
            assert!((p.x - 2.0 * (uv.x - 0.5)).abs() < 1e-6 && (p.z - (0.5 - uv.y)).abs() < 1e-6);
        }
        for t in &mesh.triangles {
            let [a, b, c] = t.map(|v| mesh.positions[v as usize]);
            assert!((b - a).cross(c - a).y > 0.0);
        }
    }

    #[test]
    fn a_box_is_cut_until_its_edges_are_short() {
        let cube = primitive::cuboid(Vec3::ONE, 0.0);
        let mesh = Mesh::refined(&Shape::cuboid(1.0, 1.0, 1.0), cube, 0.1, 10_000).unwrap();
        mesh.check().unwrap();
        assert!(mesh.is_closed() && mesh.mean_edge() < 0.15);
        assert!((mesh.area() - 6.0).abs() < 1e-4);
    }

    #[test]
    fn what_would_have_too_many_vertices_is_not_made() {
        let plane = Shape::plane(1_000.0, 1_000.0);
        let of = Mesh::refined(&plane, primitive::plane(1_000.0, 1_000.0), 0.0005, 300_000);
        assert!(of.is_err_and(|vertices| vertices > 1_000_000_000));
        let cube = primitive::cuboid(Vec3::splat(1_000.0), 0.0);
        let of = Mesh::refined(&Shape::cuboid(1_000.0, 1_000.0, 1_000.0), cube, 0.0005, 300_000);
        assert!(of.is_err_and(|vertices| vertices > 1_000_000_000));
    }
}
