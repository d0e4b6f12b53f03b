use crate::export::fixture::scene;
use crate::{read_mesh, read_sequence, write_alembic};
use rstest::rstest;

fn archive() -> Vec<u8> {
    write_alembic(&scene())
}

#[rstest]
#[case(b"\x89HDF\r\n\x1a\n".to_vec(), "is of the older, HDF5 kind; Ogawa is read")]
#[case(b"Ogawa\x00\x00\x01".to_vec(), "was not written to its end")]
#[case(b"PK\x03\x04".to_vec(), "is no Alembic file")]
#[case(b"Ogawa\xff\x00\x01".to_vec(), "is cut short")]
#[case(b"Ogawa\xff\x00\x01\xff\xff\xff\xff\xff\xff\xff\x7f".to_vec(), "is cut short")]
#[case(archive()[..600].to_vec(), "is cut short")]
fn what_is_no_archive_is_refused_with_the_reason(#[case] bytes: Vec<u8>, #[case] message: &str) {
    let error = read_mesh("gate.abc", &bytes).unwrap_err().to_string();
    assert!(error.starts_with("gate.abc: ") && error.contains(message), "{error}");
}

/// A root that is its own child: without bounds it would be walked forever.
#[test]
fn objects_in_a_circle_are_refused() {
    let mut bytes = archive();
    let at =
        |bytes: &[u8], place: usize| u64::from_le_bytes(bytes[place..place + 8].try_into().unwrap()) as usize;
    let root = at(&bytes, 8);
    // The third part of the root is the object that holds all; its second part the first child.
    let top = at(&bytes, root + 8 + 16);
    let own = (top as u64).to_le_bytes();
    bytes[top + 8 + 8..top + 8 + 16].copy_from_slice(&own);
    let error = read_mesh("gate.abc", &bytes).unwrap_err().to_string();
    assert!(
        error.contains("nested deeper than 200, or in a circle") || error.contains("more than 100000"),
        "{error}"
    );
}

/// A count of children that the file cannot have.
#[test]
fn a_group_that_lies_about_its_size_is_refused() {
    let mut bytes = archive();
    let root = u64::from_le_bytes(bytes[8..16].try_into().unwrap()) as usize;
    bytes[root..root + 8].copy_from_slice(&(1u64 << 40).to_le_bytes());
    let error = read_mesh("gate.abc", &bytes).unwrap_err().to_string();
    assert!(error.contains("says that a group at byte"), "{error}");
}

#[test]
fn values_that_do_not_change_are_stored_once_and_copies_share_theirs() {
    let mut many = scene();
    let of = &mut many.instances[0];
    for (_, (poses, velocities, spins)) in &mut of.samples {
        for list in [&mut *velocities, spins] {
            list.resize(200, glam::Vec3::ZERO);
        }
        poses.resize(200, poses[0]);
    }
    // 198 more copies of a crate of 24 vertices: their values, of 2 kB each, are there once.
    let (small, large) = (archive().len(), write_alembic(&many).len());
    assert!(large - small < 198 * 2_400, "{} bytes more", large - small);
    let read = read_sequence("many.abc", &write_alembic(&many), 24.0).unwrap().sequence;
    assert_eq!(read.samples()[0].positions.len(), 24 + 4 + 200 * 24 + 60);
    assert_eq!(write_alembic(&many), write_alembic(&many));
}

/// A small file whose many meshes have the same large values: they do not fit together.
#[test]
fn values_that_many_meshes_share_are_bounded_together() {
    use crate::export::{ExportScene, SceneInstances};
    let n = 150_000usize;
    let net = geometry::Mesh {
        positions: (0..n).map(|i| glam::Vec3::new(i as f32, (i % 7) as f32, 0.0)).collect(),
        triangles: vec![[0, 1, 2]],
        ..geometry::Mesh::default()
    };
    let poses = vec![(glam::Vec3::ZERO, glam::Quat::IDENTITY, 1.0); 200];
    let still = vec![glam::Vec3::ZERO; 200];
    let nets = SceneInstances {
        name: "Nets".to_owned(),
        meshes: vec![(1.0, (std::sync::Arc::new(net), Vec::new()))],
        samples: vec![(1.0, (poses, still.clone(), still))],
    };
    let scene = ExportScene { fps: 24.0, first: 1, last: 1, instances: vec![nets], ..ExportScene::default() };
    let bytes = write_alembic(&scene);
    assert!(bytes.len() < 3 << 20, "{}", bytes.len());
    let error = read_mesh("nets.abc", &bytes).unwrap_err().to_string();
    assert!(error.contains("vertices and corners of faces"), "{error}");
}
