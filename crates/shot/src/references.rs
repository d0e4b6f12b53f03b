//! References between elements: the one list that checking, loops,
//! staleness and deleting go by.

use crate::{
    Element, ElementKind, Id, PinnedPart, Shot, Wake,
    finish::FinishOperation,
    force::{ElementFilter, ForceKind},
    map::LayerSource,
    particles::{Action, LiquidWeight, Source, Trigger},
    region::Volume,
};
use serde_json::Value;

/// One element named by another.
#[derive(Clone, Debug, PartialEq)]
pub struct Reference {
    /// Path below the element, such as `kind.force.region`.
    pub path: String,
    /// The element that is named.
    pub id: Id,
    /// Role of the reference.
    pub role: Role,
    /// Kinds of element that it may name.
    pub to: Target,
    /// What goes with the named element: a value that may be left out, an entry
    /// of a list, or, if empty, the whole element.
    pub holder: String,
}

/// The role of a reference.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// To stand or look by.
    Placement,
    /// To be made of, or to act by: regions, targets, curves.
    Part,
    /// To be born on.
    Source,
    /// Particles to be born of those of others.
    Crowd,
    /// To wait for, or to be taken back by: a region of a solid.
    Waiting,
    /// To become.
    Made,
    /// An entry of a list of elements.
    Listed,
    /// To be shown.
    Shown,
}

/// The kinds of element that a reference may name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Target {
    /// Any element.
    Any,
    /// A solid.
    Solid,
    /// A solid whose bodies come from particles.
    SolidFromParticles,
    /// A curve.
    Curve,
    /// A curve or a solid.
    CurveOrSolid,
    /// A region.
    Region,
    /// A camera.
    Camera,
    /// Particles.
    Particles,
    /// Particles that are a liquid.
    Liquid,
    /// Elements that forces act on: solids and particles.
    SolidOrParticles,
}

impl Target {
    /// Whether an element is one of those.
    pub fn is(self, element: &Element) -> bool {
        let (solid, curve) = (element.as_solid(), matches!(element.kind, ElementKind::Curve(_)));
        let particles = element.as_particles().is_some();
        match self {
            Self::Any => true,
            Self::Solid => solid.is_some(),
            Self::SolidFromParticles => solid.is_some_and(|solid| solid.from_particles.is_some()),
            Self::Curve => curve,
            Self::CurveOrSolid => curve || solid.is_some(),
            Self::Region => element.as_region().is_some(),
            Self::Camera => matches!(element.kind, ElementKind::Camera(_)),
            Self::Particles => particles,
            Self::Liquid => element.as_particles().is_some_and(|particles| particles.liquid.is_some()),
            Self::SolidOrParticles => solid.is_some() || particles,
        }
    }

    /// Its name in a sentence.
    pub fn name(self) -> &'static str {
        match self {
            Self::Any => "an element",
            Self::Solid => "a solid",
            Self::SolidFromParticles => "a solid that comes from particles",
            Self::Curve => "a curve",
            Self::CurveOrSolid => "a curve or solid",
            Self::Region => "a region",
            Self::Camera => "a camera",
            Self::Particles => "particles",
            Self::Liquid => "a liquid",
            Self::SolidOrParticles => "a solid or particles",
        }
    }
}

