//! Curvature of the surface of a liquid, for its surface tension.
//!
//! The fractions to which cells are full are evened out, and the curvature is the divergence of the unit normals of what comes of that
//! (S. Cummins, M. Francois and D. Kothe, *Estimating curvature from volume fractions*, 2005); at walls the normals are those of the
//! wetting angle (J. Brackbill, D. Kothe and C. Zemach, *A continuum method for modeling surface tension*, 1992).

use super::cell_properties::CellProperties;
use super::solids::CutCells;
use super::volume_fraction::VolumeFraction;
use geometry::tiles::{CELLS, Tiles, local};
use glam::{IVec3, Vec3};
use rayon::prelude::*;

/// A gradient smaller than this, by cell, is no surface.
const LEAST_GRADIENT: f32 = 1e-3;
/// Layers of cells of solids into which the liquid is carried on.
const WALL_LAYERS: usize = 3;
/// Greatest curvature, in cells: a sphere of two cells.
const MAX_CURVATURE: f32 = 1.0;

/// Calls `of` with all cells, in parallel.
fn for_all<T: Send>(tiles: &Tiles, of: impl Fn(usize) -> T + Sync + Send) -> Vec<T> {
    (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(of).collect()
}

/// The cells before and behind a cell along each axis.
fn beside(tiles: &Tiles, cell: usize) -> [[Option<usize>; 2]; 3] {
    let (tile, at) = (cell / CELLS, local(cell % CELLS));
    IVec3::AXES.map(|axis| [tiles.cell(tile, at - axis), tiles.cell(tile, at + axis)])
}

/// The curvature in each cell, 1/Δx: 2 / R of a ball of liquid; 0 where there is no surface.
pub(super) fn curvature(
    tiles: &Tiles,
    solids: &CutCells,
    volume_fraction: &VolumeFraction,
    properties: &CellProperties,
) -> Vec<f32> {
    let is_open = |cell: usize| solids.volume(cell) > 0.0;
    let walls = Walls::new(tiles, solids, properties);
    let mut full: Vec<f32> = volume_fraction.fraction.iter().map(|fraction| fraction.min(1.0)).collect();
    walls.extend(&mut full);
    let even_out = |mut full: Vec<f32>| {
        for axis in 0..3 {
            full = for_all(tiles, |cell| {
                let [before, behind] =
                    beside(tiles, cell)[axis].map(|cell| cell.map_or(0.0, |cell| full[cell]));
                0.25 * (before + behind) + 0.5 * full[cell]
            });
        }
        walls.extend(&mut full);
        full
    };
    full = even_out(full);
    let value = |cell: Option<usize>| cell.map_or(0.0, |cell| full[cell]);
    let gradient = |cell: usize| {
        let along = beside(tiles, cell).map(|[before, behind]| 0.5 * (value(behind) - value(before)));
        Vec3::from(along)
    };
    let gradients: Vec<Vec3> = for_all(tiles, gradient);
    // Towards the liquid.
    let normal = |cell: usize| {
        let gradient = gradients[cell];
        if gradient.length() > LEAST_GRADIENT { gradient.normalize() } else { Vec3::ZERO }
    };
    let normals: Vec<Vec3> = for_all(tiles, normal);
    // Weighted by how much of a surface there is.
    let weighted = |cell: usize| {
        let own = normals[cell];
        if own == Vec3::ZERO || !is_open(cell) {
            return (0.0, 0.0);
        }
        let mut divergence = 0.0;
        for (axis, around) in beside(tiles, cell).into_iter().enumerate() {
            let [before, behind] = around.map(|other| {
                let other = other.map_or(Vec3::ZERO, |other| normals[other]);
                if other == Vec3::ZERO { own[axis] } else { other[axis] }
            });
            divergence += 0.5 * (behind - before);
        }
        let weight = gradients[cell].length();
        (-divergence.clamp(-MAX_CURVATURE, MAX_CURVATURE) * weight, weight)
    };
    let mut sums: Vec<(f32, f32)> = for_all(tiles, weighted);
    for axis in 0..3 {
        sums = for_all(tiles, |cell| {
            let own = (2.0 * sums[cell].0, 2.0 * sums[cell].1);
            let add = |sum: (f32, f32), other: usize| (sum.0 + sums[other].0, sum.1 + sums[other].1);
            beside(tiles, cell)[axis].into_iter().flatten().fold(own, add)
        });
    }
    sums.into_iter().map(|(sum, weight)| if weight > LEAST_GRADIENT { sum / weight } else { 0.0 }).collect()
}

/// The cells of solids near liquid, in layers from their surfaces inward.
struct Walls<'a> {
    tiles: &'a Tiles,
    layers: Vec<Vec<WallCell>>,
}

