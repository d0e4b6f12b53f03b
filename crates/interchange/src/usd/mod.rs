//! OpenUSD in: meshes, instances and points with time samples, from text
//! (`usda`), crate files (`usdc`) and packages (`usdz`).
//!
//! References, payloads, inherits, variants and sublayers are followed within
//! the file. A file that refers to another one is refused.

mod composition;
mod crate_file;
mod instances;
mod layer;
mod material;
mod transform;
mod value;

use crate::ImportError;
use crate::model::{Material, Model};
use crate::samples::ImportedSequence;
use crate::scene::{self, Domain, DomainValues, PlacedPolygons, Polygons, Room, SceneFile};
use composition::{Between, Prim, Stage};
pub(crate) use crate_file::mended;
use glam::{DMat4, DQuat, DVec3, Vec2, Vec3};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use value::UsdValue;

/// Most samples of all that is drawn.
const MAX_TIMES: usize = 4_000_000;
/// Most prims of a stage, and how deep they may be nested.
const MAX_PRIMS: usize = 100_000;
const MAX_DEPTH: usize = 200;

/// Reads the meshes of a stage as they are first.
///
/// # Errors
/// [`ImportError`] names the prim.
pub(crate) fn read(name: &str, bytes: &[u8]) -> Result<Model, ImportError> {
    let mut scene = UsdScene::open(bytes).map_err(|message| ImportError::file(name, message))?;
    scene::read_model(name, &mut scene)
}

/// Reads the meshes of a stage at all times that it has samples of.
///
/// # Errors
/// As [`read`].
pub(crate) fn read_animation(name: &str, bytes: &[u8]) -> Result<ImportedSequence, ImportError> {
    let mut scene = UsdScene::open(bytes).map_err(|message| ImportError::file(name, message))?;
    scene::read_sequence(name, &mut scene)
}

/// Whether anything in a stage moves.
pub(crate) fn is_animated(bytes: &[u8]) -> bool {
    UsdScene::open(bytes).is_ok_and(|scene| scene.moments.len() > 1)
}

/// A prim that is drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Mesh,
    Points,
    Instancer,
    /// Only its transform counts.
    Group,
}

struct Node {
    prim: Prim,
    kind: Kind,
    parent: Option<usize>,
    material: Option<usize>,
}

/// A stage, as a scene.
struct UsdScene {
    stage: Stage,
    nodes: Vec<Node>,
    /// Of each instancer, the nodes of its prototypes.
    prototypes: HashMap<usize, Vec<Vec<usize>>>,
    moments: Vec<f64>,
    rate: f64,
    root: DMat4,
    materials: Vec<Material>,
    /// Kinds of prims that were left out.
    left_out: BTreeSet<String>,
}

/// Attributes that are read of each kind; of all, those of the transform.
const MESH: [&str; 5] = ["points", "faceVertexCounts", "faceVertexIndices", "velocities", "primvars:st"];
const POINTS: [&str; 3] = ["points", "velocities", "widths"];
const INSTANCER: [&str; 5] = ["positions", "orientations", "scales", "protoIndices", "invisibleIds"];

impl UsdScene {
    fn open(bytes: &[u8]) -> Result<Self, String> {
        let stage = Stage::open(bytes.to_vec())?;
        let number = |field: &str| {
            stage.metadata(field).and_then(UsdValue::numbers).and_then(|list| list.first().copied())
        };
        let rate = number("timeCodesPerSecond").or_else(|| number("framesPerSecond")).unwrap_or(24.0);
        if !(rate.is_finite() && (1e-3..=1e6).contains(&rate)) {
            return Err(format!("has a rate of {rate} time codes a second"));
        }
        // Without a unit, one of it is a centimetre.
        let unit = number("metersPerUnit").unwrap_or(0.01);
        if !(unit.is_finite() && unit > 0.0) {
            return Err(format!("has a unit of {unit} metres"));
        }
        let z_up = stage.metadata("upAxis").and_then(UsdValue::tokens).is_some_and(|axis| axis == ["Z"]);
        let turn = if z_up { DQuat::from_rotation_x(-std::f64::consts::FRAC_PI_2) } else { DQuat::IDENTITY };
        let root = DMat4::from_scale_rotation_translation(DVec3::splat(unit), turn, DVec3::ZERO);
        let mut scene = Self {
            stage,
            nodes: Vec::new(),
            prototypes: HashMap::new(),
            moments: Vec::new(),
            rate,
            root,
            materials: Vec::new(),
            left_out: BTreeSet::new(),
        };
        let root = scene.stage.root();
        scene.visit(&root, None)?;
        scene.moments = scene.all_times()?;
        scene::check_moments(scene.moments.len(), scene.nodes.len())?;
        Ok(scene)
    }

