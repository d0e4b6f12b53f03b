//! Files that a shot uses: taken in, taken apart into elements, and given back.

use super::input::State;
use super::input::{Input, Path, Query, Upload};
use crate::assets;
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use geometry::Mesh;
use glam::{Quat, Vec3};
use interchange::{ImageFile, Material, Model, Part, PlacedMesh, write_obj};
use serde::{Deserialize, Serialize};
use shot::{
    Asset, AssetKind, Body, ElementKind, FileAnimation, MAX_ELEMENTS, Moves, Shape, Solid, euler_angles,
    look::Look,
};
use std::collections::BTreeMap;
use std::sync::Arc;
use utoipa::ToSchema;

#[derive(Deserialize)]
pub(crate) struct Named {
    name: String,
}

/// A file taken in, to be named in the document.
#[derive(Serialize, ToSchema)]
pub(crate) struct Uploaded {
    /// A name no asset of the shot has yet.
    name: String,
    /// The asset, to be put into the document under that name.
    #[schema(value_type = Object)]
    asset: Asset,
    /// What of it had to be mended.
    notice: Option<String>,
    /// Of a mesh file: how many parts it holds, which can be elements of their own.
    parts: usize,
}

/// Takes in a file: OBJ, GLB, PLY, STL, PNG, JPEG, EXR or HDR, told by `name`, or a
/// mesh that changes with time: a ZIP archive of numbered OBJ files, or a GLB with an animation.
#[utoipa::path(post, path = "/api/shots/{id}/assets", params(("id" = i64, Path), ("name" = String, Query)),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = Uploaded), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn upload(
    Extract(studio): State,
    Path(id): Path<i64>,
    Query(Named { name }): Query<Named>,
    Upload(body): Upload,
) -> Result<Json<Uploaded>> {
    let (shot, _) = studio.head(id).await?;
    let copy = studio.clone();
    copy.import(move || {
        let assets::Examined { converted, asset, notice, parts } =
            assets::examine(&name, &body, shot.timing.fps)?;
        let kept = converted.as_deref().unwrap_or(&body);
        frames::write_whole(&assets::path(&studio.data, &asset)?, kept)?;
        Ok(Json(Uploaded { name: free(&shot.assets, stem(&name), &asset), asset, notice, parts }))
    })
    .await
}

/// A mesh file that was taken in, to be made into elements.
#[derive(Deserialize, ToSchema)]
pub(crate) struct ModelOf {
    /// The asset, as it was taken in.
    #[schema(value_type = Object)]
    asset: Asset,
    /// The file's name, without its extension.
    name: String,
    /// Whether each part becomes an element of its own, with its own look.
    separate: bool,
}

/// A mesh file as elements.
#[derive(Serialize, ToSchema)]
pub(crate) struct ModelElements {
    /// Assets to be put into the document, by name.
    #[schema(value_type = Object)]
    assets: BTreeMap<String, Asset>,
    /// The elements.
    elements: Vec<ModelElement>,
    /// What was left out, each in a sentence.
    notices: Vec<String>,
}

/// An element to be added.
#[derive(Serialize, ToSchema)]
pub(crate) struct ModelElement {
    /// Its name, which elements of the shot may have already.
    name: String,
    /// What it is.
    #[schema(value_type = Object)]
    kind: ElementKind,
    /// Where it is, m.
    #[schema(value_type = [f32; 3])]
    position_m: Vec3,
    /// Its turns about x, y and z, rad.
    #[schema(value_type = [f32; 3])]
    orientation_rad: Vec3,
}

