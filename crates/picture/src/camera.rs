//! The camera: a thin lens.

use glam::{Quat, Vec3};
use shot::Camera;
use std::f32::consts::{PI, TAU};

/// A camera at a frame.
#[derive(Clone, Copy, Debug)]
pub struct Lens {
    /// Centre of the lens, metres.
    pub position: Vec3,
    /// Turn; it looks along −z.
    pub orientation: Quat,
    /// Tangent of half the horizontal field of view.
    pub half_width: f32,
    /// Radius of the aperture, metres; 0 for a pinhole.
    pub aperture_m: f32,
    /// Distance of the sharp plane, metres.
    pub focus_distance_m: f32,
    /// Exposure in stops.
    pub exposure: f32,
}

impl Lens {
    /// From the document's camera, where it stands.
    pub fn new(camera: &Camera, position: Vec3, orientation: Quat) -> Self {
        Self {
            position,
            orientation,
            half_width: camera.half_width(),
            aperture_m: camera.f_stop.map_or(0.0, |stop| 0.5e-3 * camera.focal_length_mm / stop),
            focus_distance_m: camera.focus_distance_m,
            exposure: camera.exposure,
        }
    }

    /// Origin and unit direction of the ray through a point of the picture,
    /// x from −1 left to 1 right, y in the same unit, up.
    pub(crate) fn ray(&self, x: f32, y: f32, lens: [f32; 2]) -> (Vec3, Vec3) {
        let direction = Vec3::new(x * self.half_width, y * self.half_width, -1.0);
        if self.aperture_m == 0.0 {
            return (self.position, (self.orientation * direction).normalize());
        }
        let (sin, cos) = (TAU * lens[0]).sin_cos();
        let on_lens = Vec3::new(cos, sin, 0.0) * (lens[1].sqrt() * self.aperture_m);
        let sharp = direction * self.focus_distance_m;
        (self.position + self.orientation * on_lens, (self.orientation * (sharp - on_lens)).normalize())
    }

    /// Solid angle of a pixel in the middle of a picture `width` pixels wide.
    pub fn pixel_solid_angle(&self, width: u32) -> f32 {
        (2.0 * self.half_width / width as f32).powi(2).min(4.0 * PI)
    }
}
