//! Materials as looks: what both have, with images as files of their own.

use super::Gltf;
use super::container::data_uri;
use crate::images::{decode, grey_png};
use crate::{ImageFile, Material};
use glam::{Vec2, Vec3};
use image::ImageFormat;
use serde_json::Value;
use shot::{Look, LookImage};
use std::collections::HashMap;

/// Most materials that parts use, and most images of all of them.
const MAX_MATERIALS: usize = 1_000;
/// Most notices.
const MAX_NOTICES: usize = 20;

/// The materials taken so far.
pub(super) struct Materials<'a> {
    gltf: &'a Gltf<'a>,
    pub done: Vec<Material>,
    pub notices: Vec<String>,
    transforms: Vec<TextureTransform>,
    taken: HashMap<u64, usize>,
}

/// How a texture lies on UVs (`KHR_texture_transform`).
#[derive(Clone, Copy, PartialEq)]
pub(super) struct TextureTransform {
    /// Which UVs.
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

    /// Where UVs of the file, v down, lie in the texture.
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
    pub fn new(gltf: &'a Gltf<'a>) -> Self {
        let (done, notices, transforms, taken) = Default::default();
        Self { gltf, done, notices, transforms, taken }
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
            let (name, bytes) = match self.texture(index)? {
                Ok(image) => image,
                Err(reason) => {
                    self.notice(format!("{}: an image is left out, since it {reason}", material.name));
                    continue;
                }
            };
            for says in says {
                match image_file(&name, &bytes, says) {
                    Ok(Some(file)) => material.images.push((says, file)),
                    Ok(None) => {}
                    Err(reason) => self.notice(format!("{}: {reason}", material.name)),
                }
            }
        }
        Ok(transform.unwrap_or_default())
    }

    /// Name and bytes of a texture's image, or why it cannot be taken.
    fn texture(&self, index: u64) -> Result<Result<(String, Vec<u8>), &'static str>, String> {
        let texture = self.gltf.entry("textures", index)?;
        let Some(source) = texture["source"].as_u64() else { return Ok(Err("is neither PNG nor JPEG")) };
        let image = self.gltf.entry("images", source)?;
        let name = image["name"].as_str().filter(|name| !name.is_empty()).unwrap_or("image");
        let bytes = match (image["uri"].as_str(), image["bufferView"].as_u64()) {
            (Some(uri), _) => match data_uri(uri) {
                Ok((_, bytes)) => bytes,
                Err(_) => return Ok(Err("is in another file")),
            },
            (None, Some(view)) => self.gltf.view(view)?.0.into_owned(),
            (None, None) => return Ok(Err("is not in the file")),
        };
        Ok(Ok((name.chars().take(80).collect(), bytes)))
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
        refraction: number(&extension("KHR_materials_ior")["ior"], 1.5).clamp(1.0, 3.0),
        emission: (emission * strength as f32).clamp(Vec3::ZERO, Vec3::splat(1e4)),
        normal_strength: number(&of["normalTexture"]["scale"], 1.0).clamp(0.0, 10.0),
        ..Look::default()
    }
}

/// An image of a material as a file that says one thing; none if it says nothing.
fn image_file(name: &str, bytes: &[u8], says: LookImage) -> Result<Option<ImageFile>, String> {
    let decoded = decode(name, bytes, &[ImageFormat::Png, ImageFormat::Jpeg], "PNG or JPEG");
    let decoded = decoded.map_err(|error| format!("an image is left out: {error}"))?;
    // glTF keeps roughness in green and metalness in blue.
    let (channel, suffix) = match says {
        LookImage::Roughness => (1, "roughness"),
        LookImage::Metalness => (2, "metalness"),
        _ => {
            let extension = if bytes.starts_with(b"\x89PNG") { "png" } else { "jpg" };
            return Ok(Some(ImageFile { name: name.to_owned(), extension, bytes: bytes.to_vec() }));
        }
    };
    let rgb = decoded.to_rgb8();
    let values: Vec<u8> = rgb.pixels().map(|pixel| pixel.0[channel]).collect();
    if values.iter().all(|value| *value == 255) {
        return Ok(None);
    }
    let bytes = grey_png(rgb.width(), rgb.height(), values);
    Ok(Some(ImageFile { name: format!("{name} {suffix}"), extension: "png", bytes }))
}
