//! A shot as it is at a frame.

use super::elapsed::Sums;
use super::expression::{Expression, Moment};
use super::period::fading;
use super::{Channel, Value, short_name, split_part};
use crate::animation::PlayedFrames;
use crate::parameters::{
    Bounds, ORIENTATION, POSITION, Parameter, element_parameters, placement_parameter, shot_parameters,
};
use crate::{Fault, Id, Moves, Shot, euler_angles, world::History};
use glam::Vec3;
use std::collections::{BTreeMap, HashMap};
use std::fmt::Arguments;
use std::sync::OnceLock;
use thiserror::Error;

/// A formula gave a value that is not finite.
#[derive(Clone, Debug, PartialEq, Error)]
#[error("the formula for {what} of {name} has no finite value at frame {frame}")]
pub struct NotFinite {
    /// The element; none: the shot itself.
    pub element: Option<Id>,
    /// Its name.
    pub name: String,
    /// Plain name of the value.
    pub what: String,
    /// The frame.
    pub frame: f64,
}

/// Gives a shot as it is at any frame: its channels are read once, its
/// formulas parsed, put in an order in which each finds what it refers to.
///
/// ```
/// use shot::{Element, Moves, Shape, Shot, motion::{Channel, Sampler}};
/// let mut shot = Shot::empty("Lift");
/// let mut ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Animated);
/// ball.channels.insert("placement.position_m[1]".to_owned(), Channel::keyed([(1.0, 0.0f32), (11.0, 5.0)]));
/// shot.add(ball);
/// let sampler = Sampler::new(&shot).unwrap();
/// assert_eq!(sampler.at(3.0).unwrap().named("Ball").unwrap().placement.position_m.y, 1.0);
/// ```
#[derive(Clone, Debug)]
pub struct Sampler {
    pub(super) base: Shot,
    tracks: Vec<Track>,
    /// Mean time scale from each frame of the shot to the next.
    pub(super) speeds: Vec<f64>,
    /// Frames the world has gone on since the first, at each frame of the shot.
    pub(super) world: Vec<f64>,
    /// Integrals over time, computed on demand.
    pub(super) sums: OnceLock<Sums>,
    /// Integrals of the speeds of animated files, computed on demand.
    pub(crate) played: OnceLock<PlayedFrames>,
}

/// Whose value it is: an element, by its index, or the shot itself.
type Owner = Option<usize>;

#[derive(Clone, Debug)]
struct Track {
    address: Address,
    bounds: Bounds,
    source: Source,
}

/// A value: its owner, its number in the owner's list, a part of it or the whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Address {
    owner: Owner,
    slot: usize,
    part: Option<usize>,
}

#[derive(Clone, Debug)]
enum Source {
    Keys(Channel),
    Formula(Expression, Vec<Address>),
}

/// Calls `f` with one value of the owner.
fn with_slot<T>(
    shot: &mut Shot,
    owner: Owner,
    slot: usize,
    f: impl FnOnce(Parameter, Bounds) -> T,
) -> Option<T> {
    if let Some(index) = owner
        && let Some((value, bounds)) = placement_parameter(&mut shot.elements[index], slot)
    {
        return Some(f(value, bounds));
    }
    let (mut at, mut f, mut out) = (0, Some(f), None);
    let mut visit = |_: Arguments, value: Parameter, bounds: Bounds| {
        if at == slot
            && let Some(f) = f.take()
        {
            out = Some(f(value, bounds));
        }
        at += 1;
    };
    match owner {
        None => shot_parameters(shot, &mut visit),
        Some(index) => element_parameters(&mut shot.elements[index], &mut visit),
    }
    out
}

/// A value as a formula or a channel may name it.
struct Named {
    path: String,
    kind: Value,
    bounds: Bounds,
}

/// The values of every owner, listed once.
struct Names {
    elements: Vec<Option<Vec<Named>>>,
    shot: Vec<Named>,
    by_name: HashMap<String, usize>,
}

impl Names {
    fn new(base: &mut Shot) -> Self {
        let mut shot = Vec::new();
        shot_parameters(base, &mut |path, slot, bounds| {
            shot.push(Named { path: path.to_string(), kind: slot.kind(), bounds });
        });
        let by_name = base.elements.iter().enumerate().map(|(i, e)| (e.name.clone(), i)).collect();
        Self { elements: base.elements.iter().map(|_| None).collect(), shot, by_name }
    }

