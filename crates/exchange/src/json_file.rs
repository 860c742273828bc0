//! Records in JSON: a list of rows (`[{"time": 0, "PV": 1.5}, …]`), columns (`{"time": [0, …], "PV": [1.5, …]}`), or
//! this project's own form,
//! columns under `channels` with tag, role and unit.
//!
//! The text goes straight into columns while it is read: no tree of values stands in memory.

mod columns;

use crate::table::{Layout, Rows};
use crate::{Error, Result, limits};
use antistasis_core::series::{Record, Role};
use antistasis_core::work::go_on;
use columns::{Cells, Contents};
use csv::ByteRecord;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::{BufReader, Write};
use std::path::Path;

/// Largest file; its cells are held in memory as text.
const LARGEST: u64 = 64 * 1024 * 1024;
const SAMPLE_ROWS: usize = 400;

/// A table out of JSON.
pub(crate) struct Table {
    pub(crate) layout: Layout,
    columns: Vec<Cells>,
    rows: usize,
}

/// Reads a file of any of the forms.
pub(crate) fn open(path: &Path) -> Result<Table> {
    let file = File::open(path)?;
    let size = file.metadata()?.len();
    if size > LARGEST {
        return Err(Error::content(
            "the file",
            format!("{size} bytes"),
            "JSON may have up to 64 MiB: export CSV or Parquet",
        ));
    }
    let mut text = serde_json::Deserializer::from_reader(BufReader::new(file));
    let contents = Contents::deserialize(&mut text)
        .and_then(|contents| text.end().map(|()| contents))
        .map_err(|error| Error::content("the file", error.to_string(), "it must be JSON (RFC 8259)"))?;
    let shape = || {
        Error::content(
            "the file",
            "it holds no table",
            "it must be a list of objects, an object of lists of one length, or an object with `time` and `channels`",
        )
    };
    let (headers, columns) = match contents {
        Contents::Table(headers, columns) => (headers, columns),
        Contents::NoTable => return Err(shape()),
        Contents::TooManyColumns(count) => return Err(limits::columns(count).err().unwrap_or_else(shape)),
        Contents::TooManyCells(rows, columns) => {
            return Err(limits::cells("the file", rows, columns).err().unwrap_or_else(shape));
        }
    };
    let rows = columns.first().map_or(0, Cells::len);
    if headers.is_empty() || columns.iter().any(|column| column.len() != rows) {
        return Err(shape());
    }
    let cell = |column: &Cells, row: usize| column.get(row).to_owned();
    let sample = (0..rows.min(SAMPLE_ROWS)).map(|row| columns.iter().map(|column| cell(column, row)).collect());
    Ok(Table { layout: Layout::with_header(&headers, sample.collect(), false), columns, rows })
}

impl Table {
    pub(crate) fn rows(&self) -> impl Rows {
        TableRows { table: self, next: 0 }
    }
}

struct TableRows<'a> {
    table: &'a Table,
    next: usize,
}

impl Rows for TableRows<'_> {
    fn next(&mut self, row: &mut ByteRecord) -> Result<bool> {
        go_on();
        row.clear();
        if self.next >= self.table.rows {
            return Ok(false);
        }
        for column in &self.table.columns {
            row.push_field(column.get(self.next).as_bytes());
        }
        self.next += 1;
        Ok(true)
    }

    fn progress(&self) -> f64 {
        self.next as f64 / self.table.rows.max(1) as f64
    }
}

#[derive(Serialize)]
struct ChannelDocument<'a> {
    tag: &'a str,
    role: Role,
    unit: &'a str,
    values: Vec<Option<f64>>,
}

#[derive(Serialize)]
struct RecordDocument<'a> {
    time: Vec<f64>,
    channels: Vec<ChannelDocument<'a>>,
}

/// Writes a record in this project's own form.
pub(crate) fn write(record: &Record, start: f64, mut target: impl Write) -> Result<()> {
    let document = RecordDocument {
        time: (0..record.axis.len()).map(|k| start + record.axis.at(k)).collect(),
        channels: record
            .channels
            .iter()
            .map(|channel| ChannelDocument {
                tag: &channel.tag,
                role: channel.role,
                unit: &channel.unit,
                values: channel.values.iter().map(|value| Some(*value).filter(|value| value.is_finite())).collect(),
            })
            .collect(),
    };
    serde_json::to_writer(&mut target, &document).map_err(std::io::Error::from)?;
    target.flush()?;
    Ok(())
}
