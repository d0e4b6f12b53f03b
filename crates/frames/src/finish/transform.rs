//! Moving, turning and scaling the parts of frames.

use crate::{Bodies, Particles};
use glam::{Quat, Vec3};

/// `position + orientation · scale · (x − about) + about`
#[derive(Clone, Copy, Debug)]
pub(super) struct Transform {
    pub position: Vec3,
    pub orientation: Quat,
    pub scale: f32,
    pub about: Vec3,
}

impl Transform {
    pub fn point(&self, x: Vec3) -> Vec3 {
        self.position + self.about + self.orientation * (self.scale * (x - self.about))
    }

    pub fn values(&self) -> ([f32; 3], [f32; 4], f32, [f32; 3]) {
        (self.position.to_array(), self.orientation.to_array(), self.scale, self.about.to_array())
    }
}

/// A transform at a frame, half a frame before and half a frame after: its own motion is part of
/// the velocities.
pub(super) struct MovingTransform {
    pub now: Transform,
    pub before: Transform,
    pub after: Transform,
    /// Frames a second.
    pub fps: f32,
}

impl MovingTransform {
    /// Velocity that a point has from the transform's own motion.
    fn carried(&self, x: Vec3) -> Vec3 {
        (self.after.point(x) - self.before.point(x)) * self.fps
    }

    /// Transforms bodies whose centre of mass lies at `centre` against their origin.
    pub fn bodies(&self, bodies: &mut Bodies, centre: Vec3) {
        let now = &self.now;
        let turning =
            (self.after.orientation * self.before.orientation.inverse()).to_scaled_axis() * self.fps;
        if now.scale != 1.0 && bodies.scales.is_empty() {
            bodies.scales = vec![1.0; bodies.len()];
        }
        for i in 0..bodies.len() {
            let scale = bodies.scales.get(i).copied().unwrap_or(1.0);
            let of_mass = bodies.positions[i] + bodies.orientations[i] * (centre * scale);
            bodies.velocities[i] =
                now.orientation * (now.scale * bodies.velocities[i]) + self.carried(of_mass);
            bodies.angular_velocities[i] = now.orientation * bodies.angular_velocities[i] + turning;
            bodies.positions[i] = now.point(bodies.positions[i]);
            bodies.orientations[i] = (now.orientation * bodies.orientations[i]).normalize();
        }
        for impact in &mut bodies.impacts {
            for (centre, velocity) in impact.centres.iter_mut().zip(&mut impact.velocities) {
                *velocity = now.orientation * (now.scale * *velocity) + self.carried(*centre);
                *centre = now.point(*centre);
            }
            impact.orientation = (now.orientation * impact.orientation).normalize();
        }
        bodies.scales.iter_mut().for_each(|scale| *scale *= now.scale);
    }

    pub fn particles(&self, particles: &mut Particles) {
        let now = &self.now;
        for i in 0..particles.len() {
            particles.velocities[i] = now.orientation * (now.scale * particles.velocities[i])
                + self.carried(particles.positions[i]);
            particles.positions[i] = now.point(particles.positions[i]);
        }
        particles.sizes.iter_mut().for_each(|size| *size *= now.scale);
        particles.orientations.iter_mut().for_each(|of| *of = (now.orientation * *of).normalize());
    }
}
