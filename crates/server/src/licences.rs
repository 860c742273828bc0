//! The licences of everything that is in the binary: of its crates, gathered when it was built, and of what its pages are made of.

use crate::frontend;
use antistasis_dossier::LICENCE_OF_LETTERS;
use axum::http::header;
use axum::response::IntoResponse;

const OF_CRATES: &str = include_str!(concat!(env!("OUT_DIR"), "/licences.txt"));

/// All of them as one text.
#[must_use]
pub fn licences() -> String {
    let of_pages = frontend::text("licences-of-the-pages.txt").unwrap_or_else(|| "The pages are not built.".into());
    format!(
        "Antistasis is licensed under MIT OR Apache-2.0.\n\nIt is made of the following.\n\n{OF_CRATES}\n{line}\n\nThe letters of \
         PDF files:\n\n{LICENCE_OF_LETTERS}\n{line}\n\nThe pages:\n\n{of_pages}",
        line = "=".repeat(80)
    )
}

/// The same as an answer.
pub(crate) async fn show() -> impl IntoResponse {
    ([(header::CONTENT_TYPE, "text/plain; charset=utf-8")], licences())
}
