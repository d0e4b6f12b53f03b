//! The vertices and faces of one primitive.

use super::accessor::Attribute;
use super::material::TextureTransform;
use super::{Gltf, MAX_COUNT, draco};
use crate::MAX_FACES;
use geometry::{Mesh, brightness};
use glam::{Mat3, Vec2, Vec3};
use serde_json::Value;

/// Remaining budget of vertices and indices.
pub(super) struct Room {
    pub vertices: usize,
    pub faces: usize,
}

impl Attribute {
    fn vectors(&self) -> impl Iterator<Item = Vec3> {
        self.values.chunks_exact(self.width).map(|v| Vec3::new(v[0] as f32, v[1] as f32, v[2] as f32))
    }
}

/// A primitive, compressed or not.
struct Source<'a> {
    gltf: &'a Gltf<'a>,
    of: &'a Value,
    draco: Option<draco::Primitive<'a>>,
    count: usize,
}

impl<'a> Source<'a> {
    fn new(gltf: &'a Gltf<'a>, of: &'a Value, positions: u64) -> Result<Self, String> {
        let draco = draco::Primitive::of(gltf, of)?;
        let count = draco.as_ref().map_or_else(|| gltf.count(positions), |draco| Ok(draco.count()))?;
        Ok(Self { gltf, of, draco, count })
    }

    fn attribute(&self, name: &str, components: &[usize]) -> Result<Option<Attribute>, String> {
        let compressed = self.draco.as_ref().map(|draco| draco.attribute(name, components)).transpose()?;
        if let Some(attribute) = compressed.flatten() {
            return Ok(Some(attribute));
        }
        let Some(index) = self.of["attributes"][name].as_u64() else { return Ok(None) };
        if self.gltf.count(index)? != self.count {
            return Err(format!("has other counts of POSITION and {name} in one part"));
        }
        let values = self.gltf.accessor(index, components)?;
        Ok(Some(Attribute { width: values.len() / self.count.max(1), values }))
    }

    fn indices(&self, room: &Room) -> Result<Vec<u32>, String> {
        let fits = |count: usize| {
            if count / 3 > room.faces {
                return Err(format!("has more than {MAX_FACES} faces with all uses of its meshes"));
            }
            Ok(())
        };
        if let Some(draco) = &self.draco {
            fits(3 * draco.faces())?;
            return Ok(draco.indices());
        }
        let Some(index) = self.of["indices"].as_u64() else {
            fits(self.count)?;
            return Ok((0..self.count as u32).collect());
        };
        let kind = self.gltf.entry("accessors", index)?["componentType"].as_u64();
        if !matches!(kind, Some(5121 | 5123 | 5125)) {
            return Err(format!("has indices in accessor {index} that are not whole numbers"));
        }
        fits(self.gltf.count(index)?)?;
        Ok(self.gltf.accessor(index, &[1])?.into_iter().map(|value| value as u32).collect())
    }
}

/// What is done to the vertices of a primitive.
#[derive(Clone, Copy)]
pub(super) struct Deformed<'a> {
    pub linear: Mat3,
    /// Weights of the morph targets.
    pub weights: &'a [f32],
}

/// Most morph targets that are added up.
const MAX_TARGETS: usize = 256;

/// Adds a primitive to a mesh, its vertices deformed.
pub(super) fn append(
    gltf: &Gltf,
    mesh: &mut Mesh,
    primitive: &Value,
    Deformed { linear, weights }: Deformed,
    textures: &TextureTransform,
    room: &mut Room,
) -> Result<(), String> {
    let Some(positions) = primitive["attributes"]["POSITION"].as_u64() else { return Ok(()) };
    let vertices = |count: usize, room: &Room| {
        if count > room.vertices {
            return Err(format!("has more than {MAX_COUNT} vertices with all uses of its meshes"));
        }
        Ok(())
    };
    vertices(gltf.count(positions)?, room)?;
    let source = Source::new(gltf, primitive, positions)?;
    let (base, count) = (mesh.positions.len(), source.count);
    vertices(count, room)?;
    room.vertices -= count;
    let positions = source.attribute("POSITION", &[3])?.ok_or("has a part without positions")?;
    let mut places: Vec<Vec3> = positions.vectors().collect();
    let targets = primitive["targets"].as_array().into_iter().flatten().take(MAX_TARGETS);
    for (target, weight) in targets.zip(weights).filter(|(_, weight)| **weight != 0.0) {
        let Some(index) = target["POSITION"].as_u64() else { continue };
        if gltf.count(index)? != count {
            return Err("has a morph target with another number of vertices".to_owned());
        }
        let moves = gltf.accessor(index, &[3])?;
        for (place, by) in places.iter_mut().zip(moves.chunks_exact(3)) {
            *place += Vec3::new(by[0] as f32, by[1] as f32, by[2] as f32) * *weight;
        }
    }
    mesh.positions.extend(places.into_iter().map(|p| linear * p));
    if let Some(normals) = source.attribute("NORMAL", &[3])? {
        let orientation = linear.inverse().transpose();
        mesh.normals.resize(base, Vec3::ZERO);
        mesh.normals.extend(normals.vectors().map(|n| (orientation * n).normalize_or_zero()));
    }
    mesh.uvs.resize(base, Vec2::ZERO);
    if let Some(uvs) = source.attribute(&format!("TEXCOORD_{}", textures.set), &[2])? {
        let uvs = uvs.values.chunks_exact(2).map(|uv| Vec2::new(uv[0] as f32, uv[1] as f32));
        // glTF counts v downwards.
        mesh.uvs.extend(uvs.map(|uv| textures.apply(uv)).map(|uv| Vec2::new(uv.x, 1.0 - uv.y)));
    }
    mesh.uvs.resize(base + count, Vec2::ZERO);
    if let Some(colours) = source.attribute("COLOR_0", &[3, 4])? {
        // Parts without colours count as white.
        mesh.weights.resize(base, 1.0);
        mesh.weights.extend(colours.vectors().map(brightness));
    }
    if !mesh.weights.is_empty() {
        mesh.weights.resize(base + count, 1.0);
    }
    let indices = source.indices(room)?;
    room.faces -= indices.len() / 3;
    let flip = linear.determinant() < 0.0;
    mesh.triangles.extend(indices.chunks_exact(3).map(|t| {
        let [a, b, c] = [t[0], t[1], t[2]].map(|v| v.saturating_add(base as u32));
        if flip { [a, c, b] } else { [a, b, c] }
    }));
    Ok(())
}
