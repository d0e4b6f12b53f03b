//! The HTTP interface. A file a resource; the description is generated.

mod assets;
mod check;
mod deformables;
mod elements;
mod events;
mod films;
mod finish;
mod frame_rate;
mod freshness;
mod gate;
mod handing_on;
mod history;
mod initial_state;
mod input;
mod liquids;
mod maps;
mod materials;
mod motion;
mod outlines;
mod packing;
mod pages;
mod patching;
mod perform;
mod runs;
mod security;
mod shots;
mod surfaces;
mod topologies;
mod view_film;

use crate::error::{Error, Problem};
use crate::studio::Studio;
use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::sync::Arc;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(crate) use check::overlaps;

/// Largest body of a request that is not an upload, bytes.
const MAX_BODY: usize = 16 << 20;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Bright Ripple",
        description = "Shots, runs and films. Errors are problem documents (RFC 9457)."
    ),
    components(schemas(Problem, crate::studio::Event))
)]
struct Description;

fn router() -> OpenApiRouter<Arc<Studio>> {
    OpenApiRouter::with_openapi(Description::openapi())
        .routes(routes!(shots::list, shots::create))
        .routes(routes!(shots::get, shots::patch, shots::delete))
        .routes(routes!(shots::poster))
        .routes(routes!(shots::import))
        .routes(routes!(shots::export))
        .routes(routes!(history::undo))
        .routes(routes!(history::redo))
        .routes(routes!(history::history, history::restore))
        .routes(routes!(history::version))
        .routes(routes!(elements::mesh))
        .routes(routes!(elements::collision))
        .routes(routes!(elements::staged))
        .routes(routes!(elements::sky))
        .routes(routes!(motion::at))
        .routes(routes!(motion::sample))
        .routes(routes!(motion::formula))
        .routes(routes!(motion::probe))
        .routes(routes!(motion::acting))
        .routes(routes!(elements::strokes))
        .routes(routes!(outlines::text))
        .routes(routes!(outlines::drawing))
        .routes(routes!(elements::drop))
        .routes(routes!(elements::delete))
        .routes(routes!(elements::physics))
        .routes(routes!(materials::materials, materials::keep))
        .routes(routes!(materials::delete))
        .routes(routes!(materials::toward))
        .routes(routes!(assets::upload))
        .routes(routes!(assets::asset))
        .routes(routes!(assets::elements))
        .routes(routes!(check::list))
        .routes(routes!(check::fix))
        .routes(routes!(gate::list))
        .routes(routes!(freshness::freshness))
        .routes(routes!(runs::play, runs::stop))
        .routes(routes!(runs::clear))
        .routes(routes!(runs::list, runs::keep))
        .routes(routes!(runs::rename, runs::delete))
        .routes(routes!(runs::restore))
        .routes(routes!(runs::poster))
        .routes(routes!(runs::differences))
        .routes(routes!(runs::frame))
        .routes(routes!(topologies::topology))
        .routes(routes!(maps::map))
        .routes(routes!(packing::pack))
        .routes(routes!(surfaces::measured))
        .routes(routes!(surfaces::albedo))
        .routes(routes!(surfaces::particles))
        .routes(routes!(surfaces::uvs))
        .routes(routes!(deformables::mesh_facts))
        .routes(routes!(liquids::liquid_facts))
        .routes(routes!(liquids::comparison, liquids::compare))
        .routes(routes!(liquids::stop_comparison))
        .routes(routes!(deformables::interior_lines))
        .routes(routes!(deformables::waves))
        .routes(routes!(handing_on::meshes))
        .routes(routes!(runs::measured))
        .routes(routes!(runs::track))
        .routes(routes!(initial_state::set))
        .routes(routes!(frame_rate::set))
        .routes(routes!(finish::loops))
        .routes(routes!(finish::rounds))
        .routes(routes!(films::list, films::create))
        .routes(routes!(films::forecast))
        .routes(routes!(films::delete))
        .routes(routes!(films::stop))
        .routes(routes!(films::resume))
        .routes(routes!(films::picture))
        .routes(routes!(films::linear))
        .routes(routes!(films::movie))
        .routes(routes!(view_film::make))
        .routes(routes!(films::frames))
}

/// The whole application as a service.
pub fn app(studio: Arc<Studio>) -> Router {
    let (api, _) = router().split_for_parts();
    api.route("/api/events", axum::routing::get(events::events))
        .route("/api/shots/{id}/perform", axum::routing::get(perform::perform))
        .route("/api/openapi.json", axum::routing::get(|| async { axum::Json(description()) }))
        .fallback(pages::page)
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .layer(axum::middleware::from_fn(whole))
        .layer(axum::middleware::from_fn(security::guard))
        .layer(tower_http::compression::CompressionLayer::new())
        .with_state(studio)
}

/// Answers a request to its end, though the client may leave meanwhile, and
/// turns a panic into a problem document.
async fn whole(request: Request, next: Next) -> Response {
    tokio::spawn(next.run(request)).await.unwrap_or_else(|error| {
        Error::Internal(format!("an error in the program ended this request: {error}")).into_response()
    })
}

/// The OpenAPI description, with the shot file's schema among its components.
pub fn description() -> serde_json::Value {
    let (_, description) = router().split_for_parts();
    let mut value = serde_json::to_value(description).expect("the description serialises");
    for (path, methods) in value["paths"].as_object_mut().expect("paths") {
        let position = path.trim_start_matches("/api/").replace(['{', '}'], "").replace(['/', '.'], "_");
        for (method, operation) in methods.as_object_mut().expect("methods") {
            operation["operationId"] = format!("{method}_{position}").into();
        }
    }
    let mut schema = shot::schema();
    let text = schema.to_string().replace("#/$defs/", "#/components/schemas/");
    schema = serde_json::from_str(&text).expect("still JSON");
    let parts = schema.as_object_mut().expect("an object");
    let definitions = parts.remove("$defs").unwrap_or_default();
    parts.remove("$schema");
    let components = value["components"]["schemas"].as_object_mut().expect("components");
    components.insert("Shot".to_owned(), schema);
    for (name, definition) in definitions.as_object().into_iter().flatten() {
        let taken = components.insert(name.clone(), definition.clone());
        assert!(taken.is_none(), "two schemas are called {name}");
    }
    value
}
