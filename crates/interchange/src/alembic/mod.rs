//! Alembic in: polygon meshes, subdivision cages and points with their samples,
//! below moving transforms, from files of the Ogawa kind.

mod archive;
mod ogawa;

use crate::ImportError;
use crate::model::Model;
use crate::samples::ImportedSequence;
use crate::scene::{self, Domain, DomainValues, PlacedPolygons, Polygons, Room, SceneFile};
use archive::{Archive, Object, Property, PropertyKind};
use glam::{DMat4, DVec3, Vec2, Vec3};
use std::collections::BTreeSet;
use std::sync::Arc;

/// Most objects of an archive, and how deep they may be nested.
const MAX_OBJECTS: usize = 100_000;
const MAX_DEPTH: usize = 200;
/// Most samples of all objects.
const MAX_TIMES: usize = 4_000_000;
/// Rates between which the one of a file lies, frames a second.
const RATES: [f64; 2] = [1.0, 240.0];

/// Reads the meshes of an archive as they are first.
///
/// # Errors
/// [`ImportError`] names the object.
pub(crate) fn read(name: &str, bytes: &[u8]) -> Result<Model, ImportError> {
    let mut scene = AlembicScene::open(bytes).map_err(|message| ImportError::file(name, message))?;
    scene::read_model(name, &mut scene)
}

/// Reads the meshes of an archive at all times that it has samples of.
///
/// # Errors
/// As [`read`].
pub(crate) fn read_animation(name: &str, bytes: &[u8]) -> Result<ImportedSequence, ImportError> {
    let mut scene = AlembicScene::open(bytes).map_err(|message| ImportError::file(name, message))?;
    scene::read_sequence(name, &mut scene)
}

/// Whether anything in an archive moves.
pub(crate) fn is_animated(bytes: &[u8]) -> bool {
    AlembicScene::open(bytes).is_ok_and(|scene| scene.moments.len() > 1)
}

/// What an object is.
enum Kind {
    /// A transform.
    Transform(Box<TransformProperties>),
    /// A mesh, with its groups of faces.
    Mesh { groups: Vec<(String, Property)> },
    /// Points.
    Points,
    /// Neither.
    Group,
}

/// The properties of a transform.
struct TransformProperties {
    operations: Property,
    values: Property,
    inherits: Option<Property>,
}

struct Node {
    name: String,
    kind: Kind,
    parent: Option<usize>,
    /// Properties of its geometry.
    geometry: Vec<Property>,
    visible: Option<Property>,
}

impl Node {
    fn property(&self, name: &str) -> Option<&Property> {
        self.geometry.iter().find(|property| property.name == name)
    }
}

/// An archive, as a scene.
struct AlembicScene<'a> {
    archive: Archive<'a>,
    nodes: Vec<Node>,
    moments: Vec<f64>,
    rate: f64,
    left_out: BTreeSet<String>,
}

/// Properties of meshes and of points whose times count.
const TIMED: [&str; 5] = ["P", ".faceCounts", ".faceIndices", "uv", ".widths"];

impl<'a> AlembicScene<'a> {
    fn open(bytes: &'a [u8]) -> Result<Self, String> {
        let archive = Archive::open(bytes)?;
        let (nodes, moments) = (Vec::new(), Vec::new());
        let mut scene = Self { archive, nodes, moments, rate: 24.0, left_out: BTreeSet::new() };
        scene.visit()?;
        let seconds = scene.all_times()?;
        let gaps = seconds.windows(2).map(|pair| pair[1] - pair[0]);
        let least = gaps.filter(|gap| *gap > 1e-6).fold(f64::INFINITY, f64::min);
        if least.is_finite() {
            // As whole a number as it is: 25 and 23.976 are both kept.
            let rate = (1.0 / least).clamp(RATES[0], RATES[1]);
            scene.rate = if (rate - rate.round()).abs() < 1e-3 { rate.round() } else { rate };
        }
        // Moments in frames: those that are whole but for rounding are whole.
        let frame = |s: f64| {
            let frame = s * scene.rate;
            if (frame - frame.round()).abs() < 1e-4 { frame.round() } else { frame }
        };
        scene.moments = seconds.into_iter().map(frame).collect();
        scene.moments.dedup();
        if scene.moments.is_empty() {
            scene.moments.push(0.0);
        }
        scene::check_moments(scene.moments.len(), scene.nodes.len())?;
        Ok(scene)
    }

