//! What the formats' own libraries say of our files, and we of theirs.

use crate::export::fixture::{pose, scene};
use crate::{UsdForm, read_model, read_sequence, write_alembic, write_usd};
use geometry::primitive;
use glam::{Mat4, Vec3};
use rstest::rstest;
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Runs a script of `tests/libraries`, and gives its output.
fn python(script: &str, arguments: &[&str]) -> String {
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let packages = root.join("../../target/python");
    assert!(packages.join("installed").exists(), "run `cargo xtask libraries` first");
    let run = Command::new("python3")
        .arg(root.join("tests/libraries").join(script))
        .args(arguments)
        .env("PYTHONPATH", packages)
        .output()
        .expect("python3 runs");
    assert!(run.status.success(), "{script}: {}", String::from_utf8_lossy(&run.stderr));
    String::from_utf8(run.stdout).unwrap()
}

fn vector(value: &Value) -> Vec3 {
    let n = |i: usize| value[i].as_f64().unwrap() as f32;
    Vec3::new(n(0), n(1), n(2))
}

/// A matrix as the libraries give it: of rows, the last of which moves.
fn matrix(value: &Value) -> Mat4 {
    let list: Vec<f32> = value.as_array().unwrap().iter().map(|n| n.as_f64().unwrap() as f32).collect();
    Mat4::from_cols_slice(&list)
}

fn pose_of(x: f32) -> Mat4 {
    let (position, orientation, _) = pose(x);
    Mat4::from_rotation_translation(orientation, position)
}

fn find<'a>(list: &'a Value, path: &str) -> &'a Value {
    let of = list.as_array().unwrap().iter().find(|of| of["path"] == path);
    of.unwrap_or_else(|| panic!("no {path} in {list}"))
}

fn written(name: &str, bytes: &[u8]) -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(name);
    std::fs::write(&path, bytes).unwrap();
    (folder, path)
}

#[rstest]
#[case("usda")]
#[case("usdc")]
#[case("usdz")]
fn the_library_of_usd_reads_what_we_write(#[case] extension: &str) {
    let bytes = write_usd(&scene(), UsdForm::of_extension(extension).unwrap()).unwrap();
    let (_folder, path) = written(&format!("shot.{extension}"), &bytes);
    let read: Value = serde_json::from_str(&python("read_usd.py", &[path.to_str().unwrap()])).unwrap();
    assert_eq!((&read["fps"], &read["unit"], &read["up"]), (&24.0.into(), &1.0.into(), &"Y".into()));
    assert_eq!(read["times"], serde_json::json!([1.0, 2.0, 3.0]));
    let prims = &read["prims"];
    let body = find(prims, "/Shot/Fish_crate");
    assert_eq!(body["faces"][0], primitive::cuboid(Vec3::ONE, 0.0).triangles.len());
    assert_eq!(body["uvs"], serde_json::json!([24, "vertex"]));
    for (i, time) in [1.0f32, 2.0, 3.0].into_iter().enumerate() {
        assert!(matrix(&body["matrices"][i]).abs_diff_eq(pose_of(time), 1e-5));
        let floats = &find(prims, "/Shot/Floats")["places"][i];
        assert!(vector(&floats[0]).distance(pose(time).0) < 1e-6);
        assert!(vector(&floats[1]).distance(pose(5.0).0) < 1e-6);
        let sparks = find(prims, "/Shot/_2_sparks");
        assert_eq!(sparks["ids"][i].as_array().unwrap().len(), i + 1);
        assert_eq!(vector(&sparks["points"][i][0]), Vec3::X * time);
        assert!((sparks["widths"][i][0].as_f64().unwrap() - 0.02).abs() < 1e-9);
    }
    let sheet = find(prims, "/Shot/Fish_crate_2");
    let corner = primitive::plane(1.0, 1.0).positions[0];
    assert!(vector(&sheet["points"][2][0]).distance(corner + Vec3::Y * 3.0) < 1e-6);
    assert_eq!(vector(&sheet["velocities"][1][0]), Vec3::Y * 24.0);
    assert_eq!(find(prims, "/Shot/Camera")["focal_length"], 35.0);
    assert_eq!(find(prims, "/Shot/Sun")["type"], "DistantLight");
}