    /// Takes in all prims below one.
    fn visit(&mut self, top: &Prim, parent: Option<usize>) -> Result<(), String> {
        let mut materials: BTreeMap<String, usize> = BTreeMap::new();
        let mut stack: Vec<(Prim, Option<usize>, usize)> =
            self.stage.children(top)?.into_iter().rev().map(|prim| (prim, parent, 0)).collect();
        while let Some((prim, parent, depth)) = stack.pop() {
            if self.nodes.len() + stack.len() > MAX_PRIMS {
                return Err(format!("has more than {MAX_PRIMS} prims"));
            }
            if depth > MAX_DEPTH {
                return Err(format!("{}: is nested deeper than {MAX_DEPTH}, or in a circle", prim.path));
            }
            let token = |field: &str| -> Result<String, String> {
                let value = self.stage.field(&prim, field)?;
                Ok(value
                    .and_then(UsdValue::tokens)
                    .and_then(|list| list.into_iter().next())
                    .unwrap_or_default())
            };
            let flag = |field: &str| -> Result<Option<f64>, String> {
                let value = self.stage.field(&prim, field)?;
                Ok(value.and_then(UsdValue::numbers).and_then(|list| list.first().copied()))
            };
            if !self.stage.is_defined(&prim) || flag("active")? == Some(0.0) {
                continue;
            }
            let kind = match token("typeName")?.as_str() {
                "Mesh" => Kind::Mesh,
                "Points" => Kind::Points,
                "PointInstancer" => Kind::Instancer,
                "" | "Xform" | "Scope" | "SkelRoot" => Kind::Group,
                other => {
                    if !["Material", "Shader", "GeomSubset", "Camera", "NodeGraph"].contains(&other)
                        && !other.ends_with("Light")
                    {
                        self.left_out.insert(other.chars().take(40).collect());
                    }
                    continue;
                }
            };
            let purpose = self.stage.value(&prim, "purpose", 0.0, Between::Hold)?.and_then(UsdValue::tokens);
            if purpose.is_some_and(|purpose| ["guide", "proxy"].contains(&purpose[0].as_str())) {
                continue;
            }
            let bound = self.stage.targets(&prim, "material:binding")?.into_iter().next();
            let material = match bound {
                Some(bound) => match materials.get(&bound.path) {
                    Some(known) => Some(*known),
                    None => {
                        let material = self.material(&bound)?;
                        self.materials.push(material);
                        materials.insert(bound.path, self.materials.len() - 1);
                        Some(self.materials.len() - 1)
                    }
                },
                None => parent.and_then(|parent| self.nodes[parent].material),
            };
            let index = self.nodes.len();
            self.nodes.push(Node { prim: prim.clone(), kind, parent, material });
            match kind {
                Kind::Instancer => {
                    let mut lists = Vec::new();
                    for target in self.stage.targets(&prim, "prototypes")? {
                        let first = self.nodes.len();
                        self.visit_prototype(&target)?;
                        lists.push((first..self.nodes.len()).collect());
                    }
                    self.prototypes.insert(index, lists);
                }
                _ => {
                    let children = self.stage.children(&prim)?;
                    stack.extend(children.into_iter().rev().map(|child| (child, Some(index), depth + 1)));
                }
            }
        }
        Ok(())
    }

