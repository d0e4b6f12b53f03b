//! What requests bring: rejections are problem documents like any other error.

use crate::error::{Error, Result};
use crate::studio::Studio;
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::State as AxumState;
use axum::extract::{FromRequest, FromRequestParts, Json, Request};
use axum::http::header::CONTENT_LENGTH;
use axum::http::request::Parts;
use interchange::MAX_FILE;
use serde::de::DeserializeOwned;
use std::sync::Arc;

/// The application, as handlers take it.
pub(crate) type State = AxumState<Arc<Studio>>;

/// A JSON body.
pub(crate) struct Input<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Input<T> {
    type Rejection = Error;

    async fn from_request(request: Request, state: &S) -> Result<Self> {
        let (parts, body) = request.into_parts();
        let bytes = Bytes::from_request(Request::from_parts(parts.clone(), body), state).await;
        let bytes = bytes.map_err(|rejection| Error::Bad(rejection.body_text()))?;
        let memory = shot::json::json_memory(&bytes);
        if memory > shot::json::MAX_JSON_MEMORY {
            return Err(Error::Bad(format!(
                "the values of the request would take {} MB; at most {} MB",
                memory >> 20,
                shot::json::MAX_JSON_MEMORY >> 20
            )));
        }
        match Json::<T>::from_request(Request::from_parts(parts, Body::from(bytes)), state).await {
            Ok(Json(value)) => Ok(Self(value)),
            Err(rejection) => Err(Error::Bad(rejection.body_text())),
        }
    }
}

/// What stands in the path.
pub(crate) struct Path<T>(pub T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Path<T> {
    type Rejection = Error;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self> {
        match axum::extract::Path::<T>::from_request_parts(parts, state).await {
            Ok(axum::extract::Path(value)) => Ok(Self(value)),
            Err(rejection) => Err(Error::Bad(format!("the path: {}", rejection.body_text()))),
        }
    }
}

/// What stands after the path.
pub(crate) struct Query<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Query<T> {
    type Rejection = Error;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self> {
        match axum::extract::Query::<T>::from_request_parts(parts, state).await {
            Ok(axum::extract::Query(value)) => Ok(Self(value)),
            Err(rejection) => Err(Error::Bad(format!("the query: {}", rejection.body_text()))),
        }
    }
}

/// A file, of [`MAX_FILE`] bytes at most.
pub(crate) struct Upload(pub Bytes);

impl<S: Send + Sync> FromRequest<S> for Upload {
    type Rejection = Error;

    async fn from_request(request: Request, _: &S) -> Result<Self> {
        let stated =
            request.headers().get(CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
        let too_large = || {
            Error::TooLarge(format!("the file is larger than {} MB; nothing of it was kept", MAX_FILE >> 20))
        };
        if stated.is_some_and(|length: usize| length > MAX_FILE) {
            return Err(too_large());
        }
        to_bytes(request.into_body(), MAX_FILE).await.map(Self).map_err(|_| too_large())
    }
}