    fn of(&mut self, base: &mut Shot, owner: Owner) -> &[Named] {
        let Some(index) = owner else { return &self.shot };
        self.elements[index].get_or_insert_with(|| {
            let mut list = Vec::new();
            element_parameters(&mut base.elements[index], &mut |path, slot, bounds| {
                list.push(Named { path: path.to_string(), kind: slot.kind(), bounds });
            });
            list
        })
    }

    /// Resolves a reference such as `Mooring block.position.y`.
    fn reference(&mut self, base: &mut Shot, text: &str) -> Result<Address, String> {
        let dots = text.match_indices('.').map(|(at, _)| at);
        // An element's name may itself have dots: the longest that is one counts.
        let found =
            dots.rev().find_map(|at| self.by_name.get(&text[..at]).map(|&index| (index, &text[at + 1..])));
        let (owner, rest, whose) = match found {
            Some((index, rest)) => (Some(index), rest, base.elements[index].name.clone()),
            None => match text.strip_prefix("Shot.") {
                Some(rest) => (None, rest, "the shot".to_owned()),
                None => return Err(format!("{{{text}}} names no element; write {{Element.value}}")),
            },
        };
        let (value, letter) = match rest.rsplit_once('.') {
            Some((value, part @ ("x" | "y" | "z"))) => (value, "xyz".find(part)),
            _ => (rest, None),
        };
        let (value, part) = match (letter, split_part(value)) {
            (None, (whole, Some(part))) => (whole, Some(part)),
            _ => (value, letter),
        };
        let names = self.of(base, owner);
        let slot = names
            .iter()
            .position(|named| named.path == value)
            .or_else(|| {
                names.iter().position(|named| {
                    short_name(&named.path) == value || named.bounds.declaration.words == value
                })
            })
            .ok_or_else(|| format!("{whose} has no value called {value}"))?;
        match (names[slot].kind.count(), part) {
            (1, None) => Ok(Address { owner, slot, part: None }),
            (3, Some(part)) if part < 3 => Ok(Address { owner, slot, part: Some(part) }),
            (3, _) => Err(format!("{value} of {whose} is three numbers; add .x, .y or .z")),
            _ => Err(format!("{value} of {whose} is one number; it has no parts")),
        }
    }
}

impl Sampler {
    /// Reads the channels of a shot.
    ///
    /// # Errors
    /// Every fault of a channel, with its JSON path.
    pub fn new(shot: &Shot) -> Result<Self, Vec<Fault>> {
        let mut base = shot.clone();
        let mut names = Names::new(&mut base);
        let mut faults = Vec::new();
        let mut tracks = Vec::new();
        let owners = shot
            .elements
            .iter()
            .enumerate()
            .map(|(i, element)| (Some(i), format!("elements[{i}].channels"), &element.channels))
            .chain([(None, "channels".to_owned(), &shot.channels)]);
        for (owner, root, motion) in owners {
            read_channels(&mut base, &mut names, owner, &root, motion, &mut tracks, &mut faults);
        }
        let order = ordered(&tracks).map_err(|circle| {
            let name = |i: usize| {
                let Address { owner, slot, .. } = tracks[i].0.address;
                let words = names.of(&mut base.clone(), owner)[slot].bounds.declaration.words;
                let whose = owner.map_or("the shot", |index| shot.elements[index].name.as_str());
                format!("{words} of {whose}")
            };
            let mut names_of = circle.clone();
            names_of.push(circle[0]);
            let mut name = name;
            let words: Vec<String> = names_of.into_iter().map(&mut name).collect();
            Fault {
                path: tracks[circle[0]].1.clone(),
                message: format!("the formulas go in a circle: {}", words.join(" → ")),
            }
        });
        match order {
            Err(fault) => faults.push(fault),
            Ok(order) if faults.is_empty() => {
                let mut tracks: Vec<_> = tracks.into_iter().map(|(track, _)| Some(track)).collect();
                let mut tracks: Vec<Track> =
                    order.into_iter().map(|i| tracks[i].take().expect("each once")).collect();
                if let Some(length) = shot.timing.loop_frames {
                    for track in &mut tracks {
                        if let Source::Keys(channel) = &mut track.source {
                            *channel = channel.periodic(f64::from(shot.timing.first), f64::from(length));
                        }
                    }
                }
                let mut sampler = Self {
                    base,
                    tracks,
                    speeds: Vec::new(),
                    world: Vec::new(),
                    sums: OnceLock::new(),
                    played: OnceLock::new(),
                };
                sampler.set_clock();
                return Ok(sampler);
            }
            Ok(_) => {}
        }
        Err(faults)
    }

