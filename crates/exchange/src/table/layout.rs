//! Names, units and first rows of a table.

use super::TableForm;
use super::long::LongForm;
use super::number::parse_number;
use super::outline::{Outline, RawRow, outline, without_brackets};
use crate::{Error, Result, limits};
use csv::ByteRecord;
use std::collections::{HashMap, HashSet};

/// What is known of a table before its rows are read.
#[derive(Debug, Clone)]
pub struct Layout {
    /// Names of the columns, made unique.
    pub names: Vec<String>,
    /// The headers as they stand in the file, units and all.
    pub headers: Vec<String>,
    /// Units found in the header, one a column; empty where there is none.
    pub units: Vec<String>,
    /// The first rows of data as text.
    pub sample: Vec<Vec<String>>,
    /// Whether numbers are written with a decimal comma.
    pub decimal_comma: bool,
    /// Row of the file in which the names stand, from 1; 0 where there is none.
    pub header_row: u64,
    /// Columns that hold far fewer values than others, as where only changes are written.
    pub(super) sparse: Vec<bool>,
    /// Where each row is one value of one tag.
    pub(crate) long: Option<LongForm>,
}

/// The rows of data of a table, as text.
pub(crate) trait Rows {
    /// Puts the next row into `row`; false at the end.
    fn next(&mut self, row: &mut ByteRecord) -> Result<bool>;

    /// Which share of the file was read, 0 to 1.
    fn progress(&self) -> f64;
}

impl Layout {
    /// From the first rows, titles and header among them; with the position of the first row of data.
    pub(crate) fn of_rows(rows: &[RawRow], decimal_comma: bool, header_row: Option<u64>) -> Result<(Self, usize)> {
        if rows.is_empty() {
            return Err(Error::content("the file", "it is empty", "a record needs a header and at least two rows"));
        }
        if let Some(line) = header_row.filter(|line| *line > 0)
            && !rows.iter().any(|row| row.line == line)
        {
            return Err(Error::content(
                "header row",
                format!("there is no filled row {line} among the first ones"),
                "give the row in which the names stand, or 0 for none",
            ));
        }
        let width = rows.iter().map(|row| row.cells.len()).max().unwrap_or(0);
        limits::columns(width)?;
        let Outline { names, units, first } = outline(rows, decimal_comma, header_row);
        let cell = |row: Option<usize>, k: usize| -> &str {
            row.and_then(|row| rows[row].cells.get(k)).map_or("", String::as_str)
        };
        let header: Vec<String> = (0..width)
            .map(|k| match (cell(names, k), without_brackets(cell(units, k))) {
                (name, "") => name.to_owned(),
                ("", _) => String::new(),
                (name, unit) => format!("{name} [{unit}]"),
            })
            .collect();
        let sample = rows[first..].iter().map(|row| row.cells.clone()).collect();
        let mut layout = Self::with_header(&header, sample, decimal_comma);
        layout.headers = (0..width).map(|k| cell(names, k).to_owned()).collect();
        layout.header_row = names.map_or(0, |names| rows[names].line);
        Ok((layout, first))
    }

    /// With these headers, from which units are split.
    pub(crate) fn with_header(header: &[String], sample: Vec<Vec<String>>, decimal_comma: bool) -> Self {
        let mut names: Vec<String> = Vec::with_capacity(header.len());
        let mut taken = Taken::default();
        let mut units = Vec::with_capacity(header.len());
        for (k, text) in header.iter().enumerate() {
            let (name, unit) = split_unit(text);
            let name = if name.is_empty() { format!("column {}", k + 1) } else { name };
            names.push(taken.unique(name));
            units.push(unit);
        }
        let sparse = vec![false; names.len()];
        Self { names, headers: header.to_vec(), units, sample, decimal_comma, header_row: 1, sparse, long: None }
    }

    /// How the table is laid out.
    #[must_use]
    pub fn form(&self) -> TableForm {
        if self.long.is_some() { TableForm::Long } else { TableForm::Wide }
    }

    /// The position of a column by its name, or by its header as it stands in the file.
    pub(super) fn position(&self, column: &str) -> Result<usize> {
        let by_name = self.names.iter().position(|name| name == column);
        by_name.or_else(|| self.headers.iter().position(|header| header.trim() == column.trim())).ok_or_else(|| {
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

/// Names that are given already, and the next number behind each.
#[derive(Default)]
struct Taken {
    names: HashSet<String>,
    next: HashMap<String, usize>,
}

impl Taken {
    /// The name, with a number behind it where it is taken.
    fn unique(&mut self, name: String) -> String {
        let mut unique = name.clone();
        while !self.names.insert(unique.clone()) {
            let next = self.next.entry(name.clone()).or_insert(2);
            unique = format!("{name} ({next})");
            *next += 1;
        }
        unique
    }
}

/// `TIC-204.PV [°C]` and `TIC-204.PV (°C)` into name and unit.
fn split_unit(header: &str) -> (String, String) {
    let header = read_as_text(header);
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

/// What a spreadsheet would take for a formula begins so; behind an apostrophe it is text.
const OF_FORMULAS: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

/// A text as a spreadsheet shows it, whatever it begins with (OWASP, “CSV Injection”).
pub(crate) fn shown_as_text(text: String) -> String {
    if text.starts_with(OF_FORMULAS) { format!("'{text}") } else { text }
}

/// The text that was written as [`shown_as_text`].
fn read_as_text(text: &str) -> &str {
    text.strip_prefix('\'').filter(|rest| rest.starts_with(OF_FORMULAS)).unwrap_or(text)
}

/// The header of a channel: its tag with its unit.
pub(crate) fn header(tag: &str, unit: &str) -> String {
    if unit.is_empty() { tag.to_owned() } else { format!("{tag} [{unit}]") }
}
