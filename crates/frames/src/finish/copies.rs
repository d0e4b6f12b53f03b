//! Copies: shows the frames once for each copy of a grid, each copy at a time of its own.

use super::transform::{MovingTransform, Transform};
use super::{FinishContext, SharedFrames, digest, sign};
use crate::{Bodies, Frame, Frames, MeshState, Particles, Parts, RunError, topologies};
use geometry::{Topology, topology::joined_attributes};
use glam::{Quat, Vec3};
use shot::{Element, Id, MAX_BODIES, fingerprint::Fingerprint, finish::FinishOperation};
use std::collections::{BTreeMap, btree_map::Entry};
use std::ops::RangeInclusive;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

/// Most vertices and most particles of a frame with all copies.
const MAX_VERTICES: usize = 8_000_000;
const MAX_PARTICLES: usize = 8_000_000;

pub(super) struct Copies {
    source: SharedFrames,
    step: Id,
    /// Position of the element at the first frame: the copies are placed and turned about it.
    about: Vec3,
    context: Arc<FinishContext>,
}

/// A copy at a frame.
struct CopyAt {
    /// The source's frame that it shows, and whether it stands there: before the first frame or
    /// after the last.
    frame: u32,
    held: bool,
    transform: MovingTransform,
}

impl Copies {
    /// The step over its source.
    ///
    /// # Errors
    /// Why it cannot be taken.
    pub fn new(source: SharedFrames, step: &Element, context: &Arc<FinishContext>) -> Result<Self, String> {
        let element = step.as_finish().and_then(|finish| finish.element);
        let first = *source.range().start();
        let about = element.map_or(Vec3::ZERO, |id| context.pose(id, f64::from(first)).0);
        let this = Self { source, step: step.id, about, context: context.clone() };
        // Too many copies are told on the step's row, if there is a frame to count with.
        let mut frame = Frame::default();
        let parts = element.map_or(Parts::All, Parts::Element);
        if this.source.read(first, &parts, &mut frame).is_ok() {
            let copies = this.copies(first).len();
            let mut all = Size::default();
            for id in frame.bodies.keys().chain(frame.particles.keys()) {
                let of = Size::of(&frame, *id).times(copies);
                of.check(" of an element")?;
                all = all.with(of);
            }
            all.check("")?;
        }
        Ok(this)
    }

    fn transforms(&self, frame: f64) -> Vec<Transform> {
        let of = |((position, angle), scale)| Transform {
            position,
            orientation: Quat::from_rotation_y(angle),
            scale,
            about: self.about,
        };
        match self.operation(frame) {
            Some(FinishOperation::Copies { grid, size_variation, .. }) => {
                grid.offsets().zip(grid.sizes(size_variation)).map(of).collect()
            }
            _ => Vec::new(),
        }
    }

    fn operation(&self, frame: f64) -> Option<FinishOperation> {
        self.context.step_at(self.step, frame, |operation, _| operation.clone())
    }

    /// The numbers by which copies show earlier frames, copy by copy.
    fn delays(&self, number: u32) -> Vec<i64> {
        match self.operation(f64::from(number)) {
            Some(FinishOperation::Copies { grid, delay_frames, delay_jitter_frames, .. }) => {
                grid.delays(delay_frames, delay_jitter_frames).collect()
            }
            _ => Vec::new(),
        }
    }

    fn copies(&self, number: u32) -> Vec<CopyAt> {
        let at = f64::from(number);
        let delays = self.delays(number);
        let (now, before, after) =
            (self.transforms(at), self.transforms(at - 0.5), self.transforms(at + 0.5));
        let range = self.source.range();
        let copy = |(i, delay): (usize, i64)| {
            let wanted = i64::from(number) - delay;
            let inside = i64::from(*range.start())..=i64::from(*range.end());
            Some(CopyAt {
                frame: self.source.at(wanted),
                held: !self.source.repeats() && !inside.contains(&wanted),
                transform: MovingTransform {
                    now: *now.get(i)?,
                    before: *before.get(i)?,
                    after: *after.get(i)?,
                    fps: self.context.shot().timing.fps,
                },
            })
        };
        delays.into_iter().enumerate().filter_map(copy).collect()
    }
}

/// How much a frame or a part of one holds.
#[derive(Clone, Copy, Default)]
struct Size {
    bodies: usize,
    vertices: usize,
    particles: usize,
}

impl Size {
    /// Of the part of an element; the mesh of several bodies counts for each.
    fn of(frame: &Frame, id: Id) -> Self {
        let bodies = frame.bodies.get(&id).map_or(0, Bodies::len);
        let vertices = frame.meshes.get(&id).map_or(0, |mesh| mesh.positions.len());
        Self { bodies, vertices: bodies * vertices, particles: frame.particles_of(id).len() }
    }

