//! Sets of cells: a bit for each cell of a tile.

use geometry::tiles::{CELLS, SIDE, Tiles};
use glam::IVec3;
use rayon::prelude::*;

/// The cells of a tile that are in a set: a bit for each, a number for each layer along z.
pub(super) type Mask = [u64; SIDE as usize];

/// Bits of the first cell of each row along x.
const FIRST_X: u64 = 0x0101_0101_0101_0101;
/// Tiles that a thread takes at once.
const CHUNK: usize = 16;

/// The cells for which `of` holds.
pub(super) fn masks_of(tiles: &Tiles, of: impl Fn(usize) -> bool + Sync) -> Vec<Mask> {
    let mask = |tile: usize| -> Mask {
        let bits = |z: usize| {
            let first = tile * CELLS + 64 * z;
            (0..64).rev().fold(0, |bits, place| bits << 1 | u64::from(of(first + place)))
        };
        std::array::from_fn(bits)
    };
    (0..tiles.len()).into_par_iter().with_min_len(CHUNK).map(mask).collect()
}

/// The cells of a tile beside those of a set.
pub(super) fn beside_mask(tiles: &Tiles, tile: usize, masks: &[Mask]) -> Mask {
    let own = &masks[tile];
    let beside = |by: IVec3| tiles.beside(tile, by).map_or([0; SIDE as usize], |other| masks[other]);
    let [west, east] = [beside(IVec3::NEG_X), beside(IVec3::X)];
    let [south, north] = [beside(IVec3::NEG_Y), beside(IVec3::Y)];
    let [below, above] = [beside(IVec3::NEG_Z), beside(IVec3::Z)];
    std::array::from_fn(|z| {
        let layer = own[z];
        let under = if z == 0 { below[SIDE as usize - 1] } else { own[z - 1] };
        let over = if z + 1 == SIDE as usize { above[0] } else { own[z + 1] };
        under
            | over
            | (layer << 1 & !FIRST_X | west[z] >> 7 & FIRST_X)
            | (layer >> 1 & !(FIRST_X << 7) | (east[z] & FIRST_X) << 7)
            | (layer << 8 | south[z] >> 56)
            | (layer >> 8 | north[z] << 56)
    })
}

/// What `of` makes of the set of each tile and the cells beside it.
pub(super) fn with_beside(
    tiles: &Tiles,
    masks: &[Mask],
    of: impl Fn(usize, &Mask, &Mask) -> Mask + Sync,
) -> Vec<Mask> {
    let one = |tile: usize| of(tile, &masks[tile], &beside_mask(tiles, tile, masks));
    (0..tiles.len()).into_par_iter().with_min_len(CHUNK).map(one).collect()
}

/// The places of the cells of a set in a tile, rising.
pub(super) fn places_in(mask: &Mask) -> impl Iterator<Item = usize> {
    mask.iter().enumerate().flat_map(|(z, layer)| {
        let mut left = *layer;
        std::iter::from_fn(move || {
            (left != 0).then(|| {
                let place = 64 * z + left.trailing_zeros() as usize;
                left &= left - 1;
                place
            })
        })
    })
}

/// Whether a cell is in a set.
pub(super) fn has(masks: &[Mask], cell: usize) -> bool {
    masks[cell / CELLS][cell % CELLS / 64] >> (cell % 64) & 1 == 1
}
