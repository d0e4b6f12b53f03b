//! Older versions of the shot file, one step a version.

use crate::motion::short_name;
use serde_json::{Map, Value, json};

/// Brings a shot of any older version to the newest.
pub(crate) fn to_newest(shot: &mut Value, version: u64) {
    if version < 2 {
        from_1(shot);
    }
    if version < 3 {
        from_2(shot);
    }
    // Version 4 added finishing steps; all else is as it was.
    shot["version"] = json!(4);
}

/// Version 1 had keys in place of a value, gravity as a kind of its own, the
/// let-go as a frame, and an aim for cameras only.
fn from_1(shot: &mut Value) {
    shot["version"] = json!(2);
    for element in shot.get_mut("elements").and_then(Value::as_array_mut).into_iter().flatten() {
        let mut motion = Map::new();
        if let Some(placement) = element.get_mut("placement").and_then(Value::as_object_mut) {
            for (name, value) in placement.iter_mut() {
                if value.is_object() {
                    let first = value.pointer("/keys/0/value").cloned().unwrap_or_else(|| json!([0, 0, 0]));
                    motion.insert(format!("placement.{name}"), std::mem::replace(value, first));
                }
            }
        }
        if let Some(acceleration) = element.pointer("/is/gravity/acceleration").cloned() {
            element["is"] = json!({"force": {"kind": {"gravity": {"acceleration": acceleration}}}});
        }
        let camera = element.pointer_mut("/is/camera").and_then(Value::as_object_mut);
        let aim = camera.and_then(|camera| camera.remove("aim")).filter(|aim| !aim.is_null());
        if let Some(aim) = aim {
            element["aim"] = json!({"at": aim});
        }
        if let Some(body) = element.pointer_mut("/is/solid/body").and_then(Value::as_object_mut)
            && let Some(frame) = body.remove("let_go_frame").filter(|frame| !frame.is_null())
            && body.get("moves") == Some(&json!("animated"))
        {
            body.insert("wake".to_owned(), json!({"frame": frame}));
        }
        if let (false, Some(element)) = (motion.is_empty(), element.as_object_mut()) {
            element.insert("motion".to_owned(), Value::Object(motion));
        }
    }
}

