//! Points that fill what a vessel holds up to a level, found by flooding cells from a place within.

use crate::fill::{CELL, block_cells};
use crate::{Bounds, Bvh, Ray};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use std::collections::{BTreeSet, VecDeque};
use thiserror::Error;

/// Cells beyond the bounds of all walls that a flood may reach.
const BEYOND: f32 = 2.0;

/// Why a pool has no points.
#[derive(Clone, Copy, Debug, PartialEq, Error)]
pub enum PoolError {
    /// The flood came out of the walls.
    #[error("runs out at {:.2}, {:.2}, {:.2} m: nothing around it is closed up to its height", .0.x, .0.y, .0.z)]
    Leaks(
        /// Where, m.
        Vec3,
    ),
    /// The walls have more triangles than are allowed.
    #[error("stands among solids of more than {0} triangles")]
    TooManyWalls(
        /// The most.
        usize,
    ),
    /// There would be more points than are allowed.
    #[error("would have more than {0} particles")]
    TooMany(
        /// The most.
        usize,
    ),
}

/// The cells on the six sides of one.
fn beside(cell: IVec3) -> impl Iterator<Item = IVec3> {
    IVec3::AXES.into_iter().flat_map(move |axis| [cell + axis, cell - axis])
}

/// The points at a spacing, m, that fill the space below `level`, a position, which walls enclose around it; the walls are triangles.
/// At most `most`.
///
/// # Errors
/// [`PoolError`] where the space is not enclosed, or too large.
pub fn fill_pool(
    (positions, triangles): (&[Vec3], &[[u32; 3]]),
    level: Vec3,
    spacing_m: f32,
    most: usize,
) -> Result<Vec<Vec3>, PoolError> {
    let walls = Bvh::build(positions, triangles);
    let edge = CELL * spacing_m;
    let bounds = positions.iter().fold(Bounds::EMPTY, |bounds, p| bounds.with(*p));
    let (low, high) = (bounds.min - BEYOND * edge, bounds.max + BEYOND * edge);
    // Cells are counted from the level, those below by negative numbers.
    let corner = |cell: IVec3| level + cell.as_vec3() * edge;
    let centre = |cell: IVec3| corner(cell) + 0.5 * edge;
    // Rounding can let a ray through the edge between two triangles, but not one beside it as well.
    let beside_it = Vec3::new(0.013, 0.0071, 0.0094) * edge;
    let is_free = |from: Vec3, to: Vec3| {
        let ray = |by: Vec3| Ray { origin: from + by, direction: to - from, t_max: 1.0 };
        !walls.any(&ray(Vec3::ZERO)) && !walls.any(&ray(beside_it))
    };
    let first = IVec3::NEG_Y;
    let (mut reached, mut queue) = (BTreeSet::from([key(first)]), VecDeque::from([first]));
    while let Some(cell) = queue.pop_front() {
        let from = centre(cell);
        if from.cmplt(low).any() || from.cmpgt(high).any() {
            return Err(PoolError::Leaks(from));
        }
        for next in beside(cell).filter(|next| next.y < 0) {
            if !reached.contains(&key(next)) && is_free(from, centre(next)) {
                reached.insert(key(next));
                queue.push_back(next);
            }
        }
        if reached.len() as f64 * f64::from(CELL.powi(3)) > most as f64 {
            return Err(PoolError::TooMany(most));
        }
    }
    // Cells whose centre lies in a wall can have points on the near side.
    let border = reached.iter().flat_map(|of| beside(cell_of(*of))).filter(|cell| cell.y < 0).map(key);
    let border: BTreeSet<[i32; 3]> = border.filter(|cell| !reached.contains(cell)).collect();
    let all: Vec<[i32; 3]> = reached.iter().chain(&border).copied().collect();
    let points = |of: &[i32; 3]| {
        let cell = cell_of(*of);
        let from: Vec<Vec3> = match reached.contains(of) {
            true => vec![centre(cell)],
            false => beside(cell).filter(|other| reached.contains(&key(*other))).map(centre).collect(),
        };
        let own = block_cells().of(cell).iter().map(|at| corner(cell) + *at * spacing_m);
        own.filter(|point| from.iter().any(|from| is_free(*from, *point))).collect::<Vec<_>>()
    };
    let points: Vec<Vec3> = all.par_iter().with_min_len(64).flat_map_iter(points).collect();
    if points.len() > most { Err(PoolError::TooMany(most)) } else { Ok(points) }
}

fn key(cell: IVec3) -> [i32; 3] {
    [cell.z, cell.y, cell.x]
}

fn cell_of([z, y, x]: [i32; 3]) -> IVec3 {
    IVec3::new(x, y, z)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, primitive};

    /// A bowl: the lower half of a sphere, an open sheet.
    fn bowl() -> Mesh {
        let mut mesh = primitive::sphere(1.0, 96);
        mesh.triangles.retain(|t| t.iter().all(|v| mesh.positions[*v as usize].y < 0.3));
        mesh
    }

    #[test]
    fn a_bowl_is_filled_up_to_the_level_and_no_further() {
        let (mesh, spacing) = (bowl(), 0.05);
        let points =
            fill_pool((&mesh.positions, &mesh.triangles), Vec3::new(0.1, 0.0, -0.2), spacing, 1_000_000)
                .unwrap();
        assert!(points.iter().all(|p| p.y < 0.0 && p.length() < 1.0));
        let volume = points.len() as f32 * spacing.powi(3);
        let exact = 2.0 / 3.0 * std::f32::consts::PI;
        assert!((volume / exact - 1.0).abs() < 0.03, "{volume} of {exact}");
    }

    #[test]
    fn a_level_above_the_rim_and_a_place_outside_run_out_and_a_bound_is_kept() {
        let mesh = bowl();
        let of = |level: Vec3, most| fill_pool((&mesh.positions, &mesh.triangles), level, 0.05, most);
        assert!(matches!(of(Vec3::Y * 0.6, 1_000_000), Err(PoolError::Leaks(_))));
        assert!(matches!(of(Vec3::X * 1.2, 1_000_000), Err(PoolError::Leaks(_))));
        assert_eq!(of(Vec3::ZERO, 100), Err(PoolError::TooMany(100)));
    }
}
