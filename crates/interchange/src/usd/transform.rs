//! Transforms of prims, as a list of steps.

use super::UsdScene;
use super::composition::{Between, Prim};
use super::value::UsdValue;
use glam::{DMat4, DQuat, DVec3};

impl UsdScene {
    /// The names of the steps of a prim's transform.
    pub(super) fn operations(&self, prim: &Prim) -> Result<Vec<String>, String> {
        let order = self.stage.value(prim, "xformOpOrder", 0.0, Between::Hold)?;
        Ok(order.and_then(UsdValue::tokens).unwrap_or_default())
    }

    /// From a prim's space to that of its parent.
    fn transform(&self, prim: &Prim, time: f64) -> Result<(DMat4, bool), String> {
        let (mut matrix, mut resets) = (DMat4::IDENTITY, false);
        for name in self.operations(prim)? {
            if name == "!resetXformStack!" {
                (matrix, resets) = (DMat4::IDENTITY, true);
                continue;
            }
            let (inverted, name) = match name.strip_prefix("!invert!") {
                Some(name) => (true, name),
                None => (false, name.as_str()),
            };
            let kind = name.split(':').nth(1).unwrap_or_default();
            let between = if kind == "orient" { Between::Turn } else { Between::Line };
            let values = self.numbers(prim, name, time, between)?;
            let step = step(kind, &values)
                .ok_or_else(|| format!("{}: has a transform {name} that is not known", prim.path))?;
            matrix *= if inverted { step.inverse() } else { step };
        }
        Ok((matrix, resets))
    }

    /// From a node's space to metres, y up; and whether it is seen. Prototypes end at their own root.
    pub(super) fn placed(&self, index: usize, time: f64) -> Result<(DMat4, bool), String> {
        let (mut matrix, mut seen, mut at, mut resets) = (DMat4::IDENTITY, true, Some(index), false);
        while let Some(index) = at {
            let node = &self.nodes[index];
            let shown = self.stage.value(&node.prim, "visibility", time, Between::Hold)?;
            seen &= shown.and_then(UsdValue::tokens).is_none_or(|shown| shown != ["invisible"]);
            if !resets {
                let (own, reset) = self.transform(&node.prim, time)?;
                (matrix, resets) = (own * matrix, reset);
            }
            at = node.parent;
        }
        Ok((matrix, seen))
    }
}

/// A step of a transform.
fn step(kind: &str, values: &[f64]) -> Option<DMat4> {
    let vector = || <[f64; 3]>::try_from(values).ok().map(DVec3::from);
    let angle = || values.first().map(|degrees| degrees.to_radians());
    let turned = |axis: char, radians: f64| match axis {
        'X' => DMat4::from_rotation_x(radians),
        'Y' => DMat4::from_rotation_y(radians),
        _ => DMat4::from_rotation_z(radians),
    };
    Some(match kind {
        "translate" => DMat4::from_translation(vector()?),
        "scale" => DMat4::from_scale(vector()?),
        "transform" => DMat4::from_cols_array(values.try_into().ok()?),
        "orient" => {
            let [w, x, y, z] = <[f64; 4]>::try_from(values).ok()?;
            let turn = DQuat::from_xyzw(x, y, z, w).normalize();
            DMat4::from_quat(if turn.is_finite() { turn } else { DQuat::IDENTITY })
        }
        "rotateX" | "rotateY" | "rotateZ" => turned(kind.chars().last()?, angle()?),
        // The first axis named is the first about which is turned.
        "rotateXYZ" | "rotateXZY" | "rotateYXZ" | "rotateYZX" | "rotateZXY" | "rotateZYX" => {
            let degrees = vector()?;
            let of = |axis: char| degrees[(axis as usize) - ('X' as usize)].to_radians();
            let axes = kind.strip_prefix("rotate")?.chars();
            axes.fold(DMat4::IDENTITY, |matrix, axis| turned(axis, of(axis)) * matrix)
        }
        "translateX" | "translateY" | "translateZ" | "scaleX" | "scaleY" | "scaleZ" => {
            let axis = kind.chars().last()? as usize - 'X' as usize;
            let mut vector = if kind.starts_with("scale") { DVec3::ONE } else { DVec3::ZERO };
            vector[axis] = *values.first()?;
            if kind.starts_with("scale") {
                DMat4::from_scale(vector)
            } else {
                DMat4::from_translation(vector)
            }
        }
        _ => return None,
    })
}
