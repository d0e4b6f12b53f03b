//! Maps: a weight of 0–1 at each vertex of a mesh, made of layers.
//!
//! A map is stored as what makes it, not as its weights: it holds for any resolution of its mesh, and one whose mesh has
//! changed is carried over by nearest point.

use crate::parameters::{MAX_SEED, MAX_SIZE_M, MIN_SIZE_M, Parameters};
use crate::{Id, Side, region::Combine};
use glam::Vec3;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A weight at each vertex of a solid's mesh, 0–1.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct Map {
    /// Unique within the solid.
    pub name: String,
    /// One over the other; the first lies over 0.
    #[parameter(nested)]
    pub layers: Vec<MapLayer>,
    /// Standard deviation of the blur along the surface, m.
    #[serde(default)]
    #[parameter(
        label = "Blur",
        unit = "mm",
        scale = 1_000.0,
        fixed,
        range(0.0, MAX_SIZE_M),
        slide(0.0, 500.0),
        step = 5.0
    )]
    pub blur_m: f32,
}

/// A layer of a map.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct MapLayer {
    /// Where its weights come from.
    #[parameter(nested)]
    pub source: LayerSource,
    /// How they go with those of the layers before.
    #[serde(default = "add")]
    pub operation: Combine,
    /// How much of that is done: 0 leaves the layers before as they are.
    #[serde(default = "whole")]
    #[parameter(label = "Amount", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
    pub amount: f32,
    /// Its weights are 1 less what the source gives.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub inverted: bool,
}

fn add() -> Combine {
    Combine::Add
}

fn whole() -> f32 {
    1.0
}

/// Where the weights of a layer come from. All are taken of the mesh at rest, where the element stands.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum LayerSource {
    /// Painted by hand.
    Painted {
        /// One after the other.
        strokes: Vec<Stroke>,
    },
    /// 1 everywhere.
    Whole {},
    /// The weight of a region.
    Region {
        /// The region.
        region: Id,
    },
    /// Near a curve.
    Curve {
        /// The curve.
        curve: Id,
        /// Distance up to which the weight is 1, m.
        #[parameter(
            label = "Width",
            unit = "mm",
            scale = 1_000.0,
            range(0.0, MAX_SIZE_M),
            slide(0.0, 200.0),
            step = 5.0
        )]
        width_m: f32,
        /// Distance beyond that over which the weight falls to 0, m.
        #[parameter(
            label = "Soft edge",
            unit = "mm",
            scale = 1_000.0,
            range(0.0, MAX_SIZE_M),
            slide(0.0, 200.0),
            step = 5.0
        )]
        edge_m: f32,
        /// How much of the curve counts, 0–1: it grows from each start to the next.
        #[parameter(label = "Grown", range(0.0, 1.0), slide(0.0, 1.0), step = 0.01)]
        grown: f32,
        /// From how many places of each stroke it grows.
        #[parameter(label = "Starts", fixed, range(1.0, 1_000.0), step = 1.0)]
        starts: u32,
    },
    /// Inside the closed strokes of a curve, seen across their plane.
    Inside {
        /// The curve.
        curve: Id,
        /// Distance inward from the curve over which the weight rises from 0, m.
        #[parameter(
            label = "Soft edge",
            unit = "mm",
            scale = 1_000.0,
            range(0.0, MAX_SIZE_M),
            slide(0.0, 200.0),
            step = 5.0
        )]
        edge_m: f32,
    },
    /// Near the borders of an open mesh.
    Border {
        /// Distance along which the weight falls from 1 to 0, m.
        #[parameter(
            label = "Width",
            unit = "mm",
            scale = 1_000.0,
            range(MIN_SIZE_M, MAX_SIZE_M),
            slide(1.0, 500.0),
            step = 5.0
        )]
        width_m: f32,
    },
    /// Rises evenly from 0 at the opposite side to 1.
    Side {
        /// The side at which the weight is 1.
        side: Side,
    },
    /// Where the mesh is curved: the mean curvature times a radius.
    Curvature {
        /// Radius of curvature at which the weight is 1, m.
        #[parameter(
            label = "Radius",
            unit = "mm",
            scale = 1_000.0,
            range(MIN_SIZE_M, MAX_SIZE_M),
            slide(1.0, 500.0),
            step = 5.0
        )]
        radius_m: f32,
    },
    /// Smooth noise.
    Noise {
        /// Distance over which it changes, m.
        #[parameter(label = "Blob size", range(0.001, MAX_SIZE_M), slide(0.01, 2.0), step = 0.05)]
        size_m: f32,
        /// Chooses the noise.
        #[serde(default)]
        #[parameter(label = "Seed", range(0.0, MAX_SEED), step = 1.0)]
        seed: u32,
    },
    /// The brightness of an image laid on the UVs.
    Image {
        /// Name of an image among the shot's assets.
        asset: String,
    },
    /// The brightness of the colours that the mesh's vertices came with.
    Vertices {},
    /// 1 on the faces of a group that the mesh came with.
    Group {
        /// Its name in the file.
        group: String,
    },
}

