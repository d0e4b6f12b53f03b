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
