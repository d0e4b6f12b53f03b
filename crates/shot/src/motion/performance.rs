//! Motion made by hand while the shot plays.

use super::{Channel, Interpolation, Key, Value, fit, split_part};
use crate::parameters::{Bounds, Parameter, element_parameters, shot_parameters};
use crate::{Id, Shot};
use std::collections::BTreeMap;
use std::f64::consts::{PI, TAU};

/// How near the keys of a performance come to what the hand did.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Within {
    /// Distance of places, m.
    pub position_m: f64,
    /// Distance of turns, rad.
    pub orientation_rad: f64,
    /// Of other values, as a fraction of the range they went through.
    pub fraction: f64,
}

impl Default for Within {
    fn default() -> Self {
        Self { position_m: 0.01, orientation_rad: 0.01, fraction: 0.005 }
    }
}

/// What a hand does to values while the shot plays, frame by frame.
#[derive(Clone, Debug, Default)]
pub struct Performance {
    taken: BTreeMap<(Option<Id>, String), Vec<Stretch>>,
}

/// Samples without a gap; their frames rise.
type Stretch = Vec<(f64, Value)>;

impl Performance {
    /// Whether nothing was done.
    pub fn is_empty(&self) -> bool {
        self.taken.is_empty()
    }

    /// Number of samples taken.
    pub fn samples(&self) -> usize {
        self.taken.values().flatten().map(Vec::len).sum()
    }

    /// Takes the value that the hand gives at frame `at`; at frame `from`,
    /// before it, the shot was as `before` has it. A value out of its range is
    /// held in it.
    ///
    /// # Errors
    /// What is wrong with the path, in words.
    pub fn take(
        &mut self,
        before: &Shot,
        (from, at): (f64, f64),
        element: Option<Id>,
        path: &str,
        value: Value,
    ) -> Result<(), String> {
        let (kind, bounds) = range(before, element, path)?;
        let words = bounds.declaration.words;
        if !value.is_finite() {
            return Err(format!("{words} is not finite"));
        }
        if !value.is_like(&kind) {
            return Err(format!("{words} is {}, not {}", value.kind(), kind.kind()));
        }
        let mut value = bounds.hold(value);
        let stretches = self.taken.entry((element, path.to_owned())).or_default();
        if stretches.last().and_then(|stretch| stretch.last()).is_none_or(|last| last.0 < from) {
            let was = before.value(element, path).unwrap_or(value);
            stretches.push(vec![(from, was)]);
        }
        let stretch = stretches.last_mut().expect("one was begun");
        let last = stretch.last_mut().expect("it is not empty");
        if path == "placement.orientation_rad" {
            value = nearest_turn(value, last.1);
        }
        if at > last.0 {
            stretch.push((at, value));
        } else {
            // The world stands still.
            last.1 = value;
        }
        Ok(())
    }

    /// The shot with the performance as it was taken.
    pub fn live(&self, shot: &Shot) -> Shot {
        self.apply(shot, |_, stretch| stretch.iter().map(|&(frame, value)| Key::new(frame, value)).collect())
    }

    /// The shot with the values last taken, the same at every frame.
    pub fn constant(&self, shot: &Shot) -> Shot {
        self.apply(shot, |_, stretch| {
            stretch.last().map(|&(frame, value)| Key::new(frame, value)).into_iter().collect()
        })
    }

    /// The shot with the performance as keys, and their number.
    pub fn keyed(&self, shot: &Shot, within: Within) -> (Shot, usize) {
        let mut count = 0;
        let shot = self.apply(shot, |path, stretch| {
            let keys = fit::fit(stretch, tolerance(path, stretch, within));
            count += keys.len();
            keys
        });
        (shot, count)
    }

    /// What was done, in words: `place of Parade leader`.
    pub fn summary(&self, shot: &Shot) -> String {
        let words = |(element, path): &(Option<Id>, String)| {
            let whose = element.and_then(|id| shot.element(id));
            let words = range(shot, *element, path).map_or("a value", |(_, bounds)| bounds.declaration.words);
            format!("{words} of {}", whose.map_or("the shot", |element| &element.name))
        };
        let all: Vec<String> = self.taken.keys().map(words).collect();
        match &all[..] {
            [first, second, third, ..] if all.len() > 3 => {
                format!("{first}, {second}, {third} and {} more", all.len() - 3)
            }
            _ => all.join(", "),
        }
    }

