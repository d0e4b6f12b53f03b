//! The nodes of the default scene: one part for each node and material.

use super::material::Materials;
use super::pose::{NodePose, ScenePose};
use super::primitive::{self, Room};
use super::{Gltf, MAX_COUNT};
use crate::{MAX_FACES, Part};
use geometry::Mesh;
use glam::{Mat3, Mat4, Quat, Vec3};
use serde_json::Value;

/// Most nodes and primitives that are visited, all uses counted.
const MAX_NODES: usize = 100_000;
/// Deepest nesting of nodes.
const MAX_DEPTH: usize = 200;

/// Counts what is visited.
struct Visits(usize);

impl Visits {
    fn count(&mut self, what: &str) -> Result<(), String> {
        self.0 += 1;
        if self.0 > MAX_NODES { Err(format!("has more than {MAX_NODES} {what}")) } else { Ok(()) }
    }
}

pub(super) fn parts(gltf: &Gltf, materials: &mut Materials, pose: &ScenePose) -> Result<Vec<Part>, String> {
    let mut parts = Vec::new();
    let mut room = Room { vertices: MAX_COUNT, faces: MAX_FACES };
    let mut visits = Visits(0);
    let scene = gltf.file.json["scene"].as_u64().unwrap_or(0);
    let roots = gltf.list("scenes").get(scene as usize).map_or(&Value::Null, |scene| &scene["nodes"]);
    let mut stack: Vec<(u64, Mat4, usize)> = Vec::new();
    // The last on the stack is the next to be visited.
    let push = |stack: &mut Vec<(u64, Mat4, usize)>, nodes: &Value, matrix: Mat4, depth: usize| {
        let nodes = nodes.as_array().into_iter().flatten().filter_map(Value::as_u64);
        stack.extend(nodes.rev().take(MAX_NODES).map(|node| (node, matrix, depth)));
    };
    push(&mut stack, roots, Mat4::IDENTITY, 0);
    while let Some((index, parent, depth)) = stack.pop() {
        visits.count("nodes")?;
        if stack.len() > MAX_NODES {
            return Err(format!("has more than {MAX_NODES} nodes"));
        }
        if depth > MAX_DEPTH {
            return Err(format!("has nodes nested deeper than {MAX_DEPTH}, or in a circle"));
        }
        let node = gltf.entry("nodes", index)?;
        let posed = pose.node(index);
        let matrix = parent * transform(node, posed);
        if let Some(mesh) = node["mesh"].as_u64() {
            node_parts(
                gltf,
                node,
                gltf.entry("meshes", mesh)?,
                posed.and_then(|pose| pose.weights.clone()),
                matrix,
                materials,
                (&mut room, &mut visits),
                &mut parts,
            )?;
        }
        push(&mut stack, &node["children"], matrix, depth + 1);
    }
    Ok(parts)
}

/// The parts of one node, one for each material.
fn node_parts(
    gltf: &Gltf,
    node: &Value,
    mesh: &Value,
    weights: Option<Vec<f32>>,
    matrix: Mat4,
    materials: &mut Materials,
    (room, visits): (&mut Room, &mut Visits),
    parts: &mut Vec<Part>,
) -> Result<(), String> {
    let before = parts.len();
    let placement = Placement::of(matrix);
    // Weights of morph targets: those of the animation, the node or the mesh.
    let weights = weights.unwrap_or_else(|| {
        let list = [&node["weights"], &mesh["weights"]].into_iter().find_map(Value::as_array);
        list.into_iter().flatten().map(|weight| weight.as_f64().unwrap_or(0.0) as f32).collect()
    });
    for primitive in mesh["primitives"].as_array().into_iter().flatten() {
        visits.count("primitives with all uses of its meshes")?;
        if primitive["mode"].as_u64().unwrap_or(4) != 4 {
            continue;
        }
        let material = primitive["material"].as_u64().map(|index| materials.take(index)).transpose()?;
        let at = match parts[before..].iter().position(|part| part.material == material) {
            Some(at) => before + at,
            None => {
                let names = [&node["name"], &mesh["name"]].into_iter().find_map(Value::as_str);
                let name = names.map_or_else(
                    || format!("Part {}", parts.len() + 1),
                    |name| name.chars().take(80).collect(),
                );
                let Placement { position, orientation, scale, .. } = placement;
                parts.push(Part { name, mesh: Mesh::default(), position, orientation, scale, material });
                parts.len() - 1
            }
        };
        let textures = material.map_or_else(Default::default, |material| materials.textures(material));
        let deformed = primitive::Deformed { linear: placement.linear, weights: &weights };
        primitive::append(gltf, &mut parts[at].mesh, primitive, deformed, &textures, room)?;
    }
    parts.retain(|part| !part.mesh.positions.is_empty());
    // Several parts of a node are told apart by their looks.
    if parts.len() > before + 1 {
        for part in &mut parts[before..] {
            if let Some(material) = part.material {
                part.name = format!("{} {}", part.name, materials.done[material].name);
            }
        }
    }
    Ok(())
}

/// A node's matrix as a placement, and what of it no placement can say.
struct Placement {
    position: Vec3,
    orientation: Quat,
    scale: f32,
    /// Applied to the vertices themselves: the identity, unless the node
    /// mirrors, shears or scales unevenly.
    linear: Mat3,
}

impl Placement {
    fn of(matrix: Mat4) -> Self {
        let linear = Mat3::from_mat4(matrix);
        let position = matrix.w_axis.truncate();
        let scale = linear.determinant().cbrt();
        let turn = linear * (1.0 / scale);
        let even = (turn.transpose() * turn).abs_diff_eq(Mat3::IDENTITY, 1e-4);
        if scale > 1e-9 && even {
            let orientation = Quat::from_mat3(&turn).normalize();
            return Self { position, orientation, scale, linear: Mat3::IDENTITY };
        }
        Self { position, orientation: Quat::IDENTITY, scale: 1.0, linear }
    }
}

/// Transform of a node relative to its parent.
fn transform(node: &Value, pose: Option<&NodePose>) -> Mat4 {
    let numbers = |key: &str| -> Vec<f32> {
        let list = node[key].as_array().into_iter().flatten();
        list.filter_map(Value::as_f64).map(|value| value as f32).collect()
    };
    if let Ok(matrix) = <[f32; 16]>::try_from(numbers("matrix")) {
        return Mat4::from_cols_array(&matrix);
    }
    let pose = pose.cloned().unwrap_or_default();
    let position = <[f32; 3]>::try_from(numbers("translation")).map_or(Vec3::ZERO, Vec3::from);
    let turn = <[f32; 4]>::try_from(numbers("rotation")).map_or(Quat::IDENTITY, Quat::from_array);
    let turn = if turn.length_squared() > 0.0 { turn.normalize() } else { Quat::IDENTITY };
    let scale = <[f32; 3]>::try_from(numbers("scale")).map_or(Vec3::ONE, Vec3::from);
    Mat4::from_scale_rotation_translation(
        pose.scale.unwrap_or(scale),
        pose.rotation.unwrap_or(turn),
        pose.translation.unwrap_or(position),
    )
}
