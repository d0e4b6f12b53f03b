//! Copies of a solid packed into another.

use geometry::packing::{Random, pack};
use geometry::{Meshes, MissingMesh};
use glam::{EulerRot, Quat, Vec3};
use serde::{Deserialize, Serialize};
use shot::motion::Sampler;
use shot::world::{Pose, World};
use shot::{Element, Id, MAX_PLACED, PlacedCopy, Shot};
use thiserror::Error;

/// What is packed into what.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Packing {
    /// The solid whose copies are packed.
    pub element: Id,
    /// The solid that they lie in; its mesh is closed.
    pub into: Id,
    /// Number of copies.
    pub count: u32,
    /// Greatest difference of their sizes from 1, as a fraction, 0 to 0.9.
    #[serde(default)]
    pub size_variation: f32,
    /// Distance that they keep from each other and from the walls, m.
    #[serde(default)]
    pub gap_m: f32,
    /// Chooses sizes, turns and places.
    #[serde(default)]
    pub seed: u32,
}

/// Why copies cannot be packed, with what to do.
#[derive(Clone, Debug, PartialEq, Error)]
#[error("{path}: {message}")]
pub struct PackingError {
    /// The field of the [`Packing`].
    pub path: &'static str,
    /// The fault.
    pub message: String,
}

