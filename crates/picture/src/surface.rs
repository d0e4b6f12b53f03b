//! Looks laid on surfaces: images and what they change from point to point.

use crate::bsdf::{Bsdf, Lobes};
use crate::display::code;
use geometry::{Image, Mesh, brightness};
use glam::{Vec2, Vec3};
use shot::look::{Look, LookImage};
use shot::look_layer::{LookWeight, MAX_LOOK_LAYERS};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Roughness of mirrors and glass for paths that were scattered widely before.
const SOFT_ROUGHNESS: f32 = 0.5;
/// Steps from roughness 0 to 1 for which lobes are computed where an image
/// says the roughness; a point takes one of the two nearest by chance.
const ROUGHNESS_STEPS: usize = 24;

/// A look, ready for any point of a surface.
pub(crate) struct Surface {
    pub look: Look,
    /// One, or those of each step of roughness that the image has.
    lobes: Vec<Lobes>,
    /// Step of the first of `lobes`.
    first_step: usize,
    /// For paths that were scattered widely before, if smooth points need them.
    soft: Option<Lobes>,
    images: Images,
    /// Whether the roughness changes from point to point.
    varies: bool,
}

/// Weights of the layers of a look at a point, 0–1.
pub(crate) type LayerWeights = [f32; MAX_LOOK_LAYERS];

/// Images of a look; those that are data and not colours hold code values, 0–1.
#[derive(Default)]
struct Images {
    albedo: Option<Arc<Image>>,
    roughness: Option<Arc<Image>>,
    metalness: Option<Arc<Image>>,
    emission: Option<Arc<Image>>,
    normal: Option<Arc<Image>>,
}

/// A surface at one point.
pub(crate) struct Point<'a> {
    pub bsdf: Bsdf<'a>,
    /// For paths that were scattered widely before.
    pub soft: Bsdf<'a>,
    pub albedo: Vec3,
    /// Emitted radiance, without that of images.
    pub emission: Vec3,
}

/// Images of data, decoded once however many surfaces use them.
pub(crate) type DataImages = BTreeMap<String, Arc<Image>>;

impl Surface {
    /// Makes a look ready. The name of an image that `find` does not know is the error.
    pub fn new(
        look: &Look,
        find: impl Fn(&str) -> Option<Arc<Image>>,
        data: &mut DataImages,
    ) -> Result<Self, String> {
        let mut images = Images::default();
        for of in LookImage::ALL {
            let Some(name) = look.image(of) else { continue };
            let image = || find(name).ok_or_else(|| name.clone());
            let mut coded = || -> Result<Arc<Image>, String> {
                if !data.contains_key(name) {
                    let mut image = Image::clone(&*image()?);
                    image.rgb.iter_mut().flatten().for_each(|v| *v = code(*v));
                    data.insert(name.clone(), Arc::new(image));
                }
                Ok(data[name].clone())
            };
            match of {
                LookImage::Albedo => images.albedo = Some(image()?),
                LookImage::Emission => images.emission = Some(image()?),
                LookImage::Roughness => images.roughness = Some(coded()?),
                LookImage::Metalness => images.metalness = Some(coded()?),
                LookImage::Normal => images.normal = Some(coded()?),
            }
        }
        let layers = &look.layers;
        let glass = look.transmission > 0.0 || layers.iter().any(|layer| layer.transmission > 0.0);
        let metal = look.metalness > 0.0 || layers.iter().any(|layer| layer.metalness > 0.0);
        let lobes = |roughness: f32| Lobes::new(roughness, look.refractive_index, glass);
        let (low, high) = match &images.roughness {
            None => (1.0, 1.0),
            Some(image) => {
                let values = image.rgb.iter().map(|rgb| brightness(Vec3::from(*rgb)));
                values.fold((1.0f32, 0.0f32), |(a, b), v| (a.min(v), b.max(v)))
            }
        };
        let own = (low * look.roughness, high * look.roughness);
        let (low, high) = layers
            .iter()
            .fold(own, |(low, high), layer| (low.min(layer.roughness), high.max(layer.roughness)));
        let varies = images.roughness.is_some() || low < high;
        let (first_step, lobes) = if varies {
            let step = |v: f32| v * ROUGHNESS_STEPS as f32;
            let (from, to) = (step(low) as usize, step(high).ceil() as usize);
            let each =
                (from..=to.min(ROUGHNESS_STEPS)).map(|step| lobes(step as f32 / ROUGHNESS_STEPS as f32));
            (from, each.collect())
        } else {
            (0, vec![lobes(low)])
        };
        let sharp = low < SOFT_ROUGHNESS && (glass || metal);
        let soft = sharp.then(|| Lobes::new(SOFT_ROUGHNESS, look.refractive_index, glass));
        Ok(Self { look: look.clone(), lobes, first_step, soft, images, varies })
    }

    /// Whether its layers change what it emits from point to point.
    pub fn emission_varies(&self) -> bool {
        self.look.layers.iter().any(|layer| layer.emission != self.look.emission)
    }

    pub fn is_emissive(&self) -> bool {
        self.look.emission.max_element() > 0.0
    }

