//! glTF 2.0 with its buffers inside: every mesh of the scene as one.
//!
//! The JSON is read here and not by a library, since files come from anywhere:
//! every index, count and length is checked before it is used. Of the ratified
//! extensions that change what geometry is, quantised attributes
//! (`KHR_mesh_quantization`) and sparse accessors are read; compressed buffers
//! are told by name.

use crate::{ImportError, MAX_FACES};
use geometry::{Mesh, brightness};
use glam::{Mat4, Quat, Vec2, Vec3};
use serde_json::Value;
use shot::{MAX_JSON_MEMORY, json_memory};

/// Most nodes and parts of meshes that are visited, all uses counted.
const MAX_NODES: usize = 100_000;
/// Deepest nesting of nodes.
const MAX_DEPTH: usize = 200;
/// Most elements of an accessor, and vertices of all uses of all meshes.
const MAX_COUNT: usize = 3 * MAX_FACES;
/// Most elements of an accessor without bytes in the file, which are all 0.
const MAX_EMPTY: usize = 1_000_000;

/// Extensions that a file may require: those that are read, and those of
/// materials and textures, which are left out.
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

pub(crate) fn read(name: &str, bytes: &[u8]) -> Result<Mesh, ImportError> {
    document(bytes)
        .and_then(|(json, blob)| Gltf { json, blob }.mesh())
        .map_err(|message| ImportError::file(name, message))
}

/// The JSON and the binary chunk.
fn document(bytes: &[u8]) -> Result<(Value, &[u8]), String> {
    let broken = |what: &str| format!("not a glTF file: {what}");
    let text = |bytes: &[u8]| {
        let memory = json_memory(bytes);
        if memory > MAX_JSON_MEMORY {
            return Err(format!(
                "has JSON whose values would take {} MB; at most {} MB",
                memory >> 20,
                MAX_JSON_MEMORY >> 20
            ));
        }
        serde_json::from_slice::<Value>(bytes).map_err(|error| broken(&error.to_string()))
    };
    let Some(rest) = bytes.strip_prefix(b"glTF") else {
        if bytes.trim_ascii_start().starts_with(b"{") {
            return Ok((text(bytes)?, &[]));
        }
        return Err(broken("it does not begin as one"));
    };
    let mut rest = rest.get(8..).ok_or_else(|| broken("it is cut short"))?;
    let (mut json, mut blob) = (None, &[][..]);
    while rest.len() >= 8 {
        let length = u32::from_le_bytes(rest[..4].try_into().expect("4 bytes")) as usize;
        let chunk =
            rest.get(8..8usize.saturating_add(length)).ok_or_else(|| broken("a chunk is cut short"))?;
        match &rest[4..8] {
            b"JSON" if json.is_none() => json = Some(text(chunk)?),
            b"BIN\0" => blob = chunk,
            _ => {}
        }
        rest = &rest[8 + length..];
    }
    Ok((json.ok_or_else(|| broken("it has no JSON"))?, blob))
}

struct Gltf<'a> {
    json: Value,
    blob: &'a [u8],
}

/// An accessor, ready to be read.
struct Accessor<'a> {
    /// Its elements; none: all 0.
    bytes: Option<&'a [u8]>,
    stride: usize,
    count: usize,
    kind: u64,
    parts: usize,
    normalised: bool,
}

fn size_of(kind: u64) -> Option<usize> {
    match kind {
        5120 | 5121 => Some(1),
        5122 | 5123 => Some(2),
        5125 | 5126 => Some(4),
        _ => None,
    }
}

/// One number of a component type; whole ones as a share of the largest, if normalised.
fn number(bytes: &[u8], kind: u64, normalised: bool) -> f64 {
    let (value, most) = match kind {
        5120 => (f64::from(bytes[0] as i8), 127.0),
        5121 => (f64::from(bytes[0]), 255.0),
        5122 => (f64::from(i16::from_le_bytes([bytes[0], bytes[1]])), 32_767.0),
        5123 => (f64::from(u16::from_le_bytes([bytes[0], bytes[1]])), 65_535.0),
        5125 => (f64::from(u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])), 4_294_967_295.0),
        _ => (f64::from(f32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])), 0.0),
    };
    if normalised && most > 0.0 { (value / most).max(-1.0) } else { value }
}

impl Accessor<'_> {
    fn read(&self) -> Vec<f64> {
        let size = size_of(self.kind).expect("looked at when it was made");
        let Some(bytes) = self.bytes else { return vec![0.0; self.count * self.parts] };
        let each = |i: usize| {
            (0..self.parts)
                .map(move |part| number(&bytes[i * self.stride + part * size..], self.kind, self.normalised))
        };
        (0..self.count).flat_map(each).collect()
    }
}

