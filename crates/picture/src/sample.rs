//! A few tiles of a picture, by which the time and the size of the whole are forecast.

use crate::render::{Picture, TILE, pixel};
use crate::scene::Scene;
use crate::settings::Settings;
use rayon::prelude::*;
use std::time::Instant;

/// Tiles rendered.
const TILES: u32 = 32;
/// Paths a pixel in them, at most.
const SAMPLES: u32 = 16;

/// Tiles of a picture, and how long the whole picture takes.
#[derive(Clone, Debug)]
pub struct Sample {
    /// The tiles, side by side.
    pub picture: Picture,
    /// Forecast of the time for the whole picture on all threads, s.
    pub seconds: f32,
}

/// Renders a few tiles spread over a picture, with few paths a pixel.
///
/// The forecast assumes that the cost of a pixel grows with its paths alone,
/// and that the tiles are like the others.
pub fn sample(scene: &Scene, settings: &Settings) -> Sample {
    let few = Settings { samples: settings.samples.min(SAMPLES), ..*settings };
    let (across, down) = (settings.width / TILE, settings.height / TILE);
    let tiles = TILES.min((across * down).max(1));
    // Rank-1 lattice with the golden ratio: spread evenly for any number of tiles.
    let place = |i: u32| {
        let x = (i as f32 + 0.5) / tiles as f32;
        let y = (i as f32 * 0.618_034 + 0.3).fract();
        ((x * across as f32) as u32 * TILE, (y * down as f32) as u32 * TILE)
    };
    let start = Instant::now();
    let rendered: Vec<_> = (0..tiles * TILE * TILE)
        .into_par_iter()
        .map(|k| {
            let (x0, y0) = place(k / TILE % tiles);
            let (x, y) = (x0 + k % TILE, y0 + k / (TILE * tiles));
            pixel(scene, &few, x.min(settings.width - 1), y.min(settings.height - 1))
        })
        .collect();
    let elapsed = start.elapsed().as_secs_f32();
    let picture = Picture {
        width: tiles * TILE,
        height: TILE,
        rgb: rendered.iter().map(|(rgb, _)| rgb.to_array()).collect(),
        depth: rendered.iter().map(|(_, first)| first.distance).collect(),
        normal: rendered.iter().map(|(_, first)| first.normal.to_array()).collect(),
        element: rendered.iter().map(|(_, first)| first.element).collect(),
        exposure: scene.lens.exposure,
    };
    let pixels = settings.width as f32 * settings.height as f32 / rendered.len() as f32;
    let paths = settings.samples as f32 / few.samples as f32;
    Sample { picture, seconds: elapsed * pixels * paths }
}
