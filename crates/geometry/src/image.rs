//! Images laid on UVs.

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
    pub fn at(&self, uv: Vec2) -> Vec3 {
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

    /// Brightness at UVs, 0–1.
    pub fn brightness(&self, uv: Vec2) -> f32 {
        if self.rgb.is_empty() { 0.0 } else { brightness(self.at(uv)) }
    }
}

/// Brightness of a scene-linear colour, 0–1: its luminance (ITU-R BT.709), at most 1.
pub fn brightness(rgb: Vec3) -> f32 {
    rgb.dot(Vec3::new(0.2126, 0.7152, 0.0722)).clamp(0.0, 1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_image_lies_on_its_uvs_with_its_lowest_row_at_0() {
        let image = Image { width: 2, height: 2, rgb: vec![[1.0; 3], [0.0; 3], [0.5; 3], [0.25; 3]] };
        let at = |u, v| image.brightness(Vec2::new(u, v));
        assert!((at(0.25, 0.25) - 0.5).abs() < 1e-6 && (at(0.25, 0.75) - 1.0).abs() < 1e-6);
        assert!((at(0.5, 0.25) - 0.375).abs() < 1e-6);
        assert_eq!(Image::default().brightness(Vec2::ZERO), 0.0);
        assert_eq!(brightness(Vec3::splat(7.0)), 1.0);
    }
}
