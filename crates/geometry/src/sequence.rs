//! A mesh that changes with time, as samples, and its shape at any moment.

use crate::{Mesh, Topology};
use glam::Vec3;
use shot::{BetweenFrames, BeyondEnd, FileAnimation};
use std::sync::Arc;

/// A mesh at one frame of a file.
#[derive(Clone, Debug)]
pub struct MeshSample {
    /// Frame of the file, from 0 on.
    pub frame: f64,
    /// Faces and attributes.
    pub topology: Arc<Topology>,
    /// Vertex positions, in the file's units.
    pub positions: Vec<Vec3>,
    /// Velocities, in the file's units a frame; empty where the file has none.
    pub velocities: Vec<Vec3>,
}

/// A mesh as samples, rising by frame; at least one.
#[derive(Clone, Debug)]
pub struct MeshSequence {
    samples: Vec<MeshSample>,
    /// Frames of the file a second.
    rate: f32,
    rest: Arc<Mesh>,
}

/// A mesh at a moment of its file.
#[derive(Clone, Debug)]
pub struct MovingMesh {
    /// Faces and attributes.
    pub topology: Arc<Topology>,
    /// Vertex positions, in the file's units.
    pub positions: Vec<Vec3>,
    /// Velocities, in the file's units a frame of the file.
    pub velocities: Vec<Vec3>,
}

impl MovingMesh {
    /// In metres and metres a second: `scale` is that from the file's units, and
    /// `frames_s` the frames of the file that go by in a second.
    #[must_use]
    pub fn scaled(mut self, scale: f32, frames_s: f32) -> Self {
        self.positions.iter_mut().for_each(|p| *p *= scale);
        self.velocities.iter_mut().for_each(|v| *v *= scale * frames_s);
        self
    }
}

impl MeshSequence {
    /// Of samples in the order of their frames; none if there are none, or two are of one frame.
    pub fn new(samples: Vec<MeshSample>, rate: f32) -> Option<Self> {
        let rising = samples.windows(2).all(|pair| pair[0].frame < pair[1].frame);
        let first = samples.first().filter(|_| rising)?;
        let rest = Arc::new(first.topology.mesh_at(first.positions.clone()));
        Some(Self { samples, rate, rest })
    }

    /// The samples.
    pub fn samples(&self) -> &[MeshSample] {
        &self.samples
    }

    /// Frames of the file a second.
    pub fn rate(&self) -> f32 {
        self.rate
    }

    /// The mesh of the first sample.
    pub fn rest(&self) -> &Arc<Mesh> {
        &self.rest
    }

    /// Frames from the first sample to the last.
    pub fn duration(&self) -> f64 {
        self.samples[self.samples.len() - 1].frame - self.samples[0].frame
    }

    /// Memory that the samples take, bytes.
    pub fn bytes(&self) -> usize {
        let vertices = |sample: &MeshSample| sample.positions.len() + sample.velocities.len();
        12 * self.samples.iter().map(vertices).sum::<usize>()
    }

    /// Whether the last sample is the first one again.
    fn ends_as_it_begins(&self) -> bool {
        let (first, last) = (&self.samples[0], &self.samples[self.samples.len() - 1]);
        self.samples.len() > 1 && first.topology == last.topology && first.positions == last.positions
    }

    /// Frames after which a repeated file begins anew: one more than those it
    /// has, unless its last is its first again.
    fn period(&self) -> f64 {
        let duration = self.duration();
        let gap = duration / (self.samples.len() as f64 - 1.0).max(1.0);
        if self.ends_as_it_begins() { duration } else { duration + gap }
    }

    /// The mesh at a frame that may lie beyond the file's ends, as
    /// [`shot::motion::Sampler::file_frame`] gives it.
    pub fn at(&self, frame: f64, animation: &FileAnimation) -> MovingMesh {
        let duration = self.duration();
        let inside = (0.0..=duration).contains(&frame);
        let beyond = match (frame < 0.0, animation.after) {
            (true, _) => animation.before,
            // A file that goes round has no ends within its range either.
            (false, BeyondEnd::Repeat) => BeyondEnd::Repeat,
            (false, _) if inside => BeyondEnd::Hold,
            (false, after) => after,
        };
        let start = self.samples[0].frame;
        match beyond {
            BeyondEnd::Hold => {
                let mut mesh = self.within(start + frame.clamp(0.0, duration), animation.between, None);
                if !inside {
                    mesh.velocities.fill(Vec3::ZERO);
                }
                mesh
            }
            _ if duration <= 0.0 => self.within(start, animation.between, None),
            BeyondEnd::Repeat => {
                let period = self.period();
                self.within(start + frame.rem_euclid(period), animation.between, Some(period))
            }
            BeyondEnd::BackAndForth => {
                let within = frame.rem_euclid(2.0 * duration);
                if within <= duration {
                    return self.within(start + within, animation.between, None);
                }
                let mut mesh = self.within(start + 2.0 * duration - within, animation.between, None);
                mesh.velocities.iter_mut().for_each(|v| *v = -*v);
                mesh
            }
        }
    }

