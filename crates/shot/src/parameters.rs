//! The values of a shot that have a path: each declared once, on its field, with its range and how
//! it is shown. Checking, keys, formulas, staleness, the description of the file and the Sheet all
//! read these declarations.
//!
//! A keyable number more is one line: `#[parameter(label = "Friction", range(0.0, 10.0))]`.

use crate::motion::Value;
use crate::{Element, Shot};
use glam::{Vec2, Vec3};
use serde::Serialize;
use serde_json::{Map, Value as Json};
use std::collections::BTreeSet;
use std::fmt::{Arguments, Display, Formatter};

pub(crate) use shot_derive::Parameters;

/// Greatest size of one thing, m.
pub(crate) const MAX_SIZE_M: f32 = 1_000.0;
/// Least size of one thing, m.
pub(crate) const MIN_SIZE_M: f32 = 0.0005;
/// Least thickness of a cloth and of the skin of a soft body, m.
pub const MIN_THICKNESS_M: f32 = 1e-5;
/// Greatest speed, m/s and rad/s.
pub(crate) const MAX_SPEED: f32 = 1_000.0;
/// Greatest distance from the origin, m.
pub(crate) const MAX_POSITION_M: f32 = 10_000.0;
/// Greatest seed.
pub(crate) const MAX_SEED: f32 = u32::MAX as f32;

/// What a parameter changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Acts {
    /// The simulation, or both that and the picture.
    Simulation,
    /// The picture only.
    Picture,
}

/// The type of a parameter.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum ParameterKind {
    /// True or false.
    Switch,
    /// A number without a fraction.
    Whole,
    /// A number.
    Number,
    /// Several numbers.
    Vector,
    /// Several numbers without a fraction.
    WholeVector,
}

/// A parameter as its field declares it.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Declaration {
    /// Name of the type that has it.
    #[serde(skip)]
    pub owner: &'static str,
    /// The variant of the type, as in the file; none: of a struct.
    #[serde(skip)]
    pub variant: Option<&'static str>,
    /// Name of the field, as in the file; empty: the value of the variant itself.
    #[serde(skip)]
    pub field: &'static str,
    /// Name on the Sheet.
    pub label: &'static str,
    /// Name within a sentence, such as "friction of Crate changed".
    pub words: &'static str,
    /// Unit on the Sheet.
    #[serde(skip_serializing_if = "str::is_empty")]
    pub unit: &'static str,
    /// Factor from the file's unit to that of the Sheet.
    #[serde(skip_serializing_if = "is_one")]
    pub scale: f32,
    /// Least value, in the file's unit.
    pub low: f32,
    /// Greatest value, in the file's unit.
    pub high: f32,
    /// Step on the Sheet, in its unit.
    pub step: f32,
    /// Ends of its slider, in the unit of the Sheet; none: there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub slide: Option<(f32, f32)>,
    /// What the Sheet shows where there is no value; none: there always is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub blank: Option<&'static str>,
    /// Whether it may change with time.
    pub keyed: bool,
    /// Whether three numbers are a colour.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub colour: bool,
    /// Names of its parts, if not x, y and z.
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    pub parts: &'static [&'static str],
    /// Its type.
    pub kind: ParameterKind,
    /// What it changes.
    pub acts: Acts,
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_one(scale: &f32) -> bool {
    *scale == 1.0
}

/// The declarations of a type and of all that it holds.
#[derive(Default)]
pub(crate) struct Declarations {
    begun: BTreeSet<&'static str>,
    list: Vec<&'static Declaration>,
}

impl Declarations {
    /// Whether a type has not been declared yet.
    pub fn begin(&mut self, owner: &'static str) -> bool {
        self.begun.insert(owner)
    }

    pub fn push(&mut self, declaration: &'static Declaration) {
        self.list.push(declaration);
    }
}