/// Makes a mesh file that was taken in into one element, or one for each part,
/// with the looks it has.
#[utoipa::path(post, path = "/api/shots/{id}/assets/elements", params(("id" = i64, Path)), request_body = ModelOf,
    responses((status = 200, body = ModelElements), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn elements(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(ModelOf { asset, name, separate }): Input<ModelOf>,
) -> Result<Json<ModelElements>> {
    let (shot, _) = studio.head(id).await?;
    let copy = studio.clone();
    copy.import(move || {
        if asset.kind == AssetKind::MeshSequence {
            let mut keep = Keep { studio: &studio, taken: shot.assets, made: BTreeMap::new() };
            let element = moving(&mut keep, name, asset, shot.timing.first)?;
            return Ok(Json(ModelElements {
                assets: keep.made,
                elements: vec![element],
                notices: Vec::new(),
            }));
        }
        if asset.kind != AssetKind::Mesh {
            return Err(Error::Bad(format!("{name} is not a mesh")));
        }
        let bytes = assets::read(&studio.data, &asset)?;
        let Model { parts, materials, images, mut notices } =
            interchange::read_model(&asset.file, &bytes, true)?;
        if separate && parts.len() > MAX_ELEMENTS {
            let message =
                format!("{name} has {} parts; a shot has at most {MAX_ELEMENTS} elements", parts.len());
            return Err(Error::Bad(message));
        }
        let mut keep = Keep { studio: &studio, taken: shot.assets, made: BTreeMap::new() };
        let mut kept = vec![None; images.len()];
        let mut looks = Vec::new();
        let largest =
            parts.iter().max_by_key(|part| part.mesh.triangles.len()).and_then(|part| part.material);
        for (i, material) in materials.into_iter().enumerate() {
            let used = separate || Some(i) == largest;
            looks.push(if used { keep.look(&name, material, &images, &mut kept)? } else { Look::default() });
        }
        let elements = if separate {
            let each = |part| separate_part(part, &looks, &mut keep);
            parts.into_iter().map(each).collect::<Result<Vec<_>>>()?
        } else {
            if looks.len() > 1 {
                notices.push(format!(
                    "{name} has {} looks, one body has one: that of its largest part is taken.",
                    looks.len()
                ));
            }
            let look = largest.map_or_else(Look::default, |material| looks[material].clone());
            let mesh = keep.named(&name, asset);
            vec![ModelElement {
                name,
                kind: solid(mesh, 1.0, look),
                position_m: Vec3::ZERO,
                orientation_rad: Vec3::ZERO,
            }]
        };
        Ok(Json(ModelElements { assets: keep.made, elements, notices }))
    })
    .await
}

fn separate_part(part: Part, looks: &[Look], keep: &mut Keep) -> Result<ModelElement> {
    let Part { name, mesh, position, orientation, scale, material } = part;
    let mesh = keep.file(&name, "ply", &interchange::write_ply(&mesh))?;
    let look = material.map_or_else(Look::default, |material| looks[material].clone());
    Ok(ModelElement {
        name,
        kind: solid(mesh, scale, look),
        position_m: position,
        orientation_rad: euler_angles(orientation),
    })
}

/// The element of a mesh that changes with time.
fn moving(keep: &mut Keep, name: String, asset: Asset, first: u32) -> Result<ModelElement> {
    let sequence = assets::sequence(&keep.studio.data, &asset)?;
    let mut kind = solid(keep.named(&name, asset), 1.0, Look::default());
    if let ElementKind::Solid(solid) = &mut kind {
        solid.body.moves = Moves::Animated;
        let start_frame = first as i32;
        solid.animation = Some(FileAnimation { start_frame, rate: sequence.rate(), ..Default::default() });
    }
    Ok(ModelElement { name, kind, position_m: Vec3::ZERO, orientation_rad: Vec3::ZERO })
}

fn solid(asset: String, scale: f32, look: Look) -> ElementKind {
    let shape = Shape::Mesh { asset, scale };
    ElementKind::Solid(Solid {
        shape,
        animation: None,
        cloth: None,
        soft: None,
        maps: Vec::new(),
        copies: None,
        placed: Vec::new(),
        sway: None,
        uvs: shot::UvLayout::Own,
        from_particles: None,
        to_particles: None,
        body: Body::default(),
        look,
    })
}

/// Assets that are made from a file.
struct Keep<'a> {
    studio: &'a crate::studio::Studio,
    /// The names that are taken.
    taken: BTreeMap<String, Asset>,
    made: BTreeMap<String, Asset>,
}

