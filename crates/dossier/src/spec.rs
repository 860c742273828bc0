//! What a dossier says that no computation knows, and what is to be in it.

use crate::document::{DOSSIER_VERSION, Part};
use antistasis_core::controller::{Notation, TYPED_DIGITS};
use antistasis_core::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most letters of a text that a person writes into a dossier.
const LONGEST_TEXT: usize = 4000;
/// Most operating instructions.
const MOST_INSTRUCTIONS: usize = 40;

impl antistasis_core::document::Document for DossierSpec {
    const KIND: &'static str = "dossier";
    const HAS_VERSION: bool = true;
}

/// What a dossier is to be: chosen, ordered and written by a person.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DossierSpec {
    /// Version of this document: 1.
    pub version: u32,
    /// Who hands over.
    #[serde(default)]
    pub author: String,
    /// What the loop is for.
    #[serde(default)]
    pub purpose: String,
    /// Why this candidate was chosen.
    #[serde(default)]
    pub reason: String,
    /// Number of the trial whose candidate is handed over.
    pub trial: i32,
    /// Number of the proof that is shown; null for none.
    #[serde(default)]
    pub proof: Option<i32>,
    /// How the controller on the plant takes its settings.
    #[serde(default)]
    pub notation: Notation,
    /// Significant digits that they are typed with, 2 to 6.
    #[serde(default = "usual_digits")]
    #[schema(minimum = 2, maximum = 6)]
    pub digits: u8,
    /// Operating instructions, a sentence each, at most 40.
    #[serde(default)]
    pub instructions: Vec<String>,
    /// Its parts in their order, each at most once.
    pub parts: Vec<Part>,
}

fn usual_digits() -> u8 {
    3
}

impl DossierSpec {
    /// What is to be said of a trial, with all parts and nothing written yet.
    #[must_use]
    pub fn of_trial(trial: i32, proof: Option<i32>) -> Self {
        Self {
            version: DOSSIER_VERSION,
            author: String::new(),
            purpose: String::new(),
            reason: String::new(),
            trial,
            proof,
            notation: Notation::default(),
            digits: usual_digits(),
            instructions: Vec::new(),
            parts: Part::ALL.to_vec(),
        }
    }

    /// Refuses what no dossier can be made of, naming the field.
    pub fn validate(&self) -> Result<()> {
        if self.version != DOSSIER_VERSION {
            return Err(Error::invalid("version", self.version.to_string(), format!("{DOSSIER_VERSION}")));
        }
        for (field, text) in [("author", &self.author), ("purpose", &self.purpose), ("reason", &self.reason)] {
            written(field, text)?;
        }
        if self.instructions.len() > MOST_INSTRUCTIONS {
            let count = format!("{} sentences", self.instructions.len());
            return Err(Error::invalid("instructions", count, format!("at most {MOST_INSTRUCTIONS}")));
        }
        for (k, text) in self.instructions.iter().enumerate() {
            written(&format!("instructions[{k}]"), text)?;
        }
        if !TYPED_DIGITS.contains(&self.digits) {
            return Err(Error::invalid("digits", self.digits.to_string(), "2 to 6"));
        }
        if self.parts.is_empty() {
            return Err(Error::invalid("parts", "no part", "at least one"));
        }
        for (k, part) in self.parts.iter().enumerate() {
            if self.parts[..k].contains(part) {
                return Err(Error::invalid(format!("parts[{k}]"), part.title(), "a part that is not there yet"));
            }
        }
        Ok(())
    }
}

/// Refuses a text that is too long, or has characters that no page shows.
fn written(field: &str, text: &str) -> Result<()> {
    let length = text.chars().count();
    if length > LONGEST_TEXT {
        return Err(Error::invalid(field, format!("{length} characters"), format!("at most {LONGEST_TEXT}")));
    }
    if text.chars().any(|c| c.is_control() && c != '\n' && c != '\t') {
        return Err(Error::invalid(field, "a control character", "text"));
    }
    Ok(())
}
