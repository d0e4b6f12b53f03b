//! The state of all that deforms, between steps.

use super::contact::Anchors;
use glam::{DVec3, Vec3};
use serde::{Deserialize, Serialize};

/// All that a checkpoint needs.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct State {
    /// Positions, m, and velocities, m/s, of the nodes.
    pub x: Vec<DVec3>,
    pub v: Vec<DVec3>,
    /// Those before the last step; empty if there was none.
    pub x_before: Vec<DVec3>,
    pub v_before: Vec<DVec3>,
    /// Length of the last step, s.
    pub dt_before: f64,
    /// Where each node is held in the frame of its copy; none: it is free.
    pub held: Vec<Option<Vec3>>,
    /// Of each point of the surfaces.
    pub anchors: Vec<Anchors>,
}

impl State {
    pub fn new(x: Vec<DVec3>, v: Vec<DVec3>, points: usize) -> Self {
        let n = x.len();
        Self { x, v, held: vec![None; n], anchors: vec![Anchors::default(); points], ..Self::default() }
    }

    /// Whether it is that of so many nodes and points.
    pub fn fits(&self, n: usize, points: usize) -> bool {
        let all = [self.x.len(), self.v.len(), self.held.len()];
        let before = [self.x_before.len(), self.v_before.len()];
        all.iter().all(|len| *len == n)
            && self.anchors.len() == points
            && (before == [0, 0] || before == [n, n])
    }
}
