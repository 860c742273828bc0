//! A table of text, from whatever file, into a record.
//!
//! What a form of file has to give is a [`Layout`] and its [`Rows`]; what the columns mean is asked by the [`Mapping`].

mod clock;
mod guess;
mod layout;
mod long;
mod number;
mod outline;
mod preview;
mod propose;
mod read;
mod time;

pub use guess::guess;
pub use layout::Layout;
pub(crate) use layout::{Rows, header, shown_as_text};
pub(crate) use long::{find_long, read_long};
pub(crate) use number::is_number;
pub(crate) use outline::RawRow;
pub(crate) use preview::preview_of;
pub use preview::{ColumnKind, ColumnPreview, Preview, ReadingFound};
pub use propose::{LoopProposal, propose};
pub use read::Import;
pub(crate) use read::read_rows;
pub use time::{DateOrder, TimeUnit};

use antistasis_core::series::Role;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a file is to be read; what is left out is found out from the file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Reading {
    /// Sheet of a workbook.
    pub sheet: Option<String>,
    /// Row of the file in which the names stand, from 1; 0 where there is none.
    pub header_row: Option<u64>,
    /// How the table is laid out.
    pub form: Option<TableForm>,
}

/// How a table is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TableForm {
    /// A column a signal, a row a time.
    Wide,
    /// A row one value of one signal: tag, time, value, and quality where there is one.
    Long,
}

/// What it means that a signal has no value at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum GapMeaning {
    /// It has not changed: only changes were written.
    Hold,
    /// It lies between the values before and after.
    Between,
    /// It is not known.
    Missing,
}

/// Which columns of a file are what.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Mapping {
    /// How the file is to be read.
    #[serde(default)]
    pub reading: Reading,
    /// Where the times come from.
    pub time: TimeSource,
    /// What it means that a signal has no value at a time; null decides for each: an OP or set point written only
    /// at its changes holds its value, other signals with times of their own lie between theirs, all else is not known.
    #[serde(default)]
    pub gaps: Option<GapMeaning>,
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
        /// Order of day and month; null decides by the values.
        #[serde(default)]
        date_order: Option<DateOrder>,
        /// Unit of a column of plain numbers; null takes that in the header, or what the numbers look like.
        #[serde(default)]
        unit: Option<TimeUnit>,
    },
    /// A column of dates and one of times of day.
    DateAndTime {
        /// Name of the column of dates.
        date: String,
        /// Name of the column of times of day.
        time: String,
        /// Order of day and month; null decides by the values.
        #[serde(default)]
        date_order: Option<DateOrder>,
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

impl Mapping {
    /// Refuses what can never be read: no channel, a column taken twice, as two things or as a time as well.
    pub fn check(&self) -> crate::Result<()> {
        let refused = |problem: String, allowed: &str| Err(crate::Error::content("mapping", problem, allowed));
        if self.channels.is_empty() {
            return refused("no column is chosen".into(), "choose at least one");
        }
        for (k, channel) in self.channels.iter().enumerate() {
            let column = &channel.column;
            if self.channels[..k].iter().any(|other| other.column == *column) {
                return refused(format!("column “{column}” is taken twice"), "take each column once");
            }
            if self.channels[..k].iter().any(|other| other.tag == channel.tag) {
                return refused(format!("two channels are called {}", channel.tag), "give each a tag of its own");
            }
            let is_time = match &self.time {
                TimeSource::Column { column: time, .. } => time == column,
                TimeSource::DateAndTime { date, time, .. } => date == column || time == column,
                TimeSource::Interval { .. } => false,
            };
            if is_time {
                return refused(format!("column “{column}” is both a time and a channel"), "take it as one of them");
            }
        }
        Ok(())
    }
}
