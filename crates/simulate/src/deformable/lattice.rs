//! The inside of a soft body: a lattice of cells that its surface cuts, each with as much of the body as is in it. The surface,
//! however fine, follows the corners of the cells (L. Nesme, P. Kry, L. Jeřábková and F. Faure, *Preserving topology and
//! elasticity for embedded deformable models*, 2009, weigh cut cells alike).

use super::cell::{Cell, corner_weights};
use super::discretization::{Discretization, ShownMesh};
use super::embedding::Embedding;
use geometry::{Mesh, Surface, Topology, Weld, mass_properties};
use glam::DVec3;
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Most cells of the box around a body.
const MAX_CELLS: usize = 400_000;
/// Samples along a side of a cell.
const SAMPLES: usize = 4;
/// Least part of an octant that counts as filled, so that no corner hangs loose.
const LEAST_FILL: f64 = 0.02;

/// Why a mesh cannot be filled.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum LatticeError {
    /// It is open, or has no inside.
    NotClosed,
    /// It would have about so many cells.
    TooMany(usize),
}

/// The lattice in a closed mesh in the element's frame, the mesh that is shown of it, and the mean length of its cells, m.
pub(super) fn lattice(mesh: &Mesh, cell_m: f64) -> Result<(Discretization, ShownMesh, f64), LatticeError> {
    let bounds = mesh.bounds();
    let (min, size) = (bounds.min.as_dvec3(), bounds.size().as_dvec3());
    let volume = mass_properties(mesh).map_or(0.0, |mass| f64::from(mass.volume));
    if !mesh.is_closed() || size.min_element() <= 0.0 || volume <= 0.0 {
        return Err(LatticeError::NotClosed);
    }
    // Cells divide the box evenly, so that plane sides of a body are sides of cells.
    let counts = (size / cell_m).round().max(DVec3::ONE);
    let boxed = counts.x * counts.y * counts.z;
    if boxed > MAX_CELLS as f64 {
        return Err(LatticeError::TooMany(boxed.min(1e15) as usize));
    }
    let [nx, ny, nz] = counts.to_array().map(|n| n as usize);
    let step = size / counts;
    let weld = Weld::new(&mesh.positions);
    let points: Vec<DVec3> = weld.vertex_of.iter().map(|&v| mesh.positions[v as usize].as_dvec3()).collect();
    let place = |p: DVec3| -> ([usize; 3], DVec3) {
        let at = ((p - min) / step).max(DVec3::ZERO);
        let cell = at.floor().min(counts - 1.0);
        (cell.to_array().map(|n| n as usize), (at - cell).clamp(DVec3::ZERO, DVec3::ONE))
    };
    let index = |[i, j, k]: [usize; 3]| i + nx * (j + ny * k);
    let mut has_points = vec![false; nx * ny * nz];
    points.iter().for_each(|p| has_points[index(place(*p).0)] = true);

    let surface = Surface::new(mesh);
    let fills: Vec<Option<[f64; 8]>> = (0..nx * ny * nz)
        .into_par_iter()
        .map(|cell| {
            let at = DVec3::new((cell % nx) as f64, (cell / nx % ny) as f64, (cell / (nx * ny)) as f64);
            let filled = fill(&surface, min + at * step, step);
            (has_points[cell] || filled.iter().any(|part| *part > 0.0)).then_some(filled)
        })
        .collect();

    // Corners that are used, in the order of their place, x first.
    let mut numbers: BTreeMap<usize, u32> = BTreeMap::new();
    let corner_index = |[i, j, k]: [usize; 3], corner: usize| {
        (i + (corner & 1)) + (nx + 1) * ((j + (corner >> 1 & 1)) + (ny + 1) * (k + (corner >> 2)))
    };
    let cell_at = |cell: usize| [cell % nx, cell / nx % ny, cell / (nx * ny)];
    for cell in (0..fills.len()).filter(|cell| fills[*cell].is_some()) {
        (0..8).for_each(|corner| {
            numbers.insert(corner_index(cell_at(cell), corner), 0);
        });
    }
    numbers.values_mut().zip(0..).for_each(|(number, i)| *number = i);
    let corner_at = |i: usize| {
        let at = [i % (nx + 1), i / (nx + 1) % (ny + 1), i / ((nx + 1) * (ny + 1))];
        min + DVec3::from_array(at.map(|n| n as f64)) * step
    };
    let rest: Vec<DVec3> = numbers.keys().map(|&i| corner_at(i)).collect();
    let nodes_of = |cell: usize| -> [u32; 8] {
        std::array::from_fn(|corner| numbers[&corner_index(cell_at(cell), corner)])
    };

    let octant = step.x * step.y * step.z / 8.0;
    let mut measures = vec![0.0; rest.len()];
    let mut cells = Vec::new();
    for (cell, fill) in fills.iter().enumerate().filter_map(|(cell, fill)| Some((cell, (*fill)?))) {
        let nodes = nodes_of(cell);
        let volumes = fill.map(|part| octant * part.max(LEAST_FILL));
        for (q, volume) in volumes.iter().enumerate() {
            let at =
                DVec3::splat(0.25) + 0.5 * DVec3::new((q & 1) as f64, (q >> 1 & 1) as f64, (q >> 2) as f64);
            for (node, weight) in nodes.iter().zip(corner_weights(at)) {
                measures[*node as usize] += volume * weight;
            }
        }
        cells.push(Cell::new(nodes, volumes, step));
    }
    // Sampling finds the volume about; the mass is to be exact.
    let scale = volume / measures.iter().sum::<f64>();
    measures.iter_mut().for_each(|measure| *measure *= scale);
    cells.iter_mut().for_each(|cell| cell.scale_volume(scale));

    let mut embedding = Embedding::default();
    for p in &points {
        let (cell, at) = place(*p);
        // On a side of a cell the corners off it have no part.
        let of =
            nodes_of(index(cell)).into_iter().zip(corner_weights(at)).filter(|(_, weight)| *weight > 1e-9);
        embedding.push(of);
    }
    let shown = ShownMesh { topology: Arc::new(Topology::of(mesh)), point_of: weld.point_of.clone() };
    let has_area = |face: &[u32; 3]| {
        let [a, b, c] = face.map(|p| points[p as usize]);
        (b - a).cross(c - a).length() > 0.0
    };
    let discretization = Discretization {
        body_of: vec![0; rest.len()],
        rest,
        measures,
        triangles: Vec::new(),
        bends: Vec::new(),
        cells,
        embedding,
        faces: weld.faces(&mesh.triangles).into_iter().filter(has_area).collect(),
        bodies: 1,
    };
    Ok((discretization, shown, (step.x + step.y + step.z) / 3.0))
}