impl Element {
    /// All elements that this one names.
    pub fn references(&self) -> Vec<Reference> {
        let mut list = List(Vec::new());
        if let Some(attached) = &self.attached {
            let to = if attached.along.is_some() { Target::Curve } else { Target::Any };
            list.add("attached.to", attached.to, Role::Placement, to, "attached");
        }
        if let Some(aim) = &self.aim {
            list.add("aim.target", aim.target, Role::Placement, Target::Any, "aim");
        }
        match &self.kind {
            ElementKind::Solid(solid) => {
                let pins = [
                    ("cloth", solid.cloth.as_ref().map(|cloth| &cloth.pins)),
                    ("soft", solid.soft.as_ref().map(|soft| &soft.pins)),
                ];
                for (of, pins) in pins {
                    for (i, pin) in pins.into_iter().flatten().enumerate() {
                        let holder = format!("kind.solid.{of}.pins[{i}]");
                        if let PinnedPart::Region(id) = pin.part {
                            let path = format!("{holder}.part.region");
                            list.add(&path, id, Role::Part, Target::Region, &holder);
                        }
                        if let Some(id) = pin.to {
                            list.add(&format!("{holder}.to"), id, Role::Part, Target::Solid, &holder);
                        }
                    }
                }
                for (i, map) in solid.maps.iter().enumerate() {
                    for (j, layer) in map.layers.iter().enumerate() {
                        let holder = format!("kind.solid.maps[{i}].layers[{j}]");
                        let (name, id, to) = match layer.source {
                            LayerSource::Region { region } => ("region.region", region, Target::Region),
                            LayerSource::Curve { curve, .. } => ("curve.curve", curve, Target::Curve),
                            LayerSource::Inside { curve, .. } => ("inside.curve", curve, Target::Curve),
                            _ => continue,
                        };
                        list.add(&format!("{holder}.source.{name}"), id, Role::Part, to, &holder);
                    }
                }
                if let Some(Wake::Region(id)) = solid.body.wake {
                    let wake = "kind.solid.body.wake";
                    list.add("kind.solid.body.wake.region", id, Role::Waiting, Target::Region, wake);
                }
                if let Some(back) = &solid.to_particles {
                    let holder = "kind.solid.to_particles";
                    list.add(
                        "kind.solid.to_particles.particles",
                        back.particles,
                        Role::Made,
                        Target::Particles,
                        holder,
                    );
                    list.trigger("kind.solid.to_particles.trigger", &back.trigger, holder, Role::Waiting);
                }
            }
            ElementKind::Particles(particles) => list.particles(particles),
            ElementKind::Force(force) => {
                if let Some(id) = force.region {
                    list.add("kind.force.region", id, Role::Part, Target::Region, "kind.force.region");
                }
                list.filters("kind.force.only", &force.only, Target::SolidOrParticles);
                list.filters("kind.force.except", &force.except, Target::SolidOrParticles);
                match &force.kind {
                    ForceKind::Attract(attract) => {
                        if let Some(id) = attract.target {
                            let path = "kind.force.kind.attract.target";
                            list.add(path, id, Role::Part, Target::CurveOrSolid, path);
                        }
                    }
                    ForceKind::Along(along) => {
                        list.add("kind.force.kind.along.curve", along.curve, Role::Part, Target::Curve, "");
                    }
                    _ => {}
                }
            }
            ElementKind::Region(region) => match &region.volume {
                Volume::Inside { solid } => {
                    list.add("kind.region.volume.inside.solid", *solid, Role::Part, Target::Solid, "");
                }
                Volume::Gate { camera, .. } => {
                    list.add("kind.region.volume.gate.camera", *camera, Role::Part, Target::Camera, "");
                }
                Volume::Combined { parts } => {
                    for (i, part) in parts.iter().enumerate() {
                        let holder = format!("kind.region.volume.combined.parts[{i}]");
                        let path = format!("{holder}.region");
                        list.add(&path, part.region, Role::Part, Target::Region, &holder);
                    }
                }
                _ => {}
            },
            ElementKind::Finish(finish) => {
                if let Some(id) = finish.element {
                    let path = "kind.finish.element";
                    list.add(path, id, Role::Part, Target::SolidOrParticles, "");
                }
                if let FinishOperation::Place { about: Some(id), .. } = finish.operation {
                    let path = "kind.finish.operation.place.about";
                    list.add(path, id, Role::Placement, Target::Any, path);
                }
            }
            ElementKind::Curve(_)
            | ElementKind::Camera(_)
            | ElementKind::Sun(_)
            | ElementKind::Sky(_)
            | ElementKind::AreaLight(_) => {}
        }
        list.0
    }
}

struct List(Vec<Reference>);

impl List {
    fn add(&mut self, path: &str, id: Id, role: Role, to: Target, holder: &str) {
        self.0.push(Reference { path: path.to_owned(), id, role, to, holder: holder.to_owned() });
    }

