//! Encoding, delimiter, decimal sign and header of a file, found out from its beginning.

use crate::limits::LONGEST_ROW;
use crate::table::{Layout, RawRow, Rows};
use crate::{Error, Result};
use antistasis_core::work::go_on;
use csv::{ByteRecord, ReaderBuilder, Trim};
use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use encoding_rs_io::{DecodeReaderBytes, DecodeReaderBytesBuilder};
use std::fs::File;
use std::io::{Read, Seek};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// How much of a file is looked at.
const SAMPLE_BYTES: u64 = 256 * 1024;
const SAMPLE_ROWS: usize = 400;
/// In the order of preference: a comma may also be a decimal sign.
const DELIMITERS: [u8; 4] = [b'\t', b';', b'|', b','];

/// How a file is written.
#[derive(Debug, Clone)]
pub struct Dialect {
    pub(crate) encoding: &'static Encoding,
    pub(crate) delimiter: u8,
    /// Rows above the first one of data: titles and header.
    above: usize,
    /// Names, units and first rows.
    pub layout: Layout,
}

impl Dialect {
    /// Looks at the beginning of the file; `header_row` is the line in which the names stand, where it is given.
    pub fn detect(path: &Path, header_row: Option<u64>) -> Result<Self> {
        let mut bytes = Vec::new();
        File::open(path)?.take(SAMPLE_BYTES).read_to_end(&mut bytes)?;
        let encoding = encoding_of(&bytes);
        let (text, _, _) = encoding.decode(&bytes);
        let mut text = text.trim_start_matches('\u{feff}');
        if bytes.len() as u64 == SAMPLE_BYTES {
            // The last line is cut off.
            text = text.rfind('\n').map_or(text, |end| &text[..=end]);
        }
        if text.contains('\0') {
            return Err(Error::content("the file", "it is not text", "export it as CSV or tab-separated text"));
        }
        let delimiter = told_delimiter(text).unwrap_or_else(|| delimiter_of(text));
        let rows = rows_of(text, delimiter);
        let decimal_comma = has_decimal_comma(&rows, delimiter);
        let filled: Vec<usize> =
            (0..rows.len()).filter(|k| rows[*k].cells.iter().any(|cell| !cell.is_empty())).collect();
        let kept: Vec<RawRow> = filled.iter().map(|k| rows[*k].clone()).collect();
        let (layout, first) = Layout::of_rows(&kept, decimal_comma, header_row)?;
        Ok(Self { encoding, delimiter, above: filled.get(first).copied().unwrap_or(rows.len()), layout })
    }

    /// The rows of data of the whole file.
    pub(crate) fn rows(&self, path: &Path) -> Result<impl Rows + use<>> {
        let mut file = File::open(path)?;
        file.rewind()?;
        let size = file.metadata()?.len().max(1);
        let read = Arc::new(AtomicU64::new(0));
        let counted = Counted { file, read: Arc::clone(&read) };
        let decoded = DecodeReaderBytesBuilder::new().encoding(Some(self.encoding)).bom_override(true).build(counted);
        let of_row = Arc::new(AtomicU64::new(0));
        let bounded = Bounded { text: decoded, of_row: Arc::clone(&of_row) };
        let reader = builder(self.delimiter).from_reader(bounded);
        let mut rows = CsvRows { reader, read, of_row, size };
        let mut row = ByteRecord::new();
        for _ in 0..self.above {
            rows.next(&mut row)?;
        }
        Ok(rows)
    }
}

/// A file that tells how much of it was read.
struct Counted {
    file: File,
    read: Arc<AtomicU64>,
}

impl Read for Counted {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.file.read(buffer)?;
        self.read.fetch_add(count as u64, Ordering::Relaxed);
        Ok(count)
    }
}

/// A text that is read no further than the longest row reaches.
struct Bounded<R> {
    text: R,
    /// What was read since the last row ended.
    of_row: Arc<AtomicU64>,
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.text.read(buffer)?;
        if self.of_row.fetch_add(count as u64, Ordering::Relaxed) > LONGEST_ROW {
            let megabytes = LONGEST_ROW / (1024 * 1024);
            return Err(std::io::Error::other(format!(
                "a row is longer than {megabytes} MiB, or a quotation mark is never closed"
            )));
        }
        Ok(count)
    }
}

struct CsvRows {
    reader: csv::Reader<Bounded<DecodeReaderBytes<Counted, Vec<u8>>>>,
    read: Arc<AtomicU64>,
    of_row: Arc<AtomicU64>,
    size: u64,
}

impl Rows for CsvRows {
    fn next(&mut self, row: &mut ByteRecord) -> Result<bool> {
        go_on();
        self.of_row.store(0, Ordering::Relaxed);
        let content = |error: csv::Error| Error::content("the file", error.to_string(), "export it again as plain CSV");
        self.reader.read_byte_record(row).map_err(content)
    }