    fn with(self, other: Self) -> Self {
        Self {
            bodies: self.bodies + other.bodies,
            vertices: self.vertices + other.vertices,
            particles: self.particles + other.particles,
        }
    }

    fn times(self, copies: usize) -> Self {
        Self {
            bodies: self.bodies * copies,
            vertices: self.vertices * copies,
            particles: self.particles * copies,
        }
    }

    /// Whether it is within what a frame may hold; `of` says of what it is.
    fn check(self, of: &str) -> Result<(), String> {
        let kinds = [
            ("bodies", self.bodies, MAX_BODIES),
            ("vertices", self.vertices, MAX_VERTICES),
            ("particles", self.particles, MAX_PARTICLES),
        ];
        match kinds.into_iter().find(|(_, count, most)| count > most) {
            None => Ok(()),
            Some((what, count, most)) => Err(format!("would give {count} {what}{of}; at most {most}")),
        }
    }
}

impl Frames for Copies {
    fn range(&self) -> RangeInclusive<u32> {
        self.source.range()
    }

    fn repeats(&self) -> bool {
        self.source.repeats()
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        // All that copies show follows from the operation around this frame and the source's range.
        let around = [-0.5, 0.0, 0.5].map(|by| self.operation(f64::from(number) + by));
        let range = (*self.range().start(), *self.range().end(), self.repeats());
        let delays = self.delays(number);
        let mut frames: Vec<u32> =
            delays.iter().map(|delay| self.source.at(i64::from(number) - delay)).collect();
        frames.sort_unstable();
        frames.dedup();
        let prints: Vec<_> = frames.iter().map(|frame| self.source.fingerprint(*frame)).collect();
        digest("copies", &(number, around, self.about.to_array(), range), &prints)
    }

    fn read(&self, number: u32, parts: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        let copies = self.copies(number);
        let mut sources: BTreeMap<u32, Frame> = BTreeMap::new();
        // What is measured stays that of the frame with this number, where one shows it.
        self.source.read(self.source.at(i64::from(number)), parts, frame)?;
        // As many copies as a frame may hold: later frames may hold more than the first.
        let (mut size, mut shown) = (Size::default(), 0);
        for copy in &copies {
            if let Entry::Vacant(entry) = sources.entry(copy.frame) {
                let mut of = Frame::default();
                self.source.read(copy.frame, parts, &mut of)?;
                entry.insert(of);
            }
            let of = &sources[&copy.frame];
            let ids = of.bodies.keys().chain(of.particles.keys());
            size = ids.fold(size, |size, id| size.with(Size::of(of, *id)));
            if size.check("").is_err() {
                break;
            }
            shown += 1;
        }
        let mut all: Vec<CopyParts> = Vec::with_capacity(shown);
        for copy in &copies[..shown] {
            let source = &sources[&copy.frame];
            let mut own = Frame {
                bodies: source.bodies.clone(),
                particles: source.particles.clone(),
                ..Frame::default()
            };
            if copy.held {
                own.scale_velocities(0.0);
                own.drop_impacts();
            }
            for (id, bodies) in &mut own.bodies {
                copy.transform.bodies(bodies, self.context.centre(*id));
            }
            own.particles.values_mut().for_each(|particles| copy.transform.particles(particles));
            all.push(CopyParts { own, meshes: &source.meshes, rate: if copy.held { 0.0 } else { 1.0 } });
        }
        let ids = |of: fn(&Frame) -> Vec<Id>| {
            let mut ids: Vec<Id> = sources.values().flat_map(of).collect();
            ids.sort_unstable();
            ids.dedup();
            ids
        };
        (frame.bodies, frame.particles, frame.meshes) = Default::default();
        for id in ids(|of| of.bodies.keys().copied().collect()) {
            if let Some(mesh) = mesh(&all, id, self.context.centre(id)) {
                frame.meshes.insert(id, mesh);
                // The mesh lies in the world's coordinates.
                let mut body = Bodies::default();
                body.push(Vec3::ZERO, Quat::IDENTITY, Vec3::ZERO, Vec3::ZERO);
                frame.bodies.insert(id, body);
            } else {
                frame.bodies.insert(id, bodies(&all, id));
            }
        }
        for id in ids(|of| of.particles.keys().copied().collect()) {
            frame.particles.insert(id, particles(&all, id));
        }
        sign(self, &self.context, number, frame)
    }
}

/// What a copy shows.
struct CopyParts<'a> {
    /// Bodies and particles, where the copy has them.
    own: Frame,
    /// Meshes against the bodies.
    meshes: &'a BTreeMap<Id, MeshState>,
    /// Factor of the meshes' velocities: 0 where the copy stands.
    rate: f32,
}

