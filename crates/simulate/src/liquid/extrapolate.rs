//! Velocities carried on from the liquid into the air and into solids, so that particles at its surface find some on all sides.

use super::transfer::Faces;
use geometry::tiles::{CELLS, SIDE, Tiles, local};
use glam::IVec3;
use rayon::prelude::*;

/// Which cells of a tile are known: a bit for each, a number for each layer along z.
type Mask = [u64; SIDE as usize];

/// Bits of the first cell of each row along x.
const FIRST_X: u64 = 0x0101_0101_0101_0101;

/// Gives faces without a velocity that lie beside ones with one the mean of those, `rounds` times.
pub(super) fn extrapolate(tiles: &Tiles, faces: &mut Faces, rounds: u32) {
    for (velocities, known) in faces.velocities.iter_mut().zip(&mut faces.known) {
        let mask = |known: &[bool]| -> Mask {
            let bits =
                |layer: &[bool]| layer.iter().rev().fold(0, |bits, known| bits << 1 | u64::from(*known));
            std::array::from_fn(|z| bits(&known[64 * z..64 * z + 64]))
        };
        let mut masks: Vec<Mask> = known.par_chunks(CELLS).with_min_len(16).map(mask).collect();
        for _ in 0..rounds {
            let found: Vec<Vec<(u32, f32)>> = (0..tiles.len())
                .into_par_iter()
                .with_min_len(16)
                .map(|tile| means(tiles, tile, &masks, velocities))
                .collect();
            for (tile, (found, mask)) in found.into_iter().zip(&mut masks).enumerate() {
                for (place, value) in found {
                    mask[place as usize / 64] |= 1 << (place % 64);
                    velocities[tile * CELLS + place as usize] = value;
                }
            }
        }
        for (known, mask) in known.chunks_mut(CELLS).zip(&masks) {
            known
                .iter_mut()
                .enumerate()
                .for_each(|(place, known)| *known = mask[place / 64] >> (place % 64) & 1 == 1);
        }
    }
}

/// The unknown cells of a tile beside known ones, with the means of those.
fn means(tiles: &Tiles, tile: usize, masks: &[Mask], velocities: &[f32]) -> Vec<(u32, f32)> {
    let own = &masks[tile];
    let beside = |by: IVec3| tiles.beside(tile, by).map_or([0; SIDE as usize], |other| masks[other]);
    let [west, east] = [beside(IVec3::NEG_X), beside(IVec3::X)];
    let [south, north] = [beside(IVec3::NEG_Y), beside(IVec3::Y)];
    let [below, above] = [beside(IVec3::NEG_Z), beside(IVec3::Z)];
    let mut found = Vec::new();
    for z in 0..SIDE as usize {
        let layer = own[z];
        let under = if z == 0 { below[SIDE as usize - 1] } else { own[z - 1] };
        let over = if z + 1 == SIDE as usize { above[0] } else { own[z + 1] };
        let around = under
            | over
            | (layer << 1 & !FIRST_X | west[z] >> 7 & FIRST_X)
            | (layer >> 1 & !(FIRST_X << 7) | (east[z] & FIRST_X) << 7)
            | (layer << 8 | south[z] >> 56)
            | (layer >> 8 | north[z] << 56);
        let mut wanted = around & !layer;
        while wanted != 0 {
            let place = 64 * z + wanted.trailing_zeros() as usize;
            wanted &= wanted - 1;
            let (mut sum, mut count) = (0.0, 0.0);
            for step in IVec3::AXES.into_iter().flat_map(|axis| [axis, -axis]) {
                let Some(other) = tiles.cell(tile, local(place) + step) else { continue };
                if masks[other / CELLS][other % CELLS / 64] >> (other % 64) & 1 == 1 {
                    (sum, count) = (sum + velocities[other], count + 1.0);
                }
            }
            found.push((place as u32, sum / count));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::Vec3;

    #[test]
    fn cells_beside_known_ones_get_their_means_across_tiles_too() {
        let tiles = Tiles::new(&[Vec3::splat(0.5), Vec3::splat(8.5)], 1.0);
        let mut faces = Faces::unknown(&tiles);
        let tile = tiles.keys.iter().position(|key| *key == IVec3::ZERO).unwrap();
        let [a, b] = [IVec3::new(7, 3, 4), IVec3::new(7, 5, 4)].map(|at| tiles.cell(tile, at).unwrap());
        (faces.known[1][a], faces.known[1][b]) = (true, true);
        (faces.velocities[1][a], faces.velocities[1][b]) = (2.0, 4.0);
        let value = |faces: &Faces, x: i32, y: i32, z: i32| {
            let cell = tiles.cell(tile, IVec3::new(x, y, z)).unwrap();
            faces.known[1][cell].then_some(faces.velocities[1][cell])
        };
        extrapolate(&tiles, &mut faces, 1);
        assert_eq!(value(&faces, 7, 4, 4), Some(3.0));
        assert_eq!([value(&faces, 8, 3, 4), value(&faces, 6, 3, 4), value(&faces, 7, 2, 4)], [Some(2.0); 3]);
        assert_eq!([value(&faces, 7, 5, 3), value(&faces, 7, 5, 5)], [Some(4.0); 2]);
        assert_eq!([value(&faces, 9, 3, 4), value(&faces, 0, 3, 4), value(&faces, 7, 1, 4)], [None; 3]);
        extrapolate(&tiles, &mut faces, 1);
        assert_eq!([value(&faces, 9, 3, 4), value(&faces, 7, 1, 4)], [Some(2.0); 2]);
        assert!(faces.known[0].iter().all(|known| !known));
    }
}
