use super::*;
use crate::{is_sequence, read_mesh, read_model, read_sequence};
use rstest::rstest;

/// A stage of a text with metres, y up.
fn text(body: &str) -> Vec<u8> {
    format!("#usda 1.0\n(\n    metersPerUnit = 1\n    upAxis = \"Y\"\n    timeCodesPerSecond = 25\n)\n{body}")
        .into_bytes()
}

const SQUARE: &str = r#"
    int[] faceVertexCounts = [4]
    int[] faceVertexIndices = [0, 1, 2, 3]
    point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 0, -1), (0, 0, -1)]
"#;

fn mesh_of(body: &str) -> geometry::Mesh {
    read_mesh("m.usda", &text(body)).unwrap()
}

#[test]
fn a_moving_sheet_comes_with_its_times_velocities_uvs_and_colours() {
    let body = format!(
        r#"
def Xform "Gate" {{
    double3 xformOp:translate.timeSamples = {{ 10: (0, 0, 0), 14: (4, 0, 0) }}
    uniform token[] xformOpOrder = ["xformOp:translate"]
    def Mesh "Flag" {{
        int[] faceVertexCounts = [4]
        int[] faceVertexIndices = [0, 1, 2, 3]
        point3f[] points.timeSamples = {{
            10: [(0, 0, 0), (1, 0, 0), (1, 0, -1), (0, 0, -1)],
            12: [(0, 2, 0), (1, 0, 0), (1, 0, -1), (0, 0, -1)],
        }}
        vector3f[] velocities.timeSamples = {{
            10: [(0, 25, 0), (0, 0, 0), (0, 0, 0), (0, 0, 0)],
            12: [(0, 50, 0), (0, 0, 0), (0, 0, 0), (0, 0, 0)],
        }}
        texCoord2f[] primvars:st = [(0, 0), (1, 0), (1, 1), (0, 1)] (interpolation = "faceVarying")
        color3f[] primvars:displayColor = [(1, 0, 0)] (interpolation = "constant")
    }}
    def Mesh "Post" {{ {SQUARE} }}
}}
"#
    );
    let bytes = text(&body);
    assert!(is_sequence("gate.usda", &bytes));
    let read = read_sequence("gate.usda", &bytes, 24.0).unwrap();
    let samples = read.sequence.samples();
    assert_eq!(samples.iter().map(|sample| sample.frame).collect::<Vec<_>>(), [0.0, 2.0, 4.0]);
    assert_eq!(read.sequence.rate(), 25.0);
    // The gate has gone half its way, and the corner of the flag is up.
    assert_eq!(samples[1].positions[0], Vec3::new(2.0, 2.0, 0.0));
    // Held after the last sample, while the gate goes on.
    assert_eq!(samples[2].positions[0], Vec3::new(4.0, 2.0, 0.0));
    let names: Vec<&str> = samples[0].topology.attributes().iter().map(|a| a.name.as_str()).collect();
    assert_eq!(names, ["uv", "weight", "colour", "Flag", "Post"]);
    // The post has no velocities: then the samples tell the motion.
    assert!(samples[0].velocities.is_empty());
}

#[test]
fn velocities_are_those_of_a_second() {
    let body = r#"
def Mesh "Flag" {
    int[] faceVertexCounts = [3]
    int[] faceVertexIndices = [0, 1, 2]
    point3f[] points.timeSamples = { 1: [(0, 0, 0), (1, 0, 0), (0, 1, 0)], 2: [(0, 0, 1), (1, 0, 1), (0, 1, 1)] }
    vector3f[] velocities = [(0, 0, 25), (0, 0, 25), (0, 0, 25)]
}
"#;
    let read = read_sequence("f.usda", &text(body), 24.0).unwrap();
    assert_eq!(read.sequence.samples()[0].velocities, [Vec3::Z; 3]);
}

