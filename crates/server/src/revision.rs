//! Revisions of documents: told as ETag, asked for as If-Match (RFC 9110, sections 8.8.3 and 13.1.1).

use crate::problem::Problem;
use antistasis_store::Expected;
use axum::Json;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use serde::Serialize;

/// The revision that a change begins from; a request without one is refused.
#[derive(Debug, Clone, Copy)]
pub(crate) struct IfMatch(pub Expected);

impl<S: Sync> FromRequestParts<S> for IfMatch {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Problem> {
        let Some(given) = parts.headers.get(header::IF_MATCH) else { return Err(Problem::without_revision()) };
        let text = given.to_str().unwrap_or_default().trim();
        if text == "*" {
            return Ok(Self(Expected::Any));
        }
        let number = text.trim_start_matches("W/").trim_matches('"').parse();
        number.map(|revision| Self(Expected::Revision(revision))).map_err(|_| Problem::without_revision())
    }
}

/// A document with its revision as ETag.
#[derive(Debug)]
pub(crate) struct Revised<T>(pub i64, pub T);

impl<T: Serialize> IntoResponse for Revised<T> {
    fn into_response(self) -> Response {
        let mut response = Json(self.1).into_response();
        if let Ok(tag) = HeaderValue::from_str(&format!("\"{}\"", self.0)) {
            response.headers_mut().insert(header::ETAG, tag);
        }
        response
    }
}
