//! What a frame of a run depends on, as one number a frame.

use crate::{Is, Moves, Shape, Shot};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// A number that changes when anything changes that a frame depends on.
///
/// Frame *n* of a run is fresh if and only if it was written with the
/// fingerprint that [`fingerprints`] gives for frame *n* of the shot as it is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Fingerprint(pub [u8; 16]);

/// The fingerprint of every frame of the shot, first to last.
///
/// Each is the hash of the one before and of what acts between the two frames,
/// so a key at frame 40 leaves the fingerprints before it as they were. Names,
/// looks, lights, cameras and the length of the shot leave all as they were.
pub fn fingerprints(shot: &Shot) -> Vec<Fingerprint> {
    let mut hash = Sha256::new();
    hash.update(b"bright-ripple solids 1");
    hash.update(still_inputs(shot).to_string());
    let mut state: [u8; 32] = hash.finalize().into();
    let animated: Vec<_> = shot.solids().filter(|(_, solid)| solid.body.moves == Moves::Animated).collect();
    let substeps = shot.physics.substeps;
    shot.timing
        .frames()
        .map(|frame| {
            let mut hash = Sha256::new();
            hash.update(state);
            for (element, solid) in &animated {
                let let_go = solid.body.let_go_frame.filter(|&let_go| let_go < frame);
                hash.update([u8::from(let_go.is_some())]);
                let steps: Vec<f64> = match let_go {
                    Some(let_go) if let_go + 1 == frame => {
                        let launch = (solid.body.launch_velocity, solid.body.launch_spin);
                        hash.update(format!("{launch:?}"));
                        vec![f64::from(let_go) - LET_GO_DELTA, f64::from(let_go)]
                    }
                    Some(_) => continue,
                    None => (0..substeps)
                        .map(|step| f64::from(frame) - f64::from(step) / f64::from(substeps))
                        .collect(),
                };
                for at in steps {
                    let (place, turn) = element.placement.sample(at);
                    for value in place.to_array().into_iter().chain(turn.to_array()) {
                        hash.update(value.to_le_bytes());
                    }
                }
            }
            state = hash.finalize().into();
            Fingerprint(state[..16].try_into().expect("16 of 32 bytes"))
        })
        .collect()
}

/// Frames before a let-go over which the body's own velocity is measured.
pub const LET_GO_DELTA: f64 = 1.0 / 64.0;

/// All that acts from the first frame on.
fn still_inputs(shot: &Shot) -> serde_json::Value {
    let solids: Vec<_> = shot
        .solids()
        .map(|(element, solid)| {
            let mut body = solid.body.clone();
            let animated = body.moves == Moves::Animated;
            if animated {
                (body.let_go_frame, body.launch_velocity, body.launch_spin) = (None, None, None);
            }
            let placement = (!animated).then(|| element.placement.sample(f64::from(shot.timing.first)));
            let asset = match &solid.shape {
                Shape::Mesh { asset, .. } => shot.assets.get(asset).map(|asset| &asset.sha256),
                _ => None,
            };
            serde_json::json!([element.id, solid.shape, asset, solid.copies, body, placement])
        })
        .collect();
    let (fps, first, substeps) = (shot.timing.fps, shot.timing.first, shot.physics.substeps);
    serde_json::json!([fps, first, substeps, shot.physics.world_m, shot.gravity(), solids])
}

/// One difference between two states of a shot.
enum Change {
    /// A value, such as `friction of Crate stack`.
    Value(String),
    /// An element, by name.
    Added(String),
    Deleted(String),
}

/// What of the simulation's inputs differs between two states of a shot, in
/// words: `friction of Crate stack`, `Net floats added`.
pub fn what_changed(before: &Shot, now: &Shot) -> Vec<String> {
    let words = |change| match change {
        Change::Value(words) => words,
        Change::Added(name) => format!("{name} added"),
        Change::Deleted(name) => format!("{name} deleted"),
    };
    changes(before, now).into_iter().map(words).collect()
}

/// Why frames computed from `before` are stale, in words for the Score: `before
/// friction of Crate stack changed`. None if nothing differs.
pub fn why_stale(before: &Shot, now: &Shot) -> Option<String> {
    Some(match changes(before, now).as_slice() {
        [] => return None,
        [Change::Value(words)] => format!("before {words} changed"),
        [Change::Added(name)] => format!("before {name} was added"),
        [Change::Deleted(name)] => format!("before {name} was deleted"),
        [_, rest @ ..] => format!("before {} and {} more changed", what_changed(before, now)[0], rest.len()),
    })
}

fn changes(before: &Shot, now: &Shot) -> Vec<Change> {
    let mut changes = Vec::new();
    if before.timing.fps != now.timing.fps {
        changes.push(Change::Value("frame rate".to_owned()));
    }
    if before.timing.first != now.timing.first {
        changes.push(Change::Value("first frame".to_owned()));
    }
    if before.physics.substeps != now.physics.substeps {
        changes.push(Change::Value("substeps".to_owned()));
    }
    if before.physics.world_m != now.physics.world_m {
        changes.push(Change::Value("world size".to_owned()));
    }
    if before.gravity() != now.gravity() {
        changes.push(Change::Value("gravity".to_owned()));
    }
    for (element, solid) in now.solids() {
        let Some(old) = before.element(element.id) else {
            changes.push(Change::Added(element.name.clone()));
            continue;
        };
        let Is::Solid(old_solid) = &old.is else { continue };
        let mut say = |changed: bool, what: &str| {
            if changed {
                changes.push(Change::Value(format!("{what} of {}", element.name)));
            }
        };
        say(old.placement.place_m != element.placement.place_m, "place");
        say(old.placement.turn_rad != element.placement.turn_rad, "turn");
        let file = |shot: &Shot, solid: &crate::Solid| match &solid.shape {
            Shape::Mesh { asset, .. } => shot.assets.get(asset).map(|asset| asset.sha256.clone()),
            _ => None,
        };
        say(old_solid.shape != solid.shape || file(before, old_solid) != file(now, solid), "shape");
        say(old_solid.copies != solid.copies, "copies");
        let (a, b) = (&old_solid.body, &solid.body);
        say(a.moves != b.moves, "movement");
        say(a.let_go_frame != b.let_go_frame, "let-go");
        say(a.collision != b.collision, "collision shape");
        say(a.weight != b.weight, "weight");
        say(a.friction != b.friction, "friction");
        say(a.bounce != b.bounce, "bounce");
        say(a.margin_m != b.margin_m, "margin");
        say(a.launch_velocity != b.launch_velocity, "launch velocity");
        say(a.launch_spin != b.launch_spin, "launch spin");
    }
    for (element, _) in before.solids() {
        if now.element(element.id).is_none() {
            changes.push(Change::Deleted(element.name.clone()));
        }
    }
    changes
}
