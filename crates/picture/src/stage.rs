//! A frame of a shot, ready to be rendered.

use crate::bsdf::Bsdf;
use crate::camera::Lens;
use crate::light::{Emitters, Environment, Sky, SkyImage, SunLight};
use crate::sampler::hash;
use frames::Frame;
use geometry::{Bounds, Bvh, Hit, Mesh, Meshes, MissingMesh, Ray, Tree};
use glam::{Quat, Vec2, Vec3};
use shot::{Element, Id, Is, Look, NotFinite, Pose, Sampler, Shape, Shot, SkySource, World};
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use thiserror::Error;

/// An image laid on UVs, scene-linear.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Image {
    /// Pixels across.
    pub width: usize,
    /// Pixels down.
    pub height: usize,
    /// Rows from the top.
    pub rgb: Vec<[f32; 3]>,
}

impl Image {
    /// Bilinear, repeating; v = 0 is the lowest row.
    fn at(&self, uv: Vec2) -> Vec3 {
        let (w, h) = (self.width as f32, self.height as f32);
        let x = uv.x * w - 0.5;
        let y = (1.0 - uv.y) * h - 0.5;
        let (x0, y0) = (x.floor(), y.floor());
        let get = |x: f32, y: f32| {
            Vec3::from(
                self.rgb[y.rem_euclid(h) as usize % self.height * self.width
                    + x.rem_euclid(w) as usize % self.width],
            )
        };
        let (fx, fy) = (x - x0, y - y0);
        get(x0, y0).lerp(get(x0 + 1.0, y0), fx).lerp(get(x0, y0 + 1.0).lerp(get(x0 + 1.0, y0 + 1.0), fx), fy)
    }
}

/// Files a shot uses, loaded.
#[derive(Default)]
pub struct Assets {
    /// Meshes by asset name.
    pub meshes: Meshes,
    /// Images by asset name.
    pub images: HashMap<String, Arc<Image>>,
    /// Environment images by asset name.
    pub environments: HashMap<String, Arc<Environment>>,
    /// Shapes with their hierarchies, kept from frame to frame.
    models: Mutex<HashMap<String, Arc<Model>>>,
}

struct Model {
    mesh: Mesh,
    bvh: Bvh,
}

impl Assets {
    fn model(&self, shape: &Shape) -> Result<Arc<Model>, MissingMesh> {
        let key = serde_json::to_string(shape).expect("a shape serialises");
        let mut models = self.models.lock().expect("no thread panicked with the lock");
        if let Some(model) = models.get(&key) {
            return Ok(model.clone());
        }
        let mesh = self.meshes.mesh(shape)?;
        let bvh = Bvh::build(&mesh.positions, &mesh.triangles);
        let model = Arc::new(Model { mesh, bvh });
        models.insert(key, model.clone());
        Ok(model)
    }
}

/// Why a shot cannot be rendered.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum StageError {
    /// The document has a fault.
    #[error("{0}")]
    Fault(String),
    /// A formula gives no finite value.
    #[error(transparent)]
    NotFinite(#[from] NotFinite),
    /// There is no camera.
    #[error("the shot has no camera; add one and choose it")]
    NoCamera,
    /// An asset is missing.
    #[error("{element}: {asset} is not there")]
    MissingAsset {
        /// Name of the element.
        element: String,
        /// The asset.
        asset: String,
    },
}

struct Instance {
    model: Arc<Model>,
    place: Vec3,
    turn: Quat,
    inverse: Quat,
    surface: usize,
    element: Id,
    tint: f32,
    emitter: Emitter,
}

/// Roughness of mirrors and glass for paths that were scattered widely before.
const SOFT_ROUGHNESS: f32 = 0.5;

#[derive(Clone, Copy, PartialEq, Eq)]
enum Emitter {
    No,
    BothSides,
    FrontOnly,
}

struct Surface {
    look: Look,
    bsdf: Bsdf,
    /// For paths that were scattered widely before; none where it is no different.
    soft: Option<Bsdf>,
    image: Option<Arc<Image>>,
}

