//! A frame of a shot, ready to be rendered.

use crate::assets::{Assets, Model, SceneError};
use crate::bsdf::Bsdf;
use crate::camera::Lens;
use crate::light::{Emitters, Sky, SunLight};
use crate::liquid_colour::colours;
use crate::models::{Models, models_of, models_of_frame};
use crate::particles::{ParticleShapes, shown};
use crate::presence::{Dissolve, Presence};
use crate::sampler::hash;
use crate::sky::sky_light;
use crate::surface::{DataImages, Surface};
use frames::Frame;
use geometry::{Bounds, Hit, Ray, Tree};
use glam::{Quat, Vec3};
use shot::{
    Element, ElementKind, Id, Shape, Shot, UvLayout,
    look::{Look, LookImage},
    motion::Sampler,
    particles::{Appearance, Form, InstanceOrientation, Particles, own_random},
    world::{Pose, World},
};
use std::sync::Arc;

struct Instance {
    model: Arc<Model>,
    position: Vec3,
    orientation: Quat,
    inverse: Quat,
    scale: f32,
    surface: usize,
    /// Values of the layers of its look by vertex; none: the value depends on the view, or is not known.
    layers: Arc<[Option<Vec<f32>>]>,
    element: Id,
    /// Multiplies the albedo.
    colour: Vec3,
    /// Multiplies the emission.
    tone: Vec3,
    emitter: Emitter,
    presence: Presence,
}

/// An instance of a particle's solid.
struct Placed {
    /// Id of the particle, the seed of random choices.
    number: u32,
    position: Vec3,
    orientation: Quat,
    scale: f32,
    colour: Vec3,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Emitter {
    No,
    BothSides,
    FrontOnly,
    /// On both sides, by values that change from point to point: only paths that hit it count the light.
    NotSampled,
}

/// A frame of a shot, ready to be rendered.
pub struct Scene {
    /// The camera's place in the shot; all places here are against it.
    eye: Vec3,
    instances: Vec<Instance>,
    surfaces: Vec<Surface>,
    /// Images of its surfaces that are data.
    data: DataImages,
    tree: Tree,
    particle_shapes: ParticleShapes,
    pub(crate) lens: Lens,
    pub(crate) suns: Vec<SunLight>,
    pub(crate) skies: Vec<Sky>,
    pub(crate) emitters: Emitters,
    pub(crate) frame: u32,
    /// Whether any element is there only in part.
    fades: bool,
}

/// Intersection of a ray with a surface.
pub(crate) struct Meeting<'a> {
    pub t: f32,
    pub normal: Vec3,
    /// The face's own normal.
    pub face: Vec3,
    pub bsdf: Bsdf<'a>,
    /// For paths that were scattered widely before.
    pub soft: Bsdf<'a>,
    pub albedo: Vec3,
    pub element: Id,
    /// Emitted radiance on the side that is seen.
    pub emission: Vec3,
    /// Radiance by which surfaces look for that light; none if they do not.
    pub sampled: Option<Vec3>,
}

/// Pose of an element's first body in the run at a frame: `frame` is that
/// of `at`, `earlier` gives those before.
pub(crate) fn solved_pose(
    shot: &Shot,
    frame: Option<&Frame>,
    at: f64,
    earlier: &dyn Fn(u32) -> Option<Frame>,
    id: Id,
    then: f64,
) -> Option<Pose> {
    // Elements moved by the document are in frames of the run too.
    shot.element(id)?.as_solid()?;
    let first_body = |frame: &Frame| -> Option<Pose> {
        let bodies = frame.bodies.get(&id)?;
        Some((*bodies.positions.first()?, *bodies.orientations.first()?))
    };
    if then == at { frame.and_then(first_body) } else { first_body(&earlier(then.round() as u32)?) }
}

impl Scene {
    /// Builds the scene for frame `number`. Solids stand where `frame` has
    /// them, or where the document has them if it is none.
    ///
    /// # Errors
    /// [`SceneError`] names the element.
    pub fn new(shot: &Shot, assets: &Assets, frame: Option<&Frame>, number: u32) -> Result<Self, SceneError> {
        let earlier = |at: u32| if at == number { frame.cloned() } else { None };
        Self::with_history(shot, assets, frame, number, &earlier)
    }

