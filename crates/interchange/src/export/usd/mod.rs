//! A range of frames as a USD stage: meshes, instances, points, cameras and lights with
//! time samples, one a frame.
//!
//! One unit is a metre, y is up, a time code is a frame. A stage is written as text
//! (`usda`), as a crate file (`usdc`), or as a package with that (`usdz`). It refers to no
//! other file.

mod prims;

use super::ExportError;
use super::scene::{ExportScene, Samples, UniqueNames};
use crate::usd;
use glam::Vec3;
use openusd::gf;
use openusd::sdf::{self, ChildrenKey, FieldKey, SpecType, Specifier, Value};
use openusd::usda::TextWriter;
use openusd::usdc::CrateWriter;
use openusd::usdz::ArchiveWriter;
use std::io::Cursor;

/// Name of the prim that holds all.
const ROOT: &str = "Shot";

/// Names of the mesh that is repeated, and of the relation to it.
const PROTOTYPE: &str = "prototype";
const PROTOTYPES: &str = "prototypes";

/// A stage that is being filled.
struct UsdStage {
    data: sdf::Data,
    names: UniqueNames,
    children: Vec<String>,
    range: [f64; 2],
    fps: f64,
}

/// The form in which a stage is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UsdForm {
    /// Text.
    Text,
    /// A crate file: binary, about a quarter as large as text.
    Binary,
    /// A package with the crate file in it.
    Package,
}

impl UsdForm {
    /// The form that a file's extension tells.
    pub fn of_extension(extension: &str) -> Option<Self> {
        Some(match extension {
            "usda" => Self::Text,
            "usdc" => Self::Binary,
            "usdz" => Self::Package,
            _ => return None,
        })
    }
}

/// An attribute of a prim.
struct Attribute {
    name: &'static str,
    kind: &'static str,
    uniform: bool,
    /// Of a primvar: what there is a value for.
    interpolation: Option<&'static str>,
    default: Option<Value>,
    samples: Samples<Value>,
}

impl Attribute {
    fn constant(name: &'static str, kind: &'static str, value: Value) -> Self {
        Self { name, kind, uniform: false, interpolation: None, default: Some(value), samples: Vec::new() }
    }

    fn uniform(name: &'static str, kind: &'static str, value: Value) -> Self {
        Self { uniform: true, ..Self::constant(name, kind, value) }
    }

    /// With a value a frame; one value where all are the same.
    fn sampled(name: &'static str, kind: &'static str, mut samples: Samples<Value>) -> Self {
        let same = samples.windows(2).all(|pair| pair[0].1 == pair[1].1);
        match samples.pop() {
            Some((_, value)) if same => Self::constant(name, kind, value),
            last => {
                samples.extend(last);
                Self { name, kind, uniform: false, interpolation: None, default: None, samples }
            }
        }
    }

    /// With a value a frame where those that it goes with have one: velocities count only at
    /// the times of their positions.
    fn with(name: &'static str, kind: &'static str, samples: Samples<Value>, of: &Self) -> Self {
        if of.samples.is_empty() {
            return Self::sampled(name, kind, samples);
        }
        Self { samples, default: None, ..Self::constant(name, kind, Value::None) }
    }

    fn by_vertex(self) -> Self {
        Self { interpolation: Some("vertex"), ..self }
    }
}

/// A scene as a stage.
///
/// # Errors
/// [`ExportError`] if it cannot be written in the form.
pub fn write_usd(scene: &ExportScene, form: UsdForm) -> Result<Vec<u8>, ExportError> {
    let mut stage = UsdStage::new(scene);
    scene.meshes.iter().try_for_each(|of| stage.mesh(of))?;
    scene.instances.iter().try_for_each(|of| stage.instances(of))?;
    scene.points.iter().try_for_each(|of| stage.points(of))?;
    scene.cameras.iter().try_for_each(|of| stage.camera(of))?;
    scene.lights.iter().try_for_each(|of| stage.light(of))?;
    stage.write(form)
}

fn vectors(list: &[Vec3]) -> Value {
    Value::Vec3fVec(list.iter().map(|v| gf::vec3f(v.x, v.y, v.z)).collect())
}

fn failed(error: impl std::fmt::Display) -> ExportError {
    ExportError::Stage(error.to_string())
}

impl UsdStage {
    fn new(scene: &ExportScene) -> Self {
        let range = [scene.first, scene.last].map(f64::from);
        let (names, children) = (UniqueNames::default(), Vec::new());
        Self { data: sdf::Data::new(), names, children, range, fps: f64::from(scene.fps) }
    }

