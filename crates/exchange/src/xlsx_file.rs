//! Records in workbooks: the sheet that is asked for, or the one with most rows of numbers.

use crate::table::{Layout, RawRow, Rows, header, is_number};
use crate::{Error, Result, limits};
use antistasis_core::series::Record;
use antistasis_core::work::go_on;
use calamine::{Data, DataRef, Reader, Xlsx, open_workbook};
use csv::ByteRecord;
use std::fs::File;
use std::io::{BufReader, Write};
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
    grid: Grid,
    first: usize,
}

/// The part of a sheet in which its cells lie.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Extent {
    /// First and last row, first and last column, from 0; the first beyond the last where there is none.
    rows: [u32; 2],
    columns: [u32; 2],
    /// Rows with two numbers or more.
    of_data: usize,
}

impl Extent {
    fn height(&self) -> u64 {
        (u64::from(self.rows[1]) + 1).saturating_sub(u64::from(self.rows[0]))
    }

    fn width(&self) -> u64 {
        (u64::from(self.columns[1]) + 1).saturating_sub(u64::from(self.columns[0]))
    }
}

/// The cells of a sheet, by rows.
struct Grid {
    extent: Extent,
    cells: Vec<Data>,
}

impl Grid {
    fn rows(&self) -> impl Iterator<Item = &[Data]> {
        self.cells.chunks_exact((self.extent.width() as usize).max(1))
    }
}

fn broken(error: calamine::XlsxError) -> Error {
    Error::content("the workbook", error.to_string(), "save it again as XLSX, without a password")
}

type Workbook = Xlsx<BufReader<File>>;

/// Where the cells of a sheet lie; nothing is kept of them.
fn extent(workbook: &mut Workbook, name: &str) -> Result<Extent> {
    let mut reader = workbook.worksheet_cells_reader(name).map_err(broken)?;
    let mut extent = Extent { rows: [u32::MAX, 0], columns: [u32::MAX, 0], of_data: 0 };
    let (mut row, mut values) = (None, 0);
    while let Some(cell) = reader.next_cell().map_err(broken)? {
        go_on();
        if matches!(cell.get_value(), DataRef::Empty) {
            continue;
        }
        let at = cell.get_position();
        extent.rows = [extent.rows[0].min(at.0), extent.rows[1].max(at.0)];
        extent.columns = [extent.columns[0].min(at.1), extent.columns[1].max(at.1)];
        if row != Some(at.0) {
            (row, values) = (Some(at.0), 0);
        }
        if is_value(cell.get_value()) {
            values += 1;
            extent.of_data += usize::from(values == 2);
        }
    }
    Ok(extent)
}

/// All cells of a sheet.
fn grid(workbook: &mut Workbook, name: &str, extent: Extent) -> Result<Grid> {
    let place = format!("sheet “{name}”");
    limits::cells(&place, extent.height(), extent.width())?;
    let width = extent.width() as usize;
    let mut cells = vec![Data::Empty; extent.height() as usize * width];
    let mut text = 0;
    let mut reader = workbook.worksheet_cells_reader(name).map_err(broken)?;
    while let Some(cell) = reader.next_cell().map_err(broken)? {
        go_on();
        let (row, column) = cell.get_position();
        let (Some(row), Some(column)) = (row.checked_sub(extent.rows[0]), column.checked_sub(extent.columns[0])) else {
            continue;
        };
        text += match cell.get_value() {
            DataRef::SharedString(text) => text.len(),
            DataRef::String(text) | DataRef::DateTimeIso(text) | DataRef::DurationIso(text) => text.len(),
            _ => 0,
        };
        if text > limits::MOST_TEXT {
            return Err(Error::content(place, "it holds too much text", "write it as CSV"));
        }
        if let Some(place) = cells.get_mut(row as usize * width + column as usize).filter(|_| (column as usize) < width)
        {
            *place = Data::from(cell.get_value().clone());
        }
    }
    Ok(Grid { extent, cells })
}

/// Opens a workbook at the sheet `wanted`, or at the one with most rows of numbers: a cover sheet has none.
pub(crate) fn open(path: &Path, wanted: Option<&str>, header_row: Option<u64>) -> Result<Sheet> {
    limits::workbook(path)?;
    let mut workbook: Workbook = open_workbook(path).map_err(broken)?;
    let all = workbook.sheet_names();
    if let Some(wanted) = wanted.filter(|wanted| !all.iter().any(|name| name == wanted)) {
        return Err(Error::content(
            "the workbook",
            format!("it has no sheet “{wanted}”"),
            format!("its sheets are {}", all.join(", ")),
        ));
    }
    let mut best: Option<(String, Extent)> = None;
    for name in all.iter().filter(|name| wanted.is_none_or(|wanted| *name == wanted)) {
        let extent = extent(&mut workbook, name)?;
        if best.as_ref().is_none_or(|(_, known)| extent.of_data > known.of_data) {
            best = Some((name.clone(), extent));
        }
    }
    let Some((name, extent)) = best.filter(|(_, extent)| extent.of_data > 0) else {
        let place = wanted.map_or_else(|| "the workbook".to_owned(), |name| format!("sheet “{name}”"));
        let found = if wanted.is_some() { "it holds no table" } else { "no sheet holds a table" };
        return Err(Error::content(place, found, "a record needs a header and at least two rows"));
    };
    limits::columns(extent.width() as usize)?;
    let grid = grid(&mut workbook, &name, extent)?;
    let top = u64::from(extent.rows[0]);
    let sample: Vec<RawRow> = (top + 1..)
        .zip(grid.rows())
        .take(SAMPLE_ROWS)
        .map(|(line, row)| RawRow { line, cells: row.iter().map(text).collect() })
        .collect();
    let filled: Vec<RawRow> =
        sample.iter().filter(|row| row.cells.iter().any(|cell| !cell.is_empty())).cloned().collect();
    let (layout, first) = Layout::of_rows(&filled, false, header_row)?;
    let first = filled.get(first).map_or(sample.len(), |row| (row.line - 1 - top) as usize);
    Ok(Sheet { name, all, layout, grid, first })
}

/// A number or a time, as data are made of.
fn is_value(cell: &DataRef<'_>) -> bool {
    match cell {
        DataRef::Float(_) | DataRef::Int(_) | DataRef::DateTime(_) | DataRef::DateTimeIso(_) => true,
        DataRef::String(text) => is_number(text, false),
        DataRef::SharedString(text) => is_number(text, false),
        _ => false,
    }
}

impl Sheet {
    pub(crate) fn rows(&self) -> impl Rows {
        SheetRows { grid: &self.grid, next: self.first }
    }
}

struct SheetRows<'a> {
    grid: &'a Grid,
    next: usize,
}

impl Rows for SheetRows<'_> {
    fn next(&mut self, row: &mut ByteRecord) -> Result<bool> {
        go_on();
        row.clear();
        let width = self.grid.extent.width() as usize;
        let Some(cells) = self.grid.cells.get(self.next * width..(self.next + 1) * width) else { return Ok(false) };
        for cell in cells {
            row.push_field(text(cell).as_bytes());
        }
        self.next += 1;
        Ok(true)
    }

    fn progress(&self) -> f64 {
        self.next as f64 / self.grid.extent.height() as f64
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
