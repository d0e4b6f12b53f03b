//! A range of finished frames as a scene, with particles, cameras and lights.

use super::{HandingOn, MAX_HANDED_ON};
use crate::error::{Error, Result};
use frames::Frame;
use glam::{Quat, Vec3};
use interchange::{
    ExportError, ExportScene, LightKind, MeshSamples, PlacedMesh, Samples, SceneCamera, SceneInstances,
    SceneLight, SceneMesh, ScenePoints, ScenePose, UsdForm, write_alembic, write_usd,
};
use shot::{
    Element, ElementKind, Id, Shot,
    light::SkySource,
    motion::Sampler,
    world::{Pose, World},
};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;

/// What is collected of an element, frame by frame.
enum Track {
    Solid { meshes: MeshSamples, bodies: Samples<Bodies> },
    Points(ScenePoints),
    Camera(SceneCamera),
    Light(SceneLight),
}

/// Most memory that the samples of a scene take, bytes: written as text they take several times that.
const MAX_BYTES: usize = 256 << 20;

/// Poses, velocities and angular velocities.
type Bodies = (Vec<ScenePose>, Vec<Vec3>, Vec<Vec3>);

fn failed(error: ExportError) -> Error {
    Error::Bad(error.to_string())
}

impl HandingOn {
    /// A range of frames as a USD stage; `done` is told after each frame.
    ///
    /// # Errors
    /// [`Error::NotFound`] if a frame is not computed; [`Error::Bad`] if they are too large.
    pub fn usd(
        &mut self,
        range: RangeInclusive<u32>,
        form: UsdForm,
        done: &mut dyn FnMut(),
    ) -> Result<Vec<u8>> {
        write_usd(&self.scene(range, done)?, form).map_err(failed)
    }

    /// A range of frames as an Alembic archive; `done` is told after each frame.
    ///
    /// # Errors
    /// As [`Self::usd`].
    pub fn alembic(&mut self, range: RangeInclusive<u32>, done: &mut dyn FnMut()) -> Result<Vec<u8>> {
        Ok(write_alembic(&self.scene(range, done)?))
    }

    /// A range of frames as a scene.
    fn scene(&mut self, range: RangeInclusive<u32>, done: &mut dyn FnMut()) -> Result<ExportScene> {
        let count = range.end().saturating_sub(*range.start()) + 1;
        if count > MAX_HANDED_ON {
            return Err(Error::Bad(format!("{count} frames in one file; at most {MAX_HANDED_ON}")));
        }
        let sampler = Sampler::new(&self.shot).map_err(Error::Faults)?;
        let mut tracks: BTreeMap<Id, Track> = BTreeMap::new();
        let mut bytes = 0;
        for number in range.clone() {
            let (frame, placed) = self.placed_with(number)?;
            let at = f64::from(number);
            let now = sampler.at(at).map_err(|error| Error::Bad(error.to_string()))?;
            for (id, of) in &placed {
                bytes += add_solid(&mut tracks, *id, of, &frame, at);
            }
            if self.only.is_none() {
                bytes += add_points(&mut tracks, &now, &frame, at);
                add_views(&mut tracks, &now, &sampler, &frame, at);
            }
            if bytes > MAX_BYTES {
                let most = MAX_BYTES >> 20;
                return Err(Error::Bad(format!("frames up to {number} take over {most} MB; hand on fewer")));
            }
            done();
        }
        let (first, last, fps) = (*range.start(), *range.end(), self.shot.timing.fps);
        let mut scene = ExportScene { fps, first, last, ..ExportScene::default() };
        for (id, track) in tracks {
            let name = self.shot.element(id).map_or_else(String::new, |element| element.name.clone());
            add(&mut scene, name, track);
        }
        Ok(scene)
    }
}

fn add(scene: &mut ExportScene, name: String, track: Track) {
    match track {
        Track::Points(points) => scene.points.push(points),
        Track::Camera(camera) => scene.cameras.push(camera),
        Track::Light(light) => scene.lights.push(light),
        Track::Solid { mut meshes, bodies } => {
            // A mesh that stays the same is there once.
            if meshes.windows(2).all(|pair| std::sync::Arc::ptr_eq(&pair[0].1.0, &pair[1].1.0)) {
                meshes.truncate(1);
            }
            if bodies.iter().all(|(_, (poses, ..))| poses.len() == 1) {
                let poses = bodies.into_iter().map(|(time, (poses, ..))| (time, poses[0])).collect();
                scene.meshes.push(SceneMesh { name, poses, meshes });
            } else {
                scene.instances.push(SceneInstances { name, meshes, samples: bodies });
            }
        }
    }
}