    /// The mesh at a frame within the file, or within the gap from its last
    /// sample to its first if it repeats after `period`.
    fn within(&self, frame: f64, between: BetweenFrames, period: Option<f64>) -> MovingMesh {
        let n = self.samples.len() as i64;
        // Sample i of the file that goes on over its ends, and its frame.
        let at = |i: i64| -> Option<(&MeshSample, f64)> {
            match period {
                // Where the last sample is the first, that one is left out.
                Some(period) => {
                    let n = n - i64::from(self.ends_as_it_begins());
                    let sample = &self.samples[i.rem_euclid(n) as usize];
                    Some((sample, sample.frame + period * i.div_euclid(n) as f64))
                }
                None => (0..n).contains(&i).then(|| {
                    let sample = &self.samples[i as usize];
                    (sample, sample.frame)
                }),
            }
        };
        let i = self.samples.partition_point(|sample| sample.frame <= frame) as i64 - 1;
        let ((a, start), next) = (at(i.max(0)).expect("a sample"), at(i.max(0) + 1));
        let Some((b, end)) = next.filter(|(b, _)| b.topology == a.topology) else {
            return self.alone(a, (frame - start) as f32, at(i - 1));
        };
        let (span, t) = ((end - start) as f32, ((frame - start) / (end - start)) as f32);
        if between == BetweenFrames::Linear {
            let mix = |(a, b): (&Vec3, &Vec3)| a.lerp(*b, t);
            return MovingMesh {
                topology: a.topology.clone(),
                positions: a.positions.iter().zip(&b.positions).map(mix).collect(),
                velocities: a.positions.iter().zip(&b.positions).map(|(a, b)| (*b - *a) / span).collect(),
            };
        }
        let before = at(i - 1).filter(|(s, _)| s.topology == a.topology);
        let after = at(i + 2).filter(|(s, _)| s.topology == a.topology);
        let tangent =
            |sample: &MeshSample, from: Option<(&MeshSample, f64)>, to: Option<(&MeshSample, f64)>| {
                if sample.velocities.len() == sample.positions.len() {
                    return sample.velocities.clone();
                }
                let (from, to) = (from.unwrap_or((a, start)), to.unwrap_or((b, end)));
                let span = (to.1 - from.1) as f32;
                from.0.positions.iter().zip(&to.0.positions).map(|(p, q)| (*q - *p) / span).collect()
            };
        let (u, v) = (tangent(a, before, Some((b, end))), tangent(b, Some((a, start)), after));
        // Cubic Hermite; the tangents are those of the file, or of the samples around
        // (E. Catmull and R. Rom, *A class of local interpolating splines*, 1974).
        let (t2, t3) = (t * t, t * t * t);
        let weights = [2.0 * t3 - 3.0 * t2 + 1.0, t3 - 2.0 * t2 + t, t3 - t2];
        let slopes = [6.0 * (t2 - t), 3.0 * t2 - 4.0 * t + 1.0, 3.0 * t2 - 2.0 * t];
        let n = a.positions.len();
        let (mut positions, mut velocities) = (Vec::with_capacity(n), Vec::with_capacity(n));
        for i in 0..n {
            let (p, q, u, v) = (a.positions[i], b.positions[i], u[i] * span, v[i] * span);
            positions.push(q + (p - q) * weights[0] + u * weights[1] + v * weights[2]);
            velocities.push(((p - q) * slopes[0] + u * slopes[1] + v * slopes[2]) / span);
        }
        MovingMesh { topology: a.topology.clone(), positions, velocities }
    }

