//! Differences in the inputs of the simulation between two states of a shot, in words.

use crate::parameters::element_parameters;
use crate::{
    Element, ElementKind, Id, Moves, Shape, Shot, System,
    motion::{Channel, Value, split_part},
    parameters::{Acts, Declaration},
    references::Role,
};
use std::collections::{BTreeMap, BTreeSet};

/// One difference between two states of a shot.
struct Change {
    /// The element; none: the shot itself.
    of: Option<Id>,
    what: What,
}

enum What {
    /// A value, such as `friction of Crate stack`.
    Value(String),
    /// An element, by name.
    Added(String),
    Deleted(String),
}

/// Differences in the inputs of the simulation between two states of a shot, in
/// words: `friction of Crate stack`, `Net floats added`.
pub fn what_changed(before: &Shot, now: &Shot) -> Vec<String> {
    changes(before, now).iter().map(Change::words).collect()
}

impl Change {
    fn words(&self) -> String {
        match &self.what {
            What::Value(words) => words.clone(),
            What::Added(name) => format!("{name} added"),
            What::Deleted(name) => format!("{name} deleted"),
        }
    }
}

/// A value that differs between two states of a shot, for a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The value in words, such as `friction of Crate stack`.
    pub value: String,
    /// The value before, as the file has it; none where it is no single value.
    pub before: Option<String>,
    /// The value now.
    pub now: Option<String>,
}

/// Differences in the inputs of the simulation between two states of a shot: as
/// [`what_changed`], with the values where they are numbers or switches.
pub fn differences(before: &Shot, now: &Shot) -> Vec<Difference> {
    let of_elements: BTreeMap<String, [Option<String>; 2]> = (now.elements.iter())
        .filter_map(|element| Some((element, before.element(element.id)?)))
        .flat_map(|(new, old)| {
            let old = values(old);
            values(new).into_iter().filter_map(move |(path, (value, declaration))| {
                let was = old.get(&path).and_then(|(value, _)| *value);
                let shown = |value: Option<Value>| value.map(|value| value.to_string());
                let words = format!("{} of {}", declaration.words, new.name);
                (was != value).then(|| (words, [shown(was), shown(value)]))
            })
        })
        .collect();
    let row = |value: String| {
        let [before, now] = of_elements.get(&value).cloned().unwrap_or_default();
        Difference { value, before, now }
    };
    what_changed(before, now).into_iter().map(row).collect()
}

/// Why frames computed from `before` are stale, in words for the Timeline: `before
/// friction of Crate stack changed`. None if nothing differs.
pub fn why_stale(before: &Shot, now: &Shot) -> Option<String> {
    told(&changes(before, now))
}

/// As [`why_stale`], for one system of `now`: what acts on other systems only is left out.
pub fn why_system_is_stale(before: &Shot, now: &Shot, system: &System) -> Option<String> {
    let mut relevant = acting_on(now, system);
    // It may have had other members.
    if let Some(system) = before.systems().iter().find(|other| other.id == system.id) {
        relevant.extend(acting_on(before, system));
    }
    let mut changes = changes(before, now);
    changes.retain(|change| change.of.is_none_or(|id| relevant.contains(&id)));
    told(&changes)
}

fn told(changes: &[Change]) -> Option<String> {
    Some(match changes {
        [] => return None,
        [Change { what: What::Value(words), .. }] => format!("before {words} changed"),
        [Change { what: What::Added(name), .. }] => format!("before {name} was added"),
        [Change { what: What::Deleted(name), .. }] => format!("before {name} was deleted"),
        [first, rest @ ..] => format!("before {} and {} more changed", first.words(), rest.len()),
    })
}

/// The elements of a shot that can act on a system: its own, those of the systems it
/// reads, forces, and all that these are made of.
fn acting_on(shot: &Shot, system: &System) -> BTreeSet<Id> {
    let read = shot.systems().into_iter().filter(|other| system.reads.contains(&other.id));
    let mut found: BTreeSet<Id> =
        read.flat_map(|other| other.elements).chain(system.elements.iter().copied()).collect();
    let members: Vec<&Element> = found.iter().filter_map(|id| shot.element(*id)).collect();
    let forces = shot.forces().into_iter().filter(|(_, force)| force.acts_on_any(&members));
    let forces: Vec<Id> = forces.map(|(element, _)| element.id).collect();
    found.extend(forces);
    let mut left: Vec<Id> = found.iter().copied().collect();
    while let Some(element) = left.pop().and_then(|id| shot.element(id)) {
        let parts = element.references().into_iter().filter(|reference| reference.role != Role::Shown);
        left.extend(parts.map(|reference| reference.id).filter(|id| found.insert(*id)));
    }
    found
}

fn changes(before: &Shot, now: &Shot) -> Vec<Change> {
    let mut changes = Vec::new();
    let mut say = |changed: bool, what: &str| {
        if changed {
            changes.push(Change { of: None, what: What::Value(what.to_owned()) });
        }
    };
    say(before.timing.fps != now.timing.fps, "frame rate");
    say(before.timing.first != now.timing.first, "first frame");
    say(before.timing.loop_frames != now.timing.loop_frames, "loop length");
    say(before.initial_state != now.initial_state, "beginning");
    say(before.physics.substeps != now.physics.substeps, "substeps");
    say(before.physics.world_m != now.physics.world_m, "world size");
    let time = |shot: &Shot| (shot.physics.time_scale, shot.physics.keys_follow, shot.channels.clone());
    say(time(before) != time(now), "time scale");
    for element in now.elements.iter().filter(|element| acts(element)) {
        match before.element(element.id) {
            None => changes.push(Change { of: Some(element.id), what: What::Added(element.name.clone()) }),
            Some(old) => {
                let words = |what: String| Change {
                    of: Some(element.id),
                    what: What::Value(format!("{what} of {}", element.name)),
                };
                changes.extend(element_changes(before, now, old, element).into_iter().map(words));
            }
        }
    }
    for element in before.elements.iter().filter(|element| acts(element)) {
        if now.element(element.id).is_none() {
            changes.push(Change { of: Some(element.id), what: What::Deleted(element.name.clone()) });
        }
    }
    changes
}