#[test]
fn units_and_axes_become_metres_with_y_up() {
    let body = format!("def Mesh \"M\" {{ {SQUARE} }}");
    let plain = format!("#usda 1.0\n(\n    upAxis = \"Z\"\n)\n{}", body.replace("(1, 0, -1)", "(1, 0, 100)"));
    let mesh = read_mesh("m.usda", plain.as_bytes()).unwrap();
    // A hundred centimetres up.
    let top = mesh.positions.iter().copied().max_by(|a, b| a.y.total_cmp(&b.y)).unwrap();
    assert!(top.distance(Vec3::new(0.01, 1.0, 0.0)) < 1e-6, "{top}");
}

#[rstest]
#[case(r#"double3 xformOp:rotateXYZ = (90, 0, 90)"#, "rotateXYZ", Vec3::new(0.0, 1.0, 0.0))]
#[case(r#"double3 xformOp:rotateZYX = (90, 0, 90)"#, "rotateZYX", Vec3::new(0.0, 0.0, 1.0))]
#[case(r#"float xformOp:rotateY = 90"#, "rotateY", Vec3::new(0.0, 0.0, -1.0))]
#[case(r#"quatf xformOp:orient = (0.70710678, 0, 0, 0.70710678)"#, "orient", Vec3::new(0.0, 1.0, 0.0))]
#[case(
    r#"matrix4d xformOp:transform = ((0, 2, 0, 0), (-1, 0, 0, 0), (0, 0, 1, 0), (5, 0, 0, 1))"#,
    "transform",
    Vec3::new(5.0, 2.0, 0.0)
)]
#[case(r#"float3 xformOp:scale = (3, 1, 1)"#, "scale", Vec3::new(3.0, 0.0, 0.0))]
fn each_step_of_a_transform_moves_as_the_format_says(
    #[case] op: &str,
    #[case] kind: &str,
    #[case] moved: Vec3,
) {
    let body =
        format!("def Mesh \"M\" {{ {op}\n uniform token[] xformOpOrder = [\"xformOp:{kind}\"]\n {SQUARE} }}");
    let read = read_model("m.usda", &text(&body), false).unwrap();
    // Where the corner (1, 0, 0) comes to stand.
    let mesh = read.merged();
    assert!(mesh.positions.iter().any(|p| p.distance(moved) < 1e-5), "{:?}", mesh.positions);
}

#[test]
fn references_variants_and_instances_within_the_file_are_followed() {
    let body = format!(
        r#"
class "_Plank" {{
    def Mesh "Board" {{ {SQUARE} }}
}}
def Xform "A" (
    references = </_Plank>
    variants = {{ string paint = "red" }}
    prepend variantSets = "paint"
) {{
    variantSet "paint" = {{
        "red" {{ over "Board" {{ color3f[] primvars:displayColor = [(1, 0, 0)] (interpolation = "constant") }} }}
        "blue" {{ over "Board" {{ color3f[] primvars:displayColor = [(0, 0, 1)] (interpolation = "constant") }} }}
    }}
}}
def PointInstancer "Pile" {{
    rel prototypes = [</Pile/Board>]
    int[] protoIndices = [0, 0, 0]
    int64[] ids = [7, 8, 9]
    int64[] invisibleIds = [8]
    point3f[] positions = [(10, 0, 0), (20, 0, 0), (30, 0, 0)]
    quath[] orientations = [(1, 0, 0, 0), (1, 0, 0, 0), (0, 0, 1, 0)]
    def Mesh "Board" {{ {SQUARE} }}
}}
def Mesh "Unseen" {{ token visibility = "invisible"
 {SQUARE} }}
def Sphere "Buoy" {{ }}
"#
    );
    let model = read_model("a.usda", &text(&body), false).unwrap();
    let names: Vec<&str> = model.parts.iter().map(|part| part.name.as_str()).collect();
    assert_eq!(names, ["Board", "Pile", "Pile"]);
    assert!(model.parts[0].mesh.weights[0] > 0.2 && model.parts[0].mesh.weights[0] < 0.22, "red");
    assert_eq!((model.parts[1].position.x, model.parts[2].position.x), (10.0, 30.0));
    // Half a turn about y.
    assert!((model.parts[2].orientation * Vec3::X).distance(Vec3::NEG_X) < 1e-3);
    assert_eq!(model.notices, ["Prims of these kinds are not read: Sphere."]);
}

