//! What acts on each system between two frames.

use super::digests::{Changing, add_played, add_pose, changing, parts_digest, played, unsolved};
use crate::{
    Element, ElementKind, Id, Moves, Shape, Shot, System, SystemId, force::Force, motion::Sampler,
    references::Role, world::World,
};
use sha2::{Digest, Sha256};
use std::collections::{BTreeSet, HashMap};

/// Frames before a let-go over which the body's own velocity is measured.
pub const LET_GO_DELTA: f64 = 1.0 / 64.0;

/// All that acts from the first frame on, as it is there.
pub(super) fn first_inputs(shot: &Shot, sampler: &Sampler) -> serde_json::Value {
    let world = World::new(shot, sampler, f64::from(shot.timing.first), &unsolved);
    let solids: Vec<_> = shot
        .solids()
        .filter(|(element, _)| !element.deforms())
        .map(|(element, solid)| {
            let mut body = solid.body.clone();
            // When it is let go, and how, matters from then on.
            if body.let_go_frame().is_some() {
                (body.wake, body.launch_velocity, body.launch_angular_velocity) = (None, None, None);
            }
            let asset = match &solid.shape {
                Shape::Mesh { asset, .. } => shot.assets.get(asset).map(|asset| &asset.sha256),
                _ => None,
            };
            let pose = world.pose(element);
            // What is measured at the first frame counts it.
            let gravity = shot.gravity_on(element, f64::from(shot.timing.first));
            // Particles meet what can change its shape in another way from the start.
            let reshaped = element.reshaped();
            let first = f64::from(shot.timing.first);
            let played = played(element, sampler, sampler.acting_frame(first));
            let mut inputs = serde_json::json!([
                element.id,
                solid.shape,
                asset,
                solid.copies,
                solid.from_particles,
                solid.to_particles,
                body,
                pose,
                gravity,
                reshaped
            ]);
            // A solid without a file has the fingerprint that it had before there were any.
            if let (Some(played), Some(list)) = (played, inputs.as_array_mut()) {
                list.push(serde_json::to_value(played).expect("it serialises"));
            }
            if let (false, Some(list)) = (solid.placed.is_empty(), inputs.as_array_mut()) {
                list.push(serde_json::to_value(&solid.placed).expect("it serialises"));
            }
            inputs
        })
        .collect();
    let (fps, first, physics) = (shot.timing.fps, shot.timing.first, &shot.physics);
    serde_json::json!([fps, first, physics.substeps, physics.world_m, physics.keys_follow, solids])
}

/// What acts between frames, and what of it changes with time.
pub(super) struct Inputs<'a> {
    sampler: &'a Sampler,
    pub systems: Vec<SystemInputs>,
    /// Solids moved by keys, with the frame at which they are let go.
    animated: Vec<(usize, Option<u32>)>,
    /// Solids with a value, other than the placement, that changes, and as they are first.
    bodies: Vec<(usize, Changing)>,
    /// Regions that wake bodies or take them back, with what they are made of.
    wakes: Vec<ForceInput>,
    /// Whether a file animates a solid.
    any_played: bool,
}

/// What acts on one system.
pub(super) struct SystemInputs {
    pub id: SystemId,
    /// The place of the system that it reads.
    pub reads: Vec<usize>,
    /// Particles, with what they are made of, and whether others become them.
    particle_sets: Vec<(ForceInput, bool)>,
    /// Cloths and soft bodies, with what they are made of.
    deformables: Vec<ForceInput>,
    /// Forces, with the elements of the system that each acts on, and whether it is limited to some.
    forces: Vec<(ForceInput, (bool, Vec<Id>))>,
}

/// Changes when cloths and soft bodies are computed in another way, so that frames computed before are stale.
const DEFORMABLES: &[u8] = b"deformables 5";

impl SystemInputs {
    fn has_solids(&self) -> bool {
        self.id == SystemId::Solids
    }
}

/// What acts on a system from one frame to the next.
pub(super) struct Acts {
    pub hash: Sha256,
    /// Whether particles of the system may be born up to then.
    pub begun: bool,
    /// What acted in the step before.
    last: Option<[u8; 32]>,
}

