//! Materials as looks: what both have, with images as files of their own.

use super::Gltf;
use super::container::data_uri;
use crate::images::{decode, grey_png};
use crate::{ImageFile, MAX_PIXELS, Material};
use glam::{Vec2, Vec3};
use image::ImageFormat;
use serde_json::Value;
use shot::look::{Look, LookImage};
use std::collections::HashMap;

/// Most pixels of all images together.
const MAX_ALL_PIXELS: u64 = 16 * MAX_PIXELS;
/// Most materials that parts use.
const MAX_MATERIALS: usize = 1_000;
/// Most notices.
const MAX_NOTICES: usize = 20;

/// The materials taken so far.
pub(super) struct Materials<'a> {
    gltf: &'a Gltf<'a>,
    pub done: Vec<Material>,
    pub images: Vec<ImageFile>,
    pub notices: Vec<String>,
    /// Whether images are wanted, and not the looks' numbers only.
    with_images: bool,
    /// Places in `images` by image of the file and what it says; none if it says nothing.
    decoded: HashMap<(u64, LookImage), Option<usize>>,
    /// Pixels decoded so far, and the most there may be.
    pixels: u64,
    most_pixels: u64,
    transforms: Vec<TextureTransform>,
    taken: HashMap<u64, usize>,
}

/// How a texture lies on UVs (`KHR_texture_transform`).
#[derive(Clone, Copy, PartialEq)]
pub(super) struct TextureTransform {
    /// Index of the set of UVs.
    pub set: u64,
    offset: Vec2,
    rotation_rad: f32,
    scale: Vec2,
}

impl Default for TextureTransform {
    fn default() -> Self {
        Self { set: 0, offset: Vec2::ZERO, rotation_rad: 0.0, scale: Vec2::ONE }
    }
}

impl TextureTransform {
    fn of(texture: &Value) -> Self {
        let moved = &texture["extensions"]["KHR_texture_transform"];
        let pair = |key: &str, default: Vec2| numbers(&moved[key]).map_or(default, Vec2::from_array);
        Self {
            set: moved["texCoord"].as_u64().or_else(|| texture["texCoord"].as_u64()).unwrap_or(0),
            offset: pair("offset", Vec2::ZERO),
            rotation_rad: moved["rotation"].as_f64().unwrap_or(0.0) as f32,
            scale: pair("scale", Vec2::ONE),
        }
    }

    /// Transform of the file's UVs, v down, into the texture.
    pub fn apply(&self, uv: Vec2) -> Vec2 {
        let (sin, cos) = self.rotation_rad.sin_cos();
        let scaled = uv * self.scale;
        self.offset + Vec2::new(cos * scaled.x + sin * scaled.y, cos * scaled.y - sin * scaled.x)
    }
}

/// A list of so many numbers.
fn numbers<const N: usize>(value: &Value) -> Option<[f32; N]> {
    let list: Vec<f32> = value.as_array()?.iter().filter_map(Value::as_f64).map(|v| v as f32).collect();
    list.try_into().ok()
}

fn fraction(value: &Value, default: f32) -> f32 {
    value.as_f64().map_or(default, |v| (v as f32).clamp(0.0, 1.0))
}

impl<'a> Materials<'a> {
    pub fn new(gltf: &'a Gltf<'a>, with_images: bool) -> Self {
        let (done, images, notices, decoded, pixels, transforms, taken) = Default::default();
        let most_pixels = MAX_ALL_PIXELS;
        Self { gltf, done, images, notices, with_images, decoded, pixels, most_pixels, transforms, taken }
    }

    /// How the textures of a material lie.
    pub fn textures(&self, material: usize) -> TextureTransform {
        self.transforms[material]
    }

