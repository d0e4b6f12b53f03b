//! The files that shots use: kept once by their SHA-256, loaded when needed.

use crate::error::{Error, Result};
use crate::jobs::lock;
use frames::Frame;
use geometry::{Image, Mesh, MeshSequence, Meshes};
use interchange::{ImportedSequence, MAX_FILE};
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
    Sequence(Arc<MeshSequence>),
    Frame(Arc<Frame>),
}

impl Loaded {
    /// Adds it to the meshes and images of a shot.
    fn add_to(self, meshes: &mut Meshes, name: &str) {
        match self {
            Self::Mesh(mesh) => drop(meshes.by_name.insert(name.to_owned(), mesh)),
            Self::Image(image) => drop(meshes.images.insert(name.to_owned(), image)),
            Self::Sequence(sequence) => {
                // Where nothing moves it, its first frame is its shape.
                meshes.by_name.insert(name.to_owned(), sequence.rest().clone());
                meshes.sequences.insert(name.to_owned(), sequence);
            }
            Self::Environment(_) | Self::Frame(_) => {}
        }
    }

    /// Memory that it takes, bytes, estimated.
    fn bytes(&self) -> usize {
        match self {
            Self::Mesh(mesh) => 60 * (mesh.positions.len() + mesh.triangles.len()),
            Self::Image(image) => 12 * image.rgb.len(),
            Self::Environment(environment) => 12 * environment.rgb.len(),
            Self::Sequence(sequence) => sequence.bytes(),
            Self::Frame(frame) => {
                let bodies: usize = frame.bodies.values().map(frames::Bodies::len).sum();
                let particles: usize = frame.particles.values().map(frames::Particles::len).sum();
                64 * (bodies + particles)
            }
        }
    }
}

/// Loads assets and keeps those used last.
#[derive(Default)]
pub struct Loader {
    kept: Mutex<Kept>,
}

#[derive(Default)]
struct Kept {
    loaded: HashMap<String, (u64, Loaded)>,
    /// Counts uses.
    now: u64,
}

/// So much memory may kept assets take, bytes.
const MOST_KEPT: usize = 1 << 30;

impl Kept {
    fn get(&mut self, sum: &str) -> Option<Loaded> {
        self.now += 1;
        let (used, loaded) = self.loaded.get_mut(sum)?;
        *used = self.now;
        Some(loaded.clone())
    }

    fn insert(&mut self, sum: &str, loaded: Loaded) {
        self.now += 1;
        self.loaded.insert(sum.to_owned(), (self.now, loaded));
        let all = |kept: &Self| kept.loaded.values().map(|(_, loaded)| loaded.bytes()).sum::<usize>();
        while self.loaded.len() > 1 && all(self) > MOST_KEPT {
            let oldest = self.loaded.iter().min_by_key(|(_, (used, _))| *used).map(|(sum, _)| sum.clone());
            oldest.map(|sum| self.loaded.remove(&sum));
        }
    }
}

/// The kind of asset, by the extension of its file name.
pub fn kind_of(name: &str) -> Result<AssetKind> {
    let extension = name.rsplit('.').next().unwrap_or_default().to_ascii_lowercase();
    AssetKind::ALL.into_iter().find(|kind| kind.extensions().contains(&extension.as_str())).ok_or_else(|| {
        let taken = AssetKind::ALL.iter().filter(|kind| **kind != AssetKind::Frame);
        let all: Vec<String> = taken.flat_map(|kind| kind.extensions()).map(|e| format!(".{e}")).collect();
        Error::Bad(format!("{name}: is none of {}", all.join(", ")))
    })
}

/// SHA-256 in hexadecimal.
pub fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A file that was read and checked.
pub struct Examined {
    /// The bytes that are kept, where they are not those of the file itself.
    pub converted: Option<Vec<u8>>,
    /// The asset.
    pub asset: Asset,
    /// A sentence on repairs that the file needed.
    pub notice: Option<String>,
    /// Number of parts of a mesh file.
    pub parts: usize,
}

/// Reads a file by the extension of its name, to check that it is valid. A mesh
/// that changes with time is converted to one file; `fps` is the rate of those
/// that do not tell theirs.
///
/// # Errors
/// [`Error::Bad`] says what is wrong with the file.
pub fn examine(name: &str, bytes: &[u8], fps: f32) -> Result<Examined> {
    if interchange::is_sequence(name, bytes) {
        let ImportedSequence { sequence, notices } = interchange::read_sequence(name, bytes, fps)?;
        let converted = frames::encode_sequence(&sequence);
        if converted.len() > MAX_FILE {
            return Err(Error::Bad(format!(
                "{name}: would be kept in {} MB; at most {} MB",
                converted.len() >> 20,
                MAX_FILE >> 20
            )));
        }
        let sha256 = sha256(&converted);
        let file = format!("assets/{sha256}.{}", frames::SEQUENCE_EXTENSION);
        let asset = Asset { kind: AssetKind::MeshSequence, file, sha256 };
        let notice = (!notices.is_empty()).then(|| notices.join(" "));
        return Ok(Examined { converted: Some(converted), asset, notice, parts: 1 });
    }
    let kind = kind_of(name)?;
    if kind == AssetKind::Frame {
        return Err(Error::Bad(format!(
            "{name}: is a frame of a run; a shot begins from frames of its own run"
        )));
    }
    examine_as(kind, name, bytes)
}

