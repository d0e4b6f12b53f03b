//! Simulation: solvers behind one trait, and baking.
//!
//! [`Simulation`] steps a shot frame by frame; [`bake`] fills a run folder,
//! computing only frames that are missing or stale and going on from the
//! latest checkpoint that still holds.
//!
//! Guarantees: the same shot gives the same frames, whatever the number of
//! threads and however often the bake was stopped and resumed. Not guaranteed:
//! the same bytes on processors that round differently.
//!
//! A solver is one folder here and one line in [`SOLVERS`].
//!
//! ```
//! use shot::{Element, Moves, Shape, Shot};
//! let mut shot = Shot::empty("Drop");
//! shot.add(Element::solid("Ball", Shape::sphere(0.1), Moves::Free).at(0.0, 10.0, 0.0));
//! let mut simulation = simulate::Simulation::new(&shot, &Default::default()).unwrap();
//! let frame = simulation.advance().unwrap();
//! assert_eq!(frame.number, 2);
//! assert!(frame.bodies[&shot.named("Ball").unwrap().id].positions[0].y < 10.0);
//! ```
#![deny(unsafe_code)]
#![warn(missing_docs)]

mod bake;
mod cancel;
pub mod colliders;
mod deformable;
pub mod forces;
pub mod liquid;
pub mod look_values;
pub mod maps;
pub mod packing;
mod particles;
mod pcg;
mod rest_surface;
mod rounds;
mod simulation;
pub mod solids;
mod solver;
mod sway;

/// Of every program that simulates. The buffers of a step are as large as those of the step before: this allocator keeps freed memory
/// for a second, where that of the system returns large buffers at once, so that each of their pages faults again (a
/// seventh of the time of a liquid's transfers).
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

pub use bake::{
    Bake, BakeError, CHECKPOINT_EVERY, Outcome, Progress, SystemFreshness, bake, bake_until, fresh,
    fresh_systems, resume,
};
pub use cancel::Cancel;
pub use deformable::check as deformable_check;
pub use deformable::timers as deformable_timers;
pub use deformable::{DeformableSize, WaveCounter, deformable_size, interior};
pub use particles::{LiquidSize, liquid_size, not_to_be_born};
pub use rounds::{bake_rounds, rounds};
pub use simulation::{SOLVERS, Simulation};
pub use solver::{BlowUp, PrepareContext, PrepareError, Saved, SavedPart, Solver, SolverKind, Step, Wants};