impl Keep<'_> {
    /// The name of an asset, the one that it has already or a new one.
    fn named(&mut self, name: &str, asset: Asset) -> String {
        let same = self.taken.iter().find(|(_, there)| **there == asset);
        let free = same.map_or_else(|| free(&self.taken, name, &asset), |(name, _)| name.clone());
        self.taken.insert(free.clone(), asset.clone());
        self.made.insert(free.clone(), asset);
        free
    }

    /// Keeps a file; gives its name among the assets.
    fn file(&mut self, name: &str, extension: &str, bytes: &[u8]) -> Result<String> {
        let asset = assets::examine(&format!("{name}.{extension}"), bytes, 24.0)?.asset;
        frames::write_whole(&assets::path(&self.studio.data, &asset)?, bytes)?;
        Ok(self.named(name, asset))
    }

    /// A look with its images kept, each once; `kept` has the names of those that are.
    fn look(
        &mut self,
        file: &str,
        material: Material,
        images: &[ImageFile],
        kept: &mut [Option<String>],
    ) -> Result<Look> {
        let mut look = material.look;
        for (of, position) in material.images {
            if kept[position].is_none() {
                let image = &images[position];
                let name = format!("{file} {}", image.name);
                kept[position] = Some(self.file(&name, image.extension, &image.bytes)?);
            }
            look.set_image(of, kept[position].clone());
        }
        Ok(look)
    }
}

/// Keeps a mesh as an OBJ file among the assets; gives its name there.
pub(super) fn keep_mesh(
    studio: &crate::studio::Studio,
    assets: &mut BTreeMap<String, Asset>,
    name: &str,
    mesh: Mesh,
) -> Result<String> {
    let bodies = vec![(Vec3::ZERO, Quat::IDENTITY, 1.0)];
    let placed = PlacedMesh { name: name.to_owned(), mesh: Arc::new(mesh), deforms: false, bodies };
    let mut keep = Keep { studio, taken: assets.clone(), made: BTreeMap::new() };
    let named = keep.file(name, "obj", &write_obj(&[placed]))?;
    assets.append(&mut keep.made);
    Ok(named)
}

/// A file's name without its folders and extension.
fn stem(file: &str) -> &str {
    let name = file.rsplit(['/', '\\']).next().unwrap_or(file);
    name.rsplit_once('.').map_or(name, |(stem, _)| stem)
}

/// A name for an asset that no other of the shot has.
fn free(assets: &BTreeMap<String, Asset>, stem: &str, asset: &Asset) -> String {
    let fits = |name: &String| assets.get(name).is_none_or(|there| there.sha256 == asset.sha256);
    let numbered = (2..).map(|n| format!("{stem} {n}"));
    std::iter::once(stem.to_owned()).chain(numbered).find(fits).expect("names are endless")
}

/// An asset's bytes.
#[utoipa::path(get, path = "/api/shots/{id}/assets/{name}", params(("id" = i64, Path), ("name" = String, Path)), responses((status = 200, content_type = "application/octet-stream")))]
pub(crate) async fn asset(Extract(studio): State, Path((id, name)): Path<(i64, String)>) -> Result<Response> {
    let (shot, _) = studio.head(id).await?;
    let asset = shot.assets.get(&name).ok_or_else(|| Error::NotFound(format!("asset {name}")))?;
    let asset = asset.clone();
    let of = asset.clone();
    // The Viewport shows the first frame where nothing is computed yet.
    let bytes = blocking(move || match of.kind {
        AssetKind::MeshSequence => Ok(interchange::write_ply(assets::sequence(&studio.data, &of)?.rest())),
        _ => assets::read(&studio.data, &of),
    })
    .await?;
    let kind = match asset.file.rsplit('.').next() {
        Some("png") => "image/png",
        Some("jpg" | "jpeg") => "image/jpeg",
        _ => "application/octet-stream",
    };
    Ok(([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, "no-cache")], bytes).into_response())
}
