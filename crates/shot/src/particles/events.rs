//! Events of particles: a trigger and an action.

use crate::parameters::{MAX_SPEED, Parameters};
use crate::{Id, Shot, force::ElementFilter};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// An event that happens to each particle once.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct ParticleEvent {
    /// When the event happens.
    #[parameter(nested)]
    pub trigger: Trigger,
    /// Action.
    #[parameter(nested)]
    pub action: Action,
    /// Probability that the event happens to a particle, 0–1.
    #[serde(default = "all", skip_serializing_if = "is_all")]
    #[parameter(label = "Probability", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub probability: f32,
}

fn all() -> f32 {
    1.0
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_all(probability: &f32) -> bool {
    *probability == 1.0
}

/// When an event happens to a particle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Trigger {
    /// At an age.
    Age {
        /// Age, seconds.
        #[parameter(label = "Age", range(0.0, 10_000.0))]
        age_s: f32,
    },
    /// At the end of its life.
    End {},
    /// At a contact with a body.
    Touch {
        /// The bodies; nothing named: any.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        bodies: Vec<ElementFilter>,
        /// The least speed at which it comes up to the surface, m/s.
        #[serde(default)]
        #[parameter(label = "Speed at least", range(0.0, 1_000.0))]
        speed_m_s: f32,
    },
    /// The weight of a region at the particle is over a half.
    Region {
        /// The region.
        region: Id,
    },
    /// Its speed is above a limit.
    Faster {
        /// The limit, m/s.
        #[parameter(label = "Speed", range(0.0, 1_000.0), step = 0.5)]
        speed_m_s: f32,
    },
    /// Its speed is below a limit.
    Slower {
        /// The limit, m/s.
        #[parameter(label = "Speed", range(0.0, 1_000.0), step = 0.05)]
        speed_m_s: f32,
    },
    /// The shot comes to a frame.
    Frame {
        /// The frame.
        frame: u32,
    },
    /// Its element has at least a number of particles.
    Count {
        /// How many particles.
        #[parameter(label = "Number", fixed, range(1.0, 1e7), step = 1.0)]
        count: u32,
    },
}

/// Action of an event on a particle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Action {
    /// Die.
    Die {},
    /// Become a particle of another element, with that element's look, forces and events.
    Become {
        /// The other particles.
        particles: Id,
    },
    /// Split into several particles.
    Split(#[parameter(nested)] Split),
    /// Leave a trail of other particles from then on.
    Trail {
        /// The particles that it leaves.
        particles: Id,
        /// How many a second.
        #[parameter(label = "A second", unit = "", range(0.0, 1e5), step = 5.0)]
        per_s: f32,
    },
    /// Become a free body of a solid, with the particle's position, orientation, velocity and angular velocity.
    Solid {
        /// The solid, whose bodies all come from particles.
        solid: Id,
    },
}

/// When a body that came from a particle becomes one again, and which.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct ToParticles {
    /// By age, region, speed or frame. Its age counts from when it became a
    /// body; slower it has to be for a fifth of a second on end.
    #[parameter(nested)]
    pub trigger: Trigger,
    /// The particles, of which it becomes one with its position, orientation, velocity, angular velocity, size and mass.
    pub particles: Id,
}

/// A particle becomes several.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields, default)]
pub struct Split {
    /// The particles it becomes; none: of its own element.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub particles: Option<Id>,
    /// How many particles.
    #[parameter(label = "Number", fixed, range(1.0, 10_000.0), step = 1.0)]
    pub count: u32,
    /// Whether it goes on itself.
    pub stays: bool,
    /// Multiple of its velocity that they take with them, no unit, −2 to 2.
    #[parameter(label = "Of its motion", range(-2.0, 2.0), slide(0.0, 1.0), step = 0.05)]
    pub inherited_velocity: f32,
    /// Speed away from it, m/s.
    #[parameter(label = "Speed", range(0.0, 1_000.0))]
    pub speed_m_s: f32,
    /// Variation of that speed, as a fraction of it, 0–1.
    #[parameter(label = "± speed", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
    pub speed_variation: f32,
    /// Largest angle from its way at which they go, rad: π is all round.
    #[parameter(label = "Spread", range(0.0, std::f32::consts::PI), slide(0.0, 180.0), step = 1.0)]
    pub spread_rad: f32,
    /// Angular speed about a random axis, rad/s.
    #[parameter(label = "Spin", range(-MAX_SPEED, MAX_SPEED), step = 0.5)]
    pub angular_speed_rad_s: f32,
    /// Multiple of its size that they have, no unit; none: as their element says.
    #[parameter(label = "Size", range(0.001, 100.0), step = 0.05, blank = "as they are born")]
    pub size: Option<f32>,
}

impl Default for Split {
    fn default() -> Self {
        Self {
            particles: None,
            count: 6,
            stays: false,
            inherited_velocity: 0.5,
            speed_m_s: 1.0,
            speed_variation: 0.5,
            spread_rad: std::f32::consts::PI,
            angular_speed_rad_s: 0.0,
            size: Some(0.5),
        }
    }
}

