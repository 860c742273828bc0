//! The forms of file, told apart by their first bytes.

use crate::csv_file::{self, Dialect};
use crate::table::{
    Import, Layout, Mapping, Preview, Reading, ReadingFound, Rows, TableForm, find_long, preview_of, read_long,
    read_rows,
};
use crate::{Error, Result, json_file, parquet_file, xlsx_file};
use antistasis_core::series::Record;
use antistasis_core::work::Ended;
use std::fs::File;
use std::io::{Read, Write};
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::path::Path;

/// A form of file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Delimited text with commas.
    Csv,
    /// Delimited text with tabs.
    Tsv,
    /// A workbook of Office Open XML (ISO/IEC 29500).
    Xlsx,
    /// Apache Parquet.
    Parquet,
    /// JSON (RFC 8259).
    Json,
}

impl Format {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Csv, Self::Tsv, Self::Xlsx, Self::Parquet, Self::Json];

    /// The usual ending of a file name.
    #[must_use]
    pub fn ending(self) -> &'static str {
        match self {
            Self::Csv => "csv",
            Self::Tsv => "tsv",
            Self::Xlsx => "xlsx",
            Self::Parquet => "parquet",
            Self::Json => "json",
        }
    }

    /// The media type.
    #[must_use]
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Csv => "text/csv; charset=utf-8",
            Self::Tsv => "text/tab-separated-values; charset=utf-8",
            Self::Xlsx => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
            Self::Parquet => "application/vnd.apache.parquet",
            Self::Json => "application/json",
        }
    }

    /// The form with this ending.
    pub fn of_ending(ending: &str) -> Result<Self> {
        let lower = ending.trim_start_matches('.').to_lowercase();
        Self::ALL.into_iter().find(|format| format.ending() == lower).ok_or_else(|| {
            let all: Vec<&str> = Self::ALL.iter().map(|format| format.ending()).collect();
            Error::content("format", format!("“{ending}” is not known"), format!("a file is one of {}", all.join(", ")))
        })
    }

    /// The form of a file by what stands in it; text is CSV, whatever its delimiter.
    fn of_file(path: &Path) -> Result<Self> {
        let mut head = [0; 512];
        let read = File::open(path)?.read(&mut head)?;
        let head = &head[..read];
        let text = head.strip_prefix("\u{feff}".as_bytes()).unwrap_or(head).trim_ascii_start();
        Ok(match head {
            [b'P', b'K', 3, 4, ..] => Self::Xlsx,
            [b'P', b'A', b'R', b'1', ..] => Self::Parquet,
            _ if text.starts_with(b"{") || text.starts_with(b"[") => Self::Json,
            _ => Self::Csv,
        })
    }
}

/// A file that is open, whatever its form.
enum Source {
    Sheet(xlsx_file::Sheet),
    Parquet(Layout),
    Json(json_file::Table),
    Text(Dialect),
}

impl Source {
    fn open(path: &Path, reading: &Reading) -> Result<Self> {
        Ok(match Format::of_file(path)? {
            Format::Xlsx => Self::Sheet(xlsx_file::open(path, reading.sheet.as_deref(), reading.header_row)?),
            Format::Parquet => Self::Parquet(parquet_file::layout(path)?),
            Format::Json => Self::Json(json_file::open(path)?),
            Format::Csv | Format::Tsv => Self::Text(Dialect::detect(path, reading.header_row)?),
        })
    }

    fn layout(&self) -> &Layout {
        match self {
            Self::Sheet(sheet) => &sheet.layout,
            Self::Parquet(layout) => layout,
            Self::Json(table) => &table.layout,
            Self::Text(dialect) => &dialect.layout,
        }
    }