/// Part of each octant of a cell that is within a surface.
fn fill(surface: &Surface, low: DVec3, step: DVec3) -> [f64; 8] {
    let middle = (low + 0.5 * step).as_vec3();
    let reach = 0.5 * step.length() as f32;
    if surface.clearance(middle, reach) >= reach {
        return [if surface.contains(middle) { 1.0 } else { 0.0 }; 8];
    }
    let mut parts = [0.0; 8];
    let each = 1.0 / (SAMPLES * SAMPLES * SAMPLES / 8) as f64;
    for i in 0..SAMPLES * SAMPLES * SAMPLES {
        let at = [i % SAMPLES, i / SAMPLES % SAMPLES, i / (SAMPLES * SAMPLES)];
        let inner = DVec3::from_array(at.map(|n| (n as f64 + 0.5) / SAMPLES as f64));
        if surface.contains((low + inner * step).as_vec3()) {
            let octant = at.map(|n| usize::from(2 * n >= SAMPLES));
            parts[octant[0] + 2 * octant[1] + 4 * octant[2]] += each;
        }
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::primitive;
    use glam::Vec3;

    #[test]
    fn a_lattice_has_the_volume_of_its_body_and_carries_the_surface() {
        let mesh = primitive::sphere(0.4, 48);
        let volume = f64::from(mass_properties(&mesh).unwrap().volume);
        let (discretization, shown, edge_m) = lattice(&mesh, 0.1).unwrap();
        assert!((edge_m - 0.1).abs() < 1e-6);
        assert!((discretization.measures.iter().sum::<f64>() / volume - 1.0).abs() < 1e-9);
        assert!((discretization.cells.iter().map(Cell::volume).sum::<f64>() / volume - 1.0).abs() < 1e-9);
        // Corners of the box that the ball does not reach are left out.
        assert!(discretization.cells.len() < 8 * 8 * 8 && discretization.cells.len() > 300);
        for (vertex, &point) in shown.point_of.iter().enumerate() {
            let at = discretization.embedding.at(point, &discretization.rest);
            assert!((at - mesh.positions[vertex].as_dvec3()).length() < 1e-6);
        }
        assert!(discretization.cells.iter().all(|cell| cell.nodes.is_sorted()));
    }

    #[test]
    fn a_box_is_filled_by_whole_cells() {
        let mesh = primitive::cuboid(Vec3::new(0.8, 0.2, 0.3), 0.0);
        let (discretization, _, _) = lattice(&mesh, 0.1).unwrap();
        assert_eq!((discretization.cells.len(), discretization.len()), (8 * 2 * 3, 9 * 3 * 4));
        let whole = discretization.cells[0].volume();
        assert!(discretization.cells.iter().all(|cell| (cell.volume() / whole - 1.0).abs() < 1e-6));
    }

    #[test]
    fn a_copy_of_another_size_is_as_a_body_of_that_size() {
        let mesh = primitive::sphere(0.4, 24);
        let (small, ..) = lattice(&mesh, 0.1).unwrap();
        let n = small.len();
        let both = small.copies([1.0, 0.5].into_iter());
        let (large, ..) = lattice(&mesh.scaled(0.5), 0.05).unwrap();
        assert_eq!((both.len(), both.bodies), (2 * n, 2));
        let (mass, of_size) = (large.measures.iter().sum::<f64>(), both.measures[n..].iter().sum::<f64>());
        assert!((of_size / mass - 1.0).abs() < 1e-6);
        // The same stretch deforms both alike.
        let (a, b) = (both.cells.last().unwrap(), large.cells.last().unwrap());
        let stretched = |rest: &[DVec3]| rest.iter().map(|p| *p * DVec3::new(1.2, 1.0, 0.9)).collect();
        let (at, bt): (Vec<DVec3>, Vec<DVec3>) = (stretched(&both.rest), stretched(&large.rest));
        assert!((a.mean_deformation(&at) - b.mean_deformation(&bt)).x_axis.length() < 1e-5);
        assert!((a.volume() / b.volume() - 1.0).abs() < 1e-3);
    }

    #[test]
    fn open_and_endless_meshes_are_refused() {
        let open = primitive::plane(1.0, 1.0);
        assert_eq!(lattice(&open, 0.1).err(), Some(LatticeError::NotClosed));
        let mesh = primitive::sphere(0.4, 16);
        assert!(matches!(lattice(&mesh, 1e-6).err(), Some(LatticeError::TooMany(_))));
    }
}
