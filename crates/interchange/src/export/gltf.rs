//! glTF 2.0 as one binary file: a node a body, moved by an animation; meshes
//! that change their shape by a morph target a frame.

use super::{PlacedMesh, body_name};
use geometry::Mesh;
use glam::{Quat, Vec3};
use serde_json::{Value, json};
use std::sync::Arc;
use thiserror::Error;

/// Why meshes cannot be written.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ExportError {
    /// A mesh has other faces in some frames.
    #[error("{element}: its faces change, which morph targets cannot; hand on single frames or OBJ files")]
    FacesChange {
        /// Name of the element.
        element: String,
    },
    /// The file would be larger than its format can be.
    #[error("the file would be larger than {0} MB; hand on fewer frames")]
    TooLarge(usize),
    /// A stage cannot be written.
    #[error("the stage cannot be written: {0}")]
    Stage(String),
    /// There is nothing to write.
    #[error("there is no mesh to hand on")]
    Empty,
}

/// The largest file, bytes.
const MAX_BYTES: usize = 2 << 30;

/// Meshes at one frame, or at several with their seconds; all frames have the
/// same elements in the same order. Nothing is rounded.
///
/// # Errors
/// [`ExportError`].
pub fn write_glb(frames: &[(f64, Vec<PlacedMesh>)]) -> Result<Vec<u8>, ExportError> {
    let (_, first) = frames.first().ok_or(ExportError::Empty)?;
    let start = frames[0].0;
    let mut file = File::default();
    let times: Vec<f32> = frames.iter().map(|(time, _)| (time - start) as f32).collect();
    let moving = frames.len() > 1;
    let input = moving.then(|| file.scalars(&times));
    for (i, of) in first.iter().enumerate() {
        if of.mesh.triangles.is_empty() || of.bodies.is_empty() {
            continue;
        }
        let shapes: Vec<&Arc<Mesh>> = frames.iter().map(|(_, meshes)| &meshes[i].mesh).collect();
        let deforms = moving && frames.iter().any(|(_, meshes)| meshes[i].deforms);
        let mesh = file.mesh(of, if deforms { &shapes } else { &shapes[..1] })?;
        for (body, &pose) in of.bodies.iter().enumerate() {
            let node = file.node(&body_name(of, body), mesh, pose);
            let Some(input) = input else { continue };
            let poses: Vec<(Vec3, Quat, f32)> = frames
                .iter()
                .map(|(_, meshes)| meshes[i].bodies.get(body).copied().unwrap_or(pose))
                .collect();
            file.animate(node, input, &poses);
            if deforms {
                let one_hot: Vec<f32> = (0..shapes.len())
                    .flat_map(|frame| {
                        (1..shapes.len()).map(move |target| f32::from(u8::from(frame == target)))
                    })
                    .collect();
                let output = file.scalars(&one_hot);
                file.channel(node, "weights", input, output, "LINEAR");
            }
        }
        if file.bytes.len() > MAX_BYTES {
            return Err(ExportError::TooLarge(MAX_BYTES >> 20));
        }
    }
    if file.nodes.is_empty() {
        return Err(ExportError::Empty);
    }
    file.finish()
}

#[derive(Default)]
struct File {
    bytes: Vec<u8>,
    views: Vec<Value>,
    accessors: Vec<Value>,
    meshes: Vec<Value>,
    nodes: Vec<Value>,
    samplers: Vec<Value>,
    channels: Vec<Value>,
}

impl File {
    fn view(&mut self, values: &[f32], target: Option<u32>) -> usize {
        self.raw(values.iter().flat_map(|value| value.to_le_bytes()).collect(), target)
    }

    fn raw(&mut self, bytes: Vec<u8>, target: Option<u32>) -> usize {
        let mut view = json!({"buffer": 0, "byteOffset": self.bytes.len(), "byteLength": bytes.len()});
        if let Some(target) = target {
            view["target"] = target.into();
        }
        self.bytes.extend(bytes);
        self.views.push(view);
        self.views.len() - 1
    }

    fn accessor(&mut self, view: usize, kind: &str, component: u32, count: usize) -> usize {
        let accessor = json!({"bufferView": view, "componentType": component, "count": count, "type": kind});
        self.accessors.push(accessor);
        self.accessors.len() - 1
    }

    fn scalars(&mut self, values: &[f32]) -> usize {
        let view = self.view(values, None);
        let accessor = self.accessor(view, "SCALAR", 5126, values.len());
        // Wanted of times; true of all.
        let low = values.iter().copied().fold(f32::INFINITY, f32::min);
        let high = values.iter().copied().fold(f32::NEG_INFINITY, f32::max);
        self.accessors[accessor]["min"] = json!([low]);
        self.accessors[accessor]["max"] = json!([high]);
        accessor
    }

