//! Meshes that change with time, as samples.

use crate::{CREASE_RAD, ImportError};
use frames::{MAX_SAMPLES, MAX_SEQUENCE_BYTES};
use geometry::topology::{Attribute, AttributeValues, Domain};
use geometry::{Mesh, MeshSample, MeshSequence, Topology};
use glam::Vec3;
use std::sync::Arc;

/// A sequence that was read.
#[derive(Debug)]
pub struct ImportedSequence {
    /// The samples.
    pub sequence: MeshSequence,
    /// A sentence for each thing that was left out or may surprise.
    pub notices: Vec<String>,
}

/// Most groups of faces of a mesh that are kept.
pub(crate) const MAX_GROUPS: usize = 64;

/// A mesh with the groups of its faces.
#[derive(Clone, Debug, Default)]
pub(crate) struct GroupedMesh {
    pub mesh: Mesh,
    /// Colour of each vertex, linear; empty if it has none.
    pub colours: Vec<Vec3>,
    /// Names of groups, with the faces of each.
    pub groups: Vec<(String, Vec<u32>)>,
    /// Velocity of each vertex, in the file's units a frame; empty if the file has none.
    pub velocities: Vec<Vec3>,
}

/// Samples one after the other. What stays the same between them is kept once.
pub(crate) struct Samples {
    file: String,
    samples: Vec<MeshSample>,
    /// The last mesh whose faces differed from those before, and the vertex of it
    /// that each vertex of its topology is.
    last: Option<(GroupedMesh, Arc<Topology>, Vec<u32>)>,
    changes: usize,
    bytes: usize,
}

impl Samples {
    pub fn new(file: &str) -> Self {
        Self { file: file.to_owned(), samples: Vec::new(), last: None, changes: 0, bytes: 0 }
    }

    /// Adds the mesh of a frame.
    ///
    /// # Errors
    /// A sentence on what is wrong with the mesh, or that there is too much.
    pub fn push(&mut self, frame: f64, of: GroupedMesh) -> Result<(), String> {
        of.mesh.check().map_err(|error| error.to_string())?;
        let same = self.last.as_ref().is_some_and(|(last, ..)| {
            last.mesh.triangles == of.mesh.triangles
                && last.mesh.uvs == of.mesh.uvs
                && last.groups == of.groups
                && last.colours == of.colours
                && last.mesh.positions.len() == of.mesh.positions.len()
        });
        if !same {
            let (topology, origin) = topology_of(&of);
            self.changes += usize::from(self.last.is_some());
            self.last = Some((of.clone(), Arc::new(topology), origin));
        }
        let (_, topology, origin) = self.last.as_ref().expect("just made");
        let positions: Vec<Vec3> = origin.iter().map(|&v| of.mesh.positions[v as usize]).collect();
        let velocities: Vec<Vec3> = match of.velocities.len() == of.mesh.positions.len() {
            true => origin.iter().map(|&v| of.velocities[v as usize]).collect(),
            false => Vec::new(),
        };
        self.bytes += 12 * (positions.len() + velocities.len());
        if self.bytes > MAX_SEQUENCE_BYTES || self.samples.len() == MAX_SAMPLES {
            return Err(format!(
                "has more than {MAX_SAMPLES} frames, or more than {} GB of vertices",
                MAX_SEQUENCE_BYTES >> 30
            ));
        }
        let topology = topology.clone();
        self.samples.push(MeshSample { frame, topology, positions, velocities });
        Ok(())
    }

    pub fn finish(self, rate: f32, mut notices: Vec<String>) -> Result<ImportedSequence, ImportError> {
        let Self { file, samples, changes, .. } = self;
        if samples.len() < 2 {
            return Err(ImportError::file(&file, "has one frame; a sequence needs two or more"));
        }
        if changes > 0 {
            let times = if changes == 1 { "once".to_owned() } else { format!("{changes} times") };
            notices.push(format!("{file}: the faces change {times}; there, vertices are not interpolated."));
        }
        let sequence = MeshSequence::new(samples, rate)
            .ok_or_else(|| ImportError::file(&file, "has frames that do not rise"))?;
        Ok(ImportedSequence { sequence, notices })
    }
}

/// The topology of a mesh, and the vertex of the mesh that each of its own is.
fn topology_of(of: &GroupedMesh) -> (Topology, Vec<u32>) {
    let mesh = &of.mesh;
    let sound = mesh.normals.len() == mesh.positions.len() && mesh.normals.iter().all(|n| n.length() > 0.5);
    let (with_normals, origin) = if sound {
        (mesh.clone(), (0..mesh.positions.len() as u32).collect())
    } else {
        let split = mesh.clone().with_normals(CREASE_RAD);
        let mut origin = vec![0; split.positions.len()];
        for (new, old) in split.triangles.iter().zip(&mesh.triangles) {
            (0..3).for_each(|corner| origin[new[corner] as usize] = old[corner]);
        }
        (split, origin)
    };
    let base = Topology::of(&with_normals);
    let mut attributes = base.attributes().to_vec();
    if of.colours.len() == mesh.positions.len() {
        let colours = origin.iter().map(|&v: &u32| of.colours[v as usize]).collect();
        let values = AttributeValues::Vectors(colours);
        attributes.push(Attribute { name: "colour".to_owned(), domain: Domain::Vertex, values });
    }
    for (name, faces) in &of.groups {
        let mut flags = vec![0; mesh.triangles.len()];
        faces.iter().for_each(|&face| flags[face as usize] = 1);
        let values = AttributeValues::Flags(flags);
        attributes.push(Attribute { name: name.clone(), domain: Domain::Face, values });
    }
    let topology = Topology::new(base.triangles().to_vec(), base.smooth().to_vec(), attributes);
    (topology.expect("a checked mesh is sound"), origin)
}
