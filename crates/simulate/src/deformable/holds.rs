//! What pins hold: nodes that stay where their frame has them, nodes drawn there by springs, and bodies held by their centre
//! of mass.

use super::discretization::{Discretization, Part};
use super::low_rank::LowRank;
use super::prediction::Prediction;
use super::state::Held;
use crate::colliders::Collider;
use geometry::SurfacePlace;
use glam::DVec3;
use shot::PinSpring;
use shot::world::Pose;
use std::ops::Range;

/// How a node or a centre is held.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Hold {
    /// Number of the frame that takes it along.
    pub frame: u32,
    /// The spring, and how strong it is, 0–1; none: it does not give way.
    pub spring: Option<(PinSpring, f64)>,
}

/// What holds an element at a step's end.
pub(super) struct PartHolds<'a> {
    /// The frames at the step's end: those of the element's copies, and those of the solids that pins are to.
    pub frames: Vec<Pose>,
    /// The same at its start.
    pub before: Vec<Pose>,
    /// Of each frame the surface that changes its shape and takes places along instead.
    pub surfaces: Vec<Option<&'a Collider>>,
    /// How many of them are copies: node and body of copy i are held in frame i.
    pub copies: u32,
    /// How each of its nodes is held; the frame of [`OWN`] is that of its copy.
    pub nodes: Vec<Option<Hold>>,
    /// How the centre of mass of each of its bodies is held.
    pub centre: Option<Hold>,
}

/// The frame of a node's own copy.
pub(super) const OWN: u32 = u32::MAX;

/// A spring that draws a node to a place, with its rate 2π f and its damping ratio; both act by the node's mass.
#[derive(Clone, Copy, Debug)]
pub(super) struct NodeSpring {
    rate: f64,
    damping_ratio: f64,
    weight: f64,
    target: DVec3,
    target_velocity: DVec3,
}

/// A centre that is held.
struct HeldCentre {
    nodes: Range<usize>,
    target: DVec3,
    spring: Option<(PinSpring, f64)>,
}

/// Where held nodes and centres are at a step's end.
pub(super) struct Holds {
    /// Where each node is held that does not give way.
    pub targets: Vec<Option<DVec3>>,
    /// The spring of each node; empty: there are none.
    springs: Vec<Option<NodeSpring>>,
    centres: Vec<HeldCentre>,
}

/// Stiffness of a centre that does not give way, against the inertia of its body in a step.
const FIRM: f64 = 1e3;

impl Holds {
    /// Catches and lets go of nodes and centres: `held` and `centres` are those of the last step and become those of
    /// this one. `x` are the nodes at the step's start, `dt` is its length, s.
    pub fn new(
        discretization: &Discretization,
        parts: &[Part],
        of: &[PartHolds],
        x: &[DVec3],
        dt: f64,
        held: &mut [Option<Held>],
        centres: &mut [Option<Held>],
    ) -> Self {
        let mut targets = vec![None; x.len()];
        let mut springs: Vec<Option<NodeSpring>> = Vec::new();
        let mut held_centres = Vec::new();
        for (part, of) in parts.iter().zip(of) {
            let frame = |hold: &Hold, body: u32| {
                let copy = (body - part.first_body).min(of.copies.saturating_sub(1));
                if hold.frame == OWN { copy } else { hold.frame }
            };
            for (node, hold) in part.nodes.clone().zip(&of.nodes) {
                let Some(hold) = hold else {
                    held[node] = None;
                    continue;
                };
                let frame = frame(hold, discretization.body_of[node]);
                let (target, last) = caught(&mut held[node], frame, of, x[node]);
                match hold.spring {
                    None => targets[node] = Some(target),
                    Some((spring, weight)) => {
                        springs.resize(x.len(), None);
                        springs[node] = Some(NodeSpring {
                            rate: std::f64::consts::TAU * f64::from(spring.frequency_hz),
                            damping_ratio: f64::from(spring.damping_ratio),
                            weight,
                            target,
                            target_velocity: (target - last) / dt,
                        });
                    }
                }
            }
            for nodes in discretization.nodes_by_body(part) {
                let body = discretization.body_of[nodes.start];
                let centre = &mut centres[body as usize];
                let Some(hold) = &of.centre else {
                    *centre = None;
                    continue;
                };
                let frame = frame(hold, body);
                let middle = centre_of_mass(&discretization.measures[nodes.clone()], &x[nodes.clone()]);
                let (target, _) = caught(centre, frame, of, middle);
                held_centres.push(HeldCentre { nodes, target, spring: hold.spring });
            }
        }
        Self { targets, springs, centres: held_centres }
    }

