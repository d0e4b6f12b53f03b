//! *Enough?*: the liquids of a shot at three sizes, compared in the gate; which is the smallest that a viewer could not tell from the
//! next.

use crate::error::{Error, Result};
use frames::Frame;
use geometry::Meshes;
use picture::{Coverage, difference};
use serde::Serialize;
use shot::{Id, Shot, SystemId, motion::Sampler};
use simulate::{Cancel, Simulation};
use std::collections::BTreeMap;
use std::time::Instant;
use utoipa::ToSchema;

/// The spacings that are compared, against those of the shot: an eighth of the particles, about a third, and all.
pub(crate) const FACTORS: [f32; 3] = [2.0, std::f32::consts::SQRT_2, 1.0];
/// Most that outlines differ by where a viewer cannot tell, against the height of the picture: about 6 minutes of arc from three heights away.
const MAX_APART: f32 = 0.005;
/// Most that the timing differs by where a viewer cannot tell, in seconds: a frame of a film.
const MAX_DELAY_S: f32 = 1.0 / 24.0;
/// Frames whose bodies are kept for aims with a delay.
const REMEMBERED: usize = 48;

/// A size at which the liquids were computed.
#[derive(Clone, Debug, PartialEq, Serialize, ToSchema)]
pub struct Size {
    /// The spacing against that of the shot; no unit.
    pub factor: f32,
    /// The least spacing of a liquid, m.
    pub spacing_m: f32,
    /// Most particles in a frame.
    pub particles: u64,
    /// Time that a frame took to compute in the mean, s.
    pub seconds_a_frame: f64,
    /// How far the outlines lie from those of the next, in pixels of the picture; none: there is no next.
    pub pixels: Option<f32>,
    /// By how many frames it is later than the next; negative: earlier; none: there is no next.
    pub delay_frames: Option<f32>,
}

/// Three sizes of a shot's liquids, the least number of particles first.
#[derive(Clone, Debug, PartialEq, Serialize, ToSchema)]
pub struct Enough {
    /// The sizes.
    pub sizes: Vec<Size>,
    /// The place in that list, from 0, of the smallest that a viewer could not tell from the next; none: each can be told.
    pub enough: Option<usize>,
}

/// The shot with all spacings of liquids times a factor.
fn with_spacings(shot: &Shot, factor: f32) -> Shot {
    let mut shot = shot.clone();
    for element in &mut shot.elements {
        if let Some(liquid) = element.as_particles_mut().and_then(|particles| particles.liquid.as_mut()) {
            liquid.spacing_m *= factor;
        }
    }
    shot
}

/// The systems of elements, and those that these read.
fn systems_of(shot: &Shot, elements: &[Id]) -> Vec<SystemId> {
    let all = shot.systems();
    let own = all.iter().filter(|system| system.elements.iter().any(|id| elements.contains(id)));
    let mut wanted: Vec<SystemId> = own.map(|system| system.id).collect();
    let mut at = 0;
    while at < wanted.len() {
        let reads = all.iter().filter(|system| system.id == wanted[at]).flat_map(|system| &system.reads);
        let new: Vec<SystemId> = reads.copied().filter(|id| !wanted.contains(id)).collect();
        wanted.extend(new);
        at += 1;
    }
    wanted
}