    /// The shot without its channels applied.
    pub fn base(&self) -> &Shot {
        &self.base
    }

    /// Whether nothing changes with time.
    pub fn is_constant(&self) -> bool {
        self.tracks.is_empty()
    }

    /// Whether a value of the shot itself changes with time.
    pub(super) fn shot_moves(&self) -> bool {
        self.tracks.iter().any(|track| track.address.owner.is_none())
    }

    /// Whether a value of this element changes with time.
    pub fn moves(&self, element: Id) -> bool {
        self.tracks
            .iter()
            .any(|track| track.address.owner.is_some_and(|index| self.base.elements[index].id == element))
    }

    /// Whether a formula names the place or turn of a body that a solver may move.
    pub fn reads_bodies(&self) -> bool {
        let reads = |reference: &Address| {
            let element = reference.owner.map(|index| &self.base.elements[index]);
            let moves = element.and_then(|element| element.as_solid()).map(|solid| solid.body.moves);
            [POSITION, ORIENTATION].contains(&reference.slot)
                && moves.is_some_and(|moves| moves != Moves::Still)
        };
        self.tracks.iter().any(|track| match &track.source {
            Source::Formula(_, references) => references.iter().any(reads),
            Source::Keys(_) => false,
        })
    }

    /// The shot at `frame`, which may lie between frames.
    ///
    /// # Errors
    /// [`NotFinite`] names the formula.
    pub fn at(&self, frame: f64) -> Result<Shot, NotFinite> {
        let mut shot = self.base.clone();
        self.apply(&mut shot, frame)?;
        Ok(shot)
    }

    /// Forgets all channels but those that one value needs: its own, and those
    /// that its formulas read.
    pub fn keep_only(&mut self, element: Option<Id>, path: &str) {
        let mut base = self.base.clone();
        let owner = element.map(|id| base.elements.iter().position(|element| element.id == id));
        let Some(owner) = owner.map_or(Some(None), |found| found.map(Some)) else { return };
        let mut names = Names::new(&mut base);
        let (whole, _) = split_part(path);
        let of = names.of(&mut base, owner);
        let slot = of.iter().position(|named| named.path == path || named.path == whole);
        let mut needed: Vec<(Owner, usize)> = slot.map(|slot| (owner, slot)).into_iter().collect();
        // Referenced channels come before those that read them.
        let mut kept = Vec::new();
        for track in std::mem::take(&mut self.tracks).into_iter().rev() {
            if !needed.contains(&(track.address.owner, track.address.slot)) {
                continue;
            }
            if let Source::Formula(_, references) = &track.source {
                needed.extend(references.iter().map(|reference| (reference.owner, reference.slot)));
            }
            kept.push(track);
        }
        kept.reverse();
        self.tracks = kept;
    }

    /// The shot at `frame`, where formulas that name the place or turn of a
    /// body find it where `solved` has it.
    ///
    /// # Errors
    /// [`NotFinite`] names the formula.
    pub fn at_with(&self, frame: f64, solved: History) -> Result<Shot, NotFinite> {
        let mut shot = self.base.clone();
        self.apply_with(&mut shot, frame, solved)?;
        Ok(shot)
    }

    /// Sets the values that change in `shot`, which [`Sampler::at`] gave, to
    /// what they are at `frame`.
    ///
    /// # Errors
    /// [`NotFinite`] names the formula.
    pub fn apply(&self, shot: &mut Shot, frame: f64) -> Result<(), NotFinite> {
        self.apply_with(shot, frame, &|_, _| None)
    }

