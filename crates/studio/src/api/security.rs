//! Who may ask: only pages of this server, and only by an address of this machine.

use crate::error::Error;
use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

/// The host part of `host:port` or of an origin.
fn host_of(value: &str) -> &str {
    let value = value.split_once("://").map_or(value, |(_, rest)| rest);
    match value.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or(rest),
        None => value.split(':').next().unwrap_or(value),
    }
}

fn text(headers: &HeaderMap, name: header::HeaderName) -> Option<&str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}

/// Refuses requests by another host name (a rebound domain) or from a page of
/// another origin.
pub(crate) async fn guard(request: Request, next: Next) -> Response {
    let headers = request.headers();
    let host = text(headers, header::HOST).unwrap_or_default();
    // A server told to listen elsewhere is reached by its address, not a name.
    let known = host_of(host) == "localhost" || host_of(host).parse::<std::net::IpAddr>().is_ok();
    if !known {
        return Error::Refused(format!("the host \"{}\" is not this server", host_of(host))).into_response();
    }
    if let Some(origin) = text(headers, header::ORIGIN)
        && origin.split_once("://").map(|(_, rest)| rest) != Some(host)
    {
        return Error::Refused(format!("a page of {origin} may not ask this server")).into_response();
    }
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(
        header::CONTENT_SECURITY_POLICY,
        HeaderValue::from_static(
            "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; media-src 'self' blob:; frame-ancestors 'none'",
        ),
    );
    response
}
