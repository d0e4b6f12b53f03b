//! What the Viewport draws of an element, and the files elements use.

use super::input::State;
use super::input::{Input, Path, Query};
use super::motion::{sampled, solved_in};
use super::shots::{ShotState, state};
use crate::assets;
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use shot::{Element, ElementKind, Id, Moves, Shot, light::SkySource, world::World};
use simulate::solids::{collision_mesh, drop_to_rest};
use utoipa::ToSchema;

pub(super) fn element(shot: &Shot, id: u32) -> Result<&Element> {
    shot.element(Id(id)).ok_or_else(|| Error::NotFound(format!("element {id}")))
}

/// Bytes under a tag that changes with what they were made from.
fn tagged(
    headers: &HeaderMap,
    of: &impl Serialize,
    make: impl FnOnce() -> Result<Vec<u8>>,
) -> Result<Response> {
    let tag = format!("\"{}\"", &assets::sha256(&serde_json::to_vec(of).expect("it serialises"))[..20]);
    if headers.get(header::IF_NONE_MATCH).is_some_and(|known| known.as_bytes() == tag.as_bytes()) {
        return Ok(StatusCode::NOT_MODIFIED.into_response());
    }
    let kind = "application/octet-stream".to_owned();
    let cache = "no-cache".to_owned();
    let head = [(header::CONTENT_TYPE, kind), (header::ETAG, tag), (header::CACHE_CONTROL, cache)];
    Ok((head, make()?).into_response())
}

fn mesh_bytes(positions: &[glam::Vec3], shading: &[&[u8]], triangles: &[[u32; 3]]) -> Vec<u8> {
    let counts = [positions.len() as u32, triangles.len() as u32];
    let positions: &[u8] = bytemuck::cast_slice(positions);
    [bytemuck::cast_slice(&counts), positions, &shading.concat(), bytemuck::cast_slice(triangles)].concat()
}

#[derive(Deserialize)]
pub(crate) struct AtFrame {
    /// Where it changes with time; none: as the document has it.
    #[serde(default)]
    frame: Option<u32>,
}

/// Triangles that the Viewport draws of an element's copies, about.
const VIEWPORT_TRIANGLES: usize = 24_000;

/// An element's mesh; coarser where it is round and has many copies: u32 vertices, u32 triangles; 3 f32 a vertex for places
/// (m), 3 f32 for normals, 2 f32 for UVs; 3 u32 a triangle. Little-endian.
#[utoipa::path(get, path = "/api/shots/{id}/mesh/{element}", params(("id" = i64, Path), ("element" = u32, Path), ("frame" = Option<u32>, Query)), responses((status = 200, content_type = "application/octet-stream")))]
pub(crate) async fn mesh(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
    Query(AtFrame { frame }): Query<AtFrame>,
    headers: HeaderMap,
) -> Result<Response> {
    let (mut shot, _) = studio.head(id).await?;
    blocking(move || {
        if let Some(frame) = frame {
            shot = sampled(&shot, f64::from(frame))?.1;
        }
        let element = element(&shot, of)?;
        let solid = element.as_solid().ok_or_else(|| Error::Bad(format!("{} has no shape", element.name)))?;
        let copies = element.count();
        tagged(&headers, &(&solid.shape, solid.uvs, &shot.assets, copies), || {
            let meshes = studio.loader.meshes(&studio.data, &shot)?;
            let mesh = meshes
                .mesh_for(&solid.shape, copies, VIEWPORT_TRIANGLES)
                .map_err(|error| Error::Bad(error.to_string()))?;
            let mesh = geometry::uv::laid(mesh, solid.uvs);
            let shading = [bytemuck::cast_slice(&mesh.normals), bytemuck::cast_slice(&mesh.uvs)];
            Ok(mesh_bytes(&mesh.positions, &shading, &mesh.triangles))
        })
    })
    .await
}

/// The shape an element collides as: as a mesh, but without normals and UVs.
#[utoipa::path(get, path = "/api/shots/{id}/collision/{element}", params(("id" = i64, Path), ("element" = u32, Path)), responses((status = 200, content_type = "application/octet-stream")))]
pub(crate) async fn collision(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
    headers: HeaderMap,
) -> Result<Response> {
    let (shot, _) = studio.head(id).await?;
    blocking(move || {
        let element = element(&shot, of)?;
        tagged(&headers, &(&element.kind, &shot.assets), || {
            let meshes = studio.loader.meshes(&studio.data, &shot)?;
            let mesh = collision_mesh(element, &meshes)?;
            Ok(mesh_bytes(&mesh.positions, &[], &mesh.triangles))
        })
    })
    .await
}

/// Texels up the map of a sky; twice as many go round. What a graphics card
/// makes of it takes long without one, and a gradient needs few.
const SKY_ROWS: usize = 32;
/// … of a sky from an image.
const SKY_IMAGE_ROWS: usize = 128;

