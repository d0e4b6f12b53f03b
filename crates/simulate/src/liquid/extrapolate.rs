//! Velocities carried on from the liquid into the air and into solids, so that particles at its surface find some on all sides.

use super::transfer::Faces;
use geometry::tiles::{CELLS, Tiles, local};
use glam::IVec3;
use rayon::prelude::*;

/// Gives faces without a velocity that lie beside ones with one the mean of those, `rounds` times.
pub(super) fn extrapolate(tiles: &Tiles, faces: &mut Faces, rounds: u32) {
    let axes = faces.velocities.par_iter_mut().zip(&mut faces.known);
    axes.for_each(|(velocities, known)| extrapolate_axis(tiles, velocities, known, rounds));
}

fn extrapolate_axis(tiles: &Tiles, velocities: &mut [f32], known: &mut [bool], rounds: u32) {
    let around = |cell: u32| {
        let (tile, at) = (cell as usize / CELLS, local(cell as usize % CELLS));
        let steps = IVec3::AXES.into_iter().flat_map(|axis| [axis, -axis]);
        steps.filter_map(move |step| tiles.cell(tile, at + step))
    };
    let mut front: Vec<u32> = (0..known.len() as u32).filter(|cell| known[*cell as usize]).collect();
    // Those that are in the next front already.
    let mut listed = vec![false; known.len()];
    for _ in 0..rounds {
        let mut next = Vec::new();
        for &cell in &front {
            for other in around(cell) {
                if !known[other] && !listed[other] {
                    listed[other] = true;
                    next.push(other as u32);
                }
            }
        }
        let mean = |&cell: &u32| {
            let (mut sum, mut count) = (0.0, 0.0);
            for other in around(cell).filter(|other| known[*other]) {
                (sum, count) = (sum + velocities[other], count + 1.0);
            }
            sum / count
        };
        let values: Vec<f32> = next.iter().map(mean).collect();
        for (&cell, value) in next.iter().zip(values) {
            (velocities[cell as usize], known[cell as usize]) = (value, true);
        }
        front = next;
    }
}
