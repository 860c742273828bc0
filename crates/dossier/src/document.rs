//! A dossier as a document: sections of paragraphs, tables, figures and verdicts, in whatever form it is printed.

use crate::drawing::Drawing;
use antistasis_core::Tone;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Version of the document.
pub const DOSSIER_VERSION: u32 = 1;

/// What a dossier is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Part {
    /// What it is for, what was chosen and why, and how that does.
    Summary,
    /// The settings to type in.
    Settings,
    /// Operating instructions, a sentence each.
    Instructions,
    /// What speaks against relying on it.
    Warnings,
    /// The record that the model stands on.
    Record,
    /// The model, with its uncertainty and tests.
    Model,
    /// The candidates that were compared.
    Candidates,
    /// The proof: candidates under disturbances with limits.
    Proof,
    /// Versions, hashes, dates.
    Origins,
}

impl Part {
    /// All of them, in the order in which they are read.
    pub const ALL: [Self; 9] = [
        Self::Summary,
        Self::Settings,
        Self::Instructions,
        Self::Warnings,
        Self::Proof,
        Self::Candidates,
        Self::Model,
        Self::Record,
        Self::Origins,
    ];

    /// What it is called.
    #[must_use]
    pub fn title(self) -> &'static str {
        match self {
            Self::Summary => "In short",
            Self::Settings => "Settings to type in",
            Self::Instructions => "Operating instructions",
            Self::Warnings => "Warnings",
            Self::Record => "Record",
            Self::Model => "Model",
            Self::Candidates => "Candidates",
            Self::Proof => "Proof",
            Self::Origins => "Where this comes from",
        }
    }
}

/// A dossier.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Dossier {
    /// Version of this document.
    pub version: u32,
    /// Tag and name of the loop.
    pub title: String,
    /// Area, who and when.
    pub subtitle: String,
    /// Its sections, in the order that was chosen.
    pub sections: Vec<Section>,
}

/// A section.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Section {
    /// Which part it is.
    pub part: Part,
    /// Its title.
    pub title: String,
    /// Why it does not hold any more: what is upstream was changed since; empty where it holds.
    pub stale: Vec<String>,
    /// What is in it.
    pub blocks: Vec<Block>,
}

/// A piece of a section.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Block {
    /// A paragraph.
    Text {
        /// The text.
        text: String,
    },
    /// A heading within the section.
    Heading {
        /// The heading.
        text: String,
    },
    /// A verdict.
    Verdict {
        /// How it is to be taken.
        tone: Tone,
        /// The sentence.
        text: String,
        /// The rule that it applies.
        rule: String,
    },
    /// Sentences in an order.
    List {
        /// The sentences.
        items: Vec<String>,
    },
    /// Named values, each with its unit and where it comes from.
    Facts {
        /// The values.
        rows: Vec<Fact>,
    },
    /// A table.
    Table {
        /// What it shows.
        caption: String,
        /// Titles of the columns, with units.
        columns: Vec<String>,
        /// The rows; the first cell names its row.
        rows: Vec<Vec<Cell>>,
    },
    /// A drawing.
    Chart {
        /// What it shows, for those who see it.
        caption: String,
        /// What is in it, for those who do not.
        description: String,
        /// The drawing.
        drawing: Drawing,
    },
}

/// A named value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Fact {
    /// What it is.
    pub name: String,
    /// The value with its unit.
    pub value: String,
    /// Where it comes from.
    pub from: String,
}

/// A cell of a table.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct Cell {
    /// What stands in it.
    pub text: String,
    /// Whether it says that something fails: marked by a sign and not by colour alone.
    pub fails: bool,
}

impl Cell {
    /// A plain cell.
    pub(crate) fn of(text: impl Into<String>) -> Self {
        Self { text: text.into(), fails: false }
    }
}

impl Block {
    pub(crate) fn text(text: impl Into<String>) -> Self {
        Self::Text { text: text.into() }
    }

    pub(crate) fn verdict(verdict: &antistasis_core::Verdict) -> Self {
        Self::Verdict { tone: verdict.tone, text: verdict.text.clone(), rule: verdict.rule.clone() }
    }
}

impl Fact {
    pub(crate) fn new(name: impl Into<String>, value: impl Into<String>, from: impl Into<String>) -> Self {
        Self { name: name.into(), value: value.into(), from: from.into() }
    }
}