/// As [`examine`], of a file that is kept as it is.
///
/// # Errors
/// [`Error::Bad`] says what is wrong with the file.
pub fn examine_as(kind: AssetKind, name: &str, bytes: &[u8]) -> Result<Examined> {
    let (mut notice, mut parts) = (None, 1);
    match kind {
        AssetKind::Environment => {
            let (_, mended) = interchange::read_environment(name, bytes)?;
            notice = (mended > 0).then(|| {
                format!("{name}: {mended} pixels were negative or not finite; each became what light can be.")
            });
        }
        AssetKind::Mesh => {
            let model = interchange::read_model(name, bytes, false)?;
            parts = model.parts.len();
            interchange::merged(name, model)?;
        }
        AssetKind::Image => {
            interchange::read_image(name, bytes)?;
        }
        AssetKind::MeshSequence => {
            read_sequence(name, bytes)?;
        }
        AssetKind::Frame => {
            read_frame(name, bytes)?;
        }
    }
    let sum = sha256(bytes);
    let extension = name.rsplit('.').next().unwrap_or_default().to_ascii_lowercase();
    Ok(Examined {
        converted: None,
        asset: Asset { kind, file: format!("assets/{sum}.{extension}"), sha256: sum },
        notice,
        parts,
    })
}

fn read_sequence(name: &str, bytes: &[u8]) -> Result<MeshSequence> {
    frames::decode_sequence(bytes).map_err(|error| Error::Bad(format!("{name}: {error}")))
}

fn read_frame(name: &str, bytes: &[u8]) -> Result<Frame> {
    frames::decode(bytes).map_err(|error| Error::Bad(format!("{name}: {error}")))
}

fn load(kind: AssetKind, name: &str, bytes: &[u8]) -> Result<Loaded> {
    Ok(match kind {
        AssetKind::Mesh => Loaded::Mesh(Arc::new(interchange::read_mesh(name, bytes)?)),
        AssetKind::Image => Loaded::Image(Arc::new(interchange::read_image(name, bytes)?)),
        AssetKind::Environment => {
            Loaded::Environment(Arc::new(interchange::read_environment(name, bytes)?.0))
        }
        AssetKind::MeshSequence => Loaded::Sequence(Arc::new(read_sequence(name, bytes)?)),
        AssetKind::Frame => Loaded::Frame(Arc::new(read_frame(name, bytes)?)),
    })
}

impl Loader {
    fn get(&self, folder: &Path, name: &str, asset: &Asset) -> Result<Loaded> {
        // Each kind of asset has one reader.
        let key = format!("{:?} {}", asset.kind, asset.sha256);
        if let Some(loaded) = lock(&self.kept).get(&key) {
            return Ok(loaded);
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
        lock(&self.kept).insert(&key, loaded.clone());
        Ok(loaded)
    }

    /// The meshes of a shot, and the images its particles are born by, whose assets lie below `folder`.
    pub fn meshes(&self, folder: &Path, shot: &Shot) -> Result<Meshes> {
        let mut meshes = Meshes::default();
        for name in Meshes::needed(shot) {
            let Some(asset) = shot.assets.get(&name) else { continue };
            self.get(folder, &name, asset)?.add_to(&mut meshes, &name);
        }
        for name in Meshes::needed_images(shot) {
            let Some(asset) = shot.assets.get(name) else { continue };
            self.get(folder, name, asset)?.add_to(&mut meshes, name);
        }
        Ok(meshes)
    }

    /// The frame that a shot begins from, if it names one, whose file lies below `folder`.
    pub fn initial_state(&self, folder: &Path, shot: &Shot) -> Result<Option<Arc<Frame>>> {
        let Some((initial_state, asset)) = shot.initial_state_asset() else { return Ok(None) };
        match self.get(folder, &initial_state.asset, asset)? {
            Loaded::Frame(frame) => Ok(Some(frame)),
            _ => Ok(None),
        }
    }

    /// All assets of a shot, for rendering.
    pub fn all(&self, folder: &Path, shot: &Shot) -> Result<picture::Assets> {
        let mut assets = picture::Assets::default();
        for (name, asset) in &shot.assets {
            match self.get(folder, name, asset)? {
                Loaded::Environment(environment) => {
                    assets.environments.insert(name.clone(), environment);
                }
                loaded => loaded.add_to(&mut assets.meshes, name),
            }
        }
        Ok(assets)
    }
}

/// Where an asset's bytes lie below the data folder.
///
/// # Errors
/// [`Error::Bad`] if its file is not named by its own sum: nothing else of the
/// data folder is an asset.
pub fn path(data: &Path, asset: &Asset) -> Result<PathBuf> {
    if !asset.has_own_place() {
        let file: String = asset.file.chars().take(80).collect();
        return Err(Error::Bad(format!("\"{file}\" is not assets/<sha256>.<extension> of its own sum")));
    }
    Ok(data.join(&asset.file))
}

/// An asset's bytes, if they are still those of its sum.
///
/// # Errors
/// [`Error::Bad`] names the file.
pub fn read(data: &Path, asset: &Asset) -> Result<Vec<u8>> {
    let path = path(data, asset)?;
    let bytes = std::fs::read(&path).map_err(|error| Error::Bad(format!("{}: {error}", asset.file)))?;
    if sha256(&bytes) == asset.sha256 {
        Ok(bytes)
    } else {
        Err(Error::Bad(format!("{}: its bytes are not those the shot was made with", asset.file)))
    }
}

/// A mesh that changes with time.
///
/// # Errors
/// [`Error::Bad`] names the file.
pub fn sequence(data: &Path, asset: &Asset) -> Result<MeshSequence> {
    read_sequence(&asset.file, &read(data, asset)?)
}
