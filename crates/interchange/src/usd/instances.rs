//! Point instancers.

use super::composition::Between;
use super::{Kind, UsdScene};
use crate::MAX_FACES;
use crate::scene::{PlacedPolygons, Room};
use glam::{DMat4, DQuat, DVec3, Vec3};
use std::collections::HashSet;
use std::sync::Arc;

/// Most instances that a point instancer may show.
const MAX_INSTANCES: usize = 100_000;

impl UsdScene {
    /// The meshes of an instancer's instances.
    pub(super) fn instances(
        &self,
        index: usize,
        time: f64,
        outer: DMat4,
        room: &mut Room,
        list: &mut Vec<PlacedPolygons>,
    ) -> Result<(), String> {
        let prim = &self.nodes[index].prim;
        let positions = self.vectors(prim, "positions", time, Between::Line)?;
        if list.len() + positions.len() > MAX_INSTANCES {
            return Err(format!("{}: has {} instances; at most {MAX_INSTANCES}", prim.path, positions.len()));
        }
        let turns = self.numbers(prim, "orientations", time, Between::Turn)?;
        let scales = self.vectors(prim, "scales", time, Between::Line)?;
        let which = self.indices(prim, "protoIndices", time)?;
        let ids = self.indices(prim, "ids", time)?;
        let hidden: HashSet<u32> = self.indices(prim, "invisibleIds", time)?.into_iter().collect();
        let mut made = Vec::new();
        let mut faces = 0usize;
        for nodes in &self.prototypes[&index] {
            let mut parts = Vec::new();
            for &node in nodes.iter().filter(|node| self.nodes[**node].kind == Kind::Mesh) {
                let (matrix, seen) = self.placed(node, time)?;
                if seen {
                    let polygons = self.polygons(&self.nodes[node], time)?;
                    room.take(&polygons).map_err(|message| format!("{}: {message}", prim.path))?;
                    parts.push((node, matrix, Arc::new(polygons)));
                }
            }
            made.push(parts);
        }
        for (i, position) in positions.iter().enumerate() {
            let id = ids.get(i).copied().unwrap_or(i as u32);
            let prototype = which.get(i).and_then(|which| made.get(*which as usize));
            let Some(prototype) = prototype.filter(|_| !hidden.contains(&id)) else { continue };
            let turn = turns
                .get(4 * i..4 * i + 4)
                .map_or(DQuat::IDENTITY, |q| DQuat::from_xyzw(q[1], q[2], q[3], q[0]).normalize());
            let turn = if turn.is_finite() { turn } else { DQuat::IDENTITY };
            let scale = scales.get(i).copied().unwrap_or(Vec3::ONE).as_dvec3();
            if scale == DVec3::ZERO {
                continue;
            }
            let own = DMat4::from_scale_rotation_translation(scale, turn, position.as_dvec3());
            for (node, matrix, polygons) in prototype {
                faces += polygons.counts.len();
                if faces > MAX_FACES {
                    return Err(format!("{}: its instances have more than {MAX_FACES} faces", prim.path));
                }
                list.push(PlacedPolygons {
                    name: prim.name().to_owned(),
                    matrix: outer * own * *matrix,
                    polygons: polygons.clone(),
                    material: self.nodes[*node].material.or(self.nodes[index].material),
                });
            }
        }
        Ok(())
    }
}