/// Crate files pack long arrays; a stage of any kind comes out the same.
#[rstest]
#[case("usda")]
#[case("usdc")]
fn we_read_what_the_library_of_usd_writes(#[case] extension: &str) {
    let folder = tempfile::tempdir().unwrap();
    let name = format!("quay.{extension}");
    let path = folder.path().join(&name);
    python("write_usd.py", &[path.to_str().unwrap()]);
    let bytes = std::fs::read(&path).unwrap();
    let sequence = read_sequence(&name, &bytes, 24.0).unwrap().sequence;
    assert_eq!(sequence.rate(), 25.0);
    let samples = sequence.samples();
    assert_eq!(samples.iter().map(|sample| sample.frame).collect::<Vec<_>>(), [0.0, 1.0, 2.0]);
    // At half the gate's turn about y, in half metres.
    let turned = glam::Quat::from_rotation_y(45f32.to_radians());
    let corner = (Vec3::new(1.0, 2.0, 3.0) + turned * Vec3::new(1.0, 0.0, -1.0)) * 0.5;
    let moved = &samples[1].positions;
    assert!(moved.iter().any(|p| p.distance(corner) < 1e-5), "{:?}", &moved[..4]);
    let names: Vec<&str> = samples[0].topology.attributes().iter().map(|a| a.name.as_str()).collect();
    assert_eq!(names, ["uv", "weight", "colour", "Flag", "Net", "Plank", "Pile", "Sparks"]);
    let model = read_model(&name, &bytes, false).unwrap();
    let part = |name: &str| model.parts.iter().filter(move |part| part.name == name).collect::<Vec<_>>();
    let net = &part("Net")[0].mesh;
    assert_eq!(net.triangles.len(), 2 * 100 * 100);
    // Each face of the net is a square of half a metre.
    let area = |t: &[u32; 3]| {
        let [a, b, c] = t.map(|v| net.positions[v as usize]);
        (b - a).cross(c - a).length() / 2.0
    };
    assert!(net.triangles.iter().all(|t| (area(t) - 0.5).abs() < 1e-6));
    assert!((part("Plank")[0].position.y - 3.5).abs() < 1e-6, "the high variant");
    let pile = part("Pile");
    assert_eq!((pile.len(), pile[0].position, pile[1].position), (2, Vec3::X * 2.0, Vec3::X * 4.0));
    assert!((pile[1].orientation * Vec3::X).distance(Vec3::NEG_X) < 1e-3);
    let uvs = &part("Flag")[0].mesh.uvs;
    assert!(uvs.contains(&glam::Vec2::ONE) && uvs.contains(&glam::Vec2::ZERO));
}

#[test]
fn the_library_of_alembic_reads_what_we_write() {
    let (_folder, path) = written("shot.abc", &write_alembic(&scene()));
    let read = python("read_alembic.py", &[path.to_str().unwrap(), "1", "3", "24"]);
    let read: Value = serde_json::from_str(&read).unwrap();
    assert!((read["start"].as_f64().unwrap() - 1.0 / 24.0).abs() < 1e-9, "{}", read["start"]);
    assert!((read["end"].as_f64().unwrap() - 3.0 / 24.0).abs() < 1e-9, "{}", read["end"]);
    let objects = &read["objects"];
    let body = find(objects, "/Fish_crate/Fish_crateShape");
    let cube = primitive::cuboid(Vec3::ONE, 0.0);
    assert_eq!(body["counts"].as_array().unwrap().len(), cube.triangles.len());
    let [a, b, c] = cube.triangles[0];
    assert_eq!(body["corners"].as_array().unwrap()[..3], [a, c, b].map(Value::from));
    assert_eq!((body["uvs"].as_array().unwrap().len(), body["normals"].as_array().unwrap().len()), (24, 24));
    assert_eq!(vector(&body["box"][0]), Vec3::splat(-0.5));
    for (i, time) in [1.0f32, 2.0, 3.0].into_iter().enumerate() {
        assert!(matrix(&body["matrices"][i]).abs_diff_eq(pose_of(time), 1e-5));
        let copy = find(objects, "/Floats/Floats_1/Floats_1Shape");
        assert!(matrix(&copy["matrices"][i]).abs_diff_eq(pose_of(time), 1e-5));
        let sparks = find(objects, "/_2_sparks");
        assert_eq!(sparks["ids"][i], i + 1);
        assert_eq!(vector(&sparks["points"][i][i]), Vec3::X * time);
        assert_eq!(vector(&sparks["velocities"][i][0]), Vec3::Z);
        assert!((sparks["widths"][i][0].as_f64().unwrap() - 0.02).abs() < 1e-6);
    }
    let sheet = find(objects, "/Fish_crate_2/Fish_crate_2Shape");
    let corner = primitive::plane(1.0, 1.0).positions[0];
    assert!(vector(&sheet["points"][2][0]).distance(corner + Vec3::Y * 3.0) < 1e-6);
    assert_eq!(vector(&sheet["velocities"][1][0]), Vec3::Y * 24.0);
    let camera: Vec<f64> = find(objects, "/Camera/CameraShape")["camera"]
        .as_array()
        .unwrap()
        .iter()
        .map(|n| n.as_f64().unwrap())
        .collect();
    for (value, expected) in camera.iter().zip([35.0, 3.6, 2.025, 2.8, 4.0]) {
        assert!((value - expected).abs() < 1e-6, "{camera:?}");
    }
}