    fn visit(&mut self) -> Result<(), String> {
        let mut stack: Vec<(Object, Option<usize>, usize)> = vec![(self.archive.top(), None, 0)];
        while let Some((object, parent, depth)) = stack.pop() {
            if self.nodes.len() + stack.len() > MAX_OBJECTS {
                return Err(format!("has more than {MAX_OBJECTS} objects"));
            }
            if depth > MAX_DEPTH {
                return Err(format!("has objects nested deeper than {MAX_DEPTH}, or in a circle"));
            }
            let within = |message: String| format!("{}: {message}", object.name);
            let (properties, children) = self.archive.open_object(&object).map_err(within)?;
            let find = |name: &str| properties.iter().find(|property| property.name == name);
            let mut geometry = Vec::new();
            let kind = match object.schema() {
                "AbcGeom_Xform" => {
                    let of = find(".xform").map(|of| self.archive.within(of)).transpose().map_err(within)?;
                    let of = of.unwrap_or_default();
                    let named = |name: &str| of.iter().find(|property| property.name == name).cloned();
                    match (named(".ops"), named(".vals")) {
                        (Some(operations), Some(values)) => {
                            let inherits = named(".inherits");
                            Kind::Transform(Box::new(TransformProperties { operations, values, inherits }))
                        }
                        _ => Kind::Group,
                    }
                }
                schema @ ("AbcGeom_PolyMesh" | "AbcGeom_SubD" | "AbcGeom_Points") => {
                    let of = find(".geom").ok_or_else(|| within("has no geometry".to_owned()))?;
                    geometry = self.archive.within(of).map_err(within)?;
                    match schema {
                        "AbcGeom_Points" => Kind::Points,
                        _ => Kind::Mesh { groups: self.face_sets(&children).map_err(within)? },
                    }
                }
                "" | "AbcGeom_FaceSet" | "AbcGeom_Camera" | "AbcGeom_Light" | "AbcMaterial_Material" => {
                    Kind::Group
                }
                other => {
                    self.left_out.insert(other.trim_start_matches("AbcGeom_").chars().take(40).collect());
                    Kind::Group
                }
            };
            let index = self.nodes.len();
            let visible = find("visible").cloned();
            self.nodes.push(Node { name: object.name, kind, parent, geometry, visible });
            stack.extend(children.into_iter().rev().map(|child| (child, Some(index), depth + 1)));
        }
        Ok(())
    }

    /// The groups of faces among the children of a mesh.
    fn face_sets(&self, children: &[Object]) -> Result<Vec<(String, Property)>, String> {
        let mut groups = Vec::new();
        for child in children.iter().filter(|child| child.schema() == "AbcGeom_FaceSet") {
            let (properties, _) = self.archive.open_object(child)?;
            let Some(of) = properties.iter().find(|property| property.name == ".faceset") else { continue };
            let faces = self.archive.within(of)?.into_iter().find(|property| property.name == ".faces");
            groups.extend(faces.map(|faces| (child.name.chars().take(80).collect(), faces)));
        }
        Ok(groups)
    }

    /// The times of all samples, s.
    fn all_times(&self) -> Result<Vec<f64>, String> {
        let mut times: Vec<f64> = Vec::new();
        for node in &self.nodes {
            if times.len() > MAX_TIMES {
                return Err(format!("has more than {MAX_TIMES} samples"));
            }
            let mut add = |property: &Property| -> Result<(), String> {
                let of = if property.kind == PropertyKind::Compound {
                    let within = self.archive.within(property)?;
                    within
                        .iter()
                        .map(|property| self.archive.times(property))
                        .collect::<Result<Vec<_>, _>>()?
                } else {
                    vec![self.archive.times(property)?]
                };
                times.extend(of.into_iter().flatten());
                Ok(())
            };
            let within = |message: String| format!("{}: {message}", node.name);
            if let Kind::Transform(of) = &node.kind {
                [&of.operations, &of.values].into_iter().try_for_each(&mut add).map_err(within)?;
            }
            TIMED.iter().filter_map(|name| node.property(name)).try_for_each(&mut add).map_err(within)?;
            node.visible.iter().try_for_each(&mut add).map_err(within)?;
        }
        times.sort_by(f64::total_cmp);
        times.dedup_by(|a, b| *a - *b < 1e-7);
        Ok(times)
    }

    /// The numbers of a property at a time, s, between two samples along a straight line if `line`.
    fn numbers(&self, property: &Property, time: f64, line: bool) -> Result<Vec<f64>, String> {
        let (sample, next) = self.archive.samples_at(property, time)?;
        let mut list = self.archive.numbers(property, sample)?;
        if let Some((next, toward)) = next.filter(|_| line) {
            let next = self.archive.numbers(property, next)?;
            if next.len() == list.len() {
                list.iter_mut().zip(next).for_each(|(a, b)| *a += (b - *a) * toward);
            }
        }
        match list.iter().find(|n| !n.is_finite()) {
            Some(n) => Err(format!("has a value of {n} in {}", property.name)),
            None => Ok(list),
        }
    }