    fn apply(&self, shot: &Shot, mut keys: impl FnMut(&str, &Stretch) -> Vec<Key>) -> Shot {
        let mut out = shot.clone();
        for ((element, path), stretches) in &self.taken {
            let standing = out.value(*element, path);
            let motion = match element {
                None => &mut out.channels,
                Some(id) => match out.elements.iter_mut().find(|element| element.id == *id) {
                    Some(element) => &mut element.channels,
                    // It was deleted meanwhile.
                    None => continue,
                },
            };
            let (whole, part) = split_part(path);
            let part_of = |i: usize| format!("{path}[{i}]");
            if let Some(channel) = part.and_then(|_| motion.get(whole)).filter(|whole| !whole.keys.is_empty())
            {
                // The whole is keyed: it goes on to be, with its other parts as they are.
                let part = part.expect("it is a part");
                let mut next = channel.clone();
                for stretch in stretches {
                    let full = |&(frame, value): &(f64, Value)| {
                        let old = channel.at(frame).expect("it has keys");
                        (frame, old.with_parts(|i| if i == part { value.part(0) } else { old.part(i) }))
                    };
                    next = replaced(&next, keys(whole, &stretch.iter().map(full).collect()));
                }
                motion.insert(whole.to_owned(), next);
            } else if standing.is_some_and(|value| value.count() == 3)
                && (0..3).any(|i| motion.contains_key(&part_of(i)))
            {
                // Its parts are keyed by themselves, and go on to be.
                motion.remove(path);
                for i in 0..3 {
                    let mut next = motion.remove(&part_of(i)).unwrap_or_default();
                    for stretch in stretches {
                        let one = |&(frame, value): &(f64, Value)| (frame, Value::from(value.part(i) as f32));
                        next = replaced(&next, keys(path, &stretch.iter().map(one).collect()));
                    }
                    motion.insert(part_of(i), next);
                }
            } else {
                let mut next = motion.remove(path).unwrap_or_default();
                for stretch in stretches {
                    next = replaced(&next, keys(path, stretch));
                }
                motion.insert(path.clone(), next);
            }
        }
        out
    }
}

/// A channel with keys in place of those that it had over the same frames; a
/// formula gives way.
fn replaced(channel: &Channel, mut keys: Vec<Key>) -> Channel {
    let (Some(first), Some(last)) = (keys.first(), keys.last()) else { return channel.clone() };
    let span = first.frame..=last.frame;
    let mut next = Channel { expression: None, ..channel.clone() };
    let holds = channel
        .keys
        .iter()
        .rev()
        .find(|key| key.frame <= *span.end())
        .is_some_and(|key| key.interpolation == Interpolation::Hold);
    if let (true, Some(last)) = (holds, keys.last_mut()) {
        last.interpolation = Interpolation::Hold;
    }
    next.keys.retain(|key| !span.contains(&key.frame));
    let at = next.keys.partition_point(|key| key.frame < *span.start());
    next.keys.splice(at..at, keys);
    next
}

fn tolerance(path: &str, stretch: &Stretch, within: Within) -> f64 {
    if path.starts_with("placement.position_m") {
        return within.position_m;
    }
    if path.starts_with("placement.orientation_rad") {
        return within.orientation_rad;
    }
    let range = |part: usize| {
        let values = stretch.iter().map(|(_, value)| value.part(part));
        let (low, high) =
            values.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(v), high.max(v)));
        high - low
    };
    let parts = stretch.first().map_or(0, |(_, value)| value.count());
    within.fraction * (0..parts).map(range).fold(0.0, f64::max)
}

/// Kind and range of a value that can be keyed.
fn range(shot: &Shot, element: Option<Id>, path: &str) -> Result<(Value, Bounds), String> {
    let (whole, part) = split_part(path);
    let mut found = None;
    let mut visit = |at: std::fmt::Arguments, slot: Parameter, bounds: Bounds| {
        let at = at.to_string();
        if at == path {
            found = Some((slot.kind(), bounds));
        } else if at == whole && part.is_some_and(|part| part < slot.kind().count()) {
            found = Some((Value::Number(0.0), bounds));
        }
    };
    match element {
        None => shot_parameters(&mut Shot { elements: Vec::new(), ..shot.clone() }, &mut visit),
        Some(id) => {
            let element = shot.element(id).ok_or_else(|| format!("element {} is not there", id.0))?;
            element_parameters(&mut element.clone(), &mut visit);
        }
    }
    match found {
        None => Err(format!("{path} is not a value of this element")),
        Some((_, bounds)) if !bounds.declaration.keyed => {
            Err(format!("{} is the same at every frame; it takes no keys", bounds.declaration.words))
        }
        Some(found) => Ok(found),
    }
}