/// Compares the sizes over the whole shot. `done` is told of each frame of each size: how many of how many are done.
///
/// # Errors
/// A shot without liquid or camera, and what ends a bake, with the size at which that was.
pub fn enough(
    shot: &Shot,
    meshes: &Meshes,
    initial_state: Option<&Frame>,
    cancel: &Cancel,
    done: &mut dyn FnMut(u32, u32),
) -> Result<Enough> {
    let liquids: Vec<Id> =
        shot.particles().filter(|(_, of)| of.liquid.is_some()).map(|(element, _)| element.id).collect();
    if liquids.is_empty() {
        return Err(Error::Bad("the shot has no liquid: add one, then compare its sizes".to_owned()));
    }
    if shot.camera.is_none() {
        return Err(Error::Bad("the shot has no camera through which sizes could be compared".to_owned()));
    }
    let systems = systems_of(shot, &liquids);
    let (count, mut so_far) = (shot.timing.frames().count() as u32, 0);
    let (mut sizes, mut coarser): (Vec<Size>, Vec<Coverage>) = (Vec::new(), Vec::new());
    for factor in FACTORS {
        let shot = with_spacings(shot, factor);
        let spacing_m = liquids.iter().filter_map(|id| shot.element(*id)?.as_particles()?.liquid.as_ref());
        let spacing_m = spacing_m.map(|liquid| liquid.spacing_m).fold(f32::INFINITY, f32::min);
        let at = |error: String| Error::Bad(format!("at a spacing of {:.1} mm: {error}", 1e3 * spacing_m));
        let sampler = Sampler::new(&shot).map_err(Error::Faults)?;
        let start = Instant::now();
        let mut simulation = Simulation::cancellable(&shot, meshes, &systems, initial_state, cancel.clone())
            .map_err(|error| at(error.to_string()))?;
        let mut bodies = BTreeMap::<u32, Frame>::new();
        let (mut own, mut particles, mut frame) = (Vec::new(), 0, simulation.write());
        loop {
            let present = liquids.iter().filter_map(|id| frame.particles.get(id));
            particles = particles.max(present.map(|of| of.len() as u64).sum());
            let earlier = |number: u32| bodies.get(&number).cloned();
            let mask = Coverage::of_liquids(&shot, &sampler, &frame, &earlier);
            own.push(mask.map_err(|error| at(error.to_string()))?);
            let (number, last) = (frame.number, shot.timing.last);
            bodies.insert(number, Frame { particles: BTreeMap::new(), meshes: BTreeMap::new(), ..frame });
            if bodies.len() > REMEMBERED {
                bodies.pop_first();
            }
            so_far += 1;
            done(so_far, count * FACTORS.len() as u32);
            if number >= last {
                break;
            }
            frame = simulation.advance().map_err(|error| at(error.to_string()))?;
            if simulation.is_cancelled() {
                return Err(Error::Bad("it was stopped".to_owned()));
            }
        }
        let seconds_a_frame = start.elapsed().as_secs_f64() / own.len() as f64;
        sizes.push(Size { factor, spacing_m, particles, seconds_a_frame, pixels: None, delay_frames: None });
        if let [.., before, _] = &mut sizes[..] {
            let of = difference(&coarser, &own, shot.picture.width);
            (before.pixels, before.delay_frames) = (Some(of.pixels), Some(of.delay_frames));
        }
        coarser = own;
    }
    let most_pixels = (MAX_APART * shot.picture.height as f32).max(1.0);
    let most_frames = (MAX_DELAY_S * shot.timing.fps).max(1.0);
    let is_enough = |size: &Size| {
        size.pixels.is_some_and(|pixels| pixels <= most_pixels)
            && size.delay_frames.is_some_and(|delay| delay.abs() <= most_frames)
    };
    let enough = sizes.iter().position(is_enough);
    Ok(Enough { sizes, enough })
}

#[cfg(test)]
mod tests {
    use super::*;
    use shot::particles::{Emission, EmissionDomain, EmissionSchedule, Liquid, Particles, Source, Start};
    use shot::{Camera, Element, ElementKind, Shape};

    /// A cube of honey, without weight, before a camera.
    fn cube(edge_m: f32) -> Shot {
        let mut shot = Shot::empty("Still");
        shot.elements.clear();
        shot.timing.last = 6;
        let camera = Element::new("Camera", ElementKind::Camera(Camera::default())).at(0.0, 0.0, 2.0);
        shot.camera = Some(shot.add(camera));
        let shape = Shape::cuboid(edge_m, edge_m, edge_m);
        let block = Particles {
            liquid: Some(Liquid { spacing_m: 0.02, viscosity_pa_s: 10.0, ..Liquid::default() }),
            source: Source::Shape { shape, domain: EmissionDomain::Surface },
            emission: Emission { schedule: EmissionSchedule::Fill {}, ..Emission::default() },
            start: Start { speed_m_s: 0.0, lifespan_s: None, ..Start::default() },
            ..Particles::default()
        };
        shot.add(Element::new("Honey", ElementKind::Particles(block)));
        shot
    }

    fn compared(shot: &Shot) -> Result<Enough> {
        enough(shot, &Meshes::default(), None, &Cancel::default(), &mut |_, _| ())
    }

    #[test]
    fn what_does_not_move_is_on_time_and_differs_by_a_part_of_a_particle() {
        let Enough { sizes, .. } = compared(&cube(0.4)).unwrap();
        assert!(sizes[2].particles.abs_diff(8_000) < 80, "{sizes:?}");
        for size in &sizes[..2] {
            // The gate is 1280 pixels wide, and its width at the cube that of the sensor times distance over focal length.
            let [pixels, delay] = [size.pixels, size.delay_frames].map(Option::unwrap);
            assert!(pixels < 20.0 && delay == 0.0, "{size:?}");
        }
    }

    #[test]
    fn without_liquid_or_camera_there_is_nothing_to_compare() {
        let (mut dry, mut unseen) = (cube(0.1), cube(0.1));
        dry.elements.retain(|element| element.name != "Honey");
        unseen.elements.retain(|element| element.name != "Camera");
        unseen.camera = None;
        assert!(compared(&dry).unwrap_err().to_string().contains("no liquid"));
        assert!(compared(&unseen).unwrap_err().to_string().contains("no camera"));
    }
}
