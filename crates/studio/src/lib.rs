//! The application: store, jobs, HTTP interface and command.
//!
//! CPU-bound work runs on threads of its own and on rayon's pool; the async
//! side stores, serves and waits.
#![forbid(unsafe_code)]

pub mod api;
pub mod assets;
pub mod at_work;
pub mod cli;
pub mod comparing;
pub mod demo;
pub mod documents;
pub mod enough;
pub mod error;
pub mod films;
pub mod finishing;
pub mod handing_on;
pub(crate) mod jobs;
pub(crate) mod performing;
pub mod playing;
pub(crate) mod posters;
pub(crate) mod slow_steps;
pub mod store;
pub mod studio;
