//! Records in JSON: a list of rows (`[{"time": 0, "PV": 1.5}, …]`), columns (`{"time": [0, …], "PV": [1.5, …]}`), or
//! this project's own form,
//! columns under `channels` with tag, role and unit.

use crate::table::{Layout, Rows, header};
use crate::{Error, Result, limits};
use antistasis_core::series::{Record, Role};
use antistasis_core::work::go_on;
use csv::ByteRecord;
use serde::Serialize;
use serde_json::Value;
use std::collections::HashSet;
use std::fs::File;
use std::io::{BufReader, Write};
use std::path::Path;

/// Largest file; it is held in memory as a whole.
const LARGEST: u64 = 64 * 1024 * 1024;
const SAMPLE_ROWS: usize = 400;

/// A table out of JSON.
pub(crate) struct Table {
    pub(crate) layout: Layout,
    columns: Vec<Vec<Value>>,
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
    let value: Value = serde_json::from_reader(BufReader::new(file))
        .map_err(|error| Error::content("the file", error.to_string(), "it must be JSON (RFC 8259)"))?;
    let shape = || {
        Error::content(
            "the file",
            "it holds no table",
            "it must be a list of objects, an object of lists of one length, or an object with `time` and `channels`",
        )
    };
    let (headers, columns) = match value {
        Value::Array(rows) => of_rows(&rows)?.ok_or_else(shape)?,
        Value::Object(mut fields) => match fields.remove("channels") {
            Some(channels) => of_channels(&channels, fields.remove("time")).ok_or_else(shape)?,
            None => {
                let lists = fields.into_iter().filter_map(|(name, value)| match value {
                    Value::Array(values) => Some((name, values)),
                    _ => None,
                });
                lists.unzip()
            }
        },
        _ => return Err(shape()),
    };
    let rows = columns.first().map_or(0, Vec::len);
    limits::columns(columns.len())?;
    if headers.is_empty() || columns.iter().any(|column| column.len() != rows) {
        return Err(shape());
    }
    let sample = (0..rows.min(SAMPLE_ROWS)).map(|k| columns.iter().map(|column| text(&column[k])).collect()).collect();
    Ok(Table { layout: Layout::with_header(&headers, sample, false), columns, rows })
}

type Columns = (Vec<String>, Vec<Vec<Value>>);

fn of_rows(rows: &[Value]) -> Result<Option<Columns>> {
    let mut names: Vec<String> = Vec::new();
    let mut known = HashSet::new();
    for row in rows.iter().take(SAMPLE_ROWS) {
        let Some(row) = row.as_object() else { return Ok(None) };
        names.extend(row.keys().filter(|name| known.insert(*name)).cloned());
        limits::columns(names.len())?;
    }
    limits::cells("the file", rows.len() as u64, names.len() as u64)?;
    let column = |name: &String| rows.iter().map(|row| row.get(name).cloned().unwrap_or(Value::Null)).collect();
    let columns = names.iter().map(column).collect();
    Ok(Some((names, columns)))
}

fn of_channels(channels: &Value, time: Option<Value>) -> Option<Columns> {
    let mut names = Vec::new();
    let mut columns = Vec::new();
    if let Some(Value::Array(times)) = time {
        names.push("time [s]".to_owned());
        columns.push(times);
    }
    for channel in channels.as_array()? {
        let part = |name: &str| channel.get(name).and_then(Value::as_str).unwrap_or_default();
        names.push(header(part("tag"), part("unit")));
        columns.push(channel.get("values")?.as_array()?.clone());
    }
    Some((names, columns))
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
            row.push_field(text(&column[self.next]).as_bytes());
        }
        self.next += 1;
        Ok(true)
    }

    fn progress(&self) -> f64 {
        self.next as f64 / self.table.rows.max(1) as f64
    }
}

fn text(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.trim().to_owned(),
        Value::Bool(value) => if *value { "1" } else { "0" }.into(),
        other => other.to_string(),
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
