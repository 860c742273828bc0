//! A table of text, from whatever file, into a record.
//!
//! What a form of file has to give is a [`Layout`] and its [`Rows`]; what the columns mean is asked by the [`Mapping`].

mod guess;
mod layout;
mod number;
mod preview;
mod read;
mod time;

pub use guess::guess;
pub use layout::Layout;
pub(crate) use layout::{Rows, header};
pub(crate) use preview::preview_of;
pub use preview::{ColumnKind, ColumnPreview, Preview};
pub use read::Import;
pub(crate) use read::read_rows;
pub use time::{DateOrder, TimeUnit};

use antistasis_core::series::Role;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Which columns of a file are what.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Mapping {
    /// Where the times come from.
    pub time: TimeSource,
    /// The columns to take, one channel each.
    pub channels: Vec<ChannelMapping>,
}

/// Where the times of a record come from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum TimeSource {
    /// A column of time stamps or numbers.
    Column {
        /// Name of the column.
        column: String,
        /// Order of day and month where the stamps leave it open; null decides by the values.
        #[serde(default)]
        date_order: Option<DateOrder>,
        /// Unit of a column of plain numbers; null takes that in the header, or seconds.
        #[serde(default)]
        unit: Option<TimeUnit>,
    },
    /// One row every so many seconds.
    Interval {
        /// Sample time in s, above 0.
        seconds: f64,
    },
}

/// One column taken as a channel.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChannelMapping {
    /// Name of the column.
    pub column: String,
    /// What it is to the loop.
    pub role: Role,
    /// The tag that the channel gets.
    pub tag: String,
    /// The unit of its values.
    pub unit: String,
}
