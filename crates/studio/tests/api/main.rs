//! The HTTP interface, in process: what is saved, what is refused, and by which words.

mod checks;
mod desk;
mod elements;
mod events;
mod films;
mod history;
mod motion;
mod runs;
mod security;
mod shots;
