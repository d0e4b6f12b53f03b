//! How full cells are: where the surface of the liquid lies, and how far particles are to be spread or drawn together.

use super::solids::CutCells;
use super::transfer::Faces;
use geometry::tiles::{CELLS, SIDE, Tiles, local};
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
        let of_tile = |(tile, fractions): (usize, &mut [f32])| {
            let volumes = &faces.volume[tile * CELLS..(tile + 1) * CELLS];
            if volumes.iter().all(|volume| *volume <= 0.0) {
                return;
            }
            let block = solids.any_near(tiles, tile).then(|| SolidBlock::new(tiles, solids, tile));
            let room = |at: usize| block.as_ref().map_or(1.0, |block| block.room(local(at)));
            for (at, (fraction, volume)) in fractions.iter_mut().zip(volumes).enumerate() {
                if *volume > 0.0 && solids.volume(tile * CELLS + at) >= LEAST_ROOM {
                    let room = room(at);
                    *fraction = if room < LEAST_ROOM { 0.0 } else { volume / room };
                }
            }
        };
        let mut fraction = vec![0.0f32; tiles.cells()];
        fraction.par_chunks_mut(CELLS).enumerate().for_each(of_tile);
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

/// Cells along each side of a tile with those around it.
const BLOCK_SIDE: usize = SIDE as usize + 2;

/// The solids in the cells of a tile and in those around it.
struct SolidBlock {
    /// The open fractions of the cells.
    volumes: Vec<f32>,
    /// Whether the lower face of each cell along each axis is open.
    open: Vec<[bool; 3]>,
    /// The cells with a solid in or around them, a bit each, by rows along x.
    near_solid: [u16; BLOCK_SIDE * BLOCK_SIDE],
}

impl SolidBlock {
    fn new(tiles: &Tiles, solids: &CutCells, tile: usize) -> Self {
        const CELLS_OF_BLOCK: usize = BLOCK_SIDE.pow(3);
        let (mut volumes, mut open) = (vec![1.0; CELLS_OF_BLOCK], vec![[true; 3]; CELLS_OF_BLOCK]);
        let mut solid = [0u16; BLOCK_SIDE * BLOCK_SIDE];
        for (place, (volume, open)) in volumes.iter_mut().zip(&mut open).enumerate() {
            let (x, row) = (place % BLOCK_SIDE, place / BLOCK_SIDE);
            let at = IVec3::new(x as i32, (row % BLOCK_SIDE) as i32, (row / BLOCK_SIDE) as i32) - 1;
            let Some(cell) = tiles.cell(tile, at) else { continue };
            *volume = solids.volume(cell);
            *open = std::array::from_fn(|axis| solids.open(axis, cell) > 0.0);
            solid[row] |= u16::from(*volume < 1.0 || *open != [true; 3]) << x;
        }
        let beside_in_rows = solid.map(|row| row | row << 1 | row >> 1);
        let mut near_solid = beside_in_rows;
        for (row, near) in near_solid.iter_mut().enumerate() {
            let (y, z) = (row % BLOCK_SIDE, row / BLOCK_SIDE);
            for (y, z) in (z.max(1) - 1..BLOCK_SIDE.min(z + 2))
                .flat_map(|z| (y.max(1) - 1..BLOCK_SIDE.min(y + 2)).map(move |y| (y, z)))
            {
                *near |= beside_in_rows[z * BLOCK_SIDE + y];
            }
        }
        Self { volumes, open, near_solid }
    }

    fn place(at: IVec3) -> usize {
        let [x, y, z] = (at + 1).to_array().map(|along| along as usize);
        (z * BLOCK_SIDE + y) * BLOCK_SIDE + x
    }

    /// The room for liquid around the centre of a cell of the tile: the open volume of the cells around, with trilinear weights, but
    /// of those beyond walls.
    fn room(&self, at: IVec3) -> f32 {
        let place = Self::place(at);
        if self.near_solid[place / BLOCK_SIDE] >> (place % BLOCK_SIDE) & 1 == 0 {
            return 1.0;
        }
        // The integral of the weight 1 − |x| over the cell itself and over the next.
        let along = |step: i32| if step == 0 { 0.75 } else { 0.125 };
        let ways = (0..27).map(|k| IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1));
        let of = |by: IVec3| along(by.x) * along(by.y) * along(by.z) * self.volumes[Self::place(at + by)];
        ways.filter(|by| self.is_reached(at, *by)).map(of).sum()
    }

    /// Whether there is a way through open faces to a cell beside, along each axis once.
    fn is_reached(&self, at: IVec3, by: IVec3) -> bool {
        (0..3).filter(|axis| by[*axis] != 0).any(|axis| {
            let step = IVec3::AXES[axis] * by[axis];
            let face = if by[axis] > 0 { at + step } else { at };
            self.open[Self::place(face)][axis] && self.is_reached(at + step, by - step)
        }) || by == IVec3::ZERO
    }
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
