//! Animation of nodes and of morph targets: the scene at moments in time.

use super::pose::{NodePose, ScenePose};
use super::{Gltf, container::whole, material::Materials, scene};
use crate::samples::{GroupedMesh, ImportedSequence, Samples};
use crate::{ImportError, Model};
use glam::{Quat, Vec3, Vec4};
use serde_json::Value;
use std::collections::HashMap;

/// Most channels of an animation, and keys of all of them.
const MAX_CHANNELS: usize = 10_000;
const MAX_KEYS: usize = 4_000_000;
/// Rates at which keys are sampled, frames a second.
const RATES: [f64; 2] = [24.0, 120.0];
/// Longest animation, s.
const MAX_S: f64 = 600.0;

#[derive(Clone, Copy, Debug, PartialEq)]
enum Interpolation {
    Step,
    Linear,
    Cubic,
}

/// Values over time, `width` numbers each.
struct Track {
    times: Vec<f64>,
    values: Vec<f32>,
    width: usize,
    interpolation: Interpolation,
}

/// The tracks of one node.
#[derive(Default)]
struct NodeTracks {
    translation: Option<Track>,
    rotation: Option<Track>,
    scale: Option<Track>,
    weights: Option<Track>,
}

/// The first animation of a file.
pub(super) struct Animation {
    nodes: HashMap<u64, NodeTracks>,
}

/// Whether a file has an animation of nodes or morph targets.
pub(crate) fn is_animated(bytes: &[u8]) -> bool {
    Gltf::new(bytes).is_ok_and(|gltf| {
        gltf.list("animations").iter().any(|a| a["channels"].as_array().is_some_and(|list| !list.is_empty()))
    })
}

/// Reads the scene at each frame of the file's first animation.
pub(crate) fn read_animation(name: &str, bytes: &[u8]) -> Result<ImportedSequence, ImportError> {
    let fail = |message: String| ImportError::file(name, message);
    let gltf = Gltf::new(bytes).map_err(fail)?;
    let animation = Animation::read(&gltf).map_err(fail)?;
    let (duration, rate) = (animation.duration(), animation.rate());
    if duration > MAX_S {
        return Err(fail(format!("its animation is {duration:.0} s long; at most {MAX_S:.0}")));
    }
    let mut notices = Vec::new();
    let count = gltf.list("animations").len();
    if count > 1 {
        notices.push(format!("{name}: of its {count} animations the first was taken."));
    }
    if !gltf.list("skins").is_empty() {
        notices.push(format!("{name}: skins are not read; what they bend stays stiff."));
    }
    let mut samples = Samples::new(name);
    let frames = (duration * rate).round().max(1.0) as u32;
    for frame in 0..=frames {
        let at = (f64::from(frame) / rate).min(duration);
        let mut materials = Materials::new(&gltf, false);
        let parts = scene::parts(&gltf, &mut materials, &animation.pose(at)).map_err(fail)?;
        let mut mesh = Model { parts, ..Model::default() }.merged();
        // Normals are those of the faces, which turn as the vertices move.
        mesh.normals.clear();
        let grouped = GroupedMesh { mesh, ..GroupedMesh::default() };
        samples
            .push(f64::from(frame), grouped)
            .map_err(|message| fail(format!("frame {frame}: {message}")))?;
    }
    samples.finish(rate as f32, notices)
}

impl Animation {
    fn read(gltf: &Gltf) -> Result<Self, String> {
        let animation = gltf.list("animations").first().ok_or("has no animation")?;
        let channels = animation["channels"].as_array().map_or(&[][..], Vec::as_slice);
        if channels.len() > MAX_CHANNELS {
            return Err(format!("has {} channels in an animation; at most {MAX_CHANNELS}", channels.len()));
        }
        let (mut nodes, mut keys): (HashMap<u64, NodeTracks>, usize) = (HashMap::new(), 0);
        for channel in channels {
            // A channel without a node belongs to an extension.
            let Some(node) = channel["target"]["node"].as_u64() else { continue };
            let sampler = whole(&channel["sampler"]).and_then(|i| animation["samplers"].get(i));
            let sampler = sampler.ok_or("has a channel whose sampler is not there")?;
            let tracks = nodes.entry(node).or_default();
            let (place, components) = match channel["target"]["path"].as_str() {
                Some("translation") => (&mut tracks.translation, 3),
                Some("rotation") => (&mut tracks.rotation, 4),
                Some("scale") => (&mut tracks.scale, 3),
                Some("weights") => (&mut tracks.weights, 1),
                _ => continue,
            };
            let track = Track::read(gltf, sampler, components)?;
            keys += track.times.len();
            if keys > MAX_KEYS {
                return Err(format!("has more than {MAX_KEYS} keys"));
            }
            *place = Some(track);
        }
        Ok(Self { nodes })
    }