    /// Takes in a prototype of an instancer, with all below it.
    fn visit_prototype(&mut self, prim: &Prim) -> Result<(), String> {
        let kind = self.stage.field(prim, "typeName")?.and_then(UsdValue::tokens).unwrap_or_default();
        let kind = match kind.first().map(String::as_str) {
            Some("Mesh") => Kind::Mesh,
            Some("PointInstancer") => {
                return Err(format!("{}: has an instancer within an instancer", prim.path));
            }
            _ => Kind::Group,
        };
        let index = self.nodes.len();
        self.nodes.push(Node { prim: prim.clone(), kind, parent: None, material: None });
        if kind == Kind::Group {
            let before = self.prototypes.len();
            self.visit(prim, Some(index))?;
            if self.prototypes.len() > before {
                return Err(format!("{}: has an instancer within an instancer", prim.path));
            }
        }
        Ok(())
    }

    /// The times of all samples of all that is drawn.
    fn all_times(&self) -> Result<Vec<f64>, String> {
        let (mut times, mut looked_at) = (Vec::new(), 0);
        for node in &self.nodes {
            let own: &[&str] = match node.kind {
                Kind::Mesh => &MESH,
                Kind::Points => &POINTS,
                Kind::Instancer => &INSTANCER,
                Kind::Group => &[],
            };
            let operations = self.operations(&node.prim)?;
            let moving = operations.iter().map(|name| name.trim_start_matches("!invert!"));
            for attribute in own.iter().copied().chain(["visibility"]).chain(moving) {
                let list = self.stage.times(&node.prim, attribute)?;
                looked_at += list.len();
                if looked_at > MAX_TIMES {
                    return Err(format!("has more than {MAX_TIMES} samples"));
                }
                times.extend(list);
            }
        }
        times.sort_by(f64::total_cmp);
        times.dedup();
        if times.is_empty() {
            times.push(0.0);
        }
        Ok(times)
    }

    fn numbers(&self, prim: &Prim, attribute: &str, time: f64, between: Between) -> Result<Vec<f64>, String> {
        let value = self.stage.value(prim, attribute, time, between)?;
        let list = value.and_then(UsdValue::numbers).unwrap_or_default();
        match list.iter().find(|n| !n.is_finite()) {
            Some(n) => Err(format!("{}: has a value of {n} in {attribute}", prim.path)),
            None => Ok(list),
        }
    }

    fn vectors(
        &self,
        prim: &Prim,
        attribute: &str,
        time: f64,
        between: Between,
    ) -> Result<Vec<Vec3>, String> {
        let list = self.numbers(prim, attribute, time, between)?;
        Ok(list.chunks_exact(3).map(|v| Vec3::new(v[0] as f32, v[1] as f32, v[2] as f32)).collect())
    }

    fn indices(&self, prim: &Prim, attribute: &str, time: f64) -> Result<Vec<u32>, String> {
        let list = self.numbers(prim, attribute, time, Between::Hold)?;
        let whole = |n: &f64| (0.0..=f64::from(u32::MAX)).contains(n).then_some(*n as u32);
        list.iter()
            .map(whole)
            .collect::<Option<_>>()
            .ok_or_else(|| format!("{}: has a number below 0 in {attribute}", prim.path))
    }

    fn polygons(&self, node: &Node, time: f64) -> Result<Polygons, String> {
        let prim = &node.prim;
        let mut polygons = Polygons {
            counts: self.indices(prim, "faceVertexCounts", time)?,
            corners: self.indices(prim, "faceVertexIndices", time)?,
            points: self.vectors(prim, "points", time, Between::Line)?,
            ..Polygons::default()
        };
        polygons.velocities = self.velocities(prim, time, polygons.points.len())?;
        let orientation = self.stage.value(prim, "orientation", time, Between::Hold)?;
        polygons.clockwise = orientation.and_then(UsdValue::tokens).is_some_and(|of| of == ["leftHanded"]);
        let pairs = self.numbers(prim, "primvars:st", time, Between::Hold)?;
        let uvs = pairs.chunks_exact(2).map(|uv| Vec2::new(uv[0] as f32, uv[1] as f32)).collect();
        polygons.uvs = self.on_domain(prim, "primvars:st", uvs, time, &polygons)?;
        let colours = self.vectors(prim, "primvars:displayColor", time, Between::Hold)?;
        polygons.colours = self.on_domain(prim, "primvars:displayColor", colours, time, &polygons)?;
        let normals = self.vectors(prim, "normals", time, Between::Hold)?;
        polygons.normals = self.on_domain(prim, "normals", normals, time, &polygons)?;
        Ok(polygons)
    }

