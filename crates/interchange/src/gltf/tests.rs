//! glTF files made by hand: what is read, and what is refused.

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

/// A triangle with a morph target that lifts its first corner by 2, on a node
/// that goes along x; `interpolation` is that of the node, `extra` more of it.
fn animated(interpolation: &str, times: [f32; 3], places: &[f32]) -> Vec<u8> {
    let mut bin: Vec<u8> = Vec::new();
    let mut put = |values: &[f32]| values.iter().for_each(|value| bin.extend(value.to_le_bytes()));
    put(&[0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0]);
    put(&[0.0, 0.0, 2.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0]);
    put(&times);
    put(&[0.0, 1.0, 0.0]);
    put(places);
    let json = format!(
        r#"{{"asset":{{"version":"2.0"}},"scene":0,"scenes":[{{"nodes":[0]}}],"nodes":[{{"mesh":0}}],
        "meshes":[{{"primitives":[{{"attributes":{{"POSITION":0}},"targets":[{{"POSITION":1}}]}}]}}],
        "animations":[{{"channels":[{{"sampler":0,"target":{{"node":0,"path":"weights"}}}},
            {{"sampler":1,"target":{{"node":0,"path":"translation"}}}}],
          "samplers":[{{"input":2,"output":3}},{{"input":2,"output":4,"interpolation":"{interpolation}"}}]}}],
        "buffers":[{{"byteLength":{total}}}],
        "bufferViews":[{{"buffer":0,"byteLength":36}},{{"buffer":0,"byteOffset":36,"byteLength":36}},
            {{"buffer":0,"byteOffset":72,"byteLength":12}},{{"buffer":0,"byteOffset":84,"byteLength":12}},
            {{"buffer":0,"byteOffset":96,"byteLength":{left}}}],
        "accessors":[{{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3","min":[0,0,0],"max":[1,1,0]}},
            {{"bufferView":1,"componentType":5126,"count":3,"type":"VEC3"}},
            {{"bufferView":2,"componentType":5126,"count":3,"type":"SCALAR"}},
            {{"bufferView":3,"componentType":5126,"count":3,"type":"SCALAR"}},
            {{"bufferView":4,"componentType":5126,"count":{count},"type":"VEC3"}}]}}"#,
        total = 96 + 4 * places.len(),
        left = 4 * places.len(),
        count = places.len() / 3,
    );
    glb(&json, &bin)
}

#[test]
fn morph_targets_and_nodes_move_over_time() {
    let bytes = animated("LINEAR", [0.0, 0.5, 1.0], &[0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 4.0, 0.0, 0.0]);
    assert!(crate::is_sequence("t.glb", &bytes) && !crate::is_sequence("t.glb", &triangle([0, 1, 2])));
    let read = crate::read_sequence("t.glb", &bytes, 30.0).unwrap();
    let samples = read.sequence.samples();
    assert_eq!((samples.len(), read.sequence.rate()), (25, 24.0));
    // At a quarter of a second half of the target, and half the first way.
    assert!((samples[6].positions[0] - glam::Vec3::new(0.5, 0.0, 1.0)).length() < 1e-6);
    assert!((samples[18].positions[0] - glam::Vec3::new(2.5, 0.0, 1.0)).length() < 1e-6);
    assert_eq!(samples[3].topology, samples[20].topology);
}

#[rstest]
#[case("STEP", &[0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 4.0, 0.0, 0.0], 0.0)]
// x = t² from its tangents: 0, 1 and 2 a second.
#[case("CUBICSPLINE", &[0., 0., 0., 0., 0., 0., 0., 0., 0., 1., 0., 0., 0.25, 0., 0., 1., 0., 0., 2., 0., 0., 1., 0., 0., 2., 0., 0.], 0.0625)]
fn keys_are_joined_as_the_file_says(#[case] kind: &str, #[case] places: &[f32], #[case] x: f32) {
    let read = crate::read_sequence("t.glb", &animated(kind, [0.0, 0.5, 1.0], places), 30.0).unwrap();
    let shown = read.sequence.samples()[6].positions[0].x;
    assert!((shown - x).abs() < 1e-6, "{shown}");
}

#[rstest]
#[case([0.0, 0.5, 0.4], 9, "times do not rise")]
#[case([0.0, f32::NAN, 0.4], 9, "times do not rise")]
#[case([0.0, 0.5, 1.0], 6, "another number of values")]
#[case([0.0, 0.5, 5000.0], 9, "at most 600")]
fn animations_that_are_broken_are_refused(
    #[case] times: [f32; 3],
    #[case] values: usize,
    #[case] message: &str,
) {
    let bytes = animated("LINEAR", times, &vec![0.0; values]);
    let error = crate::read_sequence("t.glb", &bytes, 30.0).unwrap_err().to_string();
    assert!(error.contains(message), "{error}");
}

/// Bytes of a file changed at random, a few at a time.
fn damaged(bytes: &[u8], seed: u32) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9e37_79b9) | 1;
    let mut next = |below: usize| {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        state as usize % below
    };
    let mut bytes = bytes.to_vec();
    for _ in 0..1 + next(4) {
        let at = next(bytes.len());
        bytes[at] = next(256) as u8;
    }
    if next(4) == 0 {
        bytes.truncate(next(bytes.len()));
    }
    bytes
}

/// A damaged file is read or refused; it never ends the process, and never takes long.
#[test]
fn damaged_animations_and_archives_never_panic() {
    let places = [0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 4.0, 0.0, 0.0];
    let glb = animated("LINEAR", [0.0, 0.5, 1.0], &places);
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for number in 0..3 {
        use std::io::Write;
        zip.start_file(format!("a{number}.obj"), zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(format!("v 0 {number} 0\nv 1 0 0\nv 0 1 0\ng x\nf 1 2 3\n").as_bytes()).unwrap();
    }
    let zip = zip.finish().unwrap().into_inner();
    let mut refused = 0;
    for seed in 1..1500 {
        refused += usize::from(crate::read_sequence("t.glb", &damaged(&glb, seed), 24.0).is_err());
        refused += usize::from(crate::read_sequence("t.zip", &damaged(&zip, seed), 24.0).is_err());
    }
    assert!(refused > 500, "{refused}");
}
