//! What can go wrong, and how a client is told (RFC 9457).

use axum::Json;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use shot::Fault;
use utoipa::ToSchema;

/// A failure that a client can act on.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error("{0} is not there")]
    NotFound(String),
    #[error("{0}")]
    Bad(String),
    #[error("the shot has faults")]
    Faults(Vec<Fault>),
    #[error("the shot was changed elsewhere since revision {base}; it is now at {head}")]
    Conflict { base: i64, head: i64 },
    #[error("{0}")]
    TooLarge(String),
    #[error("{0}")]
    Refused(String),
    #[error("the disk is full; nothing of this was saved: make room, then do it again")]
    DiskFull,
    #[error("{0}")]
    Internal(String),
}

pub type Result<T> = std::result::Result<T, Error>;

/// A problem document.
#[derive(Debug, Serialize, ToSchema)]
pub struct Problem {
    /// Kind of problem, a path below this server.
    #[serde(rename = "type")]
    pub kind: &'static str,
    pub title: &'static str,
    pub status: u16,
    /// What happened, where, and what to do.
    pub detail: String,
    /// Faults by field.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<FaultView>,
    /// The revision to start again from, where a change came too late.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub head: Option<i64>,
}

/// One fault: where it is and what is wrong.
#[derive(Debug, Serialize, ToSchema)]
pub struct FaultView {
    pub path: String,
    pub message: String,
}

impl IntoResponse for Error {
    fn into_response(self) -> Response {
        let detail = self.to_string();
        let (status, kind, title, faults, head) = match self {
            Self::NotFound(_) => (StatusCode::NOT_FOUND, "/problems/not-found", "Not found", vec![], None),
            Self::Bad(_) => {
                (StatusCode::UNPROCESSABLE_ENTITY, "/problems/bad-input", "Bad input", vec![], None)
            }
            Self::Faults(faults) => {
                (StatusCode::UNPROCESSABLE_ENTITY, "/problems/faults", "The shot has faults", faults, None)
            }
            Self::Conflict { head, .. } => {
                (StatusCode::CONFLICT, "/problems/changed-elsewhere", "Changed elsewhere", vec![], Some(head))
            }
            Self::TooLarge(_) => {
                (StatusCode::PAYLOAD_TOO_LARGE, "/problems/too-large", "Too large", vec![], None)
            }
            Self::Refused(_) => (StatusCode::FORBIDDEN, "/problems/refused", "Refused", vec![], None),
            Self::DiskFull => {
                (StatusCode::INSUFFICIENT_STORAGE, "/problems/disk-full", "The disk is full", vec![], None)
            }
            Self::Internal(_) => {
                tracing::error!("{detail}");
                (StatusCode::INTERNAL_SERVER_ERROR, "/problems/internal", "It failed here", vec![], None)
            }
        };
        let detail = match faults.first() {
            Some(fault) => fault.to_string(),
            None => detail,
        };
        let faults = faults.into_iter().map(|f| FaultView { path: f.path, message: f.message }).collect();
        let problem = Problem { kind, title, status: status.as_u16(), detail, faults, head };
        (status, [(header::CONTENT_TYPE, "application/problem+json")], Json(problem)).into_response()
    }
}

impl From<sqlx::Error> for Error {
    fn from(error: sqlx::Error) -> Self {
        /// Primary result codes of SQLite.
        const FULL: &str = "13";
        match error.as_database_error().and_then(|error| error.code()) {
            Some(code) if code == FULL => Self::DiskFull,
            _ => Self::Internal(format!("the store: {error}")),
        }
    }
}

impl From<frames::RunError> for Error {
    fn from(error: frames::RunError) -> Self {
        match &error {
            frames::RunError::Missing { frame } => Self::NotFound(format!("frame {frame}")),
            frames::RunError::Io { source, .. } if source.kind() == std::io::ErrorKind::NotFound => {
                Self::NotFound("the frame".to_owned())
            }
            frames::RunError::Io { source, .. } if source.kind() == std::io::ErrorKind::StorageFull => {
                Self::DiskFull
            }
            frames::RunError::InUse { .. } => Self::Bad(error.to_string()),
            _ => Self::Internal(error.to_string()),
        }
    }
}

impl From<interchange::ImportError> for Error {
    fn from(error: interchange::ImportError) -> Self {
        Self::Bad(error.to_string())
    }
}

impl From<simulate::PrepareError> for Error {
    fn from(error: simulate::PrepareError) -> Self {
        Self::Bad(error.to_string())
    }
}

impl From<std::io::Error> for Error {
    fn from(error: std::io::Error) -> Self {
        match error.kind() {
            std::io::ErrorKind::StorageFull => Self::DiskFull,
            _ => Self::Internal(error.to_string()),
        }
    }
}
