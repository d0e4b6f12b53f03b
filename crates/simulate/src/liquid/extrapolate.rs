//! Velocities carried on from the liquid into the air and into solids, so that particles at its surface find some on all sides.

use super::masks::{Mask, beside_mask, has, masks_of, places_in};
use super::transfer::Faces;
use geometry::tiles::{CELLS, Tiles, local};
use glam::IVec3;
use rayon::prelude::*;

/// Gives faces without a velocity that lie beside ones with one the mean of those, `rounds` times.
pub(super) fn extrapolate(tiles: &Tiles, faces: &mut Faces, rounds: u32) {
    for (velocities, known) in faces.velocities.iter_mut().zip(&mut faces.known) {
        let mut masks = masks_of(tiles, |cell| known[cell]);
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
    let around = beside_mask(tiles, tile, masks);
    let wanted: Mask = std::array::from_fn(|z| around[z] & !masks[tile][z]);
    let mean = |place: usize| {
        let (mut sum, mut count) = (0.0, 0.0);
        for step in IVec3::AXES.into_iter().flat_map(|axis| [axis, -axis]) {
            let other = tiles.cell(tile, local(place) + step);
            if let Some(other) = other.filter(|other| has(masks, *other)) {
                (sum, count) = (sum + velocities[other], count + 1.0);
            }
        }
        (place as u32, sum / count)
    };
    places_in(&wanted).map(mean).collect()
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
