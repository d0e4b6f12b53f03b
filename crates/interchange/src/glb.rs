//! glTF 2.0 with its buffers inside: every mesh of the scene as one.

use crate::ImportError;
use geometry::{Mesh, brightness};
use glam::{Mat4, Vec2, Vec3};

pub(crate) fn read(name: &str, bytes: &[u8]) -> Result<Mesh, ImportError> {
    let fail = |message: String| ImportError::file(name, message);
    let gltf = gltf::Gltf::from_slice(bytes).map_err(|error| fail(format!("not a glTF file: {error}")))?;
    let blob = gltf.blob.as_deref();
    for buffer in gltf.buffers() {
        match (buffer.source(), blob) {
            (gltf::buffer::Source::Bin, Some(blob)) if blob.len() >= buffer.length() => {}
            (gltf::buffer::Source::Bin, _) => {
                return Err(fail(format!("is cut short: buffer {} lacks bytes", buffer.index())));
            }
            (gltf::buffer::Source::Uri(uri), _) => {
                let uri: String = uri.chars().take(40).collect();
                return Err(fail(format!("keeps its data in another file, {uri}; save it as .glb")));
            }
        }
    }
    for view in gltf.views() {
        if view.offset().saturating_add(view.length()) > view.buffer().length() {
            return Err(fail(format!("buffer view {} lies outside its buffer", view.index())));
        }
    }
    for accessor in gltf.accessors() {
        let Some(view) = accessor.view() else { continue };
        let stride = view.stride().unwrap_or(accessor.size());
        let end = accessor
            .count()
            .checked_sub(1)
            .and_then(|n| n.checked_mul(stride))
            .and_then(|n| n.checked_add(accessor.offset() + accessor.size()));
        if end.is_none_or(|end| end > view.length()) {
            return Err(fail(format!("accessor {} lies outside its buffer view", accessor.index())));
        }
    }
    let mut mesh = Mesh::default();
    let scene = gltf.default_scene().or_else(|| gltf.scenes().next());
    let mut stack: Vec<_> =
        scene.iter().flat_map(gltf::Scene::nodes).map(|node| (node, Mat4::IDENTITY)).collect();
    let mut visited = 0;
    while let Some((node, parent)) = stack.pop() {
        visited += 1;
        if visited > 100_000 {
            return Err(fail("has more than 100000 nodes".to_owned()));
        }
        let matrix = parent * Mat4::from_cols_array_2d(&node.transform().matrix());
        for primitive in node.mesh().iter().flat_map(gltf::Mesh::primitives) {
            if primitive.mode() == gltf::mesh::Mode::Triangles {
                append(&mut mesh, &primitive, blob, matrix);
            }
        }
        stack.extend(node.children().map(|child| (child, matrix)));
    }
    Ok(mesh)
}

fn append(mesh: &mut Mesh, primitive: &gltf::Primitive, blob: Option<&[u8]>, matrix: Mat4) {
    let reader = primitive.reader(|_| blob);
    let Some(positions) = reader.read_positions() else { return };
    let base = mesh.positions.len();
    mesh.positions.extend(positions.map(|p| matrix.transform_point3(Vec3::from(p))));
    let count = mesh.positions.len() - base;
    if let Some(normals) = reader.read_normals() {
        let turn = matrix.inverse().transpose();
        mesh.normals.resize(base, Vec3::ZERO);
        mesh.normals.extend(normals.map(|n| turn.transform_vector3(Vec3::from(n)).normalize_or_zero()));
    }
    mesh.uvs.resize(base, Vec2::ZERO);
    if let Some(uvs) = reader.read_tex_coords(0) {
        // glTF counts v downwards.
        mesh.uvs.extend(uvs.into_f32().map(|[u, v]| Vec2::new(u, 1.0 - v)));
    }
    mesh.uvs.resize(base + count, Vec2::ZERO);
    if let Some(colours) = reader.read_colors(0) {
        // Parts without colours count as white.
        mesh.weights.resize(base, 1.0);
        mesh.weights.extend(colours.into_rgb_f32().map(|rgb| brightness(Vec3::from(rgb))));
    }
    if !mesh.weights.is_empty() {
        mesh.weights.resize(base + count, 1.0);
    }
    let indices: Vec<u32> = match reader.read_indices() {
        Some(indices) => indices.into_u32().collect(),
        None => (0..count as u32).collect(),
    };
    let flip = matrix.determinant() < 0.0;
    mesh.triangles.extend(indices.chunks_exact(3).map(|t| {
        let [a, b, c] = [t[0], t[1], t[2]].map(|v| v.saturating_add(base as u32));
        if flip { [a, c, b] } else { [a, b, c] }
    }));
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
