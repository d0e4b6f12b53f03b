//! Materials that cloths, soft bodies and liquids are moved toward: those that come with the application, and one's own.

use super::elements::element;
use super::input::{Input, Path, Query, State};
use crate::error::{Error, Result};
use axum::Json;
use axum::extract::State as Extract;
use axum::http::StatusCode;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use shot::particles::{Liquid, liquid_materials};
use shot::{Cloth, Element, Soft, cloth_materials, soft_materials};
use utoipa::{IntoParams, ToSchema};

/// A material by its name.
#[derive(Serialize, ToSchema)]
pub(crate) struct MaterialName {
    name: String,
    /// Whether it was kept by hand, and can be deleted.
    own: bool,
}

/// The materials that elements can be moved toward.
#[derive(Serialize, ToSchema)]
pub(crate) struct Materials {
    /// Those of cloth.
    cloth: Vec<MaterialName>,
    /// Those of soft bodies.
    soft: Vec<MaterialName>,
    /// Those of liquids.
    liquid: Vec<MaterialName>,
}

/// What can be moved toward a material.
enum Substance<'a> {
    Cloth(&'a Cloth),
    Soft(&'a Soft),
    Liquid(&'a Liquid),
}

impl<'a> Substance<'a> {
    fn of(element: &'a Element) -> Result<Self> {
        if let Some(cloth) = element.as_cloth() {
            return Ok(Self::Cloth(cloth));
        }
        if let Some(soft) = element.as_soft() {
            return Ok(Self::Soft(soft));
        }
        let liquid = element.as_particles().and_then(|particles| particles.liquid.as_ref());
        liquid.map(Self::Liquid).ok_or_else(|| {
            Error::Bad(format!("{} is neither a free cloth nor a free soft body nor a liquid", element.name))
        })
    }

    /// Its name in the store.
    fn kind(&self) -> &'static str {
        match self {
            Self::Cloth(_) => "cloth",
            Self::Soft(_) => "soft",
            Self::Liquid(_) => "liquid",
        }
    }

    /// Its settings as a material, without what names other elements or maps.
    fn settings(self) -> String {
        let settings = match self {
            Self::Cloth(cloth) => {
                serde_json::to_string(&Cloth { pins: Vec::new(), scaled: Vec::new(), ..cloth.clone() })
            }
            Self::Soft(soft) => {
                serde_json::to_string(&Soft { pins: Vec::new(), scaled: Vec::new(), ..soft.clone() })
            }
            Self::Liquid(liquid) => serde_json::to_string(&Liquid { scaled: Vec::new(), ..liquid.clone() }),
        };
        settings.expect("it serialises")
    }

    /// What it would be, moved toward a material.
    fn toward(self, own: &[(String, String)], material: &str, degree: f32) -> Result<serde_json::Value> {
        let moved = match self {
            Self::Cloth(cloth) => {
                serde_json::to_value(cloth.toward(&found(cloth_materials(), own, material)?, degree))
            }
            Self::Soft(soft) => {
                serde_json::to_value(soft.toward(&found(soft_materials(), own, material)?, degree))
            }
            Self::Liquid(liquid) => {
                serde_json::to_value(liquid.toward(&found(liquid_materials(), own, material)?, degree))
            }
        };
        Ok(moved.expect("it serialises"))
    }
}

fn known(kind: &str) -> Vec<&'static str> {
    match kind {
        "cloth" => cloth_materials().into_iter().map(|(name, _)| name).collect(),
        "liquid" => liquid_materials().into_iter().map(|(name, _)| name).collect(),
        _ => soft_materials().into_iter().map(|(name, _)| name).collect(),
    }
}

/// The names of all materials.
#[utoipa::path(get, path = "/api/materials", responses((status = 200, body = Materials)))]
pub(crate) async fn materials(Extract(studio): State) -> Result<Json<Materials>> {
    let mut lists = Vec::new();
    for kind in ["cloth", "soft", "liquid"] {
        let known = known(kind).into_iter().map(|name| MaterialName { name: name.to_owned(), own: false });
        let own = studio.store.materials(kind).await?.into_iter();
        lists.push(known.chain(own.map(|(name, _)| MaterialName { name, own: true })).collect::<Vec<_>>());
    }
    let [cloth, soft, liquid] = lists.try_into().unwrap_or_else(|_| unreachable!("three kinds"));
    Ok(Json(Materials { cloth, soft, liquid }))
}

/// An element whose settings are kept.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct KeptMaterial {
    shot: i64,
    element: u32,
    /// Name of the material, up to 80 characters.
    name: String,
}

/// Keeps the settings of an element as a material, in place of one's own of that name.
#[utoipa::path(post, path = "/api/materials", request_body = KeptMaterial, responses((status = 204), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn keep(
    Extract(studio): State,
    Input(KeptMaterial { shot, element: of, name }): Input<KeptMaterial>,
) -> Result<StatusCode> {
    let (shot, _) = studio.head(shot).await?;
    let element = element(&shot, of)?;
    let substance = Substance::of(element)?;
    let kind = substance.kind();
    let name = name.trim().to_owned();
    if name.is_empty() || name.chars().count() > 80 || name.chars().any(char::is_control) {
        return Err(Error::Bad("name: from 1 to 80 characters, none of them a control character".to_owned()));
    }
    if known(kind).contains(&name.as_str()) {
        return Err(Error::Bad(format!(
            "\"{name}\" is a material that comes with the application; choose another name"
        )));
    }
    studio.store.keep_material(kind, name, substance.settings()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Deletes a material of one's own.
#[utoipa::path(delete, path = "/api/materials/{kind}/{name}", params(("kind" = String, Path), ("name" = String, Path)), responses((status = 204), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn delete(
    Extract(studio): State,
    Path((kind, name)): Path<(String, String)>,
) -> Result<StatusCode> {
    studio.store.delete_material(kind, name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// A cloth, a soft body or a liquid moved toward a material.
#[derive(Deserialize, IntoParams)]
pub(crate) struct Toward {
    /// Name of the material.
    material: String,
    /// How far, 0–1.
    degree: f32,
}

/// What a cloth, a soft body or a liquid would be, moved toward a material of its kind.
#[utoipa::path(get, path = "/api/shots/{id}/toward/{element}", params(("id" = i64, Path), ("element" = u32, Path), Toward), responses((status = 200, body = serde_json::Value)))]
pub(crate) async fn toward(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
    Query(Toward { material, degree }): Query<Toward>,
) -> Result<Json<serde_json::Value>> {
    let (shot, _) = studio.head(id).await?;
    let element = element(&shot, of)?;
    if !(0.0..=1.0).contains(&degree) {
        return Err(Error::Bad(format!("a degree of {degree} is not from 0 to 1")));
    }
    let substance = Substance::of(element)?;
    let own = studio.store.materials(substance.kind()).await?;
    Ok(Json(substance.toward(&own, &material, degree)?))
}

fn found<T: DeserializeOwned>(
    known: impl IntoIterator<Item = (&'static str, T)>,
    own: &[(String, String)],
    name: &str,
) -> Result<T> {
    if let Some((_, of)) = known.into_iter().find(|(other, _)| *other == name) {
        return Ok(of);
    }
    let (_, settings) = (own.iter().find(|(other, _)| other == name))
        .ok_or_else(|| Error::Bad(format!("there is no material {name:?}")))?;
    serde_json::from_str(settings)
        .map_err(|error| Error::Bad(format!("the material {name:?} was kept by another version: {error}")))
}
