//! The frame in memory.

use crate::{Header, MeshState};
use glam::{Quat, Vec2, Vec3};
use serde::{Deserialize, Serialize};
use shot::{Id, fingerprint::Fingerprint};
use std::collections::BTreeMap;

/// All that a simulation says about one frame.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Frame {
    /// Frame of the shot.
    pub number: u32,
    /// Seconds since the first frame.
    pub time_s: f64,
    /// Fingerprint of the inputs; see [`shot::fingerprint::fingerprints`].
    pub fingerprint: Fingerprint,
    /// Revision of the shot it was computed from; 0 outside the studio.
    pub revision: u32,
    /// Rigid bodies by element, copies in the order of [`shot::Copies`].
    pub bodies: BTreeMap<Id, Bodies>,
    /// Particles by element, in the order of their birth.
    pub particles: BTreeMap<Id, Particles>,
    /// Meshes that change their shape, by element, against its bodies: all
    /// bodies of the element have this shape.
    pub meshes: BTreeMap<Id, MeshState>,
    /// Measurements.
    pub measured: Measured,
}

impl Frame {
    /// A frame with nothing in it.
    pub fn new(number: u32, time_s: f64) -> Self {
        Self { number, time_s, ..Self::default() }
    }

    /// Takes over what a file's head says.
    pub(crate) fn set_header(&mut self, header: &Header) {
        self.number = header.number;
        self.time_s = header.time_s;
        self.fingerprint = header.fingerprint;
        self.revision = header.revision;
    }

    /// The particles of an element; none if it has had none up to this frame.
    pub fn particles_of(&self, element: Id) -> &Particles {
        static NONE: Particles = Particles {
            ids: Vec::new(),
            positions: Vec::new(),
            velocities: Vec::new(),
            sizes: Vec::new(),
            ages: Vec::new(),
            lifespans: Vec::new(),
            orientations: Vec::new(),
            weights: Vec::new(),
            uvs: Vec::new(),
            pressures: Vec::new(),
        };
        self.particles.get(&element).unwrap_or(&NONE)
    }

    /// The frame as it is when time goes backwards: what moved one way moves the other.
    #[must_use]
    pub fn backwards(mut self) -> Self {
        self.scale_velocities(-1.0);
        self
    }

    /// Adds the parts of other elements, and what was measured of them.
    pub fn add(&mut self, other: Self) {
        self.bodies.extend(other.bodies);
        self.particles.extend(other.particles);
        self.meshes.extend(other.meshes);
        self.measured.add(other.measured);
    }

    /// Drops all impacts: the frame before is another one than that of the run.
    pub(crate) fn drop_impacts(&mut self) {
        self.bodies.values_mut().for_each(|bodies| bodies.impacts.clear());
    }

    /// The frame with the parts of some elements only, and what was measured of those: a part
    /// with bodies has all that was measured of bodies.
    #[must_use]
    pub fn part_of(&self, elements: &[Id]) -> Self {
        fn of<T: Clone>(parts: &BTreeMap<Id, T>, elements: &[Id]) -> BTreeMap<Id, T> {
            let chosen = parts.iter().filter(|(id, _)| elements.contains(id));
            chosen.map(|(id, part)| (*id, part.clone())).collect()
        }
        let turnover = of(&self.measured.turnover, elements);
        let liquids = of(&self.measured.liquids, elements);
        let bodies = of(&self.bodies, elements);
        let measured = if bodies.is_empty() {
            let events = self.measured.events.iter().filter(|event| elements.contains(&event.element()));
            Measured { events: events.cloned().collect(), ..Measured::default() }
        } else {
            self.measured.clone()
        };
        Self {
            number: self.number,
            time_s: self.time_s,
            fingerprint: self.fingerprint,
            revision: self.revision,
            particles: of(&self.particles, elements),
            meshes: of(&self.meshes, elements),
            measured: Measured { turnover, liquids, ..measured },
            bodies,
        }
    }

    /// Multiplies all velocities.
    pub fn scale_velocities(&mut self, factor: f32) {
        let scale = |vectors: &mut Vec<Vec3>| vectors.iter_mut().for_each(|v| *v *= factor);
        for bodies in self.bodies.values_mut() {
            scale(&mut bodies.velocities);
            scale(&mut bodies.angular_velocities);
        }
        self.particles.values_mut().for_each(|particles| scale(&mut particles.velocities));
        self.meshes.values_mut().for_each(|mesh| scale(&mut mesh.velocities));
    }
}

