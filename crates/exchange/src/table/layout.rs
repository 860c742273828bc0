//! Names, units and first rows of a table.

use super::number::{is_number, parse_number};
use super::time::RawTime;
use crate::{Error, Result};
use csv::ByteRecord;

/// What is known of a table before its rows are read.
#[derive(Debug, Clone)]
pub struct Layout {
    /// Names of the columns, made unique.
    pub names: Vec<String>,
    /// Units found in the header, one a column; empty where there is none.
    pub units: Vec<String>,
    /// The first rows of data as text.
    pub sample: Vec<Vec<String>>,
    /// Whether numbers are written with a decimal comma.
    pub decimal_comma: bool,
}

/// The rows of data of a table, as text.
pub(crate) trait Rows {
    /// Puts the next row into `row`; false at the end.
    fn next(&mut self, row: &mut ByteRecord) -> Result<bool>;

    /// Which share of the file was read, 0 to 1.
    fn progress(&self) -> f64;
}

impl Layout {
    /// From the first rows, the header among them if there is one; whether there was.
    pub(crate) fn of_rows(rows: Vec<Vec<String>>, decimal_comma: bool) -> Result<(Self, bool)> {
        let Some(first) = rows.first().cloned() else {
            return Err(Error::content("the file", "it is empty", "a record needs a header and at least two rows"));
        };
        let readable = |cell: &String| is_number(cell, decimal_comma) || RawTime::scan(cell).is_some();
        let has_header = !first.iter().any(readable);
        let width = rows.iter().map(Vec::len).max().unwrap_or(0);
        let header: Vec<String> = (0..width)
            .map(|k| if has_header { first.get(k).cloned().unwrap_or_default() } else { String::new() })
            .collect();
        let sample = rows.into_iter().skip(usize::from(has_header)).collect();
        Ok((Self::with_header(&header, sample, decimal_comma), has_header))
    }

    /// With these headers, from which units are split.
    pub(crate) fn with_header(header: &[String], sample: Vec<Vec<String>>, decimal_comma: bool) -> Self {
        let mut names: Vec<String> = Vec::with_capacity(header.len());
        let mut units = Vec::with_capacity(header.len());
        for (k, text) in header.iter().enumerate() {
            let (name, unit) = split_unit(text);
            let name = if name.is_empty() { format!("column {}", k + 1) } else { name };
            let mut unique = name.clone();
            let mut copy = 2;
            while names.contains(&unique) {
                unique = format!("{name} ({copy})");
                copy += 1;
            }
            names.push(unique);
            units.push(unit);
        }
        Self { names, units, sample, decimal_comma }
    }

    /// The position of a column by its name.
    pub(super) fn position(&self, column: &str) -> Result<usize> {
        self.names.iter().position(|name| name == column).ok_or_else(|| {
            Error::content(
                "mapping",
                format!("the file has no column “{column}”"),
                format!("its columns are {}", self.names.join(", ")),
            )
        })
    }

    /// A number in this file's way of writing; None where the cell holds none.
    pub(super) fn number(&self, cell: &[u8]) -> Option<f64> {
        parse_number(cell, self.decimal_comma)
    }
}

/// `TIC-204.PV [°C]` and `TIC-204.PV (°C)` into name and unit.
fn split_unit(header: &str) -> (String, String) {
    for (open, close) in [('[', ']'), ('(', ')')] {
        if let Some((name, rest)) = header.rsplit_once(open)
            && let Some(unit) = rest.trim_end().strip_suffix(close)
            && !name.trim().is_empty()
        {
            return (name.trim().to_owned(), unit.trim().to_owned());
        }
    }
    (header.trim().to_owned(), String::new())
}

/// The header of a channel: its tag with its unit.
pub(crate) fn header(tag: &str, unit: &str) -> String {
    if unit.is_empty() { tag.to_owned() } else { format!("{tag} [{unit}]") }
}