    fn filters(&mut self, path: &str, list: &[ElementFilter], to: Target) {
        for (i, who) in list.iter().enumerate() {
            if let ElementFilter::Element(id) = who {
                let holder = format!("{path}[{i}]");
                self.add(&holder, *id, Role::Listed, to, &holder);
            }
        }
    }

    fn trigger(&mut self, path: &str, when: &Trigger, holder: &str, role: Role) {
        match when {
            Trigger::Region { region } => {
                self.add(&format!("{path}.region.region"), *region, role, Target::Region, holder);
            }
            Trigger::Touch { bodies, .. } => {
                self.filters(&format!("{path}.touch.bodies"), bodies, Target::Solid)
            }
            _ => {}
        }
    }

    fn particles(&mut self, particles: &crate::particles::Particles) {
        let from = "kind.particles.source";
        match &particles.source {
            Source::Solid { solid, .. } => {
                self.add(&format!("{from}.solid.solid"), *solid, Role::Source, Target::Solid, from);
            }
            Source::Broken { solid, .. } => {
                self.add(&format!("{from}.broken.solid"), *solid, Role::Source, Target::Solid, from);
            }
            Source::Seam { solid, curve, .. } => {
                self.add(&format!("{from}.seam.solid"), *solid, Role::Source, Target::Solid, from);
                self.add(&format!("{from}.seam.curve"), *curve, Role::Source, Target::Curve, from);
            }
            Source::Curve { curve } => {
                self.add(&format!("{from}.curve.curve"), *curve, Role::Source, Target::Curve, from);
            }
            Source::Particles { particles } => {
                self.add(
                    &format!("{from}.particles.particles"),
                    *particles,
                    Role::Crowd,
                    Target::Particles,
                    from,
                );
            }
            Source::Liquid { liquid, .. } => {
                let path = format!("{from}.liquid.liquid");
                self.add(&path, *liquid, Role::Source, Target::Liquid, from);
            }
            Source::Impacts { bodies, .. } => {
                self.filters(&format!("{from}.impacts.bodies"), bodies, Target::Solid)
            }
            Source::Point {} | Source::Grid { .. } | Source::Shape { .. } | Source::Pool {} => {}
        }
        if let Some(id) = particles.emission.region {
            let path = "kind.particles.emission.region";
            self.add(path, id, Role::Part, Target::Region, path);
        }
        for (i, scaled) in particles.liquid.iter().flat_map(|liquid| &liquid.scaled).enumerate() {
            if let LiquidWeight::Region { region } = scaled.by {
                let holder = format!("kind.particles.liquid.scaled[{i}]");
                self.add(&format!("{holder}.by.region.region"), region, Role::Part, Target::Region, &holder);
            }
        }
        if let Some(carried) = &particles.carried {
            let holder = "kind.particles.carried";
            self.add(&format!("{holder}.liquid"), carried.liquid, Role::Part, Target::Liquid, holder);
        }
        if let Some(id) = particles.steering.constrained_to {
            let path = "kind.particles.steering.constrained_to";
            self.add(path, id, Role::Part, Target::CurveOrSolid, path);
        }
        self.filters("kind.particles.contact.only", &particles.contact.only, Target::Solid);
        self.filters("kind.particles.contact.except", &particles.contact.except, Target::Solid);
        for (i, event) in particles.events.iter().enumerate() {
            let holder = format!("kind.particles.events[{i}]");
            self.trigger(&format!("{holder}.trigger"), &event.trigger, &holder, Role::Part);
            let action = format!("{holder}.action");
            match &event.action {
                Action::Become { particles } => {
                    self.add(
                        &format!("{action}.become.particles"),
                        *particles,
                        Role::Made,
                        Target::Particles,
                        &holder,
                    );
                }
                Action::Trail { particles, .. } => {
                    self.add(
                        &format!("{action}.trail.particles"),
                        *particles,
                        Role::Made,
                        Target::Particles,
                        &holder,
                    );
                }
                Action::Split(split) => {
                    if let Some(particles) = split.particles {
                        let path = format!("{action}.split.particles");
                        self.add(&path, particles, Role::Made, Target::Particles, &path);
                    }
                }
                Action::Solid { solid } => {
                    let to = Target::SolidFromParticles;
                    self.add(&format!("{action}.solid.solid"), *solid, Role::Made, to, &holder);
                }
                Action::Die {} => {}
            }
        }
        for (i, id) in particles.appearance.shown().iter().enumerate() {
            let path = format!("kind.particles.appearance.form.instance.solids[{i}]");
            self.add(&path, *id, Role::Shown, Target::Solid, &path);
        }
    }
}

