//! A glTF file with several nodes and looks, as common exporters compress it.
//! `tests/files/README.md` says how the files were made.

use glam::Vec3;
use interchange::{Model, read_image, read_mesh, read_model, write_ply};
use rstest::rstest;
use shot::look::LookImage;

fn file(name: &str) -> Vec<u8> {
    std::fs::read(format!("{}/tests/files/{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

fn floats() -> Model {
    read_model("floats.glb", &file("floats.glb"), true).unwrap()
}

/// The largest distance of a vertex of one mesh from the nearest of the other, both ways.
fn apart(a: &[Vec3], b: &[Vec3]) -> f32 {
    let far = |from: &[Vec3], to: &[Vec3]| {
        from.iter()
            .map(|p| to.iter().map(|q| p.distance(*q)).fold(f32::INFINITY, f32::min))
            .fold(0.0, f32::max)
    };
    far(a, b).max(far(b, a))
}

#[rstest]
// Positions of 14 bits over 0.8 m, shown at up to twice the size.
#[case("floats-draco.glb", 0.8 / 16_384.0)]
#[case("floats-draco-sequential.glb", 0.8 / 16_384.0)]
#[case("floats-meshopt.glb", 0.8 / 16_384.0)]
#[case("floats-meshopt-filtered.glb", 0.8 / 16_384.0)]
fn a_compressed_file_is_the_file_within_its_quantisation(#[case] name: &str, #[case] step_m: f32) {
    let (plain, read) =
        (read_mesh("floats.glb", &file("floats.glb")).unwrap(), read_mesh(name, &file(name)).unwrap());
    assert_eq!(read.triangles.len(), plain.triangles.len());
    let error = apart(&read.positions, &plain.positions);
    assert!(error < 2.0 * step_m, "{error} m");
    // Normals and UVs: those of the plain vertex at the same place, which seams have twice.
    for (i, p) in read.positions.iter().enumerate() {
        let same = |j: &usize| {
            plain.positions[*j].distance(*p) < 2.0 * step_m
                && plain.normals[*j].angle_between(read.normals[i]) < 0.03
                && plain.uvs[*j].distance(read.uvs[i]) < 0.002
        };
        assert!((0..plain.positions.len()).any(|j| same(&j)), "vertex {i} has no like");
    }
    let twice_m2 = |mesh: &geometry::Mesh| -> f32 {
        let corner = |v: u32| mesh.positions[v as usize];
        mesh.triangles
            .iter()
            .map(|[a, b, c]| (corner(*b) - corner(*a)).cross(corner(*c) - corner(*a)).length())
            .sum()
    };
    assert!((twice_m2(&read) / twice_m2(&plain) - 1.0).abs() < 1e-3);
}

#[test]
fn a_file_comes_in_parts_with_their_places_and_looks() {
    let model = floats();
    let names: Vec<&str> = model.parts.iter().map(|part| part.name.as_str()).collect();
    assert_eq!(names, ["Float left", "Rope", "Float right"]);
    let [left, rope, right] = &model.parts[..] else { panic!("three parts") };
    assert_eq!((left.position, left.scale), (Vec3::new(-0.5, 0.1, 0.0), 1.0));
    assert!(
        (right.scale - 2.0).abs() < 1e-5
            && right.orientation.angle_between(glam::Quat::from_rotation_y(std::f32::consts::FRAC_PI_2))
                < 1e-3
    );
    // The same mesh twice is the same to the byte, so that it is kept once.
    assert_eq!(write_ply(&left.mesh), write_ply(&right.mesh));
    // A node that scales unevenly changes its vertices; its child's place counts from its parent.
    assert_eq!((rope.position, rope.scale), (Vec3::new(-0.5, 0.6, 0.0), 1.0));
    assert!((rope.mesh.bounds().size().y - 0.1).abs() < 1e-5);
    let look = &model.materials[left.material.unwrap()].look;
    assert_eq!((look.albedo, look.roughness, look.metalness), (Vec3::new(0.9, 0.8, 0.7), 0.8, 0.5));
    assert_eq!((look.emission, look.normal_strength), (Vec3::new(4.0, 2.0, 1.0), 0.6));
    assert_eq!(model.materials[rope.material.unwrap()].look.roughness, 0.9);
    assert!(model.notices.is_empty(), "{:?}", model.notices);
}

#[test]
fn images_of_a_material_say_one_thing_each() {
    let model = floats();
    let material = &model.materials[model.parts[0].material.unwrap()];
    // Each image once, though two parts have the look.
    assert_eq!(model.images.len(), 5);
    let says: Vec<LookImage> = material.images.iter().map(|(says, _)| *says).collect();
    assert_eq!(
        says,
        [
            LookImage::Albedo,
            LookImage::Roughness,
            LookImage::Metalness,
            LookImage::Normal,
            LookImage::Emission
        ]
    );
    let image = |of: LookImage| {
        let (_, position) = material.images.iter().find(|(says, _)| *says == of).unwrap();
        let file = &model.images[*position];
        read_image(&format!("a.{}", file.extension), &file.bytes).unwrap()
    };
    // Green was 64 on the left, blue 0 below.
    let linear = |code: f32| ((code / 255.0 + 0.055) / 1.055).powf(2.4);
    let left = image(LookImage::Roughness).rgb[0];
    assert!(left.iter().all(|v| (v - linear(64.0)).abs() < 1e-5), "{left:?}");
    assert_eq!(image(LookImage::Metalness).rgb[63], [0.0; 3]);
    assert_eq!(image(LookImage::Metalness).rgb[0], [1.0; 3]);
}

#[test]
fn a_moved_texture_moves_the_uvs() {
    // Scale (3, 2) and offset (1/4, 1/2), v down, of the corner at (0, 0).
    let uv = floats().parts[0].mesh.uvs[0];
    assert!(uv.distance(glam::Vec2::new(0.25, 1.0 - 0.5)) < 1e-6, "{uv}");
}

#[rstest]
#[case("floats-draco.glb")]
#[case("floats-draco-sequential.glb")]
#[case("floats-meshopt.glb")]
#[case("floats-meshopt-filtered.glb")]
fn damaged_compressed_data_is_refused_or_read_but_never_ends_the_process(#[case] name: &str) {
    let whole = file(name);
    let json = 20 + u32::from_le_bytes(whole[12..16].try_into().unwrap()) as usize;
    for seed in 0..400usize {
        let mut bytes = whole.clone();
        for step in 0..=seed % 7 {
            let at = json + (seed * 7_919 + step * 104_729) % (bytes.len() - json);
            bytes[at] = bytes[at].wrapping_add((seed % 255) as u8 + 1);
        }
        let _ = std::hint::black_box(read_model(name, &bytes, true));
    }
    for cut in (json..whole.len()).step_by(97) {
        assert!(read_mesh(name, &whole[..cut]).is_err());
    }
}

#[test]
fn a_mesh_written_as_ply_is_the_same_read_back() {
    let mut mesh = floats().parts.remove(0).mesh;
    mesh.weights = (0..mesh.positions.len()).map(|i| i as f32 / 400.0).collect();
    let read = read_mesh("float.ply", &write_ply(&mesh)).unwrap();
    assert!(read.positions == mesh.positions && read.uvs == mesh.uvs && read.triangles == mesh.triangles);
    assert!(read.normals.iter().zip(&mesh.normals).all(|(a, b)| a.distance(*b) < 1e-6));
    assert!(read.weights.iter().zip(&mesh.weights).all(|(a, b)| (a - b).abs() < 1e-6));
}
