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

/// Cuts at all frames, which takes minutes, instead of a few.
const EVERY_CUT: &str = "BRIGHT_RIPPLE_EVERY_CUT";

/// The frames after which a shot is cut: a few, other ones each day, or all.
fn cuts(shot: &Shot) -> Vec<u32> {
    let timing = shot.timing;
    if std::env::var_os(EVERY_CUT).is_some() {
        return (timing.first..timing.last).collect();
    }
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    let today = now.as_secs() / 86_400;
    // Liquids take long: they are cut early.
    let flows = shot.particles().any(|(_, particles)| particles.liquid.is_some());
    let among = u64::from(timing.count().min(if flows { 24 } else { 56 }) - 4);
    [1, 2].map(|i| timing.first + ((today * 7 * i + 5 * i) % among) as u32).to_vec()
}

#[rstest]
fn a_sample_cut_anywhere_goes_on_with_the_same_bytes(
    #[values(
        "Crate tumble",
        "Squall test",
        "Float toss",
        "Lantern parade",
        "Brazier sparks",
        "Scale shower",
        "Ember fall",
        "Gull scatter",
        "Jar of light",
        "Slow toss",
        "Lantern loop",
        "Quay flags",
        "Awning gust",
        "Dumpling spill",
        "Sail reveal",
        "Fender squeeze",
        "Net drop",
        "Drying cloths",
        "Basin shimmer",
        "Bait bag",
        "Brine spill",
        "Broth pour",
        "Barge wash",
        "Honey glaze",
        "Wax mark"
    )]
    name: &str,
) {
    assert_eq!(demo::names().len(), 25, "every sample is cut");
    let (dir, shot) = sample(name);
    let meshes = Loader::default().meshes(dir.path(), &shot).unwrap();
    let (first, cuts) = (shot.timing.first, cuts(&shot));
    let last = (cuts.iter().max().unwrap() + 3).min(shot.timing.last);
    let mut whole = Simulation::new(&shot, &meshes).unwrap();
    let mut frames = vec![encode(&whole.write())];
    let mut saved = Vec::new();
    while whole.frame() < last {
        if cuts.contains(&whole.frame()) {
            saved.push((whole.frame(), whole.save()));
        }
        frames.push(encode(&whole.advance().unwrap()));
    }
    for (cut, state) in saved {
        let mut resumed = Simulation::restored(&shot, &meshes, &state).unwrap();
        for number in cut + 1..=(cut + 3).min(last) {
            let same = encode(&resumed.advance().unwrap()) == frames[(number - first) as usize];
            assert!(same, "cut after frame {cut}, differs at {number}");
        }
    }
}
