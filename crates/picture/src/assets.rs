//! The files that a shot uses, and what is wrong where one is missing.

use crate::light::Environment;
use geometry::uv::laid;
use geometry::{Bvh, Mesh, Meshes, MissingMesh};
use glam::Vec3;
use shot::{Shape, UvLayout, motion::NotFinite};
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex};
use thiserror::Error;

/// Files a shot uses, loaded.
#[derive(Default)]
pub struct Assets {
    /// Meshes by asset name.
    pub meshes: Meshes,
    /// Environment images by asset name.
    pub environments: HashMap<String, Arc<Environment>>,
    /// Shapes with their hierarchies, kept from frame to frame.
    models: Mutex<HashMap<String, Arc<Model>>>,
}

pub(crate) struct Model {
    pub mesh: Mesh,
    pub bvh: Bvh,
    /// What layers of looks may ask for by vertex, by name.
    pub values: BTreeMap<String, Vec<f32>>,
    /// Factors of the albedo by vertex; empty: 1 everywhere.
    pub colours: Vec<Vec3>,
}

impl Assets {
    pub(crate) fn model(&self, shape: &Shape, uvs: UvLayout) -> Result<Arc<Model>, MissingMesh> {
        let key = serde_json::to_string(&(shape, uvs)).expect("a shape serialises");
        let mut models = self.models.lock().expect("no thread panicked with the lock");
        if let Some(model) = models.get(&key) {
            return Ok(model.clone());
        }
        let mesh = laid(self.meshes.mesh(shape)?, uvs);
        let bvh = Bvh::build(&mesh.positions, &mesh.triangles);
        let model = Arc::new(Model { mesh, bvh, values: BTreeMap::new(), colours: Vec::new() });
        models.insert(key, model.clone());
        Ok(model)
    }
}

/// Why a shot cannot be rendered.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum SceneError {
    /// The document has a fault.
    #[error("{0}")]
    Fault(String),
    /// A formula gives no finite value.
    #[error(transparent)]
    NotFinite(#[from] NotFinite),
    /// There is no camera.
    #[error("the shot has no camera; add one and choose it")]
    NoCamera,
    /// An asset is missing.
    #[error("{element}: {asset} is not there")]
    MissingAsset {
        /// Name of the element.
        element: String,
        /// The asset.
        asset: String,
    },
}