/// The sky as the Viewport shows it: radiance as 2 n × n texels of 4 half floats
/// (red, green, blue, 1), rows from straight down to straight up, columns from
/// −x over −z, x and z back to −x.
#[utoipa::path(get, path = "/api/shots/{id}/sky", params(("id" = i64, Path)), responses((status = 200, content_type = "application/octet-stream")))]
pub(crate) async fn sky(Extract(studio): State, Path(id): Path<i64>, headers: HeaderMap) -> Result<Response> {
    let (shot, _) = studio.head(id).await?;
    blocking(move || {
        let skies: Vec<_> = shot.elements.iter().filter(|element| matches!(element.kind, ElementKind::Sky(_))).collect();
        tagged(&headers, &(&skies, &shot.assets), || {
            let assets = studio.loader.all(&studio.data, &shot)?;
            let image = |element: &&Element| {
                matches!(&element.kind, ElementKind::Sky(sky) if matches!(sky.source, SkySource::Image { .. }))
            };
            let rows = if skies.iter().any(image) { SKY_IMAGE_ROWS } else { SKY_ROWS };
            let map = picture::sky_map(&shot, &assets, 2 * rows, rows)
                .map_err(|error| Error::Bad(error.to_string()))?;
            let half = |value: f32| half::f16::from_f32(value.min(65_504.0)).to_le_bytes();
            Ok(map.iter().flat_map(|c| [c.x, c.y, c.z, 1.0]).flat_map(half).collect())
        })
    })
    .await
}

/// Where the document has every element at a frame, as a frame for the Viewport.
#[utoipa::path(get, path = "/api/shots/{id}/staged/{number}", params(("id" = i64, Path), ("number" = u32, Path)), responses((status = 200, content_type = "application/octet-stream")))]
pub(crate) async fn staged(Extract(studio): State, Path((id, number)): Path<(i64, u32)>) -> Result<Response> {
    let (shot, _) = studio.head(id).await?;
    let runs = studio.runs_of(&shot, &studio.store.current_run(id).await?).await?;
    let frame = blocking(move || {
        let (sampler, now, acting) = sampled(&shot, f64::from(number))?;
        let frames = runs.frames(&shot)?;
        let solved = solved_in(&*frames, &shot);
        let unsolved = |_: Id, _: f64| None;
        let (staged, followed) =
            (World::new(&now, &sampler, acting, &unsolved), World::new(&now, &sampler, acting, &solved));
        let mut frame = frames::Frame::new(number, shot.timing.seconds(number));
        for element in &now.elements {
            // Solids stand as the document has them; what goes with them or
            // looks at them, as the run has those.
            let world = if element.as_solid().is_some() { staged } else { followed };
            let mut bodies = frames::Bodies::default();
            for (position, orientation) in world.placements(element) {
                bodies.push(position, orientation, Default::default(), Default::default());
            }
            frame.bodies.insert(element.id, bodies);
        }
        Ok(frame)
    })
    .await?;
    let head = [(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-store")];
    Ok((head, frames::wire(&frame, frames::Thinning::NONE)).into_response())
}

/// The strokes of a curve in its own frame: points of three numbers, m.
#[utoipa::path(get, path = "/api/shots/{id}/strokes/{element}", params(("id" = i64, Path), ("element" = u32, Path), ("frame" = Option<u32>, Query)), responses((status = 200, body = Vec<Vec<Vec<f32>>>)))]
pub(crate) async fn strokes(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
    Query(AtFrame { frame }): Query<AtFrame>,
) -> Result<Json<Vec<Vec<[f32; 3]>>>> {
    let (mut shot, _) = studio.head(id).await?;
    blocking(move || {
        if let Some(frame) = frame {
            shot = sampled(&shot, f64::from(frame))?.1;
        }
        let element = element(&shot, of)?;
        let ElementKind::Curve(curve) = &element.kind else {
            return Err(Error::Bad(format!("{} is not a curve", element.name)));
        };
        let strokes = curve.strokes().into_iter();
        Ok(Json(strokes.map(|stroke| stroke.into_iter().map(|point| point.to_array()).collect()).collect()))
    })
    .await
}

/// Lets an element down until it touches something.
#[utoipa::path(post, path = "/api/shots/{id}/drop/{element}", params(("id" = i64, Path), ("element" = u32, Path)), responses((status = 200, body = ShotState), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn drop(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
) -> Result<Json<ShotState>> {
    let (mut shot, revision) = studio.head(id).await?;
    let name = element(&shot, of)?.name.clone();
    let (copy, at) = (studio.clone(), shot.clone());
    let shift = blocking(move || {
        let meshes = copy.loader.meshes(&copy.data, &at)?;
        Ok(drop_to_rest(&at, &meshes, Id(of))?)
    })
    .await?;
    let shift = shift.ok_or_else(|| Error::Bad(format!("there is nothing below {name} to rest on")))?;
    let element = shot.elements.iter_mut().find(|element| element.id == Id(of)).expect("found above");
    element.shift(shift);
    studio.change(id, revision, &format!("{name} dropped to rest"), &shot).await?;
    state(&studio, id).await
}

/// Elements to be deleted.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Deletion {
    /// The revision the deletion was meant for.
    base: i64,
    /// Ids of the elements.
    elements: Vec<u32>,
}