#[test]
fn a_material_of_constants_becomes_a_look() {
    let body = format!(
        r#"
def Mesh "M" (prepend apiSchemas = ["MaterialBindingAPI"]) {{
    rel material:binding = </Looks/Brass>
    {SQUARE}
}}
def Scope "Looks" {{
    def Material "Brass" {{
        def Shader "Surface" {{
            uniform token info:id = "UsdPreviewSurface"
            color3f inputs:diffuseColor = (0.8, 0.6, 0.2)
            float inputs:metallic = 1
            float inputs:roughness = 0.3
        }}
    }}
}}
"#
    );
    let model = read_model("m.usda", &text(&body), false).unwrap();
    let look = &model.materials[model.parts[0].material.unwrap()].look;
    assert_eq!((look.metalness, look.roughness), (1.0, 0.3));
    assert!(look.albedo.distance(Vec3::new(0.8, 0.6, 0.2)) < 1e-6);
}

#[test]
fn points_come_as_round_meshes_of_their_widths() {
    let body = r#"def Points "Sparks" { point3f[] points = [(0, 0, 0), (1, 2, 3)]
    float[] widths = [0.2, 0.4] }"#;
    let mesh = mesh_of(body);
    assert_eq!(mesh.triangles.len(), 40);
    let far = mesh.positions.iter().map(|p| p.distance(Vec3::new(1.0, 2.0, 3.0))).fold(f32::MAX, f32::min);
    assert!((far - 0.2).abs() < 1e-6);
}

#[rstest]
#[case("def Xform \"A\" (references = @other.usd@) {}", "refers to another file, @other.usd@")]
#[case("def Xform \"A\" (references = @../../etc/passwd@</B>) {}", "refers to another file")]
#[case("def Xform \"A\" (payload = @x.usdc@) {}", "refers to another file, @x.usdc@")]
#[case("def Xform \"A\" (references = </A>) {}", "/A refers to itself, in a circle")]
#[case(
    "def Xform \"A\" (references = </B>) {}\ndef Xform \"B\" (references = </A>) {}",
    "refers to itself, in a circle"
)]
#[case("def Xform \"A\" { def Xform \"B\" (references = </A>) {} }", "in a circle")]
#[case("def Xform \"A\" (inherits = </A>) {}", "in a circle")]
#[case("def Mesh \"A\" { int[] faceVertexCounts = [3] }", "A: has faces with 3 corners, but names 0")]
#[case(
    "def Mesh \"A\" { int[] faceVertexCounts = [3]\n int[] faceVertexIndices = [0, 1, 9]\n point3f[] points = [(0,0,0)] }",
    "names vertex 1, but there are 1"
)]
#[case("def Mesh \"A\" { point3f[] points = [(0, nan, 0)] }", "has a value of NaN in points")]
#[case("def Mesh \"A\" { int[] faceVertexIndices = [-1] }", "has a number below 0 in faceVertexIndices")]
#[case("def Xform \"A\" {", "m.usda")]
#[case("", "holds no meshes")]
fn what_is_wrong_is_told_with_the_prim(#[case] body: &str, #[case] message: &str) {
    let error = read_mesh("m.usda", &text(body)).unwrap_err().to_string();
    assert!(error.contains(message) && error.starts_with("m.usda"), "{error}");
}

#[test]
fn a_sublayer_outside_of_the_file_is_refused() {
    let error = read_mesh("m.usda", b"#usda 1.0\n(\n subLayers = [@a.usda@]\n)\n").unwrap_err().to_string();
    assert!(error.contains("refers to another file, @a.usda@"), "{error}");
}

/// Each level refers twice to the one before: 2 to the power of 40 prims.
#[test]
fn references_that_multiply_are_bounded() {
    let mut body = format!("def Mesh \"L0\" {{ {SQUARE} }}\n");
    for level in 1..40 {
        let below = format!("</L{}>", level - 1);
        body += &format!(
            "def Xform \"L{level}\" {{ def Xform \"A\" (references = {below}) {{}}\n def Xform \"B\" (references = {below}) {{}} }}\n"
        );
    }
    let error = read_mesh("m.usda", &text(&body)).unwrap_err().to_string();
    assert!(error.contains("has more than 100000 prims"), "{error}");
}

