//! Values of USD, as far as a scene needs them, from text and from crate files.

use openusd::sdf::{ListOp, Path, Value};

/// A reference or payload: to a prim of a layer.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Arc {
    /// The layer's file; empty: the same layer.
    pub asset: String,
    /// The prim; empty: the default prim of the layer.
    pub path: String,
}

/// A value.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum UsdValue {
    /// Numbers, `width` of them for each element. Quaternions are w, x, y, z.
    Numbers { width: usize, values: Vec<f64> },
    /// Tokens, strings or asset paths.
    Tokens(Vec<String>),
    /// Paths of prims or properties.
    Paths(Vec<String>),
    /// References or payloads.
    Arcs(Vec<Arc>),
    /// Variant sets with the variant chosen of each.
    Selections(Vec<(String, String)>),
    /// The attribute has no value.
    Blocked,
    /// Of a type that no scene needs.
    Other,
}

impl UsdValue {
    /// The numbers of it, if it has any.
    pub fn numbers(self) -> Option<Vec<f64>> {
        match self {
            Self::Numbers { values, .. } => Some(values),
            _ => None,
        }
    }

    /// The tokens of it, if it has any.
    pub fn tokens(self) -> Option<Vec<String>> {
        match self {
            Self::Tokens(list) => Some(list),
            _ => None,
        }
    }
}

/// The items of a list operation without those that it deletes.
fn taken<T: Default + Clone + PartialEq>(list: &ListOp<T>) -> impl Iterator<Item = &T> {
    let parts = [&list.explicit_items, &list.prepended_items, &list.added_items, &list.appended_items];
    parts.into_iter().flatten()
}

impl From<&Value> for UsdValue {
    fn from(value: &Value) -> Self {
        let one = |n: f64| Self::Numbers { width: 1, values: vec![n] };
        let all = |width: usize, values: Vec<f64>| Self::Numbers { width, values };
        macro_rules! flat {
            ($list:expr, $width:literal, $($part:ident).+) => {
                all($width, $list.iter().flat_map(|v| flat!(@ v, $($part).+)).collect())
            };
            (@ $v:ident, x.y) => { [f64::from($v.x), f64::from($v.y)] };
            (@ $v:ident, x.y.z) => { [f64::from($v.x), f64::from($v.y), f64::from($v.z)] };
            (@ $v:ident, x.y.z.w) => {
                [f64::from($v.x), f64::from($v.y), f64::from($v.z), f64::from($v.w)]
            };
            (@ $v:ident, w.x.y.z) => {
                [f64::from($v.w), f64::from($v.x), f64::from($v.y), f64::from($v.z)]
            };
        }
        let path = |path: &Path| path.to_string();
        match value {
            Value::Bool(b) => one(f64::from(u8::from(*b))),
            Value::BoolVec(list) => all(1, list.iter().map(|b| f64::from(u8::from(*b))).collect()),
            Value::Uchar(n) => one(f64::from(*n)),
            Value::Int(n) => one(f64::from(*n)),
            Value::Uint(n) => one(f64::from(*n)),
            Value::Int64(n) => one(*n as f64),
            Value::Uint64(n) => one(*n as f64),
            Value::Half(n) => one(f64::from(*n)),
            Value::Float(n) => one(f64::from(*n)),
            Value::Double(n) => one(*n),
            Value::Specifier(of) => one(f64::from(*of as i32)),
            Value::UcharVec(list) => all(1, list.iter().map(|n| f64::from(*n)).collect()),
            Value::IntVec(list) => all(1, list.iter().map(|n| f64::from(*n)).collect()),
            Value::UintVec(list) => all(1, list.iter().map(|n| f64::from(*n)).collect()),
            Value::Int64Vec(list) => all(1, list.iter().map(|n| *n as f64).collect()),
            Value::Uint64Vec(list) => all(1, list.iter().map(|n| *n as f64).collect()),
            Value::HalfVec(list) => all(1, list.iter().map(|n| f64::from(*n)).collect()),
            Value::FloatVec(list) => all(1, list.iter().map(|n| f64::from(*n)).collect()),
            Value::DoubleVec(list) => all(1, list.clone()),
            Value::Vec2h(v) => flat!([v], 2, x.y),
            Value::Vec2f(v) => flat!([v], 2, x.y),
            Value::Vec2d(v) => flat!([v], 2, x.y),
            Value::Vec2hVec(list) => flat!(list, 2, x.y),
            Value::Vec2fVec(list) => flat!(list, 2, x.y),
            Value::Vec2dVec(list) => flat!(list, 2, x.y),
            Value::Vec3h(v) => flat!([v], 3, x.y.z),
            Value::Vec3f(v) => flat!([v], 3, x.y.z),
            Value::Vec3d(v) => flat!([v], 3, x.y.z),
            Value::Vec3hVec(list) => flat!(list, 3, x.y.z),
            Value::Vec3fVec(list) => flat!(list, 3, x.y.z),
            Value::Vec3dVec(list) => flat!(list, 3, x.y.z),
            Value::Vec4h(v) => flat!([v], 4, x.y.z.w),
            Value::Vec4f(v) => flat!([v], 4, x.y.z.w),
            Value::Vec4d(v) => flat!([v], 4, x.y.z.w),
            Value::Vec4fVec(list) => flat!(list, 4, x.y.z.w),
            Value::Quath(q) => flat!([q], 4, w.x.y.z),
            Value::Quatf(q) => flat!([q], 4, w.x.y.z),
            Value::Quatd(q) => flat!([q], 4, w.x.y.z),
            Value::QuathVec(list) => flat!(list, 4, w.x.y.z),
            Value::QuatfVec(list) => flat!(list, 4, w.x.y.z),
            Value::QuatdVec(list) => flat!(list, 4, w.x.y.z),
            Value::Matrix4d(matrix) => all(16, matrix.0.to_vec()),
            Value::Matrix4dVec(list) => all(16, list.iter().flat_map(|matrix| matrix.0).collect()),
            Value::Token(token) => Self::Tokens(vec![token.to_string()]),
            Value::TokenVec(list) => Self::Tokens(list.iter().map(ToString::to_string).collect()),
            Value::String(text) => Self::Tokens(vec![text.clone()]),
            Value::StringVec(list) => Self::Tokens(list.clone()),
            Value::AssetPath(asset) => Self::Tokens(vec![asset.to_string()]),
            Value::TokenListOp(list) => Self::Tokens(taken(list).map(ToString::to_string).collect()),
            Value::StringListOp(list) => Self::Tokens(taken(list).cloned().collect()),
            Value::PathVec(list) => Self::Paths(list.iter().map(path).collect()),
            Value::PathListOp(list) => Self::Paths(taken(list).map(path).collect()),
            Value::ReferenceListOp(list) => Self::Arcs(
                taken(list)
                    .map(|of| Arc { asset: of.asset_path.clone(), path: path(&of.prim_path) })
                    .collect(),
            ),
            Value::PayloadListOp(list) => Self::Arcs(
                taken(list)
                    .map(|of| Arc { asset: of.asset_path.clone(), path: path(&of.prim_path) })
                    .collect(),
            ),
            Value::Payload(of) => {
                Self::Arcs(vec![Arc { asset: of.asset_path.clone(), path: path(&of.prim_path) }])
            }
            Value::VariantSelectionMap(map) => {
                let mut list: Vec<_> =
                    map.iter().map(|(set, variant)| (set.clone(), variant.clone())).collect();
                list.sort();
                Self::Selections(list)
            }
            Value::ValueBlock => Self::Blocked,
            _ => Self::Other,
        }
    }
}
