//! Points that fill a closed mesh evenly, without a lattice.
//!
//! A periodic block of points that keep apart from each other fills all space; those within the mesh are taken. The block is made
//! of points at random, which then push each other apart.

use crate::{Mesh, Surface, mass_properties};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use std::sync::LazyLock;

/// Points along each side of the block.
const SIDE: i32 = 16;
/// Rounds in which they push each other apart.
const ROUNDS: u32 = 40;
/// Distance within which they do, in spacings.
const REACH: f32 = 1.35;
/// Part of what two overlap that each gives way in a round.
const GIVES_WAY: f32 = 0.15;

/// The points of the block, in spacings, in the order of small cubes, so that neighbours in space are neighbours in memory.
static BLOCK: LazyLock<Vec<Vec3>> = LazyLock::new(block);

fn random(mut x: u32) -> f32 {
    // The finaliser of a hash of A. Appleby, *MurmurHash3*, 2011.
    x = (x ^ x >> 16).wrapping_mul(0x85EB_CA6B);
    x = (x ^ x >> 13).wrapping_mul(0xC2B2_AE35);
    ((x ^ x >> 16) >> 8) as f32 / (1 << 24) as f32
}

fn block() -> Vec<Vec3> {
    let n = SIDE * SIDE * SIDE;
    let whole = SIDE as f32;
    let mut points: Vec<Vec3> = (0..n)
        .map(|i| {
            let of = |axis: u32| random(3 * i as u32 + axis + 1);
            Vec3::new(of(0), of(1), of(2)) * whole
        })
        .collect();
    for _ in 0..ROUNDS {
        let mut cells: Vec<Vec<u32>> = vec![Vec::new(); n as usize];
        let index = |at: IVec3| {
            let at = at.rem_euclid(IVec3::splat(SIDE));
            (at.x + SIDE * (at.y + SIDE * at.z)) as usize
        };
        for (i, point) in points.iter().enumerate() {
            cells[index(point.floor().as_ivec3())].push(i as u32);
        }
        let moved = |(i, point): (usize, &Vec3)| {
            let mut change = Vec3::ZERO;
            let home = point.floor().as_ivec3();
            for k in 0..125 {
                let by = IVec3::new(k % 5 - 2, k / 5 % 5 - 2, k / 25 - 2);
                for &j in cells[index(home + by)].iter().filter(|j| **j as usize != i) {
                    let way = *point - points[j as usize];
                    let way = way - (way / whole).round() * whole;
                    let length = way.length();
                    if length < REACH && length > 1e-6 {
                        change += way * ((REACH - length) / length * GIVES_WAY);
                    }
                }
            }
            let to = *point + change;
            to - (to / whole).floor() * whole
        };
        points = points.par_iter().enumerate().map(moved).collect();
    }
    let order = |point: &Vec3| {
        let at = point.floor().as_ivec3();
        let (coarse, fine): (IVec3, IVec3) = (at >> 2, at & 3);
        [coarse.z, coarse.y, coarse.x, fine.z, fine.y, fine.x]
    };
    points.sort_by_key(order);
    points
}

/// The points of the block by cells of two spacings.
pub(crate) struct BlockCells(Vec<Vec<Vec3>>);

/// Edge of a cell of the block, in spacings.
pub(crate) const CELL: f32 = 2.0;
/// Cells along each side of the block.
const CELLS: i32 = SIDE / CELL as i32;

impl BlockCells {
    /// The points in a cell of space, in spacings from its lowest corner.
    pub fn of(&self, cell: IVec3) -> &[Vec3] {
        let at = cell.rem_euclid(IVec3::splat(CELLS));
        &self.0[(at.x + CELLS * (at.y + CELLS * at.z)) as usize]
    }
}

/// The cells of the block.
pub(crate) fn block_cells() -> &'static BlockCells {
    static BY_CELL: LazyLock<BlockCells> = LazyLock::new(|| {
        let mut cells = vec![Vec::new(); (CELLS * CELLS * CELLS) as usize];
        for point in BLOCK.iter() {
            let cell = (*point / CELL).floor().as_ivec3().min(IVec3::splat(CELLS - 1));
            let at = cell.x + CELLS * (cell.y + CELLS * cell.z);
            cells[at as usize].push(*point - cell.as_vec3() * CELL);
        }
        BlockCells(cells)
    });
    &BY_CELL
}

/// A mesh whose faces are seen from the other side.
fn turned(mesh: &Mesh) -> Mesh {
    let mut turned = mesh.clone();
    turned.triangles.iter_mut().for_each(|triangle| triangle.swap(0, 1));
    turned
}

