//! Frames of a shot as meshes for other tools.

mod scene;

use crate::assets::Loader;
use crate::error::{Error, Result};
use crate::finishing::Runs;
use frames::Frame;
use geometry::{Mesh, Meshes};
use glam::{Quat, Vec3};
use interchange::{PlacedMesh, write_glb, write_obj};
use shot::{Element, Id, Shot};
use std::collections::HashMap;
use std::io::{Cursor, Write};
use std::ops::RangeInclusive;
use std::path::Path;
use std::sync::Arc;

/// Most frames in one file.
pub const MAX_HANDED_ON: u32 = 2_000;

/// Most memory that the meshes of one file take, bytes.
const MAX_BYTES: usize = 2 << 30;

/// The meshes of a shot's visible solids at its finished frames.
pub struct HandingOn {
    shot: Shot,
    frames: frames::finish::SharedFrames,
    meshes: Meshes,
    /// Rest shapes, by element.
    rest: HashMap<Id, Arc<Mesh>>,
    /// The solid that is handed on; none: all that are visible.
    only: Option<Id>,
}

impl HandingOn {
    /// Of a shot whose assets lie below `folder`.
    ///
    /// # Errors
    /// [`Error::Bad`] names the asset that is missing.
    pub fn new(shot: &Shot, runs: &Runs, loader: &Loader, folder: &Path) -> Result<Self> {
        let meshes = loader.meshes(folder, shot)?;
        Ok(Self { shot: shot.clone(), frames: runs.frames(shot)?, meshes, rest: HashMap::new(), only: None })
    }

    /// One solid alone, visible or not.
    #[must_use]
    pub fn only(mut self, solid: Id) -> Self {
        self.only = Some(solid);
        self
    }

    /// The frames that there are.
    pub fn range(&self) -> RangeInclusive<u32> {
        self.frames.range()
    }

    /// One frame as OBJ.
    ///
    /// # Errors
    /// [`Error::NotFound`] if the frame is not computed.
    pub fn obj(&mut self, number: u32) -> Result<Vec<u8>> {
        Ok(write_obj(&self.placed(number)?))
    }

    /// A range of frames as OBJ files that are numbered by their frames, in a zip.
    ///
    /// # Errors
    /// [`Error::NotFound`] if a frame is not computed; [`Error::Bad`] if they are too large.
    pub fn numbered_objs(&mut self, range: RangeInclusive<u32>) -> Result<Vec<u8>> {
        let count = range.end().saturating_sub(*range.start()) + 1;
        if count > MAX_HANDED_ON {
            return Err(Error::Bad(format!("{count} frames in one file; at most {MAX_HANDED_ON}")));
        }
        let fail = |error: zip::result::ZipError| Error::Internal(error.to_string());
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        let mut bytes = 0;
        for number in range {
            let obj = self.obj(number)?;
            bytes += obj.len();
            if bytes > MAX_BYTES {
                let most = MAX_BYTES >> 20;
                return Err(Error::Bad(format!("frames up to {number} take over {most} MB; hand on fewer")));
            }
            let options = zip::write::SimpleFileOptions::default();
            zip.start_file(format!("frame.{number:05}.obj"), options).map_err(fail)?;
            zip.write_all(&obj)?;
        }
        Ok(zip.finish().map_err(fail)?.into_inner())
    }

    /// A range of frames as one glTF file; `done` is told after each frame.
    ///
    /// # Errors
    /// [`Error::NotFound`] if a frame is not computed; [`Error::Bad`] if the
    /// format cannot hold the frames.
    pub fn glb(&mut self, range: RangeInclusive<u32>, done: &mut dyn FnMut()) -> Result<Vec<u8>> {
        let count = range.end().saturating_sub(*range.start()) + 1;
        if count > MAX_HANDED_ON {
            return Err(Error::Bad(format!("{count} frames in one file; at most {MAX_HANDED_ON}")));
        }
        let (mut list, mut bytes) = (Vec::new(), 0);
        for number in range {
            let placed = self.placed(number)?;
            // Positions, normals, UVs and faces of each frame's own meshes.
            let own = placed.iter().filter(|of| of.deforms);
            bytes += own.map(|of| 32 * of.mesh.positions.len() + 12 * of.mesh.triangles.len()).sum::<usize>();
            if bytes > MAX_BYTES {
                return Err(Error::Bad(format!(
                    "the meshes of frames up to {number} take over {} MB; hand on fewer frames, or OBJ files",
                    MAX_BYTES >> 20
                )));
            }
            list.push((self.shot.timing.seconds(number), placed));
            done();
        }
        write_glb(&list).map_err(|error| Error::Bad(error.to_string()))
    }

    fn placed(&mut self, number: u32) -> Result<Vec<PlacedMesh>> {
        Ok(self.placed_with(number)?.1.into_iter().map(|(_, placed)| placed).collect())
    }

    /// A frame, with the meshes of its solids where they stand, by element.
    fn placed_with(&mut self, number: u32) -> Result<(Frame, Vec<(Id, PlacedMesh)>)> {
        if !self.range().contains(&number) {
            return Err(Error::NotFound(format!("frame {number}")));
        }
        let frame: Frame = self.frames.frame(number)?;
        let mut placed = Vec::new();
        let chosen = |element: &&Element| self.only.map_or(!element.hidden, |only| element.id == only);
        for element in self.shot.elements.iter().filter(chosen) {
            // The surface of a liquid stands where it is.
            if let (Some(_), Some(mesh)) = (element.as_particles(), frame.meshes.get(&element.id)) {
                let bodies = vec![(Vec3::ZERO, Quat::IDENTITY, 1.0)];
                let of = PlacedMesh {
                    name: element.name.clone(),
                    mesh: Arc::new(mesh.mesh()),
                    deforms: true,
                    bodies,
                };
                placed.push((element.id, of));
                continue;
            }
            let (Some(solid), Some(bodies)) = (element.as_solid(), frame.bodies.get(&element.id)) else {
                continue;
            };
            let deformed = frame.meshes.get(&element.id);
            let mesh = match deformed {
                Some(mesh) => Arc::new(mesh.mesh()),
                None => match self.rest.get(&element.id) {
                    Some(mesh) => mesh.clone(),
                    None => {
                        let mesh = self.meshes.of_solid(solid);
                        let mesh = Arc::new(mesh.map_err(|error| Error::Bad(error.to_string()))?);
                        self.rest.insert(element.id, mesh.clone());
                        mesh
                    }
                },
            };
            let pose = |i: usize| {
                let scale = bodies.scales.get(i).copied().unwrap_or(1.0);
                (bodies.positions[i], bodies.orientations.get(i).copied().unwrap_or(Quat::IDENTITY), scale)
            };
            let of = PlacedMesh {
                name: element.name.clone(),
                mesh,
                deforms: deformed.is_some(),
                bodies: (0..bodies.len()).map(pose).collect(),
            };
            placed.push((element.id, of));
        }
        Ok((frame, placed))
    }
}
