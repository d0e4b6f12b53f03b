//! A mesh that is cut open along its edges.

use geometry::{Mesh, Topology, Weld};
use serde::{Deserialize, Serialize};

/// A point that has become two: some faces around it go to a new point, numbered after all others.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Cut {
    /// The point of the surface.
    pub point: u32,
    /// The faces of the mesh that go to the new one.
    pub faces: Vec<u32>,
}

/// A mesh at rest with the points that its cuts make.
#[derive(Clone, Debug)]
pub(super) struct TornMesh {
    pub mesh: Mesh,
    pub weld: Weld,
    /// The point of the whole mesh that each point was.
    pub origins: Vec<u32>,
}

impl TornMesh {
    /// Without cuts.
    pub fn new(mesh: &Mesh) -> Self {
        let weld = Weld::new(&mesh.positions);
        Self { mesh: mesh.clone(), origins: (0..weld.len() as u32).collect(), weld }
    }

    /// With cuts; none if they are not those of such a mesh.
    pub fn with_cuts(mesh: &Mesh, cuts: &[Cut]) -> Option<Self> {
        let mut torn = Self::new(mesh);
        cuts.iter().try_for_each(|cut| torn.cut(cut))?;
        Some(torn)
    }

    fn cut(&mut self, cut: &Cut) -> Option<()> {
        let origin = *self.origins.get(cut.point as usize)?;
        let Self { mesh, weld, origins } = self;
        let new = origins.len() as u32;
        // Vertices that differ by UV or normal stay apart at the new point too.
        let mut made: Vec<(u32, u32)> = Vec::new();
        for &face in &cut.faces {
            let corners = mesh.triangles.get_mut(face as usize)?;
            for corner in corners {
                if weld.point_of[*corner as usize] != cut.point {
                    continue;
                }
                let from = *corner as usize;
                let known = made.iter().find(|(of, _)| *of == *corner);
                *corner = match known {
                    Some((_, vertex)) => *vertex,
                    None => {
                        mesh.positions.push(mesh.positions[from]);
                        mesh.normals.extend(mesh.normals.get(from).copied());
                        mesh.uvs.extend(mesh.uvs.get(from).copied());
                        mesh.weights.extend(mesh.weights.get(from).copied());
                        weld.point_of.push(new);
                        let vertex = mesh.positions.len() as u32 - 1;
                        made.push((*corner, vertex));
                        vertex
                    }
                };
            }
        }
        weld.vertex_of.push(made.first()?.1);
        origins.push(origin);
        Some(())
    }

    /// Its faces, normals and attributes: normals are not shared across a cut.
    pub fn topology(&self) -> Topology {
        Topology::of_points(&self.mesh, &self.weld.point_of)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::primitive;
    use shot::Shape;

    #[test]
    fn a_cut_doubles_a_point_and_its_faces_go_apart() {
        let mesh = Mesh::refined(&Shape::plane(1.0, 1.0), primitive::plane(1.0, 1.0), 0.25, 1_000).unwrap();
        let whole = TornMesh::new(&mesh);
        let faces = whole.weld.faces(&mesh.triangles);
        let middle = 12;
        let around: Vec<u32> =
            (0..faces.len() as u32).filter(|f| faces[*f as usize].contains(&middle)).collect();
        let cut = Cut { point: middle, faces: around[..3].to_vec() };
        let torn = TornMesh::with_cuts(&mesh, std::slice::from_ref(&cut)).unwrap();
        assert_eq!((torn.weld.len(), torn.mesh.positions.len()), (26, 26));
        assert_eq!(torn.origins[25], middle);
        let after = torn.weld.faces(&torn.mesh.triangles);
        for face in &around {
            let moved = cut.faces.contains(face);
            assert_eq!(after[*face as usize].contains(&25), moved);
            assert_eq!(after[*face as usize].contains(&middle), !moved);
        }
        // Normals differ once the sides bend apart: the new vertex is in a group of its own.
        let topology = torn.topology();
        assert_ne!(topology.smooth()[25], topology.smooth()[middle as usize]);
        assert_eq!(topology.uvs()[25], topology.uvs()[middle as usize]);
    }

    #[test]
    fn cuts_of_another_mesh_are_refused() {
        let mesh = primitive::plane(1.0, 1.0);
        for (point, faces) in [(99, vec![0]), (0, vec![7]), (0, vec![])] {
            assert!(TornMesh::with_cuts(&mesh, &[Cut { point, faces }]).is_none());
        }
    }
}