    /// As [`Scene::new`], with earlier frames for aims with a delay.
    ///
    /// # Errors
    /// [`SceneError`] names the element.
    pub fn with_history(
        shot: &Shot,
        assets: &Assets,
        frame: Option<&Frame>,
        number: u32,
        earlier: &dyn Fn(u32) -> Option<Frame>,
    ) -> Result<Self, SceneError> {
        let at = f64::from(number);
        let sampler = Sampler::new(shot).map_err(|faults| {
            SceneError::Fault(faults.first().map_or_else(String::new, ToString::to_string))
        })?;
        let solved = |id: Id, then: f64| solved_pose(shot, frame, at, earlier, id, then);
        let now = sampler.at_with(at, &solved)?;
        let shot = &now;
        let world = World::new(shot, &sampler, at, &solved);
        let (camera_element, camera) = shot
            .camera
            .and_then(|id| shot.element(id))
            .and_then(|element| {
                if let ElementKind::Camera(camera) = &element.kind { Some((element, camera)) } else { None }
            })
            .ok_or(SceneError::NoCamera)?;
        let placements = |element: &Element| -> Vec<Placed> {
            let placed = |(copy, (position, orientation)): (usize, Pose), scale: f32| Placed {
                number: copy as u32,
                position,
                orientation,
                scale,
                colour: Vec3::ONE,
            };
            match frame.and_then(|frame| frame.bodies.get(&element.id)) {
                Some(bodies) => {
                    let poses = bodies.positions.iter().copied().zip(bodies.orientations.iter().copied());
                    let scale = |copy: usize| bodies.scales.get(copy).copied().unwrap_or(1.0);
                    // One without a size has become a particle again.
                    let there = poses.enumerate().filter(|(copy, _)| scale(*copy) > 0.0);
                    there.map(|(copy, pose)| placed((copy, pose), scale(copy))).collect()
                }
                None => {
                    let poses = world.placements(element).into_iter().enumerate();
                    poses.map(|at| placed(at, element.size_of(at.0))).collect()
                }
            }
        };
        // All is placed as seen from the camera: what is looked at closely is
        // near it, however far both are from the shot's origin.
        let (eye, orientation) = world.pose(camera_element);
        let mut scene = Self {
            eye,
            instances: Vec::new(),
            surfaces: Vec::new(),
            data: DataImages::new(),
            tree: Tree::build(&[]),
            particle_shapes: ParticleShapes::new(Vec::new()),
            lens: Lens::new(camera, Vec3::ZERO, orientation),
            suns: Vec::new(),
            skies: Vec::new(),
            emitters: Emitters::default(),
            frame: number,
            fades: false,
        };
        let mut particle_shapes = Vec::new();
        for element in shot.elements.iter().filter(|element| !element.hidden) {
            match &element.kind {
                ElementKind::Particles(particles) => {
                    if let Some(mesh) = frame.and_then(|frame| frame.meshes.get(&element.id)) {
                        let placed = Placed {
                            number: 0,
                            position: Vec3::ZERO,
                            orientation: Quat::IDENTITY,
                            scale: 1.0,
                            colour: Vec3::ONE,
                        };
                        let colours = colours(shot, particles, mesh, assets);
                        let models = models_of_frame(mesh, &colours);
                        // Its image is among the colours; others need UVs that go on across seams.
                        let mut look = particles.look.clone();
                        LookImage::ALL.into_iter().for_each(|of| look.set_image(of, None));
                        scene.add(element, models, &look, vec![placed], assets, false)?;
                        continue;
                    }
                    let Some(whole) = frame.filter(|frame| frame.particles.contains_key(&element.id)) else {
                        continue;
                    };
                    if let Form::Instance { .. } = particles.appearance.form {
                        scene.add_copies(shot, element, particles, whole, assets)?;
                    } else {
                        let surface = scene.surface(element, &particles.look, assets)?;
                        scene.fades |= particles.look.opacity < 1.0;
                        ParticleShapes::add(
                            &mut particle_shapes,
                            element.id,
                            particles,
                            whole.particles_of(element.id),
                            surface as u32,
                            eye,
                        );
                    }
                }
                ElementKind::Solid(solid) => {
                    let models = models_of(element, element.id, (&solid.shape, solid.uvs), assets, frame)?;
                    scene.add(element, models, &solid.look, placements(element), assets, false)?;
                }
                ElementKind::AreaLight(light) => {
                    let look = Look {
                        albedo: Vec3::ZERO,
                        emission: light.colour * light.radiance,
                        refractive_index: 1.0,
                        roughness: 1.0,
                        ..Look::default()
                    };
                    let (position, orientation) = world.pose(element);
                    // A plane faces up; the light shines down.
                    let orientation = orientation * Quat::from_rotation_x(std::f32::consts::PI);
                    let shape = Shape::Plane { size_m: light.size_m };
                    let placed = Placed { number: 0, position, orientation, scale: 1.0, colour: Vec3::ONE };
                    let models = models_of(element, element.id, (&shape, UvLayout::Own), assets, None)?;
                    scene.add(element, models, &look, vec![placed], assets, true)?;
                }
                ElementKind::Sun(sun) => scene.suns.push(SunLight::new(sun, world.pose(element).1)),
                ElementKind::Sky(sky) => {
                    scene.skies.push(sky_light(element, sky, assets, world.pose(element).1)?)
                }
                ElementKind::Force(_)
                | ElementKind::Region(_)
                | ElementKind::Curve(_)
                | ElementKind::Camera(_)
                | ElementKind::Finish(_) => {}
            }
        }
        let bounds: Vec<Bounds> = scene.instances.iter().map(Instance::bounds).collect();
        scene.tree = Tree::build(&bounds);
        scene.particle_shapes = ParticleShapes::new(particle_shapes);
        Ok(scene)
    }