/// The angles of the same turn that are nearest to those before, so that a
/// turn goes on through a full round.
fn nearest_turn(orientation: Value, before: Value) -> Value {
    let flipped = [orientation.part(0) + PI, PI - orientation.part(1), orientation.part(2) + PI];
    let near = |angle: f64, part: usize| angle - TAU * ((angle - before.part(part)) / TAU).round();
    let candidates = [[orientation.part(0), orientation.part(1), orientation.part(2)], flipped]
        .map(|angles| [0, 1, 2].map(|part| near(angles[part], part)));
    let away = |angles: &[f64; 3]| (0..3).map(|i| (angles[i] - before.part(i)).powi(2)).sum::<f64>();
    let best = if away(&candidates[1]) < away(&candidates[0]) { candidates[1] } else { candidates[0] };
    orientation.with_parts(|part| best[part])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Element, Moves, Shape, motion::Sampler};
    use rstest::rstest;

    const PLACE: &str = "placement.position_m";

    fn ball(motion: &[(&str, Channel)]) -> (Shot, Id) {
        let mut shot = Shot::empty("Test");
        let mut ball = Element::solid("Ball", Shape::sphere(0.1), Moves::Animated).at(1.0, 2.0, 3.0);
        ball.channels.extend(motion.iter().map(|(path, channel)| ((*path).to_owned(), channel.clone())));
        let id = shot.add(ball);
        (shot, id)
    }

    /// Performs a path over frames; the value is a function of the frame.
    fn perform(
        shot: &Shot,
        id: Id,
        path: &str,
        frames: std::ops::RangeInclusive<u32>,
        value: impl Fn(f64) -> Value,
    ) -> Performance {
        let mut performance = Performance::default();
        for frame in frames {
            let (from, at) = (f64::from(frame) - 1.0, f64::from(frame));
            let before = Sampler::new(&performance.live(shot)).unwrap().at(from).unwrap();
            performance.take(&before, (from, at), Some(id), path, value(at)).unwrap();
        }
        performance
    }

    fn at(shot: &Shot, id: Id, path: &str, frame: f64) -> Value {
        Sampler::new(shot).unwrap().at(frame).unwrap().value(Some(id), path).unwrap()
    }

    #[test]
    fn a_performance_becomes_few_keys_within_the_tolerance() {
        let (shot, id) = ball(&[]);
        let way = |t: f64| Value::Vector([(t / 20.0).sin() as f32, 2.0, (t / 30.0).cos() as f32]);
        let performance = perform(&shot, id, PLACE, 2..=120, way);
        let within = Within::default();
        let (keyed, count) = performance.keyed(&shot, within);
        assert_eq!(performance.samples(), 120);
        assert!((4..=24).contains(&count), "{count} keys");
        assert_eq!(performance.summary(&shot), "place of Ball");
        for frame in 2..=120 {
            let (is, was) = (at(&keyed, id, PLACE, frame.into()), way(frame.into()));
            let away = (0..3).map(|i| (is.part(i) - was.part(i)).powi(2)).sum::<f64>().sqrt();
            assert!(away <= within.position_m + 1e-6, "frame {frame}: {away} m");
        }
        assert!(keyed.faults().is_empty(), "{:?}", keyed.faults());
    }

    #[test]
    fn keys_before_and_after_what_was_performed_stay() {
        let way = Channel::keyed(
            [(1.0, [0.0; 3]), (20.0, [1.0; 3]), (60.0, [5.0; 3])].map(|(f, v)| (f, Value::Vector(v))),
        );
        let (shot, id) = ball(&[(PLACE, way)]);
        let performance = perform(&shot, id, PLACE, 11..=30, |_| Value::Vector([9.0; 3]));
        let (keyed, _) = performance.keyed(&shot, Within::default());
        let frames: Vec<f64> =
            keyed.element(id).unwrap().channels[PLACE].keys.iter().map(|key| key.frame).collect();
        assert_eq!((frames[0], *frames.last().unwrap()), (1.0, 60.0));
        assert!(!frames.contains(&20.0));
        // It begins where it was.
        assert!((at(&keyed, id, PLACE, 10.0).part(0) - 9.0 / 19.0).abs() < 1e-5);
        assert_eq!(at(&keyed, id, PLACE, 30.0).part(0), 9.0);
    }

    #[test]
    fn a_value_let_go_and_taken_up_again_has_two_stretches() {
        let (shot, id) = ball(&[]);
        let path = "kind.solid.body.friction";
        let mut performance = perform(&shot, id, path, 2..=10, |_| Value::Number(1.0));
        let before = Sampler::new(&performance.live(&shot)).unwrap().at(19.0).unwrap();
        performance.take(&before, (19.0, 20.0), Some(id), path, Value::Number(0.25)).unwrap();
        let (keyed, _) = performance.keyed(&shot, Within::default());
        for (frame, value) in [(1.0, 0.5), (2.0, 1.0), (15.0, 1.0), (19.0, 1.0), (20.0, 0.25), (90.0, 0.25)] {
            assert_eq!(at(&keyed, id, path, frame), Value::Number(value), "frame {frame}");
        }
    }

    #[test]
    fn a_part_of_a_keyed_whole_leaves_its_other_parts() {
        let way = Channel::keyed([(1.0, Value::Vector([0.0; 3])), (21.0, Value::Vector([20.0; 3]))]);
        let (shot, id) = ball(&[(PLACE, way)]);
        let performance = perform(&shot, id, "placement.position_m[1]", 6..=10, |_| Value::Number(-1.0));
        let (keyed, _) = performance.keyed(&shot, Within::default());
        assert_eq!(at(&keyed, id, PLACE, 8.0), Value::Vector([7.0, -1.0, 7.0]));
        assert_eq!(at(&keyed, id, PLACE, 21.0), Value::Vector([20.0; 3]));
    }

    #[test]
    fn a_whole_whose_parts_are_keyed_keeps_a_channel_a_part() {
        let (shot, id) = ball(&[("placement.position_m[0]", Channel::keyed([(1.0, 7.0f32), (90.0, 7.0)]))]);
        let performance = perform(&shot, id, PLACE, 6..=10, |_| Value::Vector([1.0, 1.5, 2.0]));
        let (keyed, _) = performance.keyed(&shot, Within::default());
        assert_eq!(at(&keyed, id, PLACE, 8.0), Value::Vector([1.0, 1.5, 2.0]));
        assert_eq!(at(&keyed, id, PLACE, 90.0), Value::Vector([7.0, 1.5, 2.0]));
        assert!(keyed.faults().is_empty(), "{:?}", keyed.faults());
    }

    #[test]
    fn a_turn_goes_on_through_a_full_round() {
        let (shot, id) = ball(&[]);
        // As angles of a turn come: from -π to π.
        let orientation = |t: f64| {
            let y = t / 5.0;
            Value::Vector([0.0, (y - TAU * (y / TAU).round()) as f32, 0.0])
        };
        let performance = perform(&shot, id, "placement.orientation_rad", 2..=80, orientation);
        let (keyed, count) = performance.keyed(&shot, Within::default());
        assert!(count < 12, "{count} keys");
        assert!((at(&keyed, id, "placement.orientation_rad", 80.0).part(1) - 16.0).abs() < 0.02);
    }

    #[rstest]
    #[case("kind.solid.body.friction", Value::Vector([1.0; 3]), "three numbers, not a number")]
    #[case("kind.solid.body.friction", Value::Number(f32::NAN), "is not finite")]
    #[case("kind.camera.exposure", Value::Number(0.1), "is not a value")]
    fn what_cannot_be_performed_is_refused(#[case] path: &str, #[case] value: Value, #[case] why: &str) {
        let (shot, id) = ball(&[]);
        let mut performance = Performance::default();
        let error = performance.take(&shot, (1.0, 2.0), Some(id), path, value).unwrap_err();
        assert!(error.contains(why), "{error}");
        assert!(performance.is_empty());
    }

    #[test]
    fn the_frame_rate_cannot_be_performed() {
        let (shot, _) = ball(&[]);
        let mut performance = Performance::default();
        let error = performance.take(&shot, (1.0, 2.0), None, "timing.fps", Value::Number(30.0)).unwrap_err();
        assert_eq!(error, "frame rate is the same at every frame; it takes no keys");
    }

    #[test]
    fn a_value_beyond_its_range_is_held_in_it() {
        let (shot, id) = ball(&[]);
        let path = "kind.solid.body.restitution";
        let performance = perform(&shot, id, path, 2..=4, |_| Value::Number(3.0));
        assert_eq!(at(&performance.live(&shot), id, path, 4.0), Value::Number(1.0));
    }
}
