//! Encoding, delimiter, decimal sign and header of a file, found out from its beginning.

use crate::table::{Layout, Rows};
use crate::{Error, Result};
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
    has_header: bool,
    /// Names, units and first rows.
    pub layout: Layout,
}

impl Dialect {
    /// Looks at the beginning of the file.
    pub fn detect(path: &Path) -> Result<Self> {
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
        let delimiter = delimiter_of(text);
        let mut rows = rows_of(text, delimiter);
        rows.retain(|row| row.iter().any(|cell| !cell.is_empty()));
        let decimal_comma = has_decimal_comma(&rows, delimiter);
        let (layout, has_header) = Layout::of_rows(rows, decimal_comma)?;
        Ok(Self { encoding, delimiter, has_header, layout })
    }

    /// The rows of data of the whole file.
    pub(crate) fn rows(&self, path: &Path) -> Result<impl Rows + use<>> {
        let mut file = File::open(path)?;
        file.rewind()?;
        let size = file.metadata()?.len().max(1);
        let read = Arc::new(AtomicU64::new(0));
        let counted = Counted { file, read: Arc::clone(&read) };
        let decoded = DecodeReaderBytesBuilder::new().encoding(Some(self.encoding)).bom_override(true).build(counted);
        let reader = builder(self.delimiter).has_headers(self.has_header).from_reader(decoded);
        Ok(CsvRows { reader, read, size })
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

struct CsvRows {
    reader: csv::Reader<DecodeReaderBytes<Counted, Vec<u8>>>,
    read: Arc<AtomicU64>,
    size: u64,
}

impl Rows for CsvRows {
    fn next(&mut self, row: &mut ByteRecord) -> Result<bool> {
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

fn rows_of(text: &str, delimiter: u8) -> Vec<Vec<String>> {
    let mut reader = builder(delimiter).from_reader(text.as_bytes());
    let mut record = ByteRecord::new();
    let mut rows = Vec::new();
    while rows.len() < SAMPLE_ROWS && reader.read_byte_record(&mut record).unwrap_or(false) {
        rows.push(record.iter().map(|cell| String::from_utf8_lossy(cell).into_owned()).collect());
    }
    rows
}

/// The first delimiter that cuts nearly all rows into the same number of columns, above one.
fn delimiter_of(text: &str) -> u8 {
    DELIMITERS
        .into_iter()
        .find(|delimiter| {
            let mut widths: Vec<usize> =
                rows_of(text, *delimiter).iter().map(Vec::len).filter(|width| *width > 0).collect();
            widths.sort_unstable();
            let Some(typical) = widths.get(widths.len() / 2).copied() else { return false };
            let alike = widths.iter().filter(|width| **width == typical).count();
            typical > 1 && 10 * alike >= 8 * widths.len()
        })
        .unwrap_or(b',')
}

fn has_decimal_comma(rows: &[Vec<String>], delimiter: u8) -> bool {
    let (mut commas, mut points) = (0, 0);
    for cell in rows.iter().flatten() {
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
