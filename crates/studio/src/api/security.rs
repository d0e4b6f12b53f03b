//! Who may ask: only pages of this server, and only by an address of this machine.

use crate::error::Error;
use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

/// The host part of `host`, `host:port`, `[address]` or `[address]:port`; none
/// if it is none of those.
fn host_of(value: &str) -> Option<&str> {
    let (host, rest) = match value.strip_prefix('[') {
        Some(rest) => rest.split_once(']')?,
        None => value.split_at(value.find(':').unwrap_or(value.len())),
    };
    let port = rest.strip_prefix(':').map_or(rest.is_empty(), |port| port.parse::<u16>().is_ok());
    port.then_some(host)
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
    let known =
        host_of(host).is_some_and(|host| host == "localhost" || host.parse::<std::net::IpAddr>().is_ok());
    if !known {
        let host = host_of(host).unwrap_or(host);
        return Error::Refused(format!("the host \"{host}\" is not this server")).into_response();
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

#[cfg(test)]
mod tests {
    use super::host_of;
    use rstest::rstest;

    #[rstest]
    #[case("localhost", Some("localhost"))]
    #[case("127.0.0.1:7700", Some("127.0.0.1"))]
    #[case("[::1]:7700", Some("::1"))]
    #[case("[::1]", Some("::1"))]
    #[case("[::1].evil.example", None)]
    #[case("[::1", None)]
    #[case("127.0.0.1:evil.example", None)]
    #[case("localhost:99999", None)]
    fn the_host_is_a_whole_name_or_address(#[case] value: &str, #[case] host: Option<&str>) {
        assert_eq!(host_of(value), host);
    }
}