    fn rows<'a>(&'a self, path: &Path) -> Result<Box<dyn Rows + 'a>> {
        Ok(match self {
            Self::Sheet(sheet) => Box::new(sheet.rows()),
            Self::Parquet(_) => Box::new(parquet_file::rows(path)?),
            Self::Json(table) => Box::new(table.rows()),
            Self::Text(dialect) => Box::new(dialect.rows(path)?),
        })
    }

    /// The layout with a column a tag, where the rows are values of tags and nobody says otherwise.
    fn long(&self, path: &Path, form: Option<TableForm>) -> Result<Option<Layout>> {
        if form == Some(TableForm::Wide) {
            return Ok(None);
        }
        let asked = form == Some(TableForm::Long);
        let found = find_long(self.layout(), &mut *self.rows(path)?, asked)?;
        if asked && found.is_none() {
            return Err(Error::content(
                "the file",
                "it has no column of tags, of times and of values",
                "such a table has a row a value: tag, time, value; or choose a column a signal",
            ));
        }
        Ok(found)
    }

    /// How the file is written, in words.
    fn form(&self) -> String {
        match self {
            Self::Sheet(sheet) => format!("XLSX, sheet {}", sheet.name),
            Self::Parquet(_) => "Parquet".into(),
            Self::Json(_) => "JSON".into(),
            Self::Text(dialect) => {
                let delimiter = match dialect.delimiter {
                    b'\t' => "tab".to_owned(),
                    other => char::from(other).to_string(),
                };
                format!("text, {}, delimiter {delimiter}", dialect.encoding.name())
            }
        }
    }
}

/// Looks at a file and guesses what its columns are; `reading` says what is known of it.
pub fn preview(path: &Path, reading: &Reading) -> Result<Preview> {
    guarded(|| looked_at(path, reading))
}

fn looked_at(path: &Path, reading: &Reading) -> Result<Preview> {
    let source = Source::open(path, reading)?;
    let long = source.long(path, reading.form)?;
    let layout = long.as_ref().unwrap_or_else(|| source.layout());
    let has_rows = matches!(source, Source::Sheet(_) | Source::Text(_));
    let (sheet, sheets) = match &source {
        Source::Sheet(sheet) => (Some(sheet.name.clone()), sheet.all.clone()),
        _ => (None, Vec::new()),
    };
    let found = ReadingFound { sheet, sheets, header_row: has_rows.then_some(layout.header_row), form: None };
    let mut preview = preview_of(layout, source.form(), found);
    preview.guess.reading = reading.clone();
    Ok(preview)
}

/// Reads the columns that `mapping` names. `go_on` is told the share of the file that was read, 0 to 1, and answers
/// whether to go on.
///
/// Errors name what is wrong with the file or the mapping, or that the reading was cancelled.
pub fn read(path: &Path, mapping: &Mapping, go_on: &mut dyn FnMut(f64) -> bool) -> Result<Import> {
    guarded(|| taken_in(path, mapping, go_on))
}

/// A library that gives up on a damaged file does so loudly: its panic becomes an error like any other.
fn guarded<T>(job: impl FnOnce() -> Result<T>) -> Result<T> {
    match catch_unwind(AssertUnwindSafe(job)) {
        Ok(result) => result,
        // Work that was ended from outside unwinds, too.
        Err(thrown) if thrown.is::<Ended>() => resume_unwind(thrown),
        Err(_) => Err(Error::content("the file", "it is damaged", "write it again, or as CSV")),
    }
}

fn taken_in(path: &Path, mapping: &Mapping, go_on: &mut dyn FnMut(f64) -> bool) -> Result<Import> {
    let source = Source::open(path, &mapping.reading)?;
    let long = source.long(path, mapping.reading.form)?;
    let mut rows = source.rows(path)?;
    match long.as_ref().and_then(|layout| Some((layout, layout.long.as_ref()?))) {
        Some((layout, form)) => read_long(layout, form, &mut *rows, mapping, go_on),
        None => read_rows(source.layout(), &mut *rows, mapping, go_on),
    }
}

/// Writes a record so that it reads back with the same values: a column of times in s from `start` seconds on, then a
/// column a channel
/// with its unit in the header; missing samples are empty. JSON keeps the roles, too.
pub fn write(record: &Record, start: f64, format: Format, target: impl Write + Send) -> Result<()> {
    match format {
        Format::Csv => csv_file::write_record(record, start, b',', target),
        Format::Tsv => csv_file::write_record(record, start, b'\t', target),
        Format::Xlsx => xlsx_file::write(record, start, target),
        Format::Parquet => parquet_file::write(record, start, target),
        Format::Json => json_file::write(record, start, target),
    }
}
