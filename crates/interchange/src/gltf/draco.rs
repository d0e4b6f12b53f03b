//! Primitives compressed by `KHR_draco_mesh_compression`.

use super::accessor::{Attribute, largest};
use super::{Gltf, MAX_COUNT};
use crate::MAX_FACES;
use draco_core::{DecodeLimits, DecoderBuffer, ErrorKind, Mesh, MeshDecoder};
use serde_json::Value;

/// The extension's name.
pub(super) const EXTENSION: &str = "KHR_draco_mesh_compression";
/// Most bytes of the decoded attributes of a primitive.
const MAX_DECODED: u64 = 160 << 20;

/// A decoded primitive.
pub(super) struct Primitive<'a> {
    gltf: &'a Gltf<'a>,
    /// The primitive in the JSON.
    of: &'a Value,
    mesh: Mesh,
}

impl<'a> Primitive<'a> {
    /// Decodes a primitive; none if it is not compressed.
    pub fn of(gltf: &'a Gltf<'a>, primitive: &'a Value) -> Result<Option<Self>, String> {
        let Some(compressed) = primitive["extensions"].get(EXTENSION) else { return Ok(None) };
        let view = compressed["bufferView"].as_u64().ok_or("has a Draco primitive without data")?;
        let (bytes, _) = gltf.view(view)?;
        // The accessors say how much there is to decode.
        let declared = |accessor: &Value| accessor.as_u64().map(|index| gltf.count(index)).transpose();
        let points = declared(&primitive["attributes"]["POSITION"])?.unwrap_or(MAX_COUNT).min(MAX_COUNT);
        let faces = declared(&primitive["indices"])?.map_or(MAX_FACES, |n| n / 3).min(MAX_FACES);
        let limits = DecodeLimits::default()
            .with_max_points(points as u64)
            .with_max_faces(faces as u64)
            .with_max_decoded_bytes(MAX_DECODED);
        let mut mesh = Mesh::new();
        let decoded =
            MeshDecoder::new().decode(&mut DecoderBuffer::new(&bytes).with_limits(limits), &mut mesh);
        match decoded {
            Ok(()) if mesh.num_points() > points => {
                Err(format!("has a Draco primitive of more than {points} vertices"))
            }
            Ok(()) => Ok(Some(Self { gltf, of: primitive, mesh })),
            Err(error) if error.kind() == ErrorKind::LimitExceeded => Err(format!(
                "has a Draco primitive that is larger than its accessors or than {} MB",
                MAX_DECODED >> 20
            )),
            Err(error) => Err(format!("has Draco data that is damaged: {error}")),
        }
    }

    pub fn count(&self) -> usize {
        self.mesh.num_points()
    }

    /// The numbers of an attribute, and how many make an element; none if it is not compressed with the others.
    pub fn attribute(&self, name: &str, components: &[usize]) -> Result<Option<Attribute>, String> {
        let Some(id) = self.of["extensions"][EXTENSION]["attributes"][name].as_u64() else { return Ok(None) };
        let attribute = u32::try_from(id).ok().and_then(|id| self.mesh.attribute_by_unique_id(id));
        let attribute = attribute.ok_or_else(|| format!("has Draco data without its attribute {name}"))?;
        let width = usize::from(attribute.num_components());
        if !components.contains(&width) {
            return Err(format!("has a Draco attribute {name} of {width} numbers"));
        }
        // Whole numbers mean what the accessor says.
        let accessor = self.of["attributes"][name].as_u64().map(|index| self.gltf.entry("accessors", index));
        let accessor = accessor.transpose()?;
        let scale = accessor
            .filter(|accessor| accessor["normalized"].as_bool() == Some(true))
            .and_then(|accessor| largest(accessor["componentType"].as_u64()?))
            .map_or(1.0, |most| 1.0 / most);
        let values = attribute.read_f32s(self.count(), width);
        Ok(Some(Attribute { values: values.into_iter().map(|v| f64::from(v) * scale).collect(), width }))
    }

    pub fn faces(&self) -> usize {
        self.mesh.num_faces()
    }

    pub fn indices(&self) -> Vec<u32> {
        self.mesh.faces().iter().flat_map(|face| face.map(|point| point.0)).collect()
    }
}