/// Whether an element can act on the simulation.
fn acts(element: &Element) -> bool {
    matches!(
        element.kind,
        ElementKind::Solid(_)
            | ElementKind::Particles(_)
            | ElementKind::Force(_)
            | ElementKind::Region(_)
            | ElementKind::Curve(_)
    )
}

/// Differences of an element, in the words of its Sheet.
fn element_changes(before: &Shot, now: &Shot, old: &Element, new: &Element) -> Vec<String> {
    let mut changes: Vec<String> = Vec::new();
    let file = |shot: &Shot, element: &Element| match element.as_solid().map(|solid| &solid.shape) {
        Some(Shape::Mesh { asset, .. }) => shot.assets.get(asset).map(|asset| asset.sha256.clone()),
        _ => None,
    };
    let other_file = file(before, old) != file(now, new);
    if old == new && !other_file {
        return changes;
    }
    let mut say = |changed: bool, what: &str| {
        if changed && !changes.iter().any(|said| said == what) {
            changes.push(what.to_owned());
        }
    };
    say(old.placement.position_m != new.placement.position_m, "place");
    say(old.placement.orientation_rad != new.placement.orientation_rad, "turn");
    let (old_values, new_values) = (values(old), values(new));
    let paths: BTreeSet<&String> = old.channels.keys().chain(new.channels.keys()).collect();
    for path in paths {
        let channel = |motion: &BTreeMap<String, Channel>| motion.get(path).cloned();
        let of = |path: &str| new_values.get(path).or_else(|| old_values.get(path));
        let declared = of(path).or_else(|| of(split_part(path).0));
        let declared = declared.filter(|(_, declaration)| declaration.acts == Acts::Simulation);
        let words = declared.map_or("", |(_, declaration)| declaration.words);
        say(declared.is_some() && channel(&old.channels) != channel(&new.channels), words);
    }
    say(old.groups != new.groups, "groups");
    say(old.attached != new.attached, "attachment");
    say(old.aim != new.aim, "aim");
    match (&old.kind, &new.kind) {
        (ElementKind::Solid(a), ElementKind::Solid(b)) => {
            say(a.shape != b.shape || other_file, "shape");
            say(a.animation != b.animation, "animation");
            say(a.cloth.is_some() != b.cloth.is_some(), "cloth");
            say(a.soft.is_some() != b.soft.is_some(), "soft body");
            say(a.sway.is_some() != b.sway.is_some(), "sway");
            say(a.uvs != b.uvs && new.deforms(), "UVs");
            say(old.pins() != new.pins(), "pins");
            say(!old.acting_maps().eq(new.acting_maps()) || old.scaled() != new.scaled(), "maps");
            let other_copies = a.copies != b.copies || a.placed != b.placed;
            say(other_copies || a.from_particles != b.from_particles, "copies");
            say(a.to_particles != b.to_particles, "return to particles");
            let (a, b) = (&a.body, &b.body);
            say(a.moves != b.moves, "movement");
            say(a.wake != b.wake, if b.moves == Moves::Animated { "let-go" } else { "wake" });
            say(a.collision != b.collision, "collision shape");
            say(a.weight != b.weight, "weight");
            let of_body = |path: &str| {
                let body = path.starts_with("kind.solid.body.");
                let deforms =
                    ["cloth", "soft"].iter().any(|of| path.starts_with(&format!("kind.solid.{of}.")));
                (body || deforms) && !["weight", "wake", "pins", "scaled"].iter().any(|of| path.contains(of))
            };
            for (path, (value, declaration)) in new_values.iter().filter(|(path, _)| of_body(path)) {
                say(old_values.get(path).is_some_and(|(old, _)| old != value), declaration.words);
            }
        }
        (ElementKind::Particles(a), ElementKind::Particles(b)) => {
            let (a, b) = (a.unseen(), b.unseen());
            say(a.source != b.source, "source");
            say(a.emission != b.emission, "emission");
            say(a.start != b.start, "start");
            say(a.body != b.body, "weight and drag");
            say(a.steering != b.steering, "steering");
            say(a.contact != b.contact, "meeting");
            say(a.events != b.events, "events");
            say(a.seed != b.seed, "seed");
        }
        (a, b) if a != b => {
            let own = |values: Values| -> Values {
                values.into_iter().filter(|(path, _)| path.starts_with("kind.")).collect()
            };
            let (old_values, new_values) = (own(old_values), own(new_values));
            let same_kind = old_values.keys().eq(new_values.keys());
            for (path, (value, declaration)) in &new_values {
                say(same_kind && old_values[path].0 != *value, declaration.words);
            }
            if let (ElementKind::Force(a), ElementKind::Force(b)) = (a, b) {
                say((&a.only, &a.except) != (&b.only, &b.except), "what it acts on");
                say(a.region != b.region, "region");
            }
            if changes.is_empty() {
                changes.push("settings".to_owned());
            }
        }
        _ => {}
    }
    changes
}

/// Values and their declarations by path.
type Values = BTreeMap<String, (Option<Value>, &'static Declaration)>;

/// The values of an element by their paths.
fn values(element: &Element) -> Values {
    let mut values = BTreeMap::new();
    element_parameters(&mut element.clone(), &mut |path, slot, bounds| {
        values.insert(path.to_string(), (slot.get(), bounds.declaration));
    });
    values
}
