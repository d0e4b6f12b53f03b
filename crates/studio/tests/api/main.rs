//! The HTTP interface, in process: what is saved, what is refused, and by which words.

mod checks;
mod deformables;
mod description;
mod desk;
mod elements;
mod events;
mod films;
mod finishing;
mod history;
mod liquids;
mod looks;
mod motion;
mod moving_meshes;
mod particles;
mod performing;
mod robust;
mod runs;
mod security;
mod shots;
mod socket;
mod timing;