/// Fields that version 3 renamed: the end of the old path, and the new last
/// name. `*` is an index of a list; a path that begins with `^` begins at the element.
const RENAMED: [(&str, &str); 84] = [
    ("^is", "kind"),
    ("^motion", "channels"),
    ("placement.place_m", "position_m"),
    ("placement.turn_rad", "orientation_rad"),
    ("^aim.at", "target"),
    ("solid.back", "to_particles"),
    ("back.when", "trigger"),
    ("copies.jitter_m", "position_jitter_m"),
    ("copies.turn_rad", "orientation_jitter_rad"),
    ("body.bounce", "restitution"),
    ("body.launch_spin", "launch_angular_velocity"),
    ("body.breaks_n_s", "breaking_impulse_n_s"),
    ("body.fastest_m_s", "max_speed_m_s"),
    ("look.refraction", "refractive_index"),
    ("torus.ring_m", "major_radius_m"),
    ("torus.tube_m", "minor_radius_m"),
    ("is.particles.from", "source"),
    ("particles.births", "emission"),
    ("births.how", "schedule"),
    ("births.even", "evenly_spaced"),
    ("how.number", "total"),
    ("how.at_once", "burst"),
    ("number.number", "count"),
    ("at_once.number", "count"),
    ("particles.meet", "contact"),
    ("meet.on", "enabled"),
    ("meet.share", "probability"),
    ("meet.bounce", "restitution"),
    ("meet.bounce_variation", "restitution_variation"),
    ("particles.steer", "steering"),
    ("steer.cruise_m_s", "cruise_speed_m_s"),
    ("steer.agility_m_s2", "max_acceleration_m_s2"),
    ("steer.ahead_s", "avoidance_time_s"),
    ("steer.apart_m", "min_distance_m"),
    ("steer.level", "horizontal"),
    ("flock.sight_m", "perception_radius_m"),
    ("flock.apart", "separation"),
    ("flock.align", "alignment"),
    ("flock.together", "cohesion"),
    ("particles.becoming", "events"),
    ("becoming.*.when", "trigger"),
    ("becoming.*.then", "action"),
    ("becoming.*.share", "probability"),
    ("age.s", "age_s"),
    ("count.number", "count"),
    ("split.number", "count"),
    ("split.inherit", "inherited_velocity"),
    ("split.spin_rad_s", "angular_speed_rad_s"),
    ("start.inherit", "inherited_velocity"),
    ("start.turn_variation", "orientation_variation"),
    ("start.spin_rad_s", "angular_speed_rad_s"),
    ("start.spin_variation", "angular_speed_variation"),
    ("force.on", "enabled"),
    ("attract.to", "target"),
    ("volume.ball", "sphere"),
    ("parts.*.how", "operation"),
    ("camera.focus_m", "focus_distance_m"),
    ("keys.*.then", "interpolation"),
    ("keys.*.leave", "outgoing"),
    ("keys.*.arrive", "incoming"),
    ("leave.by", "value"),
    ("arrive.by", "value"),
    ("from.particles.of", "particles"),
    ("from.impacts.of", "bodies"),
    ("from.shape.on", "domain"),
    ("from.solid.on", "domain"),
    ("from.broken.on", "domain"),
    ("when.touch.of", "bodies"),
    ("then.become.of", "particles"),
    ("then.solid.of", "solid"),
    ("then.trail.of", "particles"),
    ("then.split.of", "particles"),
    ("back.of", "particles"),
    ("is.particles.show", "appearance"),
    ("form.copy", "instance"),
    ("copy.of", "solids"),
    ("copy.pick", "choice"),
    ("copy.turned", "orientation"),
    ("streak.seconds", "duration_s"),
    ("speed.most_m_s", "max_speed_m_s"),
    ("map.of", "source"),
    ("map.dark", "inverted"),
    ("map.all_alike", "uniform_births"),
    ("steer.on", "constrained_to"),
];

/// Values that version 3 renamed: the end of the old path, old and new value.
const REPLACED: [(&str, &str, &str); 5] = [
    ("body.collision", "ball", "sphere"),
    ("parts.*.how", "least", "minimum"),
    ("parts.*.how", "most", "maximum"),
    ("show.form", "dot", "sphere"),
    ("copy.turned", "along", "velocity"),
];

/// Version 2 had names of its own where the field has standard ones.
fn from_2(shot: &mut Value) {
    shot["version"] = json!(3);
    let Some(shot) = shot.as_object_mut() else { return };
    for element in shot.get_mut("elements").and_then(Value::as_array_mut).into_iter().flatten() {
        rename(element, &mut Vec::new());
    }
    if let Some(motion) = shot.remove("motion") {
        let mut own = json!({ "motion": motion });
        rename(&mut own, &mut Vec::new());
        shot.insert("channels".to_owned(), own["channels"].take());
    }
}

/// Whether a path ends as a pattern of [`RENAMED`] says.
fn ends_with(path: &[String], pattern: &str) -> bool {
    let (pattern, whole) = pattern.strip_prefix('^').map_or((pattern, false), |rest| (rest, true));
    let mut names = path.iter().rev();
    let same = pattern.rsplit('.').all(|wanted| {
        names.next().is_some_and(|name| name == wanted || wanted == "*" && name.parse::<usize>().is_ok())
    });
    same && !(whole && names.next().is_some())
}

/// The new name of the last field of an old path.
fn new_name(path: &[String]) -> Option<&'static str> {
    RENAMED.iter().find(|(pattern, _)| ends_with(path, pattern)).map(|(_, name)| *name)
}

/// The path of a value below an element, by the new names.
fn new_path(old: &str) -> String {
    let (names, part) = old.find('[').map_or((old, ""), |at| old.split_at(at));
    let old: Vec<String> = names.split('.').map(str::to_owned).collect();
    let new = |n: usize| new_name(&old[..=n]).unwrap_or(&old[n]);
    (0..old.len()).map(new).collect::<Vec<_>>().join(".") + part
}

