//! Particles that have come much nearer to each other than their spacing are moved apart. The grid only knows how full cells are: within
//! these particles gather in layers and clumps, with holes between that a surface shows. Weak springs between near particles keep them
//! even, as in R. Ando, N. Thürey and R. Tsuruoka, *Preserving fluid sheets with adaptively sampled anisotropic particles*, 2012.

use crate::pcg::pcg;
use geometry::tiles::{CELLS, SIDE, Tiles, place};
use glam::{IVec3, Vec3};
use rayon::prelude::*;

/// Particles nearer than this are moved apart, in spacings.
pub(super) const NEAR: f32 = 0.6;
/// The same in thick liquid, which does not mix by itself.
pub(super) const NEAR_IF_THICK: f32 = 0.77;
/// Which part of what they lack of that distance each of two particles moves, 0–0.5.
const PART: f32 = 0.25;
/// Most that a particle moves, in spacings.
const MAX_MOVE: f32 = 0.1;
/// In a step one tile of so many is looked at: clumps take longer than that to grow.
const TURNS: u32 = 8;

/// By how much particles in liquid cells are to move apart in a step: their numbers, each once, and the displacements, m. Drops and films
/// thinner than a cell stay as they are. Particles nearer than `near` spacings are moved.
pub(super) fn spread(
    tiles: &Tiles,
    positions: &[Vec3],
    (spacing_m, near): (f32, f32),
    is_liquid: impl Fn(usize) -> bool + Sync,
) -> Vec<(u32, Vec3)> {
    let of_tile = |tile: usize| match tiles.points_in(tile) {
        [first, ..] if is_due(tiles.keys[tile], positions[*first as usize]) => {
            spread_in(tiles, tile, positions, (spacing_m, near), &is_liquid)
        }
        _ => Vec::new(),
    };
    (0..tiles.len()).into_par_iter().flat_map_iter(of_tile).collect()
}

/// Whether it is a tile's turn: a random choice that follows from what is in it, so that it is no state.
fn is_due(key: IVec3, first: Vec3) -> bool {
    let words = key.to_array().map(|word| word as u32).into_iter().chain(first.to_array().map(f32::to_bits));
    words.fold(0, |hash, word| pcg(hash ^ word)).is_multiple_of(TURNS)
}

fn spread_in(
    tiles: &Tiles,
    tile: usize,
    positions: &[Vec3],
    (spacing_m, near): (f32, f32),
    is_liquid: &impl Fn(usize) -> bool,
) -> Vec<(u32, Vec3)> {
    let is_own = |point: &&u32| {
        let at = tiles.within(tile, positions[**point as usize]).as_ivec3();
        is_liquid(tile * CELLS + place(at))
    };
    let own: Vec<u32> = tiles.points_in(tile).iter().filter(is_own).copied().collect();
    if own.is_empty() {
        return Vec::new();
    }
    let near_m = near * spacing_m;
    // Along each side of the tile and of one bin more around it; a bin is as long as the distance within which particles are near.
    let side = (2.0 * SIDE as f32 / near) as usize + 3;
    let corner = tiles.corner(tile).as_vec3() * tiles.cell_m;
    // The bins reach a distance around the tile within which particles can be near those in it.
    let in_bins = |position: Vec3| (position - corner) / near_m + 1.0;
    let is_within = |at: Vec3| at.cmpge(Vec3::ZERO).all() && at.cmplt(Vec3::splat(side as f32)).all();
    let bin_place = |bin: IVec3| (bin.z as usize * side + bin.y as usize) * side + bin.x as usize;
    let mut sorted: Vec<(u32, u32)> = Vec::new();
    for k in 0..27 {
        let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
        let Some(other) = tiles.beside(tile, by) else { continue };
        let found = tiles.points_in(other).iter().map(|point| (in_bins(positions[*point as usize]), *point));
        let within = found.filter(|(at, _)| is_within(*at));
        sorted.extend(within.map(|(at, point)| (bin_place(at.as_ivec3()) as u32, point)));
    }
    sorted.sort_unstable();
    let mut begins = vec![0u32; side.pow(3) + 1];
    sorted.iter().for_each(|(place, _)| begins[*place as usize + 1] += 1);
    (1..begins.len()).for_each(|i| begins[i] += begins[i - 1]);
    let apart = |point: &u32| {
        let own = positions[*point as usize];
        // Rounding can put a particle at the side of the tile just outside of it.
        let bin = in_bins(own).as_ivec3().clamp(IVec3::ONE, IVec3::splat(side as i32 - 2));
        let mut sum = Vec3::ZERO;
        for k in 0..9 {
            // Three bins along x follow each other.
            let low = bin_place(bin + IVec3::new(-1, k % 3 - 1, k / 3 - 1));
            for (_, other) in &sorted[begins[low] as usize..begins[low + 3] as usize] {
                let between = own - positions[*other as usize];
                let distance = between.length();
                if other != point && distance < near_m {
                    // Two at the same place part along x, by their numbers.
                    let along = if point < other { Vec3::X } else { Vec3::NEG_X };
                    sum += (near_m - distance) * between.try_normalize().unwrap_or(along);
                }
            }
        }
        (*point, (PART * sum).clamp_length_max(MAX_MOVE * spacing_m))
    };
    own.iter().map(apart).filter(|(_, by)| *by != Vec3::ZERO).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_particles_part_and_others_stay() {
        let spacing = 0.1;
        // Two that are near across the border of two tiles, two at one place, and one alone.
        let border = SIDE as f32 * 2.0 * spacing;
        let at = [border - 0.01, border + 0.02, 0.5, 0.5, 0.9].map(|x| Vec3::new(x, 0.1, 0.1));
        let tiles = Tiles::new(&at, 2.0 * spacing);
        let mut moved: Vec<(u32, Vec3)> = (0..tiles.len())
            .flat_map(|tile| spread_in(&tiles, tile, &at, (spacing, NEAR), &|_| true))
            .collect();
        moved.sort_by_key(|(point, _)| *point);
        let apart = (PART * (NEAR * 0.1 - 0.03)).min(MAX_MOVE * 0.1);
        let expected = [(0, -apart), (1, apart), (2, MAX_MOVE * 0.1), (3, -MAX_MOVE * 0.1)];
        assert_eq!(moved.len(), 4);
        for ((point, by), (number, x)) in moved.iter().zip(expected) {
            assert!(*point == number && (*by - Vec3::X * x).length() < 1e-6, "{point}: {by}");
        }
        assert!(
            (0..tiles.len()).all(|tile| spread_in(&tiles, tile, &at, (spacing, NEAR), &|_| false).is_empty())
        );
    }

    #[test]
    fn particles_that_rounding_puts_outside_of_their_tile_are_found() {
        let mut outside = 0;
        for (spacing, key) in
            [0.1f32, 0.013, 0.001].into_iter().flat_map(|spacing| (1..400).map(move |key| (spacing, key)))
        {
            let corner = (SIDE * key) as f32 * (2.0 * spacing);
            let at: Vec<Vec3> = [corner.next_down(), corner, corner.next_up()].map(Vec3::splat).to_vec();
            let tiles = Tiles::new(&at, 2.0 * spacing);
            for tile in 0..tiles.len() {
                let low = tiles.corner(tile).as_vec3() * tiles.cell_m;
                outside += tiles.points_in(tile).iter().filter(|i| at[**i as usize].cmplt(low).any()).count();
                spread_in(&tiles, tile, &at, (spacing, NEAR_IF_THICK), &|_| true);
            }
        }
        assert!(outside > 0);
    }
}