/// A frame of a shot, ready to be rendered.
pub struct Stage {
    instances: Vec<Instance>,
    surfaces: Vec<Surface>,
    tree: Tree,
    pub(crate) lens: Lens,
    pub(crate) suns: Vec<SunLight>,
    pub(crate) skies: Vec<Sky>,
    pub(crate) emitters: Emitters,
    pub(crate) frame: u32,
}

/// Where a ray meets a surface.
pub(crate) struct Meeting<'a> {
    pub t: f32,
    pub normal: Vec3,
    /// The face's own normal.
    pub face: Vec3,
    pub bsdf: &'a Bsdf,
    pub soft: &'a Bsdf,
    pub albedo: Vec3,
    pub element: Id,
    /// Emitted radiance on the side that is seen.
    pub emission: Vec3,
}

impl Stage {
    /// Builds the stage for frame `number`. Solids stand where `frame` has
    /// them, or where the document has them if it is none.
    ///
    /// # Errors
    /// [`StageError`] names the element.
    pub fn new(shot: &Shot, assets: &Assets, frame: Option<&Frame>, number: u32) -> Result<Self, StageError> {
        let earlier = |at: u32| if at == number { frame.cloned() } else { None };
        Self::with_history(shot, assets, frame, number, &earlier)
    }

    /// As [`Stage::new`], with earlier frames for aims that follow late.
    ///
    /// # Errors
    /// [`StageError`] names the element.
    pub fn with_history(
        shot: &Shot,
        assets: &Assets,
        frame: Option<&Frame>,
        number: u32,
        earlier: &dyn Fn(u32) -> Option<Frame>,
    ) -> Result<Self, StageError> {
        let at = f64::from(number);
        let sampler = Sampler::new(shot).map_err(|faults| {
            StageError::Fault(faults.first().map_or_else(String::new, ToString::to_string))
        })?;
        let now = sampler.at(at)?;
        let shot = &now;
        let first_body = |frame: &Frame, id: Id| -> Option<Pose> {
            let bodies = frame.bodies.get(&id)?;
            Some((*bodies.places.first()?, *bodies.turns.first()?))
        };
        let solved = |id: Id, then: f64| -> Option<Pose> {
            // What the document moves is in a frame of the run too.
            shot.element(id)?.as_solid()?;
            if then == at {
                return frame.and_then(|frame| first_body(frame, id));
            }
            earlier(then.round() as u32).and_then(|frame| first_body(&frame, id))
        };
        let world = World::new(shot, &sampler, at, &solved);
        let (camera_element, camera) = shot
            .camera
            .and_then(|id| shot.element(id))
            .and_then(
                |element| if let Is::Camera(camera) = &element.is { Some((element, camera)) } else { None },
            )
            .ok_or(StageError::NoCamera)?;
        let placements = |element: &Element| -> Vec<(Vec3, Quat)> {
            match frame.and_then(|frame| frame.bodies.get(&element.id)) {
                Some(bodies) => bodies.places.iter().copied().zip(bodies.turns.iter().copied()).collect(),
                None => world.placements(element),
            }
        };
        let (place, turn) = world.pose(camera_element);
        let mut stage = Self {
            instances: Vec::new(),
            surfaces: Vec::new(),
            tree: Tree::build(&[]),
            lens: Lens::new(camera, place, turn),
            suns: Vec::new(),
            skies: Vec::new(),
            emitters: Emitters::default(),
            frame: number,
        };
        for element in shot.elements.iter().filter(|element| !element.hidden) {
            match &element.is {
                Is::Solid(solid) => {
                    stage.add(element, &solid.shape, &solid.look, placements(element), assets, false)?;
                }
                Is::AreaLight(light) => {
                    let look = Look {
                        albedo: Vec3::ZERO,
                        emission: light.colour * light.radiance,
                        refraction: 1.0,
                        roughness: 1.0,
                        ..Look::default()
                    };
                    let (place, turn) = world.pose(element);
                    // A plane faces up; the light shines down.
                    let turn = turn * Quat::from_rotation_x(std::f32::consts::PI);
                    let shape = Shape::Plane { size_m: light.size_m };
                    stage.add(element, &shape, &look, vec![(place, turn)], assets, true)?;
                }
                Is::Sun(sun) => stage.suns.push(SunLight::new(sun, world.pose(element).1)),
                Is::Sky(sky) => stage.skies.push(sky_light(element, sky, assets, world.pose(element).1)?),
                Is::Force(_) | Is::Region(_) | Is::Curve(_) | Is::Camera(_) => {}
            }
        }
        let bounds: Vec<Bounds> = stage.instances.iter().map(Instance::bounds).collect();
        stage.tree = Tree::build(&bounds);
        Ok(stage)
    }

