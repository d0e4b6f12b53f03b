//! The Check list: what is likely wrong in a shot.
//!
//! The entries here need only the document. What needs geometry or a run
//! (overlaps, tunnelling, missing frames) is added by the crates that have it.

use crate::{
    Collision, ElementKind, Id, MAX_PARTICLES, Moves, Shape, Shot,
    motion::Sampler,
    particles::{Source, circle_names, endless},
    region::Volume,
};
use serde::{Deserialize, Serialize};

/// One entry of the Check list.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Entry {
    /// What kind of mistake.
    pub mistake: Mistake,
    /// The elements concerned.
    pub elements: Vec<Id>,
    /// What is likely wrong and why it matters, in one or two sentences.
    pub reason: String,
    /// The label of the one-press fix, if there is one.
    pub fix: Option<String>,
}

/// The kinds of mistake the Check list knows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Mistake {
    /// Nothing is still below the free bodies.
    NothingStillBelow,
    /// Bodies are inside each other at the first frame.
    StartOverlap,
    /// A hull fills the hollow of a still body.
    HullFillsHollow,
    /// The margin is more than a tenth of the body's size.
    MarginLarge,
    /// A body left the world.
    LeftWorld,
    /// A body went through another between two steps.
    Tunnelled,
    /// Two bodies come together too fast for the steps that are taken.
    TooFast,
    /// Frames are not computed yet.
    FramesMissing,
    /// A force has nothing to act on.
    ForceOnNothing,
    /// A region has no size.
    RegionEmpty,
    /// Particles become ever more of each other.
    EndlessBecoming,
    /// An element leaves the camera's gate, or never enters it.
    OutsideGate,
    /// Particles cannot be born as they are to: nowhere, or too many.
    CannotBeBorn,
    /// A soft body's mesh is open.
    OpenSoftBody,
    /// Air is to be shut in an open mesh.
    OpenSkin,
    /// A cloth has too few edges to fold.
    TooCoarse,
    /// A cloth is thicker than its edges allow.
    TooThick,
    /// A mesh has edges with more than two faces, or faces without an area.
    UnsoundMesh,
    /// Strokes of a map lie off the mesh.
    StrokesOffMesh,
    /// A pin holds nothing.
    PinHoldsNothing,
    /// Cloths or soft bodies cross themselves or each other at the first frame.
    CrossesAtStart,
    /// A cloth or soft body is partly within a solid at the first frame.
    StartsInSolid,
    /// Cloths or soft bodies lie closer than they are thick at the first frame.
    TooClose,
    /// A cloth or soft body and a free solid differ very much in mass.
    MassRatio,
    /// Liquids of unlike spacings do not push each other.
    UnlikeSpacings,
    /// A liquid was faster than its steps allow.
    LiquidTooFast,
    /// The pressure of a liquid was not found.
    NotConverged,
}

/// The entries that follow from the document alone.
pub fn check(shot: &Shot) -> Vec<Entry> {
    let mut entries = Vec::new();
    let Ok(first) =
        Sampler::new(shot).map_err(|_| ()).and_then(|s| s.at(f64::from(shot.timing.first)).map_err(|_| ()))
    else {
        return entries;
    };
    let shot = &first;
    entries.extend(forces_on_nothing(shot));
    entries.extend(regions_of_no_size(shot));
    entries.extend(nothing_still_below(shot));
    entries.extend(endless_becoming(shot));
    entries.extend(of_what_never_breaks(shot));
    entries.extend(unlike_spacings(shot));
    for (element, solid) in shot.solids() {
        let (body, shape) = (&solid.body, &solid.shape);
        let hollow = matches!(shape, Shape::Torus { .. } | Shape::Mesh { .. });
        let filled = matches!(body.collision_of(shape), Collision::Hull | Collision::Box | Collision::Sphere);
        if body.moves == Moves::Still && hollow && filled {
            entries.push(Entry {
                mistake: Mistake::HullFillsHollow,
                elements: vec![element.id],
                reason: format!(
                    "{} is still and collides as a filled shape, so bodies rest on its hull instead of in it.",
                    element.name
                ),
                fix: Some("Collide as exact".to_owned()),
            });
        }
        if let (Some(margin), Some(size)) = (body.margin_m, shape.smallest_m())
            && margin > 0.1 * size
        {
            entries.push(Entry {
                mistake: Mistake::MarginLarge,
                elements: vec![element.id],
                reason: format!(
                    "The margin of {} is {:.0} % of its size; it will hover {:.1} mm above what it rests on.",
                    element.name,
                    100.0 * margin / size,
                    1e3 * margin
                ),
                fix: Some("Margin by size".to_owned()),
            });
        }
    }
    entries
}