/// Rigid bodies, structure of arrays.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Bodies {
    /// Place of the element's origin, metres.
    pub positions: Vec<Vec3>,
    /// Turn as a unit quaternion.
    pub orientations: Vec<Quat>,
    /// Velocity of the centre of mass, m/s.
    pub velocities: Vec<Vec3>,
    /// Angular velocity, rad/s.
    pub angular_velocities: Vec<Vec3>,
    /// Size as a multiple of the element's shape; empty where all have 1.
    pub scales: Vec<f32>,
    /// Impacts since the frame before, rising by body; at most one a body, its hardest.
    pub impacts: Vec<Impact>,
}

/// A hard contact of a body between two frames: the states in which the solver
/// had the body before it and after it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Impact {
    /// Index of the body.
    pub body: u32,
    /// Start and end, as fractions of the time from the frame before to this one.
    pub span: [f32; 2],
    /// Centre of mass at the start and at the end, m.
    pub centres: [Vec3; 2],
    /// Velocity of the centre of mass at the start and at the end, m/s.
    pub velocities: [Vec3; 2],
    /// Orientation at the start.
    pub orientation: Quat,
}

/// Particles, structure of arrays.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Particles {
    /// Ids, rising in the order of birth.
    pub ids: Vec<u32>,
    /// Place of the centre, metres.
    pub positions: Vec<Vec3>,
    /// Velocity, m/s.
    pub velocities: Vec<Vec3>,
    /// Diameter, metres.
    pub sizes: Vec<f32>,
    /// Seconds since birth, in the world's time.
    pub ages: Vec<f32>,
    /// Seconds from birth to death; endless for one that does not die.
    pub lifespans: Vec<f32>,
    /// Turn as a unit quaternion; empty where they do not turn.
    pub orientations: Vec<Quat>,
    /// The map's weight where each was born, 0–1; empty without a map.
    pub weights: Vec<f32>,
    /// UVs of the places where they were born; empty if they carry none.
    pub uvs: Vec<Vec2>,
    /// Pressure of a liquid, Pa; empty if they are none.
    pub pressures: Vec<f32>,
}

impl Particles {
    /// Number of particles.
    pub fn len(&self) -> usize {
        self.positions.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.positions.is_empty()
    }

    /// Makes room for `n`; what is in it then is of no use. Pages that nobody
    /// has touched yet cost nothing, so new arrays are not filled.
    pub(crate) fn make_room(&mut self, n: usize, [turning, weighing, with_uv, with_pressure]: [bool; 4]) {
        fn room<T: bytemuck::Zeroable + Clone>(column: &mut Vec<T>, n: usize) {
            if column.capacity() < n {
                *column = bytemuck::zeroed_vec(n);
            }
            column.resize(n, T::zeroed());
        }
        room(&mut self.ids, n);
        room(&mut self.positions, n);
        room(&mut self.velocities, n);
        room(&mut self.sizes, n);
        room(&mut self.ages, n);
        room(&mut self.lifespans, n);
        room(&mut self.orientations, if turning { n } else { 0 });
        room(&mut self.weights, if weighing { n } else { 0 });
        room(&mut self.uvs, if with_uv { n } else { 0 });
        room(&mut self.pressures, if with_pressure { n } else { 0 });
    }
}

impl Bodies {
    /// Number of bodies.
    pub fn len(&self) -> usize {
        self.positions.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.positions.is_empty()
    }

    /// Appends a body.
    pub fn push(&mut self, position: Vec3, orientation: Quat, velocity: Vec3, angular_velocity: Vec3) {
        self.positions.push(position);
        self.orientations.push(orientation);
        self.velocities.push(velocity);
        self.angular_velocities.push(angular_velocity);
    }
}

/// Measurements of a frame over all solids.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Measured {
    /// Pairs of bodies that touch.
    pub contacts: u32,
    /// Greatest depth of one body in another, metres.
    pub deepest_overlap_m: f32,
    /// Elements of the deepest pair.
    pub deepest_pair: Option<(Id, Id)>,
    /// Speed of the fastest body, m/s.
    pub max_speed_m_s: f32,
    /// Element of the fastest body.
    pub fastest: Option<Id>,
    /// Kinetic energy of the free bodies, J.
    pub kinetic_j: f64,
    /// Potential energy of the free bodies above the origin, J.
    pub potential_j: f64,
    /// Momentum of the free bodies, kg m/s.
    pub momentum: [f64; 3],
    /// Events since the frame before.
    #[serde(default)]
    pub events: Vec<Event>,
    /// Particles born and gone since the frame before, by element.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub turnover: BTreeMap<Id, Turnover>,
    /// What was measured of liquids, by element.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub liquids: BTreeMap<Id, LiquidMeasure>,
}