#[test]
fn text_that_is_nested_deeply_is_refused() {
    let body = "def Xform \"A\" { ".repeat(5_000);
    let error = read_mesh("m.usda", &text(&body)).unwrap_err().to_string();
    assert!(error.contains("is nested deeper than 128"), "{error}");
    let body = format!("def Xform \"A\" (customData = {{ {} }}) {{}}", "dictionary a = { ".repeat(3_000));
    assert!(read_mesh("m.usda", &text(&body)).is_err());
}

/// A package whose layer refers to another one in it, and one that goes out of it.
#[rstest]
#[case("@parts/board.usda@", None)]
#[case("@../board.usda@", Some("refers to another file"))]
fn layers_of_a_package_may_refer_to_each_other(#[case] asset: &str, #[case] wrong: Option<&str>) {
    use std::io::Write;
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    let root = text(&format!("def Xform \"A\" (references = {asset}) {{}}"));
    let board =
        format!("#usda 1.0\n(\n defaultPrim = \"B\"\n)\ndef Xform \"B\" {{ def Mesh \"M\" {{ {SQUARE} }} }}");
    for (name, bytes) in [("root.usda", &root[..]), ("parts/board.usda", board.as_bytes())] {
        zip.start_file(name, stored).unwrap();
        zip.write_all(bytes).unwrap();
    }
    let read = read_mesh("p.usdz", &zip.finish().unwrap().into_inner());
    match wrong {
        None => assert_eq!(read.unwrap().triangles.len(), 2),
        Some(message) => assert!(read.unwrap_err().to_string().contains(message)),
    }
}

#[test]
fn prims_that_are_not_drawn_are_left_out() {
    let hidden = [
        "def Mesh \"A\" (active = false) { SQUARE }",
        "def Xform \"B\" { token visibility = \"invisible\"\n def Mesh \"M\" { SQUARE } }",
        "def Mesh \"C\" { uniform token purpose = \"guide\"\n SQUARE }",
        "class Mesh \"D\" { SQUARE }",
        "over \"E\" { def Mesh \"M\" { SQUARE } }",
    ];
    for prim in hidden {
        let body = format!("{}\ndef Mesh \"Seen\" {{ {SQUARE} }}", prim.replace("SQUARE", SQUARE));
        let model = read_model("m.usda", &text(&body), false).unwrap();
        assert_eq!(model.parts.iter().map(|part| part.name.as_str()).collect::<Vec<_>>(), ["Seen"], "{prim}");
    }
}

#[rstest]
#[case("float3 xformOp:scale = (2, 2, 2)\n double3 xformOp:translate = (0, 5, 0)\n uniform token[] xformOpOrder = [\"!invert!xformOp:translate\", \"xformOp:scale\"]", Vec3::new(2.0, -5.0, 0.0))]
#[case(
    "double3 xformOp:translate:pivot = (1, 0, 0)\n float xformOp:rotateZ = 90\n uniform token[] xformOpOrder = [\"xformOp:translate:pivot\", \"xformOp:rotateZ\", \"!invert!xformOp:translate:pivot\"]",
    Vec3::new(1.0, 0.0, 0.0)
)]
#[case(
    "double3 xformOp:translate = (0, 7, 0)\n uniform token[] xformOpOrder = [\"!resetXformStack!\", \"xformOp:translate\"]",
    Vec3::new(1.0, 7.0, 0.0)
)]
fn steps_are_inverted_named_and_reset(#[case] ops: &str, #[case] moved: Vec3) {
    let body = format!(
        "def Xform \"Above\" {{ double3 xformOp:translate = (0, 0, 0)\n uniform token[] xformOpOrder = [\"xformOp:translate\"]\n def Mesh \"M\" {{ {ops}\n {SQUARE} }} }}"
    );
    let mesh = read_model("m.usda", &text(&body), false).unwrap().merged();
    assert!(mesh.positions.iter().any(|p| p.distance(moved) < 1e-5), "{:?}", mesh.positions);
}

