//! The prims of a stage.

use super::{Attribute, PROTOTYPE, UsdStage, vectors};
use crate::export::ExportError;
use crate::export::scene::{
    LightKind, MeshSamples, Samples, SceneCamera, SceneInstances, SceneLight, SceneMesh, ScenePoints,
    ScenePose,
};
use geometry::Mesh;
use glam::{Quat, Vec3};
use openusd::gf;
use openusd::sdf::Value;
use std::f32::consts::FRAC_PI_2;
use std::sync::Arc;

fn quat(q: Quat) -> gf::Quatf {
    gf::Quatf { w: q.w, x: q.x, y: q.y, z: q.z }
}

fn mapped<T>(samples: &Samples<T>, value: impl Fn(&T) -> Value) -> Samples<Value> {
    samples.iter().map(|(time, of)| (*time, value(of))).collect()
}

/// The transform of a prim.
fn transform(poses: &Samples<ScenePose>) -> Vec<Attribute> {
    let place = |(p, ..): &ScenePose| Value::Vec3d(gf::Vec3d { x: p.x.into(), y: p.y.into(), z: p.z.into() });
    let order = ["xformOp:translate", "xformOp:orient", "xformOp:scale"].map(Into::into).to_vec();
    vec![
        Attribute::sampled("xformOp:translate", "double3", mapped(poses, place)),
        Attribute::sampled("xformOp:orient", "quatf", mapped(poses, |(_, q, _)| Value::Quatf(quat(*q)))),
        Attribute::sampled(
            "xformOp:scale",
            "float3",
            mapped(poses, |(.., s)| Value::Vec3f(gf::vec3f(*s, *s, *s))),
        ),
        Attribute::uniform("xformOpOrder", "token[]", Value::TokenVec(order)),
    ]
}

/// Faces, points, normals and UVs.
fn surface(meshes: &MeshSamples) -> Vec<Attribute> {
    let counts = |(mesh, _): &(Arc<Mesh>, Vec<Vec3>)| Value::IntVec(vec![3; mesh.triangles.len()]);
    let corners = |(mesh, _): &(Arc<Mesh>, Vec<Vec3>)| {
        Value::IntVec(mesh.triangles.iter().flatten().map(|v| *v as i32).collect())
    };
    let uvs = |(mesh, _): &(Arc<Mesh>, Vec<Vec3>)| {
        Value::Vec2fVec(mesh.uvs.iter().map(|uv| gf::vec2f(uv.x, uv.y)).collect())
    };
    let has = |what: fn(&Mesh) -> bool| meshes.iter().all(|(_, (mesh, _))| what(mesh));
    let points =
        Attribute::sampled("points", "point3f[]", mapped(meshes, |(mesh, _)| vectors(&mesh.positions)));
    let velocities = Attribute::with(
        "velocities",
        "vector3f[]",
        mapped(meshes, |(_, velocities)| vectors(velocities)),
        &points,
    );
    let mut attributes = vec![
        Attribute::sampled("faceVertexCounts", "int[]", mapped(meshes, counts)),
        Attribute::sampled("faceVertexIndices", "int[]", mapped(meshes, corners)),
        points,
        Attribute::uniform("subdivisionScheme", "token", Value::Token("none".into())),
    ];
    if has(|mesh| mesh.normals.len() == mesh.positions.len()) {
        let normals = mapped(meshes, |(mesh, _)| vectors(&mesh.normals));
        attributes.push(Attribute::sampled("normals", "normal3f[]", normals).by_vertex());
    }
    if has(|mesh| mesh.uvs.len() == mesh.positions.len()) {
        attributes.push(Attribute::sampled("primvars:st", "texCoord2f[]", mapped(meshes, uvs)).by_vertex());
    }
    if meshes.iter().all(|(_, (mesh, velocities))| velocities.len() == mesh.positions.len()) {
        attributes.push(velocities);
    }
    attributes
}

impl UsdStage {
    /// Adds a solid of one body.
    pub(super) fn mesh(&mut self, mesh: &SceneMesh) -> Result<(), ExportError> {
        let name = self.names.take(&mesh.name);
        let attributes = surface(&mesh.meshes).into_iter().chain(transform(&mesh.poses)).collect();
        self.add(None, &name, "Mesh", attributes).map(drop)
    }