    /// Particles as copies of solids: instances of those, none of their own in memory.
    fn add_copies(
        &mut self,
        shot: &Shot,
        element: &Element,
        particles: &Particles,
        whole: &Frame,
        assets: &Assets,
    ) -> Result<(), SceneError> {
        let frame = whole.particles_of(element.id);
        let Form::Instance { solids, choice, orientation } = &particles.appearance.form else {
            return Ok(());
        };
        let start = &particles.start;
        let (low, range) = (1.0 - start.size_variation, 2.0 * start.size_variation);
        let mut placed: Vec<Vec<Placed>> = solids.iter().map(|_| Vec::new()).collect();
        for i in 0..frame.len() {
            let (colour, size) = shown(particles, frame, i);
            let id = frame.ids[i];
            let rank = if range > 0.0 { (frame.sizes[i] / start.size_m - low) / range } else { 0.0 };
            let which = Appearance::picked(*choice, solids.len(), id, own_random(particles.seed, id), rank);
            let orientation = match orientation {
                InstanceOrientation::Free => frame.orientations.get(i).copied().unwrap_or(Quat::IDENTITY),
                InstanceOrientation::Velocity => shot::world::towards(frame.velocities[i]),
            };
            let scale = frame.sizes[i] * size;
            placed[which].push(Placed {
                number: id,
                position: frame.positions[i],
                orientation,
                scale,
                colour,
            });
        }
        for (id, mut placed) in solids.iter().zip(placed) {
            let Some(solid) = shot.element(*id).and_then(|of| of.as_solid()) else { continue };
            let models = models_of(element, *id, (&solid.shape, solid.uvs), assets, Some(whole))?;
            let sizes = models.iter().map(|(model, _)| model.mesh.bounds().size().max_element());
            let longest = sizes.fold(f32::MIN_POSITIVE, f32::max);
            placed.iter_mut().for_each(|placed| placed.scale /= longest);
            self.add(element, models, &solid.look, placed, assets, false)?;
        }
        Ok(())
    }

