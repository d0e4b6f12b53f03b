//! What particles carry, at every second node of the grid along each axis: velocities and values change over the distance of the
//! particles, and each particle reaches several of these nodes.

use super::SurfaceParticles;
use super::ellipsoid::Ellipsoid;
use crate::tiles::{SIDE, Tiles, corner};
use glam::{IVec3, Vec2, Vec3};
use wide::f32x4;

/// Nodes of a tile along each side.
const NODES: i32 = SIDE / 2;
/// Rows of nodes of a tile, along x.
const ROWS: usize = (NODES * NODES) as usize;
/// Velocities x, y, z and two values.
const SUMMED: usize = 5;
/// A sum of weights that is none.
const LEAST: f32 = 1e-9;

/// The weighted sums over the particles around the nodes of a tile.
pub(super) struct Attributes([AttributeRow; ROWS]);

#[derive(Clone, Copy)]
struct AttributeRow {
    weights: f32x4,
    sums: [f32x4; SUMMED],
}

impl Attributes {
    pub const NONE: Self = Self([AttributeRow { weights: f32x4::ZERO, sums: [f32x4::ZERO; SUMMED] }; ROWS]);

    /// Adds a particle to the nodes that lie from `low` to `high`, in cells of a tile.
    pub fn add(
        &mut self,
        ellipsoid: &Ellipsoid,
        [low, high]: [IVec3; 2],
        particles: &SurfaceParticles,
        i: usize,
    ) {
        let value = particles.values.get(i).copied().unwrap_or_default();
        let Vec3 { x, y, z } = particles.velocities[i];
        let summed = [x, y, z, value.x, value.y].map(f32x4::splat);
        let [low, high]: [IVec3; 2] = [(low + 1) >> 1, high >> 1];
        if low.x > high.x {
            return;
        }
        for z in low.z..=high.z {
            for y in low.y..=high.y {
                let from = ellipsoid.row(2 * y, 2 * z);
                let weight = ellipsoid.weights(from, f32x4::new([0.0, 2.0, 4.0, 6.0]));
                let row = &mut self.0[(y + NODES * z) as usize];
                row.weights += weight;
                row.sums.iter_mut().zip(summed).for_each(|(sum, value)| *sum += weight * value);
            }
        }
    }

    /// The mean velocity and values at a place in a tile, in cells from its lowest corner; `of` finds those of the tiles beside.
    pub fn at<'a>(
        tiles: &Tiles,
        tile: usize,
        at: Vec3,
        of: impl Fn(usize) -> Option<&'a Self>,
    ) -> (Vec3, Vec2) {
        let at = 0.5 * at;
        let first = at.as_ivec3().min(IVec3::splat(NODES - 1));
        let far = at - first.as_vec3();
        let (mut weight, mut sums) = (0.0, [0.0; SUMMED]);
        for k in 0..8 {
            let node = first + corner(k);
            let Some(of) = tiles.beside(tile, node >> 2).and_then(&of) else { continue };
            let node = node & (NODES - 1);
            let weight_of_node = Vec3::select(corner(k).cmpeq(IVec3::ONE), far, 1.0 - far).element_product();
            let row = &of.0[(node.y + NODES * node.z) as usize];
            weight += weight_of_node * row.weights.as_array()[node.x as usize];
            for (sum, values) in sums.iter_mut().zip(&row.sums) {
                *sum += weight_of_node * values.as_array()[node.x as usize];
            }
        }
        let [x, y, z, a, b] = sums.map(|sum| sum / f32::max(weight, LEAST));
        (Vec3::new(x, y, z), Vec2::new(a, b))
    }
}

#[cfg(test)]
mod tests {
    use crate::{ParticleSurface, SurfaceParticles};
    use glam::{Mat3, Vec2, Vec3};

    #[test]
    fn a_turning_and_stretching_liquid_has_its_velocity_at_its_surface() {
        let size = 0.05;
        let particles = crate::fill(&crate::primitive::sphere(0.8, 64), size);
        let positions: Vec<Vec3> = particles.iter().map(|p| *p + Vec3::new(-7.3, 2.1, 0.4)).collect();
        let gradient =
            Mat3::from_cols(Vec3::new(0.3, 1.0, 0.0), Vec3::new(-1.0, 0.2, 0.0), Vec3::new(0.5, 0.0, -0.5));
        let velocity = |at: Vec3| Vec3::new(1.0, -2.0, 0.5) + gradient * (at - Vec3::new(-7.3, 2.1, 0.4));
        let velocities: Vec<Vec3> = positions.iter().map(|at| velocity(*at)).collect();
        let values: Vec<Vec2> = positions.iter().map(|at| Vec2::new(3.0, at.x)).collect();
        let surface = ParticleSurface {
            size_m: size,
            radius_m: 0.6 * size,
            reach_m: 2.2 * size,
            cell_m: 0.5 * size,
            anisotropy: 1.0,
            film_m: 0.0,
        };
        let particles = SurfaceParticles { positions: &positions, velocities: &velocities, values: &values };
        let mesh = surface.of(&particles).unwrap();
        assert!(mesh.positions.len() > 5_000);
        for (i, at) in mesh.positions.iter().enumerate() {
            // The mean of the particles around a place at the surface lies within, by up to a size or so.
            let bound = 1.5 * size;
            assert!(mesh.velocities[i].distance(velocity(*at)) < bound * 1.5, "{at}");
            assert!((mesh.values[i].x - 3.0).abs() < 1e-4 && (mesh.values[i].y - at.x).abs() < bound, "{at}");
            assert!(positions[mesh.nearest[i] as usize].distance(*at) < 2.2 * size, "{at}");
        }
    }
}
