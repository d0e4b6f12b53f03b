//! A range of frames as an Alembic archive (Ogawa): polygon meshes with UVs, normals and
//! velocities below their transforms, points with ids, velocities and widths, and cameras.
//!
//! One unit is a metre, y is up; a frame is at its number divided by the frame rate, s. The
//! format has no lights that are common to its readers: they are left out.

mod archive;

use super::scene::{ExportScene, MeshSamples, Samples, SceneCamera, ScenePoints, ScenePose, UniqueNames};
use archive::{ArchiveWriter, Object, Pod, PropertyType, Written};
use geometry::Mesh;
use glam::{DMat4, Vec3};
use std::sync::Arc;

const TRANSFORM: &str = "schema=AbcGeom_Xform_v3;schemaObjTitle=AbcGeom_Xform_v3:.xform";
const MESH: &str =
    "schema=AbcGeom_PolyMesh_v1;schemaBaseType=AbcGeom_GeomBase_v1;schemaObjTitle=AbcGeom_PolyMesh_v1:.geom";
const POINTS: &str =
    "schema=AbcGeom_Points_v1;schemaBaseType=AbcGeom_GeomBase_v1;schemaObjTitle=AbcGeom_Points_v1:.geom";
const CAMERA: &str = "schema=AbcGeom_Camera_v1;schemaObjTitle=AbcGeom_Camera_v1:.geom";
/// The step of a transform that is a matrix.
const MATRIX_STEP: u8 = 3 << 4;

/// A scene as an archive.
pub fn write_alembic(scene: &ExportScene) -> Vec<u8> {
    let fps = f64::from(scene.fps);
    let frames = scene.last.saturating_sub(scene.first) + 1;
    let mut out = ArchiveWriter::new(frames, f64::from(scene.first) / fps, 1.0 / fps);
    let (mut names, mut top) = (UniqueNames::default(), Vec::new());
    for of in &scene.meshes {
        let name = names.take(&of.name);
        let mesh = mesh(&mut out, &name, &of.meshes);
        top.push(transform(&mut out, name, &matrices(&of.poses), mesh));
    }
    for of in &scene.instances {
        let name = names.take(&of.name);
        let bodies = of.samples.first().map_or(0, |(_, (poses, ..))| poses.len());
        let mut copies = Vec::new();
        // Each copy has a mesh object of its own; the values of all are stored once.
        for body in 0..bodies {
            let pose = |(time, (poses, ..)): &(f64, (Vec<ScenePose>, _, _))| {
                poses.get(body).map(|pose| (*time, *pose))
            };
            let poses: Samples<ScenePose> = of.samples.iter().filter_map(pose).collect();
            let copy = format!("{name}_{}", body + 1);
            let mesh = mesh(&mut out, &copy, &of.meshes);
            copies.push(transform(&mut out, copy, &matrices(&poses), mesh));
        }
        let place = out.object(&[], &copies);
        top.push(Object { name, metadata: "", place });
    }
    for of in &scene.points {
        let name = names.take(&of.name);
        let place = points(&mut out, of);
        top.push(Object { name, metadata: POINTS, place });
    }
    for of in &scene.cameras {
        let name = names.take(&of.name);
        let place = camera(&mut out, of);
        let camera = Object { name: format!("{name}Shape"), metadata: CAMERA, place };
        top.push(transform(&mut out, name, &matrices(&of.poses), camera));
    }
    out.finish(&top)
}

fn floats(list: impl IntoIterator<Item = f32>) -> Vec<u8> {
    list.into_iter().flat_map(f32::to_le_bytes).collect()
}

fn vectors(list: &[Vec3]) -> Vec<u8> {
    floats(list.iter().flat_map(|v| v.to_array()))
}

/// The matrices of poses, a sample each.
fn matrices(poses: &Samples<ScenePose>) -> Vec<Vec<u8>> {
    let matrix = |(position, orientation, scale): ScenePose| {
        let (scale, turn) = (Vec3::splat(scale).as_dvec3(), orientation.as_dquat().normalize());
        DMat4::from_scale_rotation_translation(scale, turn, position.as_dvec3()).to_cols_array()
    };
    poses.iter().map(|(_, pose)| matrix(*pose).iter().flat_map(|n| n.to_le_bytes()).collect()).collect()
}

