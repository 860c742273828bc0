//! Errors as problem documents (RFC 9457).

use antistasis_store::Expected;
use axum::Json;
use axum::body::Bytes;
use axum::extract::rejection::{BytesRejection, JsonRejection, PathRejection, QueryRejection};
use axum::extract::{FromRequest, Request};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::de::DeserializeOwned;
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

    /// It is not known who asks.
    pub fn unknown() -> Self {
        let detail = "This needs the token of the server: open the address that was printed when it was started.";
        Self::new(StatusCode::UNAUTHORIZED, "unknown", "Who asks is not known", detail)
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

    /// The request makes no sense as it is.
    pub fn unreadable(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, "request", "The request cannot be read", detail)
    }

    /// It can be done, but not now; with what is in the way.
    pub fn busy(why: &str) -> Self {
        let detail = format!("{why} Nothing was changed: try again in a moment.");
        Self::new(StatusCode::SERVICE_UNAVAILABLE, "busy", "Not now", detail)
    }

    /// It would take longer than anything may.
    pub fn too_much_work(longest: std::time::Duration) -> Self {
        let detail = format!(
            "This was ended after {} s, since it would take longer than an answer may. Nothing was changed: take less data, a \
             shorter duration or a longer scan.",
            longest.as_secs_f64()
        );
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, "too-much-work", "Too much to compute", detail)
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
        if status == StatusCode::SERVICE_UNAVAILABLE {
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
        }
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
            error if error.is_dangling() => {
                Self::conflict("Something that this refers to does not exist, or no longer: load the page again.")
            }
            error if error.is_disk_full() => {
                tracing::error!(%error, "the disk is full");
                Self::new(
                    StatusCode::INSUFFICIENT_STORAGE,
                    "disk-full",
                    "The disk is full",
                    "Nothing was changed: the disk with the database is full. Free some space on it, then try again.",
                )
            }
            error if error.is_unreadable() => {
                tracing::warn!(%error, "a document cannot be read");
                Self::new(
                    StatusCode::UNPROCESSABLE_ENTITY,
                    "unreadable",
                    "It cannot be read",
                    "This was written by another version and cannot be read by this one; it is kept as it is.",
                )
            }
            error if error.is_unavailable() => {
                tracing::warn!(%error, "the database does not answer");
                Self::busy("The database does not answer; it is being started again.")
            }
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

from_rejection!(BytesRejection);
from_rejection!(JsonRejection);
from_rejection!(QueryRejection);
from_rejection!(PathRejection);

/// A JSON body; what is wrong with it becomes a problem document.
pub struct Body<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Body<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        let (parts, body) = request.into_parts();
        let bytes = Bytes::from_request(Request::from_parts(parts.clone(), body), state).await?;
        let whole = Request::from_parts(parts, bytes.clone().into());
        let Json(document) = Json::<T>::from_request(whole, state).await?;
        // What cannot be kept in a database is in no document: it can only stand in it escaped.
        if bytes.windows(6).any(|part| part == br"\u0000")
            && let Some(field) = serde_json::from_slice(&bytes).ok().and_then(|whole| field_with_zero(&whole))
        {
            let said = "A text holds characters that cannot be printed (U+0000): leave them out.";
            return Err(Problem::invalid_field(&field, said));
        }
        Ok(Self(document))
    }
}

/// The path of a text with U+0000 in it, or of what a name with it stands in.
fn field_with_zero(document: &serde_json::Value) -> Option<String> {
    let within = |name: String, value| {
        field_with_zero(value).map(|inner| if inner.is_empty() { name.clone() } else { format!("{name}.{inner}") })
    };
    match document {
        serde_json::Value::String(text) => text.contains('\0').then(String::new),
        serde_json::Value::Array(list) => list.iter().enumerate().find_map(|(k, value)| within(k.to_string(), value)),
        serde_json::Value::Object(fields) => {
            fields.iter().find_map(
                |(name, value)| {
                    if name.contains('\0') { Some(String::new()) } else { within(name.clone(), value) }
                },
            )
        }
        _ => None,
    }
}

/// The query; what is wrong with it becomes a problem document.
#[derive(axum::extract::FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(Problem))]
pub struct Query<T>(pub T);

/// A part of the path; what is wrong with it becomes a problem document.
#[derive(axum::extract::FromRequestParts)]
#[from_request(via(axum::extract::Path), rejection(Problem))]
pub struct Path<T>(pub T);
