//! Systems: the elements that are solved together, because they act on each other.
//!
//! All rigid solids are one system, and all cloths and soft bodies, which read the solids. Particles that meet cloths read those too.
//! Particles are one system with all that they become or are born of, and liquids with those of the same spacing; they belong to the solids' system where they push free bodies, become
//! bodies, or come from bodies. Other particles only read the solids, and the liquids that carry them: what changes in
//! them leaves those fresh.

use crate::{
    Element, Id, Moves, Shot,
    particles::{Action, Particles, Source},
    references::Role,
};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::BTreeMap;
use std::str::FromStr;

/// The identity of a system in a shot, and its name in a run folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SystemId {
    /// The solids, with the particles that act on them. Every shot has it.
    Solids,
    /// The cloths and soft bodies.
    Deformables,
    /// The meshes that sway.
    Sway,
    /// Particles that act on no solid, by the lowest id among them.
    Particles(Id),
}

impl std::fmt::Display for SystemId {
    fn fmt(&self, to: &mut std::fmt::Formatter) -> std::fmt::Result {
        match self {
            Self::Solids => write!(to, "solids"),
            Self::Deformables => write!(to, "deformables"),
            Self::Sway => write!(to, "sway"),
            Self::Particles(id) => write!(to, "particles-{}", id.0),
        }
    }
}

impl FromStr for SystemId {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let particles = || Some(Self::Particles(Id(text.strip_prefix("particles-")?.parse().ok()?)));
        let found = match text {
            "solids" => Some(Self::Solids),
            "deformables" => Some(Self::Deformables),
            "sway" => Some(Self::Sway),
            _ => particles(),
        };
        // Only the one way of writing a number names a folder.
        found.filter(|id| id.to_string() == text).ok_or_else(|| format!("{text}: is no system"))
    }
}

impl Serialize for SystemId {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for SystemId {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
    }
}

/// Elements that are solved together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct System {
    /// Its identity.
    pub id: SystemId,
    /// Its solids and particles, in the order of the shot.
    pub elements: Vec<Id>,
    /// The systems whose motion it needs.
    pub reads: Vec<SystemId>,
}

impl System {
    /// Its name in a sentence: `solids`, `Sparks`, `Sparks and 2 more`.
    pub fn name(&self, shot: &Shot) -> String {
        match self.id {
            SystemId::Solids => "solids".to_owned(),
            SystemId::Sway => "sway".to_owned(),
            SystemId::Deformables | SystemId::Particles(_) => {
                let first = match self.id {
                    SystemId::Particles(id) => Some(id),
                    _ => self.elements.first().copied(),
                };
                let name = first.and_then(|id| shot.element(id)).map_or("cloth", |element| &element.name);
                match self.elements.len() {
                    0 | 1 => name.to_owned(),
                    n => format!("{name} and {} more", n - 1),
                }
            }
        }
    }
}

