//! Rendering a picture, tile by tile on all threads.

use crate::integrate::{First, radiance};
use crate::sampler::Sampler;
use crate::scene::Scene;
use crate::settings::Settings;
use glam::Vec3;
use rayon::prelude::*;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// A rendered picture with its layers, rows from the top.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Picture {
    /// Pixels across.
    pub width: u32,
    /// Pixels down.
    pub height: u32,
    /// Scene-linear radiance, before exposure.
    pub rgb: Vec<[f32; 3]>,
    /// Distance from the camera in metres; infinite where only sky is seen.
    pub depth: Vec<f32>,
    /// World-space normal of the first surface; zero for the sky.
    pub normal: Vec<[f32; 3]>,
    /// Id of the element seen; 0 for the sky.
    pub element: Vec<u32>,
    /// Exposure of the camera in stops, to be applied when shown.
    pub exposure: f32,
}

impl Picture {
    /// The picture as sRGB code values. Radiance is rounded to half floats
    /// first, so that a film's EXR and PNG files agree.
    pub fn show(&self) -> Vec<u8> {
        let half = |v: f32| half::f16::from_f32(v).to_f32();
        self.rgb.iter().flat_map(|rgb| crate::display::show(rgb.map(half), self.exposure)).collect()
    }
}

/// Side of a tile, pixels.
pub(crate) const TILE: u32 = 16;

/// Renders. `progress` is told the fraction done and says whether to go on; the
/// result is none if it said no.
pub fn render(
    scene: &Scene,
    settings: &Settings,
    progress: &(dyn Fn(f32) -> bool + Sync),
) -> Option<Picture> {
    let Settings { width, height, .. } = *settings;
    let pixels = width as usize * height as usize;
    let tiles: Vec<(u32, u32)> = (0..height.div_ceil(TILE))
        .flat_map(|y| (0..width.div_ceil(TILE)).map(move |x| (x * TILE, y * TILE)))
        .collect();
    let (stopped, done) = (AtomicBool::new(false), AtomicUsize::new(0));
    let finished: Vec<Vec<(usize, Vec3, First)>> = tiles
        .par_iter()
        .map(|&(x0, y0)| {
            if stopped.load(Ordering::Relaxed) {
                return Vec::new();
            }
            let mut tile = Vec::with_capacity((TILE * TILE) as usize);
            for y in y0..(y0 + TILE).min(height) {
                for x in x0..(x0 + TILE).min(width) {
                    let (rgb, first) = pixel(scene, settings, x, y);
                    tile.push(((y * width + x) as usize, rgb, first));
                }
            }
            let fraction = (done.fetch_add(1, Ordering::Relaxed) + 1) as f32 / tiles.len() as f32;
            if !progress(fraction) {
                stopped.store(true, Ordering::Relaxed);
            }
            tile
        })
        .collect();
    if stopped.into_inner() {
        return None;
    }
    let mut picture = Picture {
        width,
        height,
        rgb: vec![[0.0; 3]; pixels],
        depth: vec![0.0; pixels],
        normal: vec![[0.0; 3]; pixels],
        element: vec![0; pixels],
        exposure: scene.lens.exposure,
    };
    for (at, rgb, first) in finished.into_iter().flatten() {
        picture.rgb[at] = rgb.to_array();
        picture.depth[at] = first.distance;
        picture.normal[at] = first.normal.to_array();
        picture.element[at] = first.element;
    }
    Some(picture)
}

pub(crate) fn pixel(scene: &Scene, settings: &Settings, x: u32, y: u32) -> (Vec3, First) {
    let (w, h) = (settings.width as f32, settings.height as f32);
    let mut sum = Vec3::ZERO;
    let mut nearest: Option<(f32, First)> = None;
    for index in 0..settings.samples {
        let mut sampler = Sampler::new(y * settings.width + x, scene.frame, index);
        let jitter = sampler.pair().map(tent);
        let px = (x as f32 + 0.5 + jitter[0]) / w * 2.0 - 1.0;
        let py = (h - 2.0 * (y as f32 + 0.5 + jitter[1])) / w;
        let (origin, direction) = scene.lens.ray(px, py, sampler.pair());
        let (light, first) = radiance(scene, origin, direction, &mut sampler, settings);
        if light.is_finite() {
            sum += light;
        }
        // Layers are not blended: they are those of the path nearest the
        // pixel's middle.
        let off = jitter[0].abs() + jitter[1].abs();
        if nearest.is_none_or(|(least, _)| off < least) {
            nearest = Some((off, first));
        }
    }
    (sum / settings.samples as f32, nearest.map(|(_, first)| first).unwrap_or_default())
}

/// Offset in −1…1 with the density of a tent: filter importance sampling
/// (M. Ernst et al., *Filter importance sampling*, 2006).
fn tent(u: f32) -> f32 {
    if u < 0.5 { (2.0 * u).sqrt() - 1.0 } else { 1.0 - (2.0 - 2.0 * u).sqrt() }
}