/// A cell of a solid, with the cells beside that lie further out, each with how much the value rises from there by the slope along the
/// wall: the way into the wall, in cells, times the cotangent of the wetting angle.
struct WallCell {
    cell: u32,
    /// Out of the wall.
    normal: Vec3,
    from: Vec<(u32, f32)>,
}

impl<'a> Walls<'a> {
    fn new(tiles: &'a Tiles, solids: &CutCells, properties: &CellProperties) -> Self {
        let walled: Vec<bool> = (0..tiles.len()).map(|tile| solids.any_near(tiles, tile)).collect();
        let is_solid = |cell: usize| walled[cell / CELLS] && solids.volume(cell) <= 0.0;
        let mut layer_of: std::collections::HashMap<u32, usize> = std::collections::HashMap::new();
        let mut layers: Vec<Vec<WallCell>> = Vec::new();
        let mut candidates: Vec<u32> =
            (0..tiles.cells() as u32).filter(|cell| is_solid(*cell as usize)).collect();
        for depth in 0..WALL_LAYERS {
            let found = |cell: &u32| {
                let around = beside(tiles, *cell as usize);
                let volume = |cell: Option<usize>| cell.map_or(1.0, |cell| solids.volume(cell));
                let normal = Vec3::from(around.map(|[before, behind]| volume(behind) - volume(before)));
                let normal = normal.normalize_or_zero();
                let mut from = Vec::new();
                for (axis, sides) in around.into_iter().enumerate() {
                    for other in sides.into_iter().flatten() {
                        let is_out = if depth == 0 {
                            !is_solid(other)
                        } else {
                            layer_of.get(&(other as u32)) == Some(&(depth - 1))
                        };
                        if is_out {
                            let into = if normal == Vec3::ZERO { 1.0 } else { normal[axis].abs() };
                            from.push((other as u32, into * cotangent(properties.wetting([Some(other)]))));
                        }
                    }
                }
                (!from.is_empty()).then_some(WallCell { cell: *cell, normal, from })
            };
            let layer: Vec<WallCell> = candidates.iter().filter_map(found).collect();
            layer_of.extend(layer.iter().map(|of| (of.cell, depth)));
            candidates.retain(|cell| !layer_of.contains_key(cell));
            layers.push(layer);
        }
        Self { tiles, layers }
    }

    /// Gives cells of solids the values that go on from the liquid at the wetting angle.
    fn extend(&self, full: &mut [f32]) {
        for layer in &self.layers {
            let value = |of: &WallCell| {
                let sum = of.from.iter().map(|(other, rise)| {
                    let other = *other as usize;
                    let along = beside(self.tiles, other).map(|[before, behind]| {
                        let at = |cell: Option<usize>| cell.map_or(0.0, |cell| full[cell]);
                        0.5 * (at(behind) - at(before))
                    });
                    let along = Vec3::from(along);
                    full[other] + rise * (along - of.normal * along.dot(of.normal)).length()
                });
                (sum.sum::<f32>() / of.from.len() as f32).clamp(0.0, 1.0)
            };
            let values: Vec<f32> = layer.par_iter().with_min_len(256).map(value).collect();
            layer.iter().zip(values).for_each(|(of, value)| full[of.cell as usize] = value);
        }
    }
}

/// The cotangent of an angle of which the cosine is given, as far as a grid can show it.
fn cotangent(cos: f32) -> f32 {
    const MOST: f32 = 3.0;
    (cos / (1.0 - cos * cos).max(1e-6).sqrt()).clamp(-MOST, MOST)
}
