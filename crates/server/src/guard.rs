//! Who may ask: only pages of this site, by its own names.
//!
//! A server on loopback can be reached by every page that the user's browser opens. Names are checked against DNS
//! rebinding, origins against writes from other sites.

use crate::problem::Problem;
use crate::state::AppState;
use axum::extract::{Request, State};
use axum::http::{HeaderName, HeaderValue, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

/// Refuses requests to other host names, and writes from other origins.
pub(crate) async fn own_site_only(State(state): State<AppState>, request: Request, next: Next) -> Response {
    match foreign(&state.own_origins, &request) {
        Some(problem) => problem.into_response(),
        None => next.run(request).await,
    }
}

fn foreign(own_origins: &[String], request: &Request) -> Option<Problem> {
    let text = |name: HeaderName| request.headers().get(name).and_then(|value| value.to_str().ok());
    let host = text(header::HOST).or_else(|| request.uri().authority().map(|authority| authority.as_str()));
    let host = host.unwrap_or_default();
    if !own_origins.iter().any(|own| own.strip_prefix("http://") == Some(host)) {
        return Some(Problem::foreign(format!("this server does not answer to the name “{host}”")));
    }
    if matches!(*request.method(), Method::GET | Method::HEAD) {
        return None;
    }
    let origin = text(header::ORIGIN);
    if origin.is_some_and(|origin| !own_origins.iter().any(|own| own == origin)) {
        return Some(Problem::foreign(format!("pages of {} may not write here", origin.unwrap_or_default())));
    }
    let site = text(HeaderName::from_static("sec-fetch-site"));
    if site.is_some_and(|site| site == "cross-site" || site == "same-site") && origin.is_none() {
        return Some(Problem::foreign("pages of other sites may not write here"));
    }
    None
}

/// Refuses addresses that no text can be: the database could not even look for them.
pub(crate) async fn readable_address(request: Request, next: Next) -> Response {
    let uri = request.uri();
    let has_zero = |text: &str| text.to_ascii_lowercase().contains("%00");
    if has_zero(uri.path()) || uri.query().is_some_and(has_zero) {
        return Problem::unreadable("the address holds characters that cannot be printed").into_response();
    }
    next.run(request).await
}

const CONTENT_POLICY: &str = "content-security-policy";

/// Tells the browser to load nothing from elsewhere, and not to show this site inside another.
pub(crate) async fn security_headers(request: Request, next: Next) -> Response {
    let is_data = request.uri().path().starts_with("/api/");
    let mut response = next.run(request).await;
    if is_data && !response.headers().contains_key(header::CACHE_CONTROL) {
        response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    let headers = [
        (
            CONTENT_POLICY,
            "default-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
        ),
        ("x-content-type-options", "nosniff"),
        ("referrer-policy", "no-referrer"),
        ("cross-origin-opener-policy", "same-origin"),
        ("cross-origin-resource-policy", "same-origin"),
    ];
    for (name, value) in headers {
        // A page without scripts brings a policy of its own.
        if name == CONTENT_POLICY && response.headers().contains_key(name) {
            continue;
        }
        response.headers_mut().insert(HeaderName::from_static(name), HeaderValue::from_static(value));
    }
    response
}
