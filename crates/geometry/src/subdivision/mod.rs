//! Subdivision surfaces: a mesh refined level by level, by Catmull and Clark or by Loop.
//!
//! A [`Subdivision`] is made once for the faces of a mesh. It holds the refined
//! topology, and for each level the weights by which new vertices come from the old
//! ones, so that every later frame of a moving mesh takes only those sums.
//!
//! Borders and sharp edges are cubic B-splines of their own vertices; a vertex with more
//! than two sharp edges, or at the corner of a border, stays where it is. An edge may be sharp for some
//! levels only (T. DeRose, M. Kass and T. Truong, *Subdivision surfaces in character
//! animation*, 1998). UVs are interpolated linearly, and keep their seams.

mod cage;
mod catmull_clark;
mod loop_scheme;
mod refinement;
mod rules;
mod stencils;

use crate::topology::{Attribute, AttributeValues, Domain, Topology};
use crate::weld::numbered;
use cage::{Cage, Edges, corners};
use glam::Vec3;
use refinement::Refined;
use std::sync::Arc;
use stencils::Stencils;

/// The rule by which a mesh is refined.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scheme {
    /// Each face of n corners becomes n quads (E. Catmull and J. Clark, *Recursively
    /// generated B-spline surfaces on arbitrary topological meshes*, 1978).
    CatmullClark,
    /// Each triangle becomes four (C. Loop, *Smooth subdivision surfaces based on
    /// triangles*, 1987).
    Loop,
}

/// The edges that stay sharp, beside borders.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Creases {
    /// Where faces meet at more than this angle, rad.
    pub angle_rad: Option<f32>,
    /// Name of a group of faces or vertices whose border stays sharp.
    pub group: Option<String>,
    /// Name of a number by vertex: an edge stays sharp for the mean of its ends, 0–1,
    /// times the number of levels.
    pub map: Option<String>,
}

/// Most faces that a refined mesh may have.
pub const MAX_FACES: usize = 8_000_000;

/// A mesh that is refined.
#[derive(Debug)]
pub struct Subdivision {
    topology: Arc<Topology>,
    /// For each point of the coarse mesh: a vertex that is there.
    from: Vec<u32>,
    levels: Vec<Stencils>,
    /// The point of each vertex of the refined mesh.
    points: Vec<u32>,
}

impl Subdivision {
    /// Refines a mesh so many times. `positions` tell which vertices are at one point, and at
    /// which angle faces meet.
    ///
    /// # Errors
    /// If the refined mesh would have more than [`MAX_FACES`] faces, or a group or map is
    /// not there.
    pub fn new(
        coarse: &Topology,
        positions: &[Vec3],
        scheme: Scheme,
        levels: u32,
        creases: &Creases,
    ) -> Result<Self, String> {
        let faces = coarse.triangles().len().saturating_mul(4usize.saturating_pow(levels));
        if faces > MAX_FACES {
            return Err(format!("would give {faces} faces; at most {MAX_FACES}"));
        }
        let (mut cage, from) = Cage::new(coarse, positions, scheme, levels, creases)?;
        let mut all = Vec::new();
        let mut attributes = coarse.attributes().to_vec();
        cage::split(&mut attributes, &cage.origin, &cage.faces_of_triangles);
        for _ in 0..levels {
            let edges = Edges::new(&cage);
            all.push(match scheme {
                Scheme::CatmullClark => catmull_clark::stencils(&cage, &edges),
                Scheme::Loop => loop_scheme::stencils(&cage, &edges),
            });
            let refined = match scheme {
                Scheme::CatmullClark => catmull_clark::refine(&cage, &edges),
                Scheme::Loop => loop_scheme::refine(&cage, &edges),
            };
            for attribute in &mut attributes {
                *attribute = refined.carried(attribute);
            }
            cage = refined.cage;
        }
        let triangles = cage.triangles();
        // A face of four corners is two triangles.
        for attribute in attributes.iter_mut().filter(|attribute| attribute.domain == Domain::Face) {
            let rows = cage.rows_of_triangles();
            attribute.values = picked(&attribute.values, &rows);
        }
        let points = cage.point_of.clone();
        let topology =
            Topology::new(triangles, numbered(&cage.groups), attributes).expect("a refined mesh is sound");
        Ok(Self { topology: Arc::new(topology), from, levels: all, points })
    }

    /// The refined faces with their attributes.
    pub fn topology(&self) -> &Arc<Topology> {
        &self.topology
    }

    /// Positions, or any other vectors by vertex, on the refined mesh.
    pub fn apply(&self, coarse: &[Vec3]) -> Vec<Vec3> {
        let mut now: Vec<Vec3> = self.from.iter().map(|&v| coarse[v as usize]).collect();
        for level in &self.levels {
            now = level.apply(&now);
        }
        self.points.iter().map(|&v| now[v as usize]).collect()
    }
}

/// The values in the given rows.
pub(crate) fn picked(values: &AttributeValues, rows: &[u32]) -> AttributeValues {
    fn of<T: Copy>(values: &[T], rows: &[u32]) -> Vec<T> {
        rows.iter().map(|&row| values[row as usize]).collect()
    }
    match values {
        AttributeValues::Scalars(values) => AttributeValues::Scalars(of(values, rows)),
        AttributeValues::Pairs(values) => AttributeValues::Pairs(of(values, rows)),
        AttributeValues::Vectors(values) => AttributeValues::Vectors(of(values, rows)),
        AttributeValues::Flags(values) => AttributeValues::Flags(of(values, rows)),
    }
}

impl Refined {
    /// An attribute of the cage before, on this one.
    fn carried(&self, attribute: &Attribute) -> Attribute {
        let values = match attribute.domain {
            Domain::Face => picked(&attribute.values, &self.faces_from),
            Domain::Vertex => self.means(&attribute.values),
        };
        Attribute { name: attribute.name.clone(), domain: attribute.domain, values }
    }

    fn means(&self, values: &AttributeValues) -> AttributeValues {
        fn of<T: Copy + std::iter::Sum + std::ops::Mul<f32, Output = T>>(
            rows: &[[u32; 4]],
            values: &[T],
        ) -> Vec<T> {
            let mean = |row: &[u32; 4]| {
                let row = corners(row);
                row.iter().map(|&i| values[i as usize]).sum::<T>() * (1.0 / row.len() as f32)
            };
            // A vertex that was there keeps its value to the bit.
            let value = |row: &[u32; 4]| {
                if row.iter().all(|i| *i == row[0]) { values[row[0] as usize] } else { mean(row) }
            };
            rows.iter().map(value).collect()
        }
        let rows = &self.vertices_from;
        match values {
            AttributeValues::Scalars(values) => AttributeValues::Scalars(of(rows, values)),
            AttributeValues::Pairs(values) => AttributeValues::Pairs(of(rows, values)),
            AttributeValues::Vectors(values) => AttributeValues::Vectors(of(rows, values)),
            // A new vertex is a member if all that it comes from are.
            AttributeValues::Flags(values) => {
                let least = |row: &[u32; 4]| corners(row).iter().map(|&i| values[i as usize]).min();
                AttributeValues::Flags(rows.iter().map(|row| least(row).unwrap_or(0)).collect())
            }
        }
    }
}

#[cfg(test)]
mod tests;