impl Gltf<'_> {
    fn entry(&self, list: &str, index: u64) -> Result<&Value, String> {
        let found = usize::try_from(index).ok().and_then(|index| self.json.get(list)?.get(index));
        found.ok_or_else(|| format!("names {list} {index}, which is not there"))
    }

    fn list(&self, list: &str) -> &[Value] {
        self.json.get(list).and_then(Value::as_array).map_or(&[], Vec::as_slice)
    }

    /// The bytes of a buffer view, and its stride.
    fn view(&self, index: u64) -> Result<(&[u8], Option<usize>), String> {
        let view = self.entry("bufferViews", index)?;
        if view.pointer("/extensions/EXT_meshopt_compression").is_some() {
            return Err(
                "is compressed by meshopt, which is not read; export it without compression".to_owned()
            );
        }
        let buffer =
            view["buffer"].as_u64().ok_or_else(|| format!("has a buffer view {index} without a buffer"))?;
        if let Some(uri) = self.entry("buffers", buffer)?.get("uri").and_then(Value::as_str) {
            let uri: String = uri.chars().take(40).collect();
            return Err(format!("keeps its data in another file, {uri}; save it as .glb"));
        }
        let number = |key: &str| usize::try_from(view[key].as_u64().unwrap_or(0)).unwrap_or(usize::MAX);
        let (from, length) = (number("byteOffset"), number("byteLength"));
        let bytes = from.checked_add(length).and_then(|to| self.blob.get(from..to));
        let bytes =
            bytes.ok_or_else(|| format!("is cut short: buffer view {index} lies outside the file"))?;
        Ok((bytes, view["byteStride"].as_u64().and_then(|stride| usize::try_from(stride).ok())))
    }

    /// Number of elements of an accessor.
    fn count(&self, index: u64) -> Result<usize, String> {
        let count = self.entry("accessors", index)?["count"].as_u64();
        let count = count.and_then(|count| usize::try_from(count).ok());
        count.ok_or_else(|| format!("has an accessor {index} without a count"))
    }

    fn accessor(&self, index: u64, parts: &[usize]) -> Result<Vec<f64>, String> {
        let of = self.entry("accessors", index)?;
        let whole = |value: &Value| value.as_u64().and_then(|value| usize::try_from(value).ok());
        let count = self.count(index)?;
        if count > MAX_COUNT {
            return Err(format!("has {count} elements in accessor {index}; at most {MAX_COUNT}"));
        }
        let has = match of["type"].as_str() {
            Some("SCALAR") => 1,
            Some("VEC2") => 2,
            Some("VEC3") => 3,
            Some("VEC4") => 4,
            _ => 0,
        };
        if !parts.contains(&has) {
            return Err(format!("has an accessor {index} of another type than its use needs"));
        }
        if of["bufferView"].is_null() && count > MAX_EMPTY {
            return Err(format!(
                "has {count} elements without bytes in accessor {index}; at most {MAX_EMPTY}"
            ));
        }
        let kind = of["componentType"].as_u64().unwrap_or(0);
        size_of(kind).ok_or_else(|| format!("has an accessor {index} of an unknown component type"))?;
        let view = of["bufferView"].as_u64().map(|view| self.view(view)).transpose()?;
        let make = |bytes: Option<&[u8]>,
                    offset: usize,
                    stride: Option<usize>,
                    count: usize,
                    kind: u64,
                    parts: usize| {
            let size = size_of(kind).unwrap_or(4);
            let stride = stride.unwrap_or(0).max(size * parts);
            let bytes = match bytes {
                None => None,
                Some(bytes) => {
                    let needed = count
                        .checked_sub(1)
                        .map_or(Some(0), |n| n.checked_mul(stride)?.checked_add(size * parts));
                    let rest = bytes.get(offset.min(bytes.len())..).unwrap_or_default();
                    if offset > bytes.len() || needed.is_none_or(|needed| needed > rest.len()) {
                        return Err(format!("has an accessor {index} that lies outside its buffer view"));
                    }
                    Some(rest)
                }
            };
            let normalised = of["normalized"].as_bool().unwrap_or(false);
            Ok(Accessor { bytes, stride, count, kind, parts, normalised }.read())
        };
        let offset = |value: &Value| whole(value).unwrap_or(0);
        let (bytes, stride) = view.map_or((None, None), |(bytes, stride)| (Some(bytes), stride));
        let mut values = make(bytes, offset(&of["byteOffset"]), stride, count, kind, has)?;
        let sparse = &of["sparse"];
        if sparse.is_object() {
            let changed = whole(&sparse["count"]).filter(|changed| *changed <= count);
            let changed =
                changed.ok_or_else(|| format!("has an accessor {index} with more changes than elements"))?;
            let part = |key: &str| -> Result<(&[u8], usize), String> {
                let view = sparse[key]["bufferView"].as_u64();
                let view =
                    view.ok_or_else(|| format!("has an accessor {index} whose changes lie nowhere"))?;
                Ok((self.view(view)?.0, offset(&sparse[key]["byteOffset"])))
            };
            let ((at, at_offset), (new, new_offset)) = (part("indices")?, part("values")?);
            let index_kind = sparse["indices"]["componentType"].as_u64().unwrap_or(0);
            if ![5121, 5123, 5125].contains(&index_kind) {
                return Err(format!("has an accessor {index} whose changes are not numbered"));
            }
            let places = make(Some(at), at_offset, None, changed, index_kind, 1)?;
            let new = make(Some(new), new_offset, None, changed, kind, has)?;
            for (i, place) in places.into_iter().enumerate() {
                let place = place as usize;
                if place >= count {
                    return Err(format!("has an accessor {index} that changes element {place} of {count}"));
                }
                values[place * has..(place + 1) * has].copy_from_slice(&new[i * has..(i + 1) * has]);
            }
        }
        Ok(values)
    }

    fn mesh(&self) -> Result<Mesh, String> {
        for required in self.list("extensionsRequired").iter().filter_map(Value::as_str) {
            let what = match required {
                _ if READ.contains(&required) => continue,
                "KHR_draco_mesh_compression" => "is compressed by Draco",
                "EXT_meshopt_compression" => "is compressed by meshopt",
                "KHR_texture_basisu" => "has images in Basis Universal",
                _ => {
                    let name: String = required.chars().take(60).collect();
                    return Err(format!(
                        "needs the glTF extension {name}, which is not read; export it without"
                    ));
                }
            };
            return Err(format!("{what}, which is not read; export it without compression"));
        }
        let mut mesh = Mesh::default();
        let scene = self.json["scene"].as_u64().unwrap_or(0);
        let roots = self.list("scenes").get(scene as usize).and_then(|scene| scene["nodes"].as_array());
        let mut stack: Vec<(u64, Mat4, usize)> = roots
            .into_iter()
            .flatten()
            .filter_map(|node| Some((node.as_u64()?, Mat4::IDENTITY, 0)))
            .take(MAX_NODES)
            .collect();
        let mut visited = 0;
        while let Some((index, parent, depth)) = stack.pop() {
            visited += 1;
            if visited > MAX_NODES || stack.len() > MAX_NODES {
                return Err(format!("has more than {MAX_NODES} nodes"));
            }
            if depth > MAX_DEPTH {
                return Err(format!("has nodes nested deeper than {MAX_DEPTH}, or in a circle"));
            }
            let node = self.entry("nodes", index)?;
            let matrix = parent * transform(node);
            if let Some(of) = node["mesh"].as_u64() {
                for primitive in self.entry("meshes", of)?["primitives"].as_array().into_iter().flatten() {
                    visited += 1;
                    if visited > MAX_NODES {
                        return Err(format!("has more than {MAX_NODES} parts with all uses of its meshes"));
                    }
                    if primitive["mode"].as_u64().unwrap_or(4) == 4 {
                        self.append(&mut mesh, primitive, matrix)?;
                    }
                }
            }
            let children = node["children"].as_array().into_iter().flatten().filter_map(Value::as_u64);
            stack.extend(children.map(|child| (child, matrix, depth + 1)));
        }
        Ok(mesh)
    }

    fn append(&self, mesh: &mut Mesh, primitive: &Value, matrix: Mat4) -> Result<(), String> {
        let Some(positions) = primitive["attributes"]["POSITION"].as_u64() else { return Ok(()) };
        let count = self.count(positions)?;
        let base = mesh.positions.len();
        if base.saturating_add(count) > MAX_COUNT {
            return Err(format!("has more than {MAX_COUNT} vertices with all uses of its meshes"));
        }
        let attribute = |name: &str, parts: &[usize]| {
            let Some(index) = primitive["attributes"][name].as_u64() else { return Ok(None) };
            if self.count(index)? != count {
                return Err(format!("has other counts of POSITION and {name} in one part"));
            }
            self.accessor(index, parts).map(Some)
        };
        let vector = |v: &[f64]| Vec3::new(v[0] as f32, v[1] as f32, v[2] as f32);
        let positions = self.accessor(positions, &[3])?;
        mesh.positions.extend(positions.chunks_exact(3).map(|p| matrix.transform_point3(vector(p))));
        if let Some(normals) = attribute("NORMAL", &[3])? {
            let turn = matrix.inverse().transpose();
            mesh.normals.resize(base, Vec3::ZERO);
            mesh.normals.extend(
                normals.chunks_exact(3).map(|n| turn.transform_vector3(vector(n)).normalize_or_zero()),
            );
        }
        mesh.uvs.resize(base, Vec2::ZERO);
        if let Some(uvs) = attribute("TEXCOORD_0", &[2])? {
            // glTF counts v downwards.
            mesh.uvs.extend(uvs.chunks_exact(2).map(|uv| Vec2::new(uv[0] as f32, 1.0 - uv[1] as f32)));
        }
        mesh.uvs.resize(base + count, Vec2::ZERO);
        if let Some(index) = primitive["attributes"]["COLOR_0"].as_u64() {
            let width = if self.entry("accessors", index)?["type"] == "VEC4" { 4 } else { 3 };
            let colours = attribute("COLOR_0", &[width])?.unwrap_or_default();
            // Parts without colours count as white.
            mesh.weights.resize(base, 1.0);
            mesh.weights.extend(colours.chunks_exact(width).map(|rgb| brightness(vector(rgb))));
        }
        if !mesh.weights.is_empty() {
            mesh.weights.resize(base + count, 1.0);
        }
        let faces = mesh.triangles.len();
        let room_for = |indices: usize| {
            if faces + indices / 3 > MAX_FACES {
                return Err(format!("has more than {MAX_FACES} faces with all uses of its meshes"));
            }
            Ok(())
        };
        let indices: Vec<u32> = match primitive["indices"].as_u64() {
            None => (0..count as u32).collect(),
            Some(index) => {
                let kind = self.entry("accessors", index)?["componentType"].as_u64();
                if !matches!(kind, Some(5121 | 5123 | 5125)) {
                    return Err(format!("has indices in accessor {index} that are not whole numbers"));
                }
                room_for(self.count(index)?)?;
                self.accessor(index, &[1])?.into_iter().map(|value| value as u32).collect()
            }
        };
        room_for(indices.len())?;
        let flip = matrix.determinant() < 0.0;
        mesh.triangles.extend(indices.chunks_exact(3).map(|t| {
            let [a, b, c] = [t[0], t[1], t[2]].map(|v| v.saturating_add(base as u32));
            if flip { [a, c, b] } else { [a, b, c] }
        }));
        Ok(())
    }
}