/// A force, a region that wakes, or particles.
struct ForceInput {
    index: usize,
    /// The elements it is made of: itself, its regions, its target.
    parts: Vec<usize>,
    /// The hash of those, if none of them changes.
    still: Option<[u8; 32]>,
}

impl ForceInput {
    fn digest(&self, shot: &Shot, sampler: &Sampler, frame: f64) -> [u8; 32] {
        self.still.unwrap_or_else(|| parts_digest(shot, sampler, frame, &self.parts))
    }
}

impl<'a> Inputs<'a> {
    pub fn new(shot: &Shot, sampler: &'a Sampler) -> Self {
        let index_of: HashMap<Id, usize> = shot.elements.iter().enumerate().map(|(i, e)| (e.id, i)).collect();
        let (mut animated, mut bodies) = (Vec::new(), Vec::new());
        for (i, element) in shot.elements.iter().enumerate() {
            let ElementKind::Solid(solid) = &element.kind else { continue };
            if element.deforms() {
                continue;
            }
            let waits = solid.body.moves == Moves::Animated
                || (solid.body.moves == Moves::Free && solid.body.wake.is_some());
            if waits {
                animated.push((i, solid.body.let_go_frame()));
            }
            let acts =
                ["kind.solid.body.", "kind.solid.shape.", "kind.solid.copies.", "kind.solid.to_particles."];
            if element.channels.keys().any(|path| acts.iter().any(|root| path.starts_with(root))) {
                bodies.push((i, changing(solid)));
            }
        }
        // A force or region, with all that it is made of.
        let input = |id: Id| {
            let mut parts = vec![index_of[&id]];
            let mut at = 0;
            while at < parts.len() {
                let part = &shot.elements[parts[at]];
                let acts =
                    |role: Role| matches!(role, Role::Placement | Role::Part | Role::Source | Role::Crowd);
                for id in part.references().into_iter().filter(|r| acts(r.role)).map(|r| r.id) {
                    if let Some(&index) = index_of.get(&id)
                        && !parts.contains(&index)
                    {
                        parts.push(index);
                    }
                }
                at += 1;
            }
            let moves = |&i: &usize| {
                let element = &shot.elements[i];
                sampler.moves(element.id)
                    || element.as_solid().is_some_and(|solid| solid.body.moves == Moves::Animated)
            };
            let first = f64::from(shot.timing.first);
            let still = (!parts.iter().any(moves)).then(|| parts_digest(shot, sampler, first, &parts));
            ForceInput { index: parts[0], parts, still }
        };
        let waking = shot.solids().flat_map(|(element, _)| {
            let waits = element.references().into_iter().filter(|r| r.role == Role::Waiting);
            waits.map(|reference| reference.id).filter(|id| index_of.contains_key(id)).collect::<Vec<_>>()
        });
        let wakes = waking.collect::<BTreeSet<_>>().into_iter().map(input).collect();
        let made = shot.elements.iter().flat_map(Element::references).filter(|r| r.role == Role::Made);
        let fed: BTreeSet<Id> = made.map(|reference| reference.id).collect();
        let systems = shot.systems();
        let place = |id: SystemId| systems.iter().position(|system| system.id == id);
        let of = |system: &System| {
            let members: Vec<&Element> = system.elements.iter().filter_map(|id| shot.element(*id)).collect();
            let scope = |force: &Force| -> (bool, Vec<Id>) {
                let limited = !force.only.is_empty() || !force.except.is_empty();
                let acted_on = members.iter().filter(|element| limited && force.acts_on(element));
                (limited, acted_on.map(|element| element.id).collect())
            };
            let forces = shot.forces().into_iter().filter(|(_, force)| force.acts_on_any(&members));
            let sets = members.iter().filter(|element| element.as_particles().is_some());
            let sways = system.id == SystemId::Sway;
            let deformables = members.iter().filter(|element| sways || element.deforms());
            SystemInputs {
                id: system.id,
                reads: system.reads.iter().filter_map(|id| place(*id)).collect(),
                particle_sets: sets.map(|element| (input(element.id), fed.contains(&element.id))).collect(),
                deformables: deformables.map(|element| input(element.id)).collect(),
                forces: forces.map(|(element, force)| (input(element.id), scope(force))).collect(),
            }
        };
        let systems = systems.iter().map(of).collect();
        let any_played = shot.elements.iter().any(|element| element.file_animation().is_some());
        Self { sampler, systems, animated, bodies, wakes, any_played }
    }

