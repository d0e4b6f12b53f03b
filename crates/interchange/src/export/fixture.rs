//! A scene that the tests of all formats write.

use super::scene::{
    ExportScene, LightKind, Samples, SceneCamera, SceneInstances, SceneLight, SceneMesh, ScenePoints,
    ScenePose,
};
use geometry::{Mesh, primitive};
use glam::{Quat, Vec3};
use std::sync::Arc;

pub fn pose(x: f32) -> ScenePose {
    (Vec3::new(x, 1.0, -2.0), Quat::from_rotation_y(x), 1.0)
}

/// A body that moves, a sheet that changes its shape, copies, particles, a camera and a light.
pub fn scene() -> ExportScene {
    let cube = Arc::new(primitive::cuboid(Vec3::ONE, 0.0));
    let frames = [1.0, 2.0, 3.0];
    let poses: Samples<ScenePose> = frames.iter().map(|t| (*t, pose(*t as f32))).collect();
    let still = vec![(1.0, (cube.clone(), Vec::new()))];
    let raised = |t: f64| {
        let sheet = primitive::plane(1.0, 1.0);
        let positions: Vec<Vec3> = sheet.positions.iter().map(|p| *p + Vec3::Y * t as f32).collect();
        let velocities = vec![Vec3::Y * 24.0; positions.len()];
        (t, (Arc::new(Mesh { positions, ..sheet }), velocities))
    };
    let resting = vec![(1.0, pose(0.0))];
    let two = |t: f64| (t, (vec![pose(t as f32), pose(5.0)], vec![Vec3::X; 2], vec![Vec3::Y * 3.0; 2]));
    let births = |t: f64| {
        let n = t as usize;
        (t, ((0..n as u32).collect(), vec![Vec3::X * t as f32; n], vec![Vec3::Z; n], vec![0.02; n]))
    };
    let (name, light) = ("Fish crate".to_owned(), vec![(1.0, (Vec3::new(1.0, 0.9, 0.8), 3.0))]);
    ExportScene {
        fps: 24.0,
        first: 1,
        last: 3,
        meshes: vec![
            SceneMesh { name: name.clone(), poses: poses.clone(), meshes: still.clone() },
            SceneMesh { name, poses: resting.clone(), meshes: frames.map(raised).to_vec() },
        ],
        instances: vec![SceneInstances {
            name: "Floats".to_owned(),
            meshes: still,
            samples: frames.map(two).to_vec(),
        }],
        points: vec![ScenePoints { name: "2 sparks".to_owned(), samples: frames.map(births).to_vec() }],
        cameras: vec![SceneCamera {
            name: "Camera".to_owned(),
            poses,
            lens: vec![(1.0, [35.0, 2.8, 4.0])],
            aperture_mm: [36.0, 20.25],
        }],
        lights: vec![SceneLight {
            name: "Sun".to_owned(),
            kind: LightKind::Distant(0.0093),
            poses: resting,
            light,
        }],
    }
}
