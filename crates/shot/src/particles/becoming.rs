//! What becomes of particles.

use crate::{Id, Shot, Who};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// One thing that becomes of each particle, once.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Becoming {
    /// When.
    pub when: When,
    /// What.
    pub then: Then,
    /// The share of them that it happens to, 0–1.
    #[serde(default = "all", skip_serializing_if = "is_all")]
    pub share: f32,
}

fn all() -> f32 {
    1.0
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_all(share: &f32) -> bool {
    *share == 1.0
}

/// When something becomes of a particle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum When {
    /// So long after its birth.
    Age {
        /// How long, s.
        s: f32,
    },
    /// At the end of its life.
    End {},
    /// It touches a body.
    Touch {
        /// Which; nothing named: any.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        of: Vec<Who>,
        /// The least speed at which it comes up to the surface, m/s.
        #[serde(default)]
        speed_m_s: f32,
    },
    /// It comes to where a region's weight is over a half.
    Region {
        /// The region.
        region: Id,
    },
    /// It is faster than so much.
    Faster {
        /// How fast, m/s.
        speed_m_s: f32,
    },
    /// It is slower than so much.
    Slower {
        /// How slow, m/s.
        speed_m_s: f32,
    },
    /// The shot comes to a frame.
    Frame {
        /// Which.
        frame: u32,
    },
    /// There are so many of its element, or more.
    Count {
        /// How many.
        number: u32,
    },
}

/// What becomes of a particle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Then {
    /// It dies.
    Die {},
    /// It becomes one of another element: its look, its forces, what becomes of it.
    Become {
        /// The other particles.
        of: Id,
    },
    /// It becomes several.
    Split(Split),
    /// From then on it leaves others behind.
    Trail {
        /// The particles that it leaves.
        of: Id,
        /// How many a second.
        per_s: f32,
    },
    /// It becomes a free body of a solid, with its place, turn, velocity and spin.
    Solid {
        /// The solid, whose bodies all come from particles.
        of: Id,
    },
}

/// When a body that came from a particle becomes one again, and which.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Back {
    /// By age, region, speed or frame. Its age counts from when it became a
    /// body; slower it has to be for a fifth of a second on end.
    pub when: When,
    /// The particles, of which it becomes one with its place, turn, velocity, spin, size and mass.
    pub of: Id,
}

/// A particle becomes several.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Split {
    /// The particles it becomes; none: of its own element.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of: Option<Id>,
    /// How many.
    pub number: u32,
    /// Whether it goes on itself.
    pub stays: bool,
    /// Share of its velocity that they take with them.
    pub inherit: f32,
    /// Speed away from it, m/s.
    pub speed_m_s: f32,
    /// Variation of that speed, as a fraction of it, 0–1.
    pub speed_variation: f32,
    /// Largest angle from its way at which they go, rad: π is all round.
    pub spread_rad: f32,
    /// Spin about a random axis, rad/s.
    pub spin_rad_s: f32,
    /// Their size as a share of its own; none: as their element says.
    pub size: Option<f32>,
}

impl Default for Split {
    fn default() -> Self {
        Self {
            of: None,
            number: 6,
            stays: false,
            inherit: 0.5,
            speed_m_s: 1.0,
            speed_variation: 0.5,
            spread_rad: std::f32::consts::PI,
            spin_rad_s: 0.0,
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
        particles.is_some_and(|particles| particles.becoming.iter().any(Becoming::adds))
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
    for next in particles.becoming.iter().filter_map(|becoming| becoming.makes(at)) {
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

impl Becoming {
    /// The particles that come of one of `own`.
    fn makes(&self, own: Id) -> Option<Id> {
        match &self.then {
            Then::Become { of } | Then::Trail { of, .. } => Some(*of),
            Then::Split(split) => Some(split.of.unwrap_or(own)),
            Then::Die {} | Then::Solid { .. } => None,
        }
    }

    /// Whether there are more particles after it than before.
    fn adds(&self) -> bool {
        match &self.then {
            Then::Split(Split { number, stays, .. }) => *stays || *number > 1,
            Then::Trail { .. } => true,
            Then::Become { .. } | Then::Die {} | Then::Solid { .. } => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Element, Is, Particles};

    /// Particles A, B, C, of which the pairs become each other by `then`.
    fn shot(pairs: &[(usize, usize)], then: impl Fn(Id) -> Then) -> (Shot, Vec<Id>) {
        let mut shot = Shot::empty("Circle");
        let add = |name: &str| Element::new(name, Is::Particles(Particles::default()));
        let ids: Vec<Id> = ["A", "B", "C"].into_iter().map(|name| shot.add(add(name))).collect();
        for &(from, to) in pairs {
            let name = ["A", "B", "C"][from];
            let of = shot.named_mut(name).unwrap().as_particles_mut().unwrap();
            of.becoming.push(Becoming { when: When::Age { s: 1.0 }, then: then(ids[to]), share: 1.0 });
        }
        (shot, ids)
    }

    fn split(of: Id) -> Then {
        Then::Split(Split { of: Some(of), ..Split::default() })
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
        let own = |_| Then::Split(Split::default());
        let (of_itself, ids) = shot(&[(0, 0)], own);
        assert_eq!(circle_names(&of_itself, &endless(&of_itself, ids[0]).unwrap()), "A → A");
        let (chain, ids) = shot(&[(0, 1), (1, 2)], split);
        assert!(ids.iter().all(|&id| endless(&chain, id).is_none()));
    }

    #[test]
    fn those_that_only_change_places_do_not_grow() {
        let change = |of| Then::Become { of };
        let (shot_of, ids) = shot(&[(0, 1), (1, 0)], change);
        assert_eq!(endless(&shot_of, ids[0]), None);
        let one = |of| Then::Split(Split { of: Some(of), number: 1, ..Split::default() });
        let (shot_of, ids) = shot(&[(0, 1), (1, 0)], one);
        assert_eq!(endless(&shot_of, ids[0]), None);
        let stays = |of| Then::Split(Split { of: Some(of), number: 1, stays: true, ..Split::default() });
        let (shot_of, ids) = shot(&[(0, 1), (1, 0)], stays);
        assert!(endless(&shot_of, ids[0]).is_some());
        let trail = |of| Then::Trail { of, per_s: 1.0 };
        let (shot_of, ids) = shot(&[(0, 1), (1, 0)], trail);
        assert!(endless(&shot_of, ids[0]).is_some());
    }
}
