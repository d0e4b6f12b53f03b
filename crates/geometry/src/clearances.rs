//! How far the cells of a grid are from a surface at least, found as they are
//! asked for and kept: a distance field sampled on a grid (M. Jones, J.
//! Bærentzen and M. Sramek, *3D distance fields: a survey of techniques and
//! applications*, 2006), of which only a lower bound is wanted. What a cell
//! holds depends on nothing but the cell, so that it does not matter who asks first.

use crate::Bounds;
use glam::Vec3;
use std::sync::atomic::{AtomicU32, Ordering::Relaxed};

/// Cells along the longest side of what the surface is in, at most.
const MOST: f32 = 128.0;
/// Margin around that, as a fraction of its longest side.
const MARGIN: f32 = 0.125;

pub(crate) struct Clearances {
    low: Vec3,
    side_m: f32,
    counts: [usize; 3],
    /// A lower bound over the whole cell as the bits of an f32; 0 where it is not known yet.
    cells: Vec<AtomicU32>,
}

impl Clearances {
    /// Around a surface of so many triangles in `bounds`; none if that has no
    /// size. Cells are about as wide as triangles are; all take 17 MB at most.
    pub fn around(bounds: &Bounds, triangles: usize) -> Option<Self> {
        let longest = bounds.size().max_element();
        if !(longest > 0.0 && longest.is_finite()) {
            return None;
        }
        let side_m = longest / (0.5 * triangles as f32).sqrt().clamp(8.0, MOST);
        let low = bounds.min - MARGIN * longest;
        let counts = (bounds.size() + 2.0 * MARGIN * longest) / side_m;
        let counts = counts.to_array().map(|count| count.ceil() as usize);
        let cells = (0..counts.iter().product()).map(|_| AtomicU32::new(0)).collect();
        Some(Self { low, side_m, counts, cells })
    }

    /// How far a point is from the surface at least; none outside the grid.
    /// `clearance` is asked for that of a cell's centre, the first time.
    #[inline]
    pub fn at(&self, point: Vec3, clearance: impl Fn(Vec3) -> f32) -> Option<f32> {
        let at = (point - self.low) / self.side_m;
        if !at.cmpge(Vec3::ZERO).all() {
            return None;
        }
        let [x, y, z] = at.to_array().map(|part| part as usize);
        let [nx, ny, nz] = self.counts;
        if x >= nx || y >= ny || z >= nz {
            return None;
        }
        let cell = &self.cells[(z * ny + y) * nx + x];
        let known = cell.load(Relaxed);
        if known != 0 {
            return Some(f32::from_bits(known));
        }
        let centre = self.low + (Vec3::new(x as f32, y as f32, z as f32) + 0.5) * self.side_m;
        // Half the diagonal, and what rounding may have moved the point over the cell's rim.
        let far = 0.867 * self.side_m;
        let least = (clearance(centre) - far).max(f32::MIN_POSITIVE);
        cell.store(least.to_bits(), Relaxed);
        Some(least)
    }
}