/// A list, its holder, and a switch that is set instead of dropping the holder.
type EmptiedList = (&'static str, &'static str, Option<(&'static str, bool)>);

/// Lists that mean all elements when they are empty, or must not be empty, with
/// what becomes of their holder when the last that they name is deleted.
const LISTS: [EmptiedList; 5] = [
    ("kind.force.only", "", Some(("kind.force.enabled", false))),
    ("kind.particles.contact.only", "", Some(("kind.particles.contact.enabled", false))),
    ("kind.particles.source.impacts.bodies", "kind.particles.source", None),
    ("kind.particles.appearance.form.instance.solids", "kind.particles.appearance.form", None),
    ("kind.region.volume.combined.parts", "", None),
];

impl Shot {
    /// The shot without some elements, and without what names them: attachments,
    /// entries of lists, events. What is nothing without them goes too.
    #[must_use]
    pub fn without(&self, ids: &[Id]) -> Self {
        let mut gone: Vec<Id> = ids.to_vec();
        let mut shot = self.clone();
        loop {
            let mut more = Vec::new();
            let mut elements = Vec::new();
            for element in shot.elements.iter().filter(|element| !gone.contains(&element.id)) {
                match forget(element, self, &gone) {
                    Some(element) => elements.push(element),
                    None => more.push(element.id),
                }
            }
            if more.is_empty() {
                shot.elements = elements;
                break;
            }
            gone.extend(more);
        }
        if shot.camera.is_some_and(|camera| gone.contains(&camera)) {
            let camera = |element: &&Element| matches!(element.kind, ElementKind::Camera(_));
            shot.camera = shot.elements.iter().find(camera).map(|element| element.id);
        }
        let names = names(self, &gone);
        shot.channels.retain(|_, channel| !channel.names_any(&names));
        shot
    }
}

/// How formulas begin to name elements.
fn names(shot: &Shot, gone: &[Id]) -> Vec<String> {
    let of = |id: &Id| shot.element(*id).map(|element| format!("{{{}.", element.name));
    gone.iter().filter_map(of).collect()
}

/// An element without what names others; none if it is nothing without them.
fn forget(element: &Element, shot: &Shot, gone: &[Id]) -> Option<Element> {
    let mut kept = element.clone();
    let names = names(shot, gone);
    kept.channels.retain(|_, channel| !channel.names_any(&names));
    let mut holders: Vec<String> = element
        .references()
        .into_iter()
        .filter(|reference| gone.contains(&reference.id))
        .map(|reference| reference.holder)
        .collect();
    if holders.is_empty() {
        return Some(kept);
    }
    // Entries of lists come last, from the last to the first, so that places stay right.
    holders.sort_by_key(|holder| (entry_of(holder).map(std::cmp::Reverse), holder.clone()));
    holders.dedup();
    if holders.iter().any(String::is_empty) {
        return None;
    }
    let mut value = serde_json::to_value(&kept).expect("an element serialises");
    for holder in holders {
        remove(&mut value, &holder);
    }
    for (list, holder, off) in LISTS {
        let emptied = element.references().iter().any(|r| r.path.starts_with(&format!("{list}[")))
            && at(&value, list).and_then(Value::as_array).is_none_or(Vec::is_empty);
        match (emptied, off) {
            (false, _) => {}
            (true, Some((switch, on))) => set(&mut value, switch, Value::Bool(on)),
            (true, None) if holder.is_empty() => return None,
            (true, None) => remove(&mut value, holder),
        }
    }
    // An event of touching those that are gone would be one of touching any.
    if let (Some(before), Some(Value::Array(events))) =
        (element.as_particles(), pointer(&mut value, "kind.particles.events"))
    {
        let meant = |event: &Value| {
            event
                .pointer("/trigger/touch/bodies")
                .and_then(Value::as_array)
                .is_some_and(|bodies| !bodies.is_empty())
        };
        let named = before
            .events
            .iter()
            .any(|b| matches!(&b.trigger, Trigger::Touch { bodies, .. } if !bodies.is_empty()));
        if named {
            events.retain(|event| event.pointer("/trigger/touch").is_none() || meant(event));
        }
    }
    serde_json::from_value(value).ok()
}

/// The place in its list of a path to an entry of one.
fn entry_of(path: &str) -> Option<usize> {
    path.strip_suffix(']')?.rsplit_once('[')?.1.parse().ok()
}

/// The steps of a path such as `kind.particles.events[2].action`.
fn steps(path: &str) -> impl Iterator<Item = &str> {
    path.split(['.', '[']).map(|step| step.trim_end_matches(']'))
}

fn at<'a>(value: &'a Value, path: &str) -> Option<&'a Value> {
    steps(path).try_fold(value, |value, step| match value {
        Value::Array(list) => list.get(step.parse::<usize>().ok()?),
        _ => value.get(step),
    })
}

