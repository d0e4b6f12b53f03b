//! Looks of materials.

use super::UsdScene;
use super::composition::{Between, Prim};
use super::value::UsdValue;
use crate::model::Material;
use glam::Vec3;
use shot::look::Look;

impl UsdScene {
    /// The surface that a material says by constants.
    pub(super) fn material(&mut self, prim: &Prim) -> Result<Material, String> {
        let mut look = Look::default();
        for child in self.stage.children(prim)? {
            let id = self.stage.value(&child, "info:id", 0.0, Between::Hold)?.and_then(UsdValue::tokens);
            if id.is_none_or(|id| id != ["UsdPreviewSurface"]) {
                continue;
            }
            let numbers = |input: &str| -> Result<Option<Vec<f64>>, String> {
                let value = self.stage.value(&child, &format!("inputs:{input}"), 0.0, Between::Hold)?;
                Ok(value.and_then(UsdValue::numbers).filter(|list| list.iter().all(|n| n.is_finite())))
            };
            let colour = |list: Option<Vec<f64>>| {
                list.filter(|c| c.len() == 3)
                    .map(|c| Vec3::new(c[0] as f32, c[1] as f32, c[2] as f32).max(Vec3::ZERO))
            };
            let fraction = |list: Option<Vec<f64>>| {
                list.and_then(|list| list.first().copied()).map(|n| n.clamp(0.0, 1.0) as f32)
            };
            look.albedo = colour(numbers("diffuseColor")?).unwrap_or(Vec3::splat(0.18)).min(Vec3::ONE);
            look.emission = colour(numbers("emissiveColor")?).unwrap_or(Vec3::ZERO);
            look.roughness = fraction(numbers("roughness")?).unwrap_or(0.5);
            look.metalness = fraction(numbers("metallic")?).unwrap_or(0.0);
            look.transmission = 1.0 - fraction(numbers("opacity")?).unwrap_or(1.0);
            let ior = numbers("ior")?.and_then(|list| list.first().copied()).unwrap_or(1.5);
            look.refractive_index = ior.clamp(1.0, 3.0) as f32;
        }
        Ok(Material { name: prim.name().chars().take(80).collect(), look, images: Vec::new() })
    }
}