/// How many points of a spacing a mesh would have, about; 0 if the mesh is not closed.
pub fn points_within(mesh: &Mesh, spacing_m: f32) -> f64 {
    let volume = |mesh: &Mesh| mass_properties(mesh).map(|mass| f64::from(mass.volume));
    let volume = if mesh.is_closed() { volume(mesh).or_else(|| volume(&turned(mesh))) } else { None };
    volume.unwrap_or(0.0) / f64::from(spacing_m).powi(3)
}

/// The points that fill a closed mesh at a spacing, m; none of an open one. The faces may be seen from inside.
pub fn fill(mesh: &Mesh, spacing_m: f32) -> Vec<Vec3> {
    if !mesh.is_closed() || mesh.triangles.is_empty() {
        return Vec::new();
    }
    let from_outside = mass_properties(mesh).is_some();
    let surface = if from_outside { Surface::new(mesh) } else { Surface::new(&turned(mesh)) };
    let bounds = mesh.bounds();
    let edge = SIDE as f32 * spacing_m;
    let (low, high) = ((bounds.min / edge).floor().as_ivec3(), (bounds.max / edge).floor().as_ivec3());
    let mut blocks = Vec::new();
    let side = (high - low + 1).max_element().max(1) as u32;
    blocks_near(&surface, edge, low, side.next_power_of_two() as i32, &mut blocks);
    let of_block = |(block, whole): (IVec3, bool)| {
        let corner = block.as_vec3() * edge;
        let within = |point: &Vec3| {
            let at = corner + *point * spacing_m;
            (whole || surface.contains(at)).then_some(at)
        };
        BLOCK.iter().filter_map(within).collect::<Vec<_>>()
    };
    blocks.into_par_iter().flat_map_iter(of_block).collect()
}

/// The blocks among `side`³ from `low` on that are at least partly within a surface, and whether they are wholly so. Cubes of blocks
/// that are far from the surface are not divided, so that empty room costs nothing.
fn blocks_near(surface: &Surface, edge: f32, low: IVec3, side: i32, found: &mut Vec<(IVec3, bool)>) {
    let width = side as f32 * edge;
    let centre = low.as_vec3() * edge + 0.5 * width;
    // Half of the diagonal.
    let away = surface.nearest(centre, 0.87 * width).is_none();
    if away && !surface.contains(centre) {
        return;
    }
    if side == 1 {
        return found.push((low, away));
    }
    for i in 0..8 {
        let corner = low + IVec3::new(i & 1, i >> 1 & 1, i >> 2) * (side / 2);
        blocks_near(surface, edge, corner, side / 2, found);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;

    #[test]
    fn the_points_keep_apart_and_stand_in_no_rows() {
        let points = fill(&primitive::cuboid(Vec3::splat(20.0), 0.0), 1.0);
        assert!((points.len() as f32 / 8_000.0 - 1.0).abs() < 0.02, "{}", points.len());
        let nearest = |i: usize| {
            let others = points.iter().enumerate().filter(|(j, _)| *j != i);
            others.map(|(_, other)| other.distance(points[i])).fold(f32::INFINITY, f32::min)
        };
        let nearest: Vec<f32> = (0..points.len()).step_by(7).map(nearest).collect();
        let least = nearest.iter().copied().fold(f32::INFINITY, f32::min);
        assert!(least > 0.6, "{least}");
        // Along no axis are there planes with more points than others: the first harmonic of the lattice is weak.
        for axis in 0..3 {
            let angle = |point: &Vec3| f64::from(point[axis]) * std::f64::consts::TAU;
            let (mut cos, mut sin) = (0.0, 0.0);
            points.iter().for_each(|point| (cos, sin) = (cos + angle(point).cos(), sin + angle(point).sin()));
            let harmonic = f64::hypot(cos, sin) / (points.len() as f64);
            assert!(harmonic < 0.05, "{harmonic} along {axis}");
        }
    }

    #[test]
    fn a_body_seen_from_inside_is_filled_and_an_open_one_is_not() {
        let sphere = primitive::sphere(1.0, 48);
        let volume = 4.0 / 3.0 * std::f32::consts::PI;
        for mesh in [&sphere, &turned(&sphere)] {
            let count = fill(mesh, 0.05).len() as f32;
            assert!((count * 0.05f32.powi(3) / volume - 1.0).abs() < 0.03, "{count}");
            assert!((points_within(mesh, 0.05) as f32 / count - 1.0).abs() < 0.02);
        }
        let mut open = sphere;
        open.triangles.pop();
        assert_eq!((fill(&open, 0.05).len(), points_within(&open, 0.05)), (0, 0.0));
    }
}
