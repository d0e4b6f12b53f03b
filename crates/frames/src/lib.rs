//! Frames: what a solver writes and everything after it reads, and runs of
//! them on disk.
//!
//! A [`Frame`] holds typed arrays by element. A [`RunFolder`] keeps a file a
//! frame, each written to a temporary name and renamed, each with a checksum;
//! the layout is described in `docs/formats.md`. [`Frames`] is what all later
//! stages read: a run, or what [`finish`]ing steps make of one.
//!
//! Guarantees: a frame read back differs from the one written by at most
//! [`POSITION_ERROR_M`], [`ORIENTATION_ERROR_RAD`], [`VELOCITY_ERROR`] and
//! [`ANGULAR_VELOCITY_ERROR`]; a damaged file is reported, never returned; the same frame
//! always gives the same bytes. Not guaranteed: places beyond 100 km.
//!
//! ```
//! use frames::{Bodies, Frame, decode, encode};
//! let mut frame = Frame::new(1, 0.0);
//! let mut bodies = Bodies::default();
//! bodies.push([0.0, 1.0, 0.0].into(), glam::Quat::IDENTITY, glam::Vec3::ZERO, glam::Vec3::ZERO);
//! frame.bodies.insert(shot::Id(4), bodies);
//! let back = decode(&encode(&frame)).unwrap();
//! assert_eq!(back.bodies[&shot::Id(4)].len(), 1);
//! ```
#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod bodies;
mod codec;
mod error;
mod face_codes;
mod files;
pub mod finish;
mod frame;
mod impacts;
mod meshes;
mod particle_quantity;
mod particles;
mod poster;
mod quantise;
mod run;
mod sequence;
mod source;
mod surface_quantity;
mod table;
mod thinned;
mod topologies;
mod topology_files;
mod upgrade;
mod wire;

pub use codec::{Header, decode, decode_into, encode};
pub use error::{DecodeError, RunError};
pub use files::write_whole;
pub use frame::{Bodies, Event, Frame, Impact, LiquidMeasure, Measured, Particles, Turnover};
pub use meshes::{MeshState, OPACITY};
pub use particle_quantity::ParticleQuantity;
pub use quantise::{
    ANGULAR_VELOCITY_ERROR, ORIENTATION_ERROR_RAD, PARTICLE_AGE_ERROR_S, PARTICLE_SIZE_ERROR,
    PARTICLE_VELOCITY_ERROR, POSITION_ERROR_M, VELOCITY_ERROR,
};
pub use run::{Manifest, ManifestElement, RunFolder, RunLock, Track, instruction_set};
pub use sequence::{MAX_SAMPLES, MAX_SEQUENCE_BYTES, SEQUENCE_EXTENSION, decode_sequence, encode_sequence};
pub use source::{Fingerprints, Frames, Parts, RunFrames};
pub use surface_quantity::{REST, surface_quantity};
pub use thinned::{Thinning, thin};
pub use topologies::known_topology;
pub use upgrade::upgrade;
pub use wire::{wire, wire_topology};
