//! The lattice within a soft body, as lines between its nodes.

use super::MAX_NODES;
use super::discretization::{Discretization, ShownMesh};
use super::fit::nodes_from_points;
use super::lattice::lattice;
use frames::Frame;
use geometry::Meshes;
use glam::{DVec3, Vec3};
use shot::Element;
use std::collections::BTreeSet;

/// Most lines that are given.
const MAX_LINES: usize = 400_000;

/// The sides of the cells that carry a soft body in a frame, in space, m. Its nodes are found from its surface, which is all that
/// a frame has. None: the element is not soft, or the frame has no mesh of its copies.
pub fn interior(element: &Element, meshes: &Meshes, frame: &Frame) -> Option<Vec<[Vec3; 2]>> {
    let soft = element.as_soft()?;
    let mesh = meshes.deforming(element, MAX_NODES).ok()??.ok()?;
    let (one, shown, _) = lattice(&mesh, f64::from(soft.cell_m)).ok()?;
    let copies = element.count();
    // The shot may have other copies now than the frame has.
    if frame.meshes.get(&element.id)?.positions.len() != shown.point_of.len().checked_mul(copies)? {
        return None;
    }
    let shown = shown.times(copies, one.embedding.len());
    let all = one.copies((0..copies).map(|copy| element.size_of(copy)).collect::<Vec<_>>().into_iter());
    let nodes = nodes_from_points(&all, &surface_points(element, frame, &all, &shown)?);
    let mut sides = BTreeSet::new();
    for cell in &all.cells {
        for corner in 0..8usize {
            for axis in [1, 2, 4].into_iter().filter(|axis| corner & axis == 0) {
                let [a, b] = [cell.nodes[corner], cell.nodes[corner | axis]];
                sides.insert([a.min(b), a.max(b)]);
            }
        }
    }
    let line = |side: &[u32; 2]| side.map(|node| nodes[node as usize].as_vec3());
    Some(sides.iter().take(MAX_LINES).map(line).collect())
}

/// The points of all surfaces in a frame, m.
fn surface_points(
    element: &Element,
    frame: &Frame,
    of: &Discretization,
    shown: &ShownMesh,
) -> Option<Vec<DVec3>> {
    let (mesh, bodies) = (frame.meshes.get(&element.id)?, frame.bodies.get(&element.id)?);
    let (position, orientation) = (*bodies.positions.first()?, *bodies.orientations.first()?);
    let mut points = vec![DVec3::ZERO; of.embedding.len()];
    for (vertex, &point) in shown.point_of.iter().enumerate() {
        points[point as usize] = (position + orientation * mesh.positions[vertex]).as_dvec3();
    }
    Some(points)
}