    /// Whether any of its images needs UVs.
    fn has_images(&self) -> bool {
        let Images { albedo, roughness, metalness, emission, normal } = &self.images;
        [albedo, roughness, metalness, emission, normal].iter().any(|image| image.is_some())
    }

    /// Transform of UVs into the images; none without UVs.
    pub fn lay(&self, uv: impl FnOnce() -> Vec2) -> Option<Vec2> {
        self.has_images().then(|| uv() * self.look.image_repeat)
    }

    /// The weights of its layers, by the value that each has at a point; none: that of a layer is not known there.
    pub fn layer_weights(&self, value: impl Fn(usize) -> Option<f32>) -> LayerWeights {
        let mut weights = [0.0; MAX_LOOK_LAYERS];
        for (i, (weight, layer)) in weights.iter_mut().zip(&self.look.layers).enumerate() {
            *weight = value(i).map_or(0.0, |value| layer.weight(value));
        }
        weights
    }

    /// The value of a layer that goes by the viewing angle: 0 where the surface faces the viewer, 1 where it is seen from the
    /// side.
    pub fn layer_facing(&self, layer: usize, normal: Vec3, direction: Vec3) -> Option<f32> {
        let by = &self.look.layers[layer].by;
        matches!(by, LookWeight::ViewingAngle {}).then(|| 1.0 - normal.dot(direction).abs().min(1.0))
    }

    /// The value of a layer that goes by the map of the emission, of a particle that was born where the map has `weight`.
    pub fn layer_birth(&self, layer: usize, weight: f32) -> Option<f32> {
        matches!(self.look.layers[layer].by, LookWeight::BirthMap {}).then_some(weight)
    }