    fn add(
        &mut self,
        element: &Element,
        shape: &Shape,
        look: &Look,
        placements: Vec<(Vec3, Quat)>,
        assets: &Assets,
        front_only: bool,
    ) -> Result<(), StageError> {
        let missing =
            |asset: &str| StageError::MissingAsset { element: element.name.clone(), asset: asset.to_owned() };
        let model = assets.model(shape).map_err(|error| missing(&error.0))?;
        let image = match &look.image {
            None => None,
            Some(name) => Some(assets.images.get(name).ok_or_else(|| missing(name))?.clone()),
        };
        let bsdf = Bsdf::new(look);
        let emitter = match (bsdf.is_emissive(), front_only) {
            (false, _) => Emitter::No,
            (true, true) => Emitter::FrontOnly,
            (true, false) => Emitter::BothSides,
        };
        let surface = self.surfaces.len();
        let smooth = look.roughness < SOFT_ROUGHNESS && (look.transmission > 0.0 || look.metalness > 0.0);
        let soft = smooth.then(|| Bsdf::new(&Look { roughness: SOFT_ROUGHNESS, ..look.clone() }));
        self.surfaces.push(Surface { look: look.clone(), bsdf, soft, image });
        for (copy, (place, turn)) in placements.into_iter().enumerate() {
            let random = hash(element.id.0 ^ hash(copy as u32 + 1)) as f32 / u32::MAX as f32;
            if emitter != Emitter::No {
                for t in &model.mesh.triangles {
                    let corners = t.map(|v| place + turn * model.mesh.positions[v as usize]);
                    self.emitters.push(corners, look.emission, emitter == Emitter::BothSides);
                }
            }
            self.instances.push(Instance {
                model: model.clone(),
                place,
                turn,
                inverse: turn.inverse(),
                surface,
                element: element.id,
                tint: 1.0 - look.variation * random,
                emitter,
            });
        }
        Ok(())
    }

    /// The nearest surface along a ray of unit direction.
    pub(crate) fn meet(&self, origin: Vec3, direction: Vec3) -> Option<Meeting<'_>> {
        let mut nearest: Option<(Hit, u32)> = None;
        let mut t_max = f32::INFINITY;
        self.tree.walk(&Ray::new(origin, direction), |i| {
            let instance = &self.instances[i as usize];
            if let Some(hit) = instance.model.bvh.closest(&instance.local(origin, direction, t_max)) {
                t_max = hit.t;
                nearest = Some((hit, i));
            }
            t_max
        });
        let (hit, i) = nearest?;
        let instance = &self.instances[i as usize];
        let mesh = &instance.model.mesh;
        let [a, b, c] = mesh.triangles[hit.triangle as usize].map(|v| v as usize);
        let w = 1.0 - hit.u - hit.v;
        let blend = |x: Vec3, y: Vec3, z: Vec3| x * w + y * hit.u + z * hit.v;
        let p = |v: usize| mesh.positions[v];
        let face = instance.turn * (p(b) - p(a)).cross(p(c) - p(a)).normalize();
        let normal = instance.turn * blend(mesh.normals[a], mesh.normals[b], mesh.normals[c]).normalize();
        let surface = &self.surfaces[instance.surface];
        let look = &surface.look;
        let mut albedo = look.albedo * instance.tint;
        if let Some(image) = &surface.image {
            let uv = mesh.uvs[a] * w + mesh.uvs[b] * hit.u + mesh.uvs[c] * hit.v;
            albedo *= image.at(uv * look.image_repeat);
        }
        let shines = instance.emitter == Emitter::BothSides
            || (instance.emitter == Emitter::FrontOnly && face.dot(direction) < 0.0);
        Some(Meeting {
            t: hit.t,
            normal,
            face,
            bsdf: &surface.bsdf,
            soft: surface.soft.as_ref().unwrap_or(&surface.bsdf),
            albedo,
            element: instance.element,
            emission: if shines { look.emission } else { Vec3::ZERO },
        })
    }

    /// Whether anything stands between a point and `distance` along a unit direction.
    pub(crate) fn blocked(&self, origin: Vec3, direction: Vec3, distance: f32) -> bool {
        let mut blocked = false;
        let limit = distance * (1.0 - 1e-4);
        self.tree.walk(&Ray { origin, direction, t_max: limit }, |i| {
            let instance = &self.instances[i as usize];
            blocked = instance.model.bvh.any(&instance.local(origin, direction, limit));
            if blocked { -1.0 } else { limit }
        });
        blocked
    }
}