#[test]
fn we_read_what_the_library_of_alembic_writes() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("quay.abc");
    python("write_alembic.py", &[path.to_str().unwrap()]);
    let bytes = std::fs::read(&path).unwrap();
    let read = read_sequence("quay.abc", &bytes, 24.0).unwrap();
    let samples = read.sequence.samples();
    assert_eq!(read.sequence.rate(), 25.0);
    assert_eq!(samples.iter().map(|sample| sample.frame).collect::<Vec<_>>(), [0.0, 1.0, 2.0]);
    // The flag's corner goes up, below a gate that is turned by a quarter and moves along x.
    for (frame, sample) in samples.iter().enumerate() {
        let up = Vec3::new(2.0 * frame as f32, frame as f32, 0.0);
        assert!(sample.positions[0].distance(up) < 1e-5, "{}", sample.positions[0]);
    }
    // The torn sheet loses a face, and sparks are born.
    let faces: Vec<usize> = samples.iter().map(|sample| sample.topology.triangles().len()).collect();
    assert_eq!(faces, [2 + 2 + 20, 2 + 1 + 40, 2 + 1 + 60]);
    let topology = &samples[0].topology;
    let names: Vec<&str> = topology.attributes().iter().map(|a| a.name.as_str()).collect();
    assert_eq!(names, ["uv", "Flag", "Hem", "Torn", "Sparks"]);
    // Faces look up, as their corners are turned.
    let [a, b, c] = topology.triangles()[2].map(|v| samples[0].positions[v as usize]);
    assert!((b - a).cross(c - a).y > 0.0);
    assert!(read.notices.iter().any(|notice| notice.contains("small round meshes")));
}

/// An archive that we write is read by ourselves as the same scene.
#[test]
fn an_archive_is_read_back() {
    let read = read_sequence("shot.abc", &write_alembic(&scene()), 30.0).unwrap().sequence;
    assert_eq!((read.rate(), read.samples().len()), (24.0, 3));
    let last = &read.samples()[2];
    assert_eq!(last.positions.len(), 24 + 4 + 48 + 180);
    let corner = pose_of(3.0).transform_point3(primitive::cuboid(Vec3::ONE, 0.0).positions[0]);
    assert!(last.positions[0].distance(corner) < 1e-5, "{}", last.positions[0]);
}

/// Any byte that is changed, and any length that is cut off, gives an error or a mesh:
/// nothing ends the process.
#[rstest]
#[case("shot.usdc", write_usd(&scene(), UsdForm::Binary).unwrap())]
#[case("shot.abc", write_alembic(&scene()))]
#[case("shot.usdz", write_usd(&scene(), UsdForm::Package).unwrap())]
fn altered_files_are_refused_or_read(#[case] name: &str, #[case] bytes: Vec<u8>) {
    let mut state = 1u64;
    let mut random = |below: usize| {
        state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (state >> 33) as usize % below
    };
    for _ in 0..1_500 {
        let mut altered = bytes.clone();
        for _ in 0..=random(3) {
            let at = random(altered.len());
            altered[at] = random(256) as u8;
        }
        if random(4) == 0 {
            altered.truncate(random(altered.len()));
        }
        let _ = read_sequence(name, &altered, 24.0);
        let _ = read_model(name, &altered, false);
    }
}