#[test]
fn a_prim_that_resets_its_transform_does_not_move_with_those_above() {
    let body = format!(
        "def Xform \"Above\" {{ double3 xformOp:translate = (9, 9, 9)\n uniform token[] xformOpOrder = [\"xformOp:translate\"]\n def Mesh \"M\" {{ uniform token[] xformOpOrder = [\"!resetXformStack!\"]\n {SQUARE} }} }}"
    );
    let part = &read_model("m.usda", &text(&body), false).unwrap().parts[0];
    assert_eq!(part.position, Vec3::ZERO);
}

#[test]
fn faces_of_left_handed_meshes_are_turned() {
    let up = |extra: &str| {
        let mesh = mesh_of(&format!("def Mesh \"M\" {{ {extra}\n {SQUARE} }}"));
        let [a, b, c] = mesh.triangles[0].map(|v| mesh.positions[v as usize]);
        (b - a).cross(c - a).y
    };
    assert!(up("") > 0.0 && up("uniform token orientation = \"leftHanded\"") < 0.0);
}

#[test]
fn inherited_and_payload_prims_are_followed_and_local_values_prevail() {
    let body = format!(
        r#"
class "_Board" {{ token visibility = "invisible"
    def Mesh "Plank" {{ {SQUARE} }} }}
def Xform "A" (inherits = </_Board>) {{ token visibility = "inherited" }}
def Xform "B" (payload = </Store>) {{ }}
def Scope "Store" {{ token visibility = "invisible"
    def Mesh "Net" {{ {SQUARE} }} }}
"#
    );
    let model = read_model("m.usda", &text(&body), false).unwrap();
    // What B refers to is hidden there, and so is what it takes over.
    assert_eq!(model.parts.iter().map(|part| part.name.as_str()).collect::<Vec<_>>(), ["Plank"]);
}

#[test]
fn samples_instances_and_references_are_bounded() {
    let list: String = (0..20_100).map(|i| format!("{i}: [(0, 0, 0)], ")).collect();
    let body = format!("def Mesh \"M\" {{ point3f[] points.timeSamples = {{ {list} }} }}");
    let error = read_mesh("m.usda", &text(&body)).unwrap_err().to_string();
    assert!(error.contains("has 20100 samples; at most 20000"), "{error}");
    let many = vec!["(0, 0, 0)"; 100_001].join(", ");
    let body = format!(
        "def PointInstancer \"P\" {{ rel prototypes = [</P/M>]\n point3f[] positions = [{many}]\n def Mesh \"M\" {{ {SQUARE} }} }}"
    );
    let error = read_mesh("m.usda", &text(&body)).unwrap_err().to_string();
    assert!(error.contains("has 100001 instances; at most 100000"), "{error}");
    // One prim that takes over twice as many others at each of twenty levels.
    let mut body = "def Scope \"L0\" {}\n".to_owned();
    for level in 1..20 {
        body += &format!("class \"L{level}\" (inherits = </L{0}>\n references = </L{0}>) {{}}\n", level - 1);
    }
    body += "def Xform \"Top\" (inherits = </L19>) {}";
    let error = read_mesh("m.usda", &text(&body)).unwrap_err().to_string();
    assert!(error.contains("refers to more than 1000 prims"), "{error}");
}

#[test]
fn instances_that_are_switched_off_are_left_out_however_many() {
    let n = 60_000;
    let positions = (0..n).map(|i| format!("({i}, 0, 0)")).collect::<Vec<_>>().join(", ");
    let off = (2..n).map(|i| i.to_string()).collect::<Vec<_>>().join(", ");
    let which = vec!["0"; n].join(", ");
    let body = format!(
        "def PointInstancer \"P\" {{ rel prototypes = [</P/M>]\n int[] protoIndices = [{which}]\n point3f[] positions = [{positions}]\n int64[] invisibleIds = [{off}]\n def Mesh \"M\" {{ {SQUARE} }} }}"
    );
    let start = std::time::Instant::now();
    assert_eq!(read_model("m.usda", &text(&body), false).unwrap().parts.len(), 2);
    assert!(start.elapsed().as_secs() < 20, "each id is looked up among all");
}