    /// Adds a prim below the root, or below another prim as its prototype.
    fn add(
        &mut self,
        below: Option<&str>,
        name: &str,
        kind: &str,
        attributes: Vec<Attribute>,
    ) -> Result<String, ExportError> {
        let parent = below.map_or_else(|| format!("/{ROOT}"), ToOwned::to_owned);
        let path = format!("{parent}/{name}");
        let instances = kind == "PointInstancer";
        let prim = sdf::path(&path).map_err(failed)?;
        let spec = self.data.create_spec(prim.clone(), SpecType::Prim);
        spec.add(FieldKey::Specifier, Value::Specifier(Specifier::Def));
        spec.add(FieldKey::TypeName, Value::Token(kind.into()));
        let relation = instances.then_some(PROTOTYPES);
        let names = attributes.iter().map(|attribute| attribute.name).chain(relation);
        spec.add(ChildrenKey::PropertyChildren, Value::TokenVec(names.map(Into::into).collect()));
        if instances {
            spec.add(ChildrenKey::PrimChildren, Value::TokenVec(vec![PROTOTYPE.into()]));
            let targets = sdf::PathListOp {
                explicit: true,
                explicit_items: vec![sdf::path(format!("{path}/{PROTOTYPE}")).map_err(failed)?],
                ..Default::default()
            };
            let relation = prim.append_property(PROTOTYPES).map_err(failed)?;
            let spec = self.data.create_spec(relation, SpecType::Relationship);
            spec.add(FieldKey::TargetPaths, Value::PathListOp(targets));
        }
        for attribute in attributes {
            let path = prim.append_property(attribute.name).map_err(failed)?;
            let spec = self.data.create_spec(path, SpecType::Attribute);
            spec.add(FieldKey::TypeName, Value::Token(attribute.kind.into()));
            if attribute.uniform {
                spec.add(FieldKey::Variability, Value::Variability(sdf::Variability::Uniform));
            }
            if let Some(interpolation) = attribute.interpolation {
                spec.add("interpolation", Value::Token(interpolation.into()));
            }
            if let Some(value) = attribute.default {
                spec.add(FieldKey::Default, value);
            }
            if !attribute.samples.is_empty() {
                spec.add(FieldKey::TimeSamples, Value::TimeSamples(attribute.samples));
            }
        }
        if below.is_none() {
            self.children.push(name.to_owned());
        }
        Ok(path)
    }

    /// The stage as a file.
    fn write(mut self, form: UsdForm) -> Result<Vec<u8>, ExportError> {
        let root = self.data.create_spec(sdf::Path::abs_root(), SpecType::PseudoRoot);
        root.add(FieldKey::DefaultPrim, Value::Token(ROOT.into()));
        root.add(FieldKey::StartTimeCode, Value::Double(self.range[0]));
        root.add(FieldKey::EndTimeCode, Value::Double(self.range[1]));
        root.add(FieldKey::TimeCodesPerSecond, Value::Double(self.fps));
        root.add(FieldKey::FramesPerSecond, Value::Double(self.fps));
        root.add("metersPerUnit", Value::Double(1.0));
        root.add("upAxis", Value::Token("Y".into()));
        root.add(ChildrenKey::PrimChildren, Value::TokenVec(vec![ROOT.into()]));
        let all = sdf::path(format!("/{ROOT}")).map_err(failed)?;
        let spec = self.data.create_spec(all, SpecType::Prim);
        spec.add(FieldKey::Specifier, Value::Specifier(Specifier::Def));
        spec.add(FieldKey::TypeName, Value::Token("Xform".into()));
        let children = self.children.iter().map(|name| name.as_str().into()).collect();
        spec.add(ChildrenKey::PrimChildren, Value::TokenVec(children));
        if form == UsdForm::Text {
            return Ok(TextWriter::write_to_string(&self.data).map_err(failed)?.into_bytes());
        }
        let mut binary = Cursor::new(Vec::new());
        CrateWriter::write(&self.data, &mut binary).map_err(failed)?;
        let binary = usd::mended(binary.into_inner()).map_err(failed)?;
        if form == UsdForm::Binary {
            return Ok(binary);
        }
        let mut package = ArchiveWriter::new(Cursor::new(Vec::new()));
        package.add_layer("shot.usdc", &binary).map_err(failed)?;
        Ok(package.finish().map_err(failed)?.into_inner())
    }
}

#[cfg(test)]
mod tests;