    /// Velocities in units a frame, if there is one for each of `count` points.
    fn velocities(&self, prim: &Prim, time: f64, count: usize) -> Result<Vec<Vec3>, String> {
        let list = self.vectors(prim, "velocities", time, Between::Hold)?;
        let rate = self.rate as f32;
        Ok(if list.len() == count { list.into_iter().map(|v| v / rate).collect() } else { Vec::new() })
    }

    /// Values with their domain and their indices.
    fn on_domain<T: Copy>(
        &self,
        prim: &Prim,
        attribute: &str,
        values: Vec<T>,
        time: f64,
        polygons: &Polygons,
    ) -> Result<Option<DomainValues<T>>, String> {
        if values.is_empty() {
            return Ok(None);
        }
        let indices = self.indices(prim, &format!("{attribute}:indices"), time)?;
        let indices = (!indices.is_empty()).then_some(indices);
        let interpolation = self.stage.attribute_field(prim, attribute, "interpolation");
        let domain = match interpolation.and_then(UsdValue::tokens).as_deref() {
            Some([of]) => match of.as_str() {
                "constant" => Domain::Mesh,
                "uniform" => Domain::Face,
                "faceVarying" => Domain::Corner,
                _ => Domain::Vertex,
            },
            _ => return Ok(DomainValues::fitting(values, indices, polygons)),
        };
        Ok(Some(DomainValues::new(values, indices, domain)))
    }
}

impl SceneFile for UsdScene {
    fn moments(&self) -> &[f64] {
        &self.moments
    }

    fn rate(&self) -> f64 {
        self.rate
    }

    fn meshes(&mut self, moment: f64) -> Result<Vec<PlacedPolygons>, String> {
        let (mut list, mut room) = (Vec::new(), Room::new());
        let within: BTreeSet<usize> = self.prototypes.values().flatten().flatten().copied().collect();
        for (index, node) in self.nodes.iter().enumerate() {
            if node.kind == Kind::Group || within.contains(&index) {
                continue;
            }
            let (matrix, seen) = self.placed(index, moment)?;
            if !seen {
                continue;
            }
            let matrix = self.root * matrix;
            let polygons = match node.kind {
                Kind::Instancer => {
                    self.instances(index, moment, matrix, &mut room, &mut list)?;
                    continue;
                }
                Kind::Points => {
                    let points = self.vectors(&node.prim, "points", moment, Between::Line)?;
                    let widths = self.numbers(&node.prim, "widths", moment, Between::Hold)?;
                    let widths: Vec<f32> = widths.into_iter().map(|width| width as f32).collect();
                    let velocities = self.velocities(&node.prim, moment, points.len())?;
                    Polygons::of_points(&points, &widths, &velocities)
                        .map_err(|message| format!("{}: {message}", node.prim.path))?
                }
                _ => self.polygons(node, moment)?,
            };
            room.take(&polygons).map_err(|message| format!("{}: {message}", node.prim.path))?;
            let (name, material) = (node.prim.name().to_owned(), node.material);
            list.push(PlacedPolygons { name, matrix, polygons: Arc::new(polygons), material });
        }
        Ok(list)
    }

    fn materials(&self) -> Vec<Material> {
        self.materials.clone()
    }

    fn notices(&self) -> Vec<String> {
        let mut notices = Vec::new();
        if !self.left_out.is_empty() {
            let kinds: Vec<&str> = self.left_out.iter().map(String::as_str).take(12).collect();
            notices.push(format!("Prims of these kinds are not read: {}.", kinds.join(", ")));
        }
        if self.nodes.iter().any(|node| node.kind == Kind::Points) {
            notices.push("Points came as small round meshes of their widths.".to_owned());
        }
        notices
    }
}

#[cfg(test)]
mod tests;