/// Adds a solid's bodies at a frame, and tells how many bytes that takes.
fn add_solid(tracks: &mut BTreeMap<Id, Track>, id: Id, of: &PlacedMesh, frame: &Frame, at: f64) -> usize {
    let velocities = frame.meshes.get(&id).map(|mesh| mesh.velocities.clone()).unwrap_or_default();
    let bodies = frame.bodies.get(&id);
    let all = |list: Option<&Vec<Vec3>>| {
        list.filter(|list| list.len() == of.bodies.len())
            .cloned()
            .unwrap_or_else(|| vec![Vec3::ZERO; of.bodies.len()])
    };
    let sample = (
        of.bodies.clone(),
        all(bodies.map(|bodies| &bodies.velocities)),
        all(bodies.map(|bodies| &bodies.angular_velocities)),
    );
    let track = tracks.entry(id).or_insert_with(|| Track::Solid { meshes: Vec::new(), bodies: Vec::new() });
    let Track::Solid { meshes, bodies } = track else { return 0 };
    meshes.push((at, (of.mesh.clone(), velocities)));
    bodies.push((at, sample));
    let own = if of.deforms { 44 * of.mesh.positions.len() + 12 * of.mesh.triangles.len() } else { 0 };
    own + 56 * of.bodies.len()
}

fn add_points(tracks: &mut BTreeMap<Id, Track>, now: &Shot, frame: &Frame, at: f64) -> usize {
    let mut bytes = 0;
    let as_points = |element: &Element| !element.hidden && !frame.meshes.contains_key(&element.id);
    for (element, _) in now.particles().filter(|(element, _)| as_points(element)) {
        let of = frame.particles_of(element.id);
        let sample = (of.ids.clone(), of.positions.clone(), of.velocities.clone(), of.sizes.clone());
        let empty = || Track::Points(ScenePoints { name: element.name.clone(), samples: Vec::new() });
        if let Track::Points(points) = tracks.entry(element.id).or_insert_with(empty) {
            points.samples.push((at, sample));
        }
        bytes += 36 * of.len();
    }
    bytes
}

/// Adds cameras and lights as they are at a frame.
fn add_views(tracks: &mut BTreeMap<Id, Track>, now: &Shot, sampler: &Sampler, frame: &Frame, at: f64) {
    let solved = |id: Id, _: f64| -> Option<Pose> {
        let bodies = frame.bodies.get(&id)?;
        Some((*bodies.positions.first()?, *bodies.orientations.first()?))
    };
    let world = World::new(now, sampler, at, &solved);
    let seen = now.elements.iter().filter(|element| !element.hidden);
    for (element, first) in seen.filter_map(|element| Some((element, view(element, now)?))) {
        let (position, orientation): (Vec3, Quat) = world.pose(element);
        let pose = (at, (position, orientation, 1.0));
        match (tracks.entry(element.id).or_insert(first), &element.kind) {
            (Track::Camera(track), ElementKind::Camera(camera)) => {
                let lens = [camera.focal_length_mm, camera.f_stop.unwrap_or(0.0), camera.focus_distance_m];
                track.poses.push(pose);
                track.lens.push((at, lens));
            }
            (Track::Light(track), kind) => {
                track.poses.push(pose);
                track.light.push((at, light_of(kind)));
            }
            _ => {}
        }
    }
}

/// A track without samples for a camera or a light.
fn view(element: &Element, shot: &Shot) -> Option<Track> {
    let name = element.name.clone();
    let light = |kind| {
        Track::Light(SceneLight { name: element.name.clone(), kind, poses: Vec::new(), light: Vec::new() })
    };
    Some(match &element.kind {
        ElementKind::Camera(camera) => {
            let aspect = shot.picture.height as f32 / shot.picture.width as f32;
            let aperture_mm = [camera.sensor_mm, camera.sensor_mm * aspect];
            Track::Camera(SceneCamera { name, poses: Vec::new(), lens: Vec::new(), aperture_mm })
        }
        ElementKind::Sun(sun) => light(LightKind::Distant(sun.angle_rad)),
        ElementKind::AreaLight(area) => light(LightKind::Rectangle(area.size_m.to_array())),
        ElementKind::Sky(_) => light(LightKind::Dome),
        _ => return None,
    })
}

/// Colour and strength of a light.
fn light_of(kind: &ElementKind) -> (Vec3, f32) {
    match kind {
        ElementKind::Sun(sun) => (sun.colour, sun.irradiance),
        ElementKind::AreaLight(area) => (area.colour, area.radiance),
        ElementKind::Sky(sky) => match &sky.source {
            SkySource::Gradient { zenith, horizon, ground } => {
                ((*zenith + *horizon + *ground) / 3.0, sky.strength)
            }
            SkySource::Image { .. } => (Vec3::ONE, sky.strength),
        },
        _ => (Vec3::ONE, 1.0),
    }
}