    fn vectors(&self, node: &Node, name: &str, time: f64, line: bool) -> Result<Vec<Vec3>, String> {
        let list = node.property(name).map(|property| self.numbers(property, time, line)).transpose()?;
        let list = list.unwrap_or_default();
        Ok(list.chunks_exact(3).map(|v| Vec3::new(v[0] as f32, v[1] as f32, v[2] as f32)).collect())
    }

    fn indices(&self, property: &Property, time: f64) -> Result<Vec<u32>, String> {
        let list = self.numbers(property, time, false)?;
        let whole = |n: &f64| (0.0..=f64::from(u32::MAX)).contains(n).then_some(*n as u32);
        let list: Option<Vec<u32>> = list.iter().map(whole).collect();
        list.ok_or_else(|| format!("has a number below 0 in {}", property.name))
    }

    /// From a node's space to that of its parent; and whether that counts.
    fn transform(&self, node: &Node, time: f64) -> Result<(DMat4, bool), String> {
        let Kind::Transform(of) = &node.kind else { return Ok((DMat4::IDENTITY, true)) };
        let TransformProperties { operations, values, inherits } = &**of;
        let inherits = inherits.as_ref().map(|of| self.numbers(of, time, false)).transpose()?;
        let inherits = inherits.is_none_or(|of| of.first() != Some(&0.0));
        let values = self.numbers(values, time, true)?;
        let (mut matrix, mut at) = (DMat4::IDENTITY, 0);
        for operation in self.numbers(operations, time, false)? {
            // The kind is in the upper four bits.
            let kind = operation as u8 >> 4;
            let count = [3, 3, 4, 16, 1, 1, 1].get(usize::from(kind)).copied();
            let count = count.ok_or_else(|| format!("has a transform of the unknown kind {kind}"))?;
            let of = values.get(at..at + count).ok_or("has fewer values than its transform needs")?;
            at += count;
            let vector = || DVec3::new(of[0], of[1], of[2]);
            matrix *= match kind {
                0 => DMat4::from_scale(vector()),
                1 => DMat4::from_translation(vector()),
                2 => match vector().try_normalize() {
                    Some(axis) => DMat4::from_axis_angle(axis, of[3].to_radians()),
                    None => DMat4::IDENTITY,
                },
                3 => DMat4::from_cols_array(of.try_into().expect("16 numbers")),
                4 => DMat4::from_rotation_x(of[0].to_radians()),
                5 => DMat4::from_rotation_y(of[0].to_radians()),
                _ => DMat4::from_rotation_z(of[0].to_radians()),
            };
        }
        Ok((matrix, inherits))
    }

    /// From a node's space to that of the archive, and whether it is seen.
    fn placed(&self, index: usize, time: f64) -> Result<(DMat4, bool), String> {
        let (mut matrix, mut at, mut counts) = (DMat4::IDENTITY, Some(index), true);
        // The nearest that tells whether it is seen counts: 0 is hidden, 1 is seen, −1 is as above.
        let mut seen = None;
        while let Some(index) = at {
            let node = &self.nodes[index];
            let told = node.visible.as_ref().map(|of| self.numbers(of, time, false)).transpose()?;
            let told = told.and_then(|of| of.first().copied()).filter(|told| *told == 0.0 || *told == 1.0);
            seen = seen.or(told);
            if counts {
                let (own, inherits) = self.transform(node, time)?;
                (matrix, counts) = (own * matrix, inherits);
            }
            at = node.parent;
        }
        Ok((matrix, seen != Some(0.0)))
    }

    /// Velocities in units a frame, if there is one for each of `count` points.
    fn velocities(&self, node: &Node, time: f64, count: usize) -> Result<Vec<Vec3>, String> {
        let list = self.vectors(node, ".velocities", time, false)?;
        let rate = self.rate as f32;
        Ok(if list.len() == count { list.into_iter().map(|v| v / rate).collect() } else { Vec::new() })
    }