impl Shot {
    /// The systems of the shot, each after those that it reads.
    pub fn systems(&self) -> Vec<System> {
        let particles: Vec<(&Element, &Particles)> = self.particles().collect();
        let index: BTreeMap<Id, usize> =
            particles.iter().enumerate().map(|(i, (e, _))| (e.id, i + 1)).collect();
        // Place 0 is that of the solids.
        let mut groups = Groups::new(particles.len() + 1);
        for (i, (element, set)) in particles.iter().enumerate() {
            let becomes_solid = set.events.iter().any(|event| matches!(event.action, Action::Solid { .. }));
            if becomes_solid || self.pushes(element, set) || self.pushes_deformables(element, set) {
                groups.join(0, i + 1);
            }
            let crowd = match set.source {
                Source::Particles { particles } => Some(particles),
                _ => None,
            };
            for other in set.makes().chain(crowd).filter_map(|id| index.get(&id)) {
                groups.join(i + 1, *other);
            }
            // Liquids that share a grid push each other.
            if let Some(liquid) = &set.liquid {
                let same =
                    |of: &&Particles| of.liquid.as_ref().is_some_and(|of| of.spacing_m == liquid.spacing_m);
                let before = particles[..i].iter().position(|(_, of)| same(of));
                before.into_iter().for_each(|other| groups.join(other + 1, i + 1));
            }
        }
        for (_, solid) in self.solids() {
            let returns = solid.to_particles.as_ref().and_then(|back| index.get(&back.particles));
            returns.into_iter().for_each(|place| groups.join(0, *place));
        }
        groups.join_circles(&self.carried_groups(&index, &groups));
        let carried = self.carried_groups(&index, &groups);
        let solid = groups.of(0);
        // What can push solids is solved with them.
        let pushed = self.elements.iter().any(Element::pushes_solids)
            && self.solids().any(|(element, solid)| !element.deforms() && comes_free(solid))
            || particles.iter().any(|(element, set)| self.pushes_deformables(element, set));
        let with_solids = |element: &Element| {
            element.as_solid().is_some() && (pushed || !element.deforms())
                || index.get(&element.id).is_some_and(|place| groups.of(*place) == solid)
        };
        let members = |wanted: &dyn Fn(&Element) -> bool| -> Vec<Id> {
            self.elements.iter().filter(|element| wanted(element)).map(|element| element.id).collect()
        };
        let mut systems =
            vec![System { id: SystemId::Solids, elements: members(&with_solids), reads: Vec::new() }];
        let deformables = if pushed { Vec::new() } else { members(&Element::deforms) };
        let apart = !deformables.is_empty();
        if apart {
            systems.push(System {
                id: SystemId::Deformables,
                elements: deformables,
                reads: vec![SystemId::Solids],
            });
        }
        let swaying = members(&|element| element.as_swaying().is_some());
        if !swaying.is_empty() {
            systems.push(System { id: SystemId::Sway, elements: swaying, reads: vec![SystemId::Solids] });
        }
        let mut found: BTreeMap<usize, Vec<Id>> = BTreeMap::new();
        for (i, (element, _)) in particles.iter().enumerate() {
            let group = groups.of(i + 1);
            if group != solid {
                found.entry(group).or_default().push(element.id);
            }
        }
        let name = |group: usize| match found.get(&group) {
            Some(elements) => {
                SystemId::Particles(elements.iter().min().copied().expect("a group has a member"))
            }
            None => SystemId::Solids,
        };
        let mut alone: Vec<System> = Vec::new();
        for group in in_order(found.keys().copied(), &carried) {
            let elements = found[&group].clone();
            let (id, mut reads) = (name(group), vec![SystemId::Solids]);
            let meets = |id: &Id| self.element(*id).is_some_and(|element| self.meets_deformables(element));
            if apart && elements.iter().any(meets) {
                reads.push(SystemId::Deformables);
            }
            // A system that is read steps alongside, with all that it reads itself.
            let liquids = carried.iter().filter(|(of, by)| *of == group && *by != group && *by != solid);
            for liquid in liquids.map(|(_, by)| name(*by)) {
                let before =
                    alone.iter().find(|system| system.id == liquid).map(|system| system.reads.clone());
                for read in before.into_iter().flatten().chain([liquid]) {
                    if !reads.contains(&read) {
                        reads.push(read);
                    }
                }
            }
            alone.push(System { id, elements, reads });
        }
        systems.extend(alone);
        systems
    }

    /// The groups of particles that liquids release or carry, each with that of the liquid.
    fn carried_groups(&self, index: &BTreeMap<Id, usize>, groups: &Groups) -> Vec<(usize, usize)> {
        let of = |(element, set): (&Element, &Particles)| {
            let own = groups.of(index[&element.id]);
            let liquids: Vec<usize> =
                set.liquids().filter_map(|id| index.get(&id)).map(|place| groups.of(*place)).collect();
            liquids.into_iter().filter(move |liquid| *liquid != own).map(move |liquid| (own, liquid))
        };
        self.particles().flat_map(of).collect()
    }

    /// Whether particles can meet a cloth or a soft body, are born on one or stay on one.
    pub fn meets_deformables(&self, particles: &Element) -> bool {
        let Some(set) = particles.as_particles() else { return false };
        let enabled =
            set.contact.enabled || particles.channels.contains_key("kind.particles.contact.enabled");
        let contact = crate::particles::ContactResponse { enabled: true, ..set.contact.clone() };
        let named = particles.references();
        self.elements.iter().filter(|element| element.deforms()).any(|element| {
            enabled && contact.collides_with(element)
                || named.iter().any(|reference| reference.id == element.id && reference.role != Role::Listed)
        })
    }

