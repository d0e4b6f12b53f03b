//! The interface, built into the binary.

use crate::error::Error;
use axum::http::{Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../web/dist"]
struct Dist;

pub(crate) async fn page(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        return Error::NotFound(uri.path().to_owned()).into_response();
    }
    let (file, name) = match Dist::get(path) {
        Some(file) if !path.is_empty() => (file, path),
        _ => match Dist::get("index.html") {
            Some(file) => (file, "index.html"),
            None => {
                return Error::NotFound("the interface (build it with `cargo xtask demo`)".to_owned())
                    .into_response();
            }
        },
    };
    let cache = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let kind = file.metadata.mimetype().to_owned();
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache.to_owned())], file.data).into_response()
}
