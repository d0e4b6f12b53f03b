//! How much a particle counts at the nodes of a grid.

use glam::Vec3;
use wide::f32x4;

/// The neighbourhood of a particle over the nodes of a tile, in cells from its lowest corner: the places p with |C (p − at)| < 1.
pub(super) struct Ellipsoid {
    /// Where the particle is.
    pub at: Vec3,
    /// The columns of C.
    pub columns: [Vec3; 3],
}

impl Ellipsoid {
    /// C (p − at) on the row at given y and z, without the part of x.
    #[inline]
    pub fn row(&self, y: i32, z: i32) -> Vec3 {
        self.columns[1] * (y as f32 - self.at.y) + self.columns[2] * (z as f32 - self.at.z)
    }

    /// The weights of four nodes of a row.
    #[inline]
    pub fn weights(&self, from: Vec3, x: f32x4) -> f32x4 {
        let x = x - f32x4::splat(self.at.x);
        let [a, b, c]: [f32x4; 3] =
            std::array::from_fn(|k| x * f32x4::splat(self.columns[0][k]) + f32x4::splat(from[k]));
        let closeness = (f32x4::ONE - (a * a + (b * b + c * c))).max(f32x4::ZERO);
        closeness * closeness * closeness
    }
}
