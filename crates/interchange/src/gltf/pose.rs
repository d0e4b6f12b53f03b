//! Nodes as an animation poses them.

use glam::{Quat, Vec3};
use std::collections::HashMap;

/// A node at a moment.
#[derive(Clone, Debug, Default)]
pub(super) struct NodePose {
    pub translation: Option<Vec3>,
    pub rotation: Option<Quat>,
    pub scale: Option<Vec3>,
    pub weights: Option<Vec<f32>>,
}

/// The nodes that are animated, at a moment.
#[derive(Default)]
pub(super) struct ScenePose(HashMap<u64, NodePose>);

impl ScenePose {
    pub fn new(nodes: HashMap<u64, NodePose>) -> Self {
        Self(nodes)
    }

    pub fn node(&self, index: u64) -> Option<&NodePose> {
        self.0.get(&index)
    }
}
