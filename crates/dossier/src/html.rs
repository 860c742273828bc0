//! A dossier as one HTML page that needs nothing beside itself, and prints.

use crate::document::{Block, Dossier};
use antistasis_core::Tone;
use askama::Template;

#[derive(Template)]
#[template(path = "dossier.html")]
struct Page<'a> {
    dossier: &'a Dossier,
}

/// The page.
#[must_use]
pub fn html(dossier: &Dossier) -> String {
    // Writing into a string does not fail.
    Page { dossier }.render().unwrap_or_default()
}

/// How a verdict is to be taken, in a word: never by colour alone.
pub(crate) fn word(tone: Tone) -> &'static str {
    match tone {
        Tone::Good => "Good",
        Tone::Caution => "Caution",
        Tone::Bad => "Not to be relied on",
    }
}
