//! The force of moving air on the triangles of a sheet.
//!
//! With the air's speed w against a triangle of area A and normal n, turned to w · n ≥ 0, the force is
//! ½ ρ A (w · n) ((C_D − C_L) w + C_L |w| n): at right angles the drag of a plate of coefficient C_D, and with C_L = C_D
//! all of it along the normal (L. Ling, M. Damodaran and R. Gay, *Aerodynamic force models for animating cloth motion in
//! an air flow*, 1996). So the waves of a flag come out of the sheet's own motion.

use super::blocks::{CHUNK, Rows};
use super::sheet::Sheet;
use crate::forces::Acting;
use glam::{DVec3, Mat3, Vec3};
use rayon::prelude::*;

/// Force on a triangle, N, and how it falls with its velocity, N s/m.
type OfTriangle = (Vec3, Mat3);

/// Adds to each point its part of the forces, N, and of their fall with velocity, N s/m; `corners` are those at each point.
pub(super) fn add(
    sheet: &Sheet,
    corners: &Rows,
    acting: &Acting,
    x: &[DVec3],
    v: &[DVec3],
    (drag, lift): (f32, f32),
    forces: &mut [DVec3],
    resistances: &mut [Mat3],
) {
    if !acting.moves_air() {
        return;
    }
    let of = |points: [u32; 3]| -> OfTriangle {
        let [a, b, c] = points.map(|p| x[p as usize]);
        let middle = ((a + b + c) / 3.0).as_vec3();
        let velocity = points.iter().fold(DVec3::ZERO, |sum, p| sum + v[*p as usize]).as_vec3() / 3.0;
        let across = (b - a).cross(c - a).as_vec3();
        let area = 0.5 * across.length();
        let Some(normal) = across.try_normalize() else { return (Vec3::ZERO, Mat3::ZERO) };
        let (mut force, mut resistance) = (Vec3::ZERO, Mat3::ZERO);
        acting.air(middle, |air, density| {
            let w = air - velocity;
            let (speed, towards) = (w.length(), w.dot(normal));
            let n = if towards < 0.0 { -normal } else { normal };
            let scale = 0.5 * density * area;
            force += (w * (drag - lift) + n * (lift * speed)) * (towards.abs() * scale);
            let along = (drag - lift).max(0.0) * towards.abs() * scale;
            let outer = Mat3::from_cols(n * n.x, n * n.y, n * n.z);
            resistance += outer * (lift * speed * scale) + Mat3::from_diagonal(Vec3::splat(along));
        });
        (force / 3.0, resistance * (1.0 / 3.0))
    };
    let each: Vec<OfTriangle> = sheet.triangles.par_iter().map(|t| of(t.points)).collect();
    let parts = forces.par_iter_mut().zip(resistances.par_iter_mut()).enumerate().with_min_len(CHUNK);
    parts.for_each(|(point, (sum, resistance))| {
        for &corner in corners.of(point) {
            let (force, of) = &each[corner as usize / 3];
            *sum += force.as_dvec3();
            *resistance += *of;
        }
    });
}
