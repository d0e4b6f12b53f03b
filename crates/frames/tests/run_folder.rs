//! A run on disk: what is written is read, what is damaged is said, and nothing
//! that was whole is lost.

use frames::{
    Bodies, Event, Frame, Manifest, ManifestElement, RunError, RunFolder, Thinning, decode, encode, wire,
    write_whole,
};
use glam::{Quat, Vec3};
use rstest::rstest;
use shot::{Id, Shot, SystemId, fingerprint::Fingerprint};
use tempfile::TempDir;

fn folder() -> (TempDir, RunFolder) {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    run.write_manifest(&manifest()).unwrap();
    (dir, run)
}

fn manifest() -> Manifest {
    let element = ManifestElement {
        id: Id(5),
        name: "Floats".to_owned(),
        bodies: 8,
        mass_kg: 0.9,
        centre_m: glam::Vec3::ZERO,
    };
    Manifest::new(Shot::empty("Run"), vec![element])
}

/// A frame of elements with so many bodies each, every body in a place of its own.
fn frame(number: u32, counts: &[usize]) -> Frame {
    let mut frame = Frame::new(number, f64::from(number) / 24.0);
    for (e, &count) in counts.iter().enumerate() {
        let mut bodies = Bodies::default();
        for i in 0..count {
            let x = (e * 1000 + i) as f32 * 0.01;
            let orientation = Quat::from_rotation_y(x) * Quat::from_rotation_x(2.0 * x);
            bodies.push(Vec3::new(x, -x, number as f32), orientation, Vec3::X * x, Vec3::Z);
        }
        frame.bodies.insert(Id(e as u32 + 1), bodies);
    }
    frame
}

#[rstest]
#[case(&[])]
#[case(&[0])]
#[case(&[1])]
#[case(&[3, 0, 700])]
fn a_frame_of_any_number_of_bodies_comes_back(#[case] counts: &[usize]) {
    let frame = frame(4, counts);
    let back = decode(&encode(&frame)).unwrap();
    assert_eq!((back.number, back.time_s), (4, frame.time_s));
    let of = |frame: &Frame| frame.bodies.iter().map(|(id, b)| (*id, b.len())).collect::<Vec<_>>();
    assert_eq!(of(&back), of(&frame));
    for (a, b) in frame.bodies.values().zip(back.bodies.values()) {
        for i in 0..a.len() {
            assert!((a.positions[i] - b.positions[i]).abs().max_element() <= 6e-5);
            assert!(a.orientations[i].dot(b.orientations[i]).abs() > 0.999_999);
        }
    }
}

#[test]
fn what_was_measured_and_what_happened_come_back() {
    let mut frame = frame(9, &[2]);
    frame.measured.contacts = 12;
    frame.measured.deepest_pair = Some((Id(1), Id(2)));
    frame.measured.momentum = [1.0, -2.0, 3.5];
    frame.measured.events = vec![
        Event::LeftWorld { element: Id(1), copy: 1 },
        Event::Tunnelled { element: Id(1), copy: 0, through: Id(2), substeps: 32 },
    ];
    assert_eq!(decode(&encode(&frame)).unwrap().measured, frame.measured);
}

#[test]
fn encoding_is_the_same_every_time() {
    assert_eq!(encode(&frame(3, &[40, 2])), encode(&frame(3, &[40, 2])));
}

#[test]
fn bodies_that_rest_cost_next_to_nothing() {
    let mut pile = Frame::new(1, 0.0);
    let mut bodies = Bodies::default();
    for i in 0..2000 {
        bodies.push(
            Vec3::new((i % 40) as f32 * 0.4, 0.2, (i / 40) as f32 * 0.4),
            Quat::IDENTITY,
            Vec3::ZERO,
            Vec3::ZERO,
        );
    }
    pile.bodies.insert(Id(1), bodies);
    assert!(encode(&pile).len() < 2000 * 4);
}

#[test]
fn the_manifest_says_what_the_run_was_computed_from() {
    let (_dir, run) = folder();
    assert_eq!(run.manifest().unwrap(), manifest());
}

