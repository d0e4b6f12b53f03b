//! What liquid meets, as its grid sees it.

use glam::{Mat3, Vec3};

/// A free body as the pressure sees it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct FreeBody {
    /// 1 / m, 1/kg.
    pub inverse_mass: f32,
    /// I⁻¹ about the centre, 1/(kg m²).
    pub inverse_inertia: Mat3,
    /// Centre of mass, m.
    pub centre: Vec3,
}

/// A part of a surface that gives way.
#[derive(Clone, Debug, PartialEq)]
pub struct SurfacePoint {
    /// Where it is, m.
    pub position: Vec3,
    /// Mass that moves with it, kg.
    pub mass_kg: f32,
    /// By how much its velocity differs from that of the boundary there, m/s.
    pub change: Vec3,
}

/// A vector for each point of bodies.
pub type PointVectors = Vec<(u32, Vec<Vec3>)>;

/// What liquid meets: bodies by their numbers.
pub trait Boundary: Sync {
    /// The bodies that reach into a box: those that are still, and those that move.
    fn bodies_in(&self, min: Vec3, max: Vec3) -> [Vec<u32>; 2];
    /// Signed distance of a place from a body, m, exact within `within`; negative inside.
    fn distance(&self, body: u32, place: Vec3, within: f32) -> f32;
    /// Velocity of a body at a place, m/s.
    fn velocity(&self, body: u32, place: Vec3) -> Vec3;
    /// Whether a body that is thinner than their distance lies between two places outside of it.
    fn separates(&self, _body: u32, _: Vec3, _: Vec3) -> bool {
        false
    }
    /// The body as the pressure moves it, if it is free.
    fn free_body(&self, _: u32) -> Option<FreeBody> {
        None
    }
    /// The points of a body's surface that give way; none: it does not.
    fn surface_points(&self, _: u32) -> &[SurfacePoint] {
        &[]
    }
    /// What impulses on those points, N s, change their velocities by, m/s.
    fn surface_changes(&self, _: &PointVectors) -> PointVectors {
        Vec::new()
    }
    /// The nearest place of the surface of such a body, m.
    fn nearest(&self, _: u32, _: Vec3) -> Option<Vec3> {
        None
    }
    /// Number of times that still bodies have changed.
    fn version(&self) -> u64 {
        0
    }
}