impl Measured {
    /// Adds what was measured in another system.
    pub fn add(&mut self, other: Self) {
        if *self == Self::default() {
            *self = other;
            return;
        }
        self.contacts += other.contacts;
        if other.deepest_overlap_m > self.deepest_overlap_m {
            (self.deepest_overlap_m, self.deepest_pair) = (other.deepest_overlap_m, other.deepest_pair);
        }
        if other.max_speed_m_s > self.max_speed_m_s {
            (self.max_speed_m_s, self.fastest) = (other.max_speed_m_s, other.fastest);
        }
        self.kinetic_j += other.kinetic_j;
        self.potential_j += other.potential_j;
        for (sum, part) in self.momentum.iter_mut().zip(other.momentum) {
            *sum += part;
        }
        self.events.extend(other.events);
        self.turnover.extend(other.turnover);
        self.liquids.extend(other.liquids);
    }
}

/// Particles born and gone from one frame to the next.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Turnover {
    /// How many there are.
    pub alive: u32,
    /// How many were born.
    pub born: u32,
    /// How many died, or became something else.
    pub gone: u32,
}

/// What was measured of a liquid at the end of a frame, over all that share its grid.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct LiquidMeasure {
    /// Volume that its particles take within it over what they stand for, no unit; 1 where nothing of it lies within.
    pub volume_kept: f32,
    /// Root mean square of the divergence that is left in its cells, 1/s.
    pub divergence_1_s: f32,
    /// Steps in which the last substep was taken.
    pub steps: u32,
}

/// Something worth telling about an element.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Event {
    /// A body went further from the origin than the world reaches.
    LeftWorld {
        /// Its element.
        element: Id,
        /// Index of the copy.
        copy: u32,
    },
    /// Two bodies came together too fast for all steps that a substep is taken in.
    TooFast {
        /// One element.
        element: Id,
        /// Index of the copy.
        copy: u32,
        /// The other element.
        past: Id,
        /// Substeps that are short enough.
        substeps: u32,
    },
    /// A body's path went through another body without a contact.
    Tunnelled {
        /// The moving element.
        element: Id,
        /// Index of the copy.
        copy: u32,
        /// The other element.
        through: Id,
        /// Substeps that would have seen the contact.
        substeps: u32,
    },
    /// A liquid was faster than the most steps of a substep allow.
    LiquidTooFast {
        /// Its element.
        element: Id,
        /// Its greatest speed, m/s.
        speed_m_s: f32,
        /// Substeps that are short enough.
        substeps: u32,
    },
    /// The pressure of a liquid was not found.
    NotConverged {
        /// Its element.
        element: Id,
        /// Divergence left, as a part of that at first; no unit.
        residual: f32,
    },
}

impl Event {
    /// The element that it is about, the first if there are two.
    pub fn element(&self) -> Id {
        match self {
            Self::LeftWorld { element, .. }
            | Self::TooFast { element, .. }
            | Self::Tunnelled { element, .. }
            | Self::LiquidTooFast { element, .. }
            | Self::NotConverged { element, .. } => *element,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn backwards_all_stands_where_it_did_and_moves_the_other_way() {
        let mut frame = Frame::new(4, 0.1);
        let mut bodies = Bodies::default();
        bodies.push(Vec3::X, Quat::IDENTITY, Vec3::Y, Vec3::Z);
        frame.bodies.insert(Id(1), bodies);
        let particles = Particles {
            ids: vec![7],
            positions: vec![Vec3::ONE],
            velocities: vec![Vec3::X],
            sizes: vec![0.1],
            ages: vec![0.2],
            lifespans: vec![1.0],
            ..Particles::default()
        };
        frame.particles.insert(Id(2), particles);
        let back = frame.clone().backwards();
        assert_eq!(back.bodies[&Id(1)].velocities, [Vec3::NEG_Y]);
        assert_eq!(back.bodies[&Id(1)].angular_velocities, [Vec3::NEG_Z]);
        assert_eq!(back.particles[&Id(2)].velocities, [Vec3::NEG_X]);
        assert_eq!((&back.particles[&Id(2)].ids, back.bodies[&Id(1)].positions[0]), (&vec![7], Vec3::X));
        assert_eq!(back.backwards(), frame);
    }
}
