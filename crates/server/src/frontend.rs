//! The built front end, embedded in the binary.

use crate::problem::Problem;
use axum::http::{Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};

#[derive(RustEmbed)]
#[folder = "../../web/dist"]
struct Built;

/// A file of the front end; every other path is a page of the application, which finds its way itself.
pub(crate) async fn serve(method: Method, uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        return Problem::not_found(format!("there is no {method} {}", uri.path())).into_response();
    }
    if method != Method::GET && method != Method::HEAD {
        return StatusCode::METHOD_NOT_ALLOWED.into_response();
    }
    if let Some(file) = Built::get(path) {
        // Names of built files carry a hash of their content.
        let lasting = path.starts_with("assets/");
        return respond(file, if lasting { "public, max-age=31536000, immutable" } else { "no-cache" });
    }
    match Built::get("index.html") {
        Some(index) if !path.starts_with("assets/") => respond(index, "no-cache"),
        _ => StatusCode::NOT_FOUND.into_response(),
    }
}

/// Whether a path is a file that everybody may have: scripts, styles, fonts, which are the same everywhere.
pub(crate) fn is_public(path: &str) -> bool {
    let path = path.trim_start_matches('/');
    path != "index.html" && Built::get(path).is_some()
}

/// The line that brings the styles, as it stands in the page.
pub(crate) fn stylesheet() -> Option<String> {
    text("index.html")?.lines().find(|line| line.contains("rel=\"stylesheet\"")).map(|line| line.trim().to_owned())
}

/// A file of the front end as text.
pub(crate) fn text(path: &str) -> Option<String> {
    Built::get(path).map(|file| String::from_utf8_lossy(&file.data).into_owned())
}

fn respond(file: EmbeddedFile, cache: &'static str) -> Response {
    let media_type = file.metadata.mimetype().to_owned();
    ([(header::CONTENT_TYPE, media_type), (header::CACHE_CONTROL, cache.to_owned())], file.data).into_response()
}
