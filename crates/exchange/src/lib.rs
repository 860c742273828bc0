//! Open file formats to core types and back.

pub mod archive;
pub mod csv_file;
mod format;
mod json_file;
mod junit;
mod limits;
mod parquet_file;
pub mod structured_text;
mod table;
mod xlsx_file;

pub use format::{Format, preview, read, write};
pub use junit::junit;
pub use table::{
    ChannelMapping, ColumnKind, ColumnPreview, DateOrder, GapMeaning, Import, Layout, LoopProposal, Mapping, Preview,
    Reading, ReadingFound, TableForm, TimeSource, TimeUnit, guess, propose,
};

/// What is wrong with a file, in words that can be shown to the user.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The file cannot be read or written at all.
    #[error("the file cannot be read: {0}")]
    Io(#[from] std::io::Error),
    /// The file is read, but what it holds cannot be taken.
    #[error("{place}: {problem}; {allowed}")]
    Content {
        /// Where: a line or a column.
        place: String,
        /// What stands there.
        problem: String,
        /// What is allowed, or what to do.
        allowed: String,
    },
    /// The caller did not want to go on.
    #[error("the import was cancelled; nothing was stored")]
    Cancelled,
    /// The content makes no record.
    #[error(transparent)]
    Core(#[from] antistasis_core::Error),
}

/// The result of everything that reads or writes a file.
pub type Result<T> = std::result::Result<T, Error>;

impl Error {
    /// The same content error again.
    pub(crate) fn copy(&self) -> Self {
        match self {
            Self::Content { place, problem, allowed } => Self::content(place, problem, allowed),
            other => Self::content("the file", other.to_string(), "export it again"),
        }
    }

    pub(crate) fn content(place: impl Into<String>, problem: impl Into<String>, allowed: impl Into<String>) -> Self {
        Self::Content { place: place.into(), problem: problem.into(), allowed: allowed.into() }
    }
}