    /// A sample that has no next one of its topology, some frames on: its points
    /// go along the velocities of the file, if it has any.
    fn alone(&self, of: &MeshSample, frames: f32, before: Option<(&MeshSample, f64)>) -> MovingMesh {
        let mut mesh = MovingMesh {
            topology: of.topology.clone(),
            positions: of.positions.clone(),
            velocities: vec![Vec3::ZERO; of.positions.len()],
        };
        if of.velocities.len() == of.positions.len() {
            for (p, v) in mesh.positions.iter_mut().zip(&of.velocities) {
                *p += *v * frames;
            }
            mesh.velocities.clone_from(&of.velocities);
        } else if let Some((from, _)) = before.filter(|(s, at)| s.topology == of.topology && *at < of.frame) {
            let span = (of.frame - from.frame) as f32;
            let each = from.positions.iter().zip(&of.positions);
            mesh.velocities = each.map(|(p, q)| (*q - *p) / span).collect();
        }
        mesh
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive;
    use rstest::rstest;

    /// A box whose samples stand at the square of their frame, at these frames.
    fn squares(frames: &[f64]) -> MeshSequence {
        let mesh = primitive::cuboid(Vec3::ONE, 0.0);
        let topology = Arc::new(Topology::of(&mesh));
        let sample = |&frame: &f64| MeshSample {
            frame,
            topology: topology.clone(),
            positions: mesh.positions.iter().map(|p| *p + Vec3::X * (frame * frame) as f32).collect(),
            velocities: Vec::new(),
        };
        MeshSequence::new(frames.iter().map(sample).collect(), 24.0).unwrap()
    }

    /// Where the box stands along x, and how fast it goes there.
    fn x(mesh: &MovingMesh) -> (f32, f32) {
        let n = mesh.positions.len() as f32;
        (mesh.positions.iter().map(|p| p.x).sum::<f32>() / n, mesh.velocities[0].x)
    }

    fn animation(beyond: BeyondEnd, between: BetweenFrames) -> FileAnimation {
        FileAnimation { before: beyond, after: beyond, between, ..Default::default() }
    }

    #[test]
    fn between_samples_a_parabola_is_met_exactly() {
        let sequence = squares(&[0.0, 1.0, 2.0, 3.0, 4.0]);
        let (at, speed) = x(&sequence.at(2.25, &animation(BeyondEnd::Hold, BetweenFrames::Smooth)));
        assert!((at - 5.0625).abs() < 1e-5 && (speed - 4.5).abs() < 1e-4, "{at} {speed}");
        let (at, speed) = x(&sequence.at(2.25, &animation(BeyondEnd::Hold, BetweenFrames::Linear)));
        assert!((at - 5.25).abs() < 1e-5 && (speed - 5.0).abs() < 1e-4, "{at} {speed}");
    }

    #[rstest]
    #[case(BeyondEnd::Hold, -2.0, 0.0, 0.0)]
    #[case(BeyondEnd::Hold, 9.0, 4.0, 0.0)]
    #[case(BeyondEnd::BackAndForth, 3.0, 1.0, -3.0)]
    #[case(BeyondEnd::BackAndForth, -1.0, 1.0, -1.0)]
    #[case(BeyondEnd::BackAndForth, 5.0, 1.0, 1.0)]
    // After frame 2 comes frame 0 again, one frame later.
    #[case(BeyondEnd::Repeat, 4.0, 1.0, 3.0)]
    #[case(BeyondEnd::Repeat, 2.5, 2.0, -4.0)]
    #[case(BeyondEnd::Repeat, -0.5, 2.0, -4.0)]
    fn beyond_its_ends(#[case] beyond: BeyondEnd, #[case] frame: f64, #[case] at: f32, #[case] speed: f32) {
        let shown = x(&squares(&[0.0, 1.0, 2.0]).at(frame, &animation(beyond, BetweenFrames::Linear)));
        assert!((shown.0 - at).abs() < 1e-5, "{shown:?}");
        // At a sample the velocity is that of the piece after it.
        assert!((shown.1.abs() - speed.abs()).abs() < 1e-5 || frame.fract() == 0.0, "{shown:?}");
    }

    #[test]
    fn a_file_that_ends_as_it_begins_repeats_without_its_last_frame() {
        let mut sequence = squares(&[0.0, 1.0, 2.0]);
        let first = sequence.samples[0].positions.clone();
        sequence.samples[2].positions = first;
        let of = animation(BeyondEnd::Repeat, BetweenFrames::Smooth);
        for frame in [0.25, 0.5, 1.0, 1.75] {
            let (now, later) = (sequence.at(frame, &of), sequence.at(frame + 4.0, &of));
            assert!(now.positions.iter().zip(&later.positions).all(|(a, b)| a.distance(*b) < 1e-5));
        }
    }

    #[test]
    fn where_the_faces_change_points_go_along_their_velocity() {
        let mut sequence = squares(&[0.0, 1.0]);
        let other = primitive::sphere(1.0, 12);
        sequence.samples[1].topology = Arc::new(Topology::of(&other));
        sequence.samples[1].positions = other.positions;
        sequence.samples[0].velocities = vec![Vec3::Y; sequence.samples[0].positions.len()];
        let shown = sequence.at(0.5, &animation(BeyondEnd::Hold, BetweenFrames::Smooth));
        let low = shown.positions.iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
        assert!(low.abs() < 1e-6 && shown.velocities[0] == Vec3::Y, "{low}");
        assert_eq!(sequence.at(1.0, &FileAnimation::default()).topology, sequence.samples[1].topology);
    }

    #[test]
    fn a_single_sample_stands_whatever_comes_after_it() {
        let sequence = squares(&[0.0]);
        for beyond in [BeyondEnd::Hold, BeyondEnd::Repeat, BeyondEnd::BackAndForth] {
            let shown = x(&sequence.at(3.5, &animation(beyond, BetweenFrames::Smooth)));
            assert_eq!((shown.0.abs() < 1e-6, shown.1), (true, 0.0));
        }
    }
}
