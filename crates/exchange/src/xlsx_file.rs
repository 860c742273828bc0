//! Records in workbooks: the first sheet that holds a table.

use crate::table::{Layout, Rows, header};
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
    pub(crate) layout: Layout,
    cells: Range<Data>,
    first: usize,
}

/// Opens a workbook at its first sheet of at least two rows. Rows above the header that hold a title are passed over.
pub(crate) fn open(path: &Path) -> Result<Sheet> {
    let broken = |error: calamine::XlsxError| {
        Error::content("the workbook", error.to_string(), "save it again as XLSX, without a password")
    };
    let mut workbook: Xlsx<_> = open_workbook(path).map_err(broken)?;
    for name in workbook.sheet_names() {
        let cells = workbook.worksheet_range(&name).map_err(broken)?;
        if cells.height() < 2 {
            continue;
        }
        // A table begins with the first row that is as full as most are.
        let filled = |row: &[Data]| row.iter().filter(|cell| !matches!(cell, Data::Empty)).count();
        let mut counts: Vec<usize> = cells.rows().take(SAMPLE_ROWS).map(filled).collect();
        counts.sort_unstable();
        let usual = counts[counts.len() / 2].max(1);
        let first = cells.rows().position(|row| filled(row) >= usual).unwrap_or(0);
        let sample: Vec<Vec<String>> =
            cells.rows().skip(first).take(SAMPLE_ROWS).map(|row| row.iter().map(text).collect()).collect();
        let (layout, has_header) = Layout::of_rows(sample, false)?;
        return Ok(Sheet { name, layout, cells, first: first + usize::from(has_header) });
    }
    Err(Error::content("the workbook", "no sheet holds a table", "a record needs a header and at least two rows"))
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
