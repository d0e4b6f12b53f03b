//! The sample shots: each bakes, and goes on from any frame as if it had never stopped.

use frames::encode;
use rstest::rstest;
use shot::Shot;
use simulate::Simulation;
use studio::assets::Loader;
use studio::demo;

fn sample(name: &str) -> (tempfile::TempDir, Shot) {
    let dir = tempfile::tempdir().unwrap();
    demo::write(name, dir.path()).unwrap();
    let shot = shot::read(&std::fs::read(dir.path().join("shot.json")).unwrap()).unwrap();
    (dir, shot)
}

/// A few cuts, other ones each day; `cargo xtask validate` makes all.
#[rstest]
fn a_sample_cut_at_random_goes_on_with_the_same_bytes(
    #[values(
        "Crate tumble",
        "Squall test",
        "Float toss",
        "Lantern parade",
        "Brazier sparks",
        "Scale shower",
        "Ember fall",
        "Gull scatter",
        "Jar of light"
    )]
    name: &str,
) {
    assert_eq!(demo::names().len(), 9, "every sample is cut");
    let (dir, shot) = sample(name);
    let meshes = Loader::default().meshes(dir.path(), &shot).unwrap();
    let today =
        std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() / 86_400;
    let count = shot.timing.count().min(56);
    let cuts = [1, 2].map(|i| shot.timing.first + ((today * 7 * i + 5 * i) % u64::from(count - 4)) as u32);
    let last = cuts.into_iter().max().unwrap() + 3;
    let mut whole = Simulation::new(&shot, &meshes).unwrap();
    let (mut frames, mut states) = (vec![encode(&whole.write())], vec![whole.save()]);
    while whole.frame() < last {
        frames.push(encode(&whole.advance().unwrap()));
        states.push(if cuts.contains(&whole.frame()) { whole.save() } else { Vec::new() });
    }
    for cut in cuts {
        let at = (cut - shot.timing.first) as usize;
        let mut resumed = Simulation::restored(&shot, &meshes, &states[at]).unwrap();
        for i in at + 1..=at + 3 {
            assert!(encode(&resumed.advance().unwrap()) == frames[i], "cut after frame {cut}, at {i}");
        }
    }
}
