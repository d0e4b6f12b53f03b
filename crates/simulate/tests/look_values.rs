//! What looks ask for, at the vertices of frames.

use frames::finish::{FinishContext, SharedFrames, finished};
use frames::{Frame, Frames, Parts, RunError};
use geometry::Meshes;
use glam::Vec3;
use shot::fingerprint::Fingerprint;
use shot::finish::{Finish, FinishOperation, SubdivisionScheme};
use shot::look_layer::{LookLayer, LookWeight};
use shot::map::{LayerSource, Map};
use shot::{Cloth, Element, ElementKind, Id, Moves, Shape, Shot, Side, SurfaceQuantity};
use simulate::Simulation;
use simulate::look_values::{LookValues, asks_for_values};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::Arc;

/// Frames in memory, from the first on.
struct Kept(Vec<Frame>);

impl Frames for Kept {
    fn range(&self) -> RangeInclusive<u32> {
        self.0[0].number..=self.0.last().unwrap().number
    }

    fn fingerprint(&self, number: u32) -> Option<Fingerprint> {
        self.0.iter().find(|frame| frame.number == number).map(|frame| frame.fingerprint)
    }

    fn read(&self, number: u32, _: &Parts, frame: &mut Frame) -> Result<(), RunError> {
        let found = self.0.iter().find(|frame| frame.number == number);
        found.cloned().map(|found| *frame = found).ok_or(RunError::Missing { frame: number })
    }
}

fn layer(by: LookWeight) -> LookLayer {
    LookLayer { by, ..LookLayer::default() }
}

fn pressure() -> LookWeight {
    LookWeight::Quantity { quantity: SurfaceQuantity::Pressure }
}

/// Two sheets of different sizes that lie on the ground, and a still block; all ask for values.
fn shot() -> (Shot, Id, Id) {
    let mut shot = Shot::empty("Values");
    shot.timing.last = 40;
    shot.add(Element::solid("Ground", Shape::plane(9.0, 9.0), Moves::Still));
    let mut sheet = Element::solid("Sheets", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, 0.006, 0.0);
    let solid = sheet.as_solid_mut().unwrap();
    solid.cloth = Some(Cloth { edge_m: 0.1, mass_kg_m2: 0.5, ..Cloth::default() });
    let copy = |x: f32, size: f32| shot::PlacedCopy {
        position_m: Vec3::new(x, 0.0, 0.0),
        orientation_rad: Vec3::ZERO,
        size,
    };
    solid.placed = vec![copy(-1.5, 1.0), copy(1.5, 1.6)];
    solid.maps = vec![Map::of("side", LayerSource::Side { side: Side::Right })];
    let by = [
        pressure(),
        LookWeight::Map { map: "side".to_owned() },
        LookWeight::Noise { size_m: 0.3, seed: 2 },
        LookWeight::ViewingAngle {},
    ];
    solid.look.layers = by.map(layer).to_vec();
    let mut block = Element::solid("Block", Shape::cuboid(0.4, 0.4, 0.4), Moves::Still).at(0.0, 0.2, 3.0);
    block.as_solid_mut().unwrap().look.layers = vec![layer(LookWeight::Crevices { radius_m: 0.05 })];
    let (sheets, block) = (shot.add(sheet), shot.add(block));
    (shot, sheets, block)
}

fn baked(shot: &Shot) -> SharedFrames {
    let mut simulation = Simulation::new(shot, &Meshes::default()).unwrap();
    let mut frames = vec![simulation.write()];
    while frames.last().unwrap().number < shot.timing.last {
        frames.push(simulation.advance().unwrap());
    }
    Arc::new(Kept(frames))
}

#[test]
fn lying_sheets_press_with_their_weight_whatever_their_size() {
    let (shot, sheets, block) = shot();
    assert!(asks_for_values(&shot));
    let frames = LookValues::new(baked(&shot), &shot, Meshes::default()).unwrap();
    let frame = frames.frame(40).unwrap();
    let mesh = &frame.meshes[&sheets];
    let n = mesh.positions.len() / 2;
    let values = |by: &LookWeight| mesh.scalars(&by.attribute().unwrap()).unwrap();
    // m g of a square metre.
    let expected = 0.5 * 9.81;
    for copy in values(&pressure()).chunks(n) {
        let mean = copy.iter().sum::<f32>() / n as f32;
        assert!((mean / expected - 1.0).abs() < 0.1, "{mean} of {expected} Pa");
    }
    let side = values(&LookWeight::Map { map: "side".to_owned() });
    assert_eq!(side[..n], side[n..]);
    assert!(side.iter().any(|w| *w < 0.05) && side.iter().any(|w| *w > 0.95));
    let noise = values(&LookWeight::Noise { size_m: 0.3, seed: 2 });
    assert!(noise.iter().all(|w| (0.0..=1.0).contains(w)) && noise.iter().any(|w| *w != noise[0]));
    // A rigid solid gets its mesh, as it asks for values; the ground does not.
    let of_block = frame.meshes[&block].scalars("crevices 0.05").unwrap();
    assert!(of_block.iter().all(|w| *w == 0.0), "a block has no hollows");
    assert!(!frame.meshes.contains_key(&shot.named("Ground").unwrap().id));
}

#[test]
fn a_subdivided_mesh_has_the_values_of_the_coarse_one() {
    let (mut shot, sheets, _) = shot();
    let subdivide = FinishOperation::Subdivide {
        scheme: SubdivisionScheme::Loop,
        levels: 1,
        crease_angle_rad: None,
        crease_group: None,
        crease_map: None,
    };
    let finish = Finish { element: Some(sheets), ..Finish::new(subdivide) };
    shot.add(Element::new("Finer", ElementKind::Finish(finish)));
    let frames = Arc::new(LookValues::new(baked(&shot), &shot, Meshes::default()).unwrap());
    let context = Arc::new(FinishContext::new(&shot, BTreeMap::new()).unwrap());
    let (fine, _) = finished(frames.clone(), &context);
    let (coarse, fine) = (frames.frame(40).unwrap(), fine.frame(40).unwrap());
    let (coarse, fine) = (&coarse.meshes[&sheets], &fine.meshes[&sheets]);
    assert!(fine.positions.len() > 3 * coarse.positions.len());
    let mean = |values: &[f32]| values.iter().sum::<f32>() / values.len() as f32;
    let (before, after) =
        (mean(coarse.scalars("pressure").unwrap()), mean(fine.scalars("pressure").unwrap()));
    assert!((after / before - 1.0).abs() < 0.1, "{after} for {before}");
}
