//! Open formats in and out: meshes, images, films, outlines.
//!
//! Every reader takes bytes, bounds what it allocates, and says what is wrong
//! and where. Nothing here touches the file system.
//!
//! ```
//! let mesh = interchange::read_mesh("tri.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n").unwrap();
//! assert_eq!(mesh.triangles, [[0, 1, 2]]);
//! ```
#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod alembic;
mod complete;
mod drawing_bounds;
mod export;
mod gltf;
mod images;
#[cfg(test)]
mod libraries;
mod model;
mod movie;
mod obj;
mod outline;
mod ply;
mod samples;
mod scene;
mod sequence;
mod stl;
mod usd;

pub use export::{
    ExportError, ExportScene, LightKind, MeshSamples, PlacedMesh, PointSample, Samples, SceneCamera,
    SceneInstances, SceneLight, SceneMesh, ScenePoints, ScenePose, UsdForm, write_alembic, write_glb,
    write_obj, write_usd,
};
pub use images::{
    exr_made_from, mend, png_made_from, read_environment, read_image, read_png, with_made_from, write_exr,
    write_png,
};
pub use model::{ImageFile, Material, Model, Part};
pub use movie::{Movie, MovieError, movie_of_drawings};
pub use outline::{MAX_LETTERS, Strokes, outline_svg, outline_text};
pub use ply::write as write_ply;
pub use samples::ImportedSequence;
pub use sequence::{is_sequence, read_sequence};

use geometry::{Mesh, MeshError};
use thiserror::Error;

/// The largest file that is read, bytes.
pub const MAX_FILE: usize = 256 << 20;
/// The most faces of an imported mesh.
pub const MAX_FACES: usize = 4_000_000;
/// The most pixels of an imported image.
pub const MAX_PIXELS: u64 = 64 << 20;
/// Edges flatter than this, radians, are smooth where a file has no normals.
const CREASE_RAD: f32 = 0.6;

/// Why a file could not be read.
#[derive(Debug, Error)]
pub enum ImportError {
    /// A line of a text file is wrong.
    #[error("{file}, line {line}: {message}")]
    Line {
        /// Name of the file.
        file: String,
        /// Line, from 1.
        line: usize,
        /// The fault.
        message: String,
    },
    /// The file as a whole is wrong.
    #[error("{file}: {message}")]
    File {
        /// Name of the file.
        file: String,
        /// The fault.
        message: String,
    },
}

impl ImportError {
    pub(crate) fn file(file: &str, message: impl ToString) -> Self {
        Self::File { file: file.to_owned(), message: message.to_string() }
    }
}

/// Reads a mesh from an OBJ, glTF (GLB), PLY, STL, USD or Alembic file, told by its name:
/// all parts of the file as one.
///
/// # Errors
/// [`ImportError`] names the file and, for OBJ, the line.
pub fn read_mesh(name: &str, bytes: &[u8]) -> Result<Mesh, ImportError> {
    merged(name, parse(name, bytes, false)?)
}

/// All parts of a file as one mesh.
///
/// # Errors
/// As [`read_mesh`].
pub fn merged(name: &str, model: Model) -> Result<Mesh, ImportError> {
    finish(name, model.merged())
}

/// Reads the meshes of such a file part by part, with their looks, and with the
/// images of those if they are wanted.
///
/// # Errors
/// As [`read_mesh`].
pub fn read_model(name: &str, bytes: &[u8], with_images: bool) -> Result<Model, ImportError> {
    let mut model = parse(name, bytes, with_images)?;
    for part in &mut model.parts {
        part.mesh = finish(name, std::mem::take(&mut part.mesh))?;
    }
    Ok(model)
}

fn parse(name: &str, bytes: &[u8], with_images: bool) -> Result<Model, ImportError> {
    if bytes.len() > MAX_FILE {
        return Err(ImportError::file(name, format!("{} MB; at most {}", bytes.len() >> 20, MAX_FILE >> 20)));
    }
    let extension = name.rsplit('.').next().unwrap_or_default().to_ascii_lowercase();
    Ok(match extension.as_str() {
        "obj" => obj::read(name, bytes)?.into(),
        "glb" | "gltf" => gltf::read(name, bytes, with_images)?,
        "ply" => ply::read(name, bytes)?.into(),
        "stl" => stl::read(name, bytes)?.into(),
        "usda" | "usdc" | "usdz" | "usd" => usd::read(name, bytes)?,
        "abc" => alembic::read(name, bytes)?,
        _ => {
            let is = "is none of .obj, .glb, .gltf, .ply, .stl, .usda, .usdc, .usdz and .abc";
            return Err(ImportError::file(name, is));
        }
    })
}

/// Looks at a mesh, and gives it normals if it has none.
fn finish(name: &str, mesh: Mesh) -> Result<Mesh, ImportError> {
    mesh.check().map_err(|error: MeshError| ImportError::file(name, error))?;
    if mesh.triangles.len() > MAX_FACES {
        return Err(ImportError::file(name, format!("{} faces; at most {MAX_FACES}", mesh.triangles.len())));
    }
    let sound = mesh.normals.len() == mesh.positions.len() && mesh.normals.iter().all(|n| n.length() > 0.5);
    Ok(if sound { mesh } else { mesh.with_normals(CREASE_RAD) })
}