/// An object that moves the one below it.
fn transform(out: &mut ArchiveWriter, name: String, matrices: &[Vec<u8>], below: Object) -> Object {
    let scalar = |name, pod, extent| PropertyType { name, pod, extent, is_array: false, metadata: "" };
    let moves = matrices.windows(2).any(|pair| pair[0] != pair[1]);
    let mut properties = vec![
        out.property(scalar(".inherits", Pod::Bool, 1), &[vec![1]]),
        out.property(scalar(".ops", Pod::Uint8, 1), &[vec![MATRIX_STEP]]),
        out.property(scalar(".vals", Pod::Float64, 16), matrices),
        out.property(scalar("isNotConstantIdentity", Pod::Bool, 1), &[vec![1]]),
    ];
    if moves {
        // The numbers that are not the same in all frames.
        let channels = PropertyType { is_array: true, ..scalar(".animChans", Pod::Uint32, 1) };
        let all = (0..16u32).flat_map(u32::to_le_bytes).collect();
        properties.push(out.property(channels, &[all]));
    }
    let of = out.compound(".xform", "schema=AbcGeom_Xform_v3", &properties);
    let place = out.object(&[of], &[below]);
    Object { name, metadata: TRANSFORM, place }
}

/// The box around points, as six doubles.
fn bounds(points: &[Vec3]) -> Vec<u8> {
    let low = points.iter().copied().fold(Vec3::INFINITY, Vec3::min).as_dvec3();
    let high = points.iter().copied().fold(Vec3::NEG_INFINITY, Vec3::max).as_dvec3();
    low.to_array().into_iter().chain(high.to_array()).flat_map(f64::to_le_bytes).collect()
}

fn array<'a>(name: &'a str, pod: Pod, extent: u32, metadata: &'a str) -> PropertyType<'a> {
    PropertyType { name, pod, extent, is_array: true, metadata }
}

/// The box of each sample, and the points.
fn geometry(out: &mut ArchiveWriter, samples: &[&[Vec3]], scope: &str) -> [Written; 2] {
    let boxes: Vec<Vec<u8>> = samples.iter().map(|points| bounds(points)).collect();
    let of = PropertyType {
        name: ".selfBnds",
        pod: Pod::Float64,
        extent: 6,
        is_array: false,
        metadata: "interpretation=box",
    };
    let metadata = format!("geoScope={scope};interpretation=point");
    let positions: Vec<Vec<u8>> = samples.iter().map(|points| vectors(points)).collect();
    [out.property(of, &boxes), out.property(array("P", Pod::Float32, 3, &metadata), &positions)]
}

fn mesh(out: &mut ArchiveWriter, name: &str, samples: &MeshSamples) -> Object {
    let each = |value: &dyn Fn(&Mesh) -> Vec<u8>| -> Vec<Vec<u8>> {
        let mut list: Vec<Vec<u8>> = Vec::with_capacity(samples.len());
        let mut last: Option<&Arc<Mesh>> = None;
        for (_, (mesh, _)) in samples {
            let known = last.filter(|last| Arc::ptr_eq(last, mesh)).and(list.last().cloned());
            list.push(known.unwrap_or_else(|| value(mesh)));
            last = Some(mesh);
        }
        list
    };
    let positions: Vec<&[Vec3]> = samples.iter().map(|(_, (mesh, _))| &mesh.positions[..]).collect();
    let mut properties: Vec<Written> = geometry(out, &positions, "vtx").into();
    // Corners of the format's faces go clockwise.
    let corners = each(&|mesh| {
        let turned = mesh.triangles.iter().flat_map(|[a, b, c]| [*a, *c, *b]);
        turned.flat_map(|v| (v as i32).to_le_bytes()).collect()
    });
    let counts = each(&|mesh| mesh.triangles.iter().flat_map(|_| 3i32.to_le_bytes()).collect());
    properties.push(out.property(array(".faceIndices", Pod::Int32, 1, ""), &corners));
    properties.push(out.property(array(".faceCounts", Pod::Int32, 1, ""), &counts));
    let all = |has: &dyn Fn(&Mesh, &[Vec3]) -> bool| {
        samples.iter().all(|(_, (mesh, velocities))| has(mesh, velocities))
    };
    if all(&|mesh, velocities| velocities.len() == mesh.positions.len()) {
        let velocities: Vec<Vec<u8>> =
            samples.iter().map(|(_, (_, velocities))| vectors(velocities)).collect();
        let of = array(".velocities", Pod::Float32, 3, "interpretation=vector");
        properties.push(out.property(of, &velocities));
    }
    if all(&|mesh, _| mesh.uvs.len() == mesh.positions.len()) {
        let uvs = each(&|mesh| floats(mesh.uvs.iter().flat_map(|uv| uv.to_array())));
        let metadata =
            "arrayExtent=1;geoScope=vtx;interpretation=vector;isGeomParam=true;podExtent=2;podName=float32_t";
        properties.push(out.property(array("uv", Pod::Float32, 2, metadata), &uvs));
    }
    if all(&|mesh, _| mesh.normals.len() == mesh.positions.len()) {
        let normals = each(&|mesh| vectors(&mesh.normals));
        let metadata =
            "arrayExtent=1;geoScope=vtx;interpretation=normal;isGeomParam=true;podExtent=3;podName=float32_t";
        properties.push(out.property(array("N", Pod::Float32, 3, metadata), &normals));
    }
    let of =
        out.compound(".geom", "schema=AbcGeom_PolyMesh_v1;schemaBaseType=AbcGeom_GeomBase_v1", &properties);
    let place = out.object(&[of], &[]);
    Object { name: format!("{name}Shape"), metadata: MESH, place }
}

