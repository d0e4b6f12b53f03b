//! The renderer: path tracing of a frame of a shot.
//!
//! Light is carried by unidirectional path tracing with next-event estimation
//! and multiple importance sampling (E. Veach, *Robust Monte Carlo methods for
//! light transport simulation*, 1997), on Owen-scrambled Sobol' points.
//! Colours are scene-linear with Rec. 709 primaries; [`display`] turns them
//! into what a screen shows.
//!
//! Guarantees: the same picture for any number of threads; looks neither lose
//! nor make energy. Not guaranteed: caustics free of noise, since light that
//! reaches a matt surface through glass is found by chance, and single samples
//! are bounded by [`Settings::clamp`].
//!
//! ```
//! use picture::{Assets, Settings, Scene, render};
//! let shot = shot::Shot::empty("Sky only");
//! let scene = Scene::new(&shot, &Assets::default(), None, 1).unwrap();
//! let settings = Settings { width: 8, height: 4, samples: 1, ..Settings::default() };
//! let picture = render(&scene, &settings, &|_| true).unwrap();
//! assert!(picture.rgb.iter().all(|pixel| pixel[0] > 0.0));
//! ```
#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod assets;
mod bsdf;
mod camera;
mod coverage;
pub mod display;
mod gate;
mod integrate;
mod light;
mod liquid_colour;
mod models;
mod particles;
mod presence;
mod render;
mod sample;
mod sampler;
mod scene;
mod settings;
mod sky;
mod surface;

pub use assets::{Assets, SceneError};
pub use camera::Lens;
pub use coverage::{Coverage, Difference, difference};
pub use gate::in_gate;
pub use light::Environment;
pub use render::{Picture, render};
pub use sample::{Sample, sample};
pub use scene::Scene;
pub use settings::Settings;
pub use sky::sky_map;
