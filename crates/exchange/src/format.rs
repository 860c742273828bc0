//! The forms of file, told apart by their first bytes.

use crate::csv_file::{self, Dialect};
use crate::table::{Import, Mapping, Preview, preview_of, read_rows};
use crate::{Error, Result, json_file, parquet_file, xlsx_file};
use antistasis_core::series::Record;
use std::fs::File;
use std::io::{Read, Write};
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
            Error::content("format", format!("“{ending}” is not known"), format!("allowed: {}", all.join(", ")))
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

/// Looks at the beginning of a file and guesses what its columns are.
pub fn preview(path: &Path) -> Result<Preview> {
    match Format::of_file(path)? {
        Format::Xlsx => {
            let sheet = xlsx_file::open(path)?;
            Ok(preview_of(&sheet.layout, format!("XLSX, sheet {}", sheet.name)))
        }
        Format::Parquet => Ok(preview_of(&parquet_file::layout(path)?, "Parquet".into())),
        Format::Json => Ok(preview_of(&json_file::open(path)?.layout, "JSON".into())),
        Format::Csv | Format::Tsv => {
            let dialect = Dialect::detect(path)?;
            let delimiter = match dialect.delimiter {
                b'\t' => "tab".to_owned(),
                other => char::from(other).to_string(),
            };
            Ok(preview_of(&dialect.layout, format!("text, {}, delimiter {delimiter}", dialect.encoding.name())))
        }
    }
}

/// Reads the columns that `mapping` names. `go_on` is told the share of the file that was read, 0 to 1, and answers
/// whether to go on.
///
/// Errors name what is wrong with the file or the mapping, or that the reading was cancelled.
pub fn read(path: &Path, mapping: &Mapping, go_on: &mut dyn FnMut(f64) -> bool) -> Result<Import> {
    match Format::of_file(path)? {
        Format::Xlsx => {
            let sheet = xlsx_file::open(path)?;
            read_rows(&sheet.layout, &mut sheet.rows(), mapping, go_on)
        }
        Format::Parquet => {
            let layout = parquet_file::layout(path)?;
            read_rows(&layout, &mut parquet_file::rows(path)?, mapping, go_on)
        }
        Format::Json => {
            let table = json_file::open(path)?;
            read_rows(&table.layout, &mut table.rows(), mapping, go_on)
        }
        Format::Csv | Format::Tsv => {
            let dialect = Dialect::detect(path)?;
            read_rows(&dialect.layout, &mut dialect.rows(path)?, mapping, go_on)
        }
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
