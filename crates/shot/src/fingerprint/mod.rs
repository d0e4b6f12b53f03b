//! What a frame of a run depends on, as one number a frame.

mod digests;
mod inputs;

use crate::{Shot, SystemId, motion::Sampler};
use inputs::{Inputs, SystemInputs, first_inputs};
pub use inputs::{LET_GO_DELTA, steps_of};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// A number that changes when anything changes that a frame depends on.
///
/// Frame *n* of a run is fresh if and only if it was written with the
/// fingerprint that [`fingerprints`] gives for frame *n* of the shot as it is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Fingerprint(pub [u8; 16]);

impl Fingerprint {
    /// A fingerprint from its 32 hexadecimal digits, as it is displayed.
    pub fn parse(text: &str) -> Option<Self> {
        let digits = text.len() == 32 && text.bytes().all(|b| b.is_ascii_hexdigit());
        let value = u128::from_str_radix(text, 16).ok().filter(|_| digits)?;
        Some(Self(value.to_be_bytes()))
    }
}

impl std::fmt::Display for Fingerprint {
    fn fmt(&self, to: &mut std::fmt::Formatter) -> std::fmt::Result {
        self.0.iter().try_for_each(|byte| write!(to, "{byte:02x}"))
    }
}

/// The fingerprints of one system at every frame of a shot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SystemFingerprints {
    /// The system.
    pub system: SystemId,
    /// Of each frame, first to last; none: there is nothing of the system yet.
    pub list: Vec<Option<Fingerprint>>,
}

/// The fingerprint of a whole frame, from those of its systems.
pub fn combined(parts: impl IntoIterator<Item = (SystemId, Fingerprint)>) -> Fingerprint {
    let mut hash = Sha256::new();
    for (system, print) in parts {
        hash.update(system.to_string());
        hash.update(print.0);
    }
    short(hash.finalize().into())
}

/// The fingerprint of every whole frame of the shot, first to last: [`combined`]
/// from [`system_fingerprints`].
pub fn fingerprints(shot: &Shot) -> Vec<Fingerprint> {
    let systems = system_fingerprints(shot);
    let frames = systems.first().map_or(0, |system| system.list.len());
    let at = |frame: usize| systems.iter().filter_map(move |of| Some((of.system, of.list[frame]?)));
    (0..frames).map(|frame| combined(at(frame))).collect()
}

/// The fingerprints of every system of the shot, in the order of [`Shot::systems`].
///
/// Each is the hash of the one before and of what acts on the system between the
/// two frames, so a key at frame 40 leaves the fingerprints before it as they were,
/// and so does a force that acts from frame 60 on. What acts on one system only, or
/// changes in it, leaves those of the others, unless they read it. Names, looks,
/// lights, cameras and the length of the shot leave all as they were. A shot with
/// faults has none.
pub fn system_fingerprints(shot: &Shot) -> Vec<SystemFingerprints> {
    let Ok(sampler) = Sampler::new(shot) else { return Vec::new() };
    let first = f64::from(shot.timing.first);
    let mut now = shot.clone();
    // A formula that fails has the same fingerprint as long as it fails.
    let _ = sampler.apply(&mut now, first);
    let inputs = Inputs::new(&now, &sampler);
    let first_inputs = first_inputs(&now, &sampler).to_string();
    let mut chains: Vec<Chain> = inputs.systems.iter().map(|_| Chain::default()).collect();
    for i in 0..chains.len() {
        let reads = read(&inputs, &chains, i);
        let hash = inputs.begins(i, &now).then(|| {
            let mut hash = inputs.start(i, &now, &first_inputs);
            inputs.add_preroll(&mut hash, i, &mut now);
            hash
        });
        chains[i].push(hash, &reads);
    }
    for frame in shot.timing.first..shot.timing.last {
        let acts = inputs.frame(&mut now, frame);
        for (i, act) in acts.into_iter().enumerate() {
            let fresh = match (chains[i].state, act.begun) {
                (None, false) => None,
                (None, true) => Some(inputs.start(i, &now, &first_inputs)),
                (Some(state), _) => Some(Sha256::new_with_prefix(state)),
            };
            let hash = fresh.map(|mut hash| {
                hash.update(act.hash.finalize());
                hash
            });
            let reads = read(&inputs, &chains, i);
            chains[i].push(hash, &reads);
        }
    }
    let system = |(of, chain): (&SystemInputs, Chain)| SystemFingerprints { system: of.id, list: chain.list };
    inputs.systems.iter().zip(chains).map(system).collect()
}

/// The states of the systems that one reads.
fn read(inputs: &Inputs, chains: &[Chain], system: usize) -> Vec<[u8; 32]> {
    inputs.systems[system].reads.iter().filter_map(|read| chains[*read].state).collect()
}

/// The fingerprints of a system as they come.
#[derive(Default)]
struct Chain {
    state: Option<[u8; 32]>,
    list: Vec<Option<Fingerprint>>,
}

impl Chain {
    /// Adds that of the next frame; `reads`: the states of the systems that are read, at that frame.
    fn push(&mut self, hash: Option<Sha256>, reads: &[[u8; 32]]) {
        self.state = hash.map(|mut hash| {
            reads.iter().for_each(|state| hash.update(state));
            hash.finalize().into()
        });
        self.list.push(self.state.map(short));
    }
}

fn short(state: [u8; 32]) -> Fingerprint {
    Fingerprint(state[..16].try_into().expect("16 of 32 bytes"))
}