fn sky_light(element: &Element, sky: &shot::Sky, assets: &Assets, turn: Quat) -> Result<Sky, StageError> {
    Ok(match &sky.source {
        SkySource::Gradient { zenith, horizon, ground } => Sky::Gradient {
            zenith: *zenith * sky.strength,
            horizon: *horizon * sky.strength,
            ground: *ground * sky.strength,
        },
        SkySource::Image { asset } => {
            let image = assets.environments.get(asset).ok_or_else(|| StageError::MissingAsset {
                element: element.name.clone(),
                asset: asset.clone(),
            })?;
            Sky::Image(SkyImage::new(Environment::clone(image), sky.strength, turn))
        }
    })
}

/// The radiance of all skies of a sampled shot, averaged over each
/// texel of a latitude–longitude map: rows from straight down to straight up,
/// columns from −x over −z, x and z back to −x.
///
/// # Errors
/// [`StageError`] names the element whose image is missing.
pub fn sky_map(shot: &Shot, assets: &Assets, width: usize, height: usize) -> Result<Vec<Vec3>, StageError> {
    use std::f32::consts::{PI, TAU};
    let mut map = vec![Vec3::ZERO; width * height];
    for element in shot.elements.iter().filter(|element| !element.hidden) {
        let Is::Sky(sky) = &element.is else { continue };
        let light = sky_light(element, sky, assets, element.placement.pose().1)?;
        // As many points a side of a texel as the finest image has pixels there.
        let points = match &light {
            Sky::Gradient { .. } => 2,
            Sky::Image(image) => image.width().div_ceil(width).clamp(2, 32),
        };
        let part = |i: usize| (i as f32 + 0.5) / points as f32;
        for (i, texel) in map.iter_mut().enumerate() {
            let mut sum = Vec3::ZERO;
            for point in 0..points * points {
                let column = (i % width) as f32 + part(point % points);
                let row = (i / width) as f32 + part(point / points);
                let (sin_up, cos_up) = (PI * (row / height as f32 - 0.5)).sin_cos();
                let (sin_round, cos_round) = (TAU * (column / width as f32 - 0.5)).sin_cos();
                sum += light.radiance(Vec3::new(cos_up * cos_round, sin_up, cos_up * sin_round));
            }
            *texel += sum / (points * points) as f32;
        }
    }
    Ok(map)
}

impl Instance {
    fn local(&self, origin: Vec3, direction: Vec3, t_max: f32) -> Ray {
        Ray { origin: self.inverse * (origin - self.place), direction: self.inverse * direction, t_max }
    }

    fn bounds(&self) -> Bounds {
        let local = self.model.mesh.bounds();
        (0..8).fold(Bounds::EMPTY, |bounds, i| {
            let pick =
                |bit: usize, axis: usize| if i >> bit & 1 == 0 { local.min[axis] } else { local.max[axis] };
            bounds.with(self.place + self.turn * Vec3::new(pick(0, 0), pick(1, 1), pick(2, 2)))
        })
    }
}