    /// Adds copies of one mesh as a point instancer.
    pub(super) fn instances(&mut self, of: &SceneInstances) -> Result<(), ExportError> {
        let name = self.names.take(&of.name);
        let samples = &of.samples;
        let half = |v: f32| gf::f16::from_f32(v);
        let turn = |q: &Quat| gf::quath(half(q.w), half(q.x), half(q.y), half(q.z));
        let degrees =
            |list: &[Vec3]| vectors(&list.iter().map(|w| *w * 1f32.to_degrees()).collect::<Vec<_>>());
        let places = |(poses, ..): &(Vec<ScenePose>, _, _)| {
            vectors(&poses.iter().map(|pose| pose.0).collect::<Vec<_>>())
        };
        let turns = |(poses, ..): &(Vec<ScenePose>, _, _)| {
            Value::QuathVec(poses.iter().map(|(_, q, _)| turn(q)).collect())
        };
        let sizes = |(poses, ..): &(Vec<ScenePose>, _, _)| {
            vectors(&poses.iter().map(|pose| Vec3::splat(pose.2)).collect::<Vec<_>>())
        };
        let first = |(poses, ..): &(Vec<ScenePose>, _, _)| Value::IntVec(vec![0; poses.len()]);
        let ids = |(poses, ..): &(Vec<ScenePose>, _, _)| Value::Int64Vec((0..poses.len() as i64).collect());
        let positions = Attribute::sampled("positions", "point3f[]", mapped(samples, places));
        let orientations = Attribute::sampled("orientations", "quath[]", mapped(samples, turns));
        let velocities = mapped(samples, |(_, v, _)| vectors(v));
        let spins = mapped(samples, |(.., w)| degrees(w));
        let attributes = vec![
            Attribute::with("velocities", "vector3f[]", velocities, &positions),
            Attribute::with("angularVelocities", "vector3f[]", spins, &orientations),
            Attribute::sampled("protoIndices", "int[]", mapped(samples, first)),
            Attribute::sampled("ids", "int64[]", mapped(samples, ids)),
            positions,
            orientations,
            Attribute::sampled("scales", "float3[]", mapped(samples, sizes)),
        ];
        let path = self.add(None, &name, "PointInstancer", attributes)?;
        self.add(Some(&path), PROTOTYPE, "Mesh", surface(&of.meshes)).map(drop)
    }

    /// Adds particles.
    pub(super) fn points(&mut self, of: &ScenePoints) -> Result<(), ExportError> {
        let name = self.names.take(&of.name);
        let samples = &of.samples;
        let ids = |list: &[u32]| Value::Int64Vec(list.iter().map(|id| i64::from(*id)).collect());
        let points = Attribute::sampled("points", "point3f[]", mapped(samples, |(_, p, ..)| vectors(p)));
        let velocities = mapped(samples, |(_, _, v, _)| vectors(v));
        let attributes = vec![
            Attribute::with("velocities", "vector3f[]", velocities, &points),
            points,
            Attribute::sampled("ids", "int64[]", mapped(samples, |(of, ..)| ids(of))),
            Attribute::sampled("widths", "float[]", mapped(samples, |(.., d)| Value::FloatVec(d.clone())))
                .by_vertex(),
        ];
        self.add(None, &name, "Points", attributes).map(drop)
    }

    /// Adds a camera.
    pub(super) fn camera(&mut self, of: &SceneCamera) -> Result<(), ExportError> {
        let name = self.names.take(&of.name);
        let part = |k: usize| mapped(&of.lens, |lens| Value::Float(lens[k]));
        let mut attributes = vec![
            Attribute::sampled("focalLength", "float", part(0)),
            Attribute::sampled("fStop", "float", part(1)),
            Attribute::sampled("focusDistance", "float", part(2)),
            Attribute::constant("horizontalAperture", "float", Value::Float(of.aperture_mm[0])),
            Attribute::constant("verticalAperture", "float", Value::Float(of.aperture_mm[1])),
            Attribute::constant("clippingRange", "float2", Value::Vec2f(gf::vec2f(0.01, 10_000.0))),
        ];
        attributes.extend(transform(&of.poses));
        self.add(None, &name, "Camera", attributes).map(drop)
    }

    /// Adds a light.
    pub(super) fn light(&mut self, of: &SceneLight) -> Result<(), ExportError> {
        let name = self.names.take(&of.name);
        let colour = |(c, _): &(Vec3, f32)| Value::Vec3f(gf::vec3f(c.x, c.y, c.z));
        let mut attributes = vec![
            Attribute::sampled("inputs:color", "color3f", mapped(&of.light, colour)),
            Attribute::sampled("inputs:intensity", "float", mapped(&of.light, |(_, s)| Value::Float(*s))),
        ];
        let kind = match of.kind {
            LightKind::Distant(angle) => {
                attributes.push(Attribute::constant(
                    "inputs:angle",
                    "float",
                    Value::Float(angle.to_degrees()),
                ));
                "DistantLight"
            }
            LightKind::Rectangle([width, height]) => {
                attributes.push(Attribute::constant("inputs:width", "float", Value::Float(width)));
                attributes.push(Attribute::constant("inputs:height", "float", Value::Float(height)));
                "RectLight"
            }
            LightKind::Dome => "DomeLight",
        };
        // Theirs shine along −z.
        let turned: Samples<ScenePose> = (of.poses.iter())
            .map(|(time, (p, q, s))| (*time, (*p, *q * Quat::from_rotation_x(-FRAC_PI_2), *s)))
            .collect();
        attributes.extend(transform(&turned));
        self.add(None, &name, kind, attributes).map(drop)
    }
}
