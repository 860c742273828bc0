//! What a file seems to hold, before it is imported.

use super::time::{RawTime, TimeUnit};
use super::{ChannelMapping, Dialect, Mapping, TimeSource};
use crate::Result;
use antistasis_core::series::Role;
use serde::{Deserialize, Serialize};
use std::path::Path;
use utoipa::ToSchema;

/// Rows shown to the user.
const SHOWN_ROWS: usize = 6;

/// What the cells of a column are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ColumnKind {
    /// Numbers.
    Number,
    /// Time stamps.
    Time,
    /// Anything else.
    Text,
}

/// One column as it stands in the file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ColumnPreview {
    /// Name in the header, made unique; `column 1` and so on without a header.
    pub name: String,
    /// Unit in the header; empty where there is none.
    pub unit: String,
    /// What most cells are.
    pub kind: ColumnKind,
}

/// What a file seems to hold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// The columns, in order.
    pub columns: Vec<ColumnPreview>,
    /// The first rows as text, a cell a column.
    pub rows: Vec<Vec<String>>,
    /// The character between cells.
    pub delimiter: String,
    /// Whether numbers are written with a decimal comma.
    pub decimal_comma: bool,
    /// Name of the character encoding.
    pub encoding: String,
    /// The mapping that is probably meant.
    pub guess: Mapping,
}

/// Looks at the beginning of a file and guesses what its columns are.
pub fn preview(path: &Path) -> Result<Preview> {
    let dialect = Dialect::detect(path)?;
    let columns: Vec<ColumnPreview> = (0..dialect.names.len())
        .map(|k| ColumnPreview {
            name: dialect.names[k].clone(),
            unit: dialect.units[k].clone(),
            kind: kind_of(&dialect, k),
        })
        .collect();
    Ok(Preview {
        guess: guess(&columns),
        rows: dialect.sample.iter().take(SHOWN_ROWS).cloned().collect(),
        delimiter: char::from(dialect.delimiter).to_string(),
        decimal_comma: dialect.decimal_comma,
        encoding: dialect.encoding.name().to_owned(),
        columns,
    })
}

fn kind_of(dialect: &Dialect, column: usize) -> ColumnKind {
    if dialect.sample.is_empty() {
        return ColumnKind::Number;
    }
    let (mut numbers, mut times, mut texts) = (0, 0, 0);
    for cell in dialect.sample.iter().filter_map(|row| row.get(column)).filter(|cell| !cell.is_empty()) {
        if dialect.number(cell.as_bytes()).is_some() {
            numbers += 1;
        } else if RawTime::scan(cell).is_some() {
            times += 1;
        } else {
            texts += 1;
        }
    }
    if times > numbers && times > texts {
        ColumnKind::Time
    } else if numbers > 0 && 2 * numbers >= texts {
        ColumnKind::Number
    } else {
        ColumnKind::Text
    }
}

/// Roles by what columns are commonly called, in the order in which they are looked for.
const NAMES: [(Role, &[&str]); 3] = [
    (Role::Sp, &["sp", "setpoint", "set point", "set_point", "target", "r"]),
    (Role::Pv, &["pv", "process value", "process variable", "measurement", "measured", "y", "temperature", "level"]),
    (Role::Op, &["op", "out", "output", "mv", "co", "valve", "u", "heater", "power", "input"]),
];

fn guess(columns: &[ColumnPreview]) -> Mapping {
    let words = |column: &ColumnPreview| -> Vec<String> {
        let lower = column.name.to_lowercase();
        let mut words: Vec<String> = lower.split(|c: char| !c.is_alphanumeric()).map(str::to_owned).collect();
        words.push(lower);
        words
    };
    let is_called =
        |column: &ColumnPreview, names: &[&str]| words(column).iter().any(|word| names.contains(&word.as_str()));
    let time_names = ["time", "timestamp", "date", "datetime", "t", "zeit", "sec", "seconds", "elapsed"];
    let time = columns
        .iter()
        .position(|column| column.kind == ColumnKind::Time)
        .or_else(|| columns.iter().position(|c| c.kind == ColumnKind::Number && is_called(c, &time_names)));
    let mut free: Vec<usize> =
        (0..columns.len()).filter(|k| Some(*k) != time && columns[*k].kind == ColumnKind::Number).collect();
    let mut channels: Vec<(usize, Role)> = Vec::new();
    for (role, names) in NAMES {
        if let Some(at) = free.iter().position(|k| is_called(&columns[*k], names)) {
            channels.push((free.remove(at), role));
        }
    }
    // What has no telling name: the PV first, then the OP.
    for role in [Role::Pv, Role::Op] {
        if !channels.iter().any(|channel| channel.1 == role) && !free.is_empty() {
            channels.push((free.remove(0), role));
        }
    }
    channels.sort_unstable_by_key(|channel| channel.0);
    Mapping {
        time: time.map_or(TimeSource::Interval { seconds: 1.0 }, |k| TimeSource::Column {
            column: columns[k].name.clone(),
            date_order: None,
            unit: (columns[k].kind == ColumnKind::Number).then(|| TimeUnit::parse(&columns[k].unit)).flatten(),
        }),
        channels: channels
            .into_iter()
            .map(|(k, role)| ChannelMapping {
                column: columns[k].name.clone(),
                role,
                tag: columns[k].name.clone(),
                unit: if columns[k].unit.is_empty() && role == Role::Op { "%".into() } else { columns[k].unit.clone() },
            })
            .collect(),
    }
}