    fn vectors(&mut self, values: &[Vec3], bounds: bool, target: Option<u32>) -> usize {
        let flat: Vec<f32> = values.iter().flat_map(|v| v.to_array()).collect();
        let view = self.view(&flat, target);
        let accessor = self.accessor(view, "VEC3", 5126, values.len());
        if bounds {
            let low = values.iter().copied().fold(Vec3::INFINITY, Vec3::min);
            let high = values.iter().copied().fold(Vec3::NEG_INFINITY, Vec3::max);
            self.accessors[accessor]["min"] = json!(low.to_array());
            self.accessors[accessor]["max"] = json!(high.to_array());
        }
        accessor
    }

    /// A mesh of its shapes: the first, and a morph target for each other.
    fn mesh(&mut self, of: &PlacedMesh, shapes: &[&Arc<Mesh>]) -> Result<usize, ExportError> {
        const VERTICES: Option<u32> = Some(34_962);
        const INDICES: Option<u32> = Some(34_963);
        let mesh = shapes[0];
        let position = self.vectors(&mesh.positions, true, VERTICES);
        let mut attributes = json!({"POSITION": position});
        if mesh.normals.len() == mesh.positions.len() {
            attributes["NORMAL"] = self.vectors(&mesh.normals, false, VERTICES).into();
        }
        if mesh.uvs.len() == mesh.positions.len() {
            // glTF counts v downwards.
            let flat: Vec<f32> = mesh.uvs.iter().flat_map(|uv| [uv.x, 1.0 - uv.y]).collect();
            let view = self.view(&flat, VERTICES);
            attributes["TEXCOORD_0"] = self.accessor(view, "VEC2", 5126, mesh.uvs.len()).into();
        }
        let indices: Vec<u8> = mesh.triangles.iter().flatten().flat_map(|v| v.to_le_bytes()).collect();
        let view = self.raw(indices, INDICES);
        let indices = self.accessor(view, "SCALAR", 5125, 3 * mesh.triangles.len());
        let mut targets = Vec::new();
        for shape in &shapes[1..] {
            let same = shape.triangles == mesh.triangles && shape.positions.len() == mesh.positions.len();
            if !same {
                return Err(ExportError::FacesChange { element: of.name.clone() });
            }
            let by =
                |a: &[Vec3], b: &[Vec3]| -> Vec<Vec3> { b.iter().zip(a).map(|(b, a)| *b - *a).collect() };
            let position = self.vectors(&by(&mesh.positions, &shape.positions), true, VERTICES);
            let mut target = json!({"POSITION": position});
            if attributes.get("NORMAL").is_some() && shape.normals.len() == mesh.normals.len() {
                target["NORMAL"] = self.vectors(&by(&mesh.normals, &shape.normals), false, VERTICES).into();
            }
            targets.push(target);
            if self.bytes.len() > MAX_BYTES {
                return Err(ExportError::TooLarge(MAX_BYTES >> 20));
            }
        }
        let mut primitive = json!({"attributes": attributes, "indices": indices, "mode": 4});
        let mut written = json!({"name": of.name});
        if !targets.is_empty() {
            written["weights"] = vec![0.0; targets.len()].into();
            primitive["targets"] = targets.into();
        }
        written["primitives"] = json!([primitive]);
        self.meshes.push(written);
        Ok(self.meshes.len() - 1)
    }

    fn node(&mut self, name: &str, mesh: usize, (position, orientation, scale): (Vec3, Quat, f32)) -> usize {
        self.nodes.push(json!({
            "name": name,
            "mesh": mesh,
            "translation": position.to_array(),
            "rotation": orientation.normalize().to_array(),
            "scale": [scale, scale, scale],
        }));
        self.nodes.len() - 1
    }

    /// The motion of a node, where it moves.
    fn animate(&mut self, node: usize, input: usize, poses: &[(Vec3, Quat, f32)]) {
        let (position, orientation, scale) = poses[0];
        if poses.iter().any(|pose| pose.0 != position) {
            let places: Vec<Vec3> = poses.iter().map(|pose| pose.0).collect();
            let output = self.vectors(&places, false, None);
            self.channel(node, "translation", input, output, "LINEAR");
        }
        if poses.iter().any(|pose| pose.1 != orientation) {
            let mut before = orientation;
            let mut flat = Vec::new();
            for pose in poses {
                // The short way from frame to frame.
                let turn = pose.1.normalize();
                let turn = if turn.dot(before) < 0.0 { -turn } else { turn };
                flat.extend(turn.to_array());
                before = turn;
            }
            let view = self.view(&flat, None);
            let output = self.accessor(view, "VEC4", 5126, poses.len());
            self.channel(node, "rotation", input, output, "LINEAR");
        }
        if poses.iter().any(|pose| pose.2 != scale) {
            let sizes: Vec<Vec3> = poses.iter().map(|pose| Vec3::splat(pose.2)).collect();
            let output = self.vectors(&sizes, false, None);
            // What is gone is gone at once.
            self.channel(node, "scale", input, output, "STEP");
        }
    }