    /// The force that takes a node against its spring, N, and how it grows with the node's position, N/m.
    #[inline]
    pub fn spring(&self, node: usize, x: DVec3, prediction: &Prediction) -> (DVec3, f64) {
        let Some(Some(spring)) = self.springs.get(node) else { return (DVec3::ZERO, 0.0) };
        let mass = prediction.inertia[node] / (prediction.rate * prediction.rate) * spring.weight;
        let stiffness = mass * spring.rate * spring.rate;
        let damping = 2.0 * spring.damping_ratio * spring.rate * mass;
        let velocity = (x - prediction.x_bar[node]) * prediction.rate;
        let force = (x - spring.target) * stiffness + (velocity - spring.target_velocity) * damping;
        (force, stiffness + damping * prediction.rate)
    }

    /// Whether something holds a node or draws it.
    pub fn holds(&self, node: usize) -> bool {
        self.targets[node].is_some() || self.springs.get(node).is_some_and(Option::is_some)
    }

    /// Whether the centre of any body is held.
    pub fn any_centre(&self) -> bool {
        !self.centres.is_empty()
    }

    /// Adds the forces that hold centres to the gradient, and gives how they grow.
    pub fn add_centres(
        &self,
        prediction: &Prediction,
        x: &[DVec3],
        held: &[bool],
        gradient: &mut [DVec3],
    ) -> Vec<LowRank> {
        let of = |centre: &HeldCentre| {
            let nodes = centre.nodes.clone();
            let inertia = &prediction.inertia[nodes.clone()];
            let whole: f64 = inertia.iter().sum();
            let stiffness = match centre.spring {
                None => FIRM * whole,
                Some((spring, weight)) => {
                    let rate = std::f64::consts::TAU * f64::from(spring.frequency_hz) / prediction.rate;
                    weight * whole * rate * rate
                }
            };
            let middle = centre_of_mass(inertia, &x[nodes.clone()]);
            let force = (middle - centre.target) * stiffness;
            for (node, inertia) in nodes.clone().zip(inertia) {
                gradient[node] += force * (inertia / whole);
            }
            let weight = |(node, inertia): (usize, &f64)| {
                if held[node] { 0.0 } else { (inertia / whole) as f32 }
            };
            LowRank::mean(nodes.clone(), nodes.zip(inertia).map(weight).collect(), stiffness as f32)
        };
        self.centres.iter().map(of).collect()
    }
}

/// Where a place that is held is at the step's end, and where it was at its start. It is caught where it is then, `x`, in a
/// frame that did not hold it before.
fn caught(held: &mut Option<Held>, frame: u32, of: &PartHolds, x: DVec3) -> (DVec3, DVec3) {
    let same = held.filter(|held| held.frame == frame);
    let surface = of.surfaces.get(frame as usize).copied().flatten();
    let before = same.unwrap_or_else(|| {
        if let Some(place) = surface.and_then(|surface| surface.place(x.as_vec3(), true)) {
            let face = Some((place.triangle, place.weights));
            return Held { frame, local: place.offset, face, last: x };
        }
        let (position, orientation) = of.before[frame as usize];
        let local = orientation.inverse() * (x - position.as_dvec3()).as_vec3();
        Held { frame, local, face: None, last: x }
    });
    let target = match before.face {
        // Without its face, a place stays where it was.
        Some((triangle, weights)) => {
            let place = SurfacePlace { triangle, weights, offset: before.local };
            let found = surface.and_then(|surface| surface.at_place(&place, false));
            found.map_or(before.last, |(position, _)| position.as_dvec3())
        }
        None => {
            let (position, orientation) = of.frames[frame as usize];
            position.as_dvec3() + (orientation * before.local).as_dvec3()
        }
    };
    *held = Some(Held { last: target, ..before });
    (target, before.last)
}

/// Mean weighted by masses, or what is in proportion to them.
pub(super) fn centre_of_mass(masses: &[f64], x: &[DVec3]) -> DVec3 {
    let whole: f64 = masses.iter().sum();
    masses.iter().zip(x).fold(DVec3::ZERO, |sum, (mass, x)| sum + *x * *mass) / whole.max(1e-300)
}