/// Where a node stands against its parent.
fn transform(node: &Value) -> Mat4 {
    let numbers = |key: &str| -> Vec<f32> {
        let list = node[key].as_array().into_iter().flatten();
        list.filter_map(Value::as_f64).map(|value| value as f32).collect()
    };
    if let Ok(matrix) = <[f32; 16]>::try_from(numbers("matrix")) {
        return Mat4::from_cols_array(&matrix);
    }
    let place = <[f32; 3]>::try_from(numbers("translation")).map_or(Vec3::ZERO, Vec3::from);
    let turn = <[f32; 4]>::try_from(numbers("rotation")).map_or(Quat::IDENTITY, Quat::from_array);
    let turn = if turn.length_squared() > 0.0 { turn.normalize() } else { Quat::IDENTITY };
    let scale = <[f32; 3]>::try_from(numbers("scale")).map_or(Vec3::ONE, Vec3::from);
    Mat4::from_scale_rotation_translation(scale, turn, place)
}

#[cfg(test)]
mod tests {
    use crate::read_mesh;
    use rstest::rstest;

    /// A triangle as GLB.
    fn triangle(indices: [u16; 3]) -> Vec<u8> {
        let mut bin: Vec<u8> = Vec::new();
        for value in [0f32, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0] {
            bin.extend(value.to_le_bytes());
        }
        indices.iter().for_each(|i| bin.extend(i.to_le_bytes()));
        bin.extend([0, 0]);
        let json = r#"{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],
            "nodes":[{"mesh":0,"translation":[0,2,0]}],
            "meshes":[{"primitives":[{"attributes":{"POSITION":0},"indices":1}]}],
            "buffers":[{"byteLength":44}],
            "bufferViews":[{"buffer":0,"byteLength":36},{"buffer":0,"byteOffset":36,"byteLength":6}],
            "accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3","min":[0,0,0],"max":[1,1,0]},
                         {"bufferView":1,"componentType":5123,"count":3,"type":"SCALAR"}]}"#;
        glb(json, &bin)
    }

    /// A GLB of its two parts.
    fn glb(json: &str, bin: &[u8]) -> Vec<u8> {
        let mut json = json.to_owned();
        while !json.len().is_multiple_of(4) {
            json.push(' ');
        }
        let mut glb = b"glTF".to_vec();
        let total = 12 + 8 + json.len() + 8 + bin.len();
        for value in [2, total as u32, json.len() as u32] {
            glb.extend(value.to_le_bytes());
        }
        glb.extend(b"JSON");
        glb.extend(json.as_bytes());
        glb.extend((bin.len() as u32).to_le_bytes());
        glb.extend(b"BIN\0");
        glb.extend(bin);
        glb
    }

    #[test]
    fn the_colours_of_vertices_are_weights() {
        let mut bin: Vec<u8> = Vec::new();
        // Places, then colours: black, white, red.
        for value in [0f32, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0] {
            bin.extend(value.to_le_bytes());
        }
        for value in [0f32, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0, 0.0, 0.0] {
            bin.extend(value.to_le_bytes());
        }
        let json = r#"{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[{"mesh":0}],
            "meshes":[{"primitives":[{"attributes":{"POSITION":0,"COLOR_0":1}}]}],
            "buffers":[{"byteLength":72}],
            "bufferViews":[{"buffer":0,"byteLength":36},{"buffer":0,"byteOffset":36,"byteLength":36}],
            "accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3","min":[0,0,0],"max":[1,1,0]},
                         {"bufferView":1,"componentType":5126,"count":3,"type":"VEC3"}]}"#;
        let mesh = read_mesh("t.glb", &glb(json, &bin)).unwrap();
        assert_eq!(mesh.weights[..2], [0.0, 1.0]);
        assert!((mesh.weights[2] - 0.2126).abs() < 1e-6);
        assert!(read_mesh("t.glb", &triangle([0, 1, 2])).unwrap().weights.is_empty());
    }

    const PLACES: &str = r#"{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3"}"#;

    /// A triangle, with parts of its JSON replaced.
    fn changed(from: &str, to: &str) -> String {
        let json = format!(
            r#"{{"asset":{{"version":"2.0"}},"scene":0,"scenes":[{{"nodes":[0]}}],"nodes":[{{"mesh":0}}],
            "meshes":[{{"primitives":[{{"attributes":{{"POSITION":0}}}}]}}],"buffers":[{{"byteLength":36}}],
            "bufferViews":[{{"buffer":0,"byteLength":36}}],"accessors":[{PLACES}]}}"#
        );
        assert!(json.contains(from), "{from}");
        json.replace(from, to)
    }

    fn corners() -> Vec<u8> {
        [0f32, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0].iter().flat_map(|value| value.to_le_bytes()).collect()
    }

    #[rstest]
    #[case(PLACES, r#"{"count":3,"componentType":5126,"type":"VEC3","sparse":{"count":4294967296,"indices":{"bufferView":0,"componentType":5125},"values":{"bufferView":0}}}"#, "more changes than elements")]
    #[case(
        PLACES,
        r#"{"bufferView":0,"componentType":5126,"count":4294967296,"type":"VEC3"}"#,
        "more than 12000000 vertices"
    )]
    #[case(PLACES, r#"{"componentType":5126,"count":4000000,"type":"VEC3"}"#, "without bytes")]
    #[case(r#""POSITION":0}"#, r#""POSITION":0,"NORMAL":1}"#, "names accessors 1")]
    #[case(
        r#""POSITION":0}"#,
        &format!(r#""POSITION":0}},"extras":[{}0]"#, r#"{"a":0},"#.repeat(1_000_000)),
        "JSON whose values would take"
    )]
    #[case(
        r#"[{"mesh":0}]"#,
        &format!(r#"[{{"children":[{}2]}},{{"mesh":0}},{{}}]"#, "1,".repeat(99_998)),
        "has more than 100000"
    )]
    #[case(
        PLACES,
        r#"{"bufferView":0,"componentType":5126,"count":3,"byteOffset":30,"type":"VEC3"}"#,
        "outside its buffer view"
    )]
    #[case(PLACES, r#"{"bufferView":0,"componentType":5126,"count":3,"type":"SCALAR"}"#, "another type")]
    #[case(PLACES, r#"{"bufferView":9,"componentType":5126,"count":3,"type":"VEC3"}"#, "names bufferViews 9")]
    #[case(r#""POSITION":0"#, r#""POSITION":7"#, "names accessors 7")]
    #[case(r#""POSITION":0}"#, r#""POSITION":0},"indices":0"#, "not whole numbers")]
    #[case(r#"[{"mesh":0}]"#, r#"[{"children":[0,0,0]}]"#, "in a circle")]
    #[case(r#"[{"mesh":0}]"#, r#"[{"mesh":4}]"#, "names meshes 4")]
    #[case(r#""byteLength":36}],"acc"#, r#""byteLength":3600}],"acc"#, "is cut short")]
    #[case(
        r#""scene":0"#,
        r#""extensionsRequired":["KHR_draco_mesh_compression"],"scene":0"#,
        "compressed by Draco"
    )]
    #[case(
        r#""scene":0"#,
        r#""extensionsRequired":["ODD_thing"],"scene":0"#,
        "needs the glTF extension ODD_thing"
    )]
    fn what_cannot_be_is_refused_in_a_sentence(#[case] from: &str, #[case] to: &str, #[case] why: &str) {
        let error = read_mesh("t.glb", &glb(&changed(from, to), &corners())).unwrap_err().to_string();
        assert!(error.contains(why), "{error}");
    }

    #[test]
    fn quantised_places_and_changes_of_single_elements_are_read() {
        // Signed bytes, normalised, four bytes apart; the node scales them.
        let bin: Vec<u8> = vec![0, 0, 0, 0, 127, 0, 0, 0, 0, 127, 0, 0];
        let json = r#"{"asset":{"version":"2.0"},"extensionsRequired":["KHR_mesh_quantization"],"scene":0,"scenes":[{"nodes":[0]}],
            "nodes":[{"mesh":0,"scale":[2,2,2]}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],
            "buffers":[{"byteLength":12}],"bufferViews":[{"buffer":0,"byteLength":12,"byteStride":4}],
            "accessors":[{"bufferView":0,"componentType":5120,"normalized":true,"count":3,"type":"VEC3"}]}"#;
        let mesh = read_mesh("t.glb", &glb(json, &bin)).unwrap();
        assert_eq!(mesh.positions[1..], [glam::Vec3::X * 2.0, glam::Vec3::Y * 2.0]);
        let mut bin = corners();
        bin.extend([2, 0, 0, 0]);
        [0f32, 5.0, 0.0].iter().for_each(|value| bin.extend(value.to_le_bytes()));
        let sparse = r#"{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3","sparse":{"count":1,
            "indices":{"bufferView":1,"componentType":5121},"values":{"bufferView":2}}}"#;
        let views = r#"[{"buffer":0,"byteLength":36},{"buffer":0,"byteOffset":36,"byteLength":1},{"buffer":0,"byteOffset":40,"byteLength":12}]"#;
        let json = changed(PLACES, sparse).replace(r#"[{"buffer":0,"byteLength":36}]"#, views);
        assert_eq!(read_mesh("t.glb", &glb(&json, &bin)).unwrap().positions[2], glam::Vec3::Y * 5.0);
    }

    #[test]
    fn a_node_places_its_mesh() {
        let mesh = read_mesh("t.glb", &triangle([0, 1, 2])).unwrap();
        assert_eq!(mesh.positions[1], glam::Vec3::new(1.0, 2.0, 0.0));
        assert_eq!(mesh.normals.len(), 3);
    }

    #[rstest]
    #[case(1)]
    #[case(20)]
    #[case(300)]
    #[case(700)]
    fn a_truncated_file_is_refused(#[case] keep: usize) {
        let bytes = triangle([0, 1, 2]);
        assert!(read_mesh("t.glb", &bytes[..keep.min(bytes.len() - 20)]).is_err());
    }

    #[test]
    fn an_index_beyond_the_vertices_is_named() {
        let error = read_mesh("t.glb", &triangle([0, 1, 9])).unwrap_err().to_string();
        assert!(error.contains("names vertex 9, but there are 3"), "{error}");
    }

    #[test]
    fn a_picture_named_glb_is_refused() {
        let error = read_mesh("t.glb", b"\x89PNG\r\n\x1a\n").unwrap_err().to_string();
        assert!(error.contains("not a glTF file"), "{error}");
    }
}