    /// The surface at a place of its images, with the weights of its layers; its albedo is multiplied by `colour`.
    /// `random`, 0–1, chooses between steps of roughness.
    pub fn at(&self, uv: Option<Vec2>, weights: &LayerWeights, colour: Vec3, random: f32) -> Point<'_> {
        let look = &self.look;
        let value = |image: &Option<Arc<Image>>| match (image, uv) {
            (Some(image), Some(uv)) => brightness(image.at(uv)),
            _ => 1.0,
        };
        let mut albedo = (look.albedo * colour).min(Vec3::ONE);
        if let (Some(image), Some(uv)) = (&self.images.albedo, uv) {
            albedo *= image.at(uv);
        }
        let mut metalness = look.metalness * value(&self.images.metalness);
        let mut roughness = look.roughness * value(&self.images.roughness);
        let (mut transmission, mut emission) = (look.transmission, look.emission);
        for (layer, weight) in look.layers.iter().zip(weights).filter(|(_, weight)| **weight > 0.0) {
            let mix = |from: f32, to: f32| from + (to - from) * weight;
            albedo = albedo.lerp((layer.albedo * colour).min(Vec3::ONE), *weight);
            metalness = mix(metalness, layer.metalness);
            roughness = mix(roughness, layer.roughness);
            transmission = mix(transmission, layer.transmission);
            emission = emission.lerp(layer.emission, *weight);
        }
        let lobes = if self.varies {
            let step = (roughness * ROUGHNESS_STEPS as f32 + random) as usize;
            &self.lobes[step.saturating_sub(self.first_step).min(self.lobes.len() - 1)]
        } else {
            &self.lobes[0]
        };
        let soft = self.soft.as_ref().filter(|_| lobes.roughness() < SOFT_ROUGHNESS).unwrap_or(lobes);
        let bsdf = |lobes| Bsdf::new(lobes, metalness, transmission);
        Point { bsdf: bsdf(lobes), soft: bsdf(soft), albedo, emission }
    }

    /// Factor of the emission by its image at a UV.
    pub fn emission_at(&self, uv: Option<Vec2>) -> Vec3 {
        match (&self.images.emission, uv) {
            (Some(image), Some(uv)) => image.at(uv),
            _ => Vec3::ONE,
        }
    }

    /// The image that the emission is multiplied by.
    pub fn emission_image(&self) -> Option<&Arc<Image>> {
        self.images.emission.as_ref()
    }

    /// A normal of a face of a mesh, in its own space, leaned by the normal image.
    pub fn lean(&self, mesh: &Mesh, face: [usize; 3], uv: Option<Vec2>, normal: Vec3) -> Vec3 {
        let (Some(image), Some(uv)) = (&self.images.normal, uv) else { return normal };
        let [p, q, r] = face.map(|v| mesh.positions[v]);
        let [a, b, c] = face.map(|v| mesh.uvs[v]);
        let (e, f, u, v) = (q - p, r - p, b - a, c - a);
        let area = u.perp_dot(v);
        // Directions in which U and V grow; their lengths do not matter.
        let along_u = (e * v.y - f * u.y) * area.signum();
        let along_v = (f * u.x - e * v.x) * area.signum();
        let tangent = (along_u - normal * normal.dot(along_u)).normalize_or_zero();
        if tangent == Vec3::ZERO || area == 0.0 {
            return normal;
        }
        let bitangent = normal.cross(tangent);
        let bitangent = if bitangent.dot(along_v) < 0.0 { -bitangent } else { bitangent };
        let tangent_space = image.at(uv) * 2.0 - Vec3::ONE;
        let strength = self.look.normal_strength;
        let leaned = tangent * (tangent_space.x * strength)
            + bitangent * (tangent_space.y * strength)
            + normal * tangent_space.z.max(0.05);
        leaned.normalize_or(normal)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use shot::look_layer::LookLayer;

    const NONE: LayerWeights = [0.0; MAX_LOOK_LAYERS];

    fn image(width: usize, height: usize, pixel: impl Fn(usize, usize) -> [f32; 3]) -> Arc<Image> {
        let rgb = (0..width * height).map(|i| pixel(i % width, i / width)).collect();
        Arc::new(Image { width, height, rgb })
    }

    /// A code value as the linear value that an image keeps it as.
    fn coded(v: f32) -> f32 {
        crate::display::linear(v)
    }

    fn quad() -> Mesh {
        Mesh {
            positions: vec![Vec3::ZERO, Vec3::X, Vec3::X + Vec3::Y, Vec3::Y],
            normals: vec![Vec3::Z; 4],
            uvs: vec![Vec2::ZERO, Vec2::X, Vec2::ONE, Vec2::Y],
            triangles: vec![[0, 1, 2], [0, 2, 3]],
            ..Mesh::default()
        }
    }

    #[test]
    fn a_normal_image_leans_normals_by_the_angle_it_says() {
        // 30° towards U and V in turn.
        let (sin, cos) = (0.5f32, 0.75f32.sqrt());
        for (x, y) in [(sin, 0.0), (0.0, sin), (-sin, 0.0)] {
            let rgb = [x, y, cos].map(|v| coded(0.5 * v + 0.5));
            let find = |_: &str| Some(image(2, 2, |_, _| rgb));
            let look = Look { normal_image: Some("dents".into()), ..Look::default() };
            let surface = Surface::new(&look, find, &mut DataImages::new()).unwrap();
            for face in quad().triangles {
                let face = face.map(|v| v as usize);
                let leaned = surface.lean(&quad(), face, Some(Vec2::splat(0.3)), Vec3::Z);
                assert!(leaned.distance(Vec3::new(x, y, cos)) < 1e-3, "{leaned}");
            }
            // Mirrored UVs: what leans along U leans the other way.
            let mut mirrored = quad();
            mirrored.uvs.iter_mut().for_each(|uv| uv.x = -uv.x);
            let leaned = surface.lean(&mirrored, [0, 1, 2], Some(Vec2::splat(0.3)), Vec3::Z);
            assert!(leaned.distance(Vec3::new(-x, y, cos)) < 1e-3, "{leaned}");
        }
    }

    #[test]
    fn roughness_of_an_image_is_right_in_the_mean() {
        let find = |_: &str| Some(image(1, 1, |_, _| [coded(0.5); 3]));
        let look = Look { roughness_image: Some("wear".into()), roughness: 0.7, ..Look::default() };
        let surface = Surface::new(&look, find, &mut DataImages::new()).unwrap();
        let n = 1_000;
        let at =
            |i: usize| surface.at(Some(Vec2::ZERO), &NONE, Vec3::ONE, i as f32 / n as f32).bsdf.roughness();
        let mean = (0..n).map(at).sum::<f32>() / n as f32;
        assert!((mean - 0.35).abs() < 1e-3, "{mean}");
        let (low, high) = (at(0), at(n - 1));
        assert!(high - low < 1.01 / ROUGHNESS_STEPS as f32 && low <= 0.35 && high >= 0.35);
    }

    #[test]
    fn a_layer_takes_over_by_its_weight() {
        let layer = LookLayer {
            albedo: Vec3::new(0.8, 0.0, 0.2),
            roughness: 0.9,
            emission: Vec3::X,
            ..LookLayer::default()
        };
        let base = Look { albedo: Vec3::splat(0.4), roughness: 0.3, ..Look::default() };
        let look = Look { layers: vec![layer], ..base };
        let surface = Surface::new(&look, |_| None, &mut DataImages::new()).unwrap();
        assert!(surface.emission_varies());
        for weight in [0.0, 0.25, 1.0] {
            let mut weights = NONE;
            weights[0] = weight;
            let n = 1_000;
            let at = |i: usize| surface.at(None, &weights, Vec3::ONE, (i as f32 + 0.5) / n as f32);
            let expected = Vec3::splat(0.4).lerp(Vec3::new(0.8, 0.0, 0.2), weight);
            assert!((at(0).albedo - expected).length() < 1e-6);
            assert_eq!(at(0).emission, Vec3::X * weight);
            let roughness = (0..n).map(|i| at(i).bsdf.roughness()).sum::<f32>() / n as f32;
            assert!((roughness - (0.3 + 0.6 * weight)).abs() < 2e-3, "{roughness} at {weight}");
        }
    }

    #[test]
    fn an_image_that_is_not_there_is_named() {
        let look = Look { metalness_image: Some("gone".into()), ..Look::default() };
        assert_eq!(Surface::new(&look, |_| None, &mut DataImages::new()).err(), Some("gone".to_owned()));
    }
}