    /// Whether there is anything of a system at the first frame.
    pub fn begins(&self, system: usize, now: &Shot) -> bool {
        let first = now.timing.first;
        let there = |(set, _): &(ForceInput, bool)| {
            now.elements[set.index].as_particles().is_some_and(|p| p.emission.come_at(first))
        };
        let of = &self.systems[system];
        of.has_solids()
            || !of.deformables.is_empty()
            || now.initial_state.is_some()
            || of.particle_sets.iter().any(there)
    }

    /// The hash that a system's chain begins with.
    pub fn start(&self, system: usize, now: &Shot, first_inputs: &str) -> Sha256 {
        let (timing, physics) = (now.timing, &now.physics);
        let mut hash = Sha256::new_with_prefix(b"bright-ripple 8");
        if self.systems[system].has_solids() {
            hash.update(first_inputs);
        } else {
            let world = (timing.fps, timing.first, physics.substeps, physics.world_m, &physics.keys_follow);
            hash.update(serde_json::to_vec(&world).expect("it serialises"));
        }
        for deformable in &self.systems[system].deformables {
            hash.update(DEFORMABLES);
            hash.update(deformable.digest(now, self.sampler, f64::from(timing.first)));
        }
        if let Some(frames) = timing.loop_frames {
            hash.update(b"goes round");
            hash.update(frames.to_le_bytes());
        }
        if let Some((initial_state, asset)) = now.initial_state_asset() {
            hash.update(&asset.sha256);
            hash.update([u8::from(initial_state.velocities)]);
        }
        hash
    }

    /// Adds the particles that are there at the first frame, and what acted on
    /// them before it.
    pub fn add_preroll(&self, hash: &mut Sha256, system: usize, now: &mut Shot) {
        let timing = now.timing;
        let sets = &self.systems[system].particle_sets;
        let preroll = |(set, _): &(ForceInput, bool)| {
            now.elements[set.index].as_particles().map_or(0.0, |particles| particles.emission.preroll_s)
        };
        let of_deformables =
            self.systems[system].deformables.iter().map(|of| now.elements[of.index].preroll_s());
        // What begins from a frame has come to it already.
        let longest = match now.initial_state {
            Some(_) => 0.0,
            None => sets.iter().map(preroll).chain(of_deformables).fold(0.0, f32::max),
        };
        let first = f64::from(timing.first);
        for back in (0..(longest * timing.fps).ceil() as u32).rev() {
            let acting = first - f64::from(back);
            if self.sampler.apply(now, acting).is_ok() {
                let world = World::new(now, self.sampler, acting, &unsolved);
                self.add_solids(hash, now, &world, timing.first, acting);
                self.add_step(hash, system, now, acting, acting);
            }
        }
        let _ = self.sampler.apply(now, first);
        for (set, _) in sets {
            let there =
                now.elements[set.index].as_particles().is_some_and(|p| p.emission.come_at(timing.first));
            if there {
                hash.update(set.digest(now, self.sampler, first));
            }
        }
    }

    /// What acts on each system between `frame` and the next.
    pub fn frame(&self, now: &mut Shot, frame: u32) -> Vec<Acts> {
        let sampler = self.sampler;
        let speed = sampler.speed(frame);
        let mut acts: Vec<Acts> = (self.systems.iter())
            .map(|_| {
                let mut hash = Sha256::new();
                if speed != 1.0 {
                    hash.update(speed.to_le_bytes());
                }
                Acts { hash, begun: false, last: None }
            })
            .collect();
        let steps = steps_of(now.physics.substeps, speed);
        let next = frame + 1;
        let at_step = |step: u32| f64::from(frame) + f64::from(step) / f64::from(steps);
        // Without channels and files the steps have the same, but for a burst, which comes
        // at the moment of its frame, and so in the last one.
        let constant = sampler.is_constant() && !self.any_played;
        for step in (1..=steps).filter(|step| !constant || *step == 1 || *step == steps) {
            let (at, acting) = (at_step(step), sampler.acting_frame(at_step(step)));
            let finite = sampler.apply(now, acting).is_ok();
            let world = World::new(now, sampler, acting, &unsolved);
            for (i, act) in acts.iter_mut().enumerate() {
                let mut hash = Sha256::new();
                if !finite {
                    hash.update(b"no finite value");
                }
                if self.systems[i].has_solids() {
                    self.add_solids(&mut hash, now, &world, frame, acting);
                }
                act.begun |= self.add_step(&mut hash, i, now, at, acting);
                // What stays the same over the steps counts once, so that a
                // channel that changes nothing is as if it were not there.
                let digest: [u8; 32] = hash.finalize().into();
                if act.last != Some(digest) {
                    act.hash.update(digest);
                    act.last = Some(digest);
                }
            }
        }
        if let Some(solids) = self.systems.iter().position(SystemInputs::has_solids) {
            self.add_let_go(&mut acts[solids].hash, now, frame, next);
        }
        acts
    }

