//! glTF 2.0 with its buffers inside: meshes, where they are placed, and their looks.
//!
//! The JSON is read here and not by a library, since files come from anywhere:
//! every index, count and length is checked before it is used. Of the ratified
//! extensions, quantised attributes (`KHR_mesh_quantization`), sparse accessors,
//! buffers compressed by Draco (`KHR_draco_mesh_compression`) and meshopt
//! (`EXT_meshopt_compression`, `KHR_meshopt_compression`), moved textures
//! (`KHR_texture_transform`) and what materials have that a [`shot::look::Look`] has
//! too are read.

mod accessor;
mod animation;
mod container;
mod draco;
mod material;
mod meshopt;
mod pose;
mod primitive;
mod scene;
#[cfg(test)]
mod tests;

use crate::{ImportError, MAX_FACES, Model};
pub(crate) use animation::{is_animated, read_animation};
use container::Container;
use material::Materials;
use pose::ScenePose;
use serde_json::Value;

/// Most elements of an accessor, and vertices of all uses of all meshes.
const MAX_COUNT: usize = 3 * MAX_FACES;

/// Extensions that a file may require beside those of compression: those that
/// are read, and those of materials that are left out.
const READ: [&str; 10] = [
    "KHR_mesh_quantization",
    "KHR_texture_transform",
    "KHR_materials_unlit",
    "KHR_materials_emissive_strength",
    "KHR_materials_ior",
    "KHR_materials_specular",
    "KHR_materials_transmission",
    "KHR_materials_volume",
    "KHR_materials_clearcoat",
    "KHR_materials_sheen",
];

/// Reads the meshes of the default scene with their looks, and with the images of those if they are wanted.
pub(crate) fn read(name: &str, bytes: &[u8], with_images: bool) -> Result<Model, ImportError> {
    let model = |bytes| {
        let gltf = Gltf::new(bytes)?;
        let mut materials = Materials::new(&gltf, with_images);
        let parts = scene::parts(&gltf, &mut materials, &ScenePose::default())?;
        let Materials { done, images, notices, .. } = materials;
        Ok(Model { parts, materials: done, images, notices })
    };
    model(bytes).map_err(|message: String| ImportError::file(name, message))
}

struct Gltf<'a> {
    file: Container<'a>,
    decoded: meshopt::Decoded,
}

impl<'a> Gltf<'a> {
    fn new(bytes: &'a [u8]) -> Result<Self, String> {
        let file = Container::read(bytes)?;
        let views = file.json["bufferViews"].as_array().map_or(0, Vec::len);
        let gltf = Self { file, decoded: meshopt::Decoded::new(views) };
        let compression = [draco::EXTENSION].into_iter().chain(meshopt::EXTENSIONS);
        let known: Vec<&str> = READ.into_iter().chain(compression).collect();
        let mut required = gltf.list("extensionsRequired").iter().filter_map(Value::as_str);
        if let Some(unknown) = required.find(|required| !known.contains(required)) {
            let name: String = unknown.chars().take(60).collect();
            return Err(format!("needs the glTF extension {name}, which is not read; export it without"));
        }
        Ok(gltf)
    }

    fn entry(&self, list: &str, index: u64) -> Result<&Value, String> {
        let found = usize::try_from(index).ok().and_then(|index| self.file.json.get(list)?.get(index));
        found.ok_or_else(|| format!("names {list} {index}, which is not there"))
    }

    fn list(&self, list: &str) -> &[Value] {
        self.file.json.get(list).and_then(Value::as_array).map_or(&[], Vec::as_slice)
    }
}
