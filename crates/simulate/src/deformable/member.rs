//! A cloth or a soft body of the solver.

use super::discretization::{Discretization, ShownMesh};
use super::element_maps::ElementMaps;
use crate::Step;
use geometry::Mesh;
use shot::{Element, Id};
use std::collections::HashSet;

/// An element.
pub(super) struct Member {
    pub element: Id,
    pub name: String,
    pub shown: ShownMesh,
    /// The nodes of each pin whose nodes stay the same, in the whole element.
    pub pinned: Vec<Option<Vec<u32>>>,
    /// The maps that act on it.
    pub maps: Option<ElementMaps>,
    /// What is between its nodes, kept where something of the shot tears.
    pub discretization: Option<Discretization>,
    /// What is needed to tear it; none: it does not tear.
    pub tearing: Option<Tearing>,
    /// Mean length of its edges, m, and whether its mesh is closed.
    pub edge_m: f64,
    pub closed: bool,
}

/// What is needed to tear a sheet.
pub(super) struct Tearing {
    /// The whole mesh of one copy.
    pub mesh: Mesh,
    /// The size of each copy.
    pub sizes: Vec<f32>,
    /// The face of the mesh that each triangle of a body is.
    pub face_of: Vec<u32>,
    /// The node of the whole element that each node was.
    pub origins: Vec<u32>,
}

impl Tearing {
    pub fn is_torn(&self) -> bool {
        (0..).zip(&self.origins).any(|(node, origin): (u32, &u32)| node != *origin)
    }
}

impl Member {
    /// The weights of a map at its nodes.
    pub fn at_nodes(&mut self, name: &str, element: &Element, step: &Step) -> Vec<f32> {
        let Some(maps) = self.maps.as_mut() else { return Vec::new() };
        let weights = maps.at_nodes(name, element, step);
        match &self.tearing {
            Some(of) if !weights.is_empty() => of.origins.iter().map(|i| weights[*i as usize]).collect(),
            _ => weights,
        }
    }

    /// Its nodes among those of a list of the whole element.
    pub fn now(&self, list: &[u32]) -> Vec<u32> {
        match &self.tearing {
            None => list.to_vec(),
            Some(of) => {
                let listed: HashSet<u32> = list.iter().copied().collect();
                let origins = (0..).zip(&of.origins);
                origins.filter(|(_, origin)| listed.contains(origin)).map(|(node, _)| node).collect()
            }
        }
    }
}