    /// The place of a material of the file in [`Materials::done`].
    pub fn take(&mut self, index: u64) -> Result<usize, String> {
        if let Some(&taken) = self.taken.get(&index) {
            return Ok(taken);
        }
        if self.done.len() >= MAX_MATERIALS {
            return Err(format!("has more than {MAX_MATERIALS} materials"));
        }
        let of = self.gltf.entry("materials", index)?;
        let name: String = of["name"]
            .as_str()
            .map_or_else(|| format!("material {}", index + 1), |name| name.chars().take(80).collect());
        let mut material = Material { look: look(of), name, images: Vec::new() };
        let transform = self.images(of, &mut material)?;
        let alpha = numbers::<4>(&of["pbrMetallicRoughness"]["baseColorFactor"]).map_or(1.0, |c| c[3]);
        if alpha < 1.0 && of["alphaMode"] == "BLEND" {
            self.notice(format!(
                "{}: its alpha is left out; give the look transmission instead",
                material.name
            ));
        }
        self.done.push(material);
        self.transforms.push(transform);
        self.taken.insert(index, self.done.len() - 1);
        Ok(self.done.len() - 1)
    }

    fn notice(&mut self, notice: String) {
        if self.notices.len() < MAX_NOTICES && !self.notices.contains(&notice) {
            self.notices.push(notice);
        }
    }

    /// Takes the images of a material; gives how they lie, which the first says.
    fn images(&mut self, of: &Value, material: &mut Material) -> Result<TextureTransform, String> {
        let pbr = &of["pbrMetallicRoughness"];
        let mut textures = vec![
            (&pbr["baseColorTexture"], vec![LookImage::Albedo]),
            (&pbr["metallicRoughnessTexture"], vec![LookImage::Roughness, LookImage::Metalness]),
            (&of["normalTexture"], vec![LookImage::Normal]),
        ];
        if material.look.emission.max_element() > 0.0 {
            textures.push((&of["emissiveTexture"], vec![LookImage::Emission]));
        }
        let mut transform = None;
        for (texture, says) in textures {
            let Some(index) = texture["index"].as_u64() else { continue };
            let lies = TextureTransform::of(texture);
            if *transform.get_or_insert(lies) != lies {
                let what = format!("{:?}", says[0]).to_lowercase();
                self.notice(format!(
                    "{}: its image of {what} is left out, since it lies otherwise than the others",
                    material.name
                ));
                continue;
            }
            if !self.with_images {
                continue;
            }
            for says in says {
                match self.image(index, says)? {
                    Ok(Some(image)) => material.images.push((says, image)),
                    Ok(None) => {}
                    Err(reason) => self.notice(format!("{}: an image is left out: {reason}", material.name)),
                }
            }
        }
        Ok(transform.unwrap_or_default())
    }

    /// The place of a texture's image in [`Materials::images`], none if it says
    /// nothing, or why it cannot be taken.
    fn image(&mut self, texture: u64, says: LookImage) -> Result<Result<Option<usize>, String>, String> {
        let source = self.gltf.entry("textures", texture)?["source"].as_u64();
        let Some(source) = source else { return Ok(Err("it is neither PNG nor JPEG".to_owned())) };
        if let Some(&there) = self.decoded.get(&(source, says)) {
            return Ok(Ok(there));
        }
        let image = self.gltf.entry("images", source)?;
        let name: String = image["name"].as_str().unwrap_or("image").chars().take(80).collect();
        let bytes = match (image["uri"].as_str(), image["bufferView"].as_u64()) {
            (Some(uri), _) => data_uri(uri).map(|(_, bytes)| bytes).ok(),
            (None, Some(view)) => Some(self.gltf.view(view)?.0.into_owned()),
            (None, None) => None,
        };
        let Some(bytes) = bytes else { return Ok(Err("it is not in the file".to_owned())) };
        Ok(self.image_file(&name, bytes, says).inspect(|position| {
            self.decoded.insert((source, says), *position);
        }))
    }