fn pointer<'a>(value: &'a mut Value, path: &str) -> Option<&'a mut Value> {
    steps(path).try_fold(value, |value, step| match value {
        Value::Array(list) => list.get_mut(step.parse::<usize>().ok()?),
        _ => value.get_mut(step),
    })
}

fn split_last(path: &str) -> (&str, &str) {
    let cut = path.rfind(['.', '[']).unwrap_or(0);
    (&path[..cut], path[cut..].trim_matches(['.', '[', ']']))
}

fn remove(value: &mut Value, path: &str) {
    let (parent, last) = split_last(path);
    match if parent.is_empty() { Some(value) } else { pointer(value, parent) } {
        Some(Value::Array(list)) => {
            if let Some(index) = last.parse::<usize>().ok().filter(|&index| index < list.len()) {
                list.remove(index);
            }
        }
        Some(Value::Object(map)) => {
            map.remove(if parent.is_empty() { path } else { last });
        }
        _ => {}
    }
}

fn set(value: &mut Value, path: &str, to: Value) {
    let (parent, last) = split_last(path);
    if let Some(Value::Object(map)) = pointer(value, parent) {
        map.insert(last.to_owned(), to);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        Aim, Attached, Moves, Shape,
        curve::Curve,
        force::{Attract, Force},
        motion::Channel,
        particles::{EmissionDomain, Form, ParticleEvent, Particles, Split, ToParticles},
        region::{Combine, Part, Region},
    };

    fn shot() -> Shot {
        let mut shot = Shot::empty("References");
        let solid = |name: &str| Element::solid(name, Shape::sphere(0.1), Moves::Free);
        let a = shot.add(solid("A"));
        let b = shot.add(solid("B"));
        let rail = shot.add(Element::new("Rail", ElementKind::Curve(Curve::Circle { radius_m: 1.0 })));
        let position = shot
            .add(Element::new("Place", ElementKind::Region(Region::new(Volume::Sphere { radius_m: 1.0 }))));
        shot.add(Element::new("Within", ElementKind::Region(Region::new(Volume::Inside { solid: a }))));
        let part = |region| Part { region, operation: Combine::Add };
        let both = Volume::Combined { parts: vec![part(position)] };
        shot.add(Element::new("Both", ElementKind::Region(Region::new(both))));
        let mut lamp = solid("Lamp");
        lamp.attached = Some(Attached { to: a, along: None, facing: false });
        lamp.aim = Some(Aim { target: b, damping_s: 0.0 });
        lamp.as_solid_mut().unwrap().body.wake = Some(Wake::Region(position));
        shot.add(lamp.keyed("placement.position_m[0]", Channel::expression("{A.position.x} + 1")));
        let mut pull = Force::new(ForceKind::Pull { force_n: 1.0 });
        (pull.region, pull.only) = (Some(position), vec![ElementFilter::Element(a)]);
        shot.add(Element::new("Pull", ElementKind::Force(pull)));
        let along = format!(r#"{{"along": {{"curve": {}, "speed_m_s": 1.0, "range_m": 2.0}}}}"#, rail.0);
        let stream: ForceKind = serde_json::from_str(&along).unwrap();
        shot.add(Element::new("Stream", ElementKind::Force(Force::new(stream))));
        let to = ForceKind::Attract(Attract { target: Some(rail), ..Attract::default() });
        shot.add(Element::new("Draw", ElementKind::Force(Force::new(to))));
        let mut dust = Particles {
            source: Source::Solid { solid: a, domain: EmissionDomain::Surface },
            ..Particles::default()
        };
        dust.contact.only = vec![ElementFilter::Element(b), ElementFilter::Element(a)];
        dust.appearance.form =
            Form::Instance { solids: vec![a], choice: Default::default(), orientation: Default::default() };
        let dust = shot.add(Element::new("Dust", ElementKind::Particles(dust)));
        let event = |trigger, action| ParticleEvent { trigger, action, probability: 1.0 };
        let split = Split { particles: Some(dust), ..Split::default() };
        let mut sparks = Particles { source: Source::Curve { curve: rail }, ..Particles::default() };
        sparks.events = vec![
            event(Trigger::Touch { bodies: vec![ElementFilter::Element(a)], speed_m_s: 0.0 }, Action::Die {}),
            event(Trigger::Age { age_s: 1.0 }, Action::Become { particles: dust }),
            event(Trigger::Region { region: position }, Action::Split(split)),
        ];
        (sparks.emission.region, sparks.steering.constrained_to) = (Some(position), Some(rail));
        shot.add(Element::new("Sparks", ElementKind::Particles(sparks)));
        let back = ToParticles { particles: dust, trigger: Trigger::Region { region: position } };
        let solid = shot.named_mut("B").unwrap().as_solid_mut().unwrap();
        (solid.from_particles, solid.to_particles) = (Some(3), Some(back));
        assert_eq!(shot.faults(), []);
        shot
    }

    #[test]
    fn any_elements_can_be_deleted_and_leave_a_shot_without_faults() {
        let shot = shot();
        let ids: Vec<Id> = shot.elements.iter().map(|element| element.id).collect();
        for &a in &ids {
            for &b in &ids {
                let left = shot.without(&[a, b]);
                assert_eq!(left.faults(), [], "without {a:?} and {b:?}");
                let names: Vec<Id> =
                    left.elements.iter().flat_map(Element::references).map(|r| r.id).collect();
                assert!(!names.contains(&a) && !names.contains(&b));
            }
        }
    }

    #[test]
    fn what_is_nothing_without_the_deleted_goes_and_what_meant_only_it_rests() {
        let shot = shot();
        let id = |name: &str| shot.named(name).unwrap().id;
        let left = shot.without(&[id("A")]);
        assert!(left.named("Within").is_none() && left.named("Lamp").unwrap().attached.is_none());
        assert!(left.named("Lamp").unwrap().channels.is_empty());
        assert!(!left.named("Pull").unwrap().as_force().unwrap().enabled);
        let dust = left.named("Dust").unwrap().as_particles().unwrap();
        assert_eq!(
            (&dust.source, &dust.appearance.form, dust.contact.only.len()),
            (&Source::Point {}, &Form::Sphere, 1)
        );
        assert_eq!(left.named("Sparks").unwrap().as_particles().unwrap().events.len(), 2);
        let left = shot.without(&[id("Place")]);
        assert!(left.named("Both").is_none() && left.named("Pull").unwrap().as_force().unwrap().enabled);
        assert!(shot.without(&[id("Rail")]).named("Stream").is_none());
        let camera = shot.camera.unwrap();
        assert_eq!(shot.without(&[camera]).camera, None);
    }
}
