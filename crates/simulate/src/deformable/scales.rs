//! Factors on stiffness and on lengths at rest, by triangle and by cell.

use super::discretization::{Discretization, Part};
use super::material::Material;
use glam::DMat3;
use shot::map::{ScaledByMap, ScaledQuantity};

/// Factors of a triangle.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct TriangleScale {
    /// Of the stiffness along warp and weft, and against shear.
    pub stretch: [f64; 3],
    /// Of that against bending.
    pub bend: f64,
    /// Of lengths at rest.
    pub length: f64,
}

/// Factors of a cell.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct CellScale {
    pub stiffness: f64,
    pub length: f64,
}

/// Least factor of lengths at rest, so that nothing vanishes.
const LEAST_LENGTH: f64 = 0.01;

/// Factors of all triangles and cells; each list is empty where all of them are 1.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Scales {
    pub triangles: Vec<TriangleScale>,
    pub cells: Vec<CellScale>,
}

/// The weights of a map at the nodes of an element, and what it scales.
pub(super) type ScaledWeights<'a> = Vec<(&'a ScaledByMap, Vec<f32>)>;

impl Scales {
    /// By the maps of each element, with weights at its nodes.
    pub fn new(
        discretization: &Discretization,
        parts: &[Part],
        of: &[Material],
        by: &[ScaledWeights],
    ) -> Self {
        let mut scales = Self::default();
        for ((part, material), by) in parts.iter().zip(of).zip(by) {
            if by.is_empty() && material.rest_length == 1.0 {
                continue;
            }
            let start = part.nodes.start;
            let mean = |weights: &[f32], nodes: &[u32]| {
                let sum: f32 = nodes.iter().map(|node| weights[*node as usize - start]).sum();
                f64::from(sum / nodes.len() as f32)
            };
            let factor = |nodes: &[u32], quantities: &[ScaledQuantity]| {
                by.iter().filter(|(of, _)| quantities.contains(&of.quantity)).fold(
                    1.0,
                    |product, (of, weights)| {
                        let (low, high) = (f64::from(of.at_0), f64::from(of.at_1));
                        product * (low + (high - low) * mean(weights, nodes))
                    },
                )
            };
            use ScaledQuantity::{Bending, RestLength, Shear, Stiffness, Warp, Weft};
            let length =
                |nodes: &[u32]| (material.rest_length * factor(nodes, &[RestLength])).max(LEAST_LENGTH);
            for (i, triangle) in discretization.triangles.iter().enumerate() {
                let nodes = &triangle.points;
                if part.nodes.contains(&(nodes[0] as usize)) {
                    let whole = TriangleScale { stretch: [1.0; 3], bend: 1.0, length: 1.0 };
                    scales.triangles.resize(discretization.triangles.len(), whole);
                    scales.triangles[i] = TriangleScale {
                        stretch: [Warp, Weft, Shear].map(|of| factor(nodes, &[of, Stiffness])),
                        bend: factor(nodes, &[Bending]),
                        length: length(nodes),
                    };
                }
            }
            for (i, cell) in discretization.cells.iter().enumerate() {
                let nodes = &cell.nodes;
                if part.nodes.contains(&(nodes[0] as usize)) {
                    scales
                        .cells
                        .resize(discretization.cells.len(), CellScale { stiffness: 1.0, length: 1.0 });
                    scales.cells[i] =
                        CellScale { stiffness: factor(nodes, &[Stiffness]), length: length(nodes) };
                }
            }
        }
        scales
    }

    /// Factors of the bending energy of each triangle: with lengths, curvatures change too.
    pub fn bends(&self) -> Vec<f64> {
        self.triangles.iter().map(|scale| scale.bend / (scale.length * scale.length)).collect()
    }

    /// What undoes the scale of a cell's lengths, and the factor of its volume; none: its lengths are those at rest.
    pub fn of_cell(&self, cell: usize) -> Option<(DMat3, f64)> {
        let length = self.cells.get(cell).map_or(1.0, |scale| scale.length);
        (length != 1.0).then(|| (DMat3::from_diagonal(glam::DVec3::splat(1.0 / length)), length.powi(3)))
    }
}