/// The declarations of all parameters of a shot and its elements.
pub fn declarations() -> Vec<&'static Declaration> {
    let mut declarations = Declarations::default();
    Element::declare(&mut declarations);
    crate::Timing::declare(&mut declarations);
    crate::Physics::declare(&mut declarations);
    declarations.list
}

/// Adds the declarations to a JSON Schema of a shot, at each field as `x-parameter`.
///
/// # Panics
/// Where a declared field is not in the schema.
pub(crate) fn describe(schema: &mut Json) {
    for (order, declaration) in declarations().into_iter().enumerate() {
        // By way of text, so that 0.1 stays 0.1.
        let text = serde_json::to_string(declaration).expect("a declaration serialises");
        let mut value: Json = serde_json::from_str(&text).expect("what was written is JSON");
        // The properties of a schema have no order of their own.
        value["order"] = order.into();
        let place = place_in(&mut schema["$defs"][declaration.owner], declaration);
        let place = place.unwrap_or_else(|| panic!("{declaration:?} is not in the schema"));
        place.insert("x-parameter".to_owned(), value);
    }
}

/// The schema of a declared field within that of its type.
fn place_in<'s>(of: &'s mut Json, declaration: &Declaration) -> Option<&'s mut Map<String, Json>> {
    let of = match declaration.variant {
        None => of,
        Some(variant) => {
            let choices = of.get_mut("oneOf")?.as_array_mut()?;
            choices.iter_mut().find_map(|choice| choice.get_mut("properties")?.get_mut(variant))?
        }
    };
    let field = match declaration.field {
        "" => of,
        field => of.get_mut("properties")?.get_mut(field)?,
    };
    field.as_object_mut()
}

