//! Records in workbooks: the sheet that is asked for, or the one with most rows of numbers.

use crate::table::{Layout, RawRow, Rows, header, is_number};
use crate::{Error, Result};
use antistasis_core::series::Record;
use calamine::{Data, Range, Reader, Xlsx, open_workbook};
use csv::ByteRecord;
use std::io::Write;
use std::path::Path;

/// Rows that a sheet can have.
const MOST_ROWS: usize = 1_048_575;
const SAMPLE_ROWS: usize = 400;

/// A sheet with a table.
pub(crate) struct Sheet {
    pub(crate) name: String,
    /// All sheets of the workbook.
    pub(crate) all: Vec<String>,
    pub(crate) layout: Layout,
    cells: Range<Data>,
    first: usize,
}

/// Opens a workbook at the sheet `wanted`, or at the one with most rows of numbers: a cover sheet has none.
pub(crate) fn open(path: &Path, wanted: Option<&str>, header_row: Option<u64>) -> Result<Sheet> {
    let broken = |error: calamine::XlsxError| {
        Error::content("the workbook", error.to_string(), "save it again as XLSX, without a password")
    };
    let mut workbook: Xlsx<_> = open_workbook(path).map_err(broken)?;
    let all = workbook.sheet_names();
    if let Some(wanted) = wanted.filter(|wanted| !all.iter().any(|name| name == wanted)) {
        return Err(Error::content(
            "the workbook",
            format!("it has no sheet “{wanted}”"),
            format!("its sheets are {}", all.join(", ")),
        ));
    }
    let mut best: Option<(usize, String, Range<Data>)> = None;
    for name in all.iter().filter(|name| wanted.is_none_or(|wanted| *name == wanted)) {
        let cells = workbook.worksheet_range(name).map_err(broken)?;
        let is_data = |row: &&[Data]| row.iter().filter(|cell| is_value(cell)).count() >= 2;
        let rows = cells.rows().filter(is_data).count();
        if best.as_ref().is_none_or(|(most, ..)| rows > *most) {
            best = Some((rows, name.clone(), cells));
        }
    }
    let Some((rows, name, cells)) = best.filter(|(rows, ..)| *rows > 0) else {
        let place = wanted.map_or_else(|| "the workbook".to_owned(), |name| format!("sheet “{name}”"));
        let found = if wanted.is_some() { "it holds no table" } else { "no sheet holds a table" };
        return Err(Error::content(place, found, "a record needs a header and at least two rows"));
    };
    debug_assert!(rows > 0);
    let top = cells.start().map_or(0, |start| u64::from(start.0));
    let sample: Vec<RawRow> = (top + 1..)
        .zip(cells.rows())
        .take(SAMPLE_ROWS)
        .map(|(line, row)| RawRow { line, cells: row.iter().map(text).collect() })
        .collect();
    let filled: Vec<RawRow> =
        sample.iter().filter(|row| row.cells.iter().any(|cell| !cell.is_empty())).cloned().collect();
    let (layout, first) = Layout::of_rows(&filled, false, header_row)?;
    let first = filled.get(first).map_or(sample.len(), |row| (row.line - 1 - top) as usize);
    Ok(Sheet { name, all, layout, cells, first })
}

/// A number or a time, as data are made of.
fn is_value(cell: &Data) -> bool {
    match cell {
        Data::Float(_) | Data::Int(_) | Data::DateTime(_) | Data::DateTimeIso(_) => true,
        Data::String(text) => is_number(text, false),
        _ => false,
    }
}

impl Sheet {
    pub(crate) fn rows(&self) -> impl Rows {
        SheetRows { cells: &self.cells, next: self.first }
    }
}

struct SheetRows<'a> {
    cells: &'a Range<Data>,
    next: usize,
}

impl Rows for SheetRows<'_> {
    fn next(&mut self, row: &mut ByteRecord) -> Result<bool> {
        row.clear();
        if self.next >= self.cells.height() {
            return Ok(false);
        }
        let (top, left) = self.cells.start().unwrap_or_default();
        for column in 0..self.cells.width() {
            let cell = self.cells.get_value((top + self.next as u32, left + column as u32));
            row.push_field(cell.map(text).unwrap_or_default().as_bytes());
        }
        self.next += 1;
        Ok(true)
    }

    fn progress(&self) -> f64 {
        self.next as f64 / self.cells.height() as f64
    }
}

/// A cell as text; dates as ISO 8601, to the millisecond.
fn text(cell: &Data) -> String {
    match cell {
        Data::DateTime(stamp) if stamp.is_datetime() => {
            // Days since the end of 1899, with the leap day that the format invents (ISO/IEC 29500-1, 18.17.4.1).
            let milliseconds = (stamp.as_f64() * 86_400_000.0).round() as i64;
            let days = milliseconds.div_euclid(86_400_000);
            let epoch = chrono::NaiveDate::from_ymd_opt(1899, 12, 30).unwrap_or_default();
            let midnight = epoch + chrono::Duration::days(days);
            let at = midnight.and_time(chrono::NaiveTime::MIN)
                + chrono::Duration::milliseconds(milliseconds.rem_euclid(86_400_000));
            at.format("%Y-%m-%dT%H:%M:%S%.3f").to_string()
        }
        Data::DateTime(duration) => (duration.as_f64() * 86_400.0).to_string(),
        Data::Float(value) => value.to_string(),
        Data::Int(value) => value.to_string(),
        Data::Bool(value) => if *value { "1" } else { "0" }.into(),
        Data::String(value) | Data::DateTimeIso(value) | Data::DurationIso(value) => value.trim().to_owned(),
        Data::Empty => String::new(),
        other => other.to_string(),
    }
}

/// Writes a record as a workbook with one sheet.
pub(crate) fn write(record: &Record, start: f64, mut target: impl Write + Send) -> Result<()> {
    let rows = record.axis.len();
    if rows > MOST_ROWS {
        return Err(Error::content(
            "format",
            format!("{rows} samples"),
            format!("a sheet holds {MOST_ROWS}: write CSV or Parquet"),
        ));
    }
    let failed = |error: rust_xlsxwriter::XlsxError| Error::Io(std::io::Error::other(error.to_string()));
    let mut workbook = rust_xlsxwriter::Workbook::new();
    let sheet = workbook.add_worksheet();
    sheet.set_name("record").map_err(failed)?;
    sheet.write(0, 0, "time [s]").map_err(failed)?;
    for (column, channel) in (1..).zip(&record.channels) {
        sheet.write(0, column, header(&channel.tag, &channel.unit)).map_err(failed)?;
    }
    for k in 0..rows {
        let row = k as u32 + 1;
        sheet.write(row, 0, start + record.axis.at(k)).map_err(failed)?;
        for (column, channel) in (1..).zip(&record.channels) {
            if channel.values[k].is_finite() {
                sheet.write(row, column, channel.values[k]).map_err(failed)?;
            }
        }
    }
    target.write_all(&workbook.save_to_buffer().map_err(failed)?)?;
    Ok(())
}