    /// Whether particles can push a body of the shot.
    fn pushes(&self, element: &Element, set: &Particles) -> bool {
        let push = (set.contact.push, "kind.particles.contact.push");
        self.can_push(element, set, push, &|body, solid| !body.deforms() && comes_free(solid))
    }

    /// Whether particles can push a cloth or a soft body, now or by a key.
    pub fn pushes_deformables(&self, element: &Element, set: &Particles) -> bool {
        let push = (set.contact.push_deformables, "kind.particles.contact.push_deformables");
        self.can_push(element, set, push, &|body, _| body.deforms())
    }

    fn can_push(
        &self,
        element: &Element,
        set: &Particles,
        (push, path): (bool, &str),
        gives_way: &dyn Fn(&Element, &crate::Solid) -> bool,
    ) -> bool {
        let keyed = |path: &str| element.channels.contains_key(path);
        let can = |now: bool, path: &str| now || keyed(path);
        if !can(push, path) || !can(set.contact.enabled, "kind.particles.contact.enabled") {
            return false;
        }
        let contact = crate::particles::ContactResponse { enabled: true, ..set.contact.clone() };
        self.solids().any(|(body, solid)| gives_way(body, solid) && contact.collides_with(body))
    }
}

/// Whether a solid is free at some time.
fn comes_free(solid: &crate::Solid) -> bool {
    solid.body.moves == Moves::Free || solid.body.wake.is_some()
}

/// Groups in an order in which each comes after those that carry it; of two that could both be next, the lower.
fn in_order(groups: impl Iterator<Item = usize>, carried: &[(usize, usize)]) -> Vec<usize> {
    let mut left: Vec<usize> = groups.collect();
    let mut order = Vec::with_capacity(left.len());
    while !left.is_empty() {
        let waits = |group: usize| carried.iter().any(|(of, by)| *of == group && left.contains(by));
        let next = left.iter().position(|group| !waits(*group)).unwrap_or(0);
        order.push(left.remove(next));
    }
    order
}

/// Places that belong together (union–find).
struct Groups(Vec<usize>);

impl Groups {
    fn new(count: usize) -> Self {
        Self((0..count).collect())
    }

    fn of(&self, mut place: usize) -> usize {
        while self.0[place] != place {
            place = self.0[place];
        }
        place
    }

    /// The group of the lower place takes in the other.
    fn join(&mut self, a: usize, b: usize) {
        let (a, b) = (self.of(a), self.of(b));
        self.0[a.max(b)] = a.min(b);
    }

