//! The files that shots use: kept once by their SHA-256, loaded when needed.

use crate::error::{Error, Result};
use geometry::Image;
use geometry::{Mesh, Meshes};
use picture::Environment;
use sha2::{Digest, Sha256};
use shot::{Asset, AssetKind, Shot};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

/// A loaded file.
#[derive(Clone)]
enum Loaded {
    Mesh(Arc<Mesh>),
    Image(Arc<Image>),
    Environment(Arc<Environment>),
}

/// Loads assets and keeps them.
#[derive(Default)]
pub struct Loader {
    loaded: Mutex<HashMap<String, Loaded>>,
}

/// What kind of asset a file name says.
pub fn kind_of(name: &str) -> Result<AssetKind> {
    let extension = name.rsplit('.').next().unwrap_or_default().to_ascii_lowercase();
    match extension.as_str() {
        "obj" | "glb" => Ok(AssetKind::Mesh),
        "png" | "jpg" | "jpeg" => Ok(AssetKind::Image),
        "exr" | "hdr" => Ok(AssetKind::Environment),
        _ => Err(Error::Bad(format!("{name}: is none of .obj, .glb, .png, .jpg, .exr, .hdr"))),
    }
}

/// SHA-256 in hexadecimal.
pub fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Reads a file as what its name says, to see that it is that.
pub fn examine(name: &str, bytes: &[u8]) -> Result<Asset> {
    let kind = kind_of(name)?;
    load(kind, name, bytes)?;
    let sum = sha256(bytes);
    let extension = name.rsplit('.').next().unwrap_or_default().to_ascii_lowercase();
    Ok(Asset { kind, file: format!("assets/{sum}.{extension}"), sha256: sum })
}

fn load(kind: AssetKind, name: &str, bytes: &[u8]) -> Result<Loaded> {
    Ok(match kind {
        AssetKind::Mesh => Loaded::Mesh(Arc::new(interchange::read_mesh(name, bytes)?)),
        AssetKind::Image => Loaded::Image(Arc::new(interchange::read_image(name, bytes)?)),
        AssetKind::Environment => Loaded::Environment(Arc::new(interchange::read_environment(name, bytes)?)),
    })
}

impl Loader {
    fn get(&self, folder: &Path, name: &str, asset: &Asset) -> Result<Loaded> {
        if let Some(loaded) = self.loaded.lock().expect("no panic with the lock").get(&asset.sha256) {
            return Ok(loaded.clone());
        }
        let path = folder.join(&asset.file);
        let bytes =
            std::fs::read(&path).map_err(|error| Error::Bad(format!("{}: {error}", path.display())))?;
        if sha256(&bytes) != asset.sha256 {
            return Err(Error::Bad(format!(
                "{}: its bytes are not those the shot was made with",
                path.display()
            )));
        }
        let file = Path::new(&asset.file).file_name().and_then(|n| n.to_str()).unwrap_or(name);
        let loaded = load(asset.kind, file, &bytes)?;
        self.loaded.lock().expect("no panic with the lock").insert(asset.sha256.clone(), loaded.clone());
        Ok(loaded)
    }

    /// The meshes of a shot, and the images its particles are born by, whose assets lie below `folder`.
    pub fn meshes(&self, folder: &Path, shot: &Shot) -> Result<Meshes> {
        let mut meshes = Meshes::default();
        for name in Meshes::needed(shot) {
            let Some(asset) = shot.assets.get(&name) else { continue };
            if let Loaded::Mesh(mesh) = self.get(folder, &name, asset)? {
                meshes.by_name.insert(name, mesh);
            }
        }
        for name in Meshes::needed_images(shot) {
            let Some(asset) = shot.assets.get(name) else { continue };
            if let Loaded::Image(image) = self.get(folder, name, asset)? {
                meshes.images.insert(name.clone(), image);
            }
        }
        Ok(meshes)
    }

    /// All assets of a shot, for rendering.
    pub fn all(&self, folder: &Path, shot: &Shot) -> Result<picture::Assets> {
        let mut assets = picture::Assets::default();
        for (name, asset) in &shot.assets {
            match self.get(folder, name, asset)? {
                Loaded::Mesh(mesh) => {
                    assets.meshes.by_name.insert(name.clone(), mesh);
                }
                Loaded::Image(image) => {
                    assets.meshes.images.insert(name.clone(), image);
                }
                Loaded::Environment(environment) => {
                    assets.environments.insert(name.clone(), environment);
                }
            }
        }
        Ok(assets)
    }
}

/// Where an asset's bytes lie below the data folder.
pub fn path(data: &Path, asset: &Asset) -> PathBuf {
    data.join(&asset.file)
}
