//! The frame in memory.

use glam::{Quat, Vec3};
use serde::{Deserialize, Serialize};
use shot::{Fingerprint, Id};
use std::collections::BTreeMap;

/// All that a simulation says about one frame.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Frame {
    /// Frame of the shot.
    pub number: u32,
    /// Seconds since the first frame.
    pub time_s: f64,
    /// What it was computed from; see [`shot::fingerprints`].
    pub fingerprint: Fingerprint,
    /// Revision of the shot it was computed from; 0 outside the studio.
    pub revision: u32,
    /// Rigid bodies by element, copies in the order of [`shot::Copies`].
    pub bodies: BTreeMap<Id, Bodies>,
    /// What was measured.
    pub measured: Measured,
}

impl Frame {
    /// A frame with nothing in it.
    pub fn new(number: u32, time_s: f64) -> Self {
        Self { number, time_s, ..Self::default() }
    }
}

/// Rigid bodies, structure of arrays.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Bodies {
    /// Place of the element's origin, metres.
    pub places: Vec<Vec3>,
    /// Turn as a unit quaternion.
    pub turns: Vec<Quat>,
    /// Velocity of the centre of mass, m/s.
    pub velocities: Vec<Vec3>,
    /// Angular velocity, rad/s.
    pub spins: Vec<Vec3>,
}

impl Bodies {
    /// Number of bodies.
    pub fn len(&self) -> usize {
        self.places.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.places.is_empty()
    }

    /// Appends a body.
    pub fn push(&mut self, place: Vec3, turn: Quat, velocity: Vec3, spin: Vec3) {
        self.places.push(place);
        self.turns.push(turn);
        self.velocities.push(velocity);
        self.spins.push(spin);
    }
}

/// What was measured at a frame, over all solids.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Measured {
    /// Pairs of bodies that touch.
    pub contacts: u32,
    /// Greatest depth of one body in another, metres.
    pub deepest_overlap_m: f32,
    /// Elements of the deepest pair.
    pub deepest_pair: Option<(Id, Id)>,
    /// Speed of the fastest body, m/s.
    pub fastest_m_s: f32,
    /// Element of the fastest body.
    pub fastest: Option<Id>,
    /// Kinetic energy of the free bodies, J.
    pub kinetic_j: f64,
    /// Potential energy of the free bodies above the origin, J.
    pub potential_j: f64,
    /// Momentum of the free bodies, kg m/s.
    pub momentum: [f64; 3],
    /// What happened since the frame before.
    #[serde(default)]
    pub events: Vec<Event>,
}

/// Something worth telling about a body.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Event {
    /// A body went further from the origin than the world reaches.
    LeftWorld {
        /// Its element.
        element: Id,
        /// Which copy of it.
        copy: u32,
    },
    /// A body's path went through a still body without a contact.
    Tunnelled {
        /// The moving element.
        element: Id,
        /// Which copy of it.
        copy: u32,
        /// The still element.
        through: Id,
        /// Substeps that would have seen the contact.
        substeps: u32,
    },
}