impl LayerSource {
    /// The strokes that it is painted by.
    pub fn strokes(&self) -> Option<&[Stroke]> {
        if let Self::Painted { strokes } = self { Some(strokes) } else { None }
    }

    /// The strokes that it is painted by.
    pub fn strokes_mut(&mut self) -> Option<&mut [Stroke]> {
        if let Self::Painted { strokes } = self { Some(strokes) } else { None }
    }
}

/// A stroke of the brush.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Stroke {
    /// What the brush does.
    pub effect: StrokeEffect,
    /// Its way over the mesh at rest, in the element's frame, m.
    #[schemars(with = "Vec<[f32; 3]>")]
    pub points_m: Vec<Vec3>,
    /// Radius of the brush, m.
    pub radius_m: f32,
    /// How much it does in its middle, 0–1.
    pub strength: f32,
    /// Part of the radius over which it fades, 0–1.
    pub softness: f32,
    /// Direction in which it goes through to what is hidden, no unit; none: it stays on the surface that it runs over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<[f32; 3]>")]
    pub through: Option<Vec3>,
    /// Number of the axis of the element across which the same is done: 0 is x, 1 is y, 2 is z.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mirrored: Option<u32>,
}

/// What a brush does to the weights below it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum StrokeEffect {
    /// Adds.
    Add,
    /// Takes away.
    Subtract,
    /// Evens out.
    Smooth,
}

impl Stroke {
    /// The part of its strength at a distance from its way.
    pub fn falloff(&self, distance_m: f32) -> f32 {
        let inward = 1.0 - distance_m / self.radius_m;
        if inward <= 0.0 {
            0.0
        } else if inward >= self.softness {
            1.0
        } else {
            let s = inward / self.softness;
            s * s * (3.0 - 2.0 * s)
        }
    }
}

impl Map {
    /// A map of one layer.
    pub fn of(name: &str, source: LayerSource) -> Self {
        let layer = MapLayer { source, operation: add(), amount: 1.0, inverted: false };
        Self { name: name.to_owned(), layers: vec![layer], blur_m: 0.0 }
    }

    /// The names of the images that it is made of.
    pub fn images(&self) -> impl Iterator<Item = &String> {
        self.layers.iter().filter_map(|layer| match &layer.source {
            LayerSource::Image { asset } => Some(asset),
            _ => None,
        })
    }
}

/// A factor by a map.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
pub struct ScaledByMap {
    /// Quantity that is scaled.
    pub quantity: ScaledQuantity,
    /// Name of a map of the solid.
    pub map: String,
    /// Factor where the map is 0.
    #[parameter(
        label = "Where 0",
        words = "factor where the map is 0",
        range(0.0, 1_000.0),
        slide(0.0, 2.0),
        step = 0.05
    )]
    pub at_0: f32,
    /// Factor where the map is 1.
    #[parameter(
        label = "Where 1",
        words = "factor where the map is 1",
        range(0.0, 1_000.0),
        slide(0.0, 2.0),
        step = 0.05
    )]
    pub at_1: f32,
}

