//! Files that hold a mesh that changes with time.

mod numbered;

use crate::samples::ImportedSequence;
use crate::{ImportError, alembic, gltf, usd};

/// Whether a file can hold a mesh that changes with time: a ZIP archive of
/// numbered OBJ files, or glTF, USD or Alembic with an animation.
pub fn is_sequence(name: &str, bytes: &[u8]) -> bool {
    match extension(name).as_str() {
        "zip" => true,
        "glb" | "gltf" => gltf::is_animated(bytes),
        "usda" | "usdc" | "usdz" | "usd" => usd::is_animated(bytes),
        "abc" => alembic::is_animated(bytes),
        _ => false,
    }
}

/// Reads a mesh that changes with time. `fps` is the rate of files that do not
/// tell theirs.
///
/// # Errors
/// [`ImportError`] names the file in the archive, and the line or the frame.
pub fn read_sequence(name: &str, bytes: &[u8], fps: f32) -> Result<ImportedSequence, ImportError> {
    match extension(name).as_str() {
        "zip" => numbered::read(name, bytes, fps),
        "usda" | "usdc" | "usdz" | "usd" => usd::read_animation(name, bytes),
        "abc" => alembic::read_animation(name, bytes),
        _ => gltf::read_animation(name, bytes),
    }
}

fn extension(name: &str) -> String {
    name.rsplit('.').next().unwrap_or_default().to_ascii_lowercase()
}