    /// Adds the bodies that are let go between a frame and the next, and how.
    fn add_let_go(&self, hash: &mut Sha256, now: &Shot, frame: u32, next: u32) {
        let sampler = self.sampler;
        for &(i, let_go) in &self.animated {
            hash.update([u8::from(let_go.is_some_and(|let_go| let_go < next))]);
            if let_go.is_some_and(|let_go| let_go + 1 == next) {
                let element = &now.elements[i];
                let body = &element.as_solid().expect("animated elements are solids").body;
                hash.update(format!("{:?}", (body.launch_velocity, body.launch_angular_velocity)));
                for at in [f64::from(frame) - LET_GO_DELTA, f64::from(frame)] {
                    let acting = sampler.acting_frame(at);
                    if let Ok(then) = sampler.at(acting) {
                        add_pose(hash, World::new(&then, sampler, acting, &unsolved).pose(&then.elements[i]));
                        add_played(hash, &then.elements[i], sampler, acting);
                    }
                }
            }
        }
    }

    /// Adds the solids as they are in one step, read at the frame `acting`.
    fn add_solids(&self, hash: &mut Sha256, now: &Shot, world: &World, frame: u32, acting: f64) {
        for &(i, let_go) in &self.animated {
            if let_go.is_none_or(|let_go| let_go > frame) {
                add_pose(hash, world.pose(&now.elements[i]));
                add_played(hash, &now.elements[i], self.sampler, acting);
            }
        }
        for (i, first) in &self.bodies {
            let ElementKind::Solid(solid) = &now.elements[*i].kind else { continue };
            let now = changing(solid);
            if now != *first {
                hash.update(serde_json::to_vec(&now).expect("it serialises"));
            }
        }
        for region in &self.wakes {
            hash.update(region.digest(now, self.sampler, acting));
        }
    }

    /// Adds a system's particles and forces in one step, read at the frame `acting`,
    /// and tells whether particles have begun.
    fn add_step(&self, hash: &mut Sha256, system: usize, now: &Shot, at: f64, acting: f64) -> bool {
        let digest = |input: &ForceInput| input.digest(now, self.sampler, acting);
        let of = &self.systems[system];
        let mut any = false;
        for (set, fed) in &of.particle_sets {
            // In a shot that goes round, those born before the first frame are of an earlier round.
            let goes_round = now.timing.loop_frames.is_some();
            let begun = now.elements[set.index].as_particles().is_some_and(|particles| {
                let emission = &particles.emission;
                emission.begun(at) || goes_round && emission.preroll_s > 0.0
            });
            any |= begun;
            if begun || *fed {
                hash.update(digest(set));
            }
        }
        for deformable in &of.deformables {
            hash.update(digest(deformable));
        }
        for (force, scope) in &of.forces {
            let acts = now.elements[force.index]
                .as_force()
                .is_some_and(|force| force.acts_at(now.timing.step_in_round(at)));
            if acts {
                hash.update(digest(force));
                if scope.0 {
                    hash.update(serde_json::to_vec(scope).expect("it serialises"));
                }
            }
        }
        any
    }
}

/// Time steps from a frame to the next: never longer than at time scale 1.
pub fn steps_of(substeps: u32, speed: f64) -> u32 {
    ((f64::from(substeps) * speed - 1e-6).ceil() as u32).max(1)
}
