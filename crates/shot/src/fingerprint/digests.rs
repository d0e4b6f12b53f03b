//! Hashes of what elements are at a moment.

use crate::{
    Body, Copies, Element, ElementKind, Id, PlacedCopy, Shape, Shot, Solid,
    force::{ElementFilter, Force},
    motion::Sampler,
    particles::{EmissionMap, EmissionSchedule, MapSource, Source, ToParticles},
    region::Volume,
    world::World,
};
use glam::Vec3;
use serde::Serialize;
use sha2::{Digest, Sha256};

/// Changes when liquids are computed in another way, so that frames computed before are stale.
const LIQUIDS: &[u8] = b"liquids 4";

pub(super) fn unsolved(_: Id, _: f64) -> Option<crate::world::Pose> {
    None
}

pub(super) fn add_pose(hash: &mut Sha256, (position, orientation): crate::world::Pose) {
    for value in position.to_array().into_iter().chain(orientation.to_array()) {
        hash.update(value.to_le_bytes());
    }
}

/// The frame that a solid shows of the file that animates it, and how that is shown.
pub(super) fn played(element: &Element, sampler: &Sampler, acting: f64) -> Option<impl Serialize> {
    let (_, animation) = element.file_animation()?;
    let frame = sampler.file_frame(element, acting)?;
    Some((frame, animation.before, animation.after, animation.between))
}

pub(super) fn add_played(hash: &mut Sha256, element: &Element, sampler: &Sampler, acting: f64) {
    if let Some(played) = played(element, sampler, acting) {
        hash.update(serde_json::to_vec(&played).expect("it serialises"));
    }
}

/// What of a solid acts in every step.
pub(super) type Changing = (Body, Shape, Option<Copies>, Vec<PlacedCopy>, Option<ToParticles>);

pub(super) fn changing(solid: &Solid) -> Changing {
    let mut body = Body { launch_velocity: None, launch_angular_velocity: None, ..solid.body.clone() };
    // The frame of a let-go counts where it comes.
    if body.let_go_frame().is_some() {
        body.wake = None;
    }
    (body, solid.shape.clone(), solid.copies.clone(), solid.placed.clone(), solid.to_particles.clone())
}

/// The hash of the parts of a force as they are; of a solid, its shape and
/// where it is.
pub(super) fn parts_digest(shot: &Shot, sampler: &Sampler, frame: f64, parts: &[usize]) -> [u8; 32] {
    let mut hash = Sha256::new();
    let world = World::new(shot, sampler, frame, &unsolved);
    for &i in parts {
        let element = &shot.elements[i];
        hash.update(element.id.0.to_le_bytes());
        add_pose(&mut hash, world.pose(element));
        // In a shot that goes round, patterns and births depend on the whole round.
        if let Some(period) = sampler.round_s() {
            let axis = world.pose(element).1 * Vec3::NEG_Y;
            for number in sampler.elapsed(element, axis, period).numbers() {
                hash.update(number.to_le_bytes());
            }
        }
        let json = match &element.kind {
            ElementKind::Solid(solid) => {
                add_played(&mut hash, element, sampler, frame);
                if element.deforms() || element.as_swaying().is_some() {
                    if let Shape::Mesh { asset, .. } = &solid.shape
                        && let Some(asset) = shot.assets.get(asset)
                    {
                        hash.update(&asset.sha256);
                    }
                    let made_of = (element.as_cloth(), element.as_soft());
                    let maps: Vec<_> = element.acting_maps().collect();
                    for asset in
                        maps.iter().flat_map(|map| map.images()).filter_map(|name| shot.assets.get(name))
                    {
                        hash.update(&asset.sha256);
                    }
                    let of = (made_of, solid.body.friction, solid.body.launch_velocity, &solid.copies, maps);
                    hash.update(serde_json::to_vec(&of).expect("it serialises"));
                    // The warp of a cloth runs along U.
                    if !solid.uvs.is_own() {
                        hash.update(serde_json::to_vec(&solid.uvs).expect("it serialises"));
                    }
                    if let Some(sway) = element.as_swaying() {
                        hash.update(serde_json::to_vec(sway).expect("it serialises"));
                    }
                    if !solid.placed.is_empty() {
                        hash.update(serde_json::to_vec(&solid.placed).expect("it serialises"));
                    }
                }
                serde_json::to_vec(&solid.shape)
            }
            ElementKind::Force(force) => {
                // Whether it acts at all is told frame by frame, and on which elements by system.
                let on = Force {
                    from_frame: None,
                    to_frame: None,
                    enabled: true,
                    only: Vec::new(),
                    except: Vec::new(),
                    ..force.clone()
                };
                serde_json::to_vec(&on)
            }
            ElementKind::Region(region) => {
                if let Volume::Gate { camera, .. } = region.volume
                    && let Some(ElementKind::Camera(camera)) = shot.element(camera).map(|of| &of.kind)
                {
                    let gate = (camera.focal_length_mm, camera.sensor_mm, shot.picture.aspect());
                    hash.update(serde_json::to_vec(&gate).expect("it serialises"));
                }
                serde_json::to_vec(&element.kind)
            }
            ElementKind::Curve(_) => serde_json::to_vec(&element.kind),
            ElementKind::Particles(particles) => {
                hash.update(meant(shot, particles.filters()));
                if particles.liquid.is_some() {
                    hash.update(LIQUIDS);
                }
                if matches!(particles.emission.schedule, EmissionSchedule::Total { .. })
                    && particles.emission.to_frame.is_none()
                {
                    // They are spread over the whole shot.
                    hash.update(shot.timing.last.to_le_bytes());
                }
                if let Source::Shape { shape: Shape::Mesh { asset, .. }, .. } = &particles.source
                    && let Some(asset) = shot.assets.get(asset)
                {
                    hash.update(&asset.sha256);
                }
                if let Some(EmissionMap { source: MapSource::Image { asset }, .. }) = &particles.emission.map
                    && let Some(asset) = shot.assets.get(asset)
                {
                    hash.update(&asset.sha256);
                }
                if let (Some(EmissionMap { source: MapSource::Map { map }, .. }), Source::Solid { solid, .. }) =
                    (&particles.emission.map, &particles.source)
                    && let Some(solid) = shot.element(*solid).and_then(Element::as_solid)
                    && let Some(map) = solid.maps.iter().find(|of| of.name == *map)
                {
                    for asset in map.images().filter_map(|name| shot.assets.get(name)) {
                        hash.update(&asset.sha256);
                    }
                    hash.update(serde_json::to_vec(&(map, &solid.uvs)).expect("it serialises"));
                }
                serde_json::to_vec(&particles.unseen())
            }
            ElementKind::Camera(_)
            | ElementKind::Sun(_)
            | ElementKind::Sky(_)
            | ElementKind::AreaLight(_)
            | ElementKind::Finish(_) => Ok(Vec::new()),
        };
        hash.update(json.expect("an element serialises"));
    }
    hash.finalize().into()
}

/// The elements that lists of them mean, for groups and kinds change without the lists.
fn meant<'a>(shot: &Shot, lists: impl IntoIterator<Item = &'a Vec<ElementFilter>>) -> Vec<u8> {
    let of = |list: &Vec<ElementFilter>| -> Vec<Id> {
        let named = shot.elements.iter().filter(|element| list.iter().any(|who| who.means(element)));
        named.map(|element| element.id).collect()
    };
    let lists: Vec<Vec<Id>> = lists.into_iter().filter(|list| !list.is_empty()).map(of).collect();
    if lists.is_empty() { Vec::new() } else { serde_json::to_vec(&lists).expect("it serialises") }
}