/// Renames all below a value that lies at `path` of the element, by the old names.
fn rename(value: &mut Value, path: &mut Vec<String>) {
    match value {
        Value::Object(fields) => {
            let of_channels = path.len() == 1 && path[0] == "motion";
            for (name, mut inner) in std::mem::take(fields) {
                path.push(name.clone());
                rename(&mut inner, path);
                let new =
                    if of_channels { new_path(&name) } else { new_name(path).map_or(name, str::to_owned) };
                path.pop();
                fields.insert(new, inner);
            }
        }
        Value::Array(list) => {
            for (i, inner) in list.iter_mut().enumerate() {
                path.push(i.to_string());
                rename(inner, path);
                path.pop();
            }
        }
        Value::String(text) => {
            let replaced = REPLACED.iter().find(|(at, old, _)| text == old && ends_with(path, at));
            if let Some((.., new)) = replaced {
                (*new).clone_into(text);
            } else if ends_with(path, "expression") {
                *text = new_expression(text);
            }
        }
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
}

/// The new last name of a value, with its unit or without, if it had another.
fn new_short_name(old: &str) -> Option<&'static str> {
    let last = |pattern: &'static str| pattern.rsplit('.').next().unwrap_or(pattern);
    let whole = RENAMED.iter().find(|(pattern, _)| last(pattern) == old).map(|(_, name)| *name);
    let short = RENAMED.iter().find(|(pattern, _)| short_name(last(pattern)) == old);
    whole.or(short.map(|(_, name)| short_name(name)))
}

/// A formula with the new names of the values that it reads: `{Crate.place.y}`
/// becomes `{Crate.position.y}`.
fn new_expression(old: &str) -> String {
    let mut new = String::new();
    let mut rest = old;
    while let Some((before, inside)) = rest.split_once('{') {
        new.push_str(before);
        let (reference, after) = inside.split_once('}').unwrap_or((inside, ""));
        let closed = inside.len() > reference.len();
        let (element, value) = reference.split_once('.').unwrap_or((reference, ""));
        let first = value.split('.').next().unwrap_or_default();
        let short = new_short_name(first.trim());
        new.push('{');
        new.push_str(element);
        if !value.is_empty() {
            new.push('.');
            match short {
                Some(name) => new.push_str(&value.replacen(first.trim(), name, 1)),
                None => new.push_str(&new_path(value)),
            }
        }
        if closed {
            new.push('}');
        }
        rest = after;
    }
    new + rest
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("placement.place_m[1]", "placement.position_m[1]")]
    #[case("is.solid.body.bounce", "kind.solid.body.restitution")]
    #[case("is.particles.becoming.3.then.split.number", "kind.particles.events.3.action.split.count")]
    #[case(
        "is.particles.from.shape.shape.torus.ring_m",
        "kind.particles.source.shape.shape.torus.major_radius_m"
    )]
    #[case("is.force.kind.wind.speed_m_s", "kind.force.kind.wind.speed_m_s")]
    #[case("is.curve.points.points_m.0", "kind.curve.points.points_m.0")]
    fn paths_are_renamed_name_by_name(#[case] old: &str, #[case] new: &str) {
        assert_eq!(new_path(old), new);
    }

    #[rstest]
    #[case("2 * {Crate.place.y} + {Squall.strength}", "2 * {Crate.position.y} + {Squall.strength}")]
    #[case("{Mooring block.is.solid.body.bounce}", "{Mooring block.kind.solid.body.restitution}")]
    #[case("{Crate.turn_rad.x}", "{Crate.orientation_rad.x}")]
    #[case("{Crate", "{Crate")]
    #[case("{Sparks.agility} + {Dunes.strength}", "{Sparks.max_acceleration} + {Dunes.strength}")]
    #[case("sin(time)", "sin(time)")]
    fn formulas_keep_reading_the_same_values(#[case] old: &str, #[case] new: &str) {
        assert_eq!(new_expression(old), new);
    }
}