    /// Keeps an image as a file that says one thing; gives its place, none if it says nothing.
    fn image_file(&mut self, name: &str, bytes: Vec<u8>, says: LookImage) -> Result<Option<usize>, String> {
        let too_many = format!("all images have more than {} pixels", self.most_pixels);
        if self.pixels > self.most_pixels {
            return Err(too_many);
        }
        let decoded = decode(name, &bytes, &[ImageFormat::Png, ImageFormat::Jpeg], "PNG or JPEG");
        let decoded = decoded.map_err(|error| error.to_string())?;
        self.pixels += u64::from(decoded.width()) * u64::from(decoded.height());
        if self.pixels > self.most_pixels {
            return Err(too_many);
        }
        // glTF keeps roughness in green and metalness in blue.
        let channel = match says {
            LookImage::Roughness => Some((1, "roughness")),
            LookImage::Metalness => Some((2, "metalness")),
            LookImage::Albedo | LookImage::Emission | LookImage::Normal => None,
        };
        let file = match channel {
            None => {
                let extension = if bytes.starts_with(b"\x89PNG") { "png" } else { "jpg" };
                ImageFile { name: name.to_owned(), extension, bytes }
            }
            Some((channel, suffix)) => {
                let rgb = decoded.to_rgb8();
                let values: Vec<u8> = rgb.pixels().map(|pixel| pixel.0[channel]).collect();
                if values.iter().all(|value| *value == 255) {
                    return Ok(None);
                }
                let bytes = grey_png(rgb.width(), rgb.height(), values);
                ImageFile { name: format!("{name} {suffix}"), extension: "png", bytes }
            }
        };
        self.images.push(file);
        Ok(Some(self.images.len() - 1))
    }
}

/// A material's numbers as a look.
fn look(of: &Value) -> Look {
    let pbr = &of["pbrMetallicRoughness"];
    let extension = |name: &str| &of["extensions"][name];
    let albedo = numbers::<4>(&pbr["baseColorFactor"]).map_or(Vec3::ONE, |[r, g, b, _]| Vec3::new(r, g, b));
    let emission = numbers::<3>(&of["emissiveFactor"]).map_or(Vec3::ZERO, Vec3::from_array);
    let strength = extension("KHR_materials_emissive_strength")["emissiveStrength"].as_f64().unwrap_or(1.0);
    let number = |value: &Value, default: f32| value.as_f64().map_or(default, |v| v as f32);
    Look {
        albedo: albedo.clamp(Vec3::ZERO, Vec3::ONE),
        roughness: fraction(&pbr["roughnessFactor"], 1.0),
        metalness: fraction(&pbr["metallicFactor"], 1.0),
        transmission: fraction(&extension("KHR_materials_transmission")["transmissionFactor"], 0.0),
        refractive_index: number(&extension("KHR_materials_ior")["ior"], 1.5).clamp(1.0, 3.0),
        emission: (emission * strength as f32).clamp(Vec3::ZERO, Vec3::splat(1e4)),
        normal_strength: number(&of["normalTexture"]["scale"], 1.0).clamp(0.0, 10.0),
        ..Look::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use base64::Engine;

    /// A file of materials, each with a grey image of 4 × 4 pixels as its albedo.
    fn materials_with_images(count: usize) -> Vec<u8> {
        let png = base64::engine::general_purpose::STANDARD.encode(grey_png(4, 4, vec![90; 16]));
        let list = |entry: &dyn Fn(usize) -> String| (0..count).map(entry).collect::<Vec<_>>().join(",");
        let images = list(&|i| format!(r#"{{"name":"i{i}","uri":"data:image/png;base64,{png}"}}"#));
        let textures = list(&|i| format!(r#"{{"source":{i}}}"#));
        let materials =
            list(&|i| format!(r#"{{"pbrMetallicRoughness":{{"baseColorTexture":{{"index":{i}}}}}}}"#));
        format!(
            r#"{{"asset":{{"version":"2.0"}},"images":[{images}],"textures":[{textures}],"materials":[{materials}]}}"#
        )
        .into_bytes()
    }

    #[test]
    fn images_beyond_the_bound_on_all_pixels_are_left_out_with_a_notice() {
        let bytes = materials_with_images(5);
        let gltf = Gltf::new(&bytes).unwrap();
        let mut materials = Materials::new(&gltf, true);
        materials.most_pixels = 3 * 16;
        (0..5).for_each(|index| assert!(materials.take(index).is_ok()));
        assert_eq!(materials.images.len(), 3);
        let wanted = "an image is left out: all images have more than 48 pixels";
        assert!(materials.notices.iter().all(|notice| notice.contains(wanted)), "{:?}", materials.notices);
        // The fourth is decoded to be counted, the fifth is not decoded.
        assert_eq!(materials.pixels, 4 * 16);
    }
}
