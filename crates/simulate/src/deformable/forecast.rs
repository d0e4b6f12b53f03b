//! How large a cloth or a soft body is, and about how long a frame of it will take.

use super::lattice::{LatticeError, lattice};
use super::torn::TornMesh;
use super::{MAX_NODES, sheet};
use crate::Simulation;
use geometry::{Meshes, MissingMesh};
use shot::{Cloth, Element, Moves, Pin, PinnedPart, Shape, Shot, Side, Soft, Solid};
use std::sync::OnceLock;
use std::time::Instant;

/// The size of a cloth or a soft body, in all its copies.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct DeformableSize {
    /// Vertices of its surface, those at one place once.
    pub vertices: usize,
    /// Cells within it; 0 of a cloth.
    pub cells: usize,
    /// About how long a frame takes on this machine, s.
    pub seconds_a_frame: f64,
}

/// The size of a cloth or soft body of a shot; none if the element is rigid or cannot be what it is made as. The error is the
/// number of vertices or cells that it would have, if they are too many.
///
/// # Errors
/// [`MissingMesh`].
pub fn deformable_size(
    shot: &Shot,
    element: &Element,
    meshes: &Meshes,
) -> Result<Option<Result<DeformableSize, usize>>, MissingMesh> {
    let Some(mesh) = meshes.deforming(element, MAX_NODES)? else { return Ok(None) };
    let mesh = match mesh {
        Ok(mesh) => mesh,
        Err(count) => return Ok(Some(Err(count))),
    };
    let (points, cells) = match element.as_soft() {
        None => (sheet::torn_sheet(TornMesh::new(&mesh)).0.len(), 0),
        Some(soft) => match lattice(&mesh, f64::from(soft.cell_m)) {
            Ok((lattice, _, _)) => (lattice.embedding.len(), lattice.cells.len()),
            Err(LatticeError::TooMany(count)) => return Ok(Some(Err(count))),
            Err(LatticeError::NotClosed) => return Ok(None),
        },
    };
    let copies = element.count();
    let (vertices, cells) = (points.saturating_mul(copies), cells.saturating_mul(copies));
    if vertices > MAX_NODES {
        return Ok(Some(Err(vertices)));
    }
    let [a_point, a_cell] = measured();
    let a_substep = if cells > 0 { cells as f64 * a_cell } else { vertices as f64 * a_point };
    let seconds_a_frame = a_substep * f64::from(shot.physics.substeps);
    Ok(Some(Ok(DeformableSize { vertices, cells, seconds_a_frame })))
}

/// Seconds that a point of a sheet and a cell of a soft body with its part of the surface take in a substep, measured once on
/// a small one of each.
fn measured() -> [f64; 2] {
    static MEASURED: OnceLock<[f64; 2]> = OnceLock::new();
    *MEASURED.get_or_init(|| {
        let sheet = Cloth { pins: vec![Pin::hard(PinnedPart::Side(Side::Left))], ..Cloth::default() };
        let block = Soft { cell_m: 0.1, edge_m: 0.1, ..Soft::default() };
        let points = seconds(Shape::plane(1.2, 1.2), |solid| solid.cloth = Some(sheet.clone()));
        let whole = seconds(Shape::cuboid(0.6, 0.6, 0.6), |solid| solid.soft = Some(block.clone()));
        [points / 41.0f64.powi(2), whole / 6.0f64.powi(3)]
    })
}

/// Seconds that a substep of a solid that falls takes, the mean of a few after the first; 0 if it cannot be computed.
fn seconds(shape: Shape, make: impl Fn(&mut Solid)) -> f64 {
    const FRAMES: u32 = 3;
    let mut shot = Shot::empty("Forecast");
    let mut element = Element::solid("Body", shape, Moves::Free);
    element.as_solid_mut().map(make);
    shot.add(element);
    let timed = || {
        let mut simulation = Simulation::new(&shot, &Meshes::default()).ok()?;
        simulation.advance().ok()?;
        let before = Instant::now();
        (0..FRAMES).try_for_each(|_| simulation.advance().map(drop)).ok()?;
        Some(before.elapsed().as_secs_f64() / f64::from(FRAMES * shot.physics.substeps))
    };
    timed().unwrap_or(0.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn finer_sheets_have_more_vertices_and_take_longer() {
        let shot = Shot::empty("Sizes");
        let sheet = |edge_m: f32| {
            let mut element = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free);
            element.as_solid_mut().unwrap().cloth = Some(Cloth { edge_m, ..Cloth::default() });
            deformable_size(&shot, &element, &Meshes::default()).unwrap().unwrap()
        };
        let (coarse, fine) = (sheet(0.1).unwrap(), sheet(0.05).unwrap());
        assert!((100..170).contains(&coarse.vertices), "{coarse:?}");
        let ratio = fine.vertices as f64 / coarse.vertices as f64;
        assert!((3.0..4.2).contains(&ratio), "{coarse:?} {fine:?}");
        assert!((fine.seconds_a_frame / coarse.seconds_a_frame / ratio - 1.0).abs() < 1e-9);
        assert!(sheet(1e-4).unwrap_err() > 10_000_000);
    }

    #[test]
    fn a_soft_body_has_cells_and_an_open_one_no_size() {
        let shot = Shot::empty("Sizes");
        let size = |shape: Shape| {
            let mut element = Element::solid("Block", shape, Moves::Free);
            let soft = Soft { cell_m: 0.1, edge_m: 0.1, ..Soft::default() };
            element.as_solid_mut().unwrap().soft = Some(soft);
            deformable_size(&shot, &element, &Meshes::default()).unwrap()
        };
        assert_eq!(size(Shape::cuboid(0.4, 0.3, 0.2)).unwrap().unwrap().cells, 24);
        assert_eq!(size(Shape::plane(1.0, 1.0)), None);
    }
}