/// Deletes elements, and what names them: attachments, entries of lists, events.
#[utoipa::path(post, path = "/api/shots/{id}/delete", params(("id" = i64, Path)), request_body = Deletion,
    responses((status = 200, body = ShotState), (status = 409, body = crate::error::Problem), (status = 404, body = crate::error::Problem)))]
pub(crate) async fn delete(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(Deletion { base, elements }): Input<Deletion>,
) -> Result<Json<ShotState>> {
    let (shot, head) = studio.head(id).await?;
    if head != base {
        return Err(Error::Conflict { base, head });
    }
    let ids: Vec<Id> = elements.into_iter().map(Id).collect();
    let names = ids.iter().map(|id| Ok(element(&shot, id.0)?.name.clone())).collect::<Result<Vec<_>>>()?;
    let left = blocking(move || Ok(shot.without(&ids))).await?;
    let label: String = format!("{} deleted", names.join(", ")).chars().take(120).collect();
    studio.change(id, base, &label, &left).await?;
    state(&studio, id).await
}

/// What follows from a solid's shape and weight.
#[derive(Serialize, ToSchema)]
pub(crate) struct SolidPhysics {
    /// Volume of one copy, m³.
    volume_m3: f32,
    /// Mass of one copy, kg.
    mass_kg: f32,
    /// kg/m³.
    density_kg_m3: f32,
    /// The collision shape used: sphere, box, hull or exact; or in words.
    collides_as: String,
    /// Distance kept from other bodies, m.
    margin_m: f32,
    /// Smallest dimension, m.
    smallest_m: f32,
    /// Size of its box, m.
    size_m: [f32; 3],
    /// Area it shows the wind, m².
    wind_area_m2: f32,
    /// Drag coefficient.
    drag: f32,
    /// The contact with the first still solid of the shot.
    pair: Option<PairContact>,
}

/// The coefficients of a pair of solids in contact.
#[derive(Serialize, ToSchema)]
pub(crate) struct PairContact {
    /// Name of the other solid.
    with: String,
    friction: f32,
    restitution: f32,
}

/// The contact of a solid with the first still one.
fn pair_contact(shot: &Shot, of: &Element, body: &shot::Body) -> Option<PairContact> {
    let still =
        |(element, solid): &(&Element, &shot::Solid)| element.id != of.id && solid.body.moves == Moves::Still;
    let (element, other) = shot.solids().find(still)?;
    Some(PairContact {
        with: element.name.clone(),
        friction: shot::pair_coefficient(body.friction, other.body.friction),
        restitution: shot::pair_coefficient(body.restitution, other.body.restitution),
    })
}

/// What follows from a solid's shape and weight.
#[utoipa::path(get, path = "/api/shots/{id}/physics/{element}", params(("id" = i64, Path), ("element" = u32, Path)), responses((status = 200, body = SolidPhysics)))]
pub(crate) async fn physics(
    Extract(studio): State,
    Path((id, of)): Path<(i64, u32)>,
) -> Result<Json<SolidPhysics>> {
    let (shot, _) = studio.head(id).await?;
    blocking(move || {
        let element = element(&shot, of)?;
        let solid =
            element.as_solid().ok_or_else(|| Error::Bad(format!("{} is not a solid", element.name)))?;
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let bad = |error: geometry::MissingMesh| Error::Bad(error.to_string());
        let volume_m3 = meshes.mass(&solid.shape).map_err(bad)?.volume;
        let mass_kg = meshes.mass_kg(&solid.shape, solid.body.weight).map_err(bad)?;
        let smallest_m = meshes.smallest_m(&solid.shape).map_err(bad)?;
        Ok(Json(SolidPhysics {
            volume_m3,
            mass_kg,
            density_kg_m3: mass_kg / volume_m3,
            collides_as: match element.file_animation() {
                Some(_) => "its own surface, as the file moves it".to_owned(),
                None => format!("{:?}", solid.body.collision_of(&solid.shape)).to_lowercase(),
            },
            margin_m: solid.body.margin_m(smallest_m),
            smallest_m,
            size_m: meshes.mesh(&solid.shape).map_err(bad)?.bounds().size().to_array(),
            wind_area_m2: meshes.wind_area_m2(&solid.shape).map_err(bad)?,
            drag: solid.body.drag_of(&solid.shape),
            pair: pair_contact(&shot, element, &solid.body),
        }))
    })
    .await
}
