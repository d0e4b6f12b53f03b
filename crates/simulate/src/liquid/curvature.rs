//! Curvature of the surface of a liquid, for its surface tension.
//!
//! The fractions to which cells are full are evened out, and the curvature is the divergence of the unit normals of what comes of that
//! (S. Cummins, M. Francois and D. Kothe, *Estimating curvature from volume fractions*, 2005). Into solids the fractions go on along
//! the wetting angle (as in S. Afkhami and M. Bussmann, *Height functions for applying contact angles to 2D VOF simulations*, 2008).

use super::cell_properties::CellProperties;
use super::masks::{masks_of, places_in, with_beside};
use super::solids::CutCells;
use super::volume_fraction::VolumeFraction;
use geometry::tiles::{CELLS, Tiles, local};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use std::collections::HashMap;

/// A gradient smaller than this, by cell, is no surface.
const LEAST_GRADIENT: f32 = 1e-3;
/// Cells on both sides of the surface whose values count for the curvature at the surface.
const BAND: u32 = 3;
/// Layers of cells of solids into which the liquid is carried on.
const WALL_LAYERS: usize = 3;
/// Greatest curvature, in cells: a sphere of two cells.
const MAX_CURVATURE: f32 = 1.0;

/// Marks a cell that is not there.
const NONE: u32 = u32::MAX;

/// The cells before and behind a cell along each axis.
fn beside(tiles: &Tiles, cell: usize) -> [[Option<usize>; 2]; 3] {
    let (tile, at) = (cell / CELLS, local(cell % CELLS));
    IVec3::AXES.map(|axis| [tiles.cell(tile, at - axis), tiles.cell(tile, at + axis)])
}

/// The cells within [`BAND`] cells of the surface, rising.
struct Band {
    cells: Vec<u32>,
    /// The cells before and behind each along the axes.
    around: Vec<[u32; 6]>,
    /// The places of all cells among those of the band.
    places: Vec<u32>,
}

impl Band {
    fn new(tiles: &Tiles, solids: &CutCells, distance: &[f32]) -> Self {
        let air = masks_of(tiles, |cell| distance[cell] >= 0.0 && solids.volume(cell) > 0.0);
        let liquid = masks_of(tiles, |cell| distance[cell] < 0.0);
        let mut band =
            with_beside(tiles, &air, |tile, _, around| std::array::from_fn(|z| liquid[tile][z] & around[z]));
        // The first step takes in the cells on the other side of the surface.
        for _ in 0..=BAND {
            band = with_beside(tiles, &band, |_, own, around| std::array::from_fn(|z| own[z] | around[z]));
        }
        let of_tile = |tile: usize| places_in(&band[tile]).map(move |place| (tile * CELLS + place) as u32);
        let tiles_in_order = (0..tiles.len()).into_par_iter().with_min_len(16);
        let cells: Vec<u32> = tiles_in_order.flat_map_iter(of_tile).collect();
        let mut places = vec![NONE; tiles.cells()];
        cells.iter().zip(0..).for_each(|(cell, place)| places[*cell as usize] = place);
        let number = |cell: Option<usize>| cell.map_or(NONE, |cell| cell as u32);
        let of = |cell: &u32| {
            let [x, y, z] = beside(tiles, *cell as usize).map(|pair| pair.map(number));
            [x[0], x[1], y[0], y[1], z[0], z[1]]
        };
        Self { around: cells.par_iter().with_min_len(256).map(of).collect(), cells, places }
    }

    /// Calls `of` with the place of each cell and the cells around, in parallel.
    fn map<T: Send>(&self, of: impl Fn(usize, &[u32; 6]) -> T + Sync + Send) -> Vec<T> {
        self.around
            .par_iter()
            .enumerate()
            .with_min_len(256)
            .map(|(place, around)| of(place, around))
            .collect()
    }

    /// The value of a cell in a column of the band.
    fn get<T: Copy>(&self, column: &[T], cell: u32, none: T) -> T {
        let place = if cell == NONE { NONE } else { self.places[cell as usize] };
        if place == NONE { none } else { column[place as usize] }
    }
}