    /// Joins groups that carry each other in a circle. All read the group of the solids, place 0.
    fn join_circles(&mut self, carried: &[(usize, usize)]) {
        let solid = self.of(0);
        let others = carried.iter().flat_map(|(of, by)| [*of, *by]).filter(|group| *group != solid);
        let all: Vec<(usize, usize)> = carried.iter().copied().chain(others.map(|of| (of, solid))).collect();
        let reached = |from: usize| {
            let mut reached = vec![from];
            let mut at = 0;
            while at < reached.len() {
                let next: Vec<usize> =
                    all.iter().filter(|(of, _)| *of == reached[at]).map(|(_, by)| *by).collect();
                next.into_iter().for_each(|by| {
                    if !reached.contains(&by) {
                        reached.push(by)
                    }
                });
                at += 1;
            }
            reached
        };
        for (of, by) in &all {
            if reached(*by).contains(of) {
                self.join(*of, *by);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{ElementKind, Shape, particles::ParticleEvent, particles::Split, particles::Trigger};

    /// A still deck and a crate that moves as given; sparks, smoke and dust.
    fn shot(moves: Moves) -> (Shot, [Id; 3]) {
        let mut shot = Shot::empty("Quay");
        shot.add(Element::solid("Deck", Shape::plane(4.0, 4.0), Moves::Still));
        shot.add(Element::solid("Crate", Shape::sphere(0.4), moves));
        let ids = ["Sparks", "Smoke", "Dust"]
            .map(|name| shot.add(Element::new(name, ElementKind::Particles(Particles::default()))));
        (shot, ids)
    }

    fn set(shot: &mut Shot, id: Id) -> &mut Particles {
        shot.elements.iter_mut().find(|of| of.id == id).unwrap().as_particles_mut().unwrap()
    }

    fn ids(shot: &Shot) -> Vec<SystemId> {
        shot.systems().iter().map(|system| system.id).collect()
    }

    #[test]
    fn particles_that_push_free_bodies_are_solved_with_them() {
        let (mut shot, [sparks, smoke, dust]) = shot(Moves::Free);
        assert_eq!(ids(&shot), [SystemId::Solids]);
        for id in [sparks, dust] {
            set(&mut shot, id).contact.push = false;
        }
        assert_eq!(ids(&shot), [SystemId::Solids, SystemId::Particles(sparks), SystemId::Particles(dust)]);
        assert!(shot.systems()[0].elements.contains(&smoke));
        // Nor do those that pass through all that can be pushed.
        let crate_id = shot.named("Crate").unwrap().id;
        set(&mut shot, smoke).contact.except.push(crate::force::ElementFilter::Element(crate_id));
        assert_eq!(shot.systems().len(), 4);
        // A push that is keyed on counts from the start.
        let on = crate::motion::Channel::keyed([(20.0, true)]);
        shot.named_mut("Dust").unwrap().channels.insert("kind.particles.contact.push".to_owned(), on);
        assert_eq!(ids(&shot), [SystemId::Solids, SystemId::Particles(sparks), SystemId::Particles(smoke)]);
    }

    #[test]
    fn without_free_bodies_nothing_is_pushed() {
        assert_eq!(ids(&shot(Moves::Still).0).len(), 4);
        assert_eq!(ids(&shot(Moves::Animated).0).len(), 4);
    }

    #[test]
    fn particles_that_become_others_are_one_system() {
        let (mut shot, [sparks, smoke, dust]) = shot(Moves::Still);
        let event = |particles| ParticleEvent {
            trigger: Trigger::End {},
            action: Action::Split(Split { particles: Some(particles), ..Split::default() }),
            probability: 1.0,
        };
        set(&mut shot, dust).events.push(event(sparks));
        assert_eq!(ids(&shot), [SystemId::Solids, SystemId::Particles(sparks), SystemId::Particles(smoke)]);
        assert_eq!(shot.systems()[1].elements, [sparks, dust]);
        assert_eq!(shot.systems()[1].name(&shot), "Sparks and 1 more");
        set(&mut shot, smoke).source = Source::Particles { particles: dust };
        assert_eq!(shot.systems()[1].elements, [sparks, smoke, dust]);
    }

    #[test]
    fn particles_that_a_liquid_carries_read_it_and_come_after_it() {
        let (mut shot, [foam, water, other]) = shot(Moves::Still);
        set(&mut shot, water).liquid = Some(crate::particles::Liquid::default());
        set(&mut shot, foam).carried = Some(crate::particles::Carried::by(water));
        let of = |id| SystemId::Particles(id);
        assert_eq!(ids(&shot), [SystemId::Solids, of(water), of(foam), of(other)]);
        assert_eq!(shot.systems()[2].reads, [SystemId::Solids, of(water)]);
        // A liquid that foam becomes again is in its system: both ways make them one.
        let again = ParticleEvent {
            trigger: Trigger::End {},
            action: Action::Become { particles: water },
            probability: 1.0,
        };
        set(&mut shot, other).carried = Some(crate::particles::Carried::by(water));
        set(&mut shot, foam).events.push(again);
        assert_eq!(ids(&shot), [SystemId::Solids, of(foam), of(other)]);
        // A liquid that reads what pushes solids is solved with them.
        set(&mut shot, other).events.push(ParticleEvent {
            trigger: Trigger::End {},
            action: Action::Solid { solid: Id(2) },
            probability: 1.0,
        });
        assert_eq!(ids(&shot), [SystemId::Solids]);
    }

    #[test]
    fn an_id_is_written_and_read_in_one_way() {
        for id in [SystemId::Solids, SystemId::Deformables, SystemId::Particles(Id(12))] {
            assert_eq!(id.to_string().parse(), Ok(id));
        }
        for wrong in ["", "solid", "particles-", "particles-01", "particles-+1", "particles-../x"] {
            assert!(wrong.parse::<SystemId>().is_err(), "{wrong}");
        }
    }
}