    /// As [`Sampler::apply`], with the poses of bodies from `solved`.
    ///
    /// # Errors
    /// [`NotFinite`] names the formula.
    pub fn apply_with(&self, shot: &mut Shot, frame: f64, solved: History) -> Result<(), NotFinite> {
        let timing = self.base.timing;
        let fps = f64::from(timing.fps);
        let round = self.in_round(frame);
        let (shown, frame) = (frame, self.frame_in_round(frame));
        let moment = Moment { time: (frame - f64::from(timing.first)) / fps, frame, fps };
        let mut inputs = Vec::new();
        for track in &self.tracks {
            let Address { owner, slot, part } = track.address;
            let value = match &track.source {
                Source::Keys(channel) => channel.at(frame),
                Source::Formula(expression, references) => {
                    inputs.clear();
                    inputs.extend(references.iter().map(|r| {
                        let part = r.part.unwrap_or(0);
                        if let Some(of_body) = self.solved(r, shown, solved) {
                            return f64::from(of_body[part.min(2)]);
                        }
                        with_slot(shot, r.owner, r.slot, |slot, _| slot.get().map_or(0.0, |v| v.part(part)))
                            .unwrap_or(0.0)
                    }));
                    let number = match round {
                        None => expression.evaluate(moment, &inputs),
                        Some((length, fraction)) => {
                            let (time, frame) = (moment.time - length / fps, frame - length);
                            let before = Moment { time, frame, fps };
                            expression.evaluate_periodic(moment, before, fading(fraction), &inputs)
                        }
                    };
                    if !number.is_finite() {
                        return Err(self.not_finite(track.address, shown));
                    }
                    Some(Value::Number(number as f32))
                }
            };
            let Some(value) = value else { continue };
            with_slot(shot, owner, slot, |mut slot, _| {
                let old = slot.get().unwrap_or(slot.kind());
                let number = value.part(0);
                let new = match (part, value) {
                    (Some(part), _) => old.with_parts(|i| if i == part { number } else { old.part(i) }),
                    (None, Value::Number(_)) => slot.kind().with_parts(|_| number),
                    (None, value) => value,
                };
                slot.set(track.bounds.hold(new));
            });
        }
        Ok(())
    }

    /// The place or turn of a body that a reference names, if a solver has it.
    fn solved(&self, of: &Address, frame: f64, solved: History) -> Option<Vec3> {
        let element = &self.base.elements[of.owner.filter(|_| [POSITION, ORIENTATION].contains(&of.slot))?];
        let (position, orientation) = solved(element.id, frame)?;
        Some(if of.slot == POSITION { position } else { euler_angles(orientation) })
    }

    fn not_finite(&self, address: Address, frame: f64) -> NotFinite {
        let (mut at, mut what) = (0, String::new());
        let mut base = self.base.clone();
        let mut visit = |_: Arguments, _: Parameter, bounds: Bounds| {
            if at == address.slot {
                bounds.declaration.words.clone_into(&mut what);
            }
            at += 1;
        };
        match address.owner {
            None => shot_parameters(&mut base, &mut visit),
            Some(index) => element_parameters(&mut base.elements[index], &mut visit),
        }
        let element = address.owner.map(|index| &self.base.elements[index]);
        let name = element.map_or_else(|| "the shot".to_owned(), |element| element.name.clone());
        NotFinite { element: element.map(|element| element.id), name, what, frame }
    }
}

type Placed = (Track, String);

fn read_channels(
    base: &mut Shot,
    names: &mut Names,
    owner: Owner,
    root: &str,
    motion: &BTreeMap<String, Channel>,
    tracks: &mut Vec<Placed>,
    faults: &mut Vec<Fault>,
) {
    // A whole before its parts, so that the parts prevail.
    for (path, channel) in motion {
        let at = format!("{root}.{path}");
        let mut say = |position: String, message: String| faults.push(Fault { path: position, message });
        let list = names.of(base, owner);
        let exact = list.iter().position(|named| named.path == *path).map(|slot| (slot, None));
        let (whole, part) = split_part(path);
        let found =
            exact.or_else(|| list.iter().position(|named| named.path == whole).map(|slot| (slot, part)));
        let Some((slot, part)) = found else {
            say(at, "is not a value of this element".to_owned());
            continue;
        };
        let Named { kind, bounds, .. } = list[slot];
        if !bounds.declaration.keyed {
            say(at, format!("{} is the same at every frame; it takes no keys", bounds.declaration.words));
            continue;
        }
        if part.is_some_and(|part| part >= kind.count() || kind.count() == 1) {
            say(at, format!("{} has no such part", bounds.declaration.words));
            continue;
        }
        let kind = if part.is_some() { Value::Number(0.0) } else { kind };
        let before = faults.len();
        channel_faults(channel, &at, kind, bounds, faults);
        if faults.len() > before {
            continue;
        }
        let source = match &channel.expression {
            None => Source::Keys(channel.clone()),
            Some(text) => {
                let at = format!("{at}.expression");
                if kind.count() == 3 {
                    let message = "a formula gives one number; give one for each part, as [0], [1] and [2]";
                    faults.push(Fault { path: at, message: message.to_owned() });
                    continue;
                }
                match Expression::parse(text) {
                    Err(error) => {
                        faults.push(Fault { path: at, message: error.to_string() });
                        continue;
                    }
                    Ok(expression) => {
                        let mut addresses = Vec::new();
                        for reference in &expression.references {
                            match names.reference(base, &reference.text) {
                                Ok(address) => addresses.push(address),
                                Err(message) => faults.push(Fault {
                                    path: at.clone(),
                                    message: format!("at character {}: {message}", reference.place + 1),
                                }),
                            }
                        }
                        if addresses.len() < expression.references.len() {
                            continue;
                        }
                        Source::Formula(expression, addresses)
                    }
                }
            }
        };
        tracks.push((Track { address: Address { owner, slot, part }, bounds, source }, at));
    }
}