    fn progress(&self) -> f64 {
        self.read.load(Ordering::Relaxed) as f64 / self.size as f64
    }
}

fn builder(delimiter: u8) -> ReaderBuilder {
    let mut builder = ReaderBuilder::new();
    builder.delimiter(delimiter).flexible(true).has_headers(false).trim(Trim::All);
    builder
}

fn encoding_of(bytes: &[u8]) -> &'static Encoding {
    if let Some((encoding, _)) = Encoding::for_bom(bytes) {
        return encoding;
    }
    // Spread-sheet programs write UTF-16 without a mark, too: every other byte of plain text is 0.
    let zeros = |from: usize| bytes.iter().skip(from).step_by(2).take(200).filter(|byte| **byte == 0).count();
    match (zeros(0), zeros(1)) {
        (even, odd) if even > 100.min(bytes.len() / 4) && even > odd => return UTF_16BE,
        (even, odd) if odd > 100.min(bytes.len() / 4) && odd > even => return UTF_16LE,
        _ => {}
    }
    match std::str::from_utf8(bytes) {
        Ok(_) => UTF_8,
        // A character cut off at the end of the sample is no error.
        Err(error) if error.valid_up_to() + 4 > bytes.len() => UTF_8,
        Err(_) => WINDOWS_1252,
    }
}

/// The delimiter that a first line `sep=;` tells.
fn told_delimiter(text: &str) -> Option<u8> {
    let first = text.lines().next()?.trim().trim_matches('"');
    let told = first.strip_prefix("sep=").or_else(|| first.strip_prefix("SEP="))?;
    if told == "\\t" { Some(b'\t') } else { told.bytes().next().filter(|byte| byte.is_ascii() && told.len() == 1) }
}

fn rows_of(text: &str, delimiter: u8) -> Vec<RawRow> {
    let mut reader = builder(delimiter).from_reader(text.as_bytes());
    let mut record = ByteRecord::new();
    let mut rows = Vec::new();
    let (mut line, mut counted) = (1, 0);
    while rows.len() < SAMPLE_ROWS && reader.read_byte_record(&mut record).unwrap_or(false) {
        // Blank lines before a row do not count as its own.
        let start = record.position().map_or(0, |position| position.byte() as usize);
        let blank =
            text.as_bytes()[start.min(text.len())..].iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).count();
        let from = (start + blank).min(text.len());
        line += text.as_bytes()[counted.min(from)..from].iter().filter(|byte| **byte == b'\n').count() as u64;
        counted = from;
        let cells = record.iter().map(|cell| String::from_utf8_lossy(cell).into_owned()).collect();
        rows.push(RawRow { line, cells });
    }
    rows
}

/// The first delimiter that cuts nearly all rows into the same number of columns, above one.
fn delimiter_of(text: &str) -> u8 {
    DELIMITERS
        .into_iter()
        .find(|delimiter| {
            let widths: Vec<usize> =
                rows_of(text, *delimiter).iter().map(|row| row.cells.len()).filter(|width| *width > 0).collect();
            let mut sorted = widths.clone();
            sorted.sort_unstable();
            let Some(typical) = sorted.get(sorted.len() / 2).copied() else { return false };
            // Titles stand above the table.
            let table = widths.iter().position(|width| *width == typical).map_or(&widths[..], |first| &widths[first..]);
            let alike = table.iter().filter(|width| **width == typical).count();
            typical > 1 && 10 * alike >= 8 * table.len()
        })
        .unwrap_or(b',')
}

fn has_decimal_comma(rows: &[RawRow], delimiter: u8) -> bool {
    let (mut commas, mut points) = (0, 0);
    for cell in rows.iter().flat_map(|row| &row.cells) {
        let digits = cell.trim_start_matches(['-', '+']);
        let plain = |sign: char| {
            digits.split_once(sign).is_some_and(|(whole, fraction)| {
                let all_digits = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
                // 1,234 between commas may be one thousand or so; with another delimiter it is a decimal comma.
                let ambiguous = sign == ',' && delimiter == b',' && fraction.len() == 3;
                all_digits(whole) && all_digits(fraction) && !ambiguous
            })
        };
        commas += usize::from(plain(','));
        points += usize::from(plain('.'));
    }
    commas > points
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_know_their_lines() {
        let lines = |text: &str| -> Vec<u64> { rows_of(text, b';').iter().map(|row| row.line).collect() };
        assert_eq!(lines("a\nb;c\n\nd;e\n;f\n"), [1, 2, 4, 5]);
        assert_eq!(lines("a;b\r\n\r\n\r\n\"c\nd\";e\r\nf;g"), [1, 4, 6]);
    }
}
