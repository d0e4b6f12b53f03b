//! Wavefront OBJ: an object a body, with UVs and normals, in metres.

use super::{PlacedMesh, body_name};
use std::fmt::Write as _;

/// The meshes as text. Coordinates have six digits after the point: an error of
/// at most half a micrometre, beside that of the numbers themselves.
pub fn write_obj(meshes: &[PlacedMesh]) -> Vec<u8> {
    let mut text = String::from("# metres, y up\n");
    let (mut base, mut uv_base) = (1, 1);
    for of in meshes {
        let has_uvs = of.mesh.uvs.len() == of.mesh.positions.len();
        for (body, &(position, orientation, scale)) in of.bodies.iter().enumerate() {
            if scale <= 0.0 {
                continue;
            }
            // A name goes to the end of its line.
            let _ = writeln!(text, "o {}", body_name(of, body).replace(['\n', '\r'], " "));
            for p in &of.mesh.positions {
                let p = position + orientation * (*p * scale);
                let _ = writeln!(text, "v {:.6} {:.6} {:.6}", p.x, p.y, p.z);
            }
            for uv in of.mesh.uvs.iter().filter(|_| has_uvs) {
                let _ = writeln!(text, "vt {:.6} {:.6}", uv.x, uv.y);
            }
            for n in &of.mesh.normals {
                let n = orientation * *n;
                let _ = writeln!(text, "vn {:.5} {:.5} {:.5}", n.x, n.y, n.z);
            }
            for t in &of.mesh.triangles {
                let _ = text.write_str("f");
                for &v in t {
                    let (v, uv) = (v as usize + base, v as usize + uv_base);
                    let _ = if has_uvs { write!(text, " {v}/{uv}/{v}") } else { write!(text, " {v}//{v}") };
                }
                text.push('\n');
            }
            base += of.mesh.positions.len();
            uv_base += if has_uvs { of.mesh.positions.len() } else { 0 };
        }
    }
    text.into_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::read_mesh;
    use geometry::primitive;
    use glam::{Quat, Vec3};
    use std::sync::Arc;

    #[test]
    fn what_is_written_is_read_back_where_it_stands() {
        let mesh = Arc::new(primitive::torus(0.4, 0.1, 16));
        let turn = Quat::from_rotation_x(0.7);
        let bodies = vec![(Vec3::X, turn, 1.0), (Vec3::Y, Quat::IDENTITY, 2.0), (Vec3::Z, turn, 0.0)];
        let placed = PlacedMesh { name: "Ring".to_owned(), mesh: mesh.clone(), deforms: false, bodies };
        let text = write_obj(&[placed]);
        assert!(String::from_utf8_lossy(&text).contains("o Ring 2\n"));
        let back = read_mesh("ring.obj", &text).unwrap();
        assert_eq!(back.triangles.len(), 2 * mesh.triangles.len(), "one that is gone is left out");
        for (t, of) in back.triangles.iter().zip(mesh.triangles.iter().cycle()).take(mesh.triangles.len()) {
            for corner in 0..3 {
                let p = Vec3::X + turn * mesh.positions[of[corner] as usize];
                assert!(back.positions[t[corner] as usize].distance(p) < 1.5e-6);
                assert!(back.uvs[t[corner] as usize].distance(mesh.uvs[of[corner] as usize]) < 1e-6);
            }
        }
    }
}