    /// Makes a look ready; gives its place in the list.
    fn surface(&mut self, element: &Element, look: &Look, assets: &Assets) -> Result<usize, SceneError> {
        let find = |name: &str| assets.meshes.images.get(name).cloned();
        let surface = Surface::new(look, find, &mut self.data)
            .map_err(|asset| SceneError::MissingAsset { element: element.name.clone(), asset })?;
        self.surfaces.push(surface);
        Ok(self.surfaces.len() - 1)
    }

    fn add(
        &mut self,
        element: &Element,
        models: Models,
        look: &Look,
        placements: Vec<Placed>,
        assets: &Assets,
        front_only: bool,
    ) -> Result<(), SceneError> {
        let surface = self.surface(element, look, assets)?;
        let emitter = match (self.surfaces[surface].is_emissive(), front_only) {
            _ if self.surfaces[surface].emission_varies() => Emitter::NotSampled,
            (false, _) => Emitter::No,
            (true, true) => Emitter::FrontOnly,
            (true, false) => Emitter::BothSides,
        };
        for (model, opacity) in models {
            let layers: Vec<Option<Vec<f32>>> =
                look.layers.iter().map(|layer| model.values.get(&layer.by.attribute()?).cloned()).collect();
            let layers: Arc<[Option<Vec<f32>>]> = layers.into();
            let presence = Presence::new(opacity).times(look.opacity);
            self.fades |= presence != Presence::WHOLE;
            if presence.fraction() <= 0.0 {
                continue;
            }
            for Placed { number, position, orientation, scale, colour } in &placements {
                let position = *position - self.eye;
                let random = hash(element.id.0 ^ hash(number + 1)) as f32 / u32::MAX as f32;
                if matches!(emitter, Emitter::BothSides | Emitter::FrontOnly) {
                    for t in &model.mesh.triangles {
                        let corners =
                            t.map(|v| position + *orientation * (model.mesh.positions[v as usize] * *scale));
                        let image = self.surfaces[surface].emission_image().map(|image| {
                            let uvs = t.map(|v| model.mesh.uvs[v as usize] * look.image_repeat);
                            (image.clone(), uvs)
                        });
                        let two_sided = emitter == Emitter::BothSides;
                        let of = (element.id, presence);
                        self.emitters.push(corners, look.emission * *colour, two_sided, image, of);
                    }
                }
                self.instances.push(Instance {
                    model: model.clone(),
                    position,
                    orientation: *orientation,
                    inverse: orientation.inverse(),
                    scale: *scale,
                    surface,
                    layers: layers.clone(),
                    element: element.id,
                    colour: *colour * (1.0 - look.variation * random),
                    tone: *colour,
                    emitter,
                    presence,
                });
            }
        }
        Ok(())
    }

    /// The number of a path by which it meets elements that are there in part; `random` is 0–1.
    pub(crate) fn dissolve(&self, random: impl FnOnce() -> f32) -> Dissolve {
        Dissolve(self.fades.then(random))
    }

