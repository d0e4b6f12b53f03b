//! Volume, centre and inertia of a closed mesh.

use crate::Mesh;
use glam::{DMat3, DVec3, Mat3, Vec3};

/// Mass properties at unit density.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct MassProperties {
    /// Volume in m³.
    pub volume: f32,
    /// Centre of mass in metres.
    pub centre: Vec3,
    /// Inertia about the centre at unit density, kg m² for 1 kg/m³.
    pub inertia: Mat3,
}

impl MassProperties {
    /// From the volume and the principal moments per unit mass.
    pub fn principal(volume: f32, moments: Vec3) -> Self {
        Self { volume, centre: Vec3::ZERO, inertia: Mat3::from_diagonal(moments * volume) }
    }
}

/// Integrates over the signed tetrahedra from the origin to each face:
/// J. Blow and A. Binstock, *How to find the inertia tensor (or other mass
/// properties) of a 3D solid body represented by a triangle mesh*, 2004.
/// An open mesh gives the volume between its faces and its centre; the result
/// is none if that is not positive.
pub fn mass_properties(mesh: &Mesh) -> Option<MassProperties> {
    let reference = mesh.bounds().centre().as_dvec3();
    let (mut volume, mut first, mut second) = (0.0, DVec3::ZERO, DMat3::ZERO);
    for triangle in &mesh.triangles {
        let [a, b, c] = triangle.map(|v| mesh.positions[v as usize].as_dvec3() - reference);
        let six_v = a.dot(b.cross(c));
        volume += six_v / 6.0;
        first += (a + b + c) * (six_v / 24.0);
        // Second moments of a tetrahedron (0, a, b, c): ∫ x xᵀ.
        let sum = a + b + c;
        let outer = |v: DVec3| DMat3::from_cols(v * v.x, v * v.y, v * v.z);
        second += (outer(a) + outer(b) + outer(c) + outer(sum)) * (six_v / 120.0);
    }
    if volume <= 0.0 || !volume.is_finite() {
        return None;
    }
    let centre = first / volume;
    let outer = DMat3::from_cols(centre * centre.x, centre * centre.y, centre * centre.z);
    let about = second - outer * volume;
    let trace = about.x_axis.x + about.y_axis.y + about.z_axis.z;
    let inertia = DMat3::from_diagonal(DVec3::splat(trace)) - about;
    Some(MassProperties {
        volume: volume as f32,
        centre: (centre + reference).as_vec3(),
        inertia: inertia.as_mat3(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;

    #[test]
    fn a_box_has_the_textbook_inertia() {
        let mass = mass_properties(&primitive::cuboid(Vec3::new(2.0, 3.0, 4.0), 0.0)).unwrap();
        assert!((mass.volume - 24.0).abs() < 1e-4);
        let expected = Vec3::new(9.0 + 16.0, 4.0 + 16.0, 4.0 + 9.0) * 24.0 / 12.0;
        for axis in 0..3 {
            assert!((mass.inertia.col(axis)[axis] - expected[axis]).abs() < 1e-3);
        }
    }

    #[test]
    fn a_torus_has_the_volume_of_pappus() {
        let (ring, tube) = (0.5, 0.1);
        let mass = mass_properties(&primitive::torus(ring, tube, primitive::AROUND)).unwrap();
        let exact = 2.0 * std::f32::consts::PI.powi(2) * ring * tube * tube;
        // The polygon of n sides inscribed in the tube lacks about (2π/n)²/6.
        assert!((mass.volume / exact - 1.0).abs() < 0.02);
    }

    #[test]
    fn the_centre_moves_with_the_mesh() {
        let mut mesh = primitive::cone(1.0, 2.0, primitive::AROUND);
        mesh.positions.iter_mut().for_each(|p| *p += Vec3::new(5.0, 1.0, 0.0));
        let mass = mass_properties(&mesh).unwrap();
        // A cone's centre is a quarter of the height above its base.
        assert!((mass.centre - Vec3::new(5.0, 1.0 - 1.0 + 0.5, 0.0)).length() < 1e-3);
    }

    #[test]
    fn an_inside_out_mesh_has_no_mass() {
        let mut mesh = primitive::sphere(1.0, primitive::AROUND);
        mesh.triangles.iter_mut().for_each(|t| t.swap(0, 1));
        assert_eq!(mass_properties(&mesh), None);
    }
}