/// The bodies of an element in all copies, copy by copy.
fn bodies(copies: &[CopyParts], id: Id) -> Bodies {
    let mut all = Bodies::default();
    for of in copies.iter().filter_map(|copy| copy.own.bodies.get(&id)) {
        let before = all.len();
        if !(all.scales.is_empty() && of.scales.is_empty()) {
            all.scales.resize(before, 1.0);
            all.scales.extend(&of.scales);
            all.scales.resize(before + of.len(), 1.0);
        }
        all.positions.extend(&of.positions);
        all.orientations.extend(&of.orientations);
        all.velocities.extend(&of.velocities);
        all.angular_velocities.extend(&of.angular_velocities);
        all.impacts.extend(of.impacts.iter().map(|impact| {
            let mut impact = *impact;
            impact.body += before as u32;
            impact
        }));
    }
    all
}

/// The mesh of an element in all copies and all bodies, in the world's coordinates; none if it does
/// not change its shape.
fn mesh(copies: &[CopyParts], id: Id, centre: Vec3) -> Option<MeshState> {
    let mut parts: Vec<&MeshState> = Vec::new();
    let (mut positions, mut velocities) = (Vec::new(), Vec::new());
    for copy in copies {
        let (Some(bodies), Some(mesh)) = (copy.own.bodies.get(&id), copy.meshes.get(&id)) else { continue };
        for i in 0..bodies.len() {
            let scale = bodies.scales.get(i).copied().unwrap_or(1.0);
            let (position, orientation) = (bodies.positions[i], bodies.orientations[i]);
            let (velocity, spin) = (bodies.velocities[i], bodies.angular_velocities[i]);
            for (x, v) in mesh.positions.iter().zip(&mesh.velocities) {
                let arm = orientation * (scale * (*x - centre));
                positions.push(position + orientation * (scale * *x));
                velocities.push(velocity + spin.cross(arm) + orientation * (scale * copy.rate * *v));
            }
            parts.push(mesh);
        }
    }
    if parts.is_empty() {
        return None;
    }
    let lists: Vec<_> = parts.iter().map(|part| &*part.attributes).collect();
    Some(MeshState { topology: joined(&parts), positions, velocities, attributes: joined_attributes(&lists) })
}

/// The hashes of topologies that were joined.
type Key = Vec<Fingerprint>;

type JoinedTopology = (Key, Arc<Topology>);

/// Topologies that were joined last.
static JOINED: LazyLock<Mutex<Vec<JoinedTopology>>> = LazyLock::new(Mutex::default);
/// Number of them kept: each may be large.
const KEPT: usize = 2;

fn joined(parts: &[&MeshState]) -> Arc<Topology> {
    let key: Key = parts.iter().map(|part| part.topology.hash()).collect();
    let mut kept = JOINED.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((_, topology)) = kept.iter().find(|(of, _)| *of == key) {
        return topology.clone();
    }
    let list: Vec<&Topology> = parts.iter().map(|part| &*part.topology).collect();
    let made = Arc::new(Topology::joined(&list));
    // A reader that knows the hash finds the faces as long as they are in use.
    let topology =
        topologies::shared(made.hash(), || Ok::<_, RunError>(made.clone())).unwrap_or_else(|_| made.clone());
    if kept.len() >= KEPT {
        kept.remove(0);
    }
    kept.push((key, topology.clone()));
    topology
}

/// The particles of an element in all copies, in the order of their ids. The id of a particle in
/// copy `c` of `n` is `n · id + c`; one that is too large for its column is left out.
fn particles(copies: &[CopyParts], id: Id) -> Particles {
    let n = copies.len() as u64;
    let mut order: Vec<(u32, u32, u32)> = Vec::new();
    for (c, of) in copies.iter().enumerate() {
        let ids = &of.own.particles_of(id).ids;
        for (i, own) in ids.iter().enumerate() {
            if let Ok(id) = u32::try_from(u64::from(*own) * n + c as u64) {
                order.push((id, c as u32, i as u32));
            }
        }
    }
    order.sort_unstable();
    let of = |c: u32| copies[c as usize].own.particles_of(id);
    fn column<'a, T: Clone + 'a>(order: &[(u32, u32, u32)], value: impl Fn(u32) -> &'a [T]) -> Vec<T> {
        let every = order.iter().map(|&(_, c, i)| value(c).get(i as usize).cloned());
        // A column that the element does not have is empty in all copies.
        every.collect::<Option<Vec<T>>>().unwrap_or_default()
    }
    Particles {
        positions: column(&order, |c| &of(c).positions),
        velocities: column(&order, |c| &of(c).velocities),
        sizes: column(&order, |c| &of(c).sizes),
        ages: column(&order, |c| &of(c).ages),
        lifespans: column(&order, |c| &of(c).lifespans),
        orientations: column(&order, |c| &of(c).orientations),
        weights: column(&order, |c| &of(c).weights),
        uvs: column(&order, |c| &of(c).uvs),
        pressures: column(&order, |c| &of(c).pressures),
        ids: order.into_iter().map(|(id, ..)| id).collect(),
    }
}