    /// The nearest surface along a ray of unit direction.
    pub(crate) fn intersect(&self, origin: Vec3, direction: Vec3, path: Dissolve) -> Option<Meeting<'_>> {
        let mut nearest: Option<(Hit, u32)> = None;
        let mut t_max = f32::INFINITY;
        self.tree.walk(&Ray::new(origin, direction), |i| {
            let instance = &self.instances[i as usize];
            if !instance.presence.met_by(instance.element, path) {
                return t_max;
            }
            if let Some(hit) = instance.model.bvh.closest(&instance.local(origin, direction, t_max)) {
                t_max = hit.t;
                nearest = Some((hit, i));
            }
            t_max
        });
        if let Some(hit) = self.particle_shapes.intersect(origin, direction, t_max, path) {
            let index = self.particle_shapes.get(hit.index);
            let surface = &self.surfaces[index.surface as usize];
            let weights = surface.layer_weights(|layer| {
                let by_birth = surface.layer_birth(layer, index.weight);
                by_birth.or_else(|| surface.layer_facing(layer, hit.normal, direction))
            });
            let point = surface.at(None, &weights, index.colour * index.tint, 0.0);
            return Some(Meeting {
                t: hit.t,
                normal: hit.normal,
                face: hit.normal,
                bsdf: point.bsdf,
                soft: point.soft,
                albedo: point.albedo,
                element: index.element,
                emission: point.emission * index.colour,
                sampled: None,
            });
        }
        let (hit, i) = nearest?;
        let instance = &self.instances[i as usize];
        let mesh = &instance.model.mesh;
        let [a, b, c] = mesh.triangles[hit.triangle as usize].map(|v| v as usize);
        let w = 1.0 - hit.u - hit.v;
        let blend = |x: Vec3, y: Vec3, z: Vec3| x * w + y * hit.u + z * hit.v;
        let p = |v: usize| mesh.positions[v];
        let face = instance.orientation * (p(b) - p(a)).cross(p(c) - p(a)).normalize();
        let surface = &self.surfaces[instance.surface];
        let uv = surface.lay(|| mesh.uvs[a] * w + mesh.uvs[b] * hit.u + mesh.uvs[c] * hit.v);
        let normal = blend(mesh.normals[a], mesh.normals[b], mesh.normals[c]).normalize();
        let normal = instance.orientation * surface.lean(mesh, [a, b, c], uv, normal);
        let random = hash(hit.u.to_bits() ^ hash(hit.v.to_bits() ^ hash(hit.t.to_bits())));
        let weights = surface.layer_weights(|layer| match &instance.layers[layer] {
            Some(values) => Some(values[a] * w + values[b] * hit.u + values[c] * hit.v),
            None => surface.layer_facing(layer, normal, direction),
        });
        let random = random as f32 / (u32::MAX as f32 + 1.0);
        let own = match &instance.model.colours[..] {
            [] => Vec3::ONE,
            colours => blend(colours[a], colours[b], colours[c]),
        };
        let point = surface.at(uv, &weights, instance.colour * own, random);
        let even = point.emission * instance.tone;
        let shines = matches!(instance.emitter, Emitter::BothSides | Emitter::NotSampled)
            || (instance.emitter == Emitter::FrontOnly && face.dot(direction) < 0.0);
        Some(Meeting {
            t: hit.t,
            normal,
            face,
            bsdf: point.bsdf,
            soft: point.soft,
            albedo: point.albedo,
            element: instance.element,
            emission: if shines { even * surface.emission_at(uv) } else { Vec3::ZERO },
            sampled: (instance.emitter != Emitter::NotSampled).then_some(even * instance.presence.fraction()),
        })
    }

    /// Whether anything stands between a point and `limit` along a unit direction.
    pub(crate) fn blocked(&self, origin: Vec3, direction: Vec3, limit: f32, path: Dissolve) -> bool {
        let mut blocked = false;
        self.tree.walk(&Ray { origin, direction, t_max: limit }, |i| {
            let instance = &self.instances[i as usize];
            blocked = instance.presence.met_by(instance.element, path)
                && instance.model.bvh.any(&instance.local(origin, direction, limit));
            if blocked { -1.0 } else { limit }
        });
        blocked || self.particle_shapes.block(origin, direction, limit, path)
    }
}

impl Instance {
    fn local(&self, origin: Vec3, direction: Vec3, t_max: f32) -> Ray {
        {
            let inverse = 1.0 / self.scale;
            Ray {
                origin: self.inverse * (origin - self.position) * inverse,
                direction: self.inverse * direction * inverse,
                t_max,
            }
        }
    }

    fn bounds(&self) -> Bounds {
        let local = self.model.mesh.bounds();
        (0..8).fold(Bounds::EMPTY, |bounds, i| {
            let pick =
                |bit: usize, axis: usize| if i >> bit & 1 == 0 { local.min[axis] } else { local.max[axis] };
            bounds.with(
                self.position
                    + self.orientation * (Vec3::new(pick(0, 0), pick(1, 1), pick(2, 2)) * self.scale),
            )
        })
    }
}