fn points(out: &mut ArchiveWriter, of: &ScenePoints) -> u64 {
    let each = |value: &dyn Fn(&super::scene::PointSample) -> Vec<u8>| -> Vec<Vec<u8>> {
        of.samples.iter().map(|(_, sample)| value(sample)).collect()
    };
    let positions: Vec<&[Vec3]> = of.samples.iter().map(|(_, sample)| &sample.1[..]).collect();
    let mut properties: Vec<Written> = geometry(out, &positions, "var").into();
    let ids = each(&|(ids, ..)| ids.iter().flat_map(|id| u64::from(*id).to_le_bytes()).collect());
    properties.push(out.property(array(".pointIds", Pod::Uint64, 1, "geoScope=var"), &ids));
    let velocities = each(&|(_, _, velocities, _)| vectors(velocities));
    let vector = array(".velocities", Pod::Float32, 3, "interpretation=vector");
    properties.push(out.property(vector, &velocities));
    let widths = each(&|(.., widths)| floats(widths.iter().copied()));
    let metadata = "arrayExtent=1;geoScope=vtx;isGeomParam=true;podExtent=1;podName=float32_t";
    properties.push(out.property(array(".widths", Pod::Float32, 1, metadata), &widths));
    let of =
        out.compound(".geom", "schema=AbcGeom_Points_v1;schemaBaseType=AbcGeom_GeomBase_v1", &properties);
    out.object(&[of], &[])
}

fn camera(out: &mut ArchiveWriter, of: &SceneCamera) -> u64 {
    // Apertures are in centimetres.
    let [width, height] = of.aperture_mm.map(|mm| f64::from(mm) / 10.0);
    let core = |[focal_length_mm, f_stop, focus_m]: [f32; 3]| -> Vec<u8> {
        let (near, far) = (0.01, 10_000.0);
        let [focal_length, f_stop, focus] = [focal_length_mm, f_stop, focus_m].map(f64::from);
        // Focal length, apertures with their offsets, squeeze, four overscans, f-number, distance
        // of focus, opening and closing of the shutter, and the planes that cut.
        let values = [
            focal_length,
            width,
            0.0,
            height,
            0.0,
            1.0,
            0.0,
            0.0,
            0.0,
            0.0,
            f_stop,
            focus,
            0.0,
            0.0,
            near,
            far,
        ];
        values.into_iter().flat_map(f64::to_le_bytes).collect()
    };
    let samples: Vec<Vec<u8>> = of.lens.iter().map(|(_, lens)| core(*lens)).collect();
    let kind = PropertyType { name: ".core", pod: Pod::Float64, extent: 16, is_array: false, metadata: "" };
    let core = out.property(kind, &samples);
    let of = out.compound(".geom", "schema=AbcGeom_Camera_v1", &[core]);
    out.object(&[of], &[])
}