    fn polygons(&self, node: &Node, groups: &[(String, Property)], time: f64) -> Result<Polygons, String> {
        let indices = |name: &str| -> Result<Vec<u32>, String> {
            node.property(name).map_or(Ok(Vec::new()), |property| self.indices(property, time))
        };
        let mut polygons = Polygons {
            counts: indices(".faceCounts")?,
            corners: indices(".faceIndices")?,
            points: self.vectors(node, "P", time, true)?,
            // Corners of the format's faces go clockwise.
            clockwise: true,
            ..Polygons::default()
        };
        polygons.velocities = self.velocities(node, time, polygons.points.len())?;
        for (name, faces) in groups {
            polygons.groups.push((name.clone(), self.indices(faces, time)?));
        }
        let uv = |v: &[f64]| Vec2::new(v[0] as f32, v[1] as f32);
        let vector = |v: &[f64]| Vec3::new(v[0] as f32, v[1] as f32, v[2] as f32);
        polygons.uvs = self.on_domain(node.property("uv"), 2, uv, time, &polygons)?;
        polygons.normals = self.on_domain(node.property("N"), 3, vector, time, &polygons)?;
        let arbitrary = node.property(".arbGeomParams").map(|of| self.archive.within(of)).transpose()?;
        let arbitrary = arbitrary.unwrap_or_default();
        let colour =
            arbitrary.iter().find(|of| of.metadata.split(';').any(|m| m.starts_with("interpretation=rgb")));
        if let Some(colour) = colour {
            let width = if colour.metadata.contains("interpretation=rgba") { 4 } else { 3 };
            polygons.colours = self.on_domain(Some(colour), width, vector, time, &polygons)?;
        }
        Ok(polygons)
    }

    /// Values, plain or with their indices, on their domain.
    fn on_domain<T: Copy>(
        &self,
        property: Option<&Property>,
        width: usize,
        value: impl Fn(&[f64]) -> T,
        time: f64,
        polygons: &Polygons,
    ) -> Result<Option<DomainValues<T>>, String> {
        let Some(property) = property else { return Ok(None) };
        let (values, indices) = match property.kind {
            PropertyKind::Compound => {
                let within = self.archive.within(property)?;
                let named = |name: &str| within.iter().find(|property| property.name == name);
                let Some(values) = named(".vals") else { return Ok(None) };
                let indices = named(".indices").map(|of| self.indices(of, time)).transpose()?;
                (self.numbers(values, time, false)?, indices)
            }
            _ => (self.numbers(property, time, false)?, None),
        };
        let values: Vec<T> = values.chunks_exact(width).map(value).collect();
        if values.is_empty() {
            return Ok(None);
        }
        let scope = property.metadata.split(';').find_map(|pair| pair.strip_prefix("geoScope="));
        let domain = match scope {
            Some("con") => Domain::Mesh,
            Some("uni") => Domain::Face,
            Some("fvr") => Domain::Corner,
            Some("vtx" | "var") => Domain::Vertex,
            _ => return Ok(DomainValues::fitting(values, indices, polygons)),
        };
        Ok(Some(DomainValues::new(values, indices, domain)))
    }

    fn shape(&self, node: &Node, time: f64) -> Result<Option<Polygons>, String> {
        Ok(Some(match &node.kind {
            Kind::Mesh { groups } => self.polygons(node, groups, time)?,
            Kind::Points => {
                let points = self.vectors(node, "P", time, true)?;
                let widths = node.property(".widths");
                let widths = match widths {
                    Some(of) if of.kind == PropertyKind::Compound => {
                        let within = self.archive.within(of)?;
                        let values = within.iter().find(|property| property.name == ".vals");
                        values.map_or(Ok(Vec::new()), |of| self.numbers(of, time, false))?
                    }
                    Some(of) => self.numbers(of, time, false)?,
                    None => Vec::new(),
                };
                let widths: Vec<f32> = widths.into_iter().map(|width| width as f32).collect();
                let velocities = self.velocities(node, time, points.len())?;
                Polygons::of_points(&points, &widths, &velocities)?
            }
            _ => return Ok(None),
        }))
    }
}

impl SceneFile for AlembicScene<'_> {
    fn moments(&self) -> &[f64] {
        &self.moments
    }

    fn rate(&self) -> f64 {
        self.rate
    }

    fn meshes(&mut self, moment: f64) -> Result<Vec<PlacedPolygons>, String> {
        let time = moment / self.rate;
        let (mut list, mut room) = (Vec::new(), Room::new());
        for (index, node) in self.nodes.iter().enumerate() {
            let within = |message: String| format!("{}: {message}", node.name);
            let Some(polygons) = self.shape(node, time).map_err(within)? else { continue };
            let (matrix, seen) = self.placed(index, time).map_err(within)?;
            if seen {
                room.take(&polygons).map_err(within)?;
                let (name, polygons) = (node.name.clone(), Arc::new(polygons));
                list.push(PlacedPolygons { name, matrix, polygons, material: None });
            }
        }
        Ok(list)
    }

    fn notices(&self) -> Vec<String> {
        let mut notices = Vec::new();
        if !self.left_out.is_empty() {
            let kinds: Vec<&str> = self.left_out.iter().map(String::as_str).take(12).collect();
            notices.push(format!("Objects of these kinds are not read: {}.", kinds.join(", ")));
        }
        if self.nodes.iter().any(|node| matches!(node.kind, Kind::Points)) {
            notices.push("Points came as small round meshes of their widths.".to_owned());
        }
        notices
    }
}

#[cfg(test)]
mod tests;