/// A quantity of a cloth or a soft body that a map scales.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum ScaledQuantity {
    /// All stiffness against stretch, shear and strain.
    Stiffness,
    /// Stiffness of a sheet along the warp.
    Warp,
    /// Stiffness of a sheet along the weft.
    Weft,
    /// Stiffness of a sheet against shear.
    Shear,
    /// Stiffness of a sheet against bending.
    Bending,
    /// Lengths at rest: below 1 it shrinks, above 1 it grows.
    RestLength,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Element, Moves, Shape, Shot};

    fn with_map(map: Map) -> Shot {
        let mut shot = Shot::empty("Maps");
        let mut element = Element::solid("Sail", Shape::plane(1.0, 1.0), Moves::Free);
        element.as_solid_mut().unwrap().maps.push(map);
        shot.add(element);
        shot
    }

    fn stroke() -> Stroke {
        Stroke {
            effect: StrokeEffect::Add,
            points_m: vec![Vec3::ZERO],
            radius_m: 0.2,
            strength: 1.0,
            softness: 0.5,
            through: None,
            mirrored: None,
        }
    }

    #[test]
    fn a_stroke_fades_over_the_soft_part_of_its_radius() {
        let stroke = stroke();
        assert_eq!((stroke.falloff(0.0), stroke.falloff(0.1), stroke.falloff(0.2)), (1.0, 1.0, 0.0));
        assert!((stroke.falloff(0.15) - 0.5).abs() < 1e-6);
        assert_eq!(Stroke { softness: 0.0, ..stroke }.falloff(0.199), 1.0);
    }

    #[test]
    fn a_map_is_read_as_it_was_written() {
        let mut map = Map::of("stitched", LayerSource::Painted { strokes: vec![stroke()] });
        map.layers.push(MapLayer { amount: 0.3, ..Map::of("", LayerSource::Whole {}).layers.remove(0) });
        let shot = with_map(map);
        assert_eq!(shot.faults(), []);
        assert_eq!(crate::read(crate::write(&shot).as_bytes()).unwrap(), shot);
    }

    #[test]
    fn faults_of_maps_name_their_place() {
        let say = |shot: Shot| {
            let fault = shot.faults().remove(0);
            format!("{}: {}", fault.path, fault.message)
        };
        let curve = LayerSource::Curve { curve: Id(9), width_m: 0.1, edge_m: 0.0, grown: 1.0, starts: 1 };
        assert!(
            say(with_map(Map::of("a", curve)))
                .contains("maps[0].layers[0].source.curve.curve: 9 is not the id")
        );
        let wide = LayerSource::Painted { strokes: vec![Stroke { strength: 2.0, ..stroke() }] };
        assert!(say(with_map(Map::of("a", wide))).contains("strokes[0].strength: 2 is outside 0 to 1"));
        let long =
            LayerSource::Painted { strokes: vec![Stroke { points_m: vec![Vec3::ZERO; 1_001], ..stroke() }] };
        assert!(
            say(with_map(Map::of("a", long))).contains("strokes[0].points_m: 1001 points; from 1 to 1000")
        );
        let mut twice = with_map(Map::of("a", LayerSource::Whole {}));
        twice
            .elements
            .last_mut()
            .unwrap()
            .as_solid_mut()
            .unwrap()
            .maps
            .push(Map::of("a", LayerSource::Whole {}));
        assert!(say(twice).contains("maps[1].name: \"a\" is also the name of maps[0]"));
        let mut unknown = with_map(Map::of("a", LayerSource::Whole {}));
        let cloth = crate::Cloth {
            pins: vec![crate::Pin::hard(crate::PinnedPart::Map("b".to_owned()))],
            ..crate::Cloth::default()
        };
        unknown.elements.last_mut().unwrap().as_solid_mut().unwrap().cloth = Some(cloth);
        assert!(say(unknown).contains("cloth.pins[0].part.map: the solid has no map \"b\""));
    }
}
