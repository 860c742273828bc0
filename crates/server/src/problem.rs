//! Errors as problem documents (RFC 9457).

use antistasis_store::Expected;
use axum::Json;
use axum::extract::FromRequest;
use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A problem document (RFC 9457), media type `application/problem+json`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Kind of the problem, a relative URI: `/problems/invalid` and so on.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// HTTP status code.
    pub status: u16,
    /// What is the matter in this case, in words for the user.
    pub detail: String,
    /// The field that was refused, where it is about one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The document as it stands now, where somebody else has changed it meanwhile.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub current: Option<Box<serde_json::Value>>,
}

impl Problem {
    fn new(status: StatusCode, kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Self {
            kind: format!("/problems/{kind}"),
            title: title.to_owned(),
            status: status.as_u16(),
            detail: detail.into(),
            field: None,
            current: None,
        }
    }

    /// The input is refused.
    pub fn invalid(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, "invalid", "The input cannot be used", detail)
    }

    /// There is no such thing.
    pub fn not_found(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, "not-found", "Not found", detail)
    }

    /// The request is not meant for this site.
    pub fn foreign(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::FORBIDDEN, "foreign", "The request comes from another site", detail)
    }

    /// The input is refused because of one field.
    pub fn invalid_field(field: &str, detail: impl Into<String>) -> Self {
        Self { field: Some(field.to_owned()), ..Self::invalid(detail) }
    }

    /// What is the matter, in words.
    pub fn detail(&self) -> &str {
        &self.detail
    }

    /// A change to a document that somebody else has changed meanwhile; with the document as it stands now.
    pub fn changed(what: &str, given: Expected, revision: i64, current: &impl Serialize) -> Self {
        let yours = match given {
            Expected::Revision(revision) => format!("revision {revision}"),
            Expected::Any => "any revision".into(),
        };
        let detail = format!(
            "Somebody else has changed {what} meanwhile: yours began from {yours}, it stands at revision {revision} now. \
             Nothing was overwritten."
        );
        Self {
            current: serde_json::to_value(current).ok().map(Box::new),
            ..Self::new(StatusCode::PRECONDITION_FAILED, "changed", "Changed meanwhile", detail)
        }
    }

    /// A change that does not say what it changes from.
    pub fn without_revision() -> Self {
        let detail = "Say which revision is changed: If-Match with the ETag of the document, or * for any.";
        Self::new(StatusCode::PRECONDITION_REQUIRED, "revision", "A revision is missing", detail)
    }

    /// It cannot be done as things stand.
    pub fn conflict(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::CONFLICT, "conflict", "It cannot be done as things stand", detail)
    }

    /// What was asked for was cancelled.
    pub fn cancelled(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::CONFLICT, "cancelled", "Cancelled", detail)
    }

    /// Too large.
    pub fn too_large(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "Too large", detail)
    }

    /// Something is wrong here, not with the request; the log says what.
    pub fn internal() -> Self {
        let detail = "Nothing was changed. Try again; if it stays, the server's log says what is wrong.";
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "The server failed", detail)
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(self)).into_response();
        let media_type = HeaderValue::from_static("application/problem+json");
        response.headers_mut().insert(header::CONTENT_TYPE, media_type);
        response
    }
}

impl From<antistasis_core::Error> for Problem {
    fn from(error: antistasis_core::Error) -> Self {
        Self { field: error.field().map(str::to_owned), ..Self::invalid(error.to_string()) }
    }
}

impl From<antistasis_exchange::Error> for Problem {
    fn from(error: antistasis_exchange::Error) -> Self {
        match error {
            antistasis_exchange::Error::Core(error) => error.into(),
            antistasis_exchange::Error::Cancelled => Self::cancelled("The import was cancelled; nothing was stored."),
            error => Self::invalid(error.to_string()),
        }
    }
}

/// With a capital letter and a full stop.
fn sentence(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| format!("{}{}.", first.to_uppercase(), letters.as_str()))
}

impl From<antistasis_store::Error> for Problem {
    fn from(error: antistasis_store::Error) -> Self {
        match error {
            antistasis_store::Error::NotFound { .. } => Self::not_found(error.to_string()),
            antistasis_store::Error::Taken { what, .. } => {
                let field = if what == "loop" { "tag" } else { "name" };
                Self { field: Some(field.into()), ..Self::conflict(sentence(&error.to_string())) }
            }
            antistasis_store::Error::Refused(_) => Self::conflict(sentence(&error.to_string())),
            error => {
                tracing::error!(%error, "the store failed");
                Self::internal()
            }
        }
    }
}

macro_rules! from_rejection {
    ($rejection:ty) => {
        impl From<$rejection> for Problem {
            fn from(rejection: $rejection) -> Self {
                let status = rejection.status();
                Self::new(status, "request", "The request cannot be read", rejection.body_text())
            }
        }
    };
}

from_rejection!(JsonRejection);
from_rejection!(QueryRejection);
from_rejection!(PathRejection);

/// A JSON body; what is wrong with it becomes a problem document.
#[derive(FromRequest)]
#[from_request(via(Json), rejection(Problem))]
pub struct Body<T>(pub T);

/// The query; what is wrong with it becomes a problem document.
#[derive(axum::extract::FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(Problem))]
pub struct Query<T>(pub T);

/// A part of the path; what is wrong with it becomes a problem document.
#[derive(axum::extract::FromRequestParts)]
#[from_request(via(axum::extract::Path), rejection(Problem))]
pub struct Path<T>(pub T);
