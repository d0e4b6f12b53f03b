//! Deformations that stay: creases of sheets, and the set of soft bodies.
//!
//! Beyond the yield point the elastic part of the deformation stays at that point and the rest flows (perfect plasticity: R. von Mises,
//! *Mechanik der festen Körper im plastisch-deformablen Zustand*, 1913). A body flows without a change of its volume.

use super::bending::Bend;
use super::discretization::{Discretization, Part};
use super::material::{Elastic, Material};
use super::state::State;
use glam::{DMat3, DVec3};

/// Lets creases and cells of a state flow.
pub(super) fn flow(discretization: &Discretization, parts: &[Part], of: &[Material], state: &mut State) {
    for (part, material) in parts.iter().zip(of) {
        match material.elastic {
            Elastic::Sheet { crease: Some(curvature), .. } => crease(discretization, part, curvature, state),
            Elastic::Body { set: Some(strain), .. } => set(discretization, part, strain, state),
            _ => {}
        }
    }
}

/// √A times the second derivatives at rest of each triangle, 1: those of the mesh, or those of the creases.
pub(super) fn rest_of<'a>(bend: &'a Bend, creases: &'a [[DVec3; 3]], triangle: usize) -> &'a [DVec3; 3] {
    creases.get(triangle).unwrap_or(&bend.rest)
}

fn crease(discretization: &Discretization, part: &Part, curvature_1_m: f64, state: &mut State) {
    if state.creases.is_empty() {
        state.creases = discretization.bends.iter().map(|bend| bend.rest).collect();
    }
    let State { x, creases, .. } = state;
    for ((bend, triangle), rest) in discretization.bends.iter().zip(&discretization.triangles).zip(creases) {
        if !part.nodes.contains(&(triangle.points[0] as usize)) {
            continue;
        }
        let now = bend.now(x);
        let off: [DVec3; 3] = std::array::from_fn(|i| now[i] - rest[i]);
        let size = off.iter().map(|d| d.length_squared()).sum::<f64>().sqrt();
        let most = curvature_1_m * triangle.area.sqrt();
        if size > most {
            let flows = 1.0 - most / size;
            rest.iter_mut().zip(off).for_each(|(rest, off)| *rest += off * flows);
        }
    }
}

fn set(discretization: &Discretization, part: &Part, strain: f64, state: &mut State) {
    let State { x, sets, .. } = state;
    sets.resize(discretization.cells.len(), DMat3::IDENTITY);
    for (cell, back) in discretization.cells.iter().zip(sets) {
        if !part.nodes.contains(&(cell.nodes[0] as usize)) {
            continue;
        }
        let elastic = cell.mean_deformation(x) * *back;
        let stretch = stretch_of(&elastic);
        let off = stretch - DMat3::IDENTITY;
        let mean = (off.x_axis.x + off.y_axis.y + off.z_axis.z) / 3.0;
        let shape = off - DMat3::from_diagonal(DVec3::splat(mean));
        let size = shape.to_cols_array().iter().map(|e| e * e).sum::<f64>().sqrt();
        if size > strain && elastic.determinant() > 0.0 {
            let flows = DMat3::IDENTITY + shape * (1.0 - strain / size);
            let content = flows.determinant();
            if content > 1e-6 {
                *back *= (flows * content.powf(-1.0 / 3.0)).inverse();
            }
        }
    }
}

/// The symmetric factor √(FᵀF) of a deformation, by the iteration of E. Denman and A. Beavers, *The matrix sign function and
/// computations in systems*, 1976.
fn stretch_of(f: &DMat3) -> DMat3 {
    let (mut y, mut z) = (f.transpose() * *f, DMat3::IDENTITY);
    for _ in 0..30 {
        if y.determinant().abs() < 1e-18 || z.determinant().abs() < 1e-18 {
            break;
        }
        let next = (y + z.inverse()) * 0.5;
        z = (z + y.inverse()) * 0.5;
        let change = (next - y).to_cols_array().iter().fold(0.0f64, |most, d| most.max(d.abs()));
        y = next;
        if change < 1e-12 {
            break;
        }
    }
    y
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_stretch_of_a_turned_deformation_is_its_symmetric_factor() {
        let stretch =
            DMat3::from_cols(DVec3::new(1.4, 0.2, 0.0), DVec3::new(0.2, 0.8, 0.1), DVec3::new(0.0, 0.1, 1.1));
        let turn = DMat3::from_quat(glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.4, 2.0, -1.0));
        let off = (stretch_of(&(turn * stretch)) - stretch).to_cols_array();
        assert!(off.iter().all(|d| d.abs() < 1e-9), "{off:?}");
    }
}