/// The circle in which particles become ever more of each other, from `id` on,
/// if it is on one.
pub fn endless(shot: &Shot, id: Id) -> Option<Vec<Id>> {
    let mut way = vec![id];
    let found = search(shot, id, &mut way);
    let grows = |id: &Id| {
        let particles = shot.element(*id).and_then(|element| element.as_particles());
        particles.is_some_and(|particles| particles.events.iter().any(ParticleEvent::adds))
    };
    (found && way.iter().any(grows)).then_some(way)
}

/// A circle by its names: `Shell → Spark → Shell`.
pub fn circle_names(shot: &Shot, circle: &[Id]) -> String {
    let name = |id: &Id| shot.element(*id).map_or_else(String::new, |e| e.name.clone());
    circle.iter().chain(circle.first()).map(name).collect::<Vec<_>>().join(" → ")
}

fn search(shot: &Shot, goal: Id, way: &mut Vec<Id>) -> bool {
    let at = *way.last().expect("it begins with one");
    let Some(particles) = shot.element(at).and_then(|e| e.as_particles()) else { return false };
    for next in particles.events.iter().filter_map(|event| event.makes(at)) {
        if next == goal {
            return true;
        }
        if !way.contains(&next) {
            way.push(next);
            if search(shot, goal, way) {
                return true;
            }
            way.pop();
        }
    }
    false
}

impl ParticleEvent {
    /// The particles that come of one of `own`.
    fn makes(&self, own: Id) -> Option<Id> {
        match &self.action {
            Action::Become { particles } | Action::Trail { particles, .. } => Some(*particles),
            Action::Split(split) => Some(split.particles.unwrap_or(own)),
            Action::Die {} | Action::Solid { .. } => None,
        }
    }

    /// Whether there are more particles after it than before.
    fn adds(&self) -> bool {
        match &self.action {
            Action::Split(Split { count, stays, .. }) => *stays || *count > 1,
            Action::Trail { .. } => true,
            Action::Become { .. } | Action::Die {} | Action::Solid { .. } => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Element, ElementKind, particles::Particles};

    /// Particles A, B, C, of which the pairs become each other by `then`.
    fn shot(pairs: &[(usize, usize)], then: impl Fn(Id) -> Action) -> (Shot, Vec<Id>) {
        let mut shot = Shot::empty("Circle");
        let add = |name: &str| Element::new(name, ElementKind::Particles(Particles::default()));
        let ids: Vec<Id> = ["A", "B", "C"].into_iter().map(|name| shot.add(add(name))).collect();
        for &(from, to) in pairs {
            let name = ["A", "B", "C"][from];
            let of = shot.named_mut(name).unwrap().as_particles_mut().unwrap();
            of.events.push(ParticleEvent {
                trigger: Trigger::Age { age_s: 1.0 },
                action: then(ids[to]),
                probability: 1.0,
            });
        }
        (shot, ids)
    }

    fn split(of: Id) -> Action {
        Action::Split(Split { particles: Some(of), ..Split::default() })
    }

    #[test]
    fn a_circle_of_splits_is_found_from_each_that_is_on_it() {
        let (shot, ids) = shot(&[(0, 1), (1, 0), (2, 0)], split);
        assert_eq!(circle_names(&shot, &endless(&shot, ids[0]).unwrap()), "A → B → A");
        assert_eq!(circle_names(&shot, &endless(&shot, ids[1]).unwrap()), "B → A → B");
        // One that only leads there is not on it.
        assert_eq!(endless(&shot, ids[2]), None);
    }

    #[test]
    fn a_split_into_its_own_kind_has_no_end_and_a_chain_has() {
        let own = |_| Action::Split(Split::default());
        let (of_itself, ids) = shot(&[(0, 0)], own);
        assert_eq!(circle_names(&of_itself, &endless(&of_itself, ids[0]).unwrap()), "A → A");
        let (chain, ids) = shot(&[(0, 1), (1, 2)], split);
        assert!(ids.iter().all(|&id| endless(&chain, id).is_none()));
    }

    #[test]
    fn those_that_only_change_places_do_not_grow() {
        let change = |particles| Action::Become { particles };
        let (shot_of, ids) = shot(&[(0, 1), (1, 0)], change);
        assert_eq!(endless(&shot_of, ids[0]), None);
        let one = |of| Action::Split(Split { particles: Some(of), count: 1, ..Split::default() });
        let (shot_of, ids) = shot(&[(0, 1), (1, 0)], one);
        assert_eq!(endless(&shot_of, ids[0]), None);
        let stays =
            |of| Action::Split(Split { particles: Some(of), count: 1, stays: true, ..Split::default() });
        let (shot_of, ids) = shot(&[(0, 1), (1, 0)], stays);
        assert!(endless(&shot_of, ids[0]).is_some());
        let trail = |particles| Action::Trail { particles, per_s: 1.0 };
        let (shot_of, ids) = shot(&[(0, 1), (1, 0)], trail);
        assert!(endless(&shot_of, ids[0]).is_some());
    }
}