/// Liquids that do not share a grid pass through each other.
fn unlike_spacings(shot: &Shot) -> Option<Entry> {
    let liquids =
        shot.particles().filter_map(|(element, set)| Some((element, set.liquid.as_ref()?.spacing_m)));
    let liquids: Vec<_> = liquids.collect();
    let (first, spacing_m) = liquids.first()?;
    let (other, unlike_m) = liquids.iter().find(|(_, of)| of != spacing_m)?;
    Some(Entry {
        mistake: Mistake::UnlikeSpacings,
        elements: liquids.iter().map(|(element, _)| element.id).collect(),
        reason: format!(
            "{} has a spacing of {:.1} mm and {} one of {:.1} mm; liquids of unlike spacings pass through each other.",
            first.name,
            1e3 * spacing_m,
            other.name,
            1e3 * unlike_m
        ),
        fix: Some("Same spacing".to_owned()),
    })
}

fn nothing_still_below(shot: &Shot) -> Option<Entry> {
    let free: Vec<_> = shot.solids().filter(|(_, solid)| solid.body.moves != Moves::Still).collect();
    if free.is_empty() || shot.gravity().length() == 0.0 {
        return None;
    }
    let down = shot.gravity().normalize();
    let depth = |element: &crate::Element| element.placement.position_m.dot(down);
    let lowest = shot
        .solids()
        .filter(|(_, solid)| solid.body.moves == Moves::Still)
        .map(|(element, _)| depth(element))
        .fold(f32::NEG_INFINITY, f32::max);
    let falls: Vec<_> = free.iter().filter(|(element, _)| depth(element) > lowest + 1e-3).collect();
    (!falls.is_empty() && falls.len() == free.len()).then(|| Entry {
        mistake: Mistake::NothingStillBelow,
        elements: falls.iter().map(|(element, _)| element.id).collect(),
        reason: "Nothing is still below the free bodies; they will fall out of the picture.".to_owned(),
        fix: Some("Add a floor".to_owned()),
    })
}

/// One entry for each circle.
fn endless_becoming(shot: &Shot) -> Vec<Entry> {
    let mut entries: Vec<Entry> = Vec::new();
    for (element, _) in shot.particles() {
        if entries.iter().any(|entry| entry.elements.contains(&element.id)) {
            continue;
        }
        let Some(elements) = endless(shot, element.id) else { continue };
        let reason = format!(
            "{}: they become ever more of each other, until the bake stops at {} million of one. Let the \
             last of them die, or become others.",
            circle_names(shot, &elements),
            MAX_PARTICLES / 1_000_000
        );
        entries.push(Entry { mistake: Mistake::EndlessBecoming, elements, reason, fix: None });
    }
    entries
}

/// Particles that are to be born of bodies that never break.
fn of_what_never_breaks(shot: &Shot) -> impl Iterator<Item = Entry> {
    shot.particles().filter_map(|(element, particles)| {
        let Source::Broken { solid, .. } = particles.source else { return None };
        let of = shot.element(solid)?;
        let keyed = of.channels.contains_key("kind.solid.body.breaking_impulse_n_s");
        let never = of.as_solid()?.body.breaking_impulse_n_s.is_none() && !keyed;
        never.then(|| Entry {
            mistake: Mistake::CannotBeBorn,
            elements: vec![element.id, of.id],
            reason: format!(
                "{} are born of {} as it breaks, but it never does. Set “Breaks at” under Body.",
                element.name, of.name
            ),
            fix: None,
        })
    })
}

