//! Faults of maps, and of what holds and scales cloths and soft bodies by them.

use super::{Faults, name};
use crate::look_layer::LookWeight;
use crate::map::{LayerSource, ScaledByMap, Stroke};
use crate::{AssetKind, Pin, PinnedPart, Shot, Solid};
use glam::Vec3;

/// Most pins of a cloth or soft body.
const MAX_PINS: usize = 32;
/// Most maps of a solid, layers of a map, and factors by maps.
const MAX_MAPS: usize = 32;
const MAX_LAYERS: usize = 32;
pub(super) const MAX_SCALED: usize = 16;
/// Most strokes of a layer, and points of them all.
const MAX_STROKES: usize = 4_000;
const MAX_POINTS: usize = 50_000;
/// Most points of a stroke.
const MAX_STROKE_POINTS: usize = 1_000;
/// Greatest coordinate of a place on a mesh, m.
const FURTHEST_M: f32 = 10_000.0;

pub(super) fn bounded(f: &mut Faults, path: String, count: usize, most: usize, of: &str) -> bool {
    if count > most {
        f.say(path, format!("{count} {of}; at most {most}"));
    }
    count <= most
}

fn within(f: &mut Faults, path: String, value: f32, low: f32, high: f32) {
    if !(low..=high).contains(&value) {
        f.say(path, format!("{value} is outside {low} to {high}"));
    }
}

fn place(f: &mut Faults, path: String, at: Vec3) {
    if !at.is_finite() || at.abs().max_element() > FURTHEST_M {
        f.say(path, format!("{at} is outside -{FURTHEST_M} to {FURTHEST_M}"));
    }
}

/// Faults of what holds a cloth or a soft body.
pub(super) fn pin_faults(f: &mut Faults, path: &str, solid: &Solid, pins: &[Pin]) {
    bounded(f, format!("{path}.pins"), pins.len(), MAX_PINS, "pins");
    for (i, pin) in pins.iter().enumerate() {
        let path = format!("{path}.pins[{i}].part");
        match &pin.part {
            PinnedPart::Map(map) => map_named(f, format!("{path}.map"), solid, map),
            PinnedPart::Point { position_m, radius_m } => {
                place(f, format!("{path}.point.position_m"), *position_m);
                within(f, format!("{path}.point.radius_m"), *radius_m, 0.0, PinnedPart::MAX_RADIUS_M);
            }
            PinnedPart::Side(_)
            | PinnedPart::Corners(_)
            | PinnedPart::Region(_)
            | PinnedPart::Whole {}
            | PinnedPart::Centre {} => {}
        }
    }
}

pub(super) fn map_named(f: &mut Faults, path: String, solid: &Solid, name: &str) {
    if !solid.maps.iter().any(|map| map.name == name) {
        f.say(path, format!("the solid has no map \"{name}\""));
    }
}

/// Faults of what makes a solid sway.
pub(super) fn sway_faults(f: &mut Faults, path: &str, solid: &Solid) {
    let Some(sway) = &solid.sway else { return };
    let copies = solid.copies.as_ref().map_or(1, crate::Copies::total).max(solid.placed.len());
    if copies > 1 || solid.from_particles.is_some() {
        f.say(format!("{path}.sway"), "copies cannot sway: each would need a mesh of its own");
    }
    if let Some(map) = &sway.map {
        map_named(f, format!("{path}.sway.map"), solid, map);
    }
}

/// Faults of the maps that the layers of a solid's look name.
pub(super) fn look_map_faults(f: &mut Faults, path: &str, solid: &Solid) {
    for (i, layer) in solid.look.layers.iter().enumerate() {
        if let LookWeight::Map { map } = &layer.by {
            map_named(f, format!("{path}.look.layers[{i}].by.map.map"), solid, map);
        }
    }
}

impl Shot {
    /// Faults of a solid's maps, and of what is scaled by them.
    pub(super) fn map_faults_of(&self, f: &mut Faults, path: &str, solid: &Solid) {
        bounded(f, format!("{path}.maps"), solid.maps.len(), MAX_MAPS, "maps");
        for (i, map) in solid.maps.iter().enumerate() {
            let path = format!("{path}.maps[{i}]");
            name(f, &format!("{path}.name"), &map.name);
            if let Some(other) = solid.maps[..i].iter().position(|other| other.name == map.name) {
                f.say(format!("{path}.name"), format!("\"{}\" is also the name of maps[{other}]", map.name));
            }
            bounded(f, format!("{path}.layers"), map.layers.len(), MAX_LAYERS, "layers");
            for (j, layer) in map.layers.iter().enumerate() {
                let path = format!("{path}.layers[{j}].source");
                match &layer.source {
                    LayerSource::Painted { strokes } => {
                        stroke_faults(f, &format!("{path}.painted.strokes"), strokes);
                    }
                    LayerSource::Image { asset } => {
                        self.asset(f, &format!("{path}.image.asset"), asset, AssetKind::Image);
                    }
                    _ => {}
                }
            }
        }
        if let Some(map) = solid.cloth.as_ref().and_then(|cloth| cloth.tear_map.as_ref()) {
            map_named(f, format!("{path}.cloth.tear_map"), solid, map);
        }
        let scaled: [(&str, Option<&Vec<ScaledByMap>>); 2] = [
            ("cloth", solid.cloth.as_ref().map(|cloth| &cloth.scaled)),
            ("soft", solid.soft.as_ref().map(|soft| &soft.scaled)),
        ];
        for (of, scaled) in scaled {
            for (i, scaled) in scaled.into_iter().flatten().enumerate() {
                map_named(f, format!("{path}.{of}.scaled[{i}].map"), solid, &scaled.map);
            }
            let count = scaled.map_or(0, Vec::len);
            bounded(f, format!("{path}.{of}.scaled"), count, MAX_SCALED, "factors by maps");
        }
    }
}

fn stroke_faults(f: &mut Faults, path: &str, strokes: &[Stroke]) {
    let points = strokes.iter().map(|stroke| stroke.points_m.len()).sum();
    let few = bounded(f, path.to_owned(), strokes.len(), MAX_STROKES, "strokes");
    if !few || !bounded(f, path.to_owned(), points, MAX_POINTS, "points of strokes") {
        return;
    }
    for (i, stroke) in strokes.iter().enumerate() {
        let path = format!("{path}[{i}]");
        if !(1..=MAX_STROKE_POINTS).contains(&stroke.points_m.len()) {
            let message = format!("{} points; from 1 to {MAX_STROKE_POINTS}", stroke.points_m.len());
            f.say(format!("{path}.points_m"), message);
        }
        for (p, at) in stroke.points_m.iter().enumerate() {
            place(f, format!("{path}.points_m[{p}]"), *at);
        }
        within(f, format!("{path}.radius_m"), stroke.radius_m, 1e-5, FURTHEST_M);
        within(f, format!("{path}.strength"), stroke.strength, 0.0, 1.0);
        within(f, format!("{path}.softness"), stroke.softness, 0.0, 1.0);
        if stroke.through.is_some_and(|along| !along.is_finite() || along.length() < 1e-6) {
            f.say(format!("{path}.through"), "is not a direction");
        }
        if stroke.mirrored.is_some_and(|axis| axis > 2) {
            f.say(format!("{path}.mirrored"), "is none of 0, 1 and 2");
        }
    }
}
