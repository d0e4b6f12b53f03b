//! Skies of a shot, and a map of them.

use crate::assets::{Assets, SceneError};
use crate::light::{Environment, Sky, SkyImage};
use glam::{Quat, Vec3};
use shot::{Element, ElementKind, Shot, light::SkySource};

pub(crate) fn sky_light(
    element: &Element,
    sky: &shot::light::Sky,
    assets: &Assets,
    orientation: Quat,
) -> Result<Sky, SceneError> {
    Ok(match &sky.source {
        SkySource::Gradient { zenith, horizon, ground } => Sky::Gradient {
            zenith: *zenith * sky.strength,
            horizon: *horizon * sky.strength,
            ground: *ground * sky.strength,
        },
        SkySource::Image { asset } => {
            let environment = assets.environments.get(asset).map(|image| Environment::clone(image));
            // An image for a screen serves too, as bright as white at most.
            let image = || {
                let image = assets.meshes.images.get(asset)?;
                Some(Environment { width: image.width, height: image.height, rgb: image.rgb.clone() })
            };
            let image = environment.or_else(image).ok_or_else(|| SceneError::MissingAsset {
                element: element.name.clone(),
                asset: asset.clone(),
            })?;
            Sky::Image(SkyImage::new(image, sky.strength, orientation))
        }
    })
}

/// The radiance of all skies of a sampled shot, averaged over each
/// texel of a latitude–longitude map: rows from straight down to straight up,
/// columns from −x over −z, x and z back to −x.
///
/// # Errors
/// [`SceneError`] names the element whose image is missing.
pub fn sky_map(shot: &Shot, assets: &Assets, width: usize, height: usize) -> Result<Vec<Vec3>, SceneError> {
    use std::f32::consts::{PI, TAU};
    let mut map = vec![Vec3::ZERO; width * height];
    for element in shot.elements.iter().filter(|element| !element.hidden) {
        let ElementKind::Sky(sky) = &element.kind else { continue };
        let light = sky_light(element, sky, assets, element.placement.pose().1)?;
        // Subsamples along a texel side: as many as the largest image has pixels there.
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
