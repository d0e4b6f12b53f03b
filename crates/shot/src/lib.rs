//! The shot: one document of elements, timing and picture settings.
//!
//! A [`Shot`] is what a person edits and what every other crate reads. It is
//! readable JSON (see `docs/formats.md`); [`read`] refuses what it does not
//! know and names each fault by its JSON path. Nothing here computes physics.
//!
//! Values are constant in the document; what changes with time is in each
//! element's [`Channel`]s, and a [`Sampler`] gives the shot at a frame.
//!
//! Guarantees: a `Shot` returned by [`read`] passed [`Shot::faults`]; writing
//! and reading a shot again gives an equal shot. Not guaranteed: that the shot
//! makes a good picture. That is what [`check::check`] is for.
//!
//! ```
//! let mut shot = shot::Shot::empty("Still life");
//! shot.add(shot::Element::solid("Deck", shot::Shape::plane(6.0, 4.0), shot::Moves::Still));
//! let text = shot::write(&shot);
//! assert_eq!(shot::read(text.as_bytes()).unwrap(), shot);
//! ```
#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod animation;
pub mod changes;
pub mod check;
mod cloth;
mod contact;
mod copies;
pub mod curve;
mod document;
mod element;
mod faults;
pub mod fingerprint;
pub mod finish;
pub mod force;
pub mod json;
pub mod light;
pub mod look;
pub mod look_layer;
pub mod map;
mod migrate;
pub mod motion;
pub mod parameters;
pub mod particles;
mod pins;
mod quantity;
mod rate;
pub mod references;
pub mod region;
mod shape;
mod soft;
mod sway;
mod systems;
mod uv;
pub mod world;

pub use animation::{BetweenFrames, BeyondEnd, FileAnimation};
pub use cloth::{Cloth, cloth_materials};
pub use contact::pair_coefficient;
pub use copies::{Copies, MAX_PLACED, PlacedCopy};
pub use document::{Asset, AssetKind, Id, InitialState, Physics, PictureSize, Shot, Timing, VERSION};
pub use element::{
    Aim, Attached, Body, Camera, Collision, Element, ElementKind, Moves, Placement, Solid, TimelineGroup,
    Wake, Weight, euler_angles,
};
pub use faults::{Fault, ReadError};
pub use pins::{Pin, PinSpring, PinnedPart, Side};
pub use quantity::SurfaceQuantity;
pub use shape::Shape;
pub use soft::{Soft, soft_materials};
pub use sway::Sway;
pub use systems::{System, SystemId};
pub use uv::UvLayout;

/// The largest number of elements a shot may hold.
pub const MAX_ELEMENTS: usize = 2_000;
/// The largest number of bodies (elements times copies) a shot may hold.
pub const MAX_BODIES: usize = 50_000;
/// The largest number of particles an element may have at once.
pub const MAX_PARTICLES: usize = 32_000_000;
/// The largest number of groups an element may be in.
pub const MAX_GROUPS: usize = 16;
/// The largest number of frames a shot may span.
pub const MAX_FRAMES: u32 = 10_000;
/// The largest number a frame may have.
pub const LAST_FRAME: u32 = 1_000_000;
/// The largest id an element may have.
pub const MAX_ID: u32 = 1_000_000_000;
/// The largest shot file, bytes.
pub const MAX_BYTES: usize = 16 << 20;

/// Reads a shot from JSON, migrating older versions, and checks every value.
///
/// # Errors
/// [`ReadError`] lists every fault found, each with its JSON path.
pub fn read(bytes: &[u8]) -> Result<Shot, ReadError> {
    faults::read(bytes)
}

/// Reads a shot from a JSON value whose size is bounded, as [`read`] does.
///
/// # Errors
/// As of [`read`].
pub fn read_value(value: serde_json::Value) -> Result<Shot, ReadError> {
    faults::read_value(value)
}

/// Writes a shot as indented JSON that ends in a newline.
pub fn write(shot: &Shot) -> String {
    let mut text = serde_json::to_string_pretty(shot).expect("a shot always serialises");
    text.push('\n');
    text
}

/// The JSON Schema (draft 2020-12) of a shot file.
pub fn schema() -> serde_json::Value {
    let mut schema = schemars::schema_for!(Shot).to_value();
    parameters::describe(&mut schema);
    schema
}