/// Where copies stand that are packed into another solid, as both are at the first frame: each within the solid and none in
/// another, with the spheres around them.
///
/// # Errors
/// [`PackingError`].
pub fn packed(shot: &Shot, meshes: &Meshes, packing: &Packing) -> Result<Vec<PlacedCopy>, PackingError> {
    let fault = |path: &'static str, message: String| PackingError { path, message };
    let Packing { element, into, count, size_variation, gap_m, seed } = *packing;
    if !(1..=MAX_PLACED as u32).contains(&count) {
        return Err(fault("count", format!("{count} is outside 1 to {MAX_PLACED}")));
    }
    if !(0.0..=0.9).contains(&size_variation) {
        return Err(fault("size_variation", format!("{size_variation} is outside 0 to 0.9")));
    }
    if !(0.0..=100.0).contains(&gap_m) {
        return Err(fault("gap_m", format!("{gap_m} is outside 0 to 100")));
    }
    if element == into {
        return Err(fault("into", "a solid cannot be packed into itself".to_owned()));
    }
    let sampler = Sampler::new(shot)
        .map_err(|faults| fault("element", faults.first().map_or_else(String::new, ToString::to_string)))?;
    let first = f64::from(shot.timing.first);
    let now = sampler.at(first).map_err(|error| fault("element", error.to_string()))?;
    let unsolved = |_: Id, _: f64| -> Option<Pose> { None };
    let world = World::new(&now, &sampler, first, &unsolved);
    let of = |path: &'static str, id: Id| {
        let solid = now.element(id).and_then(|element| Some((element, element.as_solid()?)));
        let (element, solid) = solid.ok_or_else(|| fault(path, format!("element {} is no solid", id.0)))?;
        let gone = |error: MissingMesh| fault(path, error.to_string());
        Ok::<(&Element, geometry::Mesh), PackingError>((element, meshes.mesh(&solid.shape).map_err(gone)?))
    };
    let ((packed, mesh), (container, outer)) = (of("element", element)?, of("into", into)?);
    // The container in the frame of what is packed.
    let ((from, turned), (at, orientation)) = (world.pose(packed), world.pose(container));
    let back = turned.inverse();
    let mut moved = outer;
    moved.positions.iter_mut().for_each(|p| *p = back * (at + orientation * *p - from));

    let bounds = mesh.bounds();
    let centre = 0.5 * (bounds.min + bounds.max);
    let radius = mesh.positions.iter().map(|p| p.distance(centre)).fold(0.0, f32::max);
    let mut random = Random(seed);
    let sizes: Vec<f32> =
        (0..count).map(|_| 1.0 + size_variation * (2.0 * random.fraction() - 1.0)).collect();
    let turns: Vec<Quat> = (0..count).map(|_| random.orientation()).collect();
    let radii: Vec<f32> = sizes.iter().map(|size| radius * size + 0.5 * gap_m).collect();
    let centres = pack(&moved, &radii, seed ^ 0x5bd1_e995).map_err(|error| {
        fault("count", format!("{count} of {} in {}: {error}", packed.name, container.name))
    })?;
    let copy = |((middle, size), turn): ((Vec3, f32), Quat)| {
        let (z, y, x) = turn.to_euler(EulerRot::ZYX);
        PlacedCopy { position_m: middle - turn * (centre * size), orientation_rad: Vec3::new(x, y, z), size }
    };
    Ok(centres.into_iter().zip(sizes).zip(turns).map(copy).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::Surface;
    use shot::{Moves, Shape};

    /// Boxes beside a turned capsule.
    fn shot() -> (Shot, Packing) {
        let mut shot = Shot::empty("Packing");
        let boxes = Element::solid("Boxes", Shape::cuboid(0.1, 0.1, 0.1), Moves::Free).at(3.0, 1.0, 0.0);
        let mut bag = Element::solid("Bag", Shape::Capsule { radius_m: 0.5, length_m: 0.8 }, Moves::Still)
            .at(-1.0, 2.0, 0.5);
        bag.placement.orientation_rad = Vec3::new(0.3, 0.0, 1.0);
        let (element, into) = (shot.add(boxes), shot.add(bag));
        let packing = Packing { element, into, count: 50, size_variation: 0.3, gap_m: 0.004, seed: 5 };
        (shot, packing)
    }

    #[test]
    fn packed_copies_lie_within_and_apart() {
        let (mut shot, packing) = shot();
        let placed = packed(&shot, &Meshes::default(), &packing).unwrap();
        assert_eq!(placed, packed(&shot, &Meshes::default(), &packing).unwrap());
        let solid = shot.named_mut("Boxes").unwrap().as_solid_mut().unwrap();
        solid.placed = placed.clone();
        assert_eq!(shot.faults(), []);
        let bag = shot.element(packing.into).unwrap();
        let (at, orientation) = bag.placement.pose();
        let surface = Surface::new(&Meshes::default().mesh(&bag.as_solid().unwrap().shape).unwrap());
        let boxes = shot.element(packing.element).unwrap();
        let radius = 0.05 * 3.0f32.sqrt();
        let poses = boxes.spread(boxes.placement.pose());
        for (i, (p, _)) in poses.iter().enumerate() {
            let local = orientation.inverse() * (*p - at);
            assert!(surface.signed_distance(local) < -radius * boxes.size_of(i));
            for (k, (q, _)) in poses.iter().enumerate().skip(i + 1) {
                assert!(p.distance(*q) > radius * (boxes.size_of(i) + boxes.size_of(k)));
            }
        }
        let sizes: Vec<f32> = placed.iter().map(|copy| copy.size).collect();
        assert!(sizes.iter().all(|size| (0.7..=1.3).contains(size)));
        assert!(sizes.iter().any(|size| *size < 0.8) && sizes.iter().any(|size| *size > 1.2));
    }

    #[test]
    fn what_does_not_fit_is_told_with_names() {
        let (shot, packing) = shot();
        let told = |packing: Packing| packed(&shot, &Meshes::default(), &packing).unwrap_err().to_string();
        let many = told(Packing { count: 900, ..packing.clone() });
        assert!(many.starts_with("count: 900 of Boxes in Bag: they would fill"), "{many}");
        assert!(told(Packing { count: 0, ..packing.clone() }).starts_with("count: 0 is outside"));
        assert!(told(Packing { into: packing.element, ..packing.clone() }).contains("into itself"));
        assert!(told(Packing { into: Id(99), ..packing }).contains("element 99 is no solid"));
    }
}
