//! Transfers between particles and the centres of cells, of eight values at once, with trilinear weights.

use super::lanes::{Around, Nodes, places, side};
use super::transfer::{SCATTER_MARGIN, SCATTER_NODES, add_block, for_each_beside, occupied_tiles};
use geometry::tiles::{CELLS, LANES, Tiles};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use wide::f32x8;

/// From a cell of a block to the next along y, and along z.
const ROW: usize = side(SCATTER_MARGIN);
const LAYER: usize = ROW * ROW;

/// Sums at the centres of cells of eight values of each particle, with trilinear weights; the first of them is 1.
pub(super) fn to_cells(
    tiles: &Tiles,
    positions: &[Vec3],
    values: impl Fn(usize) -> [f32; LANES] + Sync,
) -> Vec<[f32; LANES]> {
    let (occupied, slots) = occupied_tiles(tiles);
    let mut blocks = vec![[0.0f32; LANES]; occupied.len() * SCATTER_NODES];
    blocks.par_chunks_mut(SCATTER_NODES).zip(&occupied).for_each(|(block, &tile)| {
        for (points, count) in tiles.lanes_in(tile) {
            let at = places(tiles, tile, positions, points);
            let Nodes { first, fraction, weights_yz } =
                Around::new::<SCATTER_MARGIN>(&at).nodes::<SCATTER_MARGIN>(3);
            let near = weights_yz.map(|weight| (weight * (1.0 - fraction[0])).to_array());
            let far = weights_yz.map(|weight| (weight * fraction[0]).to_array());
            for lane in 0..count {
                let given = f32x8::new(values(points[lane]));
                for (corner, place) in [0, ROW, LAYER, LAYER + ROW].into_iter().enumerate() {
                    for (step, weights) in [&near, &far].into_iter().enumerate() {
                        let sum = &mut block[first[lane] + place + step];
                        *sum = (f32x8::new(*sum) + given * weights[corner][lane]).to_array();
                    }
                }
            }
        }
    });
    let mut cells = vec![[0.0f32; LANES]; tiles.cells()];
    cells.par_chunks_mut(CELLS).enumerate().for_each(|(tile, cells)| {
        for_each_beside(tiles, &slots, tile, |by, slot| {
            let block = &blocks[slot * SCATTER_NODES..(slot + 1) * SCATTER_NODES];
            add_block(cells.as_flattened_mut(), block.as_flattened(), by, LANES);
        });
    });
    cells
}

/// Means around each particle of seven values at the centres of cells, with trilinear weights times the first of a cell's eight
/// values, as `kept`. The weights are those of [`to_cells`]: stress that goes to cells by them does the work of the strain that comes
/// back.
pub(super) fn from_cells<T: Copy + Default + Send>(
    tiles: &Tiles,
    positions: &[Vec3],
    cells: &[[f32; LANES]],
    kept: impl Fn([f32; LANES]) -> T + Sync,
) -> Vec<T> {
    let (mut found, n) = (vec![T::default(); positions.len()], positions.len());
    let block = || vec![[0.0f32; LANES]; SCATTER_NODES];
    let load = |block: &mut Vec<[f32; LANES]>, tile: usize| {
        for (place, value) in block.iter_mut().enumerate() {
            let at = IVec3::new((place % ROW) as i32, (place / ROW % ROW) as i32, (place / LAYER) as i32) - 1;
            *value = tiles.cell(tile, at).map_or([0.0; LANES], |cell| cells[cell]);
        }
    };
    let columns = (&mut found[..], &mut vec![(); n][..], &mut vec![(); n][..]);
    tiles.update_points(columns, block, load, |block, tile, points| {
        let at = places(tiles, tile, positions, points);
        let Nodes { first, fraction, weights_yz } =
            Around::new::<SCATTER_MARGIN>(&at).nodes::<SCATTER_MARGIN>(3);
        let near = weights_yz.map(|weight| (weight * (1.0 - fraction[0])).to_array());
        let far = weights_yz.map(|weight| (weight * fraction[0]).to_array());
        std::array::from_fn(|lane| {
            let mut sum = f32x8::ZERO;
            for (corner, place) in [0, ROW, LAYER, LAYER + ROW].into_iter().enumerate() {
                for (step, weights) in [&near, &far].into_iter().enumerate() {
                    sum += f32x8::new(block[first[lane] + place + step]) * weights[corner][lane];
                }
            }
            let weight = sum.to_array()[0];
            (kept((sum * if weight > 0.0 { 1.0 / weight } else { 0.0 }).to_array()), (), ())
        })
    });
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_way_back_is_the_transpose_of_the_way_there() {
        let random = |i: usize| f32::from((i as u32).wrapping_mul(0x9E37_79B9).to_le_bytes()[3]) / 256.0;
        let positions: Vec<Vec3> = (0..3_000)
            .map(|i| Vec3::new(random(3 * i), random(3 * i + 1), random(3 * i + 2)) - Vec3::splat(0.4))
            .collect();
        let tiles = Tiles::new(&positions, 0.05);
        let value = |i: usize| [1.0, random(5 * i), 0.0, 0.0, 0.0, 0.0, 0.0, random(7 * i)];
        let sums = to_cells(&tiles, &positions, value);
        let total = |place: usize| sums.iter().map(|cell| f64::from(cell[place])).sum::<f64>();
        assert!((total(0) / 3_000.0 - 1.0).abs() < 1e-5);
        // Σ cells (sum of values) · field = Σ particles value · (field at the particle), with weights of 1 in all cells.
        let field: Vec<[f32; 8]> = (0..tiles.cells())
            .map(|cell| std::array::from_fn(|i| if i == 0 { 1.0 } else { random(cell + i) }))
            .collect();
        let at_particles = from_cells(&tiles, &positions, &field, |values| values);
        for place in [1, 7] {
            let cells = sums.iter().zip(&field).map(|(sum, field)| f64::from(sum[place] * field[place]));
            let particles =
                at_particles.iter().enumerate().map(|(i, of)| f64::from(value(i)[place] * of[place]));
            let (cells, particles) = (cells.sum::<f64>(), particles.sum::<f64>());
            assert!((cells / particles - 1.0).abs() < 1e-4, "{cells} {particles}");
        }
    }
}
