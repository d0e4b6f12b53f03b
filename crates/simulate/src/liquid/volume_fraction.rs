//! How full cells are: where the surface of the liquid lies, and how far particles are to be spread or drawn together.

use super::solids::CutCells;
use super::transfer::Faces;
use geometry::tiles::{CELLS, Tiles, local};
use glam::IVec3;
use rayon::prelude::*;

/// A cell with less room for liquid than this holds none, in cells.
const LEAST_ROOM: f32 = 0.02;
/// A cell with less room can be without a particle within a liquid, in cells.
const NARROW: f32 = 0.3;
/// Distance of cells without liquid from its surface, in cells.
const FAR: f32 = 1.0;

/// How full the cells are.
pub(super) struct VolumeFraction {
    /// Volume of the liquid over the room for it, both with trilinear weights; 1 is full.
    pub fraction: Vec<f32>,
    /// Distance of each cell's centre from the surface of the liquid, in cells; negative inside.
    pub distance: Vec<f32>,
}

impl VolumeFraction {
    /// Of the volume that particles give to cells, and the room that solids leave.
    pub fn new(tiles: &Tiles, faces: &Faces, solids: &CutCells) -> Self {
        let walled: Vec<bool> = (0..tiles.len()).map(|tile| solids.any_near(tiles, tile)).collect();
        let fraction = |cell: usize| {
            if faces.volume[cell] <= 0.0 {
                return 0.0;
            }
            let room = if walled[cell / CELLS] { room(tiles, solids, cell) } else { 1.0 };
            if room < LEAST_ROOM || solids.volume(cell) <= 0.0 { 0.0 } else { faces.volume[cell] / room }
        };
        let fraction: Vec<f32> =
            (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(fraction).collect();
        let distance = |cell: usize| {
            let own = -depth(fraction[cell]);
            // A cell that is thinly filled between full ones is no bubble, nor is one that solids leave hardly any room.
            let is_narrow = |cell: usize| solids.volume(cell) < NARROW;
            if own < 0.0 || (fraction[cell] <= 0.0 && !(is_narrow(cell) && solids.volume(cell) > 0.0)) {
                return own;
            }
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let around = || IVec3::AXES.into_iter().flat_map(|axis| [axis, -axis]);
            let full = |by: IVec3| {
                tiles.cell(tile, at + by).is_some_and(|other| fraction[other] > 0.5 || is_narrow(other))
            };
            let any_full =
                || around().any(|by| tiles.cell(tile, at + by).is_some_and(|other| fraction[other] > 0.5));
            if around().all(full) && any_full() { -0.1 } else { own }
        };
        let distance = (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(distance).collect();
        Self { fraction, distance }
    }

    /// The volume within the liquid over that of its particles there: the mean of 1 / fraction, by the liquid in each cell, over
    /// the cells that have liquid on all sides; 1 if there is none.
    pub fn volume_kept(&self, tiles: &Tiles, solids: &CutCells) -> f32 {
        let of = |tile: usize| {
            let (mut room, mut volume) = (0.0f64, 0.0f64);
            for at in 0..CELLS {
                let cell = tile * CELLS + at;
                let around = || IVec3::AXES.into_iter().flat_map(|axis| [axis, -axis]);
                let is_within = self.distance[cell] < 0.0
                    && solids.volume(cell) >= 1.0
                    && around()
                        .all(|by| tiles.cell(tile, local(at) + by).is_some_and(|by| self.distance[by] < 0.0));
                if is_within {
                    room += 1.0;
                    volume += f64::from(self.fraction[cell]);
                }
            }
            (room, volume)
        };
        let parts: Vec<(f64, f64)> = (0..tiles.len()).into_par_iter().with_min_len(16).map(of).collect();
        let (room, volume) =
            parts.into_iter().fold((0.0, 0.0), |(room, volume), part| (room + part.0, volume + part.1));
        if volume > 0.0 { (room / volume) as f32 } else { 1.0 }
    }
}

/// The room for liquid around the centre of a cell: the open volume of the cells around, with trilinear weights, but of those
/// beyond walls.
fn room(tiles: &Tiles, solids: &CutCells, cell: usize) -> f32 {
    let (tile, at) = (cell / CELLS, local(cell % CELLS));
    // The integral of the weight 1 − |x| over the cell itself and over the next.
    let along = |step: i32| if step == 0 { 0.75 } else { 0.125 };
    let mut room = 0.0;
    for k in 0..27 {
        let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
        if !is_reached(tiles, solids, (tile, at), by) {
            continue;
        }
        let open = tiles.cell(tile, at + by).map_or(1.0, |other| solids.volume(other));
        room += along(by.x) * along(by.y) * along(by.z) * open;
    }
    room
}

/// Whether there is a way through open faces to a cell beside, along each axis once.
fn is_reached(tiles: &Tiles, solids: &CutCells, (tile, at): (usize, IVec3), by: IVec3) -> bool {
    (0..3).filter(|axis| by[*axis] != 0).any(|axis| {
        let step = IVec3::AXES[axis] * by[axis];
        let face = tiles.cell(tile, if by[axis] > 0 { at + step } else { at });
        let is_open = face.is_none_or(|face| solids.open(axis, face) > 0.0);
        is_open && is_reached(tiles, solids, (tile, at + step), by - step)
    }) || by == IVec3::ZERO
}

/// How deep below a level surface a place lies, in cells, around which so much is full with trilinear weights; negative above.
fn depth(fraction: f32) -> f32 {
    match fraction {
        f if f <= 0.0 => -FAR,
        f if f < 0.5 => (2.0 * f).sqrt() - 1.0,
        f if f < 1.0 => 1.0 - (2.0 * (1.0 - f)).sqrt(),
        _ => FAR,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_depth_is_that_whose_weights_give_the_fraction() {
        // The integral of 1 − |x| from −1 up to the surface.
        for depth_of in [-0.9f32, -0.4, 0.0, 0.3, 0.8] {
            let below = if depth_of < 0.0 {
                0.5 * (1.0 + depth_of).powi(2)
            } else {
                1.0 - 0.5 * (1.0 - depth_of).powi(2)
            };
            assert!((depth(below) - depth_of).abs() < 1e-3, "{depth_of}: {}", depth(below));
        }
    }
}
