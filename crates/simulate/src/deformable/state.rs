//! The state of all that deforms, between steps.

use super::contact::Anchors;
use super::discretization::Discretization;
use super::torn::Cut;
use glam::{DMat3, DVec3, Vec3};
use serde::{Deserialize, Serialize};
use shot::world::Pose;

/// All that a checkpoint needs.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct State {
    /// Positions, m, and velocities, m/s, of the nodes.
    pub x: Vec<DVec3>,
    pub v: Vec<DVec3>,
    /// Those before the last step; empty if there was none.
    pub x_before: Vec<DVec3>,
    pub v_before: Vec<DVec3>,
    /// The force of liquids on each node in the last step, N, which the next step begins with; empty: no liquid pushed.
    pub load: Vec<DVec3>,
    /// Length of the last step, s.
    pub dt_before: f64,
    /// Where each node is held; none: it is free.
    pub held: Vec<Option<Held>>,
    /// Where the centre of mass of each body is held.
    pub centres: Vec<Option<Held>>,
    /// The frames that take held places along, of each element, at the end of the last step.
    pub frames: Vec<Vec<Pose>>,
    /// √A times the second derivatives at rest of each triangle; empty: those of the mesh.
    pub creases: Vec<[DVec3; 3]>,
    /// The inverse of the deformation of each cell that stays; empty: there is none.
    pub sets: Vec<DMat3>,
    /// Of each point of the surfaces.
    pub anchors: Vec<Anchors>,
    /// Whether surfaces crossed at the end of the last step that looked for that; they do until a look finds none.
    pub tangled: bool,
    /// The cuts of each body, in the order in which it tore; empty: nothing tore.
    pub cuts: Vec<Vec<Cut>>,
}

/// A place that a frame takes along.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Held {
    /// Number of the frame.
    pub frame: u32,
    /// Where it is in the frame, m.
    pub local: Vec3,
    /// The face and its corners' weights, if it is held by a surface that changes its shape; `local` is in the face's frame then.
    pub face: Option<(u32, [f32; 3])>,
    /// Where it was at the end of the last step, m.
    pub last: DVec3,
}

impl State {
    pub fn new(x: Vec<DVec3>, v: Vec<DVec3>, of: &Discretization) -> Self {
        let (held, centres) = (vec![None; of.len()], vec![None; of.bodies as usize]);
        let anchors = vec![Anchors::default(); of.embedding.len()];
        Self { x, v, held, centres, anchors, ..Self::default() }
    }

    /// The same after some points have become two: `nodes` and `points` say which one each was.
    pub fn with_more(self, nodes: &[u32], points: &[u32]) -> Self {
        fn taken<T: Clone>(list: &[T], from: &[u32]) -> Vec<T> {
            if list.is_empty() {
                Vec::new()
            } else {
                from.iter().map(|i| list[*i as usize].clone()).collect()
            }
        }
        Self {
            x: taken(&self.x, nodes),
            v: taken(&self.v, nodes),
            x_before: taken(&self.x_before, nodes),
            v_before: taken(&self.v_before, nodes),
            load: taken(&self.load, nodes),
            held: taken(&self.held, nodes),
            anchors: taken(&self.anchors, points),
            ..self
        }
    }

    /// Whether it is that of a discretization.
    pub fn fits(&self, of: &Discretization) -> bool {
        let (n, points) = (of.len(), of.embedding.len());
        let or_none = |len: usize, whole: usize| len == 0 || len == whole;
        if self.centres.len() != of.bodies as usize
            || !or_none(self.creases.len(), of.bends.len())
            || !or_none(self.sets.len(), of.cells.len())
        {
            return false;
        }
        let all = [self.x.len(), self.v.len(), self.held.len()];
        let before = [self.x_before.len(), self.v_before.len()];
        all.iter().all(|len| *len == n)
            && self.anchors.len() == points
            && (before == [0, 0] || before == [n, n])
            && or_none(self.load.len(), n)
    }
}