/// The curvature in each cell, 1/Δx: 2 / R of a ball of liquid; 0 away from the surface.
pub(super) fn curvature(
    tiles: &Tiles,
    solids: &CutCells,
    volume_fraction: &VolumeFraction,
    properties: &CellProperties,
) -> Vec<f32> {
    let band = Band::new(tiles, solids, &volume_fraction.distance);
    let mut full: Vec<f32> = volume_fraction.fraction.iter().map(|fraction| fraction.min(1.0)).collect();
    let walls = Walls::new(tiles, solids, properties, &band);
    walls.extend(&mut full);
    for axis in 0..3 {
        let even = |place: usize, around: &[u32; 6]| {
            let of = |cell: u32| if cell == NONE { 0.0 } else { full[cell as usize] };
            let own = full[band.cells[place] as usize];
            0.25 * (of(around[2 * axis]) + of(around[2 * axis + 1])) + 0.5 * own
        };
        let evened = band.map(even);
        band.cells.iter().zip(evened).for_each(|(cell, value)| full[*cell as usize] = value);
    }
    walls.extend(&mut full);
    let gradients = band.map(|_, around| {
        let of = |cell: u32| if cell == NONE { 0.0 } else { full[cell as usize] };
        Vec3::from([0, 2, 4].map(|before| 0.5 * (of(around[before + 1]) - of(around[before]))))
    });
    // Towards the liquid.
    let normal =
        |gradient: &Vec3| if gradient.length() > LEAST_GRADIENT { gradient.normalize() } else { Vec3::ZERO };
    let normals: Vec<Vec3> = gradients.iter().map(normal).collect();
    // Weighted by how much of a surface there is.
    let mut sums = band.map(|place, around| {
        let own = normals[place];
        if own == Vec3::ZERO || solids.volume(band.cells[place] as usize) <= 0.0 {
            return (0.0, 0.0);
        }
        let mut divergence = 0.0;
        for axis in 0..3 {
            let [before, behind] = [around[2 * axis], around[2 * axis + 1]].map(|other| {
                let other = band.get(&normals, other, Vec3::ZERO);
                if other == Vec3::ZERO { own[axis] } else { other[axis] }
            });
            divergence += 0.5 * (behind - before);
        }
        let weight = gradients[place].length();
        (-divergence.clamp(-MAX_CURVATURE, MAX_CURVATURE) * weight, weight)
    });
    for axis in 0..3 {
        sums = band.map(|place, around| {
            let [before, behind] =
                [around[2 * axis], around[2 * axis + 1]].map(|other| band.get(&sums, other, (0.0, 0.0)));
            let own = sums[place];
            (2.0 * own.0 + before.0 + behind.0, 2.0 * own.1 + before.1 + behind.1)
        });
    }
    let mut curvature = vec![0.0; tiles.cells()];
    for (cell, (sum, weight)) in band.cells.iter().zip(sums) {
        curvature[*cell as usize] = if weight > LEAST_GRADIENT { sum / weight } else { 0.0 };
    }
    curvature
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
    /// Of the solids that the band touches.
    fn new(tiles: &'a Tiles, solids: &CutCells, properties: &CellProperties, band: &Band) -> Self {
        let is_solid = |cell: usize| solids.volume(cell) <= 0.0;
        let wall_cell = |cell: usize, is_out: &dyn Fn(usize) -> bool| {
            let around = beside(tiles, cell);
            let volume = |cell: Option<usize>| cell.map_or(1.0, |cell| solids.volume(cell));
            let normal = Vec3::from(around.map(|[before, behind]| volume(behind) - volume(before)));
            let normal = normal.normalize_or_zero();
            let mut from = Vec::new();
            for (axis, sides) in around.into_iter().enumerate() {
                for other in sides.into_iter().flatten().filter(|other| is_out(*other)) {
                    let into = if normal == Vec3::ZERO { 1.0 } else { normal[axis].abs() };
                    from.push((other as u32, into * cotangent(properties.wetting([Some(other)]))));
                }
            }
            (!from.is_empty()).then_some(WallCell { cell: cell as u32, normal, from })
        };
        let of_band = |cell: &u32| {
            let cell = *cell as usize;
            if is_solid(cell) { wall_cell(cell, &|other| !is_solid(other)) } else { None }
        };
        let mut layers: Vec<Vec<WallCell>> =
            vec![band.cells.par_iter().with_min_len(256).filter_map(of_band).collect()];
        let mut marked: HashMap<u32, usize> = layers[0].iter().map(|of| (of.cell, 0)).collect();
        for depth in 1..WALL_LAYERS {
            let around = |of: &WallCell| beside(tiles, of.cell as usize).into_iter().flatten().flatten();
            let mut next: Vec<usize> = layers[depth - 1]
                .iter()
                .flat_map(around)
                .filter(|cell| is_solid(*cell) && !marked.contains_key(&(*cell as u32)))
                .collect();
            next.sort_unstable();
            next.dedup();
            let before = |other: usize| marked.get(&(other as u32)) == Some(&(depth - 1));
            let layer: Vec<WallCell> = next.into_iter().filter_map(|cell| wall_cell(cell, &before)).collect();
            marked.extend(layer.iter().map(|of| (of.cell, depth)));
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