/// A value in a document, to be read or set.
pub(crate) enum Parameter<'a> {
    Switch(&'a mut bool),
    /// A number without a fraction.
    Whole(&'a mut u32),
    Number(&'a mut f32),
    Vector(&'a mut Vec3),
    /// A number that may be left out.
    MaybeNumber(&'a mut Option<f32>),
    /// Three numbers that may be left out.
    MaybeVector(&'a mut Option<Vec3>),
    /// A number that is only read.
    Read(Option<Value>),
}

/// The range of a value at present, and its declaration.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Bounds {
    pub low: f32,
    pub high: f32,
    pub declaration: &'static Declaration,
}

/// A path, put together only where it is looked at.
pub(crate) struct Path<'a> {
    parent: Option<&'a Path<'a>>,
    name: &'a str,
    /// Number in a list; its name is empty then.
    index: usize,
}

impl<'a> Path<'a> {
    /// The path of a document or an element itself.
    pub const ROOT: Path<'static> = Path { parent: None, name: "", index: 0 };

    pub fn field(&'a self, name: &'a str) -> Self {
        Self { parent: Some(self), name, index: 0 }
    }

    pub fn index(&'a self, index: usize) -> Self {
        Self { parent: Some(self), name: "", index }
    }
}

impl Display for Path<'_> {
    fn fmt(&self, f: &mut Formatter) -> std::fmt::Result {
        let Some(parent) = self.parent else { return Ok(()) };
        if parent.parent.is_some() {
            write!(f, "{parent}.")?;
        }
        if self.name.is_empty() { write!(f, "{}", self.index) } else { f.write_str(self.name) }
    }
}

/// What is done with a value: its path is put together only where it is looked at.
pub(crate) type Visit<'v> = &'v mut dyn FnMut(Arguments<'_>, Parameter<'_>, Bounds);

/// A part of a document with parameters.
pub(crate) trait Parameters {
    /// Visits the values that it has now.
    fn visit(&mut self, path: &Path<'_>, v: Visit<'_>);

    /// The declarations of all that it may have.
    fn declare(declarations: &mut Declarations);
}

impl<T: Parameters> Parameters for Option<T> {
    fn visit(&mut self, path: &Path<'_>, v: Visit<'_>) {
        if let Some(value) = self {
            value.visit(path, v);
        }
    }

    fn declare(declarations: &mut Declarations) {
        T::declare(declarations);
    }
}

impl<T: Parameters> Parameters for Vec<T> {
    fn visit(&mut self, path: &Path<'_>, v: Visit<'_>) {
        for (i, value) in self.iter_mut().enumerate() {
            value.visit(&path.index(i), v);
        }
    }

    fn declare(declarations: &mut Declarations) {
        T::declare(declarations);
    }
}

/// A type that a parameter's field may have.
pub(crate) trait ParameterField {
    const KIND: ParameterKind;
    const CAN_BE_KEYED: bool = true;

    fn visit(&mut self, path: &Path<'_>, bounds: Bounds, v: Visit<'_>);
}

/// Fields whose one value is a kind of [`Parameter`].
macro_rules! field {
    ($($type:ty, $kind:ident, $parameter:ident;)*) => {$(
        impl ParameterField for $type {
            const KIND: ParameterKind = ParameterKind::$kind;

            fn visit(&mut self, path: &Path<'_>, bounds: Bounds, v: Visit<'_>) {
                v(format_args!("{path}"), Parameter::$parameter(self), bounds);
            }
        }
    )*};
}

field! {
    bool, Switch, Switch;
    u32, Whole, Whole;
    f32, Number, Number;
    Vec3, Vector, Vector;
    Option<f32>, Number, MaybeNumber;
    Option<Vec3>, Vector, MaybeVector;
}

/// Numbers that are only read.
macro_rules! read_field {
    ($($type:ty, $kind:ident, |$value:ident| $read:expr;)*) => {$(
        impl ParameterField for $type {
            const KIND: ParameterKind = ParameterKind::$kind;
            const CAN_BE_KEYED: bool = false;

            fn visit(&mut self, path: &Path<'_>, bounds: Bounds, v: Visit<'_>) {
                let $value = self;
                v(format_args!("{path}"), Parameter::Read($read), bounds);
            }
        }
    )*};
}

read_field! {
    i32, Whole, |value| Some(Value::Number(*value as f32));
    Option<u32>, Whole, |value| value.map(|value| Value::Number(value as f32));
    [u32; 3], WholeVector, |value| Some(Value::Vector(value.map(|part| part as f32)));
}

impl ParameterField for Vec2 {
    const KIND: ParameterKind = ParameterKind::Vector;

    /// Its parts are values of their own.
    fn visit(&mut self, path: &Path<'_>, bounds: Bounds, v: Visit<'_>) {
        v(format_args!("{path}[0]"), Parameter::Number(&mut self.x), bounds);
        v(format_args!("{path}[1]"), Parameter::Number(&mut self.y), bounds);
    }
}

impl ParameterField for Vec<Vec3> {
    const KIND: ParameterKind = ParameterKind::Vector;

    fn visit(&mut self, path: &Path<'_>, bounds: Bounds, v: Visit<'_>) {
        for (i, value) in self.iter_mut().enumerate() {
            ParameterField::visit(value, &path.index(i), bounds, v);
        }
    }
}

impl Parameter<'_> {
    pub fn get(&self) -> Option<Value> {
        match self {
            Self::Switch(on) => Some(Value::Switch(**on)),
            Self::Whole(count) => Some(Value::Number(**count as f32)),
            Self::Number(number) => Some(Value::Number(**number)),
            Self::Vector(vector) => Some((**vector).into()),
            Self::MaybeNumber(number) => number.map(Value::Number),
            Self::MaybeVector(vector) => vector.map(Value::from),
            Self::Read(value) => *value,
        }
    }

    /// A value of the kind it takes.
    pub fn kind(&self) -> Value {
        match self {
            Self::Switch(_) => Value::Switch(false),
            Self::Whole(_) | Self::Number(_) | Self::MaybeNumber(_) => Value::Number(0.0),
            Self::Vector(_) | Self::MaybeVector(_) => Value::Vector([0.0; 3]),
            Self::Read(value) => value.unwrap_or(Value::Number(0.0)),
        }
    }

    /// Sets it; a value of another kind is left.
    pub fn set(&mut self, value: Value) {
        match (self, value) {
            (Self::Switch(slot), Value::Switch(on)) => **slot = on,
            (Self::Whole(slot), Value::Number(number)) => **slot = number.round() as u32,
            (Self::Number(slot), Value::Number(number)) => **slot = number,
            (Self::Vector(slot), Value::Vector(parts)) => **slot = parts.into(),
            (Self::MaybeNumber(slot), Value::Number(number)) => **slot = Some(number),
            (Self::MaybeVector(slot), Value::Vector(parts)) => **slot = Some(parts.into()),
            _ => {}
        }
    }
}

impl Bounds {
    pub fn hold(&self, value: Value) -> Value {
        match value {
            Value::Switch(_) => value,
            _ => value.with_parts(|i| value.part(i).clamp(f64::from(self.low), f64::from(self.high))),
        }
    }
}

/// Visits the values of a shot that belong to no element.
pub(crate) fn shot_parameters(shot: &mut Shot, v: Visit) {
    shot.timing.visit(&Path::ROOT.field("timing"), v);
    shot.physics.visit(&Path::ROOT.field("physics"), v);
}

/// Visits the values of an element.
pub(crate) fn element_parameters(element: &mut Element, v: Visit) {
    element.visit(&Path::ROOT, v);
}

/// Indices of position and orientation in the list of an element's parameters: its placement
/// comes first.
pub(crate) const POSITION: usize = 0;
pub(crate) const ORIENTATION: usize = 1;

/// The position or orientation of an element, by its index in the list: most
/// channels give one of these.
pub(crate) fn placement_parameter(element: &mut Element, slot: usize) -> Option<(Parameter<'_>, Bounds)> {
    if slot > ORIENTATION {
        return None;
    }
    let mut at = 0;
    let mut found = None;
    element.placement.visit(&Path::ROOT, &mut |_, _, bounds| {
        if at == slot {
            found = Some(bounds);
        }
        at += 1;
    });
    let of = &mut element.placement;
    let vector = if slot == POSITION { &mut of.position_m } else { &mut of.orientation_rad };
    Some((Parameter::Vector(vector), found?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::finish::{Finish, FinishOperation};
    use crate::force::Force;
    use crate::region::Region;
    use crate::{ElementKind, Shape, curve::Curve, force::ForceKind, region::Volume};
    use serde_json::json;

    /// Where the file has a value: a number is an index, `[1]` a part of a vector.
    fn pointer(path: &str) -> String {
        format!("/{}", path.replace('[', "/").replace(']', "").replace('.', "/"))
    }

    /// Every value lies in the file where its path says, so that a change at that path is read.
    #[test]
    fn the_paths_are_those_of_the_file() {
        let forces = ["gravity", "pull", "wind", "turbulence", "vortex", "attract", "drag"].map(|name| {
            let fields = match name {
                "gravity" => json!({"acceleration": [0, -9, 0]}),
                "pull" => json!({"force_n": 1}),
                "drag" => json!({"linear_n_s_m": 0, "density_kg_m3": 1}),
                _ => json!({}),
            };
            let kind: ForceKind = serde_json::from_value(json!({ name: fields })).unwrap();
            ElementKind::Force(Force::new(kind))
        });
        let volumes = [
            Volume::Box { size_m: Vec3::ONE },
            Volume::Sphere { radius_m: 1.0 },
            Volume::Cylinder { radius_m: 1.0, height_m: 1.0 },
            Volume::Noise { size_m: 1.0, threshold: 0.5, softness: 0.1, drift_m_s: Vec3::ZERO, seed: 1 },
        ]
        .map(|volume| ElementKind::Region(Region::new(volume)));
        let shapes = [
            Shape::sphere(1.0),
            Shape::Capsule { radius_m: 1.0, length_m: 1.0 },
            Shape::Cylinder { radius_m: 1.0, height_m: 1.0 },
            Shape::Cone { radius_m: 1.0, height_m: 1.0 },
            Shape::Torus { major_radius_m: 1.0, minor_radius_m: 0.1 },
            Shape::plane(1.0, 1.0),
        ]
        .map(|shape| Element::solid("Solid", shape, crate::Moves::Free).kind);
        let steps = [
            FinishOperation::Retime { frames: 2, run_frame: 1.0 },
            FinishOperation::Place { scale: 1.0, about: None },
            FinishOperation::Blend { run: 1, weight: 0.5 },
            FinishOperation::Smooth { radius: 2.0 },
            FinishOperation::Thicken { thickness_m: 0.01, offset: 0.0 },
            FinishOperation::ParticleMesh {
                radius: 0.9,
                reach: 2.0,
                edge: 0.5,
                passes: 2,
                anisotropy: 1.0,
                film: 0.0,
                together: false,
            },
            serde_json::from_value(json!({"copies": {"grid": {"count": [2, 1, 1], "spacing_m": [1, 1, 1]}}}))
                .unwrap(),
        ]
        .map(|operation| ElementKind::Finish(Finish::new(operation)));
        let particles: ElementKind = serde_json::from_value(json!({"particles": {}})).unwrap();
        let kinds = forces.into_iter().chain(volumes).chain(shapes).chain(steps).chain([
            particles,
            ElementKind::Curve(Curve::Circle { radius_m: 1.0 }),
            ElementKind::Camera(crate::Camera::default()),
        ]);
        let mut count = 0;
        for kind in kinds {
            let element = Element::new("Element", kind);
            let file = serde_json::to_value(&element).unwrap();
            element_parameters(&mut element.clone(), &mut |path, slot, _| {
                let pointer = pointer(&path.to_string());
                let (parent, field) = pointer.rsplit_once('/').unwrap();
                let value = match slot.kind() {
                    Value::Switch(_) => json!(true),
                    Value::Number(_) => json!(1),
                    Value::Vector(_) => json!([1, 1, 1]),
                };
                let mut changed = file.clone();
                match changed.pointer_mut(parent) {
                    Some(Json::Object(fields)) => drop(fields.insert(field.to_owned(), value)),
                    Some(Json::Array(parts)) => parts[field.parse::<usize>().unwrap()] = value,
                    _ => panic!("{path} lies nowhere in {file}"),
                }
                let read: Result<Element, _> = serde_json::from_value(changed);
                assert!(read.is_ok(), "{path}: {}", read.unwrap_err());
                count += 1;
            });
        }
        assert!(count > 100, "{count}");
    }

    /// Each declaration has a label, a range and a step that can be used.
    #[test]
    fn declarations_are_sound() {
        let all = declarations();
        assert!(all.len() > 150, "{}", all.len());
        for declaration in &all {
            assert!(!declaration.label.is_empty() && !declaration.words.is_empty(), "{declaration:?}");
            assert!(declaration.low < declaration.high, "{declaration:?}");
            assert!(declaration.step > 0.0 && declaration.scale > 0.0, "{declaration:?}");
            if let Some((low, high)) = declaration.slide {
                let ends = [low, high].map(|end| end / declaration.scale);
                let (least, most) = (declaration.low - 1e-6, declaration.high + 1e-6);
                assert!(low < high && ends[0] >= least && ends[1] <= most, "{declaration:?}");
            }
            // A colour and a switch have no unit.
            let plain = declaration.colour || declaration.kind == ParameterKind::Switch;
            assert!(!plain || declaration.unit.is_empty(), "{declaration:?}");
        }
        let names: BTreeSet<_> = all.iter().map(|of| (of.owner, of.variant, of.field)).collect();
        assert_eq!(names.len(), all.len(), "each is declared once");
    }
}