#[rstest]
#[case("", "not a run's manifest")]
#[case("{}", "not a run's manifest")]
#[case("{\"version\": 1, \"shot\": 3}", "not a run's manifest")]
fn a_damaged_manifest_is_named(#[case] text: &str, #[case] message: &str) {
    let (_dir, run) = folder();
    std::fs::write(run.path().join("run.json"), text).unwrap();
    let error = run.manifest().unwrap_err().to_string();
    assert!(error.contains("run.json") && error.contains(message), "{error}");
}

#[test]
fn a_frame_that_is_not_there_is_named() {
    let (_dir, run) = folder();
    let error = run.read(17).unwrap_err();
    assert!(matches!(error, RunError::Missing { frame: 17 }));
    assert_eq!(error.to_string(), "frame 17 is not computed");
}

#[test]
fn a_folder_that_is_no_run_is_not_opened() {
    let dir = tempfile::tempdir().unwrap();
    let error = RunFolder::open(dir.path().join("nothing")).err().unwrap().to_string();
    assert!(error.contains("nothing"), "{error}");
}

#[test]
fn frames_are_listed_in_order_with_what_they_depend_on() {
    let (_dir, run) = folder();
    for number in [12, 3, 7] {
        run.write(&Frame { fingerprint: Fingerprint([number as u8; 16]), ..frame(number, &[2]) }).unwrap();
    }
    let headers: Vec<_> = run.headers().into_iter().map(|(n, h)| (n, h.fingerprint.0[0])).collect();
    assert_eq!(headers, [(3, 3), (7, 7), (12, 12)]);
}

#[test]
fn clearing_leaves_the_manifest_and_no_frames_or_states() {
    let (_dir, run) = folder();
    run.write(&frame(1, &[1])).unwrap();
    run.write_checkpoint(SystemId::Solids, 1, Fingerprint([1; 16]), |out| out.write_all(b"state")).unwrap();
    assert!(run.size().0 > 0 && run.size().1 > 0);
    run.clear().unwrap();
    assert_eq!(
        (run.headers().len(), run.checkpoint_numbers(SystemId::Solids).len(), run.size()),
        (0, 0, (0, 0))
    );
}

#[test]
fn a_track_follows_one_body_through_the_run() {
    let (_dir, run) = folder();
    (1..=5).for_each(|number| run.write(&frame(number, &[3, 2])).unwrap());
    let track = run.track(Id(2), 1);
    assert_eq!(track.frames, [1, 2, 3, 4, 5]);
    let expected = frame(4, &[3, 2]).bodies[&Id(2)].positions[1];
    assert!((track.height_m[3] - expected.y).abs() < 1e-3);
    assert!(run.track(Id(2), 9).frames.is_empty());
    assert!(run.track(Id(77), 0).frames.is_empty());
}

#[test]
fn a_write_that_fails_leaves_the_old_file_as_it_was() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("kept.png");
    write_whole(&path, b"old").unwrap();
    // A folder in the place of the file cannot be replaced by one.
    let taken = dir.path().join("taken.png");
    std::fs::create_dir(&taken).unwrap();
    let error = write_whole(&taken, b"new").unwrap_err().to_string();
    assert!(error.contains("taken.png"), "{error}");
    assert_eq!(std::fs::read(&path).unwrap(), b"old");
    assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 2, "nothing half written is left");
}

#[test]
fn a_viewport_message_holds_positions_exactly_and_orientations_to_15_bits() {
    let frame = frame(6, &[2, 3]);
    let bytes = wire(&frame, Thinning { one_particle_of: 4, coarse_meshes: 1 });
    let u32_at = |at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap());
    let f32_at = |at: usize| f32::from_le_bytes(bytes[at..at + 4].try_into().unwrap());
    assert_eq!(bytes.len(), 24 + 2 * 8 + 5 * 20);
    assert_eq!([0, 4, 8, 12, 16, 20, 24, 28].map(u32_at), [6, 4, 1, 2, 1, 2, 2, 3]);
    let second = 32 + 2 * 20;
    assert_eq!(f32_at(second + 12), frame.bodies[&Id(2)].positions[1].x);
    let w = i16::from_le_bytes(bytes[second + 36 + 6..second + 36 + 8].try_into().unwrap());
    assert!((f32::from(w) / 32767.0 - frame.bodies[&Id(2)].orientations[0].w).abs() < 2e-5);
}
