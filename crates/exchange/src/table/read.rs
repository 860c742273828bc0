//! A whole file into a record: a column a channel, a row a time.

use super::clock::{Clock, Run, Tick};
use super::{GapMeaning, Layout, Mapping, Rows};
use crate::{Error, Result};
use antistasis_core::check::LARGEST_SAMPLE;
use antistasis_core::series::{Channel, Record, Role};
use csv::ByteRecord;
use std::collections::BTreeMap;

/// Most values taken from one file: 480 MB of memory.
pub(super) const MOST_VALUES: usize = 60_000_000;

/// A record and what was noticed while reading it.
#[derive(Debug, Clone, PartialEq)]
pub struct Import {
    /// The record.
    pub record: Record,
    /// Time of the first sample where the file tells it: ISO 8601, in UTC with `Z`, else as the file's local time.
    pub start: Option<String>,
    /// What was left out or decided, a sentence each.
    pub notes: Vec<String>,
}

/// Rows between two looks at the progress.
pub(super) const ROWS_A_LOOK: u64 = 8192;

pub(super) fn too_many_values(line: u64) -> Error {
    Error::content(
        format!("line {line}"),
        format!("more than {MOST_VALUES} values"),
        "choose fewer columns, or split the file",
    )
}

pub(super) fn too_few_rows(rows: usize) -> Error {
    let found = if rows == 1 { "only one row of data" } else { "no row of data" };
    Error::content("the file", found, "a record needs at least two")
}

/// Reads the columns that `mapping` names. `go_on` is told the share that was read and answers whether to go on.
///
/// Cells that hold no number are missing samples; rows without a time are left out; of rows with the same time the
/// last one is kept. Each of these is noted. Errors when a column is not in the file, holds no numbers, when a time
/// cannot be read or runs backwards, when fewer than two rows remain, and when it was not to go on.
pub(crate) fn read_rows(
    layout: &Layout,
    rows: &mut dyn Rows,
    mapping: &Mapping,
    go_on: &mut dyn FnMut(f64) -> bool,
) -> Result<Import> {
    mapping.check()?;
    let positions: Vec<usize> =
        mapping.channels.iter().map(|channel| layout.position(&channel.column)).collect::<Result<_>>()?;
    let mut clock = Clock::new(layout, &mapping.time)?;
    let mut run = Run::default();
    let mut columns: Vec<Column> = mapping.channels.iter().map(|channel| Column::new(&channel.column)).collect();
    let mut row = ByteRecord::new();
    let (mut repeated, mut without_time, mut count) = (0_usize, 0_usize, 0_u64);
    while rows.next(&mut row)? {
        count += 1;
        if count.is_multiple_of(ROWS_A_LOOK) && !go_on(rows.progress()) {
            return Err(Error::Cancelled);
        }
        if row.iter().all(<[u8]>::is_empty) {
            continue;
        }
        let line = row.position().map_or(count + 1, csv::Position::line);
        match clock.take(&row, line, &mut run)? {
            Tick::Later => {
                for (column, position) in columns.iter_mut().zip(&positions) {
                    column.push(row.get(*position).unwrap_or_default(), layout);
                }
            }
            Tick::Same => {
                repeated += 1;
                for (column, position) in columns.iter_mut().zip(&positions) {
                    column.replace_last(row.get(*position).unwrap_or_default(), layout);
                }
            }
            Tick::Missing => without_time += 1,
        }
        if columns[0].values.len().saturating_mul(columns.len() + 1) > MOST_VALUES {
            return Err(too_many_values(line));
        }
    }
    let rows = columns[0].values.len();
    if rows < 2 {
        return Err(too_few_rows(rows));
    }
    let mut notes = clock.notes(&[&run]);
    without_time -= clock.footer_rows();
    if without_time > 0 {
        notes.push(format!("{without_time} rows without a time are left out."));
    }
    if repeated > 0 {
        notes.push(format!("{repeated} rows repeat the time of the row before; the last of each is kept."));
    }
    for (column, channel) in columns.iter_mut().zip(&mapping.channels) {
        column.refuse_without_numbers(rows)?;
        let sparse = 2 * column.empty > rows && matches!(channel.role, Role::Op | Role::Sp);
        let meaning = mapping.gaps.unwrap_or(if sparse { GapMeaning::Hold } else { GapMeaning::Missing });
        notes.extend(column.note(meaning));
        fill(&mut column.values, &column.held, meaning);
    }
    let (axis, start) = clock.finish(&run.times, rows)?;
    let channels = mapping
        .channels
        .iter()
        .zip(columns)
        .map(|(channel, column)| Channel {
            tag: channel.tag.clone(),
            role: channel.role,
            unit: channel.unit.clone(),
            values: column.values,
        })
        .collect();
    Ok(Import { record: Record::new(axis, channels)?, start, notes })
}