fn forces_on_nothing(shot: &Shot) -> impl Iterator<Item = Entry> {
    let solids =
        shot.solids().filter(|(_, solid)| solid.body.moves != Moves::Still).map(|(element, _)| element);
    let free: Vec<&crate::Element> = solids.chain(shot.particles().map(|(element, _)| element)).collect();
    shot.forces().into_iter().filter_map(move |(element, force)| {
        let timing = shot.timing;
        let why = if !force.enabled && element.channels.is_empty() {
            return None;
        } else if force.from_frame.is_some_and(|from| from > timing.last)
            || force.to_frame.is_some_and(|to| to <= timing.first)
        {
            format!("{} acts only outside the shot's frames.", element.name)
        } else if !free.is_empty() && !free.iter().any(|element| force.acts_on(element)) {
            format!("{} acts on nothing: none of its elements is free.", element.name)
        } else {
            return None;
        };
        Some(Entry { mistake: Mistake::ForceOnNothing, elements: vec![element.id], reason: why, fix: None })
    })
}

fn regions_of_no_size(shot: &Shot) -> impl Iterator<Item = Entry> {
    shot.elements.iter().filter_map(|element| {
        let ElementKind::Region(region) = &element.kind else { return None };
        let empty = match region.volume {
            Volume::Box { size_m } => size_m.min_element() <= 0.0,
            Volume::Sphere { radius_m } => radius_m <= 0.0,
            Volume::Cylinder { radius_m, height_m } => radius_m <= 0.0 || height_m <= 0.0,
            _ => false,
        };
        empty.then(|| Entry {
            mistake: Mistake::RegionEmpty,
            elements: vec![element.id],
            reason: format!("{} has no size, so it has weight nowhere.", element.name),
            fix: None,
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Element, Solid};

    fn shot_with(shape: Shape, moves: Moves, change: impl Fn(&mut Solid)) -> Shot {
        let mut shot = Shot::empty("Check");
        let mut element = Element::solid("Body", shape, moves);
        change(element.as_solid_mut().unwrap());
        shot.add(element);
        shot
    }

    fn mistakes(shot: &Shot) -> Vec<Mistake> {
        check(shot).into_iter().map(|entry| entry.mistake).collect()
    }

    #[test]
    fn a_lone_free_body_has_nothing_still_below() {
        let mut shot = shot_with(Shape::sphere(0.1), Moves::Free, |_| {});
        assert_eq!(mistakes(&shot), [Mistake::NothingStillBelow]);
        shot.add(Element::solid("Deck", Shape::plane(4.0, 4.0), Moves::Still).at(0.0, -1.0, 0.0));
        assert_eq!(mistakes(&shot), []);
    }

    #[test]
    fn a_hull_around_a_still_ring_fills_it() {
        let ring = Shape::Torus { major_radius_m: 0.4, minor_radius_m: 0.1 };
        let hull = shot_with(ring.clone(), Moves::Still, |s| s.body.collision = Collision::Hull);
        assert_eq!(mistakes(&hull), [Mistake::HullFillsHollow]);
        assert_eq!(mistakes(&shot_with(ring, Moves::Still, |_| {})), []);
    }

    #[test]
    fn a_margin_over_a_tenth_of_the_size_is_large() {
        let at = |margin| {
            mistakes(&shot_with(Shape::cuboid(1.0, 1.0, 0.1), Moves::Still, |s| {
                s.body.margin_m = Some(margin)
            }))
        };
        assert_eq!(at(0.011), [Mistake::MarginLarge]);
        assert_eq!(at(0.009), []);
    }
}