    fn tracks(&self) -> impl Iterator<Item = &Track> {
        self.nodes.values().flat_map(|tracks| {
            [&tracks.translation, &tracks.rotation, &tracks.scale, &tracks.weights].into_iter().flatten()
        })
    }

    fn duration(&self) -> f64 {
        self.tracks().filter_map(|track| track.times.last().copied()).fold(0.0, f64::max)
    }

    /// Frames a second in which every key has a frame of its own, within bounds.
    fn rate(&self) -> f64 {
        let gaps = self.tracks().flat_map(|track| track.times.windows(2).map(|pair| pair[1] - pair[0]));
        let least = gaps.filter(|gap| *gap > 1e-6).fold(f64::INFINITY, f64::min);
        (1.0 / least).round().clamp(RATES[0], RATES[1])
    }

    fn pose(&self, time: f64) -> ScenePose {
        let vector =
            |track: &Option<Track>| track.as_ref().map(|track| Vec3::from_slice(&track.at(time, false)));
        let pose = |tracks: &NodeTracks| NodePose {
            translation: vector(&tracks.translation),
            rotation: tracks.rotation.as_ref().map(|track| {
                let q = Vec4::from_slice(&track.at(time, true)).normalize_or(Vec4::W);
                Quat::from_vec4(q)
            }),
            scale: vector(&tracks.scale),
            weights: tracks.weights.as_ref().map(|track| track.at(time, false)),
        };
        ScenePose::new(self.nodes.iter().map(|(node, tracks)| (*node, pose(tracks))).collect())
    }
}

impl Track {
    fn read(gltf: &Gltf, sampler: &Value, components: usize) -> Result<Self, String> {
        let index = |key: &str| sampler[key].as_u64().ok_or_else(|| format!("has a sampler without {key}"));
        let times = gltf.accessor(index("input")?, &[1])?;
        let rising = times.windows(2).all(|pair| pair[0] <= pair[1]);
        if times.is_empty() || !rising || times.iter().any(|time| !time.is_finite() || *time < 0.0) {
            return Err("has an animation whose times do not rise".to_owned());
        }
        let values: Vec<f32> =
            gltf.accessor(index("output")?, &[components])?.into_iter().map(|v| v as f32).collect();
        if values.iter().any(|value| !value.is_finite()) {
            return Err("has an animation with a value that is not finite".to_owned());
        }
        let interpolation = match sampler["interpolation"].as_str() {
            Some("STEP") => Interpolation::Step,
            Some("CUBICSPLINE") => Interpolation::Cubic,
            _ => Interpolation::Linear,
        };
        let each = times.len() * if interpolation == Interpolation::Cubic { 3 } else { 1 };
        let width = values.len() / each;
        let fits =
            width * each == values.len() && if components == 1 { width > 0 } else { width == components };
        if !fits {
            return Err("has an animation with another number of values than of times".to_owned());
        }
        Ok(Self { times, values, width, interpolation })
    }

    /// The `part`-th tangent or value of a key: of a cubic spline they are the
    /// tangent that comes in, the value, and the tangent that goes out.
    fn key(&self, i: usize, part: usize) -> &[f32] {
        let at = match self.interpolation {
            Interpolation::Cubic => 3 * i + part,
            _ => i,
        };
        &self.values[at * self.width..][..self.width]
    }

    fn at(&self, time: f64, turns: bool) -> Vec<f32> {
        // Times are f32 in the file: a key is not missed by their rounding.
        let after = self.times.partition_point(|at| *at <= time + 1e-6);
        if after == 0 {
            return self.key(0, 1).to_vec();
        }
        let i = after - 1;
        if after == self.times.len() || self.interpolation == Interpolation::Step {
            return self.key(i, 1).to_vec();
        }
        let span = (self.times[after] - self.times[i]) as f32;
        let t = ((time - self.times[i]) as f32 / span).max(0.0);
        let (from, to) = (self.key(i, 1), self.key(after, 1));
        if self.interpolation == Interpolation::Cubic {
            let (out, into) = (self.key(i, 2), self.key(after, 0));
            let (t2, t3) = (t * t, t * t * t);
            let mix = |k: usize| {
                (2.0 * t3 - 3.0 * t2 + 1.0) * from[k]
                    + (t3 - 2.0 * t2 + t) * span * out[k]
                    + (3.0 * t2 - 2.0 * t3) * to[k]
                    + (t3 - t2) * span * into[k]
            };
            return (0..self.width).map(mix).collect();
        }
        if turns {
            let quat = |q: &[f32]| Quat::from_slice(q).normalize();
            return quat(from).slerp(quat(to), t).to_array().to_vec();
        }
        from.iter().zip(to).map(|(a, b)| a + (b - a) * t).collect()
    }
}
