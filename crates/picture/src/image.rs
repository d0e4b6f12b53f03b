//! Images laid on surfaces.

use glam::{Vec2, Vec3};

/// An image laid on UVs, scene-linear.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Image {
    /// Pixels across.
    pub width: usize,
    /// Pixels down.
    pub height: usize,
    /// Rows from the top.
    pub rgb: Vec<[f32; 3]>,
}

impl Image {
    /// Bilinear, repeating; v = 0 is the lowest row.
    pub(crate) fn at(&self, uv: Vec2) -> Vec3 {
        let (w, h) = (self.width as f32, self.height as f32);
        let x = uv.x * w - 0.5;
        let y = (1.0 - uv.y) * h - 0.5;
        let (x0, y0) = (x.floor(), y.floor());
        let get = |x: f32, y: f32| {
            Vec3::from(
                self.rgb[y.rem_euclid(h) as usize % self.height * self.width
                    + x.rem_euclid(w) as usize % self.width],
            )
        };
        let (fx, fy) = (x - x0, y - y0);
        get(x0, y0).lerp(get(x0 + 1.0, y0), fx).lerp(get(x0, y0 + 1.0).lerp(get(x0 + 1.0, y0 + 1.0), fx), fy)
    }
}