fn channel_faults(channel: &Channel, at: &str, kind: Value, bounds: Bounds, faults: &mut Vec<Fault>) {
    let mut say = |position: String, message: String| faults.push(Fault { path: position, message });
    match (&channel.expression, channel.keys.is_empty()) {
        (Some(_), false) => {
            say(format!("{at}.keys"), "there is an expression too; give one of both".to_owned())
        }
        (None, true) => {
            say(format!("{at}.keys"), "is empty; give at least one key, or no channel".to_owned())
        }
        _ => {}
    }
    for (i, key) in channel.keys.iter().enumerate() {
        let at = format!("{at}.keys[{i}]");
        if !key.frame.is_finite() || key.frame.abs() > 1e6 {
            say(format!("{at}.frame"), format!("{} is outside -1000000 to 1000000", key.frame));
        } else if i > 0 && key.frame <= channel.keys[i - 1].frame {
            let before = channel.keys[i - 1].frame;
            say(format!("{at}.frame"), format!("{} does not come after {before}; frames rise", key.frame));
        }
        if !key.value.is_like(&kind) {
            say(format!("{at}.value"), format!("is {}, not {}", key.value.kind(), kind.kind()));
            continue;
        }
        for part in 0..kind.count() {
            let value = key.value.part(part) as f32;
            if !(bounds.low..=bounds.high).contains(&value) {
                let position =
                    if kind.count() == 1 { format!("{at}.value") } else { format!("{at}.value[{part}]") };
                say(position, format!("{value} is outside {} to {}", bounds.low, bounds.high));
            }
        }
        for (name, handle) in [("outgoing", key.outgoing), ("incoming", key.incoming)] {
            let Some(handle) = handle else { continue };
            if !handle.value.is_like(&kind) || !handle.value.is_finite() {
                say(format!("{at}.{name}.by"), format!("is {}, not {}", handle.value.kind(), kind.kind()));
            }
            if !(0.0..=1e6).contains(&handle.frames) {
                say(format!("{at}.{name}.frames"), format!("{} is outside 0 to 1000000", handle.frames));
            }
        }
    }
}

/// An order in which each formula comes after what it refers to, or the
/// formulas of a circle.
fn ordered(tracks: &[Placed]) -> Result<Vec<usize>, Vec<usize>> {
    let mut setters: HashMap<(Owner, usize), Vec<usize>> = HashMap::new();
    for (i, (track, _)) in tracks.iter().enumerate() {
        setters.entry((track.address.owner, track.address.slot)).or_default().push(i);
    }
    let needs = |i: usize| -> Vec<usize> {
        let Source::Formula(_, references) = &tracks[i].0.source else { return Vec::new() };
        let setting = |r: &Address| {
            setters.get(&(r.owner, r.slot)).into_iter().flatten().copied().filter({
                let part = r.part;
                move |&j| tracks[j].0.address.part.is_none() || tracks[j].0.address.part == part
            })
        };
        references.iter().flat_map(setting).collect()
    };
    #[derive(Clone, Copy, PartialEq)]
    enum Mark {
        New,
        Open,
        Done,
    }
    let mut marks = vec![Mark::New; tracks.len()];
    let mut order = Vec::with_capacity(tracks.len());
    for start in 0..tracks.len() {
        if marks[start] != Mark::New {
            continue;
        }
        marks[start] = Mark::Open;
        let mut path = vec![(start, needs(start))];
        while let Some((i, open)) = path.last_mut() {
            match open.pop() {
                Some(next) if marks[next] == Mark::Open => {
                    let from = path.iter().position(|(i, _)| *i == next).unwrap_or(0);
                    return Err(path[from..].iter().map(|(i, _)| *i).collect());
                }
                Some(next) if marks[next] == Mark::New => {
                    marks[next] = Mark::Open;
                    path.push((next, needs(next)));
                }
                Some(_) => {}
                None => {
                    marks[*i] = Mark::Done;
                    order.push(*i);
                    path.pop();
                }
            }
        }
    }
    Ok(order)
}