    fn channel(&mut self, node: usize, path: &str, input: usize, output: usize, interpolation: &str) {
        self.samplers.push(json!({"input": input, "output": output, "interpolation": interpolation}));
        let sampler = self.samplers.len() - 1;
        self.channels.push(json!({"sampler": sampler, "target": {"node": node, "path": path}}));
    }

    fn finish(mut self) -> Result<Vec<u8>, ExportError> {
        while !self.bytes.len().is_multiple_of(4) {
            self.bytes.push(0);
        }
        let all: Vec<usize> = (0..self.nodes.len()).collect();
        let mut document = json!({
            "asset": {"version": "2.0", "generator": "Bright Ripple"},
            "scene": 0,
            "scenes": [{"nodes": all}],
            "nodes": self.nodes,
            "meshes": self.meshes,
            "accessors": self.accessors,
            "bufferViews": self.views,
            "buffers": [{"byteLength": self.bytes.len()}],
        });
        if !self.channels.is_empty() {
            document["animations"] = json!([{"channels": self.channels, "samplers": self.samplers}]);
        }
        let mut text = document.to_string().into_bytes();
        while !text.len().is_multiple_of(4) {
            text.push(b' ');
        }
        let whole = 12 + 8 + text.len() + 8 + self.bytes.len();
        if whole > MAX_BYTES {
            return Err(ExportError::TooLarge(MAX_BYTES >> 20));
        }
        let mut out = b"glTF".to_vec();
        for value in [2, whole as u32, text.len() as u32] {
            out.extend(value.to_le_bytes());
        }
        out.extend(b"JSON");
        out.extend(text);
        out.extend((self.bytes.len() as u32).to_le_bytes());
        out.extend(b"BIN\0");
        out.extend(self.bytes);
        Ok(out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{read_mesh, read_sequence};
    use geometry::primitive;

    /// A ring that turns and falls, and a square that rises in its middle.
    fn frame(t: f32) -> (f64, Vec<PlacedMesh>) {
        let ring = Arc::new(primitive::torus(0.4, 0.1, 12));
        let poses = vec![(Vec3::NEG_Y * (5.0 * t * t), Quat::from_rotation_x(9.0 * t), 1.0)];
        let mut square = primitive::plane(2.0, 2.0);
        square.positions.iter_mut().for_each(|p| p.y = t * p.x);
        let gone = if t > 0.15 { 0.0 } else { 1.0 };
        let standing = vec![(Vec3::Z, Quat::IDENTITY, 1.0), (Vec3::X * 3.0, Quat::IDENTITY, gone)];
        let placed =
            |name: &str, mesh, deforms, bodies| PlacedMesh { name: name.to_owned(), mesh, deforms, bodies };
        (
            f64::from(t),
            vec![placed("Ring", ring, false, poses), placed("Square", Arc::new(square), true, standing)],
        )
    }

    #[test]
    fn a_range_is_read_back_frame_by_frame() {
        let frames: Vec<_> = (0..6).map(|i| frame(i as f32 / 24.0)).collect();
        let bytes = write_glb(&frames).unwrap();
        let read = read_sequence("x.glb", &bytes, 30.0).unwrap();
        let samples = read.sequence.samples();
        assert_eq!((samples.len(), read.sequence.rate()), (6, 24.0));
        for (sample, (_, meshes)) in samples.iter().zip(&frames) {
            let mut expected = Vec::new();
            for of in meshes {
                for (position, orientation, scale) in &of.bodies {
                    let placed = of.mesh.positions.iter().map(|p| *position + *orientation * (*p * *scale));
                    expected.extend(placed);
                }
            }
            // The reader takes nodes in order, and their vertices too.
            for (i, p) in expected.iter().enumerate() {
                let nearest = sample.positions.iter().map(|q| q.distance(*p)).fold(f32::INFINITY, f32::min);
                assert!(nearest < 2e-6, "{i}: {nearest}");
            }
        }
    }

    #[test]
    fn one_frame_is_a_still_mesh() {
        let bytes = write_glb(&[frame(0.1)]).unwrap();
        let mesh = read_mesh("x.glb", &bytes).unwrap();
        let (_, meshes) = frame(0.1);
        assert_eq!(mesh.triangles.len(), meshes[0].mesh.triangles.len() + 2 * meshes[1].mesh.triangles.len());
        assert!(!crate::is_sequence("x.glb", &bytes));
    }

    #[test]
    fn faces_that_change_and_nothing_at_all_are_told() {
        let mut frames = vec![frame(0.0), frame(0.1)];
        frames[1].1[1].mesh = Arc::new(primitive::cuboid(Vec3::ONE, 0.0));
        assert_eq!(write_glb(&frames), Err(ExportError::FacesChange { element: "Square".to_owned() }));
        assert_eq!(write_glb(&[(0.0, Vec::new())]), Err(ExportError::Empty));
    }
}