/// A column being read.
struct Column {
    name: String,
    values: Vec<f64>,
    /// Where the cell was empty: what that means is decided in the end.
    held: Vec<bool>,
    empty: usize,
    /// How often each text that is no number occurs; the first few different ones.
    texts: BTreeMap<String, usize>,
    text_cells: usize,
}

impl Column {
    fn new(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            values: Vec::new(),
            held: Vec::new(),
            empty: 0,
            texts: BTreeMap::new(),
            text_cells: 0,
        }
    }

    fn push(&mut self, cell: &[u8], layout: &Layout) {
        let value = self.value(cell, layout);
        self.values.push(value);
        self.held.push(cell.is_empty());
    }

    fn replace_last(&mut self, cell: &[u8], layout: &Layout) {
        let value = self.value(cell, layout);
        if let Some((last, held)) = self.values.last_mut().zip(self.held.last_mut()) {
            (*last, *held) = (value, cell.is_empty());
        }
    }

    fn value(&mut self, cell: &[u8], layout: &Layout) -> f64 {
        // What no plant measures is text like any other.
        if let Some(value) = layout.number(cell).filter(|value| value.abs() <= LARGEST_SAMPLE) {
            return value;
        }
        if cell.is_empty() {
            self.empty += 1;
        } else {
            self.text_cells += 1;
            let text: String = String::from_utf8_lossy(cell).chars().take(24).collect();
            if self.texts.len() < 4 || self.texts.contains_key(&text) {
                *self.texts.entry(text).or_default() += 1;
            }
        }
        f64::NAN
    }

    fn refuse_without_numbers(&self, rows: usize) -> Result<()> {
        if self.empty + self.text_cells < rows {
            return Ok(());
        }
        let texts = || {
            let each = self.texts.iter().map(|(text, count)| format!("“{text}” {count} times"));
            each.collect::<Vec<_>>().join(", ")
        };
        let found = if self.text_cells > 0 { format!("no numbers, but {}", texts()) } else { "no numbers".into() };
        Err(Error::content(format!("column “{}”", self.name), found, "choose a column of numbers"))
    }

    /// What is to be noted of it.
    fn note(&self, gaps: GapMeaning) -> Vec<String> {
        let mut notes = Vec::new();
        let taken = match gaps {
            GapMeaning::Hold => "as: it has not changed",
            GapMeaning::Between => "as values between those before and after",
            GapMeaning::Missing => "as missing",
        };
        if self.empty > 0 && gaps != GapMeaning::Missing {
            notes.push(format!("Column “{}”: {} empty cells are taken {taken}.", self.name, self.empty));
        }
        let mut parts = Vec::new();
        if self.empty > 0 && gaps == GapMeaning::Missing {
            parts.push(format!("{} empty cells", self.empty));
        }
        if self.text_cells > 0 {
            let each = self.texts.iter().map(|(text, count)| format!("“{text}” {count} times"));
            parts.push(format!("{} cells with text ({})", self.text_cells, each.collect::<Vec<_>>().join(", ")));
        }
        if !parts.is_empty() {
            notes.push(format!("Column “{}”: {} are taken as missing.", self.name, parts.join(" and ")));
        }
        notes
    }
}

/// Gives the gaps of a series their meaning; `is_gap` tells them from samples that are known to be bad.
pub(super) fn fill(values: &mut [f64], is_gap: &[bool], meaning: GapMeaning) {
    if meaning == GapMeaning::Missing {
        return;
    }
    let mut known: Option<usize> = None;
    for k in 0..values.len() {
        if is_gap[k] {
            continue;
        }
        if let Some(from) = known {
            let (low, high) = (values[from], values[k]);
            for (n, value) in values[from + 1..k].iter_mut().enumerate() {
                let share = (n + 1) as f64 / (k - from) as f64;
                *value = if meaning == GapMeaning::Hold { low } else { low + share * (high - low) };
            }
        }
        known = Some(k);
    }
    if let Some(from) = known.filter(|_| meaning == GapMeaning::Hold) {
        let last = values[from];
        values[from + 1..].fill(last);
    }
}
